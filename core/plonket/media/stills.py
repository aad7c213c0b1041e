"""Still pictures: their size before anything is decoded, and their pixels upright, in display codes or as light."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import OpenEXR
import pillow_heif
from numpy.typing import NDArray
from PIL import Image, ImageCms

from plonket.base.colour import deep_codes, keep_finite
from plonket.base.conventions import F32, F64, U8, Codes
from plonket.base.errors import MediaError
from plonket.media.info import LARGEST_SIDE, SMALLEST_SIDE

pillow_heif.register_heif_opener()
EXR = ".exr"
HEIF = {".heic", ".heif"}
PICTURES = {".png", ".jpg", ".jpeg", ".webp", ".tif", ".tiff", ".bmp", EXR, *HEIF}
FORMATS = ("PNG", "JPEG", "WEBP", "TIFF", "BMP", "HEIF")
MOST_PIXELS = 120_000_000
"""A picture is worked on in float32: one of this size takes two gigabytes."""
_ORIENTATION = 0x0112
_REC_709 = (0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290)
"""x and y of red, green, blue and white."""


@dataclass(frozen=True, slots=True, kw_only=True)
class StillHeader:
    """What a picture's file says of itself: upright size, and the EXIF orientation (1 to 8) that brings it upright; bits of a
    sample; whether it has coverage; whether its colours are those of a profile other than sRGB, which has to be applied."""

    width: int
    height: int
    orientation: int = 1
    bits: int = 8
    has_alpha: bool = False
    profile: bytes | None = None


def read_header(path: Path) -> StillHeader:
    """The header of a picture, without decoding it. Raises `MediaError` when it is none, or too large to be decoded."""
    try:
        header = _exr_header(path) if path.suffix.lower() == EXR else _header(path)
    except Image.DecompressionBombError as error:
        raise _too_large(path) from error
    except FileNotFoundError as error:
        raise MediaError("media.missing", f"{path.name} was not found.") from error
    # Broken files make the libraries raise whatever their parsers meet.
    except Exception as error:
        raise _unreadable(path) from error
    check_size(path, header.width, header.height)
    if header.width * header.height > MOST_PIXELS:
        raise _too_large(path, header.width, header.height)
    return header


def _header(path: Path) -> StillHeader:
    with Image.open(path, formats=FORMATS) as picture:
        width, height = picture.size
        orientation = int(_tags(picture).get(_ORIENTATION, 1) or 1)
        bits = 16 if picture.mode.startswith("I;16") or _stored_bits(picture) > 8 else 8
        has_alpha = picture.mode in ("RGBA", "LA", "PA") or "transparency" in picture.info
        profile = _profile(picture)
    if orientation not in range(1, 9):
        orientation = 1
    if orientation >= 5:
        width, height = height, width
    return StillHeader(
        width=width, height=height, orientation=orientation, bits=bits, has_alpha=has_alpha, profile=profile
    )


def _stored_bits(picture: Image.Image) -> int:
    """Of a sample; the library opens 16-bit colours as 8-bit ones."""
    tiles: Any = getattr(picture, "tile", None)
    tile = str(tiles[0][3]) if tiles else ""
    tags: Any = getattr(picture, "tag_v2", {})
    return 16 if "16" in tile or max(tags.get(258, (8,)), default=8) > 8 else 8


def _profile(picture: Image.Image) -> bytes | None:
    """The colour profile of a picture, unless it says what is taken for granted, or nothing that can be understood."""
    data = picture.info.get("icc_profile")
    if not data:
        return None
    try:
        name = ImageCms.getProfileDescription(ImageCms.ImageCmsProfile(io.BytesIO(data)))
    except (ImageCms.PyCMSError, OSError, ValueError):
        return None
    return None if "srgb" in name.lower() and picture.mode != "CMYK" else bytes(data)


def read_straight(path: Path) -> Codes:
    """The picture upright in sRGB codes: (h, w, 4), or (h, w, 3) without coverage; straight, 16-bit where that is stored.

    A picture with a profile is brought to sRGB by it (with 8 bits). Of an EXR file light above white is held at white; see
    `read_light`. Raises `MediaError`.
    """
    header = read_header(path)
    if path.suffix.lower() == EXR:
        return _coded(read_light(path))
    if header.profile is not None or path.suffix.lower() in HEIF:
        found: NDArray[Any] = _by_profile(path, header)
    else:
        stored = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
        if stored is None:
            raise _unreadable(path)
        found = _rgb(_as_codes(stored))
    return np.ascontiguousarray(_upright(found, header.orientation))


def _as_codes(stored: NDArray[Any]) -> Codes:
    """Floats, which some TIFF files hold, as codes."""
    if stored.dtype in (np.uint8, np.uint16):
        return stored
    return np.asarray(np.clip(np.nan_to_num(stored), 0, 1) * 65535 + 0.5, np.uint16)


def _rgb(stored: Codes) -> Codes:
    if stored.ndim == 2:
        return np.repeat(stored[..., None], 3, axis=2)
    how = {3: cv2.COLOR_BGR2RGB, 4: cv2.COLOR_BGRA2RGBA}[stored.shape[2]]
    turned: Codes = cv2.cvtColor(stored, how)
    return turned


def _by_profile(path: Path, header: StillHeader) -> U8:
    """A picture read with its profile."""
    try:
        with Image.open(path, formats=FORMATS) as picture:
            plain = picture.mode in ("RGB", "RGBA", "CMYK")
            whole = picture if plain else picture.convert("RGBA" if header.has_alpha else "RGB")
            alpha = np.asarray(whole.getchannel("A")) if whole.mode == "RGBA" else None
            flat = whole.convert("RGB") if whole.mode == "RGBA" else whole
            if header.profile is not None:
                given = ImageCms.ImageCmsProfile(io.BytesIO(header.profile))
                shown = ImageCms.profileToProfile(flat, given, ImageCms.createProfile("sRGB"), outputMode="RGB")
                flat = shown or flat
            rgb = np.asarray(flat.convert("RGB"))
    # As above: whatever their parsers meet.
    except Exception as error:
        raise _unreadable(path) from error
    return rgb if alpha is None else np.dstack([rgb, alpha])


def read_light(path: Path) -> F32:
    """An EXR picture as linear, premultiplied float32 (h, w, 4), with light above white. Raises `MediaError`."""
    header = read_header(path)
    try:
        with OpenEXR.File(str(path), separate_channels=True) as file:
            channels = {name: channel.pixels for name, channel in file.channels().items()}
            data, shown = file.header()["dataWindow"], file.header()["displayWindow"]
            primaries = file.header().get("chromaticities")
    except Exception as error:
        raise _unreadable(path) from error
    found = [channels.get(name) for name in "RGB"]
    grey = channels.get("Y")
    if grey is not None and found[0] is None:
        found = [grey] * 3
    if any(one is None for one in found):
        raise MediaError("media.channels", f"{path.name} holds no red, green and blue (nor a Y) in its first part.")
    alpha = channels.get("A")
    inner = np.dstack([np.asarray(one, np.float32) for one in (*found, np.ones_like(found[0]) if alpha is None else alpha)])
    out = np.zeros((header.height, header.width, 4), np.float32)
    at = np.asarray(data[0]) - np.asarray(shown[0])
    x0, y0 = max(at[0], 0), max(at[1], 0)
    x1, y1 = min(at[0] + inner.shape[1], header.width), min(at[1] + inner.shape[0], header.height)
    if x1 > x0 and y1 > y0:
        out[y0:y1, x0:x1] = inner[y0 - at[1] : y1 - at[1], x0 - at[0] : x1 - at[0]]
    if primaries is not None and np.abs(np.ravel(primaries)[:8] - _REC_709).max() > 0.002:
        out[..., :3] = out[..., :3] @ _to_709(np.ravel(primaries)).T.astype(np.float32)
    keep_finite(out)
    return out


def _exr_header(path: Path) -> StillHeader:
    if not path.exists():
        raise FileNotFoundError(path)
    with OpenEXR.File(str(path), header_only=True) as file:
        # Closed, a file forgets it.
        header = dict(file.header())
    low, high = header["displayWindow"]
    names = {channel.name for channel in header["channels"]}
    return StillHeader(
        width=int(high[0] - low[0]) + 1, height=int(high[1] - low[1]) + 1, bits=16, has_alpha="A" in names
    )


def _to_709(primaries: NDArray[Any]) -> F64:
    """(3, 3) from light in other primaries (x and y of red, green, blue and white) to those of BT.709, white to white."""

    def xyz_from(xy: NDArray[Any]) -> F64:
        points = np.asarray(xy, np.float64).reshape(4, 2)
        columns = np.stack([points[:, 0] / points[:, 1], np.ones(4), (1 - points.sum(axis=1)) / points[:, 1]])
        return np.asarray(columns[:, :3] * np.linalg.solve(columns[:, :3], columns[:, 3]))

    return np.asarray(np.linalg.inv(xyz_from(np.array(_REC_709))) @ xyz_from(primaries[:8]))


def _coded(rgba: F32) -> Codes:
    """Premultiplied light as straight 16-bit codes."""
    alpha = rgba[..., 3:]
    codes = deep_codes(np.ascontiguousarray(rgba[..., :3] / np.maximum(alpha, 1e-6)))
    return np.dstack([codes, np.asarray(np.clip(alpha, 0, 1) * 65535 + 0.5, np.uint16)])


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
