"""What a shot is delivered as: every kind of file written in two pieces, joined, and read back by other readers."""

from __future__ import annotations

import json
import tempfile
import unittest
import zipfile
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

import av
import cv2
import numpy as np
import OpenEXR
from PIL import Image

from plonket.base.colour import linear_from_codes
from plonket.base.conventions import F32, U8
from plonket.base.errors import BadInput, Cancelled
from plonket.base.progress import Work
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS
from plonket.document.shot import Shot, read_shot
from plonket.media import open_clip
from plonket.media.sound import Sound, read_wav
from plonket.media.write import Coding, VideoWriter
from plonket.outputs.common import WHOLE_COLOUR
from plonket.render.deliver import deliver, delivery_size, file_name, finish, output_for, outputs_of, write_pieces
from plonket.render.frame import render_frame, render_light
from plonket.render.media_pool import MediaPool
from plonket.render.soundtrack import Recording, soundtrack
from plonket.render.sources import ShotSources
from tests.core.photos import photo

SIZE = (192, 108)
FRAMES = 12
RATE = Fraction(24)
CLAP = 0.25
"""Seconds at which the sound begins: frame 6."""
NAMES = {"h264": "h264", "h265": "hevc", "av1": "av1", "vp9": "vp9", "prores4444": "prores", "prores422": "prores", "ffv1": "ffv1"}
ROUGH = {"h264": 1.8, "h265": 2.2, "av1": 2.6, "vp9": 2.4, "prores4444": 0.7, "prores422": 1.1, "ffv1": 0.5}
"""How far display codes may be off on average at the best quality, colour stored at half the size included."""


def pictures() -> list[U8]:
    """A photograph that moves on by two pixels a frame, with the frame's number as a bright bar."""
    whole = photo("coffee.png")
    out = []
    for k in range(FRAMES):
        frame = np.ascontiguousarray(whole[60 : 60 + SIZE[1], 100 + 2 * k : 100 + 2 * k + SIZE[0]])
        frame[:8, : 8 * (k + 1)] = 235
        out.append(frame)
    return out


def decoded(path: Path) -> list[np.ndarray]:
    """Frames as RGBA or RGB by PyAV's own conversion."""
    out = []
    with av.open(str(path)) as box:
        stream = box.streams.video[0]
        if stream.metadata and any(k.lower() == "alpha_mode" for k in stream.metadata):
            context = av.CodecContext.create("libvpx-vp9", "r")
            context.extradata = stream.codec_context.extradata
            frames: Iterator[Any] = (f for packet in box.demux(stream) for f in context.decode(packet if packet.size else None))
        else:
            frames = box.decode(stream)
        for frame in frames:
            covered = frame.format.name.startswith("yuva")
            out.append(frame.to_ndarray(format="rgba" if covered else "rgb24"))
    return out


class Made(unittest.TestCase):
    """A clip of a moving photograph with a sound, and files that are made of its shot."""

    frames: ClassVar[list[U8]]

    @classmethod
    def setUpClass(cls) -> None:
        cls.frames = pictures()

    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.clip = self.folder / "clip.mkv"
        with VideoWriter(self.clip, SIZE, RATE, coding=Coding(codec="ffv1", planes=Coding().planes)) as out:
            for frame in self.frames:
                out.write(frame)
        samples = np.zeros((24000, 2), np.int16)
        samples[round(CLAP * 48000) :] = (12000 * np.sin(np.arange(24000 - round(CLAP * 48000)) * 0.2))[:, None].astype(np.int16)
        self.sound = Sound(samples=samples)

    def shot(self, *outputs: dict[str, Any], **more: Any) -> Shot:
        footage = {"asset": "a" * 64, "name": "a", "width": SIZE[0], "height": SIZE[1], "rate": "24/1", "frames": FRAMES,
                   "in_frame": 0, "out_frame": FRAMES - 1} | more.pop("footage", {})  # fmt: skip
        return read_shot({"name": "A boat", "footage": footage, "delivery": {"outputs": list(outputs)}, **more})

    def sources(self, shot: Shot) -> ShotSources:
        return ShotSources(shot, MediaPool(lambda _: self.clip, lambda _: None))  # type: ignore[arg-type, return-value]

    def clear(self, *outputs: dict[str, Any]) -> Shot:
        """Half an orange over nothing."""
        fill = {"kind": "fill", "id": "f", "name": "F", "first": "#ff8000", "cover": 50}
        return self.shot(*outputs, footage={"ground": "clear", "opacity": 0}, stack=[fill])

    def made(self, shot: Shot, output: OutputBase, cuts: tuple[int, ...] = (0, 5, FRAMES)) -> Path:
        """A file of a shot, written in pieces and joined."""
        pieces = []
        for k, (a, b) in enumerate(zip(cuts, cuts[1:], strict=False)):
            pieces.append(self.folder / f"piece-{k}-{len(list(self.folder.iterdir()))}")
            write_pieces(shot, self.sources(shot), [output], lambda _, at=pieces[-1]: at, start=a, stop=b, began=cuts[0])  # type: ignore[misc]
        sound = soundtrack(shot, lambda _: Recording(sound=self.sound, rate=RATE, frames=FRAMES), cuts[0], cuts[-1])
        out = self.folder / f"made-{output.kind}-{len(list(self.folder.iterdir()))}{OUTPUTS.of(output).ending(output)}"
        finish(shot, output, pieces, out, start=cuts[0], stop=cuts[-1], sound=sound)
        return out

    def of(self, kind: str, **values: Any) -> OutputBase:
        made = OUTPUTS.get(kind).settings(id="x", name="X", **values)
        assert isinstance(made, OutputBase)
        return made

    def begins(self, path: Path) -> float:
        """Seconds at which the sound of a file begins, as a player hears it."""
        with av.open(str(path)) as box:
            stream = box.streams.audio[0]
            resampler = av.AudioResampler(format="s16", layout="stereo", rate=48000)
            at = None
            for frame in box.decode(stream):
                start = float((frame.pts or 0) * frame.time_base)
                for piece in resampler.resample(frame):
                    loud = np.abs(piece.to_ndarray().reshape(-1, 2).astype(int)).max(axis=1) > 2500
                    if at is None and loud.any():
                        at = start + int(np.argmax(loud)) / 48000
            assert at is not None
            return at


class Outputs(Made):
    def test_videos_in_pieces_are_one_video_with_its_sound_in_place(self) -> None:
        shot, filmed = self.shot(), decoded(self.clip)
        for kind, codec in NAMES.items():
            fields = OUTPUTS.get(kind).settings.model_fields
            best = {"quality": "best"} if "quality" in fields else {}
            bare = {"coverage": "none"} if "coverage" in fields else {}
            for bits in ({}, {"bits": "10"}) if "bits" in fields else ({},):
                with self.subTest(kind, **bits):
                    out = self.made(shot, self.of(kind, **best, **bare, **bits))
                    with av.open(str(out)) as box:
                        stream = box.streams.video[0]
                        self.assertEqual((stream.codec_context.name.replace("libdav1d", "av1"), stream.average_rate), (codec, RATE))
                        self.assertEqual((stream.width, stream.height), SIZE)
                        self.assertEqual((stream.codec_context.color_range, stream.codec_context.colorspace), (1, 1))
                        deep = stream.codec_context.format.components[0].bits > 8
                        self.assertEqual(deep, bits == {"bits": "10"} or kind in ("prores4444", "prores422", "ffv1"))
                        self.assertEqual(len(box.streams.audio), 1)
                    seen = decoded(out)
                    self.assertEqual(len(seen), FRAMES)
                    rough = [float(np.abs(a.astype(int) - b).mean()) for a, b in zip(seen, filmed, strict=True)]
                    self.assertLess(max(rough), ROUGH[kind] + 1.2, "PyAV brings coarse colour to full size in its own way")
                    clips = open_clip(out), open_clip(self.clip)
                    off = [float(np.abs(clips[0].rgb(k).astype(int) - clips[1].rgb(k)).mean()) for k in range(FRAMES)]
                    self.assertLess(max(off), ROUGH[kind])
                    self.assertAlmostEqual(self.begins(out), CLAP, delta=0.004)

    def test_coverage_is_kept_straight_or_premultiplied(self) -> None:
        shot = self.clear()
        for kind in ("prores4444", "vp9", "ffv1", "webp"):
            with self.subTest(kind):
                out = self.made(shot, self.of(kind, coverage="straight"))
                whole = np.array(Image.open(out).convert("RGBA")) if kind == "webp" else decoded(out)[7]
                np.testing.assert_allclose(whole[50, 90], [255, 128, 0, 128], atol=5)
        out = self.made(shot, self.of("prores4444", coverage="premultiplied"))
        np.testing.assert_allclose(decoded(out)[7][50, 90], [128, 64, 0, 128], atol=2)
        black = self.made(shot, self.of("h264"))
        np.testing.assert_allclose(decoded(black)[7][50, 90], [188, 92, 0], atol=4, err_msg="half of its light on black")

    def unzipped(self, path: Path) -> list[Path]:
        place = self.folder / f"in-{path.stem}"
        with zipfile.ZipFile(path) as box:
            box.extractall(place)
        return sorted(place.iterdir())

    def test_sequences_are_numbered_and_exact(self) -> None:
        shot = self.shot()
        expected = [open_clip(self.clip).rgb(k) for k in range(FRAMES)]
        for kind, ending, flags in (("png", ".png", {}), ("png", ".png", {"bits": "16"}), ("tiff", ".tif", {}),
                                    ("jpeg", ".jpg", {"quality": "best"})):  # fmt: skip
            with self.subTest(kind, **flags):
                files = self.unzipped(self.made(shot, self.of(kind, **flags)))
                self.assertEqual([f.name for f in files], [f"{k:06d}{ending}" for k in range(FRAMES)])
                read = cv2.cvtColor(cv2.imread(str(files[8]), cv2.IMREAD_UNCHANGED), cv2.COLOR_BGR2RGB)
                deep = kind == "tiff" or "bits" in flags
                self.assertEqual(read.dtype, np.uint16 if deep else np.uint8)
                error = np.abs(read / (257 if deep else 1) - expected[8])
                self.assertLess(float(error.mean() if kind == "jpeg" else error.max()), 1.2 if kind == "jpeg" else 0.01)
        self.assertEqual(len(self.unzipped(self.made(shot, self.of("png", every=5)))), 3)
        alpha = self.unzipped(self.made(self.clear(), self.of("png", bits="16", coverage="premultiplied")))[0]
        np.testing.assert_allclose(cv2.imread(str(alpha), cv2.IMREAD_UNCHANGED)[50, 90] / 257, [0, 64, 128, 127.5], atol=0.6)

    def test_exr_holds_linear_light(self) -> None:
        shot = self.clear()
        light = render_light(shot, self.sources(shot), 3)
        for bits, kind in (("half", np.float16), ("float", np.float32)):
            file = self.unzipped(self.made(shot, self.of("exr", bits=bits)))[3]
            with OpenEXR.File(str(file), separate_channels=True) as found:
                planes = {name: np.asarray(one.pixels) for name, one in found.channels().items()}
            self.assertEqual({p.dtype for p in planes.values()}, {np.dtype(kind)})
            seen = np.stack([planes[n] for n in "RGBA"], axis=-1).astype(np.float32)
            np.testing.assert_allclose(seen, light, atol=3e-4)
        straight = self.unzipped(self.made(shot, self.of("exr", coverage="straight")))[3]
        with OpenEXR.File(str(straight), separate_channels=True) as found:
            red = float(np.asarray(found.channels()["R"].pixels)[50, 90])
        self.assertAlmostEqual(red, 1.0, delta=0.002)

    def test_loops_run_as_long_as_the_shot(self) -> None:
        shot = self.shot()
        for kind, every in (("gif", 1), ("gif", 2), ("webp", 1), ("webp", 3)):
            with self.subTest(kind, every=every):
                image = Image.open(self.made(shot, self.of(kind, every=every)))
                self.addCleanup(image.close)
                self.assertEqual(image.n_frames, -(-FRAMES // every))  # type: ignore[attr-defined]
                lasts = 0
                for k in range(image.n_frames):  # type: ignore[attr-defined]
                    image.seek(k)
                    image.load()
                    lasts += image.info["duration"]
                    error = np.abs(np.array(image.convert("RGB")).astype(int) - self.frames[k * every]).mean()
                    self.assertLess(float(error), 9 if kind == "gif" else 5)
                self.assertAlmostEqual(lasts / 1000, FRAMES / 24, delta=0.03)

    def test_one_frame_and_the_sound_alone(self) -> None:
        shot = self.shot()
        still = self.made(shot, self.of("still", at=7))
        np.testing.assert_array_equal(np.array(Image.open(still)), open_clip(self.clip).rgb(7))
        jpeg = self.made(shot, self.of("still", at=2, picture="jpeg"))
        self.assertEqual((jpeg.suffix, jpeg.read_bytes()[:3]), (".jpg", b"\xff\xd8\xff"))
        with mock.patch("plonket.render.deliver.render_frame", side_effect=render_frame) as drawn:
            self.made(shot, self.of("still", at=7))
        self.assertEqual([call.args[2] for call in drawn.call_args_list], [7], "no other frame is drawn")
        with self.assertRaisesRegex(BadInput, "Frame 40"):
            self.made(shot, self.of("still", at=40))
        sound = read_wav(self.made(shot, self.of("wav")))
        np.testing.assert_array_equal(sound.samples, self.sound.samples)
        with self.assertRaisesRegex(BadInput, "no sound"):
            self.made(self.shot(sound={"muted": True}), self.of("wav"))

    def test_a_limit_is_kept(self) -> None:
        shot = self.shot()
        free = self.made(shot, self.of("h264", quality="best"))
        for kind in ("h264", "h265", "av1", "vp9"):
            with self.subTest(kind):
                limit = 0.022
                out = self.made(shot, self.of(kind, quality="best", at_most=limit))
                self.assertLessEqual(out.stat().st_size, limit * 1e6)
                self.assertGreater(out.stat().st_size, limit * 1e6 * 0.3, "what is allowed is used")
                self.assertEqual(len(decoded(out)), FRAMES)
                self.assertAlmostEqual(self.begins(out), CLAP, delta=0.004)
        self.assertGreater(free.stat().st_size, 0.028e6)
        with self.assertRaisesRegex(BadInput, "too few"):
            self.made(shot, self.of("h264", quality="best", at_most=0.005))
        thin = self.shot(footage={"ground": "clear", "opacity": 50})
        small = self.made(thin, self.of("vp9", quality="best", coverage="straight", at_most=0.022))
        self.assertLessEqual(small.stat().st_size, 22_000)
        np.testing.assert_allclose(decoded(small)[7][..., 3], 128, atol=4)

    def test_several_files_are_made_of_one_rendering(self) -> None:
        frames = [{"id": "up", "name": "Upright", "shape": "9:16", "pixels": "cut", "x": 96, "y": 54}]
        shot = self.shot({"kind": "h264", "id": "a", "name": "A"}, {"kind": "png", "id": "b", "name": "B", "frame": "up"},
                         frames=frames)  # fmt: skip
        one, two = outputs_of(shot)
        places = {"a": self.folder / "a", "b": self.folder / "b"}
        asked: list[int] = []
        work = Work(on_progress=lambda done, _: asked.append(done))
        write_pieces(shot, self.sources(shot), [one, two], lambda o: places[o.id], start=0, stop=4, began=0, work=work)
        self.assertEqual(asked, [1, 2, 3, 4])
        self.assertEqual(len(decoded(places["a"])), 4)
        cut = cv2.imread(str(places["b"] / "000002.png"), cv2.IMREAD_COLOR_RGB)
        self.assertEqual(delivery_size(shot, two, 1.0), (60, 108))
        np.testing.assert_array_equal(cut, open_clip(self.clip).rgb(2)[:, 66:126])
        self.assertEqual([file_name(shot, o) for o in (one, two)], ["A boat.mp4", "A boat Upright.zip"])
        with self.assertRaises(Cancelled):
            write_pieces(shot, self.sources(shot), [one], lambda o: places[o.id], start=0, stop=4, began=0,
                         work=Work(is_cancelled=lambda: True))  # fmt: skip

    def test_what_is_made_by_itself(self) -> None:
        frames = [{"id": "up", "name": "Upright"}, {"id": "wide", "name": "Wide", "shape": "16:9"}]
        told = [(o.kind, o.frame) for o in outputs_of(self.shot(frames=frames))]
        self.assertEqual(told, [("h264", "up"), ("h264", "wide")])
        self.assertEqual([(o.kind, o.frame) for o in outputs_of(self.clear())], [("prores4444", None)])
        named = self.of("h264", file="../{shot}/{size} <{format}> {nothing}")
        self.assertEqual(file_name(self.shot(), named), "A boat 192x108 h264.mp4")

    def test_names_and_endings_are_told_in_words(self) -> None:
        shot, sources = self.shot(), self.sources(self.shot())
        for name, kind, words in (("x.doc", None, "ending in"), ("x.mp4", "gif", "Animated GIF is written to"),
                                  ("x.png", "png", "a folder"), ("x", "nothing", "no kind of file")):  # fmt: skip
            with self.subTest(name), self.assertRaisesRegex(BadInput, words):
                out = self.folder / name
                deliver(shot, sources, out, start=0, stop=2, output=output_for(shot, out, kind))
        self.assertFalse(any(p.name.startswith(("x", ".part")) for p in self.folder.iterdir()), "nothing half written")

    def test_documents_stored_before_say_how_they_were_delivered(self) -> None:
        old = json.loads(json.dumps({"name": "s", "delivery": {"quality": "best", "scale": "half", "sound": False}}))
        shot = read_shot(old, stored=True)
        self.assertEqual((shot.delivery.quality, shot.delivery.scale, shot.delivery.outputs, shot.frames), ("best", "half", [], []))

    def test_footage_with_coverage_keeps_it(self) -> None:
        """As it is, half as large, steadied nowhere, mixed between frames; and things under it are seen through it."""
        cut = self.folder / "cut.mov"
        coding = Coding(codec="prores", planes=WHOLE_COLOUR, key_every=1, b_frames=0, covered=True)
        covers = []
        with VideoWriter(cut, SIZE, RATE, coding=coding) as out:
            for k, frame in enumerate(self.frames):
                alpha = np.zeros(SIZE[::-1], np.uint8)
                cv2.circle(alpha, (60 + 4 * k, 54), 30, 255, -1, cv2.LINE_AA)
                covers.append(alpha)
                out.write(np.dstack([frame, alpha]))
        self.clip = cut
        shot = self.shot(footage={"ground": "clear"})
        for frame, scale in ((0, 1.0), (7, 1.0), (7, 0.5)):
            light = render_light(shot, self.sources(shot), frame, scale=scale)
            true = covers[frame] if scale == 1 else cv2.resize(covers[frame], (96, 54), interpolation=cv2.INTER_AREA)
            self.assertLess(float(np.abs(light[..., 3] * 255 - true).mean()), 0.6)
        made = decoded(self.made(shot, outputs_of(shot)[0]))[7]
        self.assertLess(float(np.abs(made[..., 3].astype(int) - covers[7]).mean()), 0.6)
        self.assertLess(float(np.abs(made[54, 88, :3].astype(int) - self.frames[7][54, 88]).max()), 6)
        slow = {"moment": {"keys": [{"frame": 0, "value": 0, "ease": "linear"}, {"frame": 20, "value": 10}]}, "between": "mixed"}
        between = render_light(self.shot(footage={"ground": "clear", "time": slow, "out_frame": 20}),
                               self.sources(self.shot(footage={"ground": "clear", "time": slow, "out_frame": 20})), 5)  # fmt: skip
        mixed = (covers[2].astype(float) + covers[3]) / 2
        self.assertLess(float(np.abs(between[..., 3] * 255 - mixed).mean()), 1.0)
        black = render_frame(self.shot(), self.sources(self.shot()), 7)
        self.assertEqual(int(black[10, 10].max()), 0, "on black")

    def test_light_above_white_is_in_files_of_light(self) -> None:
        fill = {"kind": "fill", "id": "f", "name": "F", "first": "#ffffff", "blend": "add"}
        shot = self.shot(stack=[fill])
        file = self.unzipped(self.made(shot, self.of("exr")))[0]
        with OpenEXR.File(str(file), separate_channels=True) as found:
            red: F32 = np.asarray(found.channels()["R"].pixels, np.float32)
        expected = linear_from_codes(open_clip(self.clip).rgb(0))[..., 0] + 1
        self.assertLess(float(np.abs(red - expected).max()), 2e-3)
