"""What one document refers to: where its motions lie, its mended plate, its rooms."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from functools import cached_property
from typing import Any, TypeVar, cast

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, U8, Codes
from plonket.base.errors import BadInput
from plonket.base.homography import transform_point
from plonket.base.lru_cache import LruCache
from plonket.base.outlines import carry
from plonket.base.resampled import between_rows
from plonket.depth.frame_depth import FrameDepth
from plonket.document.bases import KeyBase, LayerBase, MotionBase
from plonket.document.hashes import picture_hash, plate_hash
from plonket.document.kinds import TREATMENTS
from plonket.document.perch import Perch
from plonket.document.references import references
from plonket.document.retime import as_filmed
from plonket.document.shot import NEARLY, Shot
from plonket.document.spot import Spot
from plonket.image.grain_in_time import MeasuredGrain
from plonket.image.picture import StillSource
from plonket.layers.falling import FallenLayer, fall_in, falls
from plonket.layers.light import DomeLayer
from plonket.layers.parcel import ParcelLayer
from plonket.layers.standing import StandingLayer
from plonket.layers.still import StillLayer, crowd_of
from plonket.media.clip import Clip, gyroscope_of
from plonket.media.gyroscope import Gyroscope
from plonket.plate.clean import Clean
from plonket.plate.repair.filled import Filled
from plonket.plate.repair.mended import Mending
from plonket.plate.view_path import PlateContext, ViewPath, corners_of, view_path
from plonket.raytrace.request import RenderRequest
from plonket.render.media_pool import MediaPool
from plonket.render.mending import mending_of
from plonket.render.plate_frames import PlateFrames, apart
from plonket.render.plate_picture import plate_picture
from plonket.render.stack import lay_stack
from plonket.room.camera import RoomCamera, spot_path
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.settings import CameraMotion
from plonket.track.depth.settings import DepthMotion
from plonket.track.movement import between, point_paths
from plonket.track.plane.settings import PlaneMotion
from plonket.track.points.settings import PointMotion
from plonket.track.points.tracks import PointTracks
from plonket.track.room_motion import RoomMotion
from plonket.track.spaces import DEEPEST, Spaces

T = TypeVar("T")


def _no_maker(key: Hashable) -> Any:
    raise KeyError(key)


class ShotSources:
    """The `Sources` of one document over a pool; also what motions may ask of each other (`Around`).

    `filmed` is the same in the clip's own time, to which masks, mends and the view belong.
    """

    def __init__(self, shot: Shot, pool: MediaPool) -> None:
        self.shot, self.pool = shot, pool
        self.size = size = (shot.footage.width, shot.footage.height) if shot.footage else (16, 9)
        self._moves = any(one.shown and "mends" not in TREATMENTS.of(one).traits for one in shot.plate)
        timed = shot.footage is not None and shot.footage.time is not None
        self.filmed = ShotSources(as_filmed(shot), pool) if timed else self
        self._frames: PlateFrames = PlateFrames(shot, pool, None if self.filmed is self else self.filmed._frames, self._mending)
        self._kept: LruCache[Hashable, Any] = LruCache(_no_maker, 1)
        self._crowds: dict[str, list[StillLayer]] = {}
        perches = [*shot.perches, *self._crowd_perches(shot)]
        self.spaces = Spaces(
            perches, self.movement, size, self._screen if self._moves else None, self.spot, self.moment if timed else None
        )
        self._perches = {p.id: p for p in perches}
        self._layers = {layer.id: layer for layer in shot.layers}
        self._parcels = {p.id: p.stack for p in shot.parcels}
        self._paths: dict[str, dict[str, F64]] = {}
        self._cameras: dict[str, RoomCamera] = {}
        self._falls: dict[str, dict[str, FallenLayer]] = {}
        self._baked: dict[tuple[str, str], str] = {}

    def _crowd_perches(self, shot: Shot) -> list[Perch]:
        """Perches for the copies of what stands in a room several times; those are remembered."""
        known = {p.id: p for p in shot.perches}
        out: list[Perch] = []
        for layer in shot.layers:
            perch = known.get(layer.follow.target or "") if isinstance(layer, StillLayer) else None
            if isinstance(layer, StillLayer) and perch is not None and layer.is_several:
                self._crowds[layer.id], more = crowd_of(layer, perch)
                out += more
        return out

    def copies(self, layer: LayerBase) -> Sequence[LayerBase]:
        return self._crowds.get(layer.id, [layer])

    @cached_property
    def view(self) -> ViewPath | None:
        shot, footage = self.shot, self.shot.footage
        if footage is None or not self._moves:
            return None
        if self.filmed is not self:
            return self.filmed.view
        context = PlateContext(
            size=(footage.width, footage.height), fps=float(footage.fps), start=footage.in_frame, stop=footage.out_frame + 1,
            movement=self.movement, places=self.places,
        )  # fmt: skip
        return self.pool.view(self._plate_key, lambda: view_path(shot.plate, context, footage.frames))

    @cached_property
    def _picture_key(self) -> str:
        return picture_hash(self.shot)

    @cached_property
    def _plate_key(self) -> str:
        return plate_hash(self.shot)

    def moment(self, frame: float) -> float:
        footage = self.shot.footage
        if footage is None or footage.time is None:
            return frame
        at = footage.moment(frame)
        near = round(at)
        return float(near) if footage.time.between == "nearest" or abs(at - near) < NEARLY else at

    def _screen(self, moment: float) -> F64:
        return np.eye(3) if self.view is None else np.asarray(np.linalg.inv(self.view.screen(moment)), np.float64)

    def places(self, motion: str, frame: int) -> F64:
        """(k, 2) where a plane's corners or the points of a motion lie in a frame of the clip."""
        found = self.shot.motion(motion)
        if isinstance(found, PlaneMotion):
            return carry(np.array(found.quad, np.float64), self._on_plane(motion, frame))
        paths = list(self._points(found).values()) if isinstance(found, PointMotion) else []
        if not paths:
            assert self.shot.footage is not None
            return corners_of((self.shot.footage.width, self.shot.footage.height))
        return np.stack([between_rows(path, frame) for path in paths])

    def _mending(self) -> Mending:
        return mending_of(self.shot, self.pool, self.movement, self.spaces, self.picked)

    def painted(self, treatment: str, k: int) -> U8:
        """A clean frame as the paint desk shows it: 8-bit (h, w, 3)."""
        for one in self.shot.plate:
            if isinstance(one, Clean) and one.id == treatment and k < len(one.frames):
                return self.filmed._frames.mending.painted(one, k)
        raise BadInput("clean.unknown", "This clean frame is not in the shot any more.")

    def plate(self, asset: str, moment: float) -> Codes:
        return self._frames.codes(asset, moment)

    def mend_now(self, asset: str, frame: int, told: Filled | None = None) -> U8:
        """A frame mended here and now, whatever is kept of it: 8-bit (h, w, 3)."""
        return self._frames.mend_now(asset, frame, told)

    @property
    def covered(self) -> bool:
        return self._frames.covered

    def keyed_plate(self, moment: float, key: KeyBase | None, level: int = 0) -> StillSource:
        return self._frames.keyed(moment, key, level)

    def plate_picture(self, frame: int, size: tuple[int, int], view: F64, key: KeyBase | None) -> F32:
        assert self.shot.footage is not None
        return plate_picture(self, self.shot.footage.asset, self.moment(frame), size, view, key)

    def donor(self, asset: str, frame: int) -> StillSource:
        return self._frames.donor(asset, frame)

    def grain(self, asset: str) -> MeasuredGrain | None:
        return self.pool.grain(asset)

    def length(self, asset: str) -> int:
        return self.pool.length(asset)

    @property
    def fps(self) -> float:
        return 25.0 if self.shot.footage is None else float(self.shot.footage.fps)

    def pace(self, asset: str) -> float:
        if self.shot.footage is None or self.length(asset) == 1:
            return 1.0
        return float(self.pool.clip(asset).info.rate / self.shot.footage.fps)

    def element(self, asset: str, frame: int, key: KeyBase | None = None, level: int = 0) -> StillSource:
        return self.pool.element(asset, frame, key, level)

    def layer(self, layer_id: str) -> LayerBase | None:
        return self._layers.get(layer_id)

    def parcel(self, parcel_id: str) -> Sequence[LayerBase]:
        return self._parcels.get(parcel_id, ())

    def table(self, asset: str) -> F32:
        return self.pool.table(asset)

    def matte(self, asset: str) -> Clip:
        return self.pool.clip(asset)

    def picked(self, motion: str, moment: float, *, shadow: bool = False) -> U8 | None:
        measurement, footage = self.shot.motion(motion).measurement, self.shot.footage
        if measurement is None or footage is None:
            return None
        asset = footage.asset if shadow else None
        low, share = apart(moment)
        first = self.pool.picked(measurement, low, asset)
        second = self.pool.picked(measurement, low + 1, asset) if share else None
        if first is None or second is None:
            return first if share < 0.5 else second
        return np.asarray(cv2.addWeighted(first, 1 - share, second, share, 0), np.uint8)

    def measurement(self, motion: str) -> str | None:
        return self.shot.motion(motion).measurement

    def middles(self, motion: str) -> F64 | None:
        """(n, 2) where the middle of what a matte covers lies in the clip's frames; None: it is not measured."""
        measurement = self.shot.motion(motion).measurement
        return None if measurement is None else self.pool.middles(measurement)

    def movement(self, motion: str, reference: int) -> F64 | None:
        return self.pool.movement(self.shot.motion(motion), reference)

    def quad(self, plane: str) -> F64 | None:
        motion = self.shot.motion(plane)
        return np.array(motion.quad, np.float64) if isinstance(motion, PlaneMotion) else None

    def on_plane(self, plane: str, frame: float) -> F64:
        return self._on_plane(plane, self.moment(frame))

    def _on_plane(self, plane: str, moment: float) -> F64:
        path = self.movement(plane, self.shot.motion(plane).home)
        return np.eye(3) if path is None else between(path, moment)

    def camera(self, motion: str) -> RoomCamera | None:
        """A solved camera in its room, or None while it is not measured."""
        found = self.shot.motion(motion)
        measured = self.pool.measured(found.measurement) if found.measurement else None
        if not isinstance(found, RoomMotion) or not isinstance(measured, CameraTrack):
            return None
        still = found.reference_frame if found.before_still_camera else None
        if self._moments is None:
            return RoomCamera(measured, found.room, still)
        if motion not in self._cameras:
            self._cameras[motion] = RoomCamera.at_moments(measured, found.room, still, self._moments)
        return self._cameras[motion]

    def solved(self, motion: str) -> CameraTrack | None:
        found = self.shot.motion(motion).measurement
        measured = self.pool.measured(found) if found else None
        return measured if isinstance(measured, CameraTrack) else None

    def depth(self, target: str | None, frame: int, *, hides: bool = False) -> FrameDepth | None:
        room = self.room_of(target)
        camera = self.camera(room) if room else None
        found = next((m for m in self._depths if m.camera == room and m.measurement and (m.hides or not hides)), None)
        if camera is None or found is None or found.measurement is None:
            return None
        told = self.pool.depth(found.measurement, round(self.moment(frame)))
        return None if told is None else told.scaled(camera.room.scale)

    @cached_property
    def _depths(self) -> list[DepthMotion]:
        return [m for m in self.shot.motions if isinstance(m, DepthMotion)]

    @cached_property
    def _moments(self) -> F64 | None:
        """(length,) the moment that each frame of the shot shows; None where they are the clip's own."""
        footage = self.shot.footage
        if footage is None or footage.time is None:
            return None
        return np.array([self.moment(frame) for frame in range(footage.length)])

    @property
    def room(self) -> str | None:
        # What moves by itself has a room as well: the camera's comes first.
        for motion in sorted(self.shot.motions, key=lambda m: not isinstance(m, CameraMotion)):
            camera = self.camera(motion.id) if isinstance(motion, RoomMotion) else None
            if camera is not None and camera.track.kind == "full":
                return motion.id
        return None

    @property
    def footage(self) -> str | None:
        return self.shot.footage.asset if self.shot.footage else None

    def seat(self, target: str | None) -> tuple[RoomCamera, Spot] | None:
        found = self._standing(target)
        camera = self.camera(found[0]) if found else None
        return (camera, found[1]) if camera is not None and found else None

    def on_spot(self, target: str | None) -> bool:
        return self._standing(target) is not None and target in self._perches

    def room_of(self, target: str | None) -> str | None:
        """The motion in whose room something stands; None: in none."""
        found = self._standing(target)
        return found[0] if found else None

    def _standing(self, target: str | None) -> tuple[str, Spot] | None:
        """The room's motion and the spot that a perch stands on; on the motion itself it is the room's origin."""
        for _ in range(DEEPEST):
            perch = self._perches.get(target or "")
            if perch is None:
                known = any(isinstance(m, RoomMotion) and m.id == target for m in self.shot.motions)
                return (target, Spot()) if known and target else None
            if perch.spot is not None and perch.follow.target is not None:
                return perch.follow.target, perch.spot
            target = perch.follow.target
        return None

    def neighbours(self, target: str | None, *, hidden: bool = False) -> Sequence[LayerBase]:
        here = self._standing(target)
        if here is None:
            return ()
        kinds = (StandingLayer, DomeLayer)
        found = [(layer, self._standing(layer.follow.target)) for layer in self._seen_layers if isinstance(layer, kinds)]
        return [layer for layer, room in found if (layer.shown or hidden) and room is not None and room[0] == here[0]]

    @cached_property
    def _seen_layers(self) -> list[LayerBase]:
        """The stack's layers, and after each parcel that is shown the layers in it, nearest first; each once."""
        out: dict[str, LayerBase] = {}
        todo: list[LayerBase] = list(reversed(self.shot.stack))
        while todo:
            layer = todo.pop()
            if layer.id in out:
                continue
            out[layer.id] = layer
            if isinstance(layer, ParcelLayer) and layer.shown:
                todo += reversed(self._parcels.get(layer.parcel, []))
        return list(out.values())

    def fallen(self, layer: str) -> FallenLayer | None:
        found = self._layers.get(layer)
        if found is None or not falls(found):
            return None
        target = getattr(found, "follow").target  # noqa: B009
        room = self.room_of(target) or ""
        if room not in self._falls:
            told = fall_in(self, target)
            self._falls[room] = {} if told is None else {
                one: FallenLayer(fallen=self.pool.fallen(told[0]), first_body=first, sizes=tuple(bodies.sizes),
                                 lets_go=int(getattr(self._layers[one], "falls_from")))  # noqa: B009
                for one, (first, bodies) in told[1].items() if bodies.loose
            }  # fmt: skip
        return self._falls[room].get(layer)

    def baked(self, layer: str, what: str, make: Callable[[], tuple[str, bytes]]) -> str:
        if (layer, what) not in self._baked:
            self._baked[layer, what] = self.pool.baked(*make())
        return self._baked[layer, what]

    def model(self, asset: str) -> str:
        return str(self.pool.path(asset))

    def canvas(self, frame: int, size: tuple[int, int], make: Callable[[], F32]) -> F32:
        return self.pool.canvas((self._picture_key, frame, size), make)

    def kept(self, key: Hashable, make: Callable[[], T]) -> T:
        return cast(T, self._kept.get(key, make))

    def lay(self, canvas: F32, layers: Sequence[LayerBase], frame: int, view: F64, scale: float) -> F32:
        return lay_stack(canvas, layers, self, frame, view, scale)

    def film(self, order: RenderRequest) -> F32:
        return self.pool.film(order)

    def control_points(self, motion: MotionBase) -> dict[str, tuple[F64, NDArray[np.bool_]]]:
        """The points that a motion counts on: name -> (n, 2) pixels and the frames on which they are known."""
        out: dict[str, tuple[F64, NDArray[np.bool_]]] = {}
        for one in (ref.id for ref in references(motion) if ref.declared.to == "points"):
            points = self.shot.motion(one)
            tracks = self.pool.measured(points.measurement) if points.measurement else None
            if isinstance(tracks, PointTracks):
                out |= {f"{one}/{name}": (tracks.xy[k], tracks.known(k)) for k, name in enumerate(tracks.ids)}
        return out

    def gyroscope(self) -> Gyroscope | None:
        return gyroscope_of(self.pool.clip(self.shot.footage.asset)) if self.shot.footage else None

    def spot(self, motion: str, spot: Spot) -> F64 | None:
        camera = self.camera(motion)
        return None if camera is None else spot_path(camera, spot)

    def anchor(self, target: str, point: str | None, at: F64, frame: float) -> F64 | None:
        perch = self._perches.get(target)
        if perch is not None:
            return transform_point(self.spaces.perch(perch, frame), at)
        motion = self.shot.motion(target)
        if isinstance(motion, PointMotion):
            path = self._points(motion).get(point or "")
            return None if path is None else between_rows(path, self.moment(frame))
        return None if motion.measurement is None else transform_point(self.on_plane(target, frame), at)

    def _points(self, motion: PointMotion) -> dict[str, F64]:
        if motion.id not in self._paths:
            measured = self.pool.measured(motion.measurement) if motion.measurement else None
            self._paths[motion.id] = point_paths(motion, measured) if isinstance(measured, PointTracks) else {}
        return self._paths[motion.id]
