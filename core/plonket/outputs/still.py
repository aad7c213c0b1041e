"""One frame as a picture."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from plonket.base.errors import BadInput
from plonket.base.fields import choice, plain
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.outputs.common import Piece, Sheet, Writing
from plonket.outputs.picture import Finished
from plonket.outputs.sequences import save_jpeg, save_png


class OneFrame(OutputBase):
    """A single frame."""

    kind: Literal["still"] = "still"
    at: int = plain(0, label="Frame", low=0, high=1_000_000, step=1, unit="fr", group="File", whole=True, soft=(0, 300),
                    help="Of the shot.")  # fmt: skip
    picture: Literal["png", "jpeg"] = choice("png", label="As", group="File", names={"png": "PNG", "jpeg": "JPEG"})
    bits: Literal["8", "16"] = choice("8", label="Bits", group="File", names={"8": "8", "16": "16"}, when={"picture": ("png",)})
    coverage: Literal["none", "straight", "premultiplied"] = choice(
        "none", label="Coverage", group="File", when={"picture": ("png",)},
        names={"none": "None, on black", "straight": "Straight", "premultiplied": "Premultiplied"})  # fmt: skip
    quality: Literal["small", "good", "best"] = choice(
        "best", label="Quality", group="File", names={"small": "Small file", "good": "Good", "best": "Best"},
        when={"picture": ("jpeg",)})  # fmt: skip


class StillPiece:
    """Takes the one frame that is wanted."""

    def __init__(self, output: OneFrame, folder: Path) -> None:
        self._output, self._folder = output, folder

    def write(self, picture: Finished) -> None:
        self._folder.mkdir(parents=True, exist_ok=True)
        save = save_png if self._output.picture == "png" else save_jpeg
        save(self._output)(self._folder / f"still{ending_of(self._output)}", picture)

    def __enter__(self) -> StillPiece:
        return self

    def __exit__(self, *_: object) -> None:
        """There is nothing to be closed."""


def ending_of(output: OneFrame) -> str:
    """How the file's name ends."""
    return ".png" if output.picture == "png" else ".jpg"


def _piece(output: OneFrame, path: Path, _piece: Piece) -> Writing:
    return StillPiece(output, path)  # type: ignore[return-value]


def _joined(output: OneFrame, pieces: list[Path], out: Path, _sheet: Sheet) -> None:
    found = [folder / f"still{ending_of(output)}" for folder in pieces if folder.is_dir()]
    if not found:
        raise BadInput("deliver.frame", f"Frame {output.at} is not in the range that is delivered.")
    found[0].replace(out)


OUTPUTS.add(OutputEntry(
    kind="still", label="One frame", order=160, settings=OneFrame, run=_piece, joined=_joined, ending=ending_of,
    wants=lambda output, moment: moment.frame == output.at, groups=("File",),
    traits=frozenset({"picture", "covered"}), help="A single frame, as for a cover.",
))  # fmt: skip
