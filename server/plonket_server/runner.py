"""The test runner: Django's, with a data folder of its own and a closing line that counts."""

from __future__ import annotations

import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any

from django.conf import settings
from django.test.runner import DiscoverRunner


class CountingRunner(DiscoverRunner):
    """Prints ``N passed, N failed, N skipped`` last."""

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

    def suite_result(self, suite: Any, result: Any, **kwargs: Any) -> int:
        failed = len(result.failures) + len(result.errors) + len(getattr(result, "unexpectedSuccesses", []))
        skipped = len(result.skipped)
        self.closing = f"{result.testsRun - failed - skipped} passed, {failed} failed, {skipped} skipped"
        return failed

    def run_tests(self, test_labels: Any, **kwargs: Any) -> int:
        failed = super().run_tests(test_labels, **kwargs)
        print(getattr(self, "closing", "0 passed, 1 failed, 0 skipped"), flush=True)
        return failed
