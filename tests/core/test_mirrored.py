"""Ground that mirrors what stands on it: where, how much, how blurred, and what stands before it."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.layers.model import MeshLayer
from tests.core.furnished import Furnished, Rooms
from tests.core.test_scene import camera

FRONT = 0.05
"""How far before its spot a box's front lies."""


class Mirrored(Rooms):
    def shown(self, layer: MeshLayer, *others: MeshLayer) -> F32:
        """What mirroring alone adds to a layer's picture (h, w, 4)."""
        layers = [layer, *others]
        with_it = self.whole(layer, layers)
        dull = layer.model_copy(update={"mirror": 0.0})
        return with_it - self.whole(dull, [dull, *others])

    def mast(self, **more: object) -> MeshLayer:
        return self.box("mast", (0.3, 0.4, 2 * FRONT), (220, 60, 30), x=0.0, z=0.0, shadow_strength=0.0,
                        sun_heading=20.0, **more)  # fmt: skip

    def seen(self, world: F64) -> tuple[int, int]:
        x, y = camera().project(1, world)
        return int(x), int(y)

    def share_at(self, world: F64, mirror: float) -> float:
        """How much the ground throws back where one sees a place in it (C. Schlick, 1994)."""
        way = world * [1, -1, 1] - camera().eye(1)
        square = -way[1] / np.linalg.norm(way)
        low, high = (mirror / 100) ** 2, min(1.0, mirror / 20)
        return float(low + (high - low) * (1 - square) ** 5)

    def test_it_is_seen_where_a_mirror_shows_it_and_as_bright(self) -> None:
        for mirror in (100.0, 12.0):
            mast = self.mast(mirror=mirror, mirror_rough=0.0)
            direct, added = self.whole(mast, [mast]), self.shown(mast)
            for x, y in ((-0.08, 0.05), (0.1, 0.06), (0.0, 0.12), (0.05, 0.16)):
                place = np.array([x, y, FRONT])
                across, down = self.seen(place * [1, -1, 1])
                column, row = self.seen(place)
                share = self.share_at(place, mirror)
                self.assertAlmostEqual(float(added[down, across, 3]), share, delta=0.03)
                # Matt: as bright from below as from before.
                expected = share * direct[row, column, :3]
                np.testing.assert_allclose(added[down, across, :3], expected, atol=0.02 * share + 0.004, rtol=0.08)
            beside = self.seen(np.array([0.3, -0.1, FRONT]))
            self.assertLess(float(np.abs(added[beside[1], beside[0]]).max()), 0.004)

    def test_rough_ground_blurs_it_more_the_higher(self) -> None:
        def rise(layer: MeshLayer, height: float) -> float:
            """Pixels over which the side of what is mirrored comes in, at a height."""
            row = self.seen(np.array([0.15, -height, FRONT]))[1]
            line = self.shown(layer)[row, :, 3]
            line = line[self.seen(np.array([0.0, -height, FRONT]))[0] :] / line.max()
            return float(np.argmax(line < 0.15) - np.argmax(line < 0.85))

        smooth, rough = (self.mast(mirror=100.0, mirror_rough=v) for v in (0.0, 35.0))
        self.assertLessEqual(rise(smooth, 0.15), 2)
        low, high = rise(rough, 0.02), rise(rough, 0.2)
        self.assertLess(low, 6)
        self.assertGreater(high, 2 * low)

    def test_what_stands_before_it_hides_it_and_mirrors_nothing(self) -> None:
        mast = self.mast(mirror=60.0, mirror_rough=0.0)
        post = self.box("post", (0.1, 0.12, 0.04), (40, 60, 200), x=0.0, z=0.25, shadow_strength=0.0)
        alone, before = self.shown(mast), self.shown(mast, post)
        x, y = self.seen(np.array([0.0, 0.06, 0.27]))
        self.assertGreater(float(alone[y, x, 3]), 0.25)
        self.assertLess(float(np.abs(before[y, x]).max()), 0.004)
        # Round it all is as it was.
        x, y = self.seen(np.array([0.14, -0.03, FRONT]))
        self.assertGreater(float(alone[y, x, 3]), 0.25)
        self.assertAlmostEqual(float(before[y, x, 3]), float(alone[y, x, 3]), delta=0.01)

    def test_lifted_it_is_mirrored_as_far_below(self) -> None:
        mast = self.mast(mirror=100.0, mirror_rough=0.0, lift=0.1)
        added = self.shown(mast)
        inside, between = (self.seen(np.array([0.0, -y, FRONT])) for y in (0.2, 0.05))
        self.assertGreater(float(added[inside[1], inside[0], 3]), 0.95)
        self.assertLess(float(added[between[1], between[0], 3]), 0.02)

    def test_without_a_shadow_it_is_mirrored_too_and_not_asked_for_costs_nothing(self) -> None:
        mast = self.mast(mirror=60.0, mirror_rough=0.0, shadow=False)
        x, y = self.seen(np.array([0.0, -0.1, FRONT]))
        self.assertGreater(float(self.shown(mast)[y, x, 3]), 0.3)
        sources = Furnished(camera(), self.spots, self.files, [mast])
        self.drawn(mast.model_copy(update={"mirror": 0.0}), sources)
        self.assertIsNone(sources.asked[-1].mirror)
