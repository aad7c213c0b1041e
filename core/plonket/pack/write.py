"""Writing a pack."""

from __future__ import annotations

import hashlib
import zipfile
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from plonket.base.progress import Work
from plonket.document.references import references
from plonket.document.shot import Shot
from plonket.media.failures import media_errors
from plonket.pack.manifest import (
    MANIFEST,
    VERSION,
    Manifest,
    PackedAsset,
    PackedFile,
    PackedMeasurement,
    PackedShot,
    Steps,
)

PIECE = 1 << 20


@dataclass(kw_only=True)
class Packing:
    """A shot that goes into a pack, with its steps if they are wanted."""

    shot: Shot
    steps: Steps | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class AssetSource:
    """An asset's files on disk, and what is said of it."""

    kind: str
    name: str
    files: Sequence[Path]
    words: str = ""
    settings: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class MeasurementSource:
    """A measurement's bytes, the ending that says how they are to be read, and what is known of it."""

    data: bytes
    ending: str = ".npz"
    kind: str = ""
    summary: dict[str, Any] = field(default_factory=dict)


def wanted_by(shots: Iterable[Shot]) -> tuple[list[str], list[str]]:
    """Digests of the assets and of the measurements that shots name, each once, in order."""
    assets: dict[str, None] = {}
    measured: dict[str, None] = {}
    for shot in shots:
        for one in references(shot):
            if one.declared.to == "asset":
                assets.setdefault(one.id)
            elif one.declared.to == "measurement":
                measured.setdefault(one.id)
    return list(assets), list(measured)


def write_pack(
    out: Path, project: str, shots: Sequence[Packing], assets: dict[str, AssetSource],
    measurement: Callable[[str], MeasurementSource], measured: Sequence[str], work: Work | None = None,
) -> Manifest:  # fmt: skip
    """Write a pack, whole or not at all.

    Parameters
    ----------
    assets : by digest. measured : digests of measurements, of which `measurement` gives one at a time. Progress counts
        megabytes.
    """
    work = work or Work()
    part = out.with_name(f".{out.name}.part")
    sizes = sum(file.stat().st_size for one in assets.values() for file in one.files)
    total, done = max(1, sizes >> 20), 0
    files: list[PackedFile] = []
    with media_errors(out, "written"):
        out.parent.mkdir(parents=True, exist_ok=True)
        try:
            with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED, allowZip64=True) as box:

                def told(path: str, data: bytes, *, packed: bool) -> str:
                    how = zipfile.ZIP_DEFLATED if packed else zipfile.ZIP_STORED
                    box.writestr(zipfile.ZipInfo(path), data, how)
                    files.append(PackedFile(path=path, bytes=len(data), sha256=hashlib.sha256(data).hexdigest()))
                    return path

                packed_assets = []
                for digest, one in assets.items():
                    names = []
                    for path, file in zip(_names(digest, one.files), one.files, strict=True):
                        work.check_cancelled()
                        files.append(_copied(box, file, path, work))
                        done += file.stat().st_size
                        work.progress(min(done >> 20, total), total)
                        names.append(path)
                    packed_assets.append(PackedAsset(digest=digest, kind=one.kind, name=one.name, files=names,  # type: ignore[arg-type]
                                                     words=one.words, settings=one.settings))  # fmt: skip
                packed_measured = []
                for digest in measured:
                    work.check_cancelled()
                    found = measurement(digest)
                    name = told(f"measurements/{digest}{found.ending}", found.data, packed=found.ending != ".npz")
                    packed_measured.append(PackedMeasurement(digest=digest, file=name, kind=found.kind, summary=found.summary))
                packed_shots = []
                for k, packing in enumerate(shots):
                    document = told(f"shots/{k:03d}.json", packing.shot.model_dump_json(indent=1).encode(), packed=True)
                    steps = None
                    if packing.steps is not None:
                        steps = told(f"shots/{k:03d}-steps.json", packing.steps.model_dump_json().encode(), packed=True)
                    packed_shots.append(PackedShot(name=packing.shot.name, document=document, steps=steps))
                manifest = Manifest(plonket_pack=VERSION, project=project, shots=packed_shots, assets=packed_assets,
                                    measurements=packed_measured, files=files)  # fmt: skip
                box.writestr(zipfile.ZipInfo(MANIFEST), manifest.model_dump_json(indent=1), zipfile.ZIP_DEFLATED)
            part.replace(out)
        finally:
            part.unlink(missing_ok=True)
    return manifest


def _names(digest: str, files: Sequence[Path]) -> list[str]:
    """What an asset's files are called in a pack."""
    if len(files) == 1:
        return [f"assets/{digest}{files[0].suffix.lower()}"]
    return [f"assets/{digest}/{k:06d}{file.suffix.lower()}" for k, file in enumerate(files)]


def _copied(box: zipfile.ZipFile, file: Path, path: str, work: Work) -> PackedFile:
    digest, size = hashlib.sha256(), 0
    with file.open("rb") as source, box.open(zipfile.ZipInfo(path), "w", force_zip64=True) as target:
        while piece := source.read(PIECE):
            work.check_cancelled()
            digest.update(piece)
            size += len(piece)
            target.write(piece)
    return PackedFile(path=path, bytes=size, sha256=digest.hexdigest())
