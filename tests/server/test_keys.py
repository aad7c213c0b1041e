"""Keys over the API: picking the cloth's colour in the picture, and how good a matte is."""

from __future__ import annotations

import numpy as np

from tests.core.test_key import CLOTHS, filmed
from tests.core.test_steady import write
from tests.server.test_plate import WithPlate


class Keys(WithPlate):
    def keyed(self) -> str:
        shot = self.shot_with_clip()
        rgb, _ = filmed(CLOTHS["green"])
        asset = self.page.upload(write(self.folder / "keeper.mp4", [rgb] * 3, crf=8))["Plonket-Asset"]
        layer = {"kind": "still", "id": "k", "name": "Keeper", "asset": asset, "width": 640, "height": 360, "x": 200.0,
                 "y": 180.0, "size": 50.0, "key": {"kind": "screen"}}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": layer})
        return shot

    def test_a_picked_colour_is_that_of_the_layers_own_picture(self) -> None:
        shot = self.keyed()
        rgb, _ = filmed(CLOTHS["green"])
        # The layer lies half as large about (200, 180): its own (40, 40) is seen at (60, 110).
        answer = self.page.json("GET", f"/shots/{shot}/layers/k/colour?frame=1&x0=60&y0=110&x1=60&y1=110")
        found = np.array([int(answer["colour"][k : k + 2], 16) for k in (1, 3, 5)])
        self.assertLess(float(np.abs(found - np.median(rgb[36:45, 36:45].reshape(-1, 3), axis=0)).max()), 9)
        box = self.page.json("GET", f"/shots/{shot}/layers/k/colour?frame=1&x0=45&y0=95&x1=75&y1=125")
        self.assertEqual(len(box["colour"]), 7)
        outside = self.page.json("GET", f"/shots/{shot}/layers/k/colour?frame=1&x0=600&y0=10&x1=600&y1=10", status=400)
        self.assertIn("Pick inside its picture", outside["message"])
        self.page.json("GET", f"/shots/{shot}/layers/none/colour?frame=1&x0=6&y0=1&x1=6&y1=1", status=404)

    def test_the_matte_is_judged_and_shown(self) -> None:
        shot = self.keyed()
        told = self.page.json("GET", f"/shots/{shot}/layers/k/matte?frame=1")
        self.assertLess(told["noise"], 0.05)
        # The blurred arm and the pane of glass are not solid; the rest is.
        self.assertLess(told["holes"], 0.02)
        self.assertTrue(0.15 < told["covered"] < 0.4, told)
        matte = self.picture(shot, "matte", 1)
        self.assertGreater(float(matte[165, 200].min()), 240)
        self.assertLess(float(matte[110, 60].max()), 12)
        self.edit(shot, {"op": "replace", "path": "/stack/0/key", "value": None})
        self.assertIsNone(self.page.json("GET", f"/shots/{shot}/layers/k/matte?frame=1"))
        bad = self.edit(shot, {"op": "replace", "path": "/stack/0/key", "value": {"kind": "magic"}}, status=400)
        self.assertIn("key", str(bad["message"]))

    def test_keys_tell_their_forms(self) -> None:
        kinds = [k["kind"] for k in self.page.json("GET", "/kinds/key")]
        self.assertEqual(kinds, ["screen", "brightness", "colours", "difference", "cutout", "picked"])
