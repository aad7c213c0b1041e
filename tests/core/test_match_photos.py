"""Matching on real photographs: a plate spoiled by a known camera, a clean element, and what that camera would make of it."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import decode, encode
from plonket.base.conventions import F64, U8
from plonket.cli.main import main
from plonket.document.kinds import LOOKS
from plonket.image.colour_cast import camera_colours
from plonket.looks.common import LookContext
from plonket.looks.sharpen import Sharpen
from plonket.media import open_clip
from plonket.media.write import Coding, VideoWriter
from plonket.render.appearance import edge_width
from tests.core.photos import photo
from tests.core.test_media import InFolder

SIZE = (640, 400)
ELEMENT = (220, 180)
BOX = np.s_[110:290, 210:430]
INNER = np.s_[12:-12, 12:-12]


@dataclass(frozen=True, slots=True, kw_only=True)
class Camera:
    """Gains of light, codes of black and white, SD of its blur in pixels, strength of its rims, SD of its grain in codes."""

    gain: tuple[float, float, float]
    black: float
    white: float
    blur: float
    rims: float
    grain: float

    def shows(self, rgb: F64, rng: np.random.Generator | None = None) -> U8:
        code = encode(np.clip(decode(rgb / 255) * np.array(self.gain), 0, 1))
        code = cv2.GaussianBlur(self.black + (self.white - self.black) * code, (0, 0), self.blur)
        code = code + self.rims * (code - cv2.GaussianBlur(code, (0, 0), 1.5))
        noise: F64 = np.zeros_like(code)
        if rng is not None:
            noise = 0.85 * rng.standard_normal((*code.shape[:2], 1)) + 0.527 * rng.standard_normal(code.shape)
        return np.asarray(np.clip(code * 255 + self.grain * noise + 0.5, 0, 255), np.uint8)


WARM = Camera(gain=(1.15, 1.0, 0.8), black=0.07, white=0.9, blur=0.9, rims=0.5, grain=4.0)
COOL = Camera(gain=(0.85, 1.0, 1.15), black=0.03, white=0.82, blur=0.6, rims=0.0, grain=5.0)


def lab(rgb: F64) -> F64:
    m = np.array([[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.072175], [0.0193339, 0.119192, 0.9503041]])
    xyz = decode(rgb / 255) @ m.T / np.array([0.95047, 1, 1.08883])
    f = np.where(xyz > 0.008856, np.cbrt(np.maximum(xyz, 1e-9)), 7.787 * xyz + 16 / 116)
    return np.stack([116 * f[..., 1] - 16, 500 * (f[..., 0] - f[..., 1]), 200 * (f[..., 1] - f[..., 2])], axis=-1)


def ciede2000(a: U8, b: U8) -> float:
    """Mean colour difference, grain averaged away (G. Sharma, W. Wu and E. Dalal, 2005, doi:10.1002/col.20070)."""
    (l1, a1, b1), (l2, a2, b2) = (np.moveaxis(lab(cv2.GaussianBlur(p[INNER].astype(np.float64), (0, 0), 1.5)), -1, 0) for p in (a, b))
    c = (np.hypot(a1, b1) + np.hypot(a2, b2)) / 2
    g = 1.5 - 0.5 * np.sqrt(c**7 / (c**7 + 25.0**7))
    c1, c2 = np.hypot(g * a1, b1), np.hypot(g * a2, b2)
    h1, h2 = np.degrees(np.arctan2(b1, g * a1)) % 360, np.degrees(np.arctan2(b2, g * a2)) % 360
    dh = (h2 - h1 + 180) % 360 - 180
    turn = 2 * np.sqrt(c1 * c2) * np.sin(np.radians(dh / 2))
    lm, cm, hm = (l1 + l2) / 2, (c1 + c2) / 2, (h1 + dh / 2) % 360
    t = (1 - 0.17 * np.cos(np.radians(hm - 30)) + 0.24 * np.cos(np.radians(2 * hm)) + 0.32 * np.cos(np.radians(3 * hm + 6))
         - 0.2 * np.cos(np.radians(4 * hm - 63)))  # fmt: skip
    sl, sc, sh = 1 + 0.015 * (lm - 50) ** 2 / np.sqrt(20 + (lm - 50) ** 2), 1 + 0.045 * cm, 1 + 0.015 * cm * t
    rt = -2 * np.sqrt(cm**7 / (cm**7 + 25.0**7)) * np.sin(np.radians(60 * np.exp(-(((hm - 275) / 25) ** 2))))
    dl, dc, dt = (l2 - l1) / sl, (c2 - c1) / sc, turn / sh
    return float(np.sqrt(np.maximum(dl**2 + dc**2 + dt**2 + rt * dc * dt, 0)).mean())


class Photographs(InFolder):
    def shot(self, plate: str, element: str, camera: Camera, crf: float = 23) -> Path:
        """A shot file: a hand's short move over the plate's photograph, the element in its middle."""
        rng = np.random.default_rng(1)
        wide = photo(plate, (700, 450)).astype(np.float64)
        with VideoWriter(self.folder / "clip.mp4", SIZE, Fraction(30), coding=Coding(crf=crf, preset="medium")) as out:
            for k in range(28):
                m = np.array([[1, 0, -10 - 12 * np.sin(k / 8) + rng.normal(0, 0.5)], [0, 1, -10 - 8 * np.cos(k / 7)]])
                seen = cv2.warpAffine(wide, m, SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
                out.write(camera.shows(np.clip(seen, 0, 255), rng))
        cv2.imwrite(str(self.folder / "element.png"), photo(element, ELEMENT)[..., ::-1])
        file = self.folder / "shot.json"
        file.write_text(json.dumps({
            "plonket": 1, "media": {"clip": "clip.mp4", "element": "element.png"},
            "shot": {"name": "s", "footage": {"asset": "clip"},
                     "stack": [{"kind": "still", "id": "it", "name": "It", "asset": "element", "x": 320, "y": 200}]},
        }))  # fmt: skip
        return file

    def rendered(self, file: Path, name: str) -> U8:
        self.assertEqual(main(["render", str(file), "--range", "12:13", "--out", str(self.folder / name)]), 0)
        clip = open_clip(self.folder / name / "000000.png")
        return clip.rgb(0)[BOX]

    def before_and_after(self, plate: str, element: str, camera: Camera) -> tuple[U8, U8, Path]:
        file = self.shot(plate, element, camera)
        before = self.rendered(file, "before")
        # Into another folder: what it names is found from there.
        (self.folder / "other").mkdir(exist_ok=True)
        out = self.folder / "other" / "matched.json"
        self.assertEqual(main(["match", str(file), "--layer", "it", "--frame", "12", "--out", str(out)]), 0)
        return before, self.rendered(out, "after"), out

    def test_a_strong_camera_is_met_by_about_half_and_more(self) -> None:
        for plate, element, camera in (("astronaut.png", "coffee.png", WARM), ("astronaut.png", "motorcycle_left.png", COOL)):
            before, after, _ = self.before_and_after(plate, element, camera)
            truth = camera.shows(before.astype(np.float64))
            was, is_ = ciede2000(before, truth), ciede2000(after, truth)
            self.assertLess(is_, 0.6 * was, (plate, element, was, is_))

    def test_softness_and_grain_are_the_plate_s(self) -> None:
        _, after, out = self.before_and_after("astronaut.png", "coffee.png", COOL)
        looks = {look["kind"]: look for look in json.loads(out.read_text())["shot"]["stack"][0]["looks"]}
        self.assertIn("grain", looks)
        # Texture is not taken for it: never stronger than what the camera put in.
        strength = np.mean(looks["grain"]["profile"]["strength"])
        self.assertTrue(0.3 < strength < 1.15 * COOL.grain, strength)
        where = np.ones((156, 196), bool)
        truth = COOL.shows(photo("coffee.png", ELEMENT).astype(np.float64))
        widths = [edge_width(np.ascontiguousarray(p[INNER].mean(axis=2), np.float32), where) for p in (after, truth)]
        assert widths[0] is not None and widths[1] is not None
        self.assertLess(abs(widths[0] - widths[1]), 0.35)

    def test_a_phone_s_rims_are_taken_off_as_they_were_drawn(self) -> None:
        for name in ("coffee.png", "motorcycle_left.png"):
            clean = photo(name, SIZE).astype(np.float64)
            plain = replace(WARM, rims=0.0, grain=0.0).shows(clean)
            rimmed = replace(WARM, rims=0.8, grain=0.0).shows(clean)
            look = Sharpen(id="l", name="Rims", does="rims", amount=80, radius=1.5)
            rgba = np.dstack([decode(rimmed / 255), np.ones(clean.shape[:2])]).astype(np.float32)
            back = encode(LOOKS.of(look).run(rgba, look, LookContext(frame=0))[..., :3].astype(np.float64)) * 255
            off = [float(np.sqrt(((p - plain) ** 2).mean())) for p in (rimmed.astype(np.float64), back)]
            self.assertLess(off[1], 0.3 * off[0], name)

    def test_what_would_not_come_nearer_is_left_alone(self) -> None:
        # A cat in soft light before a harder picture: its black is above the plate's already.
        _, _, out = self.before_and_after("coffee.png", "chelsea.png", WARM)
        levels = [look for look in json.loads(out.read_text())["shot"]["stack"][0]["looks"] if look["kind"] == "levels"]
        self.assertTrue(all(look["out_black"] < 2 for look in levels))

    def test_clean_photographs_have_hardly_a_cast(self) -> None:
        for name in ("astronaut.png", "coffee.png", "motorcycle_left.png"):
            found = camera_colours(np.asarray(photo(name, SIZE) / 255, np.float32))
            self.assertLess(float(np.abs(found.cast).max()), 0.09, name)
            self.assertLess(found.black, 0.05, name)

    def test_a_layer_that_is_not_there_is_named(self) -> None:
        file = self.shot("coffee.png", "coffee.png", WARM)
        self.assertNotEqual(main(["match", str(file), "--layer", "none", "--out", str(self.folder / "x.json")]), 0)
        self.assertFalse((self.folder / "x.json").exists())
