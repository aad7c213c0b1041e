"""Dense depth against plain dense movement, triangulated by the true camera."""

from __future__ import annotations

import time

import numpy as np

from plonket.depth.from_flow import flows, triangulated
from plonket.depth.measure import QUALITY, DepthMaker
from plonket.depth.straight import Straight
from synth.phone.depth_score import depth_score
from synth.phone.quickroom import room_shot

SIZE, FRAMES, AT, APART = (1280, 720), 33, 16, 8


def bench_depth() -> None:
    """Both on one frame of a room that the simulated phone goes round, at 720p."""
    shot = room_shot("orbit", size=SIZE, frames=FRAMES, seed=8, samples=2)
    track, true = shot.track(), shot.depth(AT)
    print(f"\ndepth of a room, 720p, frame {AT} of {FRAMES}\n")
    for name in QUALITY:
        maker = DepthMaker(lambda k: shot.frames[k], track, QUALITY[name])
        # Compiled, and its neighbours told.
        maker.depth(AT)
        begun = time.perf_counter()
        maker.depth(AT + 1)
        fused = time.perf_counter() - begun
        begun = time.perf_counter()
        maker.tell(AT + 1)
        single = time.perf_counter() - begun
        each = fused + single / QUALITY[name].every
        print(f"{name:20s}{depth_score(maker.depth(AT).depth, true)}, {each:.2f} s a frame")
    straight = Straight(lambda k: shot.frames[k], track, SIZE[0])
    begun = time.perf_counter()
    others = [AT - APART, AT + APART]
    codes = [np.asarray(straight.grey(k), np.uint8) for k in (AT, *others)]
    inverse, _ = triangulated(flows(codes[0], codes[1:]), [straight.lies(AT, k) for k in others], 0.1, 5.0)
    took = time.perf_counter() - begun
    print(f"{'plain dense flow':20s}{depth_score(np.asarray(1 / inverse, np.float32), true)}, {took:.2f} s a frame")
