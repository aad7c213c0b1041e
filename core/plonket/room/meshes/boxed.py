"""Models that are made into one GLB: USD, and those of several files in a ZIP, glTF, OBJ or USD with what they name."""

from __future__ import annotations

import io
import json
import lzma
import posixpath
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from urllib.parse import unquote

from plonket.base.errors import FormatError
from plonket.room.meshes.gltf.container import inline_data
from plonket.room.meshes.gltf.writing import glb
from plonket.room.meshes.usd.opening import USD, open_in, opened
from plonket.room.meshes.usd.to_glb import glb_of_stage

LEADING = (".glb", ".gltf", *USD, ".obj")
"""What a model is called by, the best first."""
MOST_BYTES = 400 * 1024**2
MOST_FILES = 2000


def holds_model(path: Path) -> bool:
    """Whether a ZIP holds a model, by the names in it alone."""
    try:
        with zipfile.ZipFile(path) as box:
            return _leading(box) is not None
    except (zipfile.BadZipFile, OSError, ValueError):
        return False


def boxed_model(path: Path, out: Path) -> None:
    """Write a USD model, or that which a ZIP holds, as one GLB. Raises `FormatError` where it is damaged, too large or not
    whole."""
    if path.suffix.lower() in USD:
        out.write_bytes(usd_as_glb(path))
        return
    try:
        with zipfile.ZipFile(path) as box:
            files = _files(path.name, box)
            leading = _leading(box)
            if leading is None:
                raise FormatError("model.empty", f"{path.name} holds no 3D model.")
            data = _read(path.name, files, leading)
            if leading.lower().endswith(USD):
                data = _of_usd(path.name, files, leading)
            elif leading.lower().endswith(".obj"):
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


def usd_as_glb(path: Path) -> bytes:
    """A USD model as one GLB. Raises `FormatError`."""
    with opened(path) as (stage, folder):
        return glb_of_stage(stage, folder, path.name)


def _of_usd(name: str, files: _Files, leading: str) -> bytes:
    """A USD model with what it names, laid out in a folder of its own for as long as it is read."""
    with TemporaryDirectory(prefix="plonket-usd-") as aside:
        folder = Path(aside).resolve()
        for place in files.known:
            target = (folder / place).resolve()
            if not target.is_relative_to(folder):
                raise FormatError("model.beside", f"{name} names files outside itself.")
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(_read(name, files, place))
        main = folder / posixpath.normpath(leading)
        return usd_as_glb(main) if main.suffix.lower() == ".usdz" else glb_of_stage(open_in(main, folder, name), folder, name)


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
