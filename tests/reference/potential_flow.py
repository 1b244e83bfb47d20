"""A column that collapses, as potential flow by boundary elements: what case A07's shallow water leaves out.

Longuet-Higgins & Cokelet 1976 (mixed Eulerian-Lagrangian free surface), linear elements, floor and
back wall by images, so that only the free surface is discretised. It shares nothing with the
product's solver: no grid, no particles, no pressure solve.

``python -m tests.reference.potential_flow`` prints the depth at the dam over Ritter's, and how far the
columns of case A08 have run. The values in `DEPTHS` are those of elements of 0.01 m; 0.014 m differ by
1 % at most, since how the tip is cut short depends on every step.
"""

from __future__ import annotations

import sys

import numpy as np
from scipy.interpolate import CubicSpline, PchipInterpolator

G = 9.80665
H, L = 0.3, 1.2  # the dam of case A07
# t sqrt(g / H) : depth at the dam over 4/9 H
DEPTHS = {1.5: 1.1717, 2.0: 1.1090, 2.5: 1.0788, 3.0: 1.0599, 3.5: 1.0466}
# case A08: place, over the column's width a, of the front where it is a twenty-fourth of a deep, at times
# T = n t sqrt(g / a), for columns n^2 a high; elements of 0.035 a, those of 0.05 a differ by 0.8 % at most
THIN = 1 / 24
FRONTS = {
    1: {0.5: 1.269, 1.0: 1.877, 1.5: 2.619, 2.0: 3.433, 2.5: 4.271},
    2: {0.5: 1.146, 1.0: 1.524, 1.5: 2.028, 2.0: 2.626, 2.5: 3.298},
}
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


def collapse(
    length: float, height: float, step: float, until: float, thin: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A column `length` long and `height` high, let go from rest, with elements of `step` (all in metres).

    Parameters
    ----------
    until : seconds
    thin : depth (m) that the front is where the surface first passes, coming from dry ground

    Returns
    -------
    (time, depth, front) : seconds; depth where the column ended; its front's place
    """
    across, down = max(round(200 * length / L), 100), max(round(60 * height / H), 60)
    top, side = np.linspace(0, length, across + 1), np.linspace(height, 0, down + 1)[1:]
    points = np.concatenate(
        [np.stack([top, np.full(len(top), height)], axis=1), np.stack([np.full(len(side), length), side], axis=1)]
    )
    points, potential = evenly(points, np.zeros(len(points)), step)
    t = 0.0
    found: list[tuple[float, float, float]] = []
    while t < until:
        velocity, rate = rates(points, potential)
        fastest = max(float(np.hypot(*velocity.T).max()), 0.2915 * np.sqrt(G * height))
        dt = min(0.25 * step / fastest, 0.02287 * np.sqrt(height / G))
        velocity, rate = rates(points + dt / 2 * velocity, potential + dt / 2 * rate)
        points, potential, t = points + dt * velocity, potential + dt * rate, t + dt
        points[0, 0] = points[-1, 1] = 0.0
        points[:, 1] = np.maximum(points[:, 1], 0)
        low = np.flatnonzero(points[:, 1] < 0.4 * step)  # the tip's jet is cut where elements cannot carry it
        if len(low) > 1:
            cut = low[0]
            points = np.concatenate([points[:cut], [[points[cut, 0], 0.0]]])
            potential = potential[: cut + 1]
        points, potential = evenly(points, potential, step)
        if len(found) % 3 == 2:
            points[1:-1] = np.stack([smoothed(points[:, 0]), smoothed(points[:, 1])], axis=1)[1:-1]
            potential = smoothed(potential)
        last = int(np.flatnonzero(points[:, 1] > thin)[-1])
        share = (points[last, 1] - thin) / (points[last, 1] - points[last + 1, 1])
        front = points[last, 0] + share * (points[last + 1, 0] - points[last, 0])
        found.append((t, float(np.interp(length, points[:, 0], points[:, 1])), float(front)))
    time, depth, place = np.array(found).T
    return time, depth, place


def main() -> None:
    """Print depths and means over windows for one or several element lengths, and the fronts of case A08."""
    for step in [float(a) for a in sys.argv[1:]] or [0.014, 0.01]:
        time, depth, _ = collapse(L, H, step, 4.0 * np.sqrt(H / G), 0.5 * step)
        time, depth = time * np.sqrt(G / H), depth / (4 * H / 9)
        at = {t: round(float(np.interp(t, time, depth)), 4) for t in (1.5, 2.0, 2.5, 3.0, 3.5)}
        means = [f"{a} to {b}: {depth[(time >= a) & (time < b)].mean():.4f}" for a, b in ((2, 3), (3, 4))]
        print(f"elements of {step} m: {at}; means {', '.join(means)}")
    for square in (1, 2):
        for step in (0.05, 0.035):
            time, _, front = collapse(1.0, square, step, 2.8 / np.sqrt(square * G), THIN)
            at = {t: round(float(np.interp(t, time * np.sqrt(square * G), front)), 4) for t in FRONTS[square]}
            print(f"column of n^2 = {square}, elements of {step} widths: {at}")


if __name__ == "__main__":
    main()
