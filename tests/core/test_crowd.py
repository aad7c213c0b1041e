"""A standee several times: where the copies stand, how they differ, and in which order they hide each other."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from plonket.base.conventions import F64
from plonket.document.perch import Perch
from plonket.document.shot import Footage, Shot
from plonket.layers.still import StillLayer, crowd_of
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from plonket.render.stack import lay_stack
from plonket.track.camera.settings import CameraMotion
from tests.core.test_scene import SIZE, camera

W, H = SIZE
TALL, WIDE = 100, 40


class Cards(unittest.TestCase):
    """A card, red on its left and blue on its right, that stands in a room."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "card.png"
        # Red on its left, blue on its right.
        card = np.zeros((TALL, WIDE, 4), np.uint8)
        card[..., 3] = 255
        card[:, : WIDE // 2, 2] = 255
        card[:, WIDE // 2 :, 0] = 255
        cv2.imwrite(str(self.path), card)
        self.seen = camera()
        self.pool = MediaPool(lambda _asset: self.path, lambda _digest: self.seen.track)
        self.addCleanup(self.pool.close)

    def shot(self, **more: Any) -> Shot:
        """Cards of 20 cm on the ground, their foot on the spot."""
        footage = Footage(asset="f" * 64, name="f", width=W, height=H, rate="25/1", frames=3, in_frame=0, out_frame=2)
        motion = CameraMotion(id="camera", name="Camera", measurement="c" * 64)
        follow = {"target": "camera", "perspective": True}
        perch = Perch.model_validate({"id": "here", "name": "Here", "follow": follow,
                                      "spot": {"pixel_mm": 2.0, "heading": more.pop("heading", 0.0)}})  # fmt: skip
        still = StillLayer.model_validate({
            "id": "card", "name": "card", "asset": "a" * 64, "width": WIDE, "height": TALL, "y": -TALL / 2,
            "follow": {"target": "here", "perspective": True}, **more})  # fmt: skip
        return Shot.model_validate({"name": "s", "footage": footage, "motions": [motion], "perches": [perch], "stack": [still]})

    def drawn(self, shot: Shot) -> F64:
        canvas = np.zeros((H, W, 4), np.float32)
        return np.asarray(lay_stack(canvas, shot.stack, ShotSources(shot, self.pool), 1, np.eye(3), 1.0), np.float64)

    def covers(self, rgba: F64, place: tuple[float, float, float]) -> float:
        x, y = (int(v) for v in self.seen.project(1, np.array(place)))
        return float(rgba[y, x, 3])


class Crowd(Cards):
    def test_rows_stand_on_the_ground_by_the_spots_heading(self) -> None:
        for heading in (0.0, 25.0):
            rgba = self.drawn(self.shot(across=3, deep=2, across_gap=0.3, deep_gap=0.4, heading=heading))
            c, s = np.cos(np.radians(heading)), np.sin(np.radians(heading))
            for i in (-1, 0, 1):
                for j in (0, 1):
                    along, back = 0.3 * i, -0.4 * j
                    foot = (c * along + s * back, c * back - s * along)
                    self.assertGreater(self.covers(rgba, (foot[0], 0.17, foot[1])), 0.99)
            between = (c * 0.15, s * -0.15)
            self.assertLess(self.covers(rgba, (between[0], 0.02, between[1])), 0.01)

    def test_nearer_ones_hide_those_behind(self) -> None:
        """Each card half hides the next one's other colour: the near one is whole, whatever order they are made in."""
        for gap in (0.05, -0.05):
            shot = self.shot(across=1, deep=6, deep_gap=gap)
            rgba = self.drawn(shot)
            near = max(0.0, -gap * 5)
            for side, channel in ((-0.02, 0), (0.02, 2)):
                x, y = (int(v) for v in self.seen.project(1, np.array([side, 0.05, near])))
                self.assertGreater(float(rgba[y, x, channel]), 0.9)

    def test_each_a_little_otherwise(self) -> None:
        still = self.shot(across=5, deep=3, scattered=50.0, copies_sized=30.0, copies_mirrored=True, copies_late=20.0)
        layer, perch = still.stack[0], still.perches[0]
        assert isinstance(layer, StillLayer)
        layers, perches = crowd_of(layer, perch)
        self.assertEqual(len(layers), 15)
        self.assertEqual(layers[0].id, "card")
        self.assertEqual(len({one.id for one in layers} | {p.id for p in perches}), 30)
        sizes = np.array([one.size for one in layers], np.float64)
        self.assertTrue((sizes >= 70).all() and (sizes <= 130).all() and np.ptp(sizes) > 20)
        # Whatever their size they stand on their foot.
        np.testing.assert_allclose([one.y / one.size for one in layers], -TALL / 200)  # type: ignore[operator]
        self.assertEqual({one.mirror for one in layers}, {"no", "across"})
        late = [one.starts for one in layers]
        self.assertTrue(max(map(abs, late)) <= 20 and len(set(late)) > 5)
        self.assertEqual([one.model_dump() for one in crowd_of(layer, perch)[0]], [one.model_dump() for one in layers])
        more = crowd_of(layer.model_copy(update={"deep": 4}), perch)[0]
        self.assertEqual([one.size for one in more[:15]], [one.size for one in layers])

    def test_one_alone_and_one_in_no_room_are_as_they_were(self) -> None:
        alone = self.drawn(self.shot())
        self.assertGreater(self.covers(alone, (0.0, 0.1, 0.0)), 0.99)
        shot = self.shot(across=4)
        loose = shot.model_copy(update={"stack": [shot.stack[0].model_copy(update={
            "follow": shot.stack[0].follow.model_copy(update={"target": None})})]})  # type: ignore[union-attr] # fmt: skip
        self.assertEqual(len(ShotSources(loose, self.pool).copies(loose.stack[0])), 1)

    def test_too_many_are_refused(self) -> None:
        with self.assertRaisesRegex(ValueError, "at most 64"):
            self.shot(across=16, deep=8)
