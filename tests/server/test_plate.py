"""The treated plate over the API: where the view lies, which pictures change with it, what is refused."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.outlines import carry
from tests.server.test_motions import WithPlane, corners

STEADY = {"kind": "steady", "id": "steady", "name": "Steady", "targets": ["plane"], "fit": "none"}


class WithPlate(WithPlane):
    """A measured plane, and pictures of the shot as they are shown."""

    def measured(self) -> str:
        shot = self.shot_with_clip()
        self.add_plane(shot)
        self.page.json("POST", f"/shots/{shot}/motions/plane/measure", {})
        return shot

    def picture(self, shot: str, view: str, frame: int) -> np.ndarray:
        digest = self.page.json("GET", f"/shots/{shot}")["picture"]
        answer = self.page.get(f"/frames/{shot}/{digest}/{view}/100/{frame}.jpg")
        self.assertEqual(answer.status_code, 200, answer.content[:200])
        found = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_COLOR)
        assert found is not None
        return found.astype(np.float32)


class Plate(WithPlate):
    def test_the_view_holds_the_plane_and_is_kept_by_revision(self) -> None:
        shot = self.measured()
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/view")["matrices"], [])
        before = self.picture(shot, "plate", 20)
        self.edit(shot, {"op": "add", "path": "/plate/-", "value": STEADY})
        number = self.page.json("GET", f"/shots/{shot}")["number"]
        seen = self.page.json("GET", f"/shots/{shot}/view")
        self.assertEqual((len(seen["matrices"]), seen["says"]), (30, ""))
        for m, truth in zip(seen["matrices"], corners(), strict=True):
            self.assertLess(np.abs(carry(truth, np.array(m).reshape(3, 3)) - corners()[0]).max(), 0.4)
        # Final and plate both show it steadied, and the untouched clip stays as it was.
        for view in ("plate", "final"):
            self.assertGreater(float(np.abs(self.picture(shot, view, 20) - before).mean()), 1.0)
        zoomed = {"op": "replace", "path": "/plate/0/fit", "value": "zoom"}
        self.edit(shot, zoomed)
        self.assertGreater(self.page.json("GET", f"/shots/{shot}/view")["zoom"][0], 1.01)
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/view?number={number}")["zoom"][0], 1.0)
        self.assertGreater(float(self.picture(shot, "final", 20)[[0, -1]].min()), 3)
        self.page.json("POST", f"/shots/{shot}/undo", {})
        self.page.json("POST", f"/shots/{shot}/undo", {})
        np.testing.assert_array_equal(self.picture(shot, "plate", 20), before)

    def test_the_movement_is_given_back_and_what_was_placed_held_goes_along(self) -> None:
        shot = self.measured()
        asset = self.page.upload(self.still())["Plonket-Asset"]
        still = {"kind": "still", "id": "s", "name": "S", "asset": asset, "width": 40, "height": 40, "x": 320.0, "y": 180.0}
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": still},
                  {"op": "add", "path": "/plate/-", "value": {**STEADY, "give_back": True}})  # fmt: skip
        seen = self.page.json("GET", f"/shots/{shot}/view")
        np.testing.assert_allclose(seen["matrices"], np.tile(np.eye(3).ravel(), (30, 1)))
        held = np.array(seen["held"]).reshape(-1, 3, 3)
        for m, truth in zip(held, corners(), strict=True):
            self.assertLess(np.abs(carry(truth, m) - corners()[0]).max(), 0.4)

        def middle(view: str, frame: int) -> np.ndarray:
            red = self.picture(shot, view, frame)
            mask = (red[..., 2] > 170) & (red[..., 1] < 90) & (red[..., 0] < 90)
            return np.argwhere(mask).mean(axis=0)[::-1] + 0.5

        untouched = self.picture(shot, "plate", 20)
        for frame in (0, 20):
            self.assertLess(float(np.abs(middle("worked", frame) - [320, 180]).max()), 0.6)
        back = carry(np.array([[320.0, 180.0]]), np.linalg.inv(held[20]))[0]
        self.assertGreater(float(np.abs(back - [320, 180]).max()), 2.0)
        self.assertLess(float(np.abs(middle("final", 20) - back).max()), 0.6)
        # The footage itself is not sampled at all: it is as it was filmed, to the last code.
        self.edit(shot, {"op": "remove", "path": "/plate/0"})
        np.testing.assert_array_equal(self.picture(shot, "plate", 20), untouched)

    def test_the_shutter_is_judged_only_where_something_tells(self) -> None:
        shot = self.shot_with_clip()
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/readout"), {"share": None, "motion": None})
        self.add_plane(shot)
        self.page.json("POST", f"/shots/{shot}/motions/plane/measure", {})
        told = self.page.json("GET", f"/shots/{shot}/readout")
        # The fast phone exposes all rows at once here.
        self.assertTrue(told["share"] is None or told["share"] < 0.12, told)

    def test_what_cannot_be_held_is_refused_in_words(self) -> None:
        shot = self.measured()
        answer = self.edit(shot, {"op": "add", "path": "/plate/-", "value": {**STEADY, "targets": ["nothing"]}}, status=400)
        self.assertIn("not in the shot", str(answer["message"]))
        self.edit(shot, {"op": "add", "path": "/plate/-", "value": STEADY})
        answer = self.edit(shot, {"op": "remove", "path": "/motions/0"}, status=400)
        self.assertIn("Steady", str(answer["message"]))
        answer = self.edit(shot, {"op": "add", "path": "/plate/-", "value": {**STEADY, "id": "second"}}, status=400)
        self.assertIn("steadied once", str(answer["message"]))

    def test_treatments_tell_their_forms(self) -> None:
        kinds = {k["kind"]: k["schema"] for k in self.page.json("GET", "/kinds/treatment")}
        self.assertEqual(set(kinds), {"steady", "handheld", "mend", "clean", "degrain"})
        for schema in kinds.values():
            hints = [p["x-plonket"] for p in schema["properties"].values() if "x-plonket" in p]
            self.assertTrue(all(h["label"] for h in hints))
            self.assertGreater(len(hints), 3)
