"""Steady: the clip held on motions that the creator chose, or with only the bumps taken out."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import cv2
import numpy as np
from pydantic import Field

from plonket.base.conventions import F64
from plonket.base.fields import GOES, Identifier, Number, choice, number, plain, reference, switch, value_at
from plonket.base.homography import rotation_scale, translation
from plonket.base.outlines import carry
from plonket.document.bases import TreatmentBase
from plonket.document.kinds import TREATMENTS, TreatmentEntry
from plonket.plate.borders import gliding_zoom, largest_window, onto_picture
from plonket.plate.donors import choose_donors, zoom_to_fill
from plonket.plate.rolling_shutter import rolled
from plonket.plate.view_path import PlateContext, ViewPath, corners_of
from plonket.track.following import Parts, local_movement
from plonket.track.movement import from_frame, homographies, smoothed

HALF_KEPT = np.pi * np.sqrt(2 / np.log(2))
"""Period over SD of a Gaussian that keeps half of a swing of that period: exp(-2 (pi SD / T)^2) = 1/2."""
GLIDE_S = 1.2
"""Seconds over which a gliding zoom changes."""


class Steady(TreatmentBase):
    """Hold the clip on one motion, or on two at different depths."""

    kind: Literal["steady"] = "steady"
    targets: Annotated[list[Identifier], reference("motion", says="holds on to a motion", left=GOES)] = Field(
        default_factory=list, max_length=2
    )
    reference_frame: int = Field(default=0, ge=0)
    mode: Literal["lock", "smooth"] = choice("lock", label="Does", group="Steady",
                                             names={"lock": "Lock: it stands still", "smooth": "Smooth: bumps out"},
                                             help="Lock what is held, or keep a move that is meant.")  # fmt: skip
    seconds: float = plain(1.5, label="Strength", low=0.1, high=20, step=0.1, unit="s", group="Smooth",
                           help="Swings as long as this are kept by half; longer moves stay, shorter ones go.")  # fmt: skip
    perspective: bool = switch(True, label="All, tilt too", group="Parts",
                               help="Take out all of the movement, in perspective where it was measured so.")  # fmt: skip
    shift: bool = switch(True, label="Shift", group="Only these parts", help="Take out going up, down and sideways.")
    turn: bool = switch(True, label="Turn", group="Only these parts", help="Take out turning.")
    size: bool = switch(True, label="Size", group="Only these parts", help="Take out growing and shrinking.")
    fit: Literal["none", "zoom", "glide", "fill"] = choice(
        "zoom", label="Borders", group="Borders",
        names={"none": "Show them empty", "zoom": "Zoom just enough", "glide": "Zoom, slowly changing",
               "fill": "Fill from other frames"},
        help="What to do where the moved picture leaves the frame empty.")  # fmt: skip
    centred: bool = switch(False, label="Centred", group="Borders",
                           help="Zoom about the picture's middle; off: about where the least zoom is needed.")  # fmt: skip
    x: Number = number(0.0, label="Move x", low=-16384, high=16384, step=0.5, unit="px", group="Frame it", soft=(-300, 300))
    y: Number = number(0.0, label="Move y", low=-16384, high=16384, step=0.5, unit="px", group="Frame it", soft=(-300, 300))
    roll: Number = number(0.0, label="Level", low=-180, high=180, step=0.1, unit="°", group="Frame it", soft=(-15, 15))
    readout: float = plain(0, label="Rolling shutter", low=0, high=100, step=1, unit="%", group="Steady",
                           help="How much of a frame's time the sensor takes to read it from top to bottom; takes out its "
                                "leaning and stretching.")  # fmt: skip
    give_back: bool = switch(False, label="Give it back", group="Steady",
                             help="Work on the held picture; the finished one moves as it was filmed.")  # fmt: skip
    closer: Number = number(100.0, label="Closer", low=20, high=500, step=0.5, unit="%", group="Frame it", soft=(80, 200))


def steady_view(settings: Steady, context: PlateContext, view: ViewPath) -> ViewPath:
    """The view with the clip steadied.

    Frame i goes to ``aim[i] @ inv(moved[i])``: back to the reference frame and on to where the steadied move
    would have put it. Nothing is resampled here: whatever comes later is multiplied into the same matrices.
    """
    n = len(view.picture_from_held)
    measured = [(t, context.movement(t, settings.reference_frame)) for t in settings.targets]
    held = [(t, m) for t, m in measured if m is not None]
    if not held:
        return replace(view, says="Nothing to hold on to is measured yet.")
    spots = [context.places(t, settings.reference_frame) for t, _ in held]
    whole = held[0][1] if len(held) == 1 else together([m for _, m in held], spots)
    middle = np.concatenate(spots).mean(axis=0)
    parts = Parts(shift=settings.shift, turn=settings.turn, size=settings.size, perspective=settings.perspective)
    if settings.perspective:
        parts = Parts(perspective=True)
    moved = np.stack([local_movement(parts, m, np.eye(3), middle) for m in whole])
    if settings.readout > 0:
        moved = rolled(moved, settings.readout / 100, context.size) @ moved
    aim = np.tile(np.eye(3), (n, 1, 1)) if settings.mode == "lock" else aimed(moved, settings, context)
    held_from_clip = np.asarray(np.linalg.inv(moved), np.float64)
    framed = np.stack([_framed(settings, context.size, i) for i in range(n)])
    picture_from_held = framed @ aim
    before = np.stack([carry(middle[None], m)[0] for m in moved])
    after = np.stack([carry(middle[None], m)[0] for m in aim])
    out = ViewPath(
        picture_from_held=picture_from_held, held_from_clip=held_from_clip, zoom=np.ones(n), before=before, after=after
    )  # fmt: skip
    if settings.give_back:
        return out.given_back()
    if settings.fit == "none":
        return out
    return _filled(out, context) if settings.fit == "fill" else _zoomed(out, settings, context)


def aimed(moved: F64, settings: Steady, context: PlateContext) -> F64:
    """(n, 3, 3) the move that is meant: a movement with its short swings left out, unchanged on the reference frame."""
    deviation = settings.seconds * context.fps / float(HALF_KEPT)
    # Only the shot's own range counts: what lies beyond it may not be measured.
    start, stop = context.start, context.stop
    quad = corners_of(context.size)
    corners = np.stack([carry(quad, m) for m in moved])
    corners[start:stop] = smoothed(corners[start:stop], deviation)
    corners[:start], corners[stop:] = corners[start], corners[stop - 1]
    reference = min(max(settings.reference_frame, start), stop - 1)
    return from_frame(homographies(quad, corners, moved), reference)


def together(movements: list[F64], spots: list[F64]) -> F64:
    """(n, 3, 3) one movement that carries several surfaces at once as well as it can.

    A homography through the spots of all of them: where they lie side by side, far and near both hold.
    """
    base = np.concatenate([_spread(s) for s in spots])
    out = np.tile(np.eye(3), (len(movements[0]), 1, 1))
    for i in range(len(out)):
        goal = np.concatenate([carry(_spread(s), m[i]) for m, s in zip(movements, spots, strict=True)])
        found = cv2.findHomography(base, goal, 0)[0] if np.isfinite(goal).all() else None
        out[i] = movements[0][i] if found is None else found / found[2, 2]
    return out


def _spread(spots: F64) -> F64:
    """Spots (k, 2) as sixteen or more that count alike: corners give a grid, a few points a ring each."""
    if len(spots) == 4:
        u, v = np.meshgrid(np.linspace(0, 1, 4), np.linspace(0, 1, 4))
        u, v = u.ravel()[:, None], v.ravel()[:, None]
        return np.asarray(spots[0] * (1 - u) * (1 - v) + spots[1] * u * (1 - v) + spots[2] * u * v + spots[3] * (1 - u) * v)
    angles = np.linspace(0, 2 * np.pi, 16, endpoint=False)
    return np.concatenate([s + 40 * np.stack([np.cos(angles), np.sin(angles)], axis=1) for s in spots])


def _framed(settings: Steady, size: tuple[int, int], frame: int) -> F64:
    """(3, 3) the creator's own framing: turned and grown about the middle, then moved."""
    mx, my = size[0] / 2, size[1] / 2
    move = translation(value_at(settings.x, frame), value_at(settings.y, frame))
    about = rotation_scale(value_at(settings.roll, frame), value_at(settings.closer, frame) / 100)
    return np.asarray(move @ translation(mx, my) @ about @ translation(-mx, -my))


def _filled(view: ViewPath, context: PlateContext) -> ViewPath:
    """Borders filled from other frames, with the little zoom that hides what no frame shows."""
    ends = (context.size, context.start, context.stop)
    donors = choose_donors(view.picture_from_held, view.held_from_clip, *ends)
    zoom = zoom_to_fill(view.picture_from_held, view.held_from_clip, donors, *ends)
    says = "" if zoom is not None else "No frame shows some of the borders; they stay empty. Come closer, or zoom just enough."
    middle = np.array(context.size) / 2
    closer = onto_picture(middle, zoom or 1.0, context.size)
    n = len(view.picture_from_held)
    out = view.carried_on(np.tile(closer, (n, 1, 1)), np.full(n, zoom or 1.0), says)
    return replace(out, donors=donors)


def _zoomed(view: ViewPath, settings: Steady, context: PlateContext) -> ViewPath:
    size, span = context.size, slice(context.start, context.stop)
    matrices = view.matrices()[span]
    middle = np.array(size) / 2
    best = largest_window(matrices, size, centre=middle if settings.centred else None)
    zoom = np.full(len(view.picture_from_held), best.zoom)
    if settings.fit == "glide":
        needed = np.array([largest_window(m[None], size, centre=best.centre).zoom for m in matrices])
        glide = gliding_zoom(needed, max(1, round(GLIDE_S * context.fps / 2)))
        zoom[span] = glide
        zoom[: context.start], zoom[context.stop :] = glide[0], glide[-1]
    says = "" if best.fills else (
        "The movement is too large to hide all borders by zooming. Use fewer parts, smooth instead of lock, or a shorter range."
    )  # fmt: skip
    return view.carried_on(np.stack([onto_picture(best.centre, float(z), size) for z in zoom]), zoom, says)


TREATMENTS.add(TreatmentEntry(
    kind="steady", order=10, label="Steady", settings=Steady, run=steady_view, handles="middle",
    once="a plate is steadied once; change what is there instead of adding another",
    help="Holds the clip on a motion, or takes the bumps out of a move.",
    groups=("Steady", ("Smooth", {"mode": ("smooth",)}), "Parts", ("Only these parts", {"perspective": (False,)}),
            ("Borders", {"give_back": (False,)}), "Frame it"),
    card={"": "Smoothed", "mode=lock": "Locked"},
    says={"": "The clip held on what you choose. Everything stacked on it goes along."},
))  # fmt: skip
