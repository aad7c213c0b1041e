"""A parcel: several layers kept as one, usable several times."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from plonket.base.conventions import F64
from plonket.base.fields import GOES, Identifier, plain, reference
from plonket.layers.placed import PlacedModel, frame_from_own
from plonket.track.spaces import Spaces


class ParcelLayer(PlacedModel):
    """Shows a parcel: a picture as large as the shot's, placed as one thing."""

    kind: Literal["parcel"] = "parcel"
    parcel: Annotated[Identifier, reference("parcel", says="shows a parcel", left=GOES)]
    width: int = Field(default=1280, ge=1)
    height: int = Field(default=720, ge=1)
    starts: int = plain(0, label="Starts at", low=-100000, high=100000, step=1, unit="fr", group="Time", whole=True,
                        help="Frame of the shot on which the parcel's frame 0 is shown.")  # fmt: skip


def frame_from_parcel(layer: ParcelLayer, spaces: Spaces, frame: float) -> F64:
    """(3, 3) from the parcel's pixels to the frame's."""
    return np.asarray(frame_from_own(layer, spaces, frame, layer.width, layer.height))
