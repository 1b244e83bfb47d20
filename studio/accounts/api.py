"""Signing in and out."""

from django.contrib.auth import authenticate, login, logout
from django.http import HttpRequest
from ninja import Router, Schema

from studio.errors import Refused

router = Router(tags=["session"])


class Credentials(Schema):
    name: str
    password: str


class Session(Schema):
    name: str | None


@router.get("/session", auth=None, response=Session)
def session(request: HttpRequest) -> Session:
    """Who is signed in; the name is null for nobody."""
    return Session(name=request.user.get_username() if request.user.is_authenticated else None)


@router.post("/session", auth=None, response=Session)
def sign_in(request: HttpRequest, credentials: Credentials) -> Session:
    """Sign in."""
    user = authenticate(request, username=credentials.name, password=credentials.password)
    if user is None:
        raise Refused(["Name and password do not match."], 403)
    login(request, user)
    return Session(name=user.get_username())


@router.delete("/session", response=Session)
def sign_out(request: HttpRequest) -> Session:
    """Sign out."""
    logout(request)
    return Session(name=None)
