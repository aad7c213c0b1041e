"""What is asked of a measurement: which frames of which clip, how, and what of the shot it may look at."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.base.progress import Work
from plonket.media.clip import Clip
from plonket.track.context import LoneContext, MeasureContext

Direction = Literal["forward", "backward", "both", "gap"]
Sightings = dict[str, tuple[F64, NDArray[np.bool_]]]


@dataclass(frozen=True, slots=True, kw_only=True)
class MeasureRequest:
    """One measuring of a motion.

    Attributes
    ----------
    clip : the footage.
    direction : which way from the frames that were given by hand, or from `origin`; ``gap``: only the frames round `origin` on
        which it is lost or not measured. What is solved from all frames at once (cameras, objects) has no direction.
    start, stop : the frames start..stop-1 may be measured; without `stop` to the clip's end.
    origin : a frame to go on from.
    previous : what was measured before; frames that are not measured now keep their values.
    context : the rest of the shot.
    work : progress, partial results, Stop.
    """

    clip: Clip
    direction: Direction = "both"
    start: int = 0
    stop: int | None = None
    origin: int | None = None
    previous: Any = None
    context: MeasureContext = field(default_factory=LoneContext)
    work: Work = field(default_factory=Work)

    @property
    def end(self) -> int:
        """The frame after the last that may be measured."""
        return self.clip.info.frames if self.stop is None else self.stop
