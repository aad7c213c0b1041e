"""H.264 in MP4: what everything plays."""

from __future__ import annotations

from typing import Literal

from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.media.write import Coding
from plonket.media.yuv import PlaneCoding
from plonket.outputs.common import Deep, Heard, Lossy, Paced, as_video, sound_as

QUALITY = {"small": (24.0, "fast"), "good": (18.0, "fast"), "best": (9.0, "medium")}


class H264(Heard, Paced, Deep, Lossy, OutputBase):
    """An MP4 file that everything plays."""

    kind: Literal["h264"] = "h264"


def coding_of(output: H264) -> Coding:
    """How it is coded."""
    crf, preset = QUALITY[output.quality]
    planes = PlaneCoding(bits=int(output.bits))
    return Coding(crf=crf, preset=preset, planes=planes, sound=sound_as(output.audio))


OUTPUTS.add(OutputEntry(
    kind="h264", label="H.264 (MP4)", order=10, settings=H264, **as_video(coding_of), ending=lambda _: ".mp4",
    endings=(".mp4", ".m4v", ".mov"), groups=("File",), traits=frozenset({"sound", "played"}),
    help="Plays everywhere, and every platform takes it.",
))  # fmt: skip
