"""What is worked out for shots in the background: slip, mends, what is slow about layers, lining up."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

import numpy as np

from jobs.models import Chunk, Job
from jobs.tell import tell
from jobs.working import resize, stop_asked
from library.pool import pool
from plonket.base.errors import Cancelled, PlonketError
from plonket.base.progress import Work
from plonket.checks.slip import measure_slip
from plonket.document.hashes import mends_hash
from plonket.document.retime import as_filmed
from plonket.document.shot import Shot as Document
from plonket.document.shot import read_shot
from plonket.media import open_clip
from plonket.plate.repair.filled import Filled
from plonket.render.precompute import ahead_frames, work_ahead
from plonket.render.sources import ShotSources
from plonket_server import store
from shots.checks import slip_result
from shots.following import follow_mask
from shots.lineup import line_up
from shots.models import SlipCheck

MENDED_PER_CHUNK = 12


def _filmed(job: Job) -> Document:
    """The job's shot in its clip's own time, to which what is measured and mended belongs."""
    return as_filmed(read_shot(job.payload["document"], stored=True))


class Check:
    """The slip of followers, one chunk each; what cannot be judged is stored with the reason."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        document = _filmed(job)
        assert document.footage is not None
        length = document.footage.out_frame - document.footage.in_frame
        return [dict(check) for check in job.payload["checks"]], length * len(job.payload["checks"])

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        document = _filmed(job)
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

    def finish(self, job: Job, work: Work) -> None:
        """Each result is stored by its own chunk."""

    def ended_early(self, job: Job) -> None:
        """What was checked stays."""


class MendAhead:
    """The mended footage of a range worked out ahead, to play and deliver at once. Stopping keeps what there is."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        document = _filmed(job)
        assert document.footage is not None
        store.forget_old_mended(mends_hash(document))
        start, stop = document.footage.in_frame, document.footage.out_frame + 1
        cuts = [*range(start, stop, MENDED_PER_CHUNK), stop]
        return [{"start": a, "stop": b} for a, b in zip(cuts[:-1], cuts[1:], strict=True)], stop - start

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        document = _filmed(job)
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
            share = json.dumps(asdict(told)).encode()
            store.keep_bytes(share, store.mended_folder(key) / f"told-{start:06d}.json")

    def finish(self, job: Job, work: Work) -> None:
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

    def finish(self, job: Job, work: Work) -> None:
        """Everything lies where it is read from."""

    def ended_early(self, job: Job) -> None:
        """What was worked out stays."""


class OneChange:
    """Work whose last step is a change of the shot; stopped before that, it has changed nothing."""

    def change(self, job: Job, work: Work, is_held: Callable[[], bool]) -> dict[str, Any]:
        """Do it, and change the shot if the work is still ours then; what is told of it."""
        raise NotImplementedError

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        return [{}], 100

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        def progress(done: int, total: int) -> None:
            resize(job, total)
            work.progress(done, total)

        job.result = self.change(job, Work(on_progress=progress, is_cancelled=lambda: stop_asked(work)), chunk.is_held)
        job.save(update_fields=["result"])

    def finish(self, job: Job, work: Work) -> None:
        """The change is made as the last step of the run."""

    def ended_early(self, job: Job) -> None:
        """Nothing was changed."""


class LineUp(OneChange):
    """A layer's clip started where it shows the same moment as the footage."""

    def change(self, job: Job, work: Work, is_held: Callable[[], bool]) -> dict[str, Any]:
        assert job.shot_id is not None
        return line_up(job.shot_id, job.payload["layer"], job.payload["by"], work, is_held)


class FollowMask(OneChange):
    """A mask's outline bent with what it lies on, as keys between the drawn ones."""

    def change(self, job: Job, work: Work, is_held: Callable[[], bool]) -> dict[str, Any]:
        assert job.shot_id is not None
        return follow_mask(job.shot_id, job.payload, work, is_held)
