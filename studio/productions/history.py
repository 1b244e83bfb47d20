"""Each edit of a take's scene, undone and done again: kept with the take, whoever made it and wherever."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from studio.errors import Refused
from studio.events import publish
from studio.productions.models import State, Take

MOST_STEPS = 200


def kept(take: Take, scene: dict[str, Any], revision: int, user: User) -> Take:
    """The take with a changed scene; Refused (409) if somebody else changed it since `revision`."""
    with transaction.atomic():
        held = _held(take, revision)
        held.states.filter(step__gt=held.step).delete()
        if not held.states.filter(step=held.step).exists():
            State.objects.create(take=held, step=held.step, scene=held.scene)
        held.step += 1
        State.objects.create(take=held, step=held.step, scene=scene, by=user)
        held.states.filter(step__lt=held.step - MOST_STEPS).delete()
        _put(held, scene)
    _tell(held, user)
    return held


def stepped(take: Take, by: int, revision: int, user: User) -> Take:
    """The take one step back (-1) or on (1); Refused if there is none."""
    with transaction.atomic():
        held = _held(take, revision)
        state = held.states.filter(step=held.step + by).first()
        if state is None:
            raise Refused(["There is nothing to undo." if by < 0 else "There is nothing to do again."], 409)
        held.step += by
        _put(held, state.scene)
    _tell(held, user)
    return held


def steps(take: Take) -> tuple[int, int]:
    """How many edits can be undone, and done again."""
    there = list(take.states.values_list("step", flat=True))
    return sum(n < take.step for n in there), sum(n > take.step for n in there)


def _held(take: Take, revision: int) -> Take:
    held = Take.objects.select_for_update().select_related("shot__production").get(pk=take.pk)
    if held.revision != revision:
        raise Refused(["Somebody else changed this take meanwhile; load it again."], 409)
    return held


def _put(held: Take, scene: dict[str, Any]) -> None:
    held.scene = scene
    held.revision += 1
    held.changed = timezone.now()
    held.save(update_fields=["scene", "revision", "step", "changed"])


def _tell(held: Take, user: User) -> None:
    event = {"type": "take", "take": held.pk, "revision": held.revision, "by": user.get_username()}
    transaction.on_commit(lambda: publish(event))  # who asks at once must find what is told
