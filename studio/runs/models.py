"""The run's row is the truth; whoever holds its lease works on it."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models

from studio.productions.models import Take


class Run(models.Model):
    """Making frames of a take's stages."""

    class Status(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        STOPPED = "stopped"
        FAILED = "failed"

    take = models.ForeignKey(Take, on_delete=models.CASCADE, related_name="runs")
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True)
    quality = models.CharField(max_length=10)
    stages = models.CharField(max_length=80)
    delivery = models.CharField(max_length=80, default="", blank=True)
    scene = models.JSONField(default=dict)  # as it was when the run was asked for
    first = models.IntegerField(null=True)
    last = models.IntegerField(null=True)
    status = models.CharField(max_length=10, choices=Status.choices, default=Status.WAITING, db_index=True)
    stop_requested = models.BooleanField(default=False)
    lease_owner = models.CharField(max_length=80, default="", blank=True)
    lease_until = models.DateTimeField(null=True)
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    finished = models.DateTimeField(null=True)
    stage = models.CharField(max_length=20, default="", blank=True)
    frame = models.IntegerField(null=True)
    done = models.IntegerField(default=0)
    total = models.IntegerField(default=0)
    frame_seconds = models.FloatField(default=0.0)
    message = models.TextField(default="", blank=True)
    attempts = models.IntegerField(default=0)

    def stage_names(self) -> tuple[str, ...]:
        """Stages in order."""
        return tuple(self.stages.split(","))
