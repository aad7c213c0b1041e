"""Mend: something taken out of the footage, where masks say so."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import model_validator

from plonket.base.fields import choice, plain, switch
from plonket.document.bases import MaskedTreatment
from plonket.document.kinds import TREATMENTS, TreatmentEntry
from plonket.plate.view_path import PlateContext, ViewPath


class Mend(MaskedTreatment):
    """What its masks cover is filled in every frame."""

    kind: Literal["mend"] = "mend"
    method: Literal["time", "edges"] = choice(
        "time", label="Filled", group="Mend",
        names={"time": "Borrowed from other frames", "edges": "From its edges"},
        help="Borrow what other frames show there, or go on from what lies round it.")  # fmt: skip
    rim: int = plain(2, label="Wider by", low=0, high=40, step=1, unit="px", group="Mend", whole=True,
                     help="How much further than the masks it is filled.")  # fmt: skip
    course: Literal["round", "across", "along", "radial"] = choice(
        "round", label="Drawn", group="From its edges",
        names={"round": "In from all round", "across": "Straight across it", "along": "Along its length",
               "radial": "Towards its middle"},
        help="Which edges a spot inside is made from. Across and along go by each hole's own shape.")  # fmt: skip
    reach: float = plain(10, label="Light from", low=2, high=80, step=1, unit="px", group="From its edges",
                         help="Width of the band round the hole whose light is taken.")  # fmt: skip
    offset: float = plain(0, label="Begins", low=0, high=80, step=1, unit="px", group="From its edges",
                          help="How far from the hole that band begins: past a shadow or a bright rim.")  # fmt: skip
    grain: bool = switch(True, label="Grain back", group="From its edges", help="Put the surroundings' grain back.")

    @model_validator(mode="before")
    @classmethod
    def _one_outline(cls, data: Any) -> Any:
        """Documents once had a single outline here."""
        if isinstance(data, dict) and "outline" in data:
            data = dict(data)
            target, frame = data.pop("target", None), data.pop("reference_frame", 0)
            data["masks"] = [{
                "kind": "outline", "id": "mask-1", "name": "Mask", "outline": data.pop("outline"),
                "rides": f"to:{target}" if target else "footage", "reference_frame": frame,
            }]  # fmt: skip
        return data


def keep_view(settings: MaskedTreatment, context: PlateContext, view: ViewPath) -> ViewPath:
    """Mending leaves the clip where it lies."""
    return view


TREATMENTS.add(TreatmentEntry(
    kind="mend", order=30, label="Mend", settings=Mend, run=keep_view, traits=frozenset({"mends", "masked"}),
    help="Takes something out: what masks cover is filled in every frame.",
    groups=("Mend", ("From its edges", {"method": ("edges",)})),
    card={"": "Taken out"}, says={"": "Taken out of the footage, in every frame, where its masks are."},
))  # fmt: skip
