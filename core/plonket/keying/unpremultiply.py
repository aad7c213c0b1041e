"""Keyed frames as straight-alpha pictures, for files."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import encode_8bit
from plonket.base.conventions import F32, U8
from plonket.base.errors import MediaError


def straight_light(rgba: F32) -> F32:
    """The colours (h, w, 3) of linear, premultiplied light as they are where they cover whole; where nothing is, black."""
    alpha = rgba[..., 3:]
    return np.where(alpha > 1e-3, rgba[..., :3] / np.maximum(alpha, 1e-3), 0).astype(np.float32)


def straight_8bit(rgba: F32) -> U8:
    """Linear, premultiplied (h, w, 4) as straight sRGB-coded RGBA; where nothing is, black."""
    alpha = rgba[..., 3:]
    coded = encode_8bit(np.clip(straight_light(rgba), 0, 1))
    return np.dstack([coded, np.clip(alpha * 255 + 0.5, 0, 255).astype(np.uint8)])


def write_png(path: Path, rgba: U8) -> None:
    """Write RGBA. Raises `MediaError`."""
    if not cv2.imwrite(str(path), cv2.cvtColor(rgba, cv2.COLOR_RGBA2BGRA)):
        raise MediaError("key.write", f"{path.name} could not be written.")
