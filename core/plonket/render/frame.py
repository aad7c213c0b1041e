"""Rendering: a frame is a pure function of the document, its media and measurements."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Literal, TypeVar

import numpy as np

from plonket.base.colour import bytes_of, colours_to_8bit, encode_8bit, linear_from_codes, linear_of, opaque_from_codes
from plonket.base.conventions import F32, F64, U8, Codes
from plonket.base.errors import BadInput
from plonket.base.fields import value_at
from plonket.base.progress import Work
from plonket.document.kinds import LOOKS
from plonket.document.shot import Footage, Shot
from plonket.image.picture import Picture
from plonket.keying.unpremultiply import straight_8bit
from plonket.layers.sources import Sources
from plonket.looks.apply import apply_looks
from plonket.masks.combine import Rider, space_of
from plonket.render.inverse_depth import inverse_depth_for
from plonket.render.plate_picture import opaque_picture, plate_picture, resized
from plonket.render.stack import lay_stack

AT_ONCE = 2

FrameView = Literal["final", "plate", "matte"]
Ground = Literal["black", "checker", "clear"]


def scaled_size(size: tuple[int, int], scale: float) -> tuple[int, int]:
    """A picture's size at `scale`, at least one pixel a side."""
    return max(1, round(size[0] * scale)), max(1, round(size[1] * scale))


def render_frame(
    shot: Shot, sources: Sources, frame: int, *, view: FrameView = "final", scale: float = 1.0, held: str | None = None,
    ground: Ground = "black",
) -> U8:  # fmt: skip
    """One frame, 8-bit sRGB-coded RGB (h, w, 3).

    Parameters
    ----------
    frame : of the shot, which is the conformed clip's own unless it runs otherwise (not counted from the in point).
    view : ``final``; ``plate``, the footage without the stack; ``matte``, the stack's coverage in grey.
    scale : of full resolution, in (0, 1].
    held : a motion; the picture is shown as seen from its reference frame, so that its surface stands still.
    ground : what is seen where nothing is, of a ``final`` picture: ``black``; a ``checker``; ``clear`` gives straight RGBA
        (h, w, 4).

    Raises
    ------
    BadInput
        When the shot has no footage or the frame lies outside the clip.
    """
    footage = checked_frame(shot, frame)
    size = scaled_size((footage.width, footage.height), scale)
    if held is None and view != "matte" and _is_bare(shot, sources, frame, finished=view == "final"):
        plate = _reduced(sources.plate(footage.asset, sources.moment(frame)), size)
        return np.dstack([plate, np.full(plate.shape[:2], 255, np.uint8)]) if ground == "clear" else plate
    canvas = _canvas(shot, sources, frame, size, view, held)
    if view == "matte":
        return _coverage(canvas)
    canvas = np.ascontiguousarray(canvas)
    if ground == "clear":
        return straight_8bit(canvas)
    return colours_to_8bit(_on_checker(canvas) if ground == "checker" else canvas)


def render_light(shot: Shot, sources: Sources, frame: int, *, scale: float = 1.0) -> F32:
    """One finished frame as linear light, (h, w, 4), premultiplied: what is seen through is clear. Raises as `render_frame`."""
    footage = checked_frame(shot, frame)
    size = scaled_size((footage.width, footage.height), scale)
    if _is_bare(shot, sources, frame, finished=True):
        codes = sources.plate(footage.asset, sources.moment(frame))
        return opaque_from_codes(codes) if (codes.shape[1], codes.shape[0]) == size else _opaque(
            resized(linear_from_codes(codes), size)
        )  # fmt: skip
    return np.ascontiguousarray(_canvas(shot, sources, frame, size, "final", None))


def _opaque(light: F32) -> F32:
    return np.dstack([light, np.ones(light.shape[:2], np.float32)])


def _is_bare(shot: Shot, sources: Sources, frame: int, *, finished: bool) -> bool:
    """Whether the picture is nothing but the plate, pixel on pixel: `finished`, or without its stack."""
    assert shot.footage is not None
    alone = not finished or not (shot.finish or any(layer.shown and layer.is_there(frame) for layer in shot.stack))
    return alone and value_at(shot.footage.opacity, frame) >= 100 and sources.view is None and not sources.covered


def _canvas(shot: Shot, sources: Sources, frame: int, size: tuple[int, int], view: FrameView, held: str | None) -> F32:
    """The whole picture, with its finish if it is `final`, (h, w, 4)."""
    finished = view == "final" and bool(shot.finish)
    if finished and held is None and any(look.shown and LOOKS.of(look).neighbours for look in shot.finish):
        canvas = sources.canvas(frame, size, lambda: _stacked(shot, sources, frame, size, view, held))
    else:
        canvas = _stacked(shot, sources, frame, size, view, held)
    return _finished(shot, sources, frame, canvas, size, held) if finished else canvas


def checked_frame(shot: Shot, frame: int) -> Footage:
    """The footage that a frame is of; `BadInput` where there is none, or the frame lies outside."""
    footage = shot.footage
    if footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    if not 0 <= frame < footage.length:
        whose = "clip" if footage.time is None else "shot"
        raise BadInput("frame.range", f"Frame {frame} is outside the {whose}, which has frames 0 to {footage.length - 1}.")
    return footage


def _on_checker(canvas: F32) -> F32:
    """What shows that one sees through it."""
    see_through = 1 - canvas[..., 3:]
    return canvas if see_through.max() < 1 / 512 else canvas + see_through * checker(canvas.shape[1], canvas.shape[0])


def checker(width: int, height: int) -> F32:
    """Fields of light and dark grey (h, w, 4), about fifty across."""
    y, x = np.mgrid[0:height, 0:width] // max(2, round(width / 53))
    out = np.ones((height, width, 4), np.float32)
    out[..., :3] = np.where((x + y) % 2 == 0, 0.42, 0.16)[..., None]
    return out


def lies(shot: Shot, sources: Sources, frame: int, size: tuple[int, int], held: str | None) -> tuple[F64, F64]:
    """(3, 3) from full resolution to the picture's size, and from the clip's pixels to the picture's."""
    assert shot.footage is not None
    # Things are drawn at the picture's true scale, which rounding makes differ slightly from the one asked for.
    zoom = np.diag([size[0] / shot.footage.width, size[0] / shot.footage.width, 1.0])
    if held is not None:
        # Everything is sampled once, straight into the held picture.
        return zoom, np.asarray(zoom @ np.linalg.inv(sources.on_plane(held, frame)))
    return zoom, zoom if sources.view is None else zoom @ sources.view.matrix(sources.moment(frame))


def _stacked(shot: Shot, sources: Sources, frame: int, size: tuple[int, int], view: FrameView, held: str | None) -> F32:
    """The whole picture before its finish, (h, w, 4)."""
    assert shot.footage is not None
    zoom, matrix = lies(shot, sources, frame, size, held)
    canvas = under_stack(shot, sources, frame, matrix, size, view, held=held)
    shown = [layer for layer in shot.stack if layer.shown] if view != "plate" else []
    return lay_stack(canvas, shown, sources, frame, matrix, float(zoom[0, 0]), finished=view == "final")


def under_stack(
    shot: Shot, sources: Sources, frame: int, matrix: F64, size: tuple[int, int], view: FrameView, *, held: str | None
) -> F32:
    """What the stack is laid on, (h, w, 4): the plate as it lies in the picture; nothing where only coverage is asked for."""
    assert shot.footage is not None
    share = np.float32(np.clip(value_at(shot.footage.opacity, frame) / 100, 0, 1)) if view == "final" else np.float32(1)
    if view == "matte" or share <= 0:
        return np.zeros((size[1], size[0], 4), np.float32)
    canvas = plate_picture(sources, shot.footage.asset, sources.moment(frame), size, matrix)
    if held is not None:
        # Grey beyond its edge, so that the edge itself is seen; a finished picture is black there.
        canvas[..., :3] += np.float32(0.03) * (1 - canvas[..., 3:])
        canvas[..., 3] = 1
    return canvas if share >= 1 else canvas * share


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
        canvas[:] = checker(*size)
    canvas[..., 3] = 0 if matte else 1
    matrix = np.diag([zoom, zoom, 1.0]) @ (np.eye(3) if sources.view is None else sources.view.matrix(sources.moment(frame)))
    # Looked at by itself it is there whenever it is looked at.
    alone = layer.model_copy(update={"shown": True, "blend": "normal", "begins": None, "ends": None})
    canvas = lay_stack(canvas, [alone], sources, frame, matrix, zoom)
    return _coverage(canvas) if matte else colours_to_8bit(canvas)


def _finished(shot: Shot, sources: Sources, frame: int, canvas: F32, size: tuple[int, int], held: str | None) -> F32:
    """The whole picture with the looks of the finish."""
    assert shot.footage is not None
    frames = shot.footage.length
    zoom, matrix = lies(shot, sources, frame, size, held)

    def into(mask: Rider) -> F64 | None:
        space = space_of(mask, sources.spaces, frame)
        return None if space is None else np.asarray(matrix @ space)

    def neighbour(at: int) -> Picture:
        # Only the looks that work out movement ask for it. As it is seen, without light beyond white.
        beside = int(np.clip(at, 0, frames - 1))
        found = sources.canvas(beside, size, lambda: _stacked(shot, sources, beside, size, "final", None))
        return Picture(rgba=opaque_picture(colours_to_8bit(np.ascontiguousarray(found)), size))

    inverse_depth = inverse_depth_for(None, sources, frame, size, matrix)
    looked = apply_looks(
        shot.finish, Picture(rgba=canvas), frame, size, float(zoom[0, 0]), into, None, neighbour, sources.table, inverse_depth,
        moment=sources.moment(frame), mattes=sources.picked,
    )  # fmt: skip
    return looked.rgba


T = TypeVar("T")


def in_order(make: Callable[[int], T], start: int, stop: int, work: Work | None = None) -> Iterator[tuple[int, T]]:
    """What is made of frames start..stop-1, in order, with progress."""
    work = work or Work()
    # One frame is begun while another is finished: much of it keeps only one core busy.
    with ThreadPoolExecutor(AT_ONCE) as pool:
        ahead: deque[Future[T]] = deque()
        try:
            for done, frame in enumerate(range(start, stop)):
                work.check_cancelled()
                while len(ahead) < AT_ONCE and frame + len(ahead) < stop:
                    ahead.append(pool.submit(make, frame + len(ahead)))
                yield frame, ahead.popleft().result()
                work.progress(done + 1, stop - start)
        finally:
            for one in ahead:
                one.cancel()


def _reduced(codes: Codes, size: tuple[int, int]) -> U8:
    if (codes.shape[1], codes.shape[0]) == size:
        return bytes_of(codes)
    return encode_8bit(resized(linear_from_codes(codes), size))
