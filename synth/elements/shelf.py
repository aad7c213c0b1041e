"""The shelf's elements, made by code: a lamp flare, a paper boat, a lantern, a brass whale and more."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from plonket.base.conventions import F32, U8
from synth.elements.drawing import SUPER, shape, straight
from synth.elements.lights import evening_light, window_light
from synth.elements.models import brass_whale, cargo_crate, little_cabin, little_windmill
from synth.elements.painted import dusk_sky, little_ship, night_harbour, paper_moth
from synth.phone import texture as tx


@dataclass(frozen=True, slots=True, kw_only=True)
class Element:
    """A ready-made element: file name, title, words to search by, and how it is best laid in."""

    file: str
    name: str
    words: str
    draw: Callable[[], U8 | F32 | bytes]
    settings: dict[str, Any]


def lamp_flare() -> U8:
    """Warm glow with a core, a soft halo, a wide streak and two ghosts; made to be added as light."""
    size = 720
    y, x = np.mgrid[0:size, 0:size].astype(np.float32)
    u, v = (x - size / 2 + 0.5) / (size / 2), (y - size / 2 + 0.5) / (size / 2)
    r = np.hypot(u, v)
    fade = np.clip(1 - r, 0, 1) ** 1.5
    core = np.exp(-((r / 0.045) ** 2)) * 1.6
    halo = 0.30 / (1 + (r / 0.10) ** 2) * fade
    ring = 0.10 * np.exp(-(((r - 0.44) / 0.03) ** 2)) * fade
    streak = 0.55 * np.exp(-((v / 0.012) ** 2)) * np.clip(1 - np.abs(u), 0, 1) ** 2.2
    angle = np.arctan2(v, u)
    rays = 0.16 * np.abs(np.cos(angle * 4 + 0.4)) ** 40 * np.clip(1 - r / 0.7, 0, 1) ** 2 / (1 + r * 8)
    light = (
        core[..., None] * tx.srgb("#fff6e0") + (halo + rays)[..., None] * tx.srgb("#ffb455") * 1.3
        + streak[..., None] * tx.srgb("#ffcf8a") + ring[..., None] * tx.srgb("#ff8a4a")
    )  # fmt: skip
    for gu, gv, gr, tint in ((0.36, 0.22, 0.07, "#7fd3c4"), (-0.48, -0.29, 0.10, "#e58b5a")):
        ghost = np.clip(1 - np.hypot(u - gu, v - gv) / gr, 0, 1) ** 0.6 * 0.045
        light = light + ghost[..., None] * tx.srgb(tint)
    peak = light.max(axis=2)
    alpha = np.clip(peak, 0, 1)
    alpha = np.where(alpha < 1 / 510, 0, alpha)
    return straight(np.asarray(light / np.maximum(peak, 1e-6)[..., None], np.float32), alpha.astype(np.float32))


def paper_boat() -> U8:
    """A folded paper boat, lit from the upper left, with creases and fibres."""
    size = (640, 440)
    paper = np.broadcast_to(tx.srgb("#efe7d3"), (size[1], size[0], 3)) * (
        1 + 0.05 * tx.layered_noise(size, cell=(5, 5), octaves=3, seed=21)[..., None]
    )
    y, x = np.mgrid[0 : size[1], 0 : size[0]].astype(np.float32)
    colour, alpha = np.zeros((size[1], size[0], 3), np.float32), np.zeros((size[1], size[0]), np.float32)
    facets = [
        ([(320, 36), (180, 300), (320, 330)], 0.80, (0.10, -0.05)),
        ([(320, 36), (320, 330), (462, 300)], 0.50, (-0.10, -0.05)),
        ([(30, 176), (150, 398), (208, 268)], 0.70, (0.0, 0.12)),
        ([(610, 176), (490, 398), (436, 268)], 0.42, (0.0, 0.12)),
        ([(30, 176), (150, 398), (490, 398), (610, 176), (432, 288), (320, 322), (208, 288)], 0.92, (-0.12, -0.16)),
    ]
    for points, shade, (sx, sy) in facets:
        cover = shape(np.array(points, np.float64), size)
        slope = 1 + sx * (x / size[0] - 0.5) * 2 + sy * (y / size[1] - 0.5) * 2
        lit = paper * (shade * slope)[..., None]
        colour = colour * (1 - cover[..., None]) + lit * cover[..., None]
        alpha = alpha + cover * (1 - alpha)
        edge = np.abs(cv2.Sobel(cover, cv2.CV_32F, 1, 0)) + np.abs(cv2.Sobel(cover, cv2.CV_32F, 0, 1))
        colour *= (1 - 0.05 * np.clip(cv2.GaussianBlur(edge, (0, 0), 1.2), 0, 1))[..., None]
    for a, b in (((150, 398), (320, 322)), ((490, 398), (320, 322)), ((320, 322), (320, 398))):
        line = np.zeros((size[1] * SUPER, size[0] * SUPER), np.uint8)
        cv2.line(line, (a[0] * SUPER, a[1] * SUPER), (b[0] * SUPER, b[1] * SUPER), 255, 4)
        crease = cv2.resize(line, size, interpolation=cv2.INTER_AREA).astype(np.float32) / 255 * alpha
        colour *= (1 - 0.20 * crease)[..., None]
    return straight(np.asarray(colour / np.maximum(alpha, 1e-4)[..., None], np.float32), alpha)


def night_chart() -> U8:
    """The sea chart redrawn for night: dark water, a glowing route."""
    size = (1000, 700)
    day = tx.sea_chart(size, seed=7)
    grey = day.mean(axis=2, keepdims=True)
    out = 0.16 * grey * tx.rgb(0.55, 0.85, 1.1) + 0.5 * np.clip(0.09 - grey, 0, 1) * tx.rgb(1, 1.4, 1.6)
    line = np.zeros((size[1], size[0]), np.uint8)
    t = np.linspace(0, 1, 200)
    route = np.stack([140 + 640 * t + 40 * np.sin(t * 9), 590 - 390 * t**1.4 + 30 * np.cos(t * 7)], -1)
    for k in range(0, 198, 6):
        a, b = (tuple(int(round(c * 16)) for c in route[j]) for j in (k, min(k + 4, 199)))
        cv2.line(line, a, b, 255, 5, cv2.LINE_AA, 4)  # type: ignore[arg-type]
    for at in (route[0], route[-1]):
        cv2.circle(line, (int(at[0]), int(at[1])), 13, 255, -1, cv2.LINE_AA)
    ink = line.astype(np.float32) / 255
    glow = cv2.GaussianBlur(ink, (0, 0), 9) * 1.1
    out = out + (ink * 0.95)[..., None] * tx.srgb("#ffc24a") + glow[..., None] * tx.srgb("#c97a1e") * 0.6
    alpha = np.ones((size[1], size[0]), np.float32)
    return straight(out.astype(np.float32), alpha)


def lantern() -> U8:
    """A little paper lantern on a hook, lit from inside."""
    size = (360, 520)
    y, x = np.mgrid[0 : size[1], 0 : size[0]].astype(np.float32)
    u, v = (x - 180) / 130, (y - 290) / 165
    body = np.clip((1 - np.hypot(u, v**3 * 0.9 + 0.1 * v)) * 40, 0, 1)
    ribs = 0.86 + 0.14 * np.cos(np.arcsin(np.clip(v, -1, 1)) * 22)
    inside = np.exp(-((u * 1.05) ** 2 + (v * 0.95) ** 2) * 1.2)
    fibre = 1 + 0.10 * tx.layered_noise(size, cell=(7, 7), octaves=3, seed=4)
    lit = (tx.srgb("#ff9d3c") * 0.25 + inside[..., None] * tx.rgb(1.0, 0.62, 0.22)) * (ribs * fibre)[..., None]
    colour, alpha = lit * body[..., None], body.copy()
    for points, tint in (
        ([(126, 122), (234, 122), (222, 148), (138, 148)], "#2a2420"),
        ([(138, 434), (222, 434), (234, 458), (126, 458)], "#2a2420"),
    ):
        cover = shape(np.array(points, np.float64), size)
        colour = colour * (1 - cover[..., None]) + tx.srgb(tint) * cover[..., None]
        alpha = alpha + cover * (1 - alpha)
    hook = np.zeros((size[1] * SUPER, size[0] * SUPER), np.uint8)
    cv2.ellipse(hook, (180 * SUPER, 124 * SUPER), (34 * SUPER, 88 * SUPER), 0, 180, 360, 255, 15)
    cv2.line(hook, (180 * SUPER, 38 * SUPER), (180 * SUPER, 6 * SUPER), 255, 13)
    wire = cv2.resize(hook, size, interpolation=cv2.INTER_AREA).astype(np.float32) / 255 * (1 - alpha)
    colour, alpha = colour + tx.srgb("#3a332c") * wire[..., None], alpha + wire
    return straight(np.asarray(colour / np.maximum(alpha, 1e-4)[..., None], np.float32), alpha)


ELEMENTS = [
    Element(file="lamp-flare.png", name="Lamp flare", words="light glow flare lamp warm", draw=lamp_flare,
            settings={"blend": "add", "size": 60.0}),  # fmt: skip
    Element(file="paper-boat.png", name="Paper boat", words="boat paper cut-out ship", draw=paper_boat,
            settings={"size": 30.0}),  # fmt: skip
    Element(file="night-chart.png", name="Night chart", words="chart map route night sea", draw=night_chart,
            settings={"size": 40.0}),  # fmt: skip
    Element(file="lantern.png", name="Lantern", words="lantern light paper hanging", draw=lantern,
            settings={"size": 30.0}),  # fmt: skip
    Element(file="night-harbour.png", name="Night harbour", words="harbour night background sea moon town",
            draw=night_harbour, settings={"size": 100.0}),  # fmt: skip
    Element(file="dusk-sky.png", name="Dusk sky", words="sky dusk evening sunset clouds background", draw=dusk_sky,
            settings={"size": 100.0}),  # fmt: skip
    Element(file="little-ship.png", name="Little ship", words="ship sails boat cut-out sea", draw=little_ship,
            settings={"size": 25.0}),  # fmt: skip
    Element(file="paper-moth.png", name="Paper moth", words="moth butterfly wings paper cut-out flap", draw=paper_moth,
            settings={"size": 30.0}),  # fmt: skip
    Element(file="brass-whale.glb", name="Brass whale", words="whale brass model 3d animal", draw=brass_whale,
            settings={"tall": 0.1}),  # fmt: skip
    Element(file="cargo-crate.glb", name="Cargo crate", words="crate box cargo wood model 3d", draw=cargo_crate,
            settings={"tall": 0.16}),  # fmt: skip
    Element(file="little-cabin.glb", name="Little cabin", words="cabin house hut lit windows model 3d", draw=little_cabin,
            settings={"tall": 0.2}),  # fmt: skip
    Element(file="little-windmill.glb", name="Little windmill", words="windmill sails paper jar glass turning model 3d",
            draw=little_windmill, settings={"tall": 0.24}),  # fmt: skip
    Element(file="window-light.hdr", name="Window light", words="light map dome window day workshop", draw=window_light,
            settings={}),  # fmt: skip
    Element(file="evening-light.hdr", name="Evening light", words="light map dome sun evening sky harbour",
            draw=evening_light, settings={}),  # fmt: skip
]


def write_elements(folder: Path) -> None:
    """Draw every element to `folder` as PNG, GLB or HDR, with ``shelf.json`` naming them."""
    folder.mkdir(parents=True, exist_ok=True)
    for element in ELEMENTS:
        made = element.draw()
        if isinstance(made, bytes):
            (folder / element.file).write_bytes(made)
        elif made.dtype == np.float32:
            cv2.imwrite(str(folder / element.file), np.ascontiguousarray(made[..., ::-1]))
        else:
            cv2.imwrite(str(folder / element.file), cv2.cvtColor(made, cv2.COLOR_RGBA2BGRA))
    index = [{"file": e.file, "name": e.name, "words": e.words, "settings": e.settings} for e in ELEMENTS]
    (folder / "shelf.json").write_text(json.dumps(index, indent=1) + "\n")
