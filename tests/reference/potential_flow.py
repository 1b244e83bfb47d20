"""The dam break as potential flow, by boundary elements: what case A07's shallow water leaves out.

Longuet-Higgins & Cokelet 1976 (mixed Eulerian-Lagrangian free surface), linear elements, floor and
back wall by images, so that only the free surface is discretised. It shares nothing with the
product's solver: no grid, no particles, no pressure solve.

``python -m tests.reference.potential_flow`` prints the depth at the dam over Ritter's; the values in
`DEPTHS` are those of elements of 0.01 m; 0.014 m differ by 0.3 % at most.
"""

from __future__ import annotations

import sys

import numpy as np
from scipy.interpolate import CubicSpline, PchipInterpolator

G, H, L = 9.80665, 0.3, 1.2
# t sqrt(g / H) : depth at the dam over 4/9 H
DEPTHS = {1.5: 1.1717, 2.0: 1.1090, 2.5: 1.0788, 3.0: 1.0599, 3.5: 1.0466}
GAUSS, WEIGHT = np.polynomial.legendre.leggauss(4)
GAUSS, WEIGHT = (GAUSS + 1) / 2, WEIGHT / 2


def arc(points: np.ndarray) -> np.ndarray:
    """Length along a polyline (n, 2)."""
    return np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])


def evenly(points: np.ndarray, potential: np.ndarray, step: float) -> tuple[np.ndarray, np.ndarray]:
    """The free surface with nodes `step` apart; its ends stay on the wall and on the floor."""
    s = arc(points)
    t = np.linspace(0, s[-1], max(int(s[-1] / step), 40) + 1)
    new = np.stack([PchipInterpolator(s, points[:, d])(t) for d in (0, 1)], axis=1)
    new[0, 0] = new[-1, 1] = 0.0
    return new, PchipInterpolator(s, potential)(t)


def flux(points: np.ndarray, potential: np.ndarray) -> np.ndarray:
    """Normal derivative of the potential at the nodes (n,), from Green's third identity."""
    n = len(points)
    start, edge = points[:-1], np.diff(points, axis=0)
    length = np.hypot(*edge.T)
    normal = np.stack([-edge[:, 1], edge[:, 0]], axis=1) / length[:, None]
    double, single = np.zeros((n, n)), np.zeros((n, n))
    node = np.arange(n)
    for sx in (1, -1):
        for sy in (1, -1):
            image = points * np.array([sx, sy])
            # elements that touch the image of a node: its own, and at the ends those mirrored onto themselves
            touching = np.zeros((n, n - 1), bool)
            same = node if sx == sy == 1 else (node[:1] if (sx, sy) == (-1, 1) else node[-1:])
            for i in same if (sx, sy) != (-1, -1) else ():
                for element, other in ((i, i + 1), (i - 1, i - 1)):
                    if 0 <= element < n - 1:
                        touching[i, element] = True
                        single[i, i] += length[element] * (0.5 * np.log(length[element]) - 0.75)
                        single[i, other] += length[element] * (0.5 * np.log(length[element]) - 0.25)
            for q, weight in zip(GAUSS, WEIGHT, strict=True):
                apart = (start + q * edge)[None] - image[:, None]
                square = np.where(touching, 1.0, (apart**2).sum(axis=-1))
                log = np.where(touching, 0.0, 0.5 * np.log(square)) * length * weight
                dipole = np.where(touching, 0.0, (apart * normal[None]).sum(axis=-1) / square) * length * weight
                double[:, :-1] += dipole * (1 - q)
                double[:, 1:] += dipole * q
                single[:, :-1] += log * (1 - q)
                single[:, 1:] += log * q
    double[node, node] -= double.sum(axis=1)  # a constant potential has no flux
    return np.asarray(np.linalg.solve(single, double @ potential))


def rates(points: np.ndarray, potential: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Velocity of the nodes (n, 2) and rate of their potential (n,), Bernoulli with p = 0."""
    outward = flux(points, potential)
    # mirrored beyond wall and floor, so that the splines have no ends there
    p = np.concatenate([points[4:0:-1] * [-1, 1], points, points[-2:-6:-1] * [1, -1]])
    f = np.concatenate([potential[4:0:-1], potential, potential[-2:-6:-1]])
    s = arc(p)
    tangent = CubicSpline(s, p)(s, 1)[4:-4]
    tangent /= np.hypot(*tangent.T)[:, None]
    normal = np.stack([-tangent[:, 1], tangent[:, 0]], axis=1)
    velocity = tangent * CubicSpline(s, f)(s, 1)[4:-4, None] + normal * outward[:, None]
    velocity[0, 0] = velocity[-1, 1] = 0.0
    return velocity, 0.5 * (velocity**2).sum(axis=1) - G * points[:, 1]


def smoothed(values: np.ndarray) -> np.ndarray:
    """Longuet-Higgins & Cokelet's five-point formula against saw teeth."""
    out = values.copy()
    v = values
    out[2:-2] = (-v[:-4] + 4 * v[1:-3] + 10 * v[2:-2] + 4 * v[3:-1] - v[4:]) / 16
    return out


def dam_depths(step: float, until: float = 4.0) -> np.ndarray:
    """Columns t sqrt(g/H) and depth at the dam over 4/9 H, from elements of `step` metres."""
    top, side = np.linspace(0, L, 201), np.linspace(H, 0, 61)[1:]
    points = np.concatenate([np.stack([top, np.full(201, H)], axis=1), np.stack([np.full(60, L), side], axis=1)])
    points, potential = evenly(points, np.zeros(len(points)), step)
    unit, t = np.sqrt(G / H), 0.0
    found: list[tuple[float, float]] = []
    while t * unit < until:
        velocity, rate = rates(points, potential)
        dt = min(0.25 * step / max(float(np.hypot(*velocity.T).max()), 0.5), 0.004)
        velocity, rate = rates(points + dt / 2 * velocity, potential + dt / 2 * rate)
        points, potential, t = points + dt * velocity, potential + dt * rate, t + dt
        points[0, 0] = points[-1, 1] = 0.0
        points[:, 1] = np.maximum(points[:, 1], 0)
        thin = np.flatnonzero(points[:, 1] < 0.4 * step)  # the tip's jet is cut where elements cannot carry it
        if len(thin) > 1:
            cut = thin[0]
            points = np.concatenate([points[:cut], [[points[cut, 0], 0.0]]])
            potential = potential[: cut + 1]
        points, potential = evenly(points, potential, step)
        if len(found) % 3 == 2:
            points[1:-1] = np.stack([smoothed(points[:, 0]), smoothed(points[:, 1])], axis=1)[1:-1]
            potential = smoothed(potential)
        found.append((t * float(unit), float(np.interp(L, points[:, 0], points[:, 1])) / (4 * H / 9)))
    return np.array(found)


def main() -> None:
    """Print depths and means over windows for one or several element lengths."""
    for step in [float(a) for a in sys.argv[1:]] or [0.014, 0.01]:
        table = dam_depths(step)
        at = {t: round(float(np.interp(t, *table.T)), 4) for t in (1.5, 2.0, 2.5, 3.0, 3.5)}
        means = [
            f"{a} to {b}: {table[(table[:, 0] >= a) & (table[:, 0] < b), 1].mean():.4f}" for a, b in ((2, 3), (3, 4))
        ]
        print(f"elements of {step} m: {at}; means {', '.join(means)}")


if __name__ == "__main__":
    main()
