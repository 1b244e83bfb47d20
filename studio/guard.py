"""What stands before Django: bodies are measured before they are read, and a client that goes away is noticed."""

from __future__ import annotations

import json
import re
import shutil
import threading
from collections.abc import Awaitable, Callable, MutableMapping
from http.cookies import CookieError, SimpleCookie
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.db import DatabaseError

from basin.apart import nobody_waits
from studio.answers import AWAY

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]

UPLOADS = re.compile(r"/api/takes/\d+/uploads/?")
SMALL = 16 * 2**10  # bytes that anybody may send
DOCUMENT = 16 * 2**20
FREE = 1_000_000_000  # bytes of the disk that uploads leave free


class Guard:
    """An ASGI application around Django's."""

    def __init__(self, application: Any) -> None:
        self._inside = application

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request, or let Django do it."""
        if scope["type"] != "http":
            return
        refusal = await _refusal(scope)
        if refusal:
            await _answer(send, *refusal)
            return
        gone = threading.Event()

        async def heard() -> MutableMapping[str, Any]:
            message = await receive()
            if message["type"] == "http.disconnect":
                gone.set()
            return message

        token = nobody_waits.set(gone.is_set)
        try:
            await self._inside(scope, heard, send)
        finally:
            nobody_waits.reset(token)


async def _refusal(scope: Scope) -> tuple[int, str] | None:
    """Status and sentence for a body that is not read."""
    headers = {name.decode("latin-1").lower(): value.decode("latin-1") for name, value in scope["headers"]}
    if "transfer-encoding" in headers:
        return 411, "Say how long the body is (Content-Length)."
    told = headers.get("content-length", "0")
    length = int(told) if told.isdigit() else 0
    if length <= SMALL:
        return None
    upload = UPLOADS.fullmatch(scope["path"])
    most = settings.LARGEST_UPLOAD if upload else DOCUMENT
    if length > most:
        return 413, f"This is {length / 1e6:,.0f} MB; at most {most / 1e6:,.0f} MB are taken at once."
    try:
        if not await sync_to_async(_signed_in)(headers.get("cookie", "")):
            return 401, "Sign in first."
    except DatabaseError:
        return 503, AWAY
    free = shutil.disk_usage(settings.DATA).free
    if upload and 3 * length + FREE > free:  # as it comes in, taken apart, and kept
        return 507, f"The disk has {free / 1e9:.1f} GB free; make room before files of {length / 1e9:.2f} GB are sent."
    return None


def _signed_in(cookie: str) -> bool:
    from django.contrib.auth import SESSION_KEY
    from django.contrib.sessions.backends.db import SessionStore

    try:
        found = SimpleCookie(cookie).get(settings.SESSION_COOKIE_NAME)
    except CookieError:
        return False
    return found is not None and SESSION_KEY in SessionStore(found.value)


async def _answer(send: Send, status: int, says: str) -> None:
    said = {"says": says, "where": "", "element": "", "leads_to": "", "remedy": None, "rule": "", "show": None}
    body = json.dumps({"problems": [said]}).encode()
    headers = [(b"content-type", b"application/json"), (b"content-length", str(len(body)).encode())]
    await send({"type": "http.response.start", "status": status, "headers": [*headers, (b"connection", b"close")]})
    await send({"type": "http.response.body", "body": body})
