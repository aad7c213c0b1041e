"""The layers of a shot one by one, for compositing in other programs."""

from __future__ import annotations

import json
import shutil
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Literal

from plonket.base.fields import choice, switch
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.media.failures import media_errors
from plonket.outputs.common import Piece, Sheet, Writing
from plonket.outputs.layers import PAGE, write_frame
from plonket.outputs.layers_page import WORDS, About, page_of, words_of
from plonket.outputs.picture import Finished

NOTE = "order.json"
EXR = {"picture": ("exr", "exr-one")}


class Parts(OutputBase):
    """A folder for every layer, with the passes of each frame."""

    kind: Literal["layers"] = "layers"
    picture: Literal["exr", "exr-one", "png"] = choice(
        "exr", label="As", group="File",
        names={"exr": "EXR, a folder a layer", "exr-one": "EXR, all in one", "png": "PNG, 16 bits"})  # fmt: skip
    shadow: bool = switch(True, label="Shadows", group="File", help="What each layer takes off what lies behind it.")
    reflection: bool = switch(True, label="Reflections", group="File", help="What the ground mirrors of each layer.")
    matte: bool = switch(True, label="Mattes", group="File", help="What each layer covers.")
    depth: bool = switch(True, label="Depth", group="File", when=EXR, help="Metres along the camera's axis, where known.")
    normals: bool = switch(False, label="Normals", group="File", when=EXR, help="Which way surfaces face.")
    cameras: bool = switch(True, label="Cameras", group="File",
                           help="As JSON, GLB and USDZ with what stands in their rooms, and how lenses bend.")  # fmt: skip
    picked: bool = switch(True, label="Things picked out", group="File",
                          help="Each matte among the motions, a picture a frame.")  # fmt: skip


def wanted_by(output: Parts) -> list[str]:
    """The passes that are wanted."""
    deep = ("depth", "normals") if output.picture != "png" else ()
    return ["beauty", *(name for name in ("shadow", "reflection", "matte", *deep) if getattr(output, name))]


class PartsPiece:
    """Takes frames apart into folders."""

    def __init__(self, output: Parts, folder: Path, piece: Piece) -> None:
        self._output, self._folder, self._piece = output, folder, piece
        self._at = piece.first
        self._order: dict[str, dict[str, str]] = {}

    def write(self, picture: Finished) -> None:
        with media_errors(self._folder, "written"):
            for told in write_frame(self._folder, self._at, picture.parts(), self._output.picture, wanted_by(self._output)):
                self._order.setdefault(told["folder"], told)
        self._at += 1

    def __enter__(self) -> PartsPiece:
        self._folder.mkdir(parents=True, exist_ok=True)
        return self

    def __exit__(self, *_: object) -> None:
        about = {"start": self._piece.start, "end": self._at, "layers": list(self._order.values())}
        (self._folder / NOTE).write_text(json.dumps(about))


def _piece(output: Parts, path: Path, piece: Piece) -> Writing:
    return PartsPiece(output, path, piece)


def _joined(output: Parts, pieces: list[Path], out: Path, sheet: Sheet) -> None:
    order: dict[str, dict[str, str]] = {}
    start = end = 0
    for piece in pieces:
        about = json.loads((piece / NOTE).read_text())
        start, end = about["start"], about["end"]
        for told in about["layers"]:
            order.setdefault(told["folder"], told)
    files = sorted((file.relative_to(piece), file) for piece in pieces for file in piece.rglob("*.*") if file.name != NOTE)
    with media_errors(out, "written"), _folder(out) as folder:
        for place, file in files:
            sheet.work.check_cancelled()
            folder.copy(place, file)
        more = []
        for name, data in sheet.beside(output.cameras, output.picked):
            sheet.work.check_cancelled()
            folder.write(Path(name), data)
            more.append(name)
        about = About(first=start, frames=end, fps=str(sheet.rate), size=sheet.size, kind=output.picture,
                      wanted=wanted_by(output), layers=list(order.values()), beside=more)  # fmt: skip
        folder.write(Path(PAGE), page_of(about).encode())
        folder.write(Path(WORDS), words_of(about).encode())


class _Plain:
    """A folder."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def copy(self, place: Path, file: Path) -> None:
        (self._path / place).parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(file, self._path / place)

    def write(self, place: Path, data: bytes) -> None:
        (self._path / place).parent.mkdir(parents=True, exist_ok=True)
        (self._path / place).write_bytes(data)


class _Box:
    """The same in a ZIP, stored as it is."""

    def __init__(self, box: zipfile.ZipFile) -> None:
        self._box = box

    def copy(self, place: Path, file: Path) -> None:
        self._box.write(file, place.as_posix())

    def write(self, place: Path, data: bytes) -> None:
        self._box.writestr(zipfile.ZipInfo(place.as_posix()), data)


@contextmanager
def _folder(out: Path) -> Iterator[_Plain | _Box]:
    if out.suffix.lower() != ".zip":
        yield _Plain(out)
        return
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as box:
        yield _Box(box)


OUTPUTS.add(OutputEntry(
    kind="layers", label="Layers, one by one", order=115, settings=Parts, run=_piece, joined=_joined, ending=lambda _: ".zip",
    groups=("File",), traits=frozenset({"pictures", "parts"}),
    help="A folder for the plate and for each layer, for compositing; a page says how they go together.",
))  # fmt: skip
