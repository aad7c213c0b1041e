"""A parcel: several layers kept as one, usable several times."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from plonket.base.conventions import F64
from plonket.base.fields import GOES, Identifier, plain, reference
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.image.picture import Picture
from plonket.layers.common import faded
from plonket.layers.placed import PlacedLayer, frame_from_own
from plonket.layers.sources import Sources
from plonket.track.spaces import Spaces


class ParcelLayer(PlacedLayer):
    """Shows a parcel: a picture as large as the shot's, placed as one thing."""

    kind: Literal["parcel"] = "parcel"
    parcel: Annotated[Identifier, reference("parcel", says="shows a parcel", left=GOES, owns=True)]
    width: int = Field(default=1280, ge=1)
    height: int = Field(default=720, ge=1)
    starts: int = plain(0, label="Starts at", low=-100000, high=100000, step=1, unit="fr", group="Time", whole=True,
                        help="Frame of the shot on which the parcel's frame 0 is shown.")  # fmt: skip


def frame_from_parcel(layer: ParcelLayer, spaces: Spaces, frame: float) -> F64:
    """(3, 3) from the parcel's pixels to the frame's."""
    return np.asarray(frame_from_own(layer, spaces, frame, layer.width, layer.height))


def clip_from_layer(layer: ParcelLayer, sources: Sources, frame: float) -> F64:
    """The same, as masks that ride on the picture ask for it."""
    return frame_from_parcel(layer, sources.spaces, frame)


def draw(layer: ParcelLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The parcel's layers, each drawn straight into the picture: nothing is sampled twice."""
    into = view @ frame_from_parcel(layer, sources.spaces, frame)
    canvas = np.zeros((size[1], size[0], 4), np.float32)
    zoom = float(np.sqrt(abs(np.linalg.det(into[:2, :2]))))
    sources.lay(canvas, sources.parcel(layer.parcel), max(frame - layer.starts, 0), into, zoom)
    return faded(Picture(rgba=canvas), layer, frame)


LAYERS.add(LayerEntry(
    kind="parcel", order=110, label="Parcel", settings=ParcelLayer, run=draw, clip_from_layer=clip_from_layer,
    help="Several layers kept as one, usable several times.",
    traits=frozenset({"placed", "follows", "matched"}), handles="box",
    groups=("Place", "Time", "Mix"),
    card={"": "Parcel"},
    says={"": "Several layers kept as one"},
))  # fmt: skip
