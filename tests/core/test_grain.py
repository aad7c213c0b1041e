"""Grain measured in time: on busy texture filmed by a moving camera and coded, against what was put in."""

from __future__ import annotations

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import encode, opaque_from_codes
from plonket.base.conventions import F32, U8
from plonket.base.outlines import polygon_outline
from plonket.cli.main import main
from plonket.document.kinds import LOOKS
from plonket.document.shot import Footage, Shot
from plonket.image.degrain import degrained_picture
from plonket.image.grain import BANDS, GrainProfile, fresh_grain
from plonket.image.grain_in_space import grain_of
from plonket.image.grain_in_time import MeasuredGrain, dump_grain, load_grain, measure_grain
from plonket.looks.common import LookContext
from plonket.masks.outlined import OutlineMask
from plonket.media import open_clip
from plonket.media.clip import ArrayClip
from plonket.media.write import Coding, VideoWriter
from plonket.plate.degrain import Degrain
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from tests.core.photos import photo
from tests.core.test_media import InFolder

SIZE = (448, 256)
FRAMES = 32


def leaves(seed: int, size: tuple[int, int] = (600, 400)) -> F32:
    """A busy picture in display codes with the statistics of natural ones: leaves of all sizes over each other, each with its
    own colour, shading and fine texture (A. Lee, D. Mumford, J. Huang, 2001, doi:10.1023/A:1011109015675)."""
    rng = np.random.default_rng(seed)
    w, h = size
    out = np.zeros((h, w, 3), np.float32)
    fine = sum(cv2.resize(rng.standard_normal((h // k + 1, w // k + 1)).astype(np.float32), size) for k in (1, 2, 4))
    for _ in range(1500):
        r = 5 / np.sqrt(rng.uniform(0.003, 1))
        x, y = rng.uniform(-20, w + 20), rng.uniform(-20, h + 20)
        colour = np.clip(rng.uniform(50, 200) + rng.normal(0, 18, 3), 20, 235)
        x0, y0, x1, y1 = (int(v) for v in (max(0, x - r), max(0, y - r), min(w, x + r + 1), min(h, y + r + 1)))
        if x1 <= x0 or y1 <= y0:
            continue
        j, i = np.mgrid[y0:y1, x0:x1]
        inside = (i - x) ** 2 + (j - y) ** 2 < r * r
        shade = rng.normal(0, 0.5) * (i - x) + rng.normal(0, 0.5) * (j - y) + rng.uniform(0, 9) * fine[y0:y1, x0:x1]
        out[y0:y1, x0:x1][inside] = colour + shade[inside][:, None]
    return cv2.GaussianBlur(np.clip(out, 8, 245), (0, 0), 0.7)


def handheld(picture: F32, frames: int, seed: int) -> list[F32]:
    """The picture as a hand's camera sees it: a slow move with tremor, turn and zoom."""
    rng = np.random.default_rng(seed)
    h, w = picture.shape[:2]
    out = []
    x = y = 0.0
    for k in range(frames):
        x, y = x + 1.3 * np.sin(k / 9) + rng.normal(0, 0.5), y + 0.9 * np.cos(k / 7) + rng.normal(0, 0.4)
        m = cv2.getRotationMatrix2D((w / 2, h / 2), 0.8 * np.sin(k / 11), 1 + 0.01 * np.sin(k / 13))
        m[:, 2] += [x - (w - SIZE[0]) / 2, y - (h - SIZE[1]) / 2]
        out.append(cv2.warpAffine(picture, m, SIZE, flags=cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REFLECT))
    return out


def noisy(frames: list[F32], sd: float, seed: int, softness: float = 0.0) -> list[U8]:
    """With grain that all channels share for the most part, as a phone's has."""
    rng = np.random.default_rng(seed)
    out = []
    for picture in frames:
        noise = 0.9 * rng.standard_normal((*picture.shape[:2], 1)) + 0.436 * rng.standard_normal(picture.shape)
        if softness:
            noise = cv2.GaussianBlur(noise, (0, 0), softness)
            noise /= noise.std()
        out.append(np.asarray(np.clip(picture + sd * noise + 0.5, 0, 255), np.uint8))
    return out


def coded(frames: list[U8], crf: float, folder: Path) -> Path:
    path = folder / f"{crf}-{len(list(folder.iterdir()))}.mp4"
    with VideoWriter(path, SIZE, Fraction(30), coding=Coding(crf=crf, preset="medium", key_every=250)) as out:
        for one in frames:
            out.write(one)
    return path


def strength(found: MeasuredGrain) -> float:
    return found.filmed * float(np.mean([s for s, k in zip(found.profile.strength, found.known, strict=True) if k]))


class InTime(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.holder.cleanup)
        cls.folder = Path(cls.holder.name)
        cls.clean = handheld(leaves(2), FRAMES, 5)

    def measured(self, sd: float, crf: float, **more: float) -> MeasuredGrain:
        clip = open_clip(coded(noisy(self.clean, sd, 7, **more), crf, self.folder))
        self.addCleanup(clip.close)
        found = measure_grain(clip)
        assert found is not None
        return found

    def test_busy_texture_is_not_taken_for_grain(self) -> None:
        for sd, crf in ((3.0, 18), (6.0, 18), (9.0, 20)):
            found = self.measured(sd, crf)
            self.assertEqual(found.how, "time")
            self.assertLess(abs(strength(found) / sd - 1), 0.25, (sd, crf, strength(found)))

    def test_of_what_coding_took_away_only_what_is_left_is_told(self) -> None:
        self.assertTrue(0.5 < strength(self.measured(9.0, 26)) / 9 < 1.1)

    def test_a_clip_without_grain_has_none(self) -> None:
        for crf in (18, 26):
            self.assertLess(strength(self.measured(0.0, crf)), 1.0, crf)
        # One picture alone cannot tell: that is what is wrong with looking at one.
        alone = grain_of(self.clean[0])
        self.assertTrue(alone is None or np.mean(alone.strength) > 2)

    def test_how_fine_it_is(self) -> None:
        fine, soft = self.measured(6.0, 12), self.measured(6.0, 12, softness=0.9)
        self.assertLess(fine.correlation_px, 0.4)
        self.assertLess(abs(soft.correlation_px - 0.9), 0.3)
        self.assertGreater(fine.profile.alike, 0.6)

    def test_it_follows_brightness(self) -> None:
        rng = np.random.default_rng(3)
        frames = []
        for picture in self.clean:
            sd = 1.5 + 6 * picture / 255
            frames.append(np.asarray(np.clip(picture + sd * rng.standard_normal((*picture.shape[:2], 1)) + 0.5, 0, 255), np.uint8))
        found = measure_grain(ArrayClip(frames))
        assert found is not None
        told = np.array(found.profile.strength)[:, 1] * found.filmed
        for k in (1, 2, 3, 4):
            self.assertLess(abs(told[k] / (1.5 + 6 * BANDS[k]) - 1), 0.25, k)

    def test_what_stands_still_is_told_from_its_calm_places(self) -> None:
        still = [self.clean[0]] * 12
        found = measure_grain(ArrayClip(noisy(still, 4.0, 9)))
        assert found is not None
        self.assertEqual(found.how, "space")
        self.assertLess(abs(strength(found) / 4 - 1), 0.3)
        self.assertIsNone(measure_grain(ArrayClip([np.full((40, 40, 3), 90, np.uint8)])))

    def test_what_is_made_of_it_is_as_strong(self) -> None:
        found = self.measured(6.0, 12)
        grey = np.full((200, 200, 3), 0.5, np.float32)
        made = fresh_grain(grey, found.profile, np.random.default_rng(1))
        self.assertLess(abs(float(made.std()) / np.mean(found.profile.strength[3]) - 1), 0.1)


class Kept(unittest.TestCase):
    def test_what_was_written_is_read_and_what_is_damaged_is_measured_again(self) -> None:
        profile = GrainProfile(strength=[(1.0, 2.0, 3.0)] * 7, spectrum=[1.0] * 10, alike=0.4)
        grain = MeasuredGrain(profile=profile, how="time", sure=0.8, known=(True,) * 7, filmed=1.05)
        self.assertEqual(load_grain(dump_grain(grain)), grain)
        for text in ("", "{}", dump_grain(grain).replace('"version": 1', '"version": 0'), dump_grain(grain)[:40]):
            self.assertIsNone(load_grain(text))


class Command(InFolder):
    def test_a_frame_outside_is_refused(self) -> None:
        cv2.imwrite(str(self.folder / "a.png"), np.zeros((60, 60, 3), np.uint8))
        self.assertNotEqual(main(["grain", str(self.folder / "a.png"), "--frame", "4"]), 0)


def psnr(a: np.ndarray, b: np.ndarray) -> float:
    return float(10 * np.log10(255**2 / max(float(((a.astype(np.float64) - b) ** 2).mean()), 1e-9)))


class TakenOff(InFolder):
    """On photographs moved by a hand, against the clean ones, and against non-local means in one picture."""

    def frames(self, name: str) -> list[F32]:
        return handheld(photo(name, (600, 400)).astype(np.float32), 9, 4)

    def test_it_beats_the_noise_by_far_and_smoothing_within_a_picture(self) -> None:
        for name in ("astronaut.png", "gravel.png"):
            clean = [np.clip(one, 0, 255) for one in self.frames(name)]
            seen = noisy(clean, 7.0, 3)
            found = measure_grain(ArrayClip(seen))
            assert found is not None
            out = degrained_picture(lambda k, seen=seen: seen[k], 4, len(seen), found.profile)
            plain = max(
                psnr(cv2.fastNlMeansDenoisingColored(seen[4], None, h, h, 5, 15), clean[4]) for h in (3, 5, 8)
            )
            ours, was = psnr(out, clean[4]), psnr(seen[4], clean[4])
            self.assertGreater(ours, was + 3, (name, ours, was))
            self.assertGreater(ours, plain, (name, ours, plain))

    def test_what_moves_by_itself_does_not_smear(self) -> None:
        clean = [np.clip(one, 0, 255) for one in self.frames("coffee.png")]
        for k, one in enumerate(clean):
            cv2.rectangle(one, (60 + 31 * k, 80), (110 + 31 * k, 150), (240, 240, 30), -1)
        seen = noisy(clean, 5.0, 3)
        found = measure_grain(ArrayClip(seen))
        assert found is not None
        out = degrained_picture(lambda k: seen[k], 4, len(seen), found.profile)
        round_it = np.s_[70:160, 160:270]
        self.assertGreater(psnr(out[round_it], clean[4][round_it]), psnr(seen[4][round_it], clean[4][round_it]) + 1)

    def test_as_a_look_it_takes_grain_off_what_is_laid_over(self) -> None:
        clean = [np.clip(one, 0, 255) for one in self.frames("coffee.png")]
        seen = noisy(clean, 5.0, 3)

        def layer(frame: int) -> F32:
            return opaque_from_codes(seen[frame])

        look = LOOKS.get("degrain").settings(id="d", name="d", strength=5.0)
        for neighbour, more in ((layer, 3.0), (None, 1.5)):
            out = LOOKS.of(look).run(layer(4), look, LookContext(frame=4, neighbour=neighbour))
            shown = np.asarray(encode(np.clip(out[..., :3], 0, 1)) * 255)
            self.assertGreater(psnr(shown, clean[4]), psnr(seen[4], clean[4]) + more)
        half = layer(4)
        half[:, :200] = 0
        out = LOOKS.of(look).run(half, look, LookContext(frame=4))
        np.testing.assert_array_equal(out[..., 3], half[..., 3])
        np.testing.assert_array_equal(out[:, :200], 0)

    def test_as_a_treatment_it_takes_off_where_its_masks_say_and_hides_nothing(self) -> None:
        clean = self.frames("coffee.png")
        path = coded(noisy([np.clip(one, 0, 255) for one in clean], 6.0, 3), 8, self.folder)
        pool = MediaPool(lambda _: path, lambda _: None)  # type: ignore[arg-type,return-value]
        footage = Footage(asset="a" * 64, name="c", width=SIZE[0], height=SIZE[1], rate="30/1", frames=9, in_frame=0, out_frame=8)

        def plate(**settings: object) -> np.ndarray:
            one = Degrain(id="d", name="d", **settings)  # type: ignore[arg-type]
            return ShotSources(Shot(name="s", footage=footage, plate=[one]), pool).plate("a" * 64, 4)

        was = pool.clip("a" * 64).rgb(4)
        self.assertGreater(psnr(plate(), clean[4]), psnr(was, clean[4]) + 3)
        np.testing.assert_array_equal(plate(share=0.0), was)
        mask = OutlineMask(id="m", name="m", outline=polygon_outline(np.array([[0.0, 0], [200, 0], [200, 256], [0, 256]]), 4))
        part = plate(masks=[mask])
        np.testing.assert_array_equal(part[:, 210:], was[:, 210:])
        self.assertGreater(psnr(part[:, :190], clean[4][:, :190]), psnr(was[:, :190], clean[4][:, :190]) + 3)
