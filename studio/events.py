"""One stream of Server-Sent Events a page; Redis carries what happened."""

from __future__ import annotations

import json
import time as clock
from collections.abc import AsyncIterator
from typing import Any
from urllib.parse import urlparse

import redis
import redis.asyncio
from django.conf import settings
from django.contrib.auth import SESSION_KEY
from django.contrib.sessions.backends.db import SessionStore
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse

from studio.answers import problem

LOOKED_AT = 5.0  # seconds after which a stream looks whether its session is still there


def channel() -> str:
    """Of this part of the broker alone: what is published is heard in all of its parts."""
    return f"zinc:events:{urlparse(settings.REDIS_URL).path.strip('/')}"


def publish(event: dict[str, Any]) -> None:
    """Tell every open page; a lost event is no loss, since pages ask again."""
    try:
        with redis.Redis.from_url(settings.REDIS_URL, socket_timeout=2) as connection:
            connection.publish(channel(), json.dumps(event))
    except redis.RedisError:
        return


async def stream(request: HttpRequest) -> HttpResponse | StreamingHttpResponse:
    """Events as they happen, for signed-in people, of takes in their productions."""
    user = await request.auser()
    if not user.is_authenticated:
        return problem(401, "Sign in first.")
    from studio.productions.models import Take

    key = request.session.session_key

    async def is_signed_in() -> bool:
        """The same session is still there, of the same person."""
        held = SessionStore(key)
        return str(await held.aget(SESSION_KEY)) == str(user.pk)

    async def lines() -> AsyncIterator[bytes]:
        connection = redis.asyncio.Redis.from_url(settings.REDIS_URL)
        feed = connection.pubsub()
        await feed.subscribe(channel())
        visible: dict[int, bool] = {}
        checked = clock.monotonic()
        try:
            yield b": open\n\n"
            while True:
                message = await feed.get_message(ignore_subscribe_messages=True, timeout=LOOKED_AT)
                if clock.monotonic() - checked >= LOOKED_AT:
                    checked = clock.monotonic()
                    visible.clear()
                    if not await is_signed_in():
                        return
                if message is None:
                    yield b": still here\n\n"
                    continue
                take = int(json.loads(message["data"]).get("take", 0))
                if take not in visible:
                    mine = Take.objects.filter(pk=take, shot__production__members=user.pk)
                    visible[take] = await mine.aexists()
                if visible[take]:
                    yield b"data: " + message["data"] + b"\n\n"
        finally:
            await feed.aclose()  # type: ignore[no-untyped-call]
            await connection.aclose()

    return StreamingHttpResponse(lines(), content_type="text/event-stream", headers={"Cache-Control": "no-cache"})
