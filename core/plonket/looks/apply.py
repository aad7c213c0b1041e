"""Looks laid on a picture, one after the other, each as much and where it is wanted."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from plonket.base.colour import keep_finite
from plonket.base.conventions import F32, F64
from plonket.base.fields import value_at
from plonket.base.homography import translation
from plonket.document.bases import Look
from plonket.document.kinds import LOOKS
from plonket.image.blend import mix_into
from plonket.image.picture import Picture, windowed
from plonket.looks.common import InverseDepth, LookContext
from plonket.masks.combine import Mattes, combined, no_mattes


def apply_looks(
    looks: Sequence[Look], picture: Picture, frame: int, size: tuple[int, int], scale: float,
    into: Callable[[Any], F64 | None], behind: F32 | None = None, neighbour: Callable[[int], Picture] | None = None,
    table: Callable[[str], F32] | None = None, inverse_depth: Callable[[], InverseDepth | None] = lambda: None,
    moment: float | None = None, mattes: Mattes = no_mattes,
) -> Picture:  # fmt: skip
    """A picture with its looks.

    Parameters
    ----------
    size : of the whole picture (width, height). scale : of full resolution. into : from a mask's pixels to the whole
        picture's (or a look's, for those that have a place). behind : (h, w, 4) the whole picture that this one is laid over.
    neighbour : the same picture without its looks in another frame. table : a colour table by its asset.
    inverse_depth : how far away things are, or None where no camera is solved. moment : of the clip, to which masks belong;
        None: the frame's own. mattes : of what was picked.
    """
    for look in looks:
        mix = float(np.clip(value_at(look.mix, frame) / 100, 0, 1)) if look.shown else 0.0
        if mix <= 0 or not picture.rgba.size:
            continue
        spread = LOOKS.of(look).reach
        if spread is not None:
            picture = _grown(picture, int(np.ceil(spread(look, frame) * scale)), size)
        h, w = picture.rgba.shape[:2]
        window = np.s_[picture.y : picture.y + h, picture.x : picture.x + w]
        at = translation(-picture.x, -picture.y)

        def inside(thing: Any, at: F64 = at) -> F64 | None:
            return _moved(into(thing), at)

        def other(when: int, of: Picture = picture) -> F32:
            assert neighbour is not None
            return windowed(neighbour(when), of.x, of.y, (of.rgba.shape[1], of.rgba.shape[0]))

        context = LookContext(frame=frame, scale=scale, x=picture.x, y=picture.y, size=size,
                              behind=None if behind is None else behind[window], into=inside,
                              neighbour=other if neighbour else None, table=table, inverse_depth=inverse_depth)  # fmt: skip
        new = np.asarray(LOOKS.of(look).run(picture.rgba, look, context), np.float32)
        if new is not picture.rgba:
            # Stops and contrast on each other go beyond what a float holds; the next look would index by it.
            keep_finite(new)
        cover = combined(look.masks, frame if moment is None else moment, (w, h), inside, mattes)
        if cover is not None or mix < 1:
            share = np.full((h, w), mix, np.float32) if cover is None else np.asarray(cover * np.float32(mix), np.float32)
            # A look may have handed back what it was given.
            new = new.copy() if new is picture.rgba else np.ascontiguousarray(new, np.float32)
            mix_into(new, picture.rgba, share)
        picture = replace(picture, rgba=new)
    return picture


def _moved(matrix: F64 | None, at: F64) -> F64 | None:
    return None if matrix is None else np.asarray(at @ matrix)


def _grown(picture: Picture, by: int, size: tuple[int, int]) -> Picture:
    """The same with clear pixels round it, as far as the whole picture goes."""
    h, w = picture.rgba.shape[:2]
    x0, y0 = max(0, picture.x - by), max(0, picture.y - by)
    x1, y1 = min(size[0], picture.x + w + by), min(size[1], picture.y + h + by)
    if (x0, y0, x1, y1) == (picture.x, picture.y, picture.x + w, picture.y + h):
        return picture
    return Picture(rgba=windowed(picture, x0, y0, (x1 - x0, y1 - y0)), x=x0, y=y0)
