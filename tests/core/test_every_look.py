"""What must hold of every look, whatever it does: the same at any size and in any window, nothing from nothing, no surprises."""

from __future__ import annotations

import unittest
from typing import Any

import cv2
import numpy as np

from plonket.base.conventions import F32
from plonket.base.outlines import polygon_outline
from plonket.document.bases import Look
from plonket.document.kinds import LOOKS
from plonket.image.picture import Picture, windowed
from plonket.looks.apply import apply_looks
from plonket.masks.outlined import OutlineMask

SIZE = (320, 240)
LARGE = 2
"""The same picture again, so many times as large, for what must look alike at any size."""

# Every look, set so that it does something to see; some in each of the ways they have.
SET: dict[str, list[dict[str, Any]]] = {
    "colour": [{"exposure": 0.7, "contrast": 30.0, "warm": 40.0, "saturation": 150.0}],
    "levels": [{"black": 12.0, "middle": 1.6, "white": 85.0}, {"channel": "green", "out_black": 20.0}],
    "curves": [{"master": [{"x": 0, "y": 0.1}, {"x": 0.4, "y": 0.6}, {"x": 1, "y": 0.9}]}],
    "lift": [{"lift": 8.0, "gamma": 1.4, "gain": 120.0, "gain_tint": "#ffd0a0"}],
    "white": [{"white": "#ffe0c0"}, {"kelvin": 3200.0}],
    "range": [{"colour": "#c04030", "hue": 90.0, "width": 40.0}, {"others": True}],
    "cube": [{"table": "c" * 64}],
    "blur": [{"radius": 6.0}, {"shape": "lens", "radius": 8.0},
             {"shape": "lens", "radius": 8.0, "blades": 5, "discs": 200.0, "rim": 50.0}, {"shape": "along", "radius": 12.0, "angle": 30.0}],
    "rays": [{"x": 150.0, "y": 110.0, "threshold": 40.0}, {"does": "zoom", "x": 150.0, "y": 110.0, "length": 20.0},
             {"does": "spin", "x": 150.0, "y": 110.0, "length": 10.0}],
    "haze": [{"near_x": 160.0, "near_y": 220.0, "far_x": 160.0, "far_y": 20.0},
             {"does": "blur", "near_x": 160.0, "near_y": 220.0, "far_x": 160.0, "far_y": 20.0}],
    "moved": [{"shutter": 300.0}],
    "degrain": [{"strength": 30.0, "reach": 1}],
    "sharpen": [{"amount": 120.0, "radius": 2.5}, {"does": "rims", "amount": 120.0, "radius": 2.5}],
    "glow": [{"threshold": 40.0, "radius": 9.0, "strength": 90.0}],
    "streaks": [{"threshold": 40.0, "length": 60.0, "rays": 4, "angle": 20.0}],
    "ripple": [{"amount": 5.0, "lump": 40.0}, {"form": "water", "amount": 5.0}, {"form": "glass", "amount": 5.0}],
    "projection": [{"pitch": 24.0, "bar_height": 60.0}],
    "shadow": [{"falls": "wall", "away_x": 20.0, "away_y": 14.0, "far": 6.0}, {"length": 50.0, "far": 8.0}],
    "wrap": [{"width": 7.0, "strength": 90.0}],
    "grain": [{"strength": 5.0}],
}  # fmt: skip
RANDOM = {"grain"}
"""Made afresh for every picture: alike in kind, not in every pixel."""
HARDLY = {"degrain"}
"""Takes off what this subject has none of: hardly anything changes."""


def subject(times: int = 1, shift: float = 0.0) -> F32:
    """A lit, coloured disc with a soft edge and a bright lamp in it, on nothing; (h, w, 4) premultiplied."""
    w, h = SIZE[0] * times, SIZE[1] * times
    y, x = (np.mgrid[0:h, 0:w] + 0.5) / times
    alpha = np.clip((52 - np.hypot(x - 150 - shift, y - 112)) / 6, 0, 1)
    colour = np.stack([0.30 + 0.25 * np.sin(x / 21), 0.12 + 0.06 * np.cos(y / 17), 0.10 + 0.05 * np.sin((x + y) / 25)], axis=-1)
    lamp = np.clip((11 - np.hypot(x - 165 - shift, y - 96)) / 3, 0, 1)[..., None]
    light = colour * (1 - lamp) + np.array([2.5, 2.2, 1.6]) * lamp
    return np.dstack([light * alpha[..., None], alpha]).astype(np.float32)


def behind(times: int = 1) -> F32:
    w, h = SIZE[0] * times, SIZE[1] * times
    x = (np.arange(w) + 0.5) / times
    row = np.stack([0.2 + 0.1 * np.sin(x / 30), 0.25 + 0.1 * np.cos(x / 40), 0.4 + 0 * x, np.ones_like(x)], axis=-1)
    return np.repeat(row[None], h, axis=0).astype(np.float32)


def table(asset: str) -> F32:
    ramp = np.linspace(0, 1, 9, dtype=np.float32)
    blue, green, red = np.meshgrid(ramp, ramp, ramp, indexing="ij")
    return np.stack([red**1.4, green, blue**0.7], axis=-1)


def window_of(rgba: F32, margin: int) -> Picture:
    ys, xs = np.nonzero(rgba[..., 3])
    x0, x1, y0, y1 = xs.min() - margin, xs.max() + 1 + margin, ys.min() - margin, ys.max() + 1 + margin
    return Picture(rgba=np.ascontiguousarray(rgba[y0:y1, x0:x1]), x=int(x0), y=int(y0))


def laid(look: Look, picture: Picture, *, times: int = 1, frame: int = 3) -> F32:
    """The whole picture (h, w, 4) with the look on what was given."""
    size = (SIZE[0] * times, SIZE[1] * times)

    def neighbour(when: int) -> Picture:
        return Picture(rgba=subject(times, 4.0 * (when - frame)))

    out = apply_looks([look], picture, frame, size, float(times), lambda _: np.diag([times, times, 1.0]), behind(times),
                 neighbour, table)  # fmt: skip
    return windowed(out, 0, 0, size)


class Every(unittest.TestCase):
    def looks(self) -> list[Any]:
        self.assertEqual({entry.kind for entry in LOOKS}, set(SET), "a look is missing here")
        return [LOOKS.get(kind).settings.model_validate({"kind": kind, "id": "look", "name": kind, **values})
                for kind, several in SET.items() for values in several]  # fmt: skip

    def test_it_changes_the_picture_and_leaves_it_a_picture(self) -> None:
        before = subject()
        for look in self.looks():
            with self.subTest(look.name):
                after = laid(look, Picture(rgba=before.copy()))
                self.assertTrue(np.isfinite(after).all())
                self.assertTrue(float(after[..., 3].min()) >= -1e-5 and float(after[..., 3].max()) <= 1 + 1e-4)
                self.assertGreater(float(np.abs(after - before).max()), 0.005 if look.kind in HARDLY else 0.03)

    def test_a_frame_always_comes_out_alike_and_what_was_given_is_left_alone(self) -> None:
        for look in self.looks():
            with self.subTest(look.name):
                given = subject()
                once, twice = laid(look, Picture(rgba=given)), laid(look, Picture(rgba=subject()))
                np.testing.assert_array_equal(once, twice)
                np.testing.assert_array_equal(given, subject())

    def test_off_and_mixed_to_nothing_it_does_nothing(self) -> None:
        for look in self.looks():
            for values in ({"shown": False}, {"mix": 0.0}):
                after = laid(look.model_copy(update=values), Picture(rgba=subject()))
                np.testing.assert_array_equal(after, subject(), err_msg=look.name)
            half = laid(look.model_copy(update={"mix": 50.0}), Picture(rgba=subject()))
            whole = laid(look, Picture(rgba=subject()))
            np.testing.assert_allclose(half, (whole + subject()) / 2, atol=2e-3, err_msg=look.name)

    def test_a_mask_keeps_it_where_it_is(self) -> None:
        square = polygon_outline(np.array([[0.0, 0], [150, 0], [150, 240], [0, 240]]))
        mask = OutlineMask(id="m", name="m", outline=square)
        for look in self.looks():
            masked = laid(look.model_copy(update={"masks": [mask]}), Picture(rgba=subject()))
            whole = laid(look, Picture(rgba=subject()))
            np.testing.assert_allclose(masked[:, 152:], subject()[:, 152:], atol=1e-6, err_msg=look.name)
            np.testing.assert_allclose(masked[:, :148], whole[:, :148], atol=1e-6, err_msg=look.name)

    def test_out_of_nothing_comes_nothing(self) -> None:
        for look in self.looks():
            after = laid(look, Picture(rgba=np.zeros_like(subject())))
            if look.kind == "moved":
                # What moves away was here in the frame before.
                continue
            self.assertLess(float(np.abs(after).max()), 1e-5, look.name)

    def test_it_does_not_matter_how_large_a_window_the_picture_comes_in(self) -> None:
        whole = subject()
        for look in self.looks():
            if look.kind in RANDOM:
                continue
            with self.subTest(look.name):
                everything = laid(look, Picture(rgba=whole.copy()))
                cut = laid(look, window_of(whole, 1))
                off = np.abs(everything - cut)
                self.assertLess(float(off.max()), 0.05)
                self.assertLess(float(off.mean()), 2e-4)

    def test_it_looks_alike_at_any_size(self) -> None:
        """A preview at half size is the delivered picture made smaller."""
        for look in self.looks():
            if look.kind in RANDOM | HARDLY:
                continue
            with self.subTest(look.name):
                small = laid(look, Picture(rgba=subject()))
                large = laid(look, Picture(rgba=subject(LARGE)), times=LARGE)
                reduced = cv2.resize(large, SIZE, interpolation=cv2.INTER_AREA)
                changed = float(np.abs(small - subject()).mean())
                off = float(np.abs(small - reduced).mean())
                edges = float(np.abs(subject() - cv2.resize(subject(LARGE), SIZE, interpolation=cv2.INTER_AREA)).mean())
                # Rays are drawn out in steps of a pixel, so larger pictures have finer ones.
                share = 0.25 if look.kind == "rays" else 0.06
                self.assertLess(off, share * changed + 2 * edges, f"{off:.5f} of {changed:.5f}")
