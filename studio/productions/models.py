"""A production holds shots, a shot holds takes, a take holds a scene."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models


class Role(models.IntegerChoices):
    """What a person may do in a production; each may what the one before may."""

    VIEWER = 1, "viewer"
    EDITOR = 2, "editor"
    OWNER = 3, "owner"


class Sheet(models.Model):
    """What stands on the contact sheet: it has a name and an order, and is taken off before it is gone."""

    name = models.CharField(max_length=120)
    description = models.TextField(blank=True, default="", max_length=4000)
    position = models.PositiveIntegerField(default=0)
    archived = models.DateTimeField(null=True, blank=True)
    removed = models.DateTimeField(null=True, blank=True)

    class Meta:
        abstract = True
        ordering = ("position", "pk")


class Production(Sheet):
    """A job with many shots; its members see everything in it."""

    members = models.ManyToManyField(User, through="Membership", related_name="productions")


class Membership(models.Model):
    """Somebody's part in a production."""

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="memberships")
    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="memberships")
    role = models.PositiveSmallIntegerField(choices=Role.choices, default=Role.EDITOR)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["production", "user"], name="one_part_a_person")]


class Shot(Sheet):
    """The unit of work; `unit` and `up` are those of the geometry that is brought in."""

    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="shots")
    unit = models.CharField(max_length=4, default="m")
    up = models.CharField(max_length=1, default="y")


class Take(Sheet):
    """One set of settings with its caches."""

    shot = models.ForeignKey(Shot, on_delete=models.CASCADE, related_name="takes")
    scene = models.JSONField()
    revision = models.PositiveIntegerField(default=1)
    step = models.PositiveIntegerField(default=0)  # which of its states the scene is
    changed = models.DateTimeField(auto_now=True)

    @property
    def folder(self) -> Path:
        """Where the take's meshes and caches are."""
        return Path(settings.CACHE_ROOT) / f"take-{self.pk}"

    def cache_folder(self, quality: str) -> Path:
        """Caches of one quality."""
        return self.folder / quality


class State(models.Model):
    """What a take's scene was or, where it was undone, would be again."""

    take = models.ForeignKey(Take, on_delete=models.CASCADE, related_name="states")
    step = models.PositiveIntegerField()
    scene = models.JSONField()
    by = models.ForeignKey(User, on_delete=models.SET_NULL, null=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["take", "step"], name="one_state_a_step")]
