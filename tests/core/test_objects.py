"""Rigid things solved from points on them, and flat surfaces through points of a room."""

from __future__ import annotations

import contextlib
import io
import json
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import Degenerate
from plonket.base.states import LOST, TRACKED
from plonket.cli.main import main
from plonket.document.spot import Spot
from plonket.formats.points_csv import write_points
from plonket.room.alignment import surface
from plonket.room.boxes import box_round
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.bundle import rotations
from plonket.track.object.solve import seen_through, solve_object
from plonket.track.points.tracks import PointTracks


class Objects(unittest.TestCase):
    """A marked box that turns before a still camera."""

    def tracks(self, lost: bool = True) -> tuple[PointTracks, list[tuple[F64, F64]], F64, float]:
        rng = np.random.default_rng(6)
        focal, n = 560.0, 40
        marks = rng.uniform(-0.15, 0.15, (12, 3))
        marks[np.arange(12), rng.integers(0, 3, 12)] = 0.15 * np.sign(rng.normal(size=12))
        names = tuple(f"m{k}" for k in range(12))
        out = PointTracks.empty(names, names, n)
        poses = []
        for i in range(n):
            turn = rotations(np.array([[0.02 * i, 0.035 * i - 0.6, 0.1 * np.sin(i / 9)]]))[0]
            place = np.array([0.25 * np.sin(i / 14), 0.05 * np.cos(i / 10), -1.4 - 0.006 * i])
            poses.append((place, turn))
            local = marks @ turn.T + place
            out.xy[:, i] = np.array([320, 180]) + focal * local[:, :2] / -local[:, 2:] * [1, -1]
        out.xy[:] += rng.normal(0, 0.05, out.xy.shape)
        out.state[:], out.confidence[:] = TRACKED, 1.0
        if lost:
            # Points are lost and found again, a whole frame is, and one slides off.
            for k in range(12):
                a = int(rng.integers(0, 30))
                out.state[k, a : a + 8] = LOST
            out.state[:, 25] = LOST
        return out, poses, marks, focal

    def judged(self, focal: float | None) -> tuple[CameraTrack, F64]:
        tracks, poses, marks, true_focal = self.tracks()
        track = solve_object(tracks, (640, 360), focal=focal)
        # Laid on the truth: one scale and one turn of the object's own space.
        a = track.points - track.points.mean(0)
        b = marks - marks.mean(0)
        u, _, vt = np.linalg.svd(b.T @ a)
        turn = u @ np.diag([1, 1, np.linalg.det(u @ vt)]) @ vt
        scale = float((b * (a @ turn.T)).sum() / (a**2).sum())
        self.assertLess(float(np.abs(scale * a @ turn.T - b).max()), 0.004)
        lens = track.lens(0)
        off = []
        for i in np.flatnonzero(track.known()):
            place, rotation = poses[i]
            local = marks @ rotation.T + place
            flat = local[:, :2] / -local[:, 2:]
            true = np.array([320, 180]) + true_focal * flat * [1, -1]
            off.append(np.linalg.norm(seen_through(track, int(i), lens) - true, axis=1))
        return track, np.concatenate(off)

    def test_with_a_known_lens(self) -> None:
        track, off = self.judged(560.0)
        self.assertLess(float(off.mean()), 0.1)
        self.assertEqual(int(track.state[25]), LOST)
        self.assertEqual(int(track.known().sum()), 39)

    def test_with_an_unknown_lens(self) -> None:
        track, off = self.judged(None)
        self.assertLess(float(off.mean()), 0.5)
        self.assertLess(abs(float(track.focal[0]) / 560 - 1), 0.05)

    def test_the_command_and_too_few_points(self) -> None:
        tracks, _, _, _ = self.tracks(lost=False)
        with tempfile.TemporaryDirectory() as folder:
            clip, points, out = Path(folder) / "clip", Path(folder) / "points.csv", Path(folder) / "object.json"
            clip.mkdir()
            for i in range(40):
                cv2.imwrite(str(clip / f"{i:04d}.png"), np.zeros((360, 640, 3), np.uint8))
            points.write_text(write_points(tracks))
            with contextlib.redirect_stderr(io.StringIO()):
                asked = ["solve-object", str(clip), "--points", str(points), "--focal-px", "560", "--out", str(out)]
                self.assertEqual(main(asked), 0)
            told = json.loads(out.read_text())
            self.assertEqual((told["kind"], len(told["frames"]), told["points"][0]["id"]), ("full", 40, "m0"))
            points.write_text(write_points(tracks.only(tracks.ids[:5])))
            with contextlib.redirect_stderr(io.StringIO()) as said:
                self.assertEqual(main(["solve-object", str(clip), "--points", str(points), "--out", str(out)]), 1)
            self.assertIn("eight points", said.getvalue())


class Boxes(unittest.TestCase):
    """Boxes on the ground round points of a room, against boxes that are known."""

    def known(self, heading: float, size: tuple[float, float, float], foot: tuple[float, float]) -> Callable[[F64], F64]:
        right, up = Spot(heading=heading).axes(0, np.zeros(3), np.eye(3))
        axes = np.stack([right, up, np.cross(right, up)], axis=1)
        return lambda unit: np.array([foot[0], 0, foot[1]]) + (unit * size) @ axes.T

    def test_a_box_that_two_sides_and_the_top_are_seen_of(self) -> None:
        rng = np.random.default_rng(4)
        for heading in (-170.0, -61.3, 0.0, 12.5, 44.9, 133.0):
            size, foot = (0.7, 0.35, 0.4), (1.2, -2.0)
            place = self.known(heading, size, foot)
            # Corners that are seen, and details here and there on the front, one side and the top.
            some = rng.uniform(0, 1, (60, 3)) - [0.5, 0, 0.5]
            for k, (axis, at) in enumerate(((2, 0.5), (0, 0.5), (1, 1.0))):
                some[20 * k : 20 * k + 20, axis] = at
            unit = np.array([[-0.5, 1, 0.5], [0.5, 1, 0.5], [0.5, 1, -0.5], [-0.5, 1, -0.5], [0.5, 0, 0.5]])
            eye = place(np.array([1.5, 3.0, 6.0]))
            found = box_round(np.concatenate([place(unit), place(some)]), eye)
            np.testing.assert_allclose(found.size, size, atol=1e-5)
            np.testing.assert_allclose(found.foot, [foot[0], 0, foot[1]], atol=1e-5)
            self.assertAlmostEqual((found.heading - heading + 180) % 360 - 180, 0, places=3)

    def test_one_side_alone_gets_a_box_behind_it(self) -> None:
        rng = np.random.default_rng(5)
        place = self.known(20.0, (0.5, 0.3, 0.5), (0, 0))
        front = np.array([[-0.5, 0, 0.5], [0.5, 0, 0.5], [0.5, 1, 0.5], [-0.5, 1, 0.5]])
        seen = place(front) + rng.normal(0, 0.002, (4, 3))
        for side in ([0.0, 2.0, 9.0], [7.0, 2.0, 3.0], [-7.0, 2.0, 3.0]):
            found = box_round(seen, place(np.array(side)))
            np.testing.assert_allclose(found.size[[0, 2]], 0.5, atol=0.01)
            np.testing.assert_allclose(found.foot, 0, atol=0.01)

    def test_what_makes_no_box_is_refused(self) -> None:
        eye = np.array([0, 1, 3.0])
        for points in (np.eye(3)[:2], np.array([[0, 0, 0], [1, 0, 0], [0, -0.1, 1.0]]), np.array([[1, 0, 1], [1, 1, 1], [1, 2, 1.0]])):
            with self.assertRaises(Degenerate):
                box_round(points, eye)


class Surfaces(unittest.TestCase):
    def test_a_surface_through_points_is_a_spot_that_lies_on_it(self) -> None:
        rng = np.random.default_rng(7)
        for normal in ([0, 1, 0.0], [0.3, 0.2, 0.9], [-0.8, 0.1, -0.4], [0.1, -0.7, 0.5]):
            n = np.array(normal) / np.linalg.norm(normal)
            u = np.cross(n, [0.31, 0.2, -0.9])
            v = np.cross(n, u)
            points = np.array([0.4, 0.1, -0.2]) + rng.normal(0, 1, (7, 1)) * u + rng.normal(0, 1, (7, 1)) * v
            centre, heading, tilt = surface(points, points.mean(axis=0) + 2 * n)
            np.testing.assert_allclose(centre, points.mean(axis=0))
            right, up = Spot(heading=heading, tilt=tilt).axes(0, np.zeros(3), np.eye(3))
            np.testing.assert_allclose(np.cross(right, up), n, atol=1e-9)
            np.testing.assert_allclose((points - centre) @ n, 0, atol=1e-9)
        with self.assertRaises(Degenerate):
            surface(np.array([[0, 0, 0], [1, 1, 1], [2, 2, 2.0]]), np.array([0, 5, 0.0]))
        with self.assertRaises(Degenerate):
            surface(np.eye(3)[:2], np.array([0, 5, 0.0]))
