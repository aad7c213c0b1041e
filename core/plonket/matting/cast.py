"""The shadow that a picked thing casts, told by what it darkens as it goes."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import cv2
import numpy as np

from plonket.base.colour import LUMA, linear_from_codes
from plonket.base.conventions import F32, F64, U8

APART = (4, 7, 11, 16, 24, 36)
"""Frames before and after that may show the place without the thing."""
MOST_DONORS = 5
DARKER, NEVER_DARKER = 0.94, 0.18
"""Light in shadow as a share of the open place's: above the first it is none, below the second something else."""
TINTED = 0.3
"""Logarithm by which red and blue may fall differently in it; more is another thing."""
REACH = 1.2
"""It lies within so many times the thing's own size of it."""
TOUCHES_PX = 7
LEAST_SHARE = 0.01
"""Of the thing's own pixels: less is no shadow."""


def donors_of(frame: int, frames: int) -> list[int]:
    """The frames that are asked, the nearest first."""
    found = [frame + way * far for far in APART for way in (1, -1)]
    return [f for f in found if 0 <= f < frames][:MOST_DONORS]


def cast_shadow(
    frame: int, rgb: Callable[[int], U8], mattes: Mapping[int, U8 | None], movement: Callable[[int, int], F64 | None]
) -> U8 | None:
    """8-bit (h, w): where a thing's shadow lies in a frame; None: none is seen.

    The place without the thing is what most other frames show there, each brought to this one's light. What is darker here by
    a share that is much the same in red, green and blue, hangs together with the thing and is near it, is its shadow.

    Parameters
    ----------
    rgb : frame -> 8-bit (h, w, 3). mattes : of this frame and of those that `donors_of` names, 8-bit (h, w).
    movement : (this frame, another) -> (3, 3) from this one's pixels to the other's; None: they go apart.
    """
    matte = mattes.get(frame)
    if matte is None or not (matte > 127).any():
        return None
    # Only what lies near it is looked at.
    ys, xs = np.nonzero(matte > 127)
    size = float(np.sqrt(len(ys)))
    reach = round(REACH * 2 * size) + 40
    y0, y1 = max(0, int(ys.min()) - reach), min(matte.shape[0], int(ys.max()) + reach)
    x0, x1 = max(0, int(xs.min()) - reach), min(matte.shape[1], int(xs.max()) + reach)
    whole, matte = matte, np.ascontiguousarray(matte[y0:y1, x0:x1])
    own = linear_from_codes(np.ascontiguousarray(rgb(frame)[y0:y1, x0:x1]))
    h, w = matte.shape
    wide = np.ones((31, 31), np.uint8)
    near = cv2.dilate(matte, wide)
    seen: list[F32] = []
    for other, cover in mattes.items():
        lies = None if other == frame else movement(frame, other)
        if lies is None:
            continue
        half = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1.0]])
        into = np.linalg.inv(half) @ lies @ half @ np.array([[1, 0, x0], [0, 1, y0], [0, 0, 1.0]])
        flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        light = cv2.warpPerspective(linear_from_codes(rgb(other)), into, (w, h), flags=flags, borderMode=cv2.BORDER_REPLICATE)
        # Its shadow there lies near it there.
        hidden = np.zeros((h, w), np.uint8) if cover is None else cv2.dilate(cover, np.ones((61, 61), np.uint8))
        hidden = cv2.warpPerspective(hidden, into, (w, h), flags=flags, borderMode=cv2.BORDER_CONSTANT, borderValue=255)
        both = (hidden < 10) & (near < 10)
        if both.sum() < 500:
            continue
        gain = np.median((own[both] + 0.01) / (light[both] + 0.01), axis=0)
        light = np.where((hidden < 10)[..., None], light * np.clip(gain, 0.5, 2), np.nan)
        seen.append(np.asarray(light, np.float32))
    if len(seen) < 2:
        return None
    # By how many frames a place is shown; where none shows it nothing is told.
    shown = np.sum([np.isfinite(one[..., 0]) for one in seen], axis=0)
    stack = np.sort(np.stack([np.nan_to_num(one, nan=np.inf) for one in seen]), axis=0)
    at = np.maximum(shown - 1, 0) // 2
    open_ = np.take_along_axis(stack, np.broadcast_to(at[None, ..., None], (1, h, w, 3)), axis=0)[0]
    told = shown >= 2
    ratio = (cv2.GaussianBlur(own, (0, 0), 1.5) + 0.004) / (
        cv2.GaussianBlur(np.where(told[..., None], open_, own).astype(np.float32), (0, 0), 1.5) + 0.004
    )  # fmt: skip
    share = ratio @ LUMA
    tint = np.log(np.maximum(ratio[..., 0], 1e-3)) - np.log(np.maximum(ratio[..., 2], 1e-3))
    solid = (matte > 127).astype(np.uint8)
    far = cv2.distanceTransform(1 - solid, cv2.DIST_L2, 3)
    dark = told & (share < DARKER) & (share > NEVER_DARKER) & (np.abs(tint) < TINTED) & (far < REACH * size * 2)
    dark &= cv2.dilate(solid, np.ones((3, 3), np.uint8)) == 0
    cleaned = cv2.morphologyEx(dark.astype(np.uint8), cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
    touching = cv2.dilate(solid, np.ones((2 * TOUCHES_PX + 1, 2 * TOUCHES_PX + 1), np.uint8))
    _, labels = cv2.connectedComponents(cv2.morphologyEx(cleaned, cv2.MORPH_CLOSE, np.ones((5, 5), np.uint8)))
    touched = np.unique(labels[(touching > 0) & (labels > 0)])
    found = np.isin(labels, touched) & (labels > 0)
    if found.sum() < LEAST_SHARE * solid.sum():
        return None
    # Its penumbra is fainter than what was told.
    wider = cv2.dilate(found.astype(np.uint8) * np.uint8(255), np.ones((9, 9), np.uint8))
    out = np.zeros_like(whole)
    out[y0:y1, x0:x1] = cv2.GaussianBlur(wider, (0, 0), 2)
    return out
