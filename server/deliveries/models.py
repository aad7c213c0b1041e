"""Finished videos."""

from __future__ import annotations

import uuid
from pathlib import Path

from django.db import models

from jobs.models import Job
from plonket_server import store
from shots.models import Shot


class Delivery(models.Model):
    """A rendered video, kept until it is removed, whatever becomes of its shot."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    job = models.OneToOneField(Job, null=True, on_delete=models.SET_NULL)
    folder = models.CharField(max_length=64, unique=True, help_text="Its folder's name in the store")
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

    @property
    def path(self) -> Path:
        """The finished file."""
        return store.delivery_folder(self.folder) / f"finished{self.ending}"
