"""Which of the things that move by themselves are people."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import cv2
import numpy as np

from plonket.base.conventions import U8
from plonket.checks.movers import Box, Mover
from plonket.matting.people import PERSON, Window, likely

WHEN = (0.2, 0.5, 0.8)
"""Where in its time a mover is looked at."""
FILLS, INSIDE, CLEARLY = 0.1, 0.7, 0.85
"""Share of a mover's box that a person fills, share of the person that lies in it, and how likely the network must find one, at
the least."""
LOOKS = 2
"""Looks that must agree."""


def told_apart(movers: Sequence[Mover], rgb: Callable[[int], U8]) -> tuple[Mover, ...]:
    """Movers with people told as such; rgb : frame -> 8-bit (h, w, 3)."""
    out = []
    for mover in movers:
        looks = [mover.at[int(when * (len(mover.at) - 1))] for when in WHEN]
        seen = sum(_person_fills(rgb(frame), box) for frame, box in dict(looks).items())
        out.append(replace(mover, who="person") if seen >= LOOKS else mover)
    return tuple(out)


def _person_fills(picture: U8, box: Box) -> bool:
    """Whether somebody is seen in a box of a picture, and hardly reaches beyond it."""
    h, w = picture.shape[:2]
    window = Window.round_box(*box, (w, h))
    seen = window.filled(likely(window.of(picture), flips=(False,)), (h, w))
    x0, y0, x1, y1 = (int(v) for v in box)
    inside = np.zeros((h, w), bool)
    inside[y0 : y1 + 1, x0 : x1 + 1] = True
    _, labels = cv2.connectedComponents((seen > PERSON).astype(np.uint8))
    here = np.bincount(labels[inside])
    here[0] = 0
    its = labels == int(here.argmax())
    covers = float((its & inside).sum())
    return bool(here.any() and covers > FILLS * inside.sum() and covers > INSIDE * its.sum() and seen[its].mean() > CLEARLY)
