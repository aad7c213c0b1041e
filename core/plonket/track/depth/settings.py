"""What a creator gives to the depth of a clip."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field

from plonket.base.fields import GOES, Identifier, choice, reference, switch
from plonket.document.bases import MotionBase
from plonket.track.ignored import Ignored


class DepthMotion(MotionBase):
    """How far away everything is that a clip shows whose camera is solved. It stays right when the room is laid otherwise; when
    the camera is solved anew, it is measured again."""

    MEASURING: ClassVar[frozenset[str]] = frozenset({"quality", "ignored"})

    kind: Literal["depth"] = "depth"
    camera: Annotated[Identifier, reference("camera", says="goes by a camera", left=GOES)]
    ignored: Ignored = Field(default_factory=list, max_length=20)
    quality: Literal["good", "quick"] = choice(
        "good", label="Quality", group="Depth", names={"good": "Good", "quick": "Quick"},
        help="Quick works on smaller pictures, and fewer: enough for what stands apart.")  # fmt: skip
    hides: bool = switch(True, label="Hides things", group="Depth",
                         help="What stands in the room goes behind whatever the footage shows before it.")  # fmt: skip

    def emptied(self, frames: int) -> dict[str, Any] | None:
        return {"measurement": None}
