"""``manage.py person NAME``: an account, or another password for one. ``--needed`` fails where there is none."""

from __future__ import annotations

import getpass
import sys
from argparse import ArgumentParser
from typing import Any

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError

from studio.accounts import DEMO
from studio.productions.models import Membership, Production, Role


class Command(BaseCommand):
    help = "Make an account, or give it another password; the password is asked for, or read from a pipe."

    def add_arguments(self, parser: ArgumentParser) -> None:
        """Options of the command."""
        parser.add_argument("name", nargs="?")
        parser.add_argument("--needed", action="store_true", help="fail if there is no account but the demo's")

    def handle(self, *_args: Any, name: str | None = None, needed: bool = False, **_options: Any) -> None:
        """Ask, check, keep; an account that is new gets what nobody who can sign in owns."""
        if needed:
            if not User.objects.filter(is_active=True).exclude(username=DEMO).exists():
                raise CommandError("there is no account")
            return
        if not name or name == DEMO or len(name) > 150 or not name.isprintable():
            raise CommandError(f"give a name, and another one than {DEMO}")
        user = User.objects.filter(username=name).first() or User(username=name)
        if sys.stdin.isatty():
            password = getpass.getpass(f"Password for {name}: ")
            if getpass.getpass("Once more: ") != password:
                raise CommandError("these were two different passwords")
        else:
            password = sys.stdin.readline().rstrip("\n")
        try:
            validate_password(password, user)
        except ValidationError as error:
            raise CommandError(" ".join(error.messages)) from None
        fresh = user.pk is None
        user.set_password(password)
        user.is_active = True
        user.save()
        if fresh:
            owned = Membership.objects.filter(role=Role.OWNER, user__is_active=True).values("production")
            for production in Production.objects.filter(removed=None).exclude(pk__in=owned):
                production.members.add(user, through_defaults={"role": Role.OWNER})
        self.stdout.write(f"{name} can sign in")
