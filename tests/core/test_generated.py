"""Generated elements: where their light is, how it moves, and that any frame stands by itself."""

from __future__ import annotations

import time
import unittest
from typing import Any

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.base.noise import noise_at
from plonket.document.kinds import GENERATORS, LAYERS
from plonket.generators.common import GeneratorContext
from plonket.generators.particles import alive
from plonket.generators.ring import RingOfSparks
from plonket.image.picture import windowed
from plonket.layers.generated import GeneratedLayer
from plonket.render.no_media import NoMedia
from plonket.track.spaces import Spaces

SIZE = (320, 240)


class Moving(NoMedia):
    """Everything that is followed moves so many pixels a frame to the right."""

    def __init__(self, speed: float) -> None:
        super().__init__(SIZE)
        path = np.stack([np.array([[1.0, 0, speed * f], [0, 1, 0], [0, 0, 1]]) for f in range(120)])
        self.spaces = Spaces([], lambda motion, reference: path, SIZE)


def layer(kind: str, x: float = 160.0, y: float = 120.0, follow: str | None = None, **settings: Any) -> GeneratedLayer:
    more = {k: settings.pop(k) for k in ("size", "turn", "stays", "opacity") if k in settings}
    return GeneratedLayer.model_validate({"id": "g", "name": "g", "x": x, "y": y, "generator": {"kind": kind} | settings,
                                          "follow": {"target": follow}} | more)  # fmt: skip


def drawn(one: GeneratedLayer, frame: int = 40, scale: float = 1.0, sources: NoMedia | None = None) -> F32:
    size = (round(SIZE[0] * scale), round(SIZE[1] * scale))
    view = np.diag([scale, scale, 1.0])
    picture = LAYERS.get("generated").run(one, sources or NoMedia(SIZE), frame, size, view)
    return windowed(picture, 0, 0, size)


def middle(rgba: F32) -> tuple[float, float]:
    light = rgba[..., :3].sum(axis=2)
    y, x = np.mgrid[0 : light.shape[0], 0 : light.shape[1]] + 0.5
    return float((light * x).sum() / light.sum()), float((light * y).sum() / light.sum())


class All(unittest.TestCase):
    def test_each_is_the_same_again_and_another_with_another_seed(self) -> None:
        for entry in GENERATORS:
            one = layer(entry.kind)
            first = drawn(one)
            drawn(one, 3)
            np.testing.assert_array_equal(first, drawn(one), err_msg=entry.kind)
            self.assertTrue(np.isfinite(first).all() and (first >= 0).all() and first[..., 3].max() <= 1, entry.kind)
            self.assertGreater(float(first.max()), 0.02, entry.kind)
            if entry.kind != "cone":
                self.assertGreater(float(np.abs(first - drawn(layer(entry.kind, seed=9))).max()), 0.005, entry.kind)

    def test_half_size_shows_the_same_light(self) -> None:
        for entry in GENERATORS:
            full, half = drawn(layer(entry.kind)), drawn(layer(entry.kind), scale=0.5)
            self.assertAlmostEqual(half[..., :3].sum() * 4 / full[..., :3].sum(), 1, delta=0.15, msg=entry.kind)

    def test_they_go_where_they_are_put(self) -> None:
        for kind in ("ring", "sparks", "smoke", "flare"):
            a, b = (middle(drawn(layer(kind, x, size=40.0))) for x in (110.0, 210.0))
            self.assertAlmostEqual(b[0] - a[0], 100, delta=20, msg=kind)

    def test_light_hides_nothing_and_smoke_does(self) -> None:
        for entry in GENERATORS:
            covers = float(drawn(layer(entry.kind))[..., 3].max())
            self.assertEqual(covers > 0, entry.kind in ("smoke", "texture"), entry.kind)


class Particles(unittest.TestCase):
    def context(self, frame: int, place: F64 | None = None) -> GeneratorContext:
        matrix = np.array([[1.0, 0, 160], [0, 1, 120], [0, 0, 1]]) if place is None else place
        return GeneratorContext(frame=frame, size=SIZE, clip=SIZE, place=lambda _: matrix, spread=lambda _a, _b: matrix)

    def test_sparks_leave_the_rim_and_fly_on(self) -> None:
        still = RingOfSparks(width=120, height=120, speed=0.0, spin=0.0, pull=0.0, turbulence=0.0)
        p = alive(still, self.context(30))
        r = np.hypot(p.at[:, 0] - 160, p.at[:, 1] - 120)
        np.testing.assert_allclose(r, 60, atol=1e-6)
        flying = alive(still.model_copy(update={"speed": 3.0, "speed_spread": 0.0, "spread": 0.0, "drag": 0.0}), self.context(30))
        r = np.hypot(flying.at[:, 0] - 160, flying.at[:, 1] - 120)
        self.assertGreater(r.max(), 60 + 3 * 15)
        self.assertGreaterEqual(r.min(), 60 - 1e-6)
        self.assertTrue(((flying.part >= 0) & (flying.part < 1)).all())

    def test_as_many_as_are_born_and_live(self) -> None:
        one = RingOfSparks(rate=20, life=30, life_spread=0)
        self.assertAlmostEqual(len(alive(one, self.context(50)).at), 20 * 30, delta=15)
        late = one.model_copy(update={"begins": 45})
        self.assertAlmostEqual(len(alive(late, self.context(50)).at), 20 * 5.5, delta=15)
        self.assertEqual(len(alive(late, self.context(40)).at), 0)
        over = one.model_copy(update={"ends": 45})
        self.assertEqual(len(alive(over, self.context(90)).at), 0)

    def test_falling_follows_its_law(self) -> None:
        one = RingOfSparks(shape="spot", speed=0, spin=0, turbulence=0, pull=0.5, drag=0.0, life=40, life_spread=0, rate=50)
        p = alive(one, self.context(60))
        age = p.part * 40
        np.testing.assert_allclose(p.at[:, 1] - 120, 0.25 * age**2, rtol=0.02, atol=0.05)

    def test_one_spark_moves_without_a_jump_from_frame_to_frame(self) -> None:
        one = RingOfSparks(rate=1, life=60, life_spread=0, twinkle=0, begins=10, ends=10, turbulence=30)
        path = np.array([alive(one, self.context(f)).at[0] for f in range(12, 60)])
        jumps = np.hypot(*np.diff(path, n=2, axis=0).T)
        self.assertLess(jumps.max(), 2.0)

    def test_left_behind_or_taken_along(self) -> None:
        options: dict[str, Any] = {"rate": 30, "life": 20, "speed": 0.0, "spin": 0.0, "turbulence": 0.0, "pull": 0.0}
        moving = Moving(3.0)
        trail = drawn(layer("ring", 40.0, follow="m", width=4, height=4, behind=True, **options), 40, sources=moving)
        along = drawn(layer("ring", 40.0, follow="m", width=4, height=4, behind=False, **options), 40, sources=moving)
        width = [float(np.ptp(np.flatnonzero(p[..., :3].sum(axis=(0, 2)) > 0.02))) for p in (trail, along)]
        self.assertGreater(width[0], 40)
        self.assertLess(width[1], 22)
        # What stays on the same motion moves along with it as well.
        ridden = drawn(layer("ring", 40.0, follow="m", width=4, height=4, behind=True, stays="to:m", **options), 40, sources=moving)
        self.assertLess(float(np.ptp(np.flatnonzero(ridden[..., :3].sum(axis=(0, 2)) > 0.02))), 22)

    def test_many_are_drawn_quickly(self) -> None:
        one = layer("ring", rate=600, life=40)
        drawn(one, 50)
        start = time.perf_counter()
        drawn(one, 51)
        self.assertLess(time.perf_counter() - start, 3.0)


class Kinds(unittest.TestCase):
    def test_rain_falls_as_fast_as_it_says(self) -> None:
        one = layer("rain", depth=0, speed=10, slant=0, length=10, drops=400, radius=1.5, bright=400)
        a, b = drawn(one, 20)[..., 1], drawn(one, 21)[..., 1]
        scores = {d: float((a[: -d or None] * b[d:]).sum()) for d in range(4, 17)}
        self.assertEqual(max(scores, key=lambda d: scores[d]), 10)

    def test_a_flare_shines_at_its_place_and_fades_beyond_the_edge(self) -> None:
        out = drawn(layer("flare", 100.0, 80.0))
        y, x = np.unravel_index(int(out[..., 0].argmax()), out.shape[:2])
        self.assertLess(abs(x + 0.5 - 100) + abs(y + 0.5 - 80), 5)
        self.assertEqual(float(drawn(layer("flare", -200.0, 80.0)).max()), 0.0)

    def test_a_cone_shines_its_way_and_turns(self) -> None:
        out = drawn(layer("cone", 40.0, 120.0, length=240, haze=0))[..., 0]
        self.assertGreater(float(out[120, 100]), 4 * float(out[60, 100]))
        self.assertGreater(float(out[120, 60]), float(out[120, 250]))
        turned = drawn(layer("cone", 160.0, 20.0, length=240, haze=0, turn=90.0))[..., 0]
        self.assertGreater(float(turned[120, 160]), 4 * float(turned[120, 60]))

    def test_smoke_rises_and_never_covers_more_than_all(self) -> None:
        # From its first breath on, it gets higher.
        tops = []
        for f in (20, 40, 70):
            shows = drawn(layer("smoke", 160.0, 220.0, begins=10, speed=4.0, torn=0), f)[..., 3] > 0.03
            tops.append(int(np.flatnonzero(shows.any(axis=1))[0]))
        self.assertEqual(tops, sorted(tops, reverse=True))
        thick = drawn(layer("smoke", density=1000, rate=20))
        self.assertLessEqual(float(thick[..., 3].max()), 1)
        self.assertGreater(float(thick[..., 3].max()), 0.95)

    def test_noise_changes_slowly_and_covers_between_its_ends(self) -> None:
        one = layer("texture", changes=60, drift=0, dark_cover=20, light_cover=70)
        a, b, c = (drawn(one, f)[..., 3] for f in (10, 11, 70))
        self.assertGreaterEqual(float(a.min()), 0.2 - 1e-5)
        self.assertLessEqual(float(a.max()), 0.7 + 1e-5)
        self.assertLess(float(np.abs(a - b).mean()) * 6, float(np.abs(a - c).mean()))

    def test_gradient_noise_has_no_seams_and_is_nought_on_its_lattice(self) -> None:
        grid = np.array([[i, j] for i in range(-4, 5) for j in range(-4, 5)], np.float64)
        np.testing.assert_allclose(noise_at(grid, np.zeros(len(grid)), 1, 3), 0, atol=1e-12)
        line = np.stack([np.linspace(-3, 3, 6001), np.full(6001, 0.3)], axis=1)
        self.assertLess(float(np.abs(np.diff(noise_at(line, np.full(6001, 0.7), 3, 3))).max()), 0.01)
