"""What each kind of job does."""

from __future__ import annotations

import json
import uuid
from fractions import Fraction
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from django.db import transaction

from jobs.measuring import Measure, resize, stop_asked
from jobs.models import Chunk, Job
from jobs.tell import tell
from library.models import Asset
from library.unpack import readable
from plonket.base.errors import Cancelled, PlonketError
from plonket.base.progress import Work
from plonket.checks.slip import measure_slip
from plonket.document.hashes import mends_hash
from plonket.document.shot import Shot as Document
from plonket.document.shot import read_shot
from plonket.media import open_clip, probe
from plonket.media.conform import conform, conformed_bytes
from plonket.media.sound import read_wav
from plonket.media.write import join_segments
from plonket.plate.repair.patches import Filled
from plonket.render.deliver import deliver, delivery_size
from plonket.render.precompute import ahead_frames, work_ahead
from plonket.render.sources import ShotSources
from plonket_server import store
from plonket_server.pool import pool
from shots.editing import give_footage

FRAMES_PER_CHUNK = 48
MENDED_PER_CHUNK = 12


class Handler(Protocol):
    """One kind of work: planned into chunks, run chunk by chunk, finished once."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        """Chunk payloads and the total number of frames."""
        ...

    def run(self, job: Job, chunk: Chunk, work: Work) -> None: ...
    def finish(self, job: Job) -> None: ...
    def ended_early(self, job: Job) -> None: ...


class Conform:
    """A clip made upright and constant; then given to the shots that wait for it."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        assert job.asset is not None
        job.payload["shots"] = [str(job.shot_id)] if job.shot_id else []
        return [{}], int(job.asset.info["frames"])

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        assert job.asset is not None
        conform_asset(job.asset, work)

    def finish(self, job: Job) -> None:
        with transaction.atomic():
            # Whoever brings the clip in for another shot meanwhile waits here, and finds it ready then.
            asset = Asset.objects.select_for_update().get(pk=job.asset_id)
            Asset.objects.filter(pk=asset.pk).update(state=Asset.State.READY, problem="")
            asset.refresh_from_db()
            shots = Job.objects.get(pk=job.pk).payload.get("shots", [])
            for shot in dict.fromkeys(shots):
                give_footage(uuid.UUID(shot), asset)
        for known in shots or [None]:
            tell("asset", {"asset": asset.digest, "shot": known})

    def ended_early(self, job: Job) -> None:
        Asset.objects.filter(pk=job.asset_id).update(state=Asset.State.FAILED, problem=job.message)
        tell("asset", {"asset": job.asset_id, "shot": None})


def conform_asset(asset: Asset, work: Work | None = None) -> None:
    """Write an asset's conformed files."""
    source = store.original_path(asset.digest, asset.ending)
    with readable(source) as media:
        store.check_room(conformed_bytes(probe(media)))
        conform(media, store.derived_folder(asset.digest), work)


class Check:
    """The slip of followers, one chunk each; what cannot be judged is stored with the reason."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        document = read_shot(job.payload["document"], stored=True)
        assert document.footage is not None
        length = document.footage.out_frame - document.footage.in_frame
        return [dict(check) for check in job.payload["checks"]], length * len(job.payload["checks"])

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        from shots.checks import slip_result
        from shots.models import SlipCheck

        document = read_shot(job.payload["document"], stored=True)
        footage = document.footage
        assert footage is not None and job.shot_id is not None
        clip = open_clip(store.derived_folder(footage.asset) / "clip.mp4")
        message = ""
        try:
            slip = measure_slip(
                document, ShotSources(document, pool()), clip, chunk.payload["layer"], start=footage.in_frame,
                stop=footage.out_frame + 1, work=work,
            )  # fmt: skip
            result = slip_result(slip.px, slip.reference_frame, slip.rms_px, slip.worst())
        except Cancelled:
            raise
        except PlonketError as error:
            message = error.message
            result = slip_result(np.full(footage.frames, np.nan), footage.in_frame, float("nan"), [])
        finally:
            clip.close()
        SlipCheck.objects.update_or_create(
            shot_id=job.shot_id, layer=chunk.payload["layer"], key=chunk.payload["key"],
            defaults={"result": result, "message": message},
        )  # fmt: skip
        tell("slip", {"shot": str(job.shot_id)})

    def finish(self, job: Job) -> None:
        """Each result is stored by its own chunk."""

    def ended_early(self, job: Job) -> None:
        """What was checked stays."""


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
        part = folder / f"{chunk.position:05d}.{chunk.claim or 'run'}.mp4"
        _, scale = delivery_size(document)
        start, stop = chunk.payload["start"], chunk.payload["stop"]
        deliver(document, ShotSources(document, pool()), part, start=start, stop=stop, scale=scale, work=work)
        part.rename(self._segment(folder, chunk.position))

    def finish(self, job: Job) -> None:
        """Join the pieces and put the video on the list. Done again after a crash, it goes on from what is there."""
        from deliveries.models import Delivery

        document = read_shot(job.payload["document"], stored=True)
        assert document.footage is not None
        folder = store.delivery_folder(str(job.id))
        segments = [self._segment(folder, k) for k in range(job.pieces.count())]
        out = folder / "finished.mp4"
        if not out.exists():
            self._join(document, segments, out)
        (width, height), _ = delivery_size(document)
        made, _ = Delivery.objects.update_or_create(
            job=job,
            defaults={
                "shot_id": job.shot_id, "name": document.name, "folder": str(job.id), "bytes": out.stat().st_size,
                "width": width, "height": height, "frames": document.footage.out_frame - document.footage.in_frame + 1,
                "rate": document.footage.rate,
            },
        )  # fmt: skip
        for segment in segments:
            segment.unlink(missing_ok=True)
        job.result = {"delivery": str(made.id)}

    def _join(self, document: Document, segments: list[Path], out: Path) -> None:
        footage = document.footage
        assert footage is not None
        wav = store.derived_folder(footage.asset) / "sound.wav"
        rate = Fraction(footage.rate)
        sound = None
        if document.delivery.sound and wav.exists():
            sound = read_wav(wav).cut(footage.in_frame, footage.out_frame + 1, rate)
        joined = out.with_name(f"joining-{uuid.uuid4().hex[:8]}.mp4")
        try:
            join_segments(segments, joined, rate, sound)
            store.settle(joined, out)
        finally:
            joined.unlink(missing_ok=True)

    def _segment(self, folder: Path, position: int) -> Path:
        return folder / f"{position:05d}.mp4"

    def ended_early(self, job: Job) -> None:
        """Finished chunks stay, so that trying again goes on from them."""


class MendAhead:
    """The mended footage of a range worked out ahead, to play and deliver at once. Stopping keeps what there is."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        document = read_shot(job.payload["document"], stored=True)
        assert document.footage is not None
        store.forget_old_mended(mends_hash(document))
        start, stop = document.footage.in_frame, document.footage.out_frame + 1
        cuts = [*range(start, stop, MENDED_PER_CHUNK), stop]
        return [{"start": a, "stop": b} for a, b in zip(cuts[:-1], cuts[1:], strict=True)], stop - start

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        document = read_shot(job.payload["document"], stored=True)
        assert document.footage is not None
        asset, key = document.footage.asset, mends_hash(document)
        sources, told = ShotSources(document, pool()), Filled()
        start, stop = chunk.payload["start"], chunk.payload["stop"]
        for k, frame in enumerate(range(start, stop)):
            work.check_cancelled()
            if store.mended_frame(key, frame) is None:
                store.check_room(0)
                store.keep_mended(key, frame, sources.mend_now(asset, frame, told))
            work.progress(k + 1, stop - start)
        if told.filled:
            share = json.dumps({"filled": told.filled, "unseen": told.unseen}).encode()
            store.keep_bytes(share, store.mended_folder(key) / f"told-{start:06d}.json")

    def finish(self, job: Job) -> None:
        """Every frame lies where it is read from."""

    def ended_early(self, job: Job) -> None:
        """What was mended stays."""


class LayerAhead:
    """What is slow about a layer worked out over the range: a cut-out carried, models filmed. What is done is kept."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        document = read_shot(job.payload["document"], stored=True)
        return [{}], len(ahead_frames(document, document.layer(job.payload["layer"])))

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        document = read_shot(job.payload["document"], stored=True)
        layer, sources = document.layer(job.payload["layer"]), ShotSources(document, pool())
        frames = ahead_frames(document, layer)
        store.check_room(0)
        for k, frame in enumerate(frames):
            work.check_cancelled()
            work_ahead(layer, sources, frame, job.payload["scale"])
            work.progress(k + 1, len(frames))

    def finish(self, job: Job) -> None:
        """Everything lies where it is read from."""

    def ended_early(self, job: Job) -> None:
        """What was worked out stays."""


class LineUp:
    """A layer's clip started where it shows the same moment as the footage."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        return [{}], 100

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        from shots.lineup import line_up

        def progress(done: int, total: int) -> None:
            resize(job, total)
            work.progress(done, total)

        assert job.shot_id is not None
        inner = Work(on_progress=progress, is_cancelled=lambda: stop_asked(work))
        job.result = line_up(job.shot_id, job.payload["layer"], job.payload["by"], inner, chunk.is_held)
        job.save(update_fields=["result"])

    def finish(self, job: Job) -> None:
        """The change is made as the last step of the run."""

    def ended_early(self, job: Job) -> None:
        """Nothing was changed."""


HANDLERS: dict[str, Handler] = {
    Job.Kind.CONFORM: Conform(),
    Job.Kind.MEASURE: Measure(),
    Job.Kind.DELIVER: Deliver(),
    Job.Kind.CHECK: Check(),
    Job.Kind.MEND: MendAhead(),
    Job.Kind.AHEAD: LayerAhead(),
    Job.Kind.LINEUP: LineUp(),
}
