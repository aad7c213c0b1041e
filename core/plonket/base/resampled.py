"""Values that are known at whole frames, between them."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64

MOST = 6
"""Values that count, at the most."""


def between_rows(rows: F64, at: float) -> F64:
    """Values (n, ...) at a fractional index: the polynomial through the six nearest; beyond the ends it goes on straight.

    Six follow a hand's tremor, up to a third of the frame rate, twice as well as four.
    Source: Lagrange's interpolation formula, NIST DLMF, https://dlmf.nist.gov/3.3#i.
    """
    n = len(rows)
    low = int(np.clip(np.floor(at), 0, n - 1))
    if abs(at - low) < 1e-9 or n == 1:
        return np.asarray(rows[low], np.float64)
    if at < 0 or at > n - 1:
        low = min(low, n - 2)
        return np.asarray(rows[low] + (at - low) * (rows[low + 1] - rows[low]), np.float64)
    # Near the ends four: with more of them on one side it would swing.
    many = min(n, MOST if MOST // 2 <= low + 1 <= n - MOST // 2 else 4)
    first = min(max(low + 1 - many // 2, 0), n - many)
    places = np.arange(first, first + many)
    out = np.zeros(np.shape(rows[low]))
    for place in places:
        others = places[places != place]
        out = out + float(np.prod((at - others) / (place - others))) * rows[place]
    return np.asarray(out, np.float64)
