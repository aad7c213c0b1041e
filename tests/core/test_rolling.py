"""Rolling shutter taken out, and the workshop locked on its chart, against positions worked out exactly."""

from __future__ import annotations

import json
import unittest
from pathlib import Path

import cv2
import numpy as np

from plonket.base.conventions import F64
from plonket.base.homography import translation
from plonket.base.outlines import carry, polygon_outline
from plonket.media import open_clip
from plonket.plate.rolling_shutter import readout_of, rolled
from plonket.plate.stabilise import steady_view
from plonket.plate.view_path import PlateContext, ViewPath
from plonket.track.movement import movement_of
from plonket.track.plane.correct import quad_homography
from plonket.track.plane.measure import measure_plane
from plonket.track.plane.settings import PlaneMotion, Region
from plonket.track.request import MeasureRequest
from tests.core.test_steady import SIZE, context, steady


class RollingShutter(unittest.TestCase):
    """Rows read one after the other, against positions worked out exactly."""

    def positions(self, readout: float) -> tuple[F64, F64, F64]:
        """A grid of spots (n, k, 2) as a rolling shutter films a shaken picture, where they lie, and the shake (n, 3, 3)."""
        n, (w, h) = 60, SIZE
        rng = np.random.default_rng(6)
        t = np.arange(n)
        swing = [(rng.uniform(4, 9), rng.uniform(5, 14), rng.uniform(0, 6)) for _ in range(4)]

        def shake(when: F64) -> F64:
            x = sum(a * np.sin(2 * np.pi * when / p + f) for a, p, f in swing[:2])
            y = sum(a * np.sin(2 * np.pi * when / p + f) for a, p, f in swing[2:])
            return np.stack([x, y], axis=-1) - [0, 0]

        u, v = np.meshgrid(np.linspace(20, w - 20, 7), np.linspace(15, h - 15, 6))
        spots = np.stack([u.ravel(), v.ravel()], axis=1)
        filmed = np.empty((n, len(spots), 2))
        for i in t:
            at = spots + shake(np.full(len(spots), float(i)))
            for _ in range(30):
                at = spots + shake(i + readout * (at[:, 1] / h - 0.5))
            filmed[i] = at
        moves = np.stack([translation(*shake(np.array(float(i)))) for i in t])
        return spots, filmed, np.asarray(moves)

    def test_leaning_is_taken_out_where_only_the_shift_was_measured(self) -> None:
        spots, filmed, moves = self.positions(0.6)
        left = {}
        for readout in (0.0, 60.0):
            view = steady_view(steady(fit="none", readout=readout), context(moves), ViewPath.untouched(60, SIZE))
            off = np.array([carry(filmed[i], view.matrix(i)) - spots for i in range(2, 58)])
            left[readout] = float(np.sqrt((off**2).sum(axis=2).mean()))
        self.assertLess(left[60.0], 0.4 * left[0.0], left)
        self.assertGreater(left[0.0], 1.0)

    def test_a_surface_measured_in_perspective_has_it_out_already_and_tells_how_long_reading_takes(self) -> None:
        for readout in (0.3, 0.7):
            spots, filmed, _ = self.positions(readout)
            moves = np.stack([cv2.findHomography(spots, f, 0)[0] for f in filmed])
            moves = np.asarray(moves @ np.linalg.inv(moves[0]))
            np.testing.assert_array_equal(rolled(moves, readout, SIZE), np.tile(np.eye(3), (60, 1, 1)))
            told = readout_of(moves, SIZE)
            assert told is not None
            self.assertAlmostEqual(told, readout, delta=0.08)
        self.assertIsNone(readout_of(np.tile(np.eye(3), (60, 1, 1)), SIZE))
        calm = np.tile(np.eye(3), (60, 1, 1))
        calm[:, 0, 1] = 0.01 * np.sin(np.arange(60))
        self.assertIsNone(readout_of(calm, SIZE))


DEMO = Path(__file__).resolve().parents[2] / "demo"


@unittest.skipUnless((DEMO / "clips" / "workshop.mp4").exists(), "the demo clips are not here")
class LockedWorkshop(unittest.TestCase):
    """The path-traced workshop, clouds drifting in its window, locked on the chart and judged by its truth."""

    def test_the_chart_stands_still_within_a_tenth_of_a_pixel(self) -> None:
        truth = np.array(json.loads((DEMO / "truth" / "workshop" / "planes.json").read_text())["corners"]["sea chart"])
        at = 75
        quad = [(float(x), float(y)) for x, y in truth[at]]
        region = Region(id="r", name="Chart", outline=polygon_outline(truth[at], at))
        motion = PlaneMotion(id="plane", name="Chart", reference_frame=at, quad=quad, regions=[region])  # type: ignore[arg-type]
        clip = open_clip(DEMO / "clips" / "workshop.mp4")
        self.addCleanup(clip.close)
        track = measure_plane(motion, MeasureRequest(clip=clip, direction="both"))
        moved = movement_of(motion, track, at)
        assert moved is not None
        frames = len(truth)
        where = PlateContext(size=(1280, 720), fps=29.97, start=0, stop=frames, movement=lambda _id, _frame: moved,
                             places=lambda _id, _frame: truth[at])  # fmt: skip
        view = steady_view(steady(fit="none", reference_frame=at), where, ViewPath.untouched(frames, (1280, 720)))
        # A grid of spots of the chart, carried by the true corners' own homography.
        unit = np.array([[0.0, 0], [1, 0], [1, 1], [0, 1]])
        u, v = np.meshgrid(np.linspace(0.05, 0.95, 7), np.linspace(0.05, 0.95, 5))
        spots = np.stack([u.ravel(), v.ravel()], axis=1)
        held = [carry(carry(spots, quad_homography(unit, truth[i])), view.matrix(i)) for i in range(frames)]  # type: ignore[arg-type]
        off = np.array(held) - held[at]
        rms = float(np.sqrt((off**2).sum(axis=2).mean()))
        self.assertLess(rms, 0.1)
        # As filmed the same spots wander by many pixels.
        filmed = np.array([carry(spots, quad_homography(unit, truth[i])) for i in range(frames)])  # type: ignore[arg-type]
        self.assertGreater(float(np.sqrt(((filmed - filmed[at]) ** 2).sum(axis=2).mean())), 5)
