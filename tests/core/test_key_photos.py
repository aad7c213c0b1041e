"""The screen key on photographs as faces and clothes: hair, a veil, a swinging arm, woven cloth with folds, spill, coding."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import decode, linear_from_codes
from plonket.base.conventions import F32
from plonket.keying.chroma import restored
from plonket.keying.screen import ScreenKey, key_screen
from plonket.media import open_clip
from synth.phone.sensor import Sensor
from tests.core.photos import photo
from tests.core.test_steady import write

SIZE = (640, 360)
TWICE = 2
VEIL = (slice(130, 350), slice(110, 270))


@dataclass(frozen=True)
class Filmed:
    """What is filmed: the cloth, pictures for the face and the clothes, the veil and how dense it is, the hair."""

    cloth: str
    face: str
    clothes: str
    veil: str
    dense: float
    hair: str
    off: float
    """Mean error of the matte at most."""
    crf: int = 23


STUDIO = {
    "warm veil on green": Filmed("#2f9a48", "astronaut.png", "coffee.png", "#e8dccb", 0.45, "#3a2b22", 0.0125, 20),
    "cool veil on blue": Filmed("#2a5cb8", "chelsea.png", "gravel.png", "#d9dde2", 0.35, "#8a6238", 0.011),
    "white veil on green": Filmed("#35a052", "chelsea.png", "astronaut.png", "#f0efe9", 0.3, "#c8a870", 0.011),
    "red things on magenta": Filmed("#b03a9a", "coffee.png", "chelsea.png", "#e4e6da", 0.4, "#5a4a3a", 0.0135),
}


def linear(code: str) -> F32:
    return decode(np.array([int(code[k : k + 2], 16) for k in (1, 3, 5)]) / 255).astype(np.float32)


def cloth(what: Filmed, rng: np.random.Generator) -> F32:
    """A woven cloth, lit unevenly, with folds."""
    w, h = SIZE[0] * TWICE, SIZE[1] * TWICE
    y, x = np.mgrid[0:h, 0:w].astype(np.float32) / TWICE
    light = 1.1 - 0.4 * np.hypot((x - 240) / 560, (y - 100) / 320) ** 1.5
    light *= 1 + 0.05 * np.sin(x / 31 + 1.6 * np.sin(y / 70)) + 0.03 * np.sin(x / 14 + 2)
    light *= 1 + 1.6 * cv2.GaussianBlur(rng.normal(0, 0.035, (h, w)).astype(np.float32), (0, 0), 0.8)
    return np.asarray(linear(what.cloth) * np.clip(light, 0.15, 2)[..., None], np.float32)


def under(front: tuple[F32, F32], back: tuple[F32, F32]) -> tuple[F32, F32]:
    """Premultiplied light and coverage of one thing before another."""
    return front[0] + back[0] * (1 - front[1][..., None]), front[1] + back[1] * (1 - front[1])


def subject(what: Filmed, rng: np.random.Generator) -> tuple[F32, F32]:
    """Premultiplied light and coverage at twice the size."""
    w, h = SIZE[0] * TWICE, SIZE[1] * TWICE
    y, x = np.mgrid[0:h, 0:w].astype(np.float32) / TWICE
    colour = np.full((h, w, 3), 0.2, np.float32)
    colour[60 * 2 : 240 * 2, 245 * 2 : 395 * 2] = linear_from_codes(photo(what.face, (300, 360)))
    colour[201 * 2 :, 170 * 2 : 470 * 2] = linear_from_codes(photo(what.clothes, (600, 318)))
    body = np.zeros((h, w), np.float32)
    cv2.ellipse(body, (640, 300), (116, 152), 0, 0, 360, 1, -1, cv2.LINE_AA)
    cv2.fillPoly(body, [np.array([[200, 360], [250, 228], [390, 228], [440, 360]]) * TWICE], 1, cv2.LINE_AA)
    hair = np.zeros((h, w), np.float32)
    for _ in range(120):
        way, bend, long = np.radians(rng.uniform(185, 355)), rng.uniform(-0.6, 0.6), rng.uniform(10, 40)
        turns = way + bend * np.linspace(0, 1, 8)
        along = long * np.linspace(0, 1, 8)
        root = np.array([320 + 56 * np.cos(way), 150 + 74 * np.sin(way)])
        strand = TWICE * (root + along[:, None] * np.stack([np.cos(turns), np.sin(turns)], axis=1))
        one = np.zeros((h, w), np.float32)
        cv2.polylines(one, [np.round(strand * 16).astype(int)], False, float(rng.uniform(0.5, 1)), 1, cv2.LINE_AA, 4)
        hair = np.maximum(hair, one)
    hair = cv2.GaussianBlur(hair, (0, 0), 0.7)
    veil = np.zeros((h, w), np.float32)
    cv2.fillPoly(veil, [np.array([[262, 120], [200, 190], [120, 330], [215, 352], [258, 240]]) * TWICE], 1)
    veil = cv2.GaussianBlur(veil, (0, 0), 1.2) * what.dense * (1 + 0.35 * np.sin(x / 11 + y / 23) + 0.2 * np.sin(y / 7 - x / 19))
    # An arm that swings by 14 degrees while the shutter is open.
    sleeve = linear_from_codes(photo(what.clothes, (120, 400)))
    limb = np.zeros(sleeve.shape[:2], np.float32)
    cv2.line(limb, (60, 40), (60, 370), 1, 68)
    arm = np.zeros((h, w, 4), np.float32)
    for angle in np.radians(55 + np.linspace(-7, 7, 12)):
        turn = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        move = np.column_stack([turn, np.array([820, 600]) - turn @ np.array([60, 380])])
        arm += cv2.warpAffine(np.dstack([sleeve * limb[..., None], limb]), move, (w, h)) / 12
    shining = (linear(what.hair) * hair[..., None], hair)
    front = under(shining, (colour * body[..., None], body))
    front = under(front, (linear(what.veil) * veil[..., None], veil))
    return under(front, (arm[..., :3], arm[..., 3]))


@cache
def frame(name: str) -> tuple[F32, F32]:
    """The frame as a clip stores it, linear, and the true coverage."""
    what = STUDIO[name]
    rng = np.random.default_rng(5)
    light, alpha = subject(what, rng)
    near = cv2.GaussianBlur(1 - alpha, (0, 0), 36)[..., None]
    light = light + alpha[..., None] * 0.09 * near * linear(what.cloth) + (1 - alpha[..., None]) * cloth(what, rng)
    small, truth = (cv2.resize(p, SIZE, interpolation=cv2.INTER_AREA) for p in (light, alpha))
    seen = Sensor().photograph(np.asarray(small, np.float32), rng)
    with tempfile.TemporaryDirectory() as folder:
        clip = open_clip(write(Path(folder) / "c.mp4", [seen] * 3, crf=what.crf))
        stored = clip.rgb(1)
        clip.close()
    return linear_from_codes(restored(stored)), np.asarray(cv2.GaussianBlur(truth, (0, 0), 0.55), np.float32)


class OnPhotographs(unittest.TestCase):
    def test_veils_keep_their_density_and_subjects_stay_solid_without_a_setting(self) -> None:
        for name in STUDIO:
            light, truth = frame(name)
            alpha = key_screen(light, ScreenKey()).rgba[..., 3]
            off = alpha - truth
            with self.subTest(name):
                self.assertLess(float(np.abs(off).mean()), STUDIO[name].off)
                veil = (truth[VEIL] > 0.1) & (truth[VEIL] < 0.9)
                self.assertLess(abs(float(off[VEIL][veil].mean())), 0.075)
                solid = cv2.erode(truth, np.ones((5, 5))) > 0.999
                self.assertGreater(float(alpha[solid].mean()), 0.985)
                far = cv2.dilate(truth, np.ones((15, 15))) == 0
                self.assertLess(float(alpha[far].mean()), 0.002)

    def test_a_mirrored_or_darker_picture_has_the_same_matte(self) -> None:
        light, _ = frame("warm veil on green")
        alpha = key_screen(light, ScreenKey()).rgba[..., 3]
        mirrored = key_screen(np.ascontiguousarray(light[:, ::-1]), ScreenKey()).rgba[:, ::-1, 3]
        darker = key_screen(light * np.float32(0.7), ScreenKey()).rgba[..., 3]
        for other in (mirrored, darker):
            self.assertLess(float(np.abs(other - alpha).mean()), 0.004)

    def test_only_what_is_solid_all_round_counts_as_a_hole(self) -> None:
        light, _ = frame("cool veil on blue")
        self.assertLess(key_screen(light, ScreenKey()).holes, 0.015)
        rng = np.random.default_rng(0)
        for x, y in zip(rng.integers(270, 370, 40), rng.integers(250, 350, 40), strict=True):
            light = cv2.circle(light.copy(), (int(x), int(y)), 2, linear(STUDIO["cool veil on blue"].cloth).tolist(), -1)
        self.assertGreater(key_screen(light, ScreenKey()).holes, 0.03)
