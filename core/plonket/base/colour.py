"""Between sRGB-coded values, of 8 or 16 bits, and linear light, compiled and table-driven."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, FAST, U8, U16, Codes


def decode(coded: NDArray[np.floating]) -> NDArray[np.float64]:
    """sRGB-coded values in [0, 1] to linear (IEC 61966-2-1)."""
    v = np.asarray(coded, np.float64)
    return np.where(v <= 0.04045, v / 12.92, ((np.maximum(v, 0) + 0.055) / 1.055) ** 2.4)


def encode(linear: NDArray[np.floating]) -> NDArray[np.float64]:
    """Linear values to sRGB-coded ones (IEC 61966-2-1)."""
    v = np.asarray(linear, np.float64)
    return np.where(v <= 0.0031308, v * 12.92, 1.055 * np.maximum(v, 1e-12) ** (1 / 2.4) - 0.055)


LUMA: F32 = np.array([0.2126, 0.7152, 0.0722], np.float32)
"""Brightness of linear light (Rec. 709)."""

LINEAR_OF_8BIT: F32 = decode(np.arange(256) / 255).astype(np.float32)
LINEAR_OF_16BIT: F32 = decode(np.arange(65536) / 65535).astype(np.float32)

# Encoding by table: 16 bits of linear light are finer than any 8-bit step, even in the darks
# (the steepest sRGB step is 12.92 / 65535 * 255 = 0.05 of a code).
_STEPS = 65535
_CODE_OF_LINEAR: U8 = np.clip(encode(np.arange(_STEPS + 1) / _STEPS) * 255 + 0.5, 0, 255).astype(np.uint8)


# Both ways for single floats, straight between entries: against the curves themselves within 2e-7. Light is looked up by its
# root, in which the curve is nearly straight.
_ENTRIES = 4096
_CODE_BY_ROOT: F32 = encode((np.arange(_ENTRIES + 2) / _ENTRIES) ** 2).astype(np.float32)
_LIGHT_BY_CODE: F32 = decode(np.arange(_ENTRIES + 2) / _ENTRIES).astype(np.float32)


@numba.njit(cache=True, fastmath=FAST, error_model="numpy", inline="always")  # type: ignore[misc]
def code_of(light: np.float32) -> np.float32:
    """Display code of linear light, for compiled loops; what is beyond 0 to 1 (or no number) is held there."""
    if not light > np.float32(0.0):
        return np.float32(0.0)
    at = np.sqrt(min(light, np.float32(1.0))) * np.float32(_ENTRIES)
    k = int(at)
    return _CODE_BY_ROOT[k] + (at - np.float32(k)) * (_CODE_BY_ROOT[k + 1] - _CODE_BY_ROOT[k])


@numba.njit(cache=True, fastmath=FAST, error_model="numpy", inline="always")  # type: ignore[misc]
def light_of(code: np.float32) -> np.float32:
    """Linear light of a display code, for compiled loops; what is beyond 0 to 1 (or no number) is held there."""
    if not code > np.float32(0.0):
        return np.float32(0.0)
    at = min(code, np.float32(1.0)) * np.float32(_ENTRIES)
    k = int(at)
    return _LIGHT_BY_CODE[k] + (at - np.float32(k)) * (_LIGHT_BY_CODE[k + 1] - _LIGHT_BY_CODE[k])


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _look_up(flat: Codes, table: F32, out: F32) -> None:
    for i in numba.prange(flat.shape[0]):
        out[i] = table[flat[i]]


@numba.njit(cache=True, fastmath=FAST, inline="always")  # type: ignore[misc]
def _step(light: np.float32) -> int:
    """Where light stands in the table; what is no number counts as black."""
    if not light > np.float32(0.0):
        return 0
    if light >= np.float32(1.0):
        return _STEPS
    return int(light * np.float32(_STEPS) + np.float32(0.5))


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _code(flat: F32, table: U8, out: U8) -> None:
    for i in numba.prange(flat.shape[0]):
        out[i] = table[_step(flat[i])]


def rgb_of(code: str) -> U8:
    """(3,) 8-bit sRGB-coded of ``#rrggbb``."""
    return np.array([int(code[k : k + 2], 16) for k in (1, 3, 5)], np.uint8)


def linear_of(code: str) -> NDArray[np.float64]:
    """(3,) linear light of ``#rrggbb``."""
    return linear_from_codes(rgb_of(code)).astype(np.float64)


def light_table(coded: Codes) -> F32:
    """(256,) or (65536,) linear light of every display code of its kind."""
    return LINEAR_OF_8BIT if coded.dtype == np.uint8 else LINEAR_OF_16BIT


def linear_from_codes(coded: Codes) -> F32:
    """8- or 16-bit sRGB-coded values to linear float32, any shape."""
    flat = np.ascontiguousarray(coded).reshape(-1)
    out = np.empty(flat.shape, np.float32)
    _look_up(flat, light_table(coded), out)
    return out.reshape(coded.shape)


def opaque_from_codes(coded: Codes) -> F32:
    """8- or 16-bit sRGB-coded (h, w, 3) to linear float32 (h, w, 4), opaque."""
    out = np.empty((*coded.shape[:2], 4), np.float32)
    _opaque(np.ascontiguousarray(coded), light_table(coded), out)
    return out


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _opaque(coded: Codes, table: F32, out: F32) -> None:
    for y in numba.prange(coded.shape[0]):
        for x in range(coded.shape[1]):
            for c in range(3):
                out[y, x, c] = table[coded[y, x, c]]
            out[y, x, 3] = np.float32(1.0)


def colours_to_8bit(rgba: F32) -> U8:
    """The colours of linear float32 (h, w, 4) as they are, as 8-bit sRGB codes (h, w, 3), rounded and clipped."""
    out = np.empty((*rgba.shape[:2], 3), np.uint8)
    _code_colours(rgba, _CODE_OF_LINEAR, out)
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _code_colours(rgba: F32, table: U8, out: U8) -> None:
    for y in numba.prange(out.shape[0]):
        for x in range(out.shape[1]):
            for c in range(3):
                out[y, x, c] = table[_step(rgba[y, x, c])]


def encode_8bit(linear: F32) -> U8:
    """Linear float32 to 8-bit sRGB codes, rounded and clipped, any shape."""
    flat = np.ascontiguousarray(linear, np.float32).reshape(-1)
    out = np.empty(flat.shape, np.uint8)
    _code(flat, _CODE_OF_LINEAR, out)
    return out.reshape(linear.shape)


def deep_codes(rgba: F32) -> U16:
    """The colours of linear float32 (h, w, 3 or 4) as 16-bit sRGB codes (h, w, 3), rounded and clipped."""
    out = np.empty((*rgba.shape[:2], 3), np.uint16)
    _code_deep(rgba, out)
    return out


def fine_codes(rgba: F32) -> F32:
    """The colours of linear float32 (h, w, 3 or 4) as display codes from 0 to 255 with their fractions (h, w, 3), clipped."""
    return deep_codes(rgba) * np.float32(255 / 65535)


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _code_deep(rgba: F32, out: U16) -> None:
    for y in numba.prange(out.shape[0]):
        for x in range(out.shape[1]):
            for c in range(3):
                out[y, x, c] = np.uint16(code_of(rgba[y, x, c]) * np.float32(65535.0) + np.float32(0.5))


def bytes_of(codes: Codes) -> U8:
    """Display codes with 8 bits, rounded, any shape."""
    if codes.dtype == np.uint8:
        return np.asarray(codes, np.uint8)
    out = np.empty(codes.shape, np.uint8)
    _shorten(np.ascontiguousarray(codes).reshape(-1), out.reshape(-1))
    return out


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _shorten(deep: U16, out: U8) -> None:
    for i in numba.prange(deep.shape[0]):
        out[i] = np.uint8((np.uint32(deep[i]) * 255 + 32767) // 65535)


BRIGHTEST = 65504.0
"""The most light that a picture holds: half floats end there, and sums of many layers stay far from overflow."""


def keep_finite(rgba: F32) -> None:
    """Bring the light of (h, w, 4) into 0 to `BRIGHTEST` and coverage into 0 to 1, in place; what is no number becomes 0."""
    _keep_finite(rgba)


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _keep_finite(rgba: F32) -> None:
    for y in numba.prange(rgba.shape[0]):
        for x in range(rgba.shape[1]):
            for c in range(4):
                # Written so that it is done for several at once.
                v = rgba[y, x, c]
                v = v if v > np.float32(0.0) else np.float32(0.0)
                most = np.float32(1.0) if c == 3 else np.float32(BRIGHTEST)
                rgba[y, x, c] = v if v < most else most
