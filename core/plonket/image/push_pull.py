"""What is known of a picture, going on to where nothing is."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.conventions import F32


def spread_out(values: F32, cover: F32, *, enough: float = 1.0) -> F32:
    """Premultiplied values (h, w, 3) divided by their coverage (h, w), and going on outwards where there is none, ever softer
    (push-pull: S. Gortler, R. Grzeszczuk, R. Szeliski and M. Cohen, 1996, doi:10.1145/237170.237200).

    `enough` : coverage from which on a place is taken as it is.
    """
    levels = [(values.astype(np.float32), cover.astype(np.float32))]
    while max(levels[-1][1].shape) > 1:
        v, c = levels[-1]
        size = (max(1, v.shape[1] // 2), max(1, v.shape[0] // 2))
        levels.append((cv2.resize(v, size, interpolation=cv2.INTER_AREA), cv2.resize(c, size, interpolation=cv2.INTER_AREA)))
    v, c = levels[-1]
    out = np.reshape(v, (1, 1, -1)) / np.maximum(np.reshape(c, (1, 1, 1)), 1e-4)
    for v, c in reversed(levels[:-1]):
        wide = cv2.resize(out, (v.shape[1], v.shape[0]), interpolation=cv2.INTER_LINEAR)
        sure = np.clip(c / enough, 0, 1)[..., None]
        out = v / np.maximum(c, 1e-4)[..., None] * sure + wide * (1 - sure)
    return np.ascontiguousarray(out, np.float32)
