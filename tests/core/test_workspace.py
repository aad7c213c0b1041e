"""The browser's own modules: what they ask the server for and when, the store, and the patches they make."""

from __future__ import annotations

from typing import Any

import jsonpatch

from plonket.document.kinds import REGISTRIES
from plonket.document.operations import move
from plonket.document.shot import Shot
from tests.core.copies import Alike, dumped


def furnished() -> Shot:
    """A shot in which everything refers to something."""
    outline = {"keys": [{"frame": 0, "points": [{"x": x, "y": y} for x, y in ((0, 0), (50, 0), (50, 50))]}]}
    ride = {"id": "r", "name": "Ride", "use": False, "follow": "motion:dots", "outline": outline}
    mask = {"kind": "outline", "id": "mask-1", "name": "Mask", "outline": outline, "rides": "to:dots"}
    perched = {"target": "place", "perspective": True}
    size = {"width": 40, "height": 40}
    asset = "a" * 64
    rays = {"kind": "rays", "id": "look-1", "name": "Rays", "rides": "to:chart", "masks": [mask]}
    model = {"kind": "model", "asset": asset, "extent": [1, 1, 1], "follow": perched}
    return Shot.model_validate({
        "name": "Everything",
        "footage": {"asset": asset, "name": "c", "width": 640, "height": 360, "rate": "30/1", "frames": 9, "in_frame": 0,
                    "out_frame": 8},
        "motions": [
            {"kind": "points", "id": "dots", "name": "Dots", "points": [
                {"id": "p1", "name": "P", "given": [{"frame": 0, "x": 9, "y": 9}]}]},
            {"kind": "plane", "id": "chart", "name": "Chart", "regions": [ride], "quad": [[0, 0], [9, 0], [9, 9], [0, 9]]},
            {"kind": "camera", "id": "cam", "name": "Camera", "regions": [ride], "strong": ["dots"]},
            {"kind": "object", "id": "thing", "name": "Thing", "points": ["dots"]},
            {"kind": "form", "id": "crate", "name": "Crate", "regions": [ride]},
        ],
        "perches": [
            {"id": "place", "name": "Place", "spot": {"kind": "spot"}, "follow": {"target": "cam"}},
            {"id": "on", "name": "On", "follow": {"target": "chart"}},
            {"id": "above", "name": "Above", "follow": {"target": "on"}},
        ],
        "plate": [
            {"kind": "steady", "id": "held", "name": "Steady", "targets": ["chart", "dots"]},
            {"kind": "mend", "id": "gone", "name": "Mend", "masks": [mask]},
            {"kind": "clean", "id": "fresh", "name": "Clean", "target": "chart", "masks": [mask],
             "frames": [{"frame": 0}]},
        ],
        "stack": [
            {"kind": "still", "id": "boat", "name": "Boat", "asset": asset, **size, "follow": {"target": "above"},
             "masks": [mask], "looks": [rays], "matte": "pinned"},
            {"kind": "pin", "id": "pinned", "name": "Pinned", "asset": asset, **size, "plane": "chart", "matte": "string"},
            {"kind": "beam", "id": "string", "name": "Beam",
             "anchors": [{"target": "dots", "point": "p1"}, {"target": "on"}]},
            {"kind": "generated", "id": "embers", "name": "Sparks", "generator": {"kind": "sparks"}, "stays": "to:dots"},
            {"kind": "fill", "id": "night", "name": "Fill", "follow": {"target": "chart"}},
            model | {"id": "whale", "name": "Whale", "sun": 44.0},
            model | {"id": "chest", "name": "Box", "lit_like": "whale"},
            {"kind": "dome", "id": "light-map", "name": "Dome", "asset": asset, "follow": perched},
            {"kind": "parcel", "id": "shows", "name": "Parcel", "parcel": "inside", **size},
            {"kind": "wash", "id": "over", "name": "Wash", "looks": [rays], "matte": "deep"},
        ],
        "parcels": [{"id": "inside", "name": "Inside", "stack": [
            {"kind": "still", "id": "deep", "name": "Deep", "asset": asset, **size, "follow": {"target": "dots"}},
            {"kind": "still", "id": "deeper", "name": "Deeper", "asset": asset, **size, "matte": "deep"}]}],
        "finish": [rays],
    })  # fmt: skip


class Frames(Alike):
    """What the viewer asks the server for, and when; the server's answers are given by hand."""

    def open(self) -> list[str]:
        return list(self.say("frames.open"))

    def test_what_is_looked_at_comes_first_and_the_next_ones_wait_for_a_pause(self) -> None:
        ahead = [f"a{k}" for k in range(4)]
        self.say("frames.focus", ["a"], ahead)
        self.assertEqual(self.open(), ["a"], "nothing is fetched in advance while a picture is waited for")
        self.say("frames.answer", "a")
        self.assertTrue(self.say("frames.kept", "a"))
        self.assertEqual(self.open(), [], "an edit that follows at once has the server to itself")
        self.say("frames.pause", 450)
        self.assertEqual(self.open(), ["a0"], "one at a time")
        self.say("frames.answer", "a0")
        self.assertEqual(self.open(), ["a1"])
        # The shot changes: the next frames of the version before are given up, not finished.
        self.say("frames.focus", ["b"], ["b0"])
        self.assertEqual(self.open(), ["b"])
        self.assertIn("a1", self.say("frames.givenUp"))
        self.say("frames.answer", "b")
        self.say("frames.pause", 450)
        # A step to a frame that is on its way goes on waiting for it.
        self.assertEqual(self.open(), ["b0"])
        self.say("frames.focus", ["b0"], ["b1"])
        self.assertEqual(self.open(), ["b0"])
        self.assertNotIn("b0", self.say("frames.givenUp"))
        self.say("frames.answer", "b0")
        self.assertTrue(self.say("frames.kept", "b0"))
        self.say("frames.focus", [], [])

    def test_what_is_kept_is_not_asked_for_again(self) -> None:
        self.say("frames.focus", ["k", "l"], [])
        self.assertEqual(self.open(), ["k", "l"])
        for url in ("k", "l"):
            self.say("frames.answer", url)
        self.say("frames.focus", ["l", "k"], [])
        self.assertEqual(self.open(), [])


    def test_what_cannot_be_made_says_why_and_is_asked_for_again_by_hand(self) -> None:
        self.say("frames.focus", ["bad"], [])
        self.say("frames.answer", "bad", "The key has no sample yet.")
        self.assertEqual(self.say("frames.problem", "bad"), "The key has no sample yet.")
        self.assertFalse(self.say("frames.kept", "bad"))
        self.say("frames.focus", ["bad"], [])
        self.assertEqual(self.open(), [], "not over and over again")
        self.say("frames.again", "bad")
        self.assertEqual((self.open(), self.say("frames.problem", "bad")), (["bad"], None))
        self.say("frames.answer", "bad")
        self.assertTrue(self.say("frames.kept", "bad"))

    def test_a_server_that_does_not_answer_is_asked_again_while_the_frame_is_looked_at(self) -> None:
        self.say("frames.focus", ["lost"], [])
        self.say("frames.answer", "lost", "silence")
        self.assertIsNone(self.say("frames.problem", "lost"))
        self.assertEqual(self.open(), [])
        self.say("frames.pause", 1700)
        self.assertEqual(self.open(), ["lost"])
        self.say("frames.answer", "lost", "silence")
        self.say("frames.focus", ["other"], [])
        self.say("frames.answer", "other")
        self.say("frames.pause", 1700)
        self.assertEqual(self.open(), [], "not looked at any more")


class Workspace(Alike):
    """The small store of selection, playhead and tool."""

    def state(self, *actions: dict[str, Any]) -> dict[str, Any]:
        self.say("workspace.act", {"do": "reset"})
        for action in actions:
            self.say("workspace.act", action)
        return dict(self.say("workspace.state"))

    def test_choosing_something_else_puts_tools_and_picks_away(self) -> None:
        chosen = {"kind": "layer", "id": "boat"}
        state = self.state({"do": "tool", "tool": "plonk", "asset": "a" * 64, "as": "pin"}, {"do": "pick-detail", "id": "7"},
                           {"do": "mask", "id": "m"}, {"do": "look", "id": "l"}, {"do": "choose", "chosen": chosen})  # fmt: skip
        self.assertEqual((state["chosen"], state["tool"], state["plonking"]), (chosen, "handle", None))
        self.assertEqual((state["picked"], state["mask"], state["look"], state["lookMasks"]), ([], None, None, False))

    def test_only_one_way_of_looking_at_a_time(self) -> None:
        ways = [{"do": "view", "view": "matte"}, {"do": "held", "motion": "m"},
                {"do": "alone", "alone": {"layer": "l", "over": "checker"}}]  # fmt: skip
        for first in ways:
            for then in ways:
                state = self.state(first, then)
                on = [state["view"] != "final", state["held"] is not None, state["alone"] is not None]
                self.assertEqual(sum(on), 1, (first, then))
                self.assertEqual(on.index(True), ways.index(then))

    def test_whatever_is_looked_at_can_be_compared(self) -> None:
        how = {"do": "compare", "with": {"how": "difference", "other": {"kind": "plate"}}}
        state = self.state(how, {"do": "view", "view": "matte"}, {"do": "compare", "with": {"gain": 9}})
        self.assertEqual(state["compare"], {"other": {"kind": "plate"}, "how": "difference", "at": 0.5, "gain": 9})
        self.assertEqual(state["view"], "matte")
        self.assertIsNone(self.state(how, {"do": "compare", "with": None})["compare"])
        fresh = self.state({"do": "compare", "with": {"how": "beside"}})["compare"]
        self.assertEqual(fresh["other"], {"kind": "untouched"})

    def test_details_are_picked_one_by_one_or_together(self) -> None:
        pick = {"do": "pick-detail"}
        self.assertEqual(self.state(pick | {"id": "1"}, pick | {"id": "2"})["picked"], ["2"])
        both = self.state(pick | {"id": "1"}, pick | {"id": "2", "add": True})
        self.assertEqual(both["picked"], ["1", "2"])
        again = self.state(pick | {"id": "1"}, pick | {"id": "2", "add": True}, pick | {"id": "1", "add": True})
        self.assertEqual(again["picked"], ["2"])
        self.assertEqual(self.state(pick | {"id": "1"}, pick | {"id": None})["picked"], [])

    def test_what_is_swept_comes_to_what_is_picked_each_once(self) -> None:
        state = self.state({"do": "pick-detail", "id": "7"}, {"do": "pick-details", "ids": ["3", "7", "9"]},
                           {"do": "pick-details", "ids": []})  # fmt: skip
        self.assertEqual(state["picked"], ["7", "3", "9"])

    def test_another_frame_or_shot_leaves_nothing_behind(self) -> None:
        self.assertIsNone(self.state({"do": "loupe", "at": {"x": 4, "y": 5}}, {"do": "frame", "frame": 9})["loupe"])
        fresh = self.state()
        used = self.state({"do": "frame", "frame": 12}, {"do": "curves", "on": True}, {"do": "room", "show": {"boxes": True}},
                          {"do": "open", "what": "deliver", "on": True}, {"do": "reset"})  # fmt: skip
        self.assertEqual(used, fresh)


class Patches(Alike):
    """What the page sends as a patch hits what it was meant for, or nothing."""

    def after(self, shot: Shot, patch: list[dict[str, Any]]) -> Shot:
        return Shot.model_validate(jsonpatch.JsonPatch(patch).apply(dumped(shot)))

    def test_a_patch_for_what_has_moved_meanwhile_is_refused(self) -> None:
        shot = furnished()
        patch = self.say("patches.setOnLayer", shot, "pinned", {"opacity": 40.0})
        other = move(shot, "boat", shot.stack[2].id)
        self.assertEqual(self.after(shot, patch).stack[1].opacity, 40.0)
        with self.assertRaises(jsonpatch.JsonPatchTestFailed):
            self.after(other, patch)

    def test_names_and_ids_are_fresh(self) -> None:
        shot = furnished()
        taken = {thing.id for thing in (*shot.motions, *shot.perches, *shot.layers)}
        self.assertNotIn(self.say("patches.freshShotId", "layer", shot), taken)
        names = [{"name": "Boat"}, {"name": "Boat 2"}]
        self.assertEqual(self.say("patches.freshName", "Boat", names), "Boat 3")


class Kinds(Alike):
    """What entries say is told of a thing as it is set."""

    def test_texts_differ_by_what_is_set_and_hold_values(self) -> None:
        texts = {"": "A stripe, {blend}", "framed=true": "Framed, tied in {anchors} places", "use=plate": "Plate"}
        self.assertEqual(self.say("kinds.told", texts, {"blend": "screen"}), "A stripe, screen")
        self.assertEqual(self.say("kinds.told", texts, {"framed": True, "anchors": [1, 2, 3]}), "Framed, tied in 3 places")
        self.assertEqual(self.say("kinds.told", texts, {"use": "plate"}), "Plate")
        self.assertEqual(self.say("kinds.told", {}, {}), "")

    def test_groups_and_fields_show_only_where_they_mean_something(self) -> None:
        for registry in ("layer", "treatment", "motion"):
            for entry in REGISTRIES[registry]:
                groups = [{"name": g, "when": {}} if isinstance(g, str) else {"name": g[0], "when": dict(g[1])} for g in entry.groups]
                fields = entry.settings.model_fields
                for group in groups:
                    for field, values in group["when"].items():  # type: ignore[attr-defined]
                        self.assertIn(field, fields, entry.kind)
                        there = self.say("kinds.groupsOf", {"groups": groups}, {field: values[0]})
                        gone = self.say("kinds.groupsOf", {"groups": groups}, {field: "something else"})
                        self.assertTrue(group["name"] in there and group["name"] not in gone, (entry.kind, group))
                for name, field in fields.items():
                    extra = field.json_schema_extra
                    hints: Any = extra.get("x-plonket", {}) if isinstance(extra, dict) else {}
                    for on, values in hints.get("when", {}).items():
                        self.assertIn(on, fields, f"{entry.kind}.{name}")
                        self.assertTrue(self.say("kinds.holds", hints["when"], {on: values[0]}))
