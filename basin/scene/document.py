"""Reading scene documents, and saying clearly what is wrong with one."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from basin.scene.advice import Advice, advised
from basin.scene.model import FORMAT, Scene


class SceneError(ValueError):
    """A scene that cannot be used; each line names the field, what is wrong and how to mend it."""

    def __init__(self, problems: Sequence[Advice | str]):
        super().__init__("\n".join(map(str, problems)))
        self.problems = advised(problems)

    def __reduce__(self) -> tuple[type[SceneError], tuple[list[Advice]]]:
        return SceneError, (self.problems,)


def parse_scene(document: Any) -> Scene:
    """Validate a decoded JSON document.

    Raises
    ------
    SceneError
        Naming every field that is wrong.
    """
    if not isinstance(document, dict):
        raise SceneError([Advice("the document must be a JSON object", where="scene")])
    if document.get("format") != FORMAT:
        raise SceneError([Advice(f"expected {FORMAT!r}, found {document.get('format')!r}", where="format")])
    try:
        return Scene.model_validate(document)
    except ValidationError as error:
        raise SceneError([_advice(dict(problem), document) for problem in error.errors()]) from None


def load_scene(path: Path) -> Scene:
    """Read and validate a scene file; `SceneError` if it cannot be used."""
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise SceneError([f"{path.name}: {error.strerror or 'cannot be read'}"]) from None
    except RecursionError:
        raise SceneError([f"{path.name}: nested too deep to be a scene"]) from None
    except ValueError as error:
        raise SceneError([f"{path.name}: not a JSON document ({error})"]) from None
    return parse_scene(document)


def scene_schema() -> dict[str, Any]:
    """JSON schema of the scene document."""
    return Scene.model_json_schema()


def _advice(problem: dict[str, Any], document: dict[str, Any]) -> Advice:
    where = ""
    for part in problem["loc"]:
        if isinstance(part, int):
            where += f"[{part}]"
        elif part not in _UNION_TAGS:
            where += f".{part}" if where else str(part)
    message = str(problem["msg"]).removeprefix("Value error, ")
    if problem["type"] == "extra_forbidden":
        message = "unknown setting; remove it or check its spelling"
    return Advice(message, where or "scene", _element_at(problem["loc"], document))


def _element_at(place: Sequence[Any], document: dict[str, Any]) -> str:
    """Name of the element that a place lies in, if it has one."""
    if len(place) < 2 or place[0] != "elements":
        return ""
    element = document["elements"][place[1]]
    name = element.get("name") if isinstance(element, dict) else None
    return name if isinstance(name, str) else ""


def _tags_in(node: Any) -> set[str]:
    """Words by which a schema tells the kinds of a part apart."""
    if isinstance(node, list):
        return set().union(*map(_tags_in, node))
    if not isinstance(node, dict):
        return set()
    own = set(node.get("discriminator", {}).get("mapping", {}))
    return own.union(*map(_tags_in, node.values()))


# what stands in places of errors but is no setting: kinds, and the forms that a value may have
_FORMS = {"Curve", "float", "tuple[float, float, float]", "function-after[_ordered(), Curve]"}
_UNION_TAGS = _tags_in(scene_schema()) | _FORMS
