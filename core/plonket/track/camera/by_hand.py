"""A solved camera put right by hand: steps aside, turns and zooms that may be keyed, and parts that are smoothed.

The solve itself stays untouched; what comes out is another track of the same details, with the error that it costs.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

import numpy as np
from scipy.ndimage import gaussian_filter1d
from scipy.optimize import least_squares

from plonket.base.conventions import F32, F64
from plonket.base.errors import BadInput
from plonket.base.fields import Key, Keyed, Number, Wobbling, value_at, wobble_at
from plonket.document.shot import Shot
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.settings import BY_HAND, CameraMotion

Make = Callable[[str, CameraMotion, float], str]
PULLED = ("pan", "tilt", "roll")
"""What pulling at details turns."""
MOVING = tuple(name for name in BY_HAND if name != "smooth_over")


def is_untouched(motion: CameraMotion) -> bool:
    """Whether nothing is set by hand."""
    return all(_is_nothing(getattr(motion, name)) for name in MOVING)


def _is_nothing(number: Number) -> bool:
    return all(key.value == 0 for key in number.keys) if isinstance(number, Keyed) else number == 0


def said_by_hand(motion: CameraMotion) -> str:
    """All that `put_right` goes by, as text that is the same for the same."""
    return motion.model_dump_json(include={*BY_HAND}) + f" {motion.room.scale!r}"


def put_right(track: CameraTrack, motion: CameraMotion, fps: float) -> CameraTrack:
    """A solved track as its motion says by hand, and the error that it has so."""
    made = placed(track, motion, fps)
    return replace(made, error_px=_errors(made))


def placed(track: CameraTrack, motion: CameraMotion, fps: float) -> CameraTrack:
    """A solved track as its motion says by hand, whose numbers are set on the clip's frames; its error is left as it was.

    First the parts that are smoothed; then, along the camera's own axes, steps in the room's metres and turns in degrees; and
    zoom.
    """
    n = track.frames
    numbers = {name: np.array([value_at(getattr(motion, name), i) for i in range(n)]) for name in MOVING}
    position, rotation, focal = _smoothed(track, numbers["smoothed"] / 100, motion.smooth_over * fps / 2)
    steps = np.stack([numbers["aside"], numbers["up"], -numbers["ahead"]], axis=1) / motion.room.scale
    position = position + np.einsum("nij,nj->ni", rotation, steps)
    rotation = rotation @ _turns(numbers["pan"], numbers["tilt"], numbers["roll"])
    focal = focal * (1 + numbers["zoom_by"] / 100)
    return replace(track, position=position, rotation=rotation, focal=focal)


def pulled(
    track: CameraTrack, motion: CameraMotion, frame: int, to: Mapping[int, tuple[float, float]], *, over: int, fps: float
) -> dict[str, Number]:
    """Turns by which details lie in a frame where they are pulled to: numbers of the motion, by their names.

    One detail pans and tilts the camera, several roll it too, so that they fit best.

    Parameters
    ----------
    track : as solved. to : pixels (x, y) of the clip by the numbers of details. over : over so many frames before and after
        it the turn comes and goes, unless a key lies there; what was set there before stays.

    Raises
    ------
    BadInput
        Where nothing is pulled, a detail is not there or behind the camera, or the frame is not solved.
    """
    if not 0 <= frame < track.frames or not track.known()[frame]:
        raise BadInput("pull.frame", f"The camera is not solved in frame {frame}.")
    at = {int(number): k for k, number in enumerate(track.ids)}
    if not to or any(number not in at for number in to):
        raise BadInput("pull.details", "Pick details of this camera to pull at.")
    places = track.points[[at[number] for number in to]]
    wanted = np.array(list(to.values()))
    names = PULLED[:2] if len(to) == 1 else PULLED
    start = {name: value_at(getattr(motion, name), frame) for name in names}

    def numbers(values: F64) -> dict[str, Number]:
        return {name: _bent(getattr(motion, name), frame, float(v), over, track.frames)
                for name, v in zip(names, values, strict=True)}  # fmt: skip

    def off(values: F64) -> F64:
        moved = placed(track, motion.model_copy(update=numbers(values)), fps)
        found = RoomCamera(moved, Room()).project(frame, places)
        return np.nan_to_num(found - wanted, nan=1e4, posinf=1e4, neginf=-1e4).ravel()

    first = np.array(list(start.values()))
    if np.abs(off(first)).max() >= 1e4:
        raise BadInput("pull.details", "What is pulled at lies behind the camera in this frame.")
    found = least_squares(off, first, x_scale=0.1)
    return {name: _rounded(number) for name, number in numbers(found.x).items()}


def _bent(number: Number, frame: int, value: float, over: int, frames: int) -> Number:
    """A number with a key at a frame, and as it was from `over` frames away on. What wobbles goes on to."""
    if isinstance(number, Wobbling):
        base = _bent(number.base, frame, value - wobble_at(number.wobble, frame), over, frames)
        return number.model_copy(update={"base": base})
    keys = {key.frame: key for key in number.keys} if isinstance(number, Keyed) else {}
    others = [one for one in keys if one != frame]
    # Where a key lies nearer, it says itself how things go on.
    for edge in (frame - over - 1, frame + over + 1):
        nearer = [one for one in others if min(frame, edge) <= one <= max(frame, edge)]
        if 0 <= edge < frames and not nearer:
            keys[edge] = Key(frame=edge, value=value_at(number, edge))
    keys[frame] = keys[frame].model_copy(update={"value": value}) if frame in keys else Key(frame=frame, value=value)
    return Keyed(keys=[keys[one] for one in sorted(keys)])


def _rounded(number: Number) -> Number:
    """To a hundred-thousandth of a degree."""
    if isinstance(number, Wobbling):
        return number.model_copy(update={"base": _rounded(number.base)})
    assert isinstance(number, Keyed)
    return Keyed(keys=[key.model_copy(update={"value": round(key.value, 5)}) for key in number.keys])


def settled(shot: Shot, make: Make) -> Shot:
    """The shot in which every camera that is put right by hand has a track that says so; others have theirs as solved.

    make : the digest of what `put_right` makes of a solve, by its digest.
    """
    motions = list(shot.motions)
    for k, motion in enumerate(motions):
        if not isinstance(motion, CameraMotion):
            continue
        base = motion.untouched
        if base is None or shot.footage is None or is_untouched(motion):
            motions[k] = motion if motion.solved is None else motion.model_copy(update={"measurement": base, "solved": None})
        else:
            made = make(base, motion, float(shot.footage.filmed_fps))
            motions[k] = motion.model_copy(update={"measurement": made, "solved": base})
    same = all(a == b for a, b in zip(motions, shot.motions, strict=True))
    return shot if same else shot.model_copy(update={"motions": motions})


def _smoothed(track: CameraTrack, share: F64, sd: float) -> tuple[F64, F64, F64]:
    """Position (n, 3), rotation (n, 3, 3) and focal (n,), each as much on a path without shakes as `share` (n,) says."""
    position, rotation, focal = track.position, track.rotation, track.focal
    if not share.any() or track.frames < 3 or sd <= 0:
        return position, rotation, focal
    calm = [gaussian_filter1d(values, sd, axis=0, mode="nearest") for values in (position, rotation, focal)]
    weight = np.clip(share, 0, 1)
    position = position + weight[:, None] * (calm[0] - position)
    mixed = rotation + weight[:, None, None] * (calm[1] - rotation)
    u, _, vt = np.linalg.svd(mixed)
    return position, np.asarray(u @ vt), focal + weight * (calm[2] - focal)


def _turns(pan: F64, tilt: F64, roll: F64) -> F64:
    """(n, 3, 3) in the camera's own axes: pan to the right, tilt up, roll as the clock goes, in degrees."""
    (cp, sp), (ct, st), (cr, sr) = ((np.cos(np.radians(a)), np.sin(np.radians(a))) for a in (-pan, tilt, -roll))
    nought, one = np.zeros_like(pan), np.ones_like(pan)
    about_y = np.array([[cp, nought, sp], [nought, one, nought], [-sp, nought, cp]])
    about_x = np.array([[one, nought, nought], [nought, ct, -st], [nought, st, ct]])
    about_z = np.array([[cr, -sr, nought], [sr, cr, nought], [nought, nought, one]])
    y, x, z = (m.transpose(2, 0, 1) for m in (about_y, about_x, about_z))
    return np.asarray(y @ x @ z)


def _errors(track: CameraTrack) -> F32:
    """(n,) mean distance in pixels from where kept details were seen to where the track puts them; as it was where none is."""
    out = track.error_px.copy()
    camera = RoomCamera(track, Room())
    places, seen = track.points[track.kept], track.xy[track.kept]
    for frame in np.flatnonzero(track.known()):
        there = np.isfinite(seen[:, frame, 0])
        if there.any():
            off = np.hypot(*(camera.project(int(frame), places[there]) - seen[there, frame]).T)
            off = off[np.isfinite(off)]
            out[frame] = off.mean() if len(off) else out[frame]
    return out
