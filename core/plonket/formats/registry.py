"""The registry of file formats that motions are written to and read from."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from plonket.base.errors import FormatError
from plonket.base.registry import Announced, Registry
from plonket.document.bases import MotionBase
from plonket.document.kinds import MOTIONS
from plonket.document.shot import Footage
from plonket.track.movement import Measured


@dataclass(frozen=True, slots=True, kw_only=True)
class Going:
    """What is written.

    Attributes
    ----------
    motion : the motion. measured : what was measured of it; None: nothing is needed. footage : the clip.
    placed : what stands in its room (`camera_gltf.Placed`), asked for when it is wanted.
    """

    motion: Any
    measured: Any
    footage: Footage
    placed: Callable[[], Sequence[Any]] = field(default=tuple)


@dataclass(frozen=True, slots=True, kw_only=True)
class Coming:
    """A file that is brought in.

    Attributes
    ----------
    text : what is in it, without a byte order mark and leading blanks; "" for binary files. data : its bytes.
    motion_id, name : of the motion to be made. footage : the clip that it belongs to.
    """

    text: str
    data: bytes
    motion_id: str
    name: str
    footage: Footage


@dataclass(frozen=True, slots=True, kw_only=True)
class FormatEntry(Announced):
    """A file format; `kind` is the name of a file of it, such as ``plane.json``.

    Attributes
    ----------
    mime : its media type. track : the kind of measurement that it holds; "": it holds none. traits : of the motions that can
    be written to it, besides that measurement.
    write : to text or bytes; None: it is only read.
    recognises : whether a file is of this format. read : the motion, without a measurement, and what was measured; raises
        `FormatError`. None: it is only written.
    """

    mime: str
    track: str = ""
    traits: frozenset[str] = frozenset()
    write: Callable[[Going], str | bytes] | None = None
    recognises: Callable[[Coming], bool] | None = None
    read: Callable[[Coming], tuple[MotionBase, Measured]] | None = None


FORMATS: Registry[FormatEntry] = Registry("format", "plonket.formats")


def formats_of(kind: str) -> list[FormatEntry]:
    """The formats that motions of a kind can be written to."""
    motion = MOTIONS.get(kind)
    holds = ("", motion.track.KIND)
    return [one for one in FORMATS if one.write and one.track in holds and one.traits <= motion.traits]


def motion_from_file(coming: Coming) -> tuple[MotionBase, Measured]:
    """A motion and what was measured, from a file of whatever format knows it. Raises `FormatError`."""
    for one in FORMATS:
        if one.recognises is not None and one.read is not None and one.recognises(coming):
            return one.read(coming)
    raise FormatError("motion.unknown", "This is no file of points, a plane, corners or a camera that can be read here.")
