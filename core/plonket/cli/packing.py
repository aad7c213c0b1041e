"""Commands that make one file of shots, and shots of one file."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from plonket.cli.terminal import terminal_work


def add_packing_commands(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """``pack`` and ``unpack``."""
    one = commands.add_parser("pack", help="a shot file, or a folder of them, with all that they name, as one file")
    one.add_argument("project", type=Path, metavar="PROJECT", help="a shot file or a folder of shot files")
    one.add_argument("--out", type=Path, required=True, metavar="FILE.plonket")
    one.set_defaults(run=_pack)

    one = commands.add_parser("unpack", help="a packed project as a folder of shot files with their media")
    one.add_argument("file", type=Path, metavar="FILE.plonket")
    one.add_argument("--out", type=Path, metavar="FOLDER", help="a folder that is not there yet (default: the file's name)")
    one.set_defaults(run=_unpack)


def _pack(options: argparse.Namespace) -> None:
    from plonket.pack.shot_files import pack_shot_files

    made = pack_shot_files(options.project, options.out, terminal_work("MB"))
    told = f"{len(made.shots)} shots, {len(made.assets)} files, {len(made.measurements)} measurements"
    print(f"{options.out.name}: {told}, {options.out.stat().st_size / 1e6:.1f} MB", file=sys.stderr)


def _unpack(options: argparse.Namespace) -> None:
    from plonket.pack.shot_files import unpack_shot_files

    out = options.out or options.file.with_suffix("")
    for path in unpack_shot_files(options.file, out, terminal_work("MB")):
        print(path)
