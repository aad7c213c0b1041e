"""H.265 in MP4: smaller than H.264 at the same quality."""

from __future__ import annotations

from typing import Literal

from plonket.base.fields import choice
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.media.write import Coding
from plonket.outputs.common import Heard, Lossy, Paced, Ranged, as_video, ranged_planes, sound_as

CRF = {"small": 28.0, "good": 22.0, "best": 14.0}


class H265(Heard, Paced, Ranged, Lossy, OutputBase):
    """An MP4 file, smaller than H.264."""

    kind: Literal["h265"] = "h265"
    speed: Literal["fast", "medium", "slow"] = choice(
        "fast", label="Coding", group="File", names={"fast": "Fast", "medium": "Medium", "slow": "Slow, smaller"})  # fmt: skip


def _coding(output: H265) -> Coding:
    planes, transfer = ranged_planes(output)
    return Coding(codec="h265", crf=CRF[output.quality], preset=output.speed, planes=planes, transfer=transfer,
                  sound=sound_as(output.audio))  # fmt: skip


OUTPUTS.add(OutputEntry(
    kind="h265", label="H.265 (MP4)", order=20, settings=H265, **as_video(_coding), ending=lambda _: ".mp4",
    groups=("File",), traits=frozenset({"sound"}), help="Smaller than H.264; phones play it, not all browsers do.",
))  # fmt: skip
