"""Files that nobody would make on purpose, and disks that are full: told in words, in little time, with nothing left behind."""

from __future__ import annotations

import contextlib
import errno
import io
import struct
import subprocess
import sys
import time
import zlib
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import mock

import av
import av.error
import cv2
import numpy as np
from PIL import Image

from plonket.base.errors import BadInput, Cancelled, FormatError, MediaError
from plonket.base.isolated import call_apart
from plonket.base.progress import Work
from plonket.media import conform as conforming
from plonket.media import open_clip, probe
from plonket.media.conform import ASIDE, conform, conformed_bytes
from plonket.media.light_map import read_light_map
from plonket.media.timing import conform_times
from plonket.media.write import VideoWriter
from plonket.room.meshes.creased import creased
from plonket.room.meshes.files import about_model, read_model
from tests.core.clips import number_of, numbered
from tests.core.test_media import InFolder


def png_that_claims(width: int, height: int) -> bytes:
    """A small PNG of zeros whose header claims any size."""

    def piece(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    header = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + piece(b"IHDR", header) + piece(b"IDAT", zlib.compress(bytes(1000))) + piece(b"IEND", b"")


class Stamps(InFolder):
    def late(self, frame_s: float) -> Path:
        """Eleven frames, the last of them shown very late."""
        path = self.folder / "late.mkv"
        with av.open(str(path), "w") as box:
            stream = box.add_stream("libx264", rate=30)
            stream.width, stream.height = 320, 180
            stream.time_base = Fraction(1, 1000)
            for i, seconds in enumerate((*(k / 30 for k in range(10)), frame_s)):
                frame = av.VideoFrame.from_ndarray(numbered(i), format="rgb24")
                frame.pts, frame.time_base = round(seconds * 1000), Fraction(1, 1000)
                box.mux(stream.encode(frame))
            box.mux(stream.encode(None))
        return path

    def test_one_late_stamp_makes_no_million_frames(self) -> None:
        with self.assertRaises(MediaError) as caught:
            probe(self.late(36_000))
        self.assertEqual(caught.exception.code, "media.gap")
        self.assertIn("10 hours after frame 9", caught.exception.message)
        self.assertAlmostEqual(probe(self.late(2)).frames, 61, delta=1, msg="a frame that is held for two seconds is a phone's pause")

    def test_stamps_that_would_make_too_many_frames_are_refused_before_any_room_is_taken(self) -> None:
        close = [Fraction(k, 10**6) for k in range(300)] + [Fraction(200 * k) for k in range(1, 100)]
        for times in (close, [Fraction(k * 250) for k in range(2)] + [Fraction(250) + Fraction(k, 1900) for k in range(1, 9)]):
            began = time.perf_counter()
            with self.assertRaises(MediaError) as caught:
                conform_times(times, None, "strange.mp4")
            self.assertIn("strange.mp4", caught.exception.message)
            self.assertLess(time.perf_counter() - began, 1)


class OnlyWhatIsMeant(InFolder):
    def test_a_script_under_a_clip_s_name_reads_no_neighbour(self) -> None:
        with VideoWriter(self.folder / "secret.mp4", (320, 180), Fraction(30)) as out:
            out.write(numbered(5))
        script = self.folder / "clip.mp4"
        script.write_text("ffconcat version 1.0\nfile secret.mp4\n")
        playlist = self.folder / "list.mov"
        playlist.write_text("#EXTM3U\n#EXT-X-TARGETDURATION:9\n#EXTINF:9,\nsecret.mp4\n#EXT-X-ENDLIST\n")
        for path in (script, playlist):
            with self.assertRaises(MediaError) as caught:
                probe(path)
            self.assertEqual(caught.exception.code, "media.unreadable")

    def test_a_model_s_file_names_nothing_beside_itself(self) -> None:
        (self.folder / "beside.bin").write_bytes(np.zeros(9, np.float32).tobytes())
        text = """{"asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}], "buffers": [{"uri": "beside.bin", "byteLength": 36}],
        "bufferViews": [{"buffer": 0, "byteLength": 36}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}]}"""
        path = self.folder / "model.gltf"
        path.write_text(text)
        with self.assertRaises(FormatError):
            read_model(path)


class Pictures(InFolder):
    def test_size_is_looked_at_before_anything_is_decoded(self) -> None:
        path = self.folder / "bomb.png"
        with mock.patch("cv2.imread", side_effect=AssertionError("it was decoded")):
            for size in ((16_000, 16_000), (40_000, 40_000), (900_000, 20)):
                path.write_bytes(png_that_claims(*size))
                with self.assertRaises(MediaError) as caught:
                    probe(path)
                self.assertEqual(caught.exception.code, "media.size")

    def test_light_maps_and_textures_too(self) -> None:
        path = self.folder / "map.hdr"
        path.write_bytes(b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 30000 +X 60000\n" + bytes(400))
        with mock.patch("cv2.imread", side_effect=AssertionError("it was decoded")), self.assertRaises(FormatError):
            read_light_map(path)
        import trimesh

        image = Image.open(io.BytesIO(png_that_claims(9000, 9000)))
        material = trimesh.visual.material.SimpleMaterial(image=image)
        box = trimesh.creation.box()
        box.visual = trimesh.visual.TextureVisuals(uv=np.zeros((len(box.vertices), 2)), material=material)
        with mock.patch("trimesh.load_scene", return_value=trimesh.Scene([box])), self.assertRaises(FormatError) as caught:
            path.with_suffix(".obj").touch()
            read_model(path.with_suffix(".obj"))
        self.assertIn("9000 x 9000", caught.exception.message)

    def test_a_turned_still_stands_upright(self) -> None:
        upright = np.full((60, 90, 3), 40, np.uint8)
        upright[:20, :30], upright[40:, 60:] = (250, 30, 30), (30, 30, 250)
        # What lies in the file, so that each orientation brings it upright (EXIF 2.32, 4.6.5).
        stored = {1: upright, 2: upright[:, ::-1], 3: upright[::-1, ::-1], 4: upright[::-1],
                  5: upright.transpose(1, 0, 2), 6: np.rot90(upright), 7: np.rot90(upright[::-1]), 8: np.rot90(upright, -1)}  # fmt: skip
        for orientation, pixels in stored.items():
            path = self.folder / f"turned-{orientation}.jpg"
            tags = Image.Exif()
            tags[0x0112] = orientation
            Image.fromarray(np.ascontiguousarray(pixels)).save(path, quality=97, exif=tags)
            info = probe(path)
            self.assertEqual((info.width, info.height), (90, 60), orientation)
            off = np.abs(open_clip(path).rgb(0).astype(int) - upright)
            self.assertLess(off.mean(), 4, orientation)


class Models(InFolder):
    def fan(self, leaves: int) -> Path:
        """Many faces in all directions that meet in one place."""
        rng = np.random.default_rng(2)
        rim = rng.normal(size=(leaves, 2, 3))
        lines = ["v 0 0 0", *(f"v {a:.4f} {b:.4f} {c:.4f}" for a, b, c in rim.reshape(-1, 3))]
        lines += [f"f 1 {2 * k + 2} {2 * k + 3}" for k in range(leaves)]
        path = self.folder / f"fan-{leaves}.obj"
        path.write_text("\n".join(lines))
        return path

    def test_many_faces_in_one_place_take_time_in_proportion(self) -> None:
        read_model(self.fan(100))
        took = []
        for leaves in (4_000, 16_000):
            began = time.perf_counter()
            read_model(self.fan(leaves))
            took.append(time.perf_counter() - began)
        self.assertLess(took[1], 8 * took[0] + 0.5)
        self.assertLess(took[1], 20)

    def test_normals_by_groups_are_those_of_single_corners(self) -> None:
        # The tip of a cone of many faces, and a flat disc: enough corners for groups.
        turn = np.linspace(0, 2 * np.pi, 200, endpoint=False)
        for height in (0.0, 0.15):
            rim = np.stack([np.cos(turn), np.zeros(200), np.sin(turn)], axis=1)
            vertices = np.vstack([[0, height, 0], rim])
            k = np.arange(200)
            faces = np.stack([np.zeros(200, int), (k + 1) % 200 + 1, k + 1], axis=1)
            tip = creased(vertices, faces)[::3]
            self.assertGreater(float(tip[:, 1].min()), 0.995)

    def test_reading_apart_ends_at_its_limits_and_passes_on_what_is_wrong(self) -> None:
        path = self.fan(50)
        told = call_apart(about_model, path, seconds=60, most_bytes=4 * 1024**3, what="fan.obj")
        self.assertEqual(told, about_model(path))
        with self.assertRaises(FormatError) as caught:
            call_apart(about_model, self.folder / "none.obj", seconds=60, most_bytes=4 * 1024**3, what="none.obj")
        self.assertEqual(caught.exception.code, "model.unreadable")
        for seconds, room in ((1, 4 * 1024**3), (60, 1024**3)):
            began = time.perf_counter()
            with self.assertRaises(FormatError) as caught:
                call_apart(_endless if seconds == 1 else _hungry, seconds=seconds, most_bytes=room, what="huge.obj")
            self.assertIn("huge.obj took too long or too much memory", caught.exception.message)
            self.assertLess(time.perf_counter() - began, 25)

    def test_errors_outlast_the_way_between_processes(self) -> None:
        import pickle

        for error in (BadInput("a.b", "Words.", {"k": 1}), Cancelled(), MediaError("m", "M")):
            again = pickle.loads(pickle.dumps(error))
            self.assertEqual((type(again), again.code, again.message, again.details),
                             (type(error), error.code, error.message, error.details))  # fmt: skip


def _endless() -> None:
    while True:
        pass


def _hungry() -> int:
    return len(bytearray(3 * 1024**3))


class Writing(InFolder):
    def test_a_full_disk_is_told_as_such_and_leaves_no_file(self) -> None:
        path = self.folder / "full.mp4"
        full = av.error.OSError(errno.ENOSPC, "No space left on device")
        with self.assertRaises(MediaError) as caught, VideoWriter(path, (320, 180), Fraction(30)) as out:
            out.write(numbered(0))
            with mock.patch.object(out, "_container", mock.Mock(mux=mock.Mock(side_effect=full), close=mock.Mock(side_effect=full))):
                for i in range(1, 90):
                    out.write(numbered(i))
        self.assertEqual(caught.exception.code, "media.disk_full")
        self.assertFalse(path.exists())

    def test_a_file_that_cannot_be_finished_goes(self) -> None:
        path = self.folder / "unfinished.mp4"
        out = VideoWriter(path, (320, 180), Fraction(30))
        out.write(numbered(0))
        real = out._container
        out._container = mock.Mock(mux=real.mux, close=mock.Mock(side_effect=OSError(errno.ENOSPC, "full")))
        with self.assertRaises(MediaError) as caught:
            out.close()
        with contextlib.suppress(OSError):
            real.close()
        self.assertEqual(caught.exception.code, "media.disk_full")
        self.assertFalse(path.exists())


class Conforming(InFolder):
    def clip(self, frames: int = 20) -> Path:
        path = self.folder / "source.mp4"
        with VideoWriter(path, (320, 180), Fraction(30)) as out:
            for i in range(frames):
                out.write(numbered(i))
        return path

    def left(self) -> list[str]:
        return sorted(p.name for p in self.folder.iterdir() if ASIDE in p.name)

    def test_what_is_there_stays_until_all_of_the_new_is(self) -> None:
        source, folder = self.clip(), self.folder / "clip"
        conform(source, folder)
        before = (folder / "clip.mp4").read_bytes()
        asked = iter(range(1000))
        with self.assertRaises(Cancelled):
            conform(source, folder, Work(is_cancelled=lambda: next(asked) > 8))
        with mock.patch.object(conforming, "read_sound", side_effect=MemoryError), mock.patch("cv2.imencode", side_effect=MemoryError):
            self.assertRaises(MemoryError, conform, source, folder)
        self.assertEqual((folder / "clip.mp4").read_bytes(), before)
        self.assertEqual(self.left(), [])

    def test_frames_are_counted_before_it_counts_as_ready(self) -> None:
        written = VideoWriter.write_planes

        def loses_one(self: VideoWriter, *given: Any) -> None:
            if self.frames == 7:
                self.frames += 1
                return
            written(self, *given)

        with mock.patch.object(VideoWriter, "write_planes", loses_one), self.assertRaises(MediaError):
            conform(self.clip(), self.folder / "clip")
        self.assertFalse((self.folder / "clip").exists())

    def test_two_that_conform_one_clip_at_once_destroy_nothing(self) -> None:
        source, folder = self.clip(60), self.folder / "clip"
        code = f"from pathlib import Path; from plonket.media.conform import conform; conform(Path({str(source)!r}), Path({str(folder)!r}))"
        both = [subprocess.Popen([sys.executable, "-c", code]) for _ in range(2)]
        self.assertEqual([one.wait(120) for one in both], [0, 0])
        clip = open_clip(folder / "clip.mp4")
        self.assertEqual([number_of(clip.rgb(i)) for i in range(60)], list(range(60)))
        self.assertEqual(self.left(), [])

    def test_the_room_asked_for_holds_what_a_noisy_clip_takes(self) -> None:
        rng = np.random.default_rng(4)
        path = self.folder / "noise.mp4"
        with VideoWriter(path, (640, 360), Fraction(30)) as out:
            for i in range(12):
                grain = rng.normal(0, 9, (360, 640, 3))
                base = cv2.resize(numbered(i), (640, 360)).astype(float)
                out.write(np.clip(base + grain, 0, 255).astype(np.uint8))
        info = conform(path, self.folder / "clip").info
        size = sum(p.stat().st_size for p in (self.folder / "clip").iterdir())
        self.assertLess(size, conformed_bytes(info))
        self.assertGreater(size, 0.15 * conformed_bytes(info), "an estimate, not a scare")
