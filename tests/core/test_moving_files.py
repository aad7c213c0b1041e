"""Outlines that move as SVG, mattes as pictures and video: out and back."""

from __future__ import annotations

import io
import re
import tempfile
import unittest
import zipfile
from fractions import Fraction
from pathlib import Path
from xml.etree import ElementTree

import av
import numpy as np

from plonket.base.errors import FormatError
from plonket.base.outlines import Outline, OutlineKey, OutlinePoint, control_points
from plonket.base.states import GIVEN
from plonket.document.shot import Footage
from plonket.formats.matte_video import write_matte_video
from plonket.formats.registry import FORMATS, Coming, Going, motion_from_file
from plonket.formats.svg_outlines import NamedOutline, path_of, read_svg, write_svg
from plonket.track.matte.matte_track import MatteTrack


class MovingSvg(unittest.TestCase):
    RATE = Fraction(30000, 1001)

    def outline(self) -> Outline:
        """A shape with a round side and a feathered point, that goes, bends and softens over three keys."""
        keys = []
        for frame, x, bend, feather in ((7, 0, 5, 0.0), (19, 30, -3, 4.0), (60, 12, 0, 9.0)):
            points = [OutlinePoint(x=x + 10, y=10, out_x=bend, out_y=-3), OutlinePoint(x=x + 60, y=12, feather=feather),
                      OutlinePoint(x=x + 30, y=50)]  # fmt: skip
            keys.append(OutlineKey(frame=frame, points=points))
        return Outline(keys=keys)

    def test_movement_goes_out_and_comes_back(self) -> None:
        still = Outline(keys=[OutlineKey(frame=0, points=[OutlinePoint(x=1, y=1), OutlinePoint(x=5, y=1), OutlinePoint(x=1, y=6)])])
        outlines = [NamedOutline(name="Moves", use=True, outline=self.outline()), NamedOutline(name="Stays", use=False, outline=still)]
        text = write_svg(outlines, (100, 80), 19, self.RATE)
        moves, stays = read_svg(text, 0, self.RATE)
        self.assertEqual([one.name for one in (moves, stays)], ["Moves", "Stays"])
        # Held from the beginning on, as it is before its first key.
        self.assertEqual([key.frame for key in moves.outline.keys], [0, 7, 19, 60])
        self.assertEqual(len(stays.outline.keys), 1)
        for frame in (0, 7, 13, 19, 33.5, 60, 99):
            np.testing.assert_allclose(control_points(moves.outline, frame), control_points(self.outline(), frame), atol=2e-3)
        # What knows nothing of movement sees the frame that was asked for.
        plain = read_svg(text, 5)
        np.testing.assert_allclose(control_points(plain[0].outline, 5), control_points(self.outline(), 19), atol=2e-3)

    def test_a_browser_draws_what_lies_between_the_keys(self) -> None:
        """The same straight lines from key to key: by the values as the format has them blended."""
        text = write_svg([NamedOutline(name="m", use=True, outline=self.outline())], (100, 80), 7, self.RATE)
        animate = next(e for e in ElementTree.fromstring(text).iter() if e.tag.endswith("animate") and e.get("attributeName") == "d")
        values = [[float(v) for v in re.findall(r"-?[0-9.]+", one)] for one in animate.get("values", "").split(";")]
        self.assertEqual(len({re.sub(r"[-0-9., ]", "", one) for one in animate.get("values", "").split(";")}), 1)
        times = [float(t) for t in animate.get("keyTimes", "").split(";")]
        seconds = float(animate.get("dur", "")[:-1])
        self.assertEqual((times[0], times[-1], animate.get("calcMode")), (0, 1, "linear"))
        at = 30 / float(self.RATE) / seconds
        k = max(i for i, t in enumerate(times) if t <= at)
        share = (at - times[k]) / (times[k + 1] - times[k])
        mixed = np.array(values[k]) * (1 - share) + np.array(values[k + 1]) * share
        want = [float(v) for v in re.findall(r"-?[0-9.]+", path_of(self.outline(), 30, curved=True))]
        np.testing.assert_allclose(mixed, want, atol=2e-3)

    def test_drawn_elsewhere(self) -> None:
        text = """<svg xmlns="http://www.w3.org/2000/svg"><g transform="translate(10,0)">
          <path d="M0 0 L4 0 L0 4 Z"><animate attributeName="d" dur="2s" values="M0 0 L4 0 L0 4 Z; M5 0 L9 0 L5 4 Z; M0 0 Z"/></path>
          </g><polygon points="1,1 2,1 1,2"><animate attributeName="points" dur="1000ms" values="1,1 2,1 1,2;3,1 4,1 3,2"/></polygon>
          <rect width="3" height="2"><animate attributeName="x" dur="2s" values="0;9"/></rect></svg>"""
        path, polygon, rect = read_svg(text, 0, Fraction(10))
        self.assertEqual([key.frame for key in path.outline.keys], [0, 10], "a shape without points has no key")
        self.assertEqual([key.points[0].x for key in path.outline.keys], [10, 15])
        self.assertEqual([(key.frame, key.points[0].x) for key in polygon.outline.keys], [(0, 1), (10, 3)])
        self.assertEqual(len(rect.outline.keys), 1)


class MatteFiles(unittest.TestCase):
    SIZE = (96, 64)

    def footage(self, frames: int) -> Footage:
        return Footage(asset="a" * 64, name="f", width=96, height=64, rate="25/1", frames=frames, in_frame=0, out_frame=frames - 1)

    def track(self) -> MatteTrack:
        rng = np.random.default_rng(2)
        track = MatteTrack.empty(self.SIZE, 4)
        for frame in (0, 2, 3):
            alpha = rng.integers(0, 256, (64, 96), np.uint8)
            track = track.with_frame(frame, alpha, "file", 1.0, GIVEN)
        return track

    def test_pictures_and_video_keep_every_value(self) -> None:
        track = self.track()
        for form in ("mattes.zip", "mattes-exr.zip", "matte.mkv"):
            entry = FORMATS.get(form)
            assert entry.write is not None
            data = entry.write(Going(motion=None, measured=track, footage=self.footage(4)))
            assert isinstance(data, bytes)
            motion, back = motion_from_file(Coming(text="", data=data, motion_id="m", name="M", footage=self.footage(4)))
            assert isinstance(back, MatteTrack)
            self.assertEqual(motion.kind, "matte")
            self.assertEqual(np.flatnonzero(back.known()).tolist(), [0, 2, 3], form)
            for frame in (0, 2, 3):
                np.testing.assert_array_equal(back.alpha(frame), track.alpha(frame), form)
            with self.assertRaises(FormatError) as caught:
                motion_from_file(Coming(text="", data=data, motion_id="m", name="M", footage=self.footage(5)))
            self.assertIn("4", caught.exception.message)

    def test_another_reader_sees_the_same(self) -> None:
        track = self.track()
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "m.mkv"
            path.write_bytes(write_matte_video(track, Fraction(25)))
            with av.open(str(path)) as container:
                stream = container.streams.video[0]
                self.assertEqual((stream.average_rate, stream.codec_context.pix_fmt), (25, "gray"))
                frames = [one.to_ndarray(format="gray") for one in container.decode(stream)]
        self.assertEqual(len(frames), 4)
        np.testing.assert_array_equal(frames[2], track.alpha(2))
        self.assertFalse(frames[1].any())

    def test_damaged_ones(self) -> None:
        good = write_matte_video(self.track(), Fraction(25))
        for data in (b"\x1a\x45\xdf\xa3 junk", b"0000ftyp junk", good[:200]):
            with self.assertRaises(FormatError):
                motion_from_file(Coming(text="", data=data, motion_id="m", name="M", footage=self.footage(4)))
        box = io.BytesIO()
        with zipfile.ZipFile(box, "w") as archive:
            archive.writestr("0.exr", b"no exr")
        with self.assertRaises(FormatError) as caught:
            motion_from_file(Coming(text="", data=box.getvalue(), motion_id="m", name="M", footage=self.footage(1)))
        self.assertIn("0.exr", caught.exception.message)
