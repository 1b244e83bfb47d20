"""What holds for every request: text that is some, no more than a person needs, sessions that end, a log of deeds."""

from __future__ import annotations

import threading
import time as clock
from collections import OrderedDict
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from django.conf import settings
from django.contrib.auth import logout
from django.db import DatabaseError
from django.http import HttpRequest, HttpResponse

from studio.accounts.models import Deed
from studio.answers import NO_TEXT, problem

Answering = Callable[[HttpRequest], HttpResponse]
SEEN = "seen"  # in a session: when its person last asked for something, to some minutes
MINUTES = 5
HEALTH = "/api/health"  # answers without a database
LONGEST = 2000  # characters of an address with all that it asks


def address_of(request: HttpRequest) -> str:
    """Where a request comes from; behind a proxy of ours, what that says last."""
    if settings.BEHIND_PROXY and "HTTP_X_FORWARDED_FOR" in request.META:
        return str(request.META["HTTP_X_FORWARDED_FOR"]).rpartition(",")[2].strip()[:45]
    return str(request.META.get("REMOTE_ADDR", ""))[:45]


def plain_addresses(answer: Answering) -> Answering:
    """Refuse addresses that are endless or hold what is no text; what the API refuses is a sentence."""

    def answered(request: HttpRequest) -> HttpResponse:
        asked = request.get_full_path()
        words = [request.path, *(word for pair in request.GET.lists() for word in (pair[0], *pair[1]))]
        if len(asked) > LONGEST or any(NO_TEXT.search(word) for word in words):
            return problem(400, "This address holds characters that cannot be, or is too long.")
        reply = answer(request)
        plain = reply.status_code < 400 or reply.get("Content-Type", "").startswith("application/json")
        if plain or not request.path.startswith("/api/"):
            return reply
        return problem(reply.status_code, f"This cannot be asked for ({reply.reason_phrase.lower()}).")

    return answered


class Allowance:
    """Requests that somebody may make: so many at once, so many a second after that."""

    def __init__(self, burst: int, rate: float) -> None:
        self._burst, self._rate = burst, rate
        self._left: OrderedDict[Any, tuple[float, float]] = OrderedDict()
        self._lock = threading.Lock()

    def takes(self, who: Any) -> bool:
        """Whether one more is allowed now."""
        now = clock.monotonic()
        with self._lock:
            left, since = self._left.pop(who, (float(self._burst), now))
            left = min(left + (now - since) * self._rate, float(self._burst))
            self._left[who] = (left - 1 if left >= 1 else left, now)
            while len(self._left) > 10_000:
                self._left.popitem(last=False)
            return left >= 1


def bounded(answer: Answering) -> Answering:
    """Refuse more than a person needs, and much less for nobody."""
    people = Allowance(*settings.REQUESTS_OF_A_PERSON)
    others = Allowance(*settings.REQUESTS_OF_NOBODY)

    def answered(request: HttpRequest) -> HttpResponse:
        if not request.path.startswith("/api/") or request.path == HEALTH:
            return answer(request)
        person = request.user.pk if request.user.is_authenticated else None
        well = people.takes(person) if person else others.takes(address_of(request))
        if not well:
            return problem(429, "Too many requests at once; wait a moment.", **{"Retry-After": "1"})
        return answer(request)

    return answered


def late_refusals(answer: Answering) -> Answering:
    """Let a refusal leave the session's cookie alone: it may come after its person has signed in anew, and would take
    away the new one."""

    def answered(request: HttpRequest) -> HttpResponse:
        reply = answer(request)
        if reply.status_code == 401:
            reply.cookies.pop(settings.SESSION_COOKIE_NAME, None)
        return reply

    return answered


def idle_sessions(answer: Answering) -> Answering:
    """End sessions whose person has not asked for anything for long."""

    def answered(request: HttpRequest) -> HttpResponse:
        if request.path != HEALTH and request.user.is_authenticated:
            now, seen = int(clock.time()), int(request.session.get(SEEN, 0))
            if seen and now - seen > settings.IDLE_SECONDS:
                logout(request)
            elif now - seen > 60 * MINUTES:
                request.session[SEEN] = now
        return answer(request)

    return answered


def deeds(answer: Answering) -> Answering:
    """Write down who changed what, and what was refused."""

    def answered(request: HttpRequest) -> HttpResponse:
        if request.method in ("GET", "HEAD", "OPTIONS"):
            return answer(request)
        before = request.user.get_username() if request.user.is_authenticated else ""
        reply = answer(request)
        if request.path.startswith("/api/"):
            person = before or (request.user.get_username() if request.user.is_authenticated else "")
            with suppress(DatabaseError):
                Deed.objects.create(
                    person=person,
                    address=address_of(request),
                    method=request.method or "",
                    what=request.path[:200],
                    status=reply.status_code,
                )
        return reply

    return answered
