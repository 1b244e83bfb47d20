"""What is likely to go wrong, told before it does: a rule is a function from a look at a scene to what it has to say.

A rule says nothing where nothing matters; what it says has a place and, where there is one, a remedy.
"""

from __future__ import annotations

from collections.abc import Callable

from basin.scene import Advice, Scene
from basin.stages.advice.look import Look
from basin.stages.advice.streams import against_a_wall, leaves_the_domain, too_thin
from basin.stages.assembly import Checked, check_scene
from basin.stages.files import SceneFiles

Rule = Callable[[Look], list[Advice]]
RULES: tuple[Rule, ...] = (leaves_the_domain, too_thin, against_a_wall)


def checked(scene: Scene, files: SceneFiles) -> Checked:
    """`check_scene`, and the advice of all rules where nothing is wrong."""
    found = check_scene(scene, files)
    return found if found.problems else Checked([], [*found.remarks, *advice(scene, files)])


def advice(scene: Scene, files: SceneFiles) -> list[Advice]:
    """What all rules say of a scene that has no problems."""
    look = Look(scene, files)
    return [one for rule in RULES for one in rule(look)]
