"""Several things in one room: they hide, shade and mirror each other; lamps, light maps, what is really there, copies, haze,
and the plate of other frames projected on forms."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.colour import encode_8bit, linear_from_codes
from plonket.base.conventions import F64, U8
from plonket.document.spot import Spot
from plonket.layers import form as forms
from plonket.layers.form import FormLayer
from plonket.layers.light import DomeLayer, LampLayer
from plonket.raytrace.disk_cache import FilmStore
from plonket.raytrace.request import request_digest
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from tests.core.furnished import RENDERER, Furnished, Rooms
from tests.core.test_scene import SIZE, camera


def tearDownModule() -> None:
    RENDERER.close()


class Together(Rooms):
    def test_the_nearer_one_hides_the_other_and_one_picture_brings_all_shadows(self) -> None:
        near = self.box("near", (0.2, 0.2, 0.2), x=-0.02, z=0.25)
        far = self.box("away", (0.5, 0.35, 0.1), x=0.1, z=-0.15)
        both = [near, far]
        first, last = self.whole(near, both), self.whole(far, both)
        alone = self.whole(near.model_copy(update={"shadow": False}), [])[..., 3]
        # In front nothing changes; behind it the other one is gone.
        self.assertLess(float(np.abs(first[..., 3] - alone).mean()), 0.002, "the first brings no shadow")
        dark = last[..., 3].copy()
        own = self.whole(far.model_copy(update={"shadow": False}), [far.model_copy(update={"shadow": False})])[..., 3]
        hidden = (cv2.erode(alone, np.ones((3, 3))) > 0.99) & (own > 0.99)
        self.assertGreater(int(hidden.sum()), 300)
        self.assertLess(float(last[hidden, 3].max()), 0.02)
        # The ground left of the near one lies in its shadow, which the last one's picture carries.
        corner = self.whole(far, [far])[..., 3]
        shaded = (dark - corner > 0.2) & (alone < 0.01) & (own < 0.01)
        self.assertGreater(int(shaded.sum()), 200)

    def test_metal_mirrors_its_neighbour(self) -> None:
        mirror = self.box("mirror", (0.5, 0.4, 0.05), z=-0.2, surface="metal", shadow=False)
        red = self.box("red", (0.2, 0.2, 0.2), (220, 20, 20), z=0.12, x=0.05, shadow=False)
        with_it, without = self.whole(mirror, [mirror, red]), self.whole(mirror, [mirror])
        shown = (with_it[..., 3] > 0.99) & (without[..., 3] > 0.99)
        share = lambda p: p[..., 0] / np.maximum(p[..., :3].sum(axis=2), 1e-6)  # noqa: E731
        redder = share(with_it)[shown] - share(without)[shown]
        self.assertGreater(float(np.percentile(redder, 99)), 0.15)
        self.assertLess(abs(float(np.median(redder))), 0.05, "most of it mirrors something else")

    def test_what_is_really_there_hides_and_takes_shadows_but_throws_none(self) -> None:
        ball = self.box("ball", (0.16, 0.16, 0.16), lift=0.3, sun_height=80.0, sun_heading=0.0)
        self.spots["bench"] = Spot(x=0.0, z=0.0)
        bench = FormLayer.model_validate({"id": "bench", "name": "b", "wide": 0.5, "tall": 0.2, "deep": 0.4,
                                          "follow": {"target": "bench"}})  # fmt: skip
        seen = camera()
        with_it, without = self.whole(ball, [ball, bench]), self.whole(ball, [ball])
        top = seen.project(1, np.array([[0.0, 0.2, 0.0], [0.06, 0.2, 0.05]]))
        for x, y in top:
            inside = np.s_[int(y) - 1 : int(y) + 2, int(x) - 1 : int(x) + 2, 3]
            self.assertGreater(float(with_it[inside].mean()), 0.3, "its shadow lies on the bench")
        # The bench's own outline throws nothing on to the ground, whose shadow it hides.
        foot = seen.project(1, np.array([[0.4, 0.0, 0.0], [-0.4, 0.0, 0.0]]))
        for x, y in foot:
            self.assertLess(float(with_it[int(y), int(x), 3]), 0.08)
        front = self.box("behind", (0.2, 0.15, 0.1), z=-0.3, shadow=False)
        wall = bench.model_copy(update={"tall": 0.5})
        covered, open_ = self.whole(front, [front, wall])[..., 3], self.whole(front, [front])[..., 3]
        self.assertLess(float(covered.sum()), 0.25 * float(open_.sum()))
        self.assertGreater(float(without[..., 3].sum()), 100)

    def test_copies_stand_in_rows_as_far_apart_as_asked(self) -> None:
        crate = self.box("crate", (0.06, 0.06, 0.06), across=3, deep=2, across_gap=0.3, deep_gap=0.4, shadow=False, z=0.2)
        cover = self.whole(crate, [crate])[..., 3]
        count, labels, _, middles = cv2.connectedComponentsWithStats((cover > 0.5).astype(np.uint8))
        self.assertEqual(count - 1, 6)
        seen = camera()
        for i in (-1, 0, 1):
            for j in (0, 1):
                x, y = seen.project(1, np.array([i * 0.3, 0.03, 0.2 - j * 0.4]))
                self.assertLess(min(np.hypot(*(m - [x, y])) for m in middles[1:]), 3.0)

    def test_haze_takes_light_with_distance_and_gives_the_air_s(self) -> None:
        plain = self.box("plain", (0.2, 0.2, 0.2), shadow=False)
        hazy = plain.model_copy(update={"haze": 60.0, "haze_at": 1.0, "haze_colour": "#4060ff"})
        a, b = self.whole(plain, [plain]), self.whole(hazy, [hazy])
        inside = cv2.erode(a[..., 3], np.ones((5, 5))) > 0.99
        ys, xs = np.nonzero(inside)
        distance = float(np.linalg.norm(camera().eye(1) - [0, 0.15, 0.05]))
        kept = 0.4**distance
        air = linear_from_codes(np.array([[[0x40, 0x60, 0xFF]]], np.uint8))[0, 0]
        expected = a[ys, xs, :3] * kept + air * (1 - kept)
        self.assertLess(float(np.abs(b[ys, xs, :3] - expected).mean()), 0.02)


class Lit(Rooms):
    def card(self, lamp: LampLayer, away: float) -> float:
        """How bright a card is that lies so far below a lamp which looks straight down."""
        card = self.box("card", (0.1, 0.002, 0.1), sun=0.0, sky=0.0, shadow=False)
        self.spots["lamp"] = Spot(y=away)
        picture = self.whole(card, [card, lamp])
        return float(picture[cv2.erode(picture[..., 3], np.ones((3, 3))) > 0.99][..., 1].mean())

    def test_a_lamp_lights_a_card_as_it_says_and_less_with_distance(self) -> None:
        lamp = LampLayer.model_validate({"id": "l", "name": "l", "lift": 0.0, "tilt": 90.0, "wide": 0.1, "tall": 0.1,
                                         "colour": "#ffffff", "follow": {"target": "lamp"}})  # fmt: skip
        one, two = self.card(lamp, 1.0), self.card(lamp, 2.0)
        # What says nothing of itself throws back 55 % and a little gloss.
        self.assertAlmostEqual(one, 0.55, delta=0.06)
        self.assertAlmostEqual(two / one, 0.25, delta=0.02)
        off = lamp.model_copy(update={"tilt": -90.0})
        self.assertLess(self.card(off, 1.0), 0.01, "it shines to one side only")
        red = lamp.model_copy(update={"colour": "#ff0000"})
        self.assertLess(self.card(red, 1.0), 0.05)

    def test_a_lamp_s_shadow_falls_away_from_it_and_the_lamp_is_not_seen(self) -> None:
        post = self.box("post", (0.08, 0.25, 0.08), sun=0.0, sky=10.0)
        self.spots["lamp"] = Spot(x=-0.8, y=0.7)
        lamp = LampLayer.model_validate({"id": "l", "name": "l", "lift": 0.0, "tilt": 30.0, "heading": 90.0, "wide": 0.1,
                                         "tall": 0.1, "follow": {"target": "lamp"}})  # fmt: skip
        picture = self.whole(post, [post, lamp])
        seen = camera()
        right, left = (seen.project(1, np.array([x, 0.0, 0.0])).astype(int) for x in (0.14, -0.14))
        self.assertGreater(float(picture[right[1], right[0], 3]), 0.5)
        self.assertLess(float(picture[left[1], left[0], 3]), 0.12)
        # Right before the camera it hides nothing.
        self.spots["lamp"] = Spot(x=-0.2, y=0.4, z=0.9)
        before = self.whole(post, [post, lamp.model_copy(update={"wide": 2.0, "tall": 2.0, "heading": 0.0})])
        solid = cv2.erode(picture[..., 3], np.ones((3, 3))) > 0.999
        self.assertGreater(float(before[solid, 3].min()), 0.99)

    def test_a_light_map_lights_from_where_it_is_bright_and_turns(self) -> None:
        sky = np.full((64, 128, 3), 0.02, np.float32)
        sky[24:40, 90:102] = 60.0
        path = self.folder / "sky.hdr"
        cv2.imwrite(str(path), sky)
        self.files["d" * 64] = path
        card = self.box("tower", (0.15, 0.3, 0.15), sun=0.0, shadow=False)
        sides = {}
        for turn in (0.0, 90.0, 180.0, 270.0):
            dome = DomeLayer.model_validate({"id": "d", "name": "d", "asset": "d" * 64, "turn": turn,
                                             "follow": {"target": "camera"}})  # fmt: skip
            picture = self.whole(card, [card, dome])
            front = camera().project(1, np.array([0.0, 0.15, 0.075])).astype(int)
            sides[turn] = float(picture[front[1] - 4 : front[1] + 5, front[0] - 4 : front[0] + 5, 1].mean())
        # The bright patch lies a quarter right of the map's middle: the front is lit from one of four sides only.
        bright = max(sides, key=lambda k: sides[k])
        self.assertEqual(bright, 270.0)
        self.assertGreater(sides[bright], 4 * sorted(sides.values())[-2])


    def test_light_stays_with_the_camera_where_the_thing_moves(self) -> None:
        moving = RoomCamera(camera().track, Room(turn=(0.0, 0.3826834, 0.0, 0.9238795)), still=0)
        sun = np.array([0.3, 0.8, 0.52])
        for frame in (0, 1, 2):
            before_it = moving.turn(frame).T @ (moving.lit(frame) @ sun)
            np.testing.assert_allclose(before_it, moving.turn(0).T @ sun, atol=1e-9)
        np.testing.assert_array_equal(camera().lit(2), np.eye(3))

    def test_too_many_copies_are_refused_in_plain_words(self) -> None:
        with self.assertRaisesRegex(ValueError, "64 copies"):
            self.box("many", (0.1, 0.1, 0.1), across=16, deep=16)


class OnForms(Rooms):
    def filmed(self, seen: RoomCamera, texture: U8, hidden: dict[int, tuple[F64, float]]) -> dict[int, U8]:
        """Frames of a ground with a texture of 1 mm a pixel about the origin, in some of which a disc hides part of it."""
        h, w = texture.shape[:2]
        out = {}
        for frame in range(3):
            flat = seen.flat(frame, np.zeros(3), np.array([0.001, 0, 0]), np.array([0, 0, -0.001]))
            m = flat @ np.array([[1, 0, -w / 2], [0, 1, -h / 2], [0, 0, 1.0]])
            shift = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1.0]])
            picture = cv2.warpPerspective(texture, shift @ m @ np.linalg.inv(shift), SIZE, flags=cv2.INTER_AREA)
            if frame in hidden:
                at, radius = hidden[frame]
                x, y = seen.project(frame, at)
                cv2.circle(picture, (int(x), int(y)), int(radius), (255, 0, 255), -1)
            out[frame] = np.asarray(picture, np.uint8)
        return out

    def test_the_plate_of_other_frames_fills_what_is_hidden_in_one(self) -> None:
        rng = np.random.default_rng(3)
        soft = cv2.GaussianBlur(rng.random((1400, 1400, 3)).astype(np.float32), (0, 0), 9)
        texture = np.clip((soft - 0.5) * 1800 + 120, 0, 255).astype(np.uint8)
        seen = camera()
        hidden = {0: (np.array([0.0, 0, 0.1]), 22.0), 1: (np.array([0.25, 0, 0.1]), 22.0)}
        plates, clean = self.filmed(seen, texture, hidden), self.filmed(seen, texture, {})
        ground = FormLayer.model_validate({"id": "g", "name": "g", "shape": "plane", "use": "plate", "wide": 1.0, "deep": 0.9,
                                           "frames": [2], "follow": {"target": "camera"}})  # fmt: skip
        sources = Furnished(seen, self.spots, self.files, [ground])
        sources.plates = plates
        picture = self.drawn(ground, sources, 0)
        inside = cv2.erode(picture[..., 3], np.ones((5, 5))) > 0.99
        self.assertGreater(int(inside.sum()), 9000)
        off = np.abs(encode_8bit(picture[..., :3]).astype(int) - clean[0])[inside]
        self.assertLess(float(off.mean()), 2.5, "the clean ground, where frame 0 shows a disc")
        # Of two frames the first shows, and the second fills what the first does not see.
        both = ground.model_copy(update={"frames": [2, 0], "wide": 4.0, "deep": 4.0})
        one = ground.model_copy(update={"frames": [2], "wide": 4.0, "deep": 4.0})
        more, less = self.drawn(both, sources, 1)[..., 3], self.drawn(one, sources, 1)[..., 3]
        self.assertGreater(float((more - less).sum()), 200)

    def test_a_box_hides_its_own_back_from_the_frame_it_is_projected_from(self) -> None:
        seen = camera()
        self.spots["b"] = Spot(x=-0.1)
        box = FormLayer.model_validate({"id": "b", "name": "b", "use": "plate", "wide": 0.3, "tall": 0.3, "deep": 0.3,
                                        "follow": {"target": "b"}})  # fmt: skip
        sources = Furnished(seen, self.spots, self.files, [box])
        sources.plates = {k: np.full((SIZE[1], SIZE[0], 3), 90 + 40 * k, np.uint8) for k in range(3)}
        cover = self.drawn(box, sources, 0)[..., 3]
        m = forms.form_matrix(box, seen, self.spots["b"], 0)
        middle = seen.project(0, m[:3, 3] + [0, 0.15, 0.15]).astype(int)
        self.assertGreater(float(cover[middle[1], middle[0]]), 0.99, "its front is seen by both")
        grey = self.drawn(box, sources, 0)[middle[1], middle[0], :3]
        np.testing.assert_allclose(grey, linear_from_codes(np.array([[[90, 90, 90]]], np.uint8))[0, 0], atol=0.01)

    def test_as_a_matte_it_covers_what_the_camera_sees_of_it(self) -> None:
        seen = camera(-0.1)
        self.spots["b"] = Spot(x=0.1, z=0.1)
        box = FormLayer.model_validate({"id": "b", "name": "b", "wide": 0.3, "tall": 0.4, "deep": 0.2, "follow": {"target": "b"}})
        cover = self.whole(box, [box], seen=seen)[..., 3]
        corners = np.array([[0.1 + sx * 0.15, y, 0.1 + sz * 0.1] for sx in (-1, 1) for y in (0, 0.4) for sz in (-1, 1)])
        at = seen.project(1, corners)
        hull = cv2.convexHull(at.astype(np.float32))
        truth = np.zeros((SIZE[1] * 4, SIZE[0] * 4), np.uint8)
        cv2.fillConvexPoly(truth, np.round((hull * 4 - 0.5) * 16).astype(np.int32), 255, shift=4)
        expected = cv2.resize(truth, SIZE, interpolation=cv2.INTER_AREA).astype(np.float32) / 255
        self.assertLess(float(np.abs(cover - expected).sum()), 0.02 * float(expected.sum()))


class Stored(Rooms):
    def test_equal_orders_are_filmed_once_and_found_on_disk(self) -> None:
        box = self.box("box", (0.2, 0.2, 0.2))
        sources = Furnished(camera(), self.spots, self.files, [box])
        for _ in range(2):
            self.drawn(box, sources)
        digests = {request_digest(order) for order in sources.asked}
        self.assertEqual(len(digests), 1)
        self.drawn(box.model_copy(update={"sun": 90.0}), sources)
        self.assertEqual(len({request_digest(order) for order in sources.asked}), 2)
        store = FilmStore(self.folder / "kept", room_bytes=60000)
        picture = np.random.default_rng(0).random((40, 40, 6)).astype(np.float32)
        digest = digests.pop()
        self.assertIsNone(store.load(digest))
        store.save(digest, picture)
        np.testing.assert_allclose(store.load(digest), picture, atol=1e-3)
        # More than there is room for: the oldest goes.
        for k in range(8):
            store.save(f"{k}0" * 32, picture)
        self.assertFalse(store.has(digest))
        self.assertTrue(store.has("70" * 32))
        (self.folder / "kept" / "70" / ("70" * 32 + ".npz")).write_bytes(b"torn")
        self.assertIsNone(store.load("70" * 32))
