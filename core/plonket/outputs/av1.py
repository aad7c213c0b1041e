"""AV1 in MP4: smallest, slow to make."""

from __future__ import annotations

from typing import Literal

from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.media.write import Coding
from plonket.outputs.common import Heard, Lossy, Paced, Ranged, as_video, ranged_planes, sound_as

CRF = {"small": 42.0, "good": 30.0, "best": 16.0}


class Av1(Heard, Paced, Ranged, Lossy, OutputBase):
    """An MP4 file, smaller than H.265."""

    kind: Literal["av1"] = "av1"


def _coding(output: Av1) -> Coding:
    planes, transfer = ranged_planes(output)
    return Coding(codec="av1", crf=CRF[output.quality], planes=planes, b_frames=0, transfer=transfer,
                  sound=sound_as(output.audio))  # fmt: skip


OUTPUTS.add(OutputEntry(
    kind="av1", label="AV1 (MP4)", order=30, settings=Av1, **as_video(_coding), ending=lambda _: ".mp4",
    groups=("File",), traits=frozenset({"sound", "played"}), help="Smallest of all; browsers and new phones play it.",
))  # fmt: skip
