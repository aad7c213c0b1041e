"""The sound alone."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from plonket.base.errors import BadInput
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.media.failures import media_errors
from plonket.media.sound import write_wav
from plonket.outputs.common import Piece, Sheet, Writing
from plonket.outputs.picture import Finished


class SoundAlone(OutputBase):
    """A WAV file."""

    kind: Literal["wav"] = "wav"


class NoPictures:
    """Lets all pictures go by."""

    def write(self, picture: Finished) -> None:
        """There is nothing to be written."""

    def __enter__(self) -> NoPictures:
        return self

    def __exit__(self, *_: object) -> None:
        """There is nothing to be closed."""


def _piece(_output: SoundAlone, _path: Path, _piece: Piece) -> Writing:
    return NoPictures()  # type: ignore[return-value]


def _joined(_output: SoundAlone, _pieces: list[Path], out: Path, sheet: Sheet) -> None:
    if sheet.sound is None:
        raise BadInput("deliver.silent", "This shot has no sound, or it is left out.")
    with media_errors(out, "written"):
        write_wav(sheet.sound, out)


OUTPUTS.add(OutputEntry(
    kind="wav", label="Sound (WAV)", order=170, settings=SoundAlone, run=_piece, joined=_joined, ending=lambda _: ".wav",
    endings=(".wav",), wants=lambda *_: False, traits=frozenset({"sound", "unseen"}), help="The sound alone, without loss.",
))  # fmt: skip
