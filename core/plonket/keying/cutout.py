"""The cut-out: a subject without any cloth, from a few strokes on a few frames, with soft edges."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np
from pydantic import Field

from plonket.base.conventions import F32, U8
from plonket.base.fields import Number, number
from plonket.document.kinds import KEYS, KeyEntry
from plonket.keying.calm import calmed
from plonket.keying.carried import Carried, CutStroke
from plonket.keying.common import Element, KeyContext, cut_out, held
from plonket.keying.shape import UnmixedKey, explained, shaped


class CutOutKey(UnmixedKey):
    """What strokes say is the subject, carried through the clip."""

    kind: Literal["cutout"] = "cutout"
    strokes: list[CutStroke] = Field(default_factory=list, max_length=400)
    band: Number = number(8, label="Edge band", low=1, high=80, step=0.5, unit="px", group="Cut-out",
                        help="How far to both sides of the cut soft edges and hair are looked for.")  # fmt: skip
    firm: Number = number(40, label="Firm", low=0, high=100, step=1, unit="%", group="Cut-out",
                        help="How much the cut itself counts against the colours beside the edge.")  # fmt: skip


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
    band = max(1, round(held(settings.band)))
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * band + 1, 2 * band + 1))
    inside, outside = cv2.erode(hard, disc, borderValue=1), 1 - cv2.dilate(hard, disc)
    mix = explained(light, np.asarray(inside, np.uint8), np.asarray(outside, np.uint8), (band * 0.8, band * 2.0),
                    np.asarray(rough, np.float32), held(settings.firm) / 100)  # fmt: skip
    alpha, behind = mix.alpha, mix.behind
    alpha = calmed(alpha, np.asarray(light.mean(axis=2), np.float32), 1.5)
    alpha[(inside > 0)] = 1
    alpha[(outside > 0)] = 0
    alpha = shaped(alpha, settings)
    clean = held(settings.clean)
    share = (1 - alpha) * np.float32(clean / 100)
    colours = np.maximum(light - share[..., None] * behind, 0) if clean > 0 else light * alpha[..., None]
    # Never brighter than the pixel's own colour under this coverage would be by much: what is behind is an estimate.
    most = light * np.minimum(1, alpha * 1.6 + 0.02)[..., None]
    mixed = np.minimum(colours, most) if clean > 0 else colours
    return np.dstack([mixed * (alpha[..., None] > 0), alpha]).astype(np.float32)


def learn(key: CutOutKey, element: Element) -> KeyContext:
    """Where the strokes say the subject is, carried through the element; masks are kept."""
    place = element.kept("cutout", "".join(s.model_dump_json() for s in key.strokes))
    if place is None:
        return KeyContext(carried=Carried(element.rgb, element.frames, key.strokes))
    return KeyContext(carried=Carried(element.rgb, element.frames, key.strokes, load=place.load, save=place.save))


KEYS.add(KeyEntry(
    kind="cutout", order=50, label="Cut-out", settings=CutOutKey, run=run, groups=("Cut-out", "Matte"),
    help="A subject before anything, from a few strokes over it and beside it.", learn=learn, learns_from=("strokes",),
))  # fmt: skip
