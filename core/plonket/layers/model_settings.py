"""What a 3D model in a room is set to."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from plonket.base.fields import AssetDigest, Number, choice, number, plain, switch, value_at
from plonket.layers.copied import CopiedLayer
from plonket.layers.falling import EARLIEST
from plonket.layers.filmed import FilmedLayer
from plonket.layers.model_looks import MOST_PARTS, SURFACE_NAMES, PartLook, Surface
from plonket.raytrace.request import Mirror

FLAT_BY = 5.0
"""From a fifth of the setting on ground mirrors all at the flattest look; below, less of it, so that it comes in by degrees."""


class MeshLayer(FilmedLayer, CopiedLayer):
    """A model on a perch that is a spot in a room: the perch says where it stands, the layer how it looks.

    `extent` is the model's width, height and depth in its file's unit; `pivot` the place on it, from its bottom's middle and in
    that unit, that stands on the spot and about which it turns and grows.
    """

    kind: Literal["model"] = "model"
    asset: AssetDigest
    extent: tuple[float, float, float]
    pivot: tuple[float, float, float] = (0.0, 0.0, 0.0)
    tall: Number = number(0.2, label="Height", low=0.0001, high=10000, step=0.001, unit="m", group="Model", soft=(0.01, 3),
                          help="How tall it stands in the room.")  # fmt: skip
    surface: Surface = choice("own", label="Surface", group="Model", names=SURFACE_NAMES)
    parts: list[PartLook] = Field(default_factory=list, max_length=MOST_PARTS,
                                  description="Materials that look otherwise than in its file")  # fmt: skip
    mirror: Number = number(0.0, label="Mirrored", low=0, high=100, step=1, unit="%", group="Shadow ground",
                            help="How much the ground mirrors it: 20 is water or varnish, 100 a mirror.")  # fmt: skip
    mirror_rough: float = plain(10, label="Mirror blurred", low=0, high=100, step=1, unit="%", group="Shadow ground",
                                help="Rough ground blurs it, more the higher a thing is above it.")  # fmt: skip
    falls: bool = switch(False, label="Falls", group="Model",
                         help="From a frame on it falls, hits what stands in the room, and comes to rest.")  # fmt: skip
    moving: bool = Field(default=False, description="Whether it goes through a movement of its file")
    clip: int = Field(default=0, ge=0, le=999, description="Which of its movements")
    clip_seconds: float = Field(default=0.0, ge=0, le=86400, description="How long that takes in its file")
    moves_from: int = plain(0, label="Begins", low=-100000, high=1000000, step=1, unit="frame", group="Movement", whole=True)
    pace: float = plain(100, label="Speed", low=-1000, high=1000, step=1, unit="%", group="Movement", soft=(0, 200),
                        help="Of the speed in its file; less than nought runs backwards.")  # fmt: skip
    goes: Literal["once", "round", "to_and_fro"] = choice(
        "round", label="Goes", group="Movement",
        names={"once": "Once", "round": "Again and again", "to_and_fro": "To and fro"})  # fmt: skip
    falls_from: int = plain(0, label="Let go at", low=EARLIEST, high=1000000, step=1, unit="frame", group="Falls", whole=True)
    when_hit: bool = switch(False, label="When hit", group="Falls", help="From that frame on it waits until something hits it.")
    lands_on: Literal["level", "ground"] = choice(
        "level", label="Lands on", group="Falls", names={"level": "Where its spot is", "ground": "The room's ground"},
        help="Besides boxes and forms that are really there, models, and floors that break.")  # fmt: skip
    thrown_right: float = plain(0, label="Thrown right", low=-100, high=100, step=0.1, unit="m/s", group="Falls", soft=(-5, 5))
    thrown_up: float = plain(0, label="Thrown up", low=-100, high=100, step=0.1, unit="m/s", group="Falls", soft=(-5, 5))
    thrown_ahead: float = plain(0, label="Thrown ahead", low=-100, high=100, step=0.1, unit="m/s", group="Falls", soft=(-5, 5),
                                help="The way it faces.")  # fmt: skip
    spins: float = plain(0, label="Spins", low=-3600, high=3600, step=5, unit="°/s", group="Falls", soft=(-360, 360),
                         help="About its upright.")  # fmt: skip
    tumbles: float = plain(0, label="Tumbles", low=-3600, high=3600, step=5, unit="°/s", group="Falls", soft=(-360, 360),
                           help="Over its front.")  # fmt: skip
    heavy: float = plain(100, label="Weight", low=1, high=2000, step=1, unit="%", group="Falls", soft=(10, 500),
                         help="Of as much wood.")  # fmt: skip
    bounces: float = plain(20, label="Bounces", low=0, high=100, step=1, unit="%", group="Falls")
    grips: float = plain(60, label="Grips", low=0, high=200, step=1, unit="%", group="Falls", soft=(0, 120),
                         help="Little slides far, much stops at once.")  # fmt: skip
    copies_turned: float = plain(0, label="Turned", low=0, high=180, step=1, unit="°", group="Copies",
                                 help="By how much each may be turned from the first.")  # fmt: skip

    def mirrors(self, frame: float) -> Mirror | None:
        share = min(max(value_at(self.mirror, frame) / 100, 0.0), 1.0)
        if share <= 0:
            return None
        # Squarely seen, water and varnish throw back a twenty-fifth; at the flattest look all surfaces mirror all of it.
        return Mirror(squarely=share**2, flat=min(1.0, FLAT_BY * share), rough=(self.mirror_rough / 100) ** 2)
