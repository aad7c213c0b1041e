"""Numbered pictures in a ZIP file: how a folder of PNGs comes in through the browser."""

from __future__ import annotations

import lzma
import shutil
import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from plonket.base.errors import MediaError
from plonket.media.sequence import in_order, numbers_of
from plonket.media.stills import PICTURES
from plonket_server import store

ENDING = ".zip"
MOST_PICTURES = 20_000
MOST_BYTES = 24 * 1024**3


@contextmanager
def readable(source: Path) -> Iterator[Path]:
    """The file itself, or a folder with a ZIP's pictures for as long as it is needed. Raises `MediaError`.

    Pictures are taken in the order of their numbers and get names of ours, by which it still shows where one is missing: what
    stands in the file is never used as a path.
    """
    if source.suffix.lower() != ENDING:
        yield source
        return
    folder = Path(tempfile.mkdtemp(dir=_scratch()))
    try:
        _unpack(source, folder)
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _scratch() -> Path:
    path = store.root() / "unpacked"
    path.mkdir(parents=True, exist_ok=True)
    return path


def _unpack(source: Path, folder: Path) -> None:
    try:
        with zipfile.ZipFile(source) as box:
            found = [m for m in box.infolist() if not m.is_dir() and _is_picture(m.filename)]
            inside = {Path(m.filename.replace("\\", "/")): m for m in found}
            ordered = in_order(list(inside))
            pictures = [inside[path] for path in ordered]
            numbers = numbers_of([path.name for path in ordered]) or range(len(pictures))
            if not pictures:
                raise MediaError("media.zip_empty", f"{source.name} holds no pictures. Put numbered PNG files into it.")
            size = sum(m.file_size for m in pictures)
            if len(pictures) > MOST_PICTURES or size > MOST_BYTES:
                raise MediaError(
                    "media.zip_size", f"{source.name} holds {len(pictures)} pictures of {size / 1e9:.1f} GB; that is too much."
                )
            store.check_room(size)
            for k, member in zip(numbers, pictures, strict=True):
                target = folder / f"{k:06d}{Path(member.filename).suffix.lower()}"
                with box.open(member) as data, target.open("wb") as out:
                    shutil.copyfileobj(data, out)
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, zlib.error, lzma.LZMAError, ValueError) as error:
        raise MediaError("media.zip", f"{source.name} cannot be read as a ZIP file of pictures.") from error


def _is_picture(name: str) -> bool:
    last = name.replace("\\", "/").rsplit("/", 1)[-1]
    return Path(last).suffix.lower() in PICTURES and not last.startswith((".", "__"))
