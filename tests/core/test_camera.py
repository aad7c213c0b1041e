"""Solving a camera, against the truth of the simulated phone."""

from __future__ import annotations

import unittest
from dataclasses import dataclass
from fractions import Fraction
from functools import cache
from typing import Any

import cv2
import numpy as np

from plonket.base.conventions import F64, U8, matrix_to_quaternion
from plonket.base.errors import BadInput, Cancelled, Degenerate
from plonket.base.progress import Work
from plonket.document.spot import Spot
from plonket.media.info import ClipInfo
from plonket.room.alignment import Room
from plonket.room.boxes import box_round
from plonket.room.camera import RoomCamera
from plonket.room.camera_track import CameraTrack
from plonket.room.lens import Lens, focal_from_35mm, focal_to_35mm
from plonket.track.camera.bundle import (
    Bundle,
    FreeParameters,
    Observations,
    _reduced,
    _solve,
    _system,
    point_starts,
    residuals,
    rotations,
)
from plonket.track.camera.bundle_kernels import CAMERA, SHARED, derivatives
from plonket.track.camera.measure import measure_camera
from plonket.track.camera.settings import CameraMotion
from plonket.track.context import LoneContext
from plonket.track.request import MeasureRequest
from synth.phone.quickroom import CRATES, RoomShot, room_shot

FRAMES = 48


class Frames:
    """A clip of pictures in memory."""

    def __init__(self, pictures: list[U8], rate: Fraction) -> None:
        height, width = pictures[0].shape[:2]
        self._luma = [cv2.cvtColor(p, cv2.COLOR_RGB2GRAY) for p in pictures]
        self._pictures = pictures
        self.info = ClipInfo(kind="folder", width=width, height=height, rate=rate, frames=len(pictures))

    def rgb(self, frame: int) -> U8:
        return self._pictures[frame]

    def rgba(self, frame: int) -> U8:
        return np.dstack([self._pictures[frame], np.full(self._pictures[frame].shape[:2], 255, np.uint8)])

    def luma(self, frame: int) -> U8:
        return self._luma[frame]

    def close(self) -> None:
        pass


@dataclass(frozen=True)
class Aligned:
    """How a solve compares with the truth after both worlds are laid on each other."""

    path_share: float
    swim_px: F64
    room: Room


def aligned(shot: RoomShot, track: CameraTrack) -> Aligned:
    """Turn, scale and shift the solved world on to the true one; path error over its length, and reprojection errors."""
    eyes, turns = shot.poses()
    u, _, vt = np.linalg.svd(sum(t @ s.T for t, s in zip(turns, track.rotation, strict=True)))
    turn = u @ vt
    a = (track.position - track.position.mean(0)) @ turn.T
    b = eyes - eyes.mean(0)
    scale = float((a * b).sum() / (a * a).sum())
    q = matrix_to_quaternion(turn)
    shift = eyes.mean(0) - scale * turn @ track.position.mean(0)
    room = Room(turn=tuple(q), shift=tuple(shift), scale=scale)
    length = float(np.linalg.norm(np.diff(eyes, axis=0), axis=1).sum())
    off = np.linalg.norm(room.points(track.position) - eyes, axis=1).mean()
    camera, true = RoomCamera(track, room), shot.pixels(shot.spots)
    size = np.array(shot.camera.size)
    swim = [np.linalg.norm(camera.project(i, shot.spots) - true[i], axis=1)[((true[i] > 0) & (true[i] < size)).all(1)]
            for i in range(len(eyes))]  # fmt: skip
    return Aligned(float(off / length), np.concatenate(swim), room)


@cache
def filmed(**options: Any) -> tuple[RoomShot, CameraTrack]:
    shot = room_shot(options.pop("move"), frames=FRAMES, **options)
    return shot, measure_camera(CameraMotion(id="c", name="c"), MeasureRequest(clip=Frames(shot.frames, shot.rate)))


def _in_quad(quad: F64, at: Any) -> bool:
    return bool(cv2.pointPolygonTest(quad.astype(np.float32).reshape(-1, 1, 2), (float(at[0]), float(at[1])), False) >= 0)


class AgainstTruth(unittest.TestCase):
    def holds(self, focal_share: float = 0.01, **options: Any) -> CameraTrack:
        shot, track = filmed(**options)
        self.assertEqual((track.kind, track.locked), ("full", False))
        self.assertTrue(track.known().all())
        found = aligned(shot, track)
        self.assertLess(found.path_share, 0.005)
        self.assertLess(float(found.swim_px.mean()), 0.5)
        self.assertLess(abs(float(track.focal[0]) / shot.camera.focal_px - 1), focal_share)
        return track

    def test_push_in(self) -> None:
        self.holds(move="push-in")

    def test_truck(self) -> None:
        track = self.holds(move="truck")
        self.assertEqual(track.readout, 0.0)
        self.assertEqual(track.distortion[:2], (0.0, 0.0))

    def test_orbit(self) -> None:
        track = self.holds(move="orbit")
        # A box round the details that were followed on a crate stands as the crate does; they do not reach its edges.
        room = aligned(filmed(move="orbit")[0], track).room
        places = room.points(track.points)
        for (x, y, z), extent, turned in CRATES[:3]:
            right, up = Spot(heading=turned).axes(0, np.zeros(3), np.eye(3))
            local = (places - [x, y, z]) @ np.stack([right, up, np.cross(right, up)], axis=1)
            on = track.kept & (np.abs(local) < np.array(extent) / 2 + 0.006).all(axis=1) & (places[:, 1] > 0.012)
            found = box_round(places[on], RoomCamera(track, room).eye(0))
            self.assertLess(abs((found.heading - turned + 180) % 360 - 180), 3)
            self.assertLess(float(np.hypot(*(found.foot - [x, 0, z])[[0, 2]])), 0.025)
            self.assertAlmostEqual(float(found.size[1]), extent[1], delta=0.015)

    def test_a_walking_puppet_is_set_aside_by_itself(self) -> None:
        track = self.holds(move="truck", puppet=True, seed=8)
        shot, _ = filmed(move="truck", puppet=True, seed=8)
        assert shot.puppet is not None
        on, wrong = 0, 0
        for k in range(len(track.ids)):
            seen = np.flatnonzero(np.isfinite(track.xy[k, :, 0]))
            inside = [_in_quad(shot.camera.project(float(shot.times[i]), shot.puppet), track.xy[k, i]) for i in seen]
            if all(inside):
                on += 1
                wrong += int(track.kept[k])
        self.assertGreater(on, 20)
        self.assertLess(wrong / on, 0.05)

    def test_lens_distortion(self) -> None:
        track = self.holds(move="walk", k1=-0.12, k2=0.03)
        self.assertAlmostEqual(track.distortion[0], -0.12, delta=0.02)

    def test_rolling_shutter(self) -> None:
        track = self.holds(move="walk", readout_s=0.018, shake=1.5)
        self.assertAlmostEqual(track.readout, 0.018 * 30, delta=0.06)

    def test_known_lens_is_kept(self) -> None:
        shot, _ = filmed(move="truck")
        motion = CameraMotion(id="c", name="c", knows="pixels", focal_px=shot.camera.focal_px)
        track = measure_camera(motion, MeasureRequest(clip=Frames(shot.frames, shot.rate)))
        np.testing.assert_allclose(track.focal, shot.camera.focal_px)
        self.assertEqual(track.focal_doubt, 0.0)

    def test_a_pan_on_the_spot_is_solved_as_turns(self) -> None:
        shot, track = filmed(move="pan")
        self.assertEqual((track.kind, track.locked), ("rotation-only", False))
        self.assertTrue(any("only turns" in w for w in track.warnings))
        self.assertLess(abs(float(track.focal[0]) / shot.camera.focal_px - 1), 0.01)
        np.testing.assert_array_equal(track.position, np.zeros_like(track.position))
        # What was placed at one pixel of the first frame stays where it is seen.
        camera, true = RoomCamera(track, Room()), shot.pixels(shot.spots)
        size = np.array(shot.camera.size)
        for k in np.flatnonzero(((true[0] > 0) & (true[0] < size)).all(1)):
            _, way = camera.ray(0, true[0, k])
            for i in (20, 45):
                if ((true[i, k] > 0) & (true[i, k] < size)).all():
                    self.assertLess(float(np.linalg.norm(camera.project(i, way) - true[i, k])), 0.5)

    def test_a_locked_camera_is_recognised(self) -> None:
        _, track = filmed(move="locked")
        self.assertTrue(track.locked)
        self.assertEqual(track.kind, "rotation-only")
        self.assertTrue(any("stands still" in w for w in track.warnings))

    def test_too_little_detail_says_what_to_try(self) -> None:
        rng = np.random.default_rng(2)
        flat = [np.clip(rng.normal(90, 1.2, (180, 320, 3)), 0, 255).astype(np.uint8) for _ in range(12)]
        with self.assertRaises(Degenerate) as caught:
            measure_camera(CameraMotion(id="c", name="c", strength=6), MeasureRequest(clip=Frames(flat, Fraction(30))))
        self.assertIn("Lower the strength", caught.exception.message)


class SetAside(unittest.TestCase):
    def test_what_is_set_aside_has_no_say_and_details_are_not_followed_again(self) -> None:
        shot, first = filmed(move="truck")
        worst = first.ids[np.argsort(-np.where(first.kept, first.point_error, 0))[:30]]
        motion = CameraMotion(id="c", name="c", set_aside=[int(i) for i in worst])
        told: list[tuple[int, int]] = []
        track = measure_camera(motion, MeasureRequest(clip=Frames(shot.frames, shot.rate), previous=first, work=Work(on_progress=lambda done, total: told.append((done, total)))))  # fmt: skip
        self.assertEqual(told[0], (2 * FRAMES, 3 * FRAMES))
        self.assertFalse(track.kept[np.isin(track.ids, worst)].any())
        np.testing.assert_array_equal(track.ids, first.ids)
        np.testing.assert_array_equal(track.xy, first.xy)
        self.assertLess(track.mean_error_px, first.mean_error_px)
        self.assertLess(float(aligned(shot, track).swim_px.mean()), 0.5)

    def test_points_given_by_hand_belong_to_the_room(self) -> None:
        shot, first = filmed(move="truck")
        spot = shot.pixels(shot.spots[7:8])[:, 0]
        track = measure_camera(CameraMotion(id="c", name="c"), MeasureRequest(clip=Frames(shot.frames, shot.rate), previous=first, context=LoneContext(points={"nail": (spot, np.ones(FRAMES, bool))})))  # fmt: skip
        self.assertTrue(track.kept[track.strong].all())
        found = aligned(shot, track)
        place = found.room.points(track.points[track.strong][0])
        self.assertLess(float(np.linalg.norm(place - shot.spots[7])), 0.003)

    def test_stop_ends_it(self) -> None:
        shot, _ = filmed(move="truck")
        asked = iter([False] * 10 + [True] * 1000)
        with self.assertRaises(Cancelled):
            measure_camera(CameraMotion(id="c", name="c"), MeasureRequest(clip=Frames(shot.frames, shot.rate), work=Work(is_cancelled=lambda: next(asked))))  # fmt: skip

    def test_a_range_must_have_frames(self) -> None:
        shot, _ = filmed(move="truck")
        with self.assertRaises(BadInput):
            measure_camera(CameraMotion(id="c", name="c"), MeasureRequest(clip=Frames(shot.frames, shot.rate), start=5, stop=6))

    def test_a_track_survives_storing(self) -> None:
        _, track = filmed(move="truck")
        back = CameraTrack.from_bytes(track.to_bytes())
        np.testing.assert_array_equal(back.points, track.points)
        self.assertEqual((back.kind, back.warnings, back.size), (track.kind, track.warnings, track.size))
        self.assertEqual(back.to_bytes(), track.to_bytes())


class BundleAdjustment(unittest.TestCase):
    """Derivatives and the Schur complement against plain numerical ones."""

    def small(self) -> tuple[Bundle, Observations]:
        rng = np.random.default_rng(4)
        cameras, points = 4, 9
        world = rng.uniform(-1, 1, (points, 3)) + [0, 0, 4]
        bundle = Bundle(frames=np.arange(cameras), rotation=rotations(rng.normal(0, 0.1, (cameras, 3))),
                        shift=rng.normal(0, 0.2, (cameras, 3)), zoom=np.zeros(cameras),
                        shared=np.array([np.log(500.0), -0.1, 0.02, 0.3]), points=world)  # fmt: skip
        camera, point = np.tile(np.arange(cameras), points), np.repeat(np.arange(points), cameras)
        seen = Observations(camera=camera, point=point, xy=np.zeros((len(camera), 2)), row=rng.uniform(-0.5, 0.5, len(camera)),
                    weight=np.ones(len(camera)))  # fmt: skip
        off = residuals(bundle, seen)
        seen.xy[:] = off + rng.normal(0, 0.5, off.shape)
        return bundle, seen

    def test_derivatives(self) -> None:
        bundle, seen = self.small()
        speeds = bundle.speeds()
        jc, js, jp = np.zeros((2, CAMERA)), np.zeros((2, SHARED)), np.zeros((2, 3))

        def place(c: int, turn: F64, shift: F64, zoom: float, shared: F64, point: F64, row: float) -> F64:
            a, b, c_ = np.zeros((2, CAMERA)), np.zeros((2, SHARED)), np.zeros((2, 3))
            rotation = rotations(turn[None])[0] @ bundle.rotation[c]
            x, y, _ = derivatives(rotation, bundle.shift[c] + shift, zoom, shared, point, speeds[c], row, a, b, c_)
            return np.array([x, y])

        for k in (0, 5, 17):
            c, p, row = int(seen.camera[k]), int(seen.point[k]), float(seen.row[k])
            derivatives(bundle.rotation[c], bundle.shift[c], 0.0, bundle.shared, bundle.points[p], speeds[c], row, jc, js, jp)
            step = 1e-6
            for q in range(3):
                d = np.eye(3)[q] * step
                zero = np.zeros(3)
                for given, found, slack in (
                    ([(d, zero, 0.0, zero), (-d, zero, 0.0, zero)], jc[:, q], 0.02),
                    ([(zero, d, 0.0, zero), (zero, -d, 0.0, zero)], jc[:, 3 + q], 1e-5),
                    ([(zero, zero, 0.0, d), (zero, zero, 0.0, -d)], jp[:, q], 0.02),
                ):
                    a, b = (place(c, t, s, z, bundle.shared, bundle.points[p] + m, row) for t, s, z, m in given)
                    # The read-out's own turn is left out of the derivatives on purpose: it is a few parts in a hundred.
                    np.testing.assert_allclose((a - b) / (2 * step), found, rtol=slack, atol=slack * 500)
            for q in range(SHARED):
                d4 = np.eye(SHARED)[q] * step
                a, b = (place(c, np.zeros(3), np.zeros(3), 0.0, bundle.shared + s * d4, bundle.points[p], row) for s in (1, -1))
                np.testing.assert_allclose((a - b) / (2 * step), js[:, q], rtol=1e-5, atol=1e-4)

    def test_a_step_agrees_with_a_dense_solve(self) -> None:
        bundle, seen = self.small()
        free = FreeParameters(lens=frozenset({"focal", "k1"}))
        starts, speeds, width, damping = point_starts(seen, len(bundle.points)), bundle.speeds(), 1.5, 1e-3
        system = _system(bundle, seen, starts, speeds, width, free)
        step = _solve(system, bundle, seen, starts, damping, free)
        assert step is not None
        _, _, mask, _ = _reduced(system, bundle, starts, damping, free, seen)
        # The same from the whole Jacobian, with no elimination.
        n, m = len(bundle.rotation), len(bundle.points)
        size = n * CAMERA + SHARED + 3 * m
        jacobian, right = np.zeros((2 * len(seen), size)), np.zeros(2 * len(seen))
        off = residuals(bundle, seen)
        for k in range(len(seen)):
            jc, js, jp = np.zeros((2, CAMERA)), np.zeros((2, SHARED)), np.zeros((2, 3))
            c, p = int(seen.camera[k]), int(seen.point[k])
            derivatives(bundle.rotation[c], bundle.shift[c], 0.0, bundle.shared, bundle.points[p], speeds[c],
                        seen.row[k], jc, js, jp)  # fmt: skip
            w = np.sqrt(1 / (1 + (off[k] @ off[k]) / width**2))
            rows = slice(2 * k, 2 * k + 2)
            jacobian[rows, c * CAMERA : (c + 1) * CAMERA] = w * jc
            jacobian[rows, n * CAMERA : n * CAMERA + SHARED] = w * js
            jacobian[rows, n * CAMERA + SHARED + 3 * p :][:, :3] = w * jp
            right[rows] = -w * off[k]
        h, b = jacobian.T @ jacobian, jacobian.T @ right
        h[n * CAMERA + 1, n * CAMERA + 1] += 20
        b[n * CAMERA + 1] -= 20 * bundle.shared[1]
        h[np.arange(size), np.arange(size)] *= 1 + damping
        keep = np.concatenate([mask, np.ones(3 * m, bool)])
        dense = np.zeros(size)
        dense[keep] = np.linalg.solve(h[np.ix_(keep, keep)], b[keep])
        np.testing.assert_allclose(step[0], dense[: n * CAMERA + SHARED], rtol=1e-4, atol=1e-7)
        np.testing.assert_allclose(step[1].ravel(), dense[n * CAMERA + SHARED :], rtol=1e-4, atol=1e-6)


class Lenses(unittest.TestCase):
    def test_bending_and_flattening_undo_each_other(self) -> None:
        lens = Lens(focal=800, principal=(640, 360), k1=-0.15, k2=0.04, p1=0.001, p2=-0.002, k3=0.003)
        pixels = np.array([[10.0, 20.0], [640, 360], [1270, 700], [300, 500]])
        rays = lens.rays(pixels)
        np.testing.assert_allclose(lens.pixels(rays * 3.0), pixels, atol=1e-6)
        own = cv2.projectPoints(rays, np.zeros(3), np.zeros(3), np.array([[800, 0, 640], [0, 800, 360], [0, 0, 1.0]]),
                                np.array([-0.15, 0.04, 0.001, -0.002, 0.003]))[0].reshape(-1, 2)  # fmt: skip
        np.testing.assert_allclose(own, pixels, atol=1e-6)

    def test_35mm_equivalents_go_by_the_longer_side(self) -> None:
        self.assertAlmostEqual(focal_from_35mm(36, (720, 1280)), 1280)
        self.assertAlmostEqual(focal_to_35mm(focal_from_35mm(26, (1920, 1080)), (1920, 1080)), 26)
