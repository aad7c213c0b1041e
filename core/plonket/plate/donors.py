"""Which other frames show what a moved frame leaves empty: geometry only."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.base.outlines import carry

MOST_DONORS = 6
LOOKS = 24
"""Frames looked at, and tried."""
LEAST_GAIN = 0.002
"""A donor must show at least this share of all the pictures that no other shows."""
ZOOMS = np.arange(1.0, 1.5001, 0.005)
"""Tried in turn until nothing stays empty."""
ACROSS, DOWN = 40, 24


def looked_at(start: int, stop: int) -> NDArray[np.int64]:
    """Frames start..stop-1, thinned to a few."""
    return np.unique(np.linspace(start, stop - 1, min(LOOKS, stop - start)).round().astype(int))


def _shown(
    picture_from_held: F64, held_from_clip: F64, pictures: NDArray[np.int64], frames: NDArray[np.int64], spots: F64,
    size: tuple[int, int],
           ) -> NDArray[np.bool_]:  # fmt: skip
    """(pictures, frames, spots): whether a frame shows a spot of a picture."""
    out = np.zeros((len(pictures), len(frames), len(spots)), bool)
    limit = np.array(size)
    for a, i in enumerate(pictures):
        held = carry(spots, np.asarray(np.linalg.inv(picture_from_held[i]), np.float64))
        for b, j in enumerate(frames):
            at = carry(held, np.asarray(np.linalg.inv(held_from_clip[j]), np.float64))
            out[a, b] = ((at > 2) & (at < limit - 2)).all(axis=1)
    return out


def _grid(size: tuple[int, int], zoom: float = 1.0) -> F64:
    """Spots of the middle `1 / zoom` of a picture, its very corners among them."""
    u, v = np.meshgrid(np.linspace(-0.5, 0.5, ACROSS) / zoom + 0.5, np.linspace(-0.5, 0.5, DOWN) / zoom + 0.5)
    return np.stack([u.ravel() * size[0], v.ravel() * size[1]], axis=1)


def choose_donors(picture_from_held: F64, held_from_clip: F64, size: tuple[int, int], start: int, stop: int) -> tuple[int, ...]:
    """The few frames that together show most of what the others lack, the most useful first.

    Parameters
    ----------
    onto, back : (n, 3, 3) as in `ViewPath`. start, stop : the range that may give and must be filled.
    """
    some = looked_at(start, stop)
    shows = _shown(picture_from_held, held_from_clip, some, some, _grid(size), size)
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


def zoom_to_fill(
    picture_from_held: F64, held_from_clip: F64, donors: tuple[int, ...], size: tuple[int, int], start: int, stop: int
) -> float | None:
    """The least zoom about the middle at which own frame and donors leave nothing empty; None: more than half again."""
    some = looked_at(start, stop)
    for zoom in ZOOMS:
        spots = _grid(size, float(zoom))
        seen = np.asarray(_shown(picture_from_held, held_from_clip, some, np.array(donors, int), spots, size).any(axis=1))
        each = (some[a : a + 1] for a in range(len(some)))
        own = np.stack([_shown(picture_from_held, held_from_clip, one, one, spots, size)[0, 0] for one in each])
        if (seen | own).all():
            return float(zoom)
    return None
