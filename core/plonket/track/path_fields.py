"""Fields that every motion has: how its measured path is taken by what follows it."""

from __future__ import annotations

from typing import Any

from plonket.base.fields import choice, plain


def gaps_choice() -> Any:
    """How frames on which the motion is lost are bridged."""
    return choice("line", label="Over gaps", group="Path", names={"line": "Straight", "curve": "Curved"},
                  help="Where it is lost, followers go straight across, or on with the speed on either side.")  # fmt: skip


def smooth_field() -> Any:
    """Small shakes left out of the path."""
    return plain(0, label="Smooth", low=0, high=120, step=1, unit="fr", group="Path",
                 help="Followers take a path averaged over so many frames. The measurement itself stays.")  # fmt: skip
