"""VP9 in WebM, with coverage if wanted: what browsers lay over a page."""

from __future__ import annotations

from typing import Literal

from plonket.base.fields import choice
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.media.write import Coding
from plonket.outputs.common import Lossy, Paced, as_video

CRF = {"small": 40.0, "good": 28.0, "best": 14.0}


class Vp9(Paced, Lossy, OutputBase):
    """A WebM file."""

    kind: Literal["vp9"] = "vp9"
    coverage: Literal["none", "straight"] = choice(
        "straight", label="Coverage", group="File", names={"none": "None, on black", "straight": "Straight"},
        help="Browsers lay it over a page where it is not covered.")  # fmt: skip


def _coding(output: Vp9) -> Coding:
    return Coding(codec="vp9", crf=CRF[output.quality], b_frames=0, key_every=120, covered=output.coverage != "none")


OUTPUTS.add(OutputEntry(
    kind="vp9", label="VP9 (WebM)", order=40, settings=Vp9, **as_video(_coding), ending=lambda _: ".webm",
    endings=(".webm",), groups=("File",), traits=frozenset({"sound", "covered", "played"}),
    help="What browsers lay over a page: with coverage, sound and all.",
))  # fmt: skip
