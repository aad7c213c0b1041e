"""Shots: documents, their edits and what is worked out for them."""

from typing import Any

from django.apps import AppConfig


class ShotsConfig(AppConfig):
    name = "shots"

    def ready(self) -> None:
        from jobs.keeper import keep
        from jobs.models import Job
        from jobs.working import HANDLERS
        from library.ready import clip_ready
        from shots.exchange import look_outside
        from shots.measuring import Measure
        from shots.work import Check, FollowMask, LayerAhead, LineUp, MendAhead

        HANDLERS |= {
            Job.Kind.MEASURE: Measure(), Job.Kind.CHECK: Check(), Job.Kind.MEND: MendAhead(), Job.Kind.AHEAD: LayerAhead(),
            Job.Kind.LINEUP: LineUp(), Job.Kind.FOLLOW: FollowMask(),
        }  # fmt: skip
        clip_ready.connect(_given)
        # How often frames that lie outside are looked at.
        keep(0.8, look_outside)


def _given(sender: Any, asset: Any, shot: Any, **more: Any) -> None:
    """A clip that is ready becomes the footage of the shot that waited for it."""
    import uuid

    from shots.editing import give_footage

    give_footage(uuid.UUID(str(shot)), asset)
