"""The registry of plate treatments."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from plonket.base.registry import Entry, Registry
from plonket.plate.clean import Clean
from plonket.plate.handheld import Handheld, handheld_view
from plonket.plate.mend import Mend, keep_view
from plonket.plate.stabilise import Steady, steady_view
from plonket.plate.view_path import PlateContext, ViewPath

TREATMENTS: Registry[Callable[[Any, PlateContext, ViewPath], ViewPath]] = Registry("treatment")
TREATMENTS.add(
    Entry(
        kind="steady",
        label="Steady",
        help="Holds the clip on a motion, or takes the bumps out of a move.",
        settings=Steady,
        run=steady_view,
    )
)
TREATMENTS.add(
    Entry(
        kind="handheld",
        label="Handheld",
        help="Gives a picture that stands too still a natural shake.",
        settings=Handheld,
        run=handheld_view,
    )
)
TREATMENTS.add(
    Entry(
        kind="mend",
        label="Mend",
        help="Takes something out: what masks cover is filled in every frame.",
        settings=Mend,
        run=keep_view,
    )
)
TREATMENTS.add(
    Entry(
        kind="clean",
        label="Clean frame",
        help="A frame put right once, cut to its masks and carried through the shot.",
        settings=Clean,
        run=keep_view,
    )
)


def view_path(treatments: Sequence[Steady | Handheld | Mend | Clean], context: PlateContext, frames: int) -> ViewPath:
    """The view after all treatments that are on, in their order."""
    view = ViewPath.untouched(frames, context.size)
    for one in treatments:
        if one.shown:
            view = TREATMENTS.get(one.kind).run(one, context, view)
    return view
