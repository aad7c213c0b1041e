"""What falls: by closed forms, to rest, the same twice; models and pieces of a floor in one room."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from plonket.base.conventions import F64
from plonket.base.errors import BadInput
from plonket.document.spot import Spot
from plonket.layers.breaking import BreakingLayer
from plonket.layers.falling import box_between, fall_in
from plonket.layers.model import MeshLayer
from plonket.layers.solid import solids
from plonket.physics.engine import simulate
from plonket.physics.fall import MOST_BODIES, Driven, Fall, Fallen, Loose, fall_digest
from plonket.render.media_pool import MediaPool
from plonket.room.meshes.baked import BakedPart, dump_baked, read_baked
from plonket.room.meshes.forms import unit_form
from plonket.room.meshes.pieces import PATTERNS, area_of, cut_up, normals_of, plate_of
from tests.core.furnished import Furnished, Rooms
from tests.core.test_scene import camera

FPS = 25.0
BOX = unit_form("box").vertices


def at(x: float, y: float, z: float, turn: F64 | None = None) -> F64:
    out = np.eye(4)
    out[:3, 3] = x, y, z
    if turn is not None:
        out[:3, :3] = turn
    return out


def turned(axes: str, degrees: float | tuple[float, ...]) -> F64:
    return np.asarray(Rotation.from_euler(axes, degrees, degrees=True).as_matrix())


def lowest(hull: F64, pose: F64) -> float:
    return float((hull @ pose[:3, :3].T + pose[:3, 3])[:, 1].min())


def fall(*loose: Loose, driven: tuple[Driven, ...] = (), first: int = 0, ground: float | None = 0.0) -> Fallen:
    return simulate(Fall(loose=loose, driven=driven, first=first, fps=FPS, ground=ground))


class ByClosedForms(unittest.TestCase):
    def test_a_thrown_box_goes_along_its_parabola(self) -> None:
        hull = BOX * 0.2
        body = Loose(hull=hull, start=at(0, 20, 0), lets_go=3, velocity=(1.5, 2.0, -0.5))
        poses = fall(body, first=3).poses[:, 0, :3, 3]
        t = np.arange(12) / FPS
        truth = np.stack([1.5 * t, 20 + 2.0 * t - 9.81 / 2 * t * t, -0.5 * t], axis=1)
        self.assertLess(float(np.abs(poses[:12] - truth).max()), 1e-3)

    def test_it_spins_about_its_middle_as_it_is_told(self) -> None:
        hull = BOX * 0.2
        body = Loose(hull=hull, start=at(0, 20, 0), lets_go=0, spin=(0.0, np.pi, 0.0))
        pose = fall(body).poses[10, 0]
        self.assertLess(float(np.abs(pose[:3, :3] - turned("y", 180 * 10 / FPS)).max()), 0.01)
        middle = hull.mean(axis=0)
        self.assertLess(float(np.abs((pose[:3, :3] @ middle + pose[:3, 3] - middle)[[0, 2]]).max()), 1e-4)

    def test_friction_holds_on_a_slope_or_does_not(self) -> None:
        """A box on a board of 20 degrees: tan 20 is .36."""
        slope = turned("z", 20)
        board = Driven(hull=BOX * [4, 0.1, 4], path=at(0, 1, 0, slope)[None])
        start = at(0, 1, 0, slope) @ at(0, 0.1001, 0)
        for friction, held in ((0.6, True), (0.1, False)):
            body = Loose(hull=BOX * 0.2, start=start, lets_go=0, friction=friction)
            poses = fall(body, driven=(board,)).poses[:, 0, :3, 3]
            slid = float(np.linalg.norm(poses[min(10, len(poses) - 1)] - poses[0]))
            if held:
                self.assertLess(slid, 0.01)
            else:
                t, slope_turn = 10 / FPS, np.radians(20)
                self.assertAlmostEqual(slid, 9.81 / 2 * t * t * (np.sin(slope_turn) - friction * np.cos(slope_turn)), delta=0.03)

    def test_bounces_are_as_high_as_told(self) -> None:
        heights = []
        for bounce in (0.0, 0.8):
            poses = fall(Loose(hull=BOX * 0.2, start=at(0, 1, 0), lets_go=0, bounce=bounce)).poses
            ups = np.array([lowest(BOX * 0.2, p[0]) for p in poses])
            hit = int(np.argmax(ups < 0.02))
            heights.append(float(ups[hit:].max()))
        self.assertLess(heights[0], 0.03)
        self.assertGreater(heights[1], 0.4)

    def test_small_and_large_come_to_rest_on_the_ground_the_same_twice(self) -> None:
        for size in (0.02, 0.3, 3.0):
            hull = BOX * size
            bodies = [Loose(hull=hull, start=at((k % 2) * 1.3 * size, size * (1 + 1.4 * k), 0.1 * size * k,
                                                turned("xz", (20 * k, 13 * k))), lets_go=2) for k in range(5)]  # fmt: skip
            one, two = fall(*bodies), fall(*bodies)
            np.testing.assert_array_equal(one.poses, two.poses)
            self.assertLess(len(one.poses), 12 * FPS)
            for pose in one.poses[-1]:
                self.assertLess(abs(lowest(hull, pose)), 0.02 * size)
            self.assertLess(float(np.abs(one.poses[-1] - one.poses[-2]).max()), 0.01 * max(size, 1))
            np.testing.assert_allclose(one.poses[:2, :, :3, 3], np.stack([[b.start[:3, 3] for b in bodies]] * 2), atol=1e-12)

    def test_what_waits_is_let_go_by_what_hits_it(self) -> None:
        """One of two rows is hit; what belongs together does not let itself go."""
        shelf = box_between(np.array([-2.0, 0.8, -0.5]), np.array([6.0, 1.0, 0.5]))
        waiting = [Loose(hull=BOX * 0.2, start=at(x, 1.0, 0), lets_go=0, when_hit=True, group=7) for x in (-1.0, 5.0, 5.2)]
        stone = Loose(hull=BOX * 0.3, start=at(-2.0, 1.05, 0), lets_go=5, velocity=(4.0, 1.0, 0.0), density=4000)
        poses = fall(*waiting, stone, driven=(shelf,)).poses
        self.assertGreater(float(np.abs(poses[-1, 0] - poses[0, 0]).max()), 0.2)
        np.testing.assert_array_equal(poses[-1, 1], poses[0, 1])

    def test_a_hand_that_goes_by_pushes(self) -> None:
        path = np.stack([at(-1 + 0.08 * min(k, 20), 0.0, 0) for k in range(30)])
        hand = Driven(hull=BOX * 0.3, path=path)
        poses = fall(Loose(hull=BOX * 0.2, start=at(0, 0.0, 0), lets_go=0), driven=(hand,)).poses
        self.assertGreater(float(poses[-1, 0, 0, 3]), 0.75)

    def test_between_frames_it_is_a_turn(self) -> None:
        body = Loose(hull=BOX * 0.2, start=at(0, 20, 0), lets_go=0, spin=(0.0, 6.0, 2.0))
        told = fall(body)
        pose = told.at(4.5)[0]
        np.testing.assert_allclose(pose[:3, :3] @ pose[:3, :3].T, np.eye(3), atol=1e-9)
        np.testing.assert_array_equal(told.at(-3.0), told.poses[0])
        np.testing.assert_allclose(told.at(1e6), told.poses[-1], atol=1e-12)

    def test_equal_falls_have_equal_names_and_too_many_are_refused(self) -> None:
        body = Loose(hull=BOX, start=at(0, 1, 0), lets_go=0)
        one = Fall(loose=(body,), driven=(), first=0, fps=FPS, ground=0.0)
        self.assertEqual(fall_digest(one), fall_digest(replace(one, loose=(replace(body),))))
        for other in (replace(one, ground=None), replace(one, loose=(replace(body, bounce=0.3),)), replace(one, fps=30.0)):
            self.assertNotEqual(fall_digest(one), fall_digest(other))
        with self.assertRaises(BadInput):
            simulate(replace(one, loose=(body,) * (MOST_BODIES + 1)))


class Pieces(unittest.TestCase):
    def test_they_fill_the_rectangle_and_are_solid(self) -> None:
        for name in PATTERNS:
            for count in (2, 9, 60):
                pieces = cut_up(name, 2.0, 1.0, count, 4, 3)
                self.assertAlmostEqual(sum(abs(area_of(one)) for one in pieces), 2.0, places=9)
                self.assertLess(abs(len(pieces) - count), 0.25 * count + 2, name)
                for one in pieces:
                    face, rest = plate_of(one, 0.1)
                    np.testing.assert_allclose(normals_of(face)[..., 1], 1.0)
                    every = np.concatenate([face, rest])
                    # Closed: the volume by its faces is area times thickness.
                    volume = np.einsum("ni,ni->n", every[:, 0], np.cross(every[:, 1], every[:, 2])).sum() / 6
                    self.assertAlmostEqual(float(volume), 0.1 * abs(area_of(one)), places=9)


class InARoom(Rooms):
    def sources(self, *layers: MeshLayer | BreakingLayer) -> Furnished:
        return Furnished(camera(), self.spots, self.files, layers)

    def test_a_model_goes_by_its_keys_and_falls_from_its_frame_on(self) -> None:
        crate = self.box("crate", (0.2, 0.1, 0.1), lift=0.5, falls=True, falls_from=1, heading=30.0)
        table = self.box("table", (0.6, 0.2, 0.6))
        self.spots["table"] = Spot()
        sources = self.sources(crate, table)
        (before,), (after,) = (
            [c for layer, c in solids(sources, "camera", frame) if layer.id == "crate"] for frame in (1, 2)
        )
        self.assertAlmostEqual(float(before[..., 1].min()), 0.5, places=5)
        self.assertAlmostEqual(float(after[..., 1].min()), 0.5 - 9.81 / 2 / FPS**2, places=3)
        told = sources.fallen("crate")
        assert told is not None
        rest = told.at(10_000)
        assert rest is not None
        corners = (BOX * [0.2, 0.1, 0.1] / 1.0) @ rest[0][:3, :3].T + rest[0][:3, 3]
        self.assertAlmostEqual(float(corners[:, 1].min()), 0.2, delta=0.003)
        self.assertIsNone(sources.fallen("table"))

    def test_a_crate_falls_through_the_floor_that_it_breaks(self) -> None:
        crate = self.box("crate", (0.12, 0.12, 0.12), lift=0.6, falls=True, falls_from=0, heavy=800.0)
        self.spots["floor"] = Spot()
        floor = BreakingLayer.model_validate({
            "id": "floor", "name": "f", "pattern": "tiles", "pieces": 16, "falling": 16, "when_hit": True, "runs": 0, "gap": 0.002,
            "wide": 0.6, "deep": 0.6, "thick": 0.02, "hollow": 0.3, "follow": {"target": "floor"}})  # fmt: skip
        sources = self.sources(crate, floor)
        told = fall_in(sources, "crate")
        assert told is not None
        self.assertIsNone(told[0].ground, "the floor is open where it breaks")
        fell = sources.fallen("crate")
        assert fell is not None
        rest = fell.at(10_000)
        assert rest is not None
        self.assertLess(float(rest[0][1, 3]), -0.05, "it lies in the hollow")
        self.assertGreater(float(rest[0][1, 3]), -0.35)
        pieces = sources.fallen("floor")
        assert pieces is not None
        moved = np.abs(pieces.poses[-1] - pieces.poses[0]).max(axis=(1, 2)) > 0.01
        self.assertTrue(moved.any())
        self.assertFalse(moved.all(), "what was not hit stays")


class Kept(unittest.TestCase):
    def test_a_fall_is_worked_out_apart_and_found_again(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            body = Loose(hull=BOX * 0.2, start=at(0, 0.3, 0), lets_go=0)
            one = Fall(loose=(body,), driven=(), first=0, fps=FPS, ground=0.0)
            pools = [MediaPool(Path, lambda _digest: None, scratch=Path(folder)) for _ in range(2)]  # type: ignore[arg-type,return-value]
            told = pools[0].fallen(one)
            np.testing.assert_array_equal(told.poses, simulate(one).poses)
            (file,) = (Path(folder) / "fallen").iterdir()
            before = file.stat().st_mtime_ns
            np.testing.assert_array_equal(pools[1].fallen(one).poses, told.poses)
            self.assertEqual(file.stat().st_mtime_ns, before, "it is not worked out again")

    def test_models_made_for_a_shot_are_kept_by_what_is_in_them(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            pool = MediaPool(Path, lambda _digest: None, scratch=Path(folder))  # type: ignore[arg-type,return-value]
            part = BakedPart(corners=np.eye(3)[None], normals=np.ones((1, 3, 3)), uv=np.zeros((1, 3, 2)))
            name, data = dump_baked([part])
            path = Path(pool.baked(name, data))
            self.assertEqual(path, Path(pool.baked(*dump_baked([part]))))
            np.testing.assert_allclose(read_baked(path).parts[0].vertices, np.eye(3))
            other, _ = dump_baked([BakedPart(corners=np.eye(3)[None] * 2, normals=part.normals, uv=part.uv)])
            self.assertNotEqual(other, name)
