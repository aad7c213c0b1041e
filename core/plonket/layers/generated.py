"""A generated element as a layer: placed, turned, sized and following like a picture."""

from __future__ import annotations

from typing import Annotated, Literal

import numba
import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from plonket.base.conventions import F32, F64
from plonket.base.fields import reference, value_at
from plonket.document.bases import Generator
from plonket.document.follow import Follow
from plonket.document.kinds import GENERATORS, LAYERS, LayerEntry
from plonket.generators.common import AirLight, GeneratorContext, GeneratorModel, Space
from plonket.image.picture import CLEAR, Picture
from plonket.layers.air_light import air_light
from plonket.layers.common import faded
from plonket.layers.hidden import measured_nearness
from plonket.layers.model_order import lights_in
from plonket.layers.placed import PlacedLayer, frame_from_anchor
from plonket.layers.solid import solids, things
from plonket.layers.sources import Sources
from plonket.layers.surfaces import nearness_of
from plonket.room.meshes.thing import Thing

BANDS = 8


class GeneratedLayer(PlacedLayer):
    """Sparks, smoke, rain, light: what it is says its generator, where it is says the layer.

    `stays` says where particles are that are left behind: on the *footage*, on the *screen*, or ``to:ID``, on what a motion
    or perch follows.
    """

    kind: Literal["generated"] = "generated"
    generator: Generator
    stays: Annotated[
        str, Field(pattern=r"^(footage|screen|to:[a-z0-9][a-z0-9_-]{0,63})$"),
        reference("place", prefix="to:", says="follows something", left="footage"),
    ] = "footage"

    @property
    def sees_what_hides(self) -> bool:
        """Whether it takes off by itself what is hidden of it by what is nearer in its room."""
        return isinstance(self.generator, GeneratorModel) and self.generator.in_room

    @property
    def stays_target(self) -> str | None:
        """The motion or perch that what is left behind stays on."""
        return self.stays.removeprefix("to:") if self.stays.startswith("to:") else None


def clip_from_layer(layer: GeneratedLayer, sources: Sources, frame: float) -> F64:
    """(3, 3) from pixels about the element's place to the frame's."""
    return frame_from_anchor(layer, sources.spaces, frame)


def draw(layer: GeneratedLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The element's picture at a frame; `view` leads from the clip's pixels to the picture's."""

    def place(when: float) -> F64:
        return np.asarray(view @ clip_from_layer(layer, sources, when))

    def world(when: float) -> F64:
        if layer.stays == "footage":
            return np.eye(3)
        return sources.spaces.of(Follow(target=layer.stays_target), when)

    def spread(born: float, now: float) -> F64:
        # Before the clip begins it stands as in the first frame.
        at = max(born, 0.0)
        return np.asarray(view @ world(now) @ np.linalg.inv(world(at)) @ clip_from_layer(layer, sources, at))

    here = place(frame)
    if not np.isfinite(here).all() or abs(np.linalg.det(here)) < 1e-12:
        return CLEAR
    space = space_of(layer, sources, frame, size, view) if layer.sees_what_hides else None
    context = GeneratorContext(frame=frame, size=size, clip=sources.size, place=place, spread=spread, space=space)
    rgba = GENERATORS.get(layer.generator.kind).run(layer.generator, context)
    return faded(_trimmed(Picture(rgba=rgba)), layer, frame)


def space_of(
    layer: GeneratedLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64
) -> Space | None:
    """The room in which an element stands on a spot; None: it stands in none."""
    target = layer.follow.target
    seat = sources.seat(target) if sources.on_spot(target) else None
    if seat is None:
        return None
    camera, spot = seat

    def axes(when: float) -> F64:
        at = int(np.clip(round(when), 0, camera.track.frames - 1))
        right, up = spot.axes(when, camera.eye(at), camera.turn(at))
        mm = value_at(spot.pixel_mm, when) / 1000
        turn, grown = np.radians(value_at(layer.turn, when)), value_at(layer.size, when) / 100
        c, s = np.cos(turn), np.sin(turn)
        flat = np.stack([right, -up], axis=1) * mm
        own = flat @ np.array([[c, -s], [s, c]]) * grown
        out = np.eye(4)
        out[:3, :2] = own
        out[:3, 2] = np.cross(right, up) * mm * grown
        out[:3, 3] = spot.place(when) + flat @ [value_at(layer.x, when), value_at(layer.y, when)]
        return out

    def project(when: float, places: F64) -> tuple[F64, F64]:
        # Within an exposure it is the camera's movement that is not seen: its picture is one.
        pixels = camera.project(frame, places)
        seen = np.column_stack([pixels, np.ones(len(pixels))]) @ view.T
        return np.asarray(seen[:, :2] / seen[:, 2:]), np.asarray(camera.local(frame, places)[:, 2])

    def hides() -> F32 | None:
        if not layer.follow.hidden:
            return None
        corners = [c for _, c in solids(sources, target or "", frame)]
        measured = measured_nearness(sources, target or "", frame, size, view, hides=True)
        if not corners:
            return measured
        things = nearness_of(camera, frame, size, view, None, corners)
        return things if measured is None else np.maximum(things, measured)

    def met(one: str | None) -> list[Thing]:
        return [thing for other, thing in things(sources, target or "", frame) if one is None or other.id == one]

    def light(place: F64) -> AirLight | None:
        lights = lights_in(sources, target, frame)
        return None if lights is None else air_light(lights, place)

    focal = camera.lens(frame).focal * float(np.sqrt(abs(np.linalg.det(view[:2, :2]))))
    return Space(axes=axes, project=project, focal=focal, things=met, light=light, hides=hides)


def _trimmed(picture: Picture) -> Picture:
    """Only the part that shows anything."""
    row_shows = np.zeros(picture.rgba.shape[0], np.bool_)
    column_shows = np.zeros((BANDS, picture.rgba.shape[1]), np.bool_)
    _where_it_shows(picture.rgba, row_shows, column_shows)
    rows, columns = np.flatnonzero(row_shows), np.flatnonzero(column_shows.any(axis=0))
    if not len(rows):
        return CLEAR
    y0, y1, x0, x1 = int(rows[0]), int(rows[-1]) + 1, int(columns[0]), int(columns[-1]) + 1
    return Picture(rgba=np.ascontiguousarray(picture.rgba[y0:y1, x0:x1]), x=x0, y=y0)


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _where_it_shows(rgba: F32, rows: NDArray[np.bool_], columns: NDArray[np.bool_]) -> None:
    h, w = rgba.shape[:2]
    for band in numba.prange(BANDS):
        for y in range(h * band // BANDS, h * (band + 1) // BANDS):
            for x in range(w):
                for c in range(4):
                    if rgba[y, x, c] > 1e-6:
                        rows[y] = True
                        columns[band, x] = True
                        break


LAYERS.add(LayerEntry(
    kind="generated", order=40, label="Generated", settings=GeneratedLayer, run=draw, clip_from_layer=clip_from_layer,
    help="Sparks, smoke, rain, light and the like, made as the shot runs.",
    traits=frozenset({"placed", "follows", "matched"}), handles="box",
    groups=("Place", "Mix"),
    card={"": "Generated"},
    says={"": "Generated as the shot runs"}, hides_itself=lambda layer: layer.sees_what_hides,
))  # fmt: skip
