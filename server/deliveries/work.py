"""Deliveries rendered in the background, and what is left of those that were given up swept away."""

from __future__ import annotations

import shutil
import uuid
from pathlib import Path
from typing import Any

from deliveries.models import Delivery
from jobs.models import Chunk, Job
from library.models import Upload
from library.pool import pool
from library.recordings import recording_of
from plonket.base.errors import PlonketError
from plonket.base.progress import Work
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS
from plonket.document.shot import Shot as Document
from plonket.document.shot import read_shot
from plonket.media.sound import Sound
from plonket.render.deliver import delivery_scale, delivery_size, file_name, finish, outputs_of, write_pieces
from plonket.render.soundtrack import soundtrack
from plonket.render.sources import ShotSources
from plonket_server import store

FRAMES_PER_CHUNK = 48


class Deliver:
    """The shot's range rendered once, in chunks by any workers, then joined with its sound to each file that is wanted."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        document = read_shot(job.payload["document"], stored=True)
        assert document.footage is not None
        start, stop = document.footage.in_frame, document.footage.out_frame + 1
        cuts = [*range(start, stop, FRAMES_PER_CHUNK), stop]
        return [{"start": a, "stop": b} for a, b in zip(cuts[:-1], cuts[1:], strict=True)], stop - start

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        document = read_shot(job.payload["document"], stored=True)
        assert document.footage is not None
        folder = store.delivery_folder(str(job.id))
        folder.mkdir(parents=True, exist_ok=True)
        store.check_room(0)
        outputs = outputs_of(document)
        parts = {one.id: folder / f"{chunk.position:05d}-{k}.{chunk.claim or 'run'}" for k, one in enumerate(outputs)}
        write_pieces(
            document, ShotSources(document, pool()), outputs, lambda one: parts[one.id], start=chunk.payload["start"],
            stop=chunk.payload["stop"], began=document.footage.in_frame, scale=delivery_scale(document), work=work,
        )  # fmt: skip
        for k, one in enumerate(outputs):
            target = self._piece(folder, chunk.position, k)
            if parts[one.id].exists():
                _remove(target)
                parts[one.id].rename(target)

    def finish(self, job: Job, work: Work) -> None:
        """Join the pieces and put the files on the list. Done again after a crash, it goes on from what is there."""
        document = read_shot(job.payload["document"], stored=True)
        folder = store.delivery_folder(str(job.id))
        pieces, outputs = job.pieces.count(), outputs_of(document)
        problems: list[PlonketError] = []
        made: list[str] = []
        sound = _Sound(document)
        for k, one in enumerate(outputs):
            stem = "finished" if len(outputs) == 1 else f"finished-{k + 1}"
            out = folder / f"{stem}{OUTPUTS.of(one).ending(one)}"
            try:
                if not out.exists():
                    self._join(document, one, [self._piece(folder, at, k) for at in range(pieces)], out, sound, work)
            except PlonketError as error:
                # What can be made is made all the same.
                problems.append(error)
                continue
            made.append(str(self._listed(job, document, one, stem, out).id))
        if problems:
            raise problems[0]
        for at in range(pieces):
            for k in range(len(outputs)):
                _remove(self._piece(folder, at, k))
        job.result = {"delivery": made[0], "deliveries": made}

    def _listed(self, job: Job, document: Document, output: OutputBase, stem: str, out: Path) -> Delivery:
        footage = document.footage
        assert footage is not None
        scale = delivery_scale(document)
        width, height = delivery_size(document, output, scale)
        ending = OUTPUTS.of(output).ending(output)
        made, _ = Delivery.objects.update_or_create(
            folder=str(job.id), stem=stem,
            defaults={
                "job": job, "shot_id": job.shot_id, "name": file_name(document, output, scale).removesuffix(ending),
                "kind": output.kind, "bytes": out.stat().st_size, "width": width, "height": height,
                "frames": footage.out_frame - footage.in_frame + 1,
                "rate": f"{footage.fps.numerator}/{footage.fps.denominator}", "ending": ending,
            },
        )  # fmt: skip
        return made

    def _join(
        self, document: Document, output: OutputBase, pieces: list[Path], out: Path, sound: _Sound, work: Work
    ) -> None:
        footage = document.footage
        assert footage is not None
        start, stop = footage.in_frame, footage.out_frame + 1
        joined = out.with_name(f"joining-{uuid.uuid4().hex[:8]}{out.suffix}")
        try:
            finish(
                document, output, pieces, joined, start=start, stop=stop, sound=sound.of(output), work=work,
                scale=delivery_scale(document), sources=ShotSources(document, pool()),
            )  # fmt: skip
            store.settle(joined, out)
        finally:
            joined.unlink(missing_ok=True)

    def _piece(self, folder: Path, position: int, output: int) -> Path:
        return folder / f"{position:05d}-{output}"

    def ended_early(self, job: Job) -> None:
        """Finished chunks stay, so that trying again goes on from them."""


class _Sound:
    """The sound of a shot's range, mixed when the first file asks for it."""

    def __init__(self, document: Document) -> None:
        self._document = document
        self._made: list[Sound | None] = []

    def of(self, output: OutputBase) -> Sound | None:
        footage = self._document.footage
        if footage is None or "sound" not in OUTPUTS.of(output).traits:
            return None
        if not self._made:
            self._made.append(soundtrack(self._document, recording_of, footage.in_frame, footage.out_frame + 1))
        return self._made[0]


def _remove(path: Path) -> None:
    if path.is_dir():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)


def sweep() -> None:
    """Remove files that nothing refers to: of deliveries that were given up, of uploads and preparing that never ended."""
    jobs = {str(pk) for pk in Job.objects.filter(kind=Job.Kind.DELIVER).values_list("pk", flat=True)}
    store.sweep(jobs | set(Delivery.objects.values_list("folder", flat=True)),
                {str(pk) for pk in Upload.objects.values_list("pk", flat=True)})  # fmt: skip
