"""A camera over what hides its picture for a while: found again, told by its gyroscope, or left out in words."""

from __future__ import annotations

import struct
import tempfile
import unittest
from functools import cache
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from plonket.base.conventions import U8
from plonket.base.errors import FormatError
from plonket.media import open_clip
from plonket.media.clip import VideoClip
from plonket.media.conform import conform
from plonket.media.gyroscope import Gyroscope
from plonket.media.probe import probe
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.gyro import AXES, fit_gyroscope
from plonket.track.camera.measure import measure_camera
from plonket.track.camera.settings import CameraMotion
from plonket.track.context import LoneContext
from plonket.track.request import MeasureRequest
from synth.phone.quickroom import RoomShot, room_shot
from tests.core.motion_clip import motion_clip, rate_sample
from tests.core.test_camera import Frames

SIZE = (480, 270)
FRAMES = 36
DETAILS = 160
BIAS = np.array([0.01, -0.02, 0.015])


@cache
def filmed(move: str, focal: float = 0.82) -> RoomShot:
    return room_shot(move, frames=FRAMES, size=SIZE, focal=focal, samples=2)


def hidden(shot: RoomShot, frames: range) -> list[U8]:
    """The shot with nothing but noise on some frames, as when a flash goes off."""
    rng = np.random.default_rng(3)
    out = list(shot.frames)
    for k in frames:
        out[k] = np.clip(rng.normal(235, 1.5, out[k].shape), 0, 255).astype(np.uint8)
    return out


def recorded(shot: RoomShot, *, late: float = 0.03, axes: int = 9, noise: float = 0.003) -> Gyroscope:
    """What a sensor 200 times a second makes of the shot's movement: its own axes, drift, noise, and a clock of its own."""
    times = np.arange(-0.2, float(shot.times[-1]) + 0.3, 0.005)
    turns = np.stack([shot.camera.pose(float(t))[1] for t in times])
    rates = Rotation.from_matrix(np.swapaxes(turns[:-1], 1, 2) @ turns[1:]).as_rotvec() / 0.005
    crooked = AXES[axes].T @ Rotation.from_rotvec([0.02, -0.01, 0.015]).as_matrix()
    seen = (rates + BIAS) @ crooked.T + np.random.default_rng(4).normal(0, noise, rates.shape)
    return Gyroscope(times=times[:-1] + 0.0025 + late, rates=seen, frame_times=np.asarray(shot.times, np.float64))


def solved(shot: RoomShot, pictures: list[U8], record: Gyroscope | None = None) -> CameraTrack:
    # The lens is known: what is looked at here is how the stretches hang together.
    motion = CameraMotion(id="c", name="c", count=DETAILS, knows="pixels", focal_px=shot.camera.focal_px, distortion=False,
                          rolling=False)  # fmt: skip
    context = LoneContext(record=record)
    return measure_camera(motion, MeasureRequest(clip=Frames(pictures, shot.rate), context=context))


def off(shot: RoomShot, track: CameraTrack, a: int, b: int) -> float:
    """Degrees by which the turn from one frame to another is wrong."""
    true = shot.poses()[1]
    found = (track.rotation[a].T @ track.rotation[b]).T @ (true[a].T @ true[b])
    return float(np.degrees(np.linalg.norm(Rotation.from_matrix(found).as_rotvec())))


class FoundAgain(unittest.TestCase):
    def test_a_camera_that_turns_goes_on_after_a_flash(self) -> None:
        shot = filmed("pan")
        track = solved(shot, hidden(shot, range(16, 21)))
        self.assertEqual(track.kind, "rotation-only")
        self.assertFalse(track.known()[16:21].any())
        self.assertLess(off(shot, track, 4, 32), 0.03)
        self.assertFalse([w for w in track.warnings if "ties" in w])

    def test_the_room_stays_one_too(self) -> None:
        shot = filmed("truck")
        track = solved(shot, hidden(shot, range(16, 21)))
        self.assertEqual(track.kind, "full")
        self.assertLess(off(shot, track, 4, 32), 0.15)
        eyes = shot.poses()[0]
        true = np.linalg.norm(eyes[32] - eyes[23]) / np.linalg.norm(eyes[14] - eyes[4])
        found = np.linalg.norm(track.position[32] - track.position[23]) / np.linalg.norm(track.position[14] - track.position[4])
        self.assertAlmostEqual(float(found / true), 1, delta=0.02)


class Told(unittest.TestCase):
    """A long lens: what is seen after the gap was not seen before it."""

    def test_without_a_record_the_shorter_part_is_left_out_and_named(self) -> None:
        shot = filmed("pan", 3.4)
        track = solved(shot, hidden(shot, range(11, 26)))
        known = np.flatnonzero(track.known())
        self.assertLessEqual(int(known[-1]) - int(known[0]), 11)
        self.assertTrue([w for w in track.warnings if "ties the frames 26 to 35" in w], track.warnings)

    def test_a_record_joins_both_parts_and_tells_what_lies_between(self) -> None:
        shot = filmed("pan", 3.4)
        track = solved(shot, hidden(shot, range(11, 26)), recorded(shot))
        self.assertTrue(track.known().all())
        self.assertGreater(off_without(shot, 4, 32), 5, "there is something to be wrong about")
        self.assertLess(off(shot, track, 4, 32), 0.25)
        for frame in (14, 20, 26):
            self.assertLess(off(shot, track, 4, frame), 0.25)
        self.assertTrue([w for w in track.warnings if "gyroscope" in w])

    def test_the_end_of_a_clip_too(self) -> None:
        shot = filmed("pan")
        track = solved(shot, hidden(shot, range(29, FRAMES)), recorded(shot))
        self.assertTrue(track.known().all())
        self.assertLess(off(shot, track, 20, FRAMES - 1), 0.1)

    def test_that_of_another_take_is_not_believed(self) -> None:
        shot = filmed("pan")
        other = recorded(filmed("truck"))
        track = solved(shot, hidden(shot, range(29, FRAMES)), other)
        self.assertFalse(track.known()[29:].any())


def off_without(shot: RoomShot, a: int, b: int) -> float:
    true = shot.poses()[1]
    return float(np.degrees(np.linalg.norm(Rotation.from_matrix(true[a].T @ true[b]).as_rotvec())))


class Fitting(unittest.TestCase):
    def test_axes_clock_and_drift_are_found(self) -> None:
        shot = filmed("truck")
        for axes in (0, 9, 20):
            fitted = fit_gyroscope(recorded(shot, axes=axes), np.arange(FRAMES), shot.poses()[1])
            assert fitted is not None
            self.assertGreater(fitted.explained, 0.95)
            self.assertAlmostEqual(fitted.late, 0.03, delta=0.003)
            np.testing.assert_allclose(fitted.bias[0], BIAS, atol=0.004)
            turned = fitted.turned(3, 33)
            assert turned is not None
            true = shot.poses()[1]
            wrong = Rotation.from_matrix(turned.T @ true[3].T @ true[33]).as_rotvec()
            self.assertLess(float(np.degrees(np.linalg.norm(wrong))), 0.15)

    def test_turns_about_one_axis_leave_open_how_it_lies(self) -> None:
        times = np.arange(0, 2, 0.005)
        rates = np.zeros((len(times), 3))
        rates[:, 1] = 0.5 * np.sin(3 * times)
        record = Gyroscope(times=times, rates=rates, frame_times=np.arange(40) / 30)
        angle = np.array([np.trapezoid(rates[times <= t, 1], times[times <= t]) for t in record.frame_times])
        turns = Rotation.from_rotvec(np.outer(angle, [0, 1, 0])).as_matrix()
        self.assertIsNotNone(fit_gyroscope(record, np.arange(40), turns))
        tipped = Gyroscope(times=times, rates=rates + np.where(times > 0.9, 0.6, 0)[:, None] * [1, 0, 0], frame_times=record.frame_times)
        fitted = fit_gyroscope(tipped, np.arange(25), turns[:25])
        assert fitted is not None
        self.assertIsNotNone(fitted.turned(2, 20))
        self.assertIsNone(fitted.turned(20, 39), "nothing seen says about which axis that was")

    def test_a_camera_that_stands_tells_nothing(self) -> None:
        shot = filmed("pan")
        self.assertIsNone(fit_gyroscope(recorded(shot), np.arange(FRAMES), np.tile(np.eye(3), (FRAMES, 1, 1))))


class Files(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "phone.mp4"

    def record(self, path: Path) -> Gyroscope | None:
        clip = open_clip(path)
        self.addCleanup(clip.close)
        assert isinstance(clip, VideoClip)
        return clip.gyroscope()

    def rates(self) -> list[tuple[float, bytes]]:
        return [(k / 200, rate_sample(0.001 * k, -0.5, 0.25)) for k in range(200)]

    def test_it_is_read_and_kept_beside_the_conformed_clip(self) -> None:
        # Places and magnetic fields lie between.
        others = [(0.0025 + k / 50, struct.pack("<HH3f", 0, 7, 1, 2, 3)) for k in range(50)]
        motion_clip(self.path, sorted(self.rates() + others))
        self.assertTrue(probe(self.path).gyroscope)
        made = conform(self.path, self.path.with_name("conformed"))
        for record in (self.record(self.path), self.record(made.clip)):
            assert record is not None
            self.assertEqual(record.rates.shape, (200, 3))
            np.testing.assert_allclose(record.rates[:, 0], 0.001 * np.arange(200), atol=1e-6)
            np.testing.assert_allclose(record.times, np.arange(200) / 200, atol=1e-4)
            np.testing.assert_allclose(record.frame_times, np.arange(30) / 30, atol=1e-4)

    def test_damaged_samples_are_left_out_and_other_data_is_none(self) -> None:
        samples = self.rates()
        samples[50] = (samples[50][0], rate_sample(np.nan, 0, 0))
        samples[60] = (samples[60][0], rate_sample(1e9, 0, 0))
        motion_clip(self.path, samples)
        record = self.record(self.path)
        assert record is not None
        self.assertEqual(len(record.times), 198)
        motion_clip(self.path, [(k / 200, b"something else entirely") for k in range(200)])
        self.assertFalse(probe(self.path).gyroscope)
        self.assertIsNone(self.record(self.path))
        motion_clip(self.path, [])
        self.assertFalse(probe(self.path).gyroscope)

    def test_a_kept_one_that_is_damaged_is_said(self) -> None:
        with self.assertRaises(FormatError):
            Gyroscope.from_bytes(b"no")

