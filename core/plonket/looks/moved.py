"""Motion blur by what moves: estimated from the frames beside it."""

from __future__ import annotations

from typing import Literal

import cv2
import numba
import numpy as np

from plonket.base.conventions import F32, FAST, U8
from plonket.base.fields import Number, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, coded


class Moved(LookBase):
    """Draws what moves out along its movement, as an open shutter does."""

    kind: Literal["moved"] = "moved"
    shutter: Number = number(180.0, label="Shutter", low=0, high=720, step=5, unit="°", group="Motion blur", soft=(0, 360),
                             help="180° is half a frame long, as film cameras expose.")  # fmt: skip
    most: Number = number(60.0, label="At the most", low=1, high=400, step=1, unit="px", group="Motion blur", soft=(5, 120))


def reach(look: Moved, frame: int) -> float:
    """How far it may spread, in pixels of the clip."""
    return value_at(look.most, frame)


def run(rgba: F32, look: Moved, context: LookContext) -> F32:
    """The picture averaged along its movement to the frames beside it; alone, it is left as it is."""
    f = context.frame
    share = value_at(look.shutter, f) / 360
    if context.neighbour is None or share <= 0:
        return rgba
    before, after = context.neighbour(f - 1), context.neighbour(f + 1)
    there, back = movement(rgba, after), movement(rgba, before)
    # Half of the exposure lies before the frame's moment, half after it.
    mean = np.asarray((there - back) / 2, np.float32)
    if not after.any() or not before.any():
        mean = there if after.any() else np.negative(back)
    # What does not cover anything takes the movement of what is near it.
    flow = np.asarray(cv2.GaussianBlur(mean, (0, 0), max(2.0 * context.scale, 0.8)) * share, np.float32)
    longest = value_at(look.most, f) * context.scale
    size = np.hypot(flow[..., 0], flow[..., 1])
    flow *= np.asarray(np.minimum(1, longest / np.maximum(size, 1e-6)), np.float32)[..., None]
    if size.max() < 0.5:
        return rgba
    out = np.empty_like(rgba)
    _along(np.ascontiguousarray(rgba), np.ascontiguousarray(flow, np.float32), out)
    return out


def movement(picture: F32, other: F32) -> F32:
    """(h, w, 2) how far each pixel has gone in the other picture: dense flow on what is seen on screen."""
    dis = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_FAST)
    return np.asarray(dis.calc(_grey(picture), _grey(other), None), np.float32)  # type: ignore[call-overload]


def _grey(rgba: F32) -> U8:
    # Coverage is seen too: a dark thing on nothing moves as a bright one does.
    code = coded(np.ascontiguousarray(rgba[..., :3].mean(axis=2))) * 0.8 + rgba[..., 3] * 0.2
    return np.clip(code * 255, 0, 255).astype(np.uint8)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _along(source: F32, flow: F32, out: F32) -> None:
    h, w = source.shape[:2]
    for j in numba.prange(h):
        total = np.empty(4, np.float32)
        for i in range(w):
            dx, dy = flow[j, i, 0], flow[j, i, 1]
            steps = int(min(np.sqrt(dx * dx + dy * dy) / 1.2, 47.0)) + 1
            total[:] = 0
            for k in range(steps):
                t = (k + 0.5) / steps - 0.5
                x, y = min(max(i + dx * t, 0.0), w - 1.001), min(max(j + dy * t, 0.0), h - 1.001)
                x0, y0 = max(int(x), 0), max(int(y), 0)
                u, v = x - x0, y - y0
                x1, y1 = min(x0 + 1, w - 1), min(y0 + 1, h - 1)
                for c in range(4):
                    top = source[y0, x0, c] * (1 - u) + source[y0, x1, c] * u
                    low = source[y1, x0, c] * (1 - u) + source[y1, x1, c] * u
                    total[c] += top * (1 - v) + low * v
            for c in range(4):
                out[j, i, c] = total[c] / steps


LOOKS.add(LookEntry(
    kind="moved", order=110, label="Motion blur", settings=Moved, run=run, reach=reach, neighbours=True,
    help="Draws out what moves, found from the frames beside.",
))  # fmt: skip
