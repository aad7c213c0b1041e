"""Depth of a solved clip against the depth that the simulated phone knows, and what the command does with it."""

from __future__ import annotations

import io
import json
import tempfile
import unittest
import zipfile
from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput, Cancelled, Degenerate, FormatError
from plonket.base.lru_cache import bytes_of
from plonket.base.progress import Work
from plonket.base.states import LOST, TRACKED
from plonket.cli.main import main
from plonket.depth.borders import at_edges
from plonket.depth.files import read_depth
from plonket.depth.fuse import agreed, carried_depth
from plonket.depth.measure import QUALITY, DepthMaker
from plonket.depth.of_motion import is_fresh, measure_depth
from plonket.depth.shown import COLOURS, depth_colours, scale_of
from plonket.depth.straight import Lies
from plonket.depth.tidied import filled, tidied
from plonket.document.operations import remove
from plonket.document.shot import read_shot
from plonket.formats.camera_json import write_camera
from plonket.formats.depth_zip import write_depths
from plonket.media.clip import ArrayClip
from plonket.room.camera_track import CameraTrack
from plonket.track.context import LoneContext
from plonket.track.depth.depth_track import DepthTrack
from plonket.track.depth.settings import DepthMotion
from plonket.track.request import MeasureRequest
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
        # No more false edges than true ones are missed.
        self.assertLess(score.false, 1 - score.edges, score)

    def test_a_camera_that_goes_round_it(self) -> None:
        shot, _ = filmed("orbit")
        self.check(orbit("good").depth(MIDDLE).depth, shot.depth(MIDDLE), median=0.005, bad=0.035, answered=0.9, edges=0.74)

    def test_one_that_trucks_past_it_by_a_lens_that_bends_and_a_shutter_that_rolls(self) -> None:
        shot, track = filmed("truck", lens=True)
        self.check(found(shot, track), shot.depth(MIDDLE), median=0.006, bad=0.06, answered=0.8, edges=0.6)

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


class Borders(unittest.TestCase):
    """A card before a wall, both flat; depth takes the card for larger than it is, as windows do."""

    WIDTH = 3.0
    """Pixels that what is as near as 1 goes from view to view."""

    def setUp(self) -> None:
        self.h, self.w = 200, 480
        self.card = np.zeros((self.h, self.w), bool)
        self.card[60:140, 150:315] = True
        self.fat = np.where(cv2.dilate(self.card.astype(np.uint8), np.ones((9, 9), np.uint8)) > 0, 2.0, 1.0).astype(np.float32)

    def seen(self, wall: F64, card: F64) -> tuple[U8, list[F32], F32, F32]:
        """The picture, it and the others in grey, and how it lies to them: the camera goes to the side, so the card goes twice as far."""
        greys, shifts = [], (0.0, -self.WIDTH, self.WIDTH, -2 * self.WIDTH, 2 * self.WIDTH)
        rng = np.random.default_rng(4)
        for b in shifts:
            behind, front, cover = (
                cv2.warpAffine(one.astype(np.float32), np.array([[1, 0, b * d], [0, 1, 0]]), (self.w, self.h),
                               flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
                for one, d in ((wall, 1.0), (card, 2.0), (self.card, 2.0))
            )  # fmt: skip
            greys.append((behind * (1 - cover) + front * cover + rng.normal(0, 1, behind.shape)).astype(np.float32))
        turn = np.repeat(np.eye(3, dtype=np.float32)[None], self.h, axis=0)
        shift = np.stack([np.repeat(np.array([[b, 0, 0]], np.float32), self.h, axis=0) for b in shifts[1:]])
        colour = np.repeat(np.clip(greys[0], 0, 255).astype(np.uint8)[..., None], 3, axis=2)
        return colour, greys, np.ascontiguousarray(np.repeat(turn[None], 4, axis=0)), np.ascontiguousarray(shift)

    def pattern(self, seed: int, across: float, down: float) -> F64:
        noise = cv2.GaussianBlur(np.random.default_rng(seed).normal(size=(self.h, self.w)), (0, 0), across, sigmaY=down)
        return np.asarray(noise / noise.std())

    def off(self, depth: F32) -> float:
        """Share of the card's size that is taken for the other side, but above and below it, where stripes tell nothing."""
        rows = np.s_[66:134]
        return float(((depth > 1.5) != self.card)[rows].sum() / self.card[rows].sum())

    def test_it_ends_where_the_card_does_even_before_stripes_along_the_way(self) -> None:
        card = 120 + 20 * self.pattern(1, 1.5, 1.5)
        walls = {"patterned": (self.pattern(2, 1.5, 1.5), 0.007), "stripes": (self.pattern(3, 60.0, 1.0), 0.03)}
        for name, (wall, most) in walls.items():
            with self.subTest(name):
                found = at_edges(self.fat, *self.seen(80 + 12 * wall, card), 2)
                self.assertGreater(self.off(self.fat), 0.045)
                self.assertLess(self.off(found), most)
                inner = cv2.erode(self.card.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
                np.testing.assert_allclose(found[inner], 2, atol=1e-3)

    def test_mirrored_it_is_the_same_mirrored(self) -> None:
        colour, greys, turn, shift = self.seen(80 + 12 * self.pattern(2, 1.5, 1.5), 120 + 20 * self.pattern(1, 1.5, 1.5))
        found = at_edges(self.fat, colour, greys, turn, shift, 2)

        def flipped(one: Any) -> Any:
            return np.ascontiguousarray(one[:, ::-1])

        other = at_edges(flipped(self.fat), flipped(colour), [flipped(g) for g in greys], turn, -shift, 2)
        self.assertLess(float((np.abs(flipped(other) - found) > 0.2).mean()), 0.002)

    def test_where_nothing_is_to_be_seen_it_stays_and_what_is_unknown_stays_unknown(self) -> None:
        even = np.full((self.h, self.w), 100.0)
        self.fat[10:20, 10:20] = 0
        found = at_edges(self.fat, *self.seen(even, even), 2)
        np.testing.assert_array_equal(found == 0, self.fat == 0)
        self.assertLess(float((np.abs(found - self.fat) > 0.3).mean()), 0.08)
        flat = np.ones((self.h, self.w), np.float32)
        np.testing.assert_array_equal(at_edges(flat, *self.seen(even, even), 2), flat)


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


def depth_motion(**more: object) -> DepthMotion:
    return DepthMotion.model_validate({"id": "depth", "name": "Depth", "camera": "camera", "quality": "quick", **more})


class AsMotion(unittest.TestCase):
    """Depth of a range of a clip, frame by frame, what was told before kept."""

    def request(self, **more: Any) -> MeasureRequest:
        shot, track = filmed("orbit")
        context = more.pop("context", LoneContext(camera=track))
        return MeasureRequest(clip=ArrayClip(shot.frames), start=MIDDLE, stop=MIDDLE + 2, context=context, **more)

    def test_it_is_kept_while_the_camera_stays_and_done_again_when_it_changes(self) -> None:
        heard: list[int] = []
        work = Work(on_partial=lambda p: heard.append(p.frame))
        track = measure_depth(depth_motion(), self.request(work=work))
        self.assertEqual((heard, list(np.flatnonzero(track.known()))), ([MIDDLE, MIDDLE + 1], [MIDDLE, MIDDLE + 1]))
        told, direct = track.depth(MIDDLE), orbit("quick").depth(MIDDLE)
        assert told is not None
        np.testing.assert_allclose(told, direct.depth, rtol=4e-4)
        np.testing.assert_allclose(track.sure(MIDDLE), direct.sure, atol=1 / 32 + 1e-6)
        self.assertAlmostEqual(float(track.confidence[MIDDLE]), float((direct.depth > 0).mean()), places=5)
        self.assertEqual((track.depth(0), track.sure(0)), (None, None))
        self.assertEqual(bytes_of(track), sum(map(len, (*track.pictures, *track.sureness))))
        heard.clear()
        again = measure_depth(depth_motion(), self.request(work=work, previous=DepthTrack.from_bytes(track.to_bytes())))
        self.assertEqual((heard, again.to_bytes()), ([], track.to_bytes()))
        camera = filmed("orbit")[1]
        larger = replace(camera, position=camera.position * 10, points=camera.points * 10)
        other = measure_depth(depth_motion(), self.request(work=work, previous=track, context=LoneContext(camera=larger)))
        self.assertEqual(heard, [MIDDLE, MIDDLE + 1])
        ten = other.depth(MIDDLE)
        assert ten is not None
        both = (told > 0) & (ten > 0)
        self.assertLess(abs(float(np.median(ten[both] / told[both])) - 10), 0.02)

    def test_stopped_it_keeps_what_there_is(self) -> None:
        kept: list[DepthTrack] = []
        work = Work(on_partial=lambda p: kept.append(p.track), is_cancelled=lambda: bool(kept))
        with self.assertRaises(Cancelled):
            measure_depth(depth_motion(), self.request(work=work))
        self.assertEqual(list(np.flatnonzero(kept[-1].known())), [MIDDLE])

    def test_of_what_moves_by_itself_nothing_is_told(self) -> None:
        cover = np.zeros(SIZE[::-1], np.uint8)
        cover[40:120, 100:200] = 255

        class Around(LoneContext):
            def picked(self, motion: str, moment: float) -> U8 | None:
                return cover

        context = Around(camera=filmed("orbit")[1])
        track = measure_depth(depth_motion(ignored=["walker"]), self.request(context=context))
        told, sure = track.depth(MIDDLE), track.sure(MIDDLE)
        assert told is not None and sure is not None
        self.assertEqual((float(told[cover > 0].max()), float(sure[cover > 0].max())), (0, 0))
        self.assertGreater(float((told[cover == 0] > 0).mean()), 0.8)
        motion = depth_motion(ignored=["walker"])
        camera = filmed("orbit")[1]
        self.assertTrue(is_fresh(track, motion, camera, context, MIDDLE))
        cover[0, 0] = 255
        self.assertFalse(is_fresh(track, motion, camera, context, MIDDLE))

    def test_it_says_what_it_lacks(self) -> None:
        with self.assertRaisesRegex(Degenerate, "camera is not measured yet"):
            measure_depth(depth_motion(), self.request(context=LoneContext()))
        turns = replace(filmed("orbit")[1], kind="rotation-only")
        with self.assertRaisesRegex(Degenerate, "hardly moves from its place"):
            measure_depth(depth_motion(), self.request(context=LoneContext(camera=turns)))
        with self.assertRaisesRegex(FormatError, "damaged"):
            DepthTrack.from_bytes(b"no archive at all")
        track = DepthTrack.empty((4, 3), 2)
        with self.assertRaisesRegex(FormatError, "damaged"):
            replace(track, pictures=(b"no picture", b"")).depth(0)

    def test_any_distance_can_be_stored(self) -> None:
        far = np.geomspace(1e-5, 1e6, 12).reshape(3, 4).astype(np.float32)
        far[0, 0] = 0
        track = DepthTrack.empty((4, 3), 2).with_frame(1, far, np.ones_like(far), "x", TRACKED)
        np.testing.assert_allclose(track.depth(1), far, rtol=3e-4)

    def test_it_goes_with_its_camera(self) -> None:
        shot = read_shot({"name": "s", "motions": [{"kind": "camera", "id": "camera", "name": "Camera"},
                                                   depth_motion().model_dump(mode="json")]})  # fmt: skip
        self.assertEqual(remove(shot, "camera").motions, [])
        self.assertEqual([m.id for m in remove(shot, "depth").motions], ["camera"])
        with self.assertRaisesRegex(BadInput, "goes by a camera that is not in the shot"):
            read_shot({"name": "s", "motions": [depth_motion().model_dump(mode="json")]})


class Shown(unittest.TestCase):
    def test_near_is_light_far_is_dark_and_what_is_unsure_hatched(self) -> None:
        depth = np.repeat(np.geomspace(0.5, 8, 64, dtype=np.float32)[None], 40, axis=0)
        sure = np.ones_like(depth)
        colours = depth_colours(depth, sure, 0.5, 8.0)
        bright = colours[0, :, :3].astype(float).sum(axis=1)
        self.assertTrue((np.diff(bright) < 1).all())
        self.assertEqual([f"#{r:02x}{g:02x}{b:02x}" for r, g, b, _ in colours[0, [0, -1]]], [COLOURS[0], COLOURS[-1]])
        depth[:, 20:30], sure[:, 40:] = 0, 0.1
        colours = depth_colours(depth, sure, 0.5, 8.0)
        self.assertEqual(set(np.unique(colours[:, 20:30, 3])), {0})
        dark = (colours[:, 40:, :3] == (20, 22, 26)).all(axis=2)
        self.assertTrue(0.1 < float(dark.mean()) < 0.5)

    def test_the_scale_spans_what_the_clip_shows(self) -> None:
        track = DepthTrack.empty((70, 50), 3)
        self.assertIsNone(scale_of(track))
        far = np.linspace(1, 5, 3500, dtype=np.float32).reshape(50, 70)
        track = track.with_frame(0, far, far * 0 + 1, "x", TRACKED).with_frame(2, far * 2, far * 0 + 1, "x", TRACKED)
        scale = scale_of(track)
        assert scale is not None
        self.assertTrue(1.0 <= scale[0] < 1.15 and 9.2 < scale[1] <= 10)

    def test_it_goes_out_as_floats(self) -> None:
        far = np.linspace(1, 5, 3500, dtype=np.float32).reshape(50, 70)
        track = DepthTrack.empty((70, 50), 2).with_frame(1, far, far * 0 + 1, "x", TRACKED)
        with zipfile.ZipFile(io.BytesIO(write_depths(track))) as archive, tempfile.TemporaryDirectory() as folder:
            self.assertEqual(archive.namelist(), ["000000.exr", "000001.exr"])
            archive.extractall(folder)
            np.testing.assert_allclose(read_depth(Path(folder) / "000001.exr"), far, rtol=3e-4)
            self.assertEqual(float(read_depth(Path(folder) / "000000.exr").max()), 0)
