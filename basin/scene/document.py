"""Reading scene documents, and saying clearly what is wrong with one."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from basin.scene.model import FORMAT, Scene


class SceneError(ValueError):
    """A scene that cannot be used; each line names the field, what is wrong and how to mend it."""

    def __init__(self, problems: list[str]):
        super().__init__("\n".join(problems))
        self.problems = problems

    def __reduce__(self) -> tuple[type[SceneError], tuple[list[str]]]:
        return SceneError, (self.problems,)


def parse_scene(document: Any) -> Scene:
    """Validate a decoded JSON document.

    Raises
    ------
    SceneError
        Naming every field that is wrong.
    """
    if not isinstance(document, dict):
        raise SceneError(["scene: the document must be a JSON object"])
    if document.get("format") != FORMAT:
        raise SceneError([f"format: expected {FORMAT!r}, found {document.get('format')!r}"])
    try:
        return Scene.model_validate(document)
    except ValidationError as error:
        raise SceneError([_sentence(dict(problem)) for problem in error.errors()]) from None


def load_scene(path: Path) -> Scene:
    """Read and validate a scene file; `SceneError` if it cannot be used."""
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise SceneError([f"{path.name}: {error.strerror or 'cannot be read'}"]) from None
    except ValueError as error:
        raise SceneError([f"{path.name}: not a JSON document ({error})"]) from None
    return parse_scene(document)


def scene_schema() -> dict[str, Any]:
    """JSON schema of the scene document."""
    return Scene.model_json_schema()


def _sentence(problem: dict[str, Any]) -> str:
    where = ""
    for part in problem["loc"]:
        if isinstance(part, int):
            where += f"[{part}]"
        elif part not in _UNION_TAGS:
            where += f".{part}" if where else str(part)
    message = str(problem["msg"]).removeprefix("Value error, ")
    if problem["type"] == "extra_forbidden":
        message = "unknown setting; remove it or check its spelling"
    return f"{where or 'scene'}: {message}"


_UNION_TAGS = {
    *("fill", "inflow", "collider", "drain", "force", "sphere", "box", "mesh", "plane", "tub", "tube", "disc"),
    *("plain", "gradient", "figure", "image", "random"),
    *("wind", "drag", "turbulence", "vortex", "attraction", "everywhere"),
    *("Curve", "float", "tuple[float, float, float]", "function-after[_ordered(), Curve]"),
}
