"""Opening a USD file so that it reaches nothing but what came with it."""

from __future__ import annotations

import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import FormatError

if TYPE_CHECKING:
    from pxr import Usd

USD = (".usdz", ".usdc", ".usda", ".usd")
MOST_BYTES = 400 * 1024**2
MOST_FILES = 2000
MOST_PRIMS = 50_000
WHOLE = "Bring in a USDZ, or a ZIP with all of its files."


@contextmanager
def opened(path: Path) -> Iterator[tuple[Usd.Stage, Path]]:
    """The stage of a USD file or a USDZ, and the folder in which all of it lies for as long as it is open.

    Raises `FormatError` where it is damaged, too large, or names what did not come with it.
    """
    with TemporaryDirectory(prefix="plonket-usd-") as aside:
        folder = Path(aside).resolve()
        if path.suffix.lower() == ".usdz" or path.read_bytes()[:4] == b"PK\x03\x04":
            leading = _unfolded(path, folder)
        else:
            leading = folder / f"model{path.suffix.lower()}"
            leading.write_bytes(path.read_bytes())
        yield open_in(leading, folder, path.name), folder


def open_in(leading: Path, folder: Path, name: str) -> Usd.Stage:
    """The stage of a layer, all of which lies in a folder. Raises `FormatError`; `name` is what the file is called in it."""
    from pxr import Sdf, Tf, Usd, UsdUtils

    try:
        if Sdf.Layer.FindOrOpen(str(leading)) is None:
            raise _unreadable(name)
        layers, assets, missing = UsdUtils.ComputeAllDependencies(str(leading))
        for found in (*(one.realPath for one in layers), *assets):
            if found and not Path(found).resolve().is_relative_to(folder):
                raise FormatError("model.beside", f"{name} names files outside itself. {WHOLE}")
        if missing:
            last = str(missing[0]).replace("\\", "/").rsplit("/", 1)[-1]
            raise FormatError("model.beside", f"{name} does not hold {last}, which it names. {WHOLE}")
        stage = Usd.Stage.Open(str(leading))
    except Tf.ErrorException as error:
        raise _unreadable(name) from error
    if stage is None:
        raise _unreadable(name)
    if sum(1 for _, _ in zip(stage.Traverse(), range(MOST_PRIMS + 1), strict=False)) > MOST_PRIMS:
        raise FormatError("model.large", f"{name} has too many parts. Join some of them first.")
    return stage


def _unreadable(name: str) -> FormatError:
    return FormatError("model.unreadable", f"{name} could not be read as a USD file.")


def _unfolded(path: Path, folder: Path) -> Path:
    """What is in a USDZ, below a folder; its first file, which leads."""
    try:
        with zipfile.ZipFile(path) as box:
            names = [one for one in box.infolist() if not one.is_dir()]
            if len(names) > MOST_FILES:
                raise FormatError("model.zip", f"{path.name} holds more than {MOST_FILES} files.")
            left = MOST_BYTES
            for one in names:
                target = (folder / one.filename).resolve()
                if not target.is_relative_to(folder):
                    raise FormatError("model.beside", f"{path.name} names files outside itself.")
                target.parent.mkdir(parents=True, exist_ok=True)
                with box.open(one) as file:
                    data = file.read(left + 1)
                left -= len(data)
                if left < 0:
                    why = f"{path.name} unfolds to more than 400 MB. Make its textures smaller first."
                    raise FormatError("model.size", why)
                target.write_bytes(data)
            leading = next((one.filename for one in names if one.filename.lower().endswith(USD)), None)
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, OSError, ValueError) as error:
        raise _unreadable(path.name) from error
    if leading is None:
        raise FormatError("model.empty", f"{path.name} holds no USD file.")
    return folder / leading


def metres_from(stage: Usd.Stage) -> F64:
    """(4, 4) from the stage's own world to metres with y up."""
    from pxr import UsdGeom

    out = np.eye(4)
    scale = UsdGeom.GetStageMetersPerUnit(stage)
    out[:3, :3] *= scale if np.isfinite(scale) and scale > 0 else 1.0
    if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z:
        out[:3, :3] = out[:3, :3] @ [[1, 0, 0], [0, 0, 1], [0, -1, 0]]
    return out


def array_of(matrix: Any) -> F64:
    """(4, 4) that multiplies columns, of one that multiplies rows, as USD has them."""
    return np.asarray(matrix, np.float64).T


def is_usd(data: bytes) -> bool:
    """Whether a file's bytes are a USD layer or a USDZ."""
    if data[:8] == b"PXR-USDC" or data[:5] == b"#usda":
        return True
    if data[:4] != b"PK\x03\x04":
        return False
    # A USDZ begins with the layer that leads; the name stands 30 bytes in.
    length = int.from_bytes(data[26:28], "little")
    return data[30 : 30 + length].lower().endswith(tuple(one.encode() for one in USD))
