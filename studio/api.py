"""The API: the routers of each noun under one schema."""

from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.security import django_auth

from studio.accounts.api import router as accounts
from studio.errors import Refused
from studio.productions.api import router as productions
from studio.runs.api import router as runs

api = NinjaAPI(title="Zinc Basin", version="1", auth=django_auth, docs_url=None)
api.add_router("", accounts)
api.add_router("", productions)
api.add_router("", runs)


@api.exception_handler(Refused)
def refused(request: HttpRequest, error: Exception) -> HttpResponse:
    """A request that cannot be granted, with sentences for the artist."""
    assert isinstance(error, Refused)
    return api.create_response(request, {"problems": error.problems}, status=error.status)
