"""Who may do what: the one place where it is written.

Reading needs a viewer, everything else an editor; what an action needs beyond or below that is in `OTHERWISE`. What is
removed, in itself or with what it stands in, is there for nobody but who takes it back.
"""

from __future__ import annotations

from typing import TypeVar

from django.contrib.auth.models import User
from django.db.models import Q, QuerySet
from django.http import HttpRequest

from studio.errors import Refused
from studio.productions.models import Membership, Production, Role, Sheet, Shot, Take

# method and last fixed word of the address, of what belongs to a take, a shot or a production
OTHERWISE: dict[tuple[str, str, str], Role] = {
    ("take", "POST", "judge"): Role.VIEWER,  # nothing is kept of it, nor of these
    ("take", "POST", "births"): Role.VIEWER,
    ("take", "POST", "flight"): Role.VIEWER,
    ("take", "POST", "regime"): Role.VIEWER,
    ("take", "POST", "waves"): Role.VIEWER,
    ("take", "POST", "filling"): Role.VIEWER,
    ("take", "POST", "solve"): Role.VIEWER,
    ("take", "POST", "pushes"): Role.VIEWER,
    ("take", "POST", "room"): Role.VIEWER,
    ("take", "POST", "rehearse"): Role.VIEWER,
    ("take", "DELETE", "rehearse"): Role.VIEWER,
    ("production", "PATCH", "sheet"): Role.OWNER,
    ("production", "DELETE", "sheet"): Role.OWNER,
    ("production", "POST", "restore"): Role.OWNER,
    ("production", "PUT", "people"): Role.OWNER,
    ("production", "DELETE", "people"): Role.OWNER,
}
ABOVE: dict[type[Sheet], str] = {Production: "", Shot: "production__", Take: "shot__production__"}
T = TypeVar("T", bound=Sheet)


def user_of(request: HttpRequest) -> User:
    """Who asks; the API lets nobody else in."""
    assert isinstance(request.user, User)
    return request.user


def needed(request: HttpRequest, kind: str) -> Role:
    """The role that a request needs of what it is about."""
    method = str(request.method)
    route = request.resolver_match.route if request.resolver_match else ""
    fixed = [word for word in route.split("/") if word and "<" not in word]
    plain = Role.VIEWER if method in ("GET", "HEAD") else Role.EDITOR
    return OTHERWISE.get((kind, method, fixed[-1] if fixed else ""), plain)


def role_in(user: User, production: Production) -> Role | None:
    """Somebody's role in a production."""
    found = Membership.objects.filter(user=user, production=production).values_list("role", flat=True).first()
    return Role(found) if found else None


def visible(kind: type[T], user: User) -> QuerySet[T]:
    """What of a kind somebody may see, removed or not."""
    return kind._default_manager.filter(**{f"{ABOVE[kind]}members": user})


def _there(kind: type[Sheet]) -> Q:
    """What is not removed, nor stands in what is."""
    gone = Q(removed=None)
    if kind is Take:
        gone &= Q(shot__removed=None)
    if kind is not Production:
        gone &= Q(**{f"{ABOVE[kind]}removed": None})
    return gone


def found(request: HttpRequest, kind: type[T], key: int, *, removed: bool = False) -> T:
    """A production, shot or take that the request's person may see, for what the request does with it.

    Refused (404) if there is none, (403) if the person's role does not go so far. `removed` finds what is removed.
    """
    name = kind.__name__.lower()
    rows = visible(kind, user_of(request)).filter(pk=key)
    if kind is not Production:
        rows = rows.select_related(ABOVE[kind].removesuffix("__"))
    one = rows.exclude(removed=None).first() if removed else rows.filter(_there(kind)).first()
    if one is None:
        raise Refused([f"There is no such {name}, or it is not yours to see."], 404)
    assert isinstance(one, Production | Shot | Take)
    production = production_of(one)
    role, need = role_in(user_of(request), production), needed(request, name)
    if role is None or role < need:
        article = "an" if need > Role.VIEWER else "a"
        raise Refused(
            [f"You are {role.label if role else 'nobody'} in {production.name}; this needs {article} {need.label}."],
            403,
        )
    return one


def production_of(one: Production | Shot | Take) -> Production:
    """The production that something belongs to."""
    if isinstance(one, Take):
        return one.shot.production
    return one.production if isinstance(one, Shot) else one


def take_for(request: HttpRequest, take_id: int) -> Take:
    """`found` of a take."""
    return found(request, Take, take_id)
