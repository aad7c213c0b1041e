"""The cut-out: a subject without any cloth, from a few strokes on a few frames, with soft edges."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np
from pydantic import Field

from plonket.base.conventions import F32, U8
from plonket.base.fields import plain
from plonket.document.bases import KeyBase
from plonket.document.kinds import KEYS, KeyEntry
from plonket.keying.carried import Carried, CutStroke
from plonket.keying.common import Element, KeyContext, cut_out
from plonket.keying.screen import calmed, moved_edge

MISFIT = 0.05
"""How far a mix may be from what is seen, of the difference of its two sides, to be believed."""


class CutOutKey(KeyBase):
    """What strokes say is the subject, carried through the clip."""

    kind: Literal["cutout"] = "cutout"
    strokes: list[CutStroke] = Field(default_factory=list, max_length=400)
    band: float = plain(8, label="Edge band", low=1, high=80, step=0.5, unit="px", group="Cut-out",
                        help="How far to both sides of the cut soft edges and hair are looked for.")  # fmt: skip
    firm: float = plain(40, label="Firm", low=0, high=100, step=1, unit="%", group="Cut-out",
                        help="How much the cut itself counts against the colours beside the edge.")  # fmt: skip
    choke: float = plain(0, label="Choke", low=-10, high=10, step=0.1, unit="px", group="Cut-out",
                         help="Moves the edge inwards, or outwards below nought.")  # fmt: skip
    soften: float = plain(0, label="Soften", low=0, high=20, step=0.1, unit="px", group="Cut-out")
    clean: float = plain(100, label="Clean colours", low=0, high=100, step=1, unit="%", group="Cut-out",
                         help="How much of what is behind is taken off soft edges.")  # fmt: skip


def run(light: F32, settings: CutOutKey, context: KeyContext) -> F32:
    """The frame cut out, linear, premultiplied (h, w, 4); all of it while there are no strokes."""
    if not any(s.subject for s in settings.strokes) or context.carried is None:
        return cut_out(light, np.ones(light.shape[:2], np.float32))
    return cut(light, context.carried.mask(context.frame), settings)


def cut(light: F32, mask: U8, settings: CutOutKey) -> F32:
    """A frame under a rough mask (h', w') of another size, its edge found again.

    In a band along the cut each pixel is explained as a mix of what the subject and what its surroundings show nearby; what
    explains it well counts, else the cut itself does.
    """
    h, w = light.shape[:2]
    scale = w / mask.shape[1]
    big = cv2.resize(mask, (w, h), interpolation=cv2.INTER_CUBIC).astype(np.float32) / 255
    rough = np.clip(cv2.GaussianBlur(big, (0, 0), max(0.5 * scale, 0.5)) * 2 - 0.5, 0, 1)
    hard = (rough > 0.5).astype(np.uint8)
    if not hard.any():
        return np.zeros((h, w, 4), np.float32)
    band = max(1, round(settings.band))
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * band + 1, 2 * band + 1))
    inside, outside = cv2.erode(hard, disc, borderValue=1), 1 - cv2.dilate(hard, disc)
    ys, xs = np.nonzero((inside == 0) & (outside == 0))
    alpha = inside.astype(np.float32)
    behind = light
    if len(ys):
        own = light[ys, xs]
        total = np.full(len(ys), 1e-6, np.float32)
        best = np.zeros(len(ys), np.float32)
        back = np.zeros_like(own)
        for sigma in (band * 0.8, band * 2.0):
            front, there = _nearby(light, inside, sigma)
            rear, here = _nearby(light, outside, sigma)
            f, b = front[ys, xs], rear[ys, xs]
            way = f - b
            size = np.maximum((way * way).sum(axis=1), 1e-6)
            a = np.clip(((own - b) * way).sum(axis=1) / size, 0, 1)
            off = np.sqrt(((b + a[:, None] * way - own) ** 2).sum(axis=1) / size)
            # Where both sides look alike, nothing can be told.
            apart = size / (size + 0.0004)
            seen = np.clip(there[ys, xs] * 20, 0, 1) * np.clip(here[ys, xs] * 20, 0, 1)
            weight = np.exp(-((off / MISFIT) ** 2) * 0.1) * apart * seen
            best += weight * a
            total += weight
            back += (weight + 1e-6)[:, None] * b
        said = rough[ys, xs]
        trust = settings.firm / 100
        told = best / total
        sure = np.clip(total, 0, 1) * (1 - 0.6 * trust)
        alpha[ys, xs] = said + sure * (told - said)
        behind = light.copy()
        behind[ys, xs] = back / (total + 1e-6)[:, None]
    alpha = calmed(alpha, np.asarray(light.mean(axis=2), np.float32), 1.5)
    alpha[(inside > 0)] = 1
    alpha[(outside > 0)] = 0
    if settings.choke:
        alpha = moved_edge(alpha, settings.choke)
    if settings.soften > 0:
        alpha = np.asarray(cv2.GaussianBlur(alpha, (0, 0), settings.soften / 2), np.float32)
    share = (1 - alpha) * np.float32(settings.clean / 100)
    colours = np.maximum(light - share[..., None] * behind, 0) if settings.clean > 0 else light * alpha[..., None]
    # Never brighter than the pixel's own colour under this coverage would be by much: what is behind is an estimate.
    most = light * np.minimum(1, alpha * 1.6 + 0.02)[..., None]
    mixed = np.minimum(colours, most) if settings.clean > 0 else colours
    return np.dstack([mixed * (alpha[..., None] > 0), alpha]).astype(np.float32)


def _nearby(light: F32, where: U8, sigma: float) -> tuple[F32, F32]:
    """What is seen nearby under a mask: its mean light (h, w, 3), and how much of it there is (h, w)."""
    k = max(1, round(sigma / 3))
    h, w = light.shape[:2]
    small = (max(1, w // k), max(1, h // k))
    weight = where.astype(np.float32)
    share = cv2.resize(weight, small, interpolation=cv2.INTER_AREA)
    mean = cv2.resize(light * weight[..., None], small, interpolation=cv2.INTER_AREA)
    share, mean = (cv2.GaussianBlur(p, (0, 0), max(sigma / k, 0.5)) for p in (share, mean))
    out = cv2.resize(mean / np.maximum(share, 1e-6)[..., None], (w, h), interpolation=cv2.INTER_LINEAR)
    return np.asarray(out, np.float32), np.asarray(cv2.resize(share, (w, h), interpolation=cv2.INTER_LINEAR), np.float32)


def learn(key: CutOutKey, element: Element) -> KeyContext:
    """Where the strokes say the subject is, carried through the element; masks are kept."""
    place = element.kept("cutout", "".join(s.model_dump_json() for s in key.strokes))
    if place is None:
        return KeyContext(carried=Carried(element.rgb, element.frames, key.strokes))
    return KeyContext(carried=Carried(element.rgb, element.frames, key.strokes, load=place.load, save=place.save))


KEYS.add(KeyEntry(
    kind="cutout", order=50, label="Cut-out", settings=CutOutKey, run=run, groups=("Cut-out",),
    help="A subject before anything, from a few strokes over it and beside it.", learn=learn, learns_from=("strokes",),
))  # fmt: skip
