"""The treated plate over the API: where the view lies, which pictures change with it, what is refused."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.outline import carry
from tests.server.test_motions import WithPlane, corners

STEADY = {"kind": "steady", "id": "steady", "name": "Steady", "targets": ["plane"], "fit": "none"}


class Plate(WithPlane):
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
        self.assertEqual(set(kinds), {"steady", "handheld", "mend"})
        for schema in kinds.values():
            hints = [p["x-plonket"] for p in schema["properties"].values() if "x-plonket" in p]
            self.assertTrue(all(h["label"] for h in hints))
            self.assertGreater(len(hints), 4)
