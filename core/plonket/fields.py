"""Fields of settings models: what the Details form, the schema and the evaluator need to know."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator


class Model(BaseModel):
    """Base of everything in a document: unknown fields and non-finite numbers are refused."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, json_schema_serialization_defaults_required=True)


Ease = Literal["hold", "linear", "smooth"]


class Key(Model):
    """A value set at a frame, and how it goes on from there."""

    frame: int = Field(ge=0)
    value: float
    ease: Ease = "smooth"


class Keyed(Model):
    """A number that moves from key to key."""

    keys: list[Key] = Field(min_length=1)

    @model_validator(mode="after")
    def _ordered(self) -> Keyed:
        frames = [k.frame for k in self.keys]
        if frames != sorted(set(frames)):
            raise ValueError("keys must be in order of frames, one per frame")
        return self


Number = float | Keyed
"""Any number can move: a constant or keys. `value_at` is the one evaluator."""


def value_at(number: Number, frame: float) -> float:
    """The value of a number at a frame; before the first key and after the last it holds."""
    if not isinstance(number, Keyed):
        return float(number)
    keys = number.keys
    if frame <= keys[0].frame:
        return keys[0].value
    for a, b in zip(keys[:-1], keys[1:], strict=True):
        if frame < b.frame:
            if a.ease == "hold":
                return a.value
            u = (frame - a.frame) / (b.frame - a.frame)
            if a.ease == "smooth":
                u = u * u * (3 - 2 * u)
            return a.value + (b.value - a.value) * u
    return keys[-1].value


def number(
    default: float, *, label: str, low: float, high: float, step: float, unit: str = "", help: str = "",
    group: str = "", soft: tuple[float, float] | None = None,
) -> Any:  # fmt: skip
    """A field for a number that can move, with its range, unit and label for the form.

    `soft` is the range of the slider when it is narrower than what may be typed.
    """
    extra: dict[str, Any] = {
        "control": "number", "label": label, "low": low, "high": high, "step": step, "unit": unit, "help": help,
        "group": group, "soft": list(soft or (low, high)), "default": default,
    }  # fmt: skip
    return Field(default=default, json_schema_extra={"x-plonket": extra})


def plain(
    default: float, *, label: str, low: float, high: float, step: float, unit: str = "", help: str = "",
    group: str = "", whole: bool = False,
) -> Any:  # fmt: skip
    """A field for a number that does not move in time."""
    extra: dict[str, Any] = {
        "control": "plain", "label": label, "low": low, "high": high, "step": step, "unit": unit, "help": help,
        "group": group, "soft": [low, high], "default": default,
    }  # fmt: skip
    return Field(default=int(default) if whole else default, ge=low, le=high, json_schema_extra={"x-plonket": extra})


def choice(default: Any, *, label: str, names: dict[str, str], help: str = "", group: str = "") -> Any:
    """A field for one of several named options."""
    extra: dict[str, Any] = {
        "control": "choice", "label": label, "names": names, "help": help, "group": group, "default": default,
    }  # fmt: skip
    return Field(default=default, json_schema_extra={"x-plonket": extra})


def switch(default: bool, *, label: str, help: str = "", group: str = "") -> Any:
    """A field that is on or off."""
    extra: dict[str, Any] = {"control": "switch", "label": label, "help": help, "group": group, "default": default}
    return Field(default=default, json_schema_extra={"x-plonket": extra})


def colour(default: str, *, label: str, help: str = "", group: str = "") -> Any:
    """A field for a colour, sRGB as ``#rrggbb``."""
    extra: dict[str, Any] = {"control": "colour", "label": label, "help": help, "group": group, "default": default}
    return Field(default=default, pattern=r"^#[0-9a-fA-F]{6}$", json_schema_extra={"x-plonket": extra})


Identifier = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9_-]{0,63}$")]
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
Name = Annotated[str, Field(min_length=1, max_length=120)]
