"""Layers that stand in a room several times: in rows, each a little otherwise by a seed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from pydantic import model_validator

from plonket.base.fields import plain
from plonket.document.bases import LayerBase

MOST_COPIES = 64


class CopiedLayer(LayerBase):
    """How often it stands there, and how its copies differ."""

    across: int = plain(1, label="Side by side", low=1, high=16, step=1, group="Copies", whole=True)
    deep: int = plain(1, label="Rows", low=1, high=16, step=1, group="Copies", whole=True)
    across_gap: float = plain(0.3, label="Apart sideways", low=-100, high=100, step=0.01, unit="m", group="Copies",
                        soft=(0.02, 2))
    deep_gap: float = plain(0.3, label="Apart in depth", low=-100, high=100, step=0.01, unit="m", group="Copies",
                        soft=(0.02, 2))
    scattered: float = plain(0, label="Scattered", low=0, high=200, step=1, unit="%", group="Copies", soft=(0, 100),
                             help="How far from its place each may stand, of the way to the next.")  # fmt: skip
    copies_sized: float = plain(0, label="Sizes", low=0, high=90, step=1, unit="%", group="Copies", soft=(0, 50),
                                help="By how much each may be larger or smaller.")  # fmt: skip
    copies_seed: int = plain(1, label="Seed", low=0, high=9999, step=1, group="Copies", whole=True,
                             help="Another number, another crowd.")  # fmt: skip

    @model_validator(mode="after")
    def _few_copies(self) -> CopiedLayer:
        if self.across * self.deep > MOST_COPIES:
            raise ValueError(f"{self.name}: at most {MOST_COPIES} copies can be filmed at once")
        return self


@dataclass(frozen=True, slots=True)
class CopyPlace:
    """Where a copy stands: x to the right and z to the front of the first row, in metres; its size, of 1; and what else
    is drawn for it, each from -1 to 1."""

    x: float
    z: float
    size: float
    turn: float
    late: float


def copy_places(layer: CopiedLayer) -> list[CopyPlace]:
    """All of them, the first row first; one more changes none of the others."""
    out = []
    share = layer.scattered / 100 / 2
    for k in range(layer.across * layer.deep):
        i, j = k % layer.across, k // layer.across
        # Drawn for each by itself.
        aside, back, turn, size, late = np.random.default_rng([layer.copies_seed, i, j]).uniform(-1, 1, 5)
        x = (i - (layer.across - 1) / 2 + share * aside) * layer.across_gap
        z = -(j + share * back) * layer.deep_gap
        out.append(CopyPlace(float(x), float(z), float(1 + layer.copies_sized / 100 * size), float(turn), float(late)))
    return out
