"""Depth of a solved clip against the depth that the simulated phone knows, and what the command does with it."""

from __future__ import annotations

import json
import tempfile
import unittest
from dataclasses import replace
from functools import cache
from pathlib import Path

import cv2
import numpy as np

from plonket.base.conventions import F32, F64
from plonket.base.errors import Degenerate
from plonket.base.states import LOST
from plonket.cli.main import main
from plonket.depth.files import read_depth
from plonket.depth.fuse import agreed, carried_depth
from plonket.depth.measure import QUALITY, DepthMaker
from plonket.depth.straight import Lies
from plonket.depth.tidied import filled, tidied
from plonket.formats.camera_json import write_camera
from plonket.room.camera_track import CameraTrack
from synth.phone.depth_score import depth_score
from synth.phone.quickroom import Move, RoomShot, room_shot

SIZE = (480, 270)
FRAMES = 21
MIDDLE = 10


@cache
def filmed(move: Move, lens: bool = False, frames: int = FRAMES, puppet: bool = False) -> tuple[RoomShot, CameraTrack]:
    bent = {"k1": -0.09, "readout_s": 0.016, "exposure_s": 0.006} if lens else {}
    shot = room_shot(move, size=SIZE, frames=frames, seed=3, puppet=puppet, samples=2, **bent)  # type: ignore[arg-type]
    return shot, shot.track()


@cache
def orbit(quality: str) -> DepthMaker:
    shot, track = filmed("orbit")
    return DepthMaker(lambda k: shot.frames[k], track, QUALITY[quality])


def found(shot: RoomShot, track: CameraTrack, frame: int = MIDDLE, quality: str = "good") -> F32:
    return DepthMaker(lambda k: shot.frames[k], track, QUALITY[quality]).depth(frame).depth


class AgainstTruth(unittest.TestCase):
    def check(self, depth: F32, true: F64, *, median: float, bad: float, answered: float, edges: float = 0.0) -> None:
        score = depth_score(depth, true)
        self.assertLess(score.median, median, score)
        self.assertLess(score.bad, bad, score)
        self.assertGreater(score.answered, answered, score)
        self.assertGreater(score.edges, edges, score)
        # No more false edges than true ones are missed, or a few.
        self.assertLess(score.false, max(1 - score.edges, 0.3), score)

    def test_a_camera_that_goes_round_it(self) -> None:
        shot, _ = filmed("orbit")
        self.check(orbit("good").depth(MIDDLE).depth, shot.depth(MIDDLE), median=0.006, bad=0.04, answered=0.9, edges=0.75)

    def test_one_that_trucks_past_it_by_a_lens_that_bends_and_a_shutter_that_rolls(self) -> None:
        shot, track = filmed("truck", lens=True)
        self.check(found(shot, track), shot.depth(MIDDLE), median=0.007, bad=0.07, answered=0.8, edges=0.5)

    def test_dim_and_without_points_it_finds_out_how_far_things_are(self) -> None:
        shot, track = filmed("orbit")
        bare = replace(track, points=track.points[:0], kept=track.kept[:0])
        dim = DepthMaker(lambda k: shot.frames[k] // 2, bare).depth(MIDDLE).depth
        self.check(dim, shot.depth(MIDDLE), median=0.008, bad=0.06, answered=0.85, edges=0.65)

    def test_a_frame_between_single_ones_and_the_quick_way(self) -> None:
        shot, _ = filmed("orbit")
        self.check(orbit("good").depth(MIDDLE + 1).depth, shot.depth(MIDDLE + 1), median=0.006, bad=0.04, answered=0.9, edges=0.7)
        self.check(orbit("quick").depth(MIDDLE).depth, shot.depth(MIDDLE), median=0.008, bad=0.06, answered=0.85, edges=0.6)

    def test_it_goes_by_the_camera_s_units(self) -> None:
        shot, track = filmed("orbit")
        larger = replace(track, position=track.position * 10, points=track.points * 10)
        one, ten = orbit("quick").depth(MIDDLE).depth, found(shot, larger, MIDDLE, "quick")
        both = (one > 0) & (ten > 0)
        self.assertLess(float(np.percentile(np.abs(ten[both] / one[both] - 10), 98)), 0.05)


class Words(unittest.TestCase):
    def test_a_camera_on_the_spot_tells_no_depth(self) -> None:
        shot, track = filmed("pan", frames=9)
        with self.assertRaisesRegex(Degenerate, "hardly moves from its place"):
            found(shot, track, 4)

    def test_nor_does_a_frame_without_a_camera(self) -> None:
        shot, track = filmed("orbit")
        state = track.state.copy()
        state[MIDDLE] = LOST
        with self.assertRaisesRegex(Degenerate, f"not known on frame {MIDDLE}"):
            found(shot, replace(track, state=state))


class Together(unittest.TestCase):
    def lies(self, h: int, shift: float) -> Lies:
        turn = np.repeat(np.eye(3, dtype=np.float32)[None], h, axis=0)
        return Lies(turn, np.repeat(np.array([[shift, 0, 0]], np.float32), h, axis=0))

    def test_one_that_is_alone_is_outvoted(self) -> None:
        own = np.full((4, 5), 0.5, np.float32)
        own[1, 1] = 0.9
        others = [np.full((4, 5), 0.5, np.float32), np.full((4, 5), 0.501, np.float32)]
        told, votes = agreed(own, others, 2)
        self.assertLess(float(np.abs(told - 0.5).max()), 0.002)
        self.assertEqual((votes[0, 0], votes[1, 1]), (3, 2))
        self.assertFalse(agreed(own, [np.zeros_like(own)], 2)[0].any())

    def test_what_is_nearer_hides_what_is_behind_and_moves_farther(self) -> None:
        inverse = np.full((6, 40), 0.1, np.float32)
        inverse[:, 10:14] = 0.5
        seen = carried_depth(inverse, self.lies(6, 20.0))
        np.testing.assert_allclose(seen[:, 20:24], 0.5)
        np.testing.assert_allclose(seen[:, 26:], 0.1, rtol=1e-5)

    def test_what_nobody_tells_takes_after_what_looks_like_it(self) -> None:
        inverse = np.zeros((5, 6), np.float32)
        inverse[:, :2], inverse[:, 4:] = 0.2, 0.8
        colour = np.zeros((5, 6, 3), np.float32)
        colour[:, :3] = 200
        out = filled(inverse, colour, 2, 2)
        np.testing.assert_allclose(out[:, 2], 0.2)
        np.testing.assert_allclose(out[:, 3], 0.8)


class Tidy(unittest.TestCase):
    def test_a_ramp_between_two_surfaces_becomes_an_edge_where_the_picture_has_one(self) -> None:
        inverse = np.full((40, 60), 0.3, np.float32)
        inverse[:, 30:] = 0.6
        inverse[:, 27:33] = np.linspace(0.33, 0.57, 6)
        colour = np.full((40, 60, 3), 40, np.float32)
        colour[:, 31:] = 180
        out = tidied(inverse, colour)
        self.assertFalse(((out > 0.35) & (out < 0.55)).any())
        np.testing.assert_allclose(out[20, [24, 29, 34]], [0.3, 0.3, 0.6], rtol=1e-5)

    def test_a_speck_goes_and_a_floor_that_reaches_to_the_horizon_stays(self) -> None:
        floor = np.repeat((0.004 * (np.arange(80, dtype=np.float32) + 3))[:, None], 60, axis=1)
        with_speck = floor.copy()
        with_speck[50:53, 30:33] = 0.9
        colour = np.full((80, 60, 3), 90, np.float32)
        out = tidied(with_speck, colour)
        inner = np.s_[14:-14, 14:-14]
        np.testing.assert_allclose(out[inner], floor[inner], rtol=0.07)


class Command(unittest.TestCase):
    def test_it_writes_a_file_of_floats_for_each_frame(self) -> None:
        shot, track = filmed("orbit")
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "clip").mkdir()
            for k, one in enumerate(shot.frames):
                cv2.imwrite(str(folder / "clip" / f"{k:04d}.png"), np.ascontiguousarray(one[..., ::-1]))
            (folder / "camera.json").write_text(write_camera(track, shot.rate))
            camera = ["--camera", str(folder / "camera.json")]
            code = main(["depth", str(folder / "clip"), *camera, "--out", str(folder / "out"), "--quality", "quick",
                         "--range", f"{MIDDLE}:{MIDDLE + 2}"])  # fmt: skip
            self.assertEqual(code, 0)
            self.assertEqual(sorted(p.name for p in (folder / "out").iterdir()), ["000000.exr", "000001.exr"])
            depth, true = read_depth(folder / "out" / "000000.exr"), shot.depth(MIDDLE)
            known = depth > 0
            self.assertEqual(depth.shape, SIZE[::-1])
            self.assertLess(float(np.median(np.abs(depth - true)[known] / true[known])), 0.008)
            # A camera that does not move tells nothing, and leaves nothing behind.
            still = json.loads((folder / "camera.json").read_text())
            for one in still["frames"]:
                one["position"] = still["frames"][0]["position"]
            (folder / "still.json").write_text(json.dumps(still))
            code = main(["depth", str(folder / "clip"), "--camera", str(folder / "still.json"), "--out", str(folder / "none"),
                         "--range", "0:2"])  # fmt: skip
            self.assertEqual(code, 1)
            self.assertEqual(list((folder / "none").iterdir()), [])
