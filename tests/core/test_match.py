"""Matching to the plate: grain, edges, tones and motion blur against what was put in; recordings lined up."""

from __future__ import annotations

import unittest

import cv2
import numpy as np

from plonket.base.colour import decode, encode, opaque_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput
from plonket.base.fields import value_at
from plonket.document.follow import Follow
from plonket.document.shot import Footage, Shot
from plonket.image.grain import BANDS, RINGS, GrainProfile
from plonket.image.grain_in_space import grain_of
from plonket.image.picture import StillSource
from plonket.layers.plate import PlateLayer
from plonket.layers.still import StillLayer
from plonket.looks.blur import Blur
from plonket.looks.common import LookContext
from plonket.looks.grain import Grain, run
from plonket.media.lineup import line_up_pictures, line_up_sound
from plonket.media.sound import Sound
from plonket.render.appearance import edge_width, tones_of
from plonket.render.frame import render_frame
from plonket.render.match import MARK, match_to_plate
from tests.core.test_comp import FakeSources

SIZE = (640, 400)


def steps(seed: int = 1) -> F32:
    """A calm picture of broad patches in all brightnesses, display code 0 to 255."""
    rng = np.random.default_rng(seed)
    small = rng.uniform(15, 240, (5, 8, 1)) + rng.uniform(-8, 8, (5, 8, 3))
    return np.asarray(cv2.resize(small, SIZE, interpolation=cv2.INTER_NEAREST), np.float32)


def noisy(picture: F32, softness: float, seed: int = 2) -> tuple[F32, F32]:
    """The picture with sensor-like noise, stronger in the middle tones; and the SD put in (h, w, 3)."""
    rng = np.random.default_rng(seed)
    white = np.sqrt(0.6) * rng.standard_normal((*SIZE[::-1], 1)) + np.sqrt(0.4) * rng.standard_normal((*SIZE[::-1], 3))
    soft = cv2.GaussianBlur(white, (0, 0), softness) if softness else white
    soft = soft / soft.std(axis=(0, 1))
    sd = (1.2 + 3.0 * np.sin(np.pi * picture / 255)) * np.array([1.0, 0.8, 1.3])
    return np.asarray(picture + soft * sd, np.float32), np.asarray(sd, np.float32)


def rings(noise: F32) -> np.ndarray:
    power = np.abs(np.fft.fft2(noise)) ** 2
    fy, fx = np.fft.fftfreq(noise.shape[0]), np.fft.fftfreq(noise.shape[1])
    ring = (np.hypot(fy[:, None], fx[None, :]) / (0.5 / RINGS)).astype(int)
    return np.array([power[ring == k].mean() for k in range(RINGS)])


class GrainMatch(unittest.TestCase):
    def test_strength_is_measured_in_every_brightness_and_channel(self) -> None:
        for softness in (0.0, 0.6, 1.0):
            picture, sd = noisy(steps(), softness)
            found = grain_of(picture)
            assert found is not None
            for band in BANDS[1:-1]:
                where = np.abs(steps().mean(axis=2) / 255 - band) < 0.05
                expected = sd[where].mean(axis=0)
                told = [np.interp(band, BANDS, [s[c] for s in found.strength]) for c in range(3)]
                np.testing.assert_allclose(told, expected, rtol=0.1, err_msg=f"{softness} {band}")
            self.assertAlmostEqual(found.alike, 0.6, delta=0.08)

    def test_what_is_made_again_has_the_same_variance_and_spectrum(self) -> None:
        for softness in (0.0, 0.5, 0.9, 1.2):
            picture, sd = noisy(steps(), softness)
            found = grain_of(picture)
            assert found is not None
            light = np.asarray(decode(steps() / 255), np.float32)
            clean = np.dstack([light, np.ones(SIZE[::-1], np.float32)])
            made = run(clean, Grain(id="g", name="g", profile=found), LookContext(frame=3))
            noise = np.asarray(encode(made[..., :3]) * 255 - steps(), np.float32)
            for band in BANDS[1:-1]:
                where = np.abs(steps().mean(axis=2) / 255 - band) < 0.05
                np.testing.assert_allclose(noise[where].var(axis=0), (sd[where] ** 2).mean(axis=0), rtol=0.1)
            # Spectrum of SD-1 noise against what was put in, ring by ring, where there is any power to speak of.
            true = rings(np.asarray((picture - steps())[..., 1] / sd[..., 1], np.float32))
            told = rings(np.asarray(noise[..., 1] / sd[..., 1], np.float32))
            loud = true > 0.08 * true.max()
            np.testing.assert_allclose((told / told.mean())[loud], (true / true.mean())[loud], rtol=0.1)

    def test_texture_beside_calm_parts_does_not_count(self) -> None:
        picture, sd = noisy(steps(), 0.6)
        y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]]
        picture[:, :400] += (25 * np.sin(x * 1.1) * np.sin(y * 0.9))[:, :400, None]
        found = grain_of(picture)
        assert found is not None
        self.assertLess(max(s[1] for s in found.strength), 1.25 * float(sd[..., 1].max()))

    def test_a_frame_always_gets_the_same_grain_and_two_never_do(self) -> None:
        profile = GrainProfile(strength=[(2.0, 2.0, 2.0)] * 7, spectrum=[1.0] * RINGS)
        flat = np.full((64, 64, 4), 0.2, np.float32)
        flat[..., 3] = 1
        look = Grain(id="g", name="g", profile=profile)
        one, again, other = (run(flat, look, LookContext(frame=f)) for f in (5, 5, 6))
        np.testing.assert_array_equal(one, again)
        self.assertLess(abs(np.corrcoef(one[..., 1].ravel(), other[..., 1].ravel())[0, 1]), 0.1)

    def test_half_size_shows_what_reducing_leaves(self) -> None:
        profile = GrainProfile(strength=[(3.0, 3.0, 3.0)] * 7, spectrum=[1.0] * RINGS, alike=1.0)
        flat = np.full((240, 240, 4), 0.2, np.float32)
        flat[..., 3] = 1
        look = Grain(id="g", name="g", profile=profile)
        full = encode(run(flat, look, LookContext(frame=1))[..., 1])
        reduced = cv2.resize(full, (120, 120), interpolation=cv2.INTER_AREA).std()
        half = encode(run(flat[:120, :120], look, LookContext(frame=1, scale=0.5))[..., 1]).std()
        self.assertAlmostEqual(half / reduced, 1, delta=0.15)


def blocks(seed: int = 3) -> F32:
    """Hard-edged bright and dark rectangles, 0 to 255."""
    rng = np.random.default_rng(seed)
    out = np.full(SIZE[::-1], 60, np.float32)
    for _ in range(45):
        x, y = rng.integers(0, SIZE[0] - 60), rng.integers(0, SIZE[1] - 60)
        out[y : y + rng.integers(25, 60), x : x + rng.integers(25, 60)] = rng.uniform(20, 230)
    return out


class Edges(unittest.TestCase):
    def test_width_is_the_blur_that_was_put_in(self) -> None:
        everywhere = np.ones(SIZE[::-1], bool)
        rng = np.random.default_rng(0)
        for sigma in (0.8, 1.2, 2.0, 3.0):
            soft = cv2.GaussianBlur(blocks(), (0, 0), sigma) + rng.normal(0, 1.5, SIZE[::-1]).astype(np.float32)
            found = edge_width(np.asarray(soft, np.float32), everywhere)
            assert found is not None
            self.assertAlmostEqual(found / sigma, 1, delta=0.2, msg=str(sigma))

    def test_movement_widens_only_the_edges_across_it(self) -> None:
        everywhere = np.ones(SIZE[::-1], bool)
        moved = cv2.blur(cv2.GaussianBlur(blocks(), (0, 0), 0.9), (9, 1))
        along = edge_width(moved, everywhere, np.array([1.0, 0]))
        across = edge_width(moved, everywhere, np.array([0.0, 1]))
        assert along is not None and across is not None
        self.assertLess(across, 1.2)
        self.assertAlmostEqual(np.sqrt((along**2 - across**2) * 2 * np.pi), 9, delta=1.5)

    def test_without_edges_it_says_nothing(self) -> None:
        self.assertIsNone(edge_width(np.full(SIZE[::-1], 99, np.float32), np.ones(SIZE[::-1], bool)))


class Filmed(FakeSources):
    """A plate of soft, grainy, warm, low-contrast blocks, and a sharp clean element with neutral blocks."""

    size = SIZE
    softness = 1.6

    def plate(self, asset: str, frame: int) -> U8:
        rng = np.random.default_rng(frame)
        code = cv2.GaussianBlur(blocks(), (0, 0), self.softness) * 0.6 + 40
        light = np.asarray(decode(code / 255), np.float32)[..., None] * np.array([1.12, 1.0, 0.8], np.float32)
        noise = cv2.GaussianBlur(rng.normal(0, 1, (*SIZE[::-1], 3)), (0, 0), 0.6)
        coded = encode(np.clip(light, 0, 1)) * 255 + noise / noise.std() * 3.0
        return np.clip(coded + 0.5, 0, 255).astype(np.uint8)

    def element(self, asset: str, frame: int, key: object = None, level: int = 0) -> StillSource:
        grey = blocks(9)[:220, :300].astype(np.uint8)
        return StillSource(np.dstack([grey, grey, grey, np.full_like(grey, 255)]))


def element_shot(**settings: object) -> Shot:
    footage = Footage(asset="a" * 64, name="c", width=SIZE[0], height=SIZE[1], rate="30/1", frames=9, in_frame=0, out_frame=8)
    layer = StillLayer(id="l", name="Block", asset="b" * 64, width=300, height=220, x=320.0, y=200.0, **settings)  # type: ignore[arg-type]
    return Shot(name="s", footage=footage, stack=[layer])


class Match(unittest.TestCase):
    def matched(self, sources: FakeSources, shot: Shot) -> tuple[U8, Shot]:
        found = match_to_plate(shot, sources, "l", 2)
        layer = shot.stack[0].model_copy(update={"looks": found.looks})
        after = shot.model_copy(update={"stack": [layer]})
        return render_frame(after, sources, 2), after

    def test_element_takes_the_plates_edges_grain_and_light(self) -> None:
        sources = Filmed()
        before = render_frame(element_shot(), sources, 2)
        after, shot = self.matched(sources, element_shot())
        box = np.s_[100:300, 180:460]
        where = np.ones((200, 280), bool)
        widths = [edge_width(np.asarray(p[box].mean(axis=2), np.float32), where) for p in (before, after)]
        assert widths[0] is not None and widths[1] is not None
        self.assertLess(widths[0], 0.7)
        self.assertAlmostEqual(widths[1] / Filmed.softness, 1, delta=0.25)
        grain = grain_of(after[box].astype(np.float32))
        assert grain is not None
        self.assertAlmostEqual(np.mean([s[1] for s in grain.strength[1:5]]) / 3.0, 1, delta=0.2)
        tones = [tones_of(p[box] / np.float32(255), np.asarray(decode(p[box] / 255), np.float32), where) for p in (before, after)]
        assert tones[0] and tones[1]
        self.assertGreater(tones[1].cast[0] / tones[1].cast[2], 1.1)
        self.assertAlmostEqual(tones[0].cast[0] / tones[0].cast[2], 1, delta=0.02)
        self.assertGreater(tones[1].black, tones[0].black + 0.05)
        kinds = [look.kind for look in shot.stack[0].looks]
        self.assertEqual(kinds, ["white", "levels", "blur", "grain"])

    def test_an_element_without_edges_of_its_own_goes_by_its_outline(self) -> None:
        class Plain(Filmed):
            def element(self, asset: str, frame: int, key: object = None, level: int = 0) -> StillSource:
                flat = np.full((220, 300, 4), 190, np.uint8)
                flat[..., 3] = 0
                cv2.circle(flat, (150, 110), 90, (190, 190, 190, 255), -1, cv2.LINE_AA)
                return StillSource(flat)

        found = match_to_plate(element_shot(), Plain(), "l", 2)
        blur = next(look for look in found.looks if isinstance(look, Blur))
        self.assertAlmostEqual(value_at(blur.radius, 0) / Filmed.softness, 1, delta=0.25)

    def test_what_was_brought_forward_tells_nothing_of_what_lies_behind_it(self) -> None:
        class Halves(Filmed):
            """Soft, but for a sharp half on the left."""

            def plate(self, asset: str, frame: int) -> U8:
                out = super().plate(asset, frame).copy()
                out[:, :300] = np.repeat(blocks(5)[:, :300, None], 3, axis=2).astype(np.uint8)
                return out

            def plate_picture(self, frame: int, size: tuple[int, int], view: F64, key: object) -> F32:
                return opaque_from_codes(self.plate("", frame))

        corners = [{"x": -10, "y": -10}, {"x": 300, "y": -10}, {"x": 300, "y": 410}, {"x": -10, "y": 410}]
        mask = {"kind": "outline", "id": "m", "name": "M", "outline": {"keys": [{"frame": 0, "points": corners}]}}
        front = PlateLayer.model_validate({"kind": "plate", "id": "p", "name": "P", "masks": [mask]})
        alone = element_shot()
        behind = alone.model_copy(update={"stack": [front, *alone.stack]})
        told = []
        for shot in (alone, behind):
            looks = match_to_plate(shot, Halves(), "l", 2).looks
            told.append(next((value_at(one.radius, 0) for one in looks if isinstance(one, Blur)), 0.0))
        self.assertLess(told[0], 0.6 * Filmed.softness, "sharp edges beside it would have it sharp")
        self.assertAlmostEqual(told[1] / Filmed.softness, 1, delta=0.25)

    def test_matching_again_replaces_its_looks_and_keeps_ones_own(self) -> None:
        sources = Filmed()
        own = Grain(id="mine", name="Mine", strength=0.0)
        _, once = self.matched(sources, element_shot(looks=[own]))
        _, twice = self.matched(sources, once)
        ids = [look.id for look in twice.stack[0].looks]
        self.assertEqual(len(ids), len(set(ids)))
        self.assertEqual([i for i in ids if not i.startswith(MARK)], ["mine"])
        self.assertEqual([look.model_dump() for look in once.stack[0].looks], [look.model_dump() for look in twice.stack[0].looks])

    def test_the_plates_shutter_is_found_from_its_own_movement(self) -> None:
        class Panned(Filmed):
            softness = 0.8

            def plate(self, asset: str, frame: int) -> U8:
                return np.asarray(cv2.blur(super().plate(asset, frame), (9, 1)), np.uint8)

        speed = 18.0
        path = np.stack([np.array([[1.0, 0, speed * (f - 2)], [0, 1, 0], [0, 0, 1]]) for f in range(9)])
        shot = element_shot()
        layer = shot.stack[0].model_copy(update={"follow": Follow(target="m", reference_frame=2)})
        found = match_to_plate(shot.model_copy(update={"stack": [layer]}), Panned(path), "l", 2)
        assert found.shutter is not None
        self.assertAlmostEqual(found.shutter, 180, delta=60)

    def test_what_is_not_seen_cannot_be_matched(self) -> None:
        with self.assertRaises(BadInput) as caught:
            match_to_plate(element_shot().model_copy(update={"stack": [element_shot(opacity=100.0).stack[0].model_copy(
                update={"x": 4000.0})]}), Filmed(), "l", 2)  # fmt: skip
        self.assertIn("too little", caught.exception.message)


class LineUp(unittest.TestCase):
    def sound(self, start_s: float, seconds: float, seed: int) -> Sound:
        """Claps of one and the same take, through a microphone with noise of its own."""
        rate = 16000
        take = np.zeros(rate * 12)
        for at in np.random.default_rng(1).uniform(0.2, 11.5, 9):
            k = int(at * rate)
            take[k : k + 1600] += 9000 * np.exp(-np.arange(1600) / 300) * np.random.default_rng(k).normal(0, 1, 1600)
        part = take[int(start_s * rate) : int((start_s + seconds) * rate)]
        part = part + np.random.default_rng(seed).normal(0, 120, len(part))
        return Sound(samples=np.stack([part, part], axis=1).clip(-32768, 32767).astype(np.int16), rate=rate)

    def test_sound_gives_the_shift_to_a_fraction_of_a_frame(self) -> None:
        for start in (0.0, 2.37, 5.11):
            found = line_up_sound(self.sound(0, 12, 2), self.sound(start, 5, 3), 30.0)
            self.assertAlmostEqual(found.frames, start * 30, delta=0.12)

    def test_what_has_nothing_in_common_is_refused(self) -> None:
        noise = [Sound(samples=np.random.default_rng(k).normal(0, 900, (48000, 2)).astype(np.int16), rate=16000) for k in (1, 2)]
        with self.assertRaises(BadInput):
            line_up_sound(*noise, 30.0)

    def test_pictures_give_the_frame_in_spite_of_light_and_grain(self) -> None:
        rng = np.random.default_rng(4)
        spots = np.cumsum(rng.normal(0, 9, (80, 3, 2)), axis=0) + [120, 70]

        def take(i: int, gain: float, seed: int) -> U8:
            out = np.full((140, 240, 3), 70, np.float32)
            for k, (x, y) in enumerate(spots[i]):
                cv2.circle(out, (int(x) % 240, int(y) % 140), 14, (90 + 50 * k,) * 3, -1)
            out = out * gain + np.random.default_rng([seed, i]).normal(0, 4, out.shape)
            return out.clip(0, 255).astype(np.uint8)

        found = line_up_pictures(lambda i: take(i, 1.0, 1), 80, lambda i: take(i + 23, 0.7, 2), 40)
        self.assertAlmostEqual(found.frames, 23, delta=0.4)


