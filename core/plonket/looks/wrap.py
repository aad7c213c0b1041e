"""Light wrap: what lies behind shines round the edges of what stands before it."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from plonket.base.conventions import F32, FAST
from plonket.base.fields import Number, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, blurred


class Wrap(LookBase):
    """Light from behind, brightest at the edge."""

    kind: Literal["wrap"] = "wrap"
    width: Number = number(8.0, label="Width", low=0.5, high=200, step=0.5, unit="px", group="Light wrap", soft=(1, 40))
    strength: Number = number(50.0, label="Strength", low=0, high=400, step=1, unit="%", group="Light wrap", soft=(0, 150))


def run(rgba: F32, look: Wrap, context: LookContext) -> F32:
    """The picture with blurred light of what is behind added inside its edge; alone, it is left as it is."""
    if context.behind is None:
        return rgba
    sigma = max(value_at(look.width, context.frame) * context.scale, 0.3)
    out = np.empty_like(rgba)
    strength = np.float32(value_at(look.strength, context.frame) / 100)
    _veiled(rgba, blurred(1 - rgba[..., 3], sigma), blurred(np.ascontiguousarray(context.behind), sigma), strength, out)
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _veiled(rgba: F32, beyond: F32, light: F32, strength: np.float32, out: F32) -> None:
    """As a lens veils it: light from behind added inside the edge, up to white."""
    zero, one = np.float32(0.0), np.float32(1.0)
    for y in numba.prange(rgba.shape[0]):
        for x in range(rgba.shape[1]):
            alpha = rgba[y, x, 3]
            veil = min(max(strength * beyond[y, x] * alpha, zero), one)
            for c in range(3):
                own = rgba[y, x, c]
                out[y, x, c] = own + veil * light[y, x, c] * min(max(one - own, zero), one)
            out[y, x, 3] = alpha


LOOKS.add(LookEntry(
    kind="wrap", order=180, label="Light wrap", settings=Wrap, run=run,
    help="What lies behind shines round the edges.",
))  # fmt: skip
