"""Reading a pack: all of it is checked before anything is taken from it."""

from __future__ import annotations

import hashlib
import json
import lzma
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from pydantic import ValidationError

from plonket.base.errors import BadInput, FormatError, PlonketError
from plonket.base.progress import Work
from plonket.document.shot import Shot, read_shot
from plonket.pack.manifest import MANIFEST, MOST_MANIFEST_BYTES, SAFE, VERSION, Manifest, PackedFile, PackedShot, Steps
from plonket.pack.write import PIECE, wanted_by

MOST_TEXT_BYTES = 1024**3


class Pack:
    """An open pack. Made by `open_pack`, which has checked it."""

    def __init__(self, box: zipfile.ZipFile, manifest: Manifest, name: str) -> None:
        self._box, self.manifest, self._name = box, manifest, name
        self._files = {one.path: one for one in manifest.files}

    @property
    def size(self) -> int:
        """How many bytes its files take."""
        return sum(one.bytes for one in self.manifest.files)

    def read(self, path: str) -> bytes:
        """A whole file."""
        with self._opened(path) as data:
            return data.read(self._files[path].bytes)

    def extract(self, path: str, to: Path) -> None:
        """Write a file of the pack to a place of one's own."""
        left = self._files[path].bytes
        with self._opened(path) as data, to.open("wb") as out:
            while left and (piece := data.read(min(PIECE, left))):
                out.write(piece)
                left -= len(piece)

    def shot(self, one: PackedShot) -> Shot:
        """A shot's document. Raises `BadInput`."""
        return read_shot(self._json(one.document), stored=True)

    def steps(self, one: PackedShot) -> Steps | None:
        """A shot's steps, if they are in the pack."""
        return None if one.steps is None else Steps.model_validate(self._json(one.steps))

    def _json(self, path: str) -> object:
        if self._files[path].bytes > MOST_TEXT_BYTES:
            raise FormatError("pack.damaged", f"{self._name}: {path} is too large.")
        try:
            return json.loads(self.read(path))
        except (ValueError, RecursionError) as error:
            raise FormatError("pack.damaged", f"{self._name} is damaged: {path} cannot be read.") from error

    def _opened(self, path: str) -> IO[bytes]:
        return self._box.open(path)

    def check(self, work: Work) -> None:
        """Every file's size and checksum; that documents can be read, and that all is there that they name."""
        total, done = max(1, self.size >> 20), 0
        for one in self.manifest.files:
            self._check_file(one, work)
            done += one.bytes
            work.progress(min(done >> 20, total), total)
        named = {path for asset in self.manifest.assets for path in asset.files}
        named |= {one.file for one in self.manifest.measurements} | {one.document for one in self.manifest.shots}
        named |= {one.steps for one in self.manifest.shots if one.steps}
        if named - set(self._files):
            raise FormatError("pack.damaged", f"{self._name} is damaged: {min(named - set(self._files))} is not in it.")
        assets, measured = ({one.digest for one in part} for part in (self.manifest.assets, self.manifest.measurements))
        for asset in self.manifest.assets:
            if len(asset.files) == 1 and self._files[asset.files[0]].sha256 != asset.digest:
                raise FormatError("pack.damaged", f"{self._name} is damaged: {asset.name} is not what its shots name.")
        for packed in self.manifest.shots:
            shot = self.shot(packed)
            self.steps(packed)
            wanted = wanted_by([shot])
            if set(wanted[0]) - assets or set(wanted[1]) - measured:
                missing = f"something that {shot.name} needs is missing"
                raise FormatError("pack.incomplete", f"{self._name} is incomplete: {missing}.")

    def _check_file(self, one: PackedFile, work: Work) -> None:
        digest, size = hashlib.sha256(), 0
        with self._opened(one.path) as data:
            while piece := data.read(PIECE):
                work.check_cancelled()
                digest.update(piece)
                size += len(piece)
                # What unfolds to more than it says is stopped there.
                if size > one.bytes:
                    break
        if size != one.bytes or digest.hexdigest() != one.sha256:
            raise FormatError("pack.damaged", f"{self._name} is damaged: {one.path} is not what was packed. Copy it again.")


@contextmanager
def open_pack(
    path: Path, *, name: str | None = None, work: Work | None = None, room: int | None = None
) -> Iterator[Pack]:
    """Open a pack and check all of it, but none that would take more bytes than there is `room`.

    Raises `FormatError` or `BadInput` in words; `name` stands for the file in them.
    """
    name = name or path.name
    if not path.exists():
        raise BadInput("pack.missing", f"{name} was not found.")
    try:
        with zipfile.ZipFile(path) as box:
            pack = Pack(box, _manifest(box, name), name)
            _check_names(box, pack.manifest, name)
            if room is not None and pack.size > room:
                raise BadInput("media.disk_full", f"There is not enough room on the disk: {pack.size / 1e6:.0f} MB are needed. "
                                                  "Nothing was changed; free some space and try again.")  # fmt: skip
            pack.check(work or Work())
            yield pack
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, KeyError, zlib.error, lzma.LZMAError) as error:
        raise FormatError("pack.unreadable", f"{name} is not a packed project, or it is damaged. Copy it again.") from error
    except ValidationError as error:
        raise FormatError("pack.damaged", f"{name} is damaged: what it says of itself cannot be read.") from error
    except PlonketError as error:
        if error.code == "shot.newer":
            raise FormatError("pack.newer", f"{name} was packed by a newer Plonket. Bring this one up to date.") from error
        raise


def _manifest(box: zipfile.ZipFile, name: str) -> Manifest:
    info = box.getinfo(MANIFEST)
    if info.file_size > MOST_MANIFEST_BYTES:
        raise FormatError("pack.damaged", f"{name} is damaged: its list is too long.")
    try:
        data = json.loads(box.read(info))
    except (ValueError, RecursionError) as error:
        raise FormatError("pack.damaged", f"{name} is damaged: its list cannot be read.") from error
    version = data.get("plonket_pack") if isinstance(data, dict) else None
    if isinstance(version, int) and version > VERSION:
        raise FormatError("pack.newer", f"{name} was packed by a newer Plonket. Bring this one up to date.")
    return Manifest.model_validate(data)


def _check_names(box: zipfile.ZipFile, manifest: Manifest, name: str) -> None:
    inside = {info.filename: info for info in box.infolist()}
    for one in manifest.files:
        info = inside.get(one.path)
        if info is None or not SAFE.match(one.path) or info.file_size != one.bytes:
            raise FormatError("pack.damaged", f"{name} is damaged: {one.path} is not in it as it should be.")
    if len({one.path for one in manifest.files}) != len(manifest.files):
        raise FormatError("pack.damaged", f"{name} is damaged: it names a file twice.")
