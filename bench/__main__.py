"""The command ``bench``."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from plonket.cli.terminal import run_command


def main(arguments: list[str] | None = None) -> int:
    """Run the benchmark; returns the exit code."""
    parser = argparse.ArgumentParser(prog="plonket", description="Speed against plain library calls, in one run.")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    one = commands.add_parser("bench", help="measure speed against plain library calls, in one run")
    one.add_argument("--clip", type=Path, help="a clip to use instead of the workshop demo")
    one.set_defaults(run=_bench)
    return run_command(parser.parse_args(arguments))


def _bench(options: argparse.Namespace) -> None:
    from bench.whole import bench

    bench(options.clip)


if __name__ == "__main__":
    sys.exit(main())
