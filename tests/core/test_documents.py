"""The shot document, its hashes, the open formats and the registries."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

from plonket.base.errors import BadInput, FormatError
from plonket.base.outlines import polygon_outline
from plonket.base.states import LOST, TRACKED
from plonket.document.hashes import picture_hash, shot_hash
from plonket.document.kinds import REGISTRIES
from plonket.document.shot import read_shot
from plonket.formats.points_csv import read_points, write_points
from plonket.formats.shot_file import read_shot_file
from plonket.track.points.tracks import PointTracks
from tests.core.clips import phone_clip

CHECKED_BY_HAND = """name,frame,x,y,confidence,state
lamp,0,10.5,20.25,1,given
lamp,1,11.5,20.75,0.9312,tracked
lamp,2,12,21,0,lost
whale,1,100,200,0.5,tracked
"""


def document() -> dict[str, object]:
    return {
        "name": "Chart wall",
        "footage": {"asset": "a" * 64, "name": "clip", "width": 640, "height": 360, "rate": "30/1", "frames": 60,
                    "in_frame": 5, "out_frame": 50},
        "motions": [{"kind": "points", "id": "lamp", "name": "Lamp", "points": [
            {"id": "p1", "name": "Tip", "given": [{"frame": 5, "x": 10, "y": 20}]}]}],
        "stack": [{"kind": "still", "id": "l1", "name": "Boat", "asset": "b" * 64, "width": 64, "height": 64,
                   "follow": {"target": "lamp", "reference_frame": 5}}],
    }  # fmt: skip


class Document(unittest.TestCase):
    def refused(self, change: dict[str, object]) -> str:
        with self.assertRaises(BadInput) as caught:
            read_shot(document() | change)
        return caught.exception.message

    def test_round_trip_and_hash(self) -> None:
        shot = read_shot(document())
        again = read_shot(json.loads(json.dumps(shot.model_dump(mode="json"))))
        self.assertEqual(shot, again)
        self.assertEqual(shot_hash(shot), shot_hash(again))

    def test_pictures_do_not_depend_on_names_or_range(self) -> None:
        base = read_shot(document())
        other = document() | {"name": "Other"}
        other["footage"] = dict(other["footage"], in_frame=9)  # type: ignore[call-overload]
        self.assertEqual(picture_hash(base), picture_hash(read_shot(other)))
        moved = document()
        moved["stack"] = [dict(moved["stack"][0], x=4.0)]  # type: ignore[index]
        self.assertNotEqual(picture_hash(base), picture_hash(read_shot(moved)))

    def test_nonsense_is_refused_in_plain_words(self) -> None:
        self.assertIn("does not lie within", self.refused({"footage": dict(document()["footage"], out_frame=60)}))  # type: ignore[call-overload]
        self.assertIn("not in the shot", self.refused({"motions": []}))
        self.assertIn("surprise", self.refused({"surprise": 1}))
        bad = document()["stack"][0] | {"opacity": float("nan")}  # type: ignore[index]
        self.assertIn("opacity", self.refused({"stack": [bad]}))
        twice = document()["stack"] * 2  # type: ignore[operator]
        self.assertIn("same id", self.refused({"stack": twice}))

    def test_pictures_depend_on_whose_movement_a_form_s_is_and_not_on_its_tugs(self) -> None:
        form = {"kind": "form", "id": "f", "name": "F", "measurement": "a" * 64,
                "stakes": [{"frame": 0, "tugs": [{"at": (0.5, 1, 0.5), "x": 10, "y": 20}], "pose": {}}]}  # fmt: skip
        one = read_shot({"name": "s", "motions": [form]})
        light = read_shot({"name": "s", "motions": [form | {"moves": "camera"}]})
        self.assertNotEqual(picture_hash(one), picture_hash(light))
        # What was measured is what counts: a tug changes nothing before it is measured again.
        self.assertEqual(picture_hash(one), picture_hash(read_shot({"name": "s", "motions": [form | {"stakes": []}]})))
        self.assertIn("model", self.refused({"motions": [form | {"shape": "model"}]}))

    def test_every_registered_kind_has_valid_defaults_and_labels(self) -> None:
        given = {"id": "x", "name": "X", "frames": [{"frame": 3}], "asset": "c" * 64, "width": 16, "height": 16, "plane": "p",
                 "motion": "m", "camera": "m", "parcel": "q", "generator": {"kind": "ring"}, "extent": (1.0, 2.0, 1.0),
                 "quad": [(0, 0), (9, 0), (9, 9), (0, 9)],
                 "anchors": [{"target": "p", "x": 1}, {"target": "p", "x": 9}],
                 "outline": polygon_outline(np.array([[1.0, 1], [9, 1], [9, 9]]))}  # fmt: skip
        clip = {"width": 16, "height": 16, "rate": "30/1", "frames": 9, "in_frame": 0, "out_frame": 8}
        for registry in REGISTRIES.values():
            for entry in registry:
                fields = entry.settings.model_fields
                # A form needs no file, and its frames are numbers.
                skipped = ("asset", "frames") if entry.kind == "form" else ()
                values = given | (clip if entry.kind == "clip" else {})
                made = entry.settings(**{k: v for k, v in values.items() if k in fields and k not in skipped})
                self.assertEqual(made.kind, entry.kind)  # type: ignore[attr-defined]
                self.assertTrue(entry.label and entry.help.endswith("."))
                for name, hints in entry.settings.model_json_schema()["properties"].items():
                    if "x-plonket" in hints:
                        self.assertTrue(hints["x-plonket"]["label"], name)

    def test_unknown_kind(self) -> None:
        with self.assertRaises(BadInput):
            REGISTRIES["motion"].get("nothing")


class PointsCsv(unittest.TestCase):
    def test_file_checked_by_hand(self) -> None:
        tracks = read_points(CHECKED_BY_HAND)
        self.assertEqual(tracks.names, ("lamp", "whale"))
        self.assertEqual(tracks.frames, 3)
        self.assertEqual(tracks.xy[0, 1].tolist(), [11.5, 20.75])
        self.assertEqual(tracks.state[0].tolist(), [3, TRACKED, LOST])
        self.assertEqual(tracks.state[1].tolist(), [0, TRACKED, 0])

    def test_round_trip(self) -> None:
        tracks = read_points(CHECKED_BY_HAND)
        again = read_points(write_points(tracks))
        np.testing.assert_allclose(again.xy, tracks.xy)
        np.testing.assert_array_equal(again.state, tracks.state)
        stored = PointTracks.from_bytes(tracks.to_bytes())
        np.testing.assert_array_equal(stored.xy, tracks.xy)
        self.assertEqual(tracks.to_bytes(), stored.to_bytes())

    def test_wrong_files(self) -> None:
        for text, word in (
            ("a,b\n1,2\n", "columns"),
            ("name,frame,x,y\nlamp,zero,1,2\n", "Line 2"),
            ("name,frame,x,y\nlamp,0,nan,2\n", "Line 2"),
            ("name,frame,x,y\n", "no points"),
        ):
            with self.assertRaises(FormatError) as caught:
                read_points(text)
            self.assertIn(word, caught.exception.message)
        with self.assertRaises(FormatError):
            PointTracks.from_bytes(b"nothing")


class ShotFiles(unittest.TestCase):
    def test_names_stand_for_files(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            phone_clip(folder / "c.mp4", frames=8)
            (folder / "p.csv").write_text(CHECKED_BY_HAND)
            data = {"plonket": 1, "media": {"clip": "c.mp4"}, "measurements": {"lamp": "p.csv"},
                    "shot": {"name": "S", "footage": {"asset": "clip"},
                             "motions": [{"kind": "points", "id": "m", "name": "M", "measurement": "lamp"}]}}  # fmt: skip
            (folder / "shot.json").write_text(json.dumps(data))
            file = read_shot_file(folder / "shot.json")
            assert file.shot.footage is not None
            self.assertEqual((file.shot.footage.frames, file.shot.footage.out_frame), (8, 7))
            self.assertIn(file.shot.motions[0].measurement, file.measurements)
            # Names stand for files wherever they are: in parcels and in looks.
            (folder / "t.cube").write_text("LUT_1D_SIZE 2\n0 0 0\n1 1 1\n")
            shown = {"kind": "still", "id": "s", "name": "S", "asset": "clip", "x": 9.0, "y": 9.0,
                     "looks": [{"kind": "cube", "id": "look-1", "name": "T", "table": "table"}]}  # fmt: skip
            deep = {**data, "media": {"clip": "c.mp4", "table": "t.cube"}, "shot": {
                "name": "S", "footage": {"asset": "clip"}, "parcels": [{"id": "q", "name": "Q", "stack": [shown]}],
                "stack": [{"kind": "parcel", "id": "p", "name": "P", "parcel": "q"}]}}  # fmt: skip
            (folder / "deep.json").write_text(json.dumps(deep))
            file = read_shot_file(folder / "deep.json")
            layer = file.shot.parcels[0].stack[0]
            self.assertEqual(file.media[layer.asset].name, "c.mp4")  # type: ignore[union-attr]
            self.assertEqual(file.media[layer.looks[0].table].name, "t.cube")  # type: ignore[union-attr, index]
            self.assertEqual(file.shot.stack[0].width, file.shot.footage.width)  # type: ignore[union-attr]
            data["media"] = {"clip": "gone.mp4"}
            (folder / "shot.json").write_text(json.dumps(data))
            with self.assertRaises(BadInput) as caught:
                read_shot_file(folder / "shot.json")
            self.assertIn("gone.mp4", caught.exception.message)
            (folder / "shot.json").write_text("[]")
            with self.assertRaises(FormatError):
                read_shot_file(folder / "shot.json")
