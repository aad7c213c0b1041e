"""Steadying: what is locked stands still, what is smoothed keeps its move, borders, fills, shake, one sampling only."""

from __future__ import annotations

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput
from plonket.base.homography import rotation_scale, translation
from plonket.base.outlines import carry
from plonket.base.states import TRACKED
from plonket.cli.main import main
from plonket.document.follow import Follow
from plonket.document.hashes import picture_hash, plate_hash
from plonket.document.shot import Footage, Shot, read_shot
from plonket.formats.plane_json import write_plane
from plonket.image.picture import Picture, StillSource
from plonket.image.resample import place_still
from plonket.layers.still import StillLayer
from plonket.media import open_clip
from plonket.media.write import Coding, VideoWriter
from plonket.plate.borders import MOST_ZOOM, gliding_zoom, largest_window
from plonket.plate.handheld import Handheld, handheld_view, shake
from plonket.plate.stabilise import Steady, steady_view, together
from plonket.plate.view_path import PlateContext, ViewPath, corners_of, covered_share
from plonket.render.frame import render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from plonket.track.plane.measure import measure_plane
from plonket.track.plane.settings import PlaneMotion
from plonket.track.plane.track import PlaneTrack
from plonket.track.request import MeasureRequest
from tests.core.shots import chart_corners, plain_shot, plane_on

SIZE = (320, 180)
CLIP, MEASURED = "c" * 64, "a" * 64


def write(path: Path, frames: list[U8], crf: float = 8.0) -> Path:
    size = (frames[0].shape[1], frames[0].shape[0])
    with VideoWriter(path, size, Fraction(30), coding=Coding(crf=crf, key_every=1, b_frames=0)) as out:
        for picture in frames:
            out.write(picture)
    return path


def tracked(matrices: F64, reference: int = 0) -> PlaneTrack:
    track = PlaneTrack.empty(len(matrices), reference)
    track.homography[:] = matrices
    track.state[:], track.confidence[:] = TRACKED, 1
    return track


def whole_plane(size: tuple[int, int] = SIZE, **settings: Any) -> PlaneMotion:
    quad = [(float(x), float(y)) for x, y in corners_of(size)]
    return PlaneMotion(id="plane", name="Wall", quad=quad, measurement=MEASURED, **settings)  # type: ignore[arg-type]


def shot_with(motion: PlaneMotion, frames: int, size: tuple[int, int] = SIZE, **parts: Any) -> Shot:
    footage = Footage(asset=CLIP, name="c", width=size[0], height=size[1], rate="30/1", frames=frames, in_frame=0,
                      out_frame=frames - 1)  # fmt: skip
    return Shot(name="s", footage=footage, motions=[motion], **parts)


def steady(**settings: Any) -> Steady:
    return Steady(**{"id": "steady", "name": "Steady", "targets": ["plane"], **settings})


def context(movement: F64, size: tuple[int, int] = SIZE) -> PlateContext:
    return PlateContext(size=size, fps=30.0, start=0, stop=len(movement), movement=lambda _id, _frame: movement,
                        places=lambda _id, _frame: corners_of(size))  # fmt: skip


def wandering(n: int, seed: int = 1, px: float = 6.0) -> F64:
    """Shakes of a hand as (n, 3, 3), the identity on frame 0."""
    rng = np.random.default_rng(seed)
    x, y, a = (np.cumsum(rng.standard_normal(n)) * s for s in (px / 3, px / 3, 0.12))
    out = np.stack([translation(x[i], y[i]) @ translation(160, 90) @ rotation_scale(a[i], 1 + 0.0004 * i) @ translation(-160, -90)
                    for i in range(n)])  # fmt: skip
    return np.asarray(out @ np.linalg.inv(out[0]))


def big_picture(seed: int = 4) -> U8:
    """A textured picture larger than the frame."""
    rng = np.random.default_rng(seed)
    grey = sum(cv2.GaussianBlur(rng.standard_normal((420, 640)), (0, 0), s) * s for s in (1.5, 4, 12, 30))
    grey = (grey - grey.min()) / (grey.max() - grey.min())
    return np.asarray(np.dstack([40 + 170 * grey, 60 + 130 * grey, 90 + 90 * grey]), np.uint8)


class Locked(unittest.TestCase):
    """On the fast phone's chart, followed as it would be, against the true corners."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def lock(self, **settings: Any) -> tuple[Shot, ShotSources, F64]:
        filmed = plain_shot()
        corners = chart_corners(filmed)
        path = write(self.folder / "wall.mp4", filmed.frames)
        motion = plane_on(corners).model_copy(update={"measurement": MEASURED})
        track = measure_plane(motion, MeasureRequest(clip=open_clip(path), direction="forward"))
        shot = shot_with(motion, len(filmed.frames), (640, 360), plate=[steady(targets=[motion.id], **settings)])
        pool = MediaPool(lambda _: path, lambda _: track)
        self.addCleanup(pool.close)
        return shot, ShotSources(shot, pool), corners

    def test_the_surface_stands_still_to_a_tenth_of_a_pixel(self) -> None:
        shot, sources, corners = self.lock(fit="none")
        assert sources.view is not None
        stood = np.stack([carry(c, m) for c, m in zip(corners, sources.view.matrices(), strict=True)])
        moved = stood - corners[0]
        self.assertLess(float(np.sqrt((moved**2).sum(axis=-1).mean())), 0.1)
        before = corners - corners[0]
        self.assertGreater(float(np.sqrt((before**2).sum(axis=-1).mean())), 3.0)
        # And in the pictures themselves, followed afresh: the chart no longer moves.
        frames = [render_frame(shot, sources, i) for i in range(0, 60, 6)]
        path = write(self.folder / "locked.mp4", frames)
        again = measure_plane(plane_on(corners), MeasureRequest(clip=open_clip(path), direction="forward"))
        moved = np.stack([carry(corners[0], m) for m in again.homography]) - corners[0]
        self.assertLess(float(np.sqrt((moved**2).sum(axis=-1).mean())), 0.1)

    def test_zooming_leaves_nothing_empty_and_no_more_than_needed(self) -> None:
        for fit in ("zoom", "glide"):
            shot, sources, _ = self.lock(fit=fit)
            view = sources.view
            assert view is not None
            self.assertTrue(all(covered_share(m, (640, 360)) == 1 for m in view.matrices()))
            tight = min(self.room(m) for m in view.matrices())
            self.assertLess(tight, 3.0, fit)
            dark = [int((render_frame(shot, sources, i)[[0, -1]].max(axis=2) == 0).sum()) for i in (0, 30, 59)]
            self.assertEqual(dark, [0, 0, 0])

    def room(self, matrix: F64) -> float:
        """How many of the clip's pixels lie between the picture's corners and the clip's edge."""
        q = carry(corners_of((640, 360)), np.linalg.inv(matrix))
        return float(np.minimum(q, np.array([640, 360]) - q).min())

    def test_what_follows_stands_still_too_and_what_does_not_stays_on_the_screen(self) -> None:
        shot, _, corners = self.lock(fit="none")
        middle = corners[0].mean(axis=0)
        disc = np.zeros((41, 41, 4), np.uint8)
        y, x = np.mgrid[-20:21, -20:21]
        disc[..., 0], disc[..., 2] = 255, 255
        disc[..., 3] = np.clip(18.5 - np.hypot(x, y), 0, 1) * 255
        shared = {"asset": "d" * 64, "width": 41, "height": 41}
        stuck = StillLayer(id="stuck", name="a", x=middle[0], y=middle[1], follow=Follow(target=shot.motions[0].id), **shared)
        loose = StillLayer(id="loose", name="b", x=80.25, y=300.5, **shared)
        path = self.folder / "wall.mp4"
        track = measure_plane(shot.motions[0], MeasureRequest(clip=open_clip(path), direction="forward"))  # type: ignore[arg-type]
        pool = MediaPool(lambda _: path, lambda _: track)
        self.addCleanup(pool.close)
        source = StillSource(disc)
        pool.element = lambda _asset, _frame, _key=None, _level=0: source  # type: ignore[method-assign]
        pool.length = lambda _asset: 1  # type: ignore[method-assign]
        full = shot.model_copy(update={"stack": [stuck, loose]})
        sources = ShotSources(full, pool)
        for frame in (0, 25, 59):
            matte = render_frame(full, sources, frame, view="matte")[..., 0].astype(float)
            yy, xx = np.mgrid[0:360, 0:640] + 0.5
            for at in (middle, np.array([80.25, 300.5])):
                near = matte * (np.hypot(xx - at[0], yy - at[1]) < 30)
                seen = np.array([(xx * near).sum(), (yy * near).sum()]) / near.sum()
                np.testing.assert_allclose(seen, at, atol=0.1)


class Smoothed(unittest.TestCase):
    def view(self, movement: F64, **settings: Any) -> ViewPath:
        return steady_view(steady(mode="smooth", fit="none", **settings), context(movement), ViewPath.untouched(len(movement), SIZE))

    def test_bumps_go_and_the_move_stays(self) -> None:
        n = 180
        t = np.arange(n) / 30
        pan, bumps = 14 * t, 3 * np.sin(2 * np.pi * 4 * t)
        view = self.view(np.stack([translation(a + b, 0) for a, b in zip(pan, bumps, strict=True)]), seconds=1.5)
        inner = slice(20, -20)
        kept = view.after[inner, 0] - np.polyval(np.polyfit(t[inner], view.after[inner, 0], 1), t[inner])
        self.assertLess(float(kept.std()), 0.02 * 3)
        speed = np.polyfit(t[inner], view.after[inner, 0], 1)[0]
        self.assertAlmostEqual(float(speed), 14, delta=0.1)
        np.testing.assert_allclose(view.matrix(0), np.eye(3), atol=1e-9)

    def test_a_swing_as_long_as_the_strength_is_kept_by_half(self) -> None:
        n, seconds = 600, 2.0
        t = np.arange(n) / 30
        view = self.view(np.stack([translation(10 * np.sin(2 * np.pi * x / seconds), 0) for x in t]), seconds=seconds)
        inner = view.after[150:-150, 0]
        self.assertAlmostEqual(float(np.ptp(inner)) / 20, 0.5, delta=0.02)

    def test_parts(self) -> None:
        movement = wandering(40)
        view = self.view(movement, perspective=False, shift=False, size=False, seconds=20)
        for i in (10, 39):
            m = view.matrix(i)
            # Only turning is taken out: the middle stays where it was and nothing grows.
            np.testing.assert_allclose(carry(np.array([[160.0, 90.0]]), m)[0], [160, 90], atol=0.3)
            self.assertAlmostEqual(float(np.linalg.det(m[:2, :2])), 1, places=6)

    def test_nothing_measured_is_said(self) -> None:
        told = steady_view(steady(), PlateContext(size=SIZE, fps=30, start=0, stop=5, movement=lambda _i, _f: None,
                           places=lambda _i, _f: corners_of(SIZE)), ViewPath.untouched(5, SIZE))  # fmt: skip
        self.assertIn("measured", told.says)
        np.testing.assert_array_equal(told.matrices(), np.tile(np.eye(3), (5, 1, 1)))


class TwoDepths(unittest.TestCase):
    def test_near_and_far_both_hold(self) -> None:
        """A camera that slides: the far wall on the left goes 1, the near one on the right 3 pixels a frame."""
        n = 20
        far, near = (np.stack([translation(k * i, 0) for i in range(n)]) for k in (1.0, 3.0))
        left = np.array([[10.0, 20], [90, 20], [90, 160], [10, 160]])
        right = left + [220, 0]
        both = together([far, near], [left, right])

        def slip(movement: F64, spots: F64, true: F64) -> float:
            held_from_clip = np.linalg.inv(movement)
            off = [carry(carry(spots, true[i]), held_from_clip[i]) - spots for i in range(n)]
            return float(np.sqrt((np.array(off) ** 2).sum(axis=-1).mean()))

        held = max(slip(both, left, far), slip(both, right, near))
        single = min(max(slip(m, left, far), slip(m, right, near)) for m in (far, near))
        self.assertLess(held, 0.25 * single)
        np.testing.assert_allclose(both[0], np.eye(3), atol=1e-6)


class Borders(unittest.TestCase):
    def test_the_window_is_the_largest(self) -> None:
        matrices = np.stack([translation(0, 0), translation(32, 0)])
        found = largest_window(matrices, SIZE)
        # Together they cover x 33.5..318.5: the window is 285 wide.
        self.assertAlmostEqual(found.zoom, 320 / 285, places=4)
        self.assertAlmostEqual(float(found.centre[0]), (33.5 + 318.5) / 2, places=4)
        self.assertAlmostEqual(float(found.centre[1]), 90, places=4)
        fixed = largest_window(matrices, SIZE, centre=np.array([160.0, 90.0]))
        self.assertAlmostEqual(fixed.zoom, 320 / (2 * (160 - 33.5)), places=4)

    def test_too_much_movement_is_said(self) -> None:
        matrices = np.stack([translation(0, 0), translation(300, 0)])
        found = largest_window(matrices, SIZE)
        self.assertFalse(found.fills)
        self.assertEqual(found.zoom, MOST_ZOOM)
        view = steady_view(steady(), context(matrices), ViewPath.untouched(2, SIZE))
        self.assertIn("too large", view.says)

    def test_a_gliding_zoom_is_never_too_small_and_never_jumps(self) -> None:
        needed = 1 + 0.2 * np.abs(np.sin(np.arange(120) / 9)) ** 3
        glide = gliding_zoom(needed, 18)
        self.assertTrue((glide >= needed - 1e-12).all())
        self.assertLess(float(np.abs(np.diff(glide)).max()), 0.35 * float(np.abs(np.diff(needed)).max()))
        self.assertLess(float(glide.mean()), float(needed.max()))

    def test_borders_are_filled_with_what_is_really_there(self) -> None:
        """A hand pans over a large picture whose light changes; locked, the borders come from other frames."""
        picture = big_picture()
        n = 24
        moves = np.stack([translation(-60 * np.sin(i / 4), 12 * np.cos(i / 3) - 12) for i in range(n)])
        corner = translation(-160, -120)  # where frame 0 looks in the large picture
        frames = []
        for i, m in enumerate(moves):
            seen = cv2.warpPerspective(picture, m @ corner, SIZE, flags=cv2.INTER_CUBIC).astype(float)
            frames.append(np.clip(seen * (1 + 0.2 * i / n), 0, 255).astype(np.uint8))
        with tempfile.TemporaryDirectory() as name:
            path = write(Path(name) / "pan.mp4", frames, crf=4)
            motion = whole_plane()
            shot = shot_with(motion, n, plate=[steady(fit="fill")])
            pool = MediaPool(lambda _: path, lambda _: tracked(moves))
            self.addCleanup(pool.close)
            sources = ShotSources(shot, pool)
            assert sources.view is not None
            self.assertLessEqual(len(sources.view.donors), 6)
            for i in (6, 13, 20):
                empty = render_frame(shot.model_copy(update={"plate": [steady(fit="none")]}),
                                     ShotSources(shot.model_copy(update={"plate": [steady(fit="none")]}), pool), i)  # fmt: skip
                hole = (empty.max(axis=2) == 0) & (render_frame(shot, sources, i).max(axis=2) > 0)
                self.assertGreater(hole.mean(), 0.03)
                self.assertEqual(float((render_frame(shot, sources, i).max(axis=2) == 0).mean()), 0)
                picture_from_held = translation(-0.5, -0.5) @ sources.view.picture_from_held[i] @ translation(0.5, 0.5)
                truth = cv2.warpPerspective(picture, picture_from_held @ corner, SIZE, flags=cv2.INTER_CUBIC).astype(float) * (1 + 0.2 * i / n)
                off = render_frame(shot, sources, i).astype(float)[hole] - np.clip(truth, 0, 255)[hole]
                self.assertGreater(20 * np.log10(255 / np.sqrt((off**2).mean())), 32, i)
                self.assertLess(abs(float(off.mean())), 3.0, i)


class GivenBack(unittest.TestCase):
    def whole(self, placed: Picture) -> F32:
        out = np.zeros((180, 320, 4), np.float32)
        h, w = placed.rgba.shape[:2]
        out[placed.y : placed.y + h, placed.x : placed.x + w] = placed.rgba
        return out

    def test_there_and_back_loses_next_to_nothing_and_nothing_at_all_when_multiplied(self) -> None:
        picture = cv2.GaussianBlur(big_picture()[:180, :320], (0, 0), 1.0)
        source = StillSource(np.dstack([picture, np.full(picture.shape[:2], 255, np.uint8)]))
        for m in wandering(8, px=9)[[3, 7]]:
            there = place_still(source, m, SIZE)
            held = self.whole(there)
            mid = StillSource(np.zeros((180, 320, 4), np.uint8))
            mid._levels[0][1:-1, 1:-1] = held  # the float picture itself: nothing is rounded on the way
            held_from_clip = self.whole(place_still(mid, np.linalg.inv(m), SIZE))
            true = self.whole(place_still(source, np.eye(3), SIZE))
            inner = (slice(40, -40), slice(60, -60))
            off = held_from_clip[inner][..., :3] - true[inner][..., :3]
            self.assertGreater(-20 * np.log10(float(np.sqrt((off**2).mean()))), 45)
            once = self.whole(place_still(source, np.linalg.inv(m) @ m, SIZE))
            np.testing.assert_allclose(once[inner], true[inner], atol=1e-5)


class Shaken(unittest.TestCase):
    def test_the_same_seed_shakes_the_same_way_and_a_longer_clip_begins_alike(self) -> None:
        np.testing.assert_array_equal(shake(90, 30, 5), shake(90, 30, 5))
        np.testing.assert_allclose(shake(300, 30, 5)[:90], shake(90, 30, 5), atol=1e-2)
        self.assertGreater(float(np.abs(shake(90, 30, 5) - shake(90, 30, 6)).max()), 0.5)
        long = shake(3000, 30, 2)
        self.assertTrue(0.5 < long.std() < 1.5)
        self.assertLess(float(np.abs(np.diff(long)).max()), 0.35)

    def test_it_zooms_just_enough_and_rests_at_nought(self) -> None:
        n = 90
        still = ViewPath.untouched(n, SIZE)
        shaken = handheld_view(Handheld(id="h", name="h", amount=300), context(np.tile(np.eye(3), (n, 1, 1))), still)
        self.assertTrue(all(covered_share(m, SIZE) == 1 for m in shaken.matrices()))
        self.assertTrue(1.0 < shaken.zoom[0] < 1.2)
        rest = handheld_view(Handheld(id="h", name="h", amount=0, zoom=False), context(np.tile(np.eye(3), (n, 1, 1))), still)
        np.testing.assert_allclose(rest.matrices(), still.matrices(), atol=1e-12)


class Documents(unittest.TestCase):
    def shot(self, **parts: Any) -> Shot:
        return shot_with(whole_plane(), 10, **parts)

    def test_targets_must_exist_and_a_plate_is_steadied_once(self) -> None:
        record = self.shot(plate=[steady()]).model_dump(mode="json")
        record["plate"][0]["targets"] = ["nowhere"]
        with self.assertRaisesRegex(BadInput, "not in the shot"):
            read_shot(record)
        record = self.shot(plate=[steady()]).model_dump(mode="json")
        record["plate"].append({**record["plate"][0], "id": "again"})
        with self.assertRaisesRegex(BadInput, "steadied once"):
            read_shot(record)

    def test_hashes_change_with_what_is_seen(self) -> None:
        bare, held = self.shot(), self.shot(plate=[steady()])
        trimmed = lambda s: s.model_copy(update={"footage": s.footage.model_copy(update={"in_frame": 2})})  # noqa: E731
        self.assertEqual(picture_hash(bare), picture_hash(trimmed(bare)))
        self.assertNotEqual(picture_hash(held), picture_hash(trimmed(held)))
        self.assertNotEqual(picture_hash(bare), picture_hash(held))
        self.assertEqual(plate_hash(bare), CLIP)
        layer = StillLayer(id="l", name="l", asset="d" * 64, width=10, height=10)
        self.assertEqual(plate_hash(held), plate_hash(held.model_copy(update={"stack": [layer]})))
        off = self.shot(plate=[steady(shown=False)])
        self.assertEqual(plate_hash(off), CLIP)


class CommandLine(unittest.TestCase):
    def test_a_clip_is_locked_without_a_server(self) -> None:
        picture, n = big_picture(), 12
        moves = wandering(n, px=4)
        frames = [cv2.warpPerspective(picture, m @ translation(-160, -120), SIZE, flags=cv2.INTER_CUBIC) for m in moves]
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            clip = write(folder / "clip.mp4", frames, crf=6)
            (folder / "plane.json").write_text(write_plane(tracked(moves)))
            run = ["steady", str(clip), "--plane", str(folder / "plane.json"), "--out", str(folder / "out.mp4")]
            self.assertEqual(main(run), 0)
            out = open_clip(folder / "out.mp4")
            self.assertEqual((out.info.frames, out.info.size), (n, SIZE))
            first, inner = out.luma(0).astype(np.float32), (slice(40, -40), slice(60, -60))
            for i in range(1, n):
                shift, _ = cv2.phaseCorrelate(first[inner], out.luma(i).astype(np.float32)[inner])
                self.assertLess(float(np.hypot(*shift)), 0.15)
            self.assertEqual(main([*run[:-1], str(folder / "zoom.mp4"), "--fit", "zoom", "--mode", "smooth"]), 0)
            self.assertEqual(main(["steady", str(clip), "--plane", str(folder / "missing.json"), "--out", "x.mp4"]), 1)
