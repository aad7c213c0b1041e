"""Mending against the clean truth: borrowed, filled from edges, with the light kept and the grain put back."""

from __future__ import annotations

import tempfile
import unittest
from fractions import Fraction
from functools import cache
from pathlib import Path

import cv2
import numpy as np

from plonket.base.conventions import F64, U8
from plonket.base.errors import BadInput
from plonket.base.outlines import polygon_outline
from plonket.cli.main import main
from plonket.document.hashes import plate_hash
from plonket.document.shot import read_shot
from plonket.image.membrane import stretch
from plonket.masks.outlined import OutlineMask
from plonket.media import open_clip
from plonket.media.write import Coding, VideoWriter
from plonket.plate.mend import Mend
from plonket.plate.repair.agreed import Donor, laid_together, unsettled
from plonket.plate.repair.borrow import Borrower
from plonket.plate.repair.edges import fill_edges
from plonket.plate.repair.fill import fill_clip
from plonket.plate.repair.filled import Filled
from plonket.plate.repair.grain import Grain, make, measure
from plonket.plate.repair.holes import holes_of
from plonket.plate.repair.patches import Patch, filled_softly, mended
from plonket.render.frame import render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from synth.phone.quickset import QuickShot, chart_shot, quad
from synth.phone.sensor import Sensor
from tests.core.photos import photo
from tests.core.test_steady import shot_with, steady, tracked, whole_plane, write

FRAMES = 24
SPEED = 0.9


def card(t: float) -> F64:
    """A dark card that passes before the chart."""
    return quad((-0.35 + SPEED * t, 0.02, 0.12), 0.13, 0.2)


def light(t: float) -> float:
    return 0.8 + 0.5 * t


@cache
def shots() -> tuple[QuickShot, QuickShot, list[U8]]:
    """With the card, the clean truth without it, and the card's mattes."""
    filmed = chart_shot(frames=FRAMES, hand=card, light=light)
    truth = chart_shot(frames=FRAMES, light=light, sensor=Sensor(shot=0.0, read=0.0))
    mattes = []
    for t in filmed.times:
        outline = np.array([filmed.camera.project(float(t), c[None])[0] for c in card(float(t))]).reshape(4, 2)
        matte = np.zeros((360, 640), np.uint8)
        cv2.fillPoly(matte, [np.round((outline - 0.5) * 16).astype(np.int32)], 255, cv2.LINE_AA, 4)
        mattes.append(matte)
    return filmed, truth, mattes


def psnr(found: U8, true: U8, where: np.ndarray) -> float:
    off = found[where].astype(float) - true[where].astype(float)
    return float(20 * np.log10(255 / np.sqrt((off**2).mean())))


def luma_of(rgb: U8) -> U8:
    return np.asarray(cv2.cvtColor(rgb, cv2.COLOR_RGB2GRAY), np.uint8)


class Borrowed(unittest.TestCase):
    def test_a_passing_card_is_taken_out_far_better_than_by_inpainting(self) -> None:
        filmed, truth, mattes = shots()
        lumas = [luma_of(f) for f in filmed.frames]
        borrower = Borrower(lambda i: filmed.frames[i], lambda i: lumas[i], lambda i: mattes[i], FRAMES)
        ours, plain, flickers = [], [], []
        for i in (4, 10, 11, 17):
            hole = mattes[i] > 60
            mended = borrower.mend(i)
            self.assertEqual(int((mended.unseen & hole).sum()), 0)
            np.testing.assert_array_equal(mended.rgb[cv2.dilate(mattes[i], np.ones((15, 15))) == 0],
                                          filmed.frames[i][cv2.dilate(mattes[i], np.ones((15, 15))) == 0])  # fmt: skip
            ours.append(psnr(mended.rgb, truth.frames[i], hole))
            dilated = cv2.dilate(mattes[i], np.ones((5, 5), np.uint8))
            plain.append(psnr(cv2.inpaint(filmed.frames[i], dilated, 5, cv2.INPAINT_TELEA), truth.frames[i], hole))
            flickers.append(float((mended.rgb[hole].astype(float) - truth.frames[i][hole]).mean()))
        self.assertGreater(min(np.array(ours) - np.array(plain)), 6.0, (ours, plain))
        self.assertGreater(min(ours), 28.0, ours)
        # The light changes by half over the shot; what was borrowed goes along.
        self.assertLess(max(abs(f) for f in flickers), 1.5, flickers)

    def test_grain_goes_on_through_what_was_borrowed(self) -> None:
        filmed, truth, mattes = shots()
        borrower = Borrower(lambda i: filmed.frames[i], lambda i: luma_of(filmed.frames[i]), lambda i: mattes[i], FRAMES)
        inner = cv2.erode(mattes[10], np.ones((9, 9), np.uint8)) > 200
        noise = (filmed.frames[10].astype(float) - truth.frames[10])[cv2.dilate(mattes[10], np.ones((41, 41))) == 0]
        left = (borrower.mend(10).rgb.astype(float) - truth.frames[10])[inner]
        self.assertTrue(0.75 < left.std() / noise.std() < 1.35, (left.std(), noise.std()))

    def test_what_no_frame_shows_is_told_and_filled_from_its_edges(self) -> None:
        """A hole in the same place of every frame of a clip that does not move."""
        rng = np.random.default_rng(2)
        still = cv2.GaussianBlur(rng.uniform(0, 255, (120, 160, 3)), (0, 0), 3)
        still = np.clip((still - 127) * 4 + 120, 20, 235)
        frames = [np.clip(still + rng.normal(0, 2, still.shape), 0, 255).astype(np.uint8) for _ in range(5)]
        matte = np.zeros((120, 160), np.uint8)
        matte[50:70, 70:95] = 255
        mended = Borrower(lambda i: frames[i], lambda i: luma_of(frames[i]), lambda _: matte, 5).mend(2)
        self.assertTrue(mended.unseen[55:65, 75:90].all())
        self.assertFalse(mended.unseen[:30].any())
        self.assertLess(abs(float(mended.rgb[55:65, 75:90].mean() - still[45:75, 65:100].mean())), 40)
        told = Filled()
        told.count(matte > 60, mended)
        self.assertIn("hides the same place in all frames", told.says())

    def test_on_calm_ground_the_whole_picture_s_movement_finds_it_and_that_is_told(self) -> None:
        wall = photo("brick.png", (400, 260))
        wall[90:] = 118
        clean = [np.ascontiguousarray(wall[20 + k : 200 + k, 20 + 2 * k : 340 + 2 * k]) for k in range(8)]
        frames, mattes = [one.copy() for one in clean], [np.zeros((180, 320), np.uint8) for _ in clean]
        for k, (frame, matte) in enumerate(zip(frames, mattes, strict=True)):
            cv2.circle(frame, (60 + 24 * k, 145), 7, (20, 30, 40), -1)
            cv2.circle(matte, (60 + 24 * k, 145), 9, 255, -1)
        mended = Borrower(lambda i: frames[i], lambda i: luma_of(frames[i]), lambda i: mattes[i], 8).mend(4)
        hole = mattes[4] > 60
        self.assertLess(float(np.abs(mended.rgb.astype(int) - clean[4])[hole].max()), 3)
        self.assertGreater(float(mended.by_whole[hole].mean()), 0.95)

    def test_words_say_which_way_was_used(self) -> None:
        self.assertEqual(Filled().says(), "")
        self.assertEqual(Filled(1000).says(), "All of it was borrowed from other frames.")
        self.assertIn("Measure the depth", Filled(1000).says(deeper=True))
        some = Filled.sum([Filled(600, 30, 0), Filled(400, 10, 250)])
        self.assertEqual(some.says(), (
            "96 % of it was borrowed from other frames, 4.0 % is seen in none and was made up from its edges; 25 % was found by "
            "how the whole picture moves, for too little is seen round it."
        ))  # fmt: skip


class Crowded(unittest.TestCase):
    """Two figures on calm ground before a camera that shakes a little; one of them is taken out."""

    def takes(self) -> tuple[list[U8], list[U8], list[U8]]:
        rng = np.random.default_rng(8)
        wall = photo("brick.png", (760, 480))
        wall[220:] = np.clip(np.array([118, 112, 106]) + 5 * rng.standard_normal((260, 760, 3)), 0, 255)
        frames, clean, mattes = [], [], []
        for k in range(24):
            lies = np.array([[1, 0, -50 + 3 * np.sin(k)], [0, 1, -50 + 2 * np.cos(1.3 * k)]])
            behind = cv2.warpAffine(wall, lies, (640, 360), flags=cv2.INTER_CUBIC)
            # The other one crosses, in front of where the first one stood, or will stand.
            cv2.ellipse(behind, (80 + 22 * k, 240), (16, 50), 0, 0, 360, (30, 46, 90), -1, cv2.LINE_AA)
            full, matte = behind.copy(), np.zeros((360, 640), np.uint8)
            at = (430 - 11 * k, 255)
            cv2.ellipse(full, at, (18, 56), 0, 0, 360, (24, 22, 20), -1, cv2.LINE_AA)
            cv2.ellipse(matte, at, (20, 58), 0, 0, 360, 255, -1, cv2.LINE_AA)
            grain = 1.5 * rng.standard_normal(full.shape)
            frames.append(np.clip(full + grain, 0, 255).astype(np.uint8))
            clean.append(behind)
            mattes.append(matte)
        return frames, clean, mattes

    def test_what_passes_by_in_other_frames_is_not_borrowed_with_them(self) -> None:
        frames, clean, mattes = self.takes()
        lumas = [luma_of(f) for f in frames]
        borrower = Borrower(lambda i: frames[i], lambda i: lumas[i], lambda i: mattes[i], len(frames))
        for i in (3, 7, 16, 21):
            found = borrower.mend(i)
            hole = mattes[i] > 127
            other = np.abs(clean[i].astype(int) - [30, 46, 90]).max(axis=2) < 40
            # Where the other one stands behind the first, no frame shows it at that moment.
            shown = hole & (cv2.dilate(other.astype(np.uint8), np.ones((21, 21), np.uint8)) == 0)
            off = np.abs(found.rgb.astype(float) - clean[i])[shown].max(axis=1)
            self.assertLess(float(off.mean()), 4.0, i)
            self.assertLess(float(np.percentile(off, 99)), 14.0, i)

    def test_where_all_disagree_the_nearest_is_taken(self) -> None:
        own = np.full((20, 30, 3), 0.2, np.float32)
        mask = np.zeros((20, 30), bool)
        mask[5:15, 5:25] = True
        every = np.ones_like(mask)
        near, far = (Donor(light=np.full_like(own, v), usable=every) for v in (0.1, 0.9))
        self.assertTrue(unsettled([near], mask).any())
        self.assertTrue(unsettled([near, far], mask).any())
        filled, missing = laid_together([near, far], own, mask)
        self.assertFalse(missing.any())
        np.testing.assert_allclose(filled[8:12, 10:20], 0.1)
        # A third one decides.
        filled, _ = laid_together([near, far, Donor(light=np.full_like(own, 0.88), usable=every)], own, mask)
        np.testing.assert_allclose(filled[8:12, 10:20], 0.9, atol=0.001)
        none = Donor(light=own, usable=np.zeros_like(mask))
        self.assertTrue(laid_together([none], own, mask)[1][mask].all())


class FromEdges(unittest.TestCase):
    def cloth(self, seed: int, gain: float = 1.0) -> tuple[U8, U8, U8]:
        """Uneven green cloth with two tape crosses: filmed, clean, matte."""
        y, x = np.mgrid[0:200, 0:300].astype(float)
        base = np.dstack([40 + 0.08 * x, 120 + 0.12 * x - 0.1 * y + 8 * np.sin(x / 60), 55 + 0.05 * y]) * gain
        rng = np.random.default_rng(seed)
        noise = cv2.GaussianBlur(rng.normal(0, 5, base.shape), (0, 0), 0.6)
        clean = np.clip(base, 0, 255)
        filmed = np.clip(base + noise, 0, 255).astype(np.uint8)
        matte = np.zeros((200, 300), np.uint8)
        for cx, cy in ((80, 60), (210, 120)):
            for dx, dy in ((1, 1), (1, -1)):
                cv2.line(matte, (cx - 14 * dx, cy - 14 * dy), (cx + 14 * dx, cy + 14 * dy), 255, 9, cv2.LINE_AA)
        filmed[matte > 60] = (225, 222, 205)
        return filmed, clean.astype(np.uint8), matte

    def test_better_than_inpainting_and_as_grainy_as_the_rest(self) -> None:
        filmed, clean, matte = self.cloth(1)
        out = fill_edges(filmed, matte, frame=0)
        hole = matte > 60
        # Grain is put back on purpose: what lies below it is compared with the truth.
        plain = cv2.inpaint(filmed, cv2.dilate(matte, np.ones((5, 5), np.uint8)), 5, cv2.INPAINT_TELEA)
        ours, theirs = psnr(fill_edges(filmed, matte, frame=0, grain=False), clean, hole), psnr(plain, clean, hole)
        self.assertGreater(ours, theirs + 3, (ours, theirs))
        rough = lambda v: (v.astype(np.float32) - cv2.GaussianBlur(v.astype(np.float32), (0, 0), 1.6))  # noqa: E731
        away = cv2.dilate(matte, np.ones((25, 25), np.uint8)) == 0
        inside, outside = rough(out)[hole].std(axis=0), rough(filmed)[away].std(axis=0)
        np.testing.assert_allclose(inside / outside, 1, atol=0.1)

    def test_each_hole_takes_its_own_light_in_every_frame(self) -> None:
        for gain in (0.6, 1.0, 1.3):
            filmed, clean, matte = self.cloth(3, gain)
            out = fill_edges(filmed, matte, frame=4)
            for box in ((slice(45, 75), slice(65, 95)), (slice(105, 135), slice(195, 225))):
                hole = np.zeros(matte.shape, bool)
                hole[box] = matte[box] > 60
                self.assertLess(np.abs(out[hole].mean(axis=0) - clean[hole].mean(axis=0)).max(), 1.2, gain)
        self.assertEqual(len(holes_of(matte)), 2)
        again = fill_edges(filmed, matte, frame=4)
        np.testing.assert_array_equal(out, again)
        other = fill_edges(filmed, matte, frame=5)
        self.assertGreater(float(np.abs(out.astype(float) - other)[matte > 60].mean()), 0.3)

    def test_the_membrane_is_exact_on_a_plane_and_meets_its_rim(self) -> None:
        y, x = np.mgrid[0:160, 0:200].astype(np.float32)
        plane = np.dstack([x * 0.5, y * 0.25 + 3]).astype(np.float32)
        for radius, tolerance in ((20, 1e-3), (60, 0.5)):
            hole = np.hypot(x - 100, y - 80) < radius
            torn = plane.copy()
            torn[hole] = 1e4
            np.testing.assert_allclose(stretch(torn, hole)[hole], plane[hole], atol=tolerance)
        edge = np.zeros((160, 200), bool)
        edge[:, :40] = True  # a hole that runs out of the picture ends free
        self.assertTrue(np.isfinite(stretch(plane, edge)).all())


class Grains(unittest.TestCase):
    def test_what_is_made_measures_like_what_was_measured(self) -> None:
        rng = np.random.default_rng(1)
        for sigma, soft in ((3.0, 0.4), (5.0, 0.8)):
            noise = cv2.GaussianBlur(rng.normal(0, 1, (200, 200, 3)), (0, 0), soft)
            picture = np.clip(120 + noise / noise.std() * sigma, 0, 255).astype(np.uint8)
            first = measure(picture, np.ones((200, 200), bool))
            made = np.clip(120.5 + make((200, 200), first, rng), 0, 255).astype(np.uint8)
            again = measure(made, np.ones((200, 200), bool))
            np.testing.assert_allclose(again.strength / first.strength, 1, atol=0.1)
            self.assertAlmostEqual(again.softness_px, first.softness_px, delta=0.12)
        self.assertEqual(float(make((20, 20), Grain(strength=np.zeros(3), softness_px=0.5), rng).std()), 0)


class CommandLine(unittest.TestCase):
    def test_fill_writes_a_mended_clip_and_refuses_a_matte_of_another_length(self) -> None:
        filmed, truth, mattes = shots()
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for what, frames in (("clip", filmed.frames), ("matte", [np.dstack([m] * 3) for m in mattes])):
                with VideoWriter(folder / f"{what}.mp4", (640, 360), Fraction(30), coding=Coding(crf=8)) as out:
                    for picture in frames:
                        out.write(picture)
            run = ["fill", str(folder / "clip.mp4"), "--matte", str(folder / "matte.mp4"), "--range", "9:12"]
            for method, least in (("time", 26.0), ("edges", 12.0), ("texture", 10.0)):
                target = folder / method
                self.assertEqual(main([*run, "--method", method, "--out", str(target)]), 0)
                found = sorted(target.glob("*.png"))
                self.assertEqual(len(found), 3)
                for k, path in enumerate(found):
                    picture = cv2.imread(str(path))
                    assert picture is not None
                    where = mattes[9 + k] > 60
                    self.assertGreater(psnr(picture[..., ::-1], truth.frames[9 + k], where), least)  # type: ignore[arg-type]
            short = open_clip(folder / "time")
            with self.assertRaisesRegex(BadInput, "3 frames"):
                next(iter(fill_clip(open_clip(folder / "clip.mp4"), short, method="edges")))


class OnThePlate(unittest.TestCase):
    """Mends as part of a shot: where they lie, that they ride, and that a steadied plate shows them mended."""

    def test_a_mend_rides_on_its_motion_and_leaves_the_rest_alone(self) -> None:
        n, size = 12, (320, 180)
        cloth = np.full((180, 320, 3), (60, 150, 70), np.uint8)
        moves = np.stack([np.array([[1, 0, 3.0 * i], [0, 1, -1.5 * i], [0, 0, 1.0]]) for i in range(n)])
        frames = []
        for m in moves:
            picture = cloth.copy()
            x, y = round(100 + m[0, 2]), round(90 + m[1, 2])
            cv2.rectangle(picture, (x - 8, y - 8), (x + 8, y + 8), (230, 225, 210), -1)
            frames.append(picture)
        box = np.array([[88.0, 78], [113, 78], [113, 103], [88, 103]])
        mask = OutlineMask(id="mask", name="Mask", rides="to:plane", outline=polygon_outline(box))
        mend = Mend(id="mend", name="Mend", method="edges", masks=[mask], rim=1)
        with tempfile.TemporaryDirectory() as name:
            path = write(Path(name) / "c.mp4", frames, crf=2)
            pool = MediaPool(lambda _: path, lambda _: tracked(moves))
            self.addCleanup(pool.close)
            for plate in ([mend], [steady(fit="fill"), mend]):
                shot = shot_with(whole_plane(size), n, size, plate=plate)
                sources = ShotSources(shot, pool)
                for i in (0, 5, 11):
                    out = render_frame(shot, sources, i).astype(int)
                    self.assertLess(int((np.abs(out - (60, 150, 70)).max(axis=2) > 25).sum()), 12, (len(plate), i))
            # Turned off, or riding on nothing, the square is there again.
            off = shot_with(whole_plane(size), n, size, plate=[mend.model_copy(update={"shown": False})])
            loose = shot_with(whole_plane(size), n, size, plate=[mend.model_copy(update={
                "masks": [mask.model_copy(update={"rides": "footage"})]})])  # fmt: skip
            for shot in (off, loose):
                out = render_frame(shot, ShotSources(shot, pool), 11).astype(int)
                self.assertGreater(int((np.abs(out - (60, 150, 70)).max(axis=2) > 25).sum()), 150)
            self.assertNotEqual(plate_hash(shot_with(whole_plane(size), n, size, plate=[mend])), plate_hash(off))

    def test_borrowed_and_edge_mends_side_by_side(self) -> None:
        """A borrowed mend never takes what another mend covers."""
        filmed, truth, mattes = shots()
        card_patch = Patch(cover=lambda i: (mattes[i] / 255).astype(np.float32), rim_px=2, fill=None)
        tape = np.zeros((360, 640), np.uint8)
        tape[40:60, 40:60] = 255
        other = Patch(
            cover=lambda _: (tape / 255).astype(np.float32), rim_px=1,
            fill=lambda rgb, frame, cover: filled_softly(rgb, cover, 1, lambda matte: fill_edges(rgb, matte, frame=frame)),
        )  # fmt: skip
        out = mended(10, [other, card_patch], lambda i: filmed.frames[i], lambda i: luma_of(filmed.frames[i]), FRAMES)
        hole = mattes[10] > 60
        self.assertGreater(psnr(out, truth.frames[10], hole), 30)
        self.assertGreater(float(np.abs(out.astype(int) - filmed.frames[10])[45:55, 45:55].mean()), 0.5)
        far = (cv2.dilate(mattes[10], np.ones((25, 25))) == 0) & (cv2.dilate(tape, np.ones((9, 9))) == 0)
        np.testing.assert_array_equal(out[far], filmed.frames[10][far])

    def test_a_mend_must_ride_on_something_that_is_there(self) -> None:
        outline = polygon_outline(np.array([[1.0, 1], [9, 1], [9, 9]]))
        mask = OutlineMask(id="mask", name="Cross", rides="to:plane", outline=outline)
        mend = Mend(id="mend", name="Crosses", masks=[mask])
        record = shot_with(whole_plane(), 5, plate=[mend]).model_dump(mode="json")
        self.assertEqual(read_shot(record).plate[0], mend)
        record["plate"][0]["masks"][0]["rides"] = "to:nowhere"
        with self.assertRaisesRegex(BadInput, "Cross of Crosses follows something that is not in the shot"):
            read_shot(record)
        record["plate"][0]["masks"][0]["rides"] = "own"
        with self.assertRaisesRegex(BadInput, "rides on the footage, the screen or a motion"):
            read_shot(record)

    def test_a_document_with_a_single_outline_is_read(self) -> None:
        record = shot_with(whole_plane(), 5).model_dump(mode="json")
        outline = polygon_outline(np.array([[1.0, 1], [9, 1], [9, 9]]), 3).model_dump(mode="json")
        record["plate"] = [{"kind": "mend", "id": "m", "name": "Old", "target": "plane", "reference_frame": 3, "outline": outline}]
        mend = read_shot(record).plate[0]
        assert isinstance(mend, Mend)
        self.assertEqual((mend.masks[0].rides, mend.masks[0].reference_frame, len(mend.masks)), ("to:plane", 3, 1))
