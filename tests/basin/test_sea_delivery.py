"""A sea that leaves: its mesh against the cached patches, its neighbours in time and its own triangles; images."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import OpenEXR
import trimesh
from django.test import SimpleTestCase

from basin.cache import Cache
from basin.scene import Scene, SceneError, parse_scene
from basin.stages import sea_pieces
from basin.stages.deliver import DeliveryFailure, deliver
from basin.stages.files import SceneFiles
from basin.stages.pieces import frame_pieces
from basin.stages.samples import wakes
from basin.stages.sea_pieces import sea_piece
from basin.stages.stage import Job
from tests.basin.test_sea_stage import made

SIDE, COUNT = 40.0, 32  # of the sample's patch


def scene(**delivery: Any) -> Scene:
    """A small sea with foam and wakes, where its patch lies as it is for as far as the mesh goes."""
    (document,) = wakes()
    document["sea"] = {**document["sea"], "unlike": 60.0}
    given = {"name": "out", "format": "ply", "surface": False, "sea": True, "side": SIDE, "points": COUNT}
    return parse_scene({**document, "deliveries": [{**given, **delivery}]})


class Leaving(SimpleTestCase):
    """Deliveries of a sea."""

    home: Path
    cache: Cache

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        holding = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holding.cleanup)
        cls.home = Path(holding.name)
        cls.cache = made(scene(), holding.name)

    def job(self, which: Scene) -> Job:
        return Job(which, SceneFiles(self.home), self.cache, "final")

    def piece(self, frame: int = 2, **delivery: Any) -> Any:
        which = scene(**delivery)
        return sea_piece(self.job(which), which.deliveries[0], frame)

    def go(self, **delivery: Any) -> list[Path]:
        which = scene(**delivery)
        to = self.home / which.deliveries[0].name
        return [one.path for one in deliver(self.job(which), which.deliveries[0], to)]

    def test_its_points_are_those_of_the_patch(self) -> None:
        piece, frame = self.piece(), self.cache.stage("sea").frame(2)
        index = (np.arange(COUNT + 1) - COUNT // 2) % COUNT
        up, along, across = (one[np.ix_(index, index)].ravel() for one in frame["shift_0"])
        at = (np.arange(COUNT + 1) - COUNT / 2) * SIDE / COUNT
        x, z = (one.ravel() for one in np.meshgrid(at, at, indexing="ij"))
        wanted = np.stack([x + along, up, z + across], axis=1)
        self.assertGreater(float(np.ptp(up)), 0.1)
        self.assertLess(float(np.abs(piece.position - wanted).max()), 1e-4)
        which = scene()
        raised = which.model_copy(update={"sea": which.sea.model_copy(update={"level": 2.5})})
        higher = sea_piece(self.job(raised), raised.deliveries[0], 2)
        self.assertLess(float(np.abs(higher.position - wanted - [0.0, 2.5, 0.0]).max()), 1e-4)

    def test_velocities_are_those_of_points_between_frames(self) -> None:
        """Differences over two frames of 1/24 s; the shortest waves turn by 0.2 in one, so 1 % is lost (M2)."""
        before, here, after = (self.piece(frame) for frame in (1, 2, 3))
        between = (after.position - before.position) / (2 / 24)
        off = np.linalg.norm(here.attributes["velocity"] - between, axis=1)
        self.assertLess(float(np.sqrt((off**2).mean() / (between**2).sum(axis=1).mean())), 0.03)

    def test_normals_and_jacobians_are_those_of_its_triangles(self) -> None:
        """trimesh's normals of the mesh; areas seen from above over those at rest, whose mean over a patch is one."""
        piece = self.piece(points=4 * COUNT)
        mesh = trimesh.Trimesh(piece.position, piece.triangle, process=False)
        self.assertGreater(float(mesh.face_normals[:, 1].min()), 0.0)
        n = 4 * COUNT + 1
        inside = np.zeros((n, n), bool)
        inside[2:-2, 2:-2] = True
        own = piece.attributes["normal"][inside.ravel()]
        for axis in (0, 2):  # its waves are as short as two points, where facets tell little: signs and axes
            there = mesh.vertex_normals[inside.ravel(), axis]
            self.assertGreater(float(np.corrcoef(own[:, axis], there)[0, 1]), 0.5)
            self.assertAlmostEqual(float(own[:, axis].std() / there.std()), 1.0, delta=0.3)
        above = trimesh.triangles.area(np.where([True, False, True], piece.position, 0.0)[piece.triangle])
        seen = above / ((SIDE / (4 * COUNT)) ** 2 / 2)
        squeezed = piece.attributes["jacobian"][piece.triangle].mean(axis=1)
        self.assertAlmostEqual(float(seen.mean()), 1.0, delta=0.02)
        self.assertGreater(float(np.corrcoef(seen, squeezed)[0, 1]), 0.5)

    def test_wakes_are_added_where_they_are(self) -> None:
        without, piece = self.piece(), self.piece(wake=True)
        wake = self.cache.stage("wake").frame(2)
        count, cell, origin = wake["shift"].shape[-1], float(wake["cell"]), wake["origin"]
        low = without.position[:, [0, 2]] / cell - origin
        outside = (low < 0).any(axis=1) | (low > count - 1).any(axis=1)
        added = piece.position - without.position
        self.assertGreater(int(outside.sum()), 100)
        self.assertEqual(float(np.abs(added[outside]).max()), 0.0)
        deep = np.flatnonzero((low > 9).all(axis=1) & (low < count - 10).all(axis=1))
        most = deep[np.abs(added[deep, 1]).argmax()]  # one point by hand
        x, z = without.position[most, [0, 2]] / cell
        i, j = int(np.floor(x)), int(np.floor(z))
        around = wake["shift"][0][np.ix_(np.array([i, i + 1]) % count, np.array([j, j + 1]) % count)].astype(float)
        by_hand = np.array([1 - (x - i), x - i]) @ around @ np.array([1 - (z - j), z - j])
        self.assertGreater(abs(float(by_hand)), 0.005)
        self.assertAlmostEqual(float(added[most, 1]), float(by_hand), delta=1e-4)
        self.assertIn("foam", piece.attributes)

    def test_foam_of_both_covers_as_it_does_in_the_viewport(self) -> None:
        """What one leaves bare the other may cover; half of all is covered by a wake's here."""
        foam = self.piece(sea_foam=True).attributes["foam"]
        self.assertGreater(float(foam.max()), 0.1)

        def half(_wake: Any, fields: np.ndarray, at: np.ndarray) -> np.ndarray:
            return np.column_stack([np.zeros((len(at), len(fields) - 1)), np.full(len(at), 0.5)])

        with mock.patch.object(sea_pieces, "waked", half):
            both = self.piece(sea_foam=True, wake=True).attributes["foam"]
        self.assertLess(float(np.abs(both - (0.5 + 0.5 * foam)).max()), 1e-5)

    def test_as_the_camera_sees_it(self) -> None:
        which = scene(sea_as="as the camera sees it", side=3000.0, points=64)
        (piece,) = frame_pieces(self.job(which), which.deliveries[0], 2)
        eye = np.array(which.camera.eye)
        away = np.linalg.norm((piece.position - eye)[:, [0, 2]], axis=1)
        self.assertAlmostEqual(float(away.max()), 3000.0, delta=20.0)
        self.assertLess(float(away.min()), 10.0)
        corner = piece.position[piece.triangle]
        across = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        self.assertGreater(float((across[:, 1] > 0).mean()), 0.99)
        # as fine from the camera near as far: edges are the same share of the way
        edge = np.linalg.norm(corner[:, 1] - corner[:, 0], axis=1)
        middle = np.linalg.norm((corner.mean(axis=1) - eye)[:, [0, 2]], axis=1)
        near, far = (edge / middle)[middle < 100], (edge / middle)[middle > 1000]
        self.assertAlmostEqual(float(np.median(near) / np.median(far)), 1.0, delta=0.3)

    def test_every_format_takes_it(self) -> None:
        """Each file is read back by another reader as it is written; here what is in it."""
        for kind in ("ply", "obj", "glb", "usd", "abc"):
            paths = self.go(name=kind, format=kind, sea_foam=True, wake=True)
            self.assertEqual(len(paths), 3, kind)
        (path,) = [one for one in self.go(name="turned", unit="cm", up="z", first=2, last=2) if one.suffix == ".ply"]
        found = trimesh.load(path, process=False, maintain_order=True)
        wanted = self.piece().position[:, [0, 2, 1]] * [100, -100, 100]
        self.assertLess(float(np.abs(found.vertices - wanted).max()), 0.01)
        raw = found.metadata["_ply_raw"]["vertex"]["data"]
        normal = self.piece().attributes["normal"][:, [0, 2, 1]] * [1, -1, 1]
        self.assertLess(float(np.abs(np.stack([raw[n] for n in ("nx", "ny", "nz")], axis=1) - normal).max()), 1e-6)

    def test_texture_coordinates_find_what_the_image_has(self) -> None:
        """Looked up as a texture is, v going up from the lowest row: the first patch's displacement (OpenEXR reads)."""
        piece = self.piece(unit="m")
        (path,) = self.go(name="texture", format="exr", first=2, last=2)
        with OpenEXR.File(str(path), separate_channels=True) as file:
            up = np.array(file.channels()["displacement.Y"].pixels)
        uv = piece.attributes["uv"] % 1.0
        column, row = np.rint(uv[:, 0] * COUNT - 0.5), np.rint((1 - uv[:, 1]) * COUNT - 0.5)
        found = up[row.astype(int) % COUNT, column.astype(int) % COUNT]
        self.assertLess(float(np.abs(found - piece.position[:, 1]).max()), 1e-4)

    def test_patches_as_images(self) -> None:
        """OpenEXR's own reader; columns go along x and rows along z, vectors are turned and scaled with the files."""
        paths = self.go(name="images", format="exr", sea_foam=True, unit="cm", up="z", first=2, last=2)
        self.assertEqual([path.name for path in paths], ["patch_0.0002.exr"])
        with OpenEXR.File(str(paths[0]), separate_channels=True) as file:
            found = {name: np.array(one.pixels) for name, one in file.channels().items()}
        frame = self.cache.stage("sea").frame(2)
        up, along, across = frame["shift_0"]
        for name, wanted in (("X", along), ("Y", -across), ("Z", up)):
            self.assertLess(float(np.abs(found[f"displacement.{name}"] - 100 * wanted.T).max()), 1e-3, name)
        self.assertLess(float(np.abs(found["foam"] - self.cache.stage("sea_foam").frame(2)["foam"].T).max()), 1e-3)
        self.assertAlmostEqual(float(found["jacobian"].mean()), 1.0, delta=0.02)
        length = sum(found[f"normal.{axis}"] ** 2 for axis in "XYZ")
        self.assertLess(float(np.abs(length - 1).max()), 1e-5)
        self.assertGreater(float(found["normal.Z"].min()), 0.3)
        with self.assertRaisesRegex(SceneError, "need {piece}"):
            scene(format="exr", pattern="sea.####")

    def test_what_is_not_there_is_said(self) -> None:
        which = scene(first=2)
        job = Job(which, SceneFiles(self.home), Cache(self.home / "empty"), "final")
        with self.assertRaisesRegex(DeliveryFailure, "2 sea frames are missing or out of date"):
            list(deliver(job, which.deliveries[0], self.home / "none"))

    def test_a_moved_camera_makes_the_fan_anew_and_not_the_square(self) -> None:
        def kept(name: str, **more: Any) -> bool:
            which = scene(name=name, first=2, last=2, points=16, **more)
            moved = which.model_copy(update={"camera": which.camera.model_copy(update={"eye": (9.0, 4.0, 1.0)})})
            list(deliver(self.job(which), which.deliveries[0], self.home / name))
            (again,) = deliver(self.job(moved), moved.deliveries[0], self.home / name)
            return again.reused

        self.assertTrue(kept("square"))
        self.assertFalse(kept("fan", sea_as="as the camera sees it", side=500.0))
