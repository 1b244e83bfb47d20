"""Celery wakes workers; the runs' rows in MariaDB are the truth."""

from __future__ import annotations

import os

from celery import Celery

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "studio.settings")
app = Celery("studio")
app.config_from_object("django.conf:settings", namespace="CELERY")
app.autodiscover_tasks()
