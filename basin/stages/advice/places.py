"""Where elements are: in each other, apart, out of sight, or without a part in anything."""

from __future__ import annotations

import numpy as np

from basin.geometry.deforming import Deforming
from basin.geometry.shapes import FlatOpening
from basin.scene import Advice, Collider, Force, Inflow, Remedy
from basin.stages.advice.look import Look
from basin.stages.gestures.flight import kept_distance
from basin.stages.gestures.pushes import pushes

GAP = 2.0  # voxels: through narrower ones liquid passes or not by chance
TOUCH = 0.2  # voxels: what is nearer stands on the other
WEAK = 0.01  # m/s that a force must change speeds by over the shot to be seen


def within_a_solid(look: Look) -> list[Advice]:
    """A source whose opening lies inside of something solid, so that its liquid has no room."""
    scene, said = look.scene, []
    dx = scene.voxel_size("draft")
    for index, element in enumerate(scene.elements):
        if not isinstance(element, Inflow) or not isinstance(element.shape, FlatOpening) or not element.spans():
            continue
        time = max(element.spans()[0][0], 0.0)
        middle = scene.placement(element).matrix(time)[:3, 3]
        for other in scene.of_kind(Collider):
            held = kept_distance(other, scene, look.files, dx)
            if not other.acts(time, time):
                continue
            deep = float(held.at_time(time).placed_at(middle[None], scene.placement(other).matrix(time))[0])
            if deep < -1.0 * dx:
                where = f"elements[{index}].pose"
                says = f"its opening lies {-deep:.2g} m inside of {other.name}"
                said.append(Advice(says, where, element.name, "no liquid comes of it", show=look.at(middle, time)))
                break
    return said


def narrow_gap(look: Look) -> list[Advice]:
    """Two still colliders with less than two voxels of a final between them."""
    scene, said = look.scene, []
    dx = scene.liquid.voxel_size
    for n, (index, element, points) in enumerate(look.solids):
        if scene.placement(element).moves():
            continue
        for _, other, others in look.solids[n + 1 :]:
            apart = np.maximum(points.min(axis=0) - others.max(axis=0), others.min(axis=0) - points.max(axis=0))
            if float(apart.max()) > GAP * dx or scene.placement(other).moves() or element.side != other.side:
                continue
            held = kept_distance(other, scene, look.files, scene.voxel_size("draft"))
            if isinstance(held, Deforming):
                continue
            far = held.placed_at(points, scene.placement(other).matrix(0.0))
            nearest = int(np.abs(far).argmin())
            if (far < TOUCH * dx).any() or far[nearest] > GAP * dx:
                continue
            said.append(
                Advice(
                    f"the gap to {other.name} is {far[nearest] * 1000:.2g} mm, {far[nearest] / dx:.1f} voxels",
                    f"elements[{index}]",
                    element.name,
                    "whether liquid passes it is chance",
                    Remedy(
                        f"Use a voxel of {far[nearest] / 3 * 1000:.2g} mm",
                        ("liquid", "voxel_size"),
                        float(f"{far[nearest] / 3:.2g}"),
                    ),
                    show=look.at(points[nearest]),
                )
            )
    return said


def apart(look: Look) -> list[Advice]:
    """A collider that lies outside of the domain all the time, so that nothing meets it."""
    scene, said = look.scene, []
    low = np.array(scene.domain.low)
    high = low + np.array(scene.domain.size)
    for index, element, points in look.solids:
        if scene.placement(element).moves() or element.side != "outside":
            continue
        if (points.max(axis=0) < low).any() or (points.min(axis=0) > high).any():
            says = "lies wholly outside the domain"
            said.append(
                Advice(says, f"elements[{index}]", element.name, "nothing meets it", show=look.at(points.mean(axis=0)))
            )
    return said


def out_of_sight(look: Look) -> list[Advice]:
    """A collider that stands wholly inside of another one that is solid."""
    scene, said = look.scene, []
    dx = scene.voxel_size("draft")
    for index, element, points in look.solids:
        if scene.placement(element).moves():
            continue
        for other_index, other, others in look.solids:
            if index == other_index or other.side != "outside" or scene.placement(other).moves():
                continue
            if (points.min(axis=0) < others.min(axis=0)).any() or (points.max(axis=0) > others.max(axis=0)).any():
                continue
            held = kept_distance(other, scene, look.files, dx)
            if isinstance(held, Deforming):
                continue
            if (held.placed_at(points, scene.placement(other).matrix(0.0)) < -0.25 * dx).all():
                says = f"lies wholly inside of {other.name}"
                leads = "it is not seen and nothing meets it"
                said.append(Advice(says, f"elements[{index}]", element.name, leads, show=look.at(points.mean(axis=0))))
                break
    return said


def without_effect(look: Look) -> list[Advice]:
    """A force that hardly changes anything over the shot, or never acts while there is one."""
    scene, said = look.scene, []
    end = scene.time.shot_time(scene.time.last)
    for index, element in enumerate(scene.elements):
        if not isinstance(element, Force):
            continue
        spans = [(max(a, 0.0), min(b, end)) for a, b in element.spans() if a < end and b > 0]
        if not spans:
            says = f"acts from {element.start:g} s on, and the shot ends at {end:.3g} s"
            remedy = Remedy("Begin at 0 s", ("elements", index, "start"), 0.0)
            said.append(Advice(says, f"elements[{index}].start", element.name, "it never acts", remedy))
            continue
        if element.effect.kind == "drag":
            continue
        middle = 0.5 * (spans[0][0] + spans[0][1])
        frame = round(scene.time.first + middle * scene.time.fps)
        strongest = pushes(scene, index, frame, "final").strongest
        lasts = sum(b - a for a, b in spans) * scene.time.time_scale
        if 0 < strongest * lasts < WEAK:
            says = f"changes speeds by {strongest * lasts * 1000:.1g} mm/s over the shot"
            said.append(Advice(says, f"elements[{index}].effect", element.name, "it is not seen"))
    return said
