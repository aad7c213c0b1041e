"""What the demo's shots share."""

from __future__ import annotations

import uuid

from library.models import Asset
from library.pool import pool
from plonket.document.kinds import MOTIONS
from plonket.document.shot import Footage
from plonket.document.shot import Shot as Document
from plonket.media import open_clip
from plonket.render.sources import ShotSources
from plonket.track.request import MeasureRequest
from plonket_server import store
from shots.editing import change_shot

_measured: dict[tuple[str, str], bytes] = {}
"""What was measured before in this process, by clip and motion: loading the demo once more measures nothing again."""


def footage_of(asset: Asset) -> Footage:
    """The whole clip as a shot's footage."""
    info = asset.info
    return Footage(asset=asset.digest, name=asset.name, width=info["width"], height=info["height"], rate=info["fps"],
                   frames=info["frames"], in_frame=0, out_frame=info["frames"] - 1)  # fmt: skip


def measure(shot_id: uuid.UUID, clip: Asset) -> None:
    """Measure every motion of a shot that is not measured yet, here and now, in its range."""
    reader = open_clip(store.derived_folder(clip.digest) / "clip.mp4")

    def change(document: Document) -> Document:
        measured, footage = [], document.footage
        assert footage is not None
        for motion in document.motions:
            if motion.measurement is not None:
                measured.append(motion)
                continue
            asked = MeasureRequest(
                clip=reader, start=footage.in_frame, stop=footage.out_frame + 1, context=ShotSources(document, pool())
            )
            known = (clip.digest, motion.model_dump_json())
            if known not in _measured:
                _measured[known] = MOTIONS.of(motion).run(motion, asked).to_bytes()
            digest = store.keep_measurement(_measured[known])
            measured.append(motion.model_copy(update={"measurement": digest}))
        return document.model_copy(update={"motions": measured})

    change_shot(shot_id, "Measure", change)
    reader.close()
