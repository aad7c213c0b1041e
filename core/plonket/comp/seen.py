"""The plate as the view shows it: sampled once, its empty borders filled from other frames."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from plonket.comp.picture import StillSource
from plonket.comp.place import place_still
from plonket.comp.sources import Sources
from plonket.conventions import F32, F64, U8
from plonket.outline import carry
from plonket.plate.view import ViewPath

FEATHER_PX = 14
"""Width over which one frame gives way to another."""
MOST_DONORS = 6
LOOKS = 24
"""Frames looked at, and tried, when donors are chosen."""
LEAST_GAIN = 0.002
"""A donor must show at least this share of all the pictures that no other shows."""


def seen_plate(sources: Sources, asset: str, frame: int, size: tuple[int, int], matrix: F64) -> F32:
    """A frame of the clip through `matrix`: (h, w, 4) linear, premultiplied, clear beyond its edge."""
    return _laid(StillSource(_opaque(sources.plate(asset, frame))), matrix, size)


def fill_borders(canvas: F32, sources: Sources, asset: str, frame: int, zoom: F64, frames: range) -> None:
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
    for donor in donors(view, whole, frames):
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


def donors(view: ViewPath, size: tuple[int, int], frames: range) -> tuple[int, ...]:
    """The frames that together show most of what the others lack, the most useful first."""
    key = (view.onto.tobytes(), view.back.tobytes())
    return _donors(*key, len(view.onto), size, frames.start, frames.stop)


@lru_cache(maxsize=16)
def _donors(onto: bytes, back: bytes, n: int, size: tuple[int, int], start: int, stop: int) -> tuple[int, ...]:
    to, fro = (np.frombuffer(m, np.float64).reshape(n, 3, 3) for m in (onto, back))
    some = np.unique(np.linspace(start, stop - 1, min(LOOKS, stop - start)).round().astype(int))
    u, v = np.meshgrid((np.arange(40) + 0.5) / 40 * size[0], (np.arange(24) + 0.5) / 24 * size[1])
    spots = np.stack([u.ravel(), v.ravel()], axis=1)
    limit = np.array(size)
    # Which spots of picture i does frame j show?
    shows = np.zeros((len(some), len(some), len(spots)), bool)
    for a, i in enumerate(some):
        held = carry(spots, np.linalg.inv(to[i]))
        for b, j in enumerate(some):
            at = carry(held, np.linalg.inv(fro[j]))
            shows[a, b] = ((at > 2) & (at < limit - 2)).all(axis=1)
    missing = ~shows[np.arange(len(some)), np.arange(len(some))]
    out: list[int] = []
    while len(out) < MOST_DONORS:
        gains = (shows & missing[:, None]).sum(axis=(0, 2))
        best = int(np.argmax(gains))
        if gains[best] < LEAST_GAIN * missing.size:
            break
        out.append(int(some[best]))
        missing &= ~shows[:, best]
    return tuple(out)


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
