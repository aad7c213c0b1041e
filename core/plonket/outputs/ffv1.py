"""FFV1 in Matroska: without loss, for archives."""

from __future__ import annotations

from typing import Literal

from plonket.base.fields import choice
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.media.write import Coding
from plonket.media.yuv import PlaneCoding
from plonket.outputs.common import as_video


class Ffv1(OutputBase):
    """A Matroska file that loses nothing."""

    kind: Literal["ffv1"] = "ffv1"
    bits: Literal["10", "16"] = choice("10", label="Bits", group="File", names={"10": "10", "16": "16"},
                                       help="Of brightness and colour, all at full size.")  # fmt: skip
    coverage: Literal["none", "straight", "premultiplied"] = choice(
        "none", label="Coverage", group="File",
        names={"none": "None, on black", "straight": "Straight", "premultiplied": "Premultiplied"})  # fmt: skip


def _coding(output: Ffv1) -> Coding:
    planes = PlaneCoding(bits=int(output.bits), half_x=False, half_y=False)
    return Coding(codec="ffv1", planes=planes, key_every=1, b_frames=0, covered=output.coverage != "none")


OUTPUTS.add(OutputEntry(
    kind="ffv1", label="FFV1 (MKV)", order=70, settings=Ffv1, **as_video(_coding), ending=lambda _: ".mkv",
    endings=(".mkv",), groups=("File",), traits=frozenset({"sound", "covered"}),
    help="Loses nothing, for keeping. Few programs play it.",
))  # fmt: skip
