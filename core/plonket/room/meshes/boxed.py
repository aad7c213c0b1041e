"""A model that comes as several files, in a ZIP: glTF or OBJ with what they name, made into one GLB."""

from __future__ import annotations

import io
import json
import lzma
import posixpath
import struct
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from plonket.base.errors import FormatError
from plonket.room.meshes.gltf.container import inline_data

LEADING = (".glb", ".gltf", ".obj")
"""What a model is called by, the best first."""
MOST_BYTES = 400 * 1024**2
MOST_FILES = 2000
MAGIC, JSON_CHUNK, BINARY_CHUNK = 0x46546C67, 0x4E4F534A, 0x004E4942


def holds_model(path: Path) -> bool:
    """Whether a ZIP holds a model, by the names in it alone."""
    try:
        with zipfile.ZipFile(path) as box:
            return _leading(box) is not None
    except (zipfile.BadZipFile, OSError, ValueError):
        return False


def boxed_model(path: Path, out: Path) -> None:
    """Write the model that a ZIP holds as one GLB. Raises `FormatError` where it is damaged, too large or not whole."""
    try:
        with zipfile.ZipFile(path) as box:
            files = _files(path.name, box)
            leading = _leading(box)
            if leading is None:
                raise FormatError("model.empty", f"{path.name} holds no 3D model.")
            data = _read(path.name, files, leading)
            if leading.lower().endswith(".obj"):
                data = _of_obj(path.name, files, leading, data)
            elif data[:4] != b"glTF":
                data = _of_gltf(path.name, files, leading, data)
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, zlib.error, lzma.LZMAError, ValueError) as error:
        raise FormatError("model.zip", f"{path.name} cannot be read as a ZIP file of a model.") from error
    out.write_bytes(data)


def _leading(box: zipfile.ZipFile) -> str | None:
    names = [n for n in box.namelist() if n.lower().endswith(LEADING) and not n.startswith("__MACOSX")]
    # The outermost one of the best sort.
    names.sort(key=lambda n: (LEADING.index(Path(n).suffix.lower()), n.count("/"), n))
    return names[0] if names else None


class _Files:
    """The files of a ZIP by where they lie; never more of them unpacked than all together may take."""

    def __init__(self, box: zipfile.ZipFile) -> None:
        self.box, self.left = box, MOST_BYTES
        self.known = {posixpath.normpath(i.filename): i for i in box.infolist() if not i.is_dir()}

    def bytes(self, place: str) -> bytes | None:
        about = self.known.get(posixpath.normpath(place))
        if about is None:
            return None
        with self.box.open(about) as file:
            # Its own word on its size is not taken.
            data = file.read(self.left + 1)
        self.left -= len(data)
        if self.left < 0:
            raise FormatError("model.size", "This ZIP unfolds to more than 400 MB. Make its textures smaller first.")
        return data


def _files(name: str, box: zipfile.ZipFile) -> _Files:
    if len(box.namelist()) > MOST_FILES:
        raise FormatError("model.zip", f"{name} holds more than {MOST_FILES} files.")
    return _Files(box)


def _read(name: str, files: _Files, place: str) -> bytes:
    data = files.bytes(place)
    if data is None:
        raise FormatError("model.beside", f"{name} does not hold {posixpath.basename(place)}, which its model names.")
    return data


def _of_gltf(name: str, files: _Files, leading: str, text: bytes) -> bytes:
    """A glTF with its buffers and pictures put into it."""
    try:
        document: dict[str, Any] = json.loads(text)
        buffers, images = document.get("buffers", []), document.get("images", [])
        views = document.setdefault("bufferViews", [])
        body, starts = bytearray(), []
        for buffer in buffers:
            body += bytes(-len(body) % 4)
            starts.append(len(body))
            body += _named(name, files, leading, buffer.get("uri"))
        for view in views:
            view["byteOffset"] = view.get("byteOffset", 0) + starts[view.get("buffer", 0)]
            view["buffer"] = 0
        for image in images:
            address = image.get("uri")
            if address is None or address.startswith("data:"):
                continue
            data = _named(name, files, leading, address)
            body += bytes(-len(body) % 4)
            views.append({"buffer": 0, "byteOffset": len(body), "byteLength": len(data)})
            del image["uri"]
            image |= {"bufferView": len(views) - 1, "mimeType": "image/png" if data[:4] == b"\x89PNG" else "image/jpeg"}
            body += data
    except (AttributeError, KeyError, TypeError, IndexError, RecursionError) as error:
        raise FormatError("model.unreadable", f"{name} could not be read as a 3D model.") from error
    document["buffers"] = [{"byteLength": len(body)}] if body else []
    return glb(document, bytes(body))


def _named(name: str, files: _Files, leading: str, address: Any) -> bytes:
    """What a model names: as data in its own address, or beside it in the ZIP and nowhere else."""
    if isinstance(address, str) and not address.startswith("data:"):
        return _read(name, files, posixpath.join(posixpath.dirname(leading), unquote(address)))
    return inline_data(name, address)


def _of_obj(name: str, files: _Files, leading: str, data: bytes) -> bytes:
    import trimesh

    class Beside(Mapping[str, bytes]):
        """Gives what an OBJ names, out of the ZIP alone."""

        def __getitem__(self, asked: str) -> bytes:
            found = files.bytes(posixpath.join(posixpath.dirname(leading), asked.replace("\\", "/")))
            if found is None:
                raise KeyError(asked)
            return found

        def __iter__(self) -> Iterator[str]:
            return iter(files.known)

        def __len__(self) -> int:
            return len(files.known)

    try:
        scene = trimesh.load_scene(io.BytesIO(data), file_type="obj", resolver=Beside())
        for mesh in scene.geometry.values():
            material: Any = getattr(getattr(mesh, "visual", None), "material", None)
            if hasattr(material, "to_pbr"):
                # Its name would be lost on the way.
                mesh.visual.material = material.to_pbr()
                mesh.visual.material.name = material.name
        return bytes(scene.export(file_type="glb"))  # type: ignore[no-untyped-call]
    except (FormatError, MemoryError):
        raise
    except Exception as error:  # trimesh raises whatever its parsers do
        raise FormatError("model.unreadable", f"{name} could not be read as a 3D model.") from error


def glb(document: dict[str, Any], body: bytes) -> bytes:
    """A GLB of its JSON and its binary chunk."""
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    body += bytes(-len(body) % 4)
    chunks = struct.pack("<II", len(text), JSON_CHUNK) + text
    if body:
        chunks += struct.pack("<II", len(body), BINARY_CHUNK) + body
    return struct.pack("<III", MAGIC, 2, 12 + len(chunks)) + chunks
