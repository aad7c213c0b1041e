"""Point motion against the simulated phone's truth."""

from __future__ import annotations

import unittest
from typing import Any, ClassVar

import cv2
import numpy as np

from plonket.base.errors import BadInput, Cancelled, Degenerate
from plonket.base.progress import Work
from plonket.base.states import COVERED, GIVEN, LEFT, LOST, NONE, TRACKED
from plonket.media.clip import ArrayClip
from plonket.track.context import LoneContext
from plonket.track.points.detail import judge
from plonket.track.points.measure import measure_points
from plonket.track.points.settings import Given, PointMotion, TrackPoint
from plonket.track.points.tracks import PointTracks
from plonket.track.request import MeasureRequest
from synth.phone.quickset import chart_shot, quad
from synth.phone.sensor import Sensor
from tests.core.shots import SHARP, errors_of, motion_on, plain_shot


def rms(errors: np.ndarray) -> float:
    return float(np.sqrt(np.mean(errors**2)))


class Accuracy(unittest.TestCase):
    def test_sharp_detail_within_a_twentieth_of_a_pixel(self) -> None:
        shot = plain_shot()
        tracks = measure_points(motion_on(shot), MeasureRequest(clip=ArrayClip(shot.frames)))
        for name in ("rose", "title"):
            found = errors_of(tracks, shot, name)
            self.assertEqual(len(found), 59, f"{name} was lost")
            self.assertLessEqual(rms(found), 0.05, name)
            self.assertLessEqual(found.max(), 0.15, name)

    def test_no_drift_over_300_frames(self) -> None:
        shot = chart_shot(frames=300, size=(480, 270), samples=2)
        tracks = measure_points(motion_on(shot, spots={"rose": SHARP["rose"]}), MeasureRequest(clip=ArrayClip(shot.frames)))
        found = errors_of(tracks, shot, "rose")
        self.assertEqual(len(found), 299)
        self.assertLessEqual(rms(found[-60:]), 0.06)
        self.assertLess(rms(found[-60:]), rms(found[:60]) + 0.04)

    def test_changing_light_is_followed(self) -> None:
        shot = chart_shot(frames=40, light=lambda t: 0.6 + 0.7 * t / 1.3)
        found = errors_of(measure_points(motion_on(shot), MeasureRequest(clip=ArrayClip(shot.frames))), shot, "rose")
        self.assertEqual(len(found), 39)
        self.assertLessEqual(rms(found), 0.07)

    def test_motion_blur_and_rolling_shutter(self) -> None:
        shot = chart_shot(frames=40, exposure_s=1 / 60, readout_s=0.012, shake=2.0, samples=4)
        found = errors_of(measure_points(motion_on(shot), MeasureRequest(clip=ArrayClip(shot.frames))), shot, "rose")
        self.assertEqual(len(found), 39)
        self.assertLessEqual(rms(found), 0.12)

    def test_turn_and_growth_need_more_than_shift(self) -> None:
        shot = chart_shot(frames=40, eyes=[(0.0, 0.0, 1.0), (0.0, 0.0, 0.72)])
        loose = errors_of(measure_points(motion_on(shot, change="similar"), MeasureRequest(clip=ArrayClip(shot.frames))), shot, "rose")
        self.assertEqual(len(loose), 39)
        self.assertLessEqual(rms(loose), 0.06)

    def test_backward_agrees_with_forward(self) -> None:
        shot = plain_shot()
        tracks = measure_points(motion_on(shot, frame=59), MeasureRequest(clip=ArrayClip(shot.frames), direction="backward"))
        self.assertLessEqual(rms(errors_of(tracks, shot, "rose")), 0.05)

    def test_both_directions_from_the_middle(self) -> None:
        shot = plain_shot()
        tracks = measure_points(motion_on(shot, frame=30), MeasureRequest(clip=ArrayClip(shot.frames)))
        self.assertEqual(len(errors_of(tracks, shot, "rose")), 59)
        self.assertLessEqual(rms(errors_of(tracks, shot, "rose")), 0.05)


class Invariance(unittest.TestCase):
    def test_whole_pixel_shift_of_the_picture_shifts_the_track(self) -> None:
        shot = plain_shot()
        base = measure_points(motion_on(shot, spots={"rose": SHARP["rose"]}), MeasureRequest(clip=ArrayClip(shot.frames[:20])))
        moved_frames = [np.roll(f, (3, 5), axis=(0, 1)) for f in shot.frames[:20]]
        given = base.xy[0, 0] + [5, 3]
        motion = PointMotion(id="m", name="m", points=[
            TrackPoint(id="rose", name="rose", given=[Given(frame=0, x=given[0], y=given[1])])])  # fmt: skip
        moved = measure_points(motion, MeasureRequest(clip=ArrayClip(moved_frames)))
        np.testing.assert_allclose(moved.xy[0], base.xy[0] + [5, 3], atol=0.01)

    def test_contrast_and_brightness_do_not_matter(self) -> None:
        shot = plain_shot()
        motion = motion_on(shot, spots={"rose": SHARP["rose"]})
        base = measure_points(motion, MeasureRequest(clip=ArrayClip(shot.frames[:20])))
        flat = [np.clip(f.astype(np.float32) * 0.6 + 40, 0, 255).round().astype(np.uint8) for f in shot.frames[:20]]
        np.testing.assert_allclose(measure_points(motion, MeasureRequest(clip=ArrayClip(flat))).xy, base.xy, atol=0.04)


class Losing(unittest.TestCase):
    def test_covered_point_is_lost_and_picked_up_again(self) -> None:
        # A card passes before the rose between about 0.5 s and 1.1 s.
        def card(t: float) -> np.ndarray:
            return quad((-0.45 + 0.75 * t, -0.10, 0.10), 0.16, 0.30)

        shot = chart_shot(frames=60, hand=card)
        tracks = measure_points(motion_on(shot, spots={"rose": SHARP["rose"]}), MeasureRequest(clip=ArrayClip(shot.frames)))
        spot = np.array([[(SHARP["rose"][0] - 0.5) * 0.6, (0.5 - SHARP["rose"][1]) * 0.42, 0.0]])
        state = tracks.state[0]
        hidden = []
        for i, t in enumerate(shot.times):
            corners = shot.camera.project(float(t), card(float(t)))
            xy = shot.camera.project(float(t), spot)[0]
            if corners[0, 0] < xy[0] - 3 and xy[0] + 3 < corners[1, 0]:
                hidden.append(i)
        self.assertGreater(len(hidden), 4)
        self.assertTrue(all(state[i] == LOST for i in hidden), [int(state[i]) for i in hidden])
        self.assertIn(COVERED, tracks.reason[0, hidden])
        self.assertTrue(all(state[i] in (TRACKED, GIVEN) for i in range(hidden[-1] + 8, 60)))
        # What it does claim is true: it never slid off with the card.
        self.assertLess(errors_of(tracks, shot, "rose").max(), 0.5)

    def test_point_that_leaves_the_frame_says_so(self) -> None:
        # The camera moves sideways until the title has left.
        shot = chart_shot(frames=40, eyes=[(0.0, 0.0, 0.7), (0.5, 0.0, 0.7)], shake=0.0)
        wide = list(shot.frames)
        path = shot.on_chart(0.05, 0.11)
        if path[-1, 0] > 0:  # the look-at keeps it in view: pan by cropping instead
            wide = [f[:, min(int(9 * i), 300) :][:, :320] for i, f in enumerate(shot.frames)]
        motion = PointMotion(id="m", name="m", points=[TrackPoint(
            id="p", name="p", given=[Given(frame=0, x=float(path[0, 0]), y=float(path[0, 1]))])])  # fmt: skip
        tracks = measure_points(motion, MeasureRequest(clip=ArrayClip([np.ascontiguousarray(f) for f in wide])))
        lost = np.nonzero(tracks.state[0] == LOST)[0]
        self.assertGreater(len(lost), 5)
        self.assertEqual(tracks.reason[0, lost[1]], LEFT)

    def test_confidence_falls_with_noise(self) -> None:
        clean = plain_shot()
        noisy = chart_shot(frames=20, sensor=Sensor(shot=0.004, read=0.01))
        a = measure_points(motion_on(clean), MeasureRequest(clip=ArrayClip(clean.frames[:20]))).confidence.mean()
        b = measure_points(motion_on(noisy), MeasureRequest(clip=ArrayClip(noisy.frames))).confidence.mean()
        self.assertLess(b, a)


class Looking(LoneContext):
    """Mattes by their ids."""

    mattes: ClassVar[dict[str, list[np.ndarray]]] = {}

    def picked(self, motion: str, frame: int) -> np.ndarray | None:
        return self.mattes[motion][frame]


class Ignoring(unittest.TestCase):
    """A card passes before a wall; on it is the very detail that is followed on the wall, right where it hides that."""

    def setUp(self) -> None:
        rng = np.random.default_rng(4)
        wall, card = (cv2.GaussianBlur(rng.uniform(0, 255, (180, 320)), (0, 0), 2.2) for _ in range(2))
        wall, card = (np.clip(128 + 5 * (one - one.mean()), 0, 255) for one in (wall, card))
        card[50:130, 20:100] = wall[50:130, 120:200]
        self.frames, self.mattes = [], []
        for k in range(30):
            # It comes from the left, stands over the detail for a while, and goes on.
            x = 12 * k - 130 if k < 10 else 0 if k < 16 else 12 * (k - 15)
            left, right = max(100 + x, 0), min(220 + x, 320)
            picture, matte = wall.copy(), np.zeros(wall.shape, np.uint8)
            if left < right:
                picture[:, left:right] = card[:, left - x - 100 : right - x - 100]
                matte[:, left:right] = 255
            self.frames.append(np.repeat(np.clip(picture + rng.normal(0, 1, wall.shape), 0, 255).astype(np.uint8)[..., None], 3, axis=2))
            self.mattes.append(matte)
        Looking.mattes["card"] = self.mattes

    def tracks(self, at: tuple[float, float] = (160.5, 90.5), frame: int = 0, **more: Any) -> PointTracks:
        motion = PointMotion(id="m", name="m", change="shift", points=[TrackPoint(
            id="p", name="p", given=[Given(frame=frame, x=at[0], y=at[1])])], **more)  # fmt: skip
        return measure_points(motion, MeasureRequest(clip=ArrayClip(self.frames), context=Looking()))

    def test_a_point_is_not_found_on_what_is_ignored(self) -> None:
        fooled = self.tracks()
        off = np.hypot(*(fooled.xy[0] - [160.5, 90.5]).T)
        known = fooled.known(0)
        self.assertGreater(float(off[known].max()), 20, "it goes along with the card")
        told = self.tracks(ignored=["card"])
        covered = np.array([m[90, 160] > 0 for m in self.mattes])
        self.assertTrue((told.state[0, covered] == LOST).all())
        self.assertTrue((told.reason[0, covered] == COVERED).all())
        self.assertTrue(told.known(0)[-3:].all())
        self.assertLess(float(np.hypot(*(told.xy[0] - [160.5, 90.5]).T)[told.known(0)].max()), 0.5)

    def test_one_that_was_put_on_it_stays_on_it(self) -> None:
        for ignored in ([], ["card"]):
            one = self.tracks((160.5, 90.5), frame=12, ignored=ignored)
            self.assertTrue(one.known(0)[12:18].all())
            self.assertAlmostEqual(float(one.xy[0, 18, 0]), 160.5 + 36, delta=0.5)


class Stakes(unittest.TestCase):
    def test_measuring_starts_afresh_from_a_stake(self) -> None:
        shot = plain_shot()
        motion = motion_on(shot, spots={"rose": SHARP["rose"]})
        x, y = shot.on_chart(*SHARP["title"])[30]
        point = motion.points[0]
        point = point.model_copy(update={"given": [*point.given, Given(frame=30, x=x, y=y)]})
        tracks = measure_points(motion.model_copy(update={"points": [point]}), MeasureRequest(clip=ArrayClip(shot.frames)))
        title, rose = shot.on_chart(*SHARP["title"]), shot.on_chart(*SHARP["rose"])
        self.assertLess(np.abs(tracks.xy[0, 31:] - title[31:]).max(), 0.3)
        self.assertLess(np.abs(tracks.xy[0, :30] - rose[:30]).max(), 0.3)
        self.assertEqual(tracks.state[0, 30], GIVEN)

    def test_forward_from_a_frame_keeps_what_was_measured_before_it(self) -> None:
        shot = plain_shot()
        motion = motion_on(shot, spots={"rose": SHARP["rose"]})
        clip = ArrayClip(shot.frames)
        first = measure_points(motion, MeasureRequest(clip=clip, direction="forward", stop=20))
        self.assertTrue((first.state[0, 20:] == NONE).all())
        second = measure_points(motion, MeasureRequest(clip=clip, direction="forward", origin=19, previous=first))
        np.testing.assert_array_equal(second.xy[0, :19], first.xy[0, :19])
        self.assertLessEqual(rms(errors_of(second, shot, "rose")), 0.05)
        self.assertEqual(int((second.state[0] == NONE).sum()), 0)

    def test_stop_keeps_what_is_done(self) -> None:
        shot = plain_shot()
        seen: list[PointTracks] = []
        work = Work(is_cancelled=lambda: len(seen) >= 10, on_partial=lambda p: seen.append(p.tracks))
        with self.assertRaises(Cancelled):
            measure_points(motion_on(shot), MeasureRequest(clip=ArrayClip(shot.frames), work=work))
        self.assertEqual(int((seen[-1].state[0] != NONE).sum()), 10)


class BadPoints(unittest.TestCase):
    def test_flat_area_names_a_better_place(self) -> None:
        picture = np.full((240, 320, 3), 120, np.uint8)
        cv2.rectangle(picture, (180, 100), (220, 140), (240, 240, 240), -1)
        motion = PointMotion(id="m", name="m", points=[
            TrackPoint(id="p", name="Lamp", given=[Given(frame=0, x=140, y=120)])])  # fmt: skip
        with self.assertRaises(Degenerate) as caught:
            measure_points(motion, MeasureRequest(clip=ArrayClip([picture, picture])))
        self.assertIn("flat", caught.exception.message)
        x, y = caught.exception.details["better"]
        near = min(np.hypot(x - cx, y - cy) for cx in (180, 221) for cy in (100, 141))
        self.assertLess(near, 6)

    def test_edge_is_told_from_detail(self) -> None:
        picture = np.full((200, 200), 60, np.uint8)
        picture[:, 100:] = 200
        self.assertEqual(judge(picture, 100, 100, pattern_px=21).grade, "edge")
        picture[100:, :] = 60
        self.assertEqual(judge(picture, 100, 100, pattern_px=21).grade, "good")

    def test_outside_the_picture(self) -> None:
        clip = ArrayClip(plain_shot().frames[:2])
        motion = PointMotion(id="m", name="m", points=[
            TrackPoint(id="p", name="Lamp", given=[Given(frame=0, x=900, y=20)])])  # fmt: skip
        with self.assertRaises(BadInput) as caught:
            measure_points(motion, MeasureRequest(clip=clip))
        self.assertIn("outside the picture", caught.exception.message)

    def test_no_points(self) -> None:
        with self.assertRaises(BadInput):
            measure_points(PointMotion(id="m", name="m"), MeasureRequest(clip=ArrayClip(plain_shot().frames[:2])))
