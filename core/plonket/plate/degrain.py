"""De-grain: the clip's grain taken off, along its movement; it can be given back at the end."""

from __future__ import annotations

from typing import Literal

from plonket.base.fields import Number, number, plain
from plonket.document.bases import MaskedTreatment
from plonket.document.kinds import TREATMENTS, TreatmentEntry
from plonket.plate.mend import keep_view


class Degrain(MaskedTreatment):
    """Grain is taken off all of the footage, or off what masks cover."""

    kind: Literal["degrain"] = "degrain"
    share: Number = number(100.0, label="Taken off", low=0, high=100, step=1, unit="%", group="De-grain",
                           help="How much of the grain goes.")  # fmt: skip
    strength: float = plain(100, label="Smooths", low=20, high=300, step=5, unit="%", group="De-grain",
                            help="How strong the grain is taken to be, against what was measured.")  # fmt: skip
    reach: int = plain(2, label="Frames", low=1, high=5, step=1, group="De-grain", whole=True,
                       help="How many frames before and after each one help.")  # fmt: skip


TREATMENTS.add(TreatmentEntry(
    kind="degrain", order=50, label="De-grain", settings=Degrain, run=keep_view,
    traits=frozenset({"mends", "masked", "everywhere"}),
    help="Takes the clip's grain off, along its movement, and leaves what is there as sharp as it is.",
    groups=("De-grain",),
    card={"": "Grain off where masked", "masks=": "Grain off, all over"},
    says={"": "The clip's grain is taken off, all over the picture or where its masks are."},
))  # fmt: skip
