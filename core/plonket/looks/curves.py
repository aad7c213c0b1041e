"""Curves: tones moved by curves drawn by hand."""

from __future__ import annotations

from typing import Literal

import numpy as np
from scipy.interpolate import PchipInterpolator

from plonket.base.conventions import F32
from plonket.base.fields import CurvePoint, curve
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, coded, coloured, lit, straight, through_table

STEPS = 1024


class Curves(LookBase):
    """A curve for all channels, and one for each, in display code."""

    kind: Literal["curves"] = "curves"
    master: list[CurvePoint] = curve(label="All", group="Curves")
    red: list[CurvePoint] = curve(label="Red", group="Curves")
    green: list[CurvePoint] = curve(label="Green", group="Curves")
    blue: list[CurvePoint] = curve(label="Blue", group="Curves")


def table_of(points: list[CurvePoint]) -> F32:
    """The curve at `STEPS` places from 0 to 1: monotone cubics through the points, even beyond the outermost."""
    at = sorted({round(p.x, 5): p.y for p in points}.items())
    xs, ys = [x for x, _ in at], [y for _, y in at]
    where = np.linspace(0, 1, STEPS)
    if len(xs) == 1:
        return np.full(STEPS, ys[0], np.float32)
    inside = PchipInterpolator(xs, ys)(np.clip(where, xs[0], xs[-1]))
    return np.clip(inside, 0, 1).astype(np.float32)


def run(rgba: F32, look: Curves, context: LookContext) -> F32:
    """The picture with its display code through its channel's curve, then through the one for all."""
    code = coded(straight(rgba))
    for c, points in enumerate((look.red, look.green, look.blue)):
        code[..., c] = through_table(np.ascontiguousarray(code[..., c]), table_of(points))
    return coloured(rgba, lit(through_table(code, table_of(look.master))))


LOOKS.add(LookEntry(
    kind="curves", order=30, label="Curves", settings=Curves, run=run,
    help="Tones moved by curves drawn by hand.",
))  # fmt: skip
