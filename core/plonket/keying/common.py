"""What keys share."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, TypeVar

import numpy as np
from pydantic import BaseModel, Field

from plonket.base.colour import linear_from_8bit
from plonket.base.conventions import F32, F64
from plonket.keying.carried import Carried

Settings = TypeVar("Settings", bound=BaseModel)

Colour = Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]
LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)
"""Brightness of linear light (Rec. 709)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class KeyContext:
    """What a key knows besides the frame.

    Attributes
    ----------
    frame : of the clip. carried : where strokes say the subject is. colours : (k, 3) linear samples of the cloth, found once
        for the whole clip. clean : linear (h, w, 3), the set without the subject.
    """

    frame: int = 0
    colours: F64 | None = None
    clean: F32 | None = None
    carried: Carried | None = None


def linear_of(code: str) -> F64:
    """(3,) linear light of ``#rrggbb``."""
    return np.asarray(linear_from_8bit(np.array([int(code[k : k + 2], 16) for k in (1, 3, 5)], np.uint8)), np.float64)


def ramp(values: F32, low: float, high: float) -> F32:
    """0 below `low`, 1 above `high`, smooth between."""
    t = np.clip((values - low) / max(high - low, 1e-5), 0, 1)
    return np.asarray(t * t * (3 - 2 * t), np.float32)


def cut_out(light: F32, alpha: F32) -> F32:
    """Premultiplied (h, w, 4) of a frame under a matte."""
    return np.dstack([light * alpha[..., None], alpha]).astype(np.float32)


def scaled(key: Settings, by: float) -> Settings:
    """A key's settings for a picture of another size: whatever is in pixels is so many times as large."""
    changed: dict[str, float] = {}
    for name, field in type(key).model_fields.items():
        extra = field.json_schema_extra
        hints = extra.get("x-plonket") if isinstance(extra, dict) else None
        if isinstance(hints, dict) and hints.get("unit") == "px":
            changed[name] = getattr(key, name) * by
    return key.model_copy(update=changed)
