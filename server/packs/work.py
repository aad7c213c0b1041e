"""Packing a project into one file, and opening such a file, in the background."""

from __future__ import annotations

import os
import time
import uuid
import zipfile
from collections.abc import Iterator
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from django.db import transaction

from jobs.models import Chunk, Job
from jobs.queue import enqueue
from jobs.working import resize
from library.assets import bring_in, find_asset
from library.models import Asset, Project
from plonket.base.errors import BadInput, MediaError
from plonket.base.progress import Work
from plonket.document.references import references, renamed
from plonket.document.shot import Shot as Document
from plonket.document.shot import read_shot
from plonket.formats.shot_file import read_measurement_file
from plonket.pack.manifest import PackedAsset, PackedMeasurement, Step, Steps
from plonket.pack.read import Pack, open_pack
from plonket.pack.write import AssetSource, MeasurementSource, wanted_by, write_pack
from plonket.pack.write import Packing as Packed
from plonket.track.stored import read_measured
from plonket_server import store
from plonket_server.problems import NotHere
from shots.editing import add_shot, add_shot_with_steps, document_of
from shots.models import Measurement, Shot

DAY_S = 86400


def pack_path(job_id: str) -> Path:
    """Where a packed project lies until it has been fetched."""
    return store.root() / "packs" / f"{job_id}.plonket"


def arrived_path(upload_id: str) -> Path:
    """Where a pack lies that has come in."""
    return store.root() / "packs" / f"in-{upload_id}.plonket"


class Packing:
    """All shots of a project and what they name, as one file."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        return [{}], 1

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        project = Project.objects.filter(pk=job.payload["project"]).first()
        if project is None:
            raise NotHere("project")
        shots = [self._shot(shot, job.payload["history"]) for shot in project.shot_set.order_by("created")]
        named = [s for packed in shots for s in _all(packed)]
        used, measured = wanted_by(named)
        assets = {digest: self._asset(digest) for digest in used}
        needed = sum(file.stat().st_size for one in assets.values() for file in one.files)
        store.check_room(needed)
        resize(job, max(1, needed >> 20))
        write_pack(pack_path(str(job.pk)), project.name, shots, assets, self._measurement, measured, work)

    def _shot(self, shot: Shot, history: bool) -> Packed:
        document = document_of(shot)
        if not history or shot.current is None:
            return Packed(shot=document)
        steps = [Step(number=r.number, parent=None if r.parent is None else r.parent.number, label=r.label, document=r.document)
                 for r in shot.revisions.select_related("parent").order_by("number")]  # fmt: skip
        return Packed(shot=document, steps=Steps(current=shot.current.number, steps=steps))

    def _asset(self, digest: str) -> AssetSource:
        one = find_asset(digest)
        path = store.original_path(one.digest, one.ending)
        if not path.exists():
            raise MediaError("media.missing", f"The original of {one.name} is not in the store any more.")
        return AssetSource(kind=one.kind, name=one.name, files=[path], words=one.words, settings=one.settings)

    def _measurement(self, digest: str) -> MeasurementSource:
        path = store.measurement_path(digest)
        if not path.exists():
            raise MediaError("media.missing", "Something that was measured is not in the store any more. Measure it again.")
        known = Measurement.objects.filter(pk=digest).first()
        return MeasurementSource(data=path.read_bytes(), kind=known.kind if known else "",
                                 summary=known.summary if known else {})  # fmt: skip

    def finish(self, job: Job, work: Work) -> None:
        job.result = {"bytes": pack_path(str(job.pk)).stat().st_size, "name": job.payload["name"]}

    def ended_early(self, job: Job) -> None:
        pack_path(str(job.pk)).unlink(missing_ok=True)


def _all(packed: Packed) -> Iterator[Document]:
    """A shot's document, and those of its steps."""
    yield packed.shot
    for step in packed.steps.steps if packed.steps else ():
        yield read_shot(step.document, stored=True)


def take_pack(part: Path, name: str, upload_id: uuid.UUID, project: uuid.UUID | None) -> Job:
    """Begin to open a pack that has come in."""
    target = arrived_path(str(upload_id))
    target.parent.mkdir(parents=True, exist_ok=True)
    os.replace(part, target)
    payload = {"file": str(upload_id), "name": name, "project": None if project is None else str(project)}
    return enqueue(Job.Kind.UNPACK, label=f"Opening {name}", payload=payload)


class Unpacking:
    """A pack checked whole; then what is in it taken in, and its shots made. Done again it goes on with what is there."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        return [{}], 1

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        if Project.objects.filter(pk=job.result.get("project")).exists():
            # A worker died between making it and saying so.
            return
        path = arrived_path(job.payload["file"])
        total = max(1, path.stat().st_size >> 20) if path.exists() else 1
        resize(job, 2 * total)
        halves = _Halves(work, total)
        with open_pack(path, name=job.payload["name"], work=halves.first, room=store.free_bytes()) as pack:
            store.check_room(2 * pack.size)
            others: dict[str, str] = {}
            for k, asset in enumerate(pack.manifest.assets):
                work.check_cancelled()
                others[asset.digest] = self._take(pack, asset)
                halves.second.progress(k + 1, len(pack.manifest.assets))
            for measurement in pack.manifest.measurements:
                work.check_cancelled()
                others[measurement.digest] = self._keep(pack, measurement)
            changed = {a: b for a, b in others.items() if a != b}
            with transaction.atomic():
                project = self._project(job, pack)
                for packed in pack.manifest.shots:
                    document = _with(pack.shot(packed), changed)
                    steps = pack.steps(packed)
                    if steps is None:
                        add_shot(project, document, f"Out of {job.payload['name']}"[:120])
                    else:
                        add_shot_with_steps(project, _steps_with(steps, changed))
                job.result = {"project": str(project.pk), "name": project.name, "shots": len(pack.manifest.shots)}
                Job.objects.filter(pk=job.pk).update(result=job.result)

    def _project(self, job: Job, pack: Pack) -> Project:
        wanted = job.payload["project"]
        if wanted is None:
            return Project.objects.create(name=pack.manifest.project)
        found = Project.objects.filter(pk=wanted).first()
        if found is None:
            raise NotHere("project")
        return found

    def _take(self, pack: Pack, one: PackedAsset) -> str:
        """Take an asset in, unless it is here; returns the digest that it has here."""
        known = Asset.objects.filter(pk=one.digest).first()
        if known is not None and store.original_path(known.digest, known.ending).exists():
            return known.digest
        store.root().mkdir(parents=True, exist_ok=True)
        with TemporaryDirectory(dir=store.root()) as folder:
            many = len(one.files) > 1
            ending = ".zip" if many else Path(one.files[0]).suffix
            part = Path(folder) / f"part{ending}"
            if many:
                with zipfile.ZipFile(part, "w") as box:
                    for file in one.files:
                        box.writestr(zipfile.ZipInfo(Path(file).name), pack.read(file))
            else:
                pack.extract(one.files[0], part)
            return bring_in(part, one.name + ending, words=one.words, settings=one.settings).digest

    def _keep(self, pack: Pack, one: PackedMeasurement) -> str:
        """Keep a measurement; returns the digest that it has here."""
        data = pack.read(one.file)
        if Path(one.file).suffix != ".npz":
            with TemporaryDirectory() as folder:
                file = Path(folder) / Path(one.file).name
                file.write_bytes(data)
                data = read_measurement_file(file).to_bytes()
        found = read_measured(data)
        digest = store.keep_measurement(data)
        Measurement.objects.get_or_create(digest=digest, defaults={"kind": found.KIND, "summary": one.summary})
        return digest

    def finish(self, job: Job, work: Work) -> None:
        arrived_path(job.payload["file"]).unlink(missing_ok=True)

    def ended_early(self, job: Job) -> None:
        """What came in stays for a day, so that it can be tried again."""


class _Halves:
    """A job's progress told in two halves: checked, then taken in."""

    def __init__(self, work: Work, total: int) -> None:
        self.first = Work(lambda done, of: work.progress(round(total * done / of), 2 * total), _asks(work))
        self.second = Work(lambda done, of: work.progress(total + round(total * done / of), 2 * total), _asks(work))


def _asks(work: Work) -> Any:
    def cancelled() -> bool:
        work.check_cancelled()
        return False

    return cancelled


def _with(document: Document, others: dict[str, str]) -> Document:
    if not others:
        return document
    return read_shot(renamed(document.model_dump(mode="json"), list(references(document)), others), stored=True)


def _steps_with(steps: Steps, others: dict[str, str]) -> Steps:
    changed = []
    for step in steps.steps:
        document = _with(read_shot(step.document, stored=True), others)
        changed.append(step.model_copy(update={"document": document.model_dump(mode="json")}))
    return steps.model_copy(update={"steps": changed})


def begin_packing(project_id: uuid.UUID, *, history: bool) -> Job:
    """Pack a project in the background."""
    project = Project.objects.filter(pk=project_id).first()
    if project is None:
        raise NotHere("project")
    if not project.shot_set.exists():
        raise BadInput("pack.empty", "This project has no shots yet: there is nothing to be packed.")
    payload = {"project": str(project_id), "history": history, "name": project.name}
    return enqueue(Job.Kind.PACK, label=f"Packing {project.name}", payload=payload)


def sweep() -> None:
    """Remove packs a day after they were made or came in."""
    for path in (store.root() / "packs").glob("*"):
        if path.stat().st_mtime < time.time() - DAY_S:
            path.unlink(missing_ok=True)

