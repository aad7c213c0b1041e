"""Reading stored measurements of any kind."""

from __future__ import annotations

import io
import zipfile

import numpy as np

from plonket.base.errors import FormatError
from plonket.document.kinds import MOTIONS
from plonket.track.movement import Measured


def read_measured(data: bytes) -> Measured:
    """What a measurement's `to_bytes` wrote. Raises `FormatError`."""
    try:
        with np.load(io.BytesIO(data), allow_pickle=False) as z:
            kind = str(z["kind"]) if "kind" in z.files else "points"
    except (OSError, ValueError, zipfile.BadZipFile) as error:
        raise FormatError("tracks.unreadable", "A stored measurement is damaged. Measure again.") from error
    for entry in MOTIONS:
        if kind == entry.track.KIND:
            return entry.track.from_bytes(data)  # type: ignore[no-any-return]
    raise FormatError("tracks.unknown", "A stored measurement is of a kind that is not known here. Measure again.")
