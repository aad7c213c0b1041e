"""Colours come through as they were declared: planes, depths, ranges, high range, turned stills and profiles."""

from __future__ import annotations

import io
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
import OpenEXR
import pillow_heif
from numpy.typing import NDArray
from PIL import Image, ImageCms

from plonket.base.colour import bytes_of, decode, encode
from plonket.base.conventions import F64, Codes
from plonket.base.errors import MediaError
from plonket.media import open_clip, probe
from plonket.media.conform import conform
from plonket.media.hdr import KNEE, display_codes
from plonket.media.stills import read_light, read_straight
from plonket.media.write import Coding, VideoWriter
from plonket.media.yuv import PlaneCoding, codes_of, planes_of
from plonket.render.media_pool import still_source
from tests.core.clips import phone_clip
from tests.core.test_media import InFolder

SIZE = (320, 180)
LUMA = np.array([0.2126, 0.7152, 0.0722])


def scene(size: tuple[int, int] = SIZE, seed: int = 3) -> F64:
    """A picture (h, w, 3) of display values with soft colours, hard edges and fine texture."""
    rng = np.random.default_rng(seed)
    w, h = size
    soft = cv2.resize(rng.random((7, 11, 3)), size, interpolation=cv2.INTER_CUBIC)
    soft[h // 4 : h // 2, w // 5 : w // 2] = (0.75, 0.3, 0.2)
    soft += 0.025 * rng.standard_normal((h, w, 1))
    return np.clip(0.08 + 0.82 * soft, 0, 1)


def coded(picture: F64, bits: int) -> Codes:
    most = 255 if bits == 8 else 65535
    return np.asarray(picture * most + 0.5, np.uint8 if bits == 8 else np.uint16)


def write_planes(path: Path, frames: list[Codes], coding: PlaneCoding, **declared: int) -> Path:
    """A lossless file of frames, declared as told (`primaries`, `transfer` of ITU-T H.273), by nothing of the writer's."""
    h, w = frames[0].shape[:2]
    with av.open(str(path), "w") as out:
        stream = out.add_stream("ffv1", rate=25)
        stream.width, stream.height, stream.pix_fmt = w, h, coding.layout
        context = stream.codec_context
        context.colorspace = {"601": 6, "709": 1, "2020": 9}[coding.matrix]
        context.color_range = 2 if coding.full else 1
        context.color_primaries, context.color_trc = declared.get("primaries", 1), declared.get("transfer", 1)
        for picture in frames:
            frame = av.VideoFrame(w, h, coding.layout)
            for plane, values in zip(frame.planes, planes_of(picture, coding), strict=True):
                rows = np.frombuffer(plane, values.dtype).reshape(-1, plane.line_size // values.dtype.itemsize)
                rows[: values.shape[0], : values.shape[1]] = values
            frame.colorspace, frame.color_range = context.colorspace, context.color_range
            frame.color_primaries, frame.color_trc = context.color_primaries, context.color_trc
            for packet in stream.encode(frame):
                out.mux(packet)
        for packet in stream.encode(None):
            out.mux(packet)
    return path


def off_by(found: Codes, truth: F64) -> tuple[float, float]:
    """Mean and mean absolute error of brightness, of 255."""
    most = 255 if found.dtype == np.uint8 else 65535
    off = (found / most - truth) @ LUMA * 255
    return float(off.mean()), float(np.abs(off).mean())


class Planes(InFolder):
    def test_every_matrix_range_and_depth_is_read_as_declared(self) -> None:
        picture = scene()
        for matrix in ("601", "709", "2020"):
            for full in (False, True):
                for bits in (8, 10):
                    coding = PlaneCoding(matrix=matrix, full=full, bits=bits, half_y=bits == 8)  # type: ignore[arg-type]
                    path = write_planes(self.folder / f"{matrix}{full}{bits}.mkv", [coded(picture, bits)], coding)
                    clip = open_clip(path)
                    self.addCleanup(clip.close)
                    codes = clip.codes(0)
                    self.assertEqual(codes.dtype, np.uint8 if bits == 8 else np.uint16)
                    bias, error = off_by(codes, picture)
                    self.assertLess(abs(bias), 0.05, (matrix, full, bits))
                    self.assertLess(error, 0.45 if bits == 8 else 0.2, (matrix, full, bits))

    def test_planes_agree_with_the_standards_by_hand(self) -> None:
        # 75 % bars of BT.709 and BT.601 in 8 bits, limited (SMPTE EG 1 and RP 219 tables).
        yellow = np.full((16, 16, 3), (191, 191, 0), np.uint8)
        for matrix, wanted in (("709", (168, 44, 136)), ("601", (162, 44, 142))):
            found = planes_of(yellow, PlaneCoding(matrix=matrix))  # type: ignore[arg-type]
            for plane, value in zip(found, wanted, strict=True):
                self.assertLessEqual(abs(int(plane[4, 4]) - value), 1, matrix)
        white = np.full((16, 16, 3), 65535, np.uint16)
        self.assertEqual([int(p[0, 0]) for p in planes_of(white, PlaneCoding(bits=10))], [940, 512, 512])
        self.assertEqual([int(p[0, 0]) for p in planes_of(white, PlaneCoding(bits=10, full=True))], [1023, 512, 512])

    def test_colour_lies_where_it_was_sampled(self) -> None:
        # A slanted change of colour, smooth enough to be held at half the size: any shift of it would show.
        x = np.arange(200)[None] + 0.3 * np.arange(120)[:, None]
        wave = 0.5 + 0.3 * np.sin(x / 9)
        picture = np.dstack([wave, np.full_like(wave, 0.5), 1 - wave])
        for beside in (True, False):
            for half_y in (True, False):
                coding = PlaneCoding(bits=10, beside=beside, half_y=half_y)
                back = codes_of(*planes_of(coded(picture, 16), coding), coding, deep=True) / 65535
                self.assertLess(float(np.abs(back - picture)[4:-4, 4:-4].max() * 255), 0.8, (beside, half_y))

    def test_odd_sizes(self) -> None:
        for size in ((321, 180), (320, 181), (33, 17)):
            picture = scene(size)
            for half_y in (True, False):
                coding = PlaneCoding(half_y=half_y)
                back = codes_of(*planes_of(coded(picture, 8), coding), coding)
                self.assertEqual(back.shape, (size[1], size[0], 3))
                self.assertLess(off_by(back, picture)[1], 0.5)


class Untouched(InFolder):
    def frames(self, bits: int) -> list[F64]:
        return [np.roll(scene(seed=5), 2 * k, axis=1) for k in range(4)]

    def test_conformed_and_delivered_a_clip_stays_as_it_was(self) -> None:
        for bits, half_y, matrix in ((8, True, "601"), (8, True, "709"), (10, True, "709"), (10, False, "2020")):
            coding = PlaneCoding(matrix=matrix, bits=bits, half_y=half_y)  # type: ignore[arg-type]
            frames = self.frames(bits)
            path = write_planes(self.folder / f"{bits}{half_y}{matrix}.mkv", [coded(f, bits) for f in frames], coding)
            made = conform(path, self.folder / f"work-{bits}{half_y}{matrix}")
            working = open_clip(made.clip)
            self.addCleanup(working.close)
            self.assertEqual(working.info.bit_depth, bits)
            planes, kept = working.stored(0).planes()  # type: ignore[attr-defined]
            self.assertEqual(kept, coding)
            out = self.folder / f"out-{bits}{half_y}{matrix}.mp4"
            # So well coded that what is left is the way there and back.
            with VideoWriter(out, SIZE, Fraction(25), coding=Coding(crf=1.0)) as writer:
                for k in range(4):
                    writer.write(working.codes(k))
            given, delivered = open_clip(path), open_clip(out)
            self.addCleanup(given.close)
            self.addCleanup(delivered.close)
            for what, clip in (("conformed", working), ("delivered", delivered)):
                found = np.array([off_by(clip.codes(k), given.codes(k) / (255 if bits == 8 else 65535)) for k in range(4)])
                self.assertLess(abs(found[:, 0].mean()), 0.1, (what, bits, matrix))
                # Of what is delivered, eight bits of limited range alone take a quarter of a code.
                most = 0.65 if what == "delivered" else 0.5
                self.assertLess(found[:, 1].mean(), most, (what, bits, matrix))

    def test_a_ramp_of_ten_bits_keeps_its_steps(self) -> None:
        ramp = np.repeat(np.linspace(0.2, 0.45, 640)[None], 96, axis=0)
        picture = np.dstack([ramp] * 3)
        path = write_planes(self.folder / "ramp.mkv", [coded(picture, 10)] * 2, PlaneCoding(bits=10))
        made = conform(path, self.folder / "work")
        clip = open_clip(made.clip)
        self.addCleanup(clip.close)
        codes = clip.codes(1)
        # Ten bits have 219 steps of brightness here, eight 55.
        self.assertGreater(len(np.unique(codes[48, :, 1])), 190)
        self.assertLess(float(np.abs(codes / 65535 - picture).max() * 255), 0.7)

    def test_a_turned_clip_keeps_brightness(self) -> None:
        for rotation in (90, 180):
            path = phone_clip(self.folder / f"turned{rotation}.mp4", frames=4, rotation=rotation)
            given, clip = open_clip(path), open_clip(conform(path, self.folder / f"work{rotation}").clip)
            self.addCleanup(given.close)
            self.addCleanup(clip.close)
            bias, error = off_by(clip.codes(2), given.codes(2) / 255)
            self.assertLess(abs(bias), 0.1)
            self.assertLess(error, 0.5)

    def test_a_clip_that_changes_how_it_is_stored_is_refused_in_words(self) -> None:
        first = PlaneCoding(matrix="601")
        path = write_planes(self.folder / "a.mkv", [coded(scene(), 8)] * 2, first)
        clip = open_clip(path)
        self.addCleanup(clip.close)
        from plonket.media.conform import _stored

        with self.assertRaises(MediaError):
            _stored(clip, 1, replace(first, matrix="709"))  # type: ignore[arg-type]


class HighRange(InFolder):
    def hlg_signal(self, nits: NDArray[np.float64]) -> NDArray[np.float64]:
        """The HLG signal of grey that a display of 1000 cd/m2 shows at some light (ITU-R BT.2100-2, table 5, the other way)."""
        scene_light = (nits / 1000) ** (1 / 1.2)
        a, b, c = 0.17883277, 0.28466892, 0.55991073
        return np.where(
            scene_light <= 1 / 12, np.sqrt(3 * scene_light), a * np.log(np.maximum(12 * scene_light - b, 1e-9)) + c
        )

    def pq_signal(self, nits: NDArray[np.float64]) -> NDArray[np.float64]:
        m1, m2, c1, c2, c3 = 2610 / 16384, 2523 / 32, 3424 / 4096, 2413 / 128, 2392 / 128
        y = (nits / 10000) ** m1
        return ((c1 + c2 * y) / (1 + c3 * y)) ** m2

    def test_light_below_white_is_shown_as_it_is_and_above_is_rolled_off(self) -> None:
        nits = np.array([0.5, 5, 20, 60, 110, 150, 203, 400, 700, 1000.0])
        for transfer, signal in (("hlg", self.hlg_signal(nits)), ("pq", self.pq_signal(nits))):
            wide = np.asarray(np.repeat((signal * 65535 + 0.5)[None, :, None], 3, axis=2), np.uint16)
            shown = display_codes(wide, transfer)[0] / 65535  # type: ignore[arg-type]
            below = nits / 203 < KNEE
            np.testing.assert_allclose(shown[below, 1], encode(nits[below] / 203), atol=0.002, err_msg=transfer)
            # Neutral, rising, white near white and the display's peak white.
            self.assertLess(float(np.ptp(shown, axis=1).max()), 0.002)
            self.assertTrue((np.diff(shown[:, 1]) > 0.002).all(), transfer)
            self.assertGreater(shown[6, 1] * 255, 238)
            self.assertGreater(shown[-1, 1] * 255, 254)

    def test_the_system_gamma_works_on_luminance(self) -> None:
        # A saturated colour in the scene: all of its channels get the gain of its luminance.
        light = np.array([0.08, 0.02, 0.01])
        a = np.sqrt(3 * light)
        wide = np.asarray((a * 65535 + 0.5).reshape(1, 1, 3), np.uint16)
        shown = decode(display_codes(wide, "hlg")[0, 0] / 65535)
        gain = float(light @ [0.2627, 0.678, 0.0593]) ** 0.2 * 1000 / 203
        primaries = np.array([[1.6605, -0.5876, -0.0728], [-0.1246, 1.1329, -0.0083], [-0.0182, -0.1006, 1.1187]])
        np.testing.assert_allclose(shown, np.maximum(primaries @ (light * gain), 0), atol=0.002)

    def test_an_hlg_clip_is_conformed_with_ten_bits(self) -> None:
        nits = np.repeat(np.geomspace(2, 150, 320)[None], 180, axis=0)
        signal = np.dstack([self.hlg_signal(nits)] * 3)
        coding = PlaneCoding(matrix="2020", bits=10)
        path = write_planes(self.folder / "hlg.mkv", [coded(signal, 10)] * 2, coding, primaries=9, transfer=18)
        self.assertEqual(probe(path).transfer, "hlg")
        clip = open_clip(conform(path, self.folder / "work").clip)
        self.addCleanup(clip.close)
        self.assertEqual((clip.info.bit_depth, clip.info.transfer), (10, "sdr"))
        bias, error = off_by(clip.codes(0), np.dstack([encode(nits / 203)] * 3))
        self.assertLess(abs(bias), 0.1)
        self.assertLess(error, 0.5)

    def test_wide_colours_of_low_range_are_brought_to_the_display_s(self) -> None:
        # What BT.709 can show, declared as BT.2020: the same colours come out.
        inner = 0.25 + 0.5 * scene()
        m = np.linalg.inv(np.array([[1.6605, -0.5876, -0.0728], [-0.1246, 1.1329, -0.0083], [-0.0182, -0.1006, 1.1187]]))
        wide = encode(decode(inner) @ m.T)
        coding = PlaneCoding(matrix="2020", bits=10, half_x=False, half_y=False)
        path = write_planes(self.folder / "wide.mkv", [coded(wide, 10)], coding, primaries=9, transfer=14)
        clip = open_clip(path)
        self.addCleanup(clip.close)
        self.assertLess(float(np.abs(clip.codes(0) / 65535 - inner).mean() * 255), 0.3)


class Stills(InFolder):
    def test_sixteen_bits_of_a_still_are_kept(self) -> None:
        deep = coded(scene(), 16)
        cv2.imwrite(str(self.folder / "deep.png"), np.ascontiguousarray(deep[..., ::-1]))
        np.testing.assert_array_equal(read_straight(self.folder / "deep.png"), deep)
        light = still_source(self.folder / "deep.png").level(0)[0][1:-1, 1:-1, :3]
        self.assertLess(float(np.abs(encode(light) * 65535 - deep).max()), 0.6)

    def test_a_profile_is_applied(self) -> None:
        # Lab's own profile would be another mode: a display with a gamma of 1.0 in sRGB's colours stands in for one.
        srgb = scene()
        gray = np.asarray(srgb * 255 + 0.5, np.uint8)
        lab = ImageCms.createProfile("sRGB")
        with io.BytesIO() as out:
            Image.fromarray(gray).save(out, "PNG", icc_profile=ImageCms.ImageCmsProfile(lab).tobytes())
            (self.folder / "plain.png").write_bytes(out.getvalue())
        np.testing.assert_array_equal(bytes_of(read_straight(self.folder / "plain.png")), gray)
        wide = _linear_profile()
        Image.fromarray(np.asarray(decode(srgb) * 255 + 0.5, np.uint8)).save(self.folder / "tagged.png", icc_profile=wide)
        off = np.abs(read_straight(self.folder / "tagged.png").astype(float) - gray)
        # Linear 8-bit codes are coarse in the dark: only there may it be off by more.
        self.assertLess(float(off[gray > 90].mean()), 1.0)

    def test_heif_stills(self) -> None:
        picture = np.asarray(scene() * 255 + 0.5, np.uint8)
        image = Image.fromarray(picture)
        exif = Image.Exif()
        exif[0x0112] = 6
        path = self.folder / "phone.heic"
        try:
            pillow_heif.from_pillow(image).save(str(path), quality=95, exif=exif.tobytes())
        except (RuntimeError, ValueError) as error:
            self.skipTest(f"no encoder for it here: {error}")
        clip = open_clip(path)
        self.assertEqual(clip.info.kind, "still")
        self.assertIn(clip.info.size, (SIZE, SIZE[::-1]))
        found = clip.rgb(0) if clip.info.size == SIZE else np.rot90(clip.rgb(0))
        self.assertLess(float(np.abs(found.astype(float) - picture).mean()), 4)

    def test_exr_stills_keep_light_above_white(self) -> None:
        light = np.zeros((60, 80, 4), np.float32)
        light[10:40, 20:60] = (4.0, 0.5, 0.18, 1.0)
        path = self.folder / "lamp.exr"
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
        OpenEXR.File(header, {"RGBA": light}).write(str(path))
        np.testing.assert_allclose(read_light(path), light, atol=1e-6)
        self.assertEqual((probe(path).size, probe(path).has_alpha), ((80, 60), True))
        np.testing.assert_allclose(still_source(path).level(0)[0][21, 31], (4.0, 0.5, 0.18, 1.0), atol=1e-5)
        # In codes it is white there; what is clear stays clear.
        self.assertEqual(open_clip(path).rgba(0)[20, 30].tolist(), [255, 188, 118, 255])
        self.assertEqual(open_clip(path).rgba(0)[0, 0, 3], 0)

    def test_an_exr_in_other_primaries_comes_out_in_ours(self) -> None:
        light = np.full((32, 32, 3), 0.0, np.float32)
        light[...] = (0.4, 0.3, 0.2)
        path = self.folder / "wide.exr"
        header = {
            "compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage,
            "chromaticities": (0.708, 0.292, 0.17, 0.797, 0.131, 0.046, 0.3127, 0.329),
        }  # fmt: skip
        OpenEXR.File(header, {"RGB": light}).write(str(path))
        m = np.array([[1.6605, -0.5876, -0.0728], [-0.1246, 1.1329, -0.0083], [-0.0182, -0.1006, 1.1187]])
        np.testing.assert_allclose(read_light(path)[4, 4, :3], m @ [0.4, 0.3, 0.2], atol=0.002)

    def test_damaged_ones_are_named(self) -> None:
        for name in ("broken.exr", "broken.heic"):
            (self.folder / name).write_bytes(b"not a picture at all" * 40)
            with self.assertRaises(MediaError) as caught:
                probe(self.folder / name)
            self.assertIn(name, str(caught.exception.message))


def _linear_profile() -> bytes:
    """An ICC profile of sRGB's colours with a straight curve."""
    data = bytearray(ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes())
    count = int.from_bytes(data[128:132], "big")
    for k in range(count):
        at = 132 + 12 * k
        if data[at : at + 4] in (b"rTRC", b"gTRC", b"bTRC"):
            where = int.from_bytes(data[at + 4 : at + 8], "big")
            # A curve of no entries is straight (ICC.1:2022, 10.6).
            data[where : where + 12] = b"curv" + bytes(4) + bytes(4)
            data[at + 8 : at + 12] = (12).to_bytes(4, "big")
        if data[at : at + 4] == b"desc":
            where = int.from_bytes(data[at + 4 : at + 8], "big")
            size = int.from_bytes(data[at + 8 : at + 12], "big")
            data[where : where + size] = data[where : where + size].replace(b"s\0R\0G\0B", b"l\0i\0n\0e").replace(b"sRGB", b"line")
    return bytes(data)
