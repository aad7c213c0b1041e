"""Depth as files."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from plonket.base.conventions import F32
from plonket.base.errors import FormatError
from plonket.image.exr import read_exr, write_exr


def write_depth(depth: F32, path: Path) -> None:
    """z-depth (h, w), 0 where unknown, as an EXR file of 32-bit floats: channel Z, and the same as Y for what reads pictures
    only."""
    one = np.ascontiguousarray(depth, np.float32)
    write_exr(path, {"Z": one, "Y": one})


def depths_in(folder: Path, size: tuple[int, int]) -> Callable[[int], F32 | None]:
    """Depth of a clip's frames of that size, (width, height), that `folder` holds; None: nothing is known of one.

    Raises
    ------
    FormatError
        There is none at all, or one has another size.
    """
    files = sorted(folder.glob("*.exr"))
    if not files:
        raise FormatError("depth.folder", f"There are no EXR files of depth in {folder.name}.")

    def told(frame: int) -> F32 | None:
        if not 0 <= frame < len(files):
            return None
        depth = read_depth(files[frame])
        if depth.shape != size[::-1]:
            raise FormatError("depth.size", f"{files[frame].name} is {depth.shape[1]} x {depth.shape[0]}, the clip {size[0]} x "
                              f"{size[1]} pixels.")  # fmt: skip
        return depth

    return told


def read_depth(path: Path) -> F32:
    """The same, read."""
    return read_exr(path, ["Z"])[..., 0]
