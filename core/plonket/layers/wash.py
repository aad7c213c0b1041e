"""A wash: its looks apply to everything below it."""

from __future__ import annotations

from typing import Literal

from plonket.layers.common import LayerModel


class WashLayer(LayerModel):
    """No picture of its own: looks, as much as its opacity says and where its masks let them."""

    kind: Literal["wash"] = "wash"
