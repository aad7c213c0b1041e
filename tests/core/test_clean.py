"""Clean frames, the paint desk, texture fill and straight edge fills, against the clean truth."""

from __future__ import annotations

import tempfile
import unittest
from functools import cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from plonket.base.colour import decode, encode_8bit, linear_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput
from plonket.base.outlines import polygon_outline
from plonket.document.hashes import plate_hash
from plonket.document.shot import read_shot
from plonket.masks.outlined import OutlineMask
from plonket.plate.clean import Clean, CleanFrame, Stroke
from plonket.plate.repair.borrow import Borrower
from plonket.plate.repair.clean_plate import Levels, degrained, shares
from plonket.plate.repair.continued import Continued
from plonket.plate.repair.edges import fill_edges
from plonket.plate.repair.paint import painted
from plonket.plate.repair.texture import fill_texture
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from plonket.track.plane.correct import quad_homography
from synth.phone.quickset import QuickShot, chart_shot, quad
from synth.phone.sensor import Sensor
from tests.core.test_mend import luma_of, psnr
from tests.core.test_steady import CLIP, shot_with, tracked, whole_plane, write

FRAMES = 16
SIZE = (640, 360)
PAINTED = "b" * 64
STICKER = quad((-0.08, 0.03, 0.0008), 0.13, 0.11)


def light(t: float) -> float:
    return 0.75 + 0.9 * t


@cache
def filmed() -> tuple[QuickShot, QuickShot, F64]:
    """The chart with a sticker on it, the same without, and the chart's true movement from frame 0."""
    dirty = chart_shot(frames=FRAMES, hand=lambda _: STICKER, light=light)
    clean = chart_shot(frames=FRAMES, light=light, sensor=Sensor(shot=0.0, read=0.0))
    corners = np.stack([clean.on_chart(u, v) for u, v in ((0, 0), (1, 0), (1, 1), (0, 1))], axis=1)
    moves = [quad_homography(corners[0], c) for c in corners]
    assert all(m is not None for m in moves)
    return dirty, clean, np.array(moves)


def sticker_at(i: int) -> F64:
    dirty, _, _ = filmed()
    return np.array([dirty.camera.project(float(dirty.times[i]), c[None])[0] for c in STICKER]).reshape(4, 2)


def hole(i: int) -> np.ndarray:
    out = np.zeros(SIZE[::-1], np.uint8)
    cv2.fillPoly(out, [np.round(sticker_at(i) * 16).astype(np.int32)], 255, cv2.LINE_8, 4)
    return out > 0


def clean_of(frames: list[CleanFrame] | None = None, **more: Any) -> Clean:
    corners = sticker_at(0)
    wider = corners + np.sign(corners - corners.mean(axis=0)) * 4
    mask = OutlineMask(id="mask", name="Mask", rides="to:plane", outline=polygon_outline(wider), soft=4.0)
    return Clean(id="clean", name="Clean", target="plane", masks=[mask], frames=frames or [CleanFrame(frame=0)], **more)


class Carried(unittest.TestCase):
    """A clean frame rides on its motion, takes each frame's light and has grain of its own."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        dirty, truth, moves = filmed()
        self.dirty, self.truth = dirty, truth
        clip, png = write(Path(folder.name) / "c.mp4", dirty.frames, crf=4), Path(folder.name) / "painted.png"
        cv2.imwrite(str(png), truth.frames[0][..., ::-1])
        self.later = Path(folder.name) / "later.png"
        self.files = {CLIP: clip, PAINTED: png}
        self.pool = MediaPool(lambda digest: self.files[digest], lambda _: tracked(moves))
        self.addCleanup(self.pool.close)

    def plate(self, clean: Clean, frame: int) -> U8:
        return ShotSources(shot_with(whole_plane(SIZE), FRAMES, SIZE, plate=[clean]), self.pool).plate(CLIP, frame)

    def test_a_painted_frame_is_carried_within_the_clips_own_noise(self) -> None:
        clean = clean_of([CleanFrame(frame=0, picture=PAINTED)])
        quiet = clean.model_copy(update={"grain": False})
        found, inpainted, means = [], [], []
        for i in (2, 5, 10, 15):
            where = cv2.erode(hole(i).astype(np.uint8), np.ones((5, 5))) > 0
            out = self.plate(quiet, i)
            found.append(psnr(out, self.truth.frames[i], where))
            matte = cv2.dilate(hole(i).astype(np.uint8) * 255, np.ones((5, 5), np.uint8))
            inpainted.append(psnr(cv2.inpaint(self.dirty.frames[i], matte, 5, cv2.INPAINT_TELEA), self.truth.frames[i], where))
            means.append(float((out[where].astype(float) - self.truth.frames[i][where]).mean()))
            far = cv2.dilate(hole(i).astype(np.uint8), np.ones((41, 41))) == 0
            untouched = self.pool.clip(CLIP).rgb(i)
            np.testing.assert_array_equal(out[far], untouched[far])
        self.assertGreater(min(found), 33.0, found)
        self.assertGreater(min(np.array(found) - inpainted), 6.0, (found, inpainted))
        # The light grows by more than half; what flickers between frames is under half a code.
        self.assertLess(float(np.std(means)), 0.5, means)
        self.assertLess(max(abs(m) for m in means), 1.2, means)

    def test_light_is_only_followed_when_asked_for(self) -> None:
        where = cv2.erode(hole(15).astype(np.uint8), np.ones((5, 5))) > 0
        off = {}
        for how in ("none", "even", "rim"):
            clean = clean_of([CleanFrame(frame=0, picture=PAINTED)], light=how, grain=False)
            out = self.plate(clean, 15)
            off[how] = abs(float((out[where].astype(float) - self.truth.frames[15][where]).mean()))
        self.assertGreater(off["none"], 12.0, off)
        self.assertLess(off["even"], 2.0, off)
        self.assertLess(off["rim"], 1.2, off)

    def test_grain_is_as_strong_as_round_it_and_changes_every_frame(self) -> None:
        clean = clean_of([CleanFrame(frame=0, picture=PAINTED)])
        quiet = clean.model_copy(update={"grain": False})
        inner = {i: cv2.erode(hole(i).astype(np.uint8), np.ones((7, 7))) > 0 for i in (4, 5)}
        noise = {i: self.plate(clean, i).astype(float) - self.plate(quiet, i) for i in (4, 5)}
        luma = np.array([0.299, 0.587, 0.114])
        far, near = (cv2.dilate(hole(4).astype(np.uint8), np.ones((n, n))) > 0 for n in (41, 11))
        ours = float((noise[4][inner[4]] @ luma).std())
        theirs = float(((self.pool.clip(CLIP).rgb(4).astype(float) - self.truth.frames[4])[far & ~near] @ luma).std())
        self.assertTrue(0.9 < ours / theirs < 1.1, (ours, theirs))
        both = inner[4] & inner[5]
        self.assertLess(abs(float(np.corrcoef(noise[4][both].ravel(), noise[5][both].ravel())[0, 1])), 0.1)
        np.testing.assert_array_equal(self.plate(clean, 4), self.plate(clean, 4))

    def test_averaging_takes_the_grain_off_and_keeps_what_is_there(self) -> None:
        _, truth, moves = filmed()
        path = moves @ np.linalg.inv(moves[8])
        out, weight = degrained(lambda i: self.dirty.frames[i], 8, lambda i: path[i], FRAMES)
        where = np.zeros(SIZE[::-1], bool)
        where[120:240, 220:420] = True
        where &= ~hole(8)
        before = (self.dirty.frames[8].astype(float) - truth.frames[8])[where].std()
        after = (out.astype(float) - truth.frames[8])[where].std()
        self.assertLess(after / before, 0.75, (after, before))
        self.assertGreater(float(np.median(weight[where])), 4)

    def test_two_clean_frames_fade_into_each_other(self) -> None:
        np.testing.assert_allclose(shares(0, [4, 10], 1.0), [1, 0])
        np.testing.assert_allclose(shares(7, [4, 10], 1.0), [0.5, 0.5])
        np.testing.assert_allclose(shares(99, [4, 10], 1.0), [0, 1])
        np.testing.assert_allclose(shares(5, [4, 10], 0.2), [1, 0])
        for f in np.linspace(0, 20, 41):
            self.assertAlmostEqual(float(shares(f, [3, 9, 15], 0.6).sum()), 1.0)
        blue = np.zeros((360, 640, 3), np.uint8)
        blue[...] = (30, 40, 200)
        cv2.imwrite(str(self.later), blue[..., ::-1])
        self.files["d" * 64] = self.later
        frames = [CleanFrame(frame=0, picture=PAINTED), CleanFrame(frame=10, picture="d" * 64)]
        clean = clean_of(frames, light="none", grain=False)
        blues = []
        for i in (0, 3, 5, 7, 10):
            cx, cy = (int(v) for v in sticker_at(i).mean(axis=0))
            blues.append(float(self.plate(clean, i)[cy, cx, 2]) - float(self.plate(clean, i)[cy, cx, 0]))
        self.assertEqual(blues, sorted(blues))
        self.assertGreater(blues[-1], 150)

    def test_what_is_lined_up_by_hand_moves_and_levels_change_light_as_they_say(self) -> None:
        clean = clean_of([CleanFrame(frame=0, picture=PAINTED)], grain=False, light="none")
        base = self.plate(clean, 0).astype(float)
        moved = self.plate(clean.model_copy(update={"shift_x": 3.0}), 0).astype(float)
        inner = cv2.erode(hole(0).astype(np.uint8), np.ones((13, 13))) > 0
        back = np.roll(moved, -3, axis=1)
        self.assertLess(float(np.abs(back - base)[inner].mean()), 0.6)
        self.assertGreater(float(np.abs(moved - base)[inner].mean()), 1.0)
        bright = self.plate(clean.model_copy(update={"gain": 50.0}), 0)
        ratio = linear_from_codes(bright)[inner].mean() / linear_from_codes(base.astype(np.uint8))[inner].mean()
        self.assertAlmostEqual(float(ratio), 0.5, delta=0.02)
        flat = np.full((1, 1, 3), 0.2, np.float32)
        self.assertAlmostEqual(float(Levels(lift=0.1).of(flat * 0)[0, 0, 0]), float(decode(np.array(0.1))), places=5)
        self.assertGreater(Levels(warm=0.5).of(flat)[0, 0, 0], Levels(warm=0.5).of(flat)[0, 0, 2])

    def test_a_frame_as_it_is_freezes_a_part(self) -> None:
        """Without strokes, what the masks cover stands still on its motion: here the sticker, seen as in frame 0."""
        clean = clean_of(grain=False, light="none")
        out = self.plate(clean, 15)
        where = cv2.erode(hole(15).astype(np.uint8), np.ones((9, 9))) > 0
        dark = float(self.dirty.frames[0][cv2.erode(hole(0).astype(np.uint8), np.ones((9, 9))) > 0].mean())
        self.assertAlmostEqual(float(out[where].mean()), dark, delta=1.5)
        self.assertGreater(abs(float(self.dirty.frames[15][hole(15)].mean()) - dark), 4)

    def test_a_suggested_fill_goes_on_from_round_it_and_is_the_same_in_every_frame(self) -> None:
        clean = clean_of([CleanFrame(frame=0, suggest=True)], grain=False)
        for i in (0, 15):
            where = cv2.erode(hole(i).astype(np.uint8), np.ones((5, 5))) > 0
            out = self.plate(clean, i).astype(float)
            ours, true = out[where].mean(axis=0), self.truth.frames[i][where].mean(axis=0)
            self.assertLess(float(np.abs(ours - true).max()), 30, (ours, true))
            self.assertGreater(float(np.abs(out - self.dirty.frames[i])[where].mean()), 20)

    def test_a_painted_picture_of_another_size_is_refused_and_hashes_tell_strokes_apart(self) -> None:
        cv2.imwrite(str(self.files[PAINTED]), np.zeros((20, 30, 3), np.uint8))
        with self.assertRaisesRegex(BadInput, "30 x 20 pixels, the clip 640 x 360"):
            self.plate(clean_of([CleanFrame(frame=0, picture=PAINTED)]), 0)
        plain = shot_with(whole_plane(SIZE), FRAMES, SIZE, plate=[clean_of()])
        stroke = Stroke(tool="paint", path=[(5, 5)])
        drawn = shot_with(whole_plane(SIZE), FRAMES, SIZE, plate=[clean_of([CleanFrame(frame=0, strokes=[stroke])])])
        self.assertNotEqual(plate_hash(plain), plate_hash(drawn))
        record = drawn.model_dump(mode="json")
        record["plate"][0]["frames"][0]["frame"] = 99
        with self.assertRaisesRegex(BadInput, "beyond the clip's end"):
            read_shot(record)

    def test_the_desk_goes_on_from_the_strokes_before(self) -> None:
        strokes = [Stroke(tool="paint", path=[(100, 100), (140, 100)], colour="#ff0000", size=20, hard=100),
                   Stroke(tool="clone", path=[(300, 200)], dx=-200, dy=-100, size=16, hard=100),
                   Stroke(tool="restore", path=[(100, 100)], size=10, hard=100)]  # fmt: skip
        whole = clean_of([CleanFrame(frame=0, strokes=strokes)], grain=False)
        shot = shot_with(whole_plane(SIZE), FRAMES, SIZE, plate=[whole])
        at_once = ShotSources(shot, self.pool).painted("clean", 0)
        stepwise = MediaPool(lambda digest: self.files[digest], lambda _: tracked(filmed()[2]))
        self.addCleanup(stepwise.close)
        for n in range(len(strokes) + 1):
            part = clean_of([CleanFrame(frame=0, strokes=strokes[:n])], grain=False)
            last = ShotSources(shot_with(whole_plane(SIZE), FRAMES, SIZE, plate=[part]), stepwise).painted("clean", 0)
        np.testing.assert_array_equal(at_once, last)
        self.assertTrue((at_once[100, 130] == (255, 0, 0)).all())
        self.assertTrue((at_once[200, 300] == (255, 0, 0)).all(), "cloned from the first stroke")
        np.testing.assert_array_equal(at_once[100, 100], self.pool.clip(CLIP).rgb(0)[100, 100])


class Strokes(unittest.TestCase):
    """Each tool on a picture whose outcome is known."""

    def setUp(self) -> None:
        y, x = np.mgrid[0:90, 0:140].astype(np.float32)
        rng = np.random.default_rng(3)
        self.tile = rng.uniform(0.1, 0.5, (90, 140, 3)).astype(np.float32)
        self.ramp = np.stack([0.1 + 0.004 * x, 0.1 + 0.003 * x + 0.001 * y, 0.2 + 0.002 * y], axis=2)

    def one(self, picture: F32, **stroke: Any) -> F32:
        return painted(picture, [Stroke(**{"path": [(70, 45)], "size": 30, "hard": 100, **stroke})])

    def test_clone_copies_exact_pixels_and_nothing_beyond_the_brush(self) -> None:
        out = self.one(self.tile, tool="clone", dx=-40, dy=10)
        np.testing.assert_allclose(out[45, 70], self.tile[55, 30], atol=1e-6)
        np.testing.assert_allclose(out[38, 78], self.tile[48, 38], atol=1e-6)
        far = np.hypot(*(np.mgrid[0:90, 0:140] + 0.5 - np.array([45, 70])[:, None, None])) > 16
        np.testing.assert_array_equal(out[far], self.tile[far])
        # Beyond the picture there is nothing to take.
        np.testing.assert_array_equal(self.one(self.tile, tool="clone", dx=-400), self.tile)

    def test_heal_brings_structure_and_leaves_the_light_of_the_place(self) -> None:
        spotted = self.ramp.copy()
        spotted[36:54, 62:78] = 0.02
        healed = self.one(spotted, tool="heal", dx=-45, dy=0)
        cloned = self.one(spotted, tool="clone", dx=-45, dy=0)
        where = np.s_[38:52, 64:76]
        self.assertLess(float(np.abs(healed - self.ramp)[where].mean()), 0.01)
        self.assertGreater(float(np.abs(cloned - self.ramp)[where].mean()), 0.08)

    def test_the_soft_brush_fades_and_mixes_in_light(self) -> None:
        out = self.one(np.zeros_like(self.tile), tool="paint", colour="#ffffff", hard=0, size=40)
        row = out[45, 70:92, 0]
        self.assertTrue((np.diff(row) <= 1e-6).all())
        self.assertAlmostEqual(float(row[0]), 1.0, delta=0.02)
        self.assertAlmostEqual(float(row[9]), 0.55, delta=0.06)
        self.assertLess(float(row[20]), 0.01)
        half = self.one(np.zeros_like(self.tile), tool="paint", colour="#ffffff", flow=50)
        self.assertEqual(int(encode_8bit(half)[45, 70, 0]), 188)

    def test_suggest_fills_a_stripe_pattern_so_that_stripes_go_on(self) -> None:
        y, _ = np.mgrid[0:120, 0:160]
        stripes = np.where((y // 6) % 2 == 0, 190.0, 60.0)[..., None] + np.zeros((1, 1, 3))
        rng = np.random.default_rng(1)
        picture = (stripes + rng.normal(0, 3, stripes.shape)).astype(np.float32)
        gap = np.zeros((120, 160), bool)
        gap[44:76, 60:100] = True
        spoiled = picture.copy()
        spoiled[gap] = 20
        out = fill_texture(spoiled, gap)
        np.testing.assert_array_equal(out[~gap], picture[~gap])
        error = float(np.abs(out - stripes)[gap].mean())
        plain = cv2.inpaint(np.clip(spoiled, 0, 255).astype(np.uint8), gap.astype(np.uint8), 5, cv2.INPAINT_TELEA)
        self.assertLess(error, 8, error)
        self.assertLess(error, 0.5 * float(np.abs(plain - stripes)[gap].mean()))
        self.assertTrue((fill_texture(spoiled, gap) == out).all(), "the same seed, the same fill")
        self.assertLess(abs(float(out[gap].std()) / float(picture[~gap].std()) - 1), 0.15)

    def test_nothing_to_take_from_is_said(self) -> None:
        with self.assertRaisesRegex(BadInput, "too little round the hole"):
            fill_texture(np.zeros((40, 40, 3), np.float32), np.ones((40, 40), bool))


class StraightFills(unittest.TestCase):
    def test_lines_across_a_hole_go_on_straight(self) -> None:
        """A long hole over stripes that run across it: straight across keeps them, a membrane blurs them."""
        x = np.arange(200)
        stripes = np.where((x // 8) % 2 == 0, 200, 70).astype(np.uint8)
        picture = np.repeat(np.repeat(stripes[None, :, None], 100, axis=0), 3, axis=2)
        matte = np.zeros((100, 200), np.uint8)
        matte[44:58, 30:170] = 255
        spoiled = np.where(matte[..., None] > 0, 10, picture).astype(np.uint8)
        off = {}
        for course in ("round", "across", "along"):
            out = fill_edges(spoiled, matte, frame=0, rim_px=0, grain=False, course=course, reach_px=6)  # type: ignore[arg-type]
            off[course] = float(np.abs(out.astype(float) - picture)[matte > 0].mean())
        self.assertLess(off["across"], 2.0, off)
        self.assertGreater(off["round"], 10.0, off)
        self.assertGreater(off["along"], 20.0, off)

    def test_along_keeps_stripes_that_run_along_and_radial_meets_in_the_middle(self) -> None:
        y = np.arange(100)
        stripes = np.where((y // 5) % 2 == 0, 200, 70).astype(np.uint8)
        picture = np.repeat(np.repeat(stripes[:, None, None], 200, axis=1), 3, axis=2)
        matte = np.zeros((100, 200), np.uint8)
        matte[40:60, 70:130] = 255
        spoiled = np.where(matte[..., None] > 0, 10, picture).astype(np.uint8)
        out = fill_edges(spoiled, matte, frame=0, rim_px=0, grain=False, course="along", reach_px=6)
        self.assertLess(float(np.abs(out.astype(float) - picture)[matte > 0].mean()), 2.0)
        ramp = np.repeat((40 + np.arange(200))[None, :, None], 100, axis=0).repeat(3, axis=2).astype(np.uint8)
        round_hole = np.zeros((100, 200), np.uint8)
        cv2.circle(round_hole, (100, 50), 20, 255, -1)
        gone = np.where(round_hole[..., None] > 0, 0, ramp).astype(np.uint8)
        filled = fill_edges(gone, round_hole, frame=0, rim_px=0, grain=False, course="radial", reach_px=3)
        self.assertLess(float(np.abs(filled.astype(float) - ramp)[round_hole > 0].mean()), 4.0)

    def test_the_band_may_begin_further_out(self) -> None:
        """A bright rim round the hole is passed over."""
        picture = np.full((100, 100, 3), 90, np.uint8)
        cv2.circle(picture, (50, 50), 24, (230, 230, 230), -1)
        matte = np.zeros((100, 100), np.uint8)
        cv2.circle(matte, (50, 50), 18, 255, -1)
        for course in ("round", "across", "radial"):
            near = fill_edges(picture, matte, frame=0, rim_px=0, grain=False, course=course, reach_px=4)  # type: ignore[arg-type]
            far = fill_edges(picture, matte, frame=0, rim_px=0, grain=False, course=course, reach_px=4, offset_px=9)  # type: ignore[arg-type]
            self.assertGreater(float(near[50, 50, 0]), 180, course)
            self.assertAlmostEqual(float(far[50, 50, 0]), 90, delta=6, msg=course)


class TextureOverTime(unittest.TestCase):
    def test_a_clips_hole_is_continued_once_and_carried_along(self) -> None:
        """The sticker on the chart: what is made up must ride on the chart, in its light, and not flicker."""
        dirty, truth, moves = filmed()
        mattes = [(hole(i) * np.uint8(255)).astype(np.uint8) for i in range(FRAMES)]
        lumas = [luma_of(f) for f in dirty.frames]
        borrower = Borrower(lambda i: dirty.frames[i], lambda i: lumas[i], lambda i: mattes[i], FRAMES)
        fill = Continued(lambda i: dirty.frames[i], lambda i: mattes[i], borrower, FRAMES)
        back = [np.linalg.inv(m) for m in moves]
        centre = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1.0]])
        inner = cv2.erode(hole(0).astype(np.uint8), np.ones((7, 7))) > 0
        far, near = (cv2.dilate(hole(0).astype(np.uint8), np.ones((n, n))) > 0 for n in (61, 11))

        def held(seen: U8, i: int) -> F32:
            """Seen from the first frame and in its light: what changes is grain and flicker."""
            still = cv2.warpPerspective(seen, centre @ back[i] @ np.linalg.inv(centre), SIZE, flags=cv2.INTER_CUBIC)
            return np.asarray(cv2.GaussianBlur(linear_from_codes(still) / light(float(dirty.times[i])), (0, 0), 2.0), np.float32)

        ours = np.array([held(fill.mend(i), i) for i in range(FRAMES)])
        flicker = np.std(ours, axis=0).mean(axis=2)
        # No more restless inside than the clip's own grain makes its surroundings.
        inside, outside = float(flicker[inner].mean()), float(flicker[far & ~near].mean())
        self.assertLess(inside, 1.25 * outside, (inside, outside))
        afresh = [fill_texture(dirty.frames[i].astype(np.float32), hole(i), seed=i) for i in range(0, FRAMES, 3)]
        jumps = np.array([held(np.clip(f, 0, 255).astype(np.uint8), 3 * k) for k, f in enumerate(afresh)])
        self.assertGreater(float(np.std(jumps, axis=0).mean(axis=2)[inner].mean()), 2.5 * inside)
        # As rough as what is truly there, not a smear.
        mean, true = ours.mean(axis=0), held(truth.frames[0], 0)
        ratio = float(mean[inner].std(axis=0).mean() / true[inner].std(axis=0).mean())
        self.assertTrue(0.4 < ratio < 1.8, ratio)
