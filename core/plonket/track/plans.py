"""Which frames a measurement visits, in what order."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def plan_passes(
    direction: str, reference: int, start: int, stop: int, origin: int | None, known: NDArray[np.bool_]
) -> list[list[int]]:
    """The walks through the frames start..stop-1; each begins on a frame that is known already.

    Parameters
    ----------
    direction : forward, backward, both, or gap (the run of unknown frames round `origin`).
    reference : where the motion was given. origin : where to go on from; None: the reference.
    known : (n,) frames with a place to trust.
    """
    first = reference if origin is None else origin
    first = min(max(first, start), stop - 1)
    if direction == "gap":
        return _gap(first, start, stop, known)
    out = []
    if direction in ("forward", "both"):
        out.append(list(range(first, stop)))
    if direction in ("backward", "both"):
        out.append(list(range(first, start - 1, -1)))
    return [p for p in out if len(p) > 1]


def _gap(at: int, start: int, stop: int, known: NDArray[np.bool_]) -> list[list[int]]:
    """From both sides of a gap to its middle."""
    unknown = [f for f in range(start, stop) if not known[f]]
    if not unknown:
        return []
    near = min(unknown, key=lambda f: abs(f - at))
    a = b = near
    while a - 1 >= start and not known[a - 1]:
        a -= 1
    while b + 1 < stop and not known[b + 1]:
        b += 1
    has_left, has_right = a - 1 >= start, b + 1 < stop
    middle = (a + b) // 2 if has_left and has_right else b if has_left else a - 1
    out = []
    if has_left:
        out.append(list(range(a - 1, middle + 1)))
    if has_right:
        out.append(list(range(b + 1, middle, -1)))
    return [p for p in out if len(p) > 1]
