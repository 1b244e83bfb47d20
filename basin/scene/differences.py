"""What differs between two states of a scene, in words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from basin.scene.model import Scene
from basin.settings import Curve

# what changes no frame
APART = {"format", "name", "camera", "views", "aside", "deliveries", "hidden", "locked", "group", "delivered", "shown"}


@dataclass(frozen=True)
class Difference:
    """A setting that differs: of which element or part, its name, and what it was and is, with its unit."""

    of: str
    setting: str
    was: str
    now: str

    def __str__(self) -> str:
        change = f"{self.was} → {self.now}" if self.was and self.now else (self.now or self.was)
        return f"{self.of}: {self.setting} {change}".replace("  ", " ").strip()


def differences(before: Scene, after: Scene) -> list[Difference]:
    """Settings that differ and that frames depend on, in the order of the scene."""
    found: list[Difference] = []
    for name in type(before).model_fields:
        if name in APART or name == "elements":
            continue
        _compare(name.replace("_", " "), getattr(before, name), getattr(after, name), found)
    old, new = ({e.name: e for e in scene.elements} for scene in (before, after))
    for name in [*old, *(n for n in new if n not in old)]:
        if name not in new:
            found.append(Difference(name, "", "", "taken out"))
        elif name not in old:
            found.append(Difference(name, "", "", "put in"))
        else:
            _compare(name, old[name], new[name], found)
    return found


def _compare(of: str, was: Any, now: Any, found: list[Difference]) -> None:
    if type(was) is not type(now) or getattr(was, "kind", None) != getattr(now, "kind", None):
        kinds = (str(getattr(one, "kind", type(one).__name__)) for one in (was, now))
        found.append(Difference(of, "", *kinds))
        return
    for name, field in type(was).model_fields.items():
        if name in APART:
            continue
        one, other = getattr(was, name), getattr(now, name)
        if one == other:
            continue
        if isinstance(one, BaseModel) and isinstance(other, BaseModel) and not isinstance(one, Curve):
            _compare(of, one, other, found)
            continue
        extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
        told: Any = extra.get("zinc") or {}
        unit = str(told.get("unit", ""))
        label = (field.title or name).replace("_", " ").lower()
        found.append(Difference(of, label, _said(one), f"{_said(other)} {unit}".strip()))


def _said(value: Any) -> str:
    if isinstance(value, Curve):
        return f"{len(value.keys)} keys"
    if isinstance(value, BaseModel):
        return str(getattr(value, "kind", "other"))
    if isinstance(value, float):
        return f"{value:.4g}"
    if isinstance(value, tuple):
        return "(" + ", ".join(_said(v) for v in value) + ")"
    if isinstance(value, list):
        return f"{len(value)} of them"
    return "none" if value is None or value == "" else str(value)
