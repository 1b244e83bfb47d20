"""What is likely to go wrong, told before it does: a rule is a function from a look at a scene to what it has to say.

A rule says nothing where nothing matters; what it says has a place and, where there is one, a remedy. What an artist
has put aside for a scene is not said again.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from basin.scene import Advice, Scene
from basin.stages.advice.look import Look
from basin.stages.advice.measure import empty_domain, out_of_scale, strange_gravity
from basin.stages.advice.pace import too_fast
from basin.stages.advice.places import apart, narrow_gap, out_of_sight, within_a_solid, without_effect
from basin.stages.advice.sea import no_waves, too_shallow, unearthly_wind, unlikely_hero, waves_left_out
from basin.stages.advice.streams import (
    against_a_wall,
    few_voxels,
    leaves_the_domain,
    passes_through,
    thin_coat,
    too_thin,
    torn,
)
from basin.stages.advice.vessels import leaks, meets_a_wall, runs_over
from basin.stages.assembly import Checked, check_scene
from basin.stages.files import SceneFiles

Rule = Callable[[Look], list[Advice]]
RULES: tuple[Rule, ...] = (
    strange_gravity,
    out_of_scale,
    within_a_solid,
    leaves_the_domain,
    meets_a_wall,
    passes_through,
    against_a_wall,
    leaks,
    runs_over,
    few_voxels,
    too_thin,
    torn,
    thin_coat,
    narrow_gap,
    too_fast,
    apart,
    out_of_sight,
    without_effect,
    empty_domain,
    no_waves,
    waves_left_out,
    too_shallow,
    unearthly_wind,
    unlikely_hero,
)


def checked(scene: Scene, files: SceneFiles) -> Checked:
    """`check_scene`, and the advice of all rules where nothing is wrong."""
    found = check_scene(scene, files)
    return found if found.problems else Checked([], [*found.remarks, *advice(scene, files)])


def advice(scene: Scene, files: SceneFiles) -> list[Advice]:
    """What all rules say of a scene that has no problems, but for what was put aside."""
    look = Look(scene, files)
    said = [replace(one, rule=rule.__name__) for rule in RULES for one in rule(look)]
    return [one for one in said if one.aside not in scene.aside]
