"""One stream of Server-Sent Events a page; Redis carries what happened."""

from __future__ import annotations

import json
from collections.abc import AsyncIterator
from typing import Any

import redis
import redis.asyncio
from django.conf import settings
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse

CHANNEL = "zinc:events"


def publish(event: dict[str, Any]) -> None:
    """Tell every open page; a lost event is no loss, since pages ask again."""
    try:
        with redis.Redis.from_url(settings.REDIS_URL, socket_timeout=2) as connection:
            connection.publish(CHANNEL, json.dumps(event))
    except redis.RedisError:
        return


async def stream(request: HttpRequest) -> HttpResponse | StreamingHttpResponse:
    """Events as they happen, for signed-in people, of takes in their productions."""
    user = await request.auser()
    if not user.is_authenticated:
        return HttpResponse("sign in first", status=401)
    from studio.productions.models import Take

    async def lines() -> AsyncIterator[bytes]:
        connection = redis.asyncio.Redis.from_url(settings.REDIS_URL)
        feed = connection.pubsub()
        await feed.subscribe(CHANNEL)
        visible: dict[int, bool] = {}
        try:
            yield b": open\n\n"
            while True:
                message = await feed.get_message(ignore_subscribe_messages=True, timeout=15)
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
