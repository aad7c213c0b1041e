"""Particles among the things of a room: how they meet them, lie on them, and come off them."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh

from plonket.base.conventions import F64
from plonket.document.bases import LayerBase
from plonket.document.spot import Spot
from plonket.generators.among import Flock
from plonket.generators.come_off import come_off
from plonket.generators.common import GeneratorContext
from plonket.generators.flight import flight
from plonket.generators.particles import Particles, alive
from plonket.layers.form import FormLayer
from plonket.layers.generated import GeneratedLayer, space_of
from plonket.room.meshes.forms import Surface
from plonket.room.meshes.thing import Body, Thing, form_body
from tests.core.furnished import Furnished, Rooms
from tests.core.test_scene import SIZE, camera


def stand(x: float = 0.0, y: float = 0.0, z: float = 0.0, size: Any = 1.0) -> F64:
    out = np.eye(4)
    out[:3, :3] *= size
    out[:3, 3] = x, y, z
    return out


def body_of(mesh: trimesh.Trimesh) -> Body:
    return Body.of(Surface(vertices=np.asarray(mesh.vertices), faces=np.asarray(mesh.faces)))


def still(kind: str, matrix: F64) -> Thing:
    return Thing(body=form_body(kind), stands=lambda when: [matrix])


class Met(unittest.TestCase):
    def test_it_is_where_every_triangle_says(self) -> None:
        mesh = trimesh.creation.torus(0.7, 0.3, 48, 24)
        body = body_of(mesh)
        rng = np.random.default_rng(1)
        begins = rng.uniform(-1.3, 1.3, (4000, 3))
        ends = begins + rng.normal(0, 0.4, (4000, 3))
        share, which = body.met(begins, ends)
        a, b, c = (body.corners[None, :, k] for k in range(3))
        truth = np.full(len(begins), np.inf)
        for first in range(0, len(begins), 200):
            part = slice(first, first + 200)
            p, d = begins[part, None], (ends - begins)[part, None]
            normal = np.cross(b - a, c - a)
            t = ((a - p) * normal).sum(-1) / (d * normal).sum(-1)
            at = p + t[..., None] * d
            inside = [(np.cross(v - u, at - u) * normal).sum(-1) >= 0 for u, v in ((a, b), (b, c), (c, a))]
            hit = np.logical_and.reduce(inside) & (t >= 0) & (t <= 1) & ((d * normal).sum(-1) < 0)
            truth[part] = np.where(hit, t, np.inf).min(axis=1)
        self.assertGreater(int(np.isfinite(truth).sum()), 250)
        self.assertLess(float((np.isfinite(share) != np.isfinite(truth)).mean()), 0.001)
        both = np.isfinite(share) & np.isfinite(truth)
        np.testing.assert_allclose(share[both], truth[both], atol=1e-9)
        # What is met is seen from the side that the way comes from.
        corners = body.corners[which[both]]
        out = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        self.assertTrue((((ends - begins)[both] * out).sum(axis=1) < 0).all())

    def test_edges_are_those_that_stick_out_and_the_rims(self) -> None:
        places, out = form_body("box").edges
        self.assertEqual(len(places), 12)
        middle = places.mean(axis=1) - [0, 0.5, 0]
        np.testing.assert_allclose(out, middle / np.linalg.norm(middle, axis=1, keepdims=True), atol=1e-9)
        self.assertEqual(len(form_body("plane").edges[0]), 4)
        # Round the side of a cylinder there is none.
        self.assertEqual({float(y) for y in form_body("cylinder").edges[0][..., 1].ravel()}, {0.0, 1.0})
        ball = trimesh.creation.icosphere(3)
        self.assertEqual(len(body_of(ball).edges[0]), 0)


class Meeting(unittest.TestCase):
    def flock(self, n: int, things: list[Thing], lands: str, age: float = 30.0, seed: int = 0, **more: Any) -> Flock:
        rng = np.random.default_rng(seed)
        begins = more.get("begins", rng.uniform([-0.2, 0.9, -0.2], [0.2, 1.2, 0.2], (n, 3)))
        speed = more.get("speed", rng.normal(0, 0.003, (n, 3)))
        return Flock(begins, speed, np.full(n, 0.006), np.full(n, 0.02), np.full(n, age), lands, things, 40, more.get("drift"))

    def test_a_table_is_a_ground_at_its_height(self) -> None:
        """As the closed form has it for the ground, but for ways that are straight between two frames."""
        table = still("box", np.diag([4.0, 0.5, 4.0, 1.0]))
        for lands in ("lies", "bounces"):
            one = self.flock(200, [table], lands)
            just = self.flock(200, [], lands, age=1e-9)
            begins, speed = just.start, just.fast
            alone = flight(begins - [0, 0.5, 0], speed, one.fall, one.drag, one.age, lands) + [0, 0.5, 0]
            self.assertLess(float(np.abs(one.at() - alone).max()), 0.012, lands)
            self.assertGreaterEqual(float(one.at()[:, 1].min()), 0.5 - 1e-9)

    def test_the_ground_is_met_beside_it(self) -> None:
        box = still("box", np.diag([0.2, 0.5, 8.0, 1.0]))
        at = self.flock(300, [box], "lies", age=60.0).at()
        on = np.abs(at[:, 0]) < 0.1 - 1e-9
        self.assertTrue(0.2 < on.mean() < 0.8)
        np.testing.assert_allclose(at[:, 1], np.where(on, 0.5, 0.0), atol=1e-6)

    def test_none_goes_through_a_wall_however_fast(self) -> None:
        wall = still("box", stand(z=0.0) @ np.diag([9.0, 9.0, 0.01, 1.0]))
        rng = np.random.default_rng(3)
        begins = rng.uniform([-1, 1, 0.3], [1, 2, 0.6], (500, 3))
        speed = np.column_stack([rng.normal(0, 0.02, (500, 2)), rng.uniform(-0.9, -0.05, 500)])
        at = self.flock(500, [wall], "bounces", begins=begins, speed=speed).at()
        self.assertGreater(float(at[:, 2].min()), 0.005 - 1e-9)
        free = self.flock(500, [], "bounces", begins=begins, speed=speed).at()
        self.assertLess(float(np.median(free[:, 2])), -0.5)

    def test_what_lies_on_a_thing_goes_along(self) -> None:
        cart = Thing(body=form_body("box"), stands=lambda when: [stand(x=0.01 * when - 0.2) @ np.diag([2.0, 0.5, 2.0, 1.0])])
        flock = self.flock(100, [cart], "lies", age=38.0)
        self.assertTrue((flock.on == 0).all())
        now, before = flock.at(), flock.at(2.0)
        np.testing.assert_allclose(now - before, np.tile([0.02, 0, 0], (100, 1)), atol=1e-9)
        np.testing.assert_allclose(now[:, 1], 0.5, atol=1e-9)

    def test_a_thing_that_comes_pushes_them(self) -> None:
        """A wall that drives into hanging sparks leaves none behind it."""
        wall = Thing(body=form_body("box"), stands=lambda when: [stand(x=0.03 * when - 1.0) @ np.diag([0.2, 9.0, 9.0, 1.0])])
        begins = np.random.default_rng(5).uniform([-0.3, 1.0, -0.5], [0.0, 1.5, 0.5], (200, 3))
        flock = Flock(begins, np.zeros((200, 3)), np.full(200, 1e-6), np.full(200, 0.01), np.full(200, 30.0), "bounces", [wall], 40, None)
        self.assertGreater(float(flock.at()[:, 0].min()), 0.03 * 40 - 1.0 + 0.1 - 1e-6)

    def test_what_begins_inside_goes_out(self) -> None:
        box = still("box", np.diag([0.4, 0.4, 0.4, 1.0]))
        begins = np.tile([0.0, 0.2, 0.0], (50, 1))
        speed = np.tile([0.05, 0.02, 0.0], (50, 1))
        self.assertGreater(float(self.flock(50, [box], "bounces", begins=begins, speed=speed, age=10).at()[:, 0].min()), 0.3)

    def test_a_flow_carries_none_into_a_thing(self) -> None:
        box = still("box", np.diag([4.0, 0.5, 4.0, 1.0]))

        def drift(which: Any, at: F64, age: F64) -> F64:
            return np.column_stack([0.004 * age, -0.02 * age * (which % 2), 0 * age])

        for lands in ("lies", "bounces"):
            flock = self.flock(200, [box], lands, drift=drift)
            self.assertGreaterEqual(float(flock.at()[:, 1].min()), 0.5 - 1e-6)

    def test_it_is_the_same_twice_and_whatever_frame_is_asked_first(self) -> None:
        box = still("box", np.diag([0.6, 0.5, 0.6, 1.0]))
        late = [self.flock(100, [box], "bounces", age=25.0).at() for _ in range(2)]
        np.testing.assert_array_equal(*late)


class Off(unittest.TestCase):
    DICE = np.random.default_rng(7).uniform(-1, 1, (6000, 3))

    def off(self, part: str, things: list[Thing], spread: float = 0.0) -> tuple[F64, F64]:
        aside = np.random.default_rng(8).uniform(-spread, spread, (2, len(self.DICE)))
        found = come_off(things, part, self.DICE, *aside, np.array([4.0]), np.zeros(len(self.DICE), np.int64), 4.0)
        assert found is not None
        return found

    def test_a_surface_gives_evenly_by_area_and_straight_out(self) -> None:
        size = np.array([0.6, 0.2, 0.1])
        place, way = self.off("surface", [still("box", stand(x=2.0) @ np.diag([*size, 1.0]))])
        local = (place - [2.0, 0.1, 0.0]) / (size / 2)
        np.testing.assert_allclose(np.abs(local).max(axis=1), 1, atol=1e-9)
        side = np.abs(local).argmax(axis=1)
        areas = np.array([size[1] * size[2], size[0] * size[2], size[0] * size[1]])
        np.testing.assert_allclose(np.bincount(side) / len(side), areas / areas.sum(), atol=0.02)
        out = np.zeros_like(way)
        out[np.arange(len(side)), side] = np.sign(local[np.arange(len(side)), side])
        np.testing.assert_allclose(way, out, atol=1e-9)
        _, wide = self.off("surface", [still("box", stand())], spread=np.radians(40))
        np.testing.assert_allclose(np.linalg.norm(wide, axis=1), 1, atol=1e-9)
        self.assertTrue(0.75 < float(np.abs(wide).max(axis=1).mean()) < 0.97)

    def test_edges_give_by_their_length(self) -> None:
        size = np.array([0.6, 0.2, 0.1])
        place, way = self.off("edges", [still("box", np.diag([*size, 1.0]))])
        local = (place - [0, 0.1, 0]) / (size / 2)
        at_end = np.abs(np.abs(local) - 1) < 1e-9
        self.assertTrue((at_end.sum(axis=1) >= 2).all())
        along = (~at_end).argmax(axis=1)
        np.testing.assert_allclose(np.bincount(along) / len(along), size / size.sum(), atol=0.02)
        self.assertTrue((((place - [0, 0.1, 0]) * way).sum(axis=1) > 0).all())

    def test_all_copies_of_all_things_and_where_they_stood_then(self) -> None:
        town = Thing(body=form_body("box"), stands=lambda when: [stand(x=when), stand(x=10 + when, size=2.0)])
        place, _ = self.off("surface", [town, still("box", stand(x=-20))])
        low, high = (place[:, 0] > -10) & (place[:, 0] < 5), place[:, 0] > 10
        np.testing.assert_allclose([low.mean(), high.mean(), (place[:, 0] < -10).mean()], [1 / 6, 4 / 6, 1 / 6], atol=0.02)
        self.assertTrue((np.abs(place[low, 0] - 4) <= 0.5 + 1e-9).all())

    def test_nothing_to_come_off_is_said(self) -> None:
        empty = Thing(body=Body.of(Surface(vertices=np.zeros((0, 3)), faces=np.zeros((0, 3), np.int64))), stands=lambda when: [stand()])
        ball = trimesh.creation.icosphere(3)
        round_ = Thing(body=body_of(ball), stands=lambda when: [stand()])
        for part, things in (("surface", []), ("surface", [empty]), ("edges", [round_]), ("surface", [still("box", np.zeros((4, 4)))])):
            self.assertIsNone(come_off(things, part, self.DICE, *np.zeros((2, 6000)), np.zeros(1), np.zeros(6000, np.int64), 0.0))


class InARoom(Rooms):
    def told(self, *others: LayerBase, frame: int = 1, **more: Any) -> tuple[Particles, Furnished]:
        settings = {"kind": "sparks", "roomy": True, "rate": 30.0, "life": 60.0, "speed": 0.0, "pull": 2.0, "turbulence": 0.0,
                    "shape": "area", "width": 200.0, "height": 10.0, "thick": 200.0, "streak": 0.0, **more}  # fmt: skip
        self.spots.setdefault("fire", Spot(y=0.5))
        layer = GeneratedLayer.model_validate({"id": "fire", "name": "fire", "generator": settings, "follow": {"target": "fire"}})
        sources = Furnished(camera(), self.spots, self.files, [layer, *others])
        space = space_of(layer, sources, frame, SIZE, np.eye(3))
        assert space is not None
        context = GeneratorContext(frame=frame, size=SIZE, clip=SIZE, place=lambda w: np.eye(3), spread=lambda a, b: np.eye(3), space=space)
        return alive(layer.generator, context), sources  # type: ignore[arg-type]

    def test_embers_lie_on_a_crate_and_on_a_form(self) -> None:
        """Seen where the camera sees the crate's top, not the ground below it."""
        crate = self.box("near", (0.3, 0.2, 0.3))
        self.spots["slab"] = Spot(x=0.0, z=0.0)
        form = FormLayer.model_validate({"id": "slab", "name": "slab", "shape": "box", "wide": 0.3, "tall": 0.2, "deep": 0.3, "follow": {"target": "slab"}})  # fmt: skip
        for thing in (crate, form):
            through, sources = self.told(thing, lands="lies")
            met, _ = self.told(thing, lands="lies", meets=True)
            old = met.part > 0.5
            self.assertGreater(int(old.sum()), 50)
            camera_ = sources.seen
            for told, height in ((through, 0.0), (met, 0.2)):
                self.assertTrue(told.away is not None)
                # By how far away they are and where they are seen, how high they lie.
                rays = camera_.lens(1).rays(told.at[old]) * [1, -1, -1]
                places = camera_.eye(1) + (rays / -rays[:, 2:] * told.away[old, None]) @ camera_.turn(1).T  # type: ignore[index]
                self.assertLess(float(np.abs(places[:, 1] - height).max()), 2e-3)

    def test_sparks_come_off_the_model_that_is_named(self) -> None:
        one, other = self.box("near", (0.2, 0.2, 0.2), x=-0.3), self.box("far", (0.2, 0.2, 0.2), x=0.3)
        for name, wanted in (("near", -1), ("far", 1)):
            told, sources = self.told(one, other, shape="surface", thing=name, pull=0.0, roomy=False)
            middle = float(sources.seen.project(1, np.array([0.0, 0.1, 0.0]))[0])
            self.assertTrue((np.sign(told.at[:, 0] - middle) == wanted).all(), name)
        both, sources = self.told(one, other, shape="edges", pull=0.0)
        self.assertTrue(0.3 < float((both.at[:, 0] > middle).mean()) < 0.7)
        # One that is gone leaves the spot itself.
        bare, _ = self.told(shape="surface", thing="gone", pull=0.0, thick=0.0)
        self.assertLess(float(np.ptp(bare.at[:, 0])), 2.0)
