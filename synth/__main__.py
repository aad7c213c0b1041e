"""The commands ``film`` and ``elements``."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from plonket.cli.terminal import run_command, terminal_work


def main(arguments: list[str] | None = None) -> int:
    """Run one command; returns the exit code."""
    parser = argparse.ArgumentParser(prog="plonket", description="What Plonket makes up for itself.")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    one = commands.add_parser("film", help="film a demo set with the simulated phone")
    one.add_argument("set", metavar="SET", help="workshop, harbour or keeper")
    one.add_argument("--out", type=Path, required=True, metavar="FOLDER")
    one.add_argument("--scale", type=float, default=1.0, help="of 1280 x 720 (default 1)")
    one.add_argument("--samples", type=int, default=9, help="light paths per pixel, a square number (default 9)")
    one.set_defaults(run=_film)
    one = commands.add_parser("elements", help="draw the demo shelf's elements")
    one.add_argument("--out", type=Path, required=True, metavar="FOLDER")
    one.set_defaults(run=_elements)
    return run_command(parser.parse_args(arguments))


def _film(options: argparse.Namespace) -> None:
    from synth.phone.demo import film

    film(options.set, options.out, scale=options.scale, samples=options.samples, work=terminal_work("Pictures"))


def _elements(options: argparse.Namespace) -> None:
    from synth.elements.shelf import write_elements

    write_elements(options.out)


if __name__ == "__main__":
    sys.exit(main())
