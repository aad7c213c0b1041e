"""Media and measurements, opened once and kept for the next frame."""

from __future__ import annotations

import hashlib
import os
import pickle
import threading
from collections.abc import Callable, Hashable, Sequence
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.colour import linear_from_8bit
from plonket.comp.picture import StillSource, halved
from plonket.conventions import F32, F64, U8
from plonket.errors import BadInput
from plonket.formats.cube import read_cube
from plonket.kept import Kept
from plonket.key.carried import Carried
from plonket.key.chroma import restored
from plonket.key.common import KeyContext, scaled
from plonket.key.cutout import CutOutKey
from plonket.key.difference import DifferenceKey
from plonket.key.kinds import KEYS, Key
from plonket.key.screen import ScreenKey, samples_of
from plonket.layers.common import LayerModel
from plonket.media.clip import Clip, open_clip, open_working
from plonket.mend.clean import Hero
from plonket.mend.plate import Filled, Patch, mended
from plonket.mending import Mending
from plonket.motion.camera.settings import CameraMotion
from plonket.motion.camera.spot import Spot
from plonket.motion.camera.track import CameraTrack
from plonket.motion.camera.view import RoomCamera, spot_path
from plonket.motion.following import spot_through
from plonket.motion.movement import Measured, between, movement_of, settled_points
from plonket.motion.plane.settings import PlaneMotion
from plonket.motion.points.settings import PointMotion
from plonket.motion.points.tracks import PointTracks
from plonket.motion.spaces import DEEPEST, Spaces
from plonket.outline import carry
from plonket.plate.clean import Clean
from plonket.plate.kinds import view_path
from plonket.plate.mend import MaskedTreatment
from plonket.plate.view import PlateContext, ViewPath, corners_of
from plonket.scene.client import Renderer
from plonket.scene.request import Order
from plonket.shot import Motion, Shot, mends_hash, plate_hash

MOST_HALVED = 2
"""A key is worked out at a quarter of the size at the least: below that hair is gone."""



class MediaPool:
    """Open clips, stills and measurements by content hash, kept for the next frame.

    Parameters
    ----------
    media_path : content hash -> the file to read. measurement : content hash -> what was measured.
    scratch : folder for what is costly to work out again; None: nothing is kept on disk.
    stored : (hash of the mends, frame) -> a mended frame that was worked out ahead, or None.
    most_clips, most_stills : how many of each are kept open.
    """

    def __init__(
        self,
        media_path: Callable[[str], Path],
        measurement: Callable[[str], Measured],
        *,
        stored: Callable[[str, int], U8 | None] | None = None,
        scratch: Path | None = None,
        most_clips: int = 4,
        most_stills: int = 24,
    ) -> None:
        self._clips: Kept[str, Clip] = Kept(lambda key: open_working(media_path(key)), most_clips, lambda clip: clip.close())
        self._stills: Kept[str, StillSource] = Kept(lambda key: StillSource(open_clip(media_path(key)).rgba(0)), most_stills)
        self._clip_stills: Kept[tuple[str, int], StillSource] = Kept(self._clip_still, most_stills)
        self._measured = Kept(measurement, 32)
        self._tables: Kept[str, F32] = Kept(lambda key: read_cube(media_path(key).read_text(errors="replace")), 8)
        self._scratch = scratch
        self._stored = stored or (lambda _key, _frame: None)
        self._movements: Kept[tuple[str, int], F64] = Kept(self._no_maker, 64)
        self._mended: Kept[tuple[str, int], U8] = Kept(self._no_maker, 32)
        self._views: Kept[str, ViewPath] = Kept(self._no_maker, 16)
        self._painted: Kept[str, F32] = Kept(self._no_maker, 8)
        self._heroes: Kept[str, Hero] = Kept(self._no_maker, 8)
        self._keyed: Kept[tuple[str, int, str, int], StillSource] = Kept(self._no_maker, 10)
        self._contexts: Kept[tuple[str, str, str], KeyContext] = Kept(self._no_maker, 16)
        self._media_path = media_path
        self._renderer = Renderer()
        self._filmed: Kept[str, F32] = Kept(self._no_maker, 24)

    def clip(self, asset: str) -> Clip:
        return self._clips.get(asset)

    def still(self, asset: str) -> StillSource:
        return self._stills.get(asset)

    def element(self, asset: str, frame: int, key: Key | None = None, level: int = 0) -> StillSource:
        """A still, or one frame of a clip, ready for placing: as it is, or keyed at the size halved `level` times."""
        if key is not None:
            at = min(level, MOST_HALVED)
            return self._keyed.get((asset, frame, key.model_dump_json(), at), lambda: self._key(asset, frame, key, at))
        return self.still(asset) if self.length(asset) == 1 else self._clip_stills.get((asset, frame))

    def _key(self, asset: str, frame: int, key: Key, level: int) -> StillSource:
        rgb = self.clip(asset).rgb(frame)
        # Halved, a picture is as fine in colour as in brightness anyway.
        if isinstance(key, ScreenKey) and key.sharp and level == 0 and self.length(asset) > 1:
            rgb = restored(rgb)
        light = linear_from_8bit(rgb)
        size = (light.shape[1], light.shape[0])
        for _ in range(level):
            light = halved(light)
        context = replace(self.key_context(asset, key), frame=frame)
        rgba = KEYS.get(key.kind).run(light, scaled(key, 0.5**level) if level else key, context)
        return StillSource.of_light(rgba, size, level)

    def path(self, asset: str) -> Path:
        """The file of an asset."""
        return self._media_path(asset)

    def film(self, order: Order) -> F32:
        """A 3D model filmed in the renderer's own process; the last pictures are kept."""
        digest = hashlib.sha256(pickle.dumps(order)).hexdigest()
        return self._filmed.get(digest, lambda: self._renderer.film(order))

    def table(self, asset: str) -> F32:
        """A colour table of the shelf."""
        return self._tables.get(asset)

    def key_context(self, asset: str, key: Key) -> KeyContext:
        """What a key knows of a whole clip: found once, so that it does not change from frame to frame."""

        def make() -> KeyContext:
            if isinstance(key, ScreenKey):
                clip = self.clip(asset)
                middle = linear_from_8bit(np.ascontiguousarray(clip.rgba(clip.info.frames // 2)[..., :3]))
                return KeyContext(colours=samples_of(middle, key))
            if isinstance(key, DifferenceKey) and key.clean is not None:
                return KeyContext(clean=linear_from_8bit(np.ascontiguousarray(self.clip(key.clean).rgba(0)[..., :3])))
            if isinstance(key, CutOutKey):
                clip = self.clip(asset)
                return KeyContext(carried=self._carried(asset, clip, key))
            return KeyContext()

        given = key.colours if isinstance(key, ScreenKey) else getattr(key, "clean", None)
        if isinstance(key, CutOutKey):
            given = [s.model_dump_json() for s in key.strokes]
        return self._contexts.get((asset, key.kind, str(given)), make)

    def _carried(self, asset: str, clip: Clip, key: CutOutKey) -> Carried:
        def rgb(frame: int) -> U8:
            return np.ascontiguousarray(clip.rgba(frame)[..., :3])

        if self._scratch is None:
            return Carried(rgb, clip.info.frames, key.strokes)
        text = asset + "".join(s.model_dump_json() for s in key.strokes)
        folder = self._scratch / "cutout" / hashlib.sha256(text.encode()).hexdigest()[:24]

        def load(name: str) -> U8 | None:
            found = cv2.imread(str(folder / f"{name}.png"), cv2.IMREAD_GRAYSCALE)
            return None if found is None else np.asarray(found, np.uint8)

        def save(name: str, mask: U8) -> None:
            folder.mkdir(parents=True, exist_ok=True)
            # Several processes may cut the same clip: whole files only.
            part = folder / f"{name}.{threading.get_ident()}.{os.getpid()}.part.png"
            cv2.imwrite(str(part), mask)
            part.replace(folder / f"{name}.png")

        return Carried(rgb, clip.info.frames, key.strokes, load=load, save=save)

    def length(self, asset: str) -> int:
        """Frames of a clip; 1 for a still."""
        if self._stills.has(asset):
            return 1
        return self.clip(asset).info.frames

    def _clip_still(self, key: tuple[str, int]) -> StillSource:
        return StillSource(self.clip(key[0]).rgba(key[1]))

    def measured(self, digest: str) -> Measured:
        return self._measured.get(digest)

    def movement(self, motion: Motion, reference: int) -> F64 | None:
        """(n, 3, 3) from the reference frame to every frame as the motion is set; None while it is not measured."""
        if motion.measurement is None:
            return None
        measured = self.measured(motion.measurement)
        key = (motion.model_dump_json(), reference)
        return self._movements.get(key, lambda: movement_of(motion, measured, reference))

    def view(self, key: str, make: Callable[[], ViewPath]) -> ViewPath:
        """A view path, worked out once for all frames that share it."""
        return self._views.get(key, make)

    def mended(self, key: tuple[str, int], make: Callable[[], U8]) -> U8:
        """A mended frame of the plate: worked out ahead, or now."""

        def ready() -> U8:
            found = self._stored(*key)
            return make() if found is None else found

        return self._mended.get(key, ready)

    def painted(self, key: str, make: Callable[[], F32] | None = None) -> F32 | None:
        """A frame at the paint desk; without `make`, only one that is there."""
        return self._painted.get(key, make) if make or self._painted.has(key) else None

    def hero(self, key: str, make: Callable[[], Hero]) -> Hero:
        """A clean frame ready to be laid."""
        return self._heroes.get(key, make)

    def picture(self, asset: str) -> U8:
        """A still's pixels, 8-bit (h, w, 4)."""
        return self.clip(asset).rgba(0)

    def _no_maker(self, key: Hashable) -> Any:
        raise KeyError(key)

    def close(self) -> None:
        """Close every open clip."""
        self._clips.clear()


class ShotSources:
    """The `Sources` of one document over a pool; also what motions may ask of each other (`Around`)."""

    def __init__(self, shot: Shot, pool: MediaPool) -> None:
        self.shot, self.pool = shot, pool
        self.size = size = (shot.footage.width, shot.footage.height) if shot.footage else (16, 9)
        self._moves = any(one.shown and not isinstance(one, MaskedTreatment) for one in shot.plate)
        self.spaces = Spaces(shot.perches, self.movement, size, self._screen if self._moves else None, self.spot)
        self._perches = {p.id: p for p in shot.perches}
        self._layers = {layer.id: layer for layer in shot.layers}
        self._parcels = {p.id: p.stack for p in shot.parcels}
        self._paths: dict[str, dict[str, F64]] = {}

    @cached_property
    def view(self) -> ViewPath | None:
        shot, footage = self.shot, self.shot.footage
        if footage is None or not self._moves:
            return None
        context = PlateContext(
            size=(footage.width, footage.height), fps=float(footage.fps), start=footage.in_frame, stop=footage.out_frame + 1,
            movement=self.movement, places=self.places,
        )  # fmt: skip
        return self.pool.view(self._plate_key, lambda: view_path(shot.plate, context, footage.frames))

    @cached_property
    def _plate_key(self) -> str:
        return plate_hash(self.shot)

    def _screen(self, frame: float) -> F64:
        if self.view is None:
            return np.eye(3)
        # An exposure's instants share their frame's view: the plate's own blur was filmed, not added.
        at = int(np.clip(round(frame), 0, len(self.view.onto) - 1))
        return np.asarray(np.linalg.inv(self.view.screen(at)), np.float64)

    def places(self, motion: str, frame: int) -> F64:
        """(k, 2) where a plane's corners or the points of a motion lie in a frame."""
        found = self.shot.motion(motion)
        if isinstance(found, PlaneMotion):
            return carry(np.array(found.quad, np.float64), self.on_plane(motion, frame))
        paths = list(self._points(found).values()) if isinstance(found, PointMotion) else []
        if not paths:
            assert self.shot.footage is not None
            return corners_of((self.shot.footage.width, self.shot.footage.height))
        return np.stack([_at(path, frame) for path in paths])

    @cached_property
    def _mending(self) -> Mending:
        footage = self.shot.footage
        assert footage is not None
        return Mending(self.shot, lambda i: self.pool.clip(footage.asset).rgb(i), self.pool, self.movement, self.spaces)

    @cached_property
    def _patches(self) -> list[Patch]:
        return self._mending.patches() if self.shot.footage else []

    def painted(self, treatment: str, k: int) -> U8:
        """A clean frame as the paint desk shows it: 8-bit (h, w, 3)."""
        for one in self.shot.plate:
            if isinstance(one, Clean) and one.id == treatment and k < len(one.frames):
                return self._mending.painted(one, k)
        raise BadInput("clean.unknown", "This clean frame is not in the shot any more.")

    def plate(self, asset: str, frame: int) -> U8:
        clip = self.pool.clip(asset)
        if not self._patches:
            return clip.rgb(frame)
        return self.pool.mended((self._mends_key, frame), lambda: self.mend_now(asset, frame))

    def mend_now(self, asset: str, frame: int, told: Filled | None = None) -> U8:
        """A frame mended here and now, whatever is kept of it: 8-bit (h, w, 3)."""
        clip = self.pool.clip(asset)
        return mended(frame, self._patches, clip.rgb, clip.luma, clip.info.frames, told)

    @cached_property
    def _mends_key(self) -> str:
        return mends_hash(self.shot)

    def donor(self, asset: str, frame: int) -> StillSource:
        return StillSource(self.plate(asset, frame)) if self._patches else self.pool.element(asset, frame)

    def length(self, asset: str) -> int:
        return self.pool.length(asset)

    def element(self, asset: str, frame: int, key: Key | None = None, level: int = 0) -> StillSource:
        return self.pool.element(asset, frame, key, level)

    def layer(self, layer_id: str) -> LayerModel | None:
        return self._layers.get(layer_id)

    def parcel(self, parcel_id: str) -> Sequence[LayerModel]:
        return self._parcels.get(parcel_id, ())

    def table(self, asset: str) -> F32:
        return self.pool.table(asset)

    def matte(self, asset: str) -> Clip:
        return self.pool.clip(asset)

    def movement(self, motion: str, reference: int) -> F64 | None:
        return self.pool.movement(self.shot.motion(motion), reference)

    def quad(self, plane: str) -> F64 | None:
        motion = self.shot.motion(plane)
        return np.array(motion.quad, np.float64) if isinstance(motion, PlaneMotion) else None

    def on_plane(self, plane: str, frame: float) -> F64:
        motion = self.shot.motion(plane)
        reference = motion.points[0].given[0].frame if isinstance(motion, PointMotion) else motion.reference_frame
        path = self.movement(plane, reference)
        return np.eye(3) if path is None else between(path, frame)

    def camera(self, motion: str) -> RoomCamera | None:
        """A solved camera in its room, or None while it is not measured."""
        found = self.shot.motion(motion)
        measured = self.pool.measured(found.measurement) if found.measurement else None
        if not isinstance(found, CameraMotion) or not isinstance(measured, CameraTrack):
            return None
        return RoomCamera(measured, found.room)

    def seat(self, target: str | None) -> tuple[RoomCamera, Spot] | None:
        for _ in range(DEEPEST):
            perch = self._perches.get(target or "")
            if perch is None:
                return None
            if perch.spot is not None and perch.follow.target is not None:
                camera = self.camera(perch.follow.target)
                return None if camera is None else (camera, perch.spot)
            target = perch.follow.target
        return None

    def model(self, asset: str) -> str:
        return str(self.pool.path(asset))

    def film(self, order: Order) -> F32:
        return self.pool.film(order)

    def strong(self, motion: CameraMotion) -> dict[str, tuple[F64, NDArray[np.bool_]]]:
        """The points that a camera motion counts on: name -> (n, 2) pixels and the frames on which they are known."""
        out: dict[str, tuple[F64, NDArray[np.bool_]]] = {}
        for one in motion.strong:
            points = self.shot.motion(one)
            tracks = self.pool.measured(points.measurement) if points.measurement else None
            if isinstance(tracks, PointTracks):
                out |= {f"{one}/{name}": (tracks.xy[k], tracks.known(k)) for k, name in enumerate(tracks.ids)}
        return out

    def spot(self, motion: str, spot: Spot) -> F64 | None:
        camera = self.camera(motion)
        return None if camera is None else spot_path(camera, spot)

    def anchor(self, target: str, point: str | None, at: F64, frame: float) -> F64 | None:
        perch = self._perches.get(target)
        if perch is not None:
            return spot_through(self.spaces.perch(perch, frame), at)
        motion = self.shot.motion(target)
        if isinstance(motion, PointMotion):
            path = self._points(motion).get(point or "")
            return None if path is None else _at(path, frame)
        return None if motion.measurement is None else spot_through(self.on_plane(target, frame), at)

    def _points(self, motion: PointMotion) -> dict[str, F64]:
        if motion.id not in self._paths:
            measured = self.pool.measured(motion.measurement) if motion.measurement else None
            self._paths[motion.id] = settled_points(motion, measured) if isinstance(measured, PointTracks) else {}
        return self._paths[motion.id]


def _at(path: F64, frame: float) -> F64:
    """A path (n, 2) at a fractional frame."""
    at = float(np.clip(frame, 0, len(path) - 1))
    k = min(int(at), max(len(path) - 2, 0))
    return np.asarray(path[k] + (at - k) * (path[min(k + 1, len(path) - 1)] - path[k]))
