"""Shot files: a shot document with its media and measurements named by path.

.. code-block:: json

    {"plonket": 1,
     "media": {"clip": "harbour.mp4", "flare": "flare.png"},
     "measurements": {"lamp": "lamp.csv", "wall": "plane.json"},
     "shot": {"name": "...", "footage": {"asset": "clip"}, "motions": [], "stack": []}}

Inside the shot, assets and measurements may be given by those names; paths are relative to the
file. Footage needs only its asset: size, rate, length and range are filled in from the clip.
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any, get_args

from pydantic import BaseModel

from plonket.base.errors import BadInput, FormatError
from plonket.document.kinds import LAYERS, REGISTRIES
from plonket.document.references import declarations
from plonket.document.shot import Shot, read_shot
from plonket.formats.plane_json import read_plane
from plonket.formats.points_csv import read_points
from plonket.formats.points_json import read_points_json
from plonket.media.probe import probe
from plonket.room.meshes.files import about_model
from plonket.track.movement import Measured
from plonket.track.stored import read_measured


@dataclass(frozen=True, slots=True, kw_only=True)
class ShotFile:
    """A shot with the places of what it refers to, by content hash."""

    shot: Shot
    media: dict[str, Path]
    measurements: dict[str, Measured]

    def path_of(self, digest: str) -> Path:
        """The file of an asset. Raises `BadInput` where the shot file names none."""
        if digest not in self.media:
            raise BadInput("shot_file.media", f"The shot file names no media file for the asset {digest[:12]}.")
        return self.media[digest]


def read_shot_file(path: Path) -> ShotFile:
    """Read and validate a shot file. Raises `FormatError`, `MediaError` or `BadInput`."""
    if not path.exists():
        raise BadInput("shot_file.missing", f"{path.name} was not found.")
    try:
        data = json.loads(path.read_text())
    except (UnicodeDecodeError, json.JSONDecodeError) as error:
        raise FormatError("shot_file.json", f"{path.name} is not a shot file: {error}.") from error
    if not isinstance(data, dict) or data.get("plonket") != 1 or not isinstance(data.get("shot"), dict):
        raise FormatError("shot_file.shape", f'{path.name} is not a shot file: it needs "plonket": 1 and a "shot".')
    shot: dict[str, Any] = data["shot"]
    media: dict[str, Path] = {}
    names: dict[str, str] = {}
    for name, place in dict(data.get("media", {})).items():
        file = (path.parent / str(place)).resolve()
        if not file.exists():
            raise BadInput("shot_file.media", f"{path.name} refers to {place}, which was not found.")
        names[name] = file_digest(file)
        media[names[name]] = file
    measurements: dict[str, Measured] = {}
    for name, place in dict(data.get("measurements", {})).items():
        file = (path.parent / str(place)).resolve()
        if not file.exists():
            raise BadInput("shot_file.measurement", f"{path.name} refers to {place}, which was not found.")
        names[name] = file_digest(file)
        measurements[names[name]] = read_measurement_file(file)
    _name_to_digest(shot, names, _naming_fields())
    _fill_in(shot, media)
    return ShotFile(shot=read_shot(shot), media=media, measurements=measurements)


def with_layer_values(source: Path, out: Path, layer_id: str, values: dict[str, Any]) -> None:
    """Write a shot file again with other values of one of its layers; what it names is found from its new place too.

    Raises `BadInput` when there is no such layer.
    """
    data = json.loads(source.read_text())
    shot = data["shot"]
    stacks = [shot.get("stack", []), *(parcel.get("stack", []) for parcel in shot.get("parcels", []))]
    found = next((one for stack in stacks for one in stack if one.get("id") == layer_id), None)
    if found is None:
        raise BadInput("shot_file.layer", f"{source.name} has no layer {layer_id}.")
    found.update(values)
    if out.parent.resolve() != source.parent.resolve():
        for part in ("media", "measurements"):
            data[part] = {name: str((source.parent / place).resolve()) for name, place in data.get(part, {}).items()}
    out.write_text(json.dumps(data, indent=1) + "\n")


def read_measurement_file(file: Path) -> Measured:
    """Points from CSV or JSON, a plane from JSON, or a stored measurement. Raises `FormatError`."""
    raw = file.read_bytes()
    ending = file.suffix.lower()
    if ending == ".csv":
        return read_points(raw.decode("utf-8", "replace"))
    if ending != ".json":
        return read_measured(raw)
    text = raw.decode("utf-8", "replace")
    return read_plane(text) if '"homography"' in text else read_points_json(text)


def file_digest(path: Path) -> str:
    """SHA-256 of a file, or of a folder's names and files."""
    if path.is_file():
        with path.open("rb") as f:
            return hashlib.file_digest(f, "sha256").hexdigest()
    digest = hashlib.sha256()
    for file in sorted(p for p in path.iterdir() if p.is_file()):
        digest.update(file.name.encode())
        digest.update(file_digest(file).encode())
    return digest.hexdigest()


def _naming_fields() -> set[str]:
    """Names of the fields that hold the content hash of something outside the document, of whatever kind they are."""
    outside: set[str] = set()
    todo: list[Any] = [Shot, *(entry.settings for registry in REGISTRIES.values() for entry in registry)]
    seen: set[Any] = set()
    while todo:
        part = todo.pop()
        if part in seen:
            continue
        seen.add(part)
        if isinstance(part, type) and issubclass(part, BaseModel):
            outside |= {name for name, one in declarations(part).items() if one.to in ("asset", "measurement")}
            todo += [field.annotation for field in part.model_fields.values()]
        todo += [arg for arg in get_args(part) if not isinstance(arg, str)]
    return outside


def _name_to_digest(part: Any, names: dict[str, str], fields: set[str]) -> None:
    if isinstance(part, list):
        for item in part:
            _name_to_digest(item, names, fields)
    elif isinstance(part, dict):
        for key, value in part.items():
            if key in fields and isinstance(value, str):
                part[key] = names.get(value, value)
            else:
                _name_to_digest(value, names, fields)


def _fill_in(shot: dict[str, Any], media: dict[str, Path]) -> None:
    footage = shot.get("footage")
    if isinstance(footage, dict) and footage.get("asset") in media:
        info = probe(media[footage["asset"]])
        footage.setdefault("name", media[footage["asset"]].stem)
        footage.setdefault("width", info.width)
        footage.setdefault("height", info.height)
        footage.setdefault("rate", f"{info.rate.numerator}/{info.rate.denominator}")
        footage.setdefault("frames", info.frames)
        footage.setdefault("in_frame", 0)
        footage.setdefault("out_frame", info.frames - 1)
    inside = [layer for parcel in shot.get("parcels", []) if isinstance(parcel, dict) for layer in parcel.get("stack", [])]
    for layer in [*shot.get("stack", []), *inside]:
        entry = LAYERS.find(layer.get("kind")) if isinstance(layer, dict) else None
        needed = {} if entry is None else entry.settings.model_fields
        if "extent" in needed and "extent" not in layer and layer.get("asset") in media:
            layer["extent"] = about_model(media[layer["asset"]])["extent"]
        # What has no size in the picture, as a model, needs none.
        if "width" in layer or "width" not in needed:
            continue
        if layer.get("asset") in media:
            info = probe(media[layer["asset"]])
            layer["width"], layer["height"] = info.width, info.height
        elif layer.get("kind") == "parcel" and isinstance(footage, dict):
            layer["width"], layer["height"] = footage.get("width", 1280), footage.get("height", 720)
            layer.setdefault("x", layer["width"] / 2)
            layer.setdefault("y", layer["height"] / 2)
