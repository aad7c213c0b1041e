"""A generated element as a layer: placed, turned, sized and following like a picture."""

from __future__ import annotations

from typing import Annotated, Literal

import numba
import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from plonket.base.conventions import F32, F64
from plonket.base.fields import reference
from plonket.document.bases import Generator
from plonket.document.follow import Follow
from plonket.document.kinds import GENERATORS, LAYERS, LayerEntry
from plonket.generators.common import GeneratorContext
from plonket.image.picture import CLEAR, Picture
from plonket.layers.common import faded
from plonket.layers.placed import PlacedLayer, frame_from_anchor
from plonket.layers.sources import Sources

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
    context = GeneratorContext(frame=frame, size=size, clip=sources.size, place=place, spread=spread)
    rgba = GENERATORS.get(layer.generator.kind).run(layer.generator, context)
    return faded(_trimmed(Picture(rgba=rgba)), layer, frame)


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
    says={"": "Generated as the shot runs"},
))  # fmt: skip
