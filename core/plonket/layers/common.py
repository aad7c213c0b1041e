"""What every layer kind has."""

from __future__ import annotations

import math

import numpy as np
from pydantic import Field, model_validator

from plonket.comp.blend import BLEND_NAMES, BlendName
from plonket.comp.picture import CLEAR, Picture
from plonket.fields import Digest, Identifier, Model, Name, Number, choice, number, plain, switch, value_at
from plonket.key.kinds import Key
from plonket.looks.kinds import Look
from plonket.masks.kinds import Mask

MOST_SUBFRAMES = 24


class LayerModel(Model):
    """Name, visibility and how the layer mixes with what lies below."""

    id: Identifier
    name: Name
    shown: bool = switch(True, label="Shown")
    opacity: Number = number(100.0, label="Opacity", low=0, high=100, step=1, unit="%", group="Mix")
    blend: BlendName = choice("normal", label="Blend", names=BLEND_NAMES, group="Mix",
                              help="How it mixes with what lies below.")  # fmt: skip
    masks: list[Mask] = Field(default_factory=list, max_length=100)
    looks: list[Look] = Field(default_factory=list, max_length=50)

    @model_validator(mode="after")
    def _masked(self) -> LayerModel:
        ids = [m.id for m in self.masks]
        if len(set(ids)) != len(ids):
            raise ValueError(f"{self.name}: two masks have the same id")
        if len({look.id for look in self.looks}) != len(self.looks):
            raise ValueError(f"{self.name}: two looks have the same id")
        return self


class PictureLayer(LayerModel):
    """A layer that shows a still or a clip from the shelf, moving with the motion blur of its movement."""

    asset: Digest
    width: int
    height: int
    key: Key | None = None
    shutter: float = plain(0, label="Motion blur", low=0, high=360, step=5, unit="°", group="Mix",
                           help="Shutter angle: 180° is half a frame long, as film cameras expose. 0 is off.")  # fmt: skip
    starts: int = plain(0, label="Starts at", low=-100000, high=100000, step=1, unit="fr", group="Clip", whole=True,
                        help="Frame of the shot on which a clip's first frame is shown.")  # fmt: skip
    after: str = choice("hold", label="After its end", group="Clip",
                        names={"hold": "Hold the last frame", "loop": "Begin again", "gone": "Be gone"})  # fmt: skip


def faded(picture: Picture, layer: LayerModel, frame: int) -> Picture:
    """A layer's picture at its opacity."""
    opacity = float(np.clip(value_at(layer.opacity, frame) / 100, 0, 1))
    return picture if opacity == 1 else Picture(rgba=picture.rgba * np.float32(opacity), x=picture.x, y=picture.y)


def clip_frame(layer: PictureLayer, frame: int, frames: int) -> int | None:
    """Which frame of the layer's own clip is shown; None: none is."""
    if frames <= 1:
        return 0
    k = frame - layer.starts
    if layer.after == "loop":
        return k % frames
    if layer.after == "gone" and not 0 <= k < frames:
        return None
    return min(max(k, 0), frames - 1)


def instants(shutter_deg: float, moved_px: float) -> list[float]:
    """Offsets in frames of the sub-frames of an exposure, about its middle.

    As many as the picture moves pixels during it, so that steps do not show.
    """
    open_for = shutter_deg / 360
    count = min(MOST_SUBFRAMES, math.ceil(moved_px * open_for * 1.25))
    if open_for <= 0 or count <= 1:
        return [0.0]
    return [((k + 0.5) / count - 0.5) * open_for for k in range(count)]


def averaged(pictures: list[Picture]) -> Picture:
    """The mean of pictures with different windows."""
    shown = [p for p in pictures if p.rgba.size]
    if not shown:
        return CLEAR
    if len(pictures) == 1:
        return shown[0]
    x0, y0 = min(p.x for p in shown), min(p.y for p in shown)
    x1, y1 = max(p.x + p.rgba.shape[1] for p in shown), max(p.y + p.rgba.shape[0] for p in shown)
    total = np.zeros((y1 - y0, x1 - x0, 4), np.float32)
    for p in shown:
        h, w = p.rgba.shape[:2]
        total[p.y - y0 : p.y - y0 + h, p.x - x0 : p.x - x0 + w] += p.rgba
    return Picture(rgba=np.asarray(total / np.float32(len(pictures)), np.float32), x=x0, y=y0)
