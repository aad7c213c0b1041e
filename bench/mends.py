"""The bench's part on mending: each fill against plain inpainting, on footage whose clean truth is known."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64, U8
from plonket.depth.measure import QUALITY, DepthMaker
from plonket.image.picture import StillSource
from plonket.plate.repair.behind import Behind, MeasuredDepth
from plonket.plate.repair.borrow import Borrower
from plonket.plate.repair.clean_plate import CleanPlate, degrained, grain_of, lay_clean
from plonket.plate.repair.continued import Continued
from plonket.plate.repair.edges import fill_edges
from plonket.track.plane.correct import quad_homography
from synth.phone.quickroom import room_shot
from synth.phone.quickset import QuickShot, chart_shot, quad
from synth.phone.sensor import Sensor

SIZE = (1280, 720)
FRAMES = 24
PLAIN = "plain inpainting (OpenCV, Telea)"
USED = range(4, FRAMES, 2)
"""The frames that are filled and judged."""


def bench_mends() -> None:
    """Print frames a second, likeness to the truth inside the hole, and how it flickers from frame to frame."""

    frames, truth, mattes = _filmed(lambda t: quad((-0.30 + 0.7 * t, 0.02, 0.12), 0.10, 0.14))
    borrower = _borrower(frames, mattes)
    corners = np.stack([truth.on_chart(u, v) for u, v in ((0, 0), (1, 0), (1, 1), (0, 1))], axis=1)
    moves = np.array([quad_homography(corners[0], c) for c in corners])
    mean, weight = degrained(lambda i: frames[i], 0, lambda i: moves[i], FRAMES)
    clean = StillSource(truth.frames[0])
    grain = grain_of(frames[0], mean, weight, np.ones(SIZE[::-1], bool))
    hero = CleanPlate(frame=0, painted=clean, untouched=clean, grain=grain)

    def laid(i: int) -> U8:
        cover = cv2.dilate(mattes[i], np.ones((7, 7), np.uint8)).astype(np.float32) / 255
        return lay_clean(frames[i], i, cover, [(hero, 1.0, moves[i], moves[i])])

    ways: list[tuple[str, Callable[[int], U8]]] = [
        (PLAIN, lambda i: _inpainted(frames[i], mattes[i])),
        ("borrowed from other frames", lambda i: borrower.mend(i).rgb),
        ("a clean frame carried, light and grain matched", laid),
    ]
    print(f"\nmends: a card off the fast phone's chart, 1280 x 720, {len(USED)} frames, a hole of "
          f"{int(np.mean([(m > 60).sum() for m in mattes]))} px\n")  # fmt: skip
    _told(ways, frames, truth.frames, mattes)
    _bench_room()
    _bench_sticker()
    _bench_cloth()


def _inpainted(rgb: U8, matte: U8) -> U8:
    return np.asarray(cv2.inpaint(rgb, cv2.dilate(matte, np.ones((5, 5), np.uint8)), 5, cv2.INPAINT_TELEA), np.uint8)


def _filmed(card: Callable[[float], F64]) -> tuple[list[U8], QuickShot, list[U8]]:
    """The chart with a card before it, its clean truth, and the card's mattes; the light grows."""
    common: dict[str, Any] = {"size": SIZE, "frames": FRAMES, "samples": 2, "light": lambda t: 0.8 + 0.5 * t}
    filmed = chart_shot(hand=card, **common)
    truth = chart_shot(sensor=Sensor(shot=0.0, read=0.0), **common)
    mattes = []
    for t in filmed.times:
        matte = np.zeros(SIZE[::-1], np.uint8)
        spots = np.array([filmed.camera.project(float(t), c[None])[0] for c in card(float(t))]).reshape(4, 2)
        cv2.fillPoly(matte, [np.round((spots - 0.5) * 16).astype(np.int32)], 255, cv2.LINE_AA, 4)
        mattes.append(matte)
    return filmed.frames, truth, mattes


def _borrower(frames: list[U8], mattes: list[U8], behind: Behind | None = None) -> Borrower:
    lumas = [np.asarray(cv2.cvtColor(f, cv2.COLOR_RGB2GRAY), np.uint8) for f in frames]
    return Borrower(lambda i: frames[i], lambda i: lumas[i], lambda i: mattes[i], FRAMES, None, behind)


def _bench_room() -> None:
    """What walks before a wall, a bench and crates, while the camera goes round them; depth as it is measured."""
    filmed, clean = (
        room_shot("orbit", size=(960, 540), frames=FRAMES, seed=3, puppet=puppet, samples=2) for puppet in (True, False)
    )
    frames, track = filmed.frames, clean.track()
    covers = [~np.isclose(filmed.depth(i), clean.depth(i), rtol=0, atol=1e-6) for i in range(FRAMES)]
    mattes = [np.asarray(cv2.dilate(one.astype(np.uint8) * 255, np.ones((7, 7), np.uint8)), np.uint8) for one in covers]
    maker = DepthMaker(lambda i: frames[i], track, QUALITY["quick"], lambda i: mattes[i])
    depths = [maker.depth(i).depth for i in range(FRAMES)]
    behind = Behind(MeasuredDepth(track, lambda i: depths[i]), lambda i: mattes[i])
    print(f"\na card off a room at many distances, 960 x 540, a hole of {int(np.mean([(m > 60).sum() for m in mattes]))} px\n")
    _told([(PLAIN, lambda i: _inpainted(frames[i], mattes[i])),
           ("borrowed, by how what lies round it moves", lambda i: _borrower(frames, mattes).mend(i).rgb),
           ("borrowed, by measured depth", lambda i: _borrower(frames, mattes, behind).mend(i).rgb)],
          frames, clean.frames, mattes)  # fmt: skip


def _bench_sticker() -> None:
    """Something that lies on the chart in every frame: nothing to borrow, so texture goes on."""
    frames, truth, mattes = _filmed(lambda _: quad((-0.08, 0.03, 0.0008), 0.08, 0.06))
    continued = Continued(lambda i: frames[i], lambda i: mattes[i], _borrower(frames, mattes), FRAMES)
    print("\na sticker off the chart, never uncovered: made up, so only its flicker can be judged\n")
    _told([(PLAIN, lambda i: _inpainted(frames[i], mattes[i])), ("texture, found once and carried", continued.mend)],
          frames, truth.frames, mattes)  # fmt: skip


def _bench_cloth() -> None:
    """Five crosses on uneven cloth whose light changes: what edge fills are for."""
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]].astype(np.float32)
    base = np.dstack([40 + 0.03 * x, 110 + 0.05 * x - 0.04 * y + 8 * np.sin(x / 130), 55 + 0.02 * y])
    matte = np.zeros(SIZE[::-1], np.uint8)
    for cx, cy in ((200, 140), (560, 90), (1000, 160), (260, 560), (980, 600)):
        for turn in (1, -1):
            cv2.line(matte, (cx - 24, cy - 24 * turn), (cx + 24, cy + 24 * turn), 255, 13, cv2.LINE_AA)
    rng = np.random.default_rng(3)
    frames, clean = [], []
    for i in range(FRAMES):
        light = base * (0.85 + 0.02 * i)
        noisy = light + cv2.GaussianBlur(rng.normal(0, 4, light.shape), (0, 0), 0.6)
        noisy[matte > 60] = (225, 222, 205)
        frames.append(np.clip(noisy, 0, 255).astype(np.uint8))
        clean.append(np.clip(light, 0, 255).astype(np.uint8))
    print(f"\nfive crosses off uneven cloth, {(matte > 60).sum()} px, without grain to compare with the clean truth\n")
    _told(
        [
            (PLAIN, lambda i: _inpainted(frames[i], matte)),
            ("from its edges, in from all round", lambda i: fill_edges(frames[i], matte, frame=i, grain=False)),
            ("from its edges, straight across", lambda i: fill_edges(frames[i], matte, frame=i, grain=False, course="across")),
            ("from its edges, with its grain", lambda i: fill_edges(frames[i], matte, frame=i)),
        ],
        frames, clean, [matte] * FRAMES,
    )  # fmt: skip


def _told(ways: list[tuple[str, Callable[[int], U8]]], frames: list[U8], clean: list[U8], mattes: list[U8]) -> None:
    print(f"{'':48s}{'frames/s':>9s}{'PSNR':>9s}{'flicker':>9s}")
    for label, fill in ways:
        fill(USED[0])
        start = time.perf_counter()
        out = [fill(i) for i in USED]
        rate = len(USED) / (time.perf_counter() - start)
        psnr, flicker = _judged(out, [clean[i] for i in USED], [mattes[i] > 60 for i in USED])
        print(f"{label:48s}{rate:9.1f}{psnr:8.1f} {flicker:9.2f}")
    own = _judged([frames[i] for i in USED], [clean[i] for i in USED], [_far(mattes[i]) for i in USED])
    print(f"{'(the clip itself, beside the hole)':48s}{'':9s}{own[0]:8.1f} {own[1]:9.2f}")


def _far(matte: U8) -> NDArray[np.bool_]:
    """A band beside the hole, of about its own size."""
    near, far = (cv2.dilate(matte, np.ones((n, n), np.uint8)) > 0 for n in (15, 61))
    return np.asarray(far & ~near)


def _judged(found: list[U8], true: list[U8], where: list[NDArray[np.bool_]]) -> tuple[float, float]:
    """PSNR inside the holes in dB, and how the mean error in 12 px patches changes from frame to frame, in codes."""
    squares, soft = [], []
    for a, b, mask in zip(found, true, where, strict=True):
        off = a.astype(np.float32) - b
        squares.append(float((off[mask] ** 2).mean()))
        soft.append(np.where(mask[..., None], cv2.blur(off, (12, 12)), np.nan))
    both = [np.abs(b - a) for a, b in zip(soft[:-1], soft[1:], strict=True)]
    return float(10 * np.log10(255**2 / max(float(np.mean(squares)), 1e-12))), float(np.nanmean([np.nanmean(d) for d in both]))
