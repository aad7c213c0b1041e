"""What every key's matte may need: specks and holes taken away, its edge moved and softened."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, number
from plonket.document.bases import KeyBase
from plonket.keying.common import held
from plonket.matting.matte_shape import moved_edge, without_holes, without_lone
from plonket.matting.mix import explained, unmix

MATTE = "Matte"
GONE = 0.02
"""What is thinner than this shows what is behind, and nothing else."""
NEAR = 1 / 60
"""How far what is behind is looked for, of the picture's width."""


class ShapedKey(KeyBase):
    """A key whose matte is put right by the same few settings, all in pixels of the picture that is keyed."""

    choke: Number = number(0, label="Edge in", low=-10, high=10, step=0.1, unit="px", group=MATTE,
                           help="Moves the edge in, or out when negative, by parts of a pixel.")  # fmt: skip
    soften: Number = number(0, label="Soften", low=0, high=20, step=0.1, unit="px", group=MATTE)
    specks: Number = number(0, label="Specks off", low=0, high=12, step=1, unit="px", group=MATTE,
                            help="Takes away lone specks up to this size.")  # fmt: skip
    lone: Number = number(0, label="Marks off", low=0, high=300, step=5, unit="px", group=MATTE,
                          help="Takes away pieces that stand alone and are no wider: tape crosses, stands, wires.")  # fmt: skip
    holes: Number = number(0, label="Holes shut", low=0, high=12, step=1, unit="px", group=MATTE,
                           help="Closes holes in the subject up to this size.")  # fmt: skip


class UnmixedKey(ShapedKey):
    """A shaped key that has to guess what light shows through its soft edges."""

    clean: Number = number(100, label="Clean colours", low=0, high=100, step=1, unit="%", group=MATTE,
                           help="How much of what is behind is taken off soft edges.")  # fmt: skip


def unmixed(light: F32, alpha: F32, key: UnmixedKey) -> F32:
    """Premultiplied (h, w, 4) of linear light (h, w, 3) under a rough matte.

    Its edges are told by what they are mixed of, shaped, and freed of what is behind them.
    """
    if held(key.clean) <= 0:
        alpha = shaped(alpha, key)
        return np.dstack([light * alpha[..., None], alpha]).astype(np.float32)
    around = np.ones((3, 3), np.uint8)
    inside = cv2.erode((alpha > 1 - GONE).astype(np.uint8), around, borderValue=1)
    outside = cv2.erode((alpha < GONE).astype(np.uint8), around, borderValue=1)
    near = max(2.0, NEAR * light.shape[1])
    sides = np.asarray(inside, np.uint8), np.asarray(outside, np.uint8)
    mix = explained(light, *sides, (0.4 * near, near), alpha, 0, alone=True)
    return unmix(light, shaped(mix.alpha, key), mix.behind, mix.trust * np.float32(held(key.clean) / 100))


def shaped(alpha: F32, key: ShapedKey) -> F32:
    """A matte (h, w) without specks and holes, its edge moved by parts of a pixel and softened, as a key is set."""
    out = alpha
    specks, holes, choke, soften = held(key.specks), held(key.holes), held(key.choke), held(key.soften)
    if specks >= 1:
        size = 2 * round(specks) + 1
        disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
        # What survives an opening grows back to its own shape: thin hair that hangs on something stays.
        kept = cv2.dilate(cv2.erode(out, disc), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (6 * size + 1, 6 * size + 1)))
        out = np.minimum(out, np.asarray(kept, np.float32))
    if held(key.lone) >= 1:
        out = without_lone(out, held(key.lone))
    if holes >= 1:
        out = without_holes(out, 2 * holes)
        size = 2 * round(holes) + 1
        disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
        shut = cv2.erode(cv2.dilate(out, disc), disc) * (cv2.erode(out, np.ones((3, 3))) > 0.02)
        out = np.maximum(out, np.asarray(shut, np.float32))
    if choke:
        out = moved_edge(out, choke)
    if soften > 0:
        out = np.asarray(cv2.GaussianBlur(out, (0, 0), soften / 2), np.float32)
    return out
