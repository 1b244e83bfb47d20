"""Films, sheets and threads on the mesh: area, thickness and volume against those of the shapes they were strewn in."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import trimesh
from django.test import SimpleTestCase

from basin.geometry.mesh import vertex_normals
from basin.surface.field import Points
from basin.surface.filters import on_nodes
from basin.surface.finish import held
from basin.surface.health import health
from basin.surface.level import Field
from basin.surface.mesh import SurfaceFrame, Surroundings, surface_frame
from basin.surface.settings import SurfaceSettings

# spacings are 1, a voxel of the liquid is 2 of them, one of the surface 1
VOXEL = 1.0
PER_VOXEL = 2.0
JITTER = 0.15  # of the particles' distance, each way


def strewn(place: np.ndarray, volume: float) -> Points:
    """Particles (n, 3) at rest, of a volume in all."""
    n = len(place)
    still = {"velocity": np.zeros((n, 3), np.float32)}
    return Points(place.astype(np.float32), np.full(n, volume / n, np.float32), 1.0, still)


def flat_film(thick: float, wide: float, layers: int = 1) -> np.ndarray:
    """Places (n, 3) of a film over the square |x|, |z| < wide / 2 of the plane y = 0, particles of a volume of 1."""
    apart = np.sqrt(layers / thick)
    count = round(wide / apart)
    line = (np.arange(count) + 0.5) * wide / count - wide / 2
    height = (np.arange(layers) + 0.5) * thick / layers
    place = np.stack(np.meshgrid(line, height, line, indexing="ij"), axis=-1).reshape(-1, 3)
    rng = np.random.default_rng(5)
    place[:, ::2] += rng.uniform(-JITTER, JITTER, (len(place), 2)) * wide / count
    place[:, 1] += rng.uniform(-JITTER, JITTER, len(place)) * thick / layers
    return place


def over_ball(thick: float, radius: float, inside: bool = False) -> np.ndarray:
    """Places (n, 3) of a film on a ball about the origin, or within one: a spiral of even steps (Fibonacci)."""
    r = radius - thick / 2 if inside else radius + thick / 2
    count = round(4 * np.pi * r * r * thick)
    n = np.arange(count) + 0.5
    y, turn = 1 - 2 * n / count, np.pi * (1 + np.sqrt(5)) * n
    ring = np.sqrt(1 - y * y)
    return r * np.stack([ring * np.cos(turn), y, ring * np.sin(turn)], axis=1)


def in_cup(thick: float, radius: float, high: float) -> np.ndarray:
    """Places (n, 3) of a film on the floor y = 0 and the wall of a round cup."""
    count = round(np.pi * radius**2 * thick)
    n = np.arange(count) + 0.5
    out, turn = radius * np.sqrt(n / count), np.pi * (1 + np.sqrt(5)) * n
    floor = np.stack([out * np.cos(turn), np.full(count, thick / 2), out * np.sin(turn)], axis=1)
    r = radius - thick / 2
    count = round(2 * np.pi * r * thick * (high - thick))
    n = np.arange(count) + 0.5
    turn = np.pi * (1 + np.sqrt(5)) * n
    wall = np.stack([r * np.cos(turn), thick + (high - thick) * n / count, r * np.sin(turn)], axis=1)
    return np.concatenate([floor, wall])


def on_box(thick: float, half: float) -> np.ndarray:
    """Places (n, 3) of a film on all six faces of a cube about the origin, evenly over each."""
    wide = 2 * (half + thick / 2)
    count = round(wide * np.sqrt(((2 * (half + thick)) ** 3 - (2 * half) ** 3) / (6 * wide**2)))
    line = (np.arange(count) + 0.5) * wide / count - wide / 2
    a, b = (g.ravel() for g in np.meshgrid(line, line, indexing="ij"))
    rng = np.random.default_rng(6)
    faces = []
    for axis in range(3):
        for side in (-1, 1):
            place = np.empty((len(a), 3))
            place[:, axis] = side * wide / 2
            place[:, (axis + 1) % 3], place[:, (axis + 2) % 3] = a, b
            place[:, [(axis + 1) % 3, (axis + 2) % 3]] += rng.uniform(-JITTER, JITTER, (len(a), 2)) * wide / count
            faces.append(place)
    return np.concatenate(faces)


def curtain(top: float, bottom: float, wide: float) -> tuple[np.ndarray, np.ndarray]:
    """Places (n, 3) of a sheet that falls freely between two thicknesses, particles of a volume of 1, and its y range.

    Its speed u grows as u^2 = 2 g y, so its thickness goes as 1 / sqrt(y) (Torricelli; a slit of width `wide`).
    """
    begin = 8.0
    end = begin * (top / bottom) ** 2
    rng = np.random.default_rng(7)
    y, rows = begin, []
    while y < end:
        apart = 1 / np.sqrt(top * np.sqrt(begin / y))
        count = round(wide / apart)
        x = (np.arange(count) + 0.5 + rng.uniform(-JITTER, JITTER, count)) * wide / count - wide / 2
        step = count / (wide * top * np.sqrt(begin / y))
        rows.append(np.stack([x, np.full(count, -y - step / 2) + rng.uniform(-JITTER, JITTER, count) * step, 0 * x], 1))
        y += step
    return np.concatenate(rows), np.array([-y, -begin])


def meshed(points: Points, walls: Callable[[np.ndarray], np.ndarray] | None, **more: object) -> SurfaceFrame:
    """By the default settings, drawn up to walls if there are any."""
    settings = SurfaceSettings(colliders="remove" if walls else "leave", **more)  # type: ignore[arg-type]
    return surface_frame(points, VOXEL, settings, Surroundings(solids=walls, walls=walls))


def solid(frame: SurfaceFrame) -> trimesh.Trimesh:
    """As a mesh that can be asked."""
    return trimesh.Trimesh(frame.position.astype(np.float64), frame.triangle, process=False)


class OnWalls(SimpleTestCase):
    """Films of a quarter, half and one voxel."""

    def check(self, frame: SurfaceFrame, volume: float, thick: float, top: np.ndarray) -> None:
        """Closed, in one piece, of its volume; `top` are heights over the wall of vertices within its edge."""
        mesh = solid(frame)
        self.assertTrue(mesh.is_watertight)
        self.assertEqual(mesh.body_count, 1)
        self.assertEqual(mesh.euler_number, 2)  # a hole would make it another one
        self.assertLess(abs(mesh.volume / volume - 1), 0.02)
        self.assertLess(abs(float(np.median(top)) / thick - 1), 0.15)

    def test_on_a_plane(self) -> None:
        for thick, layers in ((0.5, 1), (1.0, 1), (2.0, 2)):
            with self.subTest(thick=thick):
                frame = meshed(strewn(flat_film(thick, 24, layers), 24 * 24 * thick), lambda p: p[:, 1])
                place = frame.position.astype(np.float64)
                inner = (np.abs(place[:, [0, 2]]) < 9).all(axis=1) & (place[:, 1] > thick / 4)
                self.check(frame, 24 * 24 * thick, thick, place[inner, 1])
                mesh = solid(frame)
                facing = mesh.face_normals[:, 1] > 0.1
                covered = float((mesh.area_faces * mesh.face_normals[:, 1])[facing].sum())
                self.assertLess(abs(covered / (24 * 24) - 1), 0.03)

    def test_a_loose_coat_is_whole(self) -> None:
        """Two thirds of a voxel of liquid, its particles strewn over nearly twice that height, none at the wall."""
        thick, rng = 1.33, np.random.default_rng(9)
        count = round(24 * 24 * thick)
        side = int(np.ceil(np.sqrt(count)))
        line = (np.arange(side) + 0.5) * 24 / side - 12
        place = np.stack(np.meshgrid(line, [0.0], line, indexing="ij"), axis=-1).reshape(-1, 3)
        place[:, ::2] += rng.uniform(-0.3, 0.3, (len(place), 2)) * 24 / side
        place[:, 1] = rng.uniform(0.3, 0.3 + 1.8 * thick, len(place))
        frame = meshed(strewn(place, 24 * 24 * thick), lambda p: p[:, 1])
        mesh = solid(frame)
        largest = max(mesh.split(), key=lambda piece: len(piece.faces))
        self.assertEqual(largest.euler_number, 2)
        down = mesh.face_normals[:, 1] < -0.5
        hollow = down & (mesh.triangles_center[:, 1] > 0.3)  # of a spacing over the wall
        self.assertLess(float(mesh.area_faces[hollow].sum()), 0.05 * 24 * 24)
        self.assertGreater(float(largest.volume), 0.97 * 24 * 24 * thick)
        self.assertLess(abs(float(mesh.volume) / (24 * 24 * thick) - 1), 0.02)

    def test_on_a_turned_plane(self) -> None:
        turn = trimesh.transformations.random_rotation_matrix(np.random.default_rng(3).uniform(size=3))[:3, :3]
        for thick in (0.5, 1.0):
            with self.subTest(thick=thick):
                place = flat_film(thick, 24) @ turn.T
                frame = meshed(strewn(place, 24 * 24 * thick), lambda p: p @ turn[:, 1])
                own = frame.position.astype(np.float64) @ turn
                inner = (np.abs(own[:, [0, 2]]) < 9).all(axis=1) & (own[:, 1] > thick / 4)
                self.check(frame, 24 * 24 * thick, thick, own[inner, 1])

    def test_on_a_ball_and_within_one(self) -> None:
        for inside in (False, True):
            for thick in (0.5, 1.0):
                with self.subTest(inside=inside, thick=thick):
                    place = over_ball(thick, 10.0, inside)

                    def away(p: np.ndarray, inside: bool = inside) -> np.ndarray:
                        out = np.linalg.norm(p, axis=1) - 10.0
                        return np.asarray(-out if inside else out)

                    frame = meshed(strewn(place, float(len(place))), away)
                    mesh = solid(frame)
                    self.assertTrue(mesh.is_watertight)
                    self.assertEqual(mesh.body_count, 2)  # the film's two sides
                    self.assertEqual(mesh.euler_number, 4)
                    self.assertLess(abs(mesh.volume / len(place) - 1), 0.02)
                    height = away(frame.position.astype(np.float64))
                    top = height[height > thick / 4]
                    self.assertLess(abs(float(np.median(top)) / thick - 1), 0.15)

    def test_in_a_cup(self) -> None:
        radius, high = 10.0, 16.0
        for thick in (0.5, 1.0):
            with self.subTest(thick=thick):
                place = in_cup(thick, radius, high)

                def away(p: np.ndarray) -> np.ndarray:
                    return np.asarray(np.minimum(radius - np.hypot(p[:, 0], p[:, 2]), p[:, 1]))

                frame = meshed(strewn(place, float(len(place))), away)
                at = frame.position.astype(np.float64)
                out = np.hypot(at[:, 0], at[:, 2])
                inner = (out < 7) & (at[:, 1] > thick / 4)
                self.check(frame, float(len(place)), thick, at[inner, 1])
                side = (at[:, 1] > 3) & (at[:, 1] < 13) & (out < radius - thick / 4)
                self.assertLess(abs(float(np.median(radius - out[side])) / thick - 1), 0.15)
                mesh = solid(frame)
                middle, area = mesh.triangles_center, mesh.area_faces
                up = (np.hypot(middle[:, 0], middle[:, 2]) < 5.5) & (mesh.face_normals[:, 1] > 0.1)
                covered = float((area * mesh.face_normals[:, 1])[up].sum())
                self.assertLess(abs(covered / (np.pi * 5.5**2) - 1), 0.03)
                far = np.hypot(middle[:, 0], middle[:, 2])
                to_axis = -(mesh.face_normals[:, [0, 2]] * middle[:, [0, 2]]).sum(axis=1) / np.maximum(far, 1e-9)
                on_side = (to_axis > 0.1) & (middle[:, 1] > 4.5) & (middle[:, 1] < 13)
                covered = float((area * to_axis * (radius - thick) / far)[on_side].sum())
                self.assertLess(abs(covered / (2 * np.pi * (radius - thick) * 8.5) - 1), 0.03)

    def test_on_a_turned_box(self) -> None:
        half = 8.0
        turn = trimesh.transformations.random_rotation_matrix(np.random.default_rng(9).uniform(size=3))[:3, :3]
        for thick in (0.5, 1.0):
            with self.subTest(thick=thick):
                place = on_box(thick, half)

                def away(p: np.ndarray) -> np.ndarray:
                    past = np.abs(p @ turn) - half
                    return np.asarray(np.linalg.norm(np.maximum(past, 0), axis=1) + np.minimum(past.max(axis=1), 0))

                frame = meshed(strewn(place @ turn.T, float(len(place))), away)
                mesh = solid(frame)
                self.assertTrue(mesh.is_watertight)
                self.assertEqual((mesh.body_count, mesh.euler_number), (2, 4))  # the film's two sides
                self.assertLess(abs(mesh.volume / len(place) - 1), 0.02)
                own = np.abs(frame.position.astype(np.float64) @ turn)
                amid = np.sort(own, axis=1)[:, 1] < half - 2
                height = own.max(axis=1)[amid] - half
                self.assertLess(abs(float(np.median(height[height > thick / 4])) / thick - 1), 0.15)
                middle, normal = mesh.triangles_center @ turn, mesh.face_normals @ turn
                face = np.abs(middle).argmax(axis=1)
                rows = np.arange(len(face))
                outward = normal[rows, face] * np.sign(middle[rows, face])
                flat = (np.sort(np.abs(middle), axis=1)[:, 1] < half - 2) & (outward > 0.1)
                covered = float((mesh.area_faces * outward)[flat].sum())
                self.assertLess(abs(covered / (6 * (2 * half - 4) ** 2) - 1), 0.03)

    def test_a_shallow_pool_is_level_near_its_walls(self) -> None:
        """1.3 voxels deep, in a box: it does not lie on the box's sides.

        Its top is level within a third of a voxel, but for the last voxel before the sides, where it may dip.
        """
        deep, half = 2.6, 10.0

        def walls(p: np.ndarray) -> np.ndarray:
            return np.asarray(np.minimum(p[:, 1], half - np.abs(p[:, [0, 2]]).max(axis=1)))

        for seed in range(3):
            rng = np.random.default_rng(seed)
            line = np.arange(-half + 0.5, half)
            place = np.stack(np.meshgrid(line, (np.arange(3) + 0.5) * deep / 3, line, indexing="ij"), axis=-1)
            place = place.reshape(-1, 3) + rng.uniform(-0.35, 0.35, (place.size // 3, 3))
            frame = meshed(strewn(place, (2 * half) ** 2 * deep), walls)
            mesh = solid(frame)
            self.assertEqual((mesh.body_count, mesh.euler_number), (1, 2))
            amid = (np.abs(frame.position[:, [0, 2]]) < half - 2).all(axis=1)
            top = frame.position[amid & (mesh.vertex_normals[:, 1] > 0.7), 1]
            self.assertLess(float(np.abs(top - deep).max()), 0.67, seed)

    def test_two_sides_of_a_thin_wall(self) -> None:
        wall = 0.6  # spacings: 0.3 voxels of the liquid
        below, above = flat_film(1.0, 16), flat_film(1.0, 16)
        below[:, 1] = -wall - below[:, 1]
        frame = meshed(
            strewn(np.concatenate([below, above]), 2 * 256.0), lambda p: np.abs(p[:, 1] + wall / 2) - wall / 2
        )
        self.assertEqual(solid(frame).body_count, 2)
        self.assertLess(abs(solid(frame).volume / 512 - 1), 0.02)


class InTheAir(SimpleTestCase):
    """Sheets and threads."""

    def test_sheet_of_a_third_of_a_voxel(self) -> None:
        """By every method that smooths."""
        thick = 0.6
        for method in ("density", "anisotropic", "averaged"):
            with self.subTest(method):
                frame = meshed(strewn(flat_film(thick, 24), 24 * 24 * thick), None, method=method)
                mesh = solid(frame)
                self.assertTrue(mesh.is_watertight)
                self.assertEqual((mesh.body_count, mesh.euler_number), (1, 2))
                self.assertLess(abs(mesh.volume / (24 * 24 * thick) - 1), 0.02)
                place = frame.position.astype(np.float64)
                inner = (np.abs(place[:, [0, 2]]) < 9).all(axis=1)
                up = place[inner & (place[:, 1] > thick / 2), 1]
                down = place[inner & (place[:, 1] < thick / 2), 1]
                self.assertLess(abs((float(np.median(up)) - float(np.median(down))) / thick - 1), 0.15)

    def test_falling_curtain(self) -> None:
        """Whole from a voxel down to a quarter of one; of a hundredth of a voxel nothing but drops is left."""
        place, ends = curtain(2.0, 0.5, 16.0)
        frame = meshed(strewn(place, float(len(place))), None)
        mesh = solid(frame)
        self.assertTrue(mesh.is_watertight)
        self.assertEqual((mesh.body_count, mesh.euler_number), (1, 2))
        self.assertLess(abs(mesh.volume / len(place) - 1), 0.02)
        middle, facing = mesh.triangles_center, mesh.face_normals[:, 2]
        amid = (np.abs(middle[:, 0]) < 6) & (middle[:, 1] > ends[0] + 4) & (middle[:, 1] < ends[1] - 4) & (facing > 0.1)
        covered = float((mesh.area_faces * facing)[amid].sum())
        self.assertLess(abs(covered / (12 * (ends[1] - ends[0] - 8)) - 1), 0.03)
        torn = curtain(0.06, 0.02, 200.0)[0]
        told = health(meshed(strewn(torn, float(len(torn))), None), VOXEL, float(len(torn)))
        self.assertGreater(told["spray"], 0.9 * len(torn))

    def test_thread_of_half_a_voxel(self) -> None:
        wide = 1.0  # spacings across
        apart = 4 / (np.pi * wide**2)  # of particles of a volume of 1
        along = (np.arange(24) - 11.5) * apart
        rng = np.random.default_rng(2)
        place = np.stack([along, *rng.uniform(-0.15, 0.15, (2, 24))], axis=1)
        turn = trimesh.transformations.random_rotation_matrix(rng.uniform(size=3))[:3, :3]
        frame = meshed(strewn(place @ turn.T, 24.0), None)
        mesh = solid(frame)
        self.assertTrue(mesh.is_watertight)
        self.assertEqual((mesh.body_count, mesh.euler_number), (1, 2))
        self.assertLess(abs(mesh.volume / 24 - 1), 0.02)
        own = frame.position.astype(np.float64) @ turn
        inner = np.abs(own[:, 0]) < 10
        self.assertLess(abs(float(np.median(np.linalg.norm(own[inner, 1:], axis=1))) / (wide / 2) - 1), 0.15)

    def test_little_liquid_far_apart_is_no_sheet(self) -> None:
        # drops as sparse as spray, in a cloud and on a plane, where they would be a twentieth of a voxel thick: chance
        # makes clumps, but nothing that reaches half across
        rng = np.random.default_rng(4)
        cloud = rng.uniform(-10, 10, (220, 3))
        plane = rng.uniform(-20, 20, (140, 3)) * [1, 0.02, 1]
        for name, place, wide in (("cloud", cloud, 20.0), ("plane", plane, 40.0)):
            with self.subTest(name):
                frame = meshed(strewn(place, float(len(place))), None)
                pieces = solid(frame).split()
                self.assertLess(max(float(piece.extents.max()) for piece in pieces), wide / 2)
                told = health(frame, VOXEL, float(len(place)))
                # each particle is spray, in a layer, or part of what is denser than half
                self.assertGreater(told["spray"], 0.3 * len(place))
                self.assertLessEqual(told["spray"] + told["layers"], len(place))
                self.assertEqual(told["spray_volume"], told["spray"])  # of a volume of 1 each

    def test_a_stream_stays_clear_of_a_wall_at_two_voxels(self) -> None:
        line = np.arange(-12, 12.1)
        place = np.stack(np.meshgrid(line, np.arange(3.0) + 4.5, np.arange(3.0) - 1, indexing="ij"), -1).reshape(-1, 3)
        frame = meshed(strewn(place, float(len(place))), lambda p: p[:, 1])
        self.assertGreater(float(frame.position[:, 1].min()), 3.0)


class Parts(SimpleTestCase):
    """What moves vertices, and what asks for walls."""

    def test_a_ball_is_moved_to_hold_a_volume_but_not_farther_than_it_may(self) -> None:
        ball = trimesh.creation.icosphere(4, 1.0)
        place, triangle = np.asarray(ball.vertices), np.asarray(ball.faces)
        np.testing.assert_allclose((vertex_normals(place, triangle) * place).sum(axis=1), 1.0, atol=1e-3)
        every, wanted = np.ones(len(place)), 1.1 * ball.volume
        moved = held(place, triangle, wanted, 0.1, every)
        self.assertAlmostEqual(trimesh.Trimesh(moved, triangle).volume / wanted, 1.0, delta=1e-4)
        limited = held(place, triangle, wanted, 0.01, every)
        self.assertAlmostEqual(float(np.linalg.norm(limited, axis=1).max()), 1.01, delta=1e-4)
        lower = np.where(place[:, 1] < 0, 0.0, 1.0)
        np.testing.assert_array_equal(held(place, triangle, wanted, 0.1, lower)[lower == 0], place[lower == 0])
        self.assertIs(held(place, triangle, None, 0.1, every), place)

    def test_walls_are_asked_for_where_liquid_is_near_them(self) -> None:
        line = np.arange(100) * 0.04 - 2
        at = np.stack(np.meshgrid(line, line, line, indexing="ij"), axis=-1)
        field = Field((np.linalg.norm(at, axis=-1) - 1).astype(np.float32), np.full(3, -2.0), 0.04)
        asked = [0]

        def floor(points: np.ndarray) -> np.ndarray:
            asked[0] += len(points)
            return np.asarray(points[:, 1] + 1)

        found = on_nodes(field, floor, 0.12, 0.16)
        near = field.phi < 0.12
        true = at[..., 1] + 1
        close = near & (np.abs(true) < 0.16)
        np.testing.assert_allclose(found[close], true[close], atol=1e-6)
        self.assertTrue((found[near & (true >= 0.16)] >= 0.16).all())
        self.assertTrue((found[near & (true <= -0.16)] <= -0.16).all())
        self.assertTrue(np.isinf(found[field.phi > 1.0]).all())
        self.assertLess(asked[0], 0.6 * near.sum())
