"""The container of glTF 2.0: JSON, buffers and accessors, all of it checked before it is believed.

Nothing but the file itself is read: buffers and pictures lie in it, as a binary chunk or as data of their address.
"""

from __future__ import annotations

import base64
import binascii
import json
import struct
from typing import Any

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import FormatError

MOST_VALUES = 60_000_000
"""Numbers of one accessor: five million triangles have fewer."""
KINDS = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}
COLUMNS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
UNDERSTOOD = {
    "KHR_materials_emissive_strength", "KHR_materials_transmission", "KHR_materials_unlit", "KHR_texture_transform",
    "KHR_mesh_quantization", "EXT_texture_webp", "KHR_materials_ior", "KHR_materials_specular", "KHR_materials_volume",
    "KHR_materials_clearcoat", "KHR_materials_sheen", "KHR_lights_punctual", "KHR_materials_iridescence",
    "KHR_materials_anisotropy", "KHR_materials_dispersion", "KHR_materials_variants", "KHR_xmp_json_ld",
}  # fmt: skip
"""What a file may call for: shown, or looking only a little different without. Others change where things are."""
PACKED = {"KHR_draco_mesh_compression", "EXT_meshopt_compression", "KHR_texture_basisu"}


class Container:
    """A glTF file in memory, called `name` in errors. Raises `FormatError` with what is wrong, never an error of its own."""

    def __init__(self, data: bytes, name: str) -> None:
        self.name = name
        self._checked: dict[str, list[dict[str, Any]]] = {}
        chunk = b""
        if data[:4] == b"glTF":
            text, chunk = self._chunks(data)
        else:
            text = data
        try:
            self.json: dict[str, Any] = json.loads(text)
            version = str(self.json["asset"]["version"])
        except (ValueError, KeyError, TypeError, RecursionError) as error:
            raise self.broken("it is not a glTF file") from error
        if not version.startswith("2."):
            raise self.broken(f"it is glTF {version}, and 2 is read")
        wanted = self.listed(self.json, "extensionsRequired")
        if packed := sorted(PACKED.intersection(map(str, wanted))):
            raise FormatError("model.packed", f"{self.name} is compressed ({packed[0]}). Save it without that and try again.")
        if strange := sorted(set(map(str, wanted)) - UNDERSTOOD):
            why = f"{self.name} asks for {strange[0]}, which is not known here. Save it without."
            raise FormatError("model.extension", why)
        self._buffers: list[bytes] = [self._buffer(k, one, chunk) for k, one in enumerate(self.all("buffers"))]

    def broken(self, why: str) -> FormatError:
        return FormatError("model.unreadable", f"{self.name} could not be read as a 3D model: {why}.")

    def listed(self, of: dict[str, Any], key: str) -> list[Any]:
        found = of.get(key, [])
        if not isinstance(found, list):
            raise self.broken(f"its {key} are not a list")
        return found

    def all(self, key: str) -> list[dict[str, Any]]:
        """All entries of a kind: `nodes`, `meshes` ..., looked through once."""
        if key not in self._checked:
            found = self.listed(self.json, key)
            if not all(isinstance(one, dict) for one in found):
                raise self.broken(f"its {key} are not all objects")
            self._checked[key] = found
        return self._checked[key]

    def one(self, key: str, index: Any) -> dict[str, Any]:
        found = self.all(key)
        if not isinstance(index, int) or isinstance(index, bool) or not 0 <= index < len(found):
            raise self.broken(f"it has no {key} number {index}")
        return found[index]

    def numbers(self, given: Any, count: int, otherwise: tuple[float, ...]) -> F64:
        """So many finite numbers; what is there otherwise."""
        try:
            out = np.asarray(otherwise if given is None else given, np.float64).reshape(count)
        except (ValueError, TypeError) as error:
            raise self.broken("numbers are missing") from error
        if not np.isfinite(out).all():
            raise self.broken("it has numbers that are none")
        return out

    def number(self, of: dict[str, Any], key: str, otherwise: float) -> float:
        return float(self.numbers(None if of.get(key) is None else [of[key]], 1, (otherwise,))[0])

    def view(self, index: Any) -> tuple[memoryview, int]:
        """The bytes of a buffer view, and how far apart its elements lie, or 0."""
        about = self.one("bufferViews", index)
        given = [about.get("buffer"), about.get("byteOffset", 0), about.get("byteLength"), about.get("byteStride", 0)]
        which, start, length, stride = (v if isinstance(v, int) else -1 for v in given)
        whole = min(which, start, length, stride) >= 0 and which < len(self._buffers)
        if not whole or start + length > len(self._buffers[which]):
            raise self.broken("a part of its data is missing")
        return memoryview(self._buffers[which])[start : start + length], stride

    def accessor(self, index: Any) -> np.ndarray:
        """(n, columns) of an accessor: whole numbers as they are, normalised ones and others as float64."""
        about = self.one("accessors", index)
        kind, columns, count = KINDS.get(about.get("componentType", 0)), COLUMNS.get(about.get("type", "")), about.get("count")
        if kind is None or columns is None or not isinstance(count, int) or count < 0:
            raise self.broken("data is of no known kind")
        if count * columns > MOST_VALUES:
            raise FormatError("model.large", f"{self.name} is too large. Reduce it first.")
        if "bufferView" in about:
            out = self._values(about["bufferView"], about.get("byteOffset", 0), kind, count, columns)
        else:
            out = np.zeros((count, columns), kind)
        if "sparse" in about:
            out = self._sparse(about["sparse"], out, kind, columns)
        if about.get("normalized") and kind is not np.float32:
            return np.asarray(np.maximum(out / np.iinfo(out.dtype).max, -1.0))
        if kind is np.float32:
            out = out.astype(np.float64)
            if not np.isfinite(out).all():
                raise self.broken("it has places that are none")
        return out

    def _sparse(self, about: Any, out: np.ndarray, kind: type, columns: int) -> np.ndarray:
        try:
            count, at, values = about["count"], about["indices"], about["values"]
            where = self._values(at["bufferView"], at.get("byteOffset", 0), KINDS[at["componentType"]], count, 1)[:, 0]
            given = self._values(values["bufferView"], values.get("byteOffset", 0), kind, count, columns)
        except (KeyError, TypeError) as error:
            raise self.broken("a part of its data is missing") from error
        if len(where) and (where.min() < 0 or where.max() >= len(out)):
            raise self.broken("data lies beyond its end")
        out = out.copy()
        out[where] = given
        return out

    def _values(self, view: Any, offset: Any, kind: type, count: int, columns: int) -> np.ndarray:
        data, stride = self.view(view)
        size = np.dtype(kind).itemsize * columns
        step = stride or size
        ends = offset + (count - 1) * step + size if isinstance(offset, int) and count else 0
        if not isinstance(offset, int) or offset < 0 or step < size or ends > len(data):
            raise self.broken("data lies beyond its end")
        if not count:
            return np.zeros((0, columns), kind)
        plain = np.ndarray((count, columns), np.dtype(kind).newbyteorder("<"), data, offset, (step, np.dtype(kind).itemsize))
        return plain.astype(kind)

    def _chunks(self, data: bytes) -> tuple[bytes, bytes]:
        if len(data) < 20 or struct.unpack_from("<I", data, 4)[0] != 2 or struct.unpack_from("<I", data, 8)[0] > len(data):
            raise self.broken("it is cut off, or not glTF 2")
        at = 12
        found: dict[int, bytes] = {}
        while at + 8 <= len(data):
            length, kind = struct.unpack_from("<II", data, at)
            if at + 8 + length > len(data):
                raise self.broken("it is cut off")
            found.setdefault(kind, data[at + 8 : at + 8 + length])
            at += 8 + length
        if 0x4E4F534A not in found:
            raise self.broken("it describes nothing")
        return found[0x4E4F534A], found.get(0x004E4942, b"")

    def _buffer(self, k: int, about: dict[str, Any], chunk: bytes) -> bytes:
        address = about.get("uri")
        if address is None:
            if k:
                raise self.broken("a part of its data is missing")
            return chunk
        return self.inline(address)

    def inline(self, address: Any) -> bytes:
        """Data that stands in its own address."""
        return inline_data(self.name, address)


def table(of: dict[str, Any], key: str) -> dict[str, Any]:
    """An object within an object; an empty one where there is none."""
    found = of.get(key)
    return found if isinstance(found, dict) else {}


def inline_data(name: str, address: Any) -> bytes:
    """Data that stands in its own address. Raises `FormatError` where that names something else."""
    if not isinstance(address, str) or not address.startswith("data:"):
        raise FormatError("model.beside", f"{name} names files beside itself. Bring in a GLB, or a ZIP with all of its files.")
    head, _, body = address.partition(",")
    try:
        if head.endswith(";base64"):
            return base64.b64decode(body, validate=True)
    except (ValueError, binascii.Error) as error:
        raise FormatError("model.unreadable", f"{name} could not be read as a 3D model: a part is damaged.") from error
    raise FormatError("model.unreadable", f"{name} could not be read as a 3D model: a part is missing.")
