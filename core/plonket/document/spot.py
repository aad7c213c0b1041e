"""A spot in the room: where something flat stands or lies."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F64
from plonket.base.fields import Number, Settings, choice, number, value_at


class Spot(Settings):
    """A place in a solved room with a way to face and a size. What sits there is drawn in its pixels.

    It faces along the turned +z; `faces` says whether it turns after the camera.
    """

    kind: Literal["spot"] = "spot"
    x: Number = number(0.0, label="Room x", low=-10000, high=10000, step=0.001, unit="m", group="In the room")
    y: Number = number(0.0, label="Room y", low=-10000, high=10000, step=0.001, unit="m", group="In the room")
    z: Number = number(0.0, label="Room z", low=-10000, high=10000, step=0.001, unit="m", group="In the room")
    faces: Literal["still", "upright", "camera"] = choice(
        "still", label="Faces", group="In the room",
        names={"still": "One way", "upright": "The camera, upright", "camera": "The camera, wholly"},
        help="Stays as it is, or turns so that the camera sees it from the front: a standee.")  # fmt: skip
    heading: Number = number(0.0, label="Heading", low=-3600, high=3600, step=0.1, unit="°", group="In the room",
                             soft=(-180, 180), help="Turned about the upright.")  # fmt: skip
    tilt: Number = number(0.0, label="Tilt", low=-3600, high=3600, step=0.1, unit="°", group="In the room",
                          soft=(-90, 90), help="Leaned back: at 90 degrees it lies on the ground, face up.")  # fmt: skip
    pixel_mm: Number = number(1.0, label="A pixel is", low=0.0001, high=100000, step=0.001, unit="mm", group="In the room",
                              soft=(0.01, 20), help="How large one pixel of what sits here is in the room.")  # fmt: skip

    def stood(self, frame: float, eye: F64, turn: F64) -> tuple[F64, F64, F64]:
        """Its place, and its unit right and up, (3,) in the room at a frame; `eye` and `turn` as for `axes`."""
        return self.place(frame), *self.axes(frame, eye, turn)

    def middle(self, frame: float, eye: F64, turn: F64) -> F64:
        """(3,) in the room, by which it is sorted among other things."""
        return self.place(frame)

    def place(self, frame: float) -> F64:
        """(3,) metres in the room at a frame."""
        return np.array([value_at(v, frame) for v in (self.x, self.y, self.z)])

    def axes(self, frame: float, eye: F64, turn: F64) -> tuple[F64, F64]:
        """Unit right and up (3,) in the world at a frame.

        Parameters
        ----------
        eye : (3,) and turn : (3, 3) local-to-world of the camera.
        """
        if self.faces == "camera":
            return turn[:, 0], turn[:, 1]
        heading, tilt = np.radians(value_at(self.heading, frame)), np.radians(value_at(self.tilt, frame))
        if self.faces == "upright":
            way = eye - self.place(frame)
            heading = heading + np.arctan2(way[0], way[2])
        c, s = np.cos(heading), np.sin(heading)
        right = np.array([c, 0.0, -s])
        front = np.array([s, 0.0, c])
        return right, np.array([0.0, np.cos(tilt), 0.0]) - np.sin(tilt) * front
