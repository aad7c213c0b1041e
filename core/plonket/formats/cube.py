"""Colour tables as `.cube` text (the open format of the Cube LUT Specification 1.0)."""

from __future__ import annotations

import numpy as np

from plonket.conventions import F32
from plonket.errors import FormatError

MOST_3D, MOST_1D = 129, 65536


def read_cube(text: str) -> F32:
    """The lattice (n, n, n, 3), its axes red, green, blue; or (n, 3) for one table for each channel.

    Raises
    ------
    FormatError
        When it is no such table, or its numbers do not fit its size; the message says where.
    """
    size, flat = 0, True
    low, high = np.zeros(3), np.ones(3)
    rows: list[list[float]] = []
    for number, line in enumerate(text.splitlines(), 1):
        words = line.split("#")[0].split()
        if not words or words[0] == "TITLE":
            continue
        try:
            if words[0] in ("LUT_3D_SIZE", "LUT_1D_SIZE"):
                size, flat = int(words[1]), words[0] == "LUT_1D_SIZE"
            elif words[0] in ("DOMAIN_MIN", "DOMAIN_MAX"):
                values = np.array([float(w) for w in words[1:4]])
                low, high = (values, high) if words[0] == "DOMAIN_MIN" else (low, values)
            elif words[0][0].isalpha():
                continue
            else:
                rows.append([float(w) for w in words])
                if len(rows[-1]) != 3 or not np.isfinite(rows[-1]).all():
                    raise ValueError
        except (ValueError, IndexError) as error:
            said = line.strip()[:60]
            raise FormatError("cube.line", f"Line {number} of this colour table cannot be read: {said}.") from error
    if not 2 <= size <= (MOST_1D if flat else MOST_3D):
        raise FormatError("cube.size", "This is no colour table: it says no size, or one that is not sensible.")
    wanted = size if flat else size**3
    if len(rows) != wanted:
        raise FormatError("cube.rows", f"This colour table should have {wanted} rows of numbers but has {len(rows)}.")
    if not np.allclose(low, 0) or not np.allclose(high, 1):
        raise FormatError("cube.domain", "Only colour tables for values from 0 to 1 can be used.")
    table = np.array(rows, np.float32)
    # The file's first index runs fastest, and it is red.
    return table if flat else np.ascontiguousarray(table.reshape(size, size, size, 3).transpose(2, 1, 0, 3))
