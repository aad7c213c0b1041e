"""``bin/plonket test``: all tests with Django's runner, against services of their own."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from pathlib import Path

from launch import install
from launch.places import ROOT, VENV, Data
from launch.services import start_services


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
        return subprocess.run(
            [str(VENV / "bin" / "python"), "manage.py", "test", "--noinput", *(arguments or ["tests"])],
            cwd=ROOT / "server", env=env,
        ).returncode  # fmt: skip
    finally:
        for child in reversed(services.children):
            child.stop()
        shutil.rmtree(folder, ignore_errors=True)
