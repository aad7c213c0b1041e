"""Projects, assets and uploads."""

from __future__ import annotations

import uuid

from django.db import models


class Project(models.Model):
    """A folder of shots."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=120)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-created"]


class Asset(models.Model):
    """A clip, still, colour table, 3D model, light map or sound in the store, by the hash of its original bytes."""

    class Kind(models.TextChoices):
        CLIP = "clip"
        STILL = "still"
        TABLE = "table"
        MODEL = "model"
        LIGHT = "light"
        SOUND = "sound"

    class State(models.TextChoices):
        CONFORMING = "conforming"
        READY = "ready"
        FAILED = "failed"

    digest = models.CharField(primary_key=True, max_length=64)
    kind = models.CharField(max_length=8, choices=Kind.choices)
    name = models.CharField(max_length=120)
    ending = models.CharField(max_length=8)
    bytes = models.BigIntegerField()
    info = models.JSONField(default=dict)
    state = models.CharField(max_length=12, choices=State.choices)
    problem = models.TextField(blank=True, default="")
    on_shelf = models.BooleanField(default=False)
    words = models.CharField(max_length=200, blank=True, default="")
    settings = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]


class Upload(models.Model):
    """A file on its way in; survives dropped connections and restarts (tus 1.0)."""

    class State(models.TextChoices):
        ARRIVING = "arriving"
        COMPLETE = "complete"
        DONE = "done"
        FAILED = "failed"

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=255)
    length = models.BigIntegerField()
    offset = models.BigIntegerField(default=0)
    shot = models.UUIDField(null=True)
    project = models.UUIDField(null=True, help_text="Where the shots of a pack are to go; none: to one of their own")
    asset = models.ForeignKey(Asset, null=True, on_delete=models.SET_NULL)
    job = models.UUIDField(null=True, help_text="What goes on with it, where that is not an asset")
    state = models.CharField(max_length=10, choices=State.choices, default=State.ARRIVING)
    problem = models.JSONField(default=dict, help_text="Code and message of why it could not be taken in")
    created = models.DateTimeField(auto_now_add=True)
