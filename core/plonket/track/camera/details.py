"""Many details found by themselves and followed both ways through a clip."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, PIXEL_CENTRE, U8
from plonket.base.progress import Work
from plonket.track.camera.patch_set import Patches
from plonket.track.camera.patches import HALF
from plonket.track.camera.refind import GIVEN_UP_AFTER, LEAST_LINKS, Memory, worth_trying

SOFTENED_PX = 0.7
"""Pictures are softened a little: sampling them between pixels is then honest, and noise weighs less."""
TOP_UP_EVERY = 4
"""Frames between looks for fresh details where tracks have ended."""
ALIKE = 0.80
"""Correlation under which a patch is no longer the one that was cut."""
FRESH_BELOW = 0.90
"""Correlation under which a fresh patch is cut, as long as the old one still holds."""
SLIP_PX = 2.0
"""What a patch may be off the flow of its neighbourhood."""
MOST_OF = 0.6
"""While fewer than this share of what was followed is left, what was followed is kept in mind as it was."""
LONGEST_SIDE = 1600
"""Larger pictures are followed at half size or less; positions stay in full-size pixels."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Details:
    """Tracks of details.

    Attributes
    ----------
    xy : (details, frames, 2) float64 pixels. seen : (details, frames) bool.
    """

    xy: F64
    seen: NDArray[np.bool_]

    @property
    def frames(self) -> int:
        return int(self.seen.shape[1])


def follow_details(
    luma: Callable[[int], U8],
    frames: range,
    total: int,
    *,
    count: int = 400,
    spacing_px: float = 16,
    least: float = 1.5,
    ignored: Callable[[int], NDArray[np.bool_] | None] | None = None,
    again: bool = True,
    work: Work | None = None,
) -> Details:
    """Find details spread evenly and follow each as far as it goes, in both directions.

    Parameters
    ----------
    luma : 8-bit picture of a frame (h, w). frames : those to follow through; total : of the clip.
    count : how many to follow at a time. spacing_px : least distance between two when found.
    least : strength under which nothing is a detail, in code values per pixel.
    ignored : pixels of a frame (h, w) in which nothing is found or followed.
    again : whether what is lost all at once is looked for in what follows.

    Returns
    -------
    Details with (n, total) positions. Every position is a match against the picture in which the detail
    was found, or one that was matched against it, so errors do not add up frame by frame.
    """
    work = work or Work()
    follower = _Follower(luma, count, spacing_px, least, ignored, work, 2 * len(frames), again)
    tracks = follower.walk(frames, [], total, birth=True)
    late = [t for t in tracks if t.born > frames.start]
    follower.walk(range(frames.stop - 1, frames.start - 1, -1), late, total, birth=False)
    kept = [t for t in tracks if t.seen.sum() >= 3]
    if not kept:
        return Details(xy=np.zeros((0, total, 2)), seen=np.zeros((0, total), bool))
    return Details(xy=np.stack([t.xy for t in kept]), seen=np.stack([t.seen for t in kept]))


class _Track:
    __slots__ = ("born", "first", "seen", "xy")

    def __init__(self, frame: int, at: F64, total: int) -> None:
        self.born = frame
        self.first = at.copy()
        self.xy = np.full((total, 2), np.nan)
        self.seen = np.zeros(total, bool)
        self.xy[frame], self.seen[frame] = at, True


class _Follower:
    def __init__(
        self, luma: Callable[[int], U8], count: int, spacing: float, least: float,
        ignored: Callable[[int], NDArray[np.bool_] | None] | None, work: Work, total: int, again: bool,
    ) -> None:  # fmt: skip
        self.luma, self.count, self.least, self.ignored = luma, count, least, ignored
        self.work, self.total, self.done = work, total, 0
        self.scale = 1
        self.spacing, self.again = spacing, again

    def _frame(self, frame: int) -> tuple[U8, F32]:
        picture = self.luma(frame)
        self.scale = max(1, int(np.ceil(max(picture.shape) / LONGEST_SIDE)))
        if self.scale > 1:
            h, w = picture.shape[0] // self.scale, picture.shape[1] // self.scale
            picture = cv2.resize(picture, (w, h), interpolation=cv2.INTER_AREA)
        return picture, cv2.GaussianBlur(picture.astype(np.float32), (0, 0), SOFTENED_PX)

    def walk(self, frames: range, known: list[_Track], total: int, *, birth: bool) -> list[_Track]:
        """One walk in one direction; `known` tracks join on the frame on which they were born."""
        tracks: list[_Track] = []
        live: list[_Track] = []
        patches = Patches()
        before: U8 | None = None
        xy = np.zeros((0, 2))
        step = np.zeros((0, 2))
        memory: Memory[_Track] | None = None
        waiting: dict[int, list[_Track]] = {}
        for track in known:
            waiting.setdefault(track.born, []).append(track)
        for number, frame in enumerate(frames):
            self.work.check_cancelled()
            picture, soft = self._frame(frame)
            mask = self._mask(frame, picture.shape)
            if len(live) and before is not None:
                xy, step, keep = self._advance(before, picture, soft, xy, step, patches, mask)
                live = [t for t, k in zip(live, keep, strict=True) if k]
                xy, step = xy[keep], step[keep]
                patches.only(keep)
                places = (xy + PIXEL_CENTRE) * self.scale
                for track, at in zip(live, places, strict=True):
                    track.xy[frame], track.seen[frame] = at, True
            # Something may have covered all of the picture, or blurred it: what was followed until then may come back.
            if memory is not None and number - memory.number > GIVEN_UP_AFTER:
                memory = None
            if memory is not None and memory.linked(live) < LEAST_LINKS:
                if worth_trying(number - memory.number):
                    back, at = self._found_again(memory, picture, soft, mask)
                    for track, place in zip(back, (at + PIXEL_CENTRE) * self.scale, strict=True):
                        track.xy[frame], track.seen[frame] = place, True
                    if back:
                        patches.join(memory.patches)
                        live, xy = live + back, np.concatenate([xy, at])
                        step, memory = np.concatenate([step, np.zeros((len(back), 2))]), None
            elif self.again and len(live) >= max(2 * LEAST_LINKS, MOST_OF * len(memory.tracks) if memory else 0):
                memory = Memory(number=number, picture=picture, tracks=list(live), xy=xy.copy(), patches=patches.copy())
            fresh = waiting.pop(frame, [])
            if birth and (number % TOP_UP_EVERY == 0 or len(live) < self.count / 2):
                found = self._find(soft, mask, xy)
                fresh = [_Track(frame, (at + PIXEL_CENTRE) * self.scale, total) for at in found]
                tracks += fresh
            if fresh:
                at = np.stack([t.first for t in fresh]) / self.scale - PIXEL_CENTRE
                sound = patches.add(soft, at)
                live += [t for t, s in zip(fresh, sound, strict=True) if s]
                xy = np.concatenate([xy, at[sound]])
                step = np.concatenate([step, np.zeros((int(sound.sum()), 2))])
            before = picture
            self.done += 1
            self.work.progress(self.done, self.total)
        return tracks

    def _found_again(
        self, memory: Memory[_Track], picture: U8, soft: F32, mask: NDArray[np.bool_] | None
    ) -> tuple[list[_Track], F64]:
        """Remembered tracks that are seen again, and where (n, 2); the memory's patches are then theirs. Few ones are none."""
        places = memory.expected(picture)
        if places is None:
            return [], np.zeros((0, 2))
        patches = memory.patches.copy()
        found, _, keep = self._advance(memory.picture, picture, soft, memory.xy, places - memory.xy, patches, mask)
        if keep.sum() < LEAST_LINKS:
            return [], np.zeros((0, 2))
        patches.only(keep)
        memory.patches = patches
        return [t for t, k in zip(memory.tracks, keep, strict=True) if k], found[keep]

    def _mask(self, frame: int, shape: tuple[int, ...]) -> NDArray[np.bool_] | None:
        if self.ignored is None:
            return None
        mask = self.ignored(frame)
        if mask is None or not mask.any():
            return None
        if mask.shape != shape:
            mask = cv2.resize(mask.astype(np.uint8), (shape[1], shape[0]), interpolation=cv2.INTER_NEAREST) > 0
        # A patch that reaches into what is ignored would be torn along.
        return cv2.dilate(mask.astype(np.uint8), np.ones((HALF, HALF), np.uint8)) > 0

    def _advance(
        self, before: U8, picture: U8, soft: F32, xy: F64, step: F64, patches: Patches, mask: NDArray[np.bool_] | None
    ) -> tuple[F64, F64, NDArray[np.bool_]]:
        start = (xy + step).astype(np.float32)
        flow, ok, _ = cv2.calcOpticalFlowPyrLK(
            before, picture, xy.astype(np.float32), start.copy(), winSize=(15, 15), maxLevel=4,
            criteria=(cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 12, 0.02), flags=cv2.OPTFLOW_USE_INITIAL_FLOW,
        )  # fmt: skip
        at = flow.reshape(-1, 2).astype(np.float64)
        keep = ok.ravel() > 0
        found = at.copy()
        found[~keep] = -100
        likeness = patches.match(soft, found)
        keep &= (likeness > ALIKE) & (np.hypot(*(found - at).T) < SLIP_PX) & patches.plausible()
        if mask is not None:
            inside = np.clip(np.round(found).astype(int), 0, [mask.shape[1] - 1, mask.shape[0] - 1])
            keep &= ~mask[inside[:, 1], inside[:, 0]]
        stale = keep & ((likeness < FRESH_BELOW) | patches.stretched())
        if stale.any():
            patches.renew(soft, found, stale)
        return found, found - xy, keep

    def _find(self, soft: F32, mask: NDArray[np.bool_] | None, taken: F64) -> F64:
        """Fresh details (n, 2) in array coordinates: the strongest of each cell in turn, apart from those there are."""
        height, width = soft.shape
        strength = cv2.cornerMinEigenVal(soft, 7, ksize=3)
        # The kernel (8), its scale (1 / 28) and the sum over 49 pixels make twice the slope in code values per pixel.
        strength = np.sqrt(np.maximum(strength, 0)) / 2
        peak = cv2.dilate(strength, np.ones((5, 5), np.uint8))
        good = (strength >= peak) & (strength > self.least)
        edge = HALF + 5
        good[:edge], good[-edge:], good[:, :edge], good[:, -edge:] = False, False, False, False
        spacing = max(3.0, self.spacing / self.scale)
        if mask is not None:
            good &= ~mask
        ys, xs = np.nonzero(good)
        if len(xs) == 0:
            return np.zeros((0, 2))
        cells_x = max(4, int(np.round(np.sqrt(self.count * width / height) / 1.5)))
        cells_y = max(3, int(np.round(cells_x * height / width)))
        share = max(1, int(np.ceil(self.count / (cells_x * cells_y))))
        cell = (ys * cells_y // height) * cells_x + xs * cells_x // width
        filled = np.zeros(cells_x * cells_y, int)
        blocked = np.zeros((height, width), np.uint8)
        for x, y in taken:
            cv2.circle(blocked, (int(round(x)), int(round(y))), int(spacing), 1, -1)
            filled[(int(y) * cells_y // height) * cells_x + int(x) * cells_x // width] += 1
        room = self.count - len(taken)
        out: list[tuple[int, int]] = []
        for most in (share, 2 * share, 4 * share):
            for k in np.argsort(-strength[ys, xs], kind="stable"):
                if len(out) >= room:
                    break
                x, y = int(xs[k]), int(ys[k])
                if filled[cell[k]] >= most or blocked[y, x]:
                    continue
                cv2.circle(blocked, (x, y), int(spacing), 1, -1)
                filled[cell[k]] += 1
                out.append((x, y))
        return np.array(out, np.float64).reshape(-1, 2)
