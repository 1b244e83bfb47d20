"""Signing in and out, and one's password."""

from __future__ import annotations

import time as clock
from typing import Any

from axes.handlers.proxy import AxesProxyHandler
from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.http import HttpRequest, HttpResponse
from ninja import Field, Router, Schema
from ninja.utils import check_csrf

from studio.accounts import DEMO
from studio.answers import problem
from studio.errors import Refused

router = Router(tags=["session"])
LOCKED = "Too many wrong passwords; wait ten minutes, or ask who looks after the accounts."
LONGEST_WAIT = 4.0  # seconds that a wrong password may take


class Credentials(Schema):
    name: str = Field(max_length=150)
    password: str = Field(max_length=1000)


class NewPassword(Schema):
    old: str = Field(max_length=1000)
    new: str = Field(max_length=1000)


class Session(Schema):
    name: str | None


@router.get("/session", auth=None, response=Session)
def session(request: HttpRequest) -> Session:
    """Who is signed in; the name is null for nobody."""
    return Session(name=request.user.get_username() if request.user.is_authenticated else None)


@router.post("/session", auth=None, response=Session)
def sign_in(request: HttpRequest, credentials: Credentials) -> Session:
    """Sign in; wrong tries are answered later and later, and then not for a while."""
    if check_csrf(request):
        raise Refused(["This page is out of date; load it again."], 403)
    known = {"username": credentials.name}
    _check_open(request, known)
    user = authenticate(request, username=credentials.name, password=credentials.password)
    if user is None:
        _check_open(request, known)
        clock.sleep(min(0.25 * 2 ** AxesProxyHandler.get_failures(request, known), LONGEST_WAIT))
        raise Refused(["Name and password do not match."], 403)
    login(request, user)
    return Session(name=user.get_username())


def _check_open(request: HttpRequest, known: dict[str, str]) -> None:
    if not AxesProxyHandler.is_allowed(request, known):
        raise Refused([LOCKED], 429)


def locked_out(_request: HttpRequest, *_more: Any) -> HttpResponse:
    """What is answered instead once the tries are used up."""
    return problem(429, LOCKED)


@router.delete("/session", response=Session)
def sign_out(request: HttpRequest) -> Session:
    """Sign out."""
    logout(request)
    return Session(name=None)


@router.put("/session/password", response=Session)
def change_password(request: HttpRequest, passwords: NewPassword) -> Session:
    """Take another password; other sessions of the same person end."""
    user = request.user
    assert isinstance(user, User)
    if user.get_username() == DEMO:
        raise Refused(["The demo's password is published and stays so; for one of your own: ./zinc person NAME."], 403)
    if not user.check_password(passwords.old):
        clock.sleep(1.0)
        raise Refused(["The old password is another one."], 403)
    try:
        validate_password(passwords.new, user)
    except ValidationError as error:
        raise Refused(list(error.messages)) from None
    user.set_password(passwords.new)
    user.save()
    update_session_auth_hash(request, user)
    return Session(name=user.get_username())
