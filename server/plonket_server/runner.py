"""The test runner: Django's, with a data folder of its own and a closing line that counts."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

from django.conf import settings
from django.test.runner import DiscoverRunner

SLOWEST = 12


class TimingResult(unittest.TextTestResult):
    """Remembers how long each test took: by the clock, and of this process's own time."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.took: list[tuple[float, float, str]] = []
        self._since = (0.0, 0.0)

    def startTest(self, test: unittest.TestCase) -> None:
        self._since = (time.perf_counter(), time.process_time())
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        clock, own = self._since
        self.took.append((time.perf_counter() - clock, time.process_time() - own, test.id()))


class CountingRunner(DiscoverRunner):
    """Prints the slowest tests, and ``N passed, N failed, N skipped`` last."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        kwargs.setdefault("top_level", str(settings.ROOT))
        super().__init__(*args, **kwargs)

    def build_suite(self, test_labels: Any = None, **kwargs: Any) -> unittest.TestSuite:
        # Tests live beside the server, not below it.
        os.chdir(settings.ROOT)
        return super().build_suite(test_labels, **kwargs)

    def setup_test_environment(self, **kwargs: Any) -> None:
        super().setup_test_environment(**kwargs)
        self.folder = tempfile.mkdtemp(prefix="plonket-store-")
        settings.STORE = Path(self.folder)

    def teardown_test_environment(self, **kwargs: Any) -> None:
        super().teardown_test_environment(**kwargs)
        shutil.rmtree(self.folder, ignore_errors=True)

    def get_resultclass(self) -> type[unittest.TextTestResult]:
        return TimingResult

    def suite_result(self, suite: Any, result: Any, **kwargs: Any) -> int:
        failed = len(result.failures) + len(result.errors) + len(getattr(result, "unexpectedSuccesses", []))
        skipped = len(result.skipped)
        self.counts = {"passed": result.testsRun - failed - skipped, "failed": failed, "skipped": skipped}
        self.failures = [test.id() for test, _ in (*result.failures, *result.errors)]
        slowest = sorted(getattr(result, "took", []), reverse=True)[:SLOWEST]
        self.slowest = [f"{clock:7.1f} s, {own:6.1f} s of its own  {name}" for clock, own, name in slowest]
        return failed

    def run_tests(self, test_labels: Any, **kwargs: Any) -> int:
        failed = super().run_tests(test_labels, **kwargs)
        print("\n".join(getattr(self, "slowest", [])))
        counts = getattr(self, "counts", {"passed": 0, "failed": 1, "skipped": 0})
        if kept := os.environ.get("PLONKET_TEST_COUNTS"):
            # One of two halves: the launcher closes with one line over both.
            Path(kept).write_text(json.dumps(counts | {"failures": getattr(self, "failures", ["the run itself"])}))
        else:
            print(", ".join(f"{count} {what}" for what, count in counts.items()), flush=True)
        return failed
