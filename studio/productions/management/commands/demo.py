"""``manage.py demo``: the Tide Mill production, its person, and draft runs of what is new."""

from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.core.management.base import BaseCommand

from studio.accounts import DEMO
from studio.productions.services import load_demo
from studio.runs.services import ask_for_run


class Command(BaseCommand):
    help = "Put the demo production in place."

    def handle(self, *_args: Any, **_options: Any) -> None:
        """Make what is missing; nothing that exists is changed."""
        person, made = User.objects.get_or_create(username=DEMO)
        if made:
            person.set_password("tide-mill")
        person.is_active = settings.LOOPBACK and not settings.BEHIND_PROXY
        person.save()
        for take in load_demo(settings.ROOT / "demo" / "scenes", "Tide Mill", [person]):
            ask_for_run(person, take, "draft", [])
