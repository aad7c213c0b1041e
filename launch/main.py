"""The command ``bin/plonket``."""

from __future__ import annotations

import os
import sys

from launch import install
from launch.places import ROOT, THREADS, VENV
from launch.say import Stop, say

USAGE = """usage: plonket COMMAND ...

  start         set up what is missing, start Plonket, print its address
  test [NAME]   run the tests
  bench         measure speed against plain library calls
  backup        copy everything of yours aside, while Plonket runs or not
  restore       make a data folder of a backup

Commands of the core, without server or database:
  probe         facts about a clip as JSON
  track-points  follow points through a clip, to CSV
  track-plane   follow a flat surface through a clip, to JSON or CSV
  solve-camera  solve the camera's movement, its lens and points of the set
  solve-object  solve a rigid thing before a still camera from points on it
  steady        steady a clip on a plane that was followed
  fill          take out what a matte covers
  key           take a subject off its cloth
  cut-out       take a subject off anything, by strokes
  matte         pick a thing by clicks, and carry its matte through a clip
  depth         how far away everything is, by a solved camera
  grain         measure a clip's grain
  advise        what to follow in a clip, and what moves by itself
  light         where the light of a solved set comes from
  match         make a layer look as if filmed with the plate
  render        render a shot file to a file or folder
  pack          a shot file, or a folder of them, with all they name, as one file
  unpack        a packed project as shot files
  film          film a demo set with the simulated phone
  elements      draw the demo shelf's elements

`plonket COMMAND --help` explains each."""


BESIDE = {"film": "synth", "elements": "synth", "bench": "bench"}
"""Commands of the packages that stand beside the core."""


def main(arguments: list[str]) -> int:
    if not arguments or arguments[0] in ("-h", "--help", "help"):
        print(USAGE)
        return 0 if arguments else 2
    command, rest = arguments[0], arguments[1:]
    try:
        if command == "start":
            from launch.start import main as start

            return start(rest)
        if command == "test":
            from launch.tests import main as test

            return test(rest)
        if command in ("backup", "restore"):
            from launch import backup

            return backup.backup_main(rest) if command == "backup" else backup.restore_main(rest)
        return core(command, rest)
    except Stop as stop:
        say(f"plonket: {stop}")
        return 1
    except KeyboardInterrupt:
        return 130


def core(command: str, rest: list[str]) -> int:
    """Hand over to the core's own command line in the virtual environment."""
    if command in ("film", "render", "bench"):
        install.llvm()
    install.python("core")
    env = {**THREADS, **os.environ, "PYTHONPATH": f"{ROOT / 'core'}:{ROOT}"}
    env.setdefault("NUMBA_CACHE_DIR", str(ROOT / "var" / "numba"))
    python = str(VENV / "bin" / "python")
    sys.stdout.flush()
    os.execve(python, [python, "-m", BESIDE.get(command, "plonket.cli.main"), command, *rest], env)
