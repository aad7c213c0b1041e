"""Shots in scripts: made or loaded, measured, rendered as arrays or files, and saved as shot files that the command line reads.

Nothing else is needed: no server, no database. `docs/scripts.md` has examples.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np

from plonket.base.conventions import F32, U8
from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.document.kinds import MOTIONS
from plonket.document.operations import fresh_id
from plonket.document.references import references
from plonket.document.retime import as_filmed
from plonket.document.shot import Shot as Document
from plonket.document.shot import read_shot
from plonket.formats.shot_file import file_digest, read_shot_file
from plonket.media import open_clip
from plonket.media.probe import probe
from plonket.media.sound import SOUNDS, read_sound, read_sound_file
from plonket.render.deliver import deliver as write_file
from plonket.render.deliver import delivery_scale, output_for, with_settings
from plonket.render.frame import render_frame as frame_of_shot
from plonket.render.frame import render_light
from plonket.render.media_pool import MediaPool
from plonket.render.soundtrack import Recording
from plonket.render.sources import ShotSources
from plonket.track.movement import Measured
from plonket.track.request import Direction, MeasureRequest

LISTS = ("motions", "perches", "plate", "stack", "finish", "frames", "parcels", "markers", "sounds")


class Shot:
    """A shot: its document, and the files and measurements that it names.

    Parameters
    ----------
    clip : what it is made on: a video, a folder of numbered pictures. name : what it is called; the clip's name by itself.
    rate : frames a second, for pictures; None: 25.

    Attributes
    ----------
    document : `plonket.document.shot.Shot`; it is never changed, `add` and `change` put another in its place.
    """

    def __init__(self, clip: Path | str, name: str | None = None) -> None:
        path = Path(clip)
        info = probe(path)
        if info.kind == "still":
            raise BadInput("script.still", f"{path.name} is a still picture, and a shot is made on a clip.")
        self._media: dict[str, Path] = {}
        self._measurements: dict[str, Measured] = {}
        footage = {
            "asset": self._named(path), "name": path.stem or "clip", "width": info.width, "height": info.height,
            "rate": f"{info.rate.numerator}/{info.rate.denominator}", "frames": info.frames, "in_frame": 0,
            "out_frame": info.frames - 1,
        }  # fmt: skip
        self._set(read_shot({"name": name or path.stem or "Shot", "footage": footage}))

    @classmethod
    def _of(cls, document: Document, media: dict[str, Path], measurements: dict[str, Measured]) -> Shot:
        shot = cls.__new__(cls)
        shot._media, shot._measurements = dict(media), dict(measurements)
        shot._set(document)
        return shot

    def _set(self, document: Document) -> None:
        self.document = document
        pool = getattr(self, "_pool", None)
        self._pool = pool or MediaPool(lambda digest: self._media[digest], lambda digest: self._measurements[digest])
        self._sources = ShotSources(document, self._pool)

    def _named(self, path: Path) -> str:
        """The name by which documents know a file."""
        if not path.exists():
            raise BadInput("script.file", f"{path.name} was not found.")
        digest = file_digest(path)
        self._media[digest] = path.resolve()
        return digest

    @property
    def frames(self) -> range:
        """The shot's frames, from the first that is delivered to the last."""
        footage = self.document.footage
        assert footage is not None
        return range(footage.in_frame, footage.out_frame + 1)

    def add(self, part: str, **values: Any) -> str:
        """Add something to one of the document's lists, in front of what is there; returns its id.

        Parameters
        ----------
        part : ``motions``, ``perches``, ``plate``, ``stack``, ``finish``, ``frames``, ``markers`` or ``sounds``. values : its
            settings, as documents have them (`/api/openapi.json`, or `plonket.document`); a file may stand as a path for
            `asset` and the like. `id` and `name` are made where they are not given, and the size of a picture is its own.

        Raises
        ------
        BadInput
            The settings do not fit; nothing was changed.
        """
        if part not in LISTS:
            raise BadInput("script.part", f"There is no list {part!r} in a shot. There are: {', '.join(LISTS)}.")
        given = {key: self._named(Path(v)) if isinstance(v, os.PathLike) else v for key, v in values.items()}
        label = str(given.get("kind", part)).capitalize()
        given.setdefault("id", fresh_id(self.document, str(given.get("kind", part))))
        given.setdefault("name", label)
        picture = self._media.get(str(given.get("asset")))
        if part == "stack" and picture is not None and given.get("kind") in ("still", "pin") and "width" not in given:
            info = probe(picture)
            given |= {"width": info.width, "height": info.height}
        data = self.document.model_dump(mode="json")
        data[part] = [given, *data[part]] if part == "stack" else [*data[part], given]
        self._set(read_shot(data))
        return str(given["id"])

    def change(self, thing: str, **values: Any) -> None:
        """Give other values to something in the shot, by its id; ``footage`` and ``delivery`` are those. Raises `BadInput`."""
        data = self.document.model_dump(mode="json")
        if thing in ("footage", "delivery", "sound"):
            found = data[thing]
        else:
            every = (one for name in LISTS for one in data[name])
            found = next((one for one in every if one["id"] == thing), None)
        if found is None:
            raise BadInput("script.thing", f"There is nothing with the id {thing!r} in the shot.")
        found.update({k: self._named(Path(v)) if isinstance(v, os.PathLike) else v for k, v in values.items()})
        self._set(read_shot(data))

    def measure(self, motion: str, direction: Direction = "both", work: Work | None = None) -> Measured:
        """Measure a motion over the shot's frames, and keep what was found. Raises `BadInput` or `Degenerate`."""
        document = as_filmed(self.document)
        footage, found = document.footage, document.motion(motion)
        assert footage is not None
        clip = open_clip(self._media[footage.asset])
        try:
            measured = MOTIONS.of(found).run(found, MeasureRequest(
                clip=clip, direction=direction, start=footage.in_frame, stop=footage.out_frame + 1,
                previous=self._measurements.get(found.untouched or ""), context=ShotSources(document, self._pool),
                work=work or Work(),
            ))  # fmt: skip
        finally:
            clip.close()
        digest = hashlib.sha256(measured.to_bytes()).hexdigest()
        self._measurements[digest] = measured
        self.change(motion, **found.measured_as(digest))
        assert isinstance(measured, Measured)
        return measured

    def render_frame(self, frame: int, *, scale: float = 1.0) -> U8:
        """One finished frame, 8-bit sRGB-coded (h, w, 3)."""
        return frame_of_shot(self.document, self._sources, frame, scale=scale)

    def light(self, frame: int, *, scale: float = 1.0) -> F32:
        """One finished frame as linear, premultiplied light, float32 (h, w, 4)."""
        return render_light(self.document, self._sources, frame, scale=scale)

    def render(
        self, out: Path | str, *, kind: str | None = None, frame: str | None = None, frames: range | None = None,
        work: Work | None = None, **settings: Any,
    ) -> None:  # fmt: skip
        """Write a file: a kind by its ending, or by name as of ``render --format``, with its settings (`quality`, `bits` ...).

        `frame` is the id of a delivery frame; `frames` may be a part of the shot's own. Raises `BadInput`.
        """
        path = Path(out)
        output = with_settings(output_for(self.document, path, kind, frame), settings)
        some = frames or self.frames
        write_file(self.document, self._sources, path, start=some.start, stop=some.stop, output=output,
                   scale=delivery_scale(self.document), recording=self._recording, work=work)  # fmt: skip

    def _recording(self, digest: str) -> Recording | None:
        path = self._media[digest]
        if path.suffix.lower() in SOUNDS:
            return Recording(sound=read_sound_file(path))
        info = self._pool.clip(digest).info
        sound = read_sound(path) if path.is_file() and info.has_audio else None
        return None if sound is None else Recording(sound=sound, rate=info.rate, frames=info.frames)

    def save(self, path: Path | str) -> None:
        """Write a shot file, with measurements beside it in a folder of its name; media are named where they are."""
        out = Path(path)
        folder = out.with_suffix(".measured")
        named = {one.declared.to: set[str]() for one in references(self.document)}
        for one in references(self.document):
            named[one.declared.to].add(one.id)
        measured: dict[str, str] = {}
        for digest in sorted(named.get("measurement", ())):
            folder.mkdir(parents=True, exist_ok=True)
            (folder / f"{digest}.npz").write_bytes(self._measurements[digest].to_bytes())
            measured[digest] = f"{folder.name}/{digest}.npz"
        home = out.resolve().parent
        media = {digest: os.path.relpath(self._media[digest], home) for digest in sorted(named.get("asset", ()))}
        whole = {"plonket": 1, "media": media, "measurements": measured, "shot": self.document.model_dump(mode="json")}
        out.write_text(json.dumps(whole, indent=1) + "\n")


def load(path: Path | str) -> Shot:
    """The shot of a shot file. Raises `FormatError`, `MediaError` or `BadInput`."""
    file = read_shot_file(Path(path))
    return Shot._of(file.shot, file.media, file.measurements)


def measure(shot: Shot, motions: Iterable[str] | None = None) -> None:
    """Measure motions of a shot, by their ids; all that are not measured yet by themselves."""
    wanted = motions if motions is not None else [m.id for m in shot.document.motions if m.measurement is None]
    for motion in list(wanted):
        shot.measure(motion)


def render_frame(shot: Shot, frame: int, *, scale: float = 1.0) -> U8:
    """One finished frame of a shot, 8-bit sRGB-coded (h, w, 3)."""
    return np.asarray(shot.render_frame(frame, scale=scale))
