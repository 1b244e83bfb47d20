"""``manage.py measure``: a few seconds of runs, where forecasts know nothing of this machine."""

from typing import Any

from django.core.management.base import BaseCommand

from basin.stages.measuring import measure
from studio.productions.reports import pace


class Command(BaseCommand):
    help = "Measure how fast this machine is, if nothing has been made on it."

    def handle(self, *_args: Any, **_options: Any) -> None:
        """Measure what is not known."""
        for name in measure(pace()):
            self.stdout.write(f"measured: {name}")
