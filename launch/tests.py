"""``bin/plonket test``: all tests with Django's runner, against services of their own."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from pathlib import Path

from launch import install
from launch.places import ROOT, VENV, Data
from launch.services import start_services

CORE, REST = ["tests.core"], ["tests.server", "tests.browser"]
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
        env["PYTHONPATH"] += f":{ROOT}"
        # Compiled ahead, so that no test's time limit has to hold a compiler.
        subprocess.run([str(VENV / "bin" / "python"), "-m", "plonket.warm"], cwd=ROOT / "server", env=env, check=True)
        return _run(arguments, env) if arguments else _all(env, folder / "core.log")
    finally:
        for child in reversed(services.children):
            child.stop()
        shutil.rmtree(folder, ignore_errors=True)


def _run(names: list[str], env: dict[str, str]) -> int:
    return subprocess.run(_command(names), cwd=ROOT / "server", env=env).returncode


def _all(env: dict[str, str], log: Path) -> int:
    """The core's tests, which need no services, beside all others. They step back, for browser tests have time limits."""
    with log.open("wb") as out:
        core = subprocess.Popen(
            ["nice", *_command(CORE)], cwd=ROOT / "server", env=env | ONE_THREAD, stdout=out, stderr=out
        )
        try:
            rest = _run(REST, env)
            failed = core.wait()
        finally:
            core.kill()
    print(log.read_text(errors="replace"), flush=True)
    return rest or failed


def _command(names: list[str]) -> list[str]:
    return [str(VENV / "bin" / "python"), "manage.py", "test", "--noinput", *names]
