"""The workshop: a plank wall with a sea chart, a shelf with the red lighthouse lamp, a window."""

from __future__ import annotations

from functools import partial
from typing import Any

import cv2
import numpy as np

from plonket.base.conventions import F32, F64, quaternion_to_matrix
from synth.phone import texture as tx
from synth.phone.path import HandheldPath
from synth.phone.solid import (
    Light,
    MiniatureSet,
    Patch,
    Solid,
    ball,
    box,
    lathe,
    panel,
    shift,
    turn,
)

CHART_SIZE = (0.60, 0.42)
CHART_POSE = shift(0.03, 0.60, 0.0125) @ turn("z", 2.2)
LAMP_AT = (0.50, 0.455, 0.10)
GAIN = 1.15
APERTURE_M = 0.0035
FOCUS_M = 1.45
PATH = HandheldPath(
    eyes=np.array([[-0.13, 0.60, 1.66], [0.00, 0.64, 1.60], [0.16, 0.60, 1.48]]),
    targets=np.array([[0.00, 0.50, 0.0], [0.03, 0.49, 0.0], [0.08, 0.50, 0.0]]),
    seconds=5.0,
    seed=11,
)
CLAP_AT = 0.70
"""Seconds into the take at which the lamp flashes and the clap sounds."""


CRATE_SIZE = (0.24, 0.19, 0.19)
CRATE_FOOT = (-0.40, 0.10, 0.20)
CRATE_TURN = 18.0
"""The larger crate on the bench: metres, the middle of its bottom, degrees about the upright."""
CRATE_CORNERS = [(x, y, z) for y in (0.0, 1.0) for z in (-0.5, 0.5) for x in (-0.5, 0.5)]
"""Its corners on a box of unit size that stands on its origin."""


def crate_seen(truth: Any, frame: int) -> F64:
    """(8, 2) pixels where its corners are seen in a frame, by the truth that was filmed with the clip (`camera.json`)."""
    pose = truth["frames"][frame]
    axes = turn("y", CRATE_TURN)[:3, :3]
    world = (np.array(CRATE_CORNERS) * CRATE_SIZE) @ axes.T + CRATE_FOOT
    local = (world - np.array(pose["position"])) @ quaternion_to_matrix(np.array(pose["rotation"])) * [1, -1, -1]
    return np.asarray(local[:, :2] / local[:, 2:] * truth["focal_px"] + np.array(truth["principal"]))


def in_crate_room(place: tuple[float, float, float]) -> F64:
    """(3,) a place of the set, in metres, as it lies from the crate: its foot the origin, its sides the axes."""
    return np.asarray((np.array(place) - CRATE_FOOT) @ turn("y", CRATE_TURN)[:3, :3])


def lamp_power(t: float) -> float:
    """Brightness of the lamp: a steady flame-like flicker and one bright flash at the clap."""
    steady = 1.0 + 0.05 * np.sin(2 * np.pi * 1.7 * t) + 0.03 * np.sin(2 * np.pi * 4.3 * t + 1)
    flash = 7.0 if -0.002 <= t - CLAP_AT < 0.055 else 0.0
    return float(steady + flash)


def planks(seed: int = 40) -> list[Solid]:
    """The wall: boards of uneven depth with dark gaps between them."""
    rng = np.random.default_rng(seed)
    solids = [panel("wall_back", 4.0, 3.0, tx.srgb("#1a1410")).moved(shift(0, 0.8, -0.03))]
    height = 0.118
    for k in range(13):
        grain = tx.wood((2200, 150), seed=seed + 10 * k, light="#b3926a", dark="#6e5138")
        board = box(f"board_{k}", (3.4, height - 0.004, 0.024), grain, bevel=0.003)
        tilt = turn("z", float(rng.normal(0, 0.12)))
        depth = -0.012 + float(rng.normal(0, 0.0012))
        along = float(rng.uniform(-0.25, 0.25))
        solids.append(board.moved(shift(along, (k - 0.5) * height, depth) @ tilt))
    return solids


def lamp() -> list[Solid]:
    """The red lighthouse lamp: tapered tower with a band, gallery, glowing lantern, roof, tip."""
    x, y, z = LAMP_AT
    red = tx.plaster((700, 700), colour="#a32a1c", seed=3, rough=0.08)
    red[300:420] = tx.plaster((700, 120), colour="#e9dfc8", seed=4, rough=0.06)
    for k, top in enumerate((90, 210, 520)):
        cv2.rectangle(red, (60 + 230 * k, top), (85 + 230 * k, top + 46), (0.02, 0.02, 0.025), -1)
    tower = [(0.001, 0), (0.062, 0), (0.064, 0.004), (0.060, 0.010), (0.041, 0.19), (0.041, 0.20)]
    gallery = [(0.041, 0.20), (0.058, 0.202), (0.060, 0.206), (0.058, 0.211), (0.03, 0.212)]
    lantern = [(0.028, 0.211), (0.030, 0.214), (0.030, 0.262), (0.028, 0.264)]
    roof = [(0.046, 0.262), (0.047, 0.266), (0.034, 0.285), (0.012, 0.305), (0.006, 0.310)]
    brass = tx.plaster((64, 64), colour="#b8873a", seed=5, rough=0.15)
    solids = [
        lathe("lamp_tower", tower, red, material="gloss", rough=0.35),
        lathe("lamp_gallery", gallery, tx.srgb("#20242a"), material="satin", rough=0.4),
        lathe("lamp_light", lantern, tx.rgb(9.0, 5.2, 2.0), material="glow"),
        lathe("lamp_roof", roof, tx.plaster((128, 128), colour="#2c3d40", seed=6), material="gloss", rough=0.3),
        ball("lamp_tip", 0.0085, brass, material="metal", rough=0.25).moved(shift(0, 0.317, 0)),
    ]
    for k in range(8):
        a = 2 * np.pi * k / 8
        rod = lathe(f"lamp_rod_{k}", [(0.0016, 0.211), (0.0016, 0.264)], tx.srgb("#20242a"), around=8)
        solids.append(rod.moved(shift(0.0315 * np.sin(a), 0, 0.0315 * np.cos(a))))
    return [s.moved(shift(x, y, z)) for s in solids]


def jar(name: str, at: tuple[float, float, float], colour: str, height: float = 0.11) -> list[Solid]:
    """A stoppered jar of pigment."""
    r = height * 0.36
    glaze = tx.plaster((300, 300), colour=colour, seed=len(name) * 7, rough=0.10)
    glaze[150:215] = tx.plaster((300, 65), colour="#e3d5b4", seed=len(name), rough=0.08)
    for k in range(4):
        tx.write(glaze, f"No.{len(name) % 7 + k}", (8 + 75 * k, 192), 0.7, tx.srgb("#3a3230"))
    body = [(0.001, 0), (r * 0.92, 0), (r, 0.006), (r, height * 0.72), (r * 0.75, height * 0.86),
            (r * 0.62, height * 0.88), (r * 0.62, height * 0.95), (r * 0.66, height * 0.97)]  # fmt: skip
    cork = [(r * 0.56, height * 0.95), (r * 0.6, height * 1.06), (r * 0.55, height * 1.08), (0.001, height * 1.08)]
    pieces = [
        lathe(name, body, glaze, material="gloss", rough=0.22),
        lathe(name + "_cork", cork, tx.plaster((80, 80), colour="#a67c4c", seed=2, rough=0.3)),
    ]
    return [p.moved(shift(*at) @ turn("y", len(name) * 31.0)) for p in pieces]


def window() -> tuple[list[Solid], F32]:
    """A window with drifting clouds; returns solids and the wide sky picture that drifts."""
    sky = tx.clouds((900, 420), seed=12) * 1.6
    glass = panel("sky", 0.40, 0.52, np.ascontiguousarray(sky[:, :320]), material="glow")
    pieces = [glass.moved(shift(-0.66, 0.70, 0.004))]
    paint = tx.plaster((600, 60), colour="#d5cbb4", seed=31, rough=0.10)
    for k, (w, h, dx, dy) in enumerate(
        [(0.48, 0.045, 0, 0.28), (0.50, 0.05, 0, -0.285), (0.045, 0.56, -0.215, 0), (0.045, 0.56, 0.215, 0),
         (0.016, 0.52, 0, 0), (0.40, 0.016, 0, 0.02)]  # fmt: skip
    ):
        depth = 0.05 if k < 4 else 0.022
        grain = paint if w > h else np.ascontiguousarray(paint.transpose(1, 0, 2))
        bar = box(f"frame_{k}", (w, h, depth), grain, bevel=0.004, material="satin", rough=0.5)
        pieces.append(bar.moved(shift(-0.66 + dx, 0.70 + dy, depth / 2)))
    return pieces, sky


def _sky_at(sky: F32, t: float) -> F32:
    x = 40.0 + 26.0 * t
    k, f = int(x), np.float32(x - int(x))
    return np.ascontiguousarray(sky[:, k : k + 320] * (1 - f) + sky[:, k + 1 : k + 321] * f)


def build() -> MiniatureSet:
    """The whole workshop with its truth points and planes."""
    solids = planks()
    chart = panel("sea_chart", *CHART_SIZE, tx.sea_chart((1500, 1050))).moved(CHART_POSE)
    solids.append(chart)
    w, h = CHART_SIZE
    for k, (sx, sy) in enumerate(((-1, 1), (1, 1), (1, -1), (-1, -1))):
        tack = ball(f"tack_{k}", 0.008, tx.srgb("#c0882f"), 0.6, material="metal", rough=0.22)
        at = (sx * (w / 2 - 0.014), sy * (h / 2 - 0.014), 0.003)
        solids.append(tack.moved(CHART_POSE @ shift(*at) @ turn("x", 90)))
    oak = partial(tx.wood, light="#94683c", dark="#4d3220")
    shelf = box("shelf", (0.62, 0.026, 0.20), oak((1400, 260), seed=77), bevel=0.004, material="satin", rough=0.5)
    solids.append(shelf.moved(shift(0.66, 0.44, 0.10)))
    for k, x in enumerate((0.44, 0.88)):
        iron = box(f"bracket_{k}", (0.018, 0.12, 0.014), tx.srgb("#26282b"), bevel=0.003, material="satin")
        solids.append(iron.moved(shift(x, 0.37, 0.012)))
        strut = box(f"strut_{k}", (0.014, 0.16, 0.012), tx.srgb("#26282b"), bevel=0.003, material="satin")
        solids.append(strut.moved(shift(x, 0.375, 0.065) @ turn("x", 42)))
    solids += lamp()
    solids += jar("jar_blue", (0.655, 0.453, 0.085), "#31577d", 0.115)
    solids += jar("jar_ochre", (0.745, 0.453, 0.12), "#b07a22", 0.085)
    solids += jar("jar_green_tall", (0.83, 0.453, 0.08), "#4d6b3c", 0.14)
    bench = box("bench", (3.2, 0.05, 0.9), tx.wood((2200, 900), seed=91, light="#9b7347", dark="#5a3d24"),
                bevel=0.006, material="satin", rough=0.55)  # fmt: skip
    solids.append(bench.moved(shift(0, 0.075, 0.44)))
    crate_a = box("crate_a", CRATE_SIZE, tx.crate_face((700, 560), seed=61, label="LAMP OIL"), bevel=0.004)
    x, y, z = CRATE_FOOT
    solids.append(crate_a.moved(shift(x, y + CRATE_SIZE[1] / 2, z) @ turn("y", CRATE_TURN)))
    crate_b = box("crate_b", (0.17, 0.13, 0.15), tx.crate_face((600, 460), seed=71, label="WICKS"), bevel=0.004)
    solids.append(crate_b.moved(shift(0.62, 0.165, 0.22) @ turn("y", -24)))
    tin_body = [(0.001, 0), (0.050, 0), (0.052, 0.004), (0.052, 0.118), (0.050, 0.121)]
    lid = [(0.0515, 0.119), (0.0535, 0.121), (0.0535, 0.138), (0.050, 0.142), (0.001, 0.143)]
    for piece in (
        lathe("tea_tin", tin_body, tx.tin_label((1200, 440), seed=8), material="gloss", rough=0.28),
        lathe("tea_tin_lid", lid, tx.srgb("#8d7a52"), material="metal", rough=0.3),
    ):
        solids.append(piece.moved(shift(0.24, 0.10, 0.24) @ turn("y", -20)))
    coil = tx.plaster((60, 60), colour="#b49a6b", seed=14, rough=0.3)
    for k in range(4):
        ring = [(0.062 + 0.011 * np.cos(a), 0.012 + 0.011 * np.sin(a)) for a in np.linspace(0, 2 * np.pi, 13)]
        rope = lathe(f"rope_{k}", ring, coil)
        solids.append(rope.moved(shift(-0.12 + 0.004 * k, 0.10 + 0.019 * k, 0.22 - 0.003 * k)))
    sky_parts, sky = window()
    solids += sky_parts
    corner = np.array([[-w / 2, h / 2, 0, 1], [w / 2, h / 2, 0, 1], [w / 2, -h / 2, 0, 1], [-w / 2, -h / 2, 0, 1]])
    lx, ly, lz = LAMP_AT
    return MiniatureSet(
        solids=solids,
        lights=[
            Light(centre=(-1.3, 1.7, 1.5), target=(0.1, 0.5, 0.1), size=(0.7, 0.7), radiance=(30.0, 28.0, 25.0)),
            Light(centre=(1.7, 1.1, 1.7), target=(0.2, 0.4, 0.1), size=(0.9, 0.6), radiance=(3.6, 2.7, 1.9)),
        ],
        ambient=(0.055, 0.06, 0.07),
        flicker={"lamp_light": lamp_power},
        drift={"sky": lambda t: _sky_at(sky, t)},
        points={
            "lamp tip": (np.array([lx, ly + 0.317, lz]), ""),
            "chart rose": ((CHART_POSE @ [0.22 * w, -0.20 * h, 0, 1])[:3], ""),
            "tack top left": ((CHART_POSE @ [-w / 2 + 0.014, h / 2 - 0.014, 0.003, 1])[:3], ""),
            "tack top right": ((CHART_POSE @ [w / 2 - 0.014, h / 2 - 0.014, 0.003, 1])[:3], ""),
        },
        patches={"sea chart": Patch(corners=(corner @ CHART_POSE.T)[:, :3])},
        mattes={
            "lamp": tuple(s.name for s in solids if s.name.startswith("lamp_")),
            "chart": ("sea_chart", "tack_0", "tack_1", "tack_2", "tack_3"),
        },
        extras=("tea_tin", "tea_tin_lid"),
    )
