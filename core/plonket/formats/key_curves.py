"""Keyed numbers as JSON, key by key, and as a table, frame by frame; and back."""

from __future__ import annotations

import csv
import io
import json
import math
from collections.abc import Mapping
from fractions import Fraction
from typing import Any

import numpy as np
from pydantic import ValidationError

from plonket.base.errors import FormatError
from plonket.base.fields import Key, Keyed, Number, Wobbling, value_at

MOST_ROWS, MOST_CURVES = 20_000, 500
STRAIGHT = 1e-6
"""Share of a column's span by which a value may lie off the straight line between its neighbours and need no key."""


def write_curves_json(numbers: Mapping[str, Keyed | Wobbling], fps: Fraction) -> str:
    """The keys of numbers that have them; of one that wobbles, those that it wobbles about."""
    rows = []
    for path, number in numbers.items():
        base = number.base if isinstance(number, Wobbling) else number
        if isinstance(base, Keyed):
            rows.append({"number": path, "keys": [key.model_dump(mode="json") for key in base.keys]})
    return json.dumps({"plonket_curves": 1, "fps": f"{fps.numerator}/{fps.denominator}", "curves": rows}, indent=1) + "\n"


def write_curves_csv(numbers: Mapping[str, Keyed | Wobbling], frames: int) -> str:
    """A row a frame and a column a number, as it is on that frame, wobble and all."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(["frame", *numbers])
    for frame in range(frames):
        table.writerow([frame, *(f"{value_at(number, frame):.9g}" for number in numbers.values())])
    return out.getvalue()


def read_curves(text: str) -> dict[str, Number]:
    """Numbers by their places, from either. A table's columns become keys that go on in straight lines, no more than they need;
    a frame without a value has none.

    Raises
    ------
    FormatError
        That says which row or key is wrong.
    """
    return _of_json(text) if text.lstrip().startswith("{") else _of_csv(text)


def _of_json(text: str) -> dict[str, Number]:
    try:
        data: Any = json.loads(text)
        rows = [(str(row["number"]), row["keys"]) for row in data["curves"]]
    except (json.JSONDecodeError, KeyError, TypeError, RecursionError) as error:
        raise FormatError("curves.shape", 'A file of curves needs "curves", each with "number" and "keys".') from error
    if not rows or len(rows) > MOST_CURVES:
        raise FormatError("curves.count", f"There are {len(rows)} curves in this file; 1 to {MOST_CURVES} are read.")
    out: dict[str, Number] = {}
    for path, keys in rows:
        try:
            out[path] = Keyed.model_validate({"keys": keys})
        except ValidationError as error:
            raise FormatError("curves.keys", f"The keys of {path[:80]} cannot be used: {error.errors()[0]['msg']}.") from error
    return out


def _of_csv(text: str) -> dict[str, Number]:
    try:
        rows = list(csv.reader(io.StringIO(text)))
    except csv.Error as error:
        raise FormatError("curves.table", "This table cannot be read.") from error
    if not rows or rows[0][0].strip() != "frame" or len(rows[0]) < 2:
        raise FormatError("curves.columns", 'A table of curves begins with "frame" and the names of its numbers.')
    if len(rows) > MOST_ROWS or len(rows[0]) > MOST_CURVES:
        raise FormatError("curves.size", "This table is too large.")
    names = [name.strip() for name in rows[0][1:]]
    found: dict[str, dict[int, float]] = {name: {} for name in names}
    for line, row in enumerate(rows[1:], 2):
        if not any(cell.strip() for cell in row):
            continue
        try:
            frame = int(row[0])
            for name, cell in zip(names, row[1:], strict=False):
                if cell.strip():
                    found[name][frame] = float(cell)
        except ValueError as error:
            raise FormatError("curves.row", f"Line {line} of this table has something that is no number.") from error
        if frame < 0 or not all(math.isfinite(one.get(frame, 0.0)) for one in found.values()):
            raise FormatError("curves.row", f"Line {line} of this table has something that is no number.")
    out: dict[str, Number] = {}
    for name, values in found.items():
        if values:
            out[name] = _thinned(values)
    if not out:
        raise FormatError("curves.empty", "This table has no values.")
    return out


def _thinned(values: dict[int, float]) -> Number:
    """Keys in straight lines through values by frame: those are left out that lie on the line anyway. One value for all frames
    is no movement."""
    frames = np.array(sorted(values))
    levels = np.array([values[frame] for frame in frames])
    span = float(np.ptp(levels))
    if span == 0:
        return float(levels[0])
    keep = [0]
    for k in range(1, len(frames) - 1):
        a = keep[-1]
        # Straight from the last key to the next value, through all that was left out on the way?
        line = np.interp(frames[a + 1 : k + 1], [frames[a], frames[k + 1]], [levels[a], levels[k + 1]])
        if np.abs(levels[a + 1 : k + 1] - line).max() > STRAIGHT * span:
            keep.append(k)
    keep.append(len(frames) - 1)
    return Keyed(keys=[Key(frame=int(frames[k]), value=float(levels[k]), ease="linear") for k in dict.fromkeys(keep)])
