"""Depth as files."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from plonket.base.conventions import F32
from plonket.image.exr import read_exr, write_exr


def write_depth(depth: F32, path: Path) -> None:
    """z-depth (h, w), 0 where unknown, as an EXR file of 32-bit floats: channel Z, and the same as Y for what reads pictures
    only."""
    one = np.ascontiguousarray(depth, np.float32)
    write_exr(path, {"Z": one, "Y": one})


def read_depth(path: Path) -> F32:
    """The same, read."""
    return read_exr(path, ["Z"])[..., 0]
