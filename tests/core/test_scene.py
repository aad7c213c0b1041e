"""3D models: read, stood in a room, filmed with their shadow, and in the very place where the camera sees them."""

from __future__ import annotations

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import trimesh

from plonket.base.colour import encode
from plonket.base.conventions import F32, F64, matrix_to_quaternion
from plonket.base.errors import FormatError, PlonketError
from plonket.depth.frame_depth import FrameDepth
from plonket.document.spot import Spot
from plonket.formats.camera_json import read_camera
from plonket.layers.model import MeshLayer, Set, draw, order_of, stands
from plonket.layers.raytraced import RectilinearWindow
from plonket.layers.receiver import receiver_of
from plonket.raytrace.client import Renderer
from plonket.raytrace.request import CameraView, Instance, Lights, RenderRequest
from plonket.raytrace.tracer import FilmSet
from plonket.render.no_media import NoMedia
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.room.meshes.creased import creased
from plonket.room.meshes.files import read_model
from plonket.room.meshes.raster import seen_by
from synth.elements.models import brass_whale, cargo_crate
from synth.phone.path import look_at

SIZE = (320, 240)
RENDERER = Renderer()


def tearDownModule() -> None:
    RENDERER.close()


def camera(k1: float = 0.0, readout: float = 0.0) -> RoomCamera:
    """Three frames of a camera that moves to the right past the origin."""
    frames = []
    for i in range(3):
        eye = np.array([-0.3 + 0.06 * i, 0.55, 1.3])
        turn = look_at(eye, np.array([0.0, 0.1, 0.0]))
        frames.append({"frame": i, "position": eye.tolist(), "rotation": matrix_to_quaternion(turn).tolist()})
    text = json.dumps({"width": SIZE[0], "height": SIZE[1], "focal_px": 300, "distortion": {"k1": k1}, "readout": readout,
                       "frames": frames})  # fmt: skip
    return RoomCamera(read_camera(text, 3, SIZE), Room())


class InRoom(NoMedia):
    """Sources in which everything stands on one spot."""

    def __init__(self, seen: RoomCamera, spot: Spot, path: Path) -> None:
        super().__init__(SIZE)
        self._seat, self._path = (seen, spot), path

    def seat(self, target: str | None) -> tuple[RoomCamera, Spot] | None:
        return self._seat

    def model(self, asset: str) -> str:
        return str(self._path)

    def film(self, order: RenderRequest) -> F32:
        return RENDERER.film(order)


class WithFiles(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def file(self, name: str, data: bytes) -> Path:
        path = self.folder / name
        path.write_bytes(data)
        return path

    def box(self, size: tuple[float, float, float]) -> Path:
        path = self.folder / "box.stl"
        trimesh.creation.box(size).export(path)
        return path


class Reading(WithFiles):
    def test_the_whale_stands_on_its_foot_with_its_materials(self) -> None:
        model = read_model(self.file("whale.glb", brass_whale()))
        every = np.concatenate([p.vertices for p in model.parts])
        self.assertAlmostEqual(float(every[:, 1].min()), 0, places=6)
        np.testing.assert_allclose(every.max(axis=0) - every.min(axis=0), model.size, atol=1e-6)
        np.testing.assert_allclose((every.max(axis=0) + every.min(axis=0))[[0, 2]], 0, atol=1e-6)
        self.assertEqual(len(model.parts), 9, "with the fins, flukes and eyes of both sides")
        self.assertEqual({p.material.metal for p in model.parts}, {0.0, 1.0})
        self.assertTrue(any(p.material.picture is not None for p in model.parts), "the foot's wood")

    def test_other_formats_and_bad_files(self) -> None:
        for ending in ("stl", "ply", "obj"):
            path = self.folder / f"box.{ending}"
            trimesh.creation.box((2.0, 1.0, 0.5)).export(path)
            np.testing.assert_allclose(read_model(path).size, [2.0, 1.0, 0.5])
        for name, data in (("a.glb", b"not a model"), ("b.stl", b""), ("c.obj", b"v 0 0 0\n")):
            with self.assertRaises(FormatError) as caught:
                read_model(self.file(name, data))
            self.assertIn(name, caught.exception.message)

    def test_edges_stay_sharp_and_round_things_round(self) -> None:
        box, ball = trimesh.creation.box((1, 1, 1)), trimesh.creation.icosphere(3, 1.0)
        sharp = creased(np.asarray(box.vertices), np.asarray(box.faces))
        np.testing.assert_allclose(np.abs(sharp).max(axis=1), 1, atol=1e-9)
        smooth = creased(np.asarray(ball.vertices), np.asarray(ball.faces))
        away = np.asarray(ball.vertices)[np.asarray(ball.faces).ravel()]
        self.assertGreater(float((smooth * away).sum(axis=1).min()), 0.995)


class Standing(WithFiles):
    def layer(self, extent: tuple[float, float, float], **more: object) -> MeshLayer:
        return MeshLayer.model_validate({"id": "m", "name": "m", "asset": "a" * 64, "extent": extent, **more})

    def corners(self, layer: MeshLayer, seen: RoomCamera, spot: Spot, frame: int) -> F64:
        x, y, z = layer.extent
        box = np.array([[sx * x / 2, sy * y, sz * z / 2] for sx in (-1, 1) for sy in (0, 1) for sz in (-1, 1)])
        m = stands(layer, seen, spot, frame)
        return seen.project(frame, box @ m[:3, :3].T + m[:3, 3])

    def test_it_is_drawn_where_the_camera_sees_it(self) -> None:
        """Within half a pixel, with a bent lens, a rolling shutter and a picture of half the size, too."""
        layer = self.layer((0.4, 0.2, 0.3), tall=0.3, heading=25.0, shadow=False)
        path, spot = self.box((0.4, 0.2, 0.3)), Spot(x=0.05, z=-0.1, heading=10.0)
        for k1, readout, zoom in ((0.0, 0.0, 1.0), (-0.12, 0.0, 1.0), (0.0, 0.5, 1.0), (-0.08, 0.4, 0.5)):
            seen = camera(k1, readout)
            size = (round(SIZE[0] * zoom), round(SIZE[1] * zoom))
            picture = draw(layer, InRoom(seen, spot, path), 1, size, np.diag([zoom, zoom, 1.0]))
            ys, xs = np.nonzero(picture.rgba[..., 3] > 0.5)
            found = np.array([xs.min() + picture.x, ys.min() + picture.y, xs.max() + picture.x + 1, ys.max() + picture.y + 1])
            at = self.corners(layer, seen, spot, 1) * zoom
            expected = np.concatenate([at.min(axis=0), at.max(axis=0)])
            self.assertLess(float(np.abs(found - expected).max()), 1.0, (k1, readout, zoom))

    def test_what_reaches_beyond_the_picture_ends_at_its_edge(self) -> None:
        layer = self.layer((1, 1, 1), tall=0.9, shadow=False)
        picture = draw(layer, InRoom(camera(), Spot(x=0.2, z=0.2), self.box((1, 1, 1))), 1, SIZE, np.eye(3))
        h, w = picture.rgba.shape[:2]
        self.assertTrue(picture.x >= 0 and picture.y >= 0 and picture.x + w <= SIZE[0] and picture.y + h <= SIZE[1])
        self.assertGreater(float(picture.rgba[0, :, 3].max()), 0.9, "it goes on above")

    def test_outside_the_picture_nothing_is_filmed(self) -> None:
        layer, seen = self.layer((1, 1, 1)), camera()
        self.assertIsNone(order_of(layer, seen, Spot(x=40.0), 1, Set(path="m.glb"), 1.0))
        self.assertIsNone(order_of(layer, seen, Spot(z=9.0), 1, Set(path="m.glb"), 1.0))

    def seen_from_above(self, *things: Instance) -> RenderRequest:
        """Things on grey ground under sun and sky."""
        eye = np.array([0.2, 0.8, 1.2])
        way = np.array([-0.5, 0.8, 0.2]) / np.linalg.norm([-0.5, 0.8, 0.2])
        return RenderRequest(
            things=things, views=(CameraView(eye=eye, turn=look_at(eye, np.zeros(3))),), focal=260.0, principal=(160.0, 120.0),
            window=(0, 0, 320, 240),
            lights=Lights(sun=(float(way[0]), float(way[1]), float(way[2])), sun_light=(0.8, 0.8, 0.8),
                          sky_light=(0.2, 0.2, 0.2), soft=0.1),
            ground=0.0, ground_colour=(0.4, 0.4, 0.4), shadows=True, samples=36,
        )  # fmt: skip

    def shadow_of_full_renders(self, studio: FilmSet, order: RenderRequest) -> F32:
        """One less the plain renderer's light with the first thing over its light with that far below the ground."""
        (scene,) = studio._scenes.values()
        mi = studio.mi
        sensor = scene.sensor(order, order.views[0], 144)
        direct = mi.load_dict({"type": "path", "max_depth": 2})
        lit = np.array(mi.render(scene.scene, sensor=sensor, integrator=direct, spp=144))[..., 1]
        away = np.eye(4)
        away[1, 3] = -50.0
        scene._place(0, replace(order.things[0], stands=(away,)), 0)
        scene.params.update()
        bare = np.array(mi.render(scene.scene, sensor=sensor, integrator=direct, spp=144))[..., 1]
        return np.asarray(cv2.GaussianBlur(1 - lit / np.maximum(bare, 1e-6), (0, 0), 1.0), np.float32)

    def test_its_shadow_is_that_of_a_full_render_of_the_same_scene(self) -> None:
        order = self.seen_from_above(Instance(model=str(self.box((0.2, 0.3, 0.2))), stands=(np.eye(4),)))
        studio = FilmSet()
        filmed = studio.film(order)
        expected = self.shadow_of_full_renders(studio, order)
        ground = cv2.erode((filmed[..., 3] < 0.001).astype(np.uint8), np.ones((7, 7), np.uint8)) > 0
        ground[:24], ground[-24:], ground[:, :24], ground[:, -24:] = False, False, False, False
        self.assertGreater(int((expected[ground] > 0.5).sum()), 500, "there is a shadow to compare")
        off = np.abs(cv2.GaussianBlur(filmed[..., 4], (0, 0), 1.0) - expected)[ground]
        self.assertLess(float(off.mean()), 0.012)
        self.assertLess(float(np.percentile(off, 99)), 0.09)
        # In the open there is none, and no noise either.
        self.assertLess(float(filmed[30:60, 30:60, 4].max()), 0.03)

    def test_what_is_really_there_hides_and_is_shaded_as_in_full_renders(self) -> None:
        shown = str(self.box((0.2, 0.3, 0.2)))
        real = self.folder / "real.stl"
        trimesh.creation.box((0.3, 0.16, 0.12)).export(real)
        stands, before, beside = (np.eye(4) for _ in range(3))
        before[:3, 3] = [0.02, 0, 0.22]
        beside[:3, 3] = [0.26, 0, -0.1]
        things = (Instance(model=shown, stands=(stands,)), Instance(model=str(real), stands=(before,), role="real"),
                  Instance(model=str(real), stands=(beside,), role="real"))  # fmt: skip
        order = self.seen_from_above(*things)
        studio = FilmSet()
        filmed = studio.film(order)
        # What covers: the nearest thing in each pixel is the one that is shown.
        view = order.views[0]
        corners = []
        for thing in things:
            (part,) = read_model(Path(thing.model)).parts
            world = part.vertices[part.faces] @ thing.stands[0][:3, :3].T + thing.stands[0][:3, 3]
            corners.append((world - view.eye) @ view.turn * [1.0, -1.0, -1.0])
        _, which = seen_by(np.concatenate(corners), order.focal, order.principal, (320, 240))
        first = (which >= 0) & (which < len(corners[0]))
        edge = cv2.dilate(first.astype(np.uint8), np.ones((5, 5))) != cv2.erode(first.astype(np.uint8), np.ones((5, 5)))
        self.assertGreater(int((first & ~edge).sum()), 800)
        np.testing.assert_allclose(filmed[..., 3][~edge], first[~edge], atol=0.02)
        # What is shaded: the ground and the sides of what is really there, as the plain renderer shades them.
        expected = self.shadow_of_full_renders(studio, order)
        lit = cv2.erode((filmed[..., 3] < 0.001).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        lit[:24], lit[-24:], lit[:, :24], lit[:, -24:] = False, False, False, False
        on_real = lit & (cv2.erode((which >= len(corners[0])).astype(np.uint8), np.ones((7, 7))) > 0)
        self.assertGreater(int((expected[on_real] > 0.3).sum()), 60, "a shadow falls on what is really there")
        for part, name in ((lit & (which < 0), "ground"), (on_real, "what is really there")):
            off = np.abs(cv2.GaussianBlur(filmed[..., 4], (0, 0), 1.0) - expected)[part]
            self.assertLess(float(off.mean()), 0.02, name)
            self.assertLess(float(np.percentile(off, 98)), 0.12, name)

    def test_shadows_climb_what_was_filmed_as_in_full_renders(self) -> None:
        """Known by nothing but its depth, a step takes the shadow, and keeps the light from what lies in its own."""
        real = self.folder / "real.stl"
        trimesh.creation.box((0.3, 0.16, 0.12)).export(real)
        stands, before, beside = (np.eye(4) for _ in range(3))
        before[:3, 3] = [0.02, 0, 0.22]
        beside[:3, 3] = [0.26, 0, -0.1]
        shown = Instance(model=str(self.box((0.2, 0.3, 0.2))), stands=(stands,))
        steps = tuple(Instance(model=str(real), stands=(m,), role="real") for m in (before, beside))
        order = self.seen_from_above(shown, *steps)
        truth = FilmSet()
        covered = truth.film(order)[..., 3]
        expected = self.shadow_of_full_renders(truth, order)
        view, (w, h) = order.views[0], SIZE
        parts = []
        for step in steps:
            (part,) = read_model(Path(step.model)).parts
            parts.append(part.vertices[part.faces] @ step.stands[0][:3, :3].T + step.stands[0][:3, 3])
        local = [(world - view.eye) @ view.turn * [1.0, -1.0, -1.0] for world in parts]
        depth, _ = seen_by(np.concatenate(local), order.focal, order.principal, SIZE)
        flat = RectilinearWindow(scale=1.0, focal=order.focal, principal=order.principal, window=order.window)
        text = json.dumps({"width": w, "height": h, "focal_px": order.focal, "frames": [
            {"frame": 0, "position": view.eye.tolist(), "rotation": matrix_to_quaternion(view.turn).tolist()}]})  # fmt: skip
        seen = RoomCamera(read_camera(text, 1, SIZE), Room())
        on_step = np.isfinite(depth)
        grainy = np.where(on_step, depth, 0) * (1 + np.random.default_rng(2).normal(0, 0.002, depth.shape))
        lit = cv2.erode((covered < 0.001).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        lit[:24], lit[-24:], lit[:, :24], lit[:, -24:] = False, False, False, False
        steps_seen = lit & (cv2.erode(on_step.astype(np.uint8), np.ones((7, 7))) > 0)
        self.assertGreater(int((expected[steps_seen] > 0.3).sum()), 60)
        studio = FilmSet()
        for name, known in (("true", np.where(on_step, depth, 0)), ("grainy", grainy)):
            told = FrameDepth(known.astype(np.float32), np.ones((h, w), np.float32))
            receiver = receiver_of(told, seen, 0, flat, 0.0)
            filmed = studio.film(replace(order, things=(shown,), receiver=receiver))
            for part, what in ((lit & ~on_step, "ground"), (steps_seen, "step")):
                off = np.abs(cv2.GaussianBlur(filmed[..., 6], (0, 0), 1.0) - expected)[part]
                self.assertLess(float(off.mean()), 0.02, (name, what))
                self.assertLess(float(np.percentile(off, 98)), 0.12, (name, what))
                # On a surface of middle grey, in display codes.
                shade, true = (255 * encode(0.2 * (1 - one)) for one in (cv2.GaussianBlur(filmed[..., 6], (0, 0), 1.0), expected))
                self.assertLess(float(np.abs(shade - true)[part].mean()), 2.0, (name, what))

    def test_brighter_light_and_no_light(self) -> None:
        path = self.file("crate.glb", cargo_crate())
        spot, seen = Spot(), camera()
        extent = tuple(float(v) for v in read_model(path).size)
        pictures = [
            draw(self.layer(extent, tall=0.3, **light), InRoom(seen, spot, path), 0, SIZE, np.eye(3)).rgba  # type: ignore[arg-type]
            for light in ({"sun": 100.0}, {"sun": 200.0, "sky": 200.0}, {"sun": 0.0, "sky": 0.0, "shadow": False})
        ]
        one, two, none = (float(p[..., :3].sum()) for p in pictures)
        self.assertAlmostEqual(two / one, 2.0, delta=0.05)
        self.assertLess(none, 1e-4 * one)
        self.assertGreater(float(pictures[2][..., 3].sum()), 500)
        # Wood is brown: it throws back more red than blue.
        self.assertGreater(float(pictures[0][..., 0].sum()), 1.5 * float(pictures[0][..., 2].sum()))

    def test_one_that_takes_too_long_is_ended_and_others_get_their_turn(self) -> None:
        renderer = Renderer(longest_s=0.05)
        self.addCleanup(renderer.close)
        made = order_of(self.layer((0.2, 0.2, 0.2)), camera(), Spot(), 1, Set(path=str(self.box((0.2, 0.2, 0.2)))), 0.5)
        assert made is not None
        with self.assertRaises(PlonketError) as caught:
            renderer.film(made[0])
        self.assertEqual(caught.exception.code, "scene.slow")
        renderer.longest_s = 300
        filmed = renderer.film(made[0])
        empty = NoMedia(SIZE).film(made[0])
        self.assertEqual(empty.shape, filmed.shape, "what films nothing gives as many channels")

    def test_the_process_is_started_again_when_it_dies(self) -> None:
        renderer = Renderer()
        self.addCleanup(renderer.close)
        made = order_of(self.layer((0.2, 0.2, 0.2)), camera(), Spot(), 1, Set(path=str(self.box((0.2, 0.2, 0.2)))), 0.5)
        assert made is not None
        order = made[0]
        first = renderer.film(order)
        assert renderer._process is not None
        renderer._process.kill()
        renderer._process.wait(10)
        np.testing.assert_allclose(renderer.film(order), first, atol=0.05)
        with self.assertRaises(PlonketError) as caught:
            gone = replace(order.things[0], model=str(self.folder / "missing.glb"))
            renderer.film(replace(order, things=(gone,)))
        self.assertIn("missing.glb", caught.exception.message)
