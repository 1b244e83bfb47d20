"""What people did."""

from __future__ import annotations

from django.db import models


class Deed(models.Model):
    """A change that somebody asked for, and how it was answered."""

    at = models.DateTimeField(auto_now_add=True, db_index=True)
    person = models.CharField(max_length=150)
    address = models.CharField(max_length=45)
    method = models.CharField(max_length=8)
    what = models.CharField(max_length=200)
    status = models.PositiveSmallIntegerField()
