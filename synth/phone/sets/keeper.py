"""The keeper: a paper puppet with two signal wands before an uneven green cloth with tape crosses."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from plonket.base.conventions import F64
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
    sheet,
    shift,
    turn,
)

GAIN = 1.1
APERTURE_M = 0.003
FOCUS_M = 0.93
CLAP_AT = 0.50
PATH = HandheldPath(
    eyes=np.array([[-0.02, 0.31, 0.98], [0.02, 0.30, 0.96]]),
    targets=np.array([[0.0, 0.225, 0.0], [0.005, 0.23, 0.0]]),
    seconds=4.2,
    shake_m=0.002,
    shake_deg=0.18,
    seed=37,
)
SHOULDERS = {"arm_left": (-0.072, 0.262), "arm_right": (0.072, 0.262)}
CROSSES = ((-0.40, 0.47), (-0.19, 0.50), (0.17, 0.49), (0.41, 0.45), (-0.44, 0.20), (0.40, 0.17))


def _swing(t: float, side: int) -> float:
    """Angle of an arm in degrees; the right one waves, the left one rocks."""
    wave = 22 * np.sin(2 * np.pi * 0.62 * t + 0.4) + 7 * np.sin(2 * np.pi * 1.9 * t)
    rock = 13 * np.sin(2 * np.pi * 0.45 * t + 1.9)
    return float(-(52 + wave) if side > 0 else 84 + rock)


def body_at(t: float) -> F64:
    """The puppet leans a little from side to side about its feet."""
    lean = 2.2 * np.sin(2 * np.pi * 0.5 * t) + 0.5 * np.sin(2 * np.pi * 1.3 * t + 1)
    return turn("z", float(lean)) @ turn("y", float(7 * np.sin(2 * np.pi * 0.31 * t)))


def arm_at(t: float, name: str) -> F64:
    x, y = SHOULDERS[name]
    side = 1 if x > 0 else -1
    return body_at(t) @ shift(x, y, 0.012) @ turn("z", _swing(t, side))


def wand_power(t: float) -> float:
    """The wands glow, with one bright flash at the clap."""
    return 1.0 + (8.0 if -0.002 <= t - CLAP_AT < 0.055 else 0.0)


def puppet() -> list[Solid]:
    """Coat, head, beard, cap and the two arms with wands, each given to its moving part."""
    coat = tx.cloth((700, 500), colour="#22364f", seed=5)
    for y in (150, 230, 310, 390):
        coat[y - 12 : y + 12, 333:357] = tx.srgb("#d9a441")
    coat[:, 322:326] *= 0.35
    coat[455:500] = tx.cloth((700, 45), colour="#1a2433", seed=8)
    scarf = tx.cloth((400, 60), colour="#b8432c", seed=9)
    skin = tx.plaster((200, 200), colour="#d79b74", seed=10, rough=0.06)
    wool = tx.plaster((300, 200), colour="#e9e4d8", seed=11, rough=0.25)
    profile = [(0.001, 0.07), (0.082, 0.07), (0.086, 0.075), (0.078, 0.16), (0.066, 0.23), (0.060, 0.27),
               (0.040, 0.288), (0.028, 0.292)]  # fmt: skip
    felt = tx.cloth((300, 100), colour="#1c2836", seed=12)
    solids = [
        lathe("coat", profile, coat, around=64).moved(turn("y", 178)),
        lathe("scarf", [(0.028, 0.28), (0.046, 0.284), (0.049, 0.293), (0.045, 0.303), (0.03, 0.306)], scarf),
        ball("head", 0.052, skin, 1.06, material="satin", rough=0.5).moved(shift(0, 0.345, 0)),
        ball("nose", 0.012, tx.srgb("#cf7f5c"), material="satin").moved(shift(0, 0.344, 0.053)),
        lathe("cap", [(0.055, 0.368), (0.057, 0.371), (0.056, 0.386), (0.062, 0.392), (0.060, 0.404),
                      (0.03, 0.414), (0.001, 0.416)], felt),  # fmt: skip
        lathe("cap_band", [(0.0565, 0.372), (0.058, 0.373), (0.058, 0.380), (0.0565, 0.381)], tx.srgb("#c69a3e"),
              material="metal", rough=0.3),  # fmt: skip
        box("cap_peak", (0.07, 0.004, 0.035), tx.srgb("#15181c"), bevel=0.002, material="gloss").moved(
            shift(0, 0.371, 0.056) @ turn("x", 12)
        ),
    ]
    rng = np.random.default_rng(3)
    for k in range(46):
        a, drop = rng.uniform(-1.35, 1.35), rng.uniform(-0.036, -0.004)
        r = 0.048 - 0.25 * max(0.0, -drop - 0.022)
        tuft = ball(f"beard_{k}", float(rng.uniform(0.009, 0.015)), wool, 1.25)
        solids.append(tuft.moved(shift(r * np.sin(a), 0.345 + drop - 0.012, r * np.cos(a) + 0.004)))
    for k, ex in enumerate((-0.02, 0.02)):
        solids.append(ball(f"eye_{k}", 0.0062, tx.srgb("#101214"), material="gloss", rough=0.1).moved(
            shift(ex, 0.354, 0.0475)))  # fmt: skip
        brow = box(f"brow_{k}", (0.019, 0.005, 0.008), tx.srgb("#e9e4d8"), bevel=0.002)
        solids.append(brow.moved(shift(ex, 0.3655, 0.048) @ turn("z", 10.0 if ex < 0 else -10.0)))
    for k, bx in enumerate((-0.034, 0.034)):
        boot = lathe(f"boot_{k}", [(0.03, 0.0), (0.031, 0.01), (0.024, 0.03), (0.02, 0.075)], tx.srgb("#17191b"),
                     material="gloss", rough=0.3)  # fmt: skip
        solids.append(boot.moved(shift(bx, 0, 0.008)))
    solids = [replace(s, part="body") for s in solids]
    for name in SHOULDERS:
        side = 1 if name == "arm_right" else -1
        sleeve = [(0.001, -0.012), (0.020, -0.008), (0.021, 0.02), (0.019, 0.10), (0.021, 0.112), (0.012, 0.114)]
        handle = [(0.0045, -0.03), (0.0045, 0.07), (0.0035, 0.075)]
        tip = ball(f"{name}_tip", 0.0125, tx.rgb(5.0, 2.6, 0.7), material="glow")
        tilt = turn("z", -18.0 * side)
        pieces = [
            lathe(f"{name}_sleeve", sleeve, coat),
            ball(f"{name}_mitten", 0.019, tx.cloth((100, 100), colour="#b8432c", seed=15), 1.1).moved(
                shift(0, 0.128, 0)
            ),
            lathe(f"{name}_wand", handle, tx.srgb("#e8e2d4"), material="gloss", rough=0.3).moved(
                shift(0, 0.13, 0.012) @ tilt
            ),
            tip.moved(shift(0, 0.13, 0.012) @ tilt @ shift(0, 0.083, 0)),
        ]
        solids += [replace(s, part=name) for s in pieces]
    return solids


def tip_in_arm(name: str) -> F64:
    side = 1 if name == "arm_right" else -1
    return np.asarray((shift(0, 0.13, 0.012) @ turn("z", -18.0 * side) @ [0, 0.083, 0, 1])[:3])


def cloth_lift(x: float, y: float, lift: F64) -> float:
    rows, cols = lift.shape
    u, v = x / 1.9 + 0.5, (y - 0.38) / 1.2 + 0.5
    return float(lift[int((1 - v) * (rows - 1)), int(u * (cols - 1))])


def build() -> MiniatureSet:
    """The whole scene with its truth."""
    big = tx.layered_noise((600, 380), cell=(110, 300), octaves=3, seed=21) * 0.05
    small = tx.layered_noise((600, 380), cell=(34, 60), octaves=3, seed=22) * 0.004
    lift = big + small
    green = tx.cloth((1900, 1200), colour="#3f8a50", seed=30)
    solids = [sheet("cloth", 1.9, 1.2, (300, 190), lift, green).moved(shift(0, 0.38, -0.22))]
    floor_lift = tx.layered_noise((500, 300), cell=(80, 60), octaves=4, seed=23) * 0.003
    solids.append(
        sheet("cloth_floor", 1.9, 1.1, (200, 120), floor_lift, green).moved(shift(0, 0.0, 0.3) @ turn("x", -90))
    )
    tape = tx.plaster((120, 30), colour="#e6e2d6", seed=40, rough=0.1)
    points: dict[str, tuple[F64, str]] = {}
    for k, (x, y) in enumerate(CROSSES):
        z = -0.22 + cloth_lift(x, y, lift.astype(np.float64)) + 0.011
        for j, a in enumerate((45.0, -45.0)):
            strip = panel(f"cross_{k}_{j}", 0.062, 0.013, tape).moved(
                shift(x, y, z + 0.0006 * j) @ turn("z", a + 6 * k)
            )
            solids.append(strip)
        points[f"cross {k + 1}"] = (np.array([x, y, z]), "")
    solids += puppet()
    for name in SHOULDERS:
        points[f"wand {name[4:]}"] = (tip_in_arm(name), name)
    names = [s.name for s in solids if s.part]
    return MiniatureSet(
        solids=solids,
        lights=[
            Light(centre=(-0.9, 1.2, 1.2), target=(0, 0.25, 0), size=(0.6, 0.6), radiance=(26.0, 24.0, 21.5)),
            Light(centre=(1.1, 0.8, 0.9), target=(0, 0.3, 0), size=(0.5, 0.7), radiance=(6.5, 7.0, 8.0)),
        ],
        ambient=(0.10, 0.11, 0.11),
        motions={
            "body": body_at,
            "arm_left": lambda t: arm_at(t, "arm_left"),
            "arm_right": lambda t: arm_at(t, "arm_right"),
        },
        flicker={"arm_left_tip": wand_power, "arm_right_tip": wand_power},
        points=points,
        patches={
            "cloth centre": Patch(
                corners=np.array([[-0.3, 0.55, -0.22], [0.3, 0.55, -0.22], [0.3, 0.2, -0.22], [-0.3, 0.2, -0.22]])
            )
        },
        mattes={"keeper": tuple(names)},
        extras=tuple(s.name for s in solids if s.name.startswith("cross_")),
    )
