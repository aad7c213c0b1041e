"""Pictures that are laid on models: their size looked at before anything is decoded, and no larger than needed."""

from __future__ import annotations

from pathlib import Path
from typing import IO

import cv2
import numpy as np

from plonket.base.conventions import U8
from plonket.base.errors import FormatError

MOST_PIXELS = 8192 * 8192
LARGEST = 2048
"""Textures are halved until neither side is larger: a picture shows no more."""


def check_texture(width: int, height: int) -> None:
    """Raises `FormatError` for one that is too large to be decoded."""
    if width * height > MOST_PIXELS:
        raise FormatError("model.texture", f"A texture of this model has {width} x {height} pixels. Make it smaller first.")


def read_texture(file: Path | IO[bytes], broken: FormatError) -> U8:
    """(h, w, 4) of a picture's file. Raises `broken` where it cannot be read, and as `check_texture` does."""
    from PIL import Image

    try:
        with Image.open(file) as image:
            check_texture(*image.size)
            image.draft("RGB", (LARGEST, LARGEST))
            return reduced(np.array(image.convert("RGBA"), np.uint8))
    except FormatError:
        raise
    except Exception as error:  # Pillow raises whatever its decoders do
        raise broken from error


def reduced(pixels: U8) -> U8:
    """A texture (h, w, channels) no larger than needed."""
    while max(pixels.shape[:2]) > LARGEST:
        h, w = pixels.shape[:2]
        pixels = cv2.resize(pixels, (max(w // 2, 1), max(h // 2, 1)), interpolation=cv2.INTER_AREA).reshape(
            max(h // 2, 1), max(w // 2, 1), pixels.shape[2]
        )
    return pixels
