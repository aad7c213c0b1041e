"""The content-addressed store below the data folder. Names given by a creator never become paths."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import shutil
import tempfile
import time
from pathlib import Path

import cv2
import numpy as np
from django.conf import settings

from plonket.base.conventions import U8
from plonket.base.errors import MediaError
from plonket.media.conform import ASIDE
from plonket.media.failures import media_errors
from plonket.media.sound import SOUNDS
from plonket.media.stills import PICTURES
from plonket.room.meshes.files import MODELS
from plonket_server.problems import NotHere

ENDINGS = {".mp4", ".mov", ".m4v", ".mkv", ".webm", ".avi", *PICTURES,
           ".zip", ".cube", *MODELS, ".hdr", *SOUNDS}  # fmt: skip
_DIGEST = re.compile(r"^[0-9a-f]{64}$")


def root() -> Path:
    return Path(settings.STORE)


def safe_ending(name: str) -> str:
    """The file ending of an upload's name if it is a known one, else nothing."""
    ending = os.path.splitext(name)[1].lower()
    return ending if ending in ENDINGS else ""


def original_path(digest: str, ending: str) -> Path:
    return root() / "originals" / checked(digest)[:2] / (digest + ending)


def derived_folder(digest: str) -> Path:
    """Where a clip's conformed files are."""
    return root() / "derived" / checked(digest)[:2] / digest


def measurement_path(digest: str) -> Path:
    return root() / "measurements" / checked(digest)[:2] / f"{digest}.npz"


def delivery_folder(name: str) -> Path:
    return root() / "deliveries" / name


MOST_MENDED_BYTES = 6 * 1024**3


def mended_folder(key: str) -> Path:
    """Where frames lie that were mended ahead, by the hash of what they depend on."""
    return root() / "mended" / checked(key)[:2] / key


def mended_frame(key: str, frame: int) -> U8 | None:
    """A frame that was mended ahead, 8-bit (h, w, 3); None: it was not."""
    path = mended_folder(key) / f"{frame:06d}.png"
    found = cv2.imread(str(path), cv2.IMREAD_COLOR_RGB) if path.exists() else None
    return None if found is None else np.asarray(found, np.uint8)


def keep_mended(key: str, frame: int, rgb: U8) -> None:
    done, data = cv2.imencode(".png", cv2.cvtColor(rgb, cv2.COLOR_RGB2BGR), [cv2.IMWRITE_PNG_COMPRESSION, 1])
    if not done:
        raise MediaError("mended.write", "A mended frame could not be written.")
    keep_bytes(bytes(data), mended_folder(key) / f"{frame:06d}.png")


def forget_old_mended(but: str) -> None:
    """Drop the oldest mended frames where they take too much room; they can be made again at any time."""
    folders = [f for f in (root() / "mended").glob("*/*") if f.is_dir() and f.name != but]
    sizes = {f: sum(p.stat().st_size for p in f.iterdir()) for f in folders}
    total = sum(sizes.values())
    for folder in sorted(folders, key=lambda f: f.stat().st_mtime):
        if total <= MOST_MENDED_BYTES:
            return
        total -= sizes[folder]
        shutil.rmtree(folder, ignore_errors=True)


def exchange_folder() -> Path:
    """Where frames lie that are painted in other programs. Creators open files here by hand."""
    folder = root().parent / "exchange"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def upload_path(upload_id: str) -> Path:
    folder = root() / "uploads"
    folder.mkdir(parents=True, exist_ok=True)
    return folder / f"{upload_id}.part"


def upload_parts(upload_id: str) -> list[Path]:
    """What lies there of an upload: while it is taken in, its name has the file's own ending."""
    return sorted((root() / "uploads").glob(f"{upload_id}.part*"))


def checked(digest: str) -> str:
    """The digest if it is one; anything else has no place in the store."""
    if not _DIGEST.match(digest):
        raise NotHere("file")
    return digest


def digest_of(path: Path) -> str:
    with path.open("rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()


def keep_bytes(data: bytes, path: Path) -> None:
    """Write a file whole or not at all; when this returns it outlasts a power cut."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with media_errors(path, "written"):
        fd, name = tempfile.mkstemp(dir=path.parent)
        try:
            with os.fdopen(fd, "wb") as out:
                out.write(data)
            settle(Path(name), path)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise


def settle(part: Path, path: Path) -> None:
    """Move a complete file to its place, on the disk and not only in memory: the database refers to it from now on."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with part.open("rb") as file:
        os.fsync(file.fileno())
    os.replace(part, path)
    folder = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def keep_measurement(data: bytes) -> str:
    """Store a measurement's arrays; returns their digest."""
    digest = hashlib.sha256(data).hexdigest()
    path = measurement_path(digest)
    if not path.exists():
        keep_bytes(data, path)
    return digest


def free_bytes() -> int:
    folder = root()
    folder.mkdir(parents=True, exist_ok=True)
    stat = os.statvfs(folder)
    return stat.f_bavail * stat.f_frsize


RESERVE = 512 * 1024**2
"""Is left free whatever is written, so that the database can go on."""


def check_room(needed: int) -> None:
    """Raise when `needed` bytes would fill the disk."""
    free = free_bytes() - RESERVE
    if needed > free:
        raise MediaError(
            "media.disk_full",
            f"There is not enough room on the disk: {_spoken(needed)} are needed and {_spoken(max(free, 0))} can be used."
            " Nothing was changed; free some space and try again."
            if needed
            else "The disk is full. What was made so far is kept; free some space and try again.",
        )


def _spoken(size: int) -> str:
    return f"{size / 1e9:.1f} GB" if size >= 1e9 else f"{size / 1e6:.0f} MB"


def thumb_path(name: str) -> Path:
    return root() / "thumbs" / name[:2] / f"{name}.jpg"


MOST_THUMB_BYTES = 256 * 1024**2


def sweep(deliveries: set[str], uploads: set[str]) -> None:
    """Remove what nothing refers to any more: folders of deliveries and parts of uploads that are not named here and a day
    old, what preparing and unpacking left behind, and the oldest small pictures."""
    day = time.time() - 86400
    old = [
        *(p for p in (root() / "deliveries").glob("*") if p.name not in deliveries),
        *(p for p in (root() / "uploads").glob("*") if p.name.partition(".")[0] not in uploads),
        *(root() / "derived").glob(f"*/*{ASIDE}*"),
        *(root() / "unpacked").glob("*"),
    ]
    for path in old:
        with contextlib.suppress(FileNotFoundError):
            if path.stat().st_mtime < day:
                shutil.rmtree(path) if path.is_dir() else path.unlink()
    _forget_oldest(list((root() / "thumbs").glob("*/*.jpg")), MOST_THUMB_BYTES)


def _forget_oldest(files: list[Path], most: int) -> None:
    found = sorted((p.stat().st_mtime, p.stat().st_size, p) for p in files)
    total = sum(size for _, size, _ in found)
    for _, size, path in found:
        if total <= most:
            return
        total -= size
        path.unlink(missing_ok=True)
