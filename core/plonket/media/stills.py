"""Still pictures: their size before anything is decoded, and their pixels upright."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image

from plonket.base.errors import MediaError
from plonket.media.info import LARGEST_SIDE, SMALLEST_SIDE

PICTURES = {".png", ".jpg", ".jpeg", ".webp", ".tif", ".tiff", ".bmp"}
FORMATS = ("PNG", "JPEG", "WEBP", "TIFF", "BMP")
MOST_PIXELS = 120_000_000
"""A picture is worked on in float32: one of this size takes two gigabytes."""
_ORIENTATION = 0x0112
Pixels = NDArray[np.uint8] | NDArray[np.uint16] | NDArray[np.float32]


@dataclass(frozen=True, slots=True, kw_only=True)
class StillHeader:
    """What a picture's file says of itself: upright size, and the EXIF orientation (1 to 8) that brings it upright."""

    width: int
    height: int
    orientation: int


def read_header(path: Path) -> StillHeader:
    """The header of a picture, without decoding it. Raises `MediaError` when it is none, or too large to be decoded."""
    try:
        with Image.open(path, formats=FORMATS) as picture:
            width, height = picture.size
            orientation = int(_tags(picture).get(_ORIENTATION, 1) or 1)
    except Image.DecompressionBombError as error:
        raise _too_large(path) from error
    except FileNotFoundError as error:
        raise MediaError("media.missing", f"{path.name} was not found.") from error
    # Broken files make the library raise whatever its parsers meet.
    except Exception as error:
        raise _unreadable(path) from error
    if orientation not in range(1, 9):
        orientation = 1
    if orientation >= 5:
        width, height = height, width
    check_size(path, width, height)
    if width * height > MOST_PIXELS:
        raise _too_large(path, width, height)
    return StillHeader(width=width, height=height, orientation=orientation)


def read_pixels(path: Path) -> Pixels:
    """The picture upright, as it is stored: (h, w) or (h, w, 3 or 4) in BGR order. Raises `MediaError`."""
    header = read_header(path)
    picture = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
    if picture is None:
        raise _unreadable(path)
    return np.ascontiguousarray(_upright(picture, header.orientation))


def _tags(picture: Image.Image) -> Image.Exif:
    """EXIF tags, without decoding: of a PNG the library would decode all of it to look for tags at its end."""
    if picture.format != "PNG":
        return picture.getexif()
    tags = Image.Exif()
    if data := picture.info.get("exif"):
        tags.load(data)
    return tags


def check_size(path: Path, width: int, height: int) -> None:
    """Raise `MediaError` for sides that cannot be worked with."""
    if max(width, height) > LARGEST_SIDE or min(width, height) < SMALLEST_SIDE:
        raise MediaError(
            "media.size",
            f"{path.name} is {width} x {height} pixels. Sides from {SMALLEST_SIDE} to {LARGEST_SIDE}"
            " pixels can be used.",
            {"width": width, "height": height},
        )


def _upright(stored: NDArray[np.generic], orientation: int) -> NDArray[np.generic]:
    """EXIF 2.32, 4.6.5: 2 to 4 are mirrored and turned by half, 5 to 8 lie on their side."""
    if orientation >= 5:
        stored = np.swapaxes(stored, 0, 1)
    if orientation in (2, 3, 6, 7):
        stored = stored[:, ::-1]
    if orientation in (3, 4, 7, 8):
        stored = stored[::-1]
    return stored


def _too_large(path: Path, width: int = 0, height: int = 0) -> MediaError:
    size = f"{width} x {height} pixels, " if width else ""
    return MediaError(
        "media.size", f"{path.name} is too large: {size}more than {MOST_PIXELS // 1_000_000} million. Make it smaller first.",
        {"width": width, "height": height},
    )  # fmt: skip


def _unreadable(path: Path) -> MediaError:
    return MediaError(
        "media.unreadable",
        f"{path.name} cannot be read as a picture: it is damaged or something else under that name.",
    )
