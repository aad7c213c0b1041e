"""The plate as the view shows it: sampled once, its empty borders filled from other frames."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from plonket.comp.picture import StillSource
from plonket.comp.place import place_still
from plonket.comp.sources import Sources
from plonket.conventions import F32, F64, U8

FEATHER_PX = 14
"""Width over which one frame gives way to another."""


def seen_plate(sources: Sources, asset: str, frame: int, size: tuple[int, int], matrix: F64) -> F32:
    """A frame of the clip through `matrix`: (h, w, 4) linear, premultiplied, clear beyond its edge."""
    return _laid(StillSource(_opaque(sources.plate(asset, frame))), matrix, size)


def fill_borders(canvas: F32, sources: Sources, asset: str, frame: int, zoom: F64) -> None:
    """Put other frames behind the plate where it does not reach.

    The same few donors serve the whole shot, so that nothing flickers; each moves with what is held, and is
    brought to the light of the frame where both show the same.
    """
    view = sources.view
    assert view is not None
    size = (canvas.shape[1], canvas.shape[0])
    if canvas[..., 3].min() > 0.999:
        return
    rgb = sources.plate(asset, frame)
    whole = (rgb.shape[1], rgb.shape[0])
    soft = _feather(whole)
    own = zoom @ view.matrix(frame)
    behind = [canvas.copy()]
    canvas *= _laid(soft, own, size)[..., 3:]
    for donor in view.donors:
        if donor == frame:
            continue
        matrix = zoom @ view.onto[frame] @ view.back[donor]
        matrix = matrix / matrix[2, 2]
        laid = _laid(sources.element(asset, donor), matrix, size)
        laid[..., :3] *= _light(behind[0], laid)
        canvas += laid * _laid(soft, matrix, size)[..., 3:] * (1 - canvas[..., 3:])
        behind.append(laid)
    # Where soft edges alone do not cover, frames show up to their very edge.
    for laid in behind:
        canvas += laid * (1 - canvas[..., 3:])


def _light(base: F32, laid: F32) -> F32:
    """(3,) gains that bring a donor to the frame's light, from where both are seen."""
    step = max(1, base.shape[0] // 90)
    a, b = base[::step, ::step], laid[::step, ::step]
    both = (a[..., 3] > 0.99) & (b[..., 3] > 0.99)
    if both.sum() < 50:
        return np.ones(3, np.float32)
    gains = np.median((a[both][:, :3] + 0.01) / (b[both][:, :3] + 0.01), axis=0)
    return np.clip(gains, 0.5, 2.0).astype(np.float32)


def _laid(source: StillSource, matrix: F64, size: tuple[int, int]) -> F32:
    """A source placed over a whole clear picture (h, w, 4)."""
    placed = place_still(source, matrix, size)
    h, w = placed.rgba.shape[:2]
    if (w, h) == size:
        return placed.rgba
    out = np.zeros((size[1], size[0], 4), np.float32)
    out[placed.y : placed.y + h, placed.x : placed.x + w] = placed.rgba
    return out


def _opaque(rgb: U8) -> U8:
    return np.dstack([rgb, np.full(rgb.shape[:2], 255, np.uint8)])


@lru_cache(maxsize=4)
def _feather(size: tuple[int, int]) -> StillSource:
    """A white picture that fades out towards its edge."""
    w, h = size
    x = np.minimum(np.arange(w) + 0.5, w - np.arange(w) - 0.5)
    y = np.minimum(np.arange(h) + 0.5, h - np.arange(h) - 0.5)
    u = np.clip(np.minimum(x[None], y[:, None]) / FEATHER_PX, 0, 1)
    alpha = np.round(u * u * (3 - 2 * u) * 255).astype(np.uint8)
    return StillSource(np.dstack([np.full((h, w, 3), 255, np.uint8), alpha]))
