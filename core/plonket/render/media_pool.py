"""Media and measurements, opened once and kept for the next frame."""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Callable, Hashable
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from plonket.base.conventions import F32, F64, U8, Codes
from plonket.base.isolated import call_apart
from plonket.base.kept_files import YOUNG_S, give_up_oldest, written_aside
from plonket.base.lru_cache import Budget, LruCache
from plonket.depth.frame_depth import FrameDepth
from plonket.document.bases import KeyBase, MotionBase
from plonket.formats.cube import load_cube
from plonket.image.grain_in_time import MeasuredGrain, dump_grain, load_grain, measure_grain
from plonket.image.pair_flow import PairFlow, pair_flow
from plonket.image.picture import StillSource
from plonket.keying.common import KeyContext
from plonket.lighting.set_light import SetLight, dump_light, load_light, set_light
from plonket.matting.clip_shadow import shadow_in
from plonket.media.clip import Clip, PictureClip, open_clip, open_working
from plonket.media.stills import EXR, read_light
from plonket.physics.engine import simulate
from plonket.physics.fall import Fall, Fallen, fall_digest
from plonket.plate.repair.clean_plate import CleanPlate
from plonket.plate.view_path import ViewPath
from plonket.raytrace.client import Renderer
from plonket.raytrace.disk_cache import FilmStore
from plonket.raytrace.request import RenderRequest, request_digest
from plonket.render.keyer import Keyer
from plonket.render.mask_files import MaskFiles
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.room.camera_track import CameraTrack
from plonket.track.depth.depth_track import DepthTrack
from plonket.track.matte.matte_track import MatteTrack
from plonket.track.movement import Measured, movement_of

T = TypeVar("T")
MOST_BYTES = 384 * 1024**2
"""Two pictures of 4K or twenty of 720p, of light and coverage with their halvings."""
MOST_MEASURED_BYTES = 256 * 1024**2
"""Of memory for what was measured; one thing is kept however large it is."""
FALL_SECONDS, FALL_BYTES = 240.0, 6 * 1024**3
"""What a fall may take, of one processor's time and of memory."""
MOST_KEPT_BYTES = 1024**3
"""Of falls, and of models that were made for shots, on disk."""



def _dump_grain(grain: MeasuredGrain | None) -> str | None:
    return None if grain is None else dump_grain(grain)


class MediaPool:
    """Open clips, stills and measurements by content hash, kept for the next frame.

    Parameters
    ----------
    media_path : content hash -> the file to read. measurement : content hash -> what was measured.
    scratch : folder for what is costly to work out again; None: nothing is kept on disk.
    stored : (hash of the mends, frame) -> a mended frame that was worked out ahead, or None.
    most_clips, most_stills : how many of each are kept open. most_bytes : of memory for all pictures that are kept.
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
        most_bytes: int = MOST_BYTES,
    ) -> None:
        self._clips: LruCache[str, Clip] = LruCache(
            lambda key: open_working(media_path(key)), most_clips, lambda clip: clip.close()
        )
        # Counted in pictures, a pool of 4K ones would hold gigabytes.
        self._budget = budget = Budget(most_bytes)
        self._stills: LruCache[str, StillSource] = LruCache(
            lambda key: still_source(media_path(key)), most_stills, budget=budget
        )
        self._clip_stills: LruCache[tuple[str, int], StillSource] = LruCache(self._clip_still, most_stills, budget=budget)
        # Depth takes .64 MB a frame of 720p.
        self._measured = LruCache(measurement, 32, budget=Budget(MOST_MEASURED_BYTES))
        self._tables: LruCache[str, F32] = LruCache(lambda key: load_cube(media_path(key)), 8)
        self._scratch = scratch
        self._stored = stored or (lambda _key, _frame: None)
        self._movements: LruCache[tuple[str, int], F64] = LruCache(self._no_maker, 64)
        self._mended: LruCache[tuple[str, int], U8] = LruCache(self._no_maker, 32, budget=budget)
        self._between: LruCache[tuple[str, float, str], Codes] = LruCache(self._no_maker, 16, budget=budget)
        self._flows: LruCache[tuple[str, int], PairFlow] = LruCache(self._no_maker, 4, budget=budget)
        self._views: LruCache[str, ViewPath] = LruCache(self._no_maker, 16)
        self._canvases: LruCache[tuple[str, int, tuple[int, int]], F32] = LruCache(self._no_maker, 4, budget=budget)
        self._painted: LruCache[str, F32] = LruCache(self._no_maker, 8, budget=budget)
        self._heroes: LruCache[str, CleanPlate] = LruCache(self._no_maker, 8, budget=budget)
        self._keyer = Keyer(self, budget, scratch)
        self._mattes: LruCache[tuple[str, int, str], U8] = LruCache(self._no_maker, 64, budget=budget)
        self._middles: LruCache[str, F64 | None] = LruCache(self._no_maker, 16)
        self._depths: LruCache[tuple[str, int], FrameDepth] = LruCache(self._no_maker, 16, budget=budget)
        self._grains: LruCache[str, MeasuredGrain | None] = LruCache(self._no_maker, 16)
        self._lights: LruCache[str, SetLight] = LruCache(self._no_maker, 16)
        self._fallen: LruCache[str, Fallen] = LruCache(self._no_maker, 8)
        self._own_scratch: tempfile.TemporaryDirectory[str] | None = None
        self._media_path = media_path
        self._renderer = Renderer()
        self._filmed: LruCache[str, F32] = LruCache(self._no_maker, 24, budget=budget)
        self._films = FilmStore(scratch / "filmed") if scratch else None

    def clip(self, asset: str) -> Clip:
        return self._clips.get(asset)

    def still(self, asset: str) -> StillSource:
        return self._stills.get(asset)

    def element(self, asset: str, frame: int, key: KeyBase | None = None, level: int = 0) -> StillSource:
        """A still, or one frame of a clip, ready for placing: as it is, or keyed at the size halved `level` times."""
        if key is not None:
            return self.keyed(asset, frame, key, level)
        return self.still(asset) if self.length(asset) == 1 else self._clip_stills.get((asset, frame))

    def keyed(
        self, asset: str, frame: int, key: KeyBase, level: int, mends: str = "", rgb: Callable[[], Codes] | None = None,
        matte: str | None = None,
    ) -> StillSource:
        """One frame keyed at the size halved `level` times, kept; of a mended clip with the hash of its `mends` and what gives
        its pixels, by a measured `matte` if the key wants one."""
        return self._keyer.keyed(asset, frame, key, level, mends, rgb, matte)

    def path(self, asset: str) -> Path:
        """The file of an asset."""
        return self._media_path(asset)

    def film(self, order: RenderRequest) -> F32:
        """3D things filmed in the renderer's own process; pictures are kept, on disk where there is a place for them."""

        def make() -> F32:
            found = self._films.load(digest) if self._films else None
            if found is None:
                found = self._renderer.film(order)
                if self._films:
                    self._films.save(digest, found)
            return found

        digest = request_digest(order)
        return self._filmed.get(digest, make)

    def is_filmed(self, order: RenderRequest) -> bool:
        """Whether a picture is there without filming."""
        digest = request_digest(order)
        return self._filmed.has(digest) or (self._films is not None and self._films.has(digest))

    def fallen(self, fall: Fall) -> Fallen:
        """How what falls in a room comes to rest, worked out once, in a process of its own."""
        digest = fall_digest(fall)

        def make() -> Fallen:
            path = None if self._scratch is None else self._scratch / "fallen" / f"{digest}.npy"
            if path is not None and path.exists():
                return Fallen(first=fall.first, poses=np.load(path))
            found = call_apart(simulate, fall, seconds=FALL_SECONDS, most_bytes=FALL_BYTES, what="What falls")
            if path is not None:
                with written_aside(path) as part, part.open("wb") as file:
                    np.save(file, found.poses)
                give_up_oldest(path.parent, "*.npy", MOST_KEPT_BYTES)
            return found

        return self._fallen.get(digest, make)

    def baked(self, name: str, data: bytes) -> str:
        """The path of a model that was made for a shot, named by what is in it."""
        if self._scratch is None and self._own_scratch is None:
            self._own_scratch = tempfile.TemporaryDirectory()
        folder = self._scratch if self._scratch is not None else Path(self._own_scratch.name)  # type: ignore[union-attr]
        path = folder / "baked" / name
        if path.exists():
            os.utime(path)
        else:
            with written_aside(path) as part:
                part.write_bytes(data)
            give_up_oldest(path.parent, "*", MOST_KEPT_BYTES, YOUNG_S)
        return str(path)

    def table(self, asset: str) -> F32:
        """A colour table of the shelf."""
        return self._tables.get(asset)

    def key_context(self, asset: str, key: KeyBase) -> KeyContext:
        """What a key knows of a whole clip: found once, so that it does not change from frame to frame."""
        return self._keyer.context(asset, key)

    def grain(self, asset: str) -> MeasuredGrain | None:
        """A clip's grain, measured once: it is kept on disk where there is a place for it."""
        make = self._kept("grain", asset, load_grain, _dump_grain, lambda: measure_grain(self.clip(asset)))
        return self._grains.get(asset, make)

    def set_light(self, asset: str, measurement: str, room: Room) -> SetLight:
        """The light of a clip's solved room, told once."""
        key = hashlib.sha256(f"{asset} {measurement} {room.model_dump_json()}".encode()).hexdigest()

        def make() -> SetLight:
            track = self.measured(measurement)
            assert isinstance(track, CameraTrack)
            camera = RoomCamera(track, room)
            return set_light(camera, self.clip(asset).codes, room.points(track.points[track.kept]), track.xy[track.kept])

        return self._lights.get(key, self._kept("light", key, load_light, dump_light, make))

    def _kept(
        self, folder: str, name: str, load: Callable[[str], T | None], dump: Callable[[T], str | None], make: Callable[[], T]
    ) -> Callable[[], T]:
        """Makes what is costly to work out, unless it lies in the scratch folder, and lays it there if `dump` gives text."""

        def made() -> T:
            path = None if self._scratch is None else self._scratch / folder / f"{name}.json"
            if path is not None and path.exists():
                found = load(path.read_text())
                if found is not None:
                    return found
            fresh = make()
            text = None if path is None else dump(fresh)
            if path is not None and text is not None:
                with written_aside(path) as part:
                    part.write_text(text)
            return fresh

        return made

    def length(self, asset: str) -> int:
        """Frames of a clip; 1 for a still."""
        if self._stills.has(asset):
            return 1
        return self.clip(asset).info.frames

    def _clip_still(self, key: tuple[str, int]) -> StillSource:
        clip = self.clip(key[0])
        return StillSource(clip.rgba(key[1]) if clip.info.has_alpha else clip.codes(key[1]))

    def measured(self, digest: str) -> Measured:
        return self._measured.get(digest)

    def picked(self, digest: str, frame: int, casts_in: str | None = None) -> U8 | None:
        """What a measured matte covers in a frame, 8-bit (h, w), with the shadow that it casts in a clip if one is given; None:
        it is not known there."""

        def make() -> U8:
            track = self.measured(digest)
            found = track.alpha(frame) if isinstance(track, MatteTrack) else None
            if found is None:
                return np.zeros((0, 0), np.uint8)
            return found if casts_in is None else np.maximum(found, self._shadow(casts_in, digest, frame))

        found = self._mattes.get((digest, frame, casts_in or ""), make)
        return found if found.size else None

    def middles(self, digest: str) -> F64 | None:
        """(n, 2) the middle of what a measured matte covers, for every frame of its clip."""
        track = self.measured(digest)
        return self._middles.get(digest, lambda: track.middles() if isinstance(track, MatteTrack) else None)

    def depth(self, digest: str, frame: int) -> FrameDepth | None:
        """Measured depth of a frame in its camera's units; None: nothing is known of the frame."""

        def make() -> FrameDepth:
            track, nothing = self.measured(digest), np.zeros((0, 0), np.float32)
            if not isinstance(track, DepthTrack):
                return FrameDepth(nothing, nothing)
            depth, sure = track.depth(frame), track.sure(frame)
            return FrameDepth(nothing, nothing) if depth is None or sure is None else FrameDepth(depth, sure)

        found = self._depths.get((digest, frame), make)
        return found if found.depth.size else None

    def _shadow(self, asset: str, digest: str, frame: int) -> U8:
        """8-bit (h, w): the shadow that what a matte covers casts in a frame of a clip, kept on disk where there is a place."""
        place = None if self._scratch is None else MaskFiles(self._scratch / "shadows" / digest)
        kept = place.load(str(frame)) if place else None
        if kept is not None:
            return kept
        shadow = shadow_in(self.clip(asset), frame, lambda f: self.picked(digest, f))
        if place:
            place.save(str(frame), shadow)
        return shadow

    def movement(self, motion: MotionBase, reference: int) -> F64 | None:
        """(n, 3, 3) from the reference frame to every frame as the motion is set; None while it is not measured."""
        if motion.measurement is None:
            return None
        measured = self.measured(motion.measurement)
        key = (motion.model_dump_json(), reference)
        return self._movements.get(key, lambda: movement_of(motion, measured, reference))

    def canvas(self, key: tuple[str, int, tuple[int, int]], make: Callable[[], F32]) -> F32:
        """A whole picture before its finish."""
        return self._canvases.get(key, make)

    def view(self, key: str, make: Callable[[], ViewPath]) -> ViewPath:
        """A view path, worked out once for all frames that share it."""
        return self._views.get(key, make)

    def mended(self, key: tuple[str, int], make: Callable[[], U8]) -> U8:
        """A mended frame of the plate: worked out ahead, or now."""

        def ready() -> U8:
            found = self._stored(*key)
            return make() if found is None else found

        return self._mended.get(key, ready)

    def between(self, key: tuple[str, float, str], make: Callable[[], Codes]) -> Codes:
        """The plate at a moment between two frames, made in some way."""
        return self._between.get(key, make)

    def flow(self, key: tuple[str, int], first: Callable[[], U8], second: Callable[[], U8]) -> PairFlow:
        """The movement between a frame of the plate and the next."""
        return self._flows.get(key, lambda: pair_flow(first(), second()))

    def painted(self, key: str, make: Callable[[], F32] | None = None) -> F32 | None:
        """A frame at the paint desk; without `make`, only one that is there."""
        return self._painted.get(key, make) if make or self._painted.has(key) else None

    def hero(self, key: str, make: Callable[[], CleanPlate]) -> CleanPlate:
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


def still_source(path: Path) -> StillSource:
    """A still ready for placing; an EXR picture with all the light it has."""
    if path.suffix.lower() == EXR:
        return StillSource.of_light(read_light(path))
    clip = open_clip(path)
    return StillSource(clip.straight(0) if isinstance(clip, PictureClip) else clip.rgba(0))
