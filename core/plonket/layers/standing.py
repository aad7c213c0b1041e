"""What stands in a solved room: where it is, and the room's other things."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64
from plonket.base.fields import Number, number, value_at
from plonket.document.bases import LayerBase
from plonket.document.follow import Follow
from plonket.document.spot import Spot
from plonket.room.camera import RoomCamera


class StandingLayer(LayerBase):
    """A layer on a perch that is a spot in a room: the perch says where it stands, the layer how it is turned there."""

    follow: Follow = Follow()
    heading: Number = number(0.0, label="Heading", low=-3600, high=3600, step=0.5, unit="°", group="Stands", soft=(-180, 180))
    tilt: Number = number(0.0, label="Tilt", low=-3600, high=3600, step=0.5, unit="°", group="Stands", soft=(-90, 90))
    roll: Number = number(0.0, label="Roll", low=-3600, high=3600, step=0.5, unit="°", group="Stands", soft=(-90, 90))
    lift: Number = number(0.0, label="Lift", low=-1000, high=1000, step=0.001, unit="m", group="Stands", soft=(-1, 1),
                          help="How far it is above the spot.")  # fmt: skip


def axes_of(layer: StandingLayer, camera: RoomCamera, spot: Spot, when: float) -> tuple[F64, F64]:
    """(3, 3) unit axes in the room of what stands there, and (3,) where its foot is."""
    frame = int(np.clip(round(when), 0, camera.track.frames - 1))
    right, up = spot.axes(when, camera.eye(frame), camera.turn(frame))
    base = np.stack([right, up, np.cross(right, up)], axis=1)
    heading, tilt, roll = (np.radians(value_at(v, when)) for v in (layer.heading, layer.tilt, layer.roll))
    place = spot.place(when) + up * value_at(layer.lift, when)
    return base @ about("y", heading) @ about("x", tilt) @ about("z", roll), place


def matrix_of(axes: F64, place: F64, size: F64 | float) -> F64:
    """(4, 4) from a thing's own units to the room's metres."""
    out = np.eye(4)
    out[:3, :3] = axes * size
    out[:3, 3] = place
    return out


def about(axis: str, angle: float) -> F64:
    """(3, 3) a turn about x, y or z, radians."""
    c, s = np.cos(angle), np.sin(angle)
    i, j = {"x": (1, 2), "y": (2, 0), "z": (0, 1)}[axis]
    out = np.eye(3)
    out[i, i] = out[j, j] = c
    out[i, j], out[j, i] = -s, s
    return out
