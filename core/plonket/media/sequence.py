"""Numbered pictures: in which order they come, which are missing, and what stands for those."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

NUMBERS = re.compile(r"(\d+)")
MOST_PICTURES = 200_000


def _natural(name: str) -> list[tuple[int, int, str]]:
    """A key by which ``frame-10`` comes after ``frame-9``."""
    return [(0, int(part), "") if part.isdigit() else (1, 0, part.lower()) for part in NUMBERS.split(name) if part]


def in_order(paths: Sequence[Path]) -> list[Path]:
    """Pictures by the numbers in their names."""
    return sorted(paths, key=lambda path: (_natural(path.stem), path.name))


def numbers_of(names: Sequence[str]) -> list[int] | None:
    """The numbers by which pictures in their order are counted: the last ones in their names, if all else in those is alike.

    None where they are not counted: names differ otherwise, or more than half of the numbers between would be missing.
    """
    parts = [NUMBERS.split(Path(name).stem) for name in names]
    if len(parts) < 2 or any(len(one) < 3 for one in parts):
        return None
    if len({(*one[:-2], one[-1]) for one in parts}) > 1:
        return None
    found = [int(one[-2]) for one in parts]
    steps = [b - a for a, b in zip(found, found[1:], strict=False)]
    if min(steps) <= 0:
        return None
    # Every second one is how some programs number: then none is missing.
    step = min(steps)
    if any(s % step for s in steps):
        return None
    counted = [(n - found[0]) // step for n in found]
    return None if counted[-1] + 1 > min(2 * len(found), MOST_PICTURES) else counted


def missing_numbers(names: Sequence[str]) -> list[int]:
    """The numbers, as they stand in the names of pictures, of those that are not among them."""
    ordered = [path.name for path in in_order([Path(name) for name in names])]
    counted = numbers_of(ordered)
    if counted is None:
        return []
    first, second = (int(NUMBERS.split(Path(name).stem)[-2]) for name in ordered[:2])
    step = (second - first) // (counted[1] - counted[0])
    return [first + step * k for k in sorted(set(range(counted[-1] + 1)) - set(counted))]


def held(paths: Sequence[Path]) -> tuple[list[Path], list[int]]:
    """Pictures in their order with the one before in place of each that is missing, and the places of those, from 0."""
    ordered = in_order(paths)
    numbers = numbers_of([path.name for path in ordered])
    if numbers is None:
        return ordered, []
    out: list[Path] = []
    gaps: list[int] = []
    for path, number in zip(ordered, numbers, strict=True):
        while len(out) < number:
            gaps.append(len(out))
            out.append(out[-1])
        out.append(path)
    return out, gaps


def spoken(places: Sequence[int]) -> str:
    """Places in words, such as ``4, 7 to 9``."""
    runs: list[list[int]] = []
    for place in places:
        if runs and place == runs[-1][1] + 1:
            runs[-1][1] = place
        else:
            runs.append([place, place])
    words = [str(a) if a == b else f"{a} to {b}" for a, b in runs]
    return ", ".join(words[:6]) + (f" and {len(words) - 6} more stretches" if len(words) > 6 else "")
