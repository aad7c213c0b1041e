"""A colour table: a look worked out elsewhere, as a `.cube` file."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from plonket.base.conventions import F32, FAST
from plonket.base.fields import AssetDigest, asset, choice
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, coded, coloured, lit, straight


class ColourTable(LookBase):
    """Colours through a table from the shelf."""

    kind: Literal["cube"] = "cube"
    table: AssetDigest | None = asset("table", label="Table", group="Table", help="A .cube file from the shelf.")
    works_on: Literal["code", "light"] = choice(
        "code", label="Works on", group="Table", names={"code": "Display code", "light": "Linear light"})  # fmt: skip


def run(rgba: F32, look: ColourTable, context: LookContext) -> F32:
    """The picture through the table; what is brighter than white is taken as white. Without a table it stays."""
    if look.table is None or context.table is None:
        return rgba
    table = context.table(look.table)
    light = straight(rgba)
    values = np.nan_to_num(np.clip(coded(light) if look.works_on == "code" else light, 0, 1))
    out = np.empty_like(values)
    if table.ndim == 2:
        for c in range(3):
            out[..., c] = np.interp(values[..., c], np.linspace(0, 1, len(table)), table[:, c])
    else:
        _look_up(values, np.ascontiguousarray(table, np.float32), out)
    return coloured(rgba, lit(out) if look.works_on == "code" else out)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _look_up(values: F32, table: F32, out: F32) -> None:
    """Tetrahedral interpolation: along the grey axis nothing is tinted."""
    n = table.shape[0] - 1
    for j in numba.prange(values.shape[0]):
        for i in range(values.shape[1]):
            r, g, b = values[j, i, 0] * n, values[j, i, 1] * n, values[j, i, 2] * n
            r0, g0, b0 = min(int(r), n - 1), min(int(g), n - 1), min(int(b), n - 1)
            fr, fg, fb = r - r0, g - g0, b - b0
            # From the lowest corner to the highest, along the axes in the order of the fractions.
            ar, ag, ab = 0, 0, 0
            left_r, left_g, left_b = fr, fg, fb
            for c in range(3):
                out[j, i, c] = table[r0, g0, b0, c]
            for _ in range(3):
                pr, pg, pb = ar, ag, ab
                if left_r >= left_g and left_r >= left_b:
                    share, ar, left_r = left_r, 1, -1.0
                elif left_g >= left_b:
                    share, ag, left_g = left_g, 1, -1.0
                else:
                    share, ab, left_b = left_b, 1, -1.0
                for c in range(3):
                    step = table[r0 + ar, g0 + ag, b0 + ab, c] - table[r0 + pr, g0 + pg, b0 + pb, c]
                    out[j, i, c] += share * step


LOOKS.add(LookEntry(
    kind="cube", order=70, label="Colour table", settings=ColourTable, run=run,
    help="Colours through a .cube table.",
))  # fmt: skip
