"""Cases with known answers, each as a function of its resolution: the tests run one size, the bench three.

Numbers (A10 and so on) are those of our own list of published cases; sources stand beside the values.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from scipy.optimize import curve_fit, root_scalar

from basin.exchange import write_ply
from basin.grid.layout import PAD
from basin.liquid.step import Liquid
from tests.reference.tanks import (
    CLOSED,
    G,
    box_collider,
    box_fill,
    column_heights,
    liquid,
    mechanical_energy,
    position,
    velocity,
)

SLAB = 4  # voxels of depth of two-dimensional cases, between free-slip walls
FPS = 24.0


def wave_frequency(wavenumber: float, depth: float) -> float:
    """Small waves at finite depth: w^2 = g k tanh(k h) (Lamb, Hydrodynamics, 1932, section 228; Airy 1845)."""
    return float(np.sqrt(G * wavenumber * np.tanh(wavenumber * depth)))


def lift(run: Liquid, surface: Any, depth: float) -> None:
    """Stretch the columns of a flat pool so that its surface stands at depth + surface(x); volume follows."""
    p, w = run.state.particles, run.world.layout
    share = 1.0 + surface(position(run)[:, 0]) / depth
    p.position[:, 1] = PAD + (p.position[:, 1] - PAD) * share.astype(np.float32)
    p.volume[:] *= share.astype(np.float32)
    assert w.low[1] == 0.0


def fitted_wave(time: np.ndarray, amplitude: np.ndarray, frequency: float) -> tuple[float, float]:
    """Frequency and decay of a exp(-b t) cos(w t + c) + d by least squares, the first half period left out (M2)."""
    late = time > np.pi / frequency

    def wave(t: np.ndarray, a: float, b: float, w: float, c: float, d: float) -> np.ndarray:
        return np.asarray(a * np.exp(-b * t) * np.cos(w * t + c) + d)

    start = (float(amplitude[0]), 0.05, frequency, 0.0, 0.0)
    found, _ = curve_fit(wave, time[late], amplitude[late], p0=start)
    return float(found[2]), float(found[1])


def sloshing(cells: int, depth: float = 0.5, halved: bool = False, **more: Any) -> tuple[np.ndarray, np.ndarray]:
    """Case A10: times (s) and amplitudes (m) of the first mode of a tank 1 m long, let go with 0.02 m of it.

    Parameters
    ----------
    cells : voxels along the tank
    halved : twice as many substeps (rule M6)
    more : settings of the liquid, and its `viscosity`
    """
    dx, k = 1.0 / cells, np.pi
    size = (1.0, depth * 1.4, SLAB * dx)
    steps = {"substeps_min": 4} if halved else {"substeps_min": 2}
    own = {"viscosity": more.pop("viscosity")} if "viscosity" in more else {}
    run = liquid(dx, size, [box_fill((0, 0, 0), (1.0, depth, SLAB * dx), **own)], fps=FPS, **{**steps, **more})
    lift(run, lambda x: 0.02 * np.cos(k * x), depth)
    time, mode = [], []
    for frame in range(2, 2 + round(6 * FPS)):
        run.advance_frame(frame)
        volume = run.state.particles.volume.astype(np.float64) * dx**3
        time.append((frame - 1) / FPS)
        mode.append(2 * float((volume * np.cos(k * position(run)[:, 0])).sum()) / (SLAB * dx))
    return np.array(time), np.array(mode)


def sloshing_period(cells: int, depth: float = 0.5, **more: Any) -> tuple[float, float]:
    """Case A10: its period over Lamb's; and the amplitude kept per period."""
    omega = wave_frequency(np.pi, depth)
    found, decay = fitted_wave(*sloshing(cells, depth, **more), omega)
    return omega / found, float(np.exp(-decay * 2 * np.pi / omega))


def drop_axes(time: float) -> tuple[float, float]:
    """Case A23: half axes (m) of a drop of 0.1 m that u = A (x, -y) draws out, A = 1/s at the start.

    A' = A^2 (b^2 - a^2) / (a^2 + b^2), a' = A a, b' = -A b (Dirichlet 1860; Longuet-Higgins 1972).
    A^2 (a^2 + b^2) and a b are kept, so that a alone remains to be integrated.
    """
    from scipy.integrate import quad

    def rate(a: float) -> float:
        return a * np.sqrt(0.02 / (a * a + 1e-4 / (a * a)))

    a = root_scalar(lambda end: quad(lambda s: 1 / rate(s), 0.1, end)[0] - time, bracket=(0.1, 1.0)).root
    return float(a), 0.01 / float(a)


def stretched_drop(cells: int, time: float = 1.0) -> tuple[float, float]:
    """Case A23: half axes of the drop after a time, over Dirichlet's; `cells` voxels to its radius."""
    dx = 0.1 / cells
    walls = {**dict.fromkeys(CLOSED, "open"), "z_min": "closed", "z_max": "closed"}
    low, size = (-0.3, -0.13, 0.0), (0.6, 0.26, SLAB * dx)
    run = liquid(dx, size, [box_fill((-0.1, -0.1, 0), (0.1, 0.1, SLAB * dx))], walls=walls, low=low, gravity=(0, 0, 0))
    p = run.state.particles
    run.state.particles = p = p.taken(np.hypot(*position(run)[:, :2].T) < 0.1)
    x = position(run)
    p.velocity[:, 0], p.velocity[:, 1] = x[:, 0] / dx, -x[:, 1] / dx
    p.affine[:, 0, 0], p.affine[:, 1, 1] = 1.0, -1.0
    first = [2 * float(np.sqrt((x[:, d] ** 2).mean())) for d in (0, 1)]
    for frame in range(2, 2 + round(time * FPS)):
        run.advance_frame(frame)
    x = position(run)
    expected = drop_axes(time)
    # over the drop's own first axes, whose lattice fills the circle to within a few parts in a thousand
    a, b = (2 * float(np.sqrt((x[:, d] ** 2).mean())) / first[d] * 0.1 / expected[d] for d in (0, 1))
    return a, b


def leaning_surface(cells: int, acceleration: float = 2.0) -> float:
    """Case A14: slope of the surface in a tank under a sideways acceleration, over a / g (Euler)."""
    dx = 1.0 / cells
    run = liquid(dx, (1.0, 0.75, SLAB * dx), [box_fill((0, 0, 0), (1.0, 0.5, SLAB * dx))], fps=FPS)
    slopes = []
    edges = np.linspace(0, 1, 17)
    for frame in range(2, 2 + round(5 * FPS)):
        time = (frame - 1) / FPS
        run.world.gravity[0] = acceleration * min(time / 3.0, 1.0)
        run.advance_frame(frame)
        if time > 5.0 - 2 * np.pi / wave_frequency(np.pi, 0.5):  # one period: the mean over what sloshing is left
            heights = column_heights(run, edges, SLAB * dx)
            slopes.append(np.polyfit((edges[1:] + edges[:-1]) / 2, heights, 1)[0])
    return float(np.mean(slopes)) / (acceleration / G)


def shaken_level(cells: int, shaken: float = 20.0, rest: float = 10.0, deep: bool = False) -> dict[str, Any]:
    """Case A25: a tank 1 m long shaken by 5 mm at its first natural frequency, then at rest.

    Returns
    -------
    the settled level's change over the first one's: `level` (of the level set), in voxels `voxels`,
    largest change of the mass `mass`, cells deep in the liquid without particles `voids` (share),
    most particles in a cell `clump`, and after each frame the `time` (s) and the `energy` (J/kg) above rest.
    """
    dx, depth = 1.0 / cells, 0.5
    across = 1.0 if deep else SLAB * dx
    run = liquid(dx, (1.0, 1.0, across), [box_fill((0, 0, 0), (1.0, depth, across))], fps=FPS)
    omega = wave_frequency(np.pi, depth)
    mass = run.state.particles.volume.sum(dtype=np.float64)
    first = mean_level(run, 0.0)
    times, energies = [0.0], [mechanical_energy(run)]
    for frame in range(2, 2 + round((shaken + rest) * FPS)):
        time = (frame - 1) / FPS
        run.world.gravity[0] = 0.005 * omega**2 * np.sin(omega * time) if time < shaken else 0.0
        run.advance_frame(frame)
        times.append(time)
        energies.append(mechanical_energy(run))
    last = mean_level(run, 0.0)
    p = run.state.particles
    cell = np.floor(p.position).astype(int)
    deepest = cell[:, 1] < PAD + depth / dx - 3
    _, count = np.unique(cell[deepest], axis=0, return_counts=True)
    held = round(depth / dx - 3) * cells * round(across / dx)
    return {
        "level": last / first - 1,
        "voxels": (last - first) / dx,
        "mass": abs(p.volume.sum(dtype=np.float64) / mass - 1),
        "voids": 1 - len(count) / held,
        "clump": float(count.max()),
        "time": np.array(times),
        "energy": np.array(energies) - energies[0],
    }


def mean_level(run: Liquid, shot_time: float) -> float:
    """Mean height (m) of the level set's zero over the columns of a tank, its outermost ones left out."""
    fields = run.fields(shot_time)
    phi = fields.tiles.dense(fields.phi)[PAD:-PAD, PAD:-PAD, PAD:-PAD]
    levels = []
    for i in range(2, phi.shape[0] - 2):
        for k in range(1, phi.shape[2] - 1):
            column = phi[i, :, k]
            top = int(np.flatnonzero(column < 0)[-1])
            levels.append(top + 0.5 + column[top] / (column[top] - column[top + 1]))
    return float(np.mean(levels)) * run.world.layout.dx


def set_flow(run: Liquid, flow: Any, step: float = 1e-4) -> None:
    """Give the particles a flow of places (m) (n, 3) -> velocities (m/s), and its gradient."""
    p, dx, x = run.state.particles, run.world.layout.dx, position(run)
    p.velocity[:] = flow(x) / dx
    for d in range(3):
        ahead = np.eye(3)[d] * step
        p.affine[:, :, d] = (flow(x + ahead) - flow(x - ahead)) / (2 * step)


def travelling_wave(cells: int, halved: bool = False) -> tuple[float, float]:
    """Case A16: speed of a wave 1 m long over 0.5 m of water, over Airy's; and the amplitude kept per period.

    Parameters
    ----------
    cells : voxels to the wavelength
    halved : twice as many substeps (rule M6)
    """
    dx, depth, k = 1.0 / cells, 0.5, 2 * np.pi
    omega, height = wave_frequency(k, depth), 0.05 / k
    walls = {**CLOSED, "x_min": "periodic", "x_max": "periodic"}
    steps = 8 if halved else 4
    fill = box_fill((0, 0, 0), (1.0, depth, SLAB * dx))
    run = liquid(dx, (1.0, 0.7, SLAB * dx), [fill], walls=walls, fps=FPS, substeps_min=steps)
    lift(run, lambda x: height * np.cos(k * x), depth)

    def airy(at: np.ndarray) -> np.ndarray:
        u = np.cosh(k * at[:, 1]) * np.cos(k * at[:, 0])
        v = np.sinh(k * at[:, 1]) * np.sin(k * at[:, 0])
        return height * omega / np.sinh(k * depth) * np.stack([u, v, np.zeros_like(u)], axis=1)

    set_flow(run, airy)
    period = 2 * np.pi / omega
    time, mode = [], []
    for frame in range(2, 2 + round(5 * period * FPS)):
        run.advance_frame(frame)
        time.append((frame - 1) / FPS)
        volume = run.state.particles.volume.astype(np.float64)
        mode.append((volume * np.exp(1j * k * position(run)[:, 0])).sum())
    late = np.array(time) > period / 2
    t, z = np.array(time)[late], np.array(mode)[late]
    speed = np.polyfit(t, np.unwrap(np.angle(z)), 1)[0]
    decay = -np.polyfit(t, np.log(np.abs(z)), 1)[0]
    return float(speed) / omega, float(np.exp(-decay * period))


def solitary_wave(cells: int, steep: float = 0.3, halved: bool = False) -> tuple[float, float]:
    """Case A17: speed of a solitary wave on 0.2 m of water over the third-order one, and its height's over the first.

    F^2 = 1 + e - e^2 / 20 - 3 e^3 / 70 (Grimshaw 1971; Fenton 1972), e = a / h. The wave starts as Boussinesq's
    and has to find its own shape, a little lower; both are measured over its last 3 m, with the height it has there.

    Parameters
    ----------
    cells : voxels to the still depth
    halved : twice as many substeps (rule M6)
    """
    h, start = 0.2, 1.3
    a, dx = steep * h, h / cells

    def pace(e: float) -> float:
        return float(np.sqrt(G * h * (1 + e - e**2 / 20 - 3 * e**3 / 70)))

    c = pace(steep)
    shape = np.sqrt(3 * a / (4 * h**3))
    steps = 4 if halved else 2
    run = liquid(dx, (6.0, 0.4, 3 * dx), [box_fill((0, 0, 0), (6.0, h, 3 * dx))], fps=50.0, substeps_min=steps)

    def surface(x: np.ndarray) -> np.ndarray:
        return a / np.cosh(shape * (x - start)) ** 2

    def stream(at: np.ndarray) -> np.ndarray:
        eta = surface(at[:, 0])
        slope = -2 * shape * np.tanh(shape * (at[:, 0] - start)) * eta
        u = c * eta / (h + eta)
        return np.stack([u, -at[:, 1] * c * h * slope / (h + eta) ** 2, np.zeros_like(u)], axis=1)

    lift(run, surface, h)
    set_flow(run, stream)
    width = 2 * dx
    edges = np.arange(0, 6.0 + width / 2, width)
    middle = (edges[1:] + edges[:-1]) / 2

    def hump(x: np.ndarray, high: float, at: float, narrow: float) -> np.ndarray:
        return np.asarray(high / np.cosh(narrow * (x - at)) ** 2)

    found, crest = [], start
    for frame in range(2, 2 + round(2.3 * 50)):
        run.advance_frame(frame)
        heights = column_heights(run, edges, 3 * dx) - h
        near = np.abs(middle - crest - c / 50) < 3 * h
        (high, crest, _), _ = curve_fit(hump, middle[near], heights[near], p0=(a, crest + c / 50, shape))
        found.append(((frame - 1) / 50, crest, high))
    time, crest, height = np.array(found).T
    late = crest > crest[-1] - 15 * h
    first = height[late][:5].mean()
    speed = float(np.polyfit(time[late], crest[late], 1)[0])
    return speed / pace(float(height[late].mean()) / h), float(height[-5:].mean() / first)


def four_vortices(at: np.ndarray) -> np.ndarray:
    """Velocities (n, 3), m/s, of Taylor & Green's vortices in a box of 1 m at places (n, 3)."""
    x, y = 2 * np.pi * at[:, 0], 2 * np.pi * at[:, 1]
    return np.stack([np.sin(x) * np.cos(y), -np.cos(x) * np.sin(y), np.zeros_like(x)], axis=1)


def kinetic(run: Liquid) -> float:
    """Twice the particles' kinetic energy, in a unit of its own."""
    return float((velocity(run) ** 2).sum(axis=1) @ run.state.particles.volume.astype(np.float64))


def vortices(cells: int, flip_share: float = 0.0) -> tuple[float, float]:
    """Case A26 without viscosity: four vortices in a closed box of 1 m; what one turnover costs.

    Returns
    -------
    the energy kept after half a second (a vortex's width over its largest speed, 1 m/s), and the viscosity
    (m2/s) that would take as much: E falls by exp(-4 nu k^2 t) (Taylor and Green 1937), k = 2 pi
    """
    dx, k = 1.0 / cells, 2 * np.pi
    fill = box_fill((0, 0, 0), (1.0, 1.0, SLAB * dx))
    run = liquid(dx, (1.0, 1.0, SLAB * dx), [fill], fps=FPS, gravity=(0, 0, 0), flip_share=flip_share)
    set_flow(run, four_vortices)
    first = kinetic(run)
    for frame in range(2, 14):
        run.advance_frame(frame)
    kept = kinetic(run) / first
    return kept, float(-np.log(kept) / (4 * k * k * 0.5))


OMEGA, ROOM = 7.0, 0.12  # rad/s and m: case A36


def turning_liquid(cells: int, half: bool, flip_share: float = 0.0) -> Liquid:
    """Liquid that turns as a rigid body in a still, frictionless vessel, a mesh, as it is let go; see `turning`."""
    from demo.tide_mill import extrusion

    depth = 0.08
    dx = 2 * ROOM / cells
    high = round(2 * depth / dx) * dx if half else 6 * dx

    def cylinder(r: float, height: float) -> Any:
        angles = np.linspace(0.0, 2 * np.pi, 160, endpoint=False)
        return extrusion([(float(r * np.cos(a)), float(r * np.sin(a))) for a in angles], height)

    room = {"kind": "collider", "name": "room", "side": "inside", "shape": {"kind": "mesh", "file": "room.ply"}}
    water = {"kind": "fill", "name": "water", "shape": {"kind": "mesh", "file": "water.ply"}}
    edge = 1.2 * ROOM + 0.37 * dx  # so that no node lies on an axis of the vessel
    low, size = (-edge, -edge, 0.0 if half else -high / 2), (2.4 * ROOM + dx, 2.4 * ROOM + dx, high)
    with tempfile.TemporaryDirectory() as name:
        for file, mesh in (("room.ply", cylinder(ROOM, 4 * high)), ("water.ply", cylinder(1.02 * ROOM, 2 * depth))):
            write_ply(Path(name) / file, mesh.position, mesh.triangle)
        gravity = (0.0, 0.0, -G if half else 0.0)
        own: dict[str, Any] = {
            "gravity": gravity,
            "flip_share": flip_share,
            "substeps_min": 2,
        }
        run = liquid(dx, size, [water, room], folder=Path(name), low=low, **own)
    p = run.state.particles
    if half:
        across = (position(run)[:, :2] ** 2).sum(axis=1)
        share = (1.0 + OMEGA**2 / (2 * G) * (across - ROOM**2 / 2) / depth).astype(np.float32)
        p.position[:, 2] = PAD + (p.position[:, 2] - PAD) * share
        p.volume[:] *= share
    set_flow(run, lambda at: OMEGA * np.stack([-at[:, 1], at[:, 0], np.zeros(len(at))], axis=1))
    return run


def turning(cells: int, half: bool, flip_share: float = 0.0) -> tuple[float, float]:
    """Case A36: liquid that turns as a rigid body in a still, frictionless vessel, a mesh; 7 rad/s, 0.12 m in radius.

    Parameters
    ----------
    cells : voxels across
    half : half full under gravity, with the paraboloid that belongs to the turn; else full, 6 voxels high, weightless

    Returns
    -------
    angular momentum after two turns over that after one (a first turn has what a start costs, once), and the
    paraboloid's height after two turns over w^2 R^2 / 2g (Newton; 1 where there is none)
    """
    run, dx = turning_liquid(cells, half, flip_share), 2 * ROOM / cells
    turn, momentum = round(2 * np.pi / OMEGA * FPS), []
    for frame in range(2, 2 + 2 * turn):
        run.advance_frame(frame)
        if (frame - 1) % turn == 0:
            x, v = position(run), velocity(run)
            momentum.append(float(run.state.particles.volume @ (x[:, 0] * v[:, 1] - x[:, 1] * v[:, 0])))
    if not half:
        return momentum[1] / momentum[0], 1.0
    square, height = turning_heights(run, dx)
    # the outermost ring is cut by the vessel's corners
    slope = float(np.polyfit(square[:-1], height[:-1], 1)[0])
    return momentum[1] / momentum[0], slope * ROOM**2 / (OMEGA**2 * ROOM**2 / (2 * G))


def turning_heights(run: Liquid, dx: float) -> tuple[np.ndarray, np.ndarray]:
    """Squares of the radius (12,) in the middle of rings of the same area, and the liquid's heights in them, m."""
    square, ring = (position(run)[:, :2] ** 2).sum(axis=1), np.linspace(0.0, ROOM**2, 13)
    volume, _ = np.histogram(square, bins=ring, weights=run.state.particles.volume * dx**3)
    return 0.5 * (ring[1:] + ring[:-1]), volume / (np.pi * np.diff(ring))


def deep_tank(band: float, seconds: float) -> tuple[np.ndarray, np.ndarray, int]:
    """A standing wave of two voxels in a tank of 4 x 4 m at 62.5 mm, with a band of particles or (0) full of them.

    Returns
    -------
    (heights, energy, particles) : column heights (frames, 16) in voxels, energy per frame (potential of the columns
        and kinetic of the grid, per density), and the number of particles at the end
    """
    side, dx = 4.0, 0.0625
    across, columns = SLAB * dx, 16
    fill = box_fill((0, 0, 0), (side, side, across))
    run = liquid(dx, (side, 1.1 * side, across), [fill], fps=FPS, band=band)
    lift(run, lambda x: 2 * dx * np.cos(np.pi * x / side), side)
    heights, energy = [], []
    for frame in range(2, 2 + round(seconds * FPS)):
        made = run.advance_frame(frame)
        assert made
        fields, p = made[0], run.state.particles
        volume, _ = np.histogram(position(run)[:, 0], bins=columns, range=(0, side), weights=p.volume)
        held = fields.tiles.dense(fields.bulk).sum(axis=(1, 2), dtype=np.float64)[PAD:-PAD]
        height = (volume + held.reshape(columns, -1).sum(axis=1)) / (side / dx / columns * SLAB)
        full = np.clip(0.5 - fields.tiles.dense(fields.phi), 0, 1)
        kinetic = 0.0
        for axis in range(3):
            u2 = np.moveaxis(fields.tiles.dense(fields.velocity[axis]).astype(np.float64) * dx, axis, 0) ** 2
            kinetic += 0.25 * float(((u2[:-1] + u2[1:]) * np.moveaxis(full, axis, 0)[:-1]).sum()) * dx**3
        heights.append(height)
        potential = 0.5 * G * float(((height - height.mean()) ** 2).sum()) * dx**2 * side / columns * across
        energy.append(kinetic + potential)
    return np.array(heights), np.array(energy), len(run.state.particles)


def dam_break(dx: float) -> Liquid:
    """A reservoir 1.2 m long and 0.3 m deep in a 3 m channel without friction, three voxels wide."""
    depth = 3 * dx
    return liquid(dx, (3.0, 0.45, depth), [box_fill((0, 0, 0), (1.2, 0.3, depth))], fps=100.0)


def efflux_speed(dx: float) -> float:
    """Case A05: speed of the jet from a slot of 0.05 m under 0.3 m of water, over Torricelli's (1643).

    Measured where the jet has contracted, one slot width outside.
    """
    depth = 3 * dx
    walls = {**CLOSED, "x_max": "open", "y_min": "open"}
    elements = [
        box_fill((0, 0.0, 0), (0.9, 0.35, depth)),
        box_collider((-0.1, -0.2, -0.1), (0.9375, 0.0, depth + 0.1), "floor"),
        box_collider((0.9, -0.2, -0.1), (0.9375, 0.025, depth + 0.1), "sill"),
        box_collider((0.9, 0.075, -0.1), (0.9375, 0.6, depth + 0.1), "wall"),
    ]
    run = liquid(dx, (1.2, 0.6, depth), elements, walls=walls, low=(0.0, -0.1, 0.0), fps=50.0)
    ratios = []
    for frame in range(2, 42):
        run.advance_frame(frame)
        if frame < 22:
            continue
        x, v = position(run), velocity(run)
        tank = np.abs(x[:, 0] - 0.45) < 0.3
        level = run.state.particles.volume[tank].sum() * dx**3 / (0.6 * 3 * dx)
        jet = np.abs(x[:, 0] - (0.9375 + 0.05)) < 2 * dx
        centre = np.median(x[jet, 1])
        core = jet & (np.abs(x[:, 1] - centre) < 1.5 * dx)
        speed = np.linalg.norm(v[core], axis=1).mean()
        ratios.append(speed / np.sqrt(2 * G * (level - centre)))
    return float(np.mean(ratios))


SLOT, TANK, BELOW = 0.1, 1.0, 0.3  # m: across the opening, of the tank, and under its floor


def slot_tank(cells: int, thick: float, adhesion: float = 0.0, plate: str = "boxes") -> Liquid:
    """A tank 1 m wide with a slot of 0.1 m in its floor, as it is let go; see `contraction`."""
    from demo.tide_mill import extrusion

    opening, wide, dx, below = SLOT, TANK, SLOT / cells, BELOW
    deep, floor = 4 * dx, below + thick * dx
    edge, back = 0.5 * (wide - opening), thick * dx if plate == "knife" else 0.0
    half = [(-0.2, floor), (-0.2, below), (edge - back, below), (edge, floor)]
    elements: list[dict[str, Any]] = [box_fill((0, floor, 0), (wide, floor + 0.5, deep))]
    with tempfile.TemporaryDirectory() as folder:
        for name, outline in ("left", half), ("right", [(wide - x, y) for x, y in reversed(half)]):
            mesh = extrusion(outline, 3 * deep)
            write_ply(Path(folder) / f"{name}.ply", mesh.position, mesh.triangle)
            elements.append({"kind": "collider", "name": name, "shape": {"kind": "mesh", "file": f"{name}.ply"}})
        if plate == "boxes":
            elements[1:] = [
                box_collider((-0.2, below, -0.2), (edge, floor, deep + 0.2), "left"),
                box_collider((wide - edge, below, -0.2), (wide + 0.2, floor, deep + 0.2), "right"),
            ]
        own: dict[str, Any] = {"substeps_max": 64, "wall_adhesion": adhesion}
        walls = {**CLOSED, "y_min": "open", "y_max": "open"}
        return liquid(dx, (wide, floor + 0.6, deep), elements, walls=walls, folder=Path(folder), **own)


def contraction(cells: int, thick: float, adhesion: float = 0.0, plate: str = "boxes") -> float:
    """Case A34: flow out of a slot of 0.1 m in the floor of a tank 1 m wide, over that of its whole opening.

    Cc = q / (a sqrt(2 g h)), from the volume that has left from a quarter of a second on.

    Parameters
    ----------
    cells : voxels across the slot
    thick : voxels that the floor is thick
    adhesion : Pa
    plate : "boxes", the same as "meshes", or meshes with a "knife" edge: below it the floor recedes by 45 degrees
    """
    run = slot_tank(cells, thick, adhesion, plate)
    area = _left(run, 1, BELOW, 4 * SLOT / cells)
    flow = -np.gradient(area, 1 / 24)
    return float(np.mean((flow / (SLOT * np.sqrt(2 * G * area / TANK)))[1:-1]))


def _left(run: Liquid, axis: int, beyond: float, deep: float) -> np.ndarray:
    """Area of a slab's liquid above a coordinate along an axis, at frames from a quarter of a second on."""
    left = []
    for frame in range(2, 15):
        run.advance_frame(frame)
        held = position(run)[:, axis] > beyond
        left.append(float(run.state.particles.volume[held].sum(dtype=np.float64)) * run.world.layout.dx**3 / deep)
    return np.array(left[5:])


def under_gate(cells: int, thick: float) -> float:
    """Case A34: flow under a gate, a slot of 0.05 m at the foot of an upright wall with 0.5 m of water behind it, over
    that of its whole opening.

    The jet's top is at the pressure of the air, Cc a above the floor: q = Cc a sqrt(2 g (h - Cc a)).

    Parameters
    ----------
    cells : voxels up the opening
    thick : voxels that the gate is thick
    """
    opening, wide, high, dx = 0.05, 1.0, 0.5, 0.05 / cells
    deep, gate = 4 * dx, 0.3
    elements = [
        box_fill((gate, 0, 0), (gate + wide, high, deep)),
        box_collider((gate - thick * dx, opening, -0.2), (gate, 0.8, deep + 0.2), "gate"),
    ]
    walls = {**CLOSED, "x_min": "open", "y_max": "open"}
    run = liquid(dx, (gate + wide, 0.6, deep), elements, walls=walls, substeps_max=64)
    area = _left(run, 0, gate, deep)
    flow, head = -np.gradient(area, 1 / 24)[1:-1], area[1:-1] / wide
    found = 0.6
    for _ in range(20):
        found = flow / (opening * np.sqrt(2 * G * (head - found * opening)))
    return float(np.mean(found))


def collapsing_column(cells: int, square: int, times: Iterable[float]) -> tuple[np.ndarray, np.ndarray]:
    """Case A08: a column 0.05715 m wide and `square` times as high that runs out over dry ground.

    Parameters
    ----------
    cells : voxels to the column's width a
    times : ascending T = n t sqrt(g / a)

    Returns
    -------
    the front's place over a (where it is a 24th of a deep) and the height at the back wall over the first one
    """
    a = 0.05715
    dx = a / cells
    unit = np.sqrt(square * G / a)  # T per second
    length = a * (2.0 + 1.5 * max(times))
    depth = 3 * dx
    fill = box_fill((0, 0, 0), (a, square * a, depth))
    run = liquid(dx, (length, square * a * 1.1, depth), [fill], fps=unit * 20)
    edges = np.arange(0, length, dx)
    fronts, heights = [], []
    for frame in range(2, 2 + round(max(times) * 20)):
        run.advance_frame(frame)
        if (frame - 1) % 2:
            continue
        column = column_heights(run, edges, depth)
        wet = int(np.flatnonzero(column > a / 24)[-1])
        share = (column[wet] - a / 24) / max(column[wet] - column[wet + 1], 1e-9)
        fronts.append(((frame - 1) / 20, (edges[wet] + (0.5 + min(share, 1.0)) * dx) / a))
        heights.append(column[: max(cells // 12, 1)].mean() / (square * a))
    moment, front = np.array(fronts).T
    return np.interp(list(times), moment, front), np.array(heights)


def bore(cells: int, froude: float = 3.0) -> float:
    """Case A19: a stream 0.05 m deep that runs into a closed end; the jump that travels back up.

    A hydraulic jump, seen from the stream's bed: y2 / y1 = (sqrt(1 + 8 Fr^2) - 1) / 2 with the speed against the
    jump (Belanger 1838; Chow, Open-Channel Hydraulics, 1959). That it loses energy follows from momentum alone.

    Parameters
    ----------
    cells : voxels to the stream's depth
    froude : of the stream against the jump

    Returns
    -------
    depth behind the jump over Belanger's, mean of its last 0.4 s
    """
    y1, still, length = 0.05, 0.3, 3.0
    dx, depth = y1 / cells, 3 * y1 / cells
    ratio = 0.5 * (np.sqrt(1 + 8 * froude**2) - 1)
    speed = froude * np.sqrt(G * y1) * (1 - 1 / ratio)
    # begun with a little still water at the end, or the stream would throw a jet up the wall
    elements = [
        box_fill((0, 0, 0), (length - still, y1, depth), "stream", velocity=(speed, 0, 0)),
        box_fill((length - still, 0, 0), (length, ratio * y1, depth), "still"),
    ]
    run = liquid(dx, (length, 0.4, depth), elements, walls={**CLOSED, "y_max": "open"}, fps=50.0)
    behind = []
    for frame in range(2, 42):
        run.advance_frame(frame)
        behind.append(column_heights(run, np.array([length - still, length]), depth)[0])
    return float(np.mean(behind[-20:])) / (ratio * y1)


@dataclass(frozen=True)
class Bore:
    """What was seen of a bore while it went from ten to twenty still depths: its second metre at 0.1 m.

    Attributes
    ----------
    depth : m behind it, mean of ten still depths
    front : m/s of it against the still liquid, by the liquid that it has set going (or stopped): h1 S of it a second
    crossing : the same by where its height is half reached
    balance : momentum that a stretch gained more than flowed in at its ends and pressed there as if at rest, over the
        sum of what did at both
    """

    depth: float
    front: float
    crossing: float
    balance: float


BORE_FPS = 60.0


def bore_tank(cells: int, still: float, speed: float, stream: bool) -> tuple[Liquid, float]:
    """A piston that sets off at once into still liquid, or a stream that meets a wall, as it is let go, and where the
    wall begins; see `pushed_bore`."""
    dx, fps, length, start = still / cells, BORE_FPS, 40 * still, still * (4 - 0.3 / cells)
    across = 3 * dx
    behind, _ = stepped(still, speed)
    own = -speed if stream else 0.0  # of the liquid before it
    water = box_fill((start, 0, 0), (length, still, across), velocity=(own, 0, 0))
    keys = [{"time": t, "value": [start - 2 + (own + speed) * t, 0.5, 0], "segment": "linear"} for t in (0.0, 10.0)]
    wall = box_collider((-2, -1, -1), (2, 2, 1), "piston", pose={"translation": {"keys": keys}})
    walls = {**CLOSED, "x_max": "open", "y_max": "open"}
    return liquid(dx, (length, 3 * behind, across), [water, wall], walls=walls, fps=fps), start


def pushed_bore(cells: int, still: float = 0.1, speed: float = 0.75, stream: bool = False) -> Bore:
    """Case A35: a piston that sets off at once into still liquid, or a stream that meets a wall: one in two frames.

    Parameters
    ----------
    cells : voxels to the still depth (m)
    speed : of the piston, or of the stream, m/s
    stream : whether the wall stands still and the liquid comes
    """
    run, start = bore_tank(cells, still, speed, stream)
    dx, fps, length, across = still / cells, BORE_FPS, 40 * still, 3 * still / cells
    behind, front = stepped(still, speed)
    own = -speed if stream else 0.0
    edges = np.arange(start, length, still)
    frames = range(2, 2 + int(21 * still / front * fps))
    low, high = (
        start + (3 * still if stream else speed * len(frames) / fps + 2 * still),
        start + (12 if stream else 24) * still,
    )
    seen: list[list[float]] = []
    moved, depths, held, flowed, whole_flow = [], [], [], 0.0, 0.0
    for frame in frames:
        run.advance_frame(frame)
        time = (frame - 1) / fps
        piston = start + (own + speed) * time
        x, u = position(run)[:, 0], velocity(run)[:, 0]
        volume = run.state.particles.volume.astype(np.float64) * dx**3 / across
        heights = np.histogram(x, bins=edges, weights=volume)[0] / still
        middle = edges[:-1] + still / 2
        whole = middle > piston + still
        heights, middle = np.convolve(heights[whole], [0.5, 0.5], "valid"), middle[whole][:-1] + still / 2
        n = int(np.flatnonzero(heights > (still + behind) / 2).max(initial=0))
        there = middle[n] + still * (heights[n] - (still + behind) / 2) / (heights[n] - heights[n + 1])
        gone = there - start - own * time
        if 10 * still < gone < 20 * still:
            seen.append([time, gone])
            reaches = x < there + 6 * still  # farther on a stream flows out of the domain
            moved.append(float(volume[reaches] @ (u[reaches] - own)))
            depths.append(
                heights[(middle > max(there - 10 * still, piston + 2 * still)) & (middle < there - 2 * still)]
            )
        stretch = (x > low) & (x < high)
        held.append(float(volume[stretch] @ u[stretch]))
        for end, sign in ((low, 1.0), (high, -1.0)):
            near = np.abs(x - end) < 2 * dx
            level = float(volume[near].sum()) / (4 * dx)
            flow = (float(volume[near] @ u[near] ** 2) / (4 * dx) + 0.5 * G * level**2) / fps
            flowed, whole_flow = flowed + sign * flow, whole_flow + flow
    time, place = np.array(seen).T
    return Bore(
        depth=float(np.concatenate(depths).mean()),
        front=float(np.polyfit(time, moved, 1)[0]) / (speed * still),
        crossing=float(np.polyfit(time, place, 1)[0]),
        balance=(held[-1] - held[0] - flowed) / whole_flow,
    )


def stepped(still: float, speed: float) -> tuple[float, float]:
    """Depth (m) behind a bore into still liquid and its speed (m/s), by volume and momentum (Rankine-Hugoniot).

    V h2 = S (h2 - h1), S^2 = g h2 (h1 + h2) / 2 h1 (Stoker, Water Waves, 1957, 10.7).
    """

    def off(h: float) -> float:
        return float(np.sqrt(G * h * (still + h) / (2 * still)) * (h - still) / h - speed)

    behind = float(root_scalar(off, bracket=(still * 1.0001, still * 50)).root)
    return behind, speed * behind / (behind - still)


def weir(cells: int, seconds: float = 4.0) -> float:
    """Case A21: discharge over a broad crest 0.1 m high and 0.4 m long behind a ramp, over (2/3)^1.5 sqrt(g) E^1.5.

    A stream of 0.0539 m2/s fills the channel above the crest; E is the depth above it and u^2 / 2 g, a metre
    upstream, q what flows over it (Belanger 1849; Henderson, Open Channel Flow, 1966). Means of the last 2 s.

    Parameters
    ----------
    cells : voxels to the head that the discharge asks for, 0.1 m
    """
    head, crest, asked = 0.1, 0.1, 0.0539
    dx, slope = head / cells, np.arctan(0.5)
    depth, length, level = 3 * dx, 1.4, crest + head
    along = np.array([np.cos(slope), np.sin(slope)])
    below = np.array([length, crest, 0.5 * depth]) - np.array([*(0.3 * along + 0.1 * along[::-1] * [-1, 1]), 0.0])
    elements = [
        box_fill((0, 0, 0), (length, level, depth)),
        {
            "kind": "inflow",
            "name": "stream",
            "shape": {"kind": "disc", "radius": level / 2},
            "pose": {"translation": [dx, level / 2, depth / 2], "rotation": [0, 0, -90.0]},
            "velocity": (asked / level, 0, 0),
        },
        box_collider((length, -0.5, -0.1), (length + 0.4, crest, depth + 0.1), "crest"),
        {  # without it the stream would part from the crest's corner
            **box_collider((-0.3, -0.2, -0.1), (0.3, 0.0, depth + 0.1), "ramp"),
            "pose": {"translation": list(below), "rotation": [0, 0, float(np.rad2deg(slope))]},
        },
    ]
    walls = {**CLOSED, "x_max": "open", "y_max": "open"}
    run = liquid(dx, (length + 0.6, 0.3, depth), elements, walls=walls, fps=FPS)
    found = []
    for frame in range(2, 2 + round(seconds * FPS)):
        run.advance_frame(frame)
        if (frame - 1) / FPS < seconds - 2.0:
            continue
        x, volume = position(run)[:, 0], run.state.particles.volume.astype(np.float64) * dx**3
        near, over = (x > 0.3) & (x < 0.9), (x > length + 0.1) & (x < length + 0.3)
        y = volume[near].sum() / (0.6 * depth)
        u = np.average(velocity(run)[near, 0], weights=volume[near])
        q = float(volume[over] @ velocity(run)[over, 0]) / (0.2 * depth)
        found.append((q, y - crest + u**2 / (2 * G)))
    q, energy = np.array(found).mean(axis=0)
    return float(q / ((2 / 3) ** 1.5 * np.sqrt(G) * energy**1.5))


def dipped_ball(cells: int, dips: int = 1) -> tuple[float, float]:
    """D10: rise (mm) of a tank's level with a ball of 0.1 m in it, `cells` voxels to its radius, and with it out again.

    The ball is lowered at 0.2 m/s, rests, and is drawn out; the rise with it in is that of the last dip.
    """
    dx, radius, wide = 0.1 / cells, 0.1, 0.5
    keys, time = [{"time": 0.0, "value": [0.25, 0.45, 0.25], "segment": "linear"}], 0.0
    for _ in range(dips):
        for after, height in ((1.5, 0.15), (2.25, 0.15), (3.75, 0.45)):
            keys.append({"time": time + after, "value": [0.25, height, 0.25], "segment": "linear"})
        time += 3.75
    ball = {"kind": "collider", "name": "ball", "shape": {"kind": "sphere", "radius": radius}}
    pool = box_fill((0, 0, 0), (wide, 0.3, wide))
    run = liquid(dx, (wide, 0.6, wide), [pool, {**ball, "pose": {"translation": {"keys": keys}}}], fps=8.0)

    def level() -> float:
        x = position(run)
        away = np.hypot(x[:, 0] - wide / 2, x[:, 2] - wide / 2) > 1.6 * radius
        return float(2 * np.average(x[away, 1], weights=run.state.particles.volume[away]))

    first, within = level(), 0.0
    for frame in range(2, int(8 * time) + 10):
        run.advance_frame(frame)
        if frame == round(8 * (time - 1.5)) + 1:
            within = level() - first
    return 1000 * within, 1000 * (level() - first)


def dam_against_box(cells: int) -> dict[str, float]:
    """Case A33: a column of 1.228 x 0.55 m in a tank of 3.22 x 1 x 1 m that runs against a box (1.5 s).

    Geometry after Kleefsman et al. 2005. No gauge values: the front's speed before the box over Ritter's bound
    2 sqrt(g h), the water lost, and the most energy that it has at any frame over the first.

    Parameters
    ----------
    cells : voxels to the tank's width of 1 m
    """
    dx = 1.0 / cells
    column, box = (
        box_fill((0, 0, 0), (1.228, 0.55, 1)),
        box_collider((2.3955, -0.1, 0.2985), (2.5565, 0.161, 0.7015), "box"),
    )
    run = liquid(dx, (3.22, 1.0, 1.0), [column, box], fps=FPS)
    mass = run.state.particles.volume.sum(dtype=np.float64)
    fronts, energies = [], []
    edges = np.arange(0, 3.22 + dx / 2, dx)
    for frame in range(1, 2 + round(1.5 * FPS)):
        if frame > 1:
            run.advance_frame(frame)
        p, x = run.state.particles, position(run)
        energy = 0.5 * (velocity(run) ** 2).sum(axis=1) + G * x[:, 1]
        energies.append(float(energy @ p.volume.astype(np.float64)))
        front = edges[np.flatnonzero(column_heights(run, edges, 1.0) > 0.5 * dx)[-1]]
        if 1.7 < front < 2.35:
            fronts.append((frame / FPS, front))
    time, front = np.array(fronts).T
    return {
        "front": float(np.polyfit(time, front, 1)[0]) / (2 * np.sqrt(G * 0.55)),
        "mass": abs(run.state.particles.volume.sum(dtype=np.float64) / mass - 1),
        "energy": max(energies) / energies[0],
        "left": energies[-1] / energies[0],
    }


def shaken(cells: int, by: str, seconds: float = 5.0, off: float = 0.3) -> tuple[np.ndarray, np.ndarray]:
    """Case A37: a tank 1 m long, half a metre full, is shaken by x = A (1 - cos W t); A = 5 mm, W = 0.85 of the first.

    Parameters
    ----------
    by : "keys" of a collider that goes along, or the "force" that is felt in it
    off : voxels by which its walls stand off the grid's faces at the start

    Returns
    -------
    the first mode less the third (m) in the tank's own frame after each frame, and that of linear theory
    (Faltinsen & Timokha 2009, 5.3). By a weight that vanishes at the walls: all the liquid a twentieth of a voxel
    nearer to one, where particles do not reach quite to a wall, would look like a tenth of the wave
    """
    dx, depth, far = 1.0 / cells, 0.5, 0.005
    turn = 0.85 * wave_frequency(np.pi, depth)
    across, side = SLAB * dx, 6 * dx
    times = np.arange(0.0, seconds + 0.5, 1 / FPS)
    fill = box_fill((0, 0, 0), (1.0, depth, across))
    more: dict[str, Any] = {"fps": FPS, "low": (-side - off * dx, 0.0, 0.0), "substeps_min": 2}
    pose: dict[str, Any] = {"translation": [0.5, 0.5, across / 2]}
    if by == "keys":
        there = [[0.5 + far * (1 - np.cos(turn * t)), 0.5, across / 2] for t in times]
        pose = {"translation": {"keys": [{"time": float(t), "value": p} for t, p in zip(times, there, strict=True)]}}
    else:
        felt = [[-far * turn**2 * np.cos(turn * t), -G, 0.0] for t in times]
        more["gravity"] = {"keys": [{"time": float(t), "value": g} for t, g in zip(times, felt, strict=True)]}
    room = {"kind": "collider", "name": "room", "side": "inside", "shape": {"kind": "box", "size": [1, 2, 1]}}
    run = liquid(dx, (1.0 + 2 * side, 0.75, across), [fill, {**room, "pose": pose}], **more)
    found, time = [], times[1 : 1 + round(seconds * FPS)]
    for frame, t in enumerate(time, 2):
        run.advance_frame(frame)
        x = position(run)[:, 0] - (far * (1 - np.cos(turn * t)) if by == "keys" else 0.0)
        volume = run.state.particles.volume.astype(np.float64) * dx**3 / across
        found.append(8 * float(volume @ (np.cos(np.pi * x) * np.sin(np.pi * x) ** 2)))
    theory = np.zeros(len(time))
    for n, sign in ((1, 1.0), (3, -1.0)):
        own = wave_frequency(n * np.pi, depth)
        drive = 4 * np.tanh(n * np.pi * depth) / (n * np.pi) * far * turn**2 / (own**2 - turn**2)
        theory += sign * drive * (np.cos(turn * time) - np.cos(own * time))
    return np.array(found), theory
