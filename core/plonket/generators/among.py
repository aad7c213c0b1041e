"""How particles fly in a room among things, which may move: they bounce off them, or lie on them and go along.

From birth to now, frame by frame: between two frames a way is straight, as seen from each thing, and where it first goes into
one they meet. Nothing is kept from one picture to the next.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.generators.flight import ROUGH, SPRINGS, gone_by
from plonket.room.meshes.thing import Body, Thing, unit_normals

Which = NDArray[np.int64]
MEETINGS = 3
"""So often one may be met within a frame."""
RESTS = 1.0
"""What bounces off more slowly than it would fall in so many frames stays."""
STEEP = 0.35
"""How much what something lies on must face up, of 1: from what is steeper it slides off."""
OFF = 1e-6
"""Metres from what was met at which the way goes on."""
FLYING, ON_GROUND = -1, -2


@dataclass(frozen=True, slots=True)
class _Copy:
    """One copy of a thing between two frames: (4, 4) to the room at each, and back; and the box (2, 3) that it stays in."""

    body: Body
    first: F64
    last: F64
    to_first: F64
    to_last: F64
    box: F64


def _copy(body: Body, first: F64, last: F64) -> _Copy:
    there = np.concatenate([moved(first, body.box), moved(last, body.box)])
    box = np.stack([there.min(axis=0), there.max(axis=0)])
    return _Copy(body, first, last, np.asarray(np.linalg.inv(first)), np.asarray(np.linalg.inv(last)), box)


class Flock:
    """Particles among things.

    Parameters
    ----------
    begins, speed : (n, 3) in the room, metres and metres a frame. fall, drag, age : (n,), a frame, frames. lands : `bounces`
    or `lies`. now : the frame, at which they are of that age. drift : (which of them (k,), places (k, 3), ages (k,)) -> (k, 3)
    how far a flow has carried them, as if they went those ways. The ground is at nought; what begins below it knows none.
    """

    def __init__(
        self, begins: F64, speed: F64, fall: F64, drag: F64, age: F64, lands: str, things: Sequence[Thing], now: int,
        drift: Callable[[Which, F64, F64], F64] | None,
    ) -> None:  # fmt: skip
        self.start, self.fast, self.fall, self.drag, self.age = begins.copy(), speed.copy(), fall, drag, age
        self.lies, self.things, self.now, self._drift = lands == "lies", things, now, drift
        n = len(age)
        self.since, self.carried = np.zeros(n), np.zeros((n, 3))
        self.on, self.own = np.full(n, FLYING), np.zeros((n, 3))
        self.over = begins[:, 1] >= 0
        born = now - age
        at = begins.copy()
        for frame in range(int(np.floor(born.min())) + 1, now + 1) if n else ():
            which = np.flatnonzero((born < frame) & (self.on == FLYING))
            if len(which):
                at[which] = self._step(which, at[which], np.maximum(frame - 1 - born[which], 0), frame)

    def at(self, back: float = 0.0) -> F64:
        """(n, 3) where they are, so many frames before now: where they last met something at the earliest."""
        every = np.arange(len(self.age))
        out = self._gone(every, np.maximum(self.age - back, self.since))
        for k, stand in enumerate(self._stands(self.now - back)):
            lie = self.on == k
            out[lie] = self.own[lie] @ stand[:3, :3].T + stand[:3, 3]
        out[self.on == ON_GROUND] = self.own[self.on == ON_GROUND]
        return out

    def _gone(self, which: Which, age: F64) -> F64:
        """Where they are at an age if they meet nothing more."""
        way, _ = gone_by(self.fast[which], self.fall[which], self.drag[which], age - self.since[which])
        at = self.start[which] + way
        return at if self._drift is None else at + self._drift(which, at, age) - self.carried[which]

    def _stands(self, when: float) -> list[F64]:
        return [m for thing in self.things for m in thing.stands(max(when, 0.0))]

    def _step(self, which: Which, begin: F64, young: F64, frame: int) -> F64:
        """Those that fly go on to a frame; returns where (k, 3) they are."""
        copies = [_copy(thing.body, first, last) for thing in self.things for first, last in
                  zip(thing.stands(max(frame - 1.0, 0.0)), thing.stands(max(float(frame), 0.0)), strict=True)]  # fmt: skip
        old = self.age[which] - (self.now - frame)
        ends = self._gone(which, old)
        out = ends.copy()
        left = np.arange(len(which))
        for _ in range(MEETINGS):
            done = 1 - (old - young)[left]
            share, on, normal = self._first(copies, which[left], begin[left], ends[left], done)
            hit = np.flatnonzero(np.isfinite(share))
            if not len(hit):
                return out
            left, share, on, normal, done = left[hit], share[hit], on[hit], normal[hit], done[hit]
            span = (old - young)[left]
            place = begin[left] + share[:, None] * (ends[left] - begin[left])
            speed = (ends[left] - begin[left]) / np.maximum(span, 1e-9)[:, None]
            moment = done + share * span
            young = young.copy()
            young[left] += share * span
            own, moves = self._of_things(copies, on, place, moment)
            into = -((speed - moves) * normal).sum(axis=1)
            falls = self.fall[which[left]]
            slow = np.full(len(left), self.lies) | (SPRINGS * into < RESTS * np.abs(falls))
            stays = slow & ((normal[:, 1] * np.sign(falls) > STEEP) | (falls == 0))
            self._lay(which[left[stays]], on[stays], own[stays], place[stays], young[left[stays]])
            out[left[stays]] = place[stays]
            go = ~stays
            slides = (speed - moves)[go] + into[go, None] * normal[go]
            back = (0.0 if self.lies else SPRINGS) * into[go, None] * normal[go]
            self._send(which[left[go]], place[go] + OFF * normal[go], moves[go] + ROUGH * slides + back, young[left[go]])
            left = left[go]
            if not len(left):
                return out
            begin = begin.copy()
            begin[left] = self.start[which[left]]
            ends[left] = out[left] = self._gone(which[left], old[left])
        # Held between two things: it stays where it is for the rest of the frame.
        out[left] = begin[left]
        return out

    def _first(
        self, copies: list[_Copy], which: Which, begin: F64, end: F64, done: F64
    ) -> tuple[F64, Which, F64]:
        """What ways meet first: the share of each (n,), infinite where there is nothing; what it is; and its normal (n, 3)."""
        share, on, normal = np.full(len(which), np.inf), np.full(len(which), FLYING), np.zeros((len(which), 3))
        down = self.over[which] & (begin[:, 1] >= 0) & (end[:, 1] < 0)
        share[down] = begin[down, 1] / (begin[down, 1] - end[down, 1])
        on[down], normal[down] = ON_GROUND, (0.0, 1.0, 0.0)
        low, high = np.minimum(begin, end), np.maximum(begin, end)
        for k, one in enumerate(copies):
            beside = np.flatnonzero((low <= one.box[1]).all(axis=1) & (high >= one.box[0]).all(axis=1))
            if not len(beside):
                continue
            early = begins = moved(one.to_first, begin[beside])
            if not np.array_equal(one.first, one.last):
                begins = early + done[beside, None] * (moved(one.to_last, begin[beside]) - early)
            near, face = one.body.met(begins, moved(one.to_last, end[beside]))
            sooner = np.flatnonzero(near < share[beside])
            if len(sooner):
                they = beside[sooner]
                share[they], on[they] = near[sooner], k
                out = unit_normals(one.body.corners[face[sooner]]) @ one.to_last[:3, :3]
                normal[they] = out / np.linalg.norm(out, axis=1, keepdims=True)
        return share, on, normal

    @staticmethod
    def _of_things(copies: list[_Copy], on: Which, place: F64, moment: F64) -> tuple[F64, F64]:
        """Places (n, 3) as what they are on has them, and how fast (n, 3) that moves there, in metres a frame."""
        own, moves = place.copy(), np.zeros_like(place)
        for k, one in enumerate(copies):
            here = on == k
            if here.any():
                early, late = moved(one.to_first, place[here]), moved(one.to_last, place[here])
                own[here] = early + moment[here, None] * (late - early)
                moves[here] = moved(one.last, own[here]) - moved(one.first, own[here])
        return own, moves

    def _lay(self, which: Which, on: Which, own: F64, place: F64, age: F64) -> None:
        self.on[which], self.own[which], self.start[which], self.since[which] = on, own, place, age
        grounded = on == ON_GROUND
        self.own[which[grounded], 1] = 0.0

    def _send(self, which: Which, start: F64, fast: F64, age: F64) -> None:
        self.start[which], self.fast[which], self.since[which] = start, fast, age
        if self._drift is not None:
            self.carried[which] = self._drift(which, start, age)


def moved(matrix: F64, places: F64) -> F64:
    """Places (n, 3) through a (4, 4) matrix."""
    return np.asarray(places @ matrix[:3, :3].T + matrix[:3, 3])
