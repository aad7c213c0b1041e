"""Jobs, their chunks, and events for the browser. MariaDB is the truth; Redis only passes messages."""

from __future__ import annotations

import time
import uuid

from django.db import models, transaction


class Job(models.Model):
    """Long work that a creator started."""

    class Kind(models.TextChoices):
        CONFORM = "conform"
        MEASURE = "measure"
        DELIVER = "deliver"
        CHECK = "check"
        MEND = "mend"
        AHEAD = "ahead"
        LINEUP = "lineup"
        FOLLOW = "follow"
        PACK = "pack"
        UNPACK = "unpack"

    class State(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        STOPPING = "stopping"
        DONE = "done"
        FAILED = "failed"
        STOPPED = "stopped"

    OPEN = ("queued", "running", "stopping")

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    kind = models.CharField(max_length=12, choices=Kind.choices)
    label = models.CharField(max_length=200)
    shot = models.ForeignKey("shots.Shot", null=True, on_delete=models.CASCADE)
    asset = models.ForeignKey("library.Asset", null=True, on_delete=models.CASCADE)
    payload = models.JSONField(default=dict)
    result = models.JSONField(default=dict)
    state = models.CharField(max_length=10, choices=State.choices, default=State.QUEUED, db_index=True)
    done = models.IntegerField(default=0)
    total = models.IntegerField(default=0)
    message = models.TextField(blank=True, default="")
    rank = models.FloatField(default=time.time, db_index=True)
    """Of those of its kind the lowest comes first: when it was begun, unless a creator put it elsewhere."""
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    finished = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-created"]

    @property
    def pieces(self) -> models.QuerySet[Chunk]:
        """Its chunks without the last one, which only finishes it."""
        return self.chunks.filter(final=False)


class Chunk(models.Model):
    """A piece of a job that one worker does in one go and that can be done again from its start.

    The `final` one finishes the job once all others are done: joins, makes known, cleans up.
    """

    class State(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="chunks")
    position = models.IntegerField()
    payload = models.JSONField(default=dict)
    final = models.BooleanField(default=False)
    state = models.CharField(max_length=8, choices=State.choices, default=State.WAITING)
    claim = models.CharField(max_length=36, blank=True, default="")
    done = models.IntegerField(default=0)
    tries = models.IntegerField(default=0)
    heartbeat = models.DateTimeField(null=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["job", "position"], name="one_chunk_per_position")]

    def is_held(self) -> bool:
        """Whether whoever works on it still has the claim it started with: another worker may have taken over.

        Inside a transaction the row stays locked, so that nobody takes over before its end.
        """
        held = Chunk.objects.filter(pk=self.pk, claim=self.claim, state=Chunk.State.RUNNING)
        return (held.select_for_update() if transaction.get_connection().in_atomic_block else held).exists()


class Event(models.Model):
    """Something the browser should hear about."""

    kind = models.CharField(max_length=20)
    data = models.JSONField()
    created = models.DateTimeField(auto_now_add=True, db_index=True)
