"""Which parts of the application run."""

from __future__ import annotations

from pathlib import Path

import redis
from django.conf import settings
from django.db import DatabaseError, connection
from django.http import HttpRequest, JsonResponse

from basin.cache import is_held
from basin.stages import warm


def worker_lock() -> Path:
    """Held by the worker as long as it lives."""
    return settings.DATA / "worker.lock"


def _database() -> bool:
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
        return True
    except DatabaseError:
        connection.close()
        return False


def _broker() -> bool:
    try:
        with redis.Redis.from_url(settings.REDIS_URL, socket_timeout=2, socket_connect_timeout=2) as broker:
            return bool(broker.ping())
    except redis.RedisError:
        return False


def health(_request: HttpRequest) -> JsonResponse:
    """What runs; 503 if anything does not. The solver may still be on its way, which is well."""
    parts = {"page": True, "database": _database(), "broker": _broker(), "worker": is_held(worker_lock())}
    solver = "on its way" if warm.readiness().working else "ready"
    return JsonResponse({**parts, "solver": solver}, status=200 if all(parts.values()) else 503)
