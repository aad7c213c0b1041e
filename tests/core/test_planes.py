"""Plane motion against the simulated phone's truth."""

from __future__ import annotations

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
from scipy.stats import spearmanr

from plonket.base.errors import BadInput, Cancelled, Degenerate
from plonket.base.outlines import Outline, OutlineKey, OutlinePoint, carry, fill, flatten, polygon_outline
from plonket.base.progress import Work
from plonket.base.states import COVERED, GIVEN, LOST, NONE, TRACKED
from plonket.media import open_clip
from plonket.media.clip import ArrayClip, Clip
from plonket.media.write import Coding, VideoWriter
from plonket.track.context import LoneContext
from plonket.track.movement import plane_movement
from plonket.track.plane.correct import corrected, quad_homography
from plonket.track.plane.measure import measure_plane
from plonket.track.plane.settings import PlaneStake, Region
from plonket.track.plane.track import PlaneTrack
from plonket.track.request import MeasureRequest
from tests.core.shots import corner_errors, filmed, plane_on


def measured(name: str, frame: int = 0, **settings: object) -> tuple[PlaneTrack, np.ndarray]:
    frames, corners = filmed(name)
    track = measure_plane(plane_on(corners, frame, **settings), MeasureRequest(clip=ArrayClip(frames)))
    return track, corner_errors(track, corners)


class Accuracy(unittest.TestCase):
    """Mean corner error at most 0.15 px, worst at most 1 px, nothing lost."""

    def holds(self, name: str, frame: int = 0, mean: float = 0.15, worst: float = 1.0) -> None:
        track, errors = measured(name, frame)
        self.assertEqual(int((track.state == LOST).sum()), 0, name)
        self.assertLessEqual(float(errors.mean()), mean, name)
        self.assertLessEqual(float(errors.max()), worst, name)

    def test_handheld(self) -> None:
        self.holds("plain", mean=0.04, worst=0.15)

    def test_tilt_to_35_degrees(self) -> None:
        self.holds("tilt", mean=0.06)

    def test_twice_the_size_and_half_of_it(self) -> None:
        self.holds("zoom", frame=0, mean=0.1)
        self.holds("zoom", frame=33, mean=0.1)

    def test_light_from_0_6_to_1_3(self) -> None:
        self.holds("light", mean=0.05)

    def test_fast_blur(self) -> None:
        self.holds("blur")

    def test_defocus_to_5_pixels(self) -> None:
        self.holds("defocus")

    def test_compression(self) -> None:
        frames, corners = filmed("plain")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "c.mp4"
            with VideoWriter(path, (800, 450), Fraction(30), coding=Coding(crf=28, preset="medium")) as out:
                for frame in frames:
                    out.write(frame)
            errors = corner_errors(measure_plane(plane_on(corners), MeasureRequest(clip=open_clip(path))), corners)
        self.assertLessEqual(float(errors.mean()), 0.15)
        self.assertLessEqual(float(errors.max()), 1.0)

    def test_any_frame_may_be_the_reference(self) -> None:
        self.holds("plain", frame=17, mean=0.04, worst=0.2)


class Crossing(unittest.TestCase):
    def test_an_arm_is_left_out_by_itself(self) -> None:
        track, errors = measured("arm")
        self.assertEqual(int((track.state == LOST).sum()), 0)
        self.assertLessEqual(float(errors.mean()), 0.15)
        self.assertLessEqual(float(errors.max()), 1.0)
        # The trust strip shows that something was in the way.
        self.assertLess(float(track.coverage.min()), 0.75)

    def test_an_arm_with_a_matte(self) -> None:
        frames, corners = filmed("arm")
        mattes = []
        for picture in frames:
            # The arm is the only large dark thing in the picture.
            dark = (picture.max(axis=2) < 75).astype(np.uint8) * 255
            grown = cv2.dilate(cv2.morphologyEx(dark, cv2.MORPH_OPEN, np.ones((9, 9))), np.ones((15, 15)))
            mattes.append(np.repeat(grown[..., None], 3, axis=2))
        motion = plane_on(corners, ignore_matte="0" * 64)
        track = measure_plane(motion, MeasureRequest(clip=ArrayClip(frames), context=LoneContext(clip=ArrayClip(mattes))))
        errors = corner_errors(track, corners)
        known = track.known()
        self.assertGreater(int(known.sum()), 28)
        self.assertLessEqual(float(errors[known].mean()), 0.15)
        self.assertLessEqual(float(errors[known].max()), 1.0)

    def test_without_a_matte_trust_falls_where_the_error_rises(self) -> None:
        track, errors = measured("sleeve")
        lost = track.state == LOST
        self.assertIn(COVERED, track.reason[lost])
        self.assertTrue(track.known()[-1], "it is picked up again")
        # What is claimed is true, and what is not sure is not claimed.
        self.assertLessEqual(float(errors[track.known()].max()), 1.0)
        rank = spearmanr(-track.confidence[1:], errors[1:].mean(axis=1)).statistic
        self.assertGreater(rank, 0.5)

    def test_an_ignore_region_that_stays_on_the_screen(self) -> None:
        frames, corners = filmed("plain")
        stuck = []
        for picture in frames:
            out = picture.copy()
            cv2.rectangle(out, (330, 150), (520, 300), (20, 220, 40), -1)
            cv2.putText(out, "7", (390, 260), cv2.FONT_HERSHEY_SIMPLEX, 4, (255, 255, 255), 12)
            stuck.append(out)
        box = np.array([[322, 142], [528, 142], [528, 308], [322, 308]])
        ignore = Region(id="ignore", name="Badge", use=False, follow="screen", outline=polygon_outline(box))
        motion = plane_on(corners)
        motion = motion.model_copy(update={"regions": [*motion.regions, ignore]})
        errors = corner_errors(measure_plane(motion, MeasureRequest(clip=ArrayClip(stuck))), corners)
        self.assertLessEqual(float(errors.mean()), 0.1)


class LittleDetail(unittest.TestCase):
    def test_on_a_nearly_plain_wall_trust_falls_where_the_error_rises(self) -> None:
        track, errors = measured("wall")
        mean = errors[1:].mean(axis=1)
        self.assertLess(float(mean[:8].mean()), 0.5)
        rank = spearmanr(-track.confidence[1:], mean).statistic
        self.assertGreater(rank, 0.5)

    def test_fewer_ways_to_move_where_one_line_is_all_there_is(self) -> None:
        """Text on a strip tells shift and turn, but no perspective: the track says so and does not run wild."""
        rng = np.random.default_rng(5)
        base = np.full((300, 480), 90, np.float32)
        for k in range(9):
            base[144:156, 190 + 12 * k : 196 + 12 * k] = rng.uniform(120, 220)
        frames = []
        for i in range(12):
            m = np.array([[1, 0, 3.0 * i], [0, 1, 1.5 * i]])
            moved = cv2.warpAffine(base, m, (480, 300), flags=cv2.INTER_CUBIC, borderValue=90)
            noisy = cv2.GaussianBlur(moved, (0, 0), 1.0) + rng.normal(0, 9.0, moved.shape)
            frames.append(np.repeat(np.clip(noisy, 0, 255).astype(np.uint8)[..., None], 3, axis=2))
        corners = np.array([[[60.0, 60], [430, 60], [430, 240], [60, 240]]]) + np.arange(12)[:, None, None] * [3.0, 1.5]
        track = measure_plane(plane_on(corners, inset=0.0), MeasureRequest(clip=ArrayClip(frames)))
        self.assertLess(int(track.freedom[1:].min()), 3)
        self.assertLess(float(corner_errors(track, corners)[track.known()].max()), 10.0)


class Going(unittest.TestCase):
    def test_stop_keeps_what_is_done(self) -> None:
        frames, corners = filmed("plain")
        seen: list[PlaneTrack] = []
        work = Work(is_cancelled=lambda: len(seen) >= 10, on_partial=lambda p: seen.append(p.track))
        with self.assertRaises(Cancelled):
            measure_plane(plane_on(corners), MeasureRequest(clip=ArrayClip(frames), work=work))
        self.assertEqual(int((seen[-1].state != NONE).sum()), 10)

    def test_only_the_gap_is_measured_from_both_sides(self) -> None:
        frames, corners = filmed("plain")
        clip = _Counting(ArrayClip(frames))
        motion = plane_on(corners)
        first = measure_plane(motion, MeasureRequest(clip=clip))
        first.state[12:20] = LOST
        first.homography[12:20] = np.eye(3)
        clip.asked.clear()
        second = measure_plane(motion, MeasureRequest(clip=clip, direction="gap", origin=15, previous=first))
        self.assertTrue((second.state[12:20] == TRACKED).all())
        known = np.r_[0:12, 20 : first.frames]
        np.testing.assert_array_equal(second.homography[known], first.homography[known], "to the bit")
        self.assertLess(float(corner_errors(second, corners).max()), 0.2)
        self.assertLessEqual(clip.asked, {0, *range(11, 21)})

    def test_going_on_from_a_frame_keeps_the_rest(self) -> None:
        frames, corners = filmed("plain")
        motion = plane_on(corners)
        first = measure_plane(motion, MeasureRequest(clip=ArrayClip(frames), direction="forward", stop=12))
        self.assertTrue((first.state[12:] == NONE).all())
        second = measure_plane(motion, MeasureRequest(clip=ArrayClip(frames), direction="forward", origin=11, previous=first))
        np.testing.assert_array_equal(second.homography[:11], first.homography[:11])
        self.assertLess(float(corner_errors(second, corners).max()), 0.2)

    def test_a_shift_of_the_picture_shifts_the_track(self) -> None:
        frames, corners = filmed("plain")
        base = measure_plane(plane_on(corners), MeasureRequest(clip=ArrayClip(frames[:10])))
        moved = measure_plane(plane_on(corners + [6, 4]), MeasureRequest(clip=ArrayClip([np.roll(f, (4, 6), (0, 1)) for f in frames[:10]])))
        for i in range(10):
            a = carry(corners[0], base.homography[i]) + [6, 4]
            np.testing.assert_allclose(carry(corners[0] + [6, 4], moved.homography[i]), a, atol=0.05)

    def test_half_size_gives_half_the_coordinates(self) -> None:
        frames, corners = filmed("plain")
        small = [np.asarray(cv2.resize(f, (400, 225), interpolation=cv2.INTER_AREA)) for f in frames[:12]]
        errors = corner_errors(measure_plane(plane_on(corners[:12] / 2), MeasureRequest(clip=ArrayClip(small))), corners[:12] / 2)
        self.assertLess(float(errors.max()), 0.15)

    def test_shift_only_does_nothing_but_shift(self) -> None:
        track, _ = measured("plain", freedom="translation")
        np.testing.assert_allclose(track.homography[:, :2, :2], np.tile(np.eye(2), (34, 1, 1)), atol=1e-9)
        np.testing.assert_allclose(track.homography[:, 2, :2], 0, atol=1e-12)


class Stakes(unittest.TestCase):
    def test_a_corner_put_right_spreads_over_time(self) -> None:
        track, _ = measured("plain")
        _, corners = filmed("plain")
        wanted = corners[20, 2] + [4.0, -3.0]
        stake = PlaneStake(frame=20, corners=(None, None, (float(wanted[0]), float(wanted[1])), None))
        motion = plane_on(corners, stakes=[stake])
        moved = corrected(motion, track)

        def corner(i: int, k: int) -> np.ndarray:
            return carry(corners[0], moved[i])[k]

        np.testing.assert_allclose(corner(20, 2), wanted, atol=1e-6)
        np.testing.assert_allclose(corner(0, 2), corners[0, 2], atol=1e-6)
        halfway = corner(10, 2) - carry(corners[0], track.homography[10])[2]
        self.assertAlmostEqual(float(np.hypot(*halfway)), 2.5, delta=0.3)
        held = corner(33, 2) - carry(corners[0], track.homography[33])[2]
        self.assertAlmostEqual(float(np.hypot(*held)), 5.0, delta=0.4)
        for k in (0, 1, 3):
            np.testing.assert_allclose(corner(20, k), carry(corners[0], track.homography[20])[k], atol=1e-6)

    def test_measuring_starts_again_from_a_stake_after_a_jump(self) -> None:
        """The picture jumps further than the reach: by itself it is lost; a stake shows the way."""
        frames, corners = filmed("plain")
        jump = np.zeros((34, 1, 2))
        jump[15:] = [150, 60]
        far = [f if i < 15 else np.roll(f, (60, 150), (0, 1)) for i, f in enumerate(frames)]
        truth = corners + jump
        inner = plane_on(truth, inset=0.5, reach_px=20)
        alone = measure_plane(inner, MeasureRequest(clip=ArrayClip(far)))
        self.assertEqual(int(alone.state[15]), LOST)
        at = [tuple(map(float, p)) for p in truth[15] + 3.0]
        staked = inner.model_copy(update={"stakes": [PlaneStake(frame=15, corners=tuple(at))]})  # type: ignore[arg-type]
        found = measure_plane(staked, MeasureRequest(clip=ArrayClip(far)))
        self.assertTrue((found.state[1:] == TRACKED).all())
        self.assertLess(float(corner_errors(found, truth).max()), 0.4)

    def test_lost_frames_are_bridged_for_followers(self) -> None:
        track, _ = measured("plain")
        _, corners = filmed("plain")
        track.state[10:14] = LOST
        track.homography[10:14] = np.eye(3)
        path = plane_movement(plane_on(corners, gaps="curve"), track, 0)
        off = [np.hypot(*(carry(corners[0], path[i]) - corners[i]).T).max() for i in range(10, 14)]
        self.assertLess(max(off), 3.0)
        self.assertEqual(track.state[0], GIVEN)


    def test_a_stake_in_a_gap_bends_only_the_bridge(self) -> None:
        track, _ = measured("plain")
        _, corners = filmed("plain")
        track.state[10:17] = LOST
        wanted = corners[13] + [5.0, -4.0]
        stake = PlaneStake(frame=13, corners=tuple((float(x), float(y)) for x, y in wanted))  # type: ignore[arg-type]
        path = plane_movement(plane_on(corners, stakes=[stake]), track, 0)
        np.testing.assert_allclose(carry(corners[0], path[13]), wanted, atol=1e-6)
        for i in (9, 17, 30):
            np.testing.assert_allclose(path[i], track.homography[i], atol=1e-9)


class BadPlanes(unittest.TestCase):
    def test_each_says_what_is_wrong(self) -> None:
        frames, corners = filmed("plain")
        clip = ArrayClip(frames[:3])
        motion = plane_on(corners)
        far = motion.regions[0].model_copy(update={"outline": polygon_outline(corners[0] + 5000)})
        with self.assertRaises(BadInput) as caught:
            measure_plane(motion.model_copy(update={"regions": [far]}), MeasureRequest(clip=clip))
        self.assertIn("outside the picture", caught.exception.message)
        with self.assertRaises(BadInput) as caught:
            measure_plane(motion.model_copy(update={"regions": []}), MeasureRequest(clip=clip))
        self.assertIn("no region", caught.exception.message)
        tiny = polygon_outline(corners[0].mean(axis=0) + np.array([[0, 0], [5, 0], [5, 5]]))
        small = motion.regions[0].model_copy(update={"outline": tiny})
        with self.assertRaises(Degenerate) as caught:
            measure_plane(motion.model_copy(update={"regions": [small]}), MeasureRequest(clip=clip))
        self.assertIn("larger", caught.exception.message)
        grey = ArrayClip([np.full((450, 800, 3), 128, np.uint8)] * 3)
        with self.assertRaises(Degenerate) as caught:
            measure_plane(motion, MeasureRequest(clip=grey))
        self.assertIn("no detail", caught.exception.message)
        with self.assertRaises(BadInput):
            measure_plane(motion, MeasureRequest(clip=clip, start=2, stop=9))


class Outlines(unittest.TestCase):
    def test_a_circle_of_four_curves_covers_its_area(self) -> None:
        k = 0.5522847498 * 80
        points = [OutlinePoint(x=180, y=100, in_x=0, in_y=-k, out_x=0, out_y=k),
                  OutlinePoint(x=100, y=180, in_x=k, in_y=0, out_x=-k, out_y=0),
                  OutlinePoint(x=20, y=100, in_x=0, in_y=k, out_x=0, out_y=-k),
                  OutlinePoint(x=100, y=20, in_x=-k, in_y=0, out_x=k, out_y=0)]  # fmt: skip
        outline = Outline(keys=[OutlineKey(frame=0, points=points)])
        from plonket.base.outlines import control_points

        polygon = flatten(control_points(outline, 0))
        self.assertLess(np.abs(np.hypot(*(polygon - 100).T) - 80).max(), 0.3)
        area = fill(polygon, (200, 200)).astype(float).sum() / 255
        self.assertAlmostEqual(area / (np.pi * 80**2), 1.0, delta=0.02)
        half = fill(polygon, (100, 100), 0.5).astype(float).sum() / 255
        self.assertAlmostEqual(half / (np.pi * 40**2), 1.0, delta=0.03)

    def test_keys_move_points_in_straight_lines(self) -> None:
        from plonket.base.outlines import control_points

        a, b = ([OutlinePoint(x=x + d, y=y) for x, y in ((0, 0), (10, 0), (0, 10))] for d in (0, 20))
        outline = Outline(keys=[OutlineKey(frame=10, points=a), OutlineKey(frame=20, points=b)])
        self.assertEqual(control_points(outline, 15)[0, 0], 10)
        self.assertEqual(control_points(outline, 0)[0, 0], 0)
        self.assertEqual(control_points(outline, 99)[0, 0], 20)

    def test_quads_map_exactly_and_folded_ones_are_refused(self) -> None:
        a = np.array([[0, 0], [100, 0], [100, 50], [0, 50]], np.float64)
        b = np.array([[10, 5], [90, 20], [110, 80], [-5, 60]], np.float64)
        m = quad_homography(a, b)
        assert m is not None
        np.testing.assert_allclose(carry(a, m), b, atol=1e-9)
        self.assertIsNone(quad_homography(a, np.array([[0, 0], [10, 10], [20, 20], [30, 30]], np.float64)))


class _Counting:
    """A clip that remembers which frames were asked for."""

    def __init__(self, clip: Clip) -> None:
        self.info, self._clip = clip.info, clip
        self.asked: set[int] = set()

    def luma(self, frame: int):  # type: ignore[no-untyped-def]
        self.asked.add(frame)
        return self._clip.luma(frame)

    def rgb(self, frame: int):  # type: ignore[no-untyped-def]
        return self._clip.rgb(frame)

    def rgba(self, frame: int):  # type: ignore[no-untyped-def]
        return self._clip.rgba(frame)

    def close(self) -> None:
        """Nothing is held open."""
