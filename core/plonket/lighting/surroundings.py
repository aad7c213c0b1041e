"""A light map grown from the footage: what is seen, continued to all sides, for reflections and the light of the sky."""

from __future__ import annotations

from collections.abc import Mapping

import cv2
import numpy as np

from plonket.base.colour import LUMA
from plonket.base.conventions import F32, F64
from plonket.image.push_pull import spread_out
from plonket.room.camera import RoomCamera

TALL = 256
"""Rows of the map; it is twice as wide."""
EDGE = 0.06
"""Share of a picture's width over which it fades into what others show."""


ASIDE = 0.03
"""How far from the middle of the camera's way, as a share of the distance to what is seen, a frame counts half."""
FADES = 24
"""Rows over which what nobody saw becomes as bright as it must be."""


def directions(tall: int) -> F64:
    """(tall, 2 tall, 3) unit directions of a light map's pixels: its middle lies along -z, x to the right."""
    v, u = np.meshgrid((np.arange(tall) + 0.5) / tall, (np.arange(2 * tall) + 0.5) / (2 * tall), indexing="ij")
    up, turn = np.pi * (0.5 - v), 2 * np.pi * (u - 0.5)
    return np.stack([np.cos(up) * np.sin(turn), np.sin(up), -np.cos(up) * np.cos(turn)], axis=-1)


def surroundings(camera: RoomCamera, pictures: Mapping[int, F32], far: float, sky: F64) -> F32:
    """Radiance all round, (256, 512, 3) linear.

    Parameters
    ----------
    pictures : frame -> linear (h, w, 3). far : metres at which what is seen is taken to lie. sky : (3,) what a white surface
        shows under the open sky: what nobody saw of it is made as bright as that.
    """
    way = directions(TALL)
    middle = np.mean([camera.eye(f) for f in pictures], axis=0)
    total = np.zeros((TALL, 2 * TALL, 3), np.float32)
    weight = np.zeros((TALL, 2 * TALL), np.float32)
    for frame, picture in pictures.items():
        height, width = picture.shape[:2]
        at = camera.project(frame, middle + far * way) * (width / camera.track.size[0])
        inside = np.isfinite(at[..., 0]) & (at > 0).all(axis=-1) & (at < np.array([width, height])).all(axis=-1)
        maps = np.where(inside[..., None], at, 0).astype(np.float32)
        edge = np.minimum(np.minimum(maps[..., 0], width - maps[..., 0]), np.minimum(maps[..., 1], height - maps[..., 1]))
        # Seen from elsewhere, what is near lies elsewhere: frames from the middle of the way count most.
        aside = float(np.linalg.norm(camera.eye(frame) - middle)) / (ASIDE * far)
        cover = np.where(inside, np.clip(edge / (EDGE * width), 1e-3, 1), 0).astype(np.float32) / np.float32(1 + aside**4)
        total += cv2.remap(picture, maps[..., 0] - 0.5, maps[..., 1] - 0.5, cv2.INTER_LINEAR) * cover[..., None]
        weight += cover
    seen = np.asarray(total / np.maximum(weight, 1e-6)[..., None], np.float32)
    light = _continued(seen, weight > 0)
    return _as_bright(light, weight > 0, way, sky)


def _continued(light: F32, seen: np.ndarray) -> F32:
    """What was seen goes on behind the camera mirrored, and above and below ever softer."""
    columns = np.asarray(seen.any(axis=0))
    if not columns.any():
        return light
    width = len(columns)
    # The widest run of columns that show something, however it lies across the map's seam.
    start, length = _widest_run(columns)
    order = (np.arange(width) - start) % width
    fold = order % (2 * length)
    mirrored = np.where(fold < length, fold, 2 * length - 1 - fold)
    source = (start + mirrored) % width
    out, known = light[:, source], seen[:, source]
    own = seen.copy()
    # A mirrored thing should not be known again: what lies behind is soft.
    behind = cv2.GaussianBlur(out * known[..., None], (0, 0), 5.0) / np.maximum(
        cv2.GaussianBlur(known.astype(np.float32), (0, 0), 5.0), 1e-3)[..., None]  # fmt: skip
    out = np.where(own[..., None], light, behind)
    return _filled(out.astype(np.float32), (own | known).astype(np.float32))


def _widest_run(flags: np.ndarray) -> tuple[int, int]:
    n = len(flags)
    if flags.all():
        return 0, n
    best, at = (0, 0), 0
    twice = np.concatenate([flags, flags])
    while at < n:
        if twice[at]:
            end = at
            while end < 2 * n and twice[end]:
                end += 1
            if end - at > best[1]:
                best = at, end - at
            at = end
        else:
            at += 1
    return best[0], min(best[1], n)


def _filled(light: F32, known: F32) -> F32:
    """Values (h, w, 3) spread to where nothing is known, the softer the farther (push-pull, round the seam)."""
    pad = light.shape[1] // 4
    wide, cover = (np.concatenate([v[:, -pad:], v, v[:, :pad]], axis=1) for v in (light, known))
    return np.ascontiguousarray(spread_out(wide * cover[..., None], cover)[:, pad:-pad], np.float32)


def _as_bright(light: F32, seen: np.ndarray, way: F64, sky: F64) -> F32:
    """The same with what nobody saw of the upper half so bright that a level white surface shows `sky` under all of it."""
    up = np.maximum(way[..., 1], 0)
    # Rows near the poles are small.
    area = np.sqrt(np.maximum(1 - way[..., 1] ** 2, 1e-6))
    share = up * area
    share = share / share.sum()
    above = ((way[..., 1] > 0) & ~seen).astype(np.float32)
    if float(sky @ LUMA) <= 0 or not above.any():
        return np.maximum(light, 0)
    # No edge where what is seen ends.
    far = cv2.distanceTransform((above > 0).astype(np.uint8), cv2.DIST_L2, 5)
    changed = np.clip(far / FADES, 0, 1)[..., None]
    free = (light * share[..., None] * changed).sum(axis=(0, 1))
    fixed = (light * share[..., None] * (1 - changed)).sum(axis=(0, 1))
    gain = np.clip((sky - fixed) / np.maximum(free, 1e-6), 0.05, 20)
    return np.asarray(np.maximum(light * (1 + changed * (gain - 1)), 0), np.float32)
