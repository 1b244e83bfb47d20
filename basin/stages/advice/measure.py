"""Size, time and gravity, and a domain that is larger than it need be."""

from __future__ import annotations

import numpy as np

from basin.scene import Advice, Fill, Inflow, Remedy
from basin.settings import Curve, value_at
from basin.stages.advice.look import Look
from basin.stages.files import element_mesh
from basin.stages.gestures.fit import fitted

STANDARD = 9.80665  # m/s2, CGPM 1901
STRANGE = 50.0  # m/s2, more than on any body that an artist sets a shot on
FALLS = 1.5  # times the shot's length: a fall through the liquid that lasts longer is not seen
LARGE = 3.0  # times the voxels that would do


def strange_gravity(look: Look) -> list[Advice]:
    """Gravity that is likely given in another unit."""
    gravity = look.scene.liquid.gravity
    if isinstance(gravity, Curve) or float(np.linalg.norm(gravity)) <= STRANGE:
        return []
    pull = float(np.linalg.norm(gravity))
    down = [round(float(v), 5) for v in np.array(gravity) / pull * STANDARD]
    unit = "centimetres" if abs(pull / STANDARD - 100) < 10 else "another unit"
    return [
        Advice(
            f"gravity is {pull:.4g} m/s², {pull / STANDARD:.0f} times the earth's",
            "liquid.gravity",
            "",
            f"if it was meant in {unit}, everything falls too fast",
            Remedy("Use 9.81 m/s²", ("liquid", "gravity"), down),
        )
    ]


def out_of_scale(look: Look) -> list[Advice]:
    """Liquid so large that the shot is over before it has fallen through its own height."""
    scene = look.scene
    pull = float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0))) * scene.time.time_scale**2
    if pull < 1e-3:
        return []
    tops = [scene.domain.low[1]]
    for element in scene.elements:
        if isinstance(element, Fill | Inflow):
            mesh = element_mesh(element, look.files)
            if mesh is not None and len(mesh.position):
                tops.append(float(mesh.transformed(scene.placement(element).matrix(0.0)).position[:, 1].max()))
    height, shot = max(tops) - scene.domain.low[1], scene.time.shot_time(scene.time.last)
    fall = float(np.sqrt(2 * max(height, 0.0) / pull))
    if fall <= FALLS * max(shot, 1e-9):
        return []
    return [
        Advice(
            f"a fall from where the liquid stands takes {fall:.2g} s, and the shot lasts {shot:.2g} s",
            "domain.size",
            "",
            "it seems to hang in the air; the scene may be too large for its time",
        )
    ]


def empty_domain(look: Look) -> list[Advice]:
    """A domain of which much is never reached."""
    scene = look.scene
    fits = fitted(scene, look.files, "final")
    if fits is None or fits.before < LARGE * fits.voxels:
        return []
    domain = {**scene.domain.model_dump(mode="json"), "low": fits.low, "size": fits.size}
    return [
        Advice(
            f"most of the domain stays empty: {fits.voxels / fits.before:.0%} of its voxels would do",
            "domain.size",
            "",
            "it costs memory and makes coarse voxels look finer than they are",
            Remedy("Fit it", ("domain",), domain),
        )
    ]
