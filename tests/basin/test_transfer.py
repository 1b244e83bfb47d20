"""The transfers and the pressure: conservation, and agreement with a general library."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase

from basin.grid.fractions import open_area, open_volume
from basin.grid.layout import PAD, make_layout
from basin.liquid.particles import Particles
from basin.liquid.sorting import Arranged, sorted_particles
from basin.liquid.sources import open_places
from basin.liquid.transfer import to_grid, to_particles
from tests.reference.tanks import CLOSED, box_fill, liquid, particles_at, position


def disc_of_particles(rng: np.random.Generator) -> Particles:
    """A spinning ball of jittered particles about the middle of a 24^3 domain."""
    lattice = np.stack(np.meshgrid(*[np.arange(-8, 8, 0.5) + 0.25] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    lattice = lattice[np.linalg.norm(lattice, axis=1) < 7] + 0
    place = lattice + rng.uniform(-0.15, 0.15, lattice.shape)
    p = particles_at(place + 12)
    p.velocity[:] = np.cross([0.0, 1.0, 0.0], place)
    p.affine[:] = [[0, 0, 1], [0, 0, 0], [-1, 0, 0]]
    return p


class Transfers(SimpleTestCase):
    """Case A30 (Jiang et al. 2015): affine transfers keep linear and angular momentum, 1e-5 in single precision."""

    def momenta(self, p: Particles) -> tuple[np.ndarray, np.ndarray]:
        m = p.volume.astype(np.float64)[:, None]
        v, x = p.velocity.astype(np.float64), p.position.astype(np.float64) - PAD - 12
        # the affine part carries angular momentum of its own: a trilinear kernel's second moments
        # differ per particle and axis, a(1 - a) for offset a within its cell
        linear = (m * v).sum(axis=0)
        angular = (m * np.cross(x, v)).sum(axis=0)
        for axis in range(3):
            shift = np.full(3, 0.5)
            shift[axis] = 0.0
            a = (p.position.astype(np.float64) - shift) % 1.0
            moment = a * (1 - a) * p.affine[:, axis].astype(np.float64)
            along = np.zeros((len(p), 3))
            along[:, axis] = 1.0
            for d in range(3):
                unit = np.zeros(3)
                unit[d] = 1.0
                angular += (m * moment[:, d : d + 1] * np.cross(unit, along)).sum(axis=0)
        return linear, angular

    def test_ten_transfers_keep_momentum(self) -> None:
        layout = make_layout(np.zeros(3), np.full(3, 24.0), 1.0, [("closed", "closed")] * 3)
        p, tiling = sorted_particles(disc_of_particles(np.random.default_rng(1)), layout)
        linear0, angular0 = self.momenta(p)
        tiles = tiling.surroundings(2)
        for _ in range(10):
            field, _mass = to_grid(p, tiling, tiles)
            to_particles(Arranged(p, tiling, tiles), field, field, 0.0, np.zeros(len(p), bool), np.zeros(3))
        linear, angular = self.momenta(p)
        scale = float(p.volume.sum()) * 7
        self.assertLess(np.abs(linear - linear0).max() / scale, 1e-5)
        self.assertLess(abs(angular[1] / angular0[1] - 1), 1e-5)

    def test_the_last_place_of_the_first_tile_is_within_it(self) -> None:
        # just under 8 a place has more digits than its distance to the tile's rim at -1, which rounds up to 9
        layout = make_layout(np.zeros(3), np.full(3, 24.0), 1.0, [("closed", "closed")] * 3)
        p = disc_of_particles(np.random.default_rng(1)).taken(np.arange(8))
        p.position[:] = np.nextafter(np.float32(8), np.float32(0))
        p.velocity[:], p.affine[:] = [1.0, 2.0, 3.0], 0.0
        p, tiling = sorted_particles(p, layout)
        tiles = tiling.surroundings(2)
        field, mass = to_grid(p, tiling, tiles)
        for axis in range(3):
            self.assertAlmostEqual(float(mass[axis].sum()), 1.0, places=5)
            self.assertAlmostEqual(float(field[axis].max()), axis + 1.0, places=5)
        p.velocity[:] = 0.0
        to_particles(Arranged(p, tiling, tiles), field, field, 0.0, np.zeros(8, bool), np.zeros(3))
        np.testing.assert_allclose(p.velocity, np.tile([1.0, 2.0, 3.0], (8, 1)), rtol=1e-5)


class TransferLoss(SimpleTestCase):
    """Case A29 (own derivation, checked by fits; after Zhu & Bridson 2005 and Jiang et al. 2015): what one transfer
    leaves of cos(kx) cos(ky)."""

    def left(self, wavelength: int, affine: bool) -> float:
        layout = make_layout(np.zeros(3), np.array([64.0, 64.0, 8.0]), 1.0, [("periodic", "periodic")] * 3)
        axes = [np.arange(0.25, n, 0.5) for n in layout.inner]
        place = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
        # anywhere in their eighths of a cell: a plain lattice would find the kernel an eighth too wide
        place = place + np.random.default_rng(9).uniform(-0.25, 0.25, place.shape)
        n, k = len(place), 2 * np.pi / wavelength
        x, y = k * place[:, 0], k * place[:, 1]
        mode = np.cos(x) * np.cos(y)
        p = particles_at(place)
        p.velocity[:, 0] = mode
        if affine:
            p.affine[:, 0, 0], p.affine[:, 0, 1] = -k * np.sin(x) * np.cos(y), -k * np.cos(x) * np.sin(y)
        p, tiling = sorted_particles(p, layout)
        order = p.id
        tiles = tiling.surroundings(2)
        field, _ = to_grid(p, tiling, tiles)
        tiles.wrap(*field)
        to_particles(Arranged(p, tiling, tiles), field, field, 0.0, np.zeros(n, bool), np.zeros(3))
        return float((p.velocity[:, 0] * mode[order]).sum() / (mode**2).sum())

    def test_particle_in_cell_within_5_percent(self) -> None:
        for wavelength, expected in ((64, 0.99678), (32, 0.98724), (16, 0.94981), (8, 0.81715)):
            self.assertAlmostEqual((1 - self.left(wavelength, False)) / (1 - expected), 1.0, delta=0.05)

    def test_affine_within_a_factor_of_two(self) -> None:
        for wavelength, expected in ((32, 0.99996), (16, 0.99928), (8, 0.98951)):
            loss = (1 - self.left(wavelength, True)) / (1 - expected)
            self.assertGreater(loss, 0.5)
            self.assertLess(loss, 2.0)


class Fractions(SimpleTestCase):
    """Open shares of faces and cells against the plane geometry they stand for."""

    def test_face_shares_of_planes_are_exact(self) -> None:
        self.assertAlmostEqual(open_area(1.0, 1.0, -1.0, -1.0), 0.5)
        self.assertAlmostEqual(open_area(1.0, -1.0, -3.0, -1.0), 0.125)
        self.assertEqual(open_area(1.0, 1.0, 1.0, 1.0), 1.0)

    def test_cell_volumes_against_sampling(self) -> None:
        rng = np.random.default_rng(4)
        sample = rng.uniform(0, 1, (200_000, 3))
        corners = np.stack(np.meshgrid([0, 1], [0, 1], [0, 1], indexing="ij"), axis=-1)
        for _ in range(12):
            normal = rng.normal(size=3)
            normal /= np.linalg.norm(normal)
            d = rng.uniform(-0.4, 0.4)
            phi = (corners - 0.5) @ normal + d
            share = float(((sample - 0.5) @ normal + d > 0).mean())
            self.assertAlmostEqual(open_volume(*phi.ravel()), share, delta=0.006)


class Walls(SimpleTestCase):
    """Particles stay where walls keep them, leave where walls are open, and come round where periodic."""

    def test_no_particle_passes_a_wall_a_voxel_thick(self) -> None:
        """Case D13 (requirement): none behind a wall hit at 10 m/s, wherever it lies between the nodes."""
        dx = 0.02
        for turn, offset in ((0, 0.0), (0, 0.5), (9, 0.25), (30, 0.5)):
            with self.subTest(turn=turn, offset=offset):
                wall = {
                    "kind": "collider",
                    "name": "wall",
                    "shape": {"kind": "box", "size": [dx, 2, 2]},
                    "pose": {"translation": [0.6 + offset * dx, 0.2, 0.2], "rotation": [0, 0, turn]},
                }
                fill = box_fill((0.1, 0.1, 0.1), (0.3, 0.3, 0.3), velocity=[10, 0, 0])
                run = liquid(dx, (1.0, 0.4, 0.4), [fill, wall], gravity=(0, 0, 0), substeps_max=40)
                for frame in range(2, 7):
                    run.advance_frame(frame)
                x, a = position(run), np.deg2rad(turn)
                behind = (x[:, 0] - 0.6 - offset * dx) * np.cos(a) + (x[:, 1] - 0.2) * np.sin(a) > 0
                self.assertEqual(int(behind.sum()), 0)
                self.assertGreater(len(x), 5000)

    def test_open_wall_drains_and_the_books_agree(self) -> None:
        dx = 0.05
        fill = box_fill((0.3, 0.0, 0.0), (0.9, 0.4, 0.4))
        run = liquid(dx, (1.0, 0.8, 0.4), [fill], walls={**CLOSED, "x_max": "open"})
        before = run.state.particles.volume.sum(dtype=np.float64)
        for frame in range(2, 26):
            run.advance_frame(frame)
        left = run.state.particles.volume.sum(dtype=np.float64)
        self.assertLess(left, 0.6 * before)
        self.assertAlmostEqual((left + run.state.lost) / before, 1.0, places=5)

    def test_periodic_axis_carries_a_stream_round(self) -> None:
        dx = 0.05
        walls = {**CLOSED, "x_min": "periodic", "x_max": "periodic"}
        run = liquid(dx, (1.0, 0.4, 0.4), [box_fill((0, 0, 0), (1, 0.2, 0.4), velocity=[2, 0, 0])], walls=walls)
        for frame in range(2, 26):
            run.advance_frame(frame)
        speed = run.state.particles.velocity.mean(axis=0) * dx
        self.assertAlmostEqual(float(speed[0]) / 2.0, 1.0, delta=0.002)
        self.assertLess(float(np.abs(speed[1:]).max()), 0.01)

    def test_places_in_solids_are_not_open(self) -> None:
        run = liquid(0.05, (0.5, 0.5, 0.5), [])
        place = np.array([[PAD + 5, PAD + 5, PAD + 5], [PAD - 1, PAD + 5, PAD + 5]], np.float32)
        self.assertEqual(open_places(place, run.world.layout, run.solid_world, 0.0).tolist(), [True, False])


class Inflows(SimpleTestCase):
    """A disc of 0.1 m radius at 1 m/s delivers area times speed times time (continuity)."""

    def test_disc_delivers_its_rate(self) -> None:
        jet = {
            "kind": "inflow",
            "name": "jet",
            "shape": {"kind": "disc", "radius": 0.1},
            "pose": {"translation": [0.5, 0.9, 0.5]},
            "velocity": [0, -1, 0],
        }
        run = liquid(0.05, (1, 1, 1), [jet])
        for frame in range(2, 26):
            run.advance_frame(frame)
        rate = np.pi * 0.1**2 * (1.0 - run.state.dt_before)
        self.assertAlmostEqual(run.state.poured * 0.05**3 / rate, 1.0, delta=0.03)
