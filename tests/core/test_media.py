"""Probing, exact frames, conforming, sound, and files that cannot be used."""

from __future__ import annotations

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np

from plonket.base.errors import BadInput, Cancelled, MediaError
from plonket.base.progress import Work
from plonket.media import open_clip, probe
from plonket.media.clip import open_working
from plonket.media.conform import conform
from plonket.media.sound import Sound, read_sound, read_wav
from plonket.media.timing import conform_times
from plonket.media.write import VideoWriter, join_segments
from tests.core.clips import clap_sample, flash_frame, number_of, numbered, phone_clip


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class Timing(unittest.TestCase):
    def test_even_times_keep_the_stated_rate(self) -> None:
        rate = Fraction(30000, 1001)
        found = conform_times([Fraction(i) / rate for i in range(50)], rate)
        self.assertEqual((found.rate, found.variable), (rate, False))
        self.assertEqual(found.source, tuple(range(50)))

    def test_jitter_is_evened_out_one_to_one(self) -> None:
        rng = np.random.default_rng(2)
        times = [Fraction(int(90000 * (i / 29.97 + rng.normal(0, 0.003))), 90000) for i in range(120)]
        found = conform_times(sorted(times), Fraction(2997, 100))
        self.assertEqual(found.rate, Fraction(30000, 1001))
        self.assertEqual(found.source, tuple(range(120)))
        self.assertTrue(found.variable)

    def test_dropped_frames_are_held(self) -> None:
        times = [Fraction(i, 30) for i in range(60) if i not in (20, 21)]
        found = conform_times(times, None)
        self.assertEqual(found.rate, 30)
        self.assertEqual(len(found.source), 60)
        self.assertEqual(found.source[19:24], (19, 19, 20, 20, 21))


class Reading(InFolder):
    def test_every_frame_is_exact_in_any_order(self) -> None:
        path = phone_clip(self.folder / "clip.mp4", frames=90)
        clip = open_clip(path, cache=8)
        order = [0, 89, 45, 44, 43, 3, 80, 81, 82, 10, 9, 8, 7, 88]
        self.assertEqual([number_of(clip.rgb(i)) for i in order], order)
        self.assertEqual([number_of(clip.rgb(i)) for i in range(90)], list(range(90)))
        self.assertEqual([number_of(clip.rgb(i)) for i in range(89, -1, -1)], list(range(89, -1, -1)))
        with self.assertRaises(BadInput):
            clip.rgb(90)

    def test_a_clip_that_was_let_go_is_opened_again_by_who_still_reads_it(self) -> None:
        clip = open_clip(phone_clip(self.folder / "clip.mp4", frames=30))
        self.assertEqual(number_of(clip.rgb(7)), 7)
        clip.close()
        self.assertEqual([number_of(clip.rgb(i)) for i in (8, 7, 29)], [8, 7, 29])

    def test_vp9_with_alpha_keeps_its_coverage(self) -> None:
        path = self.folder / "ring.webm"
        pictures = []
        with av.open(str(path), "w") as out:
            stream = out.add_stream("libvpx-vp9", rate=25)
            stream.width, stream.height, stream.pix_fmt = 96, 64, "yuva420p"
            stream.options = {"crf": "8", "b": "0", "auto-alt-ref": "0"}
            for k in range(12):
                picture = np.zeros((64, 96, 4), np.uint8)
                picture[...] = (200, 60, 40, 0)
                cv2.circle(picture, (20 + 5 * k, 32), 14, (200, 60, 40, 255), -1)
                pictures.append(picture)
                frame = av.VideoFrame.from_ndarray(picture, format="rgba")
                for packet in stream.encode(frame.reformat(format="yuva420p")):
                    out.mux(packet)
            for packet in stream.encode():
                out.mux(packet)
        clip = open_clip(path)
        self.addCleanup(clip.close)
        self.assertTrue(clip.info.has_alpha)
        for k in (0, 11, 5, 6):
            found = clip.rgba(k)
            off = np.abs(found[..., 3].astype(int) - pictures[k][..., 3])
            self.assertLess(float(off.mean()), 3.0, k)
            inside = pictures[k][..., 3] > 0
            self.assertLess(float(np.abs(found[inside][:, :3].astype(int) - (200, 60, 40)).mean()), 8, k)
        # Conformed, its coverage lies beside its colours.
        conform(path, self.folder / "work")
        working = open_working(self.folder / "work" / "clip.mp4")
        self.addCleanup(working.close)
        self.assertLess(float(np.abs(working.rgba(5)[..., 3].astype(int) - pictures[5][..., 3]).mean()), 4.0)

    def test_the_lens_is_read_from_the_file_s_tags(self) -> None:
        for tag, told in (("26", 26.0), ("24.5 mm", 24.5), ("wide", None), ("4000", None)):
            path = self.folder / f"lens-{tag}.mov"
            with av.open(str(path), "w", options={"movflags": "use_metadata_tags"}) as out:
                out.metadata["camera.focal_length.35mm_equivalent"] = tag
                stream = out.add_stream("libx264", rate=25)
                stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p"
                for _ in range(3):
                    for packet in stream.encode(av.VideoFrame(64, 48, "yuv420p")):
                        out.mux(packet)
                for packet in stream.encode():
                    out.mux(packet)
            self.assertEqual(probe(path).equivalent_mm, told, tag)

    def test_when_it_was_filmed_by_the_clock_of_the_place_if_that_is_told(self) -> None:
        path = self.folder / "when.mkv"
        for tags, told in (
            ({"creation_time": "2026-11-29T18:05:12.000000Z"}, "2026-11-29T18:05:12+00:00"),
            ({"creation_time": "2026-11-29T18:05:12Z", "camera.creationdate": "2026-11-29T19:05:12+0100"}, "2026-11-29T19:05:12+01:00"),
            ({"creation_time": "1904-01-01T00:00:00Z"}, ""), ({"creation_time": "yesterday"}, ""), ({}, ""),
        ):  # fmt: skip
            with self.subTest(tags):
                with av.open(str(path), "w") as out:
                    stream = out.add_stream("ffv1", rate=25)
                    stream.width, stream.height, stream.pix_fmt = 32, 32, "yuv420p"
                    out.metadata.update(tags)
                    frame = av.VideoFrame(32, 32, "yuv420p")
                    for plane in frame.planes:
                        plane.update(bytes(plane.buffer_size))
                    for packet in (*stream.encode(frame), *stream.encode(None)):
                        out.mux(packet)
                self.assertEqual(probe(path).taken, told)

    def test_rotated_phone_clip_stands_upright(self) -> None:
        for rotation in (90, 180, 270):
            path = phone_clip(self.folder / f"r{rotation}.mp4", frames=4, rotation=rotation)
            info = probe(path)
            self.assertEqual((info.size, info.rotation), ((320, 180), rotation))
            clip = open_clip(path)
            self.assertEqual(number_of(clip.rgb(3)), 3)
            self.assertLess(np.abs(clip.rgb(2).astype(int) - numbered(2)).mean(), 4)
            self.assertEqual(clip.luma(2).shape, (180, 320))

    def test_colours_come_back(self) -> None:
        picture = np.zeros((720, 1280, 3), np.uint8)
        for k, colour in enumerate([(200, 30, 30), (30, 180, 60), (40, 60, 200), (128, 128, 128), (240, 230, 20)]):
            picture[:, 256 * k : 256 * (k + 1)] = colour
        with VideoWriter(self.folder / "c.mp4", (1280, 720), Fraction(25)) as out:
            out.write(picture)
        seen = open_clip(self.folder / "c.mp4").rgb(0)
        middle = np.s_[300:400, 100::256]
        self.assertLessEqual(np.abs(seen[middle].astype(int) - picture[middle].astype(int)).max(), 4)

    def test_folder_of_pictures_and_still_with_alpha(self) -> None:
        shots = self.folder / "frames"
        shots.mkdir()
        for i in range(5):
            cv2.imwrite(str(shots / f"{i:03d}.png"), numbered(i)[..., ::-1])
        clip = open_clip(shots)
        self.assertEqual((clip.info.frames, number_of(clip.rgb(4))), (5, 4))
        rgba = np.zeros((40, 60, 4), np.uint8)
        rgba[10:30, 10:50] = (10, 20, 200, 128)
        cv2.imwrite(str(self.folder / "s.png"), rgba)
        still = open_clip(self.folder / "s.png")
        self.assertTrue(still.info.has_alpha)
        self.assertEqual(still.rgba(0)[20, 20].tolist(), [200, 20, 10, 128])

    def test_odd_size(self) -> None:
        with VideoWriter(self.folder / "odd.mp4", (321, 181), Fraction(25)) as out:
            for i in range(3):
                out.write(numbered(i, (321, 181)))
        self.assertEqual(probe(self.folder / "odd.mp4").size, (321, 181))

class Conforming(InFolder):
    def test_uneven_rotated_clip_with_sound(self) -> None:
        path = phone_clip(self.folder / "in.mp4", frames=50, rate=Fraction(30000, 1001), jitter_s=0.002, rotation=90)
        done = conform(path, self.folder / "out")
        info = probe(done.clip)
        self.assertEqual((info.frames, info.rotation, info.variable), (50, 0, False))
        # Fifty jittered frames cannot tell 29.97 from 30; either keeps every frame in its place.
        self.assertIn(info.rate, (Fraction(30000, 1001), Fraction(30)))
        frame_s = float(1 / info.rate)
        clip = open_clip(done.clip)
        self.assertEqual([number_of(clip.rgb(i)) for i in (49, 0, 25)], [49, 0, 25])
        assert done.sound is not None
        sound = read_wav(done.sound)
        self.assertEqual(len(sound.samples), round(50 * 48000 / info.rate))
        # The clap stands within one frame of the flash.
        flash = flash_frame([clip.rgb(i) for i in range(50)]) * frame_s
        self.assertLess(abs(clap_sample(sound.samples, 48000) - flash), frame_s)
        self.assertTrue(done.strip.exists())

    def test_stop_leaves_no_half_clip(self) -> None:
        path = phone_clip(self.folder / "in.mp4", frames=30)
        asked = iter([False] * 5 + [True] * 99)
        with self.assertRaises(Cancelled):
            conform(path, self.folder / "out", Work(is_cancelled=lambda: next(asked)))
        self.assertFalse((self.folder / "out" / "clip.mp4").exists())

    def test_silent_clip(self) -> None:
        path = phone_clip(self.folder / "in.mp4", frames=6, sound=False)
        self.assertIsNone(conform(path, self.folder / "out").sound)
        self.assertIsNone(read_sound(path))


class Sounds(InFolder):
    def test_cut_is_exactly_as_long_as_its_frames(self) -> None:
        sound = Sound(samples=np.arange(96000, dtype=np.int16).reshape(48000, 2))
        piece = sound.cut(10, 20, Fraction(30000, 1001))
        self.assertEqual(len(piece.samples), round(20 * 1601.6) - round(10 * 1601.6))
        self.assertEqual(int(piece.samples[0, 0]), int(sound.samples[16016, 0]))
        self.assertEqual(len(sound.cut(25, 40, Fraction(30)).samples), 24000)

    def test_joined_segments_are_one_clip(self) -> None:
        parts = []
        for k in range(3):
            path = self.folder / f"{k}.mp4"
            with VideoWriter(path, (320, 180), Fraction(30000, 1001)) as out:
                for i in range(12):
                    out.write(numbered(12 * k + i))
            parts.append(path)
        sound = Sound(samples=np.zeros((round(36 * 1601.6), 2), np.int16))
        join_segments(parts, self.folder / "all.mp4", Fraction(30000, 1001), sound)
        clip = open_clip(self.folder / "all.mp4")
        self.assertEqual((clip.info.frames, clip.info.rate, clip.info.variable), (36, Fraction(30000, 1001), False))
        self.assertEqual([number_of(clip.rgb(i)) for i in range(36)], list(range(36)))
        with av.open(str(self.folder / "all.mp4")) as box:
            audio, video = box.streams.audio[0], box.streams.video[0]
            self.assertAlmostEqual(float(audio.duration * audio.time_base), 36 * 1001 / 30000, delta=0.03)
            self.assertAlmostEqual(float(video.duration * video.time_base), 36 * 1001 / 30000, delta=0.001)


class BadFiles(InFolder):
    def message(self, path: Path) -> str:
        with self.assertRaises(MediaError) as caught:
            open_clip(path)
        return caught.exception.message

    def test_messages(self) -> None:
        (self.folder / "empty.mp4").touch()
        self.assertIn("empty", self.message(self.folder / "empty.mp4"))
        (self.folder / "words.mp4").write_text("these are only words\n" * 50)
        self.assertIn("cannot be read", self.message(self.folder / "words.mp4"))
        self.assertIn("not found", self.message(self.folder / "none.mp4"))
        (self.folder / "fake.png").write_bytes(b"not a picture at all")
        self.assertIn("cannot be read as a picture", self.message(self.folder / "fake.png"))
        hollow = self.folder / "hollow"
        hollow.mkdir()
        self.assertIn("no pictures", self.message(hollow))

    def test_cut_off_file(self) -> None:
        path = phone_clip(self.folder / "whole.mp4", frames=30)
        cut = self.folder / "cut.mp4"
        cut.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
        self.assertIn("cut off", self.message(cut))

    def test_sound_only(self) -> None:
        path = self.folder / "sound.m4a"
        with av.open(str(path), "w", format="mp4") as box:
            from plonket.media.write import mux_sound

            stream = box.add_stream("aac", rate=48000, layout="stereo")
            mux_sound(box, stream, Sound(samples=np.zeros((48000, 2), np.int16)))
        self.assertIn("only sound", self.message(path))

    def test_absurd_size(self) -> None:
        cv2.imwrite(str(self.folder / "thin.png"), np.zeros((4, 400, 3), np.uint8))
        self.assertIn("400 x 4", self.message(self.folder / "thin.png"))


class Flash(InFolder):
    def test_the_test_clips_own_truth(self) -> None:
        path = phone_clip(self.folder / "c.mp4", frames=40)
        clip = open_clip(path)
        self.assertEqual(flash_frame([clip.rgb(i) for i in range(40)]), 19)
