"""The browser's own modules against the core: what is told of tracks, and small things that place and thin."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64
from plonket.base.fields import Key, Keyed
from plonket.base.states import GIVEN, LOST, TRACKED
from plonket.document.follow import Follow
from plonket.document.kinds import MOTIONS
from plonket.document.spot import Spot
from plonket.layers.generated import GeneratedLayer
from plonket.layers.placed import frame_from_own
from plonket.layers.still import StillLayer
from plonket.track.spaces import Spaces
from tests.core.copies import Alike, AlikeRooms


class Tracks(Alike):
    def test_lost_frames_are_told_in_runs(self) -> None:
        states = [TRACKED, LOST, LOST, TRACKED, LOST, GIVEN, LOST]
        self.assertEqual(self.say("told.badRuns", "plane", states, [], 0, 6), [[1, 2], [4, 4], [6, 6]])
        self.assertEqual(self.say("told.badRuns", "plane", states, [], 2, 5), [[2, 2], [4, 4]])
        self.assertEqual(self.say("told.badRuns", "plane", [TRACKED], [], 0, 5), [])

    def test_of_a_matte_unsure_frames_are_told_and_not_those_without_it(self) -> None:
        self.say("kinds.learnKinds", "motion", [{"kind": e.kind, "traits": sorted(e.traits)} for e in MOTIONS])
        states = [GIVEN, TRACKED, TRACKED, TRACKED, LOST, TRACKED]
        self.assertEqual(self.say("told.badRuns", "matte", states, [0.1, 0.4, 0.2, 0.9, 0.0, 0.3], 0, 5), [[1, 2], [5, 5]])

    def test_a_point_s_handle_stands_where_it_is_known_nearest(self) -> None:
        motion = {"points": [{"id": "a", "given": [{"frame": 2, "x": 1, "y": 2}, {"frame": 9, "x": 5, "y": 6}]}]}
        known = {4: {"x": 3, "y": 3, "state": TRACKED, "confidence": 1, "reason": 0}}
        spot = [self.say("told.handle", known, motion, "a", frame) for frame in (4, 3, 7)]
        self.assertEqual([(s["x"], s["y"]) for s in spot], [(3, 3), (1, 2), (5, 6)])
        self.assertEqual((spot[0]["state"], spot[2]["confidence"]), (TRACKED, 0))


class Placed(Alike):
    def test_a_layer_s_own_pixels_lie_where_the_core_draws_them(self) -> None:
        path: F64 = np.array([[[1.1, 0.1, 12.0], [-0.08, 0.95, -7.0], [2e-4, -1e-4, 1.0]]] * 12)
        spaces = Spaces([], lambda motion, reference: path, (640, 360))
        keyed = Keyed(keys=[Key(frame=0, value=30.0), Key(frame=10, value=90.0)])
        follow = Follow(target="m", perspective=True)
        still = {"id": "a", "name": "a", "asset": "a" * 64, "width": 80, "height": 50, "y": 44.0, "turn": 20.0, "size": 70.0,
                 "follow": follow.model_dump()}  # fmt: skip
        for more in ({}, {"anchor_x": 0.0, "anchor_y": 100.0}, {"anchor_x": 130.0}):
            layer = StillLayer.model_validate({**still, **more, "x": keyed.model_dump()})
            for frame in (0, 4, 11):
                told = self.say("placing.own", layer, path[0].ravel().tolist(), frame)
                expected = frame_from_own(layer, spaces, frame, 80, 50)
                same(self, told, expected)

    def test_masks_on_a_mirrored_picture_are_mirrored_with_it(self) -> None:
        common = {"id": "a", "name": "a", "asset": "a" * 64, "width": 80, "height": 50, "x": 100.0, "y": 60.0}
        eye = np.eye(3).ravel().tolist()
        plain = through(self.say("placing.picture", StillLayer.model_validate(common), eye, 0), (10, 20))
        np.testing.assert_allclose(plain, (100 - 40 + 10, 60 - 25 + 20))
        for mirror, at in (("across", (70, 20)), ("down", (10, 30)), ("both", (70, 30))):
            layer = StillLayer.model_validate(common | {"mirror": mirror})
            told = through(self.say("placing.picture", layer, eye, 0), at)
            np.testing.assert_allclose(told, plain, err_msg=mirror)

    def test_what_is_generated_has_its_middle_where_it_sits(self) -> None:
        layer = GeneratedLayer.model_validate({"id": "g", "name": "g", "generator": {"kind": "ring"}, "x": 33.0, "y": 44.0})
        told = self.say("placing.picture", layer, np.eye(3).ravel().tolist(), 0)
        np.testing.assert_allclose(through(told, (0, 0)), (33, 44), atol=1e-9)

    def test_a_stroke_is_thinned_but_keeps_its_ends(self) -> None:
        path = [{"x": 0.1 * k, "y": 0.0} for k in range(101)]
        told = self.say("placing.thinned", path, 20)
        self.assertEqual((told[0], told[-1]), ([0, 0], [10, 0]))
        gaps = np.diff([x for x, _ in told[:-1]])
        self.assertGreaterEqual(float(gaps.min()), 0.5 - 1e-9)
        self.assertLess(len(told), 22)
        self.assertEqual(self.say("placing.thinned", path[:1], 20), [[0, 0]])


class Dragged(AlikeRooms):
    """A spot dragged to a pixel of the room."""

    def moved(self, spot: Spot, frame: int, pixel: F64, lift: bool, above: float = 0.0) -> Spot:
        at = {"x": float(pixel[0]), "y": float(pixel[1])}
        return Spot.model_validate(self.say("placing.movedSpot", "ROOM", spot, frame, at, lift, above))

    def test_over_its_level_up_and_down_and_what_is_held_above_it(self) -> None:
        seen = self.made(-0.08, 0.0)
        spot = Spot(x=0.1, y=0.0, z=-0.1)
        place = np.array([-0.15, 0.0, 0.12])
        along = self.moved(spot, 2, seen.project(2, place), False)
        np.testing.assert_allclose(along.place(2), place, atol=2e-4)
        # On a table it stays on the table's level.
        table = Spot(x=0.1, y=0.2, z=-0.1)
        place = np.array([0.0, 0.2, 0.1])
        np.testing.assert_allclose(self.moved(table, 2, seen.project(2, place), False).place(2), place, atol=2e-4)
        up = self.moved(spot, 2, seen.project(2, np.array([0.1, 0.0, -0.1])) - [0, 40], True).place(2)
        self.assertGreater(float(up[1]), 0.02)
        # Held by its head: the head goes to the pixel, the foot stays on the ground.
        head = np.array([-0.15, 0.25, 0.12])
        foot = self.moved(spot, 2, seen.project(2, head), False, 0.25)
        np.testing.assert_allclose(foot.place(2), head - [0, 0.25, 0], atol=2e-4)

    def test_a_keyed_spot_is_keyed_where_it_is_dragged(self) -> None:
        seen = self.made(0.0, 0.0)
        keys = Keyed(keys=[Key(frame=0, value=0.0), Key(frame=4, value=0.2)])
        spot = Spot(x=keys, z=-0.1)
        moved = self.moved(spot, 2, seen.project(2, np.array([0.3, 0.0, 0.0])), False)
        assert isinstance(moved.x, Keyed)
        self.assertEqual([k.frame for k in moved.x.keys], [0, 2, 4])
        np.testing.assert_allclose(moved.place(2), [0.3, 0, 0], atol=2e-4)
        np.testing.assert_allclose([moved.place(0)[0], moved.place(4)[0]], [0, 0.2])


def through(matrix: list[float], at: tuple[float, float]) -> F64:
    out = np.array(matrix).reshape(3, 3) @ [*at, 1.0]
    return np.asarray(out[:2] / out[2])


def same(test: Alike, told: list[float], expected: F64) -> None:
    for at in ((0.0, 0.0), (80.0, 0.0), (80.0, 50.0), (13.0, 31.0)):
        np.testing.assert_allclose(through(told, at), through(expected.ravel().tolist(), at), atol=1e-6)
