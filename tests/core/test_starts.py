"""Where a solve begins: turns alone, pairs of views, views put to the others; from exact tracks with some that are wrong."""

from __future__ import annotations

import unittest
from dataclasses import dataclass

import numpy as np

from plonket.base.conventions import F64
from plonket.track.camera.bundle import Bundle, residuals
from plonket.track.camera.bundle_kernels import CAMERA, SHARED, back_substitute, eliminate, inverted
from plonket.track.camera.details import Details
from plonket.track.camera.initialise import evenly, solve_turns, start_full
from plonket.track.camera.scene import depths, rays_of, sightings, triangulated
from synth.phone.path import look_at

SIZE = (640, 360)
FOCAL = 560.0
FLIP = np.diag([1.0, -1.0, -1.0])
COUNT = 12


@dataclass(frozen=True)
class Set:
    """Cameras with R (n, 3, 3) and t (n, 3) of X_camera = R X + t, points and what is seen of them."""

    turns: F64
    shifts: F64
    points: F64
    details: Details


def built(eyes: F64, turns_to: F64, *, noise: float = 0.15, wrong: float = 0.0, seed: int = 1) -> Set:
    rng = np.random.default_rng(seed)
    points = rng.uniform([-1.2, -0.5, -1.0], [1.2, 0.7, 0.6], (180, 3))
    turns, shifts, xy = [], [], []
    for eye, to in zip(eyes, turns_to, strict=True):
        r = FLIP @ look_at(eye, to).T
        turns.append(r)
        shifts.append(-r @ eye)
        local = points @ r.T + shifts[-1]
        xy.append(local[:, :2] / local[:, 2:] * FOCAL + np.array(SIZE) / 2)
    at = np.stack(xy, axis=1) + rng.normal(0, noise, (len(points), len(eyes), 2))
    # Some details go their own way.
    own = rng.random(len(points)) < wrong
    at[own] += np.linspace(0, 40, len(eyes))[None, :, None] * rng.normal(0, 1, (int(own.sum()), 1, 2))
    seen = ((at > 0) & (at < np.array(SIZE))).all(axis=2)
    return Set(np.stack(turns), np.stack(shifts), points, Details(xy=np.where(seen[..., None], at, np.nan), seen=seen))


def truck(**options: float) -> Set:
    k = np.linspace(-1, 1, COUNT)
    eyes = np.stack([0.5 * k, 0.3 + 0.05 * k**2, 2.6 - 0.2 * k], axis=1)
    return built(eyes, np.tile([0.0, 0.05, 0.0], (COUNT, 1)), **options)  # type: ignore[arg-type]


def pan(**options: float) -> Set:
    k = np.linspace(-1, 1, COUNT)
    eye = np.array([0.1, 0.4, 2.6])
    return built(np.tile(eye, (COUNT, 1)), np.stack([0.5 * k, 0.1 * k, 0 * k], axis=1), **options)  # type: ignore[arg-type]


FRAMES = np.arange(COUNT)


def turn_between(a: F64, b: F64) -> float:
    """Degrees."""
    return float(np.degrees(np.arccos(np.clip((np.trace(a.T @ b) - 1) / 2, -1, 1))))


class Turns(unittest.TestCase):
    def test_a_pan_is_all_turns_and_tells_the_lens(self) -> None:
        made = pan(wrong=0.1)
        turned = solve_turns(made.details, FRAMES, SIZE, None)
        self.assertAlmostEqual(turned.bundle.focal, FOCAL, delta=0.02 * FOCAL)
        self.assertLess(turned.error, 0.4)
        self.assertLess(float(np.nanmax(turned.parallax)), 0.5)
        for k in range(1, COUNT):
            true = made.turns[k] @ made.turns[0].T
            found = turned.bundle.rotation[k] @ turned.bundle.rotation[0].T
            self.assertLess(turn_between(true, found), 0.2)

    def test_a_known_lens_is_kept(self) -> None:
        turned = solve_turns(pan().details, FRAMES, SIZE, FOCAL)
        self.assertAlmostEqual(turned.bundle.focal, FOCAL, places=6)

    def test_a_truck_leaves_parallax_that_grows_with_the_way(self) -> None:
        turned = solve_turns(truck().details, FRAMES, SIZE, FOCAL)
        self.assertGreater(float(turned.parallax[0, COUNT - 1]), 12)
        self.assertLess(float(turned.parallax[0, 1]), float(turned.parallax[0, 5]))
        self.assertLess(float(turned.parallax[0, 5]), float(turned.parallax[0, COUNT - 1]))
        self.assertTrue(np.isnan(turned.parallax[5, 2]), "each pair is told once")

    def test_pairs_with_too_little_in_common_say_nothing(self) -> None:
        details = truck().details
        seen = details.seen.copy()
        seen[:90, 6:], seen[90:, :6] = False, False
        turned = solve_turns(Details(xy=details.xy, seen=seen), FRAMES, SIZE, FOCAL)
        self.assertTrue(np.isnan(turned.parallax[2, 9]))
        self.assertTrue(np.isfinite(turned.parallax[0, 5]) and np.isfinite(turned.parallax[7, 11]))


class Full(unittest.TestCase):
    def started(self, made: Set, focal: float | None) -> tuple[Bundle, F64]:
        turned = solve_turns(made.details, FRAMES, SIZE, focal)
        found = start_full(made.details, FRAMES, SIZE, focal, turned)
        assert found is not None
        return found[0], np.asarray(found[1])

    def agrees(self, made: Set, bundle: Bundle, share: float) -> None:
        """The cameras' way, after both worlds are laid on each other, within a share of its length."""
        eyes = -np.einsum("kji,kj->ki", bundle.rotation, bundle.shift)
        true = -np.einsum("kji,kj->ki", made.turns, made.shifts)
        a, b = eyes - eyes.mean(0), true - true.mean(0)
        u, d, vt = np.linalg.svd(b.T @ a)
        flip = np.array([1, 1, np.linalg.det(u @ vt)])
        laid = (d * flip).sum() / (a**2).sum() * a @ (u @ np.diag(flip) @ vt).T
        length = float(np.linalg.norm(np.diff(true, axis=0), axis=1).sum())
        self.assertLess(float(np.linalg.norm(laid - b, axis=1).mean()) / length, share)

    def test_a_known_lens(self) -> None:
        made = truck()
        bundle, solved = self.started(made, FOCAL)
        self.agrees(made, bundle, 0.01)
        self.assertGreater(int(solved.sum()), 150)

    def test_an_unknown_lens_is_found_on_the_way(self) -> None:
        made = truck(noise=0.08)
        bundle, _ = self.started(made, None)
        self.assertAlmostEqual(bundle.focal, FOCAL, delta=0.05 * FOCAL)
        self.agrees(made, bundle, 0.02)

    def test_details_that_go_their_own_way_do_not_bend_it(self) -> None:
        made = truck(wrong=0.25, seed=4)
        bundle, solved = self.started(made, FOCAL)
        self.agrees(made, bundle, 0.015)
        seen = sightings(made.details.xy, made.details.seen, FRAMES, SIZE)
        error = np.linalg.norm(residuals(bundle, seen), axis=1)
        fits = np.array([np.median(error[seen.point == p]) for p in np.flatnonzero(solved)])
        self.assertGreater(float((fits < 0.5).mean()), 0.7)

    def test_without_parallax_there_is_no_such_start(self) -> None:
        made = pan(noise=0.05)
        turned = solve_turns(made.details, FRAMES, SIZE, FOCAL)
        found = start_full(made.details, FRAMES, SIZE, FOCAL, turned)
        # If anything comes of it, hardly a point's distance is told.
        self.assertTrue(found is None or int(found[1].sum()) < 30)


class Points(unittest.TestCase):
    def test_where_rays_meet(self) -> None:
        made = truck(noise=0.0)
        bundle = Bundle(frames=FRAMES, rotation=made.turns, shift=made.shifts, zoom=np.zeros(COUNT),
                        shared=np.array([np.log(FOCAL), 0, 0, 0]), points=np.zeros_like(made.points))  # fmt: skip
        seen = sightings(made.details.xy, made.details.seen, FRAMES, SIZE)
        points, angle = triangulated(bundle, seen, len(made.points))
        enough = made.details.seen.sum(axis=1) >= 3
        np.testing.assert_allclose(points[enough], made.points[enough], atol=1e-6)
        # The widest angle between the rays of a point that is seen all the way, by hand.
        k = int(np.flatnonzero(made.details.seen.all(axis=1))[0])
        ways = made.points[k] + np.einsum("kji,kj->ki", made.turns, made.shifts)
        ways /= np.linalg.norm(ways, axis=1, keepdims=True)
        self.assertAlmostEqual(float(angle[k]), float(np.arccos((ways @ ways.T).min())), delta=0.01)
        bundle.points[:] = made.points
        local = np.einsum("nij,nj->ni", made.turns[seen.camera], made.points[seen.point]) + made.shifts[seen.camera]
        np.testing.assert_allclose(depths(bundle, seen), local[:, 2], atol=1e-9)
        np.testing.assert_allclose(rays_of(bundle, seen), local / local[:, 2:], atol=1e-9)

    def test_a_stray_sighting_does_not_pull_a_point_away(self) -> None:
        made = truck(noise=0.0)
        xy = made.details.xy.copy()
        whole = np.flatnonzero(made.details.seen.all(axis=1))[:20]
        xy[whole, 4] += [30.0, -20.0]
        bundle = Bundle(frames=FRAMES, rotation=made.turns, shift=made.shifts, zoom=np.zeros(COUNT),
                        shared=np.array([np.log(FOCAL), 0, 0, 0]), points=np.zeros_like(made.points))  # fmt: skip
        points, _ = triangulated(bundle, sightings(xy, made.details.seen, FRAMES, SIZE), len(made.points), width_px=1.0)
        self.assertLess(float(np.linalg.norm(points[whole] - made.points[whole], axis=1).max()), 0.02)

    def test_frames_are_taken_evenly_with_both_ends(self) -> None:
        np.testing.assert_array_equal(evenly(np.arange(5), 8), np.arange(5))
        taken = evenly(np.arange(10, 110), 12)
        self.assertEqual((taken[0], taken[-1], len(taken)), (10, 109, 12))
        self.assertLessEqual(int(np.ptp(np.diff(taken))), 1)


class Elimination(unittest.TestCase):
    """Points taken out of the normal equations, against the same done densely."""

    def test_with_gaps_in_what_is_seen(self) -> None:
        rng = np.random.default_rng(3)
        cameras, points = 9, 14
        seen = rng.random((points, cameras)) < 0.6
        seen[0] = False
        seen[1] = np.arange(cameras) == 4
        point, camera = np.nonzero(seen)
        starts = np.searchsorted(point, np.arange(points + 1)).astype(np.int64)
        cross = rng.normal(0, 1, (len(point), CAMERA + SHARED, 3))
        half = rng.normal(0, 1, (points, 3, 3))
        blocks = half @ half.transpose(0, 2, 1) + 0.1 * np.eye(3)
        right = rng.normal(0, 1, (points, 3))
        inverse = np.empty_like(blocks)
        inverted(blocks, 0.05, inverse)
        k = np.arange(3)
        raised = blocks.copy()
        raised[:, k, k] = blocks[:, k, k] * 1.05 + 1e-9 * blocks[:, k, k].max(axis=1, keepdims=True) + 1e-12
        np.testing.assert_allclose(inverse, np.linalg.inv(raised), rtol=1e-9)
        size = cameras * CAMERA + SHARED
        whole = np.zeros((size, 3 * points))
        for n, (p, c) in enumerate(zip(point, camera, strict=True)):
            whole[c * CAMERA : (c + 1) * CAMERA, 3 * p : 3 * p + 3] += cross[n, :CAMERA]
            whole[cameras * CAMERA :, 3 * p : 3 * p + 3] += cross[n, CAMERA:]
        middle = np.zeros((3 * points, 3 * points))
        for p in range(points):
            middle[3 * p : 3 * p + 3, 3 * p : 3 * p + 3] = inverse[p]
        out, taken = np.zeros((2, size, size)), np.zeros((2, size))
        eliminate(starts, camera.astype(np.int64), cross, inverse, right, out, taken, cameras)
        np.testing.assert_allclose(np.triu(out.sum(axis=0)), np.triu(whole @ middle @ whole.T), atol=1e-9)
        np.testing.assert_allclose(taken.sum(axis=0), whole @ middle @ right.ravel(), atol=1e-9)
        # And back: each point's own step, once the others' are known.
        delta, moved = rng.normal(0, 1, size), np.zeros((points, 3))
        back_substitute(starts, camera.astype(np.int64), cross, inverse, right, delta, cameras, moved)
        np.testing.assert_allclose(moved.ravel(), middle @ (right.ravel() - whole.T @ delta), atol=1e-9)
