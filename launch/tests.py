"""``bin/plonket test``: all tests with Django's runner, against services of their own."""

from __future__ import annotations

import json
import shutil
import subprocess
import tempfile
from pathlib import Path

from launch import install
from launch.places import ROOT, VENV, Data
from launch.services import start_services

LAUNCHER = "launcher"
"""Tag of what needs neither database nor broker of the test run: it goes along with the core, whose parts are done sooner."""
LAUNCHING = ["tests.server.test_launch", "tests.server.test_supervisor", "tests.server.test_backup"]
REST = [f"--exclude-tag={LAUNCHER}", "tests.server", "tests.browser"]
ONE_THREAD = {"OMP_NUM_THREADS": "1", "NUMBA_NUM_THREADS": "1"}
"""Two processes that each work on two cores' threads spend half their time waiting for each other."""


def main(arguments: list[str]) -> int:
    install.debian(install.SERVICES | install.BUILD | install.BROWSER)
    install.llvm()
    install.python("dev")
    install.front_end()
    folder = Path(tempfile.mkdtemp(prefix="plonket-test-"))
    services = start_services(Data(folder), for_tests=True)
    try:
        env = services.env | {"PLONKET_TESTING": "1", "DJANGO_ALLOW_ASYNC_UNSAFE": "true"}
        # Compiled ahead, so that no test's time limit has to hold a compiler.
        subprocess.run([str(VENV / "bin" / "python"), "-m", "plonket.cli.warm"], cwd=ROOT / "server", env=env, check=True)
        return _run(arguments, env) if arguments else _all(env, folder)
    finally:
        for child in reversed(services.children):
            child.stop()
        shutil.rmtree(folder, ignore_errors=True)


def _run(names: list[str], env: dict[str, str]) -> int:
    return subprocess.run(_command(names), cwd=ROOT / "server", env=env).returncode


def core_parts() -> dict[str, list[str]]:
    """The core's tests in two parts of about the same length: one core would else stand still while the other works."""
    modules = sorted(f"tests.core.{path.stem}" for path in (ROOT / "tests" / "core").glob("test_*.py"))
    return {"core": modules[::2], "core-2": [*modules[1::2], *LAUNCHING]}


def _all(env: dict[str, str], folder: Path) -> int:
    """Tests that need no services beside all others. They step back, for browser tests have time limits."""
    parts = core_parts()
    counts = {part: folder / f"{part}.json" for part in ("rest", *parts)}
    logs = {part: folder / f"{part}.log" for part in parts}
    running: list[subprocess.Popen[bytes]] = []
    try:
        for part, names in parts.items():
            with logs[part].open("wb") as out:
                running.append(subprocess.Popen(
                    ["nice", *_command(names)], cwd=ROOT / "server", stdout=out, stderr=out,
                    env=env | ONE_THREAD | {"PLONKET_TEST_COUNTS": str(counts[part])},
                ))  # fmt: skip
        codes = [_run(REST, env | {"PLONKET_TEST_COUNTS": str(counts["rest"])}), *(one.wait() for one in running)]
    finally:
        for one in running:
            one.kill()
    for log in logs.values():
        print(log.read_text(errors="replace"), flush=True)
    passed = _closing([counts[part] for part in ("rest", *parts)])
    return next((code for code in codes if code), 0 if passed else 1)


def _closing(halves: list[Path]) -> bool:
    """One closing line over everything that ran, after the names of what failed; whether all passed."""
    total = {"passed": 0, "failed": 0, "skipped": 0}
    failures: list[str] = []
    for half in halves:
        # A half that died has counted nothing, which is a failure too.
        told = json.loads(half.read_text()) if half.exists() else {"failed": 1, "failures": [f"{half.stem}: it died"]}
        failures += told.pop("failures")
        for what, count in told.items():
            total[what] += count
    for name in failures:
        print(f"FAILED  {name}")
    print(", ".join(f"{count} {what}" for what, count in total.items()), flush=True)
    return total["failed"] == 0


def _command(names: list[str]) -> list[str]:
    return [str(VENV / "bin" / "python"), "manage.py", "test", "--noinput", *names]
