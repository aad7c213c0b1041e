"""Finished videos."""

from __future__ import annotations

import uuid

from django.db import models

from jobs.models import Job
from shots.models import Shot


class Delivery(models.Model):
    """A rendered video, kept until it is removed."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    job = models.OneToOneField(Job, on_delete=models.CASCADE)
    shot = models.ForeignKey(Shot, null=True, on_delete=models.SET_NULL)
    name = models.CharField(max_length=120)
    bytes = models.BigIntegerField()
    width = models.IntegerField()
    height = models.IntegerField()
    frames = models.IntegerField()
    rate = models.CharField(max_length=24)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-created"]
