"""Cases of surface tension and wetting, catalogue part C: runs of the whole solver.

Most have a tension of 1 N/m and a density of 1000 kg/m3, with sizes to match, so that voxels are centimetres and steps
those of a shot.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.optimize import curve_fit
from scipy.special import iv

from basin.liquid.step import Liquid
from tests.reference.cases import fitted_wave, lift
from tests.reference.tanks import CLOSED, G, box_collider, box_fill, liquid, position, velocity

SIGMA = 1e-3  # m3/s2: tension over density
DENSE = 1000.0
TENSE = SIGMA * DENSE
OPEN = dict.fromkeys(CLOSED, "open")
FLAT = {"z_min": "periodic", "z_max": "periodic"}  # of two-dimensional cases: walls would hold them
SLAB = 6  # voxels that they are deep, the fewest of a periodic axis
CALM: dict[str, Any] = {"gravity": (0, 0, 0), "density": DENSE}


def ball_fill(middle: np.ndarray, radius: float, **more: Any) -> dict[str, Any]:
    """A fill that is a sphere."""
    own = {"shape": {"kind": "sphere", "radius": radius}, "pose": {"translation": list(middle)}}
    return {"kind": "fill", "name": "drop", **own, "surface_tension": TENSE, **more}


def drop(cells: float, fps: float, viscosity: float = 0.0, **more: Any) -> tuple[Liquid, np.ndarray]:
    """A drop of 0.1 m, so many voxels in its radius, in free space, a little beside the grid; and its middle."""
    radius = 0.1
    dx = radius / cells
    size = np.ceil(2.8 * cells) * dx
    middle = size / 2 + dx * np.array([0.3, 0.2, 0.45])
    fill = ball_fill(middle, radius, viscosity=viscosity)
    return liquid(dx, (size, size, size), [fill], OPEN, fps=fps, **CALM, **more), middle


def kept(run: Liquid) -> dict[str, Any]:
    """Lets what a run knows of the surface at its last substep be seen; it comes in as it is computed."""
    seen: dict[str, Any] = {}
    project = run._project

    def watched(m: Any, tally: Any) -> None:
        if not m.reflects:
            seen["surface"], seen["solids"], seen["dt"] = m.surface, m.solids, m.dt
        project(m, tally)

    run._project = watched  # type: ignore[method-assign]
    return seen


def still_drop(cells: float, fps: float, frames: int, viscosity: float = 0.0, **more: Any) -> dict[str, float]:
    """Cases C01 and C02: a drop that hangs still.

    Returns
    -------
    jump : mean pressure that tension makes at its surface, over 2 sigma / R
    rough : RMS error of its curvature, relative
    speed : of the fastest particle at the end, over sqrt(sigma / (rho D)); `rms` of all
    capillary : mu U / sigma of the fastest
    way : that its middle has gone, voxels
    """
    run, middle = drop(cells, fps, viscosity, **more)
    seen = kept(run)
    for frame in range(2, frames + 2):
        run.advance_frame(frame)
    dx, tense = 0.1 / cells, seen["surface"].tense
    # in units of the pressure, of a kick of two substeps
    jumps = tense[np.isfinite(tense)].astype(float) * dx**3 / (2 * seen["dt"] * SIGMA)
    fastest = np.linalg.norm(velocity(run), axis=1)
    unit = np.sqrt(SIGMA / 0.2)
    return {
        "jump": float(jumps.mean() * cells / 2),
        "rough": float(jumps.std() / jumps.mean()),
        "speed": float(fastest.max() / unit),
        "rms": float(np.sqrt((fastest**2).mean()) / unit),
        "capillary": float(viscosity * fastest.max() / TENSE),
        "way": float(np.linalg.norm(position(run).mean(axis=0) - middle) / dx),
    }


def oscillating_drop(cells: float, fps: float = 24.0, periods: float = 2.5, **more: Any) -> tuple[float, float]:
    """Case C03: period of a drop's second mode over Rayleigh's 1879, and share of its swing kept per period."""
    run, middle = drop(cells, fps, **more)
    place, p = position(run) - middle, run.state.particles
    # a little longer along y than across, of the same volume: r = R (1 + 0.03 P2) to first order
    stretch = np.array([1 - 0.03 / 2, 1 + 0.03, 1 - 0.03 / 2])
    p.position[:] = run.world.layout.to_voxels(middle + place * stretch).astype(np.float32)
    expected = 2 * np.pi / np.sqrt(8 * SIGMA / 0.1**3)
    times, swing = [0.0], []

    def moment() -> float:
        at = position(run)
        at = at - at.mean(axis=0)
        return float((at[:, 1] ** 2 - 0.5 * (at[:, 0] ** 2 + at[:, 2] ** 2)).mean())

    swing.append(moment())
    for frame in range(2, int(periods * expected * fps) + 2):
        run.advance_frame(frame)
        times.append((frame - 1) / fps)
        swing.append(moment())
    w, b = fitted_wave(np.array(times), np.array(swing), 2 * np.pi / expected)
    return float(2 * np.pi / w / expected), float(np.exp(-b * 2 * np.pi / w))


def ripple(cells: int, gravity: bool, periods: float = 3.0, fps: float = 48.0) -> float:
    """Case C05: frequency of a standing wave, so many voxels long, over Kelvin's w^2 = (g k + sigma k^3) tanh(k h).

    The wave is as long as gravity and tension pull alike, so each does half of it.
    """
    pull = 2.0 if gravity else 0.0
    k = np.sqrt(2.0 / SIGMA)
    long = 2 * np.pi / k
    dx, depth = long / cells, 0.5 * long
    size = (long / 2, depth + 6 * dx, 4 * dx)
    walls = {**CLOSED, "y_max": "open"}
    fill = box_fill((0, 0, 0), (long / 2, depth, 4 * dx), surface_tension=TENSE)
    run = liquid(dx, size, [fill], walls, fps=fps, density=DENSE, gravity=(0, -pull, 0))
    high = 0.03 * long
    lift(run, lambda x: high * np.cos(k * x), depth)
    expected = np.sqrt((pull * k + SIGMA * k**3) * np.tanh(k * depth))
    times, heights = [], []
    for frame in range(1, int(periods * 2 * np.pi / expected * fps) + 2):
        if frame > 1:
            run.advance_frame(frame)
        share = run.state.particles.volume.astype(float)
        x = position(run)[:, 0]
        times.append((frame - 1) / fps)
        heights.append(float((share * np.cos(k * x)).sum() / share.sum()))
    w, _ = fitted_wave(np.array(times), np.array(heights), expected)
    return float(w / expected)


def column(cells: float, turn: float, seconds: float, waves: int = 1, first: float = 0.02) -> tuple[Any, Any, Liquid]:
    """Case C07: a round column along x whose radius swings by so much along it; times and amplitudes over the radius.

    Parameters
    ----------
    cells : voxels in the radius, 0.1 m; turn : wavenumber times the radius
    """
    radius, fps = 0.1, 48.0
    dx = radius / cells
    # as long as the wave, to a voxel: the radius gives way
    long = np.round(2 * np.pi / turn * cells) * dx
    radius = turn * long / (2 * np.pi)
    wide = np.ceil(3.4 * cells) * dx
    walls = {**OPEN, "x_min": "periodic", "x_max": "periodic"}
    middle = np.array([0.0, wide / 2 + 0.3 * dx, wide / 2 + 0.2 * dx])
    fill = box_fill(
        (0, middle[1] - 1.3 * radius, middle[2] - 1.3 * radius), (waves * long, *(middle[1:] + 1.3 * radius))
    )
    run = liquid(dx, (waves * long, wide, wide), [{**fill, "surface_tension": TENSE}], walls, fps=fps, **CALM)
    k = 2 * np.pi / long
    # particles of the box that are in the swelling column
    at = position(run)
    across = np.linalg.norm(at[:, 1:] - middle[1:], axis=1)
    inside = across < radius * (1 + first * np.cos(k * at[:, 0]))
    run.state.particles = run.state.particles.taken(np.flatnonzero(inside))
    times, seen = [], []
    for frame in range(1, int(seconds * fps) + 2):
        if frame > 1:
            run.advance_frame(frame)
        share = run.state.particles.volume.astype(float)
        wave = 2 * (share * np.cos(k * position(run)[:, 0])).sum() / share.sum()
        times.append((frame - 1) / fps)
        seen.append(float(wave) / 2)  # the area swings twice as much as the radius
    return np.array(times), np.array(seen), run


def column_growth(cells: float, turn: float = 0.697) -> float:
    """Case C07: rate at which a column's swelling grows, to 0.2 of its radius, over Rayleigh's 1878.

    It begins at rest, so it grows as the hyperbolic cosine of the rate times the time.
    """
    expected = np.sqrt(SIGMA / 0.1**3 * turn * (1 - turn**2) * iv(1, turn) / iv(0, turn))
    times, seen, _ = column(cells, turn, 3.2 / expected)
    held = seen < 0.2
    (rate, _), _ = curve_fit(lambda t, r, a: a * np.cosh(r * t), times[held], seen[held], p0=(expected, 0.02))
    return float(rate / expected)


def retracting_sheet(cells: float, seconds: float = 1.2, fps: float = 48.0) -> tuple[float, float]:
    """Case C12: speed of the edge of a sheet, so many voxels thick, over Taylor's and Culick's; and how it varies."""
    thick, expected = 0.02, np.sqrt(2 * SIGMA / 0.02)
    dx = thick / cells
    long = 0.75
    size = (long + 4 * dx, np.ceil(6 * cells) * dx, 3 * dx)
    middle = size[1] / 2 + 0.3 * dx
    walls = {**CLOSED, "x_max": "open", "y_min": "open", "y_max": "open"}
    fill = box_fill((0, middle - thick / 2, 0), (long, middle + thick / 2, 3 * dx), surface_tension=TENSE)
    run = liquid(dx, size, [fill], walls, fps=fps, **CALM)
    times, edge = [], []
    for frame in range(2, int(seconds * fps) + 2):
        run.advance_frame(frame)
        times.append((frame - 1) / fps)
        # what has been taken up moves as one: momentum over that of the whole speed tells how much it is
        share, u = run.state.particles.volume.astype(float) * dx**3, velocity(run)[:, 0]
        x = position(run)[:, 0]
        rim = u < -0.5 * np.median(np.abs(u[x > np.quantile(x, 0.98)]))
        edge.append(float((share * x)[rim].sum() / share[rim].sum()))
    time, place = np.array(times), np.array(edge)
    late = long - place > 5 * thick
    whole = np.polyfit(time[late], place[late], 1)[0]
    half = np.arange(late.sum()) < late.sum() / 2
    ends = [np.polyfit(time[late][h], place[late][h], 1)[0] for h in (half, ~half)]
    return float(-whole / expected), float(abs(ends[0] - ends[1]) / abs(whole))


def square_blob(cells: int, seconds: float = 12.0, fps: float = 24.0) -> tuple[float, float, float]:
    """Case C19: a square of liquid becomes a disc; its radius over side / sqrt(pi), RMS of r in voxels, its volume."""
    side = 0.2
    dx = side / cells
    size = np.ceil(1.8 * cells) * dx
    low = (size - side) / 2 + 0.3 * dx
    mu = 0.3 * np.sqrt(DENSE * TENSE * side)
    walls = {**OPEN, **FLAT}
    fill = box_fill((low, low, 0), (low + side, low + side, SLAB * dx), surface_tension=TENSE, viscosity=float(mu))
    run = liquid(dx, (size, size, SLAB * dx), [fill], walls, fps=fps, **CALM)
    before = run.state.particles.volume.sum(dtype=float)
    for frame in range(2, int(seconds * fps) + 2):
        run.advance_frame(frame)
    at, share = position(run)[:, :2], run.state.particles.volume.astype(float)
    at = at - np.average(at, axis=0, weights=share)
    r, angle = np.linalg.norm(at, axis=1), np.arctan2(at[:, 1], at[:, 0])
    # of each of 24 sectors, the radius of a disc's with its volume
    volume, _ = np.histogram(angle, bins=24, range=(-np.pi, np.pi), weights=share * dx**3 / (SLAB * dx))
    radii = np.sqrt(volume / (np.pi / 24))
    # the second moment of a disc is R^2 / 2, so this tells a square too
    radius = np.sqrt(2 * np.average(r**2, weights=share))
    after = run.state.particles.volume.sum(dtype=float)
    return float(radius / (side / np.sqrt(np.pi))), float(radii.std() / dx), float(after / before)


def puddle(cells: float, angle: float, seconds: float = 1.0, fps: float = 48.0) -> float:
    """Case C09: height of a flat puddle over 2 l sin(angle / 2), with so many voxels in l = sqrt(sigma / (rho g)).

    Its floor lets it slide: on one that it sticks to its line of contact hardly moves, and it stays as high as it was.
    """
    length = np.sqrt(SIGMA / G)
    dx = length / cells
    high = 2 * length * np.sin(np.radians(angle) / 2)
    half = 8 * length
    size = (np.ceil(13 * length / dx) * dx, np.ceil(1.8 * high / dx + 5) * dx, SLAB * dx)
    low = 2 * dx
    floor = box_collider((-1, -1, -1), (20, low, 20), "floor", contact_angle=angle, slip_length=None)
    walls = {**CLOSED, **FLAT, "x_max": "open", "y_max": "open"}
    # thick enough to come to rest in time, thin enough to get there
    mu = 0.5 * DENSE * np.sqrt(G * length) * length
    fill = box_fill((0, low, 0), (half, low + 0.9 * high, SLAB * dx), surface_tension=TENSE, viscosity=float(mu))
    run = liquid(dx, size, [fill, floor], walls, fps=fps, density=DENSE)
    for frame in range(2, int(seconds * fps) + 2):
        run.advance_frame(frame)
    x, share = position(run)[:, 0], run.state.particles.volume.astype(float) * dx**3
    amid = x < 3 * length
    return float(share[amid].sum() / (3 * length * SLAB * dx) / high)


def cap(
    cells: float, angle: float, seconds: float = 4.0, fps: float = 24.0, plate: float | None = None
) -> tuple[float, float]:
    """Case C11: a drop on a wall without gravity; contact angle (degrees) by volume and height of its middle, and its
    foot's radius over that of a cap with the wall's angle.

    Parameters
    ----------
    cells : voxels in the radius of a ball of the same volume, 0.1 m
    plate : voxels, thickness of a plate in open space that the drop lies on instead, amid a cell
    """
    radius = 0.1
    dx = radius / cells
    low = 0.0 if plate is None else (3.5 + 0.5 * plate) * dx
    wide = np.ceil(4.6 * cells) * dx
    mu = 0.3 * np.sqrt(DENSE * TENSE * radius)
    middle = np.array([wide / 2 + 0.3 * dx, low + 0.75 * radius, wide / 2 + 0.2 * dx])
    elements = [ball_fill(middle, 1.06 * radius, viscosity=float(mu))]
    if plate is not None:
        elements.append(box_collider((-1, low - plate * dx, -1), (3, low, 3), "plate", contact_angle=angle))
    walls = {**OPEN, "y_min": "closed" if plate is None else "open"}
    size = (wide, wide + np.ceil(low / dx) * dx, wide)
    run = liquid(dx, size, elements, walls, fps=fps, domain={"contact_angle": angle}, **CALM)
    for frame in range(2, int(seconds * fps) + 2):
        run.advance_frame(frame)
    share = run.state.particles.volume.astype(float) * dx**3
    volume, at = share.sum(), position(run) - [0.0, low, 0.0]
    mean = float((share * at[:, 1]).sum() / volume)
    # of a cap the height of its middle over the cube root of its volume tells the angle
    angles = np.radians(np.linspace(10, 170, 1601))
    c = np.cos(angles)
    ball = (3 * volume / (np.pi * (2 + c) * (1 - c) ** 2)) ** (1 / 3)
    high = ball * (1 - c)
    middles = high * (4 * ball - high) / (4 * (3 * ball - high))  # of a spherical cap, from its foot (by integration)
    found = float(np.interp(mean, middles, angles))
    c = np.cos(np.radians(angle))
    foot = (3 * volume / (np.pi * (2 + c) * (1 - c) ** 2)) ** (1 / 3) * np.sin(np.radians(angle))
    under = at[:, 1] < 1.5 * dx
    r = np.hypot(at[under, 0] - at[under, 0].mean(), at[under, 2] - at[under, 2].mean())
    measured = np.sqrt(2 * np.average(r**2, weights=share[under]))
    return float(np.degrees(found)), float(measured / foot)


def meniscus(cells: float, angle: float, seconds: float = 1.0, fps: float = 48.0) -> float:
    """Case C17: how high liquid climbs an upright wall over sqrt(2) l sqrt(1 - sin(angle)) (Batchelor 1967)."""
    length = np.sqrt(SIGMA / G)
    dx = length / cells
    wide, deep = 14 * length, 3 * length
    size = (np.ceil(wide / 2 / dx) * dx, np.ceil((deep + 2.5 * length) / dx) * dx, SLAB * dx)
    mu = 0.1 * DENSE * np.sqrt(G * length) * length
    fill = box_fill((0, 0, 0), (size[0], deep, SLAB * dx), surface_tension=TENSE, viscosity=float(mu))
    wall: dict[str, Any] = {"kind": "collider", "name": "wall", "shape": {"kind": "box", "size": [2.0, 20.0, 20.0]}}
    wall |= {"pose": {"translation": [-1.0 + 1e-6, 0, 0]}, "contact_angle": angle, "slip_length": None}
    walls = {**CLOSED, **FLAT, "y_max": "open"}
    run = liquid(dx, size, [fill, wall], walls, fps=fps, density=DENSE)
    for frame in range(2, int(seconds * fps) + 2):
        run.advance_frame(frame)
    x, share = position(run)[:, 0], run.state.particles.volume.astype(float) * dx**3
    edges = np.arange(0, size[0] + 0.5 * dx, dx)
    heights = np.histogram(x, bins=edges, weights=share)[0] / (dx * SLAB * dx)
    far = heights[-len(heights) // 4 :].mean()
    middle = edges[:-1] + dx / 2
    # the wall's own height, by going on along the two voxels beside it
    climbed = np.polyval(np.polyfit(middle[:4], heights[:4], 2), 0.0) - far
    return float(climbed / (np.sqrt(2) * length * np.sqrt(1 - np.sin(np.radians(angle)))))


def dip(cells: float, seconds: float = 0.7, fps: float = 48.0) -> float:
    """Case C18: thickness of the film that an upright plate draws out of a bath, so many voxels, over Landau's and
    Levich's 1942, 0.9458 l Ca^(2/3), at a capillary number of 0.05."""
    length, speed, mu = np.sqrt(SIGMA / G), 0.1, 0.5
    thick = 0.9458 * length * (mu * speed / TENSE) ** (2 / 3)
    dx = thick / cells
    deep = 1.5 * length
    size = (np.ceil(4 * length / dx) * dx, np.ceil((deep + 4 * length) / dx) * dx, SLAB * dx)
    keys = [{"time": t, "value": [-1.0 + 1e-6, speed * t, 0.0], "segment": "linear"} for t in (0.0, 10.0)]
    plate: dict[str, Any] = {"kind": "collider", "name": "plate", "shape": {"kind": "box", "size": [2.0, 20.0, 20.0]}}
    plate |= {"pose": {"translation": {"keys": keys}}, "contact_angle": 20.0}
    fill = box_fill((0, 0, 0), (size[0], deep, SLAB * dx), surface_tension=TENSE, viscosity=mu)
    walls = {**CLOSED, **FLAT, "y_max": "open"}
    run = liquid(dx, size, [fill, plate], walls, fps=fps, density=DENSE)
    for frame in range(2, int(seconds * fps) + 2):
        run.advance_frame(frame)
    y, share = position(run)[:, 1], run.state.particles.volume.astype(float) * dx**3
    far = position(run)[:, 0] > size[0] / 2
    level = share[far].sum() / (size[0] / 2 * SLAB * dx)
    band = np.abs(y - level - 2.5 * length) < 0.5 * length
    return float(share[band].sum() / (length * SLAB * dx) / thick)


def crown(cells: float, tense: bool = True, fps: float = 480.0, long: float = 0.096) -> Liquid:
    """Case C14: a drop of water, 20 mm across, falls at 3 m/s into 10 mm of it; a quarter of it, by two planes.

    Parameters
    ----------
    cells : voxels to the drop's diameter
    """
    dx, deep, wide = 0.02 / cells, 0.01, 0.02
    long, high = np.ceil(long / dx) * dx, np.ceil(0.075 / dx) * dx
    own = {"surface_tension": 0.0728 if tense else 0.0}
    pool = box_fill((0, 0, 0), (long, deep, long), "pool", **own)
    ball = ball_fill(np.array([0.0, deep + 0.5 * wide + dx, 0.0]), 0.5 * wide, velocity=(0, -3, 0), **own)
    walls = {**CLOSED, "y_max": "open", "x_max": "open", "z_max": "open"}
    # the open sides hold nothing back, but 30 ms are too short for that to come to the crown
    size = (long, high, long)
    return liquid(dx, size, [pool, ball], walls, fps=fps, density=DENSE)


def crown_radius(cells: float) -> float:
    """Case C14: C of r / D = C sqrt(t U / D - c) between 1.5 and 4 of t U / D over Yarin's and Weiss's 1.0746.

    r is the inner radius at the still level. Squares of radii are fitted by a line, which leaves c free.
    """
    run, wide, speed, fps = crown(cells), 0.02, 3.0, 480.0
    dx = wide / cells
    taus, squares = [], []
    frame = 1
    while True:
        frame += 1
        run.advance_frame(frame)
        tau = ((frame - 1) / fps - dx / speed) * speed / wide
        if tau > 4.0:
            break
        at = position(run)
        r = np.hypot(at[:, 0], at[:, 2])[np.abs(at[:, 1] - 0.01) < dx]
        if tau > 1.5:
            taus.append(tau)
            squares.append((float(np.quantile(r, 0.02)) / wide) ** 2)
    slope = float(np.polyfit(taus, squares, 1)[0])
    return float(np.sqrt(slope) / (2 / (3 * 0.5)) ** 0.25)
