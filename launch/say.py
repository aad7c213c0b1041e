"""Words to the person at the terminal; everything goes to stderr so that results stay clean."""

from __future__ import annotations

import sys


class Stop(Exception):
    """A problem that ends the command, with one clear line for the person."""


def say(text: str) -> None:
    print(text, file=sys.stderr, flush=True)
