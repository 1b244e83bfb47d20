"""Paths of particles through given flows: Zalesak's disc, LeVeque's vortex and Enright's deformation."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from django.test import SimpleTestCase
from scipy.ndimage import zoom

from basin.grid.layout import PAD, Layout, make_layout
from basin.grid.tiles import Tiles
from basin.liquid import advection
from basin.liquid.levelset import density, level_set
from basin.liquid.solids import SolidWorld
from basin.liquid.sorting import Arranged, sorted_particles
from tests.reference.tanks import particles_at

Flow = Callable[[np.ndarray, float], np.ndarray]


def on_faces(flow: Flow, tiles: Tiles, time: float) -> list[np.ndarray]:
    """A flow of places in voxels of the domain, at the centres of the faces of tiles."""
    cell = np.stack(np.meshgrid(*[np.arange(8)] * 3, indexing="ij"), axis=-1)
    place = tiles.first[:, None, None, None] + cell - PAD + 0.5
    place[0] = 0.0
    fields = []
    for d in range(3):
        face = place.copy()
        face[..., d] -= 0.5
        fields.append(flow(face, time)[..., d].astype(np.float32))
    return fields


def carried(place: np.ndarray, layout: Layout, flow: Flow, length: float, steps: int, reach: int = 6) -> np.ndarray:
    """Places after a flow has acted for a length of time, frozen at each step's middle, in their first order."""
    p = particles_at(place)
    dt = length / steps
    for n in range(steps):
        p, tiling = sorted_particles(p, layout)
        tiles = tiling.surroundings(reach)
        velocity = on_faces(flow, tiles, (n + 0.5) * dt)
        alone = np.zeros(len(p), bool)
        advection.advance(Arranged(p, tiling, tiles), velocity, dt, 64.0, alone)
    back = np.empty_like(place)
    back[p.id] = p.position.astype(np.float64) - PAD
    return back


def in_slotted_disc(place: np.ndarray) -> np.ndarray:
    """Whether places lie in Zalesak's disc: radius 15 about (50, 75), a slot of 5 x 25 from below."""
    x, y = place[..., 0] - 50, place[..., 1] - 75
    return np.asarray((np.hypot(x, y) < 15) & ~((np.abs(x) < 2.5) & (y < 10)))


def lattice(low: tuple[float, ...], high: tuple[float, ...], step: float = 0.5) -> np.ndarray:
    """Places on a plain lattice between two corners."""
    axes = [np.arange(a + step / 2, b, step) for a, b in zip(low, high, strict=True)]
    return np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)


class ZalesaksDisc(SimpleTestCase):
    """Case A27 (Zalesak 1979, J. Comput. Phys. 31): a slotted disc in rigid rotation, 100 x 100 voxels."""

    layout = make_layout(np.zeros(3), np.array([100.0, 100.0, 4.0]), 1.0, [("closed", "closed")] * 3)

    @staticmethod
    def turning(place: np.ndarray, time: float) -> np.ndarray:
        """One turn in 628 (Zalesak's own rate, pi / 314)."""
        rate = np.pi / 314
        x, y = place[..., 0] - 50, place[..., 1] - 50
        return np.stack([-rate * y, rate * x, np.zeros_like(x)], axis=-1)

    def test_the_disc_comes_back(self) -> None:
        place = lattice((34, 59, 0), (66, 91, 4))
        place = place[in_slotted_disc(place)]
        half = carried(place, self.layout, self.turning, 314.0, 314)
        opposite = np.array([100.0, 100.0]) - place[:, :2].mean(axis=0)
        np.testing.assert_allclose(half[:, :2].mean(axis=0), opposite, atol=0.01)
        back = carried(half, self.layout, self.turning, 314.0, 314)
        # third order drifts by 1e-5 cells; positions in single precision, rounded 628 times to 8e-6, are what is left
        drift = np.hypot(*(back - 50)[:, :2].T) - np.hypot(*(place - 50)[:, :2].T)
        self.assertLess(np.abs(drift).max(), 5e-4)
        self.assertLess(np.abs(drift.mean()), 1e-4)
        area, unlike = self.surfaced(back)
        self.assertAlmostEqual(area / 582.207, 1.0, delta=0.01)
        self.assertLess(unlike / 582.207, 0.03)

    def surfaced(self, place: np.ndarray) -> tuple[float, float]:
        """Area within the level set, and of where it differs from the disc, half way up the slab."""
        p, tiling = sorted_particles(particles_at(place), self.layout)
        tiles = tiling.surroundings(4)
        solids = SolidWorld(self.layout, [], 1.0).at(tiles, 0.0, 0.0)
        phi = tiles.dense(level_set(density(p, tiling, tiles), solids))[:, :, PAD + 2]
        fine = zoom(phi, 8, order=1, mode="nearest", grid_mode=True)
        x, y = np.meshgrid(*[(np.arange(n) + 0.5) / 8 - PAD for n in fine.shape], indexing="ij")
        exact = in_slotted_disc(np.stack([x, y], axis=-1))
        return float((fine < 0).sum()) / 64, float(((fine < 0) != exact).sum()) / 64

    def test_drift_is_that_of_third_order(self) -> None:
        # a step of angle z lengthens the radius by |1 + iz - z^2/2 - iz^3/6| - 1 = -z^4/24 + ...; of second order
        # it would be z^4/8, of first z^2/2
        place = np.array([[90.0, 50.0, 2.0], [50.0, 85.0, 2.0]])
        steps = 48
        z = 2 * np.pi / steps
        expected = abs(complex(1 - z * z / 2, z - z**3 / 6)) ** steps
        back = carried(place, self.layout, self.turning, 628.0, steps)
        radius = np.hypot(*(back - 50)[:, :2].T) / np.array([40.0, 35.0])
        for found in radius:
            self.assertAlmostEqual((1 - found) / (1 - expected), 1.0, delta=0.02)


class Deformation(SimpleTestCase):
    """Case A28: what a flow draws out and draws back, largest error of the return as in the list (factor 2)."""

    def returned(self, cells: int, place: np.ndarray, flow: Flow, length: float, steps: int) -> float:
        thick = 2.0 if np.ptp(place[:, 2]) == 0 else float(cells)
        layout = make_layout(np.zeros(3), np.array([cells, cells, thick]), 1.0, [("closed", "closed")] * 3)
        scaled = np.where(np.ptp(place, axis=0) > 0, place * cells, thick / 2)

        def voxels(at: np.ndarray, time: float) -> np.ndarray:
            return flow(at / cells, time) * cells

        farthest = 2 + int(np.ceil(cells * length / steps * 2))
        back = carried(scaled, layout, voxels, length, steps, farthest)
        return float(np.linalg.norm(back - scaled, axis=1).max()) / cells

    def test_vortex(self) -> None:
        """LeVeque 1996 (SIAM J. Numer. Anal. 33), T = 8: third order returns within 1.1e-2, of 200 steps 1.3e-3."""

        def vortex(at: np.ndarray, time: float) -> np.ndarray:
            x, y = np.pi * at[..., 0], np.pi * at[..., 1]
            turn = np.cos(np.pi * time / 8)
            u = np.sin(x) ** 2 * np.sin(2 * y) * turn
            return np.stack([u, -(np.sin(y) ** 2) * np.sin(2 * x) * turn, np.zeros_like(x)], axis=-1)

        disc = lattice((0.35, 0.6, 0.0), (0.65, 0.9, 0.01), 0.01)
        disc = disc[np.hypot(disc[:, 0] - 0.5, disc[:, 1] - 0.75) < 0.15]
        for steps, expected in ((100, 1.1e-2), (200, 1.3e-3)):
            error = self.returned(128, disc, vortex, 8.0, steps)
            self.assertLess(error, 2 * expected)
            self.assertGreater(error, expected / 2)

    def test_sphere(self) -> None:
        """Enright et al. 2002 (J. Comput. Phys. 183), T = 3: 5.1e-4 in 100 steps."""

        def flow(at: np.ndarray, time: float) -> np.ndarray:
            x, y, z = (np.pi * at[..., d] for d in range(3))
            turn = np.cos(np.pi * time / 3)
            return np.stack(
                [
                    2 * np.sin(x) ** 2 * np.sin(2 * y) * np.sin(2 * z) * turn,
                    -np.sin(2 * x) * np.sin(y) ** 2 * np.sin(2 * z) * turn,
                    -np.sin(2 * x) * np.sin(2 * y) * np.sin(z) ** 2 * turn,
                ],
                axis=-1,
            )

        ball = lattice((0.2, 0.2, 0.2), (0.5, 0.5, 0.5), 0.03)
        ball = ball[np.linalg.norm(ball - 0.35, axis=1) < 0.15]
        error = self.returned(64, ball, flow, 3.0, 100)
        self.assertLess(error, 2 * 5.1e-4)
        self.assertGreater(error, 5.1e-4 / 2)
