"""A finished picture on its way into a file."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.colour import colours_to_8bit, deep_codes, encode_8bit, opaque_from_codes
from plonket.base.conventions import F32, U8, Codes
from plonket.image.push_pull import spread_out
from plonket.keying.unpremultiply import straight_light
from plonket.outputs.layers import FramePasses

Coverage = Literal["none", "straight", "premultiplied"]


class Finished:
    """One finished picture, as linear light or, where nothing more is wanted, as 8-bit codes.

    Parameters
    ----------
    light : (h, w, 4) linear, premultiplied. codes : (h, w, 3) 8-bit sRGB-coded, opaque. parts : the same taken apart,
        where that is wanted.
    """

    def __init__(self, light: F32 | None = None, codes: U8 | None = None, parts: FramePasses | None = None) -> None:
        self._light, self._codes, self._parts = light, codes, parts

    def parts(self) -> FramePasses:
        """What each layer adds."""
        assert self._parts is not None
        return self._parts

    @property
    def size(self) -> tuple[int, int]:
        """(width, height)."""
        one = self._light if self._light is not None else self._codes
        assert one is not None
        return one.shape[1], one.shape[0]

    def light(self) -> F32:
        """(h, w, 4) linear, premultiplied."""
        if self._light is not None:
            return self._light
        assert self._codes is not None
        return opaque_from_codes(self._codes)

    def codes(self, *, deep: bool = False, coverage: Coverage = "none", spread: bool = False) -> Codes:
        """sRGB-coded (h, w, 3), or with coverage (h, w, 4), 8- or (`deep`) 16-bit; without coverage on black.

        What is premultiplied has its codes multiplied, as programs that work with codes expect it. If `spread`, straight
        colours go on to where nothing is covered: coding with coarse colour mixes neighbours.
        """
        if coverage == "none":
            if self._codes is not None:
                return self._codes if not deep else self._codes.astype(np.uint16) * np.uint16(257)
            assert self._light is not None
            return deep_codes(self._light) if deep else colours_to_8bit(self._light)
        light = self.light()
        some = spread and coverage == "straight" and light[..., 3].min() < 1
        whole = spread_out(light[..., :3], light[..., 3], enough=0.02) if some else straight_light(light)
        top = 65535 if deep else 255
        colours: Codes = deep_codes(whole) if deep else encode_8bit(np.clip(whole, 0, 1))
        alpha = (np.clip(light[..., 3], 0, 1) * top + 0.5).astype(colours.dtype)
        if coverage == "premultiplied":
            colours = ((colours.astype(np.uint32) * alpha[..., None] + top // 2) // top).astype(colours.dtype)
        return np.dstack([colours, alpha])
