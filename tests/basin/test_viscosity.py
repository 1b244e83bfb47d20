"""The viscous step held against linear algebra and the laws of motion; a source's viscosity along its way."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numba
import numpy as np
from django.test import SimpleTestCase
from scipy.sparse import diags
from scipy.sparse.linalg import expm_multiply, spsolve

from basin.cache import Cache
from basin.grid.layout import PAD
from basin.grid.tiles import Tiles, tile_set
from basin.liquid.band import made_of
from basin.liquid.carried import Carried
from basin.liquid.particles import Particles
from basin.liquid.resampling import resampled
from basin.liquid.solids import Solids
from basin.liquid.sorting import EVERYTHING_SEEN, Arranged, sorted_particles
from basin.liquid.viscosity import Viscous, act, at_cells, stick
from basin.scene import SceneError, parse_scene
from basin.stages.assembly import liquid_world
from basin.stages.files import SceneFiles
from basin.stages.liquid_stage import frame_arrays
from basin.stages.run import run
from basin.stages.view import attributes, shaded
from tests.frames import frame_keys
from tests.reference.tanks import CLOSED, box_collider, box_fill, liquid, position
from tests.reference.thick import assembled

Flow = Callable[[np.ndarray], np.ndarray]
DX = 0.1
PERIODIC = dict.fromkeys(CLOSED, "periodic")


def grid(size: tuple[float, float, float], walls: dict[str, str], *solid: dict[str, Any]) -> tuple[Tiles, Solids]:
    """All tiles of a domain in voxels of 0.1 m, and what is solid in it."""
    run = liquid(DX, size, [box_fill((0, 0, 0), (DX, DX, DX)), *solid], walls)
    layout = run.world.layout
    tiles = tile_set(layout, np.arange(int(np.prod(layout.tiles))))
    return tiles, run.solid_world.at(tiles, 0.0, 0.0)


def places(tiles: Tiles, offset: tuple[float, float, float]) -> np.ndarray:
    """Places (n + 1, 8, 8, 8, 3) in voxels from the domain's corner."""
    cell = np.stack(np.meshgrid(*[np.arange(8)] * 3, indexing="ij"), axis=-1)
    return np.asarray(tiles.first[:, None, None, None, :] + cell + np.array(offset) - PAD, float)


def level(tiles: Tiles, distance: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    """A level set at cells' centres, voxels, from places in voxels."""
    found = np.clip(distance(places(tiles, (0.5, 0.5, 0.5))), -2.5, 2.5).astype(np.float32)
    found[0] = 2.5
    return found


def faces(tiles: Tiles, flow: Flow) -> list[np.ndarray]:
    """A flow's components at the faces square to them."""
    offsets = ((0.0, 0.5, 0.5), (0.5, 0.0, 0.5), (0.5, 0.5, 0.0))
    return [flow(places(tiles, o))[..., d].astype(np.float32) for d, o in enumerate(offsets)]


def ball(middle: float = 8.0, radius: float = 5.3) -> Callable[[np.ndarray], np.ndarray]:
    return lambda at: np.linalg.norm(at - middle, axis=-1) - radius


def spinning(at: np.ndarray) -> np.ndarray:
    """Turning about a leaning axis through (8, 8, 8), and going."""
    return np.cross([0.3, -0.5, 0.8], at - 8.0) + np.array([1.0, 2.0, -0.5])


def anyhow(at: np.ndarray) -> np.ndarray:
    """A flow without order, the same each time."""
    return np.sin(at @ np.array([[1.3, 2.1, 0.7], [2.9, 0.4, 1.7], [0.8, 1.9, 3.1]])) * 3.0


def everywhere(tiles: Tiles, value: float) -> np.ndarray:
    return tiles.field(value)


class Step(SimpleTestCase):
    """One implicit step on a grid."""

    OPEN = dict.fromkeys(CLOSED, "open")

    def free_ball(self, nu: float) -> tuple[Tiles, Viscous]:
        tiles, solids = grid((1.6, 1.6, 1.6), self.OPEN)
        return tiles, Viscous(level(tiles, ball()), everywhere(tiles, nu), solids, 1.0)

    def test_turning_and_going_as_a_whole_are_free(self) -> None:
        """Case B16 (Newton; Batty & Bridson 2008): no viscous stress, so no change, however stiff; 1e-6 a solve."""
        for nu in (1.0, 1e4):
            tiles, matrix = self.free_ball(nu)
            velocity = faces(tiles, spinning)
            before = [u.copy() for u in velocity]
            matrix.damp(velocity)
            for u, u0 in zip(velocity, before, strict=True):
                np.testing.assert_allclose(u, u0, atol=1e-5 * float(np.abs(u0).max()))

    def momenta(self, tiles: Tiles, matrix: Viscous, velocity: list[np.ndarray]) -> np.ndarray:
        """Momentum (3,) and angular momentum (3,) about the ball's middle, as the matrix weighs masses."""
        offsets = ((0.0, 0.5, 0.5), (0.5, 0.0, 0.5), (0.5, 0.5, 0.0))
        total = np.zeros(6)
        for d, u in enumerate(velocity):
            acts = matrix.faces()[d] > 0
            own = (matrix._mass[d] * u * acts).astype(float)
            arm = places(tiles, offsets[d]) - 8.0
            total[d] += own.sum()
            total[3 + (d + 1) % 3] += (arm[..., (d + 2) % 3] * own).sum()
            total[3 + (d + 2) % 3] -= (arm[..., (d + 1) % 3] * own).sum()
        return total

    def test_momentum_and_angular_momentum_stay_and_strain_goes(self) -> None:
        """Newton's laws: stresses inside a body change neither; what stiff liquid is left with is a rigid motion."""
        tiles, matrix = self.free_ball(1e3)
        velocity = faces(tiles, anyhow)
        before = self.momenta(tiles, matrix, velocity)
        matrix.damp(velocity, 1e-9)
        after = self.momenta(tiles, matrix, velocity)
        np.testing.assert_allclose(after, before, atol=1e-4 * float(np.abs(before).max()))
        # the rigid motion of that momentum, by least squares over the faces of the ball
        offsets = ((0.0, 0.5, 0.5), (0.5, 0.0, 0.5), (0.5, 0.5, 0.0))
        rows, right = [], []
        for d, u in enumerate(velocity):
            at = (
                places(tiles, offsets[d])[inside] - 8.0 if (inside := matrix.faces()[d] > 0).any() else np.zeros((0, 3))
            )
            row = np.zeros((len(at), 6))
            row[:, d] = 1.0
            row[:, 3 + (d + 1) % 3], row[:, 3 + (d + 2) % 3] = at[:, (d + 2) % 3], -at[:, (d + 1) % 3]
            rows.append(row)
            right.append(u[inside])
        table, values = np.concatenate(rows), np.concatenate(right)
        fit, *_ = np.linalg.lstsq(table, values, rcond=None)
        self.assertLess(float(np.abs(table @ fit - values).max()), 2e-3 * 3.0)  # of what it was
        self.assertGreater(float(np.abs(values).max()), 0.03)

    def test_waves_of_shear_and_stretch_fall_as_the_implicit_step_says(self) -> None:
        """Linear theory: by 1 / (1 + nu dt k^2) where the motion is square to the way it changes, by twice that k^2
        where it is along; k of the grid is 2 sin(k / 2) (any textbook of difference schemes)."""
        tiles, solids = grid((1.6, 1.6, 1.6), PERIODIC)
        k, nu = 2 * np.pi / 16, 3.0
        own = (2 * np.sin(k / 2)) ** 2
        for moves, along, twice in ((0, 1, 1), (1, 2, 1), (2, 0, 1), (0, 0, 2), (1, 1, 2), (2, 2, 2)):

            def wave(at: np.ndarray, moves: int = moves, along: int = along) -> np.ndarray:
                found = np.zeros(at.shape)
                found[..., moves] = np.cos(k * at[..., along] + 0.3)
                return found

            velocity = faces(tiles, wave)
            before = velocity[moves].copy()
            Viscous(tiles.field(-2.5), everywhere(tiles, nu), solids, 1.0).damp(velocity)
            np.testing.assert_allclose(velocity[moves][1:], before[1:] / (1 + twice * nu * own), atol=2e-6)

    def test_the_solution_is_that_of_a_general_library(self) -> None:
        """The matrix is that of the energy, as SciPy puts it together, and positive; its direct solver agrees."""
        floor = box_collider((-1, -1, -1), (2, 0.23, 2), "floor")
        tiles, solids = grid((0.8, 0.8, 0.8), self.OPEN, floor)
        nu = level(tiles, lambda at: 2.0 + at[..., 0]) + np.float32(2.5)
        matrix = Viscous(level(tiles, lambda at: np.linalg.norm(at - [4.2, 3.4, 4.0], axis=-1) - 2.9), nu, solids, 1.0)
        whole, free = assembled(matrix)
        self.assertGreater(int(free.sum()), 300)
        self.assertGreater(float(np.linalg.eigvalsh(whole.toarray()).min()), 0.0)
        velocity = faces(tiles, anyhow)
        start = np.stack(velocity).astype(float)
        held = np.where(matrix._mass < 0, 0.0, start)  # the floor rests
        out, part = np.zeros_like(start), np.zeros(len(matrix.strains.row))
        matrix.strains.times(held, out, part)
        flat = np.stack([tiles.dense(f) for f in held])[free]
        stiff = np.stack([tiles.dense(f) for f in out])[free]
        matrix.strains.times(np.where(matrix.strains.inverse > 0, held, 0.0), out, part)
        product = np.stack([tiles.dense(f) for f in out])[free]
        np.testing.assert_allclose(product, whole @ flat, atol=1e-9 * np.abs(product).max())
        # stress on the free faces by the others, which do not change, is on the right side
        mass = np.stack([tiles.dense(f) for f in matrix._mass])[free].astype(float)
        change = spsolve(whole.tocsc(), mass * flat - stiff)
        matrix.damp(velocity, 1e-9)
        found = np.stack([tiles.dense(f) for f in velocity])[free]
        np.testing.assert_allclose(found, flat + change, atol=1e-5)

    def test_a_whole_step_is_of_second_order_and_leaves_no_echo(self) -> None:
        """Against SciPy's exponential of the same matrix: a step of half the length is off by a quarter, and the
        stiffest liquid is left with what the exponential leaves, to 1 % of what it was."""
        tiles, solids = grid((0.8, 0.8, 0.8), CLOSED)
        phi = tiles.field(-2.5)
        matrix = Viscous(phi, everywhere(tiles, 1.0), solids, 1.0)
        whole, free = assembled(matrix)
        mass = np.stack([tiles.dense(f) for f in matrix._mass])[free].astype(float)
        stiff = whole - diags(mass)

        def before() -> list[np.ndarray]:
            return [np.where(acts > 0, u, 0.0) for u, acts in zip(faces(tiles, anyhow), matrix.faces(), strict=True)]

        begun = np.stack([tiles.dense(f) for f in before()])[free].astype(float)

        def off(seconds: float, steps: int) -> float:
            velocity = before()
            for _ in range(steps):
                act(velocity, [tiles.field() for _ in range(3)], phi, everywhere(tiles, 1.0), solids, seconds / steps)
            found = np.stack([tiles.dense(f) for f in velocity])[free]
            exact = expm_multiply(-diags(1.0 / mass) @ stiff * seconds, begun)
            return float(np.linalg.norm(found - exact) / np.linalg.norm(begun))

        errors = [off(0.08, steps) for steps in (1, 2, 4)]
        self.assertGreater(errors[0] / errors[1], 3.0, errors)
        self.assertGreater(errors[1] / errors[2], 3.0, errors)
        self.assertLess(off(1e3, 1), 0.01)

    def test_a_guess_changes_the_way_and_not_the_end(self) -> None:
        tiles, matrix = self.free_ball(10.0)
        plain, guessed, misled = (faces(tiles, anyhow) for _ in range(3))
        before = faces(tiles, anyhow)
        taken = matrix.damp(plain, 1e-9).iterations
        right = [u - u0 for u, u0 in zip(plain, before, strict=True)]
        self.assertLess(matrix.damp(guessed, 1e-9, right).iterations, taken / 2)
        matrix.damp(misled, 1e-9, [-3.0 * u for u in faces(tiles, spinning)])
        for found in (guessed, misled):
            np.testing.assert_allclose(np.stack(found), np.stack(plain), atol=1e-5)

    def test_the_same_bits_on_one_thread_and_two(self) -> None:
        tiles, matrix = self.free_ball(10.0)
        found = []
        for threads in (1, 2):
            numba.set_num_threads(threads)
            try:
                velocity = faces(tiles, anyhow)
                matrix.damp(velocity)
            finally:
                numba.set_num_threads(numba.config.NUMBA_NUM_THREADS)
            found.append(np.stack(velocity))
        np.testing.assert_array_equal(*found)

    def test_liquid_at_rest_takes_no_steps_and_none_is_no_trouble(self) -> None:
        tiles, matrix = self.free_ball(10.0)
        velocity = [tiles.field() for _ in range(3)]
        self.assertEqual(matrix.damp(velocity).iterations, 0)
        empty = Viscous(tiles.field(2.5), everywhere(tiles, 1.0), matrix._solids, 1.0)
        self.assertEqual(empty.damp(faces(tiles, anyhow)).iterations, 0)


class Walls(SimpleTestCase):
    """Liquid at walls on and off the faces."""

    def test_shear_between_planes_is_exact_wherever_they_lie(self) -> None:
        """Poiseuille 1840: y (H - y) / 2 nu; here at the faces, whose elements are exact, to 1e-3."""
        for off in (0.0, 0.3, 0.8):
            walls = {**PERIODIC, "y_min": "open", "y_max": "open"}
            low, deep = 2.0 + off, 10.0
            floor = box_collider((-1, -1, -1), (3, low * DX, 3), "floor")
            roof = box_collider((-1, (low + deep) * DX, -1), (3, 3, 3), "roof")
            tiles, solids = grid((0.8, 1.6, 0.8), walls, floor, roof)
            phi, nu = tiles.field(-2.5), 2.0
            velocity = [tiles.field() for _ in range(3)]
            matrix = Viscous(phi, everywhere(tiles, nu), solids, 50.0)
            for _ in range(60):  # until it is steady
                velocity[0] += np.float32(50.0)  # 1 voxel/s^2
                matrix.damp(velocity, 1e-9)
            y = places(tiles, (0.0, 0.5, 0.5))[..., 1] - low
            flows = (matrix.faces()[0] > 0) & (y > 0) & (y < deep)
            expected = y * (deep - y) / (2 * nu)
            error = np.abs(velocity[0] - expected)[flows] / expected.max()
            self.assertLess(float(error.max()), 2e-3, f"planes {off} voxels off the faces")

    def test_what_sticks_goes_on_into_the_wall_the_other_way(self) -> None:
        """Half a voxel behind a wall stands minus what is half a voxel before it; water's thin layer slides."""
        tiles, solids = grid((1.6, 1.6, 1.6), CLOSED)
        for nu, expected in ((1e6, -1.0), (0.0, 1.0), (1.0, 0.0)):
            velocity = [tiles.field(1.0) for _ in range(3)]
            stick(velocity, everywhere(tiles, nu), solids)
            behind = tiles.dense(velocity[0])[PAD + 4, PAD - 1, PAD + 4]
            before = tiles.dense(velocity[0])[PAD + 4, PAD, PAD + 4]
            self.assertAlmostEqual(float(behind), expected, places=4)
            self.assertEqual(float(before), 1.0)

    def test_a_wall_that_moves_takes_stiff_liquid_with_it(self) -> None:
        keys = [{"time": t, "value": [0.8 + 0.4 * t, -0.5, 0.8]} for t in (0.0, 10.0)]
        keys = [{**k, "segment": "linear"} for k in keys]
        floor = box_collider((-3, -1, -3), (3, 0.0, 3), "floor", pose={"translation": {"keys": keys}})
        run = liquid(
            DX,
            (1.6, 1.6, 1.6),
            [box_fill((0, 0, 0), (DX, DX, DX)), floor],
            PERIODIC | {"y_max": "open", "y_min": "open"},
        )
        layout = run.world.layout
        tiles = tile_set(layout, np.arange(int(np.prod(layout.tiles))))
        solids = run.solid_world.at(tiles, 1.0, 0.01)
        velocity = [tiles.field() for _ in range(3)]
        Viscous(level(tiles, lambda at: at[..., 1] - 8.0), everywhere(tiles, 1e5), solids, 1.0).damp(velocity)
        y = places(tiles, (0.0, 0.5, 0.5))[..., 1]
        np.testing.assert_allclose(velocity[0][1:][(y[1:] > 0) & (y[1:] < 8)], 4.0, rtol=1e-3)  # voxels a second


class ThinWalls(SimpleTestCase):
    """Walls thinner than the grid can tell hold what goes along them as thick ones do, on both their sides."""

    def steady(self, off: float, slip: float, speed: float = 0.0) -> tuple[Tiles, Viscous, list[np.ndarray]]:
        """Liquid between and about two plates 0.3 voxels thick, 10 voxels apart, of which the lower one slides.

        It is pulled along by 1 voxel/s^2 unless that does (voxels/s).
        """
        low = 5.0 + off
        keys = [
            {"time": t, "value": [0.4 + speed * DX * t, (low - 0.15) * DX, 0.4], "segment": "linear"}
            for t in (0.0, 9.0)
        ]
        floor = box_collider((-3, 0, -3), (3, 0.3 * DX, 3), "floor", pose={"translation": {"keys": keys}})
        roof = box_collider((-1, (low + 10) * DX, -1), (3, (low + 10.3) * DX, 3), "roof", slip_length=slip * DX)
        walls = {**PERIODIC, "y_min": "open", "y_max": "open"}
        fill = box_fill((0, 0, 0), (DX, DX, DX))
        run = liquid(DX, (0.8, 2.4, 0.8), [fill, {**floor, "slip_length": slip * DX}, roof], walls)
        layout = run.world.layout
        tiles = tile_set(layout, np.arange(int(np.prod(layout.tiles))))
        solids = run.solid_world.at(tiles, 0.0, 0.01)
        velocity = [tiles.field() for _ in range(3)]
        phi = level(tiles, lambda at: np.abs(at[..., 1] - 10.3) - 8.1)
        matrix = Viscous(phi, everywhere(tiles, 2.0), solids, 50.0)
        for _ in range(60):
            velocity[0] += np.float32(0.0 if speed else 50.0)
            matrix.damp(velocity, 1e-9)
        return tiles, matrix, velocity

    def test_flow_between_two_is_exact_wherever_they_lie(self) -> None:
        """Poiseuille 1840, with Navier's slip length b: (y (H - y) + b H) / 2 nu, at the faces to 2e-3."""
        for off, slip in ((0.0, 0.0), (0.3, 0.0), (0.3, 2.5), (0.8, 0.5)):
            tiles, matrix, velocity = self.steady(off, slip)
            y = places(tiles, (0.0, 0.5, 0.5))[..., 1] - 5.0 - off
            flows = (matrix.faces()[0] > 0) & (y > 0) & (y < 10)
            expected = (y * (10 - y) + 10 * slip) / 4.0
            error = np.abs(velocity[0] - expected)[flows] / expected.max()
            self.assertLess(float(error.max()), 2e-3, f"plates {off} voxels off the faces, slip {slip}")

    def test_one_that_slides_drags_its_liquid_along(self) -> None:
        """Couette 1890: evenly from the one to the other, here with a slip length of a voxel and a half."""
        tiles, matrix, velocity = self.steady(0.3, 1.5, speed=3.0)
        y = places(tiles, (0.0, 0.5, 0.5))[..., 1] - 5.3
        flows = (matrix.faces()[0] > 0) & (y > 0) & (y < 10)
        np.testing.assert_allclose(velocity[0][flows], (3.0 * (11.5 - y) / 13.0)[flows], rtol=2e-3)
        under = (matrix.faces()[0] > 0) & (y < 0) & (y > -2.5)
        np.testing.assert_allclose(velocity[0][under], 3.0, rtol=2e-3)

    def test_they_bear_all_that_pulls_the_liquid(self) -> None:
        """In a steady flow the walls take what gravity gives (Newton's second law)."""
        tiles, matrix, velocity = self.steady(0.3, 0.5)
        taken = matrix.drag(velocity, np.zeros((2, 3)))[:, 0].sum()
        inside = tiles.between_walls(np.array([0, 2]))
        mass = np.where((matrix.strains.inverse[0] > 0) & inside, matrix._mass[0], 0.0)
        self.assertAlmostEqual(float(taken / (50.0 * mass.sum(dtype=float))), 1.0, delta=2e-3)


class Sources(SimpleTestCase):
    """Viscosity as sources give it and particles carry it."""

    def scene(self, *viscosity: float, **more: Any) -> dict[str, Any]:
        fills = [
            {**box_fill((0.4 * n, 0, 0), (0.4 * n + 0.4, 0.2, 0.4), f"part {n}"), "viscosity": v}
            for n, v in enumerate(viscosity)
        ]
        return {
            "format": "zinc-scene/1",
            "time": {"last": 3},
            "domain": {"low": [0, 0, 0], "size": [0.8, 0.4, 0.4], "walls": CLOSED},
            "liquid": {"voxel_size": 0.025, **more},
            "quality": {"draft": 1, "proof": 1},
            "elements": fills,
        }

    def test_kinematic_is_dynamic_over_density_and_leaves_as_it_came(self) -> None:
        made = liquid(0.05, (0.8, 0.8, 0.8), self.scene(3.0, 0.0)["elements"], density=1500.0)
        self.assertEqual(made.world.carried, Carried(("viscosity",)))
        x = position(made)[:, 0]
        nu = made.state.particles.carried[:, 0]
        np.testing.assert_allclose(nu[x < 0.39], 3.0 / 1500.0, rtol=1e-6)
        np.testing.assert_array_equal(nu[x > 0.41], 0.0)
        frame = frame_arrays(made, made.fields(0.0))
        np.testing.assert_allclose(frame["viscosity"][x < 0.39], 3.0, rtol=1e-6)
        self.assertIn("viscosity", attributes(frame))
        told, _ = shaded(frame, "viscosity")
        self.assertAlmostEqual(float(told["top"]), 3.0, places=5)

    def test_no_viscosity_is_carried_where_no_source_has_any(self) -> None:
        made = liquid(0.05, (0.8, 0.8, 0.8), self.scene(0.0, 0.0)["elements"])
        self.assertEqual(made.world.carried.width, 0)
        self.assertNotIn("viscosity", frame_arrays(made, made.fields(0.0)))

    def test_columns_lie_beside_colours_and_rest_positions(self) -> None:
        parts = self.scene(2.0, 1.0, texture_clock=4)
        parts["elements"][0] |= {"colour": [1.0, 0.0, 0.0], "mark": 0.5}
        world = liquid_world(parse_scene(parts), SceneFiles(Path()), "final")
        self.assertEqual((world.carried.at("viscosity").start, world.carried.width), (4, 4 + 1 + 6))
        with tempfile.TemporaryDirectory() as name:
            cache = Cache(Path(name))
            list(run(parse_scene(parts), Path(name), cache))
            frame, mesh = cache.stage("liquid").frame(3), cache.stage("surface").frame(3)
        for one, within in ((frame, 1e-5), (mesh, 1e-4)):
            left = one["position"][:, 0] < 0.25
            np.testing.assert_allclose(one["viscosity"][left], 2.0, rtol=within)
            np.testing.assert_allclose(one["mark"][left], 0.5, atol=within)
            right = one["position"][:, 0] > 0.55
            np.testing.assert_allclose(one["viscosity"][right], 1.0, rtol=within)
        still = np.linalg.norm(frame["rest_a"] - frame["position"], axis=1)
        self.assertLess(float(np.quantile(still, 0.9)), 0.02)

    def test_cells_take_the_harmonic_mean_of_their_particles_by_volume(self) -> None:
        made = liquid(0.05, (0.8, 0.8, 0.8), self.scene(4.0, 1.0)["elements"], density=1.0)
        p, tiling = sorted_particles(made.state.particles, made.world.layout)
        tiles = tiling.surroundings(4)
        like = made_of(p, tiling, tiles).carried[:, 0]
        field = at_cells(p, p.carried[:, 0], tiling, tiles, like, EVERYTHING_SEEN)
        line = tiles.dense(field)[PAD : PAD + 16, PAD + 1, PAD + 4]
        np.testing.assert_allclose(line[:6], 4.0, rtol=1e-5)
        np.testing.assert_allclose(line[10:], 1.0, rtol=1e-5)
        self.assertTrue((np.diff(line) <= 1e-6).all())
        self.assertAlmostEqual(float(1 / line[7] + 1 / line[8]), 1.25, places=2)  # alike on both sides

    def test_particles_that_merge_take_the_mean(self) -> None:
        made = liquid(0.05, (0.8, 0.8, 0.8), self.scene(1.0, 1.0)["elements"], density=1.0)
        crowd = Particles.at(np.full((40, 3), 8.5) + np.linspace(0, 0.4, 40)[:, None], 0.05, 1)
        crowd.carried[:, 0] = np.arange(40) % 2 * 6.0
        p, tiling = sorted_particles(crowd, made.world.layout)
        tiles = tiling.surroundings(4)
        fewer, _ = resampled(Arranged(p, tiling, tiles), tiles.field(-2.5), 8, 40, 0)
        self.assertLess(len(fewer), 40)
        held = float(fewer.carried[:, 0] @ fewer.volume)
        self.assertAlmostEqual(held, 3.0 * 40 * 0.05, places=3)

    def test_keys_change_with_viscosity_and_old_frames_stay_current_without(self) -> None:
        files = SceneFiles(Path())
        keys = [
            frame_keys(parse_scene(s), files, "final", "liquid")[3]
            for s in (
                self.scene(0.0, 0.0),
                self.scene(2.0, 0.0),
                self.scene(2.0, 1.0),
                self.scene(2.0, 0.0, density=900.0),
            )
        ]
        self.assertEqual(len(set(keys)), 4)
        bare = self.scene(0.0, 0.0)
        for element in bare["elements"]:
            del element["viscosity"]
        self.assertEqual(frame_keys(parse_scene(bare), files, "final", "liquid")[3], keys[0])

    def test_thickness_multiplies_it_and_keys_change_only_what_comes_after(self) -> None:
        """Liquid twice as thick by its factor is liquid twice as thick; from a key on it goes another way."""

        def ends(viscosity: float, thickness: Any) -> list[np.ndarray]:
            scene = self.scene(viscosity, viscosity, thickness=thickness)
            scene["elements"][1]["velocity"] = [-2.0, 0.0, 0.0]
            with tempfile.TemporaryDirectory() as name:
                cache = Cache(Path(name))
                list(run(parse_scene(scene), Path(name), cache, stages=("liquid",)))
                return [cache.stage("liquid").frame(frame)["velocity"] for frame in (2, 3)]

        twice, factor, other = ends(20.0, 1.0), ends(10.0, 2.0), ends(10.0, 1.0)
        np.testing.assert_array_equal(twice[1], factor[1])
        speeds = [float(np.linalg.norm(flow[1], axis=1).mean()) for flow in (other, factor)]
        self.assertGreater(speeds[0] - speeds[1], 0.01)  # the thicker one is slower
        at = [1 / 24 + 0.002, 1 / 24 + 0.01]  # once the second frame is there
        keyed = {"keys": [{"time": t, "value": v, "segment": "linear"} for t, v in zip(at, (1.0, 2.0), strict=True)]}
        later = ends(10.0, keyed)
        np.testing.assert_array_equal(later[0], other[0])
        self.assertGreater(speeds[0] - float(np.linalg.norm(later[1], axis=1).mean()), 0.001)
        files, plain = SceneFiles(Path()), self.scene(2.0, 2.0)
        before, after = (
            frame_keys(parse_scene(s), files, "final", "liquid") for s in (plain, self.scene(2.0, 2.0, thickness=keyed))
        )
        self.assertNotEqual(before[3], after[3])
        with self.assertRaisesRegex(SceneError, "thinner"):
            parse_scene(self.scene(1.0, thickness=-1.0))

    def test_by_age_as_by_keys_and_by_mark_as_by_viscosity(self) -> None:
        """All liquid is as old as the shot: thick by age is thick by keys; marks make of one liquid two unlike ones."""

        def end(*viscosity: float, marks: tuple[float, ...] = (0.0, 0.0), **more: Any) -> float:
            scene = self.scene(*viscosity, **more)
            scene["elements"][1]["velocity"] = [-2.0, 0.0, 0.0]
            for element, mark in zip(scene["elements"], marks, strict=True):
                element |= {"mark": mark, "colour": [0.1 + mark / 1000, 0.2, 0.3]}
            with tempfile.TemporaryDirectory() as name:
                cache = Cache(Path(name))
                list(run(parse_scene(scene), Path(name), cache, stages=("liquid",)))
                return float(np.linalg.norm(cache.stage("liquid").frame(3)["velocity"], axis=1).mean())

        points = [{"at": 0.1, "times": 9.0}, {"at": 0.0, "times": 1.0}]  # in any order
        times = np.linspace(0.0, 0.1, 40)
        keys = [{"time": float(t), "value": float(9.0 ** (t / 0.1)), "segment": "linear"} for t in times]
        aged, keyed = (
            end(10.0, 10.0, thickens_with="age", thickenings=points),
            end(10.0, 10.0, thickness={"keys": keys}),
        )
        plain = end(10.0, 10.0)
        self.assertGreater(plain - aged, 0.01)
        self.assertAlmostEqual(aged, keyed, delta=0.02 * (plain - aged))
        warm = [{"at": 20.0, "times": 1.0}, {"at": 80.0, "times": 1 / 16}]
        marked = end(32.0, 32.0, marks=(20.0, 50.0), thickens_with="mark", thickenings=warm)  # a quarter, half way
        unlike = end(32.0, 8.0, marks=(20.0, 50.0))
        self.assertAlmostEqual(marked, unlike, delta=0.02 * (marked - end(32.0, 32.0)))

    def test_what_comes_up_from_below_a_band_is_as_old_as_what_is_about_it(self) -> None:
        made = liquid(0.05, (0.8, 0.8, 0.8), self.scene(4.0, 1.0)["elements"], density=1.0)
        p, tiling = sorted_particles(made.state.particles, made.world.layout)
        p.born[:] = np.where(p.source == 0, 1.0, 3.0)
        found = made_of(p, tiling, tiling.surroundings(4)).born
        self.assertTrue((found[1:] > 0.999).all() and (found[1:] < 3.001).all())
        self.assertGreater(float(np.ptp(found[1:])), 1.0)

    def test_yield_is_carried_where_a_source_has_any(self) -> None:
        parts = self.scene(0.0, 0.0)
        parts["elements"][0] |= {"yield_stress": 50.0, "flow_index": 0.5}
        made = liquid(0.05, (0.8, 0.8, 0.8), parts["elements"], density=1000.0)
        self.assertEqual(made.world.carried, Carried(("viscosity", "yield_stress", "flow_index")))
        frame = frame_arrays(made, made.fields(0.0))
        left, right = position(made)[:, 0] < 0.39, position(made)[:, 0] > 0.41
        np.testing.assert_allclose(frame["yield_stress"][left], 50.0, rtol=1e-6)
        np.testing.assert_allclose(frame["flow_index"][left], 0.5)
        np.testing.assert_array_equal(frame["yield_stress"][right], 0.0)
        np.testing.assert_array_equal(frame["flow_index"][right], 1.0)
        without = liquid(0.05, (0.8, 0.8, 0.8), self.scene(1.0, 0.0)["elements"])
        self.assertEqual(without.world.carried, Carried(("viscosity",)))

    def test_nonsense_is_refused_with_a_sentence(self) -> None:
        for value, words in ((-1.0, "greater than or equal to 0"), (1e9, "less than or equal"), ("thick", "number")):
            with self.assertRaisesRegex(SceneError, f"elements.0. .*viscosity.*{words}"):
                parse_scene(self.scene(value))  # type: ignore[arg-type]
        with self.assertRaisesRegex(SceneError, "density"):
            parse_scene(self.scene(1.0, density=0.0))
