"""A solved camera put right by hand, over the untouched solve."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import cache

import numpy as np

from plonket.base.errors import BadInput
from plonket.base.fields import Key, Keyed, value_at
from plonket.document.shot import Footage, Shot
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.by_hand import is_untouched, pulled, put_right, said_by_hand, settled
from plonket.track.camera.settings import CameraMotion
from synth.phone.quickroom import RoomShot, room_shot

FPS = 30.0


@cache
def filmed() -> RoomShot:
    return room_shot("orbit", frames=24, samples=1)


def motion(**by_hand: object) -> CameraMotion:
    return CameraMotion.model_validate({"id": "c", "name": "c", "measurement": "a" * 64, **by_hand})


def true_track() -> CameraTrack:
    """The true camera, its details where they are truly seen."""
    track = filmed().track()
    rng = np.random.default_rng(3)
    points = rng.uniform([-0.5, 0, -0.5], [0.5, 0.4, 0.4], (60, 3))
    camera = RoomCamera(track, Room())
    xy = np.stack([camera.project(i, points) for i in range(track.frames)], axis=1).astype(np.float32)
    n = len(points)
    return replace(track, ids=np.arange(n), points=points, point_error=np.zeros(n, np.float32), angle=np.full(n, 9, np.float32),
                   kept=np.ones(n, np.bool_), strong=np.zeros(n, np.bool_), xy=xy)  # fmt: skip


class PutRight(unittest.TestCase):
    def setUp(self) -> None:
        self.track = true_track()

    def test_steps_turns_and_zooms_are_along_the_camera_s_own_axes(self) -> None:
        room = Room(scale=2.0)
        made = put_right(self.track, motion(aside=0.02, up=-0.01, ahead=0.04, room=room), FPS)
        local = np.einsum("nji,nj->ni", self.track.rotation, made.position - self.track.position) * room.scale
        np.testing.assert_allclose(local, np.broadcast_to([0.02, -0.01, -0.04], local.shape), atol=1e-12)
        before, after = (RoomCamera(t, Room()) for t in (self.track, put_right(self.track, motion(pan=1.0), FPS)))
        far = before.eye(5) - before.turn(5)[:, 2] * 50
        # Turned to the right, what was ahead is seen further left; turned up, further down.
        self.assertLess(float(after.project(5, far)[0]), float(before.project(5, far)[0]) - 5)
        tilted = RoomCamera(put_right(self.track, motion(tilt=1.0), FPS), Room())
        self.assertGreater(float(tilted.project(5, far)[1]), float(before.project(5, far)[1]) + 5)
        leaning = RoomCamera(put_right(self.track, motion(roll=1.0), FPS), Room())
        side = far + before.turn(5)[:, 0] * 10
        # It leans as the clock goes: the picture turns the other way, and what is at the right rises.
        self.assertLess(float(leaning.project(5, side)[1]), float(before.project(5, side)[1]) - 1)
        zoomed = put_right(self.track, motion(zoom_by=5.0), FPS)
        np.testing.assert_allclose(zoomed.focal, 1.05 * self.track.focal)

    def test_what_was_wrong_in_single_frames_is_right_again_and_the_error_says_so(self) -> None:
        shaken = self.track.position.copy()
        shaken[10:13] += self.track.rotation[10:13] @ [0.03, 0, 0]
        wrong = put_right(replace(self.track, position=shaken), motion(aside=1e-9), FPS)
        self.assertGreater(float(wrong.error_px[10:13].min()), 3.0)
        self.assertLess(float(np.delete(wrong.error_px, [10, 11, 12]).max()), 0.01)
        keys = [Key(frame=f, value=v, ease="hold") for f, v in ((0, 0.0), (10, -0.03), (13, 0.0))]
        right = put_right(replace(self.track, position=shaken), motion(aside=Keyed(keys=keys).model_dump()), FPS)
        np.testing.assert_allclose(right.position, self.track.position, atol=1e-9)
        self.assertLess(float(right.error_px.max()), 0.01)

    def test_a_detail_that_is_pulled_lies_where_it_is_pulled_to_and_the_turn_comes_and_goes(self) -> None:
        solved = RoomCamera(self.track, Room())
        seen = {k: solved.project(10, self.track.points[k]) for k in (4, 9, 31)}
        one = motion(pan=0.5)
        for readout in (0.0, 0.5):
            track = replace(self.track, readout=readout)
            goal = RoomCamera(track, Room()).project(10, track.points[4]) + [7.0, -3.0]
            numbers = pulled(track, one, 10, {4: (goal[0], goal[1])}, over=3, fps=FPS)
            self.assertEqual(set(numbers), {"pan", "tilt"})
            made = put_right(track, one.model_copy(update=numbers), FPS)
            np.testing.assert_allclose(RoomCamera(made, Room()).project(10, track.points[4]), goal, atol=0.01)
            before = put_right(track, one, FPS)
            turned = np.abs(made.rotation - before.rotation).max(axis=(1, 2)) > 1e-9
            self.assertEqual(np.flatnonzero(turned).tolist(), [7, 8, 9, 10, 11, 12, 13], "what was set before holds elsewhere")
        # The whole picture turned by hand is found from three of its details.
        leaning = motion(roll=2.0, pan=-0.4, tilt=0.3)
        there = RoomCamera(put_right(self.track, leaning, FPS), Room())
        to = {k: tuple(there.project(10, self.track.points[k])) for k in seen}
        numbers = pulled(self.track, motion(), 10, to, over=0, fps=FPS)
        for name, value in (("roll", 2.0), ("pan", -0.4), ("tilt", 0.3)):
            self.assertAlmostEqual(value_at(numbers[name], 10), value, places=3)
            self.assertEqual((value_at(numbers[name], 9), value_at(numbers[name], 11)), (0.0, 0.0))

    def test_pulled_again_and_beside_a_key_the_other_keys_stay(self) -> None:
        keys = Keyed(keys=[Key(frame=8, value=1.0), Key(frame=10, value=2.0), Key(frame=20, value=0.0)])
        one = motion(pan=keys.model_dump(), tilt=0.25)
        x, y = RoomCamera(put_right(self.track, one, FPS), Room()).project(10, self.track.points[2])
        numbers = pulled(self.track, one, 10, {2: (x + 5, y)}, over=5, fps=FPS)
        pan, tilt = numbers["pan"], numbers["tilt"]
        assert isinstance(pan, Keyed) and isinstance(tilt, Keyed)
        self.assertEqual([key.frame for key in pan.keys], [8, 10, 16, 20])
        self.assertEqual([key.value for key in pan.keys if key.frame in (8, 20)], [1.0, 0.0])
        self.assertAlmostEqual(value_at(pan, 16), value_at(keys, 16), places=4)
        self.assertEqual([key.frame for key in tilt.keys], [4, 10, 16])
        self.assertEqual((value_at(tilt, 4), value_at(tilt, 16)), (0.25, 0.25))

    def test_what_wobbles_goes_on_wobbling(self) -> None:
        one = motion(pan={"base": 0.5, "wobble": {"kind": "steps", "amount": 1.0, "every": 2.0, "seed": 7}})
        x, y = RoomCamera(put_right(self.track, one, FPS), Room()).project(10, self.track.points[2])
        numbers = pulled(self.track, one, 10, {2: (x + 5, y)}, over=0, fps=FPS)
        made = one.model_copy(update=numbers)
        np.testing.assert_allclose(
            RoomCamera(put_right(self.track, made, FPS), Room()).project(10, self.track.points[2]), [x + 5, y], atol=0.01
        )
        self.assertEqual([value_at(made.pan, f) for f in (3, 8, 14)], [value_at(one.pan, f) for f in (3, 8, 14)])

    def test_what_cannot_be_pulled_is_said(self) -> None:
        for frame, to, says in ((99, {1: (1.0, 1.0)}, "not solved"), (3, {}, "Pick details"), (3, {777: (1.0, 1.0)}, "Pick details")):
            with self.assertRaisesRegex(BadInput, says):
                pulled(self.track, motion(), frame, to, over=0, fps=FPS)
        behind = replace(self.track, points=self.track.points + [0, 0, 60])
        with self.assertRaisesRegex(BadInput, "behind"):
            pulled(behind, motion(), 3, {1: (1.0, 1.0)}, over=0, fps=FPS)

    def test_drift_is_spread_over_time(self) -> None:
        line = Keyed(keys=[Key(frame=0, value=0.0, ease="linear"), Key(frame=20, value=2.0, ease="linear")])
        made = put_right(self.track, motion(pan=line.model_dump()), FPS)
        turned = np.einsum("nji,njk->nik", self.track.rotation, made.rotation)
        angle = np.degrees(np.arctan2(-turned[:, 0, 2], turned[:, 2, 2]))
        np.testing.assert_allclose(angle[:21], np.arange(21) / 10, atol=1e-6)
        np.testing.assert_allclose(angle[21:], 2.0, atol=1e-6)

    def test_only_the_part_that_is_asked_for_is_smoothed(self) -> None:
        rng = np.random.default_rng(4)
        shaken = replace(self.track, position=self.track.position + rng.normal(0, 0.004, self.track.position.shape))
        share = Keyed(keys=[Key(frame=0, value=0.0, ease="hold"), Key(frame=8, value=100.0, ease="hold"),
                            Key(frame=18, value=0.0, ease="hold")])  # fmt: skip
        made = put_right(shaken, motion(smoothed=share.model_dump(), smooth_over=0.3), FPS)
        np.testing.assert_array_equal(made.position[:8], shaken.position[:8])
        np.testing.assert_array_equal(made.position[18:], shaken.position[18:])

        def shake(track: CameraTrack) -> float:
            return float(np.abs(np.diff(track.position[9:17], n=2, axis=0)).mean())

        self.assertLess(shake(made), 0.35 * shake(shaken))
        np.testing.assert_allclose(made.rotation @ made.rotation.transpose(0, 2, 1), np.tile(np.eye(3), (24, 1, 1)), atol=1e-9)

    def test_with_nothing_set_it_is_the_solve_itself(self) -> None:
        self.assertTrue(is_untouched(motion()))
        self.assertTrue(is_untouched(motion(smooth_over=2.0)))
        self.assertTrue(is_untouched(motion(roll=Keyed(keys=[Key(frame=3, value=0.0)]).model_dump())))
        self.assertFalse(is_untouched(motion(roll=0.1)))
        self.assertFalse(is_untouched(motion(roll=Keyed(keys=[Key(frame=3, value=0.1)]).model_dump())))
        self.assertNotEqual(said_by_hand(motion(roll=0.1)), said_by_hand(motion(roll=0.1, room=Room(scale=2.0))))


class Settled(unittest.TestCase):
    def shot(self, one: CameraMotion) -> Shot:
        footage = Footage(asset="f" * 64, name="f", width=480, height=270, rate="30/1", frames=24, in_frame=0, out_frame=23)
        return Shot(name="s", footage=footage, motions=[one])

    def camera(self, shot: Shot) -> CameraMotion:
        (one,) = shot.motions
        assert isinstance(one, CameraMotion)
        return one

    def test_the_solve_is_kept_beside_what_was_made_of_it_and_comes_back(self) -> None:
        asked: list[str] = []

        def make(base: str, one: CameraMotion, fps: float) -> str:
            asked.append(base)
            self.assertEqual(fps, 30.0)
            return "b" * 64

        plain = self.shot(motion())
        self.assertIs(settled(plain, make), plain)
        changed = settled(self.shot(motion(pan=1.0)), make)
        self.assertEqual((self.camera(changed).measurement, self.camera(changed).solved), ("b" * 64, "a" * 64))
        self.assertIs(settled(changed, make), changed)
        self.assertEqual(asked, ["a" * 64] * 2, "always from the solve")
        again = changed.model_copy(update={"motions": [self.camera(changed).model_copy(update={"pan": 0.0})]})
        back = self.camera(settled(again, make))
        self.assertEqual((back.measurement, back.solved), ("a" * 64, None))

    def test_measured_anew_it_is_put_right_again_from_there(self) -> None:
        one = motion(pan=1.0, solved="a" * 64).model_copy(update={"measurement": "b" * 64})
        new = self.shot(one.model_copy(update=one.measured_as("c" * 64)))
        made = self.camera(settled(new, lambda base, _one, _fps: base[::-1].replace("c", "d")))
        self.assertEqual((made.measurement, made.solved), ("d" * 64, "c" * 64))
        emptied = one.emptied(24)
        assert emptied is not None
        self.assertEqual((emptied["measurement"], emptied["solved"]), (None, None))
