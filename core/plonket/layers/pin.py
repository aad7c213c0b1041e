"""A still or clip pinned by its corners to the quad of a plane."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.comp.picture import CLEAR, Picture
from plonket.comp.place import place_still
from plonket.comp.sources import Sources
from plonket.conventions import F32, F64
from plonket.fields import Identifier, choice, plain
from plonket.layers.common import PictureLayer, averaged, clip_frame, faded, instants
from plonket.layers.still import box_of, moved_px
from plonket.motion.plane.correct import quad_homography
from plonket.outline import carry

Fit = Literal["stretch", "fit", "fill"]


class PinLayer(PictureLayer):
    """A picture whose corners lie on the corners of a plane's quad."""

    kind: Literal["pin"] = "pin"
    plane: Identifier
    fit: Fit = choice("stretch", label="Fit", group="Pin",
                      names={"stretch": "Stretched to the corners", "fit": "Whole, with borders", "fill": "Filled, cropped"},
                      help="What to do when the picture is wider or taller than the surface.")  # fmt: skip
    shape: float = plain(0, label="Shape", low=0, high=10, step=0.01, unit="w/h", group="Pin",
                         help="Width by height of the real surface; 0: judged from the quad.")  # fmt: skip
    soft: float = plain(0, label="Soft edge", low=0, high=60, step=0.5, unit="px", group="Pin",
                        help="Fade out towards the edge, in pixels of the picture pinned.")  # fmt: skip


def fitted(layer: PinLayer, quad: F64) -> tuple[F64, F64]:
    """How the picture lies on the quad.

    Returns
    -------
    used : (4, 2) corners of the part of the picture that is shown, in its pixels. target : (4, 2) the
        corners on the quad, as fractions of its sides, that they lie on.
    """
    whole = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float64)
    box = box_of(layer)
    shape = layer.shape if layer.shape > 0 else quad_shape(quad)
    wider = layer.width / layer.height / shape
    if layer.fit == "stretch" or abs(wider - 1) < 1e-6:
        return box, whole
    if layer.fit == "fit":
        sx, sy = (1.0, 1 / wider) if wider > 1 else (wider, 1.0)
        return box, (whole - 0.5) * [sx, sy] + 0.5
    sx, sy = (1 / wider, 1.0) if wider > 1 else (1.0, wider)
    middle = np.array([layer.width / 2, layer.height / 2])
    return (box - middle) * [sx, sy] + middle, whole


def quad_shape(quad: F64) -> float:
    """Width by height of a quad (4, 2), judged from the mean lengths of its sides."""
    side = [float(np.hypot(*(quad[(k + 1) % 4] - quad[k]))) for k in range(4)]
    return max(side[0] + side[2], 1e-6) / max(side[1] + side[3], 1e-6)


def reference_from_picture(layer: PinLayer, quad: F64) -> F64 | None:
    """(3, 3) from the picture's pixels to the plane's reference-frame pixels; None where the quad is folded."""
    used, target = fitted(layer, quad)
    unit = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float64)
    onto = quad_homography(unit, quad)
    return None if onto is None else quad_homography(used, carry(target, onto))


def lies(layer: PinLayer, sources: Sources, frame: float) -> F64 | None:
    """(3, 3) from the picture's pixels to the frame's; None where it does not lie."""
    quad = sources.quad(layer.plane)
    placed = None if quad is None else reference_from_picture(layer, quad)
    return None if placed is None else np.asarray(sources.on_plane(layer.plane, frame) @ placed)


def draw(layer: PinLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The layer's picture at a frame; `view` leads from the clip's pixels to the picture's."""
    k = clip_frame(layer, frame, sources.length(layer.asset))
    quad = sources.quad(layer.plane)
    placed = None if quad is None else reference_from_picture(layer, quad)
    if k is None or quad is None or placed is None:
        return CLEAR
    source = sources.element(layer.asset, k, layer.key)
    used, _ = fitted(layer, quad)

    def at(when: float) -> F64:
        return np.asarray(view @ sources.on_plane(layer.plane, when) @ placed)

    speed = 0.0
    if layer.shutter > 0:
        speed = moved_px(used, at(max(frame - 0.5, 0.0)), at(frame + 0.5))
    pictures = []
    for u in instants(layer.shutter, speed):
        matrix = at(frame + u)
        picture = place_still(source, matrix, size)
        pictures.append(_cropped(picture, matrix, used, layer.soft, layer.fit == "fill"))
    return faded(averaged(pictures), layer, frame)


def _cropped(picture: Picture, matrix: F64, used: F64, soft: float, crop: bool) -> Picture:
    """Cut what lies beyond the part used, with an anti-aliased or soft edge."""
    if not picture.rgba.size or not (crop or soft > 0):
        return picture
    h, w = picture.rgba.shape[:2]
    back = np.linalg.inv(matrix)
    y, x = np.mgrid[0:h, 0:w].astype(np.float64)
    x, y = x + picture.x + 0.5, y + picture.y + 0.5
    d = back[2, 0] * x + back[2, 1] * y + back[2, 2]
    u = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) / d
    v = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / d
    # A pixel's own size on the picture makes the edge one pixel soft at least.
    step = np.sqrt(np.abs(np.linalg.det(back)) / np.maximum(np.abs(d) ** 3, 1e-12))
    inside = np.minimum(np.minimum(u - used[0, 0], used[2, 0] - u), np.minimum(v - used[0, 1], used[2, 1] - v))
    cover: F32 = np.clip(inside / np.maximum(step, soft) + (0.5 if soft <= 0 else 0.0), 0, 1).astype(np.float32)
    if soft > 0:
        cover = cover * cover * (3 - 2 * cover)
    return Picture(rgba=picture.rgba * cover[..., None], x=picture.x, y=picture.y)
