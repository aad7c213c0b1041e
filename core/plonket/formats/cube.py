"""Colour tables as `.cube` text (the open format of the Cube LUT Specification 1.0)."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import numpy as np

from plonket.base.colour import BRIGHTEST
from plonket.base.conventions import F32
from plonket.base.errors import FormatError

MOST_3D, MOST_1D = 129, 65536
LONGEST_LINE = 2000


def load_cube(path: Path) -> F32:
    """The table (n, n, n, 3) in a file; raises as `read_cube` does."""
    with path.open(errors="replace") as file:
        return read_cube(iter(lambda: file.readline(LONGEST_LINE + 1), ""))


def read_cube(lines: Iterable[str]) -> F32:
    """The table in these lines: (n, n, n, 3), its axes red, green, blue; or (n, 3) for one table for each channel.

    Raises
    ------
    FormatError
        When it is no such table, or its numbers do not fit its size; the message says where.
    """
    size, flat = 0, True
    low, high = np.zeros(3), np.ones(3)
    rows: list[list[float]] = []
    for number, line in enumerate(lines, 1):
        if len(line) > LONGEST_LINE:
            raise FormatError("cube.line", f"Line {number} of this colour table cannot be read: {line[:60].strip()}.")
        words = line.split("#")[0].split()
        if not words or words[0] == "TITLE":
            continue
        try:
            if words[0] in ("LUT_3D_SIZE", "LUT_1D_SIZE"):
                size, flat = int(words[1]), words[0] == "LUT_1D_SIZE"
                if not _sensible(size, flat):
                    break
            elif words[0] in ("DOMAIN_MIN", "DOMAIN_MAX"):
                values = np.array([float(w) for w in words[1:4]])
                low, high = (values, high) if words[0] == "DOMAIN_MIN" else (low, values)
            elif words[0][0].isalpha():
                continue
            else:
                rows.append([float(w) for w in words])
                # Read as they are used: what a float64 holds may be too much for light.
                if len(rows[-1]) != 3 or not all(abs(v) <= BRIGHTEST for v in rows[-1]):
                    raise ValueError
                if size and len(rows) > (size if flat else size**3):
                    raise FormatError("cube.rows", f"This colour table says {size} steps a side but has more rows than that.")
                if len(rows) > MOST_3D**3:
                    raise FormatError("cube.rows", f"This colour table has more rows than {MOST_3D} steps a side need.")
        except (ValueError, IndexError) as error:
            said = line.strip()[:60]
            raise FormatError("cube.line", f"Line {number} of this colour table cannot be read: {said}.") from error
    if not _sensible(size, flat):
        raise FormatError("cube.size", "This is no colour table: it says no size, or one that is not sensible.")
    wanted = size if flat else size**3
    if len(rows) != wanted:
        raise FormatError("cube.rows", f"This colour table should have {wanted} rows of numbers but has {len(rows)}.")
    if not np.allclose(low, 0) or not np.allclose(high, 1):
        raise FormatError("cube.domain", "Only colour tables for values from 0 to 1 can be used.")
    table = np.array(rows, np.float32)
    # The file's first index runs fastest, and it is red.
    return table if flat else np.ascontiguousarray(table.reshape(size, size, size, 3).transpose(2, 1, 0, 3))


def _sensible(size: int, flat: bool) -> bool:
    return 2 <= size <= (MOST_1D if flat else MOST_3D)
