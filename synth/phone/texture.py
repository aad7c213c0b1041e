"""Procedural surface textures of the made-up sets: wood, chart paper, cloth, tin, plaster.

Every function returns linear-light RGB, float32, shape (height, width, 3), and is a pure function
of its arguments (randomness by seed).
"""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.conventions import F32, U8


def srgb(hex_colour: str) -> F32:
    """``"#rrggbb"`` to linear RGB, float32, shape (3,)."""
    v = np.array([int(hex_colour[i : i + 2], 16) for i in (1, 3, 5)], dtype=np.float64) / 255.0
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4).astype(np.float32)


def rgb(red: float, green: float, blue: float) -> F32:
    """A linear colour, float32, shape (3,)."""
    return np.array([red, green, blue], np.float32)


def layered_noise(
    size: tuple[int, int], *, cell: tuple[float, float], octaves: int, seed: int, gain: float = 0.55
) -> F32:
    """Smooth noise in [-1, 1] (roughly), float32, shape (height, width).

    Parameters
    ----------
    size : (width, height) in pixels.
    cell : size of the coarsest noise cell in pixels, (x, y).
    octaves : number of layers; each halves the cell and scales the amount by `gain`.
    """
    rng = np.random.default_rng(seed)
    width, height = size
    out = np.zeros((height, width), np.float32)
    amount, total = 1.0, 0.0
    cx, cy = cell
    for _ in range(octaves):
        gw, gh = max(2, int(np.ceil(width / cx)) + 3), max(2, int(np.ceil(height / cy)) + 3)
        grid = rng.uniform(-1, 1, (gh, gw)).astype(np.float32)
        fit = (max(width, int((gw - 3) * cx)), max(height, int((gh - 3) * cy)))
        grown = cv2.resize(grid, fit, interpolation=cv2.INTER_CUBIC)
        out += amount * grown[:height, :width]
        total += amount
        amount *= gain
        cx, cy = max(1.0, cx / 2), max(1.0, cy / 2)
    return out / np.float32(total)


def mix(a: F32, b: F32, t: F32) -> F32:
    """Blend colours `a` to `b` (each (3,) or (h, w, 3)) by `t` (h, w) in [0, 1]."""
    t3 = np.clip(t, 0, 1)[..., None].astype(np.float32)
    return np.asarray(a + (b - a) * t3, np.float32)


def write(
    canvas: F32, text: str, at: tuple[int, int], scale: float, colour: F32, thick: int = 2, bold: bool = False
) -> None:
    """Letter `text` on to a linear picture, in place; `at` is the baseline's left end."""
    mask = np.zeros(canvas.shape[:2], np.uint8)
    font = cv2.FONT_HERSHEY_TRIPLEX if bold else cv2.FONT_HERSHEY_COMPLEX
    cv2.putText(mask, text, at, font, scale, 255, thick, cv2.LINE_AA)
    paint(canvas, mask, colour)


def paint(canvas: F32, mask: U8, colour: F32) -> None:
    """Lay `colour` on a linear picture through an 8-bit mask, in place."""
    cover = mask.astype(np.float32)[..., None] / 255
    canvas *= 1 - cover
    canvas += cover * colour


def wood(size: tuple[int, int], *, seed: int, light: str = "#b08a5c", dark: str = "#6a4a2c") -> F32:
    """A plank with grain along x, a knot or two, pores, scratches and a little dirt."""
    width, height = size
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    bend = layered_noise(size, cell=(width / 2.5, height / 1.3), octaves=3, seed=seed + 1)
    across = y + bend * height * 0.22
    for _ in range(int(rng.integers(1, 3))):
        kx, ky = rng.uniform(0.1, 0.9) * width, rng.uniform(0.2, 0.8) * height
        r = np.hypot((x - kx) / 2.2, y - ky) / (height * 0.22)
        across += np.sign(y - ky) * height * 0.22 * np.exp(-(r**2))
    rings = 0.5 + 0.5 * np.sin(across * (2 * np.pi / (height / rng.uniform(5, 9))))
    fine = layered_noise(size, cell=(90, 2.6), octaves=3, seed=seed + 2)
    pores = layered_noise(size, cell=(26, 1.4), octaves=1, seed=seed + 3)
    blotch = layered_noise(size, cell=(width / 4, height / 2), octaves=4, seed=seed + 4)
    t = 0.30 + 0.34 * rings**1.6 + 0.34 * fine + 0.25 * blotch
    out = mix(srgb(light), srgb(dark), t)
    out *= (1 - 0.45 * (pores > 0.52))[..., None]
    scratch = layered_noise(size, cell=(300, 1.6), octaves=1, seed=seed + 5)
    out = mix(out, out * 1.5 + 0.02, (scratch > 0.72).astype(np.float32) * 0.6)
    edge = np.minimum(y, height - 1 - y) / (height * 0.05)
    out *= (0.62 + 0.38 * np.clip(edge, 0, 1))[..., None]
    return np.clip(out * rng.uniform(0.82, 1.12), 0.005, 0.95).astype(np.float32)


def sea_chart(size: tuple[int, int], *, seed: int = 7) -> F32:
    """An old hand-drawn sea chart: coast, soundings, rhumb lines, a compass rose, stains."""
    width, height = size
    rng = np.random.default_rng(seed)
    s = 2  # drawn twice as large, then reduced, for smooth line edges
    canvas = np.empty((height * s, width * s, 3), np.float32)
    canvas[:] = srgb("#d9c79a")
    field = layered_noise((width, height), cell=(width / 3, height / 2.2), octaves=5, seed=seed)
    yy, xx = np.mgrid[0:height, 0:width].astype(np.float32)
    island = 0.42 - np.hypot((xx - width * 0.40) / width * 1.5, (yy - height * 0.52) / height * 1.3)
    spit = 0.22 - np.hypot((xx - width * 0.80) / width * 1.6, (yy - height * 0.30) / height * 1.2)
    land = np.maximum(island, spit) + 0.34 * field
    land_big = cv2.resize(land, (width * s, height * s), interpolation=cv2.INTER_CUBIC)
    canvas = mix(canvas, srgb("#8fb0a4"), np.clip(0.5 - land_big * 2.2, 0, 1) * 0.85)
    canvas = mix(canvas, srgb("#5f8f8c"), np.clip(-land_big * 2.0 - 0.25, 0, 1) * 0.7)
    canvas = mix(canvas, srgb("#c79b57"), np.clip(land_big * 40, 0, 1))
    canvas = mix(canvas, srgb("#a5722f"), np.clip((land_big - 0.14) * 8, 0, 1) * 0.7)
    ink, red = np.zeros((2, height * s, width * s), np.uint8)
    for level, thick in ((0.0, 3), (-0.07, 1), (-0.15, 1), (-0.25, 1), (0.13, 1)):
        found, _ = cv2.findContours(
            (land_big > level).astype(np.uint8), cv2.RETR_LIST, cv2.CHAIN_APPROX_NONE
        )
        cv2.polylines(ink, found, True, 255, thick * s + 1, cv2.LINE_AA)
    centre = (int(width * s * 0.72), int(height * s * 0.70))
    for k in range(32):
        a = k * np.pi / 16
        end = (int(centre[0] + 4000 * np.cos(a)), int(centre[1] + 4000 * np.sin(a)))
        cv2.line(red if k % 4 == 0 else ink, centre, end, 120, s + 1, cv2.LINE_AA)
    radius = int(height * s * 0.13)
    for k in range(16):
        a, r = k * np.pi / 8, radius * (1.0 if k % 4 == 0 else 0.72 if k % 2 == 0 else 0.45)
        tip = np.array([np.cos(a), np.sin(a)]) * r
        side = np.array([-np.sin(a), np.cos(a)]) * r * 0.13
        poly = np.array([centre + tip, centre + side, centre - side]).astype(np.int32)
        cv2.fillPoly(ink if k % 2 == 0 else red, [poly], 255, cv2.LINE_AA)
    cv2.circle(ink, centre, radius, 255, 4, cv2.LINE_AA)
    cv2.circle(ink, centre, int(radius * 1.12), 255, 7, cv2.LINE_AA)
    font = cv2.FONT_HERSHEY_COMPLEX
    for _ in range(260):
        px, py = int(rng.uniform(0.05, 0.93) * width), int(rng.uniform(0.08, 0.93) * height)
        if land[py, px] < -0.03:
            text = str(int(rng.integers(2, 64)))
            cv2.putText(ink, text, (px * s, py * s), font, 0.62 * s, 215, s, cv2.LINE_AA)
    for text, fx, fy, size_ in (
        ("LANTERN SOUND", 0.30, 0.13, 0.95),
        ("Small Lights", 0.08, 0.92, 0.8),
        ("Keeper's Rest", 0.30, 0.52, 0.62),
        ("Tin Whale Bank", 0.50, 0.88, 0.5),
        ("Paper Point", 0.74, 0.33, 0.5),
    ):
        at = (int(fx * width * s), int(fy * height * s))
        cv2.putText(ink, text, at, font, size_ * s * width / 900, 255, s, cv2.LINE_AA)
    route = np.array([[0.14, 0.80], [0.22, 0.88], [0.44, 0.93], [0.60, 0.80], [0.66, 0.5], [0.7, 0.4]])
    pts = route * [width * s, height * s]
    for a, b in zip(pts[:-1], pts[1:], strict=True):
        for u in np.arange(0, 1, 0.14):
            p, q = a + (b - a) * u, a + (b - a) * (u + 0.08)
            cv2.line(red, p.astype(int).tolist(), q.astype(int).tolist(), 255, 3 * s, cv2.LINE_AA)
    m = int(0.022 * width * s)
    box = (width * s - m, height * s - m)
    cv2.rectangle(ink, (m, m), box, 255, 3 * s)
    cv2.rectangle(ink, (m + 5 * s, m + 5 * s), (box[0] - 5 * s, box[1] - 5 * s), 255, s)
    for k in range(40):
        if k % 2:
            x0, x1 = int(m + (box[0] - m) * k / 40), int(m + (box[0] - m) * (k + 1) / 40)
            cv2.rectangle(ink, (x0, m), (x1, m + 5 * s), 255, -1)
            cv2.rectangle(ink, (x0, box[1] - 5 * s), (x1, box[1]), 255, -1)
    paint(canvas, ink, srgb("#2b2116"))
    paint(canvas, red, srgb("#9c2f1e"))
    out = cv2.resize(canvas, size, interpolation=cv2.INTER_AREA)
    fibre = layered_noise(size, cell=(6, 3), octaves=3, seed=seed + 3)
    stain = layered_noise(size, cell=(width / 2.5, height / 2), octaves=4, seed=seed + 4)
    fold = np.zeros((height, width), np.float32)
    for fx in (1 / 3, 2 / 3):
        fold += np.exp(-(((xx - fx * width) / 2.5) ** 2))
    fold += np.exp(-(((yy - 0.5 * height) / 2.5) ** 2))
    out = out * (1 + 0.10 * fibre - 0.18 * np.clip(stain, 0, 1) - 0.22 * fold)[..., None]
    return np.clip(out, 0.004, 0.95).astype(np.float32)


def plaster(size: tuple[int, int], *, colour: str, seed: int, rough: float = 0.12) -> F32:
    """Painted plaster or card: a colour with mottling, specks and wear."""
    base = np.broadcast_to(srgb(colour), (size[1], size[0], 3)).copy()
    mottle = layered_noise(size, cell=(size[0] / 3, size[1] / 3), octaves=6, seed=seed)
    speck = layered_noise(size, cell=(3, 3), octaves=2, seed=seed + 1)
    worn = layered_noise(size, cell=(size[0] / 8, size[1] / 8), octaves=5, seed=seed + 2)
    base *= (1 + rough * 2 * mottle + rough * speck)[..., None]
    return np.clip(mix(base, base * 0.5, np.clip((worn - 0.42) * 6, 0, 1)), 0.004, 0.95)


def cloth(size: tuple[int, int], *, colour: str, seed: int) -> F32:
    """Woven cloth: fine weave, thread unevenness, soft blotches."""
    width, height = size
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    weave = 0.5 + 0.25 * (np.sin(x * np.pi / 2.0) + np.sin(y * np.pi / 2.0))
    threads = layered_noise(size, cell=(120, 2), octaves=2, seed=seed) + layered_noise(
        size, cell=(2, 120), octaves=2, seed=seed + 1
    )
    blotch = layered_noise(size, cell=(width / 3, height / 3), octaves=4, seed=seed + 2)
    shade = 0.92 + 0.10 * weave + 0.10 * threads + 0.07 * blotch
    return np.clip(srgb(colour) * shade[..., None], 0.002, 0.95).astype(np.float32)


def crate_face(size: tuple[int, int], *, seed: int, label: str = "") -> F32:
    """A crate side: four slats, a frame, nails and an optional stencilled label."""
    width, height = size
    out = np.empty((height, width, 3), np.float32)
    slat = height // 4
    for k in range(4):
        top, bottom = k * slat, height if k == 3 else (k + 1) * slat
        out[top:bottom] = wood((width, bottom - top), seed=seed + k, light="#c4a06a", dark="#8a6236")
        out[max(0, top - 2) : top + 2] *= 0.25
    post = width // 9
    for x0 in (0, width - post):
        out[:, x0 : x0 + post] = wood((height, post), seed=seed + 9).transpose(1, 0, 2) * 0.92
        edge = slice(x0 + post, x0 + post + 4) if x0 == 0 else slice(x0 - 4, x0)
        out[:, edge] *= 0.45
        for k in range(4):
            at = (x0 + post // 2, int((k + 0.5) * slat))
            cv2.circle(out, at, max(2, width // 110), (0.03, 0.03, 0.035), -1, cv2.LINE_AA)
    if label:
        ink = np.zeros((height, width), np.uint8)
        scale = width / 260
        (tw, th), _ = cv2.getTextSize(label, cv2.FONT_HERSHEY_TRIPLEX, scale, 3)
        at = ((width - tw) // 2, (height + th) // 2)
        cv2.putText(ink, label, at, cv2.FONT_HERSHEY_TRIPLEX, scale, 255, 4, cv2.LINE_AA)
        worn = layered_noise(size, cell=(9, 9), octaves=3, seed=seed + 20)
        out = mix(out, srgb("#23262b"), ink / np.float32(255) * np.clip(0.75 + worn, 0, 0.95))
    return out


def tin_label(size: tuple[int, int], *, seed: int) -> F32:
    """The tea tin's wrap-around label."""
    width, height = size
    out = plaster(size, colour="#1f5a5c", seed=seed, rough=0.06)
    gold = srgb("#d9a441").tolist()
    for y in (0.07, 0.11, 0.88, 0.93):
        cv2.line(out, (0, int(y * height)), (width, int(y * height)), gold, max(2, height // 90))
    for k in range(3):
        cx = int((k + 0.5) * width / 3)
        cv2.ellipse(out, (cx, height // 2), (width // 9, height // 3), 0, 0, 360, gold, -1, cv2.LINE_AA)
        inner = (width // 9 - 7, height // 3 - 7)
        cream = srgb("#efe2bd").tolist()
        cv2.ellipse(out, (cx, height // 2), inner, 0, 0, 360, cream, -1, cv2.LINE_AA)
        for text, dy, sc in (("FOG", -0.03, 1.0), ("HORN TEA", 0.10, 0.55)):
            size_ = sc * width / 620
            (tw, _), _b = cv2.getTextSize(text, cv2.FONT_HERSHEY_TRIPLEX, size_, 2)
            at = (cx - tw // 2, int((0.5 + dy) * height))
            write(out, text, at, size_, srgb("#7b2417"), bold=True)
    return out


def clouds(size: tuple[int, int], *, seed: int) -> F32:
    """A bright sky with drifting clouds for the window; values above 1 are brighter than paper."""
    n = layered_noise(size, cell=(size[0] / 4, size[1] / 2), octaves=6, seed=seed)
    y = np.linspace(0, 1, size[1], dtype=np.float32)[:, None]
    sky = mix(srgb("#7fa9d6"), srgb("#dbe7ee"), np.broadcast_to(y, n.shape))
    return np.asarray(mix(sky, rgb(1.15, 1.12, 1.05), np.clip(0.35 + 1.5 * n, 0, 1)), np.float32)
