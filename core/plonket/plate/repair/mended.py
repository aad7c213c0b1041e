"""A shot's mends and clean frames, made ready for its plate."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Sequence
from functools import cached_property, partial
from typing import Any, Protocol

import cv2
import numpy as np

from plonket.base.colour import decode, encode, encode_8bit, linear_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput
from plonket.base.fields import value_at
from plonket.base.homography import rotation_scale, translation
from plonket.document.bases import MaskedTreatment
from plonket.document.shot import Shot
from plonket.image.degrain import degrained_picture
from plonket.image.grain import GrainProfile
from plonket.image.grain_in_time import MeasuredGrain
from plonket.image.picture import StillSource
from plonket.masks.combine import Mattes, combined, no_mattes, space_of
from plonket.plate.clean import Clean, CleanFrame
from plonket.plate.degrain import Degrain
from plonket.plate.mend import Mend
from plonket.plate.repair.behind import Behind, MeasuredDepth
from plonket.plate.repair.clean_plate import CleanPlate, Levels, degrained, grain_of, lay_clean, shares
from plonket.plate.repair.edges import fill_edges
from plonket.plate.repair.grain import Grain
from plonket.plate.repair.paint import painted
from plonket.plate.repair.patches import Patch, filled_softly, hidden
from plonket.plate.repair.texture import fill_texture
from plonket.track.spaces import Spaces

SUGGESTED_WIDER_PX = 6
"""What is suggested reaches so far beyond the masks, so that soft edges have something to fade into."""


class Kept(Protocol):
    """Things made once and kept: by content hash."""

    def painted(self, key: str, make: Callable[[], F32] | None = None) -> F32 | None:
        """A frame at the paint desk, display light; without `make`, only one that is there."""
        ...

    def hero(self, key: str, make: Callable[[], CleanPlate]) -> CleanPlate: ...

    def picture(self, asset: str) -> U8:
        """A still's pixels, 8-bit (h, w, 3 or 4)."""
        ...

    def grain(self, asset: str) -> MeasuredGrain | None:
        """A clip's grain."""
        ...


class Mending:
    """Turns treatments into patches.

    Parameters
    ----------
    shot : with footage. rgb : frame -> 8-bit (h, w, 3) of the clip. kept : see `Kept`.
    movement : (motion id, reference frame) -> (n, 3, 3) or None. spaces : where masks ride. mattes : of what was picked.
    depth : of the clip, if that is measured.
    """

    def __init__(
        self, shot: Shot, rgb: Callable[[int], U8], kept: Kept, movement: Callable[[str, int], F64 | None], spaces: Spaces,
        mattes: Mattes = no_mattes, depth: MeasuredDepth | None = None,
    ) -> None:  # fmt: skip
        assert shot.footage is not None
        self._shot, self._rgb, self._kept, self._movement, self._spaces = shot, rgb, kept, movement, spaces
        self._mattes, self._depth = mattes, depth
        self._size, self._frames = (shot.footage.width, shot.footage.height), shot.footage.frames

    def patches(self) -> list[Patch]:
        """What is on of the shot's mends, in their order."""
        shown = [one for one in self._shot.plate if isinstance(one, MaskedTreatment) and one.shown]
        return [self._patch(one, k) for k, one in enumerate(shown)]

    def cover(self, one: MaskedTreatment, frame: int) -> F32 | None:
        """(h, w) what a treatment's masks cover in a frame of the clip; None: it has none."""
        return combined(
            one.masks, frame, self._size, lambda mask: space_of(mask, self._spaces, frame), self._mattes
        )

    def _patch(self, one: MaskedTreatment, seed: int) -> Patch:
        def cover(frame: int) -> F32 | None:
            return self.cover(one, frame)

        if isinstance(one, Clean):
            return Patch(cover=cover, rim_px=0, fill=lambda rgb, frame, mask: self._cleaned(one, rgb, frame, mask, seed))
        if isinstance(one, Degrain):
            whole = np.ones((self._size[1], self._size[0]), np.float32)
            everywhere = (lambda _frame: whole) if not one.masks else cover
            fill = partial(self._degrained, one)
            return Patch(cover=everywhere, rim_px=0, fill=fill, hides=False)
        assert isinstance(one, Mend)
        if one.method == "time":
            return Patch(cover=cover, rim_px=one.rim, fill=None)

        grain = one.grain and (self.grain or False)

        def edges(rgb: U8, frame: int, mask: F32) -> U8:
            return filled_softly(rgb, mask, one.rim, lambda matte: fill_edges(
                rgb, matte, frame=frame, rim_px=0, reach_px=one.reach, grain=grain, course=one.course, offset_px=one.offset,
            ))  # fmt: skip

        return Patch(cover=cover, rim_px=one.rim, fill=edges)

    def _degrained(self, one: Degrain, rgb: U8, frame: int, cover: F32) -> U8:
        share = float(np.clip(value_at(one.share, frame) / 100, 0, 1))
        profile = self.grain
        if profile is None or share <= 0 or not cover.any():
            return rgb

        def seen(other: int) -> U8:
            # What is mended in this frame is not in the others; there they do not agree.
            return rgb if other == frame else self._rgb(other)

        clean = degrained_picture(seen, frame, self._frames, profile, reach=one.reach, strength=one.strength / 100)
        mixed = rgb + np.float32(share) * cover[..., None] * (clean - rgb)
        return np.asarray(np.clip(mixed + 0.5, 0, 255), np.uint8)

    @cached_property
    def behind(self) -> Behind | None:
        """What lies behind what is taken out, by the clip's depth; None: that is not measured."""
        if self._depth is None:
            return None
        patches = self.patches()
        return Behind(self._depth, lambda k: hidden(patches, k, self._size[::-1]))

    @property
    def grain(self) -> GrainProfile | None:
        """Of the clip."""
        assert self._shot.footage is not None
        found = self._kept.grain(self._shot.footage.asset)
        return None if found is None else found.profile

    def _cleaned(self, one: Clean, rgb: U8, frame: int, cover: F32, seed: int) -> U8:
        opacity = float(np.clip(value_at(one.opacity, frame) / 100, 0, 1))
        if opacity <= 0 or not cover.any():
            return rgb
        parts = []
        laid = self._lined_up(one, frame, cover)
        for k, share in enumerate(shares(frame, [f.frame for f in one.frames], one.fade / 100)):
            if share > 0:
                path = self._path(one, one.frames[k].frame)
                carried = np.eye(3) if path is None else path[min(frame, len(path) - 1)]
                parts.append((self.hero(one, k), float(share), carried, laid @ carried))
        levels = Levels(
            gain=value_at(one.gain, frame) / 100, gamma=max(value_at(one.gamma, frame), 0.05),
            lift=value_at(one.lift, frame) / 100, warm=value_at(one.warm, frame) / 100,
        )  # fmt: skip
        return lay_clean(rgb, frame, cover * np.float32(opacity), parts, light=one.light, levels=levels, seed=seed)

    def _lined_up(self, one: Clean, frame: int, cover: F32) -> F64:
        """(3, 3) the nudge by hand, about the middle of what is covered."""
        ys, xs = np.nonzero(cover > 0)
        cx, cy = (float(xs.min()) + float(xs.max())) / 2, (float(ys.min()) + float(ys.max())) / 2
        nudge = rotation_scale(value_at(one.turn, frame), value_at(one.size, frame) / 100)
        dx, dy = value_at(one.shift_x, frame), value_at(one.shift_y, frame)
        return np.asarray(translation(cx + dx, cy + dy) @ nudge @ translation(-cx, -cy))

    def _path(self, one: Clean, frame: int) -> F64 | None:
        return self._movement(one.target, frame) if one.target else None

    def hero(self, one: Clean, k: int) -> CleanPlate:
        """One of a treatment's clean frames, ready to be laid."""
        given = one.frames[k]
        base = self._base_key(one, given)

        def make() -> CleanPlate:
            filmed = self._filmed(one, given)
            grain: Grain | GrainProfile | None = None
            if one.grain:
                cover = self.cover(one, given.frame)
                around = np.ones(filmed.shape[:2], bool) if cover is None else _round(cover)
                average = self._average(one, given)
                grain = grain_of(self._rgb(given.frame), average[..., :3], average[..., 3], around, self.grain)
            return CleanPlate(frame=given.frame, painted=StillSource(self.painted(one, k)),
                        untouched=StillSource(encode_8bit(filmed)), grain=grain)  # fmt: skip

        return self._kept.hero(_hash([base, [s.model_dump(mode="json") for s in given.strokes], "hero"]), make)

    def painted(self, one: Clean, k: int) -> U8:
        """One of a treatment's clean frames as the paint desk shows it: 8-bit (h, w, 3)."""
        given = one.frames[k]
        base_key = self._base_key(one, given)
        strokes = given.strokes
        # Each key from the one before: a long painting is not read again for every stroke of it.
        keys = [_hash([base_key, "strokes"])]
        for stroke in strokes:
            keys.append(_hash([keys[-1], stroke.model_dump(mode="json")]))
        # The longest run of strokes that was laid before is where this goes on from.
        for n in range(len(strokes), -1, -1):
            light = self._kept.painted(keys[n])
            if light is not None:
                break
        else:
            n, light = 0, self._kept.painted(keys[0], lambda: self._base(one, given))
            assert light is not None
        if n < len(strokes):
            started, rest = light, strokes[n:]
            filmed = self._filmed(one, given)
            light = self._kept.painted(keys[-1], lambda: painted(started, rest, filmed))
            assert light is not None
        return encode_8bit(light)

    def _base_key(self, one: Clean, given: CleanFrame) -> str:
        """Hash of what a clean frame depends on before any stroke."""
        assert self._shot.footage is not None
        parts: list[Any] = [self._shot.footage.asset, given.model_dump(mode="json", exclude={"strokes"}), one.grain]
        motions = [m.model_dump(mode="json") for m in self._shot.motions]
        parts.append([m for m in motions if m["id"] == one.target])
        if given.suggest:
            parts += [[m.model_dump(mode="json") for m in one.masks], motions,
                      [p.model_dump(mode="json") for p in self._shot.perches]]  # fmt: skip
        return _hash(parts)

    def _filmed(self, one: Clean, given: CleanFrame) -> F32:
        """The frame as filmed, linear; its grain averaged away where each frame gets fresh grain."""
        if not one.grain:
            return linear_from_codes(self._rgb(given.frame))
        found = self._kept.painted(
            self._frame_key(one, given, "filmed"),
            lambda: decode(np.clip(self._average(one, given)[..., :3], 0, 255) / 255).astype(np.float32),
        )
        assert found is not None
        return found

    def _average(self, one: Clean, given: CleanFrame) -> F32:
        """(h, w, 4) the frame with its grain averaged away, display-coded, and from how many frames each pixel was."""

        def make() -> F32:
            path = self._path(one, given.frame)
            mean, weight = degrained(
                self._rgb, given.frame, lambda i: np.eye(3) if path is None else path[min(i, len(path) - 1)], self._frames
            )
            return np.dstack([mean, weight])

        found = self._kept.painted(self._frame_key(one, given, "average"), make)
        assert found is not None
        return found

    def _frame_key(self, one: Clean, given: CleanFrame, what: str) -> str:
        bare = CleanFrame(frame=given.frame)
        return _hash([self._base_key(one, bare), what])

    def _base(self, one: Clean, given: CleanFrame) -> F32:
        """What strokes are laid on: the frame, its suggested fill, or what came back from elsewhere."""
        light = self._filmed(one, given)
        if given.picture is not None:
            rgba = self._kept.picture(given.picture)
            if (rgba.shape[1], rgba.shape[0]) != self._size:
                raise BadInput(
                    "clean.size", f"The painted picture is {rgba.shape[1]} x {rgba.shape[0]} pixels, the clip "
                    f"{self._size[0]} x {self._size[1]}. Save it at the clip's size.",
                )  # fmt: skip
            alpha = rgba[..., 3:].astype(np.float32) / 255 if rgba.shape[2] == 4 else np.float32(1)
            theirs = linear_from_codes(np.ascontiguousarray(rgba[..., :3]))
            light = np.asarray(light + alpha * (theirs - light), np.float32)
        if given.suggest:
            cover = self.cover(one, given.frame)
            if cover is not None and cover.any():
                hole = cv2.dilate((cover > 0.02).astype(np.uint8), np.ones((2 * SUGGESTED_WIDER_PX + 1,) * 2, np.uint8)) > 0
                coded = (encode(np.clip(light, 0, 1)) * 255).astype(np.float32)
                filled = fill_texture(coded, hole, seed=given.seed)
                light = np.where(hole[..., None], decode(np.clip(filled, 0, 255) / 255), light).astype(np.float32)
        return light


def _round(cover: F32) -> np.ndarray:
    """(h, w) the surroundings of what is covered."""
    inside = (cover > 0.01).astype(np.uint8)
    near = cv2.dilate(inside, np.ones((61, 61), np.uint8)) > 0
    return np.asarray(near & (inside == 0)) if inside.any() else np.ones(cover.shape, bool)


def _hash(parts: Sequence[Any]) -> str:
    return hashlib.sha256(json.dumps(parts, sort_keys=True, default=str).encode()).hexdigest()
