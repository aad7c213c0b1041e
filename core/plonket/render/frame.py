"""Rendering: a frame is a pure function of the document, its media and measurements."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Literal

import cv2
import numpy as np

from plonket.base.colour import colours_to_8bit, encode_8bit, linear_from_8bit, linear_of, opaque_from_8bit
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.document.shot import Shot
from plonket.image.picture import Picture
from plonket.layers.sources import Sources
from plonket.looks.apply import apply_looks
from plonket.masks.combine import Rider, space_of
from plonket.render.inverse_depth import inverse_depth_for
from plonket.render.stabilised_plate import stabilised_plate
from plonket.render.stack import lay_stack

AT_ONCE = 2

FrameView = Literal["final", "plate", "matte"]


def scaled_size(size: tuple[int, int], scale: float) -> tuple[int, int]:
    """A picture's size at `scale`, at least one pixel a side."""
    return max(1, round(size[0] * scale)), max(1, round(size[1] * scale))


def render_frame(
    shot: Shot, sources: Sources, frame: int, *, view: FrameView = "final", scale: float = 1.0, held: str | None = None
) -> U8:
    """One frame, 8-bit sRGB-coded RGB (h, w, 3).

    Parameters
    ----------
    frame : conformed frame number (not counted from the in point).
    view : ``final``; ``plate``, the footage without the stack; ``matte``, the stack's coverage in grey.
    scale : of full resolution, in (0, 1].
    held : a motion; the picture is shown as seen from its reference frame, so that its surface stands still.

    Raises
    ------
    BadInput
        When the shot has no footage or the frame lies outside the clip.
    """
    footage = shot.footage
    if footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    if not 0 <= frame < footage.frames:
        raise BadInput("frame.range", f"Frame {frame} is outside the clip, which has frames 0 to {footage.frames - 1}.")
    size = scaled_size((footage.width, footage.height), scale)
    # Things are drawn at the picture's true scale, which rounding makes differ slightly from `scale`.
    zoom = np.diag([size[0] / footage.width, size[0] / footage.width, 1.0])
    shown = [layer for layer in shot.stack if layer.shown] if view != "plate" else []
    seen = sources.view if held is None else None
    if held is not None:
        # Everything is sampled once, straight into the held picture.
        matrix = zoom @ np.linalg.inv(sources.on_plane(held, frame))
    else:
        matrix = zoom if seen is None else zoom @ seen.matrix(frame)
    if view == "matte":
        canvas = np.zeros((size[1], size[0], 4), np.float32)
    elif held is None and seen is None:
        rgb = sources.plate(footage.asset, frame)
        if not shown and not (view == "final" and shot.finish):
            return _reduced(rgb, size)
        canvas = _plate(rgb, size)
    else:
        lies = np.linalg.inv(zoom) @ matrix
        canvas = stabilised_plate(sources, footage.asset, frame, zoom, lies, size, fill=seen is not None)
        if held is not None:
            # Grey beyond its edge, so that the edge itself is seen; a finished picture is black there.
            canvas[..., :3] += np.float32(0.03) * (1 - canvas[..., 3:])
        canvas[..., 3] = 1
    canvas = lay_stack(canvas, shown, sources, frame, matrix, float(zoom[0, 0]), finished=view == "final")
    if view == "final" and shot.finish:
        canvas = _finished(shot, sources, frame, canvas, size, matrix, float(zoom[0, 0]))
    if view == "matte":
        return _coverage(canvas)
    return colours_to_8bit(np.ascontiguousarray(canvas))


def _coverage(canvas: F32) -> U8:
    """What a canvas covers, in grey (h, w, 3)."""
    grey = np.clip(canvas[..., 3] * 255 + 0.5, 0, 255).astype(np.uint8)
    return np.repeat(grey[..., None], 3, axis=2)


def render_alone(
    shot: Shot, sources: Sources, frame: int, layer_id: str, *, scale: float = 1.0, over: str | None = "#404040",
    matte: bool = False,
) -> U8:
    """One layer by itself, 8-bit (h, w, 3): over a colour, or (None) over a checker that shows what one sees through; or only
    its `matte`, what it covers, in grey."""
    footage, layer = shot.footage, next((one for one in shot.layers if one.id == layer_id), None)
    if footage is None or layer is None:
        raise BadInput("shot.no_layer", "This layer is not in the shot any more.")
    size = scaled_size((footage.width, footage.height), scale)
    zoom = size[0] / footage.width
    canvas = np.empty((size[1], size[0], 4), np.float32)
    if matte:
        canvas[:] = 0
    elif over is not None:
        canvas[..., :3] = linear_of(over)
    else:
        y, x = np.mgrid[0 : size[1], 0 : size[0]] // max(2, round(24 * zoom))
        canvas[..., :3] = np.where((x + y) % 2 == 0, 0.42, 0.16)[..., None]
    canvas[..., 3] = 0 if matte else 1
    matrix = np.diag([zoom, zoom, 1.0]) @ (np.eye(3) if sources.view is None else sources.view.matrix(frame))
    alone = layer.model_copy(update={"shown": True, "blend": "normal"})
    canvas = lay_stack(canvas, [alone], sources, frame, matrix, zoom)
    return _coverage(canvas) if matte else colours_to_8bit(canvas)


def _finished(
    shot: Shot, sources: Sources, frame: int, canvas: F32, size: tuple[int, int], matrix: F64, scale: float
) -> F32:
    """The whole picture with the looks of the finish."""

    def into(mask: Rider) -> F64 | None:
        space = space_of(mask, sources.spaces, frame)
        return None if space is None else np.asarray(matrix @ space)

    def neighbour(at: int) -> Picture:
        # Only the looks that work out movement ask for it.
        bare = shot.model_copy(update={"finish": []})
        rgb = render_frame(bare, sources, int(np.clip(at, 0, (shot.footage.frames if shot.footage else 1) - 1)), scale=scale)
        return Picture(rgba=_plate(rgb, size))

    inverse_depth = inverse_depth_for(None, sources, frame, size, matrix)
    looked = apply_looks(
        shot.finish, Picture(rgba=canvas), frame, size, scale, into, None, neighbour, sources.table, inverse_depth
    )  # fmt: skip
    return looked.rgba


def render_range(
    shot: Shot, sources: Sources, start: int, stop: int, *, scale: float = 1.0, work: Work | None = None
) -> Iterator[tuple[int, U8]]:
    """Frames start..stop-1 in order, with progress."""
    work = work or Work()
    # One frame is begun while another is finished: much of it keeps only one core busy.
    with ThreadPoolExecutor(AT_ONCE) as pool:
        ahead: deque[Future[U8]] = deque()
        try:
            for done, frame in enumerate(range(start, stop)):
                work.check_cancelled()
                while len(ahead) < AT_ONCE and frame + len(ahead) < stop:
                    ahead.append(pool.submit(render_frame, shot, sources, frame + len(ahead), scale=scale))
                yield frame, ahead.popleft().result()
                work.progress(done + 1, stop - start)
        finally:
            for one in ahead:
                one.cancel()


def _reduced(rgb: U8, size: tuple[int, int]) -> U8:
    if (rgb.shape[1], rgb.shape[0]) == size:
        return rgb
    return encode_8bit(_resized(linear_from_8bit(rgb), size))


def _plate(rgb: U8, size: tuple[int, int]) -> F32:
    if (rgb.shape[1], rgb.shape[0]) == size:
        return opaque_from_8bit(rgb)
    canvas = np.empty((size[1], size[0], 4), np.float32)
    canvas[..., :3] = _resized(linear_from_8bit(rgb), size)
    canvas[..., 3] = 1
    return canvas


def _resized(light: F32, size: tuple[int, int]) -> F32:
    return np.asarray(cv2.resize(light, size, interpolation=cv2.INTER_AREA), np.float32)
