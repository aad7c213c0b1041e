"""Truth shots shared by the tests, filmed once per run."""

from __future__ import annotations

from functools import cache

import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.base.outlines import carry, polygon_outline
from plonket.base.states import GIVEN
from plonket.track.plane.settings import PlaneMotion, Region
from plonket.track.plane.track import PlaneTrack
from plonket.track.points.settings import Given, PointMotion, TrackPoint
from plonket.track.points.tracks import PointTracks
from synth.phone import texture as tx
from synth.phone.quickset import QuickShot, chart_shot, quad

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


CORNERS = ((0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0))


def chart_corners(shot: QuickShot) -> F64:
    """True corners of the chart in every frame: (n, 4, 2) pixels."""
    return np.stack([shot.on_chart(u, v) for u, v in CORNERS], axis=1)


def plane_on(corners: F64, frame: int = 0, inset: float = 0.02, **settings: object) -> PlaneMotion:
    """A plane motion that looks at the chart, its quad on the true corners."""
    quad = corners[frame]
    middle = quad.mean(axis=0)
    region = Region(id="region-1", name="Chart", outline=polygon_outline(middle + (quad - middle) * (1 - inset), frame))
    a, b, c, d = ((float(x), float(y)) for x, y in quad)
    return PlaneMotion(id="plane", name="Chart", reference_frame=frame, quad=(a, b, c, d), regions=[region], **settings)  # type: ignore[arg-type]


def corner_errors(track: PlaneTrack, corners: F64) -> F64:
    """(n, 4) distances of the chart's corners from the truth, in every frame."""
    start = corners[track.reference_frame]
    return np.array([np.hypot(*(carry(start, track.homography[i]) - corners[i]).T) for i in range(track.frames)])


def nearly_plain() -> F32:
    """A painted wall: a percent or two of unevenness, and nothing else."""
    uneven = tx.layered_noise((600, 420), cell=(24, 24), octaves=4, seed=8).astype(np.float32)
    grey = 0.4 * (1 + 0.025 * uneven / max(float(uneven.std()), 1e-6))
    return np.repeat(grey[..., None], 3, axis=2).astype(np.float32)


@cache
def filmed(name: str) -> tuple[list[U8], F64]:
    """Pictures and true corners of a named truth shot, filmed once per run."""
    lean = np.radians(35)
    kinds: dict[str, dict[str, object]] = {
        "plain": {},
        "tilt": {"eyes": [(0, 0, 0.9), (0.9 * np.sin(lean), 0.05, 0.9 * np.cos(lean))]},
        "zoom": {"eyes": [(0, 0, 1.3), (0, 0.03, 0.65)]},
        "light": {"light": lambda t: 0.6 + 0.7 * t / 1.13},
        "blur": {"exposure_s": 1 / 48, "shake": 3.0, "samples": 4},
        "defocus": {"defocus_px": lambda t: 5 * t / 1.13},
        "arm": {"hand": lambda t: quad((-0.75 + 1.3 * t, -0.15, 0.12), 0.16, 0.75)},
        "sleeve": {"hand": lambda t: quad((-0.95 + 1.5 * t, -0.15, 0.12), 0.42, 0.75)},
        "wall": {"chart": nearly_plain(), "defocus_px": lambda t: 7 * t / 1.13},
    }  # fmt: skip
    shot = chart_shot(size=(800, 450), frames=34, **kinds[name])  # type: ignore[arg-type]
    return shot.frames, chart_corners(shot)
