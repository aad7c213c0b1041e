"""A still or clip pinned by its corners to the quad of a plane."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np

from plonket.base.conventions import F64
from plonket.base.fields import GOES, Identifier, choice, plain, reference
from plonket.base.outlines import carry
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.image.picture import CLEAR, Picture
from plonket.layers.common import PictureLayer, box_of, cut_to, exposed, mirrored, shown_frames
from plonket.layers.sources import Sources
from plonket.track.plane.correct import quad_homography

Fit = Literal["stretch", "fit", "fill"]


class PinLayer(PictureLayer):
    """A picture whose corners lie on the corners of a plane's quad."""

    kind: Literal["pin"] = "pin"
    plane: Annotated[Identifier, reference("plane", says="is pinned to a plane", left=GOES, leads=True)]
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
    placed = None if onto is None else quad_homography(used, carry(target, onto))
    return None if placed is None else np.asarray(placed @ mirrored(layer))


def clip_from_layer(layer: PinLayer, sources: Sources, frame: float) -> F64 | None:
    """(3, 3) from the picture's pixels to the frame's; None where it does not lie."""
    quad = sources.quad(layer.plane)
    placed = None if quad is None else reference_from_picture(layer, quad)
    return None if placed is None else np.asarray(sources.on_plane(layer.plane, frame) @ placed)


def draw(layer: PinLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The layer's picture at a frame; `view` leads from the clip's pixels to the picture's."""
    quad = sources.quad(layer.plane)
    placed = None if quad is None else reference_from_picture(layer, quad)
    if quad is None or placed is None:
        return CLEAR
    used, _ = fitted(layer, quad)

    def at(when: float) -> F64:
        return np.asarray(view @ sources.on_plane(layer.plane, when) @ placed)

    def trimmed(picture: Picture, matrix: F64) -> Picture:
        if not picture.rgba.size or not (layer.fit == "fill" or layer.soft > 0):
            return picture
        return cut_to(picture, matrix, np.concatenate([used.min(axis=0), used.max(axis=0)]), layer.soft)

    return exposed(layer, sources, frame, size, at, used, trimmed)


LAYERS.add(LayerEntry(
    kind="pin", order=20, label="Pinned", settings=PinLayer, run=draw, clip_from_layer=clip_from_layer,
    shows=shown_frames,
    help="A picture or clip pinned by its corners to a surface.",
    traits=frozenset({"picture", "keyed", "slips", "matched"}), handles="quad",
    groups=("Pin", "Mix", "Cut"),
    card={"": "Pinned"},
    says={"": "Pinned still, {width} × {height}"},
))  # fmt: skip
