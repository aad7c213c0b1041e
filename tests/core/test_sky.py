"""A sky is found by what stands over each column; walls as bright as it are none."""

from __future__ import annotations

import unittest

import cv2
import numpy as np
from skimage import data

from plonket.base.colour import linear_from_codes
from plonket.base.conventions import U8
from plonket.document.kinds import KEYS
from plonket.keying.common import KeyContext
from plonket.keying.sky import below_sky, find_sky

W, H = 640, 272


def street(shift: int = 0) -> tuple[U8, np.ndarray]:
    """A grey sky over roofs, between walls of real brick whose pale strips are as bright as it; 8-bit, and where it is sky."""
    rng = np.random.default_rng(4)
    x, y = np.meshgrid(np.arange(W) + shift, np.arange(H))
    rgb = (185 + 14 * np.sin(x / 90)[..., None] + 6 * np.sin(y / 25)[..., None]) * np.array([0.99, 1.0, 1.01])
    roofs = 50 + 14 * np.sin(x[0] / 37) + 8 * np.sign(np.sin(x[0] / 11))
    brick = cv2.resize(data.brick(), (W, H), interpolation=cv2.INTER_AREA)[..., None] * np.array([0.62, 0.52, 0.46])
    far = y > roofs[None]
    rgb[far] = (0.8 * brick)[far]
    wall = (x < 240) | (x > 590)
    rgb[wall] = brick[wall]
    # Pale strips and window frames up to the picture's top.
    for a, b, top, bottom in ((30, 44, 0, 70), (96, 104, 0, 200), (150, 182, 14, 48), (200, 226, 0, 66), (608, 616, 0, 90)):
        strip = (x >= a) & (x < b) & (y >= top) & (y < bottom)
        rgb[strip] = rng.normal(182, 3, (int(strip.sum()), 1))
    out = cv2.GaussianBlur(rgb.clip(0, 255).astype(np.float32), (0, 0), 0.7) + rng.normal(0, 1.2, (H, W, 1))
    return out.clip(0, 255).astype(np.uint8), ~far & ~wall


class Street(unittest.TestCase):
    def test_pale_walls_are_kept_and_the_sky_goes(self) -> None:
        views = [street(shift) for shift in (0, 5, 9)]
        sky = find_sky([rgb for rgb, _ in views])
        line = below_sky(sky, 0.016)
        assert line is not None
        for rgb, true in views:
            alpha = KEYS.of(sky.key).run(linear_from_codes(rgb), sky.key, KeyContext())[..., 3]
            bare = float((alpha[:60][~true[:60]] < 0.5).mean())
            keep = np.zeros((H, W), np.uint8)
            polygon = np.concatenate([line * (W, H), [(W * 1.1, H * 1.1), (-0.1 * W, H * 1.1)]])
            cv2.fillPoly(keep, [np.round(polygon).astype(np.int32)], 1)
            kept = np.maximum(alpha, keep)
            inner = cv2.erode(true.astype(np.uint8), np.ones((5, 5))) > 0
            self.assertGreater(bare, 0.08, "by itself the key takes the pale strips off")
            self.assertLess(float((kept[~true] < 0.5).mean()), 0.006)
            self.assertGreater(float((kept[inner] < 0.5).mean()), 0.97)

    def test_the_line_lies_under_all_of_a_sky_over_a_ridge(self) -> None:
        rgb = np.empty((H, W, 3), np.uint8)
        rgb[:] = (150, 180, 220)
        ridge = np.round(120 + 50 * np.sin(np.arange(W) / 60)).astype(int)
        ground = np.arange(H)[:, None] > ridge[None]
        rgb[ground] = (np.random.default_rng(1).integers(20, 90, (H, W, 3)))[ground]
        line = below_sky(find_sky([rgb]), 0.016)
        assert line is not None
        under = np.interp(np.arange(W) + 0.5, line[:, 0] * W, line[:, 1] * H) - ridge
        self.assertGreater(float(under.min()), 0)
        self.assertLess(float(np.median(under)), 0.12 * H)
        self.assertLess(len(line), 40)
