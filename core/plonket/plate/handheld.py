"""Handheld: a natural shake for a picture that stands too still."""

from __future__ import annotations

from typing import Literal

import numpy as np
from scipy.interpolate import CubicSpline

from plonket.base.conventions import F64
from plonket.base.fields import Number, number, plain, switch, value_at
from plonket.base.homography import rotation_scale, translation
from plonket.document.bases import TreatmentBase
from plonket.document.kinds import TREATMENTS, TreatmentEntry
from plonket.plate.borders import largest_window, onto_picture
from plonket.plate.view_path import PlateContext, ViewPath

SWINGS = ((0.3, 1.0), (0.75, 0.5), (1.7, 0.22), (3.9, 0.1))
"""Frequency in Hz and strength of each part of the shake: slow drift, breath, steps of the wrist, tremor."""


class Handheld(TreatmentBase):
    """A shake with a seed: the same seed shakes the same way."""

    kind: Literal["handheld"] = "handheld"
    amount: Number = number(100.0, label="Amount", low=0, high=1000, step=1, unit="%", group="Shake", soft=(0, 300),
                            help="100 % is a calm hand: about half a hundredth of the picture's width.")  # fmt: skip
    speed: float = plain(100, label="Speed", low=10, high=400, step=1, unit="%", group="Shake")
    roll: Number = number(100.0, label="Turning", low=0, high=500, step=1, unit="%", group="Shake", soft=(0, 300),
                          help="How much it turns along with moving.")  # fmt: skip
    seed: int = plain(1, label="Seed", low=0, high=9999, step=1, group="Shake", whole=True,
                      help="Another number gives another shake.")  # fmt: skip
    zoom: bool = switch(True, label="Hide borders", group="Shake", help="Zoom just enough to keep the borders out.")


def handheld_view(settings: Handheld, context: PlateContext, view: ViewPath) -> ViewPath:
    """The view shaken about its middle."""
    n, (w, h) = len(view.picture_from_held), context.size
    x, y, turn = (shake(n, context.fps * 100 / settings.speed, settings.seed * 3 + k) for k in range(3))
    amount = np.array([value_at(settings.amount, i) / 100 for i in range(n)])
    roll = np.array([value_at(settings.roll, i) / 100 for i in range(n)])
    steps = np.stack([
        translation(w / 2 + 0.005 * w * amount[i] * x[i], h / 2 + 0.005 * w * amount[i] * y[i])
        @ rotation_scale(float(0.18 * amount[i] * roll[i] * turn[i]), 1.0) @ translation(-w / 2, -h / 2)
        for i in range(n)
    ])  # fmt: skip
    if not settings.zoom:
        return view.carried_on(steps, np.ones(n))
    span = slice(context.start, context.stop)
    window = largest_window(steps[span], context.size, centre=np.array([w / 2, h / 2]))
    zoom = onto_picture(window.centre, window.zoom, context.size)
    return view.carried_on(zoom @ steps, np.full(n, window.zoom))


def shake(frames: int, fps: float, seed: int) -> F64:
    """(n,) a smooth shake of SD about 1, the same for the same seed whatever the length."""
    seconds = np.arange(frames) / fps
    out = np.zeros(frames)
    for k, (hz, strength) in enumerate(SWINGS):
        rng = np.random.default_rng([seed, k])
        # Knots are drawn one after another from the start, so that a longer clip begins alike.
        phase = rng.random()
        knots = rng.standard_normal(int(np.ceil(seconds[-1] * hz * 2)) + 8) if frames else np.zeros(8)
        out += strength * CubicSpline(np.arange(len(knots)), knots)(seconds * hz * 2 + 2 + phase)
    return np.asarray(out / np.sqrt(sum(s * s for _, s in SWINGS)))


TREATMENTS.add(TreatmentEntry(
    kind="handheld", order=20, label="Handheld", settings=Handheld, run=handheld_view, groups=("Shake",),
    help="Gives a picture that stands too still a natural shake.",
    card={"": "Shake"}, says={"": "A natural shake, the same every time for the same seed."},
))  # fmt: skip
