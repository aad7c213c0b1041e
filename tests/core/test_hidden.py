"""What stands in a room goes behind what the footage shows before it."""

from __future__ import annotations

import unittest
from collections.abc import Sequence

import cv2
import numpy as np

from plonket.base.colour import linear_from_codes, linear_of
from plonket.base.conventions import F32, F64
from plonket.depth.frame_depth import FrameDepth
from plonket.document.bases import LayerBase
from plonket.document.spot import Spot
from plonket.image.picture import Picture
from plonket.layers.fill import FillLayer
from plonket.layers.generated import GeneratedLayer
from plonket.layers.hidden import Hiding, before, hidden_flat, hiding, spot_nearness, spread
from plonket.layers.model import MeshLayer, draw
from plonket.layers.solid import inverse_depth_of, landing
from plonket.layers.still import StillLayer
from plonket.layers.wash import WashLayer
from plonket.render.stack import drawn, lay_stack
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from tests.core.furnished import Furnished, Rooms
from tests.core.test_depth import MIDDLE, SIZE, filmed, orbit
from tests.core.test_scene import SIZE as FRAME
from tests.core.test_scene import camera

W, H = SIZE
BACK = -0.6
"""Where the wall behind the bench is."""


class Deep(Furnished):
    """A filmed room whose depth is known."""

    def __init__(self, rooms: Rooms, layers: Sequence[LayerBase], depth: F32 | F64 | None) -> None:
        shot, track = filmed("orbit")
        super().__init__(RoomCamera(track, Room()), rooms.spots, rooms.files, layers)
        self.size = SIZE
        self.light = linear_from_codes(shot.frames[MIDDLE])
        self.told = None if depth is None else np.asarray(depth, np.float32)

    def depth(self, target: str | None, frame: int, *, hides: bool = False) -> FrameDepth | None:
        if self.told is None:
            return None
        known = orbit("good").depth(MIDDLE)
        sure = known.sure if self.told.shape == known.depth.shape and (self.told == known.depth).all() else None
        return FrameDepth(self.told, np.ones_like(self.told) if sure is None else sure)

    def plate_picture(self, frame: int, size: tuple[int, int], view: F64, key: object) -> F32:
        out = np.ones((size[1], size[0], 4), np.float32)
        out[..., :3] = cv2.resize(self.light, size)
        return out


def whole(picture: Picture) -> F32:
    out = np.zeros((H, W, 4), np.float32)
    if picture.rgba.size:
        h, w = picture.rgba.shape[:2]
        out[picture.y : picture.y + h, picture.x : picture.x + w] = picture.rgba
    return out


def edge_of(mask: np.ndarray) -> np.ndarray:
    return np.asarray(cv2.morphologyEx(mask.astype(np.uint8), cv2.MORPH_GRADIENT, np.ones((3, 3), np.uint8)) > 0)


class Behind(Rooms):
    """Things behind the crates of a filmed room."""

    def setUp(self) -> None:
        super().setUp()
        self.true = filmed("orbit")[0].depth(MIDDLE)
        self.told = orbit("good").depth(MIDDLE).depth

    def picture(self, layer: MeshLayer, depth: F32 | F64 | None) -> F32:
        return whole(draw(layer, Deep(self, [layer], depth), MIDDLE, SIZE, np.eye(3)))

    def seen(self, layer: MeshLayer) -> tuple[np.ndarray, np.ndarray]:
        """Where a box is, and where it is before everything that was filmed, by rays."""
        seat = Deep(self, [layer], None)
        camera, spot = seat.seen, self.spots[layer.id]
        there = self.picture(layer, None)[..., 3] > 0.5
        # Its front is a flat patch, half its depth before the spot.
        front = spot.model_copy(update={"z": float(spot.z) + layer.extent[2] / 2})  # type: ignore[arg-type]
        own = spot_nearness(camera, front, MIDDLE, np.eye(3), (0, 0, W, H), flat=True)
        return there, there & (self.true > 1 / np.maximum(own, 1e-9))

    def test_a_model_behind_a_crate_ends_where_the_crate_does(self) -> None:
        """Its outline lies within a pixel and a half of the true one, however the wood before it is like that behind."""
        for name, place in (("whale", {"x": -0.38, "z": -0.16}), ("ship", {"x": 0.36, "z": 0.02})):
            box = self.box(name, (0.22, 0.3, 0.01), (40, 80, 170), shadow=False, **place)
            there, open_ = self.seen(box)
            self.assertGreater(open_.sum() / there.sum(), 0.2)
            self.assertLess(open_.sum() / there.sum(), 0.8)
            inner = cv2.erode(there.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
            for depth, most in ((self.told, 1.5), (self.true, 0.5)):
                shown = (self.picture(box, depth)[..., 3] > 0.5) & there
                away = cv2.distanceTransform((~edge_of(open_)).astype(np.uint8), cv2.DIST_L2, 5)
                back = cv2.distanceTransform((~edge_of(shown)).astype(np.uint8), cv2.DIST_L2, 5)
                self.assertLess(float(away[edge_of(shown) & inner].mean()), most, name)
                self.assertLess(float(back[edge_of(open_) & inner].mean()), most, name)

    def test_its_shadow_goes_behind_as_well(self) -> None:
        box = self.box("post", (0.04, 0.4, 0.16), x=-0.56, z=-0.08, sun_heading=-90.0, sun_height=40.0)
        bare, hidden = self.picture(box, None), self.picture(box, self.true)
        ground = np.abs(self.heights()) < 0.01
        shadow = (bare[..., :3].max(axis=2) < 1e-4) & (bare[..., 3] > 0.15)
        crate = cv2.erode((shadow & ~ground).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        floor = cv2.erode((shadow & ground).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        self.assertGreater(crate.sum(), 100)
        self.assertGreater(floor.sum(), 100)
        self.assertLess(float(hidden[..., 3][crate].mean()), 0.02)
        self.assertLess(float(np.abs(hidden - bare)[..., 3][floor].max()), 0.02)

    def test_its_shadow_climbs_what_was_filmed(self) -> None:
        """Up the crate's front, without a gap at its foot; by measured depth as by the true one."""
        place = {"x": -0.24, "z": 0.3, "sun_heading": 35.0, "sun_height": 35.0}
        box = self.box("post", (0.05, 0.3, 0.05), **place)
        flat = box.model_copy(update={"shadow_on": False})
        none, true, told = self.picture(flat, self.true), self.picture(box, self.true), self.picture(box, self.told)
        turn = np.radians(20)
        normal = np.array([np.sin(turn), 0, np.cos(turn)])
        world = self.places()
        front = np.abs((world - [-0.34, 0, 0.1]) @ normal - 0.08) < 0.004
        open_ = front & (true[..., :3].max(axis=2) < 1e-4)
        self.assertLess(float(none[..., 3][open_ & (world[..., 1] > 0.03)].max()), 0.05)
        for low in np.arange(0.005, 0.11, 0.015):
            band = open_ & (world[..., 1] >= low) & (world[..., 1] < low + 0.015)
            self.assertGreater(int((true[..., 3][band] > 0.3).sum()), 10, low)
            self.assertGreater(int((told[..., 3][band] > 0.3).sum()), 10, low)
        self.assertLess(float(np.abs(true - told)[..., 3][open_].mean()), 0.05)
        # Nothing falls on the wall, of which the sun's way past the post is blocked by nothing.
        self.assertLess(float(told[: H // 4, :, 3].max()), 0.02)

    def heights(self) -> F64:
        """(h, w) height in the room of what each pixel shows."""
        return np.asarray(self.places()[..., 1])

    def places(self) -> F64:
        """(h, w, 3) where in the room it lies."""
        camera = Deep(self, [], None).seen
        x, y = np.meshgrid(np.arange(W) + 0.5, np.arange(H) + 0.5)
        rays = camera.lens(MIDDLE).rays(np.stack([x, y], axis=-1))
        local = rays / rays[..., 2:] * self.true[..., None] * [1.0, -1.0, -1.0]
        return np.asarray(local @ camera.turn(MIDDLE).T + camera.eye(MIDDLE))

    def test_what_it_stands_on_does_not_hide_it_though_it_is_known_too_high(self) -> None:
        box = self.box("can", (0.1, 0.2, 0.1), x=0.0, z=0.55, shadow=False)
        lower = self.spots["can"].model_copy(update={"y": -0.02})
        self.spots["can"] = lower
        bare, hidden = self.picture(box, None), self.picture(box, self.true)
        inside = cv2.erode((bare[..., 3] > 0.99).astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
        self.assertGreater(float(hidden[..., 3][inside].min()), 0.98)

    def test_it_can_be_left_before_everything(self) -> None:
        box = self.box("whale", (0.22, 0.3, 0.01), x=-0.38, z=-0.16)
        free = box.model_copy(update={"follow": box.follow.model_copy(update={"hidden": False})})
        np.testing.assert_array_equal(self.picture(free, self.true), self.picture(box, None))

    def test_a_flat_picture_goes_behind_too_wherever_it_lies_in_the_stack(self) -> None:
        self.spots["wall"] = Spot(x=-0.34, y=0.15, z=-0.1, pixel_mm=1.0)
        sources = Deep(self, [], self.true)
        full = Picture(rgba=np.ones((H, W, 4), np.float32))
        for flat in (True, False):
            cut = hidden_flat(full, sources, "wall", MIDDLE, SIZE, np.eye(3), flat=flat).rgba[..., 3]
            own = spot_nearness(sources.seen, self.spots["wall"], MIDDLE, np.eye(3), (0, 0, W, H), flat=flat)
            behind = self.true < 0.97 / own
            sure = cv2.erode(behind.astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
            clear = cv2.erode((self.true > 1.03 / own).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
            self.assertGreater(sure.sum(), 500)
            self.assertLess(float(cut[sure].mean()), 0.02)
            self.assertGreater(float(cut[clear].mean()), 0.98)
        sources.told = None
        self.assertIs(hidden_flat(full, sources, "wall", MIDDLE, SIZE, np.eye(3), flat=True), full)
        self.assertIs(hidden_flat(full, sources, "elsewhere", MIDDLE, SIZE, np.eye(3), flat=True), full)

    def test_in_a_picture_of_another_size_it_is_hidden_alike(self) -> None:
        self.spots["wall"] = Spot(x=-0.34, y=0.15, z=-0.1, pixel_mm=1.0)
        sources = Deep(self, [], self.true)
        large = hiding(sources, "wall", MIDDLE, SIZE, np.eye(3))
        half = hiding(sources, "wall", MIDDLE, (W // 2, H // 2), np.diag([0.5, 0.5, 1.0]))
        assert large is not None and half is not None
        grown = cv2.resize(half.nearness, SIZE, interpolation=cv2.INTER_NEAREST)
        off = np.abs(grown - large.nearness) / large.nearness
        self.assertLess(float(np.percentile(off, 95)), 0.01)
        self.assertLess(float(np.percentile(np.abs(half.height - large.height[::2, ::2]), 90)), 0.02)
        np.testing.assert_allclose(large.height, self.heights(), atol=1e-3)

    def test_a_click_lands_on_what_was_measured_and_haze_knows_it(self) -> None:
        sources = Deep(self, [], self.told)
        self.spots["camera"] = Spot()
        pixel = (0.32 * W, 0.52 * H)
        found = landing(sources, "camera", MIDDLE, pixel)
        assert found is not None
        x, y = int(pixel[0]), int(pixel[1])
        self.assertAlmostEqual(float(sources.seen.local(MIDDLE, found.place)[2]), float(self.true[y, x]), delta=0.01)
        np.testing.assert_allclose(sources.seen.project(MIDDLE, found.place), pixel, atol=0.01)
        near = inverse_depth_of(sources, "camera", MIDDLE, SIZE, np.eye(3))
        assert near is not None
        known = self.told > 0
        np.testing.assert_allclose(near[known], 1 / self.told[known], rtol=1e-5)
        sources.told = None
        ground = landing(sources, "camera", MIDDLE, pixel)
        self.assertTrue(ground is None or abs(float(ground.place[1])) < 1e-6)

    def test_a_click_knows_which_way_what_was_filmed_faces(self) -> None:
        self.spots["camera"] = Spot()
        seen = Deep(self, [], None).seen
        # The bench, the wall behind it, and the front of the crate that is turned by twenty degrees.
        turn = np.radians(20)
        crate = np.array([-0.34 + 0.08 * np.sin(turn), 0.09, 0.1 + 0.08 * np.cos(turn)])
        faces = {(0.15, 0.0, 0.55): (0, 1, 0), (0.2, 0.42, BACK): (0, 0, 1), tuple(crate): (np.sin(turn), 0, np.cos(turn))}
        for depth, most in ((self.true, 2.0), (self.told, 8.0)):
            for place, normal in faces.items():
                x, y = seen.project(MIDDLE, np.array(place, np.float64))
                found = landing(Deep(self, [], depth), "camera", MIDDLE, (float(x), float(y)))
                assert found is not None and found.normal is not None, place
                off = np.degrees(np.arccos(np.clip(found.normal @ np.array(normal, float), -1, 1)))
                self.assertLess(float(off), most, (place, found.normal))
                self.assertLess(float(np.linalg.norm(found.place - place)), 0.03, (place, found.place))

    def test_layers_of_the_stack_take_it_on_by_what_they_follow(self) -> None:
        self.spots["wall"] = Spot(x=-0.34, y=0.15, z=-0.1, pixel_mm=1.0)
        layer = StillLayer.model_validate({"id": "s", "name": "s", "asset": "a" * 64, "width": 8, "height": 8,
                                           "follow": {"target": "wall", "perspective": True}})  # fmt: skip
        sources = Deep(self, [layer], self.true)
        sources.element = lambda *a, **k: _white()  # type: ignore[method-assign, assignment]
        sources.spaces.of = lambda *a, **k: np.eye(3)  # type: ignore[method-assign]
        big = layer.model_copy(update={"width": W, "height": H, "x": W / 2, "y": H / 2})
        bare = whole(drawn(big.model_copy(update={"follow": big.follow.model_copy(update={"hidden": False})}), sources, MIDDLE,
                           SIZE, np.eye(3)))  # fmt: skip
        cut = whole(drawn(big, sources, MIDDLE, SIZE, np.eye(3)))
        self.assertGreater(float((bare[..., 3] - cut[..., 3]).max()), 0.9)


class Among(Rooms):
    """Things of a room among each other, whatever their order in the stack."""

    def setUp(self) -> None:
        super().setUp()
        self.near = self.box("near", (0.2, 0.3, 0.1), (200, 40, 30), x=-0.1, z=0.25)
        self.far = self.box("far", (0.3, 0.5, 0.1), (30, 60, 200), x=0.2, z=-0.35)
        self.spots["card"] = Spot(x=0.0, y=0.1, z=0.0)
        self.spots["front"] = Spot(x=0.0, y=0.1, z=0.6)

    def card(self, name: str, colour: str, **more: object) -> GeneratedLayer:
        noise = {"kind": "texture", "dark": colour, "light": colour, "dark_cover": 100.0, "light_cover": 100.0}
        follow = {"target": name, "perspective": True, **more}
        return GeneratedLayer.model_validate({"id": f"c-{name}", "name": name, "generator": noise, "follow": follow})

    def laid(self, *layers: LayerBase) -> F32:
        sources = Furnished(camera(), self.spots, self.files, layers)
        canvas = np.zeros((FRAME[1], FRAME[0], 4), np.float32)
        canvas[..., 3] = 1
        return lay_stack(canvas, layers, sources, 1, np.eye(3), 1.0)

    def test_a_standee_between_two_models_is_right_in_both_orders(self) -> None:
        card = self.card("card", "#20c040")
        every = [self.laid(*order) for order in ((card, self.near, self.far), (self.near, card, self.far),
                                                 (self.near, self.far, card))]  # fmt: skip
        for other in every[1:]:
            np.testing.assert_array_equal(other, every[0])
        seen = whole_of(draw(self.near, Furnished(camera(), self.spots, self.files, [self.near]), 1, FRAME, np.eye(3)))
        inside = cv2.erode(((seen[..., 3] > 0.99) & (seen[..., 0] > 2 * seen[..., 1])).astype(np.uint8), np.ones((5, 5))) > 0
        self.assertGreater(int(inside.sum()), 500)
        picture = every[0][..., :3]
        self.assertTrue((picture[inside, 0] > picture[inside, 1]).all(), "the model before it is seen")
        outside = cv2.dilate((seen[..., 3] > 0.01).astype(np.uint8), np.ones((5, 5))) == 0
        self.assertTrue((picture[outside, 1] > 3 * picture[outside, 2]).all(), "the one behind it is not")
        # Its edge is that of the model, not a step.
        green = float(linear_of("#20c040")[1])
        solid = cv2.dilate(inside.astype(np.uint8), np.ones((5, 5)))
        rim = (cv2.dilate(solid, np.ones((5, 5))) > 0) & (cv2.erode(solid, np.ones((5, 5))) == 0)
        between = (picture[..., 1] > 0.15 * green) & (picture[..., 1] < 0.85 * green)
        self.assertGreater(int((between & rim).sum()), 40)

    def test_what_only_begins_and_ends_on_a_spot_has_no_place_there(self) -> None:
        fill = FillLayer.model_validate({"id": "f", "name": "f", "first": "#20c040", "follow": {"target": "card"}})
        self.assertTrue((self.laid(fill, self.near)[..., 1] > 0.3).all(), "it covers the whole picture, models too")

    def test_flat_ones_lie_by_their_distance_unless_they_keep_their_place(self) -> None:
        back, front = self.card("card", "#20c040"), self.card("front", "#c02080")
        for order in ((back, front), (front, back)):
            self.assertGreater(float(self.laid(*order)[100, 100, 0]), 0.3)
        free = [self.card("card", "#20c040", hidden=False), front]
        self.assertLess(float(self.laid(*free)[100, 100, 0]), 0.05)
        wash = WashLayer.model_validate({"id": "w", "name": "w"})
        self.assertLess(float(self.laid(back, wash, front)[100, 100, 0]), 0.05, "what lies between keeps them apart")


def whole_of(picture: Picture) -> F32:
    out = np.zeros((FRAME[1], FRAME[0], 4), np.float32)
    h, w = picture.rgba.shape[:2]
    out[picture.y : picture.y + h, picture.x : picture.x + w] = picture.rgba
    return out


def _white() -> object:
    from plonket.image.picture import StillSource

    return StillSource(np.full((H, W, 4), 255, np.uint8))


class Edges(unittest.TestCase):
    """What of a soft edge belongs to what hides is told by the picture; depth ends a few pixels beside it."""

    FRONT, REAR, THING = (0.5, 0.12, 0.08), (0.1, 0.25, 0.5), (0.7, 0.7, 0.6)

    def test_it_looks_as_if_the_thing_had_stood_there(self) -> None:
        y, x = np.mgrid[0:360, 0:640] + 0.5
        far = np.hypot(x - 320, y - 180)
        rng = np.random.default_rng(1)
        noise = rng.normal(0, 0.004, (360, 640, 3))
        for wide, off in ((1.5, 2.0), (4.0, -2.0)):
            alpha = np.clip((110 - far) / wide + 0.5, 0, 1)[..., None]
            light = np.asarray(alpha * self.FRONT + (1 - alpha) * np.array(self.REAR) + noise, np.float32)
            near = np.where(far < 110 + off, 1 / 0.8, 1 / 2.0).astype(np.float32)
            found = Hiding(near, light, np.zeros_like(near))
            share, more = found.seen(np.full_like(near, 1.0), np.ones_like(near))
            out = light * (1 - share[..., None]) + share[..., None] * np.array(self.THING, np.float32) + more
            wanted = alpha * self.FRONT + (1 - alpha) * np.array(self.THING)
            band = np.abs(far - 110) < 6
            plain = np.where(near[..., None] > 1, light, np.array(self.THING))
            error, bare = (float(np.abs(one - wanted)[band].mean()) for one in (out, plain))
            self.assertLess(error, 0.025)
            self.assertLess(error, 0.4 * bare)

    def test_an_end_that_lies_far_out_is_put_right_by_colours_that_differ_and_left_where_they_do_not(self) -> None:
        y, x = np.mgrid[0:360, 0:1280] + 0.5
        rng = np.random.default_rng(3)
        true = np.hypot(x - 640, y - 180) < 110
        fat = np.hypot(x - 640, y - 180) < 125
        grain = rng.normal(0, 0.01, (360, 1280, 3))
        near = np.where(fat, 1 / 0.8, 1 / 2.0).astype(np.float32)
        for rear, most in ((self.REAR, 1.5), (self.FRONT, 16.5)):
            light = np.asarray(np.where(true[..., None], np.array(self.FRONT), np.array(rear)) + grain, np.float32)
            share, _ = Hiding(near, light, np.zeros_like(near)).seen(np.ones_like(near), np.ones_like(near))
            edge = edge_of(share < 0.5)
            away = np.abs(np.hypot(x - 640, y - 180)[edge] - 110)
            self.assertLess(float(np.percentile(away, 95)), most)
            self.assertEqual(bool(np.percentile(away, 5) > 10), rear == self.FRONT)

    def test_what_is_not_sure_may_belong_to_either_side(self) -> None:
        y, x = np.mgrid[0:360, 0:1280] + 0.5
        far = np.hypot(x - 640, y - 180)
        rng = np.random.default_rng(3)
        light = np.asarray(np.where((far < 110)[..., None], np.array(self.FRONT), np.array(self.REAR))
                           + rng.normal(0, 0.004, (360, 1280, 3)), np.float32)  # fmt: skip
        # A rail of the front's colour sticks out beside it, of which depth knows nothing.
        rail = (np.abs(y - 180) < 3) & (x > 640) & (far < 128)
        light[rail] = self.FRONT
        near = np.where(far < 110, 1 / 0.8, 1 / 2.0).astype(np.float32)
        seen = [Hiding(near, light, np.zeros_like(near), unsure).seen(np.ones_like(near), np.ones_like(near))[0]
                for unsure in (None, np.abs(far - 110) < 22)]  # fmt: skip
        tip = rail & (far > 120) & (far < 123)
        self.assertGreater(float(seen[0][tip].mean()), 0.45)
        self.assertLess(float(seen[1][tip].mean()), 0.2)

    def test_what_is_not_known_takes_after_what_is_beside_and_else_hides_nothing(self) -> None:
        near = np.full((40, 60), 0.5, np.float32)
        near[:, :20] = 2.0
        near[:, 20:30] = 0
        near[10:30, 40:] = 0
        found = before(near, np.ones_like(near), 8)
        self.assertTrue(found[:, :24].all())
        self.assertFalse(found[:, 28:].any())
        self.assertFalse(before(np.zeros_like(near), np.ones_like(near), 8).any())

    def test_what_is_a_speck_hides_nothing(self) -> None:
        near = np.full((40, 60), 0.5, np.float32)
        near[20, 30] = 2.0
        self.assertFalse(before(near, np.ones_like(near), 8).any())

    def test_nearness_goes_on_as_it_is_nearest(self) -> None:
        values = np.zeros((5, 9), np.float32)
        values[:, 2], values[:, 6] = 1.0, 3.0
        np.testing.assert_array_equal(spread(values)[2], [1, 1, 1, 1, spread(values)[2, 4], 3, 3, 3, 3])
        np.testing.assert_array_equal(spread(np.zeros((2, 2), np.float32)), 0)
