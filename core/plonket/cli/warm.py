"""Compiles ahead what is compiled at its first use, so that no first frame waits for it.

Compiled code is kept beside its source; with it there, this takes a few seconds.
"""

from __future__ import annotations

import contextlib
import os
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context, parent_process
from multiprocessing.connection import wait
from threading import Thread
from typing import Any

import cv2
import numpy as np

from plonket.base.colour import bytes_of, linear_from_codes, opaque_from_codes
from plonket.base.conventions import U8
from plonket.base.errors import PlonketError
from plonket.base.outlines import polygon_outline
from plonket.document.bases import Key
from plonket.document.kinds import GENERATORS, KEYS, LOOKS
from plonket.document.shot import Footage, Shot
from plonket.image.interpolation import interpolated
from plonket.image.pair_flow import pair_flow
from plonket.image.picture import StillSource
from plonket.keying.common import KeyContext
from plonket.keying.screen import ScreenKey
from plonket.masks.follow_outline import follow_outline
from plonket.masks.outlined import OutlineMask
from plonket.matting.measure import measure_matte
from plonket.media.clip import ArrayClip
from plonket.media.yuv import PlaneCoding, codes_of, planes_of
from plonket.render.frame import render_frame
from plonket.render.no_media import NoMedia
from plonket.track.camera.details import Details, follow_details
from plonket.track.camera.solve import SolveOptions, solve
from plonket.track.form.fit import first_pose
from plonket.track.form.measure import measure_form
from plonket.track.form.settings import FormMotion, FormStake, Tug
from plonket.track.matte.settings import MatteMotion, PickClick
from plonket.track.request import MeasureRequest

SIZE = (96, 64)


class _Flat(NoMedia):
    """A grey clip and a green element with something in it."""

    footage = "a" * 64

    def plate(self, asset: str, moment: float) -> U8:
        return np.full((SIZE[1], SIZE[0], 3), 90, np.uint8)

    def element(self, asset: str, frame: int, key: Key | None = None, level: int = 0) -> StillSource:
        rgb = np.empty((40, 60, 3), np.uint8)
        rgb[:] = (40, 150, 70)
        rgb[10:30, 20:40] = (200, 60, 50)
        if key is None:
            return StillSource(np.dstack([rgb, np.full((40, 60), 255, np.uint8)]))
        return StillSource.of_light(KEYS.get(key.kind).run(linear_from_codes(rgb), key, KeyContext()))


def warm() -> None:
    """Draw one small frame of each thing, and measure a little. Compiling is work for one core: two halves at once."""
    with ProcessPoolExecutor(2, mp_context=get_context("spawn"), initializer=_end_with_parent) as pool:
        for half in [pool.submit(_draw), pool.submit(_measure)]:
            half.result()


def _end_with_parent() -> None:
    """A half whose asker was killed ends as well: it would wait for more to do for ever."""
    parent = parent_process()
    assert parent is not None

    def watch() -> None:
        wait([parent.sentinel])
        os._exit(1)

    Thread(target=watch, daemon=True).start()


def _measure() -> None:
    _solve_something()
    _follow_a_form()
    _pick_something()


def _draw() -> None:
    _read_colours()
    sources = _Flat(SIZE)
    common: dict[str, Any] = {"name": "w", "x": 48.0, "y": 32.0}
    still: dict[str, Any] = common | {"kind": "still", "asset": "b" * 64, "width": 60, "height": 40}
    mask = OutlineMask(id="m", name="m", soft=3.0, outline=polygon_outline(np.array([[10.0, 10], [80, 10], [40, 60]])))
    looks = [{"kind": e.kind, "id": f"look-{e.kind}", "name": "w"} for e in LOOKS]
    stack: list[dict[str, Any]] = [
        still | {"id": "s1", "masks": [mask.model_dump()], "crop_left": 10.0},
        still | {"id": "s2", "key": ScreenKey().model_dump(), "blend": "screen"},
        {"kind": "plate", "id": "p", "name": "w"},
        {"kind": "fill", "id": "f", "name": "w", "course": "round", "cover": 20.0},
        {"kind": "wash", "id": "w", "name": "w", "looks": looks},
        *(common | {"kind": "generated", "id": f"g-{e.kind}", "generator": {"kind": e.kind}} for e in GENERATORS),
    ]
    footage = Footage(asset=_Flat.footage, name="w", width=SIZE[0], height=SIZE[1], rate="30/1", frames=9, in_frame=0,
                      out_frame=8)  # fmt: skip
    render_frame(Shot.model_validate({"name": "w", "footage": footage, "stack": stack}), sources, 4)
    rgb = np.random.default_rng(2).integers(0, 255, (SIZE[1], SIZE[0], 3)).astype(np.uint8)
    first, second = (StillSource(one).level(0)[0] for one in (rgb, rgb))
    interpolated(first, second, pair_flow(rgb, rgb), 0.5)


def _read_colours() -> None:
    """Planes of the depths that clips have, there and back."""
    for bits in (8, 10):
        coding = PlaneCoding(bits=bits)
        codes = np.full((SIZE[1], SIZE[0], 3), 90, np.uint8 if bits == 8 else np.uint16)
        seen = codes_of(*planes_of(codes, coding), coding, deep=bits > 8)
        bytes_of(seen)
        opaque_from_codes(seen)


def _solve_something() -> None:
    """Follow a few dots and solve a camera from points that are known."""
    rng = np.random.default_rng(1)
    picture = cv2.GaussianBlur(rng.integers(0, 255, (120, 160)).astype(np.uint8), (0, 0), 2)
    follow_details(lambda i: picture, range(3), 3, count=60)
    world, frames = rng.uniform(-1, 1, (60, 3)) + [0, 0, 4], 6
    eyes = np.linspace([-0.6, 0, 0], [0.6, 0.1, 0.2], frames)
    local = world[:, None] - eyes[None]
    xy = local[..., :2] / local[..., 2:] * 150 + [80, 60] + rng.normal(0, 0.1, (60, frames, 2))
    solve(Details(xy=xy, seen=np.ones((60, frames), bool)), (160, 120), SolveOptions())


def _follow_a_form() -> None:
    """A form of noise that stands still."""
    size = (160, 120)
    picture = np.random.default_rng(1).integers(40, 210, (size[1], size[0], 3)).astype(np.uint8)
    motion = FormMotion(id="f", name="w")
    start = first_pose(motion)
    stake = FormStake(frame=0, tugs=[Tug(at=(0.0, 0.0, 0.0), x=80.0, y=60.0)], pose=start.pose())
    motion = motion.model_copy(update={"stakes": [stake], "knows": "pixels", "focal_px": 170.0})
    with contextlib.suppress(PlonketError):
        measure_form(motion, MeasureRequest(clip=ArrayClip([cv2.GaussianBlur(picture, (0, 0), 1.2)] * 2)))


def _pick_something() -> None:
    """A patch of noise that goes its way before another one: picked by a click, and as an outline that follows it."""
    rng = np.random.default_rng(4)
    rear, front = (cv2.GaussianBlur(rng.integers(*span, (120, 160, 3)).astype(np.uint8), (0, 0), 1.5)
                   for span in ((0, 120), (100, 255)))  # fmt: skip
    frames = [np.asarray(rear, np.uint8).copy() for _ in range(3)]
    for k, frame in enumerate(frames):
        frame[40:90, 50 + 2 * k : 100 + 2 * k] = front[40:90, 50:100]
    motion = MatteMotion(id="m", name="w", clicks=[PickClick(frame=0, x=75, y=65)])
    outline = polygon_outline(np.array([[52.0, 42], [98, 42], [98, 88], [52, 88]]))
    with contextlib.suppress(PlonketError):
        measure_matte(motion, MeasureRequest(clip=ArrayClip(frames)))
    with contextlib.suppress(PlonketError):
        follow_outline(outline, lambda k: frames[k], 0, 3)


if __name__ == "__main__":
    warm()
