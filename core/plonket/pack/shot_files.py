"""Packs of shot files: written from them, and laid out as them again."""

from __future__ import annotations

import json
import re
import shutil
import tempfile
from pathlib import Path

from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.formats.shot_file import read_shot_file
from plonket.media.failures import media_errors
from plonket.media.light_map import LIGHT_MAPS
from plonket.media.probe import probe
from plonket.media.sound import SOUNDS
from plonket.pack.manifest import Manifest
from plonket.pack.read import open_pack
from plonket.pack.write import AssetSource, MeasurementSource, Packing, wanted_by, write_pack
from plonket.room.meshes.files import MODELS


def pack_shot_files(source: Path, out: Path, work: Work | None = None) -> Manifest:
    """Pack a shot file, or all in a folder, with everything that they name. Raises `BadInput`."""
    if not source.exists():
        raise BadInput("pack.source", f"{source.name} was not found.")
    paths = sorted(source.glob("*.json")) if source.is_dir() else [source]
    paths = [path for path in paths if not source.is_dir() or _is_shot_file(path)]
    if not paths:
        raise BadInput("pack.source", f"{source.name} holds no shot files.")
    files = [read_shot_file(path) for path in paths]
    assets: dict[str, AssetSource] = {}
    measured: dict[str, MeasurementSource] = {}
    for file in files:
        used, wanted = wanted_by([file.shot])
        for digest in used:
            assets.setdefault(digest, _asset(file.path_of(digest)))
        for digest in wanted:
            if digest not in file.measurements:
                raise BadInput("shot_file.measurement", f"{file.shot.name} names a measurement that its file does not.")
            measured[digest] = MeasurementSource(data=file.measurements[digest].to_bytes(), kind=file.measurements[digest].KIND)
    return write_pack(out, source.stem, [Packing(shot=file.shot) for file in files], assets, measured.__getitem__,
                      list(measured), work)  # fmt: skip


def _is_shot_file(path: Path) -> bool:
    try:
        data = json.loads(path.read_text())
    except (OSError, ValueError):
        return False
    return isinstance(data, dict) and data.get("plonket") == 1


def _asset(path: Path) -> AssetSource:
    ending = path.suffix.lower()
    if path.is_dir():
        return AssetSource(kind="clip", name=path.name, files=sorted(p for p in path.iterdir() if p.is_file()))
    kinds = (("model", MODELS), ("light", LIGHT_MAPS), ("sound", SOUNDS), ("table", (".cube",)))
    kind = next((kind for kind, endings in kinds if ending in endings), None)
    if kind is None:
        kind = "still" if probe(path).kind == "still" else "clip"
    return AssetSource(kind=kind, name=path.stem or "file", files=[path])


def unpack_shot_files(path: Path, out: Path, work: Work | None = None) -> list[Path]:
    """Lay a pack out as shot files with their media and measurements beside them; returns the shot files.

    The folder appears when all of it is there. Raises `FormatError` or `BadInput`.
    """
    if out.exists():
        raise BadInput("unpack.exists", f"{out.name} is there already. Give another folder.")
    with media_errors(out, "written"):
        out.parent.mkdir(parents=True, exist_ok=True)
    with open_pack(path, work=work, room=shutil.disk_usage(out.parent).free) as pack, media_errors(out, "written"):
        with tempfile.TemporaryDirectory(dir=out.parent, prefix=".unpacking-") as aside:
            folder = Path(aside) / "whole"
            media: dict[str, str] = {}
            for asset in pack.manifest.assets:
                name = f"{_plain(asset.name)}-{asset.digest[:8]}"
                many = len(asset.files) > 1
                place = Path("media") / (name if many else name + Path(asset.files[0]).suffix)
                (folder / (place if many else place.parent)).mkdir(parents=True, exist_ok=True)
                for file in asset.files:
                    pack.extract(file, folder / place / Path(file).name if many else folder / place)
                media[asset.digest] = place.as_posix()
            measured: dict[str, str] = {}
            for one in pack.manifest.measurements:
                (folder / "measurements").mkdir(parents=True, exist_ok=True)
                measured[one.digest] = f"measurements/{Path(one.file).name}"
                pack.extract(one.file, folder / measured[one.digest])
            made: list[str] = []
            for k, shot in enumerate(pack.manifest.shots):
                document = pack.shot(shot)
                used, wanted = wanted_by([document])
                whole = {
                    "plonket": 1, "media": {digest: media[digest] for digest in used},
                    "measurements": {digest: measured[digest] for digest in wanted},
                    "shot": document.model_dump(mode="json"),
                }  # fmt: skip
                folder.mkdir(exist_ok=True)
                made.append(f"{k:03d}-{_plain(shot.name)}.json")
                (folder / made[-1]).write_text(json.dumps(whole, indent=1) + "\n")
            folder.replace(out)
    return [out / name for name in made]


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "file"

