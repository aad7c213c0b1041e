"""Painted stills of the shelf: a harbour by night, and a little ship under sail."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.conventions import F32, F64, U8
from synth.elements.drawing import SUPER, shape, straight
from synth.phone import texture as tx


def night_harbour() -> U8:
    """A bay by night: moon and clouds, hills with lit windows, a lighthouse, boats, and all of it in the water."""
    w, h = 1280, 720
    line = 430
    y, x = np.mgrid[0:h, 0:w].astype(np.float32)
    up = np.clip(1 - y / line, 0, 1)
    sky = tx.srgb("#2c4a6e")[None, None] * (0.25 + 0.75 * (1 - up) ** 1.5)[..., None]
    moon = np.hypot(x - 930, y - 120)
    clouds = np.clip(tx.layered_noise((w, h), cell=(220, 60), octaves=5, seed=31) * 0.5 + 0.1, 0, 1)
    sky = sky * (1 + 1.2 * np.exp(-moon / 130))[..., None] + tx.srgb("#fff3d6") * (np.clip(46 - moon, 0, 1))[..., None]
    sky = sky + (clouds * (0.02 + 0.16 * np.exp(-moon / 220)))[..., None] * tx.srgb("#9fb6d2")
    rng = np.random.default_rng(12)
    for _ in range(170):
        sx, sy, s = rng.uniform(0, w), rng.uniform(0, 300), rng.uniform(0.05, 0.6) ** 2
        sky[int(sy), int(sx)] += s
    scene = sky
    for k, (rise, tint, seed) in enumerate(((95, "#16263a", 3), (70, "#101c2b", 4), (52, "#0a131e", 5))):
        ridge = line - rise * (0.55 + 0.45 * tx.layered_noise((w, 1), cell=(260 - 60 * k, 1), octaves=4, seed=seed)[0])
        cover = np.clip(y - ridge[None] + 0.5, 0, 1) * (y < line)
        scene = scene * (1 - cover[..., None]) + tx.srgb(tint) * cover[..., None]
    lights = np.zeros((h, w, 3), np.float32)
    for _ in range(46):
        bx, wide, tall = rng.uniform(20, w - 60), rng.uniform(22, 44), rng.uniform(20, 46)
        by = line - rng.uniform(0, 46)
        roof = np.array([(bx - 3, by - tall), (bx + wide / 2, by - tall - wide * 0.45), (bx + wide + 3, by - tall)])
        wall = np.array([(bx, by - tall), (bx + wide, by - tall), (bx + wide, by), (bx, by)])
        for points, tint in ((wall, "#141d29"), (roof, "#0c131c")):
            cover = shape(points, (w, h))
            scene = scene * (1 - cover[..., None]) + tx.srgb(tint) * rng.uniform(0.7, 1.3) * cover[..., None]
        for wy in np.arange(by - tall + 6, by - 7, 12):
            for wx in np.arange(bx + 5, bx + wide - 7, 10):
                if rng.uniform() < 0.45:
                    lights[int(wy) : int(wy) + 6, int(wx) : int(wx) + 4] = tx.srgb("#ffc46b") * rng.uniform(0.5, 1.4)
    tower = shape(np.array([(196, line), (206, line - 128), (232, line - 128), (242, line)]), (w, h))
    bands = np.where((y - line) % 44 < 22, 0.20, 0.06)[..., None] * tx.srgb("#e9dfcf")
    scene = scene * (1 - tower[..., None]) + bands * tower[..., None]
    scene = scene + lights
    lamp = np.hypot(x - 219, y - (line - 138))
    scene = scene + (np.clip(9 - lamp, 0, 1) * 1.4 + 0.5 / (1 + (lamp / 9) ** 2))[..., None] * tx.srgb("#ffe3a6")
    out = np.abs(x - 219)
    beam = np.exp(-(((y - (line - 138)) - (x - 219) * 0.05) / (4 + out * 0.05)) ** 2) * np.exp(-out / 420)
    scene = scene + (0.16 * beam)[..., None] * tx.srgb("#ffe3a6")
    # The water shows the land upside down, drawn out by its waves.
    deep = np.clip((y - line) / (h - line), 0, 1)
    wave = tx.layered_noise((w, h), cell=(90, 5), octaves=4, seed=8)
    back_y = np.clip(line - (y - line) * 0.9 + wave * (3 + 26 * deep), 0, line - 1).astype(np.float32)
    back_x = (x + wave * (2 + 14 * deep)).astype(np.float32)
    mirror = cv2.remap(scene.astype(np.float32), back_x, back_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
    mirror = cv2.blur(mirror, (3, 13))
    water = mirror * (0.62 - 0.25 * deep)[..., None] + tx.srgb("#0a1826") * (0.5 + 0.3 * wave * deep)[..., None]
    scene = np.where((y < line)[..., None], scene, water)
    for bx, by, s in ((520, 520, 1.0), (770, 470, 0.6), (1010, 590, 1.5)):
        at = np.array([bx, by])
        hull = shape(at + s * np.array([(-46, -10), (46, -10), (32, 6), (-34, 6)]), (w, h))
        mast = shape(at + s * np.array([(-1.5, -80), (1.5, -80), (1.5, -8), (-1.5, -8)]), (w, h))
        cover = np.maximum(hull, mast)
        scene = scene * (1 - cover[..., None]) + tx.srgb("#05090e") * cover[..., None]
        spot = np.hypot(x - bx, y - (by - 78 * s))
        scene = scene + (np.clip(3 * s - spot, 0, 1) + 0.10 / (1 + (spot / 6) ** 2))[..., None] * tx.srgb("#ffb05a")
    scene = scene * (1 + 0.03 * tx.layered_noise((w, h), cell=(3, 3), octaves=2, seed=77))[..., None]
    return straight(np.asarray(np.clip(scene, 0, 1), np.float32), np.ones((h, w), np.float32))


def dusk_sky() -> U8:
    """A sky after sunset: gold at its foot, rose and violet above, banks of cloud lit from below, the first stars."""
    w, h = 1280, 720
    y, x = np.mgrid[0:h, 0:w].astype(np.float32)
    up = 1 - y / h
    stops = np.array([0.0, 0.12, 0.3, 0.52, 0.78, 1.0])
    tints = np.stack([tx.srgb(c) for c in ("#ffca6e", "#f7995a", "#d9688a", "#7a5aa6", "#2f3f7d", "#141f4a")])
    sky = np.stack([np.interp(up, stops, tints[:, c]) for c in range(3)], axis=2).astype(np.float32)
    sun = np.hypot((x - 820) / 1.7, y - h * 1.02)
    sky = sky + (0.9 * np.exp(-((sun / 210) ** 2)))[..., None] * tx.srgb("#ffd98a")
    rng = np.random.default_rng(44)
    for _ in range(90):
        sx, sy = rng.uniform(2, w - 2), rng.uniform(0, h * 0.42)
        bright = rng.uniform(0.1, 0.75) ** 2 * np.clip(1 - sy / (h * 0.42), 0, 1)
        sky[int(sy), int(sx)] += bright
        sky[int(sy), int(sx) + 1] += bright * 0.35
    for k, (height, cell, seed) in enumerate(((0.62, (340, 46), 51), (0.4, (420, 38), 52), (0.2, (520, 26), 53))):
        noise = tx.layered_noise((w, h), cell=cell, octaves=5, seed=seed)
        bank = np.exp(-(((up - height) / (0.13 - 0.025 * k)) ** 2))
        cover = np.clip((noise * 0.75 + 0.05) * 2.2, 0, 1) ** 1.3 * bank * 0.9
        # Lit from below: the lower side of each bank glows, its upper side is violet and dim.
        lower = np.roll(cover, -9 - 3 * k, axis=0)
        glow = np.clip(cover - lower, 0, 1) * 1.6 + 0.22 * np.exp(-sun / 420)
        body = tx.srgb(("#4a3f7a", "#7d4a7c", "#a85a62")[k])[None, None] * 0.8
        lit = body + glow[..., None] * tx.srgb(("#f08f8a", "#ffab6e", "#ffd98a")[k])
        sky = sky * (1 - cover[..., None]) + lit * cover[..., None]
    grain = tx.layered_noise((w, h), cell=(3, 3), octaves=2, seed=78)
    return straight(np.asarray(np.clip(sky * (1 + 0.02 * grain[..., None]), 0, 1), np.float32), np.ones((h, w), np.float32))


def little_ship() -> U8:
    """A three-masted ship under sail, pale, with rigging and lit stern windows."""
    size = (900, 760)
    colour, alpha = np.zeros((size[1], size[0], 3), np.float32), np.zeros((size[1], size[0]), np.float32)
    cloth = 1 + 0.12 * tx.layered_noise(size, cell=(9, 30), octaves=4, seed=5)
    y, x = np.mgrid[0 : size[1], 0 : size[0]].astype(np.float32)

    def lay(cover: F32, paint: F32) -> None:
        nonlocal colour, alpha
        colour = np.asarray(colour * (1 - cover[..., None]) + paint * cover[..., None], np.float32)
        alpha = np.asarray(alpha + cover * (1 - alpha), np.float32)

    def thin(points: list[tuple[float, float]], wide: int) -> F32:
        mask = np.zeros((size[1] * SUPER, size[0] * SUPER), np.uint8)
        cv2.polylines(mask, [np.round(np.array(points) * SUPER).astype(np.int32)], False, 255, wide)
        return np.asarray(cv2.resize(mask, size, interpolation=cv2.INTER_AREA).astype(np.float32) / 255, np.float32)

    planks = 0.8 + 0.075 * np.sin(y / 7) + 0.2 * (cloth - 1)
    wood = np.broadcast_to(tx.srgb("#6d5138"), colour.shape) * planks[..., None]
    for head, foot, px in (((250, 150), (262, 590), 6), ((450, 70), (456, 600), 7), ((640, 170), (644, 600), 6)):
        lay(thin([head, foot], px * 2), np.asarray(wood * 0.7, np.float32))
    for mast, base, spread in ((254, 190, 88), (452, 120, 112), (641, 210, 84)):
        for k, (share, tall) in enumerate(((0.62, 96), (0.85, 128), (1.0, 150))):
            top = base + (0, 104, 240)[k]
            half, low = spread * share, spread * min(share + 0.18, 1.12)
            sail = np.array([
                (mast - half, top), (mast + half, top), (mast + low + 12, top + tall * 0.8),
                (mast + low * 0.4, top + tall * 0.72), (mast - low * 0.5, top + tall * 0.74),
                (mast - low + 6, top + tall * 0.84),
            ], np.float64)  # fmt: skip
            swell = 0.62 + 0.38 * np.exp(-(((x - mast - 20) / (half * 1.1)) ** 2)) - 0.10 * ((y - top) / tall)
            lay(shape(sail, size), np.asarray(tx.srgb("#e9e0c8") * (swell * cloth)[..., None], np.float32))
            lay(thin([(mast - half - 8, top), (mast + half + 8, top)], 9), np.asarray(wood * 0.8, np.float32))
    lay(shape(np.array([(690, 560), (872, 470), (700, 590)], np.float64), size), np.asarray(wood, np.float32))
    jib = np.array([(652, 215), (846, 480), (690, 545)], np.float64)
    lay(shape(jib, size), np.asarray(tx.srgb("#ddd3ba") * (0.7 * cloth)[..., None], np.float32))
    hull = [
        (96, 540), (150, 560), (300, 590), (560, 592), (742, 562), (716, 640), (660, 694), (300, 704), (170, 676), (118, 610),
    ]  # fmt: skip
    lay(shape(np.array(hull, np.float64), size), np.asarray(wood, np.float32))
    for k in range(8):
        port = np.array([(236, 622), (256, 622), (256, 640), (236, 640)], np.float64) + [54.0 * k, 0]
        lay(shape(port, size), np.broadcast_to(tx.srgb("#ffca7a"), colour.shape).astype(np.float32))
    ropes = (((250, 150), (110, 545)), ((450, 70), (262, 200)), ((640, 170), (452, 110)), ((640, 170), (868, 474)),
             ((450, 70), (300, 585)))  # fmt: skip
    for a, b in ropes:
        lay(thin([a, b], 4), np.asarray(wood * 0.5, np.float32))
    return straight(np.asarray(colour / np.maximum(alpha, 1e-4)[..., None], np.float32), alpha)
def paper_moth() -> U8:
    """A moth cut out of paper, wings spread: it flaps where it is hinged."""
    size = (360, 280)
    y, x = np.mgrid[0 : size[1], 0 : size[0]].astype(np.float32)
    colour: F32 = np.zeros((size[1], size[0], 3), np.float32)
    alpha: F32 = np.zeros((size[1], size[0]), np.float32)
    fibres = 1 + 0.07 * tx.layered_noise(size, cell=(6, 6), octaves=3, seed=33)[..., None]

    def lay(cover: F32, light: F32) -> None:
        nonlocal colour, alpha
        colour = np.asarray(colour * (1 - cover[..., None]) + light * fibres * cover[..., None], np.float32)
        alpha = np.asarray(alpha + cover * (1 - alpha), np.float32)

    def plain(tint: str) -> F32:
        return np.broadcast_to(tx.srgb(tint), colour.shape).astype(np.float32)

    # Half a wing's outline, x from the body outwards; the other half is its mirror.
    hind = [(2, 150), (40, 158), (88, 176), (112, 206), (104, 242), (72, 262), (38, 244), (14, 206)]
    fore = [(2, 118), (44, 62), (106, 26), (160, 22), (168, 48), (150, 104), (112, 150), (56, 168), (12, 160)]
    for points, base, edge in ((hind, "#d9c39a", "#8a6a45"), (fore, "#efe2c4", "#9c7a50")):
        for side in (-1, 1):
            outline = _rounded(np.array([(180 + side * a, b) for a, b in points], np.float64))
            cover = shape(outline, size)
            inside = cv2.distanceTransform((cover > 0.5).astype(np.uint8), cv2.DIST_L2, 5)
            rim = np.exp(-((inside / 9.0) ** 2))[..., None]
            out = np.hypot(x - 180, y - 140)
            bars = 0.5 + 0.5 * np.sin(out / 9.5 + 1.4 * np.sin(y / 21))
            mixed = tx.srgb(base) * (0.78 + 0.22 * bars[..., None]) * (1 - 0.65 * rim) + tx.srgb(edge) * 0.65 * rim
            eye_x, eye_y = (92, 82) if points is fore else (66, 214)
            spot = np.exp(-((np.hypot(x - 180 - side * eye_x, y - eye_y) / 11) ** 4))
            mixed = mixed * (1 - spot[..., None]) + tx.srgb("#5b3d24") * spot[..., None]
            lay(cover, np.asarray(mixed, np.float32))
    for points, tint in (([(172, 92), (188, 92), (193, 140), (188, 226), (180, 244), (172, 226), (167, 140)], "#6d5034"),
                         ([(170, 78), (190, 78), (194, 96), (180, 112), (166, 96)], "#54402c")):  # fmt: skip
        lay(shape(_rounded(np.array(points, np.float64)), size), plain(tint))
    for side in (-1, 1):
        feeler = [(180 + side * a, b) for a, b in ((5, 80), (22, 54), (46, 40), (47, 43), (24, 57), (8, 82))]
        lay(shape(np.array(feeler, np.float64), size), plain("#54402c"))
    return straight(np.asarray(colour / np.maximum(alpha, 1e-4)[..., None], np.float32), alpha)


def _rounded(points: F64) -> F64:
    """A closed line through points (n, 2) without corners."""
    t = np.linspace(0, 1, 12, endpoint=False)[:, None]
    a, b, c, d = (np.roll(points, k, axis=0)[:, None] for k in (1, 0, -1, -2))
    curve = 0.5 * (2 * b + (c - a) * t + (2 * a - 5 * b + 4 * c - d) * t**2 + (3 * b - a - 3 * c + d) * t**3)
    return np.asarray(curve.reshape(-1, 2))
