"""Drops: lone particles are seen as what they are, wherever they lie between the nodes."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from basin.surface.field import Points
from basin.surface.health import health
from basin.surface.mesh import SurfaceFrame, Surroundings, surface_frame
from basin.surface.settings import SurfaceSettings
from tests.reference.test_surfacing import lattice, points


def bodies(mesh: SurfaceFrame) -> tuple[np.ndarray, np.ndarray]:
    """Volumes (n,) and centres (n, 3) of a mesh's connected parts."""
    a, b, c = mesh.triangle.T
    n = len(mesh.position)
    count, part = connected_components(coo_matrix((np.ones(2 * len(a)), (np.r_[a, b], np.r_[b, c])), (n, n)))
    corner = mesh.position.astype(np.float64)[mesh.triangle]
    share = np.linalg.det(corner) / 6
    own = part[a]
    volume = np.bincount(own, share, count)
    centre = [np.bincount(own, share * corner.mean(axis=1)[:, d] * 0.75, count) for d in range(3)]
    return volume, np.stack(centre, axis=1) / volume[:, None]


class Drops(SimpleTestCase):
    """Voxels as wide as particles are apart, which is usual; all filters on. By the volumes of balls (Archimedes)."""

    def test_each_is_seen_with_its_volume_wherever_it_lies(self) -> None:
        """Tolerances: 2 % of the volume, 0.1 spacings of the place."""
        rng = np.random.default_rng(3)
        place = 8.0 * lattice(6, 6, 6) + rng.uniform(-1, 1, (216, 3))
        for method in ("density", "anisotropic"):
            mesh = surface_frame(points(place), 1.0, SurfaceSettings(method=method))
            volume, centre = bodies(mesh)
            self.assertEqual(len(volume), 216)
            self.assertLess(float(np.abs(volume - 1.0).max()), 0.02, method)
            off, which = cKDTree(place).query(centre)
            self.assertEqual(len(np.unique(which)), 216)
            self.assertLess(float(off.max()), 0.1, method)

    def test_what_flies_off_in_little_groups_is_not_lost(self) -> None:
        """Three and seven that touch, turned by chance, in 64 places: the volume of all within a quarter (a choice)."""
        seven = np.concatenate([np.zeros((1, 3)), np.eye(3), -np.eye(3)])
        for many in (3, 7):
            turn = Rotation.random(64, 4).as_matrix()
            place = 10.0 * lattice(4, 4, 4)[:, None] + np.einsum("nij,mj->nmi", turn, seven[:many])
            volume, _ = bodies(surface_frame(points(place.reshape(-1, 3)), 1.0, SurfaceSettings(hold_volume=False)))
            self.assertGreaterEqual(len(volume), 64)
            self.assertLess(abs(volume.sum() / (64 * many) - 1), 0.25, many)

    def test_a_body_beside_them_stays_as_it_is(self) -> None:
        """A drop three spacings above a flat top: the top within 0.02 voxels of where it is without the drop."""
        body = lattice(16, 8, 16)
        drop = np.array([[0.3, 7.1, 0.2]])
        settings = SurfaceSettings(hold_volume=False)
        alone = surface_frame(points(body), 1.0, settings)
        mesh = surface_frame(points(np.concatenate([body, drop])), 1.0, settings)
        self.assertEqual(len(bodies(mesh)[0]), 2)
        top = [m.position[(np.abs(m.position[:, [0, 2]]) < 5).all(axis=1) & (np.abs(m.position[:, 1] - 4) < 0.9), 1]
               for m in (alone, mesh)]  # fmt: skip
        self.assertLess(float(np.abs(top[1] - np.median(top[0])).max()), 0.02)

    def test_what_hardly_clears_other_liquid_is_no_crumb_on_it(self) -> None:
        """Balls that clear a flat top by less than half a voxel are part of it, with the volume of all held."""
        body = lattice(16, 8, 16)
        line = np.arange(-6, 6.1, 4.0)
        over = np.stack(np.meshgrid(line, [5.05], line, indexing="ij"), axis=-1).reshape(-1, 3)
        over[:, ::2] += np.random.default_rng(6).uniform(-0.5, 0.5, (len(over), 2))
        mesh = surface_frame(points(np.concatenate([body, over]) - [0, 0.3, 0]), 1.0, SurfaceSettings())
        volume, _ = bodies(mesh)
        self.assertEqual(len(volume), 1)
        self.assertLess(abs(volume[0] / (len(body) + len(over)) - 1), 0.001)

    def test_a_splash_too_loose_for_a_body_and_too_dense_for_drops_holds_its_volume(self) -> None:
        """Particles by chance over a ball, a third and a half of which they fill: 3 % of the volume, closed."""
        rng = np.random.default_rng(8)
        for filled in (0.33, 0.5):
            radius = float(np.cbrt(900 / filled * 3 / (4 * np.pi)))
            place = rng.normal(size=(900, 3))
            place *= radius * np.cbrt(rng.uniform(size=(900, 1))) / np.linalg.norm(place, axis=1, keepdims=True)
            mesh = surface_frame(points(place), 1.0, SurfaceSettings())
            found = health(mesh, 1.0, 900.0)
            self.assertEqual(found["open_edges"], 0.0)
            self.assertLess(abs(found["volume_error"]), 0.03, filled)

    def test_without_a_spray_radius_they_are_left_out(self) -> None:
        place = np.concatenate([lattice(8, 8, 8), [[12.0, 0, 0]]])
        mesh = surface_frame(points(place), 1.0, SurfaceSettings(spray_radius=0))
        self.assertEqual(len(bodies(mesh)[0]), 1)
        assert mesh.field is not None
        self.assertEqual(len(mesh.field.spray), 1)

    def test_they_are_drawn_out_along_their_way(self) -> None:
        """One frame at 24 spacings a second: half a spacing longer to each side, with the same volume."""
        place = 10.0 * lattice(2, 2, 2)
        fast = np.tile(np.float32([24.0, 0, 0]), (8, 1))
        cloud = Points(place.astype(np.float32), np.ones(8, np.float32), 1.0, {"velocity": fast})
        settings = SurfaceSettings(stretch=1.0)
        mesh = surface_frame(cloud, 1.0, settings, Surroundings(frame_seconds=1 / 24))
        volume, _ = bodies(mesh)
        self.assertEqual(len(volume), 8)
        self.assertLess(float(np.abs(volume - 1.0).max()), 0.05)
