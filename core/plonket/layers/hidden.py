"""What the footage shows before a thing that stands in a solved room hides it, by the clip's measured depth.

Where the depth ends is known to a few pixels; what of an edge belongs to what hides is told by the picture itself, as of any
soft edge.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.coarse import coarsely
from plonket.base.conventions import F32, F64, U8
from plonket.depth.frame_depth import FrameDepth
from plonket.document.spot import Spot
from plonket.image.picture import Picture
from plonket.layers.sources import Sources
from plonket.matting.guesses import disc
from plonket.matting.soft_edges import put_right, sides_of, soft_edges
from plonket.room.camera import RoomCamera

AHEAD = 0.015
"""Share of a distance by which what hides must be nearer: depth is not known better where there is little detail."""
BAND_PX, BAND_OF = 5.0, 1280
"""How far from where depth ends its edge is looked for, in a picture so wide."""
UNSURE_PX, UNSURE_OUT_PX = 26, 14
"""How far within and without what is not sure may belong to either side: beside what stands before something depth is often
too wide, and knows nothing of what is thin."""
SURE = 0.6
"""Share of the frames that agree from which on a place is sure enough for that."""
FIRM = 0.1
"""How much that end counts where both sides look alike; see `soft_edges`."""
EDGE_PX = 0.8
"""How soft an edge is that only depth tells, in a picture of that width."""
FAR_OFF = np.float32(1e-6)
"""Nearness in 1/m of what hides nothing."""
SPECK = 5
"""Pixels across of what is too small to hide anything."""
COARSE = 8


@dataclass(frozen=True, slots=True)
class Hiding:
    """What may hide in a picture: nearness (h, w) of the footage in 1/m, 0 where unknown, and its light (h, w, 3); `height`
    (h, w) in metres of what is known in the room; `unsure` (h, w) where that may be wrong."""

    nearness: F32
    light: F32
    height: F32
    unsure: NDArray[np.bool_] | None = None

    def without(self, nearness: F32, by: float) -> Hiding:
        """The same without what lies in a surface of nearness (h, w), within a share `by` of its distance."""
        in_it = (nearness > 0) & (np.abs(self.nearness - nearness) < by * nearness)
        return replace(self, nearness=np.where(in_it, FAR_OFF, self.nearness))

    def above(self, level: float, by: float) -> Hiding:
        """The same without what lies about as high as a level, within `by` metres: what something stands on does not hide it,
        be it known a little higher in the footage than in the room."""
        on_it = (self.nearness > 0) & (np.abs(self.height - level) < by)
        return replace(self, nearness=np.where(on_it, FAR_OFF, self.nearness))

    def seen(self, own: F32, cover: F32, x: int = 0, y: int = 0, ahead: float = AHEAD) -> tuple[F32, F32]:
        """How much is seen of a thing of nearness `own` (h', w') where it covers anything, with its corner at x, y; `ahead` is
        the share of its distance by which what hides it is nearer.

        Returns
        -------
        Share (h', w'), 0 to 1; and light (h', w', 3) to be added where all of the thing covers the footage: at soft edges the
        footage is what hides mixed with what was behind, in whose place the thing is now.
        """
        share, more = np.ones(cover.shape, np.float32), np.zeros((*cover.shape, 3), np.float32)
        ys, xs = np.nonzero(cover > 0)
        if not len(ys):
            return share, more
        h, w = self.nearness.shape
        band = BAND_PX * w / BAND_OF + 1
        pad = round(5 * band)
        x0, x1 = max(int(xs.min()) + x - pad, 0), min(int(xs.max()) + x + pad + 1, w)
        y0, y1 = max(int(ys.min()) + y - pad, 0), min(int(ys.max()) + y + pad + 1, h)
        if x1 <= x0 or y1 <= y0:
            return share, more
        there = np.zeros((y1 - y0, x1 - x0), np.float32)
        _lay(there, np.where(cover > 0, own, 0), x - x0, y - y0)
        mask = before(self.nearness[y0:y1, x0:x1], spread(there), 3 * band, ahead)
        if not mask.any():
            return share, more
        light = np.ascontiguousarray(self.light[y0:y1, x0:x1])
        # Rough as depth is, its end is smooth.
        even = cv2.GaussianBlur(np.where(mask, 255, 0).astype(np.uint8), (0, 0), band / 3)
        rough = np.where(even > 127, 255, 0).astype(np.uint8)
        rough = put_right(light, rough, round(UNSURE_PX * w / BAND_OF), round(band))
        unsure = self._unsure_near(rough, y0, y1, x0, x1)
        mix = soft_edges(light, rough, band, FIRM, unsure)
        if mix is None:
            return share, more
        # Where both sides look alike, the edge is where depth ends, as sharp as pictures are.
        inside, outside = cv2.erode(rough, disc(round(band)), borderValue=255) > 0, cv2.dilate(rough, disc(round(band))) == 0
        sides = sides_of(light, inside & ~unsure, outside & ~unsure, 2 * band)
        plain = cv2.GaussianBlur(rough, (0, 0), EDGE_PX * w / BAND_OF).astype(np.float32) / 255
        open_ = np.ascontiguousarray(1 - (plain + sides.apart * (mix.alpha - plain)))
        _lay(share, open_, x0 - x, y0 - y)
        mixed = (sides.apart * open_ * (1 - open_))[..., None]
        _lay(more, mixed * (sides.front - sides.rear), x0 - x, y0 - y)
        return share, more

    def _unsure_near(self, rough: U8, y0: int, y1: int, x0: int, x1: int) -> NDArray[np.bool_]:
        """(h', w') what may be wrong of a part near the end of a rough mask of it."""
        if self.unsure is None:
            return np.zeros(rough.shape, np.bool_)
        inward, outward = (round(px * self.nearness.shape[1] / BAND_OF) for px in (UNSURE_PX, UNSURE_OUT_PX))
        near = (cv2.dilate(rough, disc(outward)) > 0) & (cv2.erode(rough, disc(inward), borderValue=255) == 0)
        return np.asarray(near & self.unsure[y0:y1, x0:x1])


def hiding(sources: Sources, target: str | None, frame: int, size: tuple[int, int], view: F64) -> Hiding | None:
    """What may hide things of the room that `target` stands in; None where its depth is not known, or hides nothing."""
    told, seat = sources.depth(target, frame, hides=True), sources.seat(target)
    if told is None or seat is None:
        return None
    camera = seat[0]
    # All that stands in a room asks for the same.
    key = ("hiding", id(camera.track), frame, size, view.tobytes())
    return sources.kept(key, lambda: _hiding(told, camera, sources, frame, size, view))


def _hiding(
    told: FrameDepth, camera: RoomCamera, sources: Sources, frame: int, size: tuple[int, int], view: F64
) -> Hiding:
    near = _nearness_in(told, size, view)
    back, turn = np.linalg.inv(view), camera.turn(frame)

    def rises(places: F64) -> F64:
        at = np.concatenate([places, np.ones((*places.shape[:-1], 1))], axis=-1) @ back.T
        rays = camera.lens(frame).rays(at[..., :2] / at[..., 2:])
        return np.asarray((rays / rays[..., 2:] * [1.0, -1.0, -1.0]) @ turn[1])

    far = 1 / np.maximum(near, np.float32(1e-6))
    height = np.asarray(coarsely(rises, size, COARSE) * far + camera.eye(frame)[1], np.float32)
    unsure = lie_in((told.sure < SURE).astype(np.float32), size, view) > 0.5
    return Hiding(near, sources.plate_picture(frame, size, view, None)[..., :3], height, unsure)


def measured_nearness(
    sources: Sources, target: str | None, frame: int, size: tuple[int, int], view: F64, *, hides: bool = False
) -> F32 | None:
    """One over the measured distance, (h, w) in 1/m, of what a picture of `size` shows; 0 where it is not known. None: it is
    not measured, or, asked what `hides`, is not to hide anything. `view` leads from the clip's pixels to the picture's."""
    told = sources.depth(target, frame, hides=hides)
    return None if told is None else _nearness_in(told, size, view)


def _nearness_in(told: FrameDepth, size: tuple[int, int], view: F64) -> F32:
    depth = told.depth
    return lie_in(np.where(depth > 0, 1 / np.maximum(depth, np.float32(1e-9)), np.float32(0)), size, view)


def lie_in(values: F32, size: tuple[int, int], view: F64) -> F32:
    """What is known of the clip's pixels (H, W) as it lies in a picture of `size`, to which `view` leads; 0 beyond."""
    half = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1.0]])
    matrix = np.linalg.inv(half) @ view @ half
    if size == values.shape[::-1] and np.allclose(matrix / matrix[2, 2], np.eye(3), atol=1e-3):
        return values
    # Nothing lies between two surfaces: not mixed.
    return np.asarray(cv2.warpPerspective(values, matrix, size, flags=cv2.INTER_NEAREST), np.float32)


def hidden_flat(
    picture: Picture, sources: Sources, target: str | None, frame: int, size: tuple[int, int], view: F64, *, flat: bool
) -> Picture:
    """The picture of something flat on a spot of a room, less what is hidden of it; `flat`: it lies in the spot's surface,
    else it faces the camera there."""
    seat = sources.seat(target)
    found = hiding(sources, target, frame, size, view) if seat is not None and picture.rgba.size else None
    if seat is None or found is None:
        return picture
    camera, spot = seat
    h, w = picture.rgba.shape[:2]
    own = spot_nearness(camera, spot, frame, view, (picture.x, picture.y, w, h), flat=flat)
    cover = picture.rgba[..., 3]
    share, more = found.seen(own, cover, picture.x, picture.y)
    rgba = picture.rgba * share[..., None]
    rgba[..., :3] += more * cover[..., None]
    return Picture(rgba=rgba, x=picture.x, y=picture.y)


def surface_of(camera: RoomCamera, spot: Spot, frame: int, *, flat: bool) -> tuple[F64, float] | None:
    """The flat surface of a spot before the camera, as `RoomCamera.local`: its normal (3,), and what that is times any place of
    it; not `flat`, it faces the camera. None: it is seen edge on."""
    at, right, up = spot.stood(frame, camera.eye(frame), camera.turn(frame))
    place = camera.local(frame, at)
    if not flat:
        return (np.array([0.0, 0.0, 1.0]), float(place[2])) if place[2] > 1e-6 else None
    normal = (np.cross(right, up) @ camera.turn(frame)) * [1.0, -1.0, -1.0]
    offset = float(normal @ place)
    return None if abs(offset) < 1e-9 else (np.asarray(normal), offset)


def spot_nearness(
    camera: RoomCamera, spot: Spot, frame: int, view: F64, window: tuple[int, int, int, int], *, flat: bool
) -> F32:
    """(h, w) one over the distance, in 1/m, of a spot's surface in a window x, y, width, height of a picture; 0: not before the
    camera."""
    x0, y0, w, h = window
    found = surface_of(camera, spot, frame, flat=flat)
    if found is None:
        return np.zeros((h, w), np.float32)
    return plane_nearness(camera, frame, view, window, *found)


def plane_nearness(
    camera: RoomCamera, frame: int, view: F64, window: tuple[int, int, int, int], normal: F64, offset: float
) -> F32:
    """(h, w) one over the distance, in 1/m, of an endless flat surface in a window x, y, width, height of a picture; 0: not
    before the camera. normal, offset : before the camera, as `surface_of` gives them."""
    x0, y0, w, h = window
    # One over the distance changes evenly over a straight picture: a few places tell all.
    back = np.linalg.inv(view)

    def near(places: F64) -> F64:
        at = np.concatenate([places, np.ones((*places.shape[:-1], 1))], axis=-1) @ back.T
        rays = camera.lens(frame).rays(at[..., :2] / at[..., 2:])
        return np.asarray(rays @ normal / (rays[..., 2] * offset))

    return np.asarray(np.maximum(coarsely(near, (w, h), COARSE, (x0, y0)), 0), np.float32)


def before(nearness: F32, own: F32, reach: float, ahead: float = AHEAD) -> np.ndarray:
    """(h, w) where the footage lies before something of nearness `own`; what is not known within `reach` takes after what is
    known nearest, the rest hides nothing."""
    front = nearness > own * np.float32(1 + ahead)
    known = nearness > 0
    if not (front & known).any():
        return np.zeros(nearness.shape, np.bool_)
    if not known.all():
        far, labels = cv2.distanceTransformWithLabels(
            np.where(known, 0, 255).astype(np.uint8), cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL
        )
        of = np.zeros(int(labels.max()) + 1, np.bool_)
        of[labels[known]] = front[known]
        front = of[labels] & (far <= reach)
    mask = cv2.medianBlur(np.where(front, 255, 0).astype(np.uint8), SPECK)
    return np.asarray(mask > 127)


def spread(values: F32) -> F32:
    """(h, w) where there is nothing, 0, the nearest of what there is."""
    there = values > 0
    if there.all() or not there.any():
        return values
    _, labels = cv2.distanceTransformWithLabels(
        np.where(there, 0, 255).astype(np.uint8), cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL
    )
    of = np.zeros(int(labels.max()) + 1, np.float32)
    of[labels[there]] = values[there]
    return np.asarray(of[labels], np.float32)


def _lay(on: F32, part: F32, x: int, y: int) -> None:
    """Put a part on a picture with its corner at x, y, as far as it reaches."""
    h, w = on.shape[:2]
    x0, y0, x1, y1 = max(x, 0), max(y, 0), min(x + part.shape[1], w), min(y + part.shape[0], h)
    if x1 > x0 and y1 > y0:
        on[y0:y1, x0:x1] = part[y0 - y : y1 - y, x0 - x : x1 - x]
