"""Mattes as results: measured from clicks, kept where nothing changed, and taken by masks, keys and motions that look past them."""

from __future__ import annotations

import io
import unittest
import zipfile
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import decode, encode
from plonket.base.conventions import F32, U8
from plonket.base.errors import BadInput, Cancelled, Degenerate, FormatError
from plonket.base.progress import Work
from plonket.base.states import COVERED, GIVEN, LEFT, LOST, NONE, TRACKED
from plonket.document.shot import Footage, Shot, read_shot
from plonket.formats.matte_zip import read_mattes, write_mattes
from plonket.formats.registry import Coming, motion_from_file
from plonket.image.whole_movement import whole_movement
from plonket.keying.common import KeyContext
from plonket.keying.picked import PickedKey
from plonket.keying.picked import run as run_key
from plonket.masks.combine import combined
from plonket.masks.picked import PickedMask
from plonket.matting.cast import cast_shadow, donors_of
from plonket.matting.measure import MattePartial, made_by, measure_matte
from plonket.media import open_clip
from plonket.media.clip import Clip
from plonket.media.write import Coding, VideoWriter
from plonket.render.frame import render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from plonket.track.matte.matte_track import MatteTrack
from plonket.track.matte.settings import MatteMotion, PickClick
from plonket.track.request import MeasureRequest
from plonket.track.stored import read_measured
from tests.core.photos import photo
from tests.core.test_media import InFolder
from tests.core.test_pick import FRAMES, SIZE, deepest, likeness, walk

ASSET, MEASURED = "a" * 64, "b" * 64
WALK = ("brick.png", "coffee.png", 2)


def written(folder: Path, frames: list[U8]) -> Clip:
    path = folder / "clip.mp4"
    with VideoWriter(path, (frames[0].shape[1], frames[0].shape[0]), Fraction(25), coding=Coding(crf=8)) as out:
        for frame in frames:
            out.write(frame)
    return open_clip(path)


def matte(*clicks: PickClick, **more: object) -> MatteMotion:
    return MatteMotion.model_validate({"id": "matte", "name": "Walker", "clicks": clicks, **more})


class Measuring(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.frames, self.truth = walk(*WALK)
        self.clip = written(self.folder, self.frames)

    def click(self, frame: int) -> PickClick:
        x, y = deepest(self.truth[frame])
        return PickClick(frame=frame, x=x, y=y)

    def test_one_click_is_carried_through_the_clip_and_kept(self) -> None:
        heard: list[int] = []
        work = Work(on_partial=lambda one: heard.append(one.frame))
        track = measure_matte(matte(self.click(3)), MeasureRequest(clip=self.clip, work=work))
        self.assertEqual(heard, [*range(3, FRAMES), 2, 1, 0])
        like = []
        for k, truth in enumerate(self.truth):
            alpha = track.alpha(k)
            assert alpha is not None
            like.append(likeness(alpha.astype(np.float32) / 255, truth))
        self.assertGreater(min(like), 0.86, like)
        self.assertGreater(float(np.mean(like)), 0.91, like)
        self.assertEqual([int(s) for s in track.state], [TRACKED] * 3 + [GIVEN] + [TRACKED] * (FRAMES - 4))
        self.assertGreater(float(track.confidence.min()), 0.5, track.confidence)
        again = read_measured(track.to_bytes())
        assert isinstance(again, MatteTrack)
        self.assertEqual(again.to_bytes(), track.to_bytes())
        self.assertEqual(again.pictures, track.pictures)

    def test_a_click_more_does_only_its_own_stretch_again(self) -> None:
        first = matte(self.click(0), self.click(5))
        one = measure_matte(first, MeasureRequest(clip=self.clip))
        again: list[int] = []
        more = matte(self.click(0), self.click(5), self.click(8))
        work = Work(on_partial=lambda part: again.append(part.frame))
        two = measure_matte(more, MeasureRequest(clip=self.clip, previous=one, work=work))
        self.assertEqual(sorted(again), list(range(6, FRAMES)))
        self.assertEqual(two.pictures[:6], one.pictures[:6])
        self.assertEqual(int(two.state[8]), GIVEN)
        nothing: list[int] = []
        same = measure_matte(
            more, MeasureRequest(clip=self.clip, previous=two, work=Work(on_partial=lambda part: nothing.append(part.frame)))
        )
        self.assertEqual(nothing, [])
        self.assertEqual(same.to_bytes(), two.to_bytes())
        self.assertNotEqual(made_by(first, 7), made_by(more, 7))
        # A click that takes away counts for all that is carried past it.
        away = PickClick(frame=2, x=5, y=5, subject=False)
        self.assertNotEqual(made_by(matte(self.click(0), away), 6), made_by(matte(self.click(0)), 6))

    def test_only_the_frames_that_are_asked_for_are_measured(self) -> None:
        motion = matte(self.click(4))
        request = {"clip": self.clip}
        on = measure_matte(motion, MeasureRequest(**request, direction="forward", origin=6))
        self.assertEqual([bool(p) for p in on.pictures], [False] * 6 + [True] * (FRAMES - 6))
        self.assertEqual(int(on.state[0]), NONE)
        back = measure_matte(motion, MeasureRequest(**request, direction="backward", origin=2))
        self.assertEqual([bool(p) for p in back.pictures], [True] * 3 + [False] * (FRAMES - 3))
        part = measure_matte(motion, MeasureRequest(**request, start=3, stop=6))
        self.assertEqual([bool(p) for p in part.pictures], [False] * 3 + [True] * 3 + [False] * (FRAMES - 6))

    def test_stopped_it_keeps_what_there_is(self) -> None:
        seen: list[MattePartial] = []
        work = Work(on_partial=seen.append, is_cancelled=lambda: len(seen) >= 3)
        with self.assertRaises(Cancelled):
            measure_matte(matte(self.click(0)), MeasureRequest(clip=self.clip, work=work))
        self.assertTrue(all(seen[-1].track.pictures[:3]))
        self.assertFalse(any(seen[-1].track.pictures[5:]))

    def test_without_a_click_on_it_nothing_is_measured(self) -> None:
        for motion in (matte(), matte(PickClick(frame=0, x=9, y=9, subject=False))):
            with self.assertRaises(Degenerate) as refused:
                measure_matte(motion, MeasureRequest(clip=self.clip))
            self.assertEqual(refused.exception.code, "pick.nothing")
        with self.assertRaises(ValueError):
            PickClick(frame=0, x=1e300, y=1)
        with self.assertRaises(FormatError):
            MatteTrack.from_bytes(b"no archive at all")

    def test_mirrored_and_brighter_it_is_the_same_thing(self) -> None:
        x, y = deepest(self.truth[0])
        there = [f[:, ::-1] for f in self.frames[:3]]
        lit = [np.clip(f.astype(np.float32) * 1.25, 0, 255).astype(np.uint8) for f in self.frames[:3]]
        for frames, at in ((there, SIZE[0] - x), (lit, x)):
            clip = written(self.folder, [np.ascontiguousarray(f) for f in frames])
            track = measure_matte(matte(PickClick(frame=0, x=at, y=y)), MeasureRequest(clip=clip))
            for k in range(3):
                alpha = track.alpha(k)
                assert alpha is not None
                truth = self.truth[k][:, ::-1] if frames is there else self.truth[k]
                self.assertGreater(likeness(alpha.astype(np.float32) / 255, truth), 0.86)

    def test_what_leaves_the_picture_is_told_to_have_left(self) -> None:
        rng = np.random.default_rng(4)
        ground = cv2.GaussianBlur(rng.uniform(60, 190, (180, 320, 3)).astype(np.float32), (0, 0), 1.2)
        frames = []
        for k in range(8):
            picture = ground.copy()
            cv2.circle(picture, (250 + 22 * k, 90), 34, (210, 40, 30), -1)
            frames.append(np.clip(picture, 0, 255).astype(np.uint8))
        clip = written(self.folder, frames)
        track = measure_matte(matte(PickClick(frame=0, x=250, y=90)), MeasureRequest(clip=clip))
        self.assertEqual(int(track.state[2]), TRACKED)
        self.assertEqual((int(track.state[7]), int(track.reason[7])), (LOST, LEFT))
        self.assertIsNone(track.alpha(7))

    def test_what_passes_before_it_cuts_it_and_it_comes_back(self) -> None:
        rng = np.random.default_rng(5)
        ground = cv2.GaussianBlur(rng.uniform(60, 190, (180, 320, 3)).astype(np.float32), (0, 0), 1.2)
        post = cv2.GaussianBlur(rng.uniform(20, 90, (180, 90, 3)).astype(np.float32), (0, 0), 1.2)
        frames, truth = [], []
        for k in range(16):
            picture, cover = ground.copy(), np.zeros((180, 320), np.uint8)
            cv2.circle(cover, (60 + 13 * k, 90), 24, 255, -1)
            picture[cover > 0] = (210, 40, 30)
            picture[:, 120:210], cover[:, 120:210] = post, 0
            frames.append(np.clip(picture, 0, 255).astype(np.uint8))
            truth.append(cover.astype(np.float32) / 255)
        track = measure_matte(matte(PickClick(frame=0, x=60, y=90)), MeasureRequest(clip=written(self.folder, frames)))
        for k, cover in enumerate(truth):
            alpha = track.alpha(k)
            if cover.sum() > 800:
                assert alpha is not None, k
                self.assertGreater(likeness(alpha.astype(np.float32) / 255, cover), 0.75, k)
            elif not cover.any():
                self.assertEqual((int(track.state[k]), int(track.reason[k])), (LOST, COVERED), k)


class Shadows(unittest.TestCase):
    """A dark figure with a soft shadow beside its foot, before a camera that shakes a little."""

    def takes(self, ground: str, deep: float) -> tuple[list[U8], list[U8], list[F32]]:
        rng = np.random.default_rng(1)
        light = decode(photo(ground, (760, 480)).astype(np.float64) / 255)
        frames, mattes, shadows = [], [], []
        for k in range(20):
            lies = np.array([[1, 0, -50 + 3 * np.sin(k)], [0, 1, -50 + 2 * np.cos(1.3 * k)]])
            behind = cv2.warpAffine(light, lies, SIZE, flags=cv2.INTER_CUBIC)
            matte, shadow = np.zeros((SIZE[1], SIZE[0]), np.uint8), np.zeros((SIZE[1], SIZE[0]), np.uint8)
            x = 120 + 16 * k
            cv2.ellipse(matte, (x, 170), (20, 70), 0, 0, 360, 255, -1, cv2.LINE_AA)
            cv2.ellipse(shadow, (x + 50, 244), (66, 12), -6, 0, 360, 255, -1, cv2.LINE_AA)
            soft = cv2.GaussianBlur(shadow, (0, 0), 3) / np.float32(255) * (1 - matte / np.float32(255))
            share = matte[..., None] / 255
            seen = behind * (1 - deep * soft[..., None]) * (1 - share) + share * np.array([0.25, 0.08, 0.05])
            code = encode(np.clip(seen, 0, 1)) * 255 + 1.5 * rng.standard_normal(seen.shape)
            frames.append(np.clip(code + 0.5, 0, 255).astype(np.uint8))
            mattes.append(matte)
            shadows.append(soft)
        return frames, mattes, shadows

    def found(self, frame: int, frames: list[U8], mattes: list[U8]) -> U8 | None:
        grey = [np.asarray(cv2.cvtColor(f, cv2.COLOR_RGB2GRAY), np.uint8) for f in frames]
        covers = {k: mattes[k] for k in (frame, *donors_of(frame, len(frames)))}
        return cast_shadow(
            frame, lambda k: frames[k], covers, lambda a, b: whole_movement(grey[a], grey[b], np.asarray(255 - mattes[a], np.uint8))
        )

    def test_the_shadow_that_goes_along_is_found_and_nothing_else(self) -> None:
        for ground, deep in (("gravel.png", 0.5), ("brick.png", 0.35)):
            frames, mattes, shadows = self.takes(ground, deep)
            for frame in (6, 13):
                found = self.found(frame, frames, mattes)
                assert found is not None
                true = shadows[frame] > 0.3
                self.assertGreater(float((found[true] > 127).mean()), 0.9, (ground, frame))
                beside = cv2.dilate(true.astype(np.uint8), np.ones((17, 17), np.uint8)) == 0
                self.assertLess(int(((found > 127) & beside & (mattes[frame] < 128)).sum()), 60, (ground, frame))

    def test_without_a_shadow_or_without_the_thing_there_is_none(self) -> None:
        frames, mattes, _ = self.takes("gravel.png", 0.0)
        self.assertIsNone(self.found(6, frames, mattes))
        none = [np.zeros_like(one) for one in mattes]
        self.assertIsNone(self.found(6, frames, none))


class Using(InFolder):
    """One matte of a square, taken by all that takes mattes."""

    SIDE = (64, 48)

    def setUp(self) -> None:
        super().setUp()
        w, h = self.SIDE
        self.alpha = np.zeros((h, w), np.uint8)
        self.alpha[12:36, 20:44] = 255
        self.alpha[12:36, 19] = 128
        later = np.roll(self.alpha, 4, axis=1)
        track = MatteTrack.empty(self.SIDE, 3)
        self.track = track.with_frame(0, self.alpha, "x", 1, GIVEN).with_frame(1, later, "x", 1, TRACKED)
        y, x = np.mgrid[:h, :w]
        self.picture = np.dstack([40 + 2 * x, 60 + 3 * y, np.full_like(x, 120)]).astype(np.uint8)
        with VideoWriter(self.folder / "clip.mp4", self.SIDE, Fraction(25), coding=Coding(crf=0)) as out:
            for _ in range(3):
                out.write(self.picture)
        self.pool = MediaPool(lambda _: self.folder / "clip.mp4", lambda _: self.track)

    def shot(self, **more: object) -> Shot:
        w, h = self.SIDE
        footage = Footage(asset=ASSET, name="clip", width=w, height=h, frames=3, rate="25/1", in_frame=0, out_frame=2)
        data = Shot(name="shot", footage=footage).model_dump(mode="json")
        clicks = [{"frame": 0, "x": 30, "y": 20}]
        data["motions"] = [{"kind": "matte", "id": "walker", "name": "Walker", "clicks": clicks, "measurement": MEASURED}]
        return read_shot(data | more)

    def sources(self, **more: object) -> ShotSources:
        return ShotSources(self.shot(**more), self.pool)

    def test_a_mask_covers_what_the_matte_covers(self) -> None:
        mask = PickedMask(id="m", name="m", motion="walker")
        mattes = self.sources().picked
        found = combined([mask], 0, self.SIDE, lambda _: np.eye(3), mattes)
        assert found is not None
        np.testing.assert_array_equal(found, self.alpha.astype(np.float32) / 255)
        between = combined([mask], 0.5, self.SIDE, lambda _: np.eye(3), mattes)
        assert between is not None
        np.testing.assert_allclose(between[20, [22, 30, 46]], [0.5, 1, 0.5], atol=0.01)
        # Where nothing is known it covers nothing; inverted, everything.
        none = combined([mask], 2, self.SIDE, lambda _: np.eye(3), mattes)
        assert none is not None
        self.assertEqual(float(none.max()), 0)
        half = combined([mask], 0, (32, 24), lambda _: np.diag([0.5, 0.5, 1]), mattes)
        assert half is not None
        area = cv2.resize(self.alpha.astype(np.float32) / 255, (32, 24), interpolation=cv2.INTER_AREA)
        self.assertLess(float(np.abs(half - area).mean()), 0.015)

    def test_it_can_be_wider_softer_and_without_holes(self) -> None:
        def covered(**values: float) -> float:
            mask = PickedMask.model_validate({"id": "m", "name": "m", "motion": "walker", **values})
            found = combined([mask], 0, self.SIDE, lambda _: np.eye(3), lambda motion, moment, *, shadow=False: holed)
            assert found is not None
            return float(found.sum())

        holed = self.alpha.copy()
        holed[20:24, 28:32] = 0
        plain = covered()
        self.assertAlmostEqual(covered(holes=8) - plain, 16, delta=0.1)
        self.assertGreater(covered(grow=3), plain + 3 * 80)
        self.assertLess(covered(grow=-3), plain - 3 * 80)
        self.assertAlmostEqual(covered(soft=4), plain, delta=8)
        with self.assertRaisesRegex(ValueError, "where it was filmed"):
            PickedMask(id="m", name="m", motion="walker", rides="screen")

    def test_the_footage_brought_forward_hides_what_is_behind_it(self) -> None:
        white = {"kind": "fill", "id": "white", "name": "white", "first": "#ffffff"}
        front = {"kind": "plate", "id": "front", "name": "front", "key": {"kind": "picked", "motion": "walker"}}
        shot = self.shot(stack=[front, white])
        found = render_frame(shot, ShotSources(shot, self.pool), 0)
        plain = self.pool.clip(ASSET).rgb(0)
        self.assertLess(int(np.abs(found[14:34, 22:42].astype(int) - plain[14:34, 22:42]).max()), 3)
        self.assertEqual(int(found[2:8, 2:60].min()), 255)
        later = render_frame(shot, ShotSources(shot, self.pool), 1)
        self.assertEqual(int(later[20, 21].min()), 255)
        # On a frame without a matte all of it is behind.
        self.assertEqual(int(render_frame(shot, ShotSources(shot, self.pool), 2).min()), 255)

    def test_its_soft_edge_loses_what_was_behind_it(self) -> None:
        h, w = 80, 120
        true = np.clip((np.hypot(*(np.mgrid[:h, :w] - np.array([40, 60])[:, None, None])) - 26) / -8 + 0.5, 0, 1)
        cover = true.astype(np.float32)
        red, green = decode(np.array([0.8, 0.2, 0.2])), decode(np.array([0.2, 0.75, 0.3]))
        light = (cover[..., None] * red + (1 - cover[..., None]) * green).astype(np.float32)
        context = KeyContext(matte=np.asarray(cover * 255 + 0.5, np.uint8))
        found = run_key(light, PickedKey(motion="walker"), context)
        edge = (cover > 0.3) & (cover < 0.9)
        colours = found[edge][:, :3] / found[edge][:, 3:]
        self.assertLess(float(np.abs(colours - red).mean()), 0.03)
        self.assertLess(float(np.abs(found[..., 3] - cover).max()), 0.01)
        self.assertEqual(float(run_key(light, PickedKey(motion="walker"), KeyContext()).max()), 0)

    def test_as_pictures_in_a_zip_it_comes_back_the_same(self) -> None:
        data = write_mattes(self.track)
        found = read_mattes(data, self.SIDE, 3)
        for frame in (0, 1):
            np.testing.assert_array_equal(found.alpha(frame), self.track.alpha(frame))
        self.assertEqual([int(s) for s in found.state], [GIVEN, GIVEN, LOST])
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            self.assertEqual(archive.namelist(), ["000000.png", "000001.png", "000002.png"])
        footage = self.shot().footage
        assert footage is not None
        motion, measured = motion_from_file(Coming(text="", data=data, motion_id="m", name="Walker", footage=footage))
        self.assertEqual((motion.kind, measured.KIND), ("matte", "matte"))

    def test_wrong_pictures_are_refused_in_words(self) -> None:
        data = write_mattes(self.track)
        for size, frames, says in ((self.SIDE, 4, "3 PNG pictures"), ((32, 24), 3, "32 x 24 pixels")):
            with self.assertRaisesRegex(FormatError, says):
                read_mattes(data, size, frames)
        with self.assertRaisesRegex(FormatError, "cannot be read"):
            read_mattes(b"PK\x03\x04 and no more", self.SIDE, 3)
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr("a.png", b"no picture")
        with self.assertRaisesRegex(FormatError, "no PNG picture"):
            read_mattes(out.getvalue(), self.SIDE, 1)

    def test_what_uses_a_matte_says_so_and_goes_by_its_kind(self) -> None:
        front = {"kind": "plate", "id": "front", "name": "front", "key": {"kind": "picked", "motion": "walker"}}
        shot = self.shot(stack=[front])
        self.assertIn("walker", {one.id for one in shot.references() if one.declared.to == "matte"})
        with self.assertRaises((BadInput, ValueError)):
            self.shot(stack=[front | {"key": {"kind": "picked", "motion": "nobody"}}])
        wider = PickedMask(id="m", name="m", motion="walker", grow=4)
        mend = {"kind": "mend", "id": "mend", "name": "mend", "masks": [wider.model_dump(mode="json")]}
        cover = ShotSources(self.shot(plate=[mend]), self.pool)._mending().cover(self.shot(plate=[mend]).plate[0], 0)  # type: ignore[arg-type]
        assert cover is not None
        self.assertEqual(float(cover[20, 47]), 1)


if __name__ == "__main__":
    unittest.main()
