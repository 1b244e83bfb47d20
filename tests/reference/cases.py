"""Cases with known answers, each as a function of its resolution: the tests run one size, the bench three.

Numbers (A10 and so on) are those of our own list of published cases; sources stand beside the values.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.optimize import curve_fit, root_scalar

from basin.grid.layout import PAD
from basin.liquid.step import Liquid
from tests.reference.tanks import CLOSED, G, box_fill, column_heights, liquid, position, velocity

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


def sloshing_period(cells: int, depth: float = 0.5, halved: bool = False, **more: Any) -> tuple[float, float]:
    """Case A10: period of the first mode of a tank 1 m long, over Lamb's; and the amplitude kept per period.

    Parameters
    ----------
    cells : voxels along the tank
    halved : twice as many substeps (rule M6)
    """
    dx, k = 1.0 / cells, np.pi
    omega = wave_frequency(k, depth)
    size = (1.0, depth * 1.4, SLAB * dx)
    steps = {"substeps_min": 4} if halved else {"substeps_min": 2}
    run = liquid(dx, size, [box_fill((0, 0, 0), (1.0, depth, SLAB * dx))], fps=FPS, **{**steps, **more})
    lift(run, lambda x: 0.02 * np.cos(k * x), depth)
    time, mode = [], []
    for frame in range(2, 2 + round(6 * FPS)):
        run.advance_frame(frame)
        volume = run.state.particles.volume.astype(np.float64) * dx**3
        time.append((frame - 1) / FPS)
        mode.append(2 * float((volume * np.cos(k * position(run)[:, 0])).sum()) / (SLAB * dx))
    found, decay = fitted_wave(np.array(time), np.array(mode), omega)
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


def shaken_level(cells: int, shaken: float = 20.0, rest: float = 10.0, deep: bool = False) -> dict[str, float]:
    """Case A25: a tank 1 m long shaken by 5 mm at its first natural frequency, then at rest.

    Returns
    -------
    the settled level's change over the first one's: `level` (of the level set), in voxels `voxels`,
    largest change of the mass `mass`, cells deep in the liquid without particles `voids` (share), and
    most particles in a cell `clump`.
    """
    dx, depth = 1.0 / cells, 0.5
    across = 1.0 if deep else SLAB * dx
    run = liquid(dx, (1.0, 1.0, across), [box_fill((0, 0, 0), (1.0, depth, across))], fps=FPS)
    omega = wave_frequency(np.pi, depth)
    mass = run.state.particles.volume.sum(dtype=np.float64)
    first = mean_level(run, 0.0)
    for frame in range(2, 2 + round((shaken + rest) * FPS)):
        time = (frame - 1) / FPS
        run.world.gravity[0] = 0.005 * omega**2 * np.sin(omega * time) if time < shaken else 0.0
        run.advance_frame(frame)
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


def solitary_wave(cells: int, steep: float = 0.3) -> tuple[float, float]:
    """Case A17: speed of a solitary wave on 0.2 m of water over the third-order one, and its height's over the first.

    F^2 = 1 + e - e^2 / 20 - 3 e^3 / 70 (Grimshaw 1971; Fenton 1972), e = a / h. The wave starts as Boussinesq's
    and has to find its own shape; both are measured over its last 3 m.

    Parameters
    ----------
    cells : voxels to the still depth
    """
    h, start = 0.2, 1.3
    a, dx = steep * h, h / cells
    c = float(np.sqrt(G * h * (1 + steep - steep**2 / 20 - 3 * steep**3 / 70)))
    shape = np.sqrt(3 * a / (4 * h**3))
    run = liquid(dx, (6.0, 0.4, 3 * dx), [box_fill((0, 0, 0), (6.0, h, 3 * dx))], fps=50.0, substeps_min=2)

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
    found = []
    for frame in range(2, 2 + round(2.3 * 50)):
        run.advance_frame(frame)
        heights = column_heights(run, edges, 3 * dx)
        near = np.abs(middle - middle[heights.argmax()]) < 0.6 * h
        curve = np.polyfit(middle[near], heights[near], 2)
        crest = -curve[1] / (2 * curve[0])
        found.append(((frame - 1) / 50, crest, np.polyval(curve, crest) - h))
    time, crest, height = np.array(found).T
    late = crest > crest[-1] - 15 * h
    first = height[late][:5].mean()
    return float(np.polyfit(time[late], crest[late], 1)[0]) / c, float(height[-5:].mean() / first)


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

    def flow(at: np.ndarray) -> np.ndarray:
        x, y = k * at[:, 0], k * at[:, 1]
        return np.stack([np.sin(x) * np.cos(y), -np.cos(x) * np.sin(y), np.zeros_like(x)], axis=1)

    set_flow(run, flow)

    def energy() -> float:
        return float((velocity(run) ** 2).sum(axis=1) @ run.state.particles.volume.astype(np.float64))

    first = energy()
    for frame in range(2, 14):
        run.advance_frame(frame)
    kept = energy() / first
    return kept, float(-np.log(kept) / (4 * k * k * 0.5))


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
