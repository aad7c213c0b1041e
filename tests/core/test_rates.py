"""Videos at another rate than the shot's, and with more light than white: read back by another reader and formula."""

from __future__ import annotations

from pathlib import Path
from unittest import mock

import av
import numpy as np

from plonket.base.colour import linear_from_codes
from plonket.base.conventions import F32, U16
from plonket.media import open_clip
from plonket.media.hdr import display_codes, hlg_codes
from plonket.render.frame import render_frame
from tests.core.test_outputs import CLAP, FRAMES, SIZE, Made, decoded

PRIMARIES = np.array([[1.6605, -0.5876, -0.0728], [-0.1246, 1.1329, -0.0083], [-0.0182, -0.1006, 1.1187]])
"""BT.2020 to BT.709 (ITU-R BT.2087-0, annex 1)."""


def light_of_hlg(codes: U16) -> F32:
    """What a display of 1000 cd/m2 shows of an HLG signal, in shares of white at 203 cd/m2, in BT.2020 (BT.2100-2, table 5)."""
    signal = codes / 65535
    a, b, c = 0.17883277, 0.28466892, 0.55991073
    scene = np.where(signal <= 0.5, signal**2 / 3, (np.exp((signal - c) / a) + b) / 12)
    return np.asarray(scene * (scene @ [0.2627, 0.678, 0.0593])[..., None] ** 0.2 * 1000 / 203, np.float32)


class Ranged(Made):
    def shown(self, path: Path) -> list[int]:
        """Which frame of the shot each frame of a file shows."""
        def nearest(seen: np.ndarray) -> int:
            return int(np.argmin([np.abs(seen[..., :3].astype(int) - frame).mean() for frame in self.frames]))

        return [nearest(seen) for seen in decoded(path)]

    def test_another_rate_lasts_as_long_and_draws_only_what_is_shown(self) -> None:
        for kind in ("h264", "h265", "av1", "vp9", "prores422", "prores4444"):
            with self.subTest(kind):
                out = self.made(self.shot(), self.of(kind, pace="30"))
                self.assertEqual(self.shown(out), [4 * k // 5 for k in range(15)])
                with av.open(str(out)) as box:
                    self.assertEqual(box.streams.video[0].average_rate, 30)
                self.assertAlmostEqual(self.begins(out), CLAP, delta=0.004)
        fast = self.shot(footage={"rate": "60/1"})
        with mock.patch("plonket.render.deliver.render_frame", side_effect=render_frame) as drawn:
            # Pieces of which some show none of their frames.
            out = self.made(fast, self.of("vp9", pace="30", coverage="none"), cuts=(1, 2, 3, 6, FRAMES))
        self.assertEqual(self.shown(out), [1, 3, 5, 7, 9, 11])
        self.assertEqual([call.args[2] for call in drawn.call_args_list], [1, 3, 5, 7, 9, 11])
        slower = self.made(fast, self.of("h264", pace="23.976"))
        self.assertEqual(self.shown(slower), [0, 2, 5, 7, 10])

    def hlg_light(self, path: Path, frame: int) -> F32:
        """The light of a frame of an HLG file, as `light_of_hlg`."""
        with av.open(str(path)) as box:
            one = list(box.decode(video=0))[frame]
            self.assertEqual((one.color_primaries, one.color_trc, one.colorspace, one.color_range), (9, 18, 9, 1))
            self.assertEqual(one.format.name, "yuv420p10le")
            y, u, v = (
                np.frombuffer(p, np.uint16).reshape(p.height, -1)[:, : p.width].astype(np.float64)
                for p in (one.planes[k] for k in range(3))
            )  # fmt: skip
        u, v = (np.kron((p - 512) / 896, np.ones((2, 2))) for p in (u, v))
        y = (y - 64) / 876
        signal = np.clip(np.dstack([y + 1.4746 * v, y - 0.16455 * u - 0.57135 * v, y + 1.8814 * u]), 0, 1)
        return light_of_hlg(np.asarray(signal * 65535 + 0.5, np.uint16))

    def test_hlg_has_white_at_203_and_more_light_than_white(self) -> None:
        lit = {"kind": "fill", "id": "f", "name": "F", "first": "#ffffff", "cover": 100}
        plain, brighter = self.shot(), self.shot(stack=[lit], footage={"ground": "clear", "opacity": 0})
        expected = linear_from_codes(open_clip(self.clip).rgb(3)) @ np.linalg.inv(PRIMARIES).T
        for kind in ("h265", "av1"):
            with self.subTest(kind):
                seen = self.hlg_light(self.made(plain, self.of(kind, quality="best", light="hlg")), 3)
                # Where colour hardly changes: it is stored at half the size.
                error = np.abs(np.sqrt(np.clip(seen, 0, None)) - np.sqrt(np.clip(expected, 0, None)))
                self.assertLess(float(np.median(error)), 0.012)
                small = self.made(plain, self.of(kind, quality="best", light="hlg", at_most=0.025))
                self.assertLess(float(np.median(np.abs(self.hlg_light(small, 3) - seen))), 0.03)
        white = self.hlg_light(self.made(brighter, self.of("h265", quality="best", light="hlg")), 3)
        np.testing.assert_allclose(white[50, 90], [1, 1, 1], atol=0.01)

    def test_light_above_white_is_kept_and_highlights_come_back(self) -> None:
        nits = np.geomspace(2, 1000, SIZE[0])
        grey = np.repeat(np.repeat((nits / 203).astype(np.float32)[None, :, None], 4, axis=2), 16, axis=0)
        straight = light_of_hlg(hlg_codes(grey, rolled=False))
        np.testing.assert_allclose(straight[0, :, 1], nits / 203, rtol=0.004)
        # A clip that was filmed so is shown rolled off, and goes out as it came in.
        filmed = hlg_codes(grey, rolled=False)
        shown = linear_from_codes(display_codes(filmed, "hlg"))
        back = light_of_hlg(hlg_codes(shown, rolled=True))
        np.testing.assert_allclose(back[0, :, 1], nits / 203, rtol=0.012)
        self.assertLess(float(shown.max()), 1.0 + 1e-6)
        # Colours of a smaller gamut keep their hue; what is no light is black.
        tint = np.array([[[3.0, 1.5, 0.4], [0.9, 0.2, 0.1], [-1, np.nan, 0]]], np.float32)
        found = light_of_hlg(hlg_codes(tint, rolled=False))
        np.testing.assert_allclose(found[0, :2] @ PRIMARIES.T, tint[0, :2], rtol=0.02, atol=0.01)
        np.testing.assert_allclose(found[0, 2], 0, atol=1e-6)
