"""Where particles begin that come off things: all over their surface, or along their edges."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.room.meshes.thing import Body, Thing, unit_normals


def come_off(
    things: Sequence[Thing], part: str, dice: F64, turned: F64, leaves: F64, moments: F64, of: NDArray[np.intp], now: float
) -> tuple[F64, F64] | None:
    """Places (n, 3) in the room, evenly by area or length, and unit ways (n, 3) out of the things there.

    Parameters
    ----------
    part : `surface` or `edges`. dice : (n, 3) from -1 to 1. turned, leaves : (n,) radians by which they go aside of straight
        out. moments : (k,) frames, of which `of` (n,) is each one's: it begins where things stood then. now : the frame at
        which things are measured.

    Returns
    -------
    None where there is nothing that anything could come off.
    """
    spans: list[F64] = []
    sizes: list[F64] = []
    outs: list[F64] = []
    owner: list[NDArray[np.int64]] = []
    used = [thing for thing in things if len(_part(thing.body, part)[0])]
    for thing in used:
        corners, out = _part(thing.body, part)
        for stand in thing.stands(now):
            ways = (corners[:, 1:] - corners[:, :1]) @ stand[:3, :3].T
            sizes.append(np.linalg.norm(np.cross(ways[:, 0], ways[:, 1]) / 2 if part == "surface" else ways[:, 0], axis=1))
            spans.append(corners)
            outs.append(out)
            owner.append(np.full(len(corners), len(owner)))
    if not owner or not (total := np.cumsum(np.concatenate(sizes)))[-1] > 0:
        return None
    u = (dice + 1) / 2
    which = np.minimum(np.searchsorted(total, u[:, 0] * total[-1], side="right"), len(total) - 1)
    corners, out, mine = np.concatenate(spans)[which], np.concatenate(outs)[which], np.concatenate(owner)[which]
    if part == "surface":
        root = np.sqrt(u[:, 1])
        weights = np.stack([1 - root, root * (1 - u[:, 2]), root * u[:, 2]], axis=1)
    else:
        weights = np.stack([1 - u[:, 1], u[:, 1]], axis=1)
    own = np.einsum("nk,nkj->nj", weights, corners)
    stood = [[m for thing in used for m in thing.stands(float(moment))] for moment in moments]
    stands = np.array(stood)[of, mine]
    place = np.einsum("nij,nj->ni", stands[:, :3, :3], own) + stands[:, :3, 3]
    n = np.einsum("nji,nj->ni", np.linalg.inv(stands[:, :3, :3]), out)
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-12)
    # Two ways along the surface, whichever way it faces.
    along = np.cross(n, np.where(np.abs(n[:, 1:2]) < 0.9, [[0.0, 1.0, 0.0]], [[1.0, 0.0, 0.0]]))
    along /= np.linalg.norm(along, axis=1, keepdims=True)
    across = np.cross(n, along)
    c, s = np.cos(turned)[:, None], np.sin(turned)[:, None]
    way = n * c * np.cos(leaves)[:, None] + along * s + across * c * np.sin(leaves)[:, None]
    return place, way


def _part(body: Body, part: str) -> tuple[F64, F64]:
    """Its triangles (m, 3, 3) or edges (m, 2, 3), and which way out each is (m, 3)."""
    return (body.corners, unit_normals(body.corners)) if part == "surface" else body.edges
