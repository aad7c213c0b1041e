"""A beam: a line or curve drawn between points, perches or spots on planes, with things hung on it."""

from __future__ import annotations

from typing import Annotated, Literal

import numba
import numpy as np
from pydantic import Field

from plonket.base.colour import linear_of
from plonket.base.conventions import F32, F64, FAST
from plonket.base.fields import (
    GOES,
    AssetDigest,
    Identifier,
    Number,
    Settings,
    choice,
    colour,
    number,
    plain,
    reference,
    value_at,
)
from plonket.base.homography import jacobian, rotation_scale, translation
from plonket.base.outlines import carry
from plonket.document.bases import LayerBase
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.image.picture import CLEAR, Picture, StillSource
from plonket.image.resample import place_still
from plonket.layers.common import faded
from plonket.layers.sources import Sources

PIECES = 24
"""Straight pieces that stand for the curve between two anchors."""
FORGETS_FR = 150
"""A hanging thing's swing is worked out from so many frames back: it has forgotten what was before."""


class Anchor(Settings):
    """Where a beam is held: a point of a point motion, or a spot on a plane or from a perch, in pixels."""

    target: Annotated[Identifier, reference("place", says="follows something", left=GOES, leads=True)]
    point: Identifier | None = None
    x: float = 0.0
    y: float = 0.0


class BeamLayer(LayerBase):
    """A glowing line, a rope, a string of lights."""

    kind: Literal["beam"] = "beam"
    anchors: list[Anchor] = Field(min_length=2, max_length=12)
    curve: Literal["straight", "hanging", "smooth"] = choice(
        "straight", label="Course", group="Beam",
        names={"straight": "Straight", "hanging": "Hanging", "smooth": "Smooth through all"})  # fmt: skip
    sag: Number = number(20.0, label="Sag", low=-300, high=300, step=1, unit="%", group="Beam", soft=(0, 100),
                         help="How far it hangs down, of the distance between its ends.")  # fmt: skip
    width: Number = number(5.0, label="Width", low=0.2, high=400, step=0.1, unit="px", group="Beam", soft=(0.5, 40))
    taper: Number = number(0.0, label="Taper", low=0, high=100, step=1, unit="%", group="Beam",
                           help="How much thinner it gets towards its far end.")  # fmt: skip
    colour: str = colour("#ffd27a", label="Colour", group="Beam")
    glow: Number = number(14.0, label="Glow", low=0, high=300, step=0.5, unit="px", group="Beam", soft=(0, 80))
    glow_strength: Number = number(60.0, label="Strength", low=0, high=1000, step=5, unit="%", group="Beam", soft=(0, 200))
    from_part: Number = number(0.0, label="Drawn from", low=0, high=100, step=1, unit="%", group="Beam")
    to_part: Number = number(100.0, label="Drawn to", low=0, high=100, step=1, unit="%", group="Beam",
                             help="Key this to let the beam shoot out.")  # fmt: skip
    bead: AssetDigest | None = Field(default=None, description="A picture that hangs on the beam several times")
    bead_width: int = 0
    bead_height: int = 0
    beads: int = plain(5, label="How many", low=0, high=60, step=1, group="Hung on it", whole=True)
    bead_size: Number = number(20.0, label="Size", low=0.1, high=1000, step=0.5, unit="%", group="Hung on it", soft=(1, 100))
    held_at: float = plain(0, label="Held at", low=0, high=100, step=1, unit="%", group="Hung on it",
                           help="How far down the hung picture the beam goes through it.")  # fmt: skip
    swing: float = plain(60, label="Swing", low=0, high=300, step=5, unit="%", group="Hung on it",
                         help="How much they swing when what holds them moves.")  # fmt: skip
    period: float = plain(22, label="Swing time", low=4, high=200, step=1, unit="fr", group="Hung on it",
                          help="Frames that one swing to and fro takes.")  # fmt: skip


def course(layer: BeamLayer, ends: F64, sag: float) -> F64:
    """The beam's polyline (m, 2) through its anchors (k, 2)."""
    if layer.curve == "straight":
        return ends
    t = np.arange(PIECES)[:, None] / PIECES
    pieces = []
    for k in range(len(ends) - 1):
        a, b = ends[k], ends[k + 1]
        if layer.curve == "hanging":
            # A parabola: the form of a rope whose load is even along the distance spanned.
            drop = np.array([0.0, 4 * sag / 100 * float(np.hypot(*(b - a)))])
            pieces.append(a + (b - a) * t + drop * t * (1 - t))
        else:
            before = ends[k - 1] if k > 0 else 2 * a - b
            after = ends[k + 2] if k + 2 < len(ends) else 2 * b - a
            pieces.append(
                a + 0.5 * t * (b - before + t * (2 * before - 5 * a + 4 * b - after + t * (3 * (a - b) + after - before)))
            )
    return np.concatenate([*pieces, ends[-1:]])


def spots_along(line: F64, parts: F64) -> F64:
    """Points (n, 2) at fractions of a polyline's length."""
    steps = np.hypot(*np.diff(line, axis=0).T)
    along = np.concatenate([[0.0], np.cumsum(steps)])
    total = max(along[-1], 1e-9)
    return np.stack([np.interp(parts * total, along, line[:, k]) for k in range(2)], axis=1)


def ends_of(layer: BeamLayer, sources: Sources, frame: float) -> F64 | None:
    """The anchors' places (k, 2) in a frame; None while one of them is not measured."""
    out = []
    for anchor in layer.anchors:
        at = sources.anchor(anchor.target, anchor.point, np.array([anchor.x, anchor.y]), frame)
        if at is None:
            return None
        out.append(at)
    return np.array(out)


def swings(layer: BeamLayer, sources: Sources, frame: int, parts: F64) -> F64:
    """Angles in radians of the hanging things: pendulums whose pivots move with the beam.

    theta'' = -w^2 sin(theta) - 2 z w theta' - (a_x / l) cos(theta), with the pivot's acceleration a_x and
    the length l that has the period asked for where the things hang; integrated in quarter frames.
    """
    angle, speed = np.zeros(len(parts)), np.zeros(len(parts))
    first = max(0, frame - FORGETS_FR)
    if layer.swing <= 0 or frame == first:
        return angle
    paths = []
    for f in range(first, frame + 1):
        ends = ends_of(layer, sources, f)
        if ends is None:
            return angle
        paths.append(spots_along(course(layer, ends, value_at(layer.sag, f)), parts)[:, 0])
    x = np.array(paths)
    pull = np.zeros_like(x)
    if len(x) > 2:
        pull[1:-1] = x[2:] - 2 * x[1:-1] + x[:-2]
    w, damp = 2 * np.pi / layer.period, 0.12
    length = max(layer.bead_height * value_at(layer.bead_size, frame) / 100 * 0.8, 4.0)
    for k in range(len(x)):
        for _ in range(4):
            force = -w * w * np.sin(angle) - 2 * damp * w * speed - pull[k] / length * np.cos(angle)
            speed = speed + force / 4
            angle = angle + speed / 4
    return np.clip(angle * layer.swing / 100, -1.4, 1.4)


def draw(layer: BeamLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The layer's picture at a frame; `view` leads from the clip's pixels to the picture's."""
    ends = ends_of(layer, sources, frame)
    if ends is None or not np.isfinite(ends).all():
        return CLEAR
    line = course(layer, ends, value_at(layer.sag, frame))
    low, high = (float(np.clip(value_at(p, frame) / 100, 0, 1)) for p in (layer.from_part, layer.to_part))
    picture = CLEAR
    if high > low:
        pieces = max(1, int((len(line) - 1) * (high - low))) if layer.curve != "straight" else len(line) - 1
        shown = spots_along(line, np.linspace(low, high, pieces + 1))
        picture = _stroke(layer, shown, frame, size, view)
    if layer.bead is None or layer.beads < 1:
        return faded(picture, layer, frame)
    parts = (np.arange(layer.beads) + 1) / (layer.beads + 1)
    angles = swings(layer, sources, frame, parts)
    spots = spots_along(line, parts)
    source = sources.element(layer.bead, 0)
    return faded(_with_beads(layer, picture, source, spots, angles, frame, size, view), layer, frame)


def _stroke(layer: BeamLayer, line: F64, frame: int, size: tuple[int, int], view: F64) -> Picture:
    scale = float(np.sqrt(abs(np.linalg.det(jacobian(view, line.mean(axis=0))))))
    width, glow = value_at(layer.width, frame) * scale, value_at(layer.glow, frame) * scale
    strength = value_at(layer.glow_strength, frame) / 100
    reach = width / 2 + (4 * glow if strength > 0 else 0) + 2
    at = carry(line, view)
    x0, y0 = np.maximum(np.floor(at.min(axis=0) - reach), 0).astype(int)
    x1, y1 = min(size[0], int(at[:, 0].max() + reach) + 1), min(size[1], int(at[:, 1].max() + reach) + 1)
    if x1 <= x0 or y1 <= y0:
        return CLEAR
    light = linear_of(layer.colour).astype(np.float32)
    out = np.empty((y1 - y0, x1 - x0, 4), np.float32)
    thin = 1 - value_at(layer.taper, frame) / 100
    shine = strength if glow > 0 else 0.0
    _draw_line(out, float(x0), float(y0), at, width / 2, thin * width / 2, max(glow, 1e-3), shine, light)
    return Picture(rgba=out, x=int(x0), y=int(y0))


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _draw_line(out: F32, x0: float, y0: float, line: F64, half: float, far_half: float, glow: float, strength: float,
               light: F32) -> None:  # fmt: skip
    """Coverage of a tapering line, with light round it that falls with distance (premultiplied; glow has no alpha)."""
    n = line.shape[0] - 1
    lengths = np.zeros(n + 1)
    for k in range(n):
        lengths[k + 1] = lengths[k] + np.hypot(line[k + 1, 0] - line[k, 0], line[k + 1, 1] - line[k, 1])
    total = max(lengths[n], 1e-9)
    for j in numba.prange(out.shape[0]):
        y = y0 + j + 0.5
        for i in range(out.shape[1]):
            x = x0 + i + 0.5
            nearest, part = 1e30, 0.0
            for k in range(n):
                ax, ay = line[k, 0], line[k, 1]
                bx, by = line[k + 1, 0] - ax, line[k + 1, 1] - ay
                square = bx * bx + by * by
                t = ((x - ax) * bx + (y - ay) * by) / square if square > 1e-12 else 0.0
                t = min(max(t, 0.0), 1.0)
                dx, dy = x - ax - t * bx, y - ay - t * by
                d = dx * dx + dy * dy
                if d < nearest:
                    nearest = d
                    part = (lengths[k] + t * (lengths[k + 1] - lengths[k])) / total
            distance = np.sqrt(nearest)
            r = half + (far_half - half) * part
            # Thinner than a pixel, it covers less instead of vanishing.
            cover = min(max(r + 0.5 - distance, 0.0), 1.0) * min(2 * r, 1.0)
            shine = 0.0
            if strength > 0:
                beyond = max(distance - r, 0.0) / glow
                if beyond < 4:
                    fade = 1 - beyond / 4
                    shine = strength * fade * fade / (1 + 3 * beyond * beyond)
            for c in range(3):
                out[j, i, c] = light[c] * (cover + shine * (1 - cover))
            out[j, i, 3] = cover


def _with_beads(
    layer: BeamLayer, below: Picture, source: StillSource, spots: F64, angles: F64, frame: int, size: tuple[int, int],
    view: F64,
) -> Picture:  # fmt: skip
    grown = value_at(layer.bead_size, frame) / 100
    hook = translation(-layer.bead_width / 2, -layer.bead_height * layer.held_at / 100)
    hung = []
    for spot, angle in zip(spots, angles, strict=True):
        m = view @ translation(*spot) @ rotation_scale(float(np.degrees(angle)), grown) @ hook
        hung.append(place_still(source, m, size))
    hung = [p for p in hung if p.rgba.size]
    parts = [p for p in (below, *hung) if p.rgba.size]
    if not parts:
        return CLEAR
    x0, y0 = min(p.x for p in parts), min(p.y for p in parts)
    x1, y1 = max(p.x + p.rgba.shape[1] for p in parts), max(p.y + p.rgba.shape[0] for p in parts)
    out = np.zeros((y1 - y0, x1 - x0, 4), np.float32)
    for p in parts:
        h, w = p.rgba.shape[:2]
        window = out[p.y - y0 : p.y - y0 + h, p.x - x0 : p.x - x0 + w]
        window[:] = p.rgba + window * (1 - p.rgba[..., 3:])
    return Picture(rgba=out, x=x0, y=y0)


LAYERS.add(LayerEntry(
    kind="beam", order=30, label="Beam", settings=BeamLayer, run=draw,
    help="A line or curve between points or perches, with things hung on it.",
    traits=frozenset({"matched"}), handles="anchors",
    groups=("Beam", "Hung on it", "Mix"),
    card={"": "Beam"},
    says={"": "Beam, tied in {anchors} places"},
))  # fmt: skip
