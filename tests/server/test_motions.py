"""Planes, followers, slip, the adviser, and files in and out, over the API."""

from __future__ import annotations

import json

import cv2
import numpy as np

from jobs.models import Job
from plonket.base.outlines import carry
from shots.models import Revision, SlipCheck
from tests.core.shots import chart_corners, plain_shot
from tests.server.test_server import WithFolder

SVG = '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 640 360"><path id="frame" d="M10 10 L90 12 L80 70 Z"/></svg>'


def corners() -> np.ndarray:
    return chart_corners(plain_shot())[:30]


class WithPlane(WithFolder):
    def edit(self, shot: str, *patch: dict[str, object], status: int = 200) -> dict[str, object]:
        return self.page.json("POST", f"/shots/{shot}/edits", {"label": "x", "patch": list(patch)}, status=status)  # type: ignore[no-any-return]

    def add_plane(self, shot: str) -> None:
        quad = corners()[0]
        middle = quad.mean(axis=0)
        points = [{"x": float(x), "y": float(y)} for x, y in middle + (quad - middle) * 0.98]
        region = {"id": "r", "name": "Chart", "outline": {"keys": [{"frame": 0, "points": points}]}}
        plane = {"kind": "plane", "id": "plane", "name": "Sea chart", "quad": quad.tolist(), "regions": [region]}
        self.edit(shot, {"op": "add", "path": "/motions/-", "value": plane})

    def pinned_shot(self) -> str:
        """A shot with a measured plane and a picture pinned to it."""
        shot = self.shot_with_clip()
        self.add_plane(shot)
        self.page.json("POST", f"/shots/{shot}/motions/plane/measure", {})
        asset = self.page.upload(self.still())["Plonket-Asset"]
        pin = {"kind": "pin", "id": "pin", "name": "Red", "asset": asset, "width": 40, "height": 40, "plane": "plane"}
        self.edit(shot, {"op": "add", "path": "/stack/0", "value": pin})
        return shot


class Planes(WithPlane):
    def test_measured_plane_is_true_and_told_frame_by_frame(self) -> None:
        shot = self.shot_with_clip()
        self.add_plane(shot)
        job = self.page.json("POST", f"/shots/{shot}/motions/plane/measure", {})
        self.assertEqual(Job.objects.get(pk=job["id"]).state, "done")
        digest = self.page.json("GET", f"/shots/{shot}")["document"]["motions"][0]["measurement"]
        plane = self.page.json("GET", f"/measurements/{digest}")["plane"]
        found = np.array(plane["homography"]).reshape(-1, 3, 3)
        for i, truth in enumerate(corners()):
            self.assertLess(np.abs(carry(corners()[0], found[i]) - truth).max(), 0.3, i)
        rows = [r for e in self.page.json("GET", f"/jobs/{job['id']}/partial") for r in e["rows"]]
        self.assertEqual({int(r[0]) for r in rows}, set(range(30)))
        np.testing.assert_allclose(rows[-1][5:], found[int(rows[-1][0])].ravel())

    def test_stakes_bend_the_movement_without_measuring_again(self) -> None:
        shot = self.pinned_shot()
        before = self.movement(shot, "plane", 0)
        at = (corners()[20, 1] + [6.0, -5.0]).tolist()
        stake = {"frame": 20, "corners": [None, at, None, None]}
        answer = self.edit(shot, {"op": "add", "path": "/motions/0/stakes/-", "value": stake})
        after = self.movement(shot, "plane", 0)
        np.testing.assert_allclose(carry(corners()[0], after[20].reshape(3, 3))[1], at, atol=1e-3)
        np.testing.assert_allclose(after[0], before[0], atol=1e-9)
        self.assertEqual(Job.objects.filter(kind="measure").count(), 1)
        # The pictures are other ones now.
        earlier = Revision.objects.filter(shot=shot).order_by("-number")[1]
        self.assertNotEqual(answer["picture"], earlier.picture)

    def test_pinned_and_held_still_pictures(self) -> None:
        shot = self.pinned_shot()
        picture = self.page.json("GET", f"/shots/{shot}")["picture"]

        def red(view: str, frame: int) -> np.ndarray:
            answer = self.page.get(f"/frames/{shot}/{picture}/{view}/100/{frame}.jpg")
            self.assertEqual(answer.status_code, 200, answer.content[:200])
            rgb = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_COLOR)[..., ::-1].astype(float)
            weight = np.clip((rgb[..., 0] - rgb[..., 1:].max(axis=2) - 60) / 100, 0, 1)
            y, x = np.mgrid[0:360, 0:640] + 0.5
            return np.array([(x * weight).sum(), (y * weight).sum()]) / weight.sum()

        inner = [plain_shot().on_chart(u, v) for u, v in ((1 / 8, 1 / 8), (7 / 8, 1 / 8), (7 / 8, 7 / 8), (1 / 8, 7 / 8))]

        def centroid(i: int) -> np.ndarray:
            """Of the area that the red square covers: in perspective neither its middle nor the mean of its corners."""
            m = cv2.moments(np.array([[p[i] for p in inner]], np.float32))
            return np.array([m["m10"], m["m01"]]) / m["m00"]

        drift = centroid(29) - centroid(0)
        self.assertGreater(np.abs(drift).max(), 2)
        np.testing.assert_allclose(red("final", 29) - red("final", 0), drift, atol=0.5)
        np.testing.assert_allclose(red("held-plane", 29), red("held-plane", 0), atol=0.3)
        self.assertIn(self.page.get(f"/frames/{shot}/{picture}/held-nothing/50/0.jpg").status_code, (400, 404))

    def test_taking_a_plane_away_under_a_pin_is_refused(self) -> None:
        shot = self.pinned_shot()
        answer = self.edit(shot, {"op": "remove", "path": "/motions/0"}, status=400)
        self.assertIn("pinned to a plane", str(answer["message"]))


class Checks(WithPlane):
    def test_slip_is_measured_and_forgotten_when_things_move(self) -> None:
        shot = self.pinned_shot()
        self.page.json("POST", f"/shots/{shot}/slip", {})
        found = self.page.json("GET", f"/shots/{shot}/slip")
        self.assertEqual([s["layer"] for s in found], ["pin"])
        self.assertLess(found[0]["rms_px"], 0.2)
        self.assertEqual(found[0]["worst"], [])
        # How it looks does not matter; where it is does.
        self.edit(shot, {"op": "replace", "path": "/stack/0/opacity", "value": 40.0})
        self.assertEqual(len(self.page.json("GET", f"/shots/{shot}/slip")), 1)
        at = (corners()[15, 0] + [9.0, 0.0]).tolist()
        stake = {"frame": 15, "corners": [at, None, None, None]}
        self.edit(shot, {"op": "add", "path": "/motions/0/stakes/-", "value": stake})
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/slip"), [])
        self.page.json("POST", f"/shots/{shot}/slip", {})
        found = self.page.json("GET", f"/shots/{shot}/slip")
        self.assertTrue(any(w["first"] <= 15 <= w["last"] for w in found[0]["worst"]), found[0]["worst"])

    def test_followers_are_checked_when_their_motion_is_measured(self) -> None:
        shot = self.pinned_shot()
        self.assertEqual(SlipCheck.objects.count(), 0)
        self.page.json("POST", f"/shots/{shot}/motions/plane/measure", {"direction": "forward", "origin": 3})
        self.assertEqual(SlipCheck.objects.count(), 1)
        answer = self.page.json("POST", f"/shots/{self.new_shot()}/slip", {}, status=400)
        self.assertIn("Nothing in the stack", answer["message"])

    def test_advice_comes_from_the_clip_and_is_kept(self) -> None:
        shot = self.shot_with_clip()
        asset = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]["asset"]
        first = self.page.json("GET", f"/clips/{asset}/advice?start=0&stop=30")
        self.assertEqual(first["suggestions"][0]["kind"], "plane")
        self.assertEqual(self.page.json("GET", f"/clips/{asset}/advice?start=0&stop=30"), first)
        self.assertEqual(self.page.get(f"/clips/{asset}/advice?start=20&stop=99").status_code, 400)


class Files(WithPlane):
    def test_out_and_in_again(self) -> None:
        shot = self.pinned_shot()
        texts = {}
        for form in ("plane.json", "corners.csv", "regions.svg"):
            answer = self.page.get(f"/shots/{shot}/motions/plane/export/{form}")
            self.assertIn(form, answer["Content-Disposition"])
            texts[form] = answer.content.decode()
        self.assertEqual(self.page.get(f"/shots/{shot}/motions/plane/export/points.csv").status_code, 400)
        for k, form in enumerate(("plane.json", "corners.csv"), start=1):
            answer = self.page.json("POST", f"/shots/{shot}/motions/import", {"name": f"my {form}", "text": texts[form]})
            motion = answer["document"]["motions"][k]
            self.assertEqual((motion["kind"], motion["name"]), ("plane", f"my {form.split('.')[0]}"))
            path = self.movement(shot, motion["id"], 0)
            moved = carry(corners()[0], path[25].reshape(3, 3))
            self.assertLess(np.abs(moved - corners()[25]).max(), 0.4)
        points = "name,frame,x,y,confidence,state\nlamp,2,10.5,20.25,1,given\nlamp,3,11,21,1,tracked\n"
        answer = self.page.json("POST", f"/shots/{shot}/motions/import", {"name": "lamp.csv", "text": points})
        self.assertEqual(answer["document"]["motions"][3]["points"][0]["given"], [{"frame": 2, "x": 10.5, "y": 20.25}])
        answer = self.page.json("POST", f"/shots/{shot}/motions/plane/regions", {"text": SVG})
        regions = answer["document"]["motions"][0]["regions"]
        self.assertEqual([r["name"] for r in regions], ["Chart", "frame"])
        self.assertEqual(self.page.json("POST", f"/shots/{shot}/undo")["number"], answer["number"] - 1)

    def test_wrong_files_change_nothing(self) -> None:
        shot = self.pinned_shot()
        before = self.page.json("GET", f"/shots/{shot}")["number"]
        late = json.dumps({"reference_frame": 0, "frames": [{"frame": 500, "homography": [1, 0, 0, 0, 1, 0, 0, 0, 1]}]})
        for text, word in (("nonsense", "columns"), ("{}", "points"), (late, "clip ends")):
            answer = self.page.json("POST", f"/shots/{shot}/motions/import", {"name": "x.csv", "text": text}, status=422)
            self.assertIn(word, answer["message"])
        answer = self.page.json("POST", f"/shots/{shot}/motions/plane/regions", {"text": "<svg"}, status=422)
        self.assertIn("SVG", answer["message"])
        self.assertEqual(self.page.json("GET", f"/shots/{shot}")["number"], before)
