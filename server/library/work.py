"""Clips prepared in the background."""

from __future__ import annotations

from typing import Any

from django.db import transaction

from jobs.models import Chunk, Job
from jobs.tell import tell
from library.models import Asset
from library.ready import clip_ready
from library.unpack import readable
from plonket.base.progress import Work
from plonket.media import probe
from plonket.media.conform import conform, conformed_bytes
from plonket_server import store


class Conform:
    """A clip made upright and constant; then given to the shots that wait for it."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        assert job.asset is not None
        job.payload["shots"] = [str(job.shot_id)] if job.shot_id else []
        return [{}], int(job.asset.info["frames"])

    def run(self, job: Job, chunk: Chunk, work: Work) -> None:
        assert job.asset is not None
        conform_asset(job.asset, work)

    def finish(self, job: Job, work: Work) -> None:
        with transaction.atomic():
            # Whoever brings the clip in for another shot meanwhile waits here, and finds it ready then.
            asset = Asset.objects.select_for_update().get(pk=job.asset_id)
            Asset.objects.filter(pk=asset.pk).update(state=Asset.State.READY, problem="")
            asset.refresh_from_db()
            shots = Job.objects.get(pk=job.pk).payload.get("shots", [])
            for shot in dict.fromkeys(shots):
                clip_ready.send(Asset, asset=asset, shot=shot)
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
