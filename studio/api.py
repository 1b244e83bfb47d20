"""The API: the routers of each noun under one schema."""

from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.errors import AuthenticationError, HttpError, ValidationError
from ninja.security import django_auth

from basin.scene import Advice
from studio.accounts.api import router as accounts
from studio.answers import Documents, problem, unexpected
from studio.errors import Refused, told
from studio.productions.api import router as productions
from studio.productions.placing_api import router as placing
from studio.productions.sheet_api import router as sheet
from studio.runs.api import router as runs

api = NinjaAPI(title="Zinc Basin", version="1", auth=django_auth, docs_url=None, parser=Documents())
api.add_router("", accounts)
api.add_router("", sheet)
api.add_router("", productions)
api.add_router("", placing)
api.add_router("", runs)


@api.exception_handler(Refused)
def refused(request: HttpRequest, error: Exception) -> HttpResponse:
    """A request that cannot be granted, with sentences for the artist."""
    assert isinstance(error, Refused)
    return api.create_response(
        request, {"problems": [one.model_dump() for one in told(error.problems)]}, status=error.status
    )


@api.exception_handler(ValidationError)
def invalid(request: HttpRequest, error: Exception) -> HttpResponse:
    """A request whose values cannot be, told as other refusals are."""
    assert isinstance(error, ValidationError)
    said = [Advice(str(e["msg"]), where=".".join(str(p) for p in e["loc"][2:]) or "request") for e in error.errors]
    return api.create_response(request, {"problems": [one.model_dump() for one in told(said)]}, status=422)


@api.exception_handler(AuthenticationError)
def nobody(request: HttpRequest, _error: Exception) -> HttpResponse:
    """A request of who is not signed in."""
    return problem(401, "Sign in first.")


@api.exception_handler(HttpError)
def unread(request: HttpRequest, error: Exception) -> HttpResponse:
    """A request that the library refuses."""
    assert isinstance(error, HttpError)
    return problem(error.status_code, str(error))


@api.exception_handler(Exception)
def unforeseen(request: HttpRequest, error: Exception) -> HttpResponse:
    """What nobody expected, or a database that is away."""
    return unexpected(request, error)
