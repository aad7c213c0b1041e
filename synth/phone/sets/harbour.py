"""The harbour bench: a model harbour with quay, houses, boats and a rope rail close to the lens."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64
from synth.phone import texture as tx
from synth.phone.path import HandheldPath
from synth.phone.sets.workshop import planks
from synth.phone.solid import Light, MiniatureSet, Patch, Solid, ball, box, lathe, panel, sheet, shift, turn

GAIN = 1.1
APERTURE_M = 0.0045
FOCUS_M = 0.80
CLAP_AT = 0.60
PATH = HandheldPath(
    eyes=np.array([[-0.30, 0.33, 0.80], [-0.05, 0.30, 0.86], [0.24, 0.34, 0.80]]),
    targets=np.array([[-0.02, 0.06, 0.0], [0.0, 0.07, -0.02], [0.03, 0.06, 0.0]]),
    seconds=4.2,
    shake_m=0.003,
    seed=23,
)


def beacon_power(t: float) -> float:
    """The small lighthouse's light, with one bright flash at the clap."""
    return 1.0 + (9.0 if -0.002 <= t - CLAP_AT < 0.055 else 0.0)


def house(name: str, at: tuple[float, float, float], size: tuple[float, float, float], wall: str, roof: str,
          angle: float) -> list[Solid]:  # fmt: skip
    """A plastered house with a gabled roof, a door and windows."""
    w, h, d = size
    face = tx.plaster((360, 300), colour=wall, seed=len(name) * 3, rough=0.10)
    dark = tx.srgb("#2a2d33")
    for x0 in (60, 230):
        for y0 in (40, 165):
            if x0 == 230 and y0 == 165:
                face[165:300, 225:295] = tx.srgb("#4a2f22")
                continue
            face[y0 - 7 : y0 + 77, x0 - 7 : x0 + 77] = tx.srgb("#e8e0cc")
            face[y0 : y0 + 70, x0 : x0 + 70] = dark
            face[y0 : y0 + 70, x0 + 32 : x0 + 38] = tx.srgb("#e8e0cc")
            face[y0 + 32 : y0 + 38, x0 : x0 + 70] = tx.srgb("#e8e0cc")
    parts = [box(name, size, face, bevel=0.001).moved(shift(0, h / 2, 0))]
    tiles = tx.plaster((300, 200), colour=roof, seed=len(name) + 40, rough=0.12)
    for row in range(0, 200, 18):
        tiles[row : row + 3] *= 0.35
        for col in range((row // 18 % 2) * 12, 300, 24):
            tiles[row : row + 18, col : col + 2] *= 0.5
    slope, rise = w * 0.64, 38.0
    for k, side in enumerate((-1, 1)):
        slab = box(f"{name}_roof_{k}", (slope, 0.004, d * 1.12), tiles, bevel=0.001)
        lift = h + np.sin(np.radians(rise)) * slope / 2 - 0.004
        lean = turn("z", -side * rise)
        parts.append(slab.moved(shift(side * np.cos(np.radians(rise)) * slope / 2, lift, 0) @ lean))
    gable_v = np.array([[-w / 2, h, 0], [w / 2, h, 0], [0, h + w / 2 * np.tan(np.radians(rise)), 0]])
    for k, z in enumerate((d / 2, -d / 2)):
        uv = np.array([[0.02, 0.9], [0.1, 0.9], [0.06, 0.98]])
        tri = Solid(name=f"{name}_gable_{k}", vertices=gable_v + [0, 0, z], faces=np.array([[0, 1, 2]]), uv=uv,
                    texture=tx.srgb(wall))  # fmt: skip
        parts.append(tri)
    stack = box(f"{name}_chimney", (w * 0.14, 0.035, w * 0.14), tx.srgb("#7a4434"), bevel=0.001)
    parts.append(stack.moved(shift(w * 0.22, h + w * 0.26, 0)))
    return [p.moved(shift(*at) @ turn("y", angle)) for p in parts]


def boat(name: str, at: tuple[float, float, float], colour: str, angle: float, length: float = 0.13) -> list[Solid]:
    """A rowing or fishing boat: a lofted hull with a painted strake, thwarts and a mast."""
    n, m = 20, 9
    u = np.linspace(-1, 1, n)
    beam = length * 0.19 * np.sqrt(np.clip(1 - np.abs(u) ** 2.6, 0.0, 1)) + 0.0006
    rise = length * 0.05 * u**2
    v: list[F64] = []
    for k in range(n):
        a = np.linspace(-np.pi / 2, np.pi / 2, m)
        side = np.sign(a) * np.abs(np.sin(a)) ** 0.7 * beam[k]
        depth = -np.cos(a) ** 0.8 * length * 0.12 * (1 - 0.5 * u[k] ** 4)
        v.append(np.stack([np.full(m, u[k] * length / 2 * (1 + 0.06 * (1 - np.cos(a[0])))), depth + rise[k], side], -1))
    grid = np.arange(n * m).reshape(n, m)
    a_, b_, c_, d_ = grid[:-1, :-1], grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]
    faces = np.concatenate([np.stack([a_, b_, c_], -1).reshape(-1, 3), np.stack([a_, c_, d_], -1).reshape(-1, 3)])
    uu, vv = np.meshgrid(np.linspace(0, 1, n), np.linspace(0, 1, m), indexing="ij")
    paint = tx.plaster((300, 200), colour=colour, seed=len(name), rough=0.1)
    for band in (18, 172):
        paint[band : band + 10] = tx.srgb("#efe6cf")
    paint[60:140] = tx.wood((300, 80), seed=len(name) + 3)
    uv = np.stack([uu, vv], -1).reshape(-1, 2)
    parts = [Solid(name=name, vertices=np.concatenate(v), faces=faces, uv=uv, texture=paint, material="gloss",
                   rough=0.35, smooth=True)]  # fmt: skip
    plank = tx.wood((200, 40), seed=9)
    for k, x in enumerate((-0.25, 0.05, 0.3)):
        seat = box(f"{name}_seat_{k}", (length * 0.06, 0.003, length * 0.32), plank)
        parts.append(seat.moved(shift(x * length, -length * 0.02, 0)))
    mast = lathe(f"{name}_mast", [(0.0018, -0.01), (0.0012, length * 0.75), (1e-4, length * 0.76)],
                 tx.srgb("#a07a48"), around=10)  # fmt: skip
    parts.append(mast.moved(shift(length * 0.12, 0, 0)))
    return [p.moved(shift(*at) @ turn("y", angle)) for p in parts]


def build() -> MiniatureSet:
    """The whole harbour with its truth."""
    solids = planks(seed=340)
    solids = [s.moved(shift(0, -0.2, -0.62)) for s in solids]
    top = box("bench", (3.0, 0.05, 1.7), tx.wood((2400, 1300), seed=191, light="#8d6a44", dark="#513824"),
              bevel=0.005, material="satin", rough=0.5)  # fmt: skip
    solids.append(top.moved(shift(0, -0.05, 0.1)))
    tray = tx.wood((900, 60), seed=17, light="#5d4a38", dark="#3a2a1c")
    for k, (w, d, x, z) in enumerate(((0.98, 0.02, 0, 0.27), (0.02, 0.60, -0.48, -0.02), (0.02, 0.60, 0.48, -0.02))):
        rim = box(f"tray_{k}", (w, 0.05, d), tray, bevel=0.002, material="satin")
        solids.append(rim.moved(shift(x, -0.003, z)))
    waves = tx.layered_noise((700, 420), cell=(46, 30), octaves=5, seed=55, gain=0.5) * 0.0055
    deep = tx.mix(tx.srgb("#123a42"), tx.srgb("#3f8a83"), np.clip(0.45 + waves * 120, 0, 1))
    sea = sheet("water", 0.94, 0.56, (280, 170), waves, deep, material="water", rough=0.09)
    solids.append(sea.moved(shift(0, 0.004, -0.01) @ turn("x", -90)))
    stone = tx.plaster((900, 220), colour="#8a857a", seed=66, rough=0.22)
    for row in range(0, 220, 44):
        stone[row : row + 4] *= 0.4
        for col in range((row // 44 % 2) * 35, 900, 70):
            stone[row : row + 44, col : col + 4] *= 0.45
    for name, size, at, a in (
        ("quay_back", (0.94, 0.05, 0.16), (0, 0.025, -0.23), 0.0),
        ("quay_arm", (0.26, 0.036, 0.055), (-0.22, 0.018, 0.11), 24.0),
        ("quay_arm_2", (0.17, 0.036, 0.055), (0.31, 0.018, 0.05), -36.0),
    ):
        solids.append(box(name, size, stone, bevel=0.003).moved(shift(*at) @ turn("y", a)))
    solids += house("house_red", (-0.31, 0.05, -0.24), (0.12, 0.085, 0.09), "#b3523c", "#4b4a4e", 6)
    solids += house("house_cream", (-0.155, 0.05, -0.25), (0.10, 0.12, 0.09), "#dcc9a0", "#7d3b2a", -3)
    solids += house("house_blue", (0.00, 0.05, -0.245), (0.13, 0.075, 0.08), "#6f93a8", "#5a4a3e", 4)
    solids += house("house_ochre_long", (0.19, 0.05, -0.25), (0.17, 0.09, 0.09), "#c8963f", "#454c52", -7)
    tower = tx.plaster((400, 400), colour="#e7e1d2", seed=71, rough=0.08)
    tower[90:170] = tx.plaster((400, 80), colour="#a8321f", seed=72)
    tower[250:330] = tx.plaster((400, 80), colour="#a8321f", seed=73)
    light = [(0.012, 0.142), (0.013, 0.144), (0.013, 0.164), (0.012, 0.165)]
    beacon = [
        lathe("tower", [(0.03, 0), (0.028, 0.004), (0.018, 0.13), (0.024, 0.134), (0.024, 0.142), (0.012, 0.142)],
              tower, material="gloss", rough=0.4),  # fmt: skip
        lathe("tower_light", light, tx.rgb(7.0, 4.6, 2.2), material="glow"),
        lathe("tower_roof", [(0.019, 0.164), (0.019, 0.166), (0.002, 0.186), (1e-4, 0.187)], tx.srgb("#2f3c40"),
              material="gloss"),  # fmt: skip
        ball("tower_tip", 0.0045, tx.srgb("#c89a45"), material="metal", rough=0.2).moved(shift(0, 0.190, 0)),
    ]
    tower_at = (-0.315, 0.036, 0.148)
    solids += [p.moved(shift(*tower_at)) for p in beacon]
    solids += boat("boat_green", (0.03, 0.012, 0.03), "#3e6b55", 25)
    solids += boat("boat_white", (-0.12, 0.012, -0.07), "#c9d2d4", -14, 0.11)
    solids += boat("boat_rust_old", (0.16, 0.012, 0.15), "#96452a", 160, 0.15)
    iron = tx.srgb("#202326")
    for k, x in enumerate((-0.36, -0.18, 0.0, 0.18, 0.36)):
        post = [(0.008, 0), (0.007, 0.006), (0.0052, 0.03), (0.0085, 0.037), (0.008, 0.042), (1e-4, 0.044)]
        bollard = lathe(f"bollard_{k}", post, iron, material="gloss", rough=0.4)
        solids.append(bollard.moved(shift(x, 0.022, 0.27)))
    for k, x in enumerate((-0.06, 0.09, 0.30)):
        crate = box(f"crate_{k}", (0.032, 0.026, 0.026), tx.crate_face((260, 200), seed=80 + k), bevel=0.001)
        solids.append(crate.moved(shift(x, 0.063, -0.168) @ turn("y", 17.0 * k + 9)))
    sign = tx.plaster((500, 200), colour="#22465a", seed=93, rough=0.05)
    tx.write(sign, "PAPER POINT", (36, 124), 1.8, tx.srgb("#f0e3bd"), 4, bold=True)
    board = panel("sign", 0.16, 0.064, sign)
    board_at = shift(0.33, 0.115, -0.145) @ turn("y", -12)
    solids.append(board.moved(board_at))
    for k, x in enumerate((-0.06, 0.06)):
        leg = box(f"sign_leg_{k}", (0.006, 0.11, 0.005), tx.srgb("#5a4430"))
        solids.append(leg.moved(board_at @ shift(x, -0.035, -0.004)))
    w, h = 0.16, 0.064
    quad = np.array([[-w / 2, h / 2, 0, 1], [w / 2, h / 2, 0, 1], [w / 2, -h / 2, 0, 1], [-w / 2, -h / 2, 0, 1]])
    tx_, ty, tz = tower_at
    return MiniatureSet(
        solids=solids,
        lights=[
            Light(centre=(-1.1, 1.25, 0.75), target=(0, 0, -0.05), size=(0.5, 0.5), radiance=(44.0, 39.0, 32.0)),
            Light(centre=(1.3, 0.9, 0.9), target=(0, 0, 0), size=(0.8, 0.6), radiance=(3.0, 3.6, 4.4)),
        ],
        ambient=(0.07, 0.08, 0.10),
        flicker={"tower_light": beacon_power},
        points={
            "beacon tip": (np.array([tx_, ty + 0.190, tz]), ""),
            "sign top left": ((board_at @ quad[0])[:3], ""),
            "sign top right": ((board_at @ quad[1])[:3], ""),
        },
        patches={"sign": Patch(corners=(quad @ board_at.T)[:, :3])},
        mattes={"lighthouse": ("tower", "tower_light", "tower_roof", "tower_tip")},
    )
