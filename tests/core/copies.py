"""The browser's own modules, bundled and called from Python."""

from __future__ import annotations

import json
import shutil
import subprocess
import tempfile
import unittest
from collections.abc import Sequence
from pathlib import Path
from typing import Any, ClassVar

ROOT = Path(__file__).resolve().parents[2]
WEB = ROOT / "web"
BUNDLE = """
import { build } from "vite";
const [entry, src, out] = process.argv.slice(1);
await build({
  configFile: false, logLevel: "error", resolve: { alias: { "~": src } }, ssr: { noExternal: true },
  build: { ssr: entry, outDir: out, rollupOptions: { output: { entryFileNames: "copies.mjs" } } },
});
"""


class Copies:
    """A process that answers calls of the browser's functions; one for a whole test class."""

    def __init__(self) -> None:
        self.folder = tempfile.TemporaryDirectory()
        subprocess.run(
            ["node", "--input-type=module", "-e", BUNDLE, str(ROOT / "tests/core/copies.ts"), str(WEB / "src"), self.folder.name],
            cwd=WEB, check=True, timeout=120,
        )  # fmt: skip
        self.process = subprocess.Popen(["node", str(Path(self.folder.name) / "copies.mjs")], cwd=WEB, text=True,
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
        self.folder.cleanup()


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
