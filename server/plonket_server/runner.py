"""The test runner: Django's, with a data folder of its own and a closing line that counts."""

from __future__ import annotations

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
        import os

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
        self.closing = f"{result.testsRun - failed - skipped} passed, {failed} failed, {skipped} skipped"
        slowest = sorted(getattr(result, "took", []), reverse=True)[:SLOWEST]
        self.slowest = [f"{clock:7.1f} s, {own:6.1f} s of its own  {name}" for clock, own, name in slowest]
        return failed

    def run_tests(self, test_labels: Any, **kwargs: Any) -> int:
        failed = super().run_tests(test_labels, **kwargs)
        print("\n".join(getattr(self, "slowest", [])))
        print(getattr(self, "closing", "0 passed, 1 failed, 0 skipped"), flush=True)
        return failed
