"""What keys share."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Protocol, TypeVar

import numpy as np
from pydantic import BaseModel, Field

from plonket.base.conventions import F32, F64, U8
from plonket.base.fields import Keyed, Number, Wobbling, value_at
from plonket.matting.carried import Carried

Settings = TypeVar("Settings", bound=BaseModel)

Colour = Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]


@dataclass(frozen=True, slots=True, kw_only=True)
class KeyContext:
    """What a key knows besides the frame.

    Attributes
    ----------
    frame : of the clip. carried : where strokes say the subject is. colours : (k, 3) linear samples of the cloth, found once
        for the whole clip. clean : linear (h, w, 3), the set without the subject. matte : 8-bit (h', w'), what was
        picked.
    """

    frame: int = 0
    colours: F64 | None = None
    clean: F32 | None = None
    carried: Carried | None = None
    matte: U8 | None = None


class Element(Protocol):
    """The still or clip that is keyed, for what a key learns of all of it."""

    frames: int

    def rgb(self, frame: int) -> U8:
        """(h, w, 3) one of its frames, 8-bit."""
        ...

    def still(self, asset: str) -> U8:
        """(h, w, 3) another picture from the shelf, 8-bit."""
        ...

    def kept(self, what: str, text: str) -> MaskStore | None:
        """A place on disk for masks that are costly to work out again, of its own for each text; None: there is none."""
        ...


class MaskStore(Protocol):
    """Masks by name, kept from one start of the program to the next."""

    def load(self, name: str) -> U8 | None: ...

    def save(self, name: str, mask: U8) -> None: ...


def ramp(values: F32, low: float, high: float) -> F32:
    """0 below `low`, 1 above `high`, smooth between; values (h, w), or of any shape."""
    t = np.clip((values - low) / max(high - low, 1e-5), 0, 1)
    return np.asarray(t * t * (3 - 2 * t), np.float32)


def cut_out(light: F32, alpha: F32) -> F32:
    """Premultiplied (h, w, 4) of a frame under a matte."""
    return np.dstack([light * alpha[..., None], alpha]).astype(np.float32)


def at_moment(key: Settings, frame: float) -> Settings:
    """A key as it is set at a frame of the shot: none of its numbers moves any more, so that `held` tells them."""
    moving = {name: value_at(value, frame) for name, value in key if isinstance(value, Keyed | Wobbling)}
    return key.model_copy(update=moving) if moving else key


def held(number: Number) -> float:
    """A number of a key that was taken `at_moment`."""
    return float(number) if isinstance(number, float | int) else value_at(number, 0)


def scaled(key: Settings, by: float) -> Settings:
    """A key's settings, taken `at_moment`, for a picture of another size: whatever is in pixels is so many times as large."""
    changed: dict[str, float] = {}
    for name, field in type(key).model_fields.items():
        extra = field.json_schema_extra
        hints = extra.get("x-plonket") if isinstance(extra, dict) else None
        if isinstance(hints, dict) and hints.get("unit") == "px":
            changed[name] = held(getattr(key, name)) * by
    return key.model_copy(update=changed)
