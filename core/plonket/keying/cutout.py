"""The cut-out: a subject without any cloth, from a few strokes on a few frames, with soft edges."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from plonket.base.conventions import F32, U8
from plonket.base.fields import Number, number
from plonket.document.kinds import KEYS, KeyEntry
from plonket.keying.common import Element, KeyContext, cut_out, held
from plonket.keying.shape import UnmixedKey, shaped
from plonket.matting.carried import CutStroke
from plonket.matting.pick import VERSION, Picked
from plonket.matting.soft_edges import soft_edges


class CutOutKey(UnmixedKey):
    """What strokes, or single clicks, say is the subject, carried through the clip."""

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
    """A frame under a rough mask (h', w') of another size, its edge found again and freed of what is behind it."""
    mix = soft_edges(light, mask, held(settings.band), held(settings.firm) / 100)
    if mix is None:
        return np.zeros((*light.shape[:2], 4), np.float32)
    alpha, behind = shaped(mix.alpha, settings), mix.behind
    clean = held(settings.clean)
    share = (1 - alpha) * np.float32(clean / 100)
    colours = np.maximum(light - share[..., None] * behind, 0) if clean > 0 else light * alpha[..., None]
    # Never brighter than the pixel's own colour under this coverage would be by much: what is behind is an estimate.
    most = light * np.minimum(1, alpha * 1.6 + 0.02)[..., None]
    mixed = np.minimum(colours, most) if clean > 0 else colours
    return np.dstack([mixed * (alpha[..., None] > 0), alpha]).astype(np.float32)


def learn(key: CutOutKey, element: Element) -> KeyContext:
    """Where the strokes say the subject is, carried through the element; masks are kept."""
    if not any(s.subject for s in key.strokes):
        return KeyContext()
    place = element.kept("picked", f"{VERSION}" + "".join(s.model_dump_json() for s in key.strokes))
    if place is None:
        return KeyContext(carried=Picked(element.rgb, element.frames, key.strokes))
    return KeyContext(carried=Picked(element.rgb, element.frames, key.strokes, load=place.load, save=place.save))


KEYS.add(KeyEntry(
    kind="cutout", order=50, label="Cut-out", settings=CutOutKey, run=run, groups=("Cut-out", "Matte"),
    help="A subject before anything, from a few strokes over it and beside it.", learn=learn, learns_from=("strokes",),
    traits=frozenset({"strokes"}),
))  # fmt: skip
