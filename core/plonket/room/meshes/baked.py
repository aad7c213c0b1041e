"""Models that are made for one shot and read by the renderer: parts, their one picture, and how they move, as arrays."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, U8
from plonket.room.meshes.mesh import Clip, Material, Mesh, Part, Texture

SUFFIX = ".baked"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class BakedPart:
    """Triangles of one look.

    Attributes
    ----------
    corners : (m, 3, 3) places, in metres. normals : (m, 3, 3). uv : (m, 3, 2), v up. picture : (h, w, 3) 8-bit sRGB codes of
    its colour, glow : the same of light of its own; None: none. colour : linear, where it has no picture. rough : 0 to 1.
    piece : (m,) which of `poses` moves it. raised : (m, 3, 3) and raised_normals : what `raise_` at 1 adds, or None.
    """

    corners: F64
    normals: F64
    uv: F64
    picture: U8 | None = None
    glow: U8 | None = None
    glow_most: float = 0.0
    colour: tuple[float, float, float] = (0.5, 0.5, 0.5)
    rough: float = 0.9
    piece: NDArray[np.int64] | None = None
    raised: F64 | None = None
    raised_normals: F64 | None = None


def dump_baked(parts: Sequence[BakedPart], poses: F64 | None = None, fps: float = 1.0) -> tuple[str, bytes]:
    """A name by what is in it, and the file.

    Parameters
    ----------
    poses : (frames, pieces, 4, 4) where each piece is in the model's own axes, `fps` frames a second.
    """
    arrays: dict[str, np.ndarray] = {"fps": np.array(fps), "count": np.array(len(parts))}
    if poses is not None:
        arrays["poses"] = np.asarray(poses, np.float32)
    for k, part in enumerate(parts):
        arrays |= {
            f"{k}.{name}": np.asarray(value, np.float32)
            for name, value in (("corners", part.corners), ("normals", part.normals), ("uv", part.uv), ("raised", part.raised),
                                ("raised_normals", part.raised_normals)) if value is not None
        }  # fmt: skip
        plain = (("picture", part.picture), ("glow", part.glow), ("piece", part.piece))
        arrays |= {f"{k}.{name}": value for name, value in plain if value is not None}
        arrays[f"{k}.look"] = np.array([*part.colour, part.rough, part.glow_most])
    sha = hashlib.sha256()
    for name in sorted(arrays):
        value = np.ascontiguousarray(arrays[name])
        sha.update(f"{name} {value.dtype} {value.shape} ".encode() + value.tobytes())
    out = io.BytesIO()
    np.savez(out, **arrays)  # type: ignore[arg-type]
    return sha.hexdigest() + SUFFIX, out.getvalue()


def read_baked(path: Path) -> Mesh:
    """The model in such a file; its one clip goes through its poses, or from nought to fully raised within a second."""
    with np.load(path, allow_pickle=False) as file:
        arrays = {name: file[name] for name in file.files}
    parts, count = [], int(arrays["count"])
    for k in range(count):
        colour, rough, most = arrays[f"{k}.look"][:3], float(arrays[f"{k}.look"][3]), float(arrays[f"{k}.look"][4])
        picture, glow = arrays.get(f"{k}.picture"), arrays.get(f"{k}.glow")
        linear = np.ones(3, np.float32) if picture is not None else colour.astype(np.float32)
        material = Material(
            name=f"part {k}", colour=linear, picture=None if picture is None else Texture(pixels=picture, wrap="clamp"),
            rough=rough, glow=(most, most, most) if glow is not None else (0.0, 0.0, 0.0),
            glow_picture=None if glow is None else Texture(pixels=glow, wrap="clamp"),
        )  # fmt: skip
        corners = _flat(arrays[f"{k}.corners"])
        parts.append(Part(vertices=corners, faces=np.arange(len(corners)).reshape(-1, 3), uv=_flat(arrays[f"{k}.uv"]),
                          normals=_flat(arrays[f"{k}.normals"]), material=material))  # fmt: skip
    every = np.concatenate([part.vertices for part in parts])
    size = np.maximum(np.ptp(every, axis=0), 1e-6)
    moved = [_Moved.of(arrays, k, part) for k, part in enumerate(parts)]
    poses = arrays.get("poses")
    fps = float(arrays["fps"])
    seconds = 1.0 if poses is None else len(poses) / fps

    def posed(_clip: int, at: float) -> list[tuple[F64, F64]]:
        return [one.at(None if poses is None else _between(poses, at * fps), at) for one in moved]

    return Mesh(parts=tuple(parts), size=size, clips=(Clip(name="", seconds=seconds),), posed=posed)


def _between(poses: F32, x: float) -> F64:
    x = float(np.clip(x, 0, len(poses) - 1))
    k = min(int(x), max(len(poses) - 2, 0))
    share = x - k
    # From one frame to the next turns are so small that the mean of both is one.
    mixed = poses[k] if share == 0 else (1 - share) * poses[k] + share * poses[k + 1]
    return np.asarray(mixed, np.float64)


def _flat(values: F32) -> F64:
    return values.reshape(-1, values.shape[-1]).astype(np.float64)


@dataclass(frozen=True, slots=True, eq=False)
class _Moved:
    vertices: F64
    normals: F64
    piece: NDArray[np.int64] | None
    raised: F64 | None
    raised_normals: F64 | None

    @staticmethod
    def of(arrays: dict[str, np.ndarray], k: int, part: Part) -> _Moved:
        piece = arrays.get(f"{k}.piece")
        more = [None if (found := arrays.get(f"{k}.{name}")) is None else _flat(found) for name in ("raised", "raised_normals")]
        return _Moved(part.vertices, part.normals, None if piece is None else np.repeat(piece, 3), *more)

    def at(self, poses: F64 | None, seconds: float) -> tuple[F64, F64]:
        vertices, normals = self.vertices, self.normals
        if self.raised is not None and self.raised_normals is not None:
            vertices, normals = vertices + seconds * self.raised, normals + seconds * self.raised_normals
        if poses is not None and self.piece is not None:
            m = poses[self.piece]
            vertices = np.einsum("nij,nj->ni", m[:, :3, :3], vertices) + m[:, :3, 3]
            normals = np.einsum("nij,nj->ni", m[:, :3, :3], normals)
        return vertices, normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
