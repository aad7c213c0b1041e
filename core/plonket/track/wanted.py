"""Which movements a document asks for: read off what its fields say they refer to."""

from __future__ import annotations

from dataclasses import dataclass

from plonket.document.follow import Follow
from plonket.document.kinds import MOTIONS
from plonket.document.shot import Shot


@dataclass(frozen=True, slots=True, kw_only=True, order=True)
class Wanted:
    """A movement as a follower takes it: of a motion, from a frame, smoothed over so many frames, or the opposite way."""

    motion: str
    reference_frame: int
    smooth: float = 0.0
    inverted: bool = False


def movements_wanted(shot: Shot) -> list[Wanted]:
    """Every movement that something in the shot follows or rides on, and surfaces' own; each once, in order."""
    motions = {motion.id: motion for motion in shot.motions}
    out = {Wanted(motion=m.id, reference_frame=m.home) for m in shot.motions if "surface" in MOTIONS.of(m).traits}
    for one in shot.references():
        if one.id not in motions or one.declared.to not in ("motion", "place", *MOTIONS.kinds()):
            continue
        if isinstance(one.holder, Follow):
            out.add(Wanted(motion=one.id, reference_frame=one.holder.reference_frame, smooth=one.holder.smooth,
                           inverted=one.holder.inverted))  # fmt: skip
        elif one.declared.prefix:
            # What rides on a motion is drawn in the pixels of its own frame, or of the one that its owner is told in.
            holders = (one.holder, *reversed(one.owners))
            frame = next((h.reference_frame for h in holders if hasattr(h, "reference_frame")), 0)
            out.add(Wanted(motion=one.id, reference_frame=frame))
    return sorted(out)
