"""Depth as a picture: near is warm and light, far is cool and dark; hatched where it is not sure, clear where it is unknown."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F32, U8
from plonket.depth.frame_depth import UNSURE
from plonket.track.depth.depth_track import DepthTrack

COLOURS = ("#fff1c9", "#f2b35e", "#d8694f", "#93487f", "#45418f", "#1c2350")
"""From the nearest to the farthest, evenly along the logarithm of the distance."""
HATCH_PX = 9
"""From one line of it to the next, in a picture 1280 wide."""
LOOKED_AT = 6
"""Frames whose distances say where the scale begins and ends."""
ENDS = (1, 99)
"""Per cent of the distances between which the scale lies."""


def scale_of(track: DepthTrack) -> tuple[float, float] | None:
    """The nearest and the farthest of what a clip shows, in the camera's units; None: nothing is known."""
    known = np.flatnonzero(track.known())
    if not len(known):
        return None
    some = known[np.unique(np.linspace(0, len(known) - 1, LOOKED_AT).round().astype(int))]
    every = [one[::7, ::7] for f in some if (one := track.depth(int(f))) is not None]
    told = np.concatenate([one[one > 0] for one in every]) if every else np.zeros(0)
    if not told.size:
        return None
    near, far = (float(v) for v in np.percentile(told, ENDS))
    return near, max(far, near * 1.01)


def depth_colours(depth: F32, sure: F32, near: float, far: float) -> U8:
    """(h, w, 4) sRGB-coded and straight, of depths and how sure they are (h, w)."""
    stops = np.array([[int(one[k : k + 2], 16) for k in (1, 3, 5)] for one in COLOURS], np.float32)
    along = np.log(np.maximum(depth, 1e-30) / near) / np.log(far / near) * (len(stops) - 1)
    fine = np.linspace(0, len(stops) - 1, 256)
    table = np.stack([np.interp(fine, np.arange(len(stops)), stops[:, c]) for c in range(3)], axis=1)
    at = np.clip(np.nan_to_num(along) * (255 / (len(stops) - 1)), 0, 255).astype(np.uint8)
    out = np.empty((*depth.shape, 4), np.uint8)
    out[..., :3] = np.round(table).astype(np.uint8)[at]
    out[..., 3] = np.where(depth > 0, 255, 0)
    h, w = depth.shape
    step = max(4, round(HATCH_PX * w / 1280))
    y, x = np.ogrid[:h, :w]
    line = (x + y) % step < max(1, step // 4)
    out[line & (sure < UNSURE)] = (20, 22, 26, 255)
    return out
