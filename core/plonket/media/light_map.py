"""Light maps: pictures of the light all round, twice as wide as tall, in Radiance HDR."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np

from plonket.colour import encode_8bit
from plonket.conventions import F32, U8
from plonket.errors import FormatError

LIGHT_MAPS = (".hdr",)
LARGEST = 8192


def read_light_map(path: Path) -> F32:
    """Linear RGB (h, w, 3). Raises `FormatError` in plain words."""
    picture = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
    if picture is None or picture.ndim != 3 or picture.dtype != np.float32:
        raise FormatError("light_map.unreadable", f"{path.name} could not be read as a Radiance HDR picture.")
    height, width = picture.shape[:2]
    if not 1.9 * height <= width <= 2.1 * height or width > LARGEST:
        raise FormatError(
            "light_map.shape",
            f"{path.name} is {width} x {height} pixels. A light map goes all round: it is twice as wide as tall, "
            f"up to {LARGEST} wide.",
        )
    if not np.isfinite(picture).all():
        raise FormatError("light_map.numbers", f"{path.name} holds light that is no number.")
    return np.asarray(picture[..., ::-1][..., :3], np.float32)


def light_map_preview(path: Path, width: int = 320) -> U8:
    """8-bit (h, w, 3): brightened to its middle tones, what is brighter than white bent down."""
    light = read_light_map(path)
    small = cv2.resize(light, (width, width // 2), interpolation=cv2.INTER_AREA)
    grey = 0.18 / max(float(np.exp(np.log(small.mean(axis=2) + 1e-4).mean())), 1e-4)
    shown = np.asarray(small * np.float32(grey), np.float32)
    return encode_8bit(np.ascontiguousarray(shown / (1 + shown)))
