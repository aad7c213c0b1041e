"""The browser's own modules against the core: the patches they make, and what they tell of kinds."""

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
