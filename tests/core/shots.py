"""Truth shots shared by the tests, filmed once per run."""

from __future__ import annotations

from functools import cache

import numpy as np

from plonket.conventions import F64
from plonket.motion.points.settings import Given, PointMotion, TrackPoint
from plonket.motion.points.tracks import PointTracks
from plonket.motion.states import GIVEN
from plonket.phone.quickset import QuickShot, chart_shot

# Sharp details of the chart, as fractions of its sides.
SHARP = {"rose": (0.72, 0.70), "title": (0.35, 0.11), "point": (0.78, 0.33)}


@cache
def plain_shot() -> QuickShot:
    """Sixty handheld frames with sensor noise."""
    return chart_shot(frames=60)


def motion_on(shot: QuickShot, frame: int = 0, spots: dict[str, tuple[float, float]] | None = None, **settings: object
              ) -> PointMotion:  # fmt: skip
    """A motion with points given at their true places on one frame."""
    spots = spots or SHARP
    pattern = float(settings.pop("pattern_px", 23))
    points = []
    for name, uv in spots.items():
        x, y = shot.on_chart(*uv)[frame]
        points.append(TrackPoint(id=name, name=name, pattern_px=pattern, given=[Given(frame=frame, x=x, y=y)]))
    return PointMotion(id="m", name="Motion", points=points, **settings)  # type: ignore[arg-type]


def errors_of(tracks: PointTracks, shot: QuickShot, name: str, spots: dict[str, tuple[float, float]] | None = None) -> F64:
    """Distances in pixels from the truth on tracked frames."""
    k = tracks.ids.index(name)
    known = tracks.known(k) & (tracks.state[k] != GIVEN)
    off = tracks.xy[k] - shot.on_chart(*(spots or SHARP)[name])
    return np.asarray(np.hypot(off[:, 0], off[:, 1])[known])
