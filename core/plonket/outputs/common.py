"""What kinds of files have in common: settings, how they are written piece by piece, and how the pieces are joined."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass, field, replace
from fractions import Fraction
from math import ceil
from pathlib import Path
from typing import Any, Literal, Protocol

from plonket.base.conventions import Codes
from plonket.base.errors import BadInput
from plonket.base.fields import Settings, choice, plain
from plonket.base.progress import Work
from plonket.media.clip import VideoClip, open_clip
from plonket.media.hdr import hlg_codes
from plonket.media.sound import Sound
from plonket.media.write import Coding, VideoWriter, join_segments
from plonket.media.yuv import PlaneCoding
from plonket.outputs.picture import Coverage, Finished


@dataclass(frozen=True, slots=True, kw_only=True)
class Piece:
    """Some frames of a delivery that are written in one go.

    Attributes
    ----------
    size : (width, height). rate : frames a second of the shot. first : how many frames of the delivery come before.
    start : the shot's frame with which the delivery begins.
    """

    size: tuple[int, int]
    rate: Fraction
    first: int = 0
    start: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Sheet:
    """What is known when the pieces are joined.

    Attributes
    ----------
    sound : lies under all of it, or None. beside : places in a folder, and what belongs there beside the pictures, if those are
    the layers of a shot: its cameras, what was picked out; asked for by whether each is wanted.
    """

    size: tuple[int, int]
    rate: Fraction
    sound: Sound | None = None
    work: Work = field(default_factory=Work)
    beside: Callable[[bool, bool], Iterable[tuple[str, bytes]]] = lambda _cameras, _mattes: ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Moment:
    """A frame that a file may take: how many frames of the delivery come `before` it, its number in the shot, as `frame`; and
    the shot's `rate`."""

    before: int
    frame: int
    rate: Fraction


class PieceWriter(Protocol):
    """Takes the pictures of a piece in their order."""

    def write(self, picture: Finished) -> None: ...


Writing = AbstractContextManager[PieceWriter]


class Lossy(Settings):
    """Settings of what is coded with losses."""

    quality: Literal["small", "good", "best"] = choice(
        "good", label="Quality", group="File", names={"small": "Small file", "good": "Good", "best": "Best"})  # fmt: skip
    at_most: float = plain(0, label="At most", low=0, high=100000, step=1, unit="MB", group="File", soft=(0, 500),
                           nought="no limit",
                           help="No larger: where it would be, it is coded again with fewer bits.")  # fmt: skip


BITS: dict[str, Any] = {"label": "Bits", "group": "File", "names": {"8": "8", "10": "10"},
                        "help": "10 keep skies from showing steps. Not all phones play it."}  # fmt: skip


class Deep(Settings):
    """Settings of what can have more than 8 bits."""

    bits: Literal["8", "10"] = choice("8", **BITS)


class Ranged(Deep):
    """Settings of what can hold more light than white has: with 10 bits, whatever else is set."""

    bits: Literal["8", "10"] = choice("8", **BITS, when={"light": ("standard",)})
    light: Literal["standard", "hlg", "hlg-back"] = choice(
        "standard", label="Light", group="File",
        names={"standard": "Standard", "hlg": "HDR (HLG)", "hlg-back": "HDR (HLG), highlights back"},
        help="HDR has glints brighter than white, on screens that can show them. Highlights back: those of footage that was "
             "HDR go where they were.")  # fmt: skip


def ranged_planes(output: Ranged) -> tuple[PlaneCoding, Literal["sdr", "hlg"]]:
    """How the planes of a file are stored, and its transfer: HLG takes 10 bits of BT.2020."""
    if output.light == "standard":
        return PlaneCoding(bits=int(output.bits)), "sdr"
    return PlaneCoding(bits=10, matrix="2020"), "hlg"


RATES = {"23.976": Fraction(24000, 1001), "24": Fraction(24), "25": Fraction(25), "29.97": Fraction(30000, 1001),
         "30": Fraction(30), "50": Fraction(50), "59.94": Fraction(60000, 1001), "60": Fraction(60)}  # fmt: skip


class Paced(Settings):
    """Settings of what may have another rate than the shot: frames are left out or said again, so that it lasts as long."""

    pace: Literal["shot", "23.976", "24", "25", "29.97", "30", "50", "59.94", "60"] = choice(
        "shot", label="Frames/s", group="File", names={"shot": "As the shot", **{name: name for name in RATES}},
        help="Another rate leaves frames out or shows some twice. It lasts as long, and the sound stays with it.")  # fmt: skip


def rate_of(output: Any, rate: Fraction) -> Fraction:
    """Frames a second of a file that is made of a shot with `rate`."""
    return RATES.get(getattr(output, "pace", "shot"), rate)


def copies(frame: int, ratio: Fraction) -> int:
    """How often a frame is shown, where `ratio` of its frames are wanted: each of those shows the last one that has begun."""
    return ceil((frame + 1) * ratio) - ceil(frame * ratio)


def paced(output: Any, moment: Moment) -> bool:
    """Whether a file of another rate shows this frame."""
    return copies(moment.before, rate_of(output, moment.rate) / moment.rate) > 0


class Heard(Settings):
    """Settings of what has sound."""

    audio: Literal["aac", "opus"] = choice("aac", label="Sound as", group="File", names={"aac": "AAC", "opus": "Opus"})


class Covered(Settings):
    """Settings of what can say what is covered."""

    coverage: Literal["none", "straight", "premultiplied"] = choice(
        "straight", label="Coverage", group="File",
        names={"none": "None, on black", "straight": "Straight", "premultiplied": "Premultiplied"},
        help="Whether colours stand whole beside how much they cover, or are multiplied by it already.")  # fmt: skip


class Thinned(Settings):
    """Settings of what may leave frames out."""

    every: int = plain(1, label="Every", low=1, high=1000, step=1, unit="fr", group="File", whole=True, soft=(1, 30),
                       help="Takes one of so many frames.")  # fmt: skip


def sound_as(name: str) -> str:
    """The encoder of a kind of sound."""
    return {"aac": "aac", "opus": "libopus"}[name]


class VideoPiece:
    """A piece of a video; no file where none of its frames is shown.

    Parameters
    ----------
    rate : frames a second of the file; none: the shot's. rolled : of `hlg_codes`, where the coding is HLG.
    """

    def __init__(
        self, path: Path, piece: Piece, coding: Coding, *, deep: bool = False, coverage: Coverage = "none",
        rolled: bool = False, rate: Fraction | None = None,
    ) -> None:  # fmt: skip
        rate = rate or piece.rate
        self._writer = VideoWriter(path, piece.size, rate, coding=coding)
        self._path, self._ratio, self._next = path, rate / piece.rate, piece.first
        self._deep, self._coverage = deep, coverage
        self._hlg, self._rolled = coding.transfer == "hlg", rolled

    def write(self, picture: Finished) -> None:
        # Only frames that are shown come here.
        while (times := copies(self._next, self._ratio)) == 0:
            self._next += 1
        self._next += 1
        codes = self._codes(picture)
        for _ in range(times):
            self._writer.write(codes)

    def _codes(self, picture: Finished) -> Codes:
        if self._hlg:
            return hlg_codes(picture.light(), rolled=self._rolled)
        return picture.codes(deep=self._deep, coverage=self._coverage, spread=True)

    def __enter__(self) -> VideoPiece:
        self._writer.__enter__()
        return self

    def __exit__(self, *error: object) -> None:
        self._writer.__exit__(*error)  # type: ignore[arg-type]
        if self._writer.frames == 0:
            self._path.unlink(missing_ok=True)


def join_video(pieces: list[Path], out: Path, sheet: Sheet, coding: Coding, *, at_most: float = 0) -> None:
    """Pieces of a video as one, with sound, of no more than so many megabytes if that is not nought."""
    pieces = [piece for piece in pieces if piece.exists()]
    join_segments(pieces, out, sheet.rate, sheet.sound, coding)
    if at_most:
        _kept_below(out, round(at_most * 1e6), sheet, coding)


def as_video(coding: Callable[[Any], Coding]) -> dict[str, Any]:
    """`run`, `joined` and `wants` of a kind of video, by how its settings have it coded."""

    def run(output: Any, path: Path, piece: Piece) -> Writing:
        how = coding(output)
        return VideoPiece(
            path, piece, how, deep=how.planes.bits > 8, coverage=getattr(output, "coverage", "none"),
            rolled=getattr(output, "light", "standard") == "hlg-back", rate=rate_of(output, piece.rate),
        )  # fmt: skip

    def joined(output: Any, pieces: list[Path], out: Path, sheet: Sheet) -> None:
        sheet = replace(sheet, rate=rate_of(output, sheet.rate))
        join_video(pieces, out, sheet, coding(output), at_most=getattr(output, "at_most", 0))

    return {"run": run, "joined": joined, "wants": paced}


SPARE = 0.985
"""Of a limit; containers and the last frames take some."""
LEAST_BITS = 20_000
"""A second, for pictures; below there is nothing to be seen any more."""


def _kept_below(path: Path, limit: int, sheet: Sheet, coding: Coding) -> None:
    """Code a video again until it is small enough. Raises `BadInput` where nothing would be left of it."""
    if path.stat().st_size <= limit:
        return
    clip = VideoClip(path)
    seconds = float(clip.info.frames / sheet.rate)
    heard = 192_000 if sheet.sound is not None else 0
    bits = limit * 8 * SPARE / seconds - heard
    again = path.with_name(f"again-{path.name}")
    try:
        for _ in range(5):
            if bits < LEAST_BITS:
                raise BadInput("deliver.limit", f"{limit / 1e6:g} MB are too few for {seconds:.1f} seconds. Allow more, or "
                                                "deliver a smaller frame.")  # fmt: skip
            tighter = replace(coding, bit_rate=round(bits))
            with VideoWriter(again, sheet.size, sheet.rate, coding=tighter, sound=sheet.sound) as writer:
                for k in range(clip.info.frames):
                    sheet.work.check_cancelled()
                    # As they are stored: nothing is worked out twice.
                    stored = clip.stored(k)
                    writer.write_planes(stored.planes()[0], stored.coverage() if coding.covered else None)
            size = again.stat().st_size
            if size <= limit:
                again.replace(path)
                return
            bits = (bits + heard) * min(limit / size, 1) * 0.97 - heard
        raise BadInput("deliver.limit", f"This does not get below {limit / 1e6:g} MB. Allow more, or deliver a smaller frame.")
    finally:
        again.unlink(missing_ok=True)


class SequencePiece:
    """A piece of a sequence: numbered pictures in a folder."""

    def __init__(
        self, folder: Path, piece: Piece, ending: str, save: Callable[[Path, Finished], None], every: int = 1
    ) -> None:
        self._folder, self._ending, self._save = folder, ending, save
        self._number = -(-piece.first // every)

    def write(self, picture: Finished) -> None:
        self._save(self._folder / f"{self._number:06d}{self._ending}", picture)
        self._number += 1

    def __enter__(self) -> SequencePiece:
        self._folder.mkdir(parents=True, exist_ok=True)
        return self

    def __exit__(self, *_: object) -> None:
        """What was written stays: the piece is written again over it."""


def thinned(output: Any, moment: Moment) -> bool:
    """Whether a file that takes one of so many frames takes this one."""
    return moment.before % int(output.every) == 0


WHOLE_COLOUR = PlaneCoding(bits=10, half_x=False, half_y=False)
BETWEEN = Coding(codec="ffv1", key_every=1, b_frames=0, covered=True, planes=WHOLE_COLOUR)
"""Pieces of what can only be coded as a whole, without loss."""


def pictures_of(pieces: list[Path]) -> Iterator[tuple[Path, int]]:
    """Every frame of pieces in their order."""
    for path in pieces:
        for k in range(open_clip(path).info.frames):
            yield path, k
