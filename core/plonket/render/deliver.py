"""Delivering: a shot's range rendered once, and written to all files that are wanted of it.

Pictures are written piece by piece, so that several workers can share a delivery and none has to begin again; the pieces are
then joined.
"""

from __future__ import annotations

import contextlib
import re
import shutil
import tempfile
from collections.abc import Callable, Iterable, Mapping, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import cv2
from pydantic import ValidationError

from plonket.base.conventions import U8
from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.document.delivery import DeliveryFrame, OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.document.shot import Shot
from plonket.media.failures import media_errors
from plonket.media.sound import Sound
from plonket.media.write import Coding, VideoWriter
from plonket.outputs.common import Moment, Piece, Sheet
from plonket.outputs.h264 import H264
from plonket.outputs.picture import Finished
from plonket.outputs.prores import ProRes4444
from plonket.render.beside import beside_layers
from plonket.render.frame import in_order, render_frame, render_light, scaled_size
from plonket.render.framing import boxes_of, frame_of, framed, pixels_of
from plonket.render.passes import frame_passes
from plonket.render.soundtrack import RecordingOf, soundtrack
from plonket.render.sources import ShotSources

PARTS = "/parts"
"""Stands for a picture taken apart, where else the id of a frame does."""
VIDEO_ENDINGS = {".mp4", ".mov", ".m4v", ".mkv", ".webm"}


def is_clear(shot: Shot) -> bool:
    """Whether one sees through where nothing is."""
    return shot.footage is not None and shot.footage.ground == "clear"


def outputs_of(shot: Shot) -> list[OutputBase]:
    """The files that are made of a shot: those that it lists; else one video for each frame, or of the whole picture."""
    if shot.delivery.outputs:
        return list(shot.delivery.outputs)
    made: list[OutputBase] = []
    for k, frame in enumerate(shot.frames or [None]):
        about: dict[str, Any] = {"id": f"file-{k + 1}", "name": "Video", "frame": None if frame is None else frame.id}
        made.append(ProRes4444(**about) if is_clear(shot) else H264(**about, quality=shot.delivery.quality))
    return made


def delivery_scale(shot: Shot) -> float:
    """Of full size."""
    return 0.5 if shot.delivery.scale == "half" else 1.0


def delivery_size(shot: Shot, output: OutputBase, scale: float) -> tuple[int, int]:
    """(width, height) of what a file shows."""
    assert shot.footage is not None
    frame = None if "parts" in OUTPUTS.of(output).traits else frame_of(shot, output.frame)
    return scaled_size((shot.footage.width, shot.footage.height), scale) if frame is None else pixels_of(frame, shot, scale)


def file_name(shot: Shot, output: OutputBase, scale: float = 1.0) -> str:
    """What a finished file is called, with its ending; no two of a shot are called the same, nor does a name lead elsewhere."""
    frame = None if "parts" in OUTPUTS.of(output).traits else frame_of(shot, output.frame)
    w, h = delivery_size(shot, output, scale)
    stands = {"shot": shot.name, "frame": "" if frame is None else frame.name, "format": output.kind, "size": f"{w}x{h}",
              "name": output.name}  # fmt: skip
    text = re.sub(r"\{(\w+)\}", lambda found: stands.get(found[1], ""), output.file)
    plain = " ".join(re.sub(r"[^\w. -]+", " ", text).split()).strip(" .") or "shot"
    return plain[:120] + OUTPUTS.of(output).ending(output)


def check_deliverable(shot: Shot, start: int, stop: int, scale: float) -> None:
    """Raises `BadInput` where there is nothing to be delivered."""
    if shot.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet.")
    if not 0 <= start < stop <= shot.footage.length:
        raise BadInput("render.range", f"The range {start}:{stop} does not lie within 0:{shot.footage.length}.")
    if not 0 < scale <= 1:
        raise BadInput("render.scale", f"The scale {scale} must be above 0 and at most 1.")


def write_pieces(
    shot: Shot, sources: ShotSources, outputs: Sequence[OutputBase], places: Callable[[OutputBase], Path], *, start: int,
    stop: int, began: int, scale: float = 1.0, work: Work | None = None,
) -> None:  # fmt: skip
    """Frames start..stop-1 of a delivery that began at frame `began`, each rendered once, in a piece for each file.

    `places` says where: a file, or a folder for what is many pictures.
    """
    check_deliverable(shot, start, stop, scale)
    assert shot.footage is not None
    rate = shot.footage.fps
    frames = {one.id: frame_of(shot, one.frame) for one in outputs if "parts" not in OUTPUTS.of(one).traits}
    sizes = {one.id: delivery_size(shot, one, scale) for one in outputs}
    boxes = {frame.id: boxes_of(frame, shot, sources) for frame in frames.values() if frame is not None}
    apart = [one for one in outputs if "parts" in OUTPUTS.of(one).traits]
    lights = any(_wants_light(one, frames.get(one.id)) for one in outputs if one not in apart)

    def wanting(frame: int) -> list[OutputBase]:
        """The files that take a frame."""
        return [one for one in outputs if OUTPUTS.of(one).wants(one, Moment(before=frame - began, frame=frame, rate=rate))]

    def made(frame: int) -> dict[str, Finished]:
        """A frame's pictures, by the ids of the frames that they show."""
        out = {}
        wanted = wanting(frame)
        shown = [one for one in wanted if one not in apart]
        if len(shown) < len(wanted):
            out[PARTS] = Finished(parts=frame_passes(shot, sources, frame, scale=scale))
        if not shown:
            return out
        if not lights:
            return out | {"": Finished(codes=render_frame(shot, sources, frame, scale=scale))}
        whole = render_light(shot, sources, frame, scale=scale)
        zoom = whole.shape[1] / sources.size[0]
        out[""] = Finished(light=whole)
        for one in shown:
            part = frames[one.id]
            if part is not None and part.id not in out:
                out[part.id] = Finished(light=framed(whole, boxes[part.id][frame], part, sizes[one.id], zoom))
        return out

    with contextlib.ExitStack() as stack:
        writers = {}
        for one in outputs:
            piece = Piece(size=sizes[one.id], rate=rate, first=start - began, start=began)
            writers[one.id] = stack.enter_context(OUTPUTS.of(one).run(one, places(one), piece))
        for frame, pictures in in_order(made, start, stop, work):
            for one in wanting(frame):
                writers[one.id].write(pictures[PARTS if one in apart else one.frame or ""])


def _wants_light(output: OutputBase, frame: DeliveryFrame | None) -> bool:
    """Whether 8-bit codes of the whole picture would not do."""
    if frame is not None or "light" in OUTPUTS.of(output).traits:
        return True
    usual = {"bits": "8", "coverage": "none", "light": "standard"}
    return any(getattr(output, field, value) != value for field, value in usual.items())


def finish(
    shot: Shot, output: OutputBase, pieces: list[Path], out: Path, *, start: int, stop: int, sound: Sound | None,
    scale: float = 1.0, work: Work | None = None, sources: ShotSources | None = None,
) -> None:  # fmt: skip
    """The pieces of a file, in their order, joined to `out`; with `sources`, what goes along with layers lies beside them."""
    assert shot.footage is not None
    heard = sound if "sound" in OUTPUTS.of(output).traits else None
    sheet = Sheet(
        size=delivery_size(shot, output, scale), rate=shot.footage.fps, sound=heard, work=work or Work(),
        beside=lambda cameras, mattes: () if sources is None else beside_layers(
            sources, start=start, stop=stop, scale=scale, cameras=cameras, mattes=mattes),
    )  # fmt: skip
    OUTPUTS.of(output).joined(output, pieces, out, sheet)


def deliver(
    shot: Shot, sources: ShotSources, out: Path, *, start: int, stop: int, scale: float = 1.0,
    recording: RecordingOf = lambda _asset: None, work: Work | None = None, output: OutputBase | None = None,
) -> None:  # fmt: skip
    """Render frames start..stop-1 to `out`: as `output` says, else a video by its ending, or a folder of PNG files.

    `recording` gives the sound of assets, which is laid under a video. Where the document says that one sees through where
    nothing is, both have coverage; such a video ends in .mov, .webm or .mkv.
    """
    check_deliverable(shot, start, stop, scale)
    output = output or output_for(shot, out)
    _check_ending(output, out)
    sound = soundtrack(shot, recording, start, stop) if "sound" in OUTPUTS.of(output).traits else None
    is_folder = not out.suffix
    folder = out if is_folder else out.parent
    with media_errors(out, "written"):
        folder.mkdir(parents=True, exist_ok=True)
    with media_errors(out, "written"), tempfile.TemporaryDirectory(dir=folder, prefix=".part-") as aside:
        piece = Path(aside) / "piece"
        write_pieces(shot, sources, [output], lambda _: piece, start=start, stop=stop, began=start, scale=scale, work=work)
        ready = out if is_folder else Path(aside) / f"ready{out.suffix}"
        finish(
            shot, output, [piece], ready, start=start, stop=stop, sound=sound, scale=scale, work=work, sources=sources,
        )  # fmt: skip
        if not is_folder:
            shutil.move(ready, out)


def output_for(shot: Shot, out: Path, kind: str | None = None, frame: str | None = None) -> OutputBase:
    """The kind of file that a path stands for, as the shot's own settings have it. Raises `BadInput`."""
    frame_of(shot, frame)
    if kind is None:
        ending = out.suffix.lower()
        kind = "png" if not ending or ending == ".zip" else next((e.kind for e in OUTPUTS if ending in e.endings), None)
        if kind is None:
            known = ", ".join(sorted({e for one in OUTPUTS for e in one.endings}))
            raise BadInput("render.out", f"{out.name}: give a folder, or a file ending in {known}.")
        if is_clear(shot) and kind == "h264":
            if ending != ".mov":
                raise BadInput("render.out", f"{out.name}: with coverage it is a file ending in .mov, .webm or .mkv, or a "
                                             "folder of PNG files.")  # fmt: skip
            kind = "prores4444"
    entry = OUTPUTS.get(kind)
    values: dict[str, Any] = {"id": "file", "name": entry.label, "frame": frame}
    fields = entry.settings.model_fields
    if "quality" in fields:
        values["quality"] = shot.delivery.quality
    if "coverage" in fields and is_clear(shot):
        values["coverage"] = "straight"
    elif "coverage" in fields and kind in ("vp9",):
        values["coverage"] = "none"
    made = entry.settings(**values)
    assert isinstance(made, OutputBase)
    return made


def with_settings(output: OutputBase, values: Mapping[str, Any]) -> OutputBase:
    """A file with other settings. Raises `BadInput` for what it does not have, or what does not fit."""
    own = output.model_dump()
    fixed = ("id", "kind", "name", "frame")
    for name in values:
        if name not in own or name in fixed:
            known = ", ".join(n for n in own if n not in (*fixed, "file")) or "none"
            raise BadInput("render.set", f"{name!r} is no setting of {OUTPUTS.of(output).label}. It has: {known}.")
    try:
        return type(output).model_validate(own | dict(values))
    except ValidationError as error:
        problem = error.errors()[0]
        where = ".".join(str(part) for part in problem["loc"])
        raise BadInput("render.set", f"{where}: {problem['msg'].removeprefix('Value error, ')}.") from None


def _check_ending(output: OutputBase, out: Path) -> None:
    entry: OutputEntry = OUTPUTS.of(output)
    many = "pictures" in entry.traits
    ending = out.suffix.lower()
    fits = {entry.ending(output), *entry.endings} | ({"", ".zip"} if many else set())
    if ending not in fits:
        good = "a folder without an ending, or a .zip" if many else f"a file ending in {', '.join(sorted(fits))}"
        raise BadInput("render.out", f"{out.name}: {entry.label} is written to {good}.")


def write_pictures(
    frames: Iterable[U8], out: Path, size: tuple[int, int], rate: Fraction, *, coding: Coding, sound: Sound | None = None
) -> None:
    """Write frames in order to a video (by its ending) with sound, else to a folder of numbered PNG files."""
    if out.suffix.lower() not in VIDEO_ENDINGS:
        if out.suffix:
            raise BadInput("render.out", f"{out.name}: give a folder, or a file ending in .mp4, .mov or .m4v.")
        out.mkdir(parents=True, exist_ok=True)
        for k, rgb in enumerate(frames):
            with media_errors(out, "written"):
                if not cv2.imwrite(str(out / f"{k:06d}.png"), cv2.cvtColor(rgb, cv2.COLOR_RGB2BGR)):
                    raise OSError(28, "No space left on device")
        return
    out.parent.mkdir(parents=True, exist_ok=True)
    with VideoWriter(out, size, rate, coding=coding, sound=sound) as writer:
        for rgb in frames:
            writer.write(rgb)
