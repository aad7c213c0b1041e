"""How things stand in a room: pivots, one sun for all, the match to the plate."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.fields import raised
from plonket.document.bases import LayerBase
from plonket.document.follow import Follow
from plonket.document.perch import Perch
from plonket.document.shot import Footage, Shot
from plonket.document.spot import Spot
from plonket.image.grain_in_space import grain_of
from plonket.layers.model import MeshLayer, copies, order_for, pivot_at, stands
from plonket.looks.blur import Blur
from plonket.raytrace.request import Lights
from plonket.render.frame import render_frame
from plonket.render.match import match_to_plate
from plonket.room.meshes.files import read_model
from plonket.track.camera.settings import CameraMotion
from tests.core.furnished import RENDERER, Furnished, Rooms
from tests.core.test_scene import SIZE, camera


def tearDownModule() -> None:
    RENDERER.close()


class Standing(Rooms):
    def test_a_picked_pivot_stays_where_it_is_while_the_model_turns(self) -> None:
        layer = self.box("box", (0.3, 0.2, 0.16), x=0.03, z=-0.05, heading=25.0, tilt=8.0, lift=0.04)
        spot = self.spots["box"]
        model = read_model(self.files[layer.asset])
        for seen in (camera(), camera(k1=0.09)):
            m = stands(layer, seen, spot, 1)
            # A place on its front, seen through whatever lens.
            on_it = np.array([0.09, 0.13, 0.08])
            pixel = seen.project(1, m[:3, :3] @ on_it + m[:3, 3])
            found = pivot_at(layer, seen, spot, 1, (float(pixel[0]), float(pixel[1])), model)
            assert found is not None
            pivot, shift = found
            np.testing.assert_allclose(pivot, on_it, atol=2e-4)
            x, y, z = (raised(getattr(spot, a), float(d)) for a, d in zip("xyz", shift, strict=True))
            moved = spot.model_copy(update={"x": x, "y": y, "z": z})
            after = layer.model_copy(update={"pivot": tuple(pivot)})
            np.testing.assert_allclose(stands(after, seen, moved, 1), m, atol=1e-9)
            turned = stands(after.model_copy(update={"heading": 80.0, "tall": 0.3}), seen, moved, 1)
            np.testing.assert_allclose(turned[:3, :3] @ pivot + turned[:3, 3], m[:3, :3] @ pivot + m[:3, 3], atol=1e-9)
            self.assertGreater(float(np.abs(turned[:3, 3] - m[:3, 3]).max()), 0.05)
            self.assertIsNone(pivot_at(layer, seen, spot, 1, (4.0, 4.0), model))

    def test_copies_stand_in_rows_or_each_a_little_otherwise(self) -> None:
        layer = self.box("box", (0.2, 0.2, 0.1), x=0.1, heading=30.0, across=3, deep=2, across_gap=0.5, deep_gap=0.4)
        seen, spot = camera(), self.spots["box"]
        rows = copies(layer, seen, spot, 1)
        feet = np.array([m[:3, 3] for m in rows])
        right, back = feet[1] - feet[0], feet[3] - feet[0]
        self.assertAlmostEqual(float(np.linalg.norm(right)), 0.5)
        self.assertAlmostEqual(float(np.linalg.norm(back)), 0.4)
        self.assertAlmostEqual(float(right @ back), 0)
        np.testing.assert_allclose(feet[1], [0.1, 0, 0], atol=1e-12)
        varied = layer.model_copy(update={"scattered": 60.0, "copies_turned": 40.0, "copies_sized": 25.0})
        town = copies(varied, seen, spot, 1)
        off = np.array([m[:3, 3] for m in town]) - feet
        self.assertLessEqual(float(np.abs(off @ right / 0.5).max()), 0.3 * 0.5)
        self.assertLessEqual(float(np.abs(off @ back / 0.4).max()), 0.3 * 0.4)
        self.assertGreater(len({tuple(np.round(o, 6)) for o in off}), 5)
        np.testing.assert_allclose(off[:, 1], 0, atol=1e-12)
        for m, plain in zip(town, rows, strict=True):
            grown = float(np.linalg.norm(m[:3, 0]) / np.linalg.norm(plain[:3, 0]))
            self.assertTrue(0.75 <= grown <= 1.25)
            along = m[:3, 0] @ plain[:3, 0] / np.linalg.norm(m[:3, 0]) / np.linalg.norm(plain[:3, 0])
            turned = np.degrees(np.arccos(np.clip(along, -1, 1)))
            self.assertLessEqual(float(turned), 40.0001)
            np.testing.assert_allclose(m[:3, 1] / np.linalg.norm(m[:3, 1]), [0, 1, 0], atol=1e-12)
        # The same again; another seed is another crowd; one more beside them leaves the others.
        np.testing.assert_array_equal(copies(varied, seen, spot, 1), town)
        other = copies(varied.model_copy(update={"copies_seed": 2}), seen, spot, 1)
        self.assertGreater(float(np.abs(np.array(other) - town).max()), 0.01)
        deeper = copies(varied.model_copy(update={"deep": 3}), seen, spot, 1)
        np.testing.assert_array_equal(deeper[:6], town)
        # One by itself is as it stands.
        alone = varied.model_copy(update={"across": 1, "deep": 1})
        np.testing.assert_array_equal(copies(alone, seen, spot, 1)[0], stands(layer, seen, spot, 1))

    def test_models_of_a_room_have_one_sun(self) -> None:
        first = self.box("first", (0.2, 0.2, 0.2), sun=140.0, sun_heading=70.0, sun_soft=9.0, sky=30.0)
        second = self.box("second", (0.2, 0.2, 0.2), x=0.3, lit_like="first", sun=5.0)
        third = self.box("third", (0.2, 0.2, 0.2), x=-0.3, lit_like="second")
        loop = first.model_copy(update={"lit_like": "third"})

        def lights(layer: MeshLayer, *layers: LayerBase) -> Lights:
            sources = Furnished(camera(), self.spots, self.files, layers)
            made = order_for(layer, sources, 1, np.eye(3))
            assert made is not None
            return made[0].lights

        own = lights(first, first)
        for layer in (second, third):
            self.assertEqual(lights(layer, first, second, third), own)
            hidden = first.model_copy(update={"shown": False})
            self.assertEqual(lights(layer, hidden, second, third), own)
        # Where the other one is gone its own light holds, and a ring of them ends somewhere.
        self.assertEqual(lights(second, second), lights(second.model_copy(update={"lit_like": None}), second))
        self.assertNotEqual(lights(second, second), own)
        lights(third, loop, second, third)


class Matched(Rooms):
    def test_a_model_takes_the_plates_edges_and_grain_but_keeps_the_sets_light(self) -> None:
        rng = np.random.default_rng(3)
        code = np.full((SIZE[1], SIZE[0]), 70, np.float32)
        for _ in range(45):
            x, y = rng.integers(0, SIZE[0] - 50), rng.integers(0, SIZE[1] - 50)
            code[y : y + 40, x : x + 40] = rng.uniform(30, 220)
        code = cv2.GaussianBlur(code, (0, 0), 1.8)
        plate = code[..., None] + cv2.GaussianBlur(rng.normal(0, 1, (*code.shape, 3)), (0, 0), 0.5) * 5.2
        layer = self.box("box", (0.5, 0.5, 0.3), colour=(170, 150, 130), shadow=False)
        sources = Furnished(camera(), self.spots, self.files, [layer])
        sources.plates = {k: np.clip(plate + 0.5, 0, 255).astype(np.uint8) for k in range(3)}
        footage = Footage(asset=sources.footage, name="c", width=SIZE[0], height=SIZE[1], rate="30/1", frames=3, in_frame=0,
                          out_frame=2)  # fmt: skip
        perch = Perch(id="box", name="Box", spot=Spot(), follow=Follow(target="camera"))
        motion = CameraMotion(id="camera", name="Camera")
        layer = layer.model_copy(update={"id": "model"})
        sources.layers = [layer]
        shot = Shot(name="s", footage=footage, stack=[layer], perches=[perch], motions=[motion])
        found = match_to_plate(shot, sources, "model", 1)
        self.assertEqual([look.kind for look in found.looks], ["blur", "grain"])
        (blur,) = (look for look in found.looks if isinstance(look, Blur))
        self.assertAlmostEqual(float(blur.radius), 1.8, delta=0.45)  # type: ignore[arg-type]
        after = shot.model_copy(update={"stack": [layer.model_copy(update={"looks": found.looks})]})
        inside = cv2.erode((self.drawn(layer, sources)[..., 3] > 0.99).astype(np.uint8), np.ones((9, 9))) > 0
        bare, made = (render_frame(one, sources, 1).astype(np.float32) for one in (shot, after))
        flat = cv2.GaussianBlur(made, (0, 0), 6) - cv2.GaussianBlur(bare, (0, 0), 6)
        self.assertLess(float(np.abs(flat[inside]).mean()), 2.0, "its light is what it was")
        there = grain_of(np.asarray(sources.plates[1], np.float32))
        here = grain_of(made, inside)
        assert there is not None and here is not None
        self.assertAlmostEqual(here.strength[3][1] / there.strength[3][1], 1, delta=0.2)
