"""Finding details again after something has hidden all of them at once: a flash, a whip of the camera, a hand on the lens."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

import cv2
import numpy as np

from plonket.base.conventions import F64, PIXEL_CENTRE, U8
from plonket.track.camera.patch_set import Patches

Track = TypeVar("Track")

LEAST_LINKS = 12
"""Details that must go through a frame for what comes after it to be tied to what was before."""
EVERY_UNTIL, THEN_EVERY, GIVEN_UP_AFTER = 10, 3, 150
"""Frames after the loss: so long each is looked at, then every third, then none."""
LEAST_AGREE = 20
"""Matches that must agree on one view of the other."""
MUCH_BETTER = 0.75
"""How much nearer the best match must be than the next (D. Lowe, 2004, doi:10.1023/B:VISI.0000029664.99615.94)."""
LOOKED_AT_PX = 960
"""Larger pictures are reduced to so much: what is found is only where details are looked for."""
OFF_SHARE = 0.012
"""What a match may be off the common view, as a share of the picture's longer side: things stand at different depths."""


def worth_trying(frames_since: int) -> bool:
    """Whether lost details are looked for so many frames after they were lost: looking takes a while."""
    if frames_since <= EVERY_UNTIL:
        return True
    return frames_since <= GIVEN_UP_AFTER and frames_since % THEN_EVERY == 0


@dataclass(slots=True, kw_only=True)
class Memory(Generic[Track]):
    """Details as they were followed up to a frame.

    Attributes
    ----------
    number : of that frame among those that are gone through. picture : its luma, (h, w).
    tracks, xy, patches : what was followed then, where (n, 2), array coordinates, and by which patches.
    """

    number: int
    picture: U8
    tracks: list[Track]
    xy: F64
    patches: Patches
    _features: Any = field(default=None, init=False)

    def linked(self, live: list[Track]) -> int:
        """How many of the details are still followed."""
        return len({id(t) for t in self.tracks} & {id(t) for t in live})

    def expected(self, picture: U8) -> F64 | None:
        """(n, 2) where the details are about in a later picture of the same set; None where it shows nothing that was there."""
        if self._features is None:
            self._features = _features(self.picture)
        (at, words), (at_now, words_now) = self._features, _features(picture)
        if words is None or words_now is None or min(len(words), len(words_now)) < LEAST_AGREE:
            return None
        pairs = cv2.BFMatcher(cv2.NORM_L2).knnMatch(words, words_now, k=2)
        good = [m[0] for m in pairs if len(m) == 2 and m[0].distance < MUCH_BETTER * m[1].distance]
        if len(good) < LEAST_AGREE:
            return None
        a = at[[m.queryIdx for m in good]]
        b = at_now[[m.trainIdx for m in good]]
        off = max(3.0, OFF_SHARE * max(picture.shape))
        now_from_then, agree = cv2.findHomography(a, b, cv2.RANSAC, off, maxIters=2000, confidence=0.999)
        if now_from_then is None or agree.sum() < LEAST_AGREE:
            return None
        return cv2.perspectiveTransform(self.xy[:, None].astype(np.float64), now_from_then)[:, 0]


def _features(picture: U8) -> tuple[F64, Any]:
    """(n, 2) places in array coordinates, and what is there."""
    share = min(1.0, LOOKED_AT_PX / max(picture.shape))
    if share < 1:
        picture = np.asarray(cv2.resize(picture, None, fx=share, fy=share, interpolation=cv2.INTER_AREA))
    found, words = cv2.SIFT.create(nfeatures=1500).detectAndCompute(picture, None)
    at = np.array([k.pt for k in found], np.float64).reshape(-1, 2)
    return (at + PIXEL_CENTRE) / share - PIXEL_CENTRE, words
