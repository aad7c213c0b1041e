"""``bin/plonket test``: all tests with Django's runner, against services of their own."""

from __future__ import annotations

import json
import shutil
import subprocess
import tempfile
from pathlib import Path
from typing import Any

from launch import install
from launch.places import ROOT, VENV, Data
from launch.services import start_services

LAUNCHER = "launcher"
"""Tag of what needs neither database nor broker of the test run: it goes along with the core, whose parts are done sooner."""
LAUNCHING = ["tests.server.test_launch", "tests.server.test_supervisor", "tests.server.test_backup"]
REST = [f"--exclude-tag={LAUNCHER}", "tests.server", "tests.browser"]
BROWSER = "tests.browser."
AGAIN_AT_MOST = 6
"""So many browser tests are run once more by themselves; where more fail, it is not the machine that is busy."""
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
                    ["nice", "-n", "19", *_command(names)], cwd=ROOT / "server", stdout=out, stderr=out,
                    env=env | ONE_THREAD | {"PLONKET_TEST_COUNTS": str(counts[part])},
                ))  # fmt: skip
        codes = [_run(REST, env | {"PLONKET_TEST_COUNTS": str(counts["rest"])}), *(one.wait() for one in running)]
    finally:
        for one in running:
            one.kill()
    for log in logs.values():
        print(log.read_text(errors="replace"), flush=True)
    told = [_told(path) for path in counts.values()]
    if told[0]["failures"]:
        codes[0] = 0  # It counts what failed, which is told below, and may pass by itself.
        told[0] = _again(told[0], env, folder / "again.json")
    passed = _closing(told)
    return next((code for code in codes if code), 0 if passed else 1)


def _told(path: Path) -> dict[str, Any]:
    """What a part counted. One that died has counted nothing, which is a failure too."""
    return json.loads(path.read_text()) if path.exists() else {"failed": 1, "failures": [f"{path.stem}: it died"]}


def _again(told: dict[str, Any], env: dict[str, str], path: Path) -> dict[str, Any]:
    """Browser tests whose time ran out beside all others are run once more with the machine to themselves, and named."""
    names = [name for name in told["failures"] if name.startswith(BROWSER)]
    if not names or len(names) > AGAIN_AT_MOST:
        return told
    print(f"Once more, by themselves: {', '.join(names)}", flush=True)
    _run(names, env | {"PLONKET_TEST_COUNTS": str(path)})
    if not path.exists():
        return told
    still = _told(path)["failures"]
    for name in sorted(set(names) - set(still)):
        print(f"PASSED BY ITSELF ONLY  {name}")
    freed = len(names) - len(still)
    return told | {
        "passed": told["passed"] + freed,
        "failed": told["failed"] - freed,
        "failures": [name for name in told["failures"] if name not in names or name in still],
    }


def _closing(parts: list[dict[str, Any]]) -> bool:
    """One closing line over everything that ran, after the names of what failed; whether all passed."""
    total = {what: sum(part.get(what, 0) for part in parts) for what in ("passed", "failed", "skipped")}
    for name in (name for part in parts for name in part["failures"]):
        print(f"FAILED  {name}")
    print(", ".join(f"{count} {what}" for what, count in total.items()), flush=True)
    return total["failed"] == 0


def _command(names: list[str]) -> list[str]:
    return [str(VENV / "bin" / "python"), "manage.py", "test", "--noinput", *names]
