"""Real photographs for tests: those that scikit-image ships, with free licences."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import skimage

from plonket.base.conventions import U8


def photo(name: str, size: tuple[int, int] | None = None) -> U8:
    """A photograph (h, w, 3) in display codes; with `size` (width, height), its middle reduced or enlarged to that."""
    path = Path(skimage.__file__).parent / "data" / name
    rgb = np.ascontiguousarray(cv2.imread(str(path), cv2.IMREAD_COLOR)[..., ::-1])
    if size is None:
        return rgb
    h, w = rgb.shape[:2]
    by = max(size[0] / w, size[1] / h)
    how = cv2.INTER_AREA if by < 1 else cv2.INTER_CUBIC
    rgb = np.asarray(cv2.resize(rgb, (round(w * by), round(h * by)), interpolation=how), np.uint8)
    y, x = (rgb.shape[0] - size[1]) // 2, (rgb.shape[1] - size[0]) // 2
    return np.ascontiguousarray(rgb[y : y + size[1], x : x + size[0]])
