"""A model by itself, for the shelf."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from plonket.base.colour import encode_8bit
from plonket.base.conventions import F32, F64, U8
from plonket.raytrace.request import CameraView, Instance, Lights, RenderRequest

SIZE = (320, 240)
GREY = 0.16


def portrait(path: str, extent: list[float], film: Callable[[RenderRequest], F32]) -> U8:
    """8-bit (240, 320, 3): the model on grey, seen from its front, a little from the right and above."""
    size = np.array(extent, np.float64)
    scale = 1.0 / max(float(np.linalg.norm(size)), 1e-12)
    model: F64 = np.diag([scale, scale, scale, 1.0])
    middle = np.array([0.0, size[1] * scale / 2, 0.0])
    way = np.array([0.45, 0.32, 0.83])
    eye = middle + way / np.linalg.norm(way) * 1.9
    back = (eye - middle) / np.linalg.norm(eye - middle)
    right = np.cross([0.0, 1.0, 0.0], back)
    right /= np.linalg.norm(right)
    turn = np.stack([right, np.cross(back, right), back], axis=1)
    sun = np.array([-0.5, 0.75, 0.5]) / np.linalg.norm([-0.5, 0.75, 0.5])
    order = RenderRequest(
        things=(Instance(model=path, stands=(model,)),), views=(CameraView(eye=eye, turn=turn),),
        focal=1.55 * SIZE[0], principal=(SIZE[0] / 2, SIZE[1] / 2),
        window=(0, 0, *SIZE), ground=0.0, ground_colour=(0.3, 0.3, 0.3), shadows=True, samples=16,
        lights=Lights(sun=(float(sun[0]), float(sun[1]), float(sun[2])), sun_light=(0.8, 0.74, 0.66),
                      sky_light=(0.28, 0.29, 0.31), soft=0.08),
    )  # fmt: skip
    filmed = film(order)
    cover = np.clip(filmed[..., 3:4] + 0.8 * filmed[..., 4:5], 0, 1)
    return encode_8bit(np.ascontiguousarray(filmed[..., :3] + GREY * (1 - cover)))
