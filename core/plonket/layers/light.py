"""Lights that stand in a room and shine on all models there: a soft rectangle, and a dome from a light map."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.colour import linear_of
from plonket.base.conventions import F64
from plonket.base.fields import AssetDigest, Number, choice, colour, number, value_at
from plonket.document.bases import LayerBase
from plonket.document.follow import Follow
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.document.spot import Spot
from plonket.image.picture import CLEAR, Picture
from plonket.layers.sources import Sources
from plonket.layers.standing import StandingLayer, axes_of, matrix_of
from plonket.raytrace.request import Dome, Lamp
from plonket.room.camera import RoomCamera


class LampLayer(StandingLayer):
    """A soft rectangle that shines along the way it faces, a bulb that shines to all sides, or a spotlight; it is not seen
    itself, only what it lights."""

    kind: Literal["lamp"] = "lamp"
    lift: Number = number(0.6, label="Lift", low=-1000, high=1000, step=0.001, unit="m", group="Stands", soft=(-1, 3),
                          help="How far its middle is above the spot.")  # fmt: skip
    tilt: Number = number(50.0, label="Aims down", low=-3600, high=3600, step=0.5, unit="°", group="Stands", soft=(-90, 90))
    strength: Number = number(100.0, label="Strength", low=0, high=10000, step=1, unit="%", group="Lamp", soft=(0, 400),
                              help="At 100 % it lights a white card a metre away to full white.")  # fmt: skip
    colour: str = colour("#ffe2b8", label="Colour", group="Lamp")
    shape: Literal["soft", "point", "spot"] = choice(
        "soft", label="Shape", group="Lamp", names={"soft": "Soft rectangle", "point": "Bulb", "spot": "Spotlight"},
        help="A bulb shines to all sides, a spotlight in a cone; both throw hard shadows.")  # fmt: skip
    cone: Number = number(50.0, label="Cone", low=1, high=170, step=1, unit="°", group="Spotlight")
    cone_soft: Number = number(30.0, label="Soft edge", low=0, high=100, step=1, unit="%", group="Spotlight",
                               help="How much of the cone its light fades in.")  # fmt: skip
    wide: Number = number(0.4, label="Width", low=0.001, high=1000, step=0.01, unit="m", group="Rectangle", soft=(0.02, 3),
                          help="The larger it is, the softer its shadows.")  # fmt: skip
    tall: Number = number(0.3, label="Height", low=0.001, high=1000, step=0.01, unit="m", group="Rectangle", soft=(0.02, 3))


class DomeLayer(LayerBase):
    """Light from all round, as a light map recorded it; it takes the place of the even sky of all models in the room."""

    kind: Literal["dome"] = "dome"
    asset: AssetDigest
    follow: Follow = Follow()
    strength: Number = number(100.0, label="Strength", low=0, high=10000, step=1, unit="%", group="Dome", soft=(0, 300))
    turn: Number = number(0.0, label="Turn", low=-3600, high=3600, step=1, unit="°", group="Dome", soft=(-180, 180),
                          help="Turns the light about the upright.")  # fmt: skip


def lamp_of(layer: LampLayer, camera: RoomCamera, spot: Spot, frame: int) -> Lamp | None:
    """The lamp in the room; None while it gives no light."""
    wide, tall = value_at(layer.wide, frame), value_at(layer.tall, frame)
    tint = linear_of(layer.colour)
    level = value_at(layer.strength, frame) / 100 * layer.presence(frame)
    if level <= 0 or tint.max() <= 0:
        return None
    tint /= float(tint.max())
    axes, place = axes_of(layer, camera, spot, frame)
    if layer.shape != "soft":
        power = tint * level * np.pi
        half = float(np.radians(value_at(layer.cone, frame))) / 2
        return Lamp(place=matrix_of(axes, place, np.ones(3)), light=(float(power[0]), float(power[1]), float(power[2])),
                    shape=layer.shape, cone=half, edge=half * (1 - value_at(layer.cone_soft, frame) / 100))  # fmt: skip
    # A card a metre off that faces it shines with L A / pi.
    light = tint * level * np.pi / (wide * tall)
    return Lamp(place=matrix_of(axes, place, np.array([wide / 2, tall / 2, 1.0])),
                light=(float(light[0]), float(light[1]), float(light[2])))  # fmt: skip


def dome_of(layer: DomeLayer, path: str, frame: int) -> Dome:
    """The dome as the renderer is told of it."""
    return Dome(picture=path, turn=float(np.radians(value_at(layer.turn, frame))),
                strength=max(0.0, value_at(layer.strength, frame) / 100))  # fmt: skip


def draw(layer: LampLayer | DomeLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """Lights are not seen themselves."""
    return CLEAR


LAYERS.add(LayerEntry(
    kind="lamp", order=70, label="Lamp", settings=LampLayer, run=draw,
    help="A soft rectangle, a bulb or a spotlight for the models in its room.",
    traits=frozenset({"standing", "lights", "follows"}), handles="standing",
    groups=("Lamp", ("Rectangle", {"shape": ("soft",)}), ("Spotlight", {"shape": ("spot",)}), "Stands"),
    card={"": "Lamp"},
    says={"": "Light on the models in its room"},
))  # fmt: skip


LAYERS.add(LayerEntry(
    kind="dome", order=80, label="Dome", settings=DomeLayer, run=draw,
    help="Light from all round, from a light map, for the models in its room.",
    traits=frozenset({"lights", "follows"}), handles="",
    groups=("Dome",),
    card={"": "Light map"},
    says={"": "Light from all round, on the models in its room"},
))  # fmt: skip
