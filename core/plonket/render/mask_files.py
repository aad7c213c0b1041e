"""Masks that were worked out, as PNG files in a folder."""

from __future__ import annotations

import os
import threading
from pathlib import Path

import cv2
import numpy as np

from plonket.base.conventions import U8


class MaskFiles:
    """One PNG file a mask, by name; several processes may write the same."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def load(self, name: str) -> U8 | None:
        path = self._folder / f"{name}.png"
        found = cv2.imread(str(path), cv2.IMREAD_GRAYSCALE) if path.exists() else None
        return None if found is None else np.asarray(found, np.uint8)

    def save(self, name: str, mask: U8) -> None:
        self._folder.mkdir(parents=True, exist_ok=True)
        # Several processes may cut the same clip: whole files only.
        part = self._folder / f"{name}.{threading.get_ident()}.{os.getpid()}.part.png"
        cv2.imwrite(str(part), mask)
        part.replace(self._folder / f"{name}.png")
