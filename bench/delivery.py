"""What cutting to another size and writing several files costs, beside plain calls: printed by ``bin/plonket bench``."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np

from plonket.document.delivery import OutputBase
from plonket.document.shot import Shot, read_shot
from plonket.image.rescale import cut
from plonket.media import open_clip
from plonket.render.deliver import output_for, write_pieces
from plonket.render.frame import render_light
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources

FRAMES = 48


def bench_delivery(clip: Path, folder: Path) -> None:
    """Prints the figures for a clip."""
    info = open_clip(clip).info
    footage = {
        "asset": "a" * 64, "name": "clip", "width": info.width, "height": info.height, "frames": info.frames,
        "rate": f"{info.rate.numerator}/{info.rate.denominator}", "in_frame": 0, "out_frame": info.frames - 1,
    }  # fmt: skip
    frames = [{"id": "up", "name": "Up", "x": info.width / 2, "y": info.height / 2}]
    shot = read_shot({"name": "bench", "footage": footage, "frames": frames})
    pool = MediaPool(lambda _: clip, lambda _: None)  # type: ignore[arg-type, return-value]
    whole = render_light(shot, ShotSources(shot, pool), 1)
    part = np.ascontiguousarray(whole[:, : whole.shape[0] * 9 // 16])
    print("\ndelivering")
    for name, size in (("enlarged to 1080 x 1920", (1080, 1920)), ("reduced to 270 x 480", (270, 480))):
        box = (0.0, 0.0, float(part.shape[1]), float(part.shape[0]))
        how = cv2.INTER_LANCZOS4 if size[0] > part.shape[1] else cv2.INTER_AREA
        ours, plain = (_best(run) for run in (
            lambda size=size, box=box: cut(part, box, size),
            lambda size=size, how=how: cv2.resize(part, size, interpolation=how),
        ))  # fmt: skip
        print(f"  {name}: {ours * 1000:.0f} ms, {ours / plain:.1f} x a plain resize (which rings, or is softer)")
    kinds = [("h264", "up"), ("h264", None), ("png", None)]
    outputs = [output_for(shot, Path("x.mp4"), kind, frame).model_copy(update={"id": f"o{k}"})
               for k, (kind, frame) in enumerate(kinds)]  # fmt: skip
    one_by_one = sum(_written(shot, pool, [one], folder) for one in outputs)
    together = _written(shot, pool, outputs, folder)
    print(f"  upright, wide and PNG of one rendering: {FRAMES / together:.1f} frames/s, "
          f"{one_by_one / together:.2f} x as fast as one after another")  # fmt: skip


def _best(run: Callable[[], object]) -> float:
    run()
    spent = []
    for _ in range(5):
        start = time.perf_counter()
        run()
        spent.append(time.perf_counter() - start)
    return min(spent)


def _written(shot: Shot, pool: MediaPool, outputs: list[OutputBase], folder: Path) -> float:
    places = {one.id: folder / f"bench-{one.id}" for one in outputs}
    start = time.perf_counter()
    write_pieces(shot, ShotSources(shot, pool), outputs, lambda o: places[o.id], start=0, stop=FRAMES, began=0)
    return time.perf_counter() - start
