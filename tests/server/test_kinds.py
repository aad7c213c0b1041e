"""A kind of each sort that only a test knows works everywhere, without any other edit."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np

from library.pool import pool
from plonket.base.errors import BadInput
from plonket.document.hashes import picture_hash
from plonket.document.kinds import LAYERS
from plonket.document.shot import read_shot
from plonket.render.frame import render_frame
from plonket.render.sources import ShotSources
from shots.editing import document_of, find_shot
from tests.kinds import EVERY, announced, everything
from tests.server.test_server import WithFolder


class Kinds(WithFolder):
    def setUp(self) -> None:
        super().setUp()
        self.enterContext(announced())
        self.shot = self.shot_with_clip()
        self.asset = str(self.page.upload(self.still())["Plonket-Asset"])

    def edit(self, *patch: dict[str, Any], status: int = 200) -> Any:
        return self.page.json("POST", f"/shots/{self.shot}/edits", {"label": "x", "patch": list(patch)}, status=status)

    def do(self, what: str, thing: str, status: int = 200, **more: Any) -> Any:
        body = {"operation": {"do": what, "thing": thing, **more}}
        return self.page.json("POST", f"/shots/{self.shot}/operations", body, status=status)

    def furnish(self) -> None:
        for name, things in everything(self.asset).items():
            self.edit(*({"op": "add", "path": f"/{name}/-", "value": one} for one in things))
        self.page.json("POST", f"/shots/{self.shot}/motions/drift/measure", {})

    def document(self) -> dict[str, Any]:
        return dict(self.page.json("GET", f"/shots/{self.shot}")["document"])

    def frame(self, number: int) -> np.ndarray:
        document = document_of(find_shot(self.shot))  # type: ignore[arg-type]
        return render_frame(document, ShotSources(document, pool()), number)

    def test_every_sort_is_told_to_the_browser(self) -> None:
        for registry in ("layer", "look", "motion", "treatment", "generator", "mask", "key"):
            kind = next(entry.kind for r, entry in EVERY if r.noun.startswith(registry) or registry[:3] in r.noun)
            told = next(k for k in self.page.json("GET", f"/kinds/{registry}") if k["kind"] == kind)
            self.assertTrue(told["label"] and told["groups"], registry)
        stripe = next(k for k in self.page.json("GET", "/kinds/layer") if k["kind"] == "stripe")
        self.assertEqual((stripe["handles"], stripe["traits"]), ("box", ["follows", "placed"]))
        self.assertEqual(stripe["schema"]["properties"]["frame_px"]["x-plonket"]["when"], {"framed": [True]})
        drift = next(k for k in self.page.json("GET", "/kinds/motion") if k["kind"] == "drifting")
        self.assertEqual(drift["formats"], [{"name": "drift.txt", "label": "Drift", "measured": True}])

    def test_they_are_stored_checked_undone_and_drawn(self) -> None:
        bare = self.frame(5)
        self.furnish()
        stored = self.document()
        self.assertEqual([one["kind"] for one in stored["stack"]], ["stripe", "generated", "still"])
        self.assertEqual(stored["stack"][2]["key"], {"kind": "faint", "kept": 50.0})
        with self.subTest("ranges are the fields' own"):
            refused = self.edit({"op": "replace", "path": "/stack/0/wide", "value": 0}, status=400)
            self.assertIn("Stripe's width goes from 1 to 2000", refused["message"])
        with self.subTest("drawn where they follow to, on the treated plate"):
            shown = self.frame(5)
            # Two pixels a frame to the right, the plate ten down: it stays on the screen's columns.
            self.assertEqual(shown[180, 50].tolist(), [255, 0, 0])
            self.assertNotEqual(shown[180, 27].tolist(), [255, 0, 0])
            self.assertEqual(shown[60, 160].tolist(), [255, 255, 255])
            np.testing.assert_array_equal(shown[40:350, 400], bare[30:340, 400])
        with self.subTest("keyed, masked and with its look: half there, half as bright, left of the line"):
            red, beside = shown[70, 115].astype(int), shown[70, 127].astype(int)
            self.assertGreater(red[0], beside[0] // 3)
            np.testing.assert_array_equal(beside, bare[60, 127])
        with self.subTest("undo and redo"):
            number = self.page.json("GET", f"/shots/{self.shot}")["number"]
            self.page.json("POST", f"/shots/{self.shot}/undo", {})
            self.assertIsNone(self.document()["motions"][0]["measurement"])
            self.assertEqual(self.page.json("POST", f"/shots/{self.shot}/redo", {})["number"], number)

    def test_references_hold_and_are_let_go(self) -> None:
        self.furnish()
        shot = self.page.json("GET", f"/shots/{self.shot}")
        self.assertEqual(shot["leaders"], {"stripe": "drift", "still": "drift"})
        wanted = self.page.json("GET", f"/shots/{self.shot}/spaces")["movements"]
        self.assertEqual([(m["motion"], m["reference_frame"], m["rows"][3][2]) for m in wanted], [("drift", 0, 6)])
        broken = self.edit({"op": "replace", "path": "/stack/0/leans_on", "value": "nothing"}, status=400)
        self.assertIn("Stripe leans on a motion that is not in the shot", broken["message"])
        self.do("remove", "drift")
        left = self.document()
        self.assertEqual((left["motions"], left["stack"][0]["leans_on"]), ([], None))
        self.assertEqual((left["stack"][0]["follow"]["target"], left["stack"][2]["masks"][0]["rides"]), (None, "footage"))

    def test_operations_take_them_as_any_other(self) -> None:
        self.furnish()
        before = self.frame(5)
        self.do("retarget", "stripe", target=None, frame=5)
        moved = self.document()["stack"][0]
        # The screen's own pixels: the plate under it has gone ten down.
        self.assertEqual((moved["x"], moved["y"]), (50.0, 70.0))
        np.testing.assert_array_equal(self.frame(5)[180, 20:90], before[180, 20:90])
        made = self.do("duplicate", "stripe")["made"]
        self.assertEqual([one["id"] for one in self.document()["stack"]][:2], [made, "stripe"])
        self.do("into parcel", "stripe", parcel=None)
        self.assertEqual(self.document()["parcels"][0]["stack"][0]["kind"], "stripe")
        np.testing.assert_array_equal(self.frame(5)[180, 20:90], before[180, 20:90])
        self.do("out of parcel", "stripe")
        self.assertEqual(self.document()["parcels"][0]["stack"], [])
        self.do("move", "stripe", before=None)
        self.assertEqual(self.document()["stack"][-1]["id"], "stripe")

    def test_what_is_only_measured_by_changes_no_picture(self) -> None:
        self.furnish()
        document = document_of(find_shot(self.shot))  # type: ignore[arg-type]
        known = picture_hash(document)
        data = document.model_dump(mode="json")
        data["motions"][0] |= {"speed": 9.0, "name": "Other"}
        self.assertEqual(picture_hash(read_shot(data)), known)
        data["stack"][0]["wide"] = 41.0
        self.assertNotEqual(picture_hash(read_shot(data)), known)

    def test_measurements_go_out_and_come_in_by_a_format_of_their_own(self) -> None:
        self.furnish()
        digest = self.document()["motions"][0]["measurement"]
        found = self.page.json("GET", f"/measurements/{digest}")
        self.assertEqual((found["frames"], found["whole"]["confidence"][:2]), (30, [1, 1]))
        written = self.page.get(f"/shots/{self.shot}/motions/drift/export/drift.txt")
        self.assertEqual((written.status_code, written.content.decode().split()[:3]), (200, ["drift", "0", "2"]))
        self.page.json("GET", f"/shots/{self.shot}/motions/drift/export/plane.json", status=400)
        body = {"name": "other.txt", "text": written.content.decode()}
        self.page.json("POST", f"/shots/{self.shot}/motions/import", body)
        brought = self.document()["motions"][1]
        self.assertEqual((brought["kind"], brought["name"], brought["measurement"]), ("drifting", "other", digest))
        short = self.page.json("POST", f"/shots/{self.shot}/motions/import", body | {"text": "drift\n1 2"}, status=422)
        self.assertIn("a number for every frame", short["message"])

    def test_a_kind_that_is_gone_is_named(self) -> None:
        with self.assertRaises(BadInput) as caught:
            read_shot({"name": "s", "stack": [{"kind": "strip", "id": "a", "name": "a"}]})
        self.assertIn("there is no layer called 'strip'; known: ", caught.exception.message)
        self.assertIn("stripe", LAYERS.kinds())
        still = cv2.imread(str(self.still()))
        self.assertIsNotNone(still)
