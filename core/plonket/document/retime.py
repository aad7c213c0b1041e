"""Letting a shot's footage run otherwise: pure functions from shots to shots, over ranges of the shot's frames.

Keys on the footage's `TimeMap` are cut, stretched, mirrored and joined. What of the stack begins after the range goes along,
and so do markers; all else stays at the frames of the shot at which it is.
"""

from __future__ import annotations

from plonket.base.errors import BadInput
from plonket.base.fields import Key, Keyed, Wobbling, value_at
from plonket.document.operations import shift
from plonket.document.shot import Footage, Shot, read_shot
from plonket.document.time_map import TimeMap

SLOWEST, FASTEST = 1.0, 10_000.0
"""Speeds in percent."""


def set_speed(shot: Shot, first: int, last: int, percent: float) -> Shot:
    """Frames first..last run at so many percent of the speed they have; below nought they run backwards.

    Raises
    ------
    BadInput
        For a speed of nought, and for ranges outside the shot.
    """
    if not SLOWEST <= abs(percent) <= FASTEST:
        raise BadInput("time.speed", f"The speed goes from {SLOWEST:g} to {FASTEST:g} %, forwards or backwards. "
                       "To let the picture stand still, hold a frame.")  # fmt: skip
    footage, keys = _open(shot, first, last)
    stretched = _stretched(footage, keys, first, last, 100 / abs(percent))
    if percent < 0:
        stretched = _mirrored(stretched)
    return _laid(shot, keys, first, last, stretched, cut=percent < 0)


def hold(shot: Shot, frame: int, frames: int) -> Shot:
    """A frame is shown for so many frames more."""
    _footage, keys = _open(shot, frame, frame)
    if frames < 1:
        raise BadInput("time.hold", "A frame is held for one frame more at the least.")
    value = value_at(Keyed(keys=keys), frame)
    return _laid(shot, keys, frame, frame, [_key(frame, value), _key(frame + frames, value)])


def ramp(shot: Shot, first: int, last: int) -> Shot:
    """Over frames first..last the speed goes evenly from what it is before them to what it is after them.

    They show the same part of the clip as before, in as many frames as that takes.
    """
    footage, keys = _open(shot, first, last)
    moment = Keyed(keys=keys)
    if first < 1 or last + 1 >= footage.length:
        raise BadInput("time.ramp", "A ramp needs frames before it and after it, whose speeds it leads from and to.")
    begins, ends = value_at(moment, first), value_at(moment, last + 1)
    before = begins - value_at(moment, first - 1)
    after = value_at(moment, min(last + 2, footage.length - 1)) - ends
    mean = (before + after) / 2
    if before * after < 0 or mean * (ends - begins) <= 0:
        raise BadInput("time.ramp", "The speed can be ramped where the clip runs one way only, before, in and after the range.")
    count = max(1, round((ends - begins) / mean))
    # With handles at a third of the way time goes evenly, and the cubic has the speeds that it is given at its ends.
    whole = [
        Key(frame=first, value=begins, ease="curve", out_time=1 / 3, out_value=before * count / 3),
        Key(frame=first + count, value=ends, ease="linear", in_time=1 / 3, in_value=-after * count / 3),
    ]
    return _laid(shot, keys, first, last, whole, reaches=True)


def cut_out(shot: Shot, first: int, last: int) -> Shot:
    """Frames first..last are not in the shot any more."""
    footage, keys = _open(shot, first, last)
    if last - first + 1 >= footage.length:
        raise BadInput("time.cut", "That would leave nothing of the shot.")
    return _laid(shot, keys, first, last, [], cut=True)


def add_range(shot: Shot, first: int, last: int) -> Shot:
    """The clip's frames first..last are shown after the shot's last; backwards where `last` comes first."""
    footage, keys = _open(shot, 0, 0)
    if not (0 <= first < footage.frames and 0 <= last < footage.frames):
        raise BadInput("time.range", f"The clip has frames 0 to {footage.frames - 1}.")
    end = footage.length
    added = [_key(end, first), _key(end + abs(last - first), last)] if first != last else [_key(end, first)]
    made = _with_keys(shot, _joined(keys, added, cut=True))
    assert made.footage is not None
    whole = footage.out_frame == end - 1
    return _checked(made, {"out_frame": made.footage.length - 1} if whole else {})


def clear(shot: Shot) -> Shot:
    """The footage runs as it was filmed again, over the part of the clip that the shot showed."""
    return shot if shot.footage is None or shot.footage.time is None else as_filmed(shot)


def as_filmed(shot: Shot) -> Shot:
    """The shot in the clip's own time: what is measured, masked and mended belongs to the clip's frames."""
    if shot.footage is None or shot.footage.time is None:
        return shot
    first, last = shot.footage.clip_range
    footage = shot.footage.model_copy(update={"time": None, "in_frame": first, "out_frame": last})
    return shot.model_copy(update={"footage": footage})


def _open(shot: Shot, first: int, last: int) -> tuple[Footage, list[Key]]:
    """The footage and its keys, those of a clip that runs as it was filmed too."""
    footage = shot.footage
    if footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet.")
    if not 0 <= first <= last < footage.length:
        raise BadInput("time.range", f"Frames {first} to {last} do not lie within the shot, which has frames 0 to "
                       f"{footage.length - 1}.")  # fmt: skip
    keys = footage.time.keys if footage.time is not None else []
    if keys:
        return footage, list(keys)
    if footage.time is not None:
        return footage, [_key(0, footage.moment(0))]
    end = footage.frames - 1
    return footage, [_key(0, 0)] + ([_key(end, end)] if end else [])


def _stretched(footage: Footage, keys: list[Key], first: int, last: int, by: float) -> list[Key]:
    """The keys of frames first..last with so many times as much time between them, beginning at `first`."""
    moment = Keyed(keys=keys)
    step = value_at(moment, last) - value_at(moment, last - 1) if last > first else 1.0
    goes_on = last + 1 < footage.length and not _cut_after(keys, last)
    beyond = value_at(moment, last + 1) if goes_on else value_at(moment, last) + step
    # What counts is where the run leads: its last frame lies somewhere before that.
    run = _joined(_part(keys, first, last), [_key(last + 1, beyond)], cut=False)
    count = max(1, round((last - first + 1) * by))
    scaled = _spread(run, first, by)
    scaled[-1] = scaled[-1].model_copy(update={"frame": max(first + count, scaled[-2].frame + 1)})
    ends = first + count - 1
    while ends > first and not 0 <= value_at(Keyed(keys=scaled), ends) <= footage.frames - 1 + 1e-9:
        ends -= 1
    return _part(scaled, first, ends)


def _spread(run: list[Key], first: int, by: float) -> list[Key]:
    """Keys so many times as far from a frame, one a frame; cuts stay from one frame to the next."""
    out: list[Key] = []
    for key in run:
        at = first + round((key.frame - first) * by)
        if out and out[-1].ease == "hold":
            at = max(at, out[-1].frame + 1)
            out[-1] = out[-1].model_copy(update={"frame": at - 1})
        # Of those that come to lie on one frame the last counts; the first stays, for the run begins there.
        while len(out) > 1 and out[-1].frame >= at:
            out.pop()
        if out and out[-1].frame >= at:
            if key is not run[-1]:
                continue
            at = out[-1].frame + 1
        out.append(key.model_copy(update={"frame": at}))
    return out


def _mirrored(keys: list[Key]) -> list[Key]:
    """The same from the end to the beginning."""
    first, last = keys[0].frame, keys[-1].frame
    eases = [key.ease for key in keys]
    return [
        key.model_copy(update={
            "frame": first + last - key.frame, "ease": eases[k - 1] if k else "linear", "out_time": key.in_time,
            "out_value": key.in_value, "in_time": key.out_time, "in_value": key.out_value,
        })
        for k, key in reversed(list(enumerate(keys)))
    ]  # fmt: skip


def _laid(
    shot: Shot, keys: list[Key], first: int, last: int, piece: list[Key], *, cut: bool = False, reaches: bool = False
) -> Shot:
    """The shot with a piece in the place of frames first..last; what comes after them goes along.

    `cut` : the clip jumps where it is joined. `reaches` : the piece's last key is where what comes after begins.
    """
    footage = shot.footage
    assert footage is not None
    end = footage.length - 1
    by = (piece[-1].frame + (0 if reaches else 1) if piece else first) - (last + 1)
    rest = [key.model_copy(update={"frame": key.frame + by}) for key in _part(keys, last + 1, end)]
    if reaches:
        rest = [rest[0].model_copy(update={"in_time": piece[-1].in_time, "in_value": piece[-1].in_value}), *rest[1:]]
        piece = piece[:-1]
    joined = _joined(_part(keys, 0, first - 1), piece, cut=cut or _cut_after(keys, first - 1))
    joined = _joined(joined, rest, cut=cut or _cut_after(keys, last))
    made = _moved_along(_with_keys(shot, joined), last, by)
    a, b = footage.in_frame, footage.out_frame
    limits = (0, end + by)
    values = {"in_frame": a + by if a > last else min(a, first), "out_frame": b + by if b >= last else b}
    values = {name: min(max(v, limits[0]), limits[1]) for name, v in values.items()}
    values["out_frame"] = max(values["out_frame"], values["in_frame"])
    return _checked(made, values)


def _moved_along(shot: Shot, after: int, by: int) -> Shot:
    """The shot with the layers that begin, and the markers that lie, after a frame so many frames later."""
    for layer in shot.layers:
        if layer.begins is not None and layer.begins > after:
            shot = shift(shot, layer.id, by)
    markers = [one.model_copy(update={"frame": max(one.frame + by, 0)}) if one.frame > after else one for one in shot.markers]
    return shot.model_copy(update={"markers": markers})


def _part(keys: list[Key], first: int, last: int) -> list[Key]:
    """The keys of frames first..last, with one at either end."""
    if last < first:
        return []
    keys = _with_key(_with_key(keys, first), last)
    return [key for key in keys if first <= key.frame <= last]


def _with_key(keys: list[Key], frame: int) -> list[Key]:
    """The same run with a key at a frame."""
    at = next((k for k, key in enumerate(keys) if key.frame >= frame), len(keys))
    if at < len(keys) and keys[at].frame == frame:
        return keys
    value = value_at(Keyed(keys=keys), frame)
    if at in (0, len(keys)) or keys[at - 1].ease in ("linear", "hold"):
        return [*keys[:at], _key(frame, value, keys[at - 1].ease if 0 < at < len(keys) else "linear"), *keys[at:]]
    # What is curved is cut into straight pieces from frame to frame.
    a, b = keys[at - 1], keys[at]
    run = [_key(f, value_at(Keyed(keys=keys), f)) for f in range(a.frame, b.frame)]
    return [*keys[: at - 1], *run, *keys[at:]]


def _joined(before: list[Key], after: list[Key], *, cut: bool) -> list[Key]:
    """One run after another, without keys in the middle of straight ones."""
    if not before or not after:
        return before or after
    ease = "hold" if cut else "linear" if before[-1].ease == "hold" else before[-1].ease
    out = [*before[:-1], before[-1].model_copy(update={"ease": ease}), *after]
    for k in range(len(out) - 2, 0, -1):
        a, b, c = out[k - 1 : k + 2]
        straight = a.ease == b.ease == "linear"
        if straight and abs((b.value - a.value) * (c.frame - b.frame) - (c.value - b.value) * (b.frame - a.frame)) < 1e-6:
            del out[k]
    return out


def _cut_after(keys: list[Key], frame: int) -> bool:
    return any(key.frame == frame and key.ease == "hold" for key in keys)


def _key(frame: int, value: float, ease: str = "linear") -> Key:
    return Key.model_validate({"frame": frame, "value": value, "ease": ease})


def _with_keys(shot: Shot, keys: list[Key]) -> Shot:
    assert shot.footage is not None
    time = shot.footage.time or TimeMap()
    moment: Keyed | Wobbling = Keyed(keys=keys)
    if isinstance(time.moment, Wobbling):
        moment = time.moment.model_copy(update={"base": moment})
    footage = shot.footage.model_copy(update={"time": time.model_copy(update={"moment": moment})})
    return shot.model_copy(update={"footage": footage})


def _checked(shot: Shot, values: dict[str, int]) -> Shot:
    """The same with these values of its footage, checked as a whole. Raises `BadInput`."""
    assert shot.footage is not None
    return read_shot(shot.model_copy(update={"footage": shot.footage.model_copy(update=values)}).model_dump(mode="json"))
