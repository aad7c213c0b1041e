"""A picture on a hinge: where its halves are, which hides the other, and what they show."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from plonket.base.conventions import F64
from plonket.base.fields import value_at
from plonket.layers.still import StillLayer, frame_from_still
from plonket.render.sources import ShotSources
from tests.core.test_crowd import TALL, WIDE, Cards

RED, BLUE = 0, 2


class Hinged(Cards):
    def at(self, rgba: F64, place: tuple[float, float, float]) -> F64:
        x, y = (int(v) for v in self.seen.project(1, np.array(place)))
        return np.asarray(rgba[y, x])

    def test_flat_it_is_the_picture_itself(self) -> None:
        plain = self.drawn(self.shot(size=200.0))
        folded = self.drawn(self.shot(size=200.0, hinged=True, fold=0.0))
        x = int(self.seen.project(1, np.array([0.0, 0.1, 0.0]))[0])
        off = np.abs(folded - plain)
        # Along the hinge both halves cover a pixel, and none shines through.
        self.assertGreater(float((folded - plain)[..., 3].min()), -2e-3)
        off[:, x - 1 : x + 2] = 0
        self.assertLess(float(off.max()), 2e-3)

    def test_its_halves_come_to_the_front(self) -> None:
        """Each where a turn about the line between them puts it; where it lay before, the other side of the hinge too, is empty."""
        for fold in (60.0, -60.0):
            rgba = self.drawn(self.shot(size=300.0, hinged=True, fold=fold))
            c, s = np.cos(np.radians(fold)), np.sin(np.radians(fold))
            for side, colour in ((-1, RED), (1, BLUE)):
                one = self.at(rgba, (side * 0.07 * c, 0.15, 0.07 * s))
                self.assertGreater(one[3], 0.99)
                self.assertEqual(int(np.argmax(one[:3])), colour)
                self.assertLess(self.at(rgba, (side * 0.105, 0.15, 0.0))[3], 0.01)

    def test_the_nearer_half_hides_the_other(self) -> None:
        """A card nearly shut, seen from each side: only the half that is turned to the camera is seen."""
        for heading, colour in ((70.0, RED), (-70.0, BLUE)):
            rgba = self.drawn(self.shot(size=300.0, hinged=True, fold=80.0, heading=heading))
            seen = rgba[rgba[..., 3] > 0.99]
            self.assertGreater(len(seen), 100)
            self.assertGreater(float((seen[:, colour] > seen[:, 2 - colour]).mean()), 0.85, heading)

    def test_however_it_is_placed_each_corner_is_where_a_turn_puts_it(self) -> None:
        keys = {"keys": [{"frame": 0, "value": 0.0}, {"frame": 2, "value": 110.0}]}
        for more in ({}, {"turn": 33.0, "x": 20.0}, {"anchor_x": 10.0, "anchor_y": 90.0, "turn": -70.0, "size": 160.0, "y": -90.0}):
            shot = self.shot(hinged=True, fold=keys, heading=20.0, **more)
            layer = shot.stack[0]
            assert isinstance(layer, StillLayer)
            sources = ShotSources(shot, self.pool)
            right, up = shot.perches[0].spot.axes(1, self.seen.eye(1), self.seen.turn(1))  # type: ignore[union-attr]
            turn = np.radians(float(more.get("turn", 0.0)))
            rotated = np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
            anchor = np.array([more.get("anchor_x", 50.0) * WIDE, more.get("anchor_y", 50.0) * TALL]) / 100

            def flat(px: Any, more: Any = more, rotated: Any = rotated, anchor: Any = anchor, ways: Any = (right, up)) -> F64:
                own = rotated @ (np.array(px) - anchor) * more.get("size", 100.0) / 100 + [more.get("x", 0.0), more.get("y", -TALL / 2)]
                return np.asarray(0.002 * (own[0] * ways[0] - own[1] * ways[1]))

            top, bottom = flat((WIDE / 2, 0)), flat((WIDE / 2, TALL))
            axis = (top - bottom) / np.linalg.norm(top - bottom)
            for half, side, x in zip(sources.copies(layer), (-1, 1), (0, WIDE), strict=True):
                folded = Rotation.from_rotvec(-side * np.radians(55.0) * axis)
                matrix = frame_from_still(half, sources.spaces, 1)  # type: ignore[arg-type]
                for y in (0, TALL):
                    true = self.seen.project(1, bottom + folded.apply(flat((x, y)) - bottom))
                    got = matrix @ [x, y, 1.0]
                    np.testing.assert_allclose(got[:2] / got[2], true, atol=0.35)

    def test_mirrored_and_cut_it_shows_what_it_did(self) -> None:
        rgba = self.drawn(self.shot(size=300.0, hinged=True, fold=40.0, mirror="across", crop_left=40.0))
        c, s = np.cos(np.radians(40)), np.sin(np.radians(40))
        self.assertEqual(int(np.argmax(self.at(rgba, (-0.07 * c, 0.15, 0.07 * s))[:3])), BLUE)
        # What is cut off its own left lies on the right now.
        self.assertLess(self.at(rgba, (0.07 * c, 0.15, 0.07 * s))[3], 0.01)
        self.assertEqual(int(np.argmax(self.at(rgba, (0.01 * c, 0.15, 0.01 * s))[:3])), RED)

    def test_a_flock_is_of_halves(self) -> None:
        shot = self.shot(hinged=True, across=3, across_gap=0.3)
        layers = ShotSources(shot, self.pool).copies(shot.stack[0])
        self.assertEqual(len({one.id for one in layers}), 6)
        self.assertEqual(layers[0].id, "card")

    def test_a_flock_flaps_out_of_step(self) -> None:
        """Each by its own lateness, as its clip would run; in step without any."""
        keys = {"keys": [{"frame": k, "value": 50.0 * (k % 2)} for k in range(3)]}
        for late, apart in ((0.0, False), (3.0, True)):
            shot = self.shot(hinged=True, across=4, across_gap=0.3, fold=keys, copies_late=late)
            layers = ShotSources(shot, self.pool).copies(shot.stack[0])
            self.assertEqual(len({one.starts for one in layers}) > 1, apart)  # type: ignore[attr-defined]
            for one in layers:
                for frame in range(3):
                    self.assertAlmostEqual(value_at(one.fold, frame + one.starts), value_at(shot.stack[0].fold, frame))  # type: ignore[attr-defined]

    def test_on_the_picture_alone_it_stays_flat(self) -> None:
        shot = self.shot(hinged=True)
        card = shot.stack[0].model_copy(update={"follow": shot.stack[0].follow.model_copy(update={"target": None})})  # type: ignore[attr-defined]
        self.assertEqual(ShotSources(shot.model_copy(update={"stack": [card]}), self.pool).copies(card), [card])
