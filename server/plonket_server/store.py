"""The content-addressed store below the data folder. Names given by a creator never become paths."""

from __future__ import annotations

import hashlib
import os
import re
import shutil
import tempfile
from pathlib import Path

import cv2
import numpy as np
from django.conf import settings

from plonket.conventions import U8
from plonket.errors import MediaError
from plonket.media.failures import media_errors
from plonket_server.problems import NotHere

ENDINGS = {".mp4", ".mov", ".m4v", ".mkv", ".webm", ".avi", ".png", ".jpg", ".jpeg", ".webp", ".tif", ".tiff", ".bmp",
           ".zip", ".cube", ".glb", ".gltf", ".obj", ".ply", ".stl", ".hdr"}  # fmt: skip
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


def checked(digest: str) -> str:
    """The digest if it is one; anything else has no place in the store."""
    if not _DIGEST.match(digest):
        raise NotHere("file")
    return digest


def digest_of(path: Path) -> str:
    with path.open("rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()


def keep_bytes(data: bytes, path: Path) -> None:
    """Write a file whole or not at all."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with media_errors(path, "written"):
        fd, name = tempfile.mkstemp(dir=path.parent)
        try:
            with os.fdopen(fd, "wb") as out:
                out.write(data)
            os.replace(name, path)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise


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


def check_room(needed: int) -> None:
    """Raise when `needed` bytes would fill the disk."""
    if needed + 200 * 1024**2 > free_bytes():
        raise MediaError(
            "media.disk_full",
            f"There is not enough room on the disk: {needed / 1e9:.1f} GB are needed and {free_bytes() / 1e9:.1f} GB"
            " are free. Nothing was changed; free some space and try again.",
        )
