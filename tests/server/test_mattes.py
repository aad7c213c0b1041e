"""Mattes over the API: picked, measured, shown, and used in one step."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from jobs.models import Job
from library.pool import pool
from plonket.base.outlines import Outline, control_points, fill, flatten
from plonket.media.write import Coding, VideoWriter
from plonket.track.matte.matte_track import MatteTrack
from tests.core.test_pick import FRAMES, SIZE, deepest, likeness, walk
from tests.server.test_plate import WithPlate


class Mattes(WithPlate):
    def walked(self) -> Path:
        path = self.folder / "walk.mp4"
        with VideoWriter(path, SIZE, Fraction(25), coding=Coding(crf=8)) as out:
            for frame in walk("brick.png", "coffee.png", 2)[0]:
                out.write(frame)
        return path

    def click(self, frame: int, *, subject: bool = True) -> dict[str, Any]:
        x, y = deepest(walk("brick.png", "coffee.png", 2)[1][frame])
        return {"frame": frame, "x": x, "y": y, "subject": subject}

    def with_matte(self, *clicks: dict[str, Any]) -> str:
        shot = self.shot_with_clip(self.walked())
        matte = {"kind": "matte", "id": "walker", "name": "Walker", "clicks": list(clicks)}
        self.edit(shot, {"op": "add", "path": "/motions/-", "value": matte})
        return shot

    def seen(self, shot: str, frame: int) -> tuple[np.ndarray, str]:
        """Coverage 0 to 1 of a matte's picture, and how it is known."""
        answer = self.page.get(f"/shots/{shot}/motions/walker/mattes/{frame}.png")
        self.assertEqual((answer.status_code, answer["Content-Type"]), (200, "image/png"))
        found = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_UNCHANGED)
        assert found is not None
        return found[..., 3] / np.float32(255), answer["X-Plonket-Matte"]

    def test_a_click_is_seen_at_once_and_measured_through_the_clip(self) -> None:
        truth = walk("brick.png", "coffee.png", 2)[1]
        shot = self.with_matte(self.click(4))
        cover, says = self.seen(shot, 4)
        self.assertEqual(says, "clicked")
        self.assertGreater(likeness(cover, truth[4]), 0.86)
        self.assertEqual(self.seen(shot, 2)[1], "none")
        job = self.page.json("POST", f"/shots/{shot}/motions/walker/measure", {})
        self.assertEqual(Job.objects.get(pk=job["id"]).state, "done")
        rows = [r for e in self.page.json("GET", f"/jobs/{job['id']}/partial") for r in e["rows"]]
        self.assertEqual(sorted(r[0] for r in rows), list(range(FRAMES)))
        for frame in (0, 4, FRAMES - 1):
            cover, says = self.seen(shot, frame)
            self.assertEqual(says, "measured")
            self.assertGreater(likeness(cover, truth[frame]), 0.86)
        motion = self.page.json("GET", f"/shots/{shot}")["document"]["motions"][0]
        told = self.page.json("GET", f"/measurements/{motion['measurement']}")
        self.assertEqual((told["frames"], told["points"], told["plane"], told["camera"]), (FRAMES, [], None, None))
        self.assertEqual(told["whole"]["state"][4], 3)
        # Drawn round, it is an outline that can be followed; the mask by the matte is off.
        card = {"kind": "fill", "id": "card", "name": "Card", "masks": [
            {"kind": "picked", "id": "p", "name": "Walker", "motion": "walker"}]}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": card})
        none = self.page.json("POST", f"/shots/{shot}/masks/card/none/outline", {"frame": 4}, status=400)
        self.assertIn("Only what a matte covers", none["message"])
        drawn = self.page.json("POST", f"/shots/{shot}/masks/card/p/outline", {"frame": 4})["document"]["stack"][0]["masks"]
        self.assertEqual((drawn[0]["shown"], drawn[1]["kind"], drawn[1]["mode"]), (False, "outline", "add"))
        outline = Outline.model_validate(drawn[1]["outline"])
        self.assertEqual(outline.keys[0].frame, 4)
        inside = fill(flatten(control_points(outline, 4)), SIZE) / np.float32(255)
        self.assertGreater(likeness(inside, truth[4]), 0.85)
        for _ in range(2):
            self.page.json("POST", f"/shots/{shot}/undo", {})
        # A click more makes what it reaches old; undone, it is as measured.
        self.edit(shot, {"op": "add", "path": "/motions/0/clicks/-", "value": self.click(8)})
        self.assertEqual([self.seen(shot, f)[1] for f in (3, 6, 8)], ["measured", "old", "clicked"])
        self.page.json("POST", f"/shots/{shot}/undo", {})
        self.assertEqual(self.seen(shot, 8)[1], "measured")

    def test_where_nothing_stands_out_the_answer_says_so(self) -> None:
        shot = self.with_matte({"frame": 0, "x": 5.0, "y": 5.0, "subject": False})
        refused = self.page.json("POST", f"/shots/{shot}/motions/walker/measure", {})
        self.assertIn("Click on what is meant", Job.objects.get(pk=refused["id"]).message)
        self.page.json("GET", f"/shots/{shot}/motions/walker/mattes/{FRAMES}.png", status=404)
        self.page.json("GET", f"/shots/{shot}/motions/nobody/mattes/0.png", status=400)

    def test_it_is_brought_forward_taken_out_and_ignored_in_one_step_each(self) -> None:
        shot = self.with_matte(self.click(0))
        self.page.json("POST", f"/shots/{shot}/motions/walker/measure", {})
        answer = self.page.json("POST", f"/shots/{shot}/motions/walker/use", {"use": "front"})
        layer = answer["shot"]["document"]["stack"][0]
        self.assertEqual((layer["id"], layer["kind"], layer["key"]["motion"]), (answer["made"], "plate", "walker"))
        white = {"kind": "fill", "id": "white", "name": "white", "first": "#ffffff"}
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": white})
        truth = walk("brick.png", "coffee.png", 2)[1][6]
        front = self.picture(shot, "final", 6)
        self.assertGreater(float(front[truth < 0.01].mean()), 240)
        inside = cv2.erode((truth > 0.99).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        self.assertLess(float(np.abs(front - self.picture(shot, "plate", 6))[inside].mean()), 3)
        self.page.json("POST", f"/shots/{shot}/undo", {})
        self.page.json("POST", f"/shots/{shot}/undo", {})

        answer = self.page.json("POST", f"/shots/{shot}/motions/walker/use", {"use": "take out"})
        mend = answer["shot"]["document"]["plate"][0]
        self.assertEqual((mend["kind"], mend["method"], mend["masks"][0]["motion"]), ("mend", "time", "walker"))
        self.assertGreater(float(np.abs(self.picture(shot, "plate", 6) - front)[inside].mean()), 15)
        # It cannot be taken away alone: what uses it goes along.
        gone = self.page.json("POST", f"/shots/{shot}/operations", {"operation": {"do": "remove", "thing": "walker"}})
        self.assertEqual(gone["shot"]["document"]["motions"], [])
        self.assertEqual([m for t in gone["shot"]["document"]["plate"] for m in t["masks"]], [])

        refused = self.page.json("POST", f"/shots/{shot}/motions/walker/use", {"use": "ignore"}, status=400)
        self.assertTrue(refused["message"])

    def test_motions_that_look_at_the_picture_look_past_it(self) -> None:
        shot = self.with_matte(self.click(0))
        none = self.page.json("POST", f"/shots/{shot}/motions/walker/use", {"use": "ignore"}, status=400)
        self.assertIn("Nothing here looks", none["message"])
        self.page.json("POST", f"/shots/{shot}/motions/walker/measure", {})
        self.edit(shot, {"op": "add", "path": "/motions/-", "value": {"kind": "camera", "id": "camera", "name": "Camera"}})
        answer = self.page.json("POST", f"/shots/{shot}/motions/walker/use", {"use": "ignore"})
        self.assertEqual(answer["shot"]["document"]["motions"][1]["ignored"], ["walker"])
        again = self.page.json("POST", f"/shots/{shot}/motions/walker/use", {"use": "ignore"}, status=400)
        self.assertIn("ignored already", again["message"])
        gone = self.page.json("POST", f"/shots/{shot}/operations", {"operation": {"do": "remove", "thing": "walker"}})
        self.assertEqual(gone["shot"]["document"]["motions"][0]["ignored"], [])

    def test_a_mover_is_taken_out_by_its_box(self) -> None:
        shot = self.shot_with_clip(self.walked())
        truth = walk("brick.png", "coffee.png", 2)[1][5]
        ys, xs = np.nonzero(truth > 0.5)
        box = [float(xs.min()), float(ys.min()), float(xs.max()), float(ys.max())]
        answer = self.page.json("POST", f"/shots/{shot}/movers", {"frame": 5, "box": box, "use": "take out"})
        document = answer["shot"]["document"]
        self.assertEqual(document["motions"][0]["id"], answer["made"])
        self.assertEqual(document["plate"][0]["masks"][0]["motion"], answer["made"])
        self.page.json("POST", f"/shots/{shot}/motions/{answer['made']}/measure", {})
        digest = self.page.json("GET", f"/shots/{shot}")["document"]["motions"][0]["measurement"]
        track = pool().measured(digest)
        assert isinstance(track, MatteTrack)
        alpha = track.alpha(5)
        assert alpha is not None
        self.assertGreater(likeness(alpha / np.float32(255), truth), 0.8)
        self.page.json("POST", f"/shots/{shot}/movers", {"frame": 99, "box": box}, status=400)
