"""Motions measured in the background."""

from __future__ import annotations

import time
from datetime import timedelta
from typing import Any

from django.utils import timezone

from jobs.models import Chunk, Event, Job
from jobs.tell import tell
from jobs.working import resize, stop_asked
from library.pool import pool, read_measurement
from plonket.base.errors import BadInput, Cancelled
from plonket.base.progress import Work
from plonket.base.states import LOST, TRACKED
from plonket.depth.of_motion import DepthPartial
from plonket.document.kinds import MOTIONS
from plonket.document.retime import as_filmed
from plonket.document.shot import Shot as Document
from plonket.matting.measure import MattePartial
from plonket.media import open_clip
from plonket.render.sources import ShotSources
from plonket.track.form.measure import FormPartial
from plonket.track.form.settings import Pose
from plonket.track.movement import Measured
from plonket.track.plane.measure import PlanePartial
from plonket.track.points.measure import Partial
from plonket.track.points.tracks import PointTracks
from plonket.track.request import MeasureRequest
from plonket_server import store
from shots.editing import change_shot, document_of, find_shot
from shots.models import Measurement

PARTIAL_S = 0.12


class Measure:
    """A motion measured; the result becomes a revision of the shot. Stopping keeps what there is."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        assert job.shot is not None
        footage = as_filmed(document_of(job.shot)).footage
        assert footage is not None
        return [{}], footage.out_frame - footage.in_frame + 1

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        assert job.shot is not None
        job.shot.refresh_from_db()
        document = as_filmed(document_of(job.shot))
        motion, footage = document.motion(job.payload["motion"]), document.footage
        if footage is None:
            raise BadInput("shot.no_footage", "The shot's footage was taken away.")
        previous = read_measurement(motion.untouched) if motion.untouched else None
        teller = _PartialTeller(job)
        clip = open_clip(store.derived_folder(footage.asset) / "clip.mp4")

        def progress(done: int, total: int) -> None:
            resize(job, total)
            work.progress(done, total)

        inner = Work(
            on_progress=progress,
            is_cancelled=lambda: stop_asked(work),
            on_partial=teller.hear,
        )
        sources = ShotSources(document, pool())
        stopped = False
        tracks: Measured | None = None
        try:
            tracks = MOTIONS.of(motion).run(motion, MeasureRequest(
                clip=clip, direction=job.payload["direction"], start=footage.in_frame, stop=footage.out_frame + 1,
                origin=job.payload["origin"], previous=previous, context=sources, work=inner,
            ))  # fmt: skip
        except Cancelled:
            stopped = True
            tracks = teller.tracks
        finally:
            clip.close()
        teller.flush()
        if tracks is not None:
            self._keep(job, chunk, motion.name, tracks)
        if stopped:
            raise Cancelled()

    def _keep(self, job: Job, chunk: Chunk, name: str, tracks: Measured) -> None:
        assert job.shot_id is not None
        motion_id = job.payload["motion"]
        digest = store.keep_measurement(tracks.to_bytes())
        kind = tracks.KIND
        summary = {"lost": int((tracks.state == LOST).sum())}
        Measurement.objects.get_or_create(digest=digest, defaults={"kind": kind, "summary": summary})

        def attach(document: Document) -> Document | None:
            # A worker that was frozen may wake up when another has measured all this again.
            if not chunk.is_held():
                raise Cancelled
            motions = [
                m.model_copy(update=m.measured_as(digest)) if m.id == motion_id else m for m in document.motions
            ]
            return None if motions == document.motions else document.model_copy(update={"motions": motions})

        change_shot(job.shot_id, f"Measure {name}", attach)
        job.result = {"measurement": digest}
        job.save(update_fields=["result"])

    def finish(self, job: Job, work: Work) -> None:
        """The result is attached as the last step of the run; now see whether what follows it holds."""
        from shots.checks import start_check

        if job.shot_id is not None:
            start_check(job.shot_id, document_of(find_shot(job.shot_id)))

    def ended_early(self, job: Job) -> None:
        """What was measured is kept by the run itself."""


class _PartialTeller:
    """Sends partial tracks to the browser a few times a second, many frames in one event."""

    def __init__(self, job: Job) -> None:
        self.job, self.sent = job, time.monotonic()
        self.rows: list[list[float]] = []
        self.tracks: Measured | None = None
        self.kind = ""
        Event.objects.filter(kind="partial", created__lt=timezone.now() - timedelta(hours=1)).delete()

    def hear(self, partial: Partial | PlanePartial | FormPartial | MattePartial | DepthPartial) -> None:
        """A camera has no partial results: it is solved from all frames at once."""
        if isinstance(partial, FormPartial):
            self.tracks = partial.track or self.tracks
            self._hear_form(partial)
        elif isinstance(partial, MattePartial | DepthPartial):
            self.tracks = track = partial.track
            f = partial.frame
            self.rows.append([f, round(float(track.confidence[f]), 3), int(track.state[f]), int(track.reason[f])])
        elif isinstance(partial, PlanePartial):
            self.tracks = partial.track
            t, f = partial.track, partial.frame
            self.rows.append([f, round(float(t.confidence[f]), 3), int(t.state[f]), int(t.reason[f]), int(t.freedom[f]),
                              *(float(v) for v in t.homography[f].ravel())])  # fmt: skip
        else:
            self.tracks = partial.tracks
            self._hear_points(partial)
        if time.monotonic() - self.sent > PARTIAL_S:
            self.flush()

    def _hear_points(self, partial: Partial) -> None:
        t, f = partial.tracks, partial.frame
        for k in range(len(t.ids)):
            x, y = t.xy[k, f]
            self.rows.append([k, f, round(float(x), 2), round(float(y), 2), round(float(t.confidence[k, f]), 3),
                              int(t.state[k, f]), int(t.reason[k, f])])  # fmt: skip

    def _hear_form(self, partial: FormPartial) -> None:
        """Where it stands before the camera: place and turn, as a stake's pose has them; noughts while it is lost."""
        self.kind = "form"
        pose = partial.stood.pose() if partial.stood else Pose()
        state = TRACKED if partial.stood else LOST
        self.rows.append([partial.frame, round(partial.sure, 3), state, partial.reason, *pose.place, *pose.turn])

    def flush(self) -> None:
        if self.rows:
            ids = list(self.tracks.ids) if isinstance(self.tracks, PointTracks) else []
            kind = self.kind or (self.tracks.KIND if self.tracks is not None else "")
            tell("partial", {"job": str(self.job.id), "shot": str(self.job.shot_id), "motion": self.job.payload["motion"],
                             "kind": kind, "ids": ids, "rows": self.rows})  # fmt: skip
        self.rows, self.sent = [], time.monotonic()
