"""What Celery calls."""

from celery import shared_task

from studio.runs.services import work_once


@shared_task
def work() -> None:
    """Work on runs until none waits."""
    while work_once():
        pass
