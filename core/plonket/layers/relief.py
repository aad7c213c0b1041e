"""A floor or wall of the footage that is pushed out or in, its own picture with it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import LUMA
from plonket.base.conventions import F32, F64
from plonket.base.fields import AssetDigest, Number, asset, choice, number, plain, switch, value_at
from plonket.base.noise import noise_field
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.image.picture import CLEAR, Picture
from plonket.layers.model_order import Filmed
from plonket.layers.sources import Sources
from plonket.layers.worked import WorkedLayer, draw_worked, faced, round_about, surface_matrix
from plonket.raytrace.request import Instance
from plonket.room.meshes.baked import BakedPart, dump_baked
from plonket.room.meshes.pieces import normals_of, ring_of

CELLS = 180
"""Of the mesh along the longer side."""
AS_IT_WAS = 0.004
"""Share of the height below which the surface counts as untouched: there the plate itself is seen."""
FLAT = 1e-5
"""Metres below which nothing is pushed anywhere."""


class ReliefLayer(WorkedLayer):
    """The plate's own surface pushed out by a shape: what is painted on it goes along, light and shadow are of its new form."""

    kind: Literal["relief"] = "relief"
    height: Number = number(0.03, label="Pushed out", low=-100, high=100, step=0.002, unit="m", group="Relief",
                            soft=(-0.3, 0.3), help="As far at the most. Less than nought is pushed in.")  # fmt: skip
    shape: Literal["bulge", "rings", "lumps", "picture"] = choice(
        "bulge", label="Shape", group="Relief",
        names={"bulge": "A bulge", "rings": "Rings", "lumps": "Lumps", "picture": "A picture"})  # fmt: skip
    picture: AssetDigest | None = asset("still", label="Picture", group="Relief", when={"shape": ("picture",)},
                                        help="Of the shelf: white is pushed, black is not.")  # fmt: skip
    inverted: bool = switch(False, label="Black is pushed", group="Relief", when={"shape": ("picture",)})
    rounded: float = plain(4, label="Rounded", low=0, high=50, step=0.5, unit="%", group="Relief", soft=(0, 20),
                           when={"shape": ("picture",)},
                           help="Of its width: steep edges have no room for a picture.")  # fmt: skip
    across: float = plain(0.2, label="Apart", low=0.001, high=100, step=0.01, unit="m", group="Relief",
                          soft=(0.02, 1), when={"shape": ("rings", "lumps")})  # fmt: skip
    seed: int = plain(1, label="Seed", low=0, high=9999, step=1, group="Relief", whole=True, when={"shape": ("lumps",)})
    edge: float = plain(30, label="Soft edge", low=0, high=100, step=1, unit="%", group="Relief",
                        help="How soon it rises from what lies round it.")  # fmt: skip

    def opens(self, frame: float) -> bool:
        return self.on == "floor" and abs(value_at(self.height, frame)) >= FLAT


def heights(layer: ReliefLayer, sources: Sources, across: int, down: int) -> F64:
    """(down, across) what is pushed how far, of `height`: at the corners of the mesh, the first row at -z."""
    x, z = np.meshgrid(np.linspace(-1, 1, across), np.linspace(-1, 1, down))
    if layer.shape == "bulge":
        far = np.minimum(np.hypot(x, z), 1.0)
        return np.asarray((1 - far**2) ** 2)
    if layer.shape == "rings":
        far = np.hypot(x * layer.wide / 2, z * layer.deep / 2)
        out = 0.5 + 0.5 * np.cos(2 * np.pi * far / layer.across)
    elif layer.shape == "lumps":
        noise = np.empty((down, across), np.float32)
        back = np.diag([layer.wide / across, layer.deep / down, 1.0])
        noise_field(noise, back, layer.across, np.zeros(2), 0.0, 3, layer.seed * 17 + 3)
        out = np.clip(0.5 + 1.2 * noise.astype(np.float64), 0, 1)
    else:
        out = _of_picture(layer, sources, across, down)
    return np.asarray(out * _eased(layer, x, z))


def _eased(layer: ReliefLayer, x: F64, z: F64) -> F64:
    """How much of it is left towards the rectangle's edge."""
    soft = max(layer.edge / 100, 0.02)
    wide = min(layer.wide, layer.deep)
    inward = np.minimum((1 - np.abs(x)) * layer.wide / wide, (1 - np.abs(z)) * layer.deep / wide)
    share = np.clip(inward / soft, 0, 1)
    return np.asarray(share * share * (3 - 2 * share))


def _of_picture(layer: ReliefLayer, sources: Sources, across: int, down: int) -> F64:
    if layer.picture is None:
        return np.zeros((down, across))
    rgba = sources.element(layer.picture, 0).level(0)[0][1:-1, 1:-1]
    grey: F32 = np.asarray(rgba[..., :3] @ LUMA, np.float32)
    if layer.inverted:
        grey = rgba[..., 3] - grey
    # What light is to the eye, not as it adds up: a middle grey is pushed half as far as white.
    grey = np.sqrt(np.clip(grey, 0, 1))
    grey = np.asarray(cv2.resize(grey, (across, down), interpolation=cv2.INTER_AREA), np.float32)
    soft = layer.rounded / 100 * across
    return np.asarray(cv2.GaussianBlur(grey, (0, 0), soft) if soft > 0.3 else grey, np.float64)


def things(layer: ReliefLayer, sources: Sources, whens: Sequence[float], shown: bool) -> Filmed:
    """The surface as it is pushed at each moment."""
    seat = sources.seat(layer.follow.target)
    if seat is None:
        return []
    m = surface_matrix(layer, *seat)
    path = sources.baked(layer.id, "relief", lambda: _baked(layer, sources, real=False))
    pushed = [value_at(layer.height, when) for when in whens]
    thing = Instance(model=path, stands=(m,) * len(whens), role="shown" if shown else "other",
                     poses=tuple((0, by) for by in pushed))  # fmt: skip
    x, z = layer.wide / 2, layer.deep / 2
    round_it = [np.array([[a, y, b] for a in (-x, x) for y in (0.0, by) for b in (-z, z)]) @ m[:3, :3].T + m[:3, 3]
                for by in pushed]  # fmt: skip
    out: Filmed = [(thing, round_it)]
    if shown or any(layer.opens(when) for when in whens):
        rest = sources.baked(layer.id, "rest", lambda: _baked(layer, sources, real=True))
        out.append((Instance(model=rest, stands=(m,) * len(whens), role="real"), round_it))
    return out


def _baked(layer: ReliefLayer, sources: Sources, *, real: bool) -> tuple[str, bytes]:
    """The file of the surface, flat, with how far each corner goes at a height of one metre; `real`: of what stays as it was
    filmed, and of what lies round it."""
    long = max(layer.wide, layer.deep)
    across, down = (max(8, round(CELLS * side / long)) + 1 for side in (layer.wide, layer.deep))
    h = heights(layer, sources, across, down)
    x, z = np.linspace(-0.5, 0.5, across) * layer.wide, np.linspace(-0.5, 0.5, down) * layer.deep
    slope_z, slope_x = np.gradient(h, z, x)
    flat = np.stack(np.broadcast_arrays(x[None, :], np.zeros_like(h), z[:, None]), axis=-1).reshape(-1, 3)
    faces, still = _faces(h)
    if real:
        ring = ring_of(layer.wide, layer.deep, round_about(layer, max(layer.wide, layer.deep) / 2))
        rest = np.concatenate([flat[still], ring])
        return dump_baked([BakedPart(corners=rest, normals=normals_of(rest), uv=np.zeros((*rest.shape[:2], 2)))])
    up = np.zeros_like(flat)
    up[:, 1] = 1
    # The normal of a surface of this height is (-slope, 1, -slope), however long: it changes evenly with the height.
    turned = np.stack([-slope_x, np.zeros_like(h), -slope_z], axis=-1).reshape(-1, 3)
    raised = np.stack([np.zeros_like(h), h, np.zeros_like(h)], axis=-1).reshape(-1, 3)
    uv = flat[:, [0, 2]] / [layer.wide, -layer.deep] + 0.5
    colour, glow, most = faced(layer, sources)
    part = BakedPart(corners=flat[faces], normals=up[faces], uv=uv[faces], picture=colour, glow=glow, glow_most=most,
                     raised=raised[faces], raised_normals=turned[faces])  # fmt: skip
    return dump_baked([part])


def _faces(h: F64) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """(m, 3) corners of the triangles of what is pushed at all, of one at the least; and of what is not."""
    down, across = h.shape
    index = np.arange(h.size).reshape(h.shape)
    a, b, c, d = index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]
    every = np.concatenate([np.stack([a, b, c], axis=-1).reshape(-1, 3), np.stack([a, c, d], axis=-1).reshape(-1, 3)])
    goes = np.abs(h).ravel()[every].max(axis=1) > AS_IT_WAS * max(float(np.abs(h).max()), 1e-9)
    goes[0] |= not goes.any()
    return every[goes], every[~goes]


def draw(layer: ReliefLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The pushed surface at a frame; nothing where it lies as it was filmed."""
    if abs(value_at(layer.height, frame)) < FLAT or value_at(layer.opacity, frame) <= 0:
        return CLEAR
    if layer.shape == "picture" and layer.picture is None:
        return CLEAR
    return draw_worked(layer, sources, frame, size, view)


LAYERS.add(LayerEntry(
    kind="relief", order=52, label="Relief", settings=ReliefLayer, run=draw,
    help="A floor or wall of the footage that is pushed out or in, its own picture with it.",
    traits=frozenset({"standing", "follows", "filmed"}), handles="standing", things=things,
    shadowless=lambda layer: layer.model_copy(update={"shadow_strength": 0.0}),
    groups=("Surface", "Relief", "Stands", "Filmed", "Light", "Shadow ground", "Haze", "Mix"),
    card={"": "Relief"},
    says={"": "The plate's own surface pushed out: drag it over the ground to where it rises"},
))  # fmt: skip
