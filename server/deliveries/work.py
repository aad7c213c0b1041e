"""Deliveries rendered in the background, and what is left of those that were given up swept away."""

from __future__ import annotations

import uuid
from pathlib import Path
from typing import Any

from deliveries.models import Delivery
from jobs.models import Chunk, Job
from library.models import Upload
from library.pool import pool
from library.recordings import recording_of
from plonket.base.progress import Work
from plonket.document.shot import Shot as Document
from plonket.document.shot import read_shot
from plonket.media.write import join_segments
from plonket.render.deliver import coding_of, deliver, delivery_size, ending_of
from plonket.render.soundtrack import soundtrack
from plonket.render.sources import ShotSources
from plonket_server import store

FRAMES_PER_CHUNK = 48


class Deliver:
    """The shot's range rendered in chunks by any workers, then joined with its sound."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        document = read_shot(job.payload["document"], stored=True)
        assert document.footage is not None
        start, stop = document.footage.in_frame, document.footage.out_frame + 1
        cuts = [*range(start, stop, FRAMES_PER_CHUNK), stop]
        return [{"start": a, "stop": b} for a, b in zip(cuts[:-1], cuts[1:], strict=True)], stop - start

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        document = read_shot(job.payload["document"], stored=True)
        folder = store.delivery_folder(str(job.id))
        folder.mkdir(parents=True, exist_ok=True)
        store.check_room(0)
        ending = ending_of(document)
        part = folder / f"{chunk.position:05d}.{chunk.claim or 'run'}{ending}"
        _, scale = delivery_size(document)
        start, stop = chunk.payload["start"], chunk.payload["stop"]
        deliver(document, ShotSources(document, pool()), part, start=start, stop=stop, scale=scale, work=work)
        part.rename(self._segment(folder, chunk.position, ending))

    def finish(self, job: Job) -> None:
        """Join the pieces and put the video on the list. Done again after a crash, it goes on from what is there."""
        document = read_shot(job.payload["document"], stored=True)
        assert document.footage is not None
        folder = store.delivery_folder(str(job.id))
        segments = [self._segment(folder, k, ending_of(document)) for k in range(job.pieces.count())]
        out = folder / f"finished{ending_of(document)}"
        if not out.exists():
            self._join(document, segments, out)
        (width, height), _ = delivery_size(document)
        made, _ = Delivery.objects.update_or_create(
            job=job,
            defaults={
                "shot_id": job.shot_id, "name": document.name, "folder": str(job.id), "bytes": out.stat().st_size,
                "width": width, "height": height, "frames": document.footage.out_frame - document.footage.in_frame + 1,
                "rate": f"{document.footage.fps.numerator}/{document.footage.fps.denominator}", "ending": ending_of(document),
            },
        )  # fmt: skip
        for segment in segments:
            segment.unlink(missing_ok=True)
        job.result = {"delivery": str(made.id)}

    def _join(self, document: Document, segments: list[Path], out: Path) -> None:
        footage = document.footage
        assert footage is not None
        sound = soundtrack(document, recording_of, footage.in_frame, footage.out_frame + 1)
        joined = out.with_name(f"joining-{uuid.uuid4().hex[:8]}{out.suffix}")
        try:
            join_segments(segments, joined, footage.fps, sound, coding_of(document))
            store.settle(joined, out)
        finally:
            joined.unlink(missing_ok=True)

    def _segment(self, folder: Path, position: int, ending: str) -> Path:
        return folder / f"{position:05d}{ending}"

    def ended_early(self, job: Job) -> None:
        """Finished chunks stay, so that trying again goes on from them."""


def sweep() -> None:
    """Remove files that nothing refers to: of deliveries that were given up, of uploads and preparing that never ended."""
    jobs = {str(pk) for pk in Job.objects.filter(kind=Job.Kind.DELIVER).values_list("pk", flat=True)}
    store.sweep(jobs | set(Delivery.objects.values_list("folder", flat=True)),
                {str(pk) for pk in Upload.objects.values_list("pk", flat=True)})  # fmt: skip
