"""Finished videos."""

from __future__ import annotations

import re
import uuid
from pathlib import Path

from django.db import models

from jobs.models import Job
from plonket_server import store
from shots.models import Shot


class Delivery(models.Model):
    """A finished file, kept until it is removed, whatever becomes of its shot."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    job = models.ForeignKey(Job, null=True, on_delete=models.SET_NULL)
    folder = models.CharField(max_length=64, help_text="Its folder's name in the store; all that came of one job share it")
    stem = models.CharField(max_length=40, default="finished", help_text="Of the finished file's name there")
    kind = models.CharField(max_length=24, default="h264", help_text="What kind of file it is")
    shot = models.ForeignKey(Shot, null=True, on_delete=models.SET_NULL)
    name = models.CharField(max_length=120)
    bytes = models.BigIntegerField()
    width = models.IntegerField()
    height = models.IntegerField()
    frames = models.IntegerField()
    rate = models.CharField(max_length=24)
    ending = models.CharField(max_length=8, default=".mp4", help_text="Of the finished file's name")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-created"]
        constraints = [models.UniqueConstraint(fields=["folder", "stem"], name="one_delivery_per_file")]

    @property
    def path(self) -> Path:
        """The finished file."""
        return store.delivery_folder(self.folder) / f"{self.stem}{self.ending}"

    @property
    def file(self) -> str:
        """What it is called where it is saved."""
        return (re.sub(r"[^\w. -]+", "", self.name).strip() or "shot") + self.ending


class SavedFiles(models.Model):
    """Settings of files that a creator keeps under a name, to deliver other shots alike."""

    name = models.CharField(max_length=80, unique=True)
    outputs = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]
