"""Depth as files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenEXR

from plonket.base.conventions import F32


def write_depth(depth: F32, path: Path) -> None:
    """z-depth (h, w), 0 where unknown, as an EXR file of 32-bit floats: channel Z, and the same as Y for what reads pictures
    only."""
    one = np.ascontiguousarray(depth, np.float32)
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    part = path.with_name(path.name + ".part.exr")
    with OpenEXR.File(header, {"Z": one, "Y": one}) as file:
        file.write(str(part))
    part.replace(path)


def read_depth(path: Path) -> F32:
    """The same, read."""
    with OpenEXR.File(str(path), separate_channels=True) as file:
        return np.asarray(file.channels()["Z"].pixels, np.float32)
