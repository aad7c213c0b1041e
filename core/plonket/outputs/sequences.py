"""Sequences of pictures: PNG, TIFF, JPEG and EXR, one file a frame."""

from __future__ import annotations

import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal

import cv2
import numpy as np

from plonket.base.conventions import Codes
from plonket.base.fields import choice
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.image.exr import write_exr
from plonket.keying.unpremultiply import straight_light
from plonket.media.failures import disk_full, media_errors
from plonket.outputs.common import Covered, Piece, SequencePiece, Sheet, Thinned, Writing, thinned
from plonket.outputs.picture import Finished


class PngSequence(Thinned, Covered, OutputBase):
    """PNG pictures."""

    kind: Literal["png"] = "png"
    bits: Literal["8", "16"] = choice("8", label="Bits", group="File", names={"8": "8", "16": "16"})
    coverage: Literal["none", "straight", "premultiplied"] = choice(
        "none", label="Coverage", group="File",
        names={"none": "None, on black", "straight": "Straight", "premultiplied": "Premultiplied"})  # fmt: skip


class TiffSequence(PngSequence):
    """TIFF pictures."""

    kind: Literal["tiff"] = "tiff"  # type: ignore[assignment]
    bits: Literal["8", "16"] = choice("16", label="Bits", group="File", names={"8": "8", "16": "16"})


class JpegSequence(Thinned, OutputBase):
    """JPEG pictures."""

    kind: Literal["jpeg"] = "jpeg"
    quality: Literal["small", "good", "best"] = choice(
        "good", label="Quality", group="File", names={"small": "Small file", "good": "Good", "best": "Best"})  # fmt: skip


class ExrSequence(Thinned, OutputBase):
    """EXR pictures of linear light."""

    kind: Literal["exr"] = "exr"
    bits: Literal["half", "float"] = choice("half", label="Numbers", group="File", names={"half": "Half", "float": "Full"},
                                            help="Half floats hold eleven binary digits, from 65504 down.")  # fmt: skip
    coverage: Literal["none", "premultiplied", "straight"] = choice(
        "premultiplied", label="Coverage", group="File",
        names={"none": "None, on black", "premultiplied": "Premultiplied", "straight": "Straight"})  # fmt: skip


JPEG = {"small": 75, "good": 90, "best": 97}


def save_png(output: Any) -> Callable[[Path, Finished], None]:
    """How a picture becomes a PNG or TIFF file."""

    def save(path: Path, picture: Finished) -> None:
        flags = [cv2.IMWRITE_PNG_COMPRESSION, 3] if path.suffix == ".png" else [cv2.IMWRITE_TIFF_COMPRESSION, 5]
        _write(path, picture.codes(deep=output.bits == "16", coverage=output.coverage), flags)

    return save


def save_jpeg(output: Any) -> Callable[[Path, Finished], None]:
    """How a picture becomes a JPEG file."""

    def save(path: Path, picture: Finished) -> None:
        flags = [cv2.IMWRITE_JPEG_QUALITY, JPEG[output.quality], cv2.IMWRITE_JPEG_SAMPLING_FACTOR,
                 cv2.IMWRITE_JPEG_SAMPLING_FACTOR_444]  # fmt: skip
        _write(path, picture.codes(), flags)

    return save


def save_exr(output: ExrSequence) -> Callable[[Path, Finished], None]:
    """How a picture becomes an EXR file."""

    def save(path: Path, picture: Finished) -> None:
        light = picture.light()
        colours = straight_light(light) if output.coverage == "straight" else light[..., :3]
        planes = [*colours.transpose(2, 0, 1), *([light[..., 3]] if output.coverage != "none" else [])]
        kind = np.float16 if output.bits == "half" else np.float32
        with media_errors(path, "written"):
            write_exr(path, {name: plane.astype(kind) for name, plane in zip("RGBA", planes, strict=False)})

    return save


def _write(path: Path, codes: Codes, flags: list[int]) -> None:
    turned = cv2.cvtColor(codes, cv2.COLOR_RGBA2BGRA if codes.shape[2] == 4 else cv2.COLOR_RGB2BGR)
    if not cv2.imwrite(str(path), turned, flags):
        raise disk_full()


def joined_pictures(output: OutputBase, pieces: list[Path], out: Path, sheet: Sheet) -> None:
    """The pictures of all pieces in one folder, or in a ZIP by its ending."""
    files = sorted(file for piece in pieces for file in piece.iterdir())
    with media_errors(out, "written"):
        if out.suffix.lower() == ".zip":
            with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as box:
                for file in files:
                    sheet.work.check_cancelled()
                    box.write(file, file.name)
            return
        out.mkdir(parents=True, exist_ok=True)
        for file in files:
            file.replace(out / file.name)


def _entry(kind: str, label: str, order: int, settings: Any, save: Callable[[Any], Callable[[Path, Finished], None]],
           traits: set[str], help: str) -> OutputEntry:  # fmt: skip
    ending = {"png": ".png", "tiff": ".tif", "jpeg": ".jpg", "exr": ".exr"}[kind]

    def run(output: Any, path: Path, piece: Piece) -> Writing:
        return SequencePiece(path, piece, ending, save(output), output.every)

    return OutputEntry(
        kind=kind, label=label, order=order, settings=settings, run=run, joined=joined_pictures, ending=lambda _: ".zip",
        groups=("File",), traits=frozenset({"pictures", *traits}), help=help, wants=thinned,
    )  # fmt: skip


OUTPUTS.add(_entry("png", "PNG sequence", 100, PngSequence, save_png, {"covered"},
                   "A picture a frame, without loss, for other programs."))  # fmt: skip
OUTPUTS.add(_entry("exr", "EXR sequence", 110, ExrSequence, save_exr, {"covered", "light"},
                   "A picture a frame in linear light, for compositing."))  # fmt: skip
OUTPUTS.add(_entry("tiff", "TIFF sequence", 120, TiffSequence, save_png, {"covered"},
                   "A picture a frame with 16 bits."))  # fmt: skip
OUTPUTS.add(_entry("jpeg", "JPEG sequence", 130, JpegSequence, save_jpeg, set(),
                   "A picture a frame, small."))  # fmt: skip
