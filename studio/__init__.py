"""The Django project: who may see what, what was asked for, what became of it."""

from studio.celery import app as celery_app

__all__ = ["celery_app"]
