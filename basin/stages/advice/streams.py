"""Streams: where they go, what is left of them when they arrive, and what they come out of."""

from __future__ import annotations

import numpy as np

from basin.geometry.deforming import Deforming
from basin.geometry.pose import scale_of
from basin.geometry.shapes import Box, FlatOpening, Sphere
from basin.scene import Advice, Collider, Fill, Inflow, Remedy
from basin.settings import value_at
from basin.stages.advice.look import Look
from basin.stages.gestures.flight import kept_distance
from basin.stages.regime import coat

THREAD = 2.0  # voxels across: a thinner stream breaks into drops that nothing holds together
STOUT = 8.0  # voxels across: a thicker stream holds whatever is set
THICK = 0.05  # Pa s from which a stream is expected to hold together
COAT = 0.25  # voxels: thinner films are no film any more, but particles one by one
HELD = 8  # particles in a voxel that hold a thread
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
            leads = "the rest of its way is not computed"
            said.append(Advice(says, f"elements[{index}]", element.name, leads, show=look.arrival(found)))
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
                show=look.arrival(found),
            )
        )
    return said


def torn(look: Look) -> list[Advice]:
    """A thick stream few voxels across that something tears beside speed and substeps, which have rules of their own.

    Its particles are too few, its mesh draws nothing thin, or it slides off what it should pile up on.
    """
    said, scene = [], look.scene
    surface, few = scene.surface, scene.liquid.particles_per_cell < HELD
    for index, element, found in look.flights:
        if element.made_of(scene.liquid.density).viscosity < THICK or found.leaves or found.voxels > STOUT:
            continue
        free = [
            n
            for n, e in enumerate(scene.elements)
            if isinstance(e, Collider) and e.name == found.met and e.slip_length is None
        ]
        across = f"its stream is {found.voxels:.2g} voxels across when it arrives, "
        if few:
            says, leads = f"with {scene.liquid.particles_per_cell} particles in each", "it has gaps"
            remedy = Remedy(f"Put in {HELD}", ("liquid", "particles_per_cell"), HELD)
        elif surface.method != "spheres" and surface.thinnest == 0:
            says, leads = "and the surface draws nothing that is thinner than its kernel", "the mesh has holes"
            remedy = Remedy("Draw sheets down to 0.3 spacings", ("surface", "thinnest"), 0.3)
        elif free:
            says, leads = f"and slides freely on {found.met}", "it runs off instead of piling up"
            remedy = Remedy("Let it stick", ("elements", free[0], "slip_length"), 0.0)
        else:
            continue
        said.append(Advice(across + says, f"elements[{index}]", element.name, leads, remedy, show=look.arrival(found)))
    return said


def thin_coat(look: Look) -> list[Advice]:
    """A thick liquid whose coat on an upright wall is soon too thin to hold together at the final voxel."""
    said, scene = [], look.scene
    dx, down = scene.liquid.voxel_size, float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0)))
    if down == 0 or not list(scene.of_kind(Collider)):
        return []
    for index, element in enumerate(scene.elements):
        if not isinstance(element, Fill | Inflow):
            continue
        made = element.made_of(scene.liquid.density)
        thick = coat(made, down)
        if made.viscosity < THICK or thick >= COAT * dx or made.yield_stress > 0:
            continue
        finer = float(f"{thick / COAT:.2g}")
        said.append(
            Advice(
                f"its coat on an upright wall is {1000 * thick:.2g} mm thick after a second, {thick / dx:.1g} voxels",
                f"elements[{index}]",
                element.name,
                "it runs off in single drops instead of clinging",
                Remedy(f"Use a voxel of {finer * 1000:.2g} mm", ("liquid", "voxel_size"), finer),
            )
        )
    return said


def against_a_wall(look: Look) -> list[Advice]:
    """An opening that lies on a collider and pours along or away from it: its stream clings to it."""
    said, scene = [], look.scene
    dx = scene.voxel_size("draft")
    for index, element in enumerate(scene.elements):
        if not isinstance(element, Inflow) or not isinstance(element.shape, FlatOpening) or element.attached:
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
                        show=look.at(middle),
                    )
                )
                break
    return said


def few_voxels(look: Look) -> list[Advice]:
    """A source of fewer than three voxels across at the final voxel: what leaves it is not round."""
    said, dx = [], look.scene.liquid.voxel_size
    for index, element in enumerate(look.scene.elements):
        if not isinstance(element, Fill | Inflow):
            continue
        matrix = look.scene.placement(element).matrix(0.0)
        shape, scale = element.shape, scale_of(matrix)
        if isinstance(shape, Sphere):
            across = 2 * shape.radius * scale
        elif isinstance(shape, FlatOpening):
            across = 2 * min(shape.half()) * scale
        elif isinstance(shape, Box):
            across = min(shape.size) * scale
        else:
            continue
        if across >= WANTED * dx * 0.999:
            continue
        finer = float(f"{across / WANTED:.2g}")
        said.append(
            Advice(
                f"is {across * 1000:.2g} mm across, {across / dx:.1f} voxels",
                f"elements[{index}].shape",
                element.name,
                "it comes out in lumps",
                Remedy(f"Use a voxel of {finer * 1000:.2g} mm", ("liquid", "voxel_size"), finer),
                show=look.at(matrix[:3, 3]),
            )
        )
    return said


def passes_through(look: Look) -> list[Advice]:
    """A collider that stands in a stream's way and does not act when the stream is there."""
    scene, said = look.scene, []
    dx = scene.voxel_size("draft")
    for _, element, way in look.flights:
        path, start = np.array(way.path), way.time - way.times[-1]
        for index, other in enumerate(scene.elements):
            if not isinstance(other, Collider) or scene.placement(other).moves():
                continue
            held = kept_distance(other, scene, look.files, dx)
            if isinstance(held, Deforming):
                continue
            inside = held.placed_at(path, scene.placement(other).matrix(0.0)) < -0.5 * dx
            times = start + np.array(way.times)
            unmet = [n for n in np.flatnonzero(inside) if not other.acts(float(times[n]), float(times[n]))]
            if not unmet:
                continue
            when = float(times[unmet[0]])
            late = other.start > when
            said.append(
                Advice(
                    f"the stream of {element.name} passes through it from frame {look.at(path[0], when).frame} on",
                    f"elements[{index}].start" if late else f"elements[{index}].active",
                    other.name,
                    "it does not act then",
                    Remedy("Let it act from the beginning", ("elements", index, "start"), 0.0) if late else None,
                    show=look.at(path[unmet[0]], when),
                )
            )
    return said
