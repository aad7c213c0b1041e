"""Fields of settings models: what the Details form, the schema and the evaluator need to know."""

from __future__ import annotations

import bisect
import functools
import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any, Final, Literal

from pydantic import BaseModel, ConfigDict, Field, PrivateAttr, ValidationInfo, model_validator

STORED = "stored"
"""In a validation context: the document was stored before, so numbers that are out of range are moved into it."""


When = Mapping[str, tuple[Any, ...]]
"""What must be set for something to mean anything: the values that each of these fields may have."""


class Settings(BaseModel):
    """Base of everything in a document: unknown fields, non-finite numbers and numbers out of their range are refused."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, json_schema_serialization_defaults_required=True)

    @model_validator(mode="after")
    def _within_ranges(self, info: ValidationInfo) -> Settings:
        stored = bool(info.context and info.context.get(STORED))
        for name, (label, low, high) in _ranges(type(self)).items():
            self.__dict__[name] = _bounded(self.__dict__[name], label, low, high, stored)
        return self


Ease = Literal["hold", "linear", "smooth", "curve"]


class Key(Settings):
    """A value set at a frame, and how it goes on from there.

    With `curve` the way to the next key is a cubic whose handles are `out_time`, `out_value` of this key and `in_time`,
    `in_value` of the next: times are parts of the way between the two keys, values are offsets from the keys' own.
    """

    frame: int = Field(ge=0)
    value: float
    ease: Ease = "smooth"
    out_time: float = Field(default=0.35, ge=0, le=1)
    out_value: float = Field(default=0.0, ge=-1e9, le=1e9)
    in_time: float = Field(default=0.35, ge=0, le=1)
    in_value: float = Field(default=0.0, ge=-1e9, le=1e9)


class Keyed(Settings):
    """A number that moves from key to key."""

    keys: list[Key] = Field(min_length=1, max_length=5000)
    _range: tuple[float, float] | None = PrivateAttr(None)

    @model_validator(mode="after")
    def _ordered(self) -> Keyed:
        frames = [k.frame for k in self.keys]
        if frames != sorted(set(frames)):
            raise ValueError("keys must be in order of frames, one per frame")
        return self


class Wobble(Settings):
    """How a number varies by itself: always the same way for the same seed.

    `amount` is how far it goes to either side, in the number's own unit; `every` how many frames pass from one value to
    the next.
    """

    kind: Literal["smooth", "flicker", "steps"] = "smooth"
    amount: float = Field(default=10.0, ge=0)
    every: float = Field(default=12.0, ge=0.25, le=10000)
    seed: int = Field(default=1, ge=0, le=9999)


class Wobbling(Settings):
    """A number with a wobble about its value or keys."""

    base: float | Keyed
    wobble: Wobble
    _range: tuple[float, float] | None = PrivateAttr(None)


Number = float | Keyed | Wobbling
"""Any number can move: a constant, keys, or a wobble about either. `value_at` is the one evaluator."""


def value_at(number: Number, frame: float) -> float:
    """The value of a number at a frame; before the first key and after the last it holds.

    A wobble, or a curve that swings over its keys, stays within the range of the field that the number belongs to.
    """
    if isinstance(number, Wobbling):
        return _held(value_at(number.base, frame) + wobble_at(number.wobble, frame), number._range)
    if not isinstance(number, Keyed):
        return float(number)
    return _held(_on_keys(number.keys, frame), number._range)


def _held(value: float, within: tuple[float, float] | None) -> float:
    return value if within is None else min(max(value, within[0]), within[1])


def _on_keys(keys: list[Key], frame: float) -> float:
    if frame <= keys[0].frame:
        return keys[0].value
    at = bisect.bisect_right(keys, frame, key=lambda k: k.frame) - 1
    if at == len(keys) - 1:
        return keys[-1].value
    a, b = keys[at], keys[at + 1]
    if a.ease == "hold":
        return a.value
    u = (frame - a.frame) / (b.frame - a.frame)
    if a.ease == "curve":
        return _curved(a, b, u)
    if a.ease == "smooth":
        u = u * u * (3 - 2 * u)
    return a.value + (b.value - a.value) * u


def times(number: Number, by: float) -> Number:
    """The number so many times as large at every frame, whatever moves it."""
    return _linear(number, by, 0.0)


def raised(number: Number, by: float) -> Number:
    """The number with its value, or all its keys, raised by so much."""
    return _linear(number, 1.0, by)


def later(number: Number, frames: int) -> Number:
    """The number as it was so many frames before: its keys come later."""
    if isinstance(number, Wobbling):
        return number.model_copy(update={"base": later(number.base, frames)})
    if isinstance(number, Keyed):
        return number.model_copy(
            update={"keys": [key.model_copy(update={"frame": key.frame + frames}) for key in number.keys]}
        )
    return number


def _linear(number: Number, scale: float, shift: float) -> Number:
    if isinstance(number, Wobbling):
        base, wobble = _linear(number.base, scale, shift), number.wobble
        wider = wobble.model_copy(update={"amount": wobble.amount * abs(scale)})
        return number.model_copy(update={"base": base, "wobble": wider})
    if isinstance(number, Keyed):
        return Keyed(keys=[key.model_copy(update={
            "value": key.value * scale + shift, "out_value": key.out_value * scale, "in_value": key.in_value * scale,
        }) for key in number.keys])  # fmt: skip
    return number * scale + shift


def _curved(a: Key, b: Key, u: float) -> float:
    """The value where the cubic between two keys is at a part `u` of the time: its time never runs backwards."""
    p, q = a.out_time, 1 - b.in_time
    low, high = 0.0, 1.0
    for _ in range(40):
        t = (low + high) / 2
        time = 3 * (1 - t) ** 2 * t * p + 3 * (1 - t) * t * t * q + t**3
        low, high = (t, high) if time < u else (low, t)
    t = (low + high) / 2
    first, second = a.value + a.out_value, b.value + b.in_value
    return (1 - t) ** 3 * a.value + 3 * (1 - t) ** 2 * t * first + 3 * (1 - t) * t * t * second + t**3 * b.value


def wobble_at(wobble: Wobble, frame: float) -> float:
    """How far a wobble is from nought at a frame, in the number's unit; `web/src/workspace/geometry.ts` has the same."""
    t = frame / wobble.every
    if wobble.kind == "steps":
        part = _random(wobble.seed, math.floor(t))
    elif wobble.kind == "flicker":
        part = 0.55 * _random(wobble.seed, math.floor(t)) + 0.45 * _drift(wobble.seed + 5003, t / 5)
    else:
        part = (_drift(wobble.seed, t) + 0.4 * _drift(wobble.seed + 7919, t * 2.37)) / 1.4
    return wobble.amount * part


def _drift(seed: int, t: float) -> float:
    """Smooth noise between -1 and 1: random values at whole numbers, eased into each other."""
    k = math.floor(t)
    u = t - k
    u = u * u * u * (u * (6 * u - 15) + 10)
    return _random(seed, k) * (1 - u) + _random(seed, k + 1) * u


def _random(seed: int, k: int) -> float:
    """A number between -1 and 1 for every whole number: an avalanche of 32 bits, which a browser can do alike."""
    mask = 0xFFFFFFFF
    h = ((k & mask) * 0x9E3779B1 & mask) ^ (seed * 0x85EBCA6B & mask)
    h = ((h ^ (h >> 16)) * 0x7FEB352D) & mask
    h = ((h ^ (h >> 15)) * 0x846CA68B) & mask
    return (h ^ (h >> 16)) / 2**31 - 1


@functools.cache
def _ranges(model: type[Settings]) -> dict[str, tuple[str, float, float]]:
    """Label and range of every field of a model that is a `number`."""
    out = {}
    for name, field in model.model_fields.items():
        extra = field.json_schema_extra
        told: Any = extra.get("x-plonket") if isinstance(extra, dict) else None
        if told and told["control"] == "number":
            out[name] = (told["label"], float(told["low"]), float(told["high"]))
    return out


def _bounded(number: Number | None, label: str, low: float, high: float, stored: bool) -> Number | None:
    """The number, bound to its range. Raises `ValueError` when it is out of it and was not stored that way."""

    def within(value: float) -> float:
        if low <= value <= high:
            return value
        if not stored:
            raise ValueError(f"{label} goes from {low:g} to {high:g}; {value:g} lies outside")
        return min(max(value, low), high)

    if isinstance(number, Wobbling):
        base = _bounded(number.base, label, low, high, stored)
        wobble = number.wobble
        if wobble.amount > high - low:
            if not stored:
                raise ValueError(f"{label} goes from {low:g} to {high:g}; a wobble by {wobble.amount:g} is more than that")
            wobble = wobble.model_copy(update={"amount": high - low})
        out: Keyed | Wobbling = number.model_copy(update={"base": base, "wobble": wobble})
    elif isinstance(number, Keyed):
        inside = [within(key.value) for key in number.keys]
        keys = [k if k.value == v else k.model_copy(update={"value": v}) for k, v in zip(number.keys, inside, strict=True)]
        out = number.model_copy(update={"keys": keys})
    else:
        return None if number is None else within(number)
    out._range = (low, high)
    return out


def _when(when: When | None) -> dict[str, Any]:
    return {"when": {name: list(values) for name, values in when.items()}} if when else {}


def number(
    default: float, *, label: str, low: float, high: float, step: float, unit: str = "", help: str = "",
    group: str = "", soft: tuple[float, float] | None = None, when: When | None = None,
) -> Any:  # fmt: skip
    """A field for a number that can move, with its range, unit and label for the form.

    `soft` is the range of the slider when it is narrower than what may be typed; `when` says what must be set for it to
    mean anything.
    """
    extra: dict[str, Any] = {
        "control": "number", "label": label, "low": low, "high": high, "step": step, "unit": unit, "help": help,
        "group": group, "soft": list(soft or (low, high)), "default": default, **_when(when),
    }  # fmt: skip
    return Field(default=default, json_schema_extra={"x-plonket": extra})


def plain(
    default: float, *, label: str, low: float, high: float, step: float, unit: str = "", help: str = "",
    group: str = "", whole: bool = False, soft: tuple[float, float] | None = None, when: When | None = None,
    nought: str | None = None,
) -> Any:  # fmt: skip
    """A field for a number that does not move in time; `soft` and `when` as of `number`, `nought` what stands in place of 0."""
    extra: dict[str, Any] = {
        "control": "plain", "label": label, "low": low, "high": high, "step": step, "unit": unit, "help": help,
        "group": group, "soft": list(soft or (low, high)), "default": default, **_when(when),
        **({} if nought is None else {"nought": nought}),
    }  # fmt: skip
    return Field(default=int(default) if whole else default, ge=low, le=high, json_schema_extra={"x-plonket": extra})


def choice(
    default: Any, *, label: str, names: dict[str, str], help: str = "", group: str = "", when: When | None = None
) -> Any:
    """A field for one of several named options."""
    extra: dict[str, Any] = {
        "control": "choice", "label": label, "names": names, "help": help, "group": group, "default": default, **_when(when),
    }  # fmt: skip
    return Field(default=default, json_schema_extra={"x-plonket": extra})


def switch(default: bool, *, label: str, help: str = "", group: str = "", when: When | None = None) -> Any:
    """A field that is on or off."""
    extra: dict[str, Any] = {"control": "switch", "label": label, "help": help, "group": group, "default": default,
                             **_when(when)}  # fmt: skip
    return Field(default=default, json_schema_extra={"x-plonket": extra})


COLOUR = r"^#[0-9a-fA-F]{6}$"
"""How colours are written: sRGB."""


def colour(default: str, *, label: str, help: str = "", group: str = "") -> Any:
    """A field for a colour, sRGB as ``#rrggbb``."""
    extra: dict[str, Any] = {"control": "colour", "label": label, "help": help, "group": group, "default": default}
    return Field(default=default, pattern=COLOUR, json_schema_extra={"x-plonket": extra})


class CurvePoint(Settings):
    """A point of a curve from 0 to 1."""

    x: float = Field(ge=0, le=1)
    y: float = Field(ge=0, le=1)


def curve(*, label: str, help: str = "", group: str = "") -> Any:
    """A field for a curve through points, drawn by hand; at first it leaves everything as it is."""
    extra: dict[str, Any] = {"control": "curve", "label": label, "help": help, "group": group, "default": None}
    return Field(default_factory=lambda: [CurvePoint(x=0, y=0), CurvePoint(x=1, y=1)], min_length=2, max_length=24,
                 json_schema_extra={"x-plonket": extra})  # fmt: skip


def asset(kind: str, *, label: str, help: str = "", group: str = "", when: When | None = None) -> Any:
    """A field for something of a kind from the shelf, by its content hash."""
    extra: dict[str, Any] = {"control": "asset", "label": label, "help": help, "group": group, "default": None, "kind": kind,
                             **_when(when)}  # fmt: skip
    return Field(default=None, json_schema_extra={"x-plonket": extra})


def thing(*, label: str, help: str = "", group: str = "", every: str = "", when: When | None = None) -> Any:
    """A field for a model or form of the room, by its layer's id; without one it means what `every` says."""
    extra: dict[str, Any] = {"control": "thing", "label": label, "names": {"every": every}, "help": help, "group": group,
                             "default": None, **_when(when)}  # fmt: skip
    return Field(default=None, json_schema_extra={"x-plonket": extra})


class Unseen:
    """Metadata of a field that no picture depends on: what it says is only shown to people, or only says how to measure."""


UNSEEN: Final = Unseen()

GOES: Final = "goes"
"""In place of a value that is left: the item of a list, or the layer or motion that cannot be without it, goes along."""
PART_GOES: Final = "part goes"
"""In place of a value that is left: the part of a thing that holds the field, as a mask or a key, goes along."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Reference:
    """Metadata of a field whose value names something else.

    Attributes
    ----------
    to : what it names: something in the shot by its id, or an `asset` or a `measurement` by its content hash. A `place` is a
        motion or a perch; a motion's kind stands for motions of that kind.
    prefix : stands before the id; values without it name nothing.
    says : what the field's owner does with it, for messages.
    left : what the field holds when that is removed, or `GOES`, or `PART_GOES`.
    checked : whether it must be there.
    takes : fields that the owner takes over from it when it is removed.
    owns : it goes along with the last that names it.
    leads : the owner's place comes from it.
    """

    to: str
    prefix: str = ""
    says: str = "refers to something"
    left: str | None = None
    checked: bool = True
    takes: tuple[str, ...] = ()
    owns: bool = False
    leads: bool = False


def reference(
    to: str, *, prefix: str = "", says: str = "refers to something", left: str | None = None, checked: bool = True,
    takes: tuple[str, ...] = (), owns: bool = False, leads: bool = False,
) -> Reference:  # fmt: skip
    """Marks a field, within `Annotated`, as naming something else: the one place where that is said; see `Reference`."""
    return Reference(to=to, prefix=prefix, says=says, left=left, checked=checked, takes=takes, owns=owns, leads=leads)


Identifier = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_-]{0,63}$")]
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
AssetDigest = Annotated[Digest, reference("asset")]
"""The content hash of something from the shelf."""
MeasurementDigest = Annotated[Digest, reference("measurement")]
"""The content hash of what was measured."""
Rides = Annotated[
    str, Field(pattern=r"^(footage|screen|own|to:[a-z0-9][a-z0-9_-]{0,63})$"),
    reference("place", prefix="to:", says="follows something", left="footage"),
]
"""In whose pixels something is drawn: of the *footage*; of the finished *screen*; of the layer's *own* picture; or ``to:ID``,
of a motion's reference frame or from a perch."""
Name = Annotated[str, Field(min_length=1, max_length=120), UNSEEN]
"""What people call it."""
