"""Projects as one file: packed and laid out again they render the same; what is damaged or forged writes nothing."""

from __future__ import annotations

import json
import tempfile
import unittest
import zipfile
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import mock

import cv2
import numpy as np
import trimesh

from plonket.base.conventions import U8
from plonket.base.errors import BadInput, Cancelled, FormatError, MediaError
from plonket.base.progress import Work
from plonket.cli.main import main
from plonket.document.references import references, renamed
from plonket.document.shot import read_shot
from plonket.formats.shot_file import read_shot_file
from plonket.media.sound import Sound, write_wav
from plonket.media.write import Coding, VideoWriter
from plonket.pack.manifest import Manifest
from plonket.pack.read import open_pack
from plonket.pack.shot_files import pack_shot_files, unpack_shot_files
from plonket.render.frame import render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from tests.core.photos import photo

SIZE = (160, 90)
FRAMES = 6


class Packs(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.home = self.folder / "project"
        self.home.mkdir()
        with VideoWriter(self.home / "clip.mp4", SIZE, Fraction(25), coding=Coding(crf=12)) as out:
            for k in range(FRAMES):
                out.write(np.roll(photo("coffee.png", SIZE), 3 * k, axis=1))
        cv2.imwrite(str(self.home / "boat.png"), np.dstack([photo("chelsea.png", (40, 30)), np.full((30, 40), 200, np.uint8)]))
        seq = self.home / "sparks"
        seq.mkdir()
        for k in range(FRAMES):
            cv2.imwrite(str(seq / f"spark-{k}.png"), np.full((20, 20, 3), 30 * k, np.uint8))
        places = np.stack([20.0 + 3 * np.arange(FRAMES), np.full(FRAMES, 40.0)], axis=1)
        rows = [f"lamp,{k},{x},{y},1,{'tracked' if k else 'given'}" for k, (x, y) in enumerate(places)]
        (self.home / "lamp.csv").write_text("\n".join(["name,frame,x,y,confidence,state", *rows, ""]))
        follow = {"target": "m", "turn": False, "size": False}
        boat = {"kind": "still", "id": "b", "name": "Boat", "asset": "boat", "x": 40, "y": 30, "follow": follow}
        sparks = {"kind": "still", "id": "s", "name": "Sparks", "asset": "sparks", "x": 100, "y": 60, "blend": "add"}
        self.write("one", [boat, sparks])
        self.write("two", [sparks])
        (self.home / "notes.json").write_text('{"nothing": "to do with it"}')

    def write(self, name: str, stack: list[dict[str, Any]]) -> None:
        motions = [{"kind": "points", "id": "m", "name": "Lamp", "measurement": "lamp"}]
        whole = {"plonket": 1, "media": {"clip": "clip.mp4", "boat": "boat.png", "sparks": "sparks"},
                 "measurements": {"lamp": "lamp.csv"},
                 "shot": {"name": f"Shot {name}", "footage": {"asset": "clip"}, "motions": motions, "stack": stack}}  # fmt: skip
        (self.home / f"{name}.json").write_text(json.dumps(whole))

    def frame(self, path: Path, frame: int) -> U8:
        file = read_shot_file(path)
        return render_frame(file.shot, ShotSources(file.shot, MediaPool(file.path_of, file.measurements.__getitem__)), frame)

    def packed(self) -> Path:
        out = self.folder / "small-lights.plonket"
        pack_shot_files(self.home, out)
        return out

    def test_there_and_back_everything_renders_the_same(self) -> None:
        out = self.packed()
        (self.folder / "project").rename(self.folder / "gone")
        made = unpack_shot_files(out, self.folder / "back")
        self.assertEqual([p.name for p in made], ["000-shot-one.json", "001-shot-two.json"])
        for path, name in zip(made, ("one", "two"), strict=True):
            for k in (0, 3, 5):
                np.testing.assert_array_equal(self.frame(path, k), self.frame(self.folder / "gone" / f"{name}.json", k))
        again = self.folder / "again.plonket"
        pack_shot_files(self.folder / "back", again)
        sums = [{f.sha256 for f in self.manifest(one).files if f.path.startswith("assets/")} for one in (out, again)]
        self.assertEqual(*sums)

    def manifest(self, path: Path) -> Manifest:
        with open_pack(path) as pack:
            return pack.manifest

    def test_what_several_shots_use_is_in_it_once(self) -> None:
        made = self.manifest(self.packed())
        self.assertEqual((len(made.shots), len(made.assets), len(made.measurements)), (2, 3, 1))
        self.assertEqual(sorted(a.kind for a in made.assets), ["clip", "clip", "still"])
        self.assertEqual(next(len(a.files) for a in made.assets if a.name == "sparks"), FRAMES)

    def forged(self, change: Any = None, **files: bytes) -> Path:
        """The pack with another manifest, or with other bytes in some of its files."""
        source, out = self.packed(), self.folder / "forged.plonket"
        with zipfile.ZipFile(source) as box, zipfile.ZipFile(out, "w") as other:
            for info in box.infolist():
                data = box.read(info)
                if info.filename == "manifest.json" and change is not None:
                    record = json.loads(data)
                    change(record)
                    data = json.dumps(record).encode()
                other.writestr(info.filename, files.get(info.filename, data))
        return out

    def test_what_is_damaged_or_forged_is_refused_in_words_and_nothing_is_written(self) -> None:
        first = self.manifest(self.packed()).files[0].path

        def outside(record: dict[str, Any]) -> None:
            record["files"][0]["path"] = "../../etc/passwd"

        def longer(record: dict[str, Any]) -> None:
            record["files"][0]["bytes"] += 1

        def less(record: dict[str, Any]) -> None:
            record["assets"] = record["assets"][1:]

        def swapped(record: dict[str, Any]) -> None:
            record["assets"][0]["digest"] = "0" * 64

        def newer(record: dict[str, Any]) -> None:
            record["plonket_pack"] = 2

        cases = {  # fmt: skip
            "a byte changed": (self.forged(**{first: b"x" * self.manifest(self.packed()).files[0].bytes}).rename(
                self.folder / "byte.plonket"), "not what was packed"),
        }
        for name, change, words in (("outside", outside, "damaged"), ("longer", longer, "damaged"), ("less", less, "incomplete"),
                                    ("swapped", swapped, "damaged"), ("newer", newer, "newer Plonket")):  # fmt: skip
            cases[name] = (self.forged(change).rename(self.folder / f"{name}.plonket"), words)
        with mock.patch("shutil.disk_usage", return_value=mock.Mock(free=1000)), self.assertRaisesRegex(BadInput, "not enough room"):
            unpack_shot_files(self.packed(), self.folder / "out-full")
        cut = self.folder / "cut.plonket"
        cut.write_bytes(self.packed().read_bytes()[:-4000])
        text = self.folder / "text.plonket"
        text.write_text("no pack at all")
        cases |= {"cut": (cut, "damaged"), "text": (text, "not a packed project")}
        for name, (path, words) in cases.items():
            with self.subTest(name), self.assertRaisesRegex(FormatError, words):
                unpack_shot_files(path, self.folder / f"out-{name}")
        self.assertFalse([p.name for p in self.folder.iterdir() if p.name.startswith(("out-", ".unpacking"))])

    def test_a_newer_document_is_told_apart_from_a_broken_one(self) -> None:
        with self.assertRaisesRegex(BadInput, "newer Plonket"):
            read_shot({"format": 2, "name": "s", "anything": 1})
        with self.assertRaisesRegex(BadInput, "cannot be stored"):
            read_shot({"format": 1, "name": "s", "anything": 1})

    def test_stopped_or_on_a_full_disk_nothing_is_left(self) -> None:
        out = self.folder / "o.plonket"
        with self.assertRaises(Cancelled):
            pack_shot_files(self.home, out, Work(is_cancelled=lambda: True))
        with mock.patch("plonket.pack.write._copied", side_effect=OSError(28, "full")), self.assertRaises(MediaError):
            pack_shot_files(self.home, out)
        with mock.patch("plonket.pack.read.Pack.extract", side_effect=OSError(28, "full")), self.assertRaises(MediaError):
            unpack_shot_files(self.packed(), self.folder / "back")
        left = {p.name for p in self.folder.iterdir()}
        self.assertEqual(left, {"project", "small-lights.plonket"})

    def test_models_and_sounds_go_along(self) -> None:
        trimesh.creation.box((1, 1, 1)).export(self.home / "box.glb")
        write_wav(Sound(samples=np.zeros((4800, 2), np.int16)), self.home / "bell.wav")
        mesh = {"kind": "model", "id": "x", "name": "Box", "asset": "box"}
        whole = {"plonket": 1, "media": {"clip": "clip.mp4", "box": "box.glb", "bell": "bell.wav"},
                 "shot": {"name": "In 3D", "footage": {"asset": "clip"}, "stack": [mesh],
                          "sounds": [{"id": "s", "name": "Bell", "asset": "bell"}]}}  # fmt: skip
        (self.home / "three.json").write_text(json.dumps(whole))
        made = self.manifest(self.packed())
        self.assertEqual(sorted(a.kind for a in made.assets), ["clip", "clip", "model", "sound", "still"])
        back = unpack_shot_files(self.folder / "small-lights.plonket", self.folder / "back")
        self.assertEqual(len(read_shot_file(back[1]).media), 3)

    def test_by_the_command_line(self) -> None:
        out = self.folder / "c.plonket"
        self.assertEqual(main(["pack", str(self.home / "one.json"), "--out", str(out)]), 0)
        self.assertEqual(main(["unpack", str(out)]), 0)
        self.assertEqual(sorted(p.name for p in (self.folder / "c").iterdir()), ["000-shot-one.json", "measurements", "media"])
        self.assertNotEqual(main(["unpack", str(out)]), 0, "a folder that is there is left alone")
        self.assertNotEqual(main(["pack", str(self.folder / "nowhere"), "--out", str(out)]), 0)

    def test_names_are_changed_where_they_stand_for_something(self) -> None:
        shot = read_shot_file(self.home / "one.json").shot
        record, found = shot.model_dump(mode="json"), list(references(shot))
        boat = shot.stack[0].asset  # type: ignore[attr-defined]
        other = read_shot(renamed(record, found, {boat: "e" * 64, "m": "m"}))
        self.assertEqual((other.stack[0].asset, other.stack[1].asset), ("e" * 64, shot.stack[1].asset))  # type: ignore[attr-defined]
