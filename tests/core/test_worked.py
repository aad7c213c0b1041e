"""Floors and walls of the footage in pieces and in relief, against the plate, closed forms and depth."""

from __future__ import annotations

import unittest
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from scipy.spatial.transform import Rotation
from skimage import data

from plonket.base.colour import encode, linear_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.depth.frame_depth import FrameDepth
from plonket.document.bases import LayerBase
from plonket.document.kinds import LAYERS
from plonket.document.spot import Spot
from plonket.image.picture import StillSource
from plonket.layers.breaking import BreakingLayer
from plonket.layers.relief import ReliefLayer
from plonket.layers.worked import surface_matrix
from plonket.room.camera import RoomCamera
from plonket.room.meshes.baked import read_baked
from tests.core.furnished import Furnished, Rooms
from tests.core.test_scene import SIZE, camera

W, H = SIZE
LIGHT = {"sun_heading": 50.0, "sun_height": 40.0, "sun_soft": 3.0}


def looks(seen: RoomCamera, frame: int) -> tuple[F64, F64]:
    """Where each pixel (h, w) looks: eye (3,), ways (h, w, 3)."""
    y, x = np.mgrid[0:H, 0:W] + 0.5
    ways = (seen.lens(frame).rays(np.stack([x, y], axis=-1)) * [1, -1, -1]) @ seen.turn(frame).T
    return seen.eye(frame), np.asarray(ways)


def floor_plate(seen: RoomCamera, frame: int) -> U8:
    """A photograph of bricks as the floor, in warm light."""
    eye, ways = looks(seen, frame)
    far = -eye[1] / np.minimum(ways[..., 1], -1e-6)
    at = eye + ways * far[..., None]
    bricks = np.clip(data.brick()[..., None] * np.array([1.0, 0.9, 0.75]), 0, 255).astype(np.uint8)
    u, v = (((at[..., k] * 300) % 512).astype(np.float32) for k in (0, 2))
    out = cv2.remap(bricks, u, v, cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP)
    out[ways[..., 1] > -1e-3] = 120
    return np.asarray(out, np.uint8)


class Floor(Furnished):
    """A floor of bricks, seen by the passing camera."""

    def __init__(self, *layers: LayerBase, told: F32 | None = None, white: bool = False) -> None:
        super().__init__(camera(), {"camera": Spot(), "spot": Spot(z=0.1)}, {}, layers)
        self.plates = {k: np.full((H, W, 3), 150, np.uint8) if white else floor_plate(self.seen, k) for k in range(3)}
        self.told = told
        self.still: U8 | None = None

    def depth(self, target: str | None, frame: int, *, hides: bool = False) -> FrameDepth | None:
        return None if self.told is None else FrameDepth(self.told, np.ones_like(self.told))

    def plate_picture(self, frame: int, size: tuple[int, int], view: F64, key: object) -> F32:
        return np.dstack([linear_from_codes(self.plates[frame]), np.ones((H, W), np.float32)])

    def element(self, asset: str, frame: int, key: object = None, level: int = 0) -> StillSource:
        assert self.still is not None
        return StillSource(self.still)

    def shown(self, layer: LayerBase, frame: int = 1) -> tuple[F32, F32]:
        """The layer's picture in the whole frame (h, w, 4), and that laid on the plate (h, w, 3), both linear."""
        picture = LAYERS.of(layer).run(layer, self, frame, SIZE, np.eye(3))
        out = np.zeros((H, W, 4), np.float32)
        if picture.rgba.size:
            h, w = picture.rgba.shape[:2]
            out[picture.y : picture.y + h, picture.x : picture.x + w] = picture.rgba
        plate = linear_from_codes(self.plates[frame])
        return out, plate * (1 - out[..., 3:]) + out[..., :3]


def breaking(**more: Any) -> BreakingLayer:
    return BreakingLayer.model_validate({
        "id": "b", "name": "b", "pattern": "tiles", "pieces": 9, "falling": 9, "falls_from": 0, "runs": 0, "gap": 0, "wide": 0.4,
        "deep": 0.4, "from_frame": 1, "follow": {"target": "spot"}, **LIGHT, **more})  # fmt: skip


def relief(**more: Any) -> ReliefLayer:
    return ReliefLayer.model_validate({"id": "r", "name": "r", "wide": 0.4, "deep": 0.4, "from_frame": 1,
                                       "follow": {"target": "spot"}, **LIGHT, **more})  # fmt: skip


class Untouched(unittest.TestCase):
    def test_pieces_that_lie_still_look_like_the_plate(self) -> None:
        """Whatever the light: under one that stands low and soft, and one that is far too dim for so bright a floor."""
        for light in ({}, {"sun_height": 20.0, "sun_soft": 20.0}, {"sun": 5.0, "sky": 5.0}):
            layer = breaking(falls_from=1, runs=1000, **light)
            floor = Floor(layer)
            floor._falls = {}
            rgba, on_plate = floor.shown(layer)
            there = rgba[..., 3] > 0.99
            self.assertGreater(int(there.sum()), 2000)
            off = 255 * (encode(on_plate) - encode(linear_from_codes(floor.plates[1])))
            self.assertLess(float(np.abs(off[there].mean(axis=0)).max()), 1.0, light)
            self.assertLess(float(np.abs(cv2.blur(off, (9, 9))[cv2.erode(there.astype(np.uint8), np.ones((9, 9))) > 0]).mean()), 1.0)

    def test_nothing_is_there_before_it_begins_and_nothing_beside_it(self) -> None:
        layer = breaking(falls_from=2)
        self.assertEqual(float(Floor(layer).shown(layer, 1)[0].max()), 0)
        quiet = breaking(falling=0, pattern="shards", pieces=12, gap=0.01)
        rgba, _ = Floor(quiet).shown(quiet, 2)
        far = np.ones((H, W), np.bool_)
        far[H // 3 :, W // 5 : -W // 5] = False
        self.assertLess(float(rgba[far].max()), 0.01)
        dark = (rgba[..., 3] > 0.5) & (rgba[..., :3].max(axis=2) < 0.05)
        self.assertGreater(int(dark.sum()), 40, "cracks are seen")
        self.assertLess(int((rgba[..., 3] > 0.5).sum()), 1500, "and between them the plate itself")


class Broken(unittest.TestCase):
    def test_a_hole_is_dark_and_has_sides(self) -> None:
        layer = breaking(falls_from=-40, hollow=0.4, thick=0.04, pieces=16, falling=4)
        floor = Floor(layer)
        rgba, on_plate = floor.shown(layer)
        x, y = (int(v) for v in floor.seen.project(1, np.array([0.0, 0.0, 0.1])))
        hole = encode(on_plate[y - 4 : y + 5, x - 6 : x + 7]).mean()
        plate = encode(linear_from_codes(floor.plates[1])[y - 20 : y + 20, x - 20 : x + 20]).mean()
        self.assertGreater(float(rgba[y, x, 3]), 0.99)
        self.assertLess(float(hole), 0.75 * float(plate))
        before = floor.seen.project(1, np.array([0.0, 0.0, 0.25]))
        self.assertLess(float(rgba[int(before[1]), int(before[0]), 3]), 0.05, "the floor before it hides what is below")

    def test_what_was_filmed_hides_it_but_not_the_floor_itself(self) -> None:
        """Depth as measured: the floor, uneven by a hundredth, and a post before the hole."""
        layer = breaking(falls_from=-40, hollow=0.4)
        bare, _ = Floor(layer).shown(layer)
        seen = camera()
        eye, ways = looks(seen, 1)
        rng = np.random.default_rng(3)
        ahead = ways @ -seen.turn(1)[:, 2]
        depth = -eye[1] / np.minimum(ways[..., 1], -1e-6) * ahead
        depth *= 1 + 0.01 * cv2.GaussianBlur(rng.standard_normal((H, W)), (0, 0), 2) * 4
        x, y = (int(v) for v in seen.project(1, np.array([0.0, 0.0, 0.1])))
        depth[:, x - 8 : x + 9] = 0.6
        floor = Floor(layer, told=np.asarray(np.clip(depth, 0, 50), np.float32))
        floor.plates[1][:, x - 8 : x + 9] = (200, 30, 30)
        rgba, _ = floor.shown(layer)
        beside = np.s_[y - 3 : y + 4, x + 16 : x + 22]
        self.assertGreater(float(bare[beside][..., 3].min()), 0.9)
        self.assertGreater(float(rgba[beside][..., 3].min()), 0.9)
        self.assertLess(float(rgba[y, x - 4 : x + 5, 3].max()), 0.05)

    def test_a_wall_breaks_too(self) -> None:
        layer = breaking(falls_from=-40, on="wall", wide=0.3, deep=0.3, pushed=1.0)
        floor = Floor(layer)
        floor.spots["spot"] = Spot(y=0.3, z=-0.2)
        rgba, _ = floor.shown(layer)
        x, y = (int(v) for v in floor.seen.project(1, np.array([0.0, 0.3, -0.2])))
        self.assertGreater(float(rgba[y, x, 3]), 0.99)
        (_, round_it), _ = LAYERS.of(layer).things(layer, floor, [1.0], True)
        tops = round_it[0][:72].reshape(9, 8, 3)[..., 1].max(axis=1)
        self.assertLess(float(np.median(tops)), 0.1, "its pieces came down")


class Together(Rooms):
    """A crate in the room in which the floor breaks."""

    def floor(self, *layers: LayerBase) -> Floor:
        out = Floor(*layers)
        out.spots |= self.spots
        out.files = self.files
        return out

    def test_a_crate_is_seen_in_the_hole_and_throws_its_shadow_once(self) -> None:
        crate = self.box("crate", (0.12, 0.12, 0.12), (220, 40, 30), z=0.1, y=0.0, falls=True, falls_from=-60, heavy=600.0)
        hole = breaking(falls_from=-60, wide=0.5, deep=0.5, pieces=4, hollow=0.06, thick=0.02)
        for stack in ((hole, crate), (crate, hole)):
            floor = self.floor(*stack)
            fell = floor.fallen("crate")
            assert fell is not None
            place = fell.at(1)
            assert place is not None
            middle = place[0][:3, :3] @ np.array([0.0, 0.06, 0.0]) + place[0][:3, 3]
            self.assertLess(float(middle[1]), 0.02, "it lies in the hole")
            canvas = linear_from_codes(floor.plates[1])
            for layer in reversed(stack):
                rgba, _ = floor.shown(layer)
                canvas = canvas * (1 - rgba[..., 3:]) + rgba[..., :3]
            x, y = (int(v) for v in floor.seen.project(1, middle))
            red, green, _ = encode(canvas[y - 2 : y + 3, x - 2 : x + 3]).mean(axis=(0, 1))
            self.assertGreater(float(red), 1.8 * float(green), [one.id for one in stack])

    def test_shadows_are_there_before_it_breaks(self) -> None:
        """Whichever lies last in the stack."""
        crate = self.box("crate", (0.1, 0.2, 0.1), (220, 40, 30), z=0.1, y=0.0, **LIGHT)
        shadow = []
        for stack in ([crate], [crate, breaking(falls_from=2)], [breaking(falls_from=2), crate]):
            rgba, _ = self.floor(*stack).shown(crate, 1)
            shadow.append(float((rgba[..., 3] * (rgba[..., :3].max(axis=2) < 0.004)).sum()))
        self.assertGreater(shadow[0], 100)
        np.testing.assert_allclose(shadow[1:], shadow[0], rtol=0.05)


class Relief(unittest.TestCase):
    def mesh(self, layer: ReliefLayer, height: float) -> tuple[F64, F64]:
        floor = Floor(layer)
        (thing, _), _ = LAYERS.of(layer).things(layer, floor, [1.0], True)
        model = read_baked(Path(thing.model))
        assert model.posed is not None
        places, normals = model.posed(0, height)[0]
        return places, normals

    def test_it_is_the_surface_that_it_says(self) -> None:
        """A bulge is (1 - r^2)^2 high, and its normals are those of that surface."""
        for height in (0.08, -0.05):
            places, normals = self.mesh(relief(), height)
            x, z = places[:, 0] / 0.2, places[:, 2] / 0.2
            square = np.minimum(x * x + z * z, 1)
            np.testing.assert_allclose(places[:, 1], height * (1 - square) ** 2, atol=2e-6)
            slope = -4 * height * (1 - square)[:, None] * np.stack([x, z], axis=1) / 0.2
            truth = np.stack([-slope[:, 0], np.ones(len(x)), -slope[:, 1]], axis=1)
            truth /= np.linalg.norm(truth, axis=1, keepdims=True)
            self.assertGreater(float((truth * normals).sum(axis=1).min()), np.cos(np.radians(0.6)))

    def test_what_is_painted_on_it_rises_with_it(self) -> None:
        layer = relief(height=0.06)
        floor = Floor(layer, white=True)
        seen = floor.seen
        x, y = seen.project(1, np.array([0.0, 0.0, 0.1]))
        cv2.circle(floor.plates[1], (round(x * 16 - 8), round(y * 16 - 8)), 4 * 16, (20, 20, 160), -1, cv2.LINE_AA, 4)
        _, on_plate = floor.shown(layer)
        blue = np.clip(on_plate[..., 2] - on_plate[..., 0], 0, None) * (on_plate[..., 0] < 0.12)
        ys, xs = np.mgrid[0:H, 0:W] + 0.5
        middle = np.array([(blue * xs).sum(), (blue * ys).sum()]) / blue.sum()
        raised = seen.project(1, np.array([0.0, 0.06, 0.1]))
        self.assertGreater(float(np.hypot(*(raised - [x, y]))), 8)
        # The disc leans: its middle is not quite where the tip is.
        self.assertLess(float(np.hypot(*(middle - raised))), 1.5)

    def test_it_is_lit_as_its_slopes_face_the_light(self) -> None:
        """A rough grey surface by the sun alone: brightness goes by how squarely it faces that."""
        layer = relief(height=0.05, sky=0.0, sun_soft=1.0, quality="best")
        floor = Floor(layer, white=True)
        _, on_plate = floor.shown(layer)
        plate = linear_from_codes(floor.plates[1])
        heading, height = np.radians(50.0), np.radians(40.0)
        sun = np.array([np.cos(height) * np.sin(heading), np.sin(height), np.cos(height) * np.cos(heading)])
        for x, z in ((0.08, 0.0), (-0.08, 0.02), (0.0, 0.09), (0.06, 0.05)):
            square = (x * x + z * z) / 0.04
            slope = -4 * 0.05 * (1 - square) * np.array([x, z]) / 0.04
            normal = np.array([-slope[0], 1, -slope[1]]) / np.linalg.norm([*slope, 1])
            at = floor.seen.project(1, np.array([x, 0.05 * (1 - square) ** 2, z + 0.1]))
            px, py = int(at[0]), int(at[1])
            got = float(on_plate[py - 1 : py + 2, px - 1 : px + 2].mean() / plate[py, px].mean())
            # What is rough throws a little more back towards where light comes from.
            self.assertAlmostEqual(got, max(float(normal @ sun), 0) / sun[1], delta=0.15)

    def test_a_picture_is_pushed_where_it_is_white(self) -> None:
        layer = relief(shape="picture", picture="a" * 64, rounded=0.0, edge=0.0)
        floor = Floor(layer)
        floor.still = np.zeros((40, 40, 4), np.uint8)
        floor.still[..., 3] = 255
        floor.still[:, 20:, :3] = 255
        (thing, _), _ = LAYERS.of(layer).things(layer, floor, [1.0], True)
        model = read_baked(Path(thing.model))
        assert model.posed is not None
        places, _ = model.posed(0, 0.1)[0]
        inner = (np.abs(places[:, 0]) > 0.02) & (np.abs(places[:, [0, 2]]).max(axis=1) < 0.17)
        np.testing.assert_allclose(places[inner, 1], np.where(places[inner, 0] > 0, 0.1, 0.0), atol=2e-3)

    def test_flat_it_is_not_there(self) -> None:
        layer = relief(height={"keys": [{"frame": 0, "value": 0.0}, {"frame": 2, "value": 0.05}]})
        self.assertEqual(float(Floor(layer).shown(layer, 0)[0].max()), 0)
        self.assertGreater(float(Floor(layer).shown(layer, 2)[0][..., 3].max()), 0.9)


class Turned(unittest.TestCase):
    def test_a_wall_lies_in_what_its_spot_faces(self) -> None:
        """Its face is the spot's front, its width the spot's right, however that is turned."""
        spot = Spot(x=0.1, y=0.2, z=-0.3, heading=35.0)
        m = surface_matrix(relief(on="wall"), camera(), spot)
        truth = Rotation.from_euler("y", 35, degrees=True).as_matrix()
        np.testing.assert_allclose(m[:3, 1], truth[:, 2], atol=1e-9)
        np.testing.assert_allclose(m[:3, 0], truth[:, 0], atol=1e-9)
        self.assertAlmostEqual(float(np.linalg.det(m[:3, :3])), 1.0)
