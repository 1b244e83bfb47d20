"""Viscous cases of the catalogue, part B, and A26 with viscosity: runs of the whole solver."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.sparse import csr_matrix, diags
from scipy.special import erfc

from basin.liquid.particles import X
from basin.liquid.step import Liquid
from basin.liquid.viscosity import Viscous
from tests.reference.cases import fitted_wave, four_vortices, kinetic, lift, set_flow
from tests.reference.tanks import CLOSED, G, box_collider, box_fill, liquid, position, velocity

DENSE = 1000.0  # kg/m3, so that a kinematic viscosity of 0.01 m2/s is 10 Pa s
CHANNEL = {**CLOSED, "x_min": "periodic", "x_max": "periodic", "z_min": "periodic", "z_max": "periodic"}


def assembled(matrix: Viscous) -> tuple[csr_matrix, np.ndarray]:
    """The matrix from its energy: M + G^T W G, with G the strains at cells and edges as sparse differences.

    Returns
    -------
    the matrix over the free faces, and which of the dense grid's faces these are, bool (3, Nx, Ny, Nz)
    """
    tiles = matrix.tiles
    free = np.stack([tiles.dense(f) for f in matrix.strains.inverse]) > 0
    mass = np.stack([tiles.dense(f) for f in matrix._mass])
    number = np.arange(free.size).reshape(free.shape)

    def moved(axis: int, along: int, step: int) -> np.ndarray:
        return np.roll(number[axis], -step, along)

    strains = [([moved(d, d, 1), number[d]], tiles.dense(matrix._cell[d])) for d in range(3)]
    for e, (x, y) in enumerate(((0, 1), (0, 2), (1, 2))):
        faces = [number[x], moved(x, y, -1), number[y], moved(y, x, -1)]
        strains.append((faces, tiles.dense(matrix._edge[e])))
    total = diags(np.where(free, mass, 0.0).ravel().astype(float)).tocsr()
    for faces, weight in strains:
        at = np.flatnonzero(weight.ravel() > 0)
        column = np.concatenate([f.ravel()[at] for f in faces])
        sign = np.repeat([1.0, -1.0] * (len(faces) // 2), len(at))
        row = np.tile(np.arange(len(at)), len(faces))
        slope = csr_matrix((sign, (row, column)), shape=(len(at), free.size))
        total = total + slope.T @ diags(weight.ravel()[at].astype(float)) @ slope
    chosen = np.flatnonzero(free.ravel())
    return csr_matrix(total)[chosen][:, chosen], free


def run_for(run: Liquid, fps: float, seconds: float, frame: int = 1) -> int:
    """Go on from a frame until a shot time; returns the frame there."""
    while (frame - 1) / fps < seconds - 1e-9:
        frame += 1
        run.advance_frame(frame)
    return frame


def poiseuille(cells: int, seconds: float, off: float = 0.0, fps: float = 200.0) -> tuple[float, float]:
    """Case B01: 0.1 m between planes, 0.01 m2/s, driven by 1 m/s2; planes `off` voxels beside the faces.

    Returns
    -------
    speed amid the planes over the series' (Batchelor 1967, 4.3) at that time, and the relative RMS error of the
    profile of a steady flow, which is only of use late
    """
    deep, nu = 0.1, 0.01
    dx, low = deep / cells, off * deep / cells
    high = deep + (dx if off else 0.0)
    elements = [box_fill((0, 0, 0), (8 * dx, high, 8 * dx), viscosity=nu * DENSE)]
    if off:
        elements += [
            box_collider((-1, -1, -1), (1, low, 1), "floor"),
            box_collider((-1, low + deep, -1), (1, 2, 1), "roof"),
        ]
    run = liquid(dx, (8 * dx, high, 8 * dx), elements, CHANNEL, fps=fps, gravity=(1, 0, 0), density=DENSE)
    run_for(run, fps, seconds)
    y, u = position(run)[:, 1] - low, velocity(run)[:, 0]
    n = np.arange(1, 400, 2)
    lag = (32 / (n * np.pi) ** 3 * np.sin(n * np.pi / 2) * np.exp(-((n * np.pi / deep) ** 2) * nu * seconds)).sum()
    middle = deep**2 / (8 * nu) * (1 - lag)
    steady = y * (deep - y) / (2 * nu)
    amid = np.abs(y - deep / 2) < 0.5 * dx
    return float(u[amid].mean() / middle), float(np.sqrt(((u - steady) ** 2).mean() / (steady**2).mean()))


def dragged(cells: int, deep: float, seconds: float, fps: float = 200.0) -> tuple[np.ndarray, np.ndarray]:
    """Cases B03 and B04: liquid of 0.01 m2/s on a floor that slides at 1 m/s; heights and velocities of particles."""
    dx = 0.1 / cells
    keys = [{"time": t, "value": [t, -0.05, 0.0], "segment": "linear"} for t in (0.0, 10.0)]
    floor = box_collider((-30, -0.1, -1), (30, 0.0, 1), "floor", pose={"translation": {"keys": keys}})
    fill = box_fill((0, 0, 0), (8 * dx, deep, 8 * dx), viscosity=0.01 * DENSE)
    run = liquid(dx, (8 * dx, deep, 8 * dx), [fill, floor], CHANNEL, fps=fps, gravity=(0, 0, 0), density=DENSE)
    run_for(run, fps, seconds)
    return position(run)[:, 1], velocity(run)[:, 0]


def couette(seconds: float, cells: int = 16) -> float:
    """Case B03: speed amid 0.1 m between a sliding and a still plane, m/s."""
    y, u = dragged(cells, 0.1, seconds)
    return float(u[np.abs(y - 0.05) < 0.5 * 0.1 / cells].mean())


def stokes(fps: float, cells: int = 20) -> float:
    """Case B04: RMS error after 0.1 s of the speed above a plane that slid off, over its speed."""
    y, u = dragged(cells, 0.3, 0.1, fps)
    return float(np.sqrt(((u - erfc(y / (2 * np.sqrt(0.01 * 0.1)))) ** 2)[y < 0.15].mean()))


def swinging(steps: int, cells: int = 8) -> list[complex]:
    """Stokes' second problem: a floor swings in its plane, once a second, under liquid six layers deep.

    Parameters
    ----------
    steps : pairs of substeps in a swing; cells : voxels in the layer, sqrt(2 nu / w)

    Returns
    -------
    what the motion one and two layers up is of that of the series' end, exp(i w t) cosh(L (H - y)) / cosh(L H) with
    L = (1 + i) / layer (Batchelor 1967, 4.3, with a free surface at H): its size, and how far it lags as its angle
    """
    turn, nu, periods = 2 * np.pi, 0.01, 4
    layer = np.sqrt(2 * nu / turn)
    dx = layer / cells
    deep = 6 * cells * dx
    times = np.arange(0, periods + 1e-9, 1 / (4 * steps))
    keys = [
        {"time": float(t), "value": [0.1 * float(1 - np.cos(turn * t)) / turn, -0.05, 0.0], "segment": "linear"}
        for t in times
    ]
    floor = box_collider((-3, -0.1, -1), (3, 0.0, 1), "floor", pose={"translation": {"keys": keys}})
    fill = box_fill((0, 0, 0), (8 * dx, deep, 8 * dx), viscosity=nu * DENSE)
    size = (8 * dx, deep + 2 * dx, 8 * dx)
    walls = {**CHANNEL, "y_max": "open"}
    two = {"substeps_min": 2, "substeps_max": 2}
    more: dict[str, Any] = {"fps": float(steps), "gravity": (0, 0, 0), "density": DENSE, **two}
    run = liquid(dx, size, [fill, floor], walls, **more)
    seen: list[list[float]] = []
    for frame in range(2, periods * steps + 2):
        run.advance_frame(frame)
        if frame > (periods - 1) * steps + 1:
            y, u = position(run)[:, 1], velocity(run)[:, 0]
            seen.append([(frame - 1) / steps, *(u[np.abs(y - n * layer) < 0.5 * dx].mean() for n in (1, 2))])
    table = np.array(seen)
    wave = np.exp(-1j * turn * table[:, 0])
    rate = (1 + 1j) / layer
    found = []
    for n in (1, 2):
        exact = np.cosh(rate * (deep - n * layer)) / np.cosh(rate * deep) * -1j  # of sin, as the floor goes
        found.append(complex(2 * (table[:, n] * wave).mean() / (0.1 * exact)))
    return found


def layered(contrast: float, cells: int = 20) -> float:
    """Couette's flow of two layers: by how many voxels the thick one, on a sliding floor, seems too thick.

    Stress is the same in both, so speeds fall in each as its thickness over its viscosity (Bird, Stewart & Lightfoot
    2002, 2.5, "flow of two adjacent immiscible fluids", there driven by pressure).
    """
    dx, deep, nu = 0.1 / cells, 0.1, 0.01
    keys = [{"time": t, "value": [t, -0.05, 0.0], "segment": "linear"} for t in (0.0, 10.0)]
    floor = box_collider((-30, -0.1, -1), (30, 0.0, 1), "floor", pose={"translation": {"keys": keys}})
    low = box_fill((0, 0, 0), (8 * dx, deep / 2, 8 * dx), viscosity=contrast * nu * DENSE)
    high = box_fill((0, deep / 2, 0), (8 * dx, deep, 8 * dx), "thin", viscosity=nu * DENSE)
    run = liquid(dx, (8 * dx, deep, 8 * dx), [low, high, floor], CHANNEL, fps=50, gravity=(0, 0, 0), density=DENSE)
    run_for(run, 50, 1.0)  # four times the square of the thin layer over its viscosity
    y, u = position(run)[:, 1], velocity(run)[:, 0]
    amid = (y > deep / 2 + 3 * dx) & (y < deep - 3 * dx)
    slope = -np.polyfit(y[amid], u[amid], 1)[0]
    return float((deep / 2 + deep / 2 / contrast - 1.0 / slope) / dx)


def film(cells: float, angle: float, thick: float, nu: float, seconds: float) -> tuple[float, float]:
    """Case B06: a film down an incline, so many voxels thick; speed of its surface and flow over Nusselt's 1916.

    Of one thinner than a voxel the surface is all of it.
    """
    dx = thick / cells
    fill = box_fill((0, 0, 0), (8 * dx, thick, 8 * dx), viscosity=nu * DENSE)
    pull = (G * np.sin(angle), -G * np.cos(angle), 0.0)
    walls = {**CHANNEL, "y_max": "open"}
    high = max(2 * thick, thick + 5 * dx)
    run = liquid(dx, (8 * dx, high, 8 * dx), [fill], walls, fps=100, gravity=pull, density=DENSE)
    run_for(run, 100, seconds)
    y, u, share = position(run)[:, 1], velocity(run)[:, 0], run.state.particles.volume
    surface = G * np.sin(angle) * thick**2 / (2 * nu)
    upper = y > thick - 1.0 * dx
    expected = surface * (1 - (1 - y[upper] / thick) ** 2)
    flow = float((u * share).sum() / share.sum())
    return float((u[upper] / expected).mean()), flow / (surface * 2 / 3)


def slipping_film(cells: float, slip: float | None, slope: float = np.pi / 6) -> float:
    """Case D02 (Navier 1823): speed of a film's mean on a floor with a slip length over g sin (h^2 / 3 + b h) / nu.

    Parameters
    ----------
    slip : of the film's thickness, 2 cm; None is free: then over g sin t, after a quarter of a second
    """
    thick, nu = 0.02, 0.005
    dx, pull = thick / cells, G * np.sin(slope)
    # what is missing of the steady speed goes as exp(-t / tau) with tau below this (momentum over the friction)
    seconds = 0.25 if slip is None else 6 * thick**2 * (1 / 3 + slip) / nu
    low = 2.3 * dx
    floor = box_collider((-1, -1, -1), (2, low, 2), "floor", slip_length=None if slip is None else slip * thick)
    fill = box_fill((0, low, 0), (8 * dx, low + thick, 8 * dx), viscosity=nu * DENSE)
    walls = {**CHANNEL, "y_max": "open"}
    size = (8 * dx, low + 2 * thick + 3 * dx, 8 * dx)
    run = liquid(dx, size, [floor, fill], walls, fps=100, gravity=(pull, -G * np.cos(slope), 0.0), density=DENSE)
    frame = run_for(run, 100, seconds)
    mean = float(np.average(velocity(run)[:, 0], weights=run.state.particles.volume))
    if slip is None:
        return mean / (pull * (frame - 1) / 100)
    return mean / (pull * thick**2 * (1 / 3 + slip) / nu)


def turned_box(
    kind: str, middle: np.ndarray, size: tuple[float, float], slope: float, deep: float, **more: Any
) -> dict[str, Any]:
    """An element that lies on a slope (radians), through all of a domain so deep."""
    pose = {"translation": [*middle, deep / 2], "rotation": [0, 0, -float(np.degrees(slope))]}
    return {"kind": kind, "name": kind, "shape": {"kind": "box", "size": [*size, 4.0]}, "pose": pose, **more}


def leaning_film(cells: float, nu: float = 0.005, seconds: float = 0.5, slip: float = 0.0) -> float:
    """Case B06 on a slope of 30 degrees across the grid: speed amid a film, so many voxels thick, over Nusselt's.

    Parameters
    ----------
    slip : of the film's thickness, the slope's slip length (case D02)
    """
    dx, slope = 0.0125, np.pi / 6
    thick, deep = cells * dx, 16 * dx
    along, up = np.array([np.cos(slope), -np.sin(slope)]), np.array([np.sin(slope), np.cos(slope)])
    top = np.array([0.5, 1.0])
    elements = [
        turned_box("collider", top - 0.15 * up, (4.0, 0.3), slope, deep, slip_length=slip * thick),
        turned_box("fill", top + 0.5 * thick * up, (0.6, thick), slope, deep, viscosity=nu * DENSE),
    ]
    walls = {**dict.fromkeys(CLOSED, "open"), "z_min": "periodic", "z_max": "periodic"}
    run = liquid(dx, (2.1, 1.4, deep), elements, walls, fps=48, density=DENSE)
    run_for(run, 48, seconds)
    way = position(run)[:, :2] @ along
    amid = np.abs(way - np.median(way)) < 0.12  # its ends run out or stay behind
    speed = np.average(velocity(run)[amid, :2] @ along, weights=run.state.particles.volume[amid])
    return float(speed / (G * np.sin(slope) * thick**2 * (1 / 3 + slip) / nu))


def draining(cells: float, lean: bool = False) -> float:
    """Case B15 (Jeffreys 1930): a coat drains off a wall; speed where it should be so many voxels thick, over theory.

    After a while h = sqrt(nu z / (g t)) at z below its upper edge, so the speed at a thickness is as the square of the
    thickness that is found, in the mean from 0.7 to 1.3 times as far down. The wall is upright and along the grid, or
    leans by 30 degrees across it.
    """
    dx, nu, long = 0.0125, 0.005, 1.0
    slope = np.pi / 6 if lean else np.pi / 2
    seconds = 1.0 if cells > 0.5 else 3.0
    if lean:
        seconds *= 2
    pull = G * np.sin(slope)
    far = (cells * dx) ** 2 * pull * seconds / nu
    thick, deep = 2 * dx, 8 * dx
    open_walls: dict[str, str] = {**dict.fromkeys(CLOSED, "open"), "z_min": "periodic", "z_max": "periodic"}
    along, up = np.array([np.cos(slope), -np.sin(slope)]), np.array([np.sin(slope), np.cos(slope)])
    top = np.array([0.1, 0.6]) if lean else np.array([0.0, long])
    middle = top + 0.5 * thick * up + 0.5 * long * along
    elements = [turned_box("fill", middle, (long, thick), slope, deep, viscosity=nu * DENSE)]
    if lean:
        size = (1.1, 0.75, deep)
        elements.append(turned_box("collider", top - 0.15 * up, (4.0, 0.3), slope, deep))
    else:
        size, open_walls["x_min"] = (thick + 6 * dx, long, deep), "closed"
    run = liquid(dx, size, elements, open_walls, fps=48, density=DENSE)
    run_for(run, 48, seconds)
    way = (position(run)[:, :2] - top) @ along
    about = np.abs(way - far) < 0.3 * far
    volume = float(run.state.particles.volume[about].sum()) * dx**3
    expected = np.sqrt(nu / (pull * seconds)) * 2 / 3 * far**1.5 * (1.3**1.5 - 0.7**1.5) * deep
    return float((volume / expected) ** 2)


def levelling(cells: float, seconds: float = 1.0) -> float:
    """Rate at which a film's waves of 24 voxels sink on a floor, over lubrication's g h^3 k^2 / (3 nu).

    Oron, Davis & Bankoff 1997, Rev Mod Phys 69(3), sec. II, without tension: what thin films run down is their own
    slope. The film is so many voxels thick, its waves a third of that.
    """
    dx, nu, steep, long = 0.01, 0.0005, 1 / 3, 24
    thick, wave = cells * dx, 2 * np.pi / (long * dx)
    fill = box_fill((0, 0, 0), (long * dx, thick, 8 * dx), viscosity=nu * DENSE)
    walls = {**CHANNEL, "y_max": "open"}
    run = liquid(dx, (long * dx, 6 * dx, 8 * dx), [fill], walls, fps=48, density=DENSE)

    def height() -> float:
        """Of the wave, over the film's thickness."""
        part = run.state.particles.volume * np.exp(1j * wave * position(run)[:, 0])
        return float(2 * abs(part.sum()) / run.state.particles.volume.sum())

    x = run.state.particles.position[:, 0].astype(np.float64)
    run.state.particles.record[:, X] = (x - steep / (wave * dx) * np.sin(wave * dx * x)) % long
    first = height()
    run_for(run, 48, seconds)
    return float(np.log(first / height()) / seconds / (G * thick**3 * wave**2 / (3 * nu)))


def turning_disc(cells: int, nu: float, turns: float = 1.0) -> tuple[float, float]:
    """Case B16: a free disc of 0.1 m that turns once a second; angular momentum and energy that it keeps."""
    dx = 0.1 / cells
    size = (0.3, 0.3, 8 * dx)
    fill = box_fill((0, 0, 0), size, viscosity=nu * DENSE)
    walls = {**CLOSED, "z_min": "periodic", "z_max": "periodic"}
    run = liquid(dx, size, [fill], walls, fps=96, gravity=(0, 0, 0), density=DENSE)
    far = np.hypot(*(position(run)[:, :2] - 0.15).T)
    run.state.particles = run.state.particles.taken(far < 0.1)

    def spin(at: np.ndarray) -> np.ndarray:
        return 2 * np.pi * np.stack([0.15 - at[:, 1], at[:, 0] - 0.15, np.zeros(len(at))], axis=1)

    set_flow(run, spin)

    def kept() -> tuple[float, float]:
        x, u, m = position(run) - [0.15, 0.15, 0], velocity(run), run.state.particles.volume.astype(float)
        return float((m * (x[:, 0] * u[:, 1] - x[:, 1] * u[:, 0])).sum()), float(m @ (u**2).sum(axis=1))

    first = kept()
    run_for(run, 96, turns)
    last = kept()
    return last[0] / first[0], last[1] / first[1]


def vortices(cells: int, nu: float, seconds: float = 0.5) -> float:
    """Case A26: the rate (1/s) at which four vortices in a periodic box lose their energy."""
    dx = 1.0 / cells
    walls = dict.fromkeys(CHANNEL, "periodic")
    fill = box_fill((0, 0, 0), (1.0, 1.0, 8 * dx), viscosity=nu * DENSE)
    run = liquid(dx, (1.0, 1.0, 8 * dx), [fill], walls, fps=48, gravity=(0, 0, 0), density=DENSE)

    set_flow(run, four_vortices)
    first = kinetic(run)
    run_for(run, 48, seconds)
    return float(-np.log(kinetic(run) / first) / seconds)


def spread(seconds: list[float], dx: float = 0.004) -> list[float]:
    """Case B09: front (m) of a column of 0.2 x 0.05 m and 0.01 m2/s that runs out over a floor that it sticks to."""
    size = (0.6, 0.1, 8 * dx)
    fill = box_fill((0, 0, 0), (0.2, 0.05, 8 * dx), viscosity=0.01 * DENSE)
    walls = {**CLOSED, "z_min": "periodic", "z_max": "periodic", "y_max": "open"}
    run = liquid(dx, size, [fill], walls, fps=24, density=DENSE)
    found, frame = [], 1
    for time in seconds:
        frame = run_for(run, 24, time, frame)
        found.append(float(np.quantile(position(run)[:, 0], 0.9995)))
    return found


def yielding_channel(stress: float, index: float, thick: float, seconds: float = 1.0) -> tuple[float, float]:
    """Speed amid 0.1 m between planes, driven by 1 m/s2, of liquid that yields at a stress (kinematic, m2/s2), or
    flows by a power law of an index, so thick (m2/s) at one per second; over the exact one.

    Skelland 1967, "Non-Newtonian flow and heat transfer" (from memory): for a Bingham liquid (index 1) a plug, in
    which the stress is below the yield stress, half as wide as this over the drive; for a power law
    u = n / (n + 1) (G / K)^(1/n) ((H/2)^(1 + 1/n) - |y|^(1 + 1/n)).

    Returns
    -------
    that ratio, and the relative RMS error of the profile
    """
    deep, fps = 0.1, 200.0
    dx, half = deep / 16, deep / 2
    own: dict[str, Any] = {"viscosity": thick * DENSE, "yield_stress": stress * DENSE, "flow_index": index}
    fill = box_fill((0, 0, 0), (8 * dx, deep, 8 * dx), **own)
    run = liquid(dx, (8 * dx, deep, 8 * dx), [fill], CHANNEL, fps=fps, gravity=(1, 0, 0), density=DENSE)
    run_for(run, fps, seconds)
    off, u = np.abs(position(run)[:, 1] - half), velocity(run)[:, 0]
    if stress > 0:
        plug = stress
        off = np.maximum(off, plug)
        exact = ((half - plug) ** 2 - (off - plug) ** 2) / (2 * thick)
    else:
        power = 1 + 1 / index
        exact = index / (index + 1) * thick ** (-1 / index) * (half**power - off**power)
    amid = off <= max(stress, 0.5 * dx)
    ratio = float(u[amid].mean() / exact[amid].mean())
    return ratio, float(np.sqrt(((u - exact) ** 2).mean() / (exact**2).mean()))


def yielding_film(thick: float, cells: int = 8, seconds: float = 0.6) -> tuple[float, float]:
    """Case B18: a film of 1,140 kg/m3 that yields at 30 Pa, 1 Pa s, down an incline of 30 degrees: the speed of its
    surface, m/s, and what a Bingham film's is (Liu & Mei 1989), none if it is thinner than 5.37 mm."""
    dx, angle, density = thick / cells, np.pi / 6, 1140.0
    fill = box_fill((0, 0, 0), (8 * dx, thick, 8 * dx), viscosity=1.0, yield_stress=30.0)
    pull = (G * np.sin(angle), -G * np.cos(angle), 0.0)
    walls = {**CHANNEL, "y_max": "open"}
    run = liquid(dx, (8 * dx, 2 * thick, 8 * dx), [fill], walls, fps=100, gravity=pull, density=density)
    run_for(run, 100, seconds)
    sheared = thick - 30.0 / (density * G * np.sin(angle))
    y, u = position(run)[:, 1], velocity(run)[:, 0]
    return float(u[y > thick - dx].mean()), density * G * np.sin(angle) * max(sheared, 0.0) ** 2 / 2


def slumped(stress: float, dx: float = 0.005, seconds: float = 1.5) -> tuple[float, float]:
    """Case B18: half the length of what is left of a block 0.1 m high and wide, of 1,140 kg/m3 on a floor it sticks to,
    over that of a heap whose slope just holds it (Liu & Mei 1989: h^2 = 2 stress (L - x) / (density g)); and how fast
    it still moves, m/s, 99 of 100."""
    density, width = 1140.0, 0.4
    own: dict[str, Any] = {"viscosity": 1.0, "yield_stress": stress}
    fill = box_fill((width / 2 - 0.05, 0, 0), (width / 2 + 0.05, 0.1, 8 * dx), **own)
    walls = {**CLOSED, "z_min": "periodic", "z_max": "periodic", "y_max": "open"}
    run = liquid(dx, (width, 0.125, 8 * dx), [fill], walls, fps=96, density=density)
    run_for(run, 96, seconds)
    off = np.abs(position(run)[:, 0] - width / 2)
    held = (1.5 * 0.5 * 0.01 / np.sqrt(2 * stress / (density * G))) ** (2 / 3)
    return float(np.quantile(off, 0.995)) / held, float(np.quantile(np.linalg.norm(velocity(run), axis=1), 0.99))


def dragging(nu: float = 0.005, thick: float = 0.02, cells: int = 16) -> tuple[Liquid, float]:
    """A film down an incline of 30 degrees on a floor of its own, in steady flow, and what its own weight drags this
    along with, N (Newton)."""
    dx, angle = thick / cells, np.pi / 6
    long = 8 * dx
    pull = (G * np.sin(angle), -G * np.cos(angle), 0.0)
    floor = box_collider((-1, -0.05, -1), (1, 2 * dx, 1), "floor")
    fill = box_fill((0, 2 * dx, 0), (long, thick + 2 * dx, long), viscosity=nu * DENSE)
    walls = {**CHANNEL, "y_max": "open"}
    run = liquid(dx, (long, 2 * thick, long), [fill, floor], walls, fps=100, gravity=pull, density=DENSE)
    run_for(run, 100, 0.3)
    weight = DENSE * long * long * thick
    return run, weight * pull[0]


def wave_roots(length: float, nu: float) -> tuple[float, float]:
    """Case B07: rate and frequency of a viscous wave on deep liquid, (s + 2n)^2 + w^2 = 4 n^1.5 sqrt(s + n).

    n = nu k^2, w^2 = g k (Lamb 1932, section 349).
    """
    k = 2 * np.pi / length
    n, wave = nu * k**2, np.sqrt(G * k)
    s = complex(-2 * n, wave)
    for _ in range(50):
        value = (s + 2 * n) ** 2 + wave**2 - 4 * n**1.5 * np.sqrt(s + n)
        s -= value / (2 * (s + 2 * n) - 2 * n**1.5 / np.sqrt(s + n))
    return -s.real, abs(s.imag)


def decaying_wave(cells: int, nu: float, seconds: float = 2.5, fps: float = 48.0) -> tuple[float, float]:
    """Case B07: rate (1/s) and frequency (1/s) of a wave of 1 m on 1 m of liquid that goes on for ever, so many voxels
    long."""
    dx, k = 1.0 / cells, 2 * np.pi
    slab = 6 * dx
    own: dict[str, Any] = {"viscosity": nu * DENSE} if nu > 0 else {}
    walls = {**CHANNEL, "y_max": "open"}
    fill = box_fill((0, 0, 0), (1.0, 1.0, slab), **own)
    run = liquid(dx, (1.0, 1.15, slab), [fill], walls, fps=fps, density=DENSE)
    lift(run, lambda x: 0.02 * np.cos(k * x), 1.0)
    time, mode = [], []
    for frame in range(2, 2 + round(seconds * fps)):
        run.advance_frame(frame)
        volume = run.state.particles.volume.astype(np.float64) * dx**3
        time.append((frame - 1) / fps)
        mode.append(2 * float((volume * np.cos(k * position(run)[:, 0])).sum()) / slab)
    found, decay = fitted_wave(np.array(time), np.array(mode), wave_roots(1.0, nu)[1])
    return decay, abs(found)
