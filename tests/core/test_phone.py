"""The simulated phone tells the truth about its own pictures."""

from __future__ import annotations

import unittest

import numpy as np

from synth.phone.camera import PhoneCamera
from synth.phone.film import Exposure
from synth.phone.path import HandheldPath, look_at
from synth.phone.quick import Surface, quick_light
from synth.phone.quickset import quad
from synth.phone.shutter import expose_frame, seen_mattes
from synth.phone.solid import MiniatureSet, box, lathe, shift, turn


def spot_surface(x: float, y: float) -> Surface:
    """A small bright blob on the wall at (x, y), smooth so that its centre can be measured."""
    v, u = (np.mgrid[0:48, 0:48] - 23.5) / 9
    blob = np.exp(-(u * u + v * v) / 2).astype(np.float32)
    texture = np.dstack([np.ones((48, 48, 3), np.float32), blob])
    return Surface(name="spot", corners=quad((x, y, 0.001), 0.10, 0.10), texture=texture)


def bright_centre(light: np.ndarray) -> np.ndarray:
    weight = np.maximum(light.mean(axis=2) - 0.1, 0)
    y, x = np.mgrid[0 : weight.shape[0], 0 : weight.shape[1]] + 0.5
    return np.array([(x * weight).sum(), (y * weight).sum()]) / weight.sum()


PATH = HandheldPath(eyes=np.array([[0.0, 0.0, 1.0], [0.1, 0.05, 0.9]]), targets=np.zeros((1, 3)), seconds=1.0, seed=4)


class Truth(unittest.TestCase):
    def test_projection_hits_the_rendered_spot(self) -> None:
        for readout in (0.0, 0.02):
            camera = PhoneCamera(size=(320, 180), focal_px=280, pose=PATH.pose, exposure_s=0.0, readout_s=readout)
            for t, light in zip((0.2, 0.7), quick_light([spot_surface(0.12, 0.08)], camera, np.array([0.2, 0.7]), samples=6),
                                strict=True):  # fmt: skip
                truth = camera.project(t, np.array([[0.12, 0.08, 0.001]]))[0]
                np.testing.assert_allclose(bright_centre(light), truth, atol=0.03)

    def test_look_at_faces_the_target(self) -> None:
        rotation = look_at(np.array([1.0, 2.0, 3.0]), np.zeros(3))
        np.testing.assert_allclose(-rotation[:, 2], -np.array([1, 2, 3]) / np.sqrt(14), atol=1e-12)
        self.assertAlmostEqual(np.linalg.det(rotation), 1.0)

    def test_path_is_smooth_and_repeatable(self) -> None:
        a, b = PATH.pose(0.5), PATH.pose(0.5)
        np.testing.assert_array_equal(a[0], b[0])
        step = np.abs(PATH.pose(0.501)[0] - a[0]).max()
        self.assertLess(step, 0.001)


class Shutter(unittest.TestCase):
    def test_warp_carries_a_key_to_another_moment(self) -> None:
        """A key exposed at one time, warped to another, matches a picture taken there."""
        camera = PhoneCamera(size=(240, 136), focal_px=210, pose=PATH.pose, exposure_s=0.0, readout_s=0.0)
        pad = 24
        padded = PhoneCamera(size=(240 + 2 * pad, 136 + 2 * pad), focal_px=210, pose=PATH.pose, exposure_s=0.0)
        wall = Surface(name="wall", corners=quad((0, 0, 0), 4, 4), texture=np.full((8, 8, 3), 0.02, np.float32))
        surfaces = [wall, spot_surface(0.1, -0.05)]
        light = next(quick_light(surfaces, padded, np.array([0.40]), samples=4))
        position, rotation = PATH.pose(0.40)
        h, w = light.shape[:2]
        y, x = np.mgrid[0:h, 0:w] + 0.5
        rays = np.stack([(x - w / 2) / 210, -(y - h / 2) / 210, -np.ones_like(x)], -1) @ rotation.T
        world = position + rays * (-position[2] / rays[..., 2:])
        key = Exposure(light=light, world=world.astype(np.float32), part=np.zeros((h, w), np.int16),
                       solid=np.zeros((h, w), np.int16), parts=("",), pad=pad)  # fmt: skip
        empty = MiniatureSet(solids=[], lights=[])
        moved = expose_frame([(key, 0.40, 1.0)], empty, camera, 0.43)
        truth = camera.project(0.43, np.array([[0.1, -0.05, 0.001]]))[0]
        np.testing.assert_allclose(bright_centre(moved), truth, atol=0.05)
        self.assertAlmostEqual(float(seen_mattes(key, 0.40, np.ones((h, w, 3), bool), empty, camera, 0.43).min()), 1.0, places=3)


class Solids(unittest.TestCase):
    def test_box_is_closed_and_faces_out(self) -> None:
        grey = np.float32([0.5, 0.5, 0.5])
        solid = box("b", (0.2, 0.1, 0.3), grey, bevel=0.01)
        a, b, c = (solid.vertices[solid.faces[:, k]] for k in range(3))
        volume = float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)
        self.assertTrue(0.9 * 0.006 < volume < 0.006)
        tube = lathe("t", [(1e-6, 0), (0.1, 0), (0.1, 0.2), (1e-6, 0.2)], grey)
        a, b, c = (tube.vertices[tube.faces[:, k]] for k in range(3))
        volume = abs(float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6))
        self.assertAlmostEqual(volume, np.pi * 0.01 * 0.2, delta=2e-4)

    def test_turns_are_right_handed(self) -> None:
        np.testing.assert_allclose((turn("z", 90) @ [1, 0, 0, 1])[:3], [0, 1, 0], atol=1e-12)
        np.testing.assert_allclose((shift(1, 2, 3) @ turn("y", 90) @ [0, 0, 1, 1])[:3], [2, 2, 3], atol=1e-12)
