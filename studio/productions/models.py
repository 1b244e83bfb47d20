"""A production holds shots, a shot holds takes, a take holds a scene."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models


class Production(models.Model):
    """A job with many shots; its members see everything in it."""

    name = models.CharField(max_length=120, unique=True)
    members = models.ManyToManyField(User, related_name="productions")


class Shot(models.Model):
    """The unit of work."""

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="shots")
    name = models.CharField(max_length=120)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["production", "name"], name="one_shot_of_a_name")]


class Take(models.Model):
    """One set of settings with its caches."""

    shot = models.ForeignKey(Shot, on_delete=models.CASCADE, related_name="takes")
    name = models.CharField(max_length=120)
    scene = models.JSONField()
    revision = models.PositiveIntegerField(default=1)
    changed = models.DateTimeField(auto_now=True)
    removed = models.DateTimeField(null=True, blank=True)  # its folder stays

    @property
    def folder(self) -> Path:
        """Where the take's meshes and caches are."""
        return Path(settings.CACHE_ROOT) / f"take-{self.pk}"

    def cache_folder(self, quality: str) -> Path:
        """Caches of one quality."""
        return self.folder / quality
