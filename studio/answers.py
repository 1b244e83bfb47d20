"""What every request is answered with: JSON sentences, whatever went wrong and wherever."""

from __future__ import annotations

import json
import logging
import re
import sys
from typing import Any

from django.db import InterfaceError, OperationalError
from django.http import HttpRequest, JsonResponse
from ninja.parser import Parser

from basin.scene import Advice
from studio.errors import Refused, told

AWAY = "The database is away; nothing is lost. Try again in a moment."
DEEPEST = 64  # levels of a document
# halves of characters that are none, and what steers a terminal instead of being read
NO_TEXT = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\ud800-\udfff]")


def problem(status: int, says: str, **headers: str) -> JsonResponse:
    """An answer that is one sentence."""
    said = [one.model_dump() for one in told([Advice(says)])]
    return JsonResponse({"problems": said}, status=status, headers=headers)


def bad_request(_request: HttpRequest, exception: Exception | None = None) -> JsonResponse:
    """A request that cannot be read."""
    return problem(400, "This request cannot be read; load the page again.")


def not_found(_request: HttpRequest, exception: Exception | None = None) -> JsonResponse:
    """An address that there is not."""
    return problem(404, "There is nothing at this address.")


def forbidden(_request: HttpRequest, exception: Exception | None = None, reason: str = "") -> JsonResponse:
    """A change that the page did not ask for, or asked for too long ago."""
    return problem(403, "This page is out of date; load it again.")


def failed(_request: HttpRequest) -> JsonResponse:
    """An error of ours, or a database that is away."""
    error = sys.exc_info()[1]
    if isinstance(error, OperationalError | InterfaceError):
        return problem(503, AWAY, **{"Retry-After": "5"})
    return problem(500, "An error in the program; it has been written down. What was kept before is still there.")


def unexpected(_request: HttpRequest, error: Exception) -> JsonResponse:
    """The same for what goes wrong within the API."""
    if isinstance(error, OperationalError | InterfaceError):
        return problem(503, AWAY, **{"Retry-After": "5"})
    logging.getLogger("studio").error("an error of ours", exc_info=error)
    return problem(500, "An error in the program; it has been written down. What was kept before is still there.")


class Documents(Parser):
    """Bodies that are JSON of text that can be kept and numbers that are some; Refused (400) if not."""

    def parse_body(self, request: HttpRequest) -> Any:
        """The document in a request."""
        try:
            found = json.loads(request.body, parse_constant=_no_number)
        except RecursionError:
            raise Refused([f"This document is nested deeper than {DEEPEST} levels."], 400) from None
        except ValueError:
            raise Refused(["This is not a JSON document."], 400) from None
        check_plain(found)
        return found


def _no_number(name: str) -> float:
    raise ValueError(name)


def check_plain(document: Any) -> None:
    """Refused (400) if a document is nested too deep, or holds text that cannot be kept."""
    level: list[Any] = [document]
    for _ in range(DEEPEST):
        below: list[Any] = []
        for one in level:
            if isinstance(one, str) and NO_TEXT.search(one):
                raise Refused([f"{NO_TEXT.sub('?', one[:40])!r}: holds characters that cannot be written."], 400)
            if isinstance(one, dict):
                below += [*one.keys(), *one.values()]
            elif isinstance(one, list):
                below += one
        if not below:
            return
        level = below
    raise Refused([f"This document is nested deeper than {DEEPEST} levels."], 400)
