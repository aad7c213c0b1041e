"""A wash: its looks apply to everything below it."""

from __future__ import annotations

from typing import Literal

from plonket.base.conventions import F64
from plonket.document.bases import LayerBase
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.image.picture import CLEAR, Picture
from plonket.layers.sources import Sources


class WashLayer(LayerBase):
    """No picture of its own: looks, as much as its opacity says and where its masks let them."""

    kind: Literal["wash"] = "wash"


def draw(layer: WashLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """A wash is laid by its looks, it has no picture."""
    return CLEAR


LAYERS.add(LayerEntry(
    kind="wash", order=100, label="Wash", settings=WashLayer, run=draw,
    help="Its looks apply to everything below it.",
    traits=frozenset({"wash"}), handles="",
    groups=("Mix",),
    card={"": "Wash"},
    says={"": "Wash: its looks apply to everything below it"},
))  # fmt: skip
