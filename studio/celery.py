"""Celery wakes workers; the runs' rows in MariaDB are the truth."""

from __future__ import annotations

import fcntl
import os
from typing import Any

from celery import Celery
from celery.signals import worker_init

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "studio.settings")
app = Celery("studio")
app.config_from_object("django.conf:settings", namespace="CELERY")
app.autodiscover_tasks()
_held: list[Any] = []


@worker_init.connect
def hold_lock(**_more: Any) -> None:
    """Show that a worker lives (`studio.health`)."""
    from studio.health import worker_lock

    _held.append(worker_lock().open("w"))
    fcntl.flock(_held[0], fcntl.LOCK_EX | fcntl.LOCK_NB)


@worker_init.connect
def let_go(**_more: Any) -> None:
    """What was removed more than a week ago goes when a worker starts, and with whatever is removed next."""
    from studio.productions.keeping import sweep

    sweep()
