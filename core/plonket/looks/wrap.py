"""Light wrap: what lies behind shines round the edges of what stands before it."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, blurred, lighted


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
    alpha = rgba[..., 3]
    beyond = blurred(1 - alpha, sigma) * alpha
    light = blurred(np.ascontiguousarray(context.behind[..., :3]), sigma)
    strength = np.float32(value_at(look.strength, context.frame) / 100)
    # As a lens veils it: added, up to white.
    veil = np.clip(strength * beyond, 0, 1)[..., None] * light
    room = np.clip(1 - rgba[..., :3], 0, 1)
    return lighted(rgba[..., :3] + veil * room, rgba)


LOOKS.add(LookEntry(
    kind="wrap", order=180, label="Light wrap", settings=Wrap, run=run,
    help="What lies behind shines round the edges.",
))  # fmt: skip
