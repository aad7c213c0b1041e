"""What the browser works out by itself is what the core works out: numbers, followers, rooms, outlines; its patches; and what it
asks for when."""

from __future__ import annotations

import json
import math
import shutil
import unittest
from collections.abc import Iterator
from typing import Any, ClassVar

import jsonpatch
import numpy as np

from plonket.conventions import F64, matrix_to_quaternion
from plonket.fields import Key, Keyed, Number, Wobble, Wobbling, value_at, wobble_at
from plonket.formats.camera_json import read_camera
from plonket.layers.model import ModelLayer, stands
from plonket.layers.standing import axes_of
from plonket.motion.camera.room import Room
from plonket.motion.camera.spot import Spot
from plonket.motion.camera.view import RoomCamera, spot_path
from plonket.motion.following import Follow, Parts, carried, jacobian, spot_through
from plonket.motion.form.fit import Stood
from plonket.motion.form.settings import Pose
from plonket.outline import Outline, control_points
from plonket.phone.path import look_at
from plonket.shot import Shot
from tests.core.copies import WEB, Copies

SIZE = (640, 360)


def dumped(thing: Any) -> Any:
    return thing.model_dump(mode="json") if hasattr(thing, "model_dump") else thing


def numbers(rng: np.random.Generator) -> Iterator[Number]:
    """Constants, keys of every kind, and wobbles about both."""
    for ease in ("hold", "linear", "smooth", "curve"):
        for count in (1, 2, 5):
            frames = np.sort(rng.choice(60, count, replace=False))
            keys = [Key(frame=int(f), value=float(rng.normal(0, 50)), ease=ease, out_time=float(rng.uniform(0, 1)),
                        out_value=float(rng.normal(0, 40)), in_time=float(rng.uniform(0, 1)),
                        in_value=float(rng.normal(0, 40))) for f in frames]  # fmt: skip
            keyed = Keyed(keys=keys)
            yield keyed
            for kind in ("smooth", "flicker", "steps"):
                wobble = Wobble(kind=kind, amount=float(rng.uniform(1, 30)), every=float(rng.uniform(0.5, 20)),
                                seed=int(rng.integers(0, 9999)))  # fmt: skip
                yield Wobbling(base=keyed, wobble=wobble)
                yield Wobbling(base=float(rng.normal()), wobble=wobble)
    yield 12.5


def homography(rng: np.random.Generator) -> F64:
    m = np.eye(3) + rng.normal(0, 0.15, (3, 3)) * np.array([[1, 1, 200], [1, 1, 200], [1e-3, 1e-3, 0]])
    return np.asarray(m / m[2, 2])


@unittest.skipUnless(shutil.which("node") and (WEB / "node_modules").exists(), "the front end's packages are not here")
class Alike(unittest.TestCase):
    browser: ClassVar[Copies]

    @classmethod
    def setUpClass(cls) -> None:
        cls.browser = Copies()
        cls.addClassCleanup(cls.browser.close)

    def say(self, name: str, *args: Any) -> Any:
        return self.browser.call(name, *[dumped(a) for a in args])


class Numbers(Alike):
    def test_keys_eases_and_wobbles(self) -> None:
        frames = [0.0, 3.0, 7.5, 21.25, 40.0, 59.0, 200.0]
        for number in numbers(np.random.default_rng(1)):
            told = [self.say("geometry.valueAt", number, f) for f in frames]
            np.testing.assert_allclose(told, [value_at(number, f) for f in frames], atol=1e-6, err_msg=str(number))

    def test_a_wobble_alone(self) -> None:
        for kind in ("smooth", "flicker", "steps"):
            wobble = Wobble(kind=kind, amount=7, every=3.3, seed=811)
            told = [self.say("geometry.wobbleAt", wobble, f) for f in range(50)]
            np.testing.assert_allclose(told, [wobble_at(wobble, f) for f in range(50)], atol=1e-9)

    def test_what_is_set_at_a_frame_is_there_and_over_all_keys_the_path_moves_as_one(self) -> None:
        for number in numbers(np.random.default_rng(2)):
            for over in ("here", "move", "scale"):
                before = [value_at(number, f) for f in range(61)]
                wanted = before[11] * 1.5 + 3
                told = Shot.model_validate(
                    {"name": "s", "stack": [{"kind": "wash", "id": "w", "name": "w",
                                             "opacity": self.say("geometry.withValue", 50.0, 11, 60.0)}]}
                )  # fmt: skip
                self.assertEqual(value_at(told.stack[0].opacity, 11), 60.0)
                changed = self.say("geometry.withValue", number, 11, wanted, over)
                again = self.say("geometry.valueAt", changed, 11)
                self.assertAlmostEqual(again, wanted, places=5, msg=f"{number} {over}")
                if over == "move" and isinstance(number, Keyed):
                    moved = [self.say("geometry.valueAt", changed, f) for f in (0, 30, 60)]
                    np.testing.assert_allclose(moved, [before[f] + wanted - before[11] for f in (0, 30, 60)], atol=1e-6)
                if over == "scale" and isinstance(number, Keyed) and abs(before[11]) > 1e-6:
                    grown = [self.say("geometry.valueAt", changed, f) for f in (0, 30, 60)]
                    np.testing.assert_allclose(grown, [before[f] * wanted / before[11] for f in (0, 30, 60)], rtol=1e-5)

    def test_every_keyed_number_of_a_layer_is_found_and_changed_in_its_place(self) -> None:
        keys = Keyed(keys=[Key(frame=0, value=1), Key(frame=9, value=4)])
        layer = {"id": "a", "opacity": dumped(keys), "x": 4.0, "masks": [{"name": "Hole", "soft": dumped(keys)}],
                 "looks": [{"name": "Glow", "radius": dumped(Wobbling(base=keys, wobble=Wobble())), "curve": [{"x": 0, "y": 1}]}]}  # fmt: skip
        found = self.say("keyed.movingOf", layer)
        self.assertEqual([m["label"] for m in found], ["opacity", "Hole: soft", "Glow: radius"])
        self.assertEqual([m["path"] for m in found], [["opacity"], ["masks", 0, "soft"], ["looks", 0, "radius"]])
        tidy = self.say("keyed.tidied", [dumped(Key(frame=4, value=v)) | {"frame": f} for f, v in ((4, 1), (-3, 2), (4, 3), (99, 5))], 10)
        self.assertEqual([(k["frame"], k["value"]) for k in tidy], [(0, 2.0), (4, 3.0), (9, 5.0)])


class Followers(Alike):
    def test_matrices(self) -> None:
        rng = np.random.default_rng(3)
        for _ in range(20):
            a, b, at = homography(rng), homography(rng), rng.uniform(0, 600, 2)
            p = {"x": at[0], "y": at[1]}
            told = self.say("geometry.apply", a.ravel().tolist(), p)
            np.testing.assert_allclose([told["x"], told["y"]], spot_through(a, at), rtol=1e-9)
            product = np.array(self.say("geometry.times", a.ravel().tolist(), b.ravel().tolist())).reshape(3, 3)
            np.testing.assert_allclose(product / product[2, 2], a @ b / (a @ b)[2, 2], rtol=1e-7)
            back = np.array(self.say("geometry.invert", a.ravel().tolist())).reshape(3, 3)
            np.testing.assert_allclose(back / back[2, 2], np.linalg.inv(a) / np.linalg.inv(a)[2, 2], rtol=1e-6, atol=1e-9)
            j = jacobian(a, at)
            local = self.say("geometry.turnAndSize", a.ravel().tolist(), p)
            self.assertAlmostEqual(local["size"], math.sqrt(abs(np.linalg.det(j))), places=9)
            corners = np.array([[0, 0], [300, 20], [320, 240], [-10, 200]], np.float64)
            to = [spot_through(a, c) for c in corners]
            quad = self.say("geometry.quadMatrix", [{"x": x, "y": y} for x, y in corners], [{"x": x, "y": y} for x, y in to])
            np.testing.assert_allclose(np.array(quad).reshape(3, 3), a, rtol=1e-6, atol=1e-9)
        folded = [{"x": 0, "y": 0}] * 4
        self.assertIsNone(self.say("geometry.quadMatrix", folded, folded))

    def test_the_parts_of_a_movement_that_a_follower_takes(self) -> None:
        rng = np.random.default_rng(4)
        for k in range(32):
            moved, start, at = homography(rng), homography(rng), rng.uniform(0, 600, 2)
            parts = {"shift": bool(k & 1), "turn": bool(k & 2), "size": bool(k & 4), "perspective": bool(k & 8)}
            expected = carried(Parts(**parts), moved, start, at)
            told = self.say("geometry.carried", Follow(target="m", **parts), moved.ravel().tolist(), start.ravel().tolist(),
                            {"x": at[0], "y": at[1]})  # fmt: skip
            np.testing.assert_allclose(np.array(told).reshape(3, 3), expected, rtol=1e-7, atol=1e-8)

    def test_the_viewer_s_transform_goes_there_and_back(self) -> None:
        rng = np.random.default_rng(5)
        for view in (None, homography(rng).ravel().tolist()):
            mapping = {"zoom": 1.7, "x": 40.0, "y": -12.5} | ({"view": view} if view else {})
            for _ in range(5):
                p = {"x": float(rng.uniform(0, 600)), "y": float(rng.uniform(0, 300))}
                again = self.say("viewport.toPicture", mapping, self.say("viewport.toScreen", mapping, p))
                np.testing.assert_allclose([again["x"], again["y"]], [p["x"], p["y"]], atol=1e-6)

    def test_outlines_between_their_keys(self) -> None:
        rng = np.random.default_rng(6)
        names = ("x", "y", "in_x", "in_y", "out_x", "out_y", "feather")
        shapes = [{"frame": f, "points": [dict(zip(names, rng.uniform(-50, 300, 7).tolist(), strict=True)) for _ in range(4)]}
                  for f in (3, 11, 40)]  # fmt: skip
        for keys in (shapes[:1], shapes):
            outline = Outline.model_validate({"keys": keys})
            for frame in (0, 3, 5, 11, 28, 40, 90):
                told = [[p[n] for n in names] for p in self.say("outline.outlineAt", outline, frame)]
                np.testing.assert_allclose(told, control_points(outline, frame), atol=1e-9)
        moved = [p | {"x": p["x"] + 5} for p in self.say("outline.outlineAt", {"keys": shapes}, 20)]
        told = Outline.model_validate(self.say("outline.withOutline", {"keys": shapes}, 20, moved))
        self.assertEqual([k.frame for k in told.keys], [3, 11, 20, 40])
        np.testing.assert_allclose(control_points(told, 20)[:, 0], [p["x"] for p in moved])


def camera(k1: float, readout: float) -> RoomCamera:
    """Five frames past a corner of a room, in a room that was turned, shifted and scaled by hand."""
    frames = []
    for i in range(5):
        eye = np.array([-0.3 + 0.07 * i, 0.55 + 0.02 * i, 1.3 - 0.03 * i])
        turn = look_at(eye, np.array([0.0, 0.1, 0.0]))
        frames.append({"frame": i, "position": eye.tolist(), "rotation": matrix_to_quaternion(turn).tolist()})
    text = json.dumps({"width": SIZE[0], "height": SIZE[1], "focal_px": 520, "frames": frames, "readout": readout,
                       "distortion": {"k1": k1, "k2": -0.2 * k1, "p1": 0.0, "p2": 0.0, "k3": 0.0}})  # fmt: skip
    turned = (0.0, math.sin(0.2), 0.0, math.cos(0.2))
    return RoomCamera(read_camera(text, 5, SIZE), Room(turn=turned, shift=(0.1, -0.2, 0.3), scale=1.4))


class Rooms(Alike):
    def made(self, k1: float, readout: float) -> RoomCamera:
        seen = camera(k1, readout)
        t = seen.track
        solve = {
            "position": t.position.ravel().tolist(), "rotation": [v for m in t.rotation for v in matrix_to_quaternion(m)],
            "focal": t.focal.tolist(), "distortion": [*t.distortion, 0.0][:5], "readout": t.readout, "kind": "full",
        }  # fmt: skip
        if len(t.distortion) == 4:
            solve["distortion"] = [*t.distortion, 0.0]
        motion = {"kind": "camera", "id": "c", "name": "c", "room": dumped(seen.room)}
        self.say("camera.roomCamera", motion, solve, t.frames, {"w": SIZE[0], "h": SIZE[1]})
        return seen

    def test_places_rays_and_spots(self) -> None:
        rng = np.random.default_rng(7)
        for k1, readout in ((0.0, 0.0), (-0.12, 0.0), (0.08, 0.6)):
            seen = self.made(k1, readout)
            spots = [Spot(x=0.1, y=0.05, z=-0.2, heading=20.0, tilt=10.0, pixel_mm=1.3), Spot(x=-0.2, z=0.1, faces="upright"),
                     Spot(faces="camera", x=Keyed(keys=[Key(frame=0, value=0.0), Key(frame=4, value=0.2)]))]  # fmt: skip
            for frame in (0, 2, 4):
                np.testing.assert_allclose(self.say("room.eye", frame), seen.eye(frame), atol=1e-6)
                for place in rng.uniform(-0.4, 0.4, (6, 3)):
                    told = self.say("room.project", frame, place.tolist())
                    np.testing.assert_allclose([told["x"], told["y"]], seen.project(frame, place), atol=2e-3)
                behind = seen.eye(frame) + seen.turn(frame)[:, 2]
                self.assertIsNone(self.say("room.project", frame, behind.tolist()))
                for pixel in rng.uniform([0, 0], SIZE, (4, 2)):
                    way = self.say("room.ray", frame, {"x": pixel[0], "y": pixel[1]})
                    np.testing.assert_allclose(way, seen.ray(frame, pixel)[1], atol=1e-5)
                for spot in spots:
                    told = np.array(self.say("camera.spotMatrix", "ROOM", spot, frame)).reshape(3, 3)
                    expected = spot_path(seen, spot)[frame]
                    for at in ([0, 0], [40, -30], [-25, 60]):
                        a, b = spot_through(told, np.array(at)), spot_through(expected, np.array(at))
                        np.testing.assert_allclose(a, b, atol=0.02)

    def test_where_things_stand(self) -> None:
        seen = self.made(0.0, 0.0)
        spot = Spot(x=0.1, y=0.02, z=-0.1, heading=15.0)
        common = {"kind": "model", "id": "m", "name": "m", "asset": "a" * 64, "extent": [0.4, 0.5, 0.3], "tall": 0.25,
                  "heading": 40.0, "tilt": 12.0, "roll": -7.0, "lift": 0.05}  # fmt: skip
        for pivot in ([0.0, 0.0, 0.0], [0.1, 0.4, -0.12]):
            layer = ModelLayer.model_validate(common | {"pivot": pivot})
            m = stands(layer, seen, spot, 2)
            told = self.say("camera.standing", "ROOM", spot, layer, 2)
            axes, on = axes_of(layer, seen, spot, 2)
            np.testing.assert_allclose(np.array(told["axes"]).T, axes, atol=1e-6)
            np.testing.assert_allclose(told["on"], on, atol=1e-6)
            np.testing.assert_allclose(told["foot"], m[:3, 3], atol=1e-6)
            np.testing.assert_allclose(told["size"], np.array(layer.extent) * np.linalg.norm(m[:3, 0]), atol=1e-6)

    def test_levels_and_depths(self) -> None:
        seen = self.made(-0.1, 0.0)
        for place in ([0.1, 0.0, -0.2], [-0.2, 0.0, 0.1]):
            x, y = seen.project(1, np.array(place))
            np.testing.assert_allclose(self.say("camera.onLevel", "ROOM", 1, {"x": x, "y": y}), place, atol=1e-4)
            other = np.array(place) + [0.02, 0.3, 0.01]
            x, y = seen.project(1, other)
            np.testing.assert_allclose(self.say("camera.atDepthOf", "ROOM", 1, {"x": x, "y": y}, other.tolist()), other, atol=1e-4)

    def test_a_form_before_the_camera(self) -> None:
        pose = Pose(place=(0.1, -0.05, -0.9), turn=(0.1, 0.3, -0.05, math.sqrt(1 - 0.1**2 - 0.3**2 - 0.05**2)))
        stood = Stood.of(pose)
        for at in np.random.default_rng(8).uniform(-0.2, 0.2, (6, 3)):
            told = self.say("camera.formSeen", pose, 480.0, {"w": SIZE[0], "h": SIZE[1]}, at.tolist())
            np.testing.assert_allclose([told["x"], told["y"]], stood.seen(at[None], 480.0, SIZE)[0], atol=1e-6)


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
        ways = [{"do": "view", "view": "matte"}, {"do": "wipe", "at": 0.5}, {"do": "held", "motion": "m"},
                {"do": "alone", "alone": {"layer": "l", "over": "checker"}}]  # fmt: skip
        for first in ways:
            for then in ways:
                state = self.state(first, then)
                on = [state["view"] != "final", state["wipe"] is not None, state["held"] is not None, state["alone"] is not None]
                self.assertEqual(sum(on), 1, (first, then))
                self.assertEqual(on.index(True), ways.index(then))

    def test_details_are_picked_one_by_one_or_together(self) -> None:
        pick = {"do": "pick-detail"}
        self.assertEqual(self.state(pick | {"id": "1"}, pick | {"id": "2"})["picked"], ["2"])
        both = self.state(pick | {"id": "1"}, pick | {"id": "2", "add": True})
        self.assertEqual(both["picked"], ["1", "2"])
        again = self.state(pick | {"id": "1"}, pick | {"id": "2", "add": True}, pick | {"id": "1", "add": True})
        self.assertEqual(again["picked"], ["2"])
        self.assertEqual(self.state(pick | {"id": "1"}, pick | {"id": None})["picked"], [])

    def test_another_frame_or_shot_leaves_nothing_behind(self) -> None:
        self.assertIsNone(self.state({"do": "loupe", "at": {"x": 4, "y": 5}}, {"do": "frame", "frame": 9})["loupe"])
        fresh = self.state()
        used = self.state({"do": "frame", "frame": 12}, {"do": "curves", "on": True}, {"do": "room", "show": {"boxes": True}},
                          {"do": "open", "what": "deliver", "on": True}, {"do": "reset"})  # fmt: skip
        self.assertEqual(used, fresh)


def strings(thing: Any) -> Iterator[str]:
    """Every text in a document that is not the kind of something."""
    if isinstance(thing, dict):
        for key, value in thing.items():
            if key != "kind":
                yield from strings(value)
    elif isinstance(thing, list):
        for value in thing:
            yield from strings(value)
    elif isinstance(thing, str):
        yield thing


class Patches(Alike):
    """Whatever is taken away or moved, the document that comes of it is valid, and refers to nothing that is gone."""

    def after(self, shot: Shot, patch: list[dict[str, Any]]) -> Shot:
        return Shot.model_validate(jsonpatch.JsonPatch(patch).apply(dumped(shot)))

    def test_anything_can_be_taken_away(self) -> None:
        shot = furnished()
        for call, things in (("removeMotion", shot.motions), ("removePerch", shot.perches), ("removeLayer", shot.layers),
                             ("removeTreatment", shot.plate)):  # fmt: skip
            for thing in things:
                left = self.after(shot, self.say(f"patches.{call}", shot, thing.id))
                for value in strings(dumped(left)):
                    self.assertFalse(value == thing.id or value.endswith(f":{thing.id}"), f"{thing.id} in {value}")

    def test_until_nothing_is_left(self) -> None:
        shot = furnished()
        while shot.motions or shot.perches or shot.stack:
            one = (shot.motions or shot.perches or shot.stack)[-1]
            call = "removeMotion" if shot.motions else "removePerch" if shot.perches else "removeLayer"
            shot = self.after(shot, self.say(f"patches.{call}", shot, one.id))
        self.assertEqual((shot.stack, shot.parcels), ([], []))

    def test_what_was_lit_as_another_keeps_that_light(self) -> None:
        shot = furnished()
        left = self.after(shot, self.say("patches.removeLayer", shot, "whale"))
        box = next(one for one in left.stack if one.id == "chest")
        assert isinstance(box, ModelLayer)
        self.assertEqual((box.lit_like, box.sun), (None, 44.0))

    def test_layers_go_up_down_and_into_parcels_and_come_out_again(self) -> None:
        shot = furnished()
        order = [one.id for one in shot.stack]
        down = self.after(shot, self.say("patches.moveLayer", shot, "boat", 1))
        self.assertEqual([one.id for one in down.stack][:2], ["pinned", "boat"])
        self.assertIsNone(self.say("patches.moveLayer", shot, "boat", -1))
        last = self.after(shot, self.say("patches.moveLayerTo", shot, "boat", None))
        self.assertEqual([one.id for one in last.stack], [*order[1:], "boat"])
        within = self.after(shot, self.say("patches.intoParcel", shot, "night", "inside"))
        self.assertIn("night", [one.id for one in within.parcels[0].stack])
        out = self.after(within, self.say("patches.outOfParcel", within, "night"))
        self.assertIn("night", [one.id for one in out.stack])
        made = self.say("patches.newParcel", shot, "embers", "Glitter")
        new = self.after(shot, made["patch"])
        self.assertEqual(next(one for one in new.stack if one.id == made["layer"]).name, "Glitter")
        self.assertEqual([[one.id for one in p.stack] for p in new.parcels][-1], ["embers"])

    def test_a_patch_for_what_has_moved_meanwhile_is_refused(self) -> None:
        shot = furnished()
        patch = self.say("patches.setOnLayer", shot, "pinned", {"opacity": 40.0})
        other = self.after(shot, self.say("patches.moveLayer", shot, "boat", 1))
        self.assertEqual(self.after(shot, patch).stack[1].opacity, 40.0)
        with self.assertRaises(jsonpatch.JsonPatchTestFailed):
            self.after(other, patch)

    def test_names_and_ids_are_fresh(self) -> None:
        shot = furnished()
        taken = {thing.id for thing in (*shot.motions, *shot.perches, *shot.layers)}
        self.assertNotIn(self.say("patches.freshShotId", "layer", shot), taken)
        names = [{"name": "Boat"}, {"name": "Boat 2"}]
        self.assertEqual(self.say("patches.freshName", "Boat", names), "Boat 3")
