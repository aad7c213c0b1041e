"""ProRes in MOV: for cutting programs; 4444 with coverage."""

from __future__ import annotations

from typing import Literal

from plonket.base.fields import choice
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.media.write import Coding
from plonket.media.yuv import PlaneCoding
from plonket.outputs.common import WHOLE_COLOUR, Covered, Paced, as_video


class ProRes4444(Paced, Covered, OutputBase):
    """A MOV file with whole colour and coverage."""

    kind: Literal["prores4444"] = "prores4444"


class ProRes422(Paced, OutputBase):
    """A MOV file for cutting, without coverage."""

    kind: Literal["prores422"] = "prores422"
    audio: Literal["pcm", "aac"] = choice("pcm", label="Sound as", group="File", names={"pcm": "As it is", "aac": "AAC"})


def _with_coverage(output: ProRes4444) -> Coding:
    return Coding(codec="prores", planes=WHOLE_COLOUR, key_every=1, b_frames=0, covered=output.coverage != "none",
                  sound="pcm_s16le")  # fmt: skip


def _without(output: ProRes422) -> Coding:
    sound = "pcm_s16le" if output.audio == "pcm" else "aac"
    return Coding(codec="prores422", planes=PlaneCoding(bits=10, half_y=False), key_every=1, b_frames=0, sound=sound)


OUTPUTS.add(OutputEntry(
    kind="prores4444", label="ProRes 4444 (MOV)", order=50, settings=ProRes4444, **as_video(_with_coverage),
    ending=lambda _: ".mov", groups=("File",), traits=frozenset({"sound", "covered"}),
    help="For cutting programs, with coverage. Large; browsers do not play it.",
))  # fmt: skip
OUTPUTS.add(OutputEntry(
    kind="prores422", label="ProRes 422 HQ (MOV)", order=60, settings=ProRes422, **as_video(_without),
    ending=lambda _: ".mov", groups=("File",), traits=frozenset({"sound"}),
    help="For cutting programs. Large; browsers do not play it.",
))  # fmt: skip
