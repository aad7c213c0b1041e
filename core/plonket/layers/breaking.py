"""A floor or wall of the footage that cracks: pieces with depth, of which some fall."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import encode_8bit, linear_of
from plonket.base.conventions import F64, U8
from plonket.base.fields import choice, colour, plain, switch, value_at
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.image.picture import CLEAR, Picture
from plonket.layers.falling import EARLIEST, Bodies, FallenLayer, box_between
from plonket.layers.model_order import WOOD, Filmed
from plonket.layers.raytraced import box_corners, stood
from plonket.layers.sources import Sources
from plonket.layers.worked import WorkedLayer, draw_worked, faced, round_about, surface_matrix
from plonket.physics.fall import Driven, Loose
from plonket.raytrace.request import Instance
from plonket.room.meshes.baked import BakedPart, dump_baked
from plonket.room.meshes.pieces import area_of, centre_of, cut_up, hollow_of, normals_of, plate_of, ring_of

STONE = 4.0
"""Times as heavy as wood."""
APART = 0.02
"""Share of a piece that it is smaller for its neighbours than it looks: what fits exactly would jam."""
AROUND, AROUND_DEEP = 20.0, 2.0
"""Metres of the surface round it on which pieces come to rest, and how thick that is."""
INSIDE_TURNS = 4.0
"""How often the picture of what is inside is laid along a metre."""
JITTER = 0.35
"""Share of the time that cracks run, by which a piece may be let go later."""


class BreakingLayer(WorkedLayer):
    """The plate's own surface in pieces: cracks run out from its middle, what is nearest to it falls."""

    kind: Literal["breaking"] = "breaking"
    inside: str = colour("#6b5a4a", label="Inside", group="Cracks", help="What it is made of below its face.")
    pattern: Literal["shards", "planks", "tiles"] = choice(
        "shards", label="Breaks into", group="Cracks",
        names={"shards": "Shards", "planks": "Planks", "tiles": "Tiles"})  # fmt: skip
    pieces: int = plain(36, label="Pieces", low=2, high=200, step=1, group="Cracks", whole=True, help="About so many.")
    rows: int = plain(6, label="Rows", low=1, high=60, step=1, group="Cracks", whole=True, when={"pattern": ("planks",)},
                      help="How many planks lie beside each other over its width.")  # fmt: skip
    seed: int = plain(1, label="Seed", low=0, high=9999, step=1, group="Cracks", whole=True,
                      help="Another number, other cracks.")  # fmt: skip
    falls_from: int = plain(0, label="Begins", low=EARLIEST, high=1000000, step=1, unit="frame", group="Cracks", whole=True)
    runs: int = plain(8, label="Cracks run", low=0, high=1000, step=1, unit="fr", group="Cracks", whole=True, soft=(0, 60),
                      help="How long they take from the middle to the edge.")  # fmt: skip
    gap: float = plain(0.004, label="Gap", low=0, high=10, step=0.001, unit="m", group="Cracks", soft=(0, 0.05),
                       help="How wide cracks are once they have opened.")  # fmt: skip
    thick: float = plain(0.03, label="Thickness", low=0.001, high=100, step=0.005, unit="m", group="Cracks", soft=(0.005, 0.5))
    hollow: float = plain(0.5, label="Hollow behind", low=0.01, high=100, step=0.01, unit="m", group="Cracks", soft=(0.05, 3),
                          help="How deep it is below its face: what falls in lies there.")  # fmt: skip
    loosened: float = plain(0, label="Loosened", low=0, high=45, step=0.5, unit="°", group="Cracks", soft=(0, 10),
                            help="By how much pieces that stay are tilted.")  # fmt: skip
    falling: int = plain(8, label="Pieces that fall", low=0, high=200, step=1, group="Falls", whole=True, soft=(0, 60),
                         help="Those nearest to the middle. The others stay.")  # fmt: skip
    when_hit: bool = switch(False, label="When hit", group="Falls",
                            help="From its begin on each waits until something hits it.")  # fmt: skip
    pushed: float = plain(0, label="Pushed out", low=-100, high=100, step=0.1, unit="m/s", group="Falls", soft=(-5, 5),
                          help="Out of the surface; less than nought pushes in.")  # fmt: skip
    tumbles: float = plain(60, label="Tumble", low=0, high=3600, step=5, unit="°/s", group="Falls", soft=(0, 360),
                           help="Up to so much, each its own way.")  # fmt: skip
    bounces: float = plain(15, label="Bounce", low=0, high=100, step=1, unit="%", group="Falls")

    def opens(self, frame: float) -> bool:
        return self.on == "floor" and frame >= self.falls_from

    @property
    def falls(self) -> bool:
        """Whether there is a fall to be worked out."""
        return self.falling > 0


@dataclass(frozen=True, slots=True, eq=False)
class _Pieces:
    """Polygons (k, 2), nearest the middle first; each one's middle (2,), when its crack reaches it in frames from the begin on,
    how far it is from its middle to its edges, and which way (2,) it would tilt. fast : (n,) those that hold on to what lies
    round the surface: cracks end there, and they stay."""

    polygons: list[F64]
    centres: F64
    begins: F64
    reach: F64
    tilts: F64
    fast: NDArray[np.bool_]


def _pieces(layer: BreakingLayer) -> _Pieces:
    return _cut(layer.pattern, layer.wide, layer.deep, layer.pieces, layer.seed, layer.runs, layer.rows)


@lru_cache(maxsize=16)
def _cut(pattern: str, wide: float, deep: float, count: int, seed: int, runs: int, rows: int) -> _Pieces:
    polygons = cut_up(pattern, wide, deep, count, seed, rows)
    centres = np.array([centre_of(one) for one in polygons])
    far = np.linalg.norm(centres / np.array([wide, deep]), axis=1)
    # Planks and tiles end where the surface does; what is shattered goes on beyond it.
    half = np.array([wide, deep]) / 2 * (1 - 1e-6)
    fast = np.array([pattern == "shards" and bool((np.abs(one) >= half).any()) for one in polygons])
    order = np.lexsort((far, fast))
    polygons, centres, far, fast = [polygons[k] for k in order], centres[order], far[order], fast[order]
    edges = [np.linalg.norm(np.roll(one, -1, axis=0) - one, axis=1).sum() for one in polygons]
    reach = np.array([2 * abs(area_of(one)) / max(edge, 1e-12) for one, edge in zip(polygons, edges, strict=True)])
    tilts = np.random.default_rng([seed, 13]).uniform(-1, 1, (len(polygons), 2))
    return _Pieces(polygons, centres, runs * far / max(float(far.max()), 1e-9), reach, tilts,
                   fast)  # fmt: skip


def _falling(layer: BreakingLayer, pieces: _Pieces) -> int:
    return min(layer.falling, int((~pieces.fast).sum()))


def bodies_of(layer: BreakingLayer, sources: Sources, first: int) -> Bodies:
    """Its pieces among what falls, those that stay, and what lies round and behind them."""
    seat = sources.seat(layer.follow.target)
    if seat is None or not layer.shown:
        return Bodies()
    m, pieces = surface_matrix(layer, *seat), _pieces(layer)
    count = _falling(layer, pieces)
    rng = np.random.default_rng([layer.seed, 14])
    group = 1 + int.from_bytes(layer.id.encode(), "little") % 1_000_003
    loose: list[Loose] = []
    driven: list[Driven] = []
    for k, (polygon, middle) in enumerate(zip(pieces.polygons, pieces.centres, strict=True)):
        way, late = rng.uniform(-1, 1, 3), float(rng.uniform())
        fits = middle + (polygon - middle) * (1 - APART - _closes(layer, pieces)[k])
        hull = np.concatenate(plate_of(fits, layer.thick)).reshape(-1, 3)
        hull = np.unique(np.round(hull, 7), axis=0)
        if k >= count:
            driven.append(Driven(hull=hull, path=m[None]))
            continue
        spin, push = m[:3, :3] @ (np.radians(layer.tumbles) * way), m[:3, 1] * layer.pushed * (0.7 + 0.6 * late)
        lets_go = layer.falls_from + pieces.begins[k] + JITTER * layer.runs * late
        loose.append(Loose(hull=hull, start=m, lets_go=float(lets_go), when_hit=layer.when_hit, group=group,
                           velocity=(float(push[0]), float(push[1]), float(push[2])),
                           spin=(float(spin[0]), float(spin[1]), float(spin[2])), density=STONE * WOOD, friction=0.5,
                           bounce=layer.bounces / 100))  # fmt: skip
    x, z, deep = layer.wide / 2, layer.deep / 2, layer.hollow + layer.thick
    low, out = -AROUND_DEEP - deep, AROUND
    for a, b in (((-out, low, -out), (-x, 0, out)), ((x, low, -out), (out, 0, out)), ((-x, low, -out), (x, 0, -z)),
                 ((-x, low, z), (x, 0, out)), ((-x, low, -z), (x, -deep, z))):  # fmt: skip
        driven.append(box_between(np.array(a, np.float64), np.array(b, np.float64), m))
    level = float(m[1, 3]) if m[1, 1] > 0.7 else None
    return Bodies(loose=loose, sizes=[1.0] * len(loose), driven=driven, open_at=level)


def _closes(layer: BreakingLayer, pieces: _Pieces) -> NDArray[np.float64]:
    """(n,) share by which each piece is smaller once its cracks have opened."""
    return np.where(pieces.fast, 0, np.minimum(layer.gap / 2 / np.maximum(pieces.reach, 1e-9), 0.5))


def _poses(layer: BreakingLayer, pieces: _Pieces, m: F64, fallen: FallenLayer | None, when: float) -> F64:
    """(n, 4, 4) where each piece is in the surface's own axes: its cracks opened, tilted or fallen."""
    opened = np.clip((when - layer.falls_from - pieces.begins) / max(layer.runs / 4, 1.0), 0, 1)
    opened = opened * opened * (3 - 2 * opened)
    count = len(pieces.polygons)
    out = np.tile(np.eye(4), (count, 1, 1))
    small = 1 - _closes(layer, pieces) * opened
    out[:, 0, 0] = out[:, 2, 2] = small
    out[:, [0, 2], 3] = pieces.centres * (1 - small)[:, None]
    falling = _falling(layer, pieces)
    lean = np.radians(layer.loosened) * pieces.tilts * opened[:, None]
    for k in np.flatnonzero(~pieces.fast)[falling:] if layer.loosened else ():
        turn = np.eye(4)
        a, b = lean[k]
        turn[:3, :3] = np.array([[1, 0, 0], [0, np.cos(a), -np.sin(a)], [0, np.sin(a), np.cos(a)]]) @ np.array(
            [[np.cos(b), -np.sin(b), 0], [np.sin(b), np.cos(b), 0], [0, 0, 1]])  # fmt: skip
        middle = np.array([pieces.centres[k][0], 0, pieces.centres[k][1]])
        # Tilted about its middle and let down so far that nothing of it stands out.
        turn[:3, 3] = middle - turn[:3, :3] @ middle - [0, abs(np.sin([a, b])).max() * pieces.reach[k] * 1.5, 0]
        out[k] = turn @ out[k]
    if fallen is not None and falling:
        # Their first poses are those in which they still stand, whenever they are let go.
        own = fallen.fallen.at(when)[fallen.first_body : fallen.first_body + falling]
        out[:falling] = np.linalg.inv(m) @ own @ out[:falling]
    return out


def things(layer: BreakingLayer, sources: Sources, whens: Sequence[float], shown: bool) -> Filmed:
    """The pieces; and what of the footage hides the hollow and takes shadows: all round it, and what stays."""
    seat = sources.seat(layer.follow.target)
    if seat is None or max(whens) < layer.falls_from:
        return []
    m, pieces, fallen = surface_matrix(layer, *seat), _pieces(layer), sources.fallen(layer.id)
    path = sources.baked(layer.id, "pieces", lambda: _baked(layer, sources, m, pieces, fallen, real=False))
    at = tuple((0, max(when - layer.falls_from, 0) / sources.fps) for when in whens)
    every = Instance(model=path, stands=(m,) * len(whens), role="shown" if shown else "other", poses=at)
    corners = np.array([[*plate.min(axis=0), *plate.max(axis=0)] for plate in pieces.polygons])
    surface = box_corners((layer.wide, 0.0, layer.deep))
    round_it = []
    for when in whens:
        poses = _poses(layer, pieces, m, fallen, when)
        boxes = np.array([[[x, y, z, 1] for x in (c[0], c[2]) for y in (-layer.thick, 0) for z in (c[1], c[3])]
                          for c in corners])  # fmt: skip
        every_box = np.einsum("nij,nkj->nki", poses, boxes).reshape(-1, 4)
        # Where they were there is a hole.
        round_it.append(np.concatenate([every_box, np.column_stack([surface, np.ones(len(surface))])]) @ m.T[:, :3])
    out: Filmed = [(every, round_it)]
    if shown or layer.opens(max(whens)):
        rest = sources.baked(layer.id, "rest", lambda: _baked(layer, sources, m, pieces, fallen, real=True))
        about = Instance(model=rest, stands=(m,) * len(whens), role="real", poses=at)
        out.append((about, [stood(box_corners((layer.wide, 0.0, layer.deep)), about, k) for k in range(len(whens))]))
    return out


def _baked(
    layer: BreakingLayer, sources: Sources, m: F64, pieces: _Pieces, fallen: FallenLayer | None, *, real: bool
) -> tuple[str, bytes]:
    """The file of the pieces and the hollow; `real`: of what is in the footage as it was."""
    frames = int(np.ceil(layer.runs * 1.3)) + 2
    if fallen is not None:
        frames = max(frames, fallen.fallen.first + len(fallen.fallen.poses) - layer.falls_from)
    poses = np.stack([_poses(layer, pieces, m, fallen, layer.falls_from + k) for k in range(frames)])
    count = len(pieces.polygons)
    # One more for what does not move at all.
    poses = np.concatenate([poses, np.tile(np.eye(4), (frames, 1, 1, 1))], axis=1)
    plates = [plate_of(one, layer.thick) for one in pieces.polygons]
    stay = [k for k in range(count) if k >= _falling(layer, pieces) and (pieces.fast[k] or not layer.loosened)]
    if real:
        tops = [(plates[k][0], k) for k in stay]
        far = round_about(layer, layer.hollow + layer.thick)
        ring = ring_of(layer.wide, layer.deep, far)
        return dump_baked([_part([*tops, (ring, count)])], poses, sources.fps)
    colour, glow, most = faced(layer, sources)
    parts = []
    if moving := [(plates[k][0], k) for k in range(count) if k not in stay]:
        face = _part(moving)
        uv = face.corners[..., [0, 2]] / [layer.wide, -layer.deep] + 0.5
        parts.append(BakedPart(corners=face.corners, normals=face.normals, uv=uv, picture=colour, glow=glow, glow_most=most,
                               piece=face.piece))  # fmt: skip
    hollow = hollow_of(layer.wide, layer.deep, layer.hollow + layer.thick)
    inner = _part([*((plates[k][1], k) for k in range(count)), (hollow, count)])
    parts.append(BakedPart(corners=inner.corners, normals=inner.normals, uv=_laid_round(inner.corners, inner.normals),
                           picture=_inside(layer), piece=inner.piece))  # fmt: skip
    return dump_baked(parts, poses, sources.fps)


def _part(pieces: Sequence[tuple[F64, int]]) -> BakedPart:
    corners = np.concatenate([one for one, _ in pieces])
    of = np.concatenate([np.full(len(one), k, np.int64) for one, k in pieces])
    return BakedPart(corners=corners, normals=normals_of(corners), uv=np.zeros((*corners.shape[:2], 2)), piece=of)


def _laid_round(corners: F64, normals: F64) -> F64:
    """(m, 3, 2) where the picture of the inside lies on triangles: along the two axes that each faces least."""
    drop = np.abs(normals[:, 0]).argmax(axis=1)
    kept = np.array([[1, 2], [0, 2], [0, 1]])[drop]
    return np.asarray(np.take_along_axis(corners, np.repeat(kept[:, None], 3, axis=1), axis=2) * INSIDE_TURNS)


def _grain(seed: int) -> U8:
    """(128, 128, 3) 8-bit: uneven grey about white, for what is broken."""
    rng = np.random.default_rng([seed, 5])
    total = np.zeros((128, 128))
    for cell, share in ((2, 0.5), (5, 0.35), (16, 0.3)):
        rough = rng.standard_normal((128 // cell + 2, 128 // cell + 2)).astype(np.float32)
        total += share * cv2.resize(rough, (128, 128), interpolation=cv2.INTER_CUBIC)
    return np.asarray(np.repeat(np.clip(205 + 28 * total, 90, 255)[..., None], 3, axis=2), np.uint8)


def _inside(layer: BreakingLayer) -> U8:
    """(128, 128, 3) 8-bit sRGB codes of what it is made of."""
    grain = _grain(layer.seed).astype(np.float32) / 255
    return np.asarray(encode_8bit(np.asarray(grain * linear_of(layer.inside), np.float32)), np.uint8)


def draw(layer: BreakingLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The broken surface at a frame; nothing before it begins."""
    if frame < layer.falls_from or value_at(layer.opacity, frame) <= 0:
        return CLEAR
    return draw_worked(layer, sources, frame, size, view)


LAYERS.add(LayerEntry(
    kind="breaking", order=54, label="Breaking surface", settings=BreakingLayer, run=draw,
    help="A floor or wall of the footage that cracks, and of which pieces fall.",
    traits=frozenset({"standing", "follows", "filmed"}), handles="standing", things=things, bodies=bodies_of,
    shadowless=lambda layer: layer.model_copy(update={"shadow_strength": 0.0}),
    groups=("Surface", "Cracks", "Falls", "Stands", "Filmed", "Light", "Shadow ground", "Haze", "Mix"),
    card={"": "Breaks"},
    says={"": "The plate's own surface in pieces: drag it over the ground to where it breaks"},
))  # fmt: skip
