"""EXR files of named channels."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
import OpenEXR

from plonket.base.conventions import F32


def write_exr(path: Path, channels: Mapping[str, np.ndarray]) -> None:
    """Channels (h, w) by name, half or full floats as they are given; written whole or not at all."""
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    part = path.with_name(path.name + ".part.exr")
    with OpenEXR.File(header, {name: np.ascontiguousarray(values) for name, values in channels.items()}) as file:
        file.write(str(part))
    part.replace(path)


def read_exr(path: Path, names: Sequence[str]) -> F32:
    """(h, w, n) of channels by name."""
    with OpenEXR.File(str(path), separate_channels=True) as file:
        found = file.channels()
        return np.stack([np.asarray(found[name].pixels, np.float32) for name in names], axis=-1)


def channels_of(path: Path) -> dict[str, F32]:
    """All channels (h, w) of a file's first part, by name."""
    with OpenEXR.File(str(path), separate_channels=True) as file:
        return {name: np.asarray(one.pixels, np.float32) for name, one in file.channels().items()}
