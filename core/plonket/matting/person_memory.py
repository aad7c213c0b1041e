"""What the frames before said of a person who is followed: where one is seen, and what was decided of each pixel."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plonket.base.conventions import F32, U8
from plonket.matting.carried import Before, carried_by

SEEN_BEFORE, DECIDED_BEFORE = 0.5, 0.7
"""How much what was seen, and what was decided, in the frames before counts beside what is in one."""
SEEN = 0.35
"""How much where a person is seen counts in a decision, beside the cut by colours."""
FIRST = 0.45
"""What a first cut leaves open: where both say otherwise in the next frame, they are followed."""


@dataclass(frozen=True, slots=True)
class PersonMemory:
    """Of one frame, 8-bit (h, w): how likely each pixel is a person's, and how surely it was decided to be.

    8-bit so that what is kept and read again goes on the same.
    """

    frame: int
    seen: U8
    decided: U8 | None = None

    @staticmethod
    def of(frame: int, seen: F32, decided: F32 | None = None) -> PersonMemory:
        return PersonMemory(frame, _coded(seen), None if decided is None else _coded(decided))

    def kept(self) -> U8:
        """Both as one picture (2 h, w); half of it where nothing is decided yet."""
        return self.seen if self.decided is None else np.vstack([self.seen, self.decided])

    @staticmethod
    def read(frame: int, kept: U8, height: int) -> PersonMemory:
        """What was `kept` of masks so high."""
        return PersonMemory(frame, kept[:height], kept[height:] if len(kept) > height else None)

    @property
    def likely(self) -> F32:
        """(h, w), 0 to 1."""
        return _light(self.seen)

    def gone_on(self, frame: int, seen: F32, before: Before) -> PersonMemory:
        """Into the next frame, where this is seen (h, w)."""
        told = (1 - SEEN_BEFORE) * seen + SEEN_BEFORE * carried_by(before.came, self.likely)
        return PersonMemory.of(frame, np.asarray(told, np.float32))

    def decision(self, cut: U8, before: Before, was: PersonMemory | None) -> F32:
        """0 to 1 (h, w): a cut of this frame (0 or 255), weighed with what is seen here and with what was decided before; as it
        is where movement is not to be believed."""
        own = _light(cut)
        held = FIRST + (1 - 2 * FIRST) * _light(before.mask)
        if was is not None and was.frame == before.frame and was.decided is not None:
            # What was taken off it since stays off.
            decided = _light(was.decided)
            held = np.where((decided > 0.5) == (before.mask > 127), decided, held)
        here = SEEN * self.likely + (1 - SEEN) * own
        weighed = DECIDED_BEFORE * carried_by(before.came, held) + (1 - DECIDED_BEFORE) * here
        return np.where(before.alike, weighed, own).astype(np.float32)


def _coded(share: F32) -> U8:
    return np.asarray(np.clip(share, 0, 1) * 255 + 0.5, np.uint8)


def _light(coded: U8) -> F32:
    return np.asarray(coded / np.float32(255), np.float32)
