"""Shots, revisions and the metadata of measurements."""

from __future__ import annotations

import uuid

from django.db import models

from library.models import Project


class Shot(models.Model):
    """A shot; what it is stands in its current revision."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    project = models.ForeignKey(Project, on_delete=models.CASCADE)
    name = models.CharField(max_length=120)
    current = models.ForeignKey("Revision", null=True, on_delete=models.SET_NULL, related_name="+")
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["-changed"]


class Revision(models.Model):
    """One state of a shot. Undo goes to the parent, redo to the newest child; none is ever changed."""

    shot = models.ForeignKey(Shot, on_delete=models.CASCADE, related_name="revisions")
    number = models.IntegerField()
    parent = models.ForeignKey("self", null=True, on_delete=models.CASCADE, related_name="children")
    document = models.JSONField()
    picture = models.CharField(max_length=64, db_index=True)
    label = models.CharField(max_length=120)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shot", "number"], name="one_revision_per_number")]


class Measurement(models.Model):
    """What is known about a stored measurement, by the digest of its arrays."""

    digest = models.CharField(primary_key=True, max_length=64)
    kind = models.CharField(max_length=20)
    summary = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)


class SlipCheck(models.Model):
    """How a layer holds, for everything that it depended on when it was checked (`key`)."""

    shot = models.ForeignKey(Shot, on_delete=models.CASCADE)
    layer = models.CharField(max_length=64)
    key = models.CharField(max_length=64)
    result = models.JSONField(default=dict)
    message = models.TextField(blank=True, default="")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shot", "layer", "key"], name="one_slip_per_state")]
