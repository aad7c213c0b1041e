"""The browser's own modules, bundled and called from Python."""

from __future__ import annotations

import json
import math
import shutil
import subprocess
import tempfile
import unittest
from collections.abc import Sequence
from dataclasses import replace
from functools import cache
from pathlib import Path
from typing import Any, ClassVar

import numpy as np

from plonket.base.conventions import matrix_to_quaternion
from plonket.formats.camera_json import read_camera
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from synth.phone.path import look_at

SIZE = (640, 360)
ROOT = Path(__file__).resolve().parents[2]
WEB = ROOT / "web"
BUNDLE = """
import { build } from "vite";
const [entry, src, out] = process.argv.slice(1);
await build({
  configFile: false, logLevel: "error", resolve: { alias: { "~": src, "@tanstack": `${src}/../node_modules/@tanstack` } }, ssr: { noExternal: true },
  build: { ssr: entry, outDir: out, rollupOptions: { output: { entryFileNames: "copies.mjs" } } },
});
"""


@cache
def bundled() -> tempfile.TemporaryDirectory[str]:
    """The modules in one file, made once for a run."""
    folder = tempfile.TemporaryDirectory()
    subprocess.run(
        ["node", "--input-type=module", "-e", BUNDLE, str(ROOT / "tests/core/copies.ts"), str(WEB / "src"), folder.name],
        cwd=WEB, check=True, timeout=120,
    )  # fmt: skip
    return folder


class Copies:
    """A process that answers calls of the browser's functions; one for a whole test class."""

    def __init__(self) -> None:
        self.process = subprocess.Popen(["node", str(Path(bundled().name) / "copies.mjs")], cwd=WEB, text=True,
                                        stdin=subprocess.PIPE, stdout=subprocess.PIPE)  # fmt: skip

    def call(self, name: str, *args: Any) -> Any:
        return self.calls([(name, args)])[0]

    def calls(self, asked: Sequence[tuple[str, Sequence[Any]]]) -> list[Any]:
        """Answers to many calls."""
        assert self.process.stdin and self.process.stdout
        out = []
        for name, args in asked:
            self.process.stdin.write(json.dumps({"call": name, "args": list(args)}) + "\n")
            self.process.stdin.flush()
            line = self.process.stdout.readline()
            assert line, f"{name} failed"
            out.append(json.loads(line))
        return out

    def close(self) -> None:
        self.process.kill()
        self.process.wait(10)
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe:
                pipe.close()


def dumped(thing: Any) -> Any:
    return thing.model_dump(mode="json") if hasattr(thing, "model_dump") else thing


@unittest.skipUnless(shutil.which("node") and (WEB / "node_modules").exists(), "the front end's packages are not here")
class Alike(unittest.TestCase):
    browser: ClassVar[Copies]

    @classmethod
    def setUpClass(cls) -> None:
        cls.browser = Copies()
        cls.addClassCleanup(cls.browser.close)

    def say(self, name: str, *args: Any) -> Any:
        return self.browser.call(name, *[dumped(a) for a in args])


def camera(k1: float, readout: float) -> RoomCamera:
    """Five frames past a corner of a room, in a room that was turned, shifted and scaled by hand."""
    frames = []
    for i in range(5):
        eye = np.array([-0.3 + 0.07 * i, 0.55 + 0.02 * i, 1.3 - 0.03 * i])
        turn = look_at(eye, np.array([0.0, 0.1, 0.0]))
        frames.append({"frame": i, "position": eye.tolist(), "rotation": matrix_to_quaternion(turn).tolist()})
    text = json.dumps({"width": SIZE[0], "height": SIZE[1], "focal_px": 520, "frames": frames, "readout": readout,
                       "distortion": {"k1": k1, "k2": -0.2 * k1, "p1": 0.0, "p2": 0.0, "k3": 0.0}})  # fmt: skip
    turned = (0.0, math.sin(0.2), 0.0, math.cos(0.2))
    return RoomCamera(read_camera(text, 5, SIZE), Room(turn=turned, shift=(0.1, -0.2, 0.3), scale=1.4))


class AlikeRooms(Alike):
    """With a camera in its room, the browser's and the core's."""

    def made(self, k1: float, readout: float, still: int | None = None) -> RoomCamera:
        seen = replace(camera(k1, readout), still=still)
        t = seen.track
        solve = {
            "position": t.position.ravel().tolist(), "rotation": [v for m in t.rotation for v in matrix_to_quaternion(m)],
            "focal": t.focal.tolist(), "distortion": [*t.distortion, 0.0][:5], "readout": t.readout, "kind": "full",
        }  # fmt: skip
        if len(t.distortion) == 4:
            solve["distortion"] = [*t.distortion, 0.0]
        motion = {"kind": "camera", "id": "c", "name": "c", "room": dumped(seen.room)} | (
            {} if seen.still is None else {"kind": "form", "moves": "object", "reference_frame": seen.still})
        self.say("camera.roomCamera", motion, solve, t.frames, {"w": SIZE[0], "h": SIZE[1]})
        return seen
