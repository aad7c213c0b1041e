"""From the nodes of a glTF file to the parts of a model, at rest and as its animations move it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, quaternion_to_matrix
from plonket.base.errors import FormatError
from plonket.room.meshes.creased import creased
from plonket.room.meshes.gltf.container import Container, table
from plonket.room.meshes.gltf.lights import lights_of
from plonket.room.meshes.gltf.materials import Materials
from plonket.room.meshes.gltf.movement import Movement, Property, read_movements
from plonket.room.meshes.mesh import Clip, Material, Mesh, Part

MOST_FACES = 2_000_000
MOST_NODES = 20_000
MOST_DEEP = 200
REST = -1
"""The clip in which nothing moves."""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Piece:
    """A primitive where it hangs: at a node, of a mesh with shapes to mix, perhaps on a skin.

    Attributes
    ----------
    corner : (3 m,) vertex of each corner of each face. places : (n, 3). ways : (3 m, 3) its normals. shapes : (k, n, 3) and
    shape_ways (k, 3 m, 3) what each adds at full weight. joints, weights : (n, 4 or 8) of its skin.
    """

    node: int
    corner: NDArray[np.int64]
    places: F64
    ways: F64
    uv: F64
    material: Material
    tints: F32 | None
    shapes: F64
    shape_ways: F64
    rest_weights: F64
    skin: int | None
    joints: NDArray[np.int64] | None
    weights: F64 | None


class Scene:
    """The nodes of a file with what hangs on them."""

    def __init__(self, data: bytes, name: str) -> None:
        self.file = file = Container(data, name)
        self.nodes = file.all("nodes")
        if len(self.nodes) > MOST_NODES:
            raise FormatError("model.large", f"{name} has too many nodes. Join some of them first.")
        self.order, self.parent = self._walked()
        self._check_size(name)
        self.skins = [self._skin(one) for one in file.all("skins")]
        materials = Materials(file)
        self.pieces = [p for node in self.order for p in self._pieces(node, materials)]
        self.movements = read_movements(file, len(self.nodes))

    def _walked(self) -> tuple[list[int], list[int]]:
        """Nodes of the scene from its roots down, and the parent of each; -1 for a root."""
        file = self.file
        scenes = file.all("scenes")
        roots = (file.listed(file.one("scenes", file.json.get("scene", 0)), "nodes") if scenes
                 else sorted(set(range(len(self.nodes))) - {c for n in self.nodes for c in file.listed(n, "children")
                                                             if isinstance(c, int)}))  # fmt: skip
        parent = [-1] * len(self.nodes)
        order: list[int] = []
        seen: set[int] = set()
        left = [(root, -1, 0) for root in reversed(roots)]
        while left:
            node, above, deep = left.pop()
            file.one("nodes", node)
            if node in seen or deep > MOST_DEEP:
                raise file.broken("its nodes hang on each other in a circle")
            seen.add(node)
            order.append(node)
            parent[node] = above
            left += [(child, node, deep + 1) for child in reversed(file.listed(self.nodes[node], "children"))]
        return order, parent

    def _check_size(self, name: str) -> None:
        """Before anything is unpacked: how many faces all of it has."""
        total = 0
        for node in self.order:
            if "mesh" not in self.nodes[node]:
                continue
            for primitive in self.file.listed(self.file.one("meshes", self.nodes[node]["mesh"]), "primitives"):
                given = primitive.get("indices", table(primitive, "attributes").get("POSITION"))
                count = self.file.one("accessors", given).get("count", 0)
                total += count // (3 if primitive.get("mode", 4) == 4 else 1) if isinstance(count, int) else 0
        if total > MOST_FACES:
            raise FormatError("model.large", f"{name} has more than two million faces. Reduce it first.")

    def _skin(self, about: dict[str, Any]) -> tuple[list[int], F64]:
        joints = self.file.listed(about, "joints")
        for one in joints:
            self.file.one("nodes", one)
        if "inverseBindMatrices" not in about:
            return joints, np.tile(np.eye(4), (len(joints), 1, 1))
        given = self.file.accessor(about["inverseBindMatrices"])
        if given.shape[1] != 16 or len(given) < len(joints):
            raise self.file.broken("a skin has too few matrices")
        return joints, given[: len(joints)].reshape(-1, 4, 4).transpose(0, 2, 1)

    def _pieces(self, node: int, materials: Materials) -> list[_Piece]:
        file, about = self.file, self.nodes[node]
        if "mesh" not in about:
            return []
        mesh = file.one("meshes", about["mesh"])
        out = []
        for primitive in file.listed(mesh, "primitives"):
            attributes = table(primitive, "attributes")
            if primitive.get("mode", 4) not in (4, 5, 6) or "POSITION" not in attributes:
                continue
            places = self._vectors(attributes["POSITION"], 3)
            faces = self._faces(primitive, len(places))
            if not len(faces):
                continue
            corner = faces.ravel()
            if "NORMAL" in attributes:
                ways = self._vectors(attributes["NORMAL"], 3, len(places))[corner]
            else:
                ways = creased(places, faces)
            n = len(places)
            uv = self._vectors(attributes["TEXCOORD_0"], 2, n) if "TEXCOORD_0" in attributes else np.zeros((n, 2))
            targets = [t for t in file.listed(primitive, "targets") if isinstance(t, dict)]
            shapes = [self._vectors(t["POSITION"], 3, n) if "POSITION" in t else np.zeros((n, 3)) for t in targets]
            none = np.zeros((len(corner), 3))
            turned = [self._vectors(t["NORMAL"], 3, n)[corner] if "NORMAL" in t else none for t in targets]
            joints, weights, skin = self._bound(about, attributes, n)
            given = about.get("weights", mesh.get("weights"))
            out.append(_Piece(
                node=node, corner=corner, places=places, ways=ways, uv=uv * [1, -1] + [0, 1], tints=self._tints(attributes, n),
                material=materials.of(primitive.get("material")), shapes=np.array(shapes).reshape(-1, n, 3),
                shape_ways=np.array(turned).reshape(-1, len(corner), 3), skin=skin, joints=joints, weights=weights,
                rest_weights=file.numbers(given, len(targets), (0.0,) * len(targets)),
            ))  # fmt: skip
        return out

    def _vectors(self, accessor: Any, columns: int, count: int | None = None) -> F64:
        out = self.file.accessor(accessor)
        if out.shape[1] < columns or (count is not None and len(out) != count):
            raise self.file.broken("its data does not fit together")
        return np.asarray(out[:, :columns], np.float64)

    def _tints(self, attributes: dict[str, Any], n: int) -> F32 | None:
        if "COLOR_0" not in attributes:
            return None
        found = np.clip(self._vectors(attributes["COLOR_0"], 3, n), 0, 1).astype(np.float32)
        return None if found.min(initial=1) >= 0.999 else found

    def _faces(self, primitive: dict[str, Any], count: int) -> NDArray[np.int64]:
        at = self.file.accessor(primitive["indices"])[:, 0].astype(np.int64) if "indices" in primitive else np.arange(count)
        if len(at) and (at.min() < 0 or at.max() >= count):
            raise self.file.broken("a face has corners that are not there")
        mode = primitive.get("mode", 4)
        if mode == 4:
            return at[: len(at) // 3 * 3].reshape(-1, 3)
        if len(at) < 3:
            return np.zeros((0, 3), np.int64)
        if mode == 6:
            return np.stack([np.full(len(at) - 2, at[0]), at[1:-1], at[2:]], axis=1)
        out = np.stack([at[:-2], at[1:-1], at[2:]], axis=1)
        out[1::2] = out[1::2, [1, 0, 2]]
        return out

    def _bound(
        self, node: dict[str, Any], attributes: dict[str, Any], n: int
    ) -> tuple[NDArray[np.int64] | None, F64 | None, int | None]:
        """Joints and weights of vertices and their skin, where they hang on one."""
        if "skin" not in node or "JOINTS_0" not in attributes or "WEIGHTS_0" not in attributes:
            return None, None, None
        self.file.one("skins", node["skin"])
        sets = [k for k in range(2) if f"JOINTS_{k}" in attributes and f"WEIGHTS_{k}" in attributes]
        joints = np.concatenate([self._vectors(attributes[f"JOINTS_{k}"], 4, n) for k in sets], axis=1).astype(np.int64)
        weights = np.concatenate([self._vectors(attributes[f"WEIGHTS_{k}"], 4, n) for k in sets], axis=1)
        if joints.min(initial=0) < 0 or joints.max(initial=0) >= len(self.skins[node["skin"]][0]):
            raise self.file.broken("a skin has joints that are not there")
        return joints, weights / np.maximum(weights.sum(axis=1, keepdims=True), 1e-9), int(node["skin"])

    def world(self, movement: Movement | None, seconds: float) -> F64:
        """(nodes, 4, 4) where each node is at a moment."""
        out = np.tile(np.eye(4), (len(self.nodes), 1, 1))
        for node in self.order:
            local = local_at(self.file, node, {} if movement is None else movement.at(node, seconds))
            out[node] = local if self.parent[node] < 0 else out[self.parent[node]] @ local
        return out

    def posed(self, clip: int, seconds: float) -> list[tuple[F64, F64]]:
        """Vertices (3 m, 3) and normals (3 m, 3), a row a corner, of every piece."""
        movement = self.movements[clip] if 0 <= clip < len(self.movements) else None
        world = self.world(movement, seconds)
        return [self._piece_at(piece, world, movement, seconds) for piece in self.pieces]

    def _piece_at(self, piece: _Piece, world: F64, movement: Movement | None, seconds: float) -> tuple[F64, F64]:
        places, ways = piece.places, piece.ways
        if len(piece.shapes):
            told = None if movement is None else movement.at(piece.node, seconds).get("weights")
            share = piece.rest_weights if told is None or len(told) != len(piece.shapes) else told
            # Of a surface told frame by frame, all but two are nought.
            on = np.flatnonzero(share)
            places = places + np.tensordot(share[on], piece.shapes[on], 1)
            ways = ways + np.tensordot(share[on], piece.shape_ways[on], 1)
        if piece.skin is None or piece.joints is None or piece.weights is None:
            m = world[piece.node]
            moved = (places @ m[:3, :3].T + m[:3, 3])[piece.corner]
            turned = ways @ _turning(m[:3, :3]).T
        else:
            joints, back = self.skins[piece.skin]
            bones = world[joints] @ back
            m = np.einsum("nk,nkij->nij", piece.weights, bones[piece.joints])
            moved = (np.einsum("nij,nj->ni", m[:, :3, :3], places) + m[:, :3, 3])[piece.corner]
            turned = np.einsum("nij,nj->ni", m[piece.corner, :3, :3], ways)
        turned = turned / np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-12)
        return moved, turned


def local_at(file: Container, node: int, moved: Mapping[Property, F64]) -> F64:
    """(4, 4) from a node to the one that it hangs on, as the file has it and an animation moves it."""
    about = file.one("nodes", node)
    if "matrix" in about and not moved:
        return file.numbers(about["matrix"], 16, (0.0,) * 16).reshape(4, 4).T
    turn = file.numbers(moved.get("rotation", about.get("rotation")), 4, (0, 0, 0, 1))
    scale = file.numbers(moved.get("scale", about.get("scale")), 3, (1, 1, 1))
    out = np.eye(4)
    out[:3, :3] = quaternion_to_matrix(turn / max(float(np.linalg.norm(turn)), 1e-12)) * scale
    out[:3, 3] = file.numbers(moved.get("translation", about.get("translation")), 3, (0, 0, 0))
    return out


def read_gltf(data: bytes, name: str) -> Mesh:
    """A model in glTF 2.0, called `name` in what is said of it. Raises `FormatError` in plain words."""
    scene = Scene(data, name)
    rest = scene.posed(REST, 0.0)
    if not rest:
        raise FormatError("model.empty", f"{name} has no surfaces to show.")
    low = np.min([v.min(axis=0) for v, _ in rest], axis=0)
    high = np.max([v.max(axis=0) for v, _ in rest], axis=0)
    if not np.isfinite([low, high]).all() or not (high - low).max() > 0:
        raise FormatError("model.extent", f"{name} has no extent that can be shown.")
    foot = np.array([(low[0] + high[0]) / 2, low[1], (low[2] + high[2]) / 2])
    parts = tuple(
        Part(
            vertices=vertices - foot, faces=np.arange(len(vertices)).reshape(-1, 3), uv=piece.uv[piece.corner], normals=normals,
            material=piece.material, tints=None if piece.tints is None else piece.tints[piece.corner],
        )
        for piece, (vertices, normals) in zip(scene.pieces, rest, strict=True)
    )
    clips = tuple(Clip(name=m.name, seconds=m.seconds) for m in scene.movements)

    def posed(clip: int, seconds: float) -> list[tuple[F64, F64]]:
        return [(vertices - foot, normals) for vertices, normals in scene.posed(clip, seconds)]

    lights = lights_of(scene.file, scene.order, scene.world(None, 0.0), foot)
    return Mesh(parts=parts, size=high - low, lights=lights, clips=clips, posed=posed if clips else None)


def _turning(m: F64) -> F64:
    """What turns normals where places are turned and stretched by `m`."""
    return np.asarray(np.linalg.inv(m).T) if abs(np.linalg.det(m)) > 1e-12 else m
