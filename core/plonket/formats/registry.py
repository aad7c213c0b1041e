"""The registry of file formats that motions are written to and read from."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from plonket.base.errors import FormatError
from plonket.base.registry import Announced, Registry
from plonket.document.bases import MotionBase
from plonket.document.kinds import MOTIONS
from plonket.document.shot import Footage
from plonket.formats.scene import Scene
from plonket.track.movement import Measured


def no_scene() -> Scene:
    """Of what is no solved camera."""
    raise FormatError("scene.none", "This has no room of its own.")


@dataclass(frozen=True, slots=True, kw_only=True)
class Going:
    """What is written.

    Attributes
    ----------
    motion : the motion. measured : what was measured of it; None: nothing is needed. footage : the clip.
    scene : of a solved camera, its room with all that stands in it; asked for when it is wanted.
    """

    motion: Any
    measured: Any
    footage: Footage
    scene: Callable[[], Scene] = no_scene


@dataclass(frozen=True, slots=True, kw_only=True)
class Timing:
    """How a path in a file is laid over a clip: the file's frame on the clip's first, how many of its frames go by from one
    frame of the clip to the next, and how many of its points are taken at most."""

    first: float
    step: float
    points: int


@dataclass(frozen=True, slots=True, kw_only=True)
class FileFacts:
    """What is to be known of a file before it is brought in.

    Attributes
    ----------
    kind : of the motion that it holds. fits : whether it can be laid over the clip without a question; where not: first, last :
    its frames by its own counting, rate : in frames a second, None where it does not say, points : how many; timing : how it
    would be laid over the clip.
    """

    kind: str
    fits: bool = True
    first: float = 0.0
    last: float = 0.0
    rate: float | None = None
    points: int = 0
    timing: Timing | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Coming:
    """A file that is brought in.

    Attributes
    ----------
    text : what is in it, without a byte order mark and leading blanks; "" for binary files. data : its bytes.
    motion_id, name : of the motion to be made. footage : the clip that it belongs to. timing : how a path is laid over that;
    None: as seems right.
    """

    text: str
    data: bytes
    motion_id: str
    name: str
    footage: Footage
    timing: Timing | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class FormatEntry(Announced):
    """A file format; `kind` is the name of a file of it, such as ``plane.json``.

    Attributes
    ----------
    mime : its media type. track : the kind of measurement that it holds; "": it holds none. traits : of the motions that can
    be written to it, besides that measurement.
    write : to text or bytes; None: it is only read.
    recognises : whether a file is of this format. read : the motion, without a measurement, and what was measured; raises
        `FormatError`. None: it is only written. look : what is to be known beforehand, where that matters; raises the same.
    """

    mime: str
    track: str = ""
    traits: frozenset[str] = frozenset()
    write: Callable[[Going], str | bytes] | None = None
    recognises: Callable[[Coming], bool] | None = None
    read: Callable[[Coming], tuple[MotionBase, Measured]] | None = None
    look: Callable[[Coming], FileFacts] | None = None


FORMATS: Registry[FormatEntry] = Registry("format", "plonket.formats")


def formats_of(kind: str) -> list[FormatEntry]:
    """The formats that motions of a kind can be written to."""
    motion = MOTIONS.get(kind)
    holds = ("", motion.track.KIND)
    return [one for one in FORMATS if one.write and one.track in holds and one.traits <= motion.traits]


def motion_from_file(coming: Coming) -> tuple[MotionBase, Measured]:
    """A motion and what was measured, from a file of whatever format knows it. Raises `FormatError`."""
    entry = _format_of(coming)
    assert entry.read is not None
    return entry.read(coming)


def facts_of_file(coming: Coming) -> FileFacts:
    """What is to be known of a file before a motion is made from it. Raises `FormatError`."""
    entry = _format_of(coming)
    return FileFacts(kind=entry.track) if entry.look is None else entry.look(coming)


def _format_of(coming: Coming) -> FormatEntry:
    for one in FORMATS:
        if one.recognises is not None and one.read is not None and one.recognises(coming):
            return one
    raise FormatError("motion.unknown", "This is no file of points, a plane, corners, a camera or a matte that is read here.")
