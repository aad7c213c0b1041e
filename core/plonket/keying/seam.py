"""Two keys of one picture, each on its side of a mask's edge, where one cloth ends and another begins."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.conventions import F32

BAND = 3
"""So many pixels to both sides of the edge a pixel may be mixed of both cloths: what coding spreads, and a hand's drawing."""
SIDE = 9
"""So far from the edge it is seen whether each key takes the other's cloth for solid."""
CLOTH = 0.1
"""What is thinner than this by one key is its bare cloth."""
REST = 0.25
"""What coded colour leaves right where two cloths meet."""


def joined(first: F32, second: F32, cover: F32) -> F32:
    """One picture of two: `second` where the mask covers it.

    With I = s C1 + t C2 + a F, a key finds (1 - a1) = s where it takes the other's cloth for solid, and so
    a = a1 + a2 - 1: right where there is only one of the two, and nearly where they meet. That holds as far as each key
    does take the other's cloth for solid, which is seen on both sides.

    Parameters
    ----------
    first, second : linear, premultiplied (h, w, 4). cover : (h, w).
    """
    out = first + cover[..., None] * (second - first)
    inside = (cover > 0.5).astype(np.uint8)
    edge = cv2.morphologyEx(inside, cv2.MORPH_GRADIENT, np.ones((3, 3), np.uint8)) > 0
    if not edge.any():
        return np.asarray(out, np.float32)
    away = cv2.distanceTransform((~edge).astype(np.uint8), cv2.DIST_L2, 3)
    one, other = first[..., 3], second[..., 3]
    beside = (away > BAND) & (away <= SIDE)
    bare = np.concatenate([other[beside & (inside == 0) & (one < CLOTH)], one[beside & (inside == 1) & (other < CLOTH)]])
    apart = float(bare.mean()) if bare.size else 0.0
    band = away <= BAND
    mixed = out[..., 3][band]
    rest = REST * (1 - away[band] / (BAND + 1))
    both = np.clip((one[band] + other[band] - 1 - rest) / (1 - rest), 0, 1)
    alpha = mixed + np.float32(apart) * (np.minimum(both, mixed) - mixed)
    out[band] *= (alpha / np.maximum(mixed, 1e-4))[:, None]
    return np.asarray(out, np.float32)
