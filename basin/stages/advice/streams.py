"""Streams: where they go, what is left of them when they arrive, and what they come out of."""

from __future__ import annotations

import numpy as np

from basin.geometry.deforming import Deforming
from basin.geometry.shapes import Disc
from basin.scene import Advice, Collider, Inflow, Remedy
from basin.stages.advice.look import Look
from basin.stages.flight import kept_distance

THREAD = 2.0  # voxels across: a thinner stream breaks into drops that nothing holds together
WANTED = 3.0  # voxels that the remedy gives it
CLOSE = 0.4  # voxels of a draft: from what a source stands nearer to, its stream does not come away
OFF = 0.55


def leaves_the_domain(look: Look) -> list[Advice]:
    """A stream that flies out through an open side or ceiling before it has met anything."""
    said, scene = [], look.scene
    for index, element, found in look.flights:
        below = found.path[-1][1] <= scene.domain.low[1]
        if found.leaves and not below and found.frame <= scene.time.last:
            away = float(np.linalg.norm(np.subtract(found.path[-1], found.path[0])))
            says = f"its stream leaves the domain at frame {found.frame}, {away:.2g} m from where it comes out"
            said.append(Advice(says, f"elements[{index}]", element.name, "the rest of its way is not computed"))
    return said


def too_thin(look: Look) -> list[Advice]:
    """A stream that is drawn out to less than two voxels before it arrives, at the final voxel."""
    said = []
    for index, element, found in look.flights:
        if found.leaves or found.voxels >= THREAD:
            continue
        finer = float(f"{found.width / WANTED:.2g}")
        said.append(
            Advice(
                f"its stream is {found.width * 1000:.2g} mm across when it arrives, {found.voxels:.1f} voxels",
                f"elements[{index}]",
                element.name,
                "it breaks into single drops",
                Remedy(f"Use a voxel of {finer * 1000:.2g} mm", ("liquid", "voxel_size"), finer),
            )
        )
    return said


def against_a_wall(look: Look) -> list[Advice]:
    """A disc that lies on a collider and pours along or away from it: its stream clings to it."""
    said, scene = [], look.scene
    dx = scene.voxel_size("draft")
    for index, element in enumerate(scene.elements):
        if not isinstance(element, Inflow) or not isinstance(element.shape, Disc) or element.attached:
            continue
        if scene.placement(element).moves() or not any(element.velocity):
            continue
        middle = scene.placement(element).matrix(0.0)[:3, 3]
        way = np.array(element.velocity) / np.linalg.norm(element.velocity)
        for other in scene.of_kind(Collider):
            held = kept_distance(other, scene, look.files, dx)
            if isinstance(held, Deforming) or scene.placement(other).moves() or not other.acts(0.0, 0.0):
                continue
            here, ahead = held.placed_at(np.stack([middle, middle + dx * way]), scene.placement(other).matrix(0.0))
            if abs(here) < CLOSE * dx and ahead > here + 0.5 * dx:
                moved = [round(float(x), 5) for x in middle + (OFF * dx - here) * way]
                said.append(
                    Advice(
                        f"its opening lies on {other.name}",
                        f"elements[{index}].pose",
                        element.name,
                        "at a draft's voxel the stream clings to it and half of it is lost",
                        Remedy("Move it half a voxel out", ("elements", index, "pose", "translation"), moved),
                    )
                )
                break
    return said
