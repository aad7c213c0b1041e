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
    version = models.IntegerField(default=0, help_text="How often it was changed, undoing included: of two answers the later")
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


class Exchange(models.Model):
    """A clean frame that lies in the exchange folder, to be painted in another program.

    `seen` is the state of the file (time and size) that was last written or taken back; `waiting` one that was met once
    and may still be being written.
    """

    shot = models.ForeignKey(Shot, on_delete=models.CASCADE)
    treatment = models.CharField(max_length=64)
    frame = models.IntegerField()
    file = models.CharField(max_length=200)
    seen = models.CharField(max_length=60)
    waiting = models.CharField(max_length=60, blank=True, default="")
    problem = models.TextField(blank=True, default="")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shot", "treatment", "frame"], name="one_exchange_per_frame")]
