"""Light maps: pictures of the light all round, twice as wide as tall, in Radiance HDR."""

from __future__ import annotations

import re
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import encode_8bit
from plonket.base.conventions import F32, U8
from plonket.base.errors import FormatError

LIGHT_MAPS = (".hdr",)
LARGEST = 8192
HEADER_BYTES = 8192
_SIZE = re.compile(rb"\n[-+]Y (\d{1,9}) [-+]X (\d{1,9})\n")


def read_light_map(path: Path) -> F32:
    """Linear RGB (h, w, 3). Raises `FormatError` in plain words."""
    with path.open("rb") as file:
        said = _SIZE.search(file.read(HEADER_BYTES))
    # Its size is looked at before it is decoded: three floats a pixel.
    if said is not None and max(int(said[1]), int(said[2])) > LARGEST:
        raise _unsuitable(path, int(said[2]), int(said[1]))
    picture = cv2.imread(str(path), cv2.IMREAD_UNCHANGED) if said is not None else None
    if picture is None or picture.ndim != 3 or picture.dtype != np.float32:
        raise FormatError("light_map.unreadable", f"{path.name} could not be read as a Radiance HDR picture.")
    height, width = picture.shape[:2]
    if not 1.9 * height <= width <= 2.1 * height or width > LARGEST:
        raise _unsuitable(path, width, height)
    if not np.isfinite(picture).all():
        raise FormatError("light_map.numbers", f"{path.name} holds light that is no number.")
    return np.asarray(picture[..., ::-1][..., :3], np.float32)


def _unsuitable(path: Path, width: int, height: int) -> FormatError:
    return FormatError(
        "light_map.shape",
        f"{path.name} is {width} x {height} pixels. A light map goes all round: it is twice as wide as tall, "
        f"up to {LARGEST} wide.",
    )


def light_map_preview(path: Path, width: int = 320) -> U8:
    """8-bit (h, w, 3): brightened to its middle tones, what is brighter than white bent down."""
    light = read_light_map(path)
    small = cv2.resize(light, (width, width // 2), interpolation=cv2.INTER_AREA)
    grey = 0.18 / max(float(np.exp(np.log(small.mean(axis=2) + 1e-4).mean())), 1e-4)
    shown = np.asarray(small * np.float32(grey), np.float32)
    return encode_8bit(np.ascontiguousarray(shown / (1 + shown)))
