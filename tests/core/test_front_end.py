"""The browser's components and stores, by their own tests in ``web/tests``; one run, each of them told by name."""

from __future__ import annotations

import json
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from tests.core.copies import WEB


@unittest.skipUnless(shutil.which("node") and (WEB / "node_modules").exists(), "the front end's packages are not here")
class FrontEnd(unittest.TestCase):
    def test_what_the_front_end_s_own_tests_say(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            report = Path(folder) / "report.json"
            run = subprocess.run(
                ["npx", "--no-install", "vitest", "run", "--reporter=json", f"--outputFile={report}"],
                cwd=WEB, capture_output=True, text=True, timeout=300, check=False,
            )  # fmt: skip
            self.assertTrue(report.exists(), run.stderr)
            told = json.loads(report.read_text())
        for file in told["testResults"]:
            with self.subTest(Path(file["name"]).name):
                self.assertTrue(file["assertionResults"], file.get("message"))
            for one in file["assertionResults"]:
                with self.subTest(one["fullName"]):
                    self.assertEqual(one["status"], "passed", "\n".join(one["failureMessages"]))
        self.assertEqual(run.returncode, 0, run.stderr)
