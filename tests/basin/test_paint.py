"""What liquid is born with, and that it carries it along."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase
from PIL import Image

from basin.cache import Cache
from basin.exchange import read_image, write_obj, write_ply
from basin.liquid.paint import Birth, Figure, Gradient, Picture, Scattered
from basin.liquid.particles import Particles
from basin.liquid.resampling import resampled
from basin.liquid.sorting import Arranged, sorted_particles
from basin.scene import parse_scene
from basin.stages.assembly import check_scene, scene_layout
from basin.stages.files import SceneFiles
from basin.stages.run import run
from tests.frames import frame_keys
from tests.reference.tanks import CLOSED, box_fill, liquid, position

RED, BLUE = [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]
ENDS = np.array([[*RED, 0.0], [*BLUE, 2.0]])
LOW, HIGH = np.full(3, -1.0), np.full(3, 1.0)
NOBODY = np.zeros(1, int)


def birth(paint: Any, **more: Any) -> Birth:
    return Birth(paint, ENDS, LOW, HIGH, **more)


def scene_of(paint: dict[str, Any], **more: Any) -> dict[str, Any]:
    """A tank half full of painted liquid."""
    fill = {**box_fill((0, 0, 0), (0.4, 0.2, 0.4)), "paint": paint, "colour": RED, "colour_to": BLUE, **more}
    return {
        "format": "zinc-scene/1",
        "time": {"last": 3},
        "domain": {"low": [0, 0, 0], "size": [0.4, 0.4, 0.4], "walls": CLOSED},
        "liquid": {"voxel_size": 0.025},
        "quality": {"draft": 1, "proof": 1},
        "elements": [fill],
    }


class Layouts(SimpleTestCase):
    """What a layout is where, by its own definition."""

    def test_gradient_is_linear_along_its_axis_and_held_beyond(self) -> None:
        at = np.array([[0, -1, 0], [0, 0, 0], [0.9, 0.5, -3], [0, 7, 0]], float)
        found = birth(Gradient()).at(at, np.arange(4), 0.0)
        np.testing.assert_allclose(found[:, 3], [0, 1, 1.5, 2], atol=1e-6)
        np.testing.assert_allclose(found[:, 0], [1, 0.5, 0.25, 0], atol=1e-6)

    def test_gradient_from_the_axis_and_over_time(self) -> None:
        at = np.array([[0.6, 5, 0.8], [0, 0, 0.5]])
        np.testing.assert_allclose(birth(Gradient(along="radius")).at(at, np.arange(2), 0.0)[:, 3], [2, 1], atol=1e-6)
        pours = birth(Gradient(along="time"), start=1.0, end=3.0)
        for time, mark in ((0.5, 0.0), (1.5, 0.5), (3.0, 2.0)):
            np.testing.assert_allclose(pours.at(at, np.arange(2), time)[:, 3], mark, atol=1e-6)

    def test_figures_repeat(self) -> None:
        at = np.array([[0.05, 0.05, 0.05], [0.15, 0.05, 0.05], [0.15, 0.15, 0.05], [-0.05, 0.05, 0.05]])
        checks = birth(Figure(size=0.1)).at(at, np.arange(4), 0.0)[:, 3]
        np.testing.assert_array_equal(checks, [0, 2, 0, 2])
        stripes = birth(Figure(form="stripes", along="x", size=0.1)).at(at, np.arange(4), 0.0)[:, 3]
        np.testing.assert_array_equal(stripes, [0, 2, 2, 2])
        many = np.random.default_rng(3).uniform(0, 1, (20000, 3))
        dots = birth(Figure(form="dots", size=0.1)).at(many, np.arange(20000), 0.0)[:, 3] / 2
        self.assertAlmostEqual(dots.mean(), 4 / 3 * np.pi * 0.3**3, delta=0.01)  # volume of a ball in a unit cube

    def test_chance_follows_the_id_and_the_seed(self) -> None:
        at, number = np.zeros((4000, 3)), np.arange(4000)
        first = birth(Scattered(seed=1)).at(at, number, 0.0)[:, 3] / 2
        np.testing.assert_array_equal(first[::-1], birth(Scattered(seed=1)).at(at, number[::-1], 0.0)[:, 3] / 2)
        other = birth(Scattered(seed=2)).at(at, number, 0.0)[:, 3] / 2
        self.assertAlmostEqual(first.mean(), 0.5, delta=0.02)
        self.assertAlmostEqual(first.var(), 1 / 12, delta=0.005)  # of an even spread
        self.assertLess(abs(np.corrcoef(first, other)[0, 1]), 0.06)


class Images(SimpleTestCase):
    """Images as Pillow writes them, seen in the scene."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        corners = np.array([[[255, 0, 0], [0, 255, 0]], [[0, 0, 255], [188, 188, 188]]], np.uint8)
        Image.fromarray(corners).save(self.folder / "corners.png")

    def test_code_values_become_light(self) -> None:
        # IEC 61966-2-1: code value 188 of 255 is half the light, 0.5029
        np.testing.assert_allclose(read_image(self.folder / "corners.png")[1, 1], 0.5029, atol=1e-4)

    def test_top_left_of_an_image_is_where_the_eye_expects_it(self) -> None:
        picture = read_image(self.folder / "corners.png")
        at = {
            "z": [[-0.25, 0.25, 9], [0.25, 0.25, 0], [-0.25, -0.25, 0]],
            "x": [[5, 0.25, 0.25], [0, 0.25, -0.25], [0, -0.25, 0.25]],
            "y": [[-0.25, 3, -0.25], [0.25, 0, -0.25], [-0.25, 0, 0.25]],
        }
        for along, places in at.items():
            painted = birth(Picture(file="corners.png", along=along), picture=lambda _: picture)
            found = painted.at(np.array(places, float), np.arange(3), 0.0)
            np.testing.assert_allclose(found[:, :3], np.eye(3), atol=1e-6)
            again = painted.at(np.array(places, float) + 3.0, np.arange(3), 0.0)
            np.testing.assert_allclose(again, found, atol=1e-6)  # repeated every metre

    def problems(self, file: str) -> list[str]:
        scene = parse_scene(scene_of({"kind": "image", "file": file}))
        return [str(problem) for problem in check_scene(scene, SceneFiles(self.folder)).problems]

    def test_what_is_wrong_with_an_image_is_said(self) -> None:
        (self.folder / "torn.png").write_bytes((self.folder / "corners.png").read_bytes()[:40])
        (self.folder / "text.jpg").write_text("no image")
        for number in (1, 2, 4):
            Image.new("RGB", (4, 4)).save(self.folder / f"wave.{number:02d}.png")
        said = {
            "": "no image file is named",
            "torn.png": "not a readable image",
            "text.jpg": "not a readable image",
            "gone.png": "is not there",
            "corners.gif": "images are read from",
            "../corners.png": "outside the scene's folder",
            "wave.##.png": "number 3 of the sequence is missing, between 1 and 4",
        }
        for file, words in said.items():
            found = self.problems(file)
            self.assertEqual(len(found), 1, file)
            self.assertIn(words, found[0])
        self.assertEqual(self.problems("corners.png"), [])

    def test_sequence_plays_with_the_frames(self) -> None:
        for number in range(1, 4):
            Image.new("RGB", (2, 2), (85 * number, 0, 0)).save(self.folder / f"glow.{number}.png")
        document = scene_of({"kind": "image", "file": "glow.#.png"})
        document["elements"] = [
            {
                "kind": "inflow",
                "name": "spout",
                "shape": {"kind": "disc", "radius": 0.1},
                "pose": {"translation": [0.2, 0.35, 0.2]},
                "paint": {"kind": "image", "file": "glow.#.png"},
            }
        ]
        frames = run(parse_scene(document), self.folder, Cache(self.folder / "cache"), stages=("liquid",))
        self.assertEqual(len(list(frames)), 3)
        last = Cache(self.folder / "cache").stage("liquid").frame(3)
        red, frame = last["colour"][:, 0], 1 + last["born"] * 24
        expected = (((np.floor(frame + 1e-3) * 85 / 255) + 0.055) / 1.055) ** 2.4  # IEC 61966-2-1
        self.assertGreater(float(np.mean(np.abs(red - expected) < 1e-3)), 0.98)  # but for a few that were merged
        self.assertGreater(len(np.unique(red.round(3))), 1)


class Carried(SimpleTestCase):
    """Liquid keeps what it was born with."""

    def test_a_fill_has_its_gradient_wherever_it_is_turned(self) -> None:
        fill = {**box_fill((0.4, 0.3, 0.4), (0.6, 0.7, 0.6)), "paint": {"kind": "gradient"}, "mark_to": 2.0}
        fill["pose"]["rotation"] = [0, 0, 90]  # its Y axis then points along -X
        made = liquid(0.02, (1.0, 1.0, 1.0), [fill], walls=CLOSED)
        mark, x = made.state.particles.carried[:, 3], position(made)[:, 0]
        np.testing.assert_allclose(mark, 2.0 * (0.7 - x) / 0.4, atol=1e-4)

    def test_a_splash_keeps_the_sum_of_what_it_carries(self) -> None:
        """Merging and splitting average by volume, so the volume integral of a mark is conserved exactly."""
        fill = {**box_fill((0, 0, 0), (0.3, 0.6, 0.6)), "paint": {"kind": "gradient", "along": "x"}}
        made = liquid(0.03, (0.9, 0.9, 0.6), [fill], walls=CLOSED)
        sums = []
        for frame in range(2, 20):
            p = made.state.particles
            sums.append(float((p.volume.astype(float) * p.carried[:, 3]).sum()))
            made.advance_frame(frame)
        p = made.state.particles
        self.assertNotEqual(len(p), p.id.max() + 1)  # some were merged or split
        np.testing.assert_allclose(sums, sums[0], rtol=1e-5)
        self.assertGreaterEqual(float(p.carried[:, 3].min()), 0.0)
        self.assertLessEqual(float(p.carried[:, 3].max()), 1.0)
        self.assertGreater(float(p.carried[:, 3].std()), 0.2)  # not stirred into one by the numbers

    def test_merged_particles_carry_the_mean_by_volume(self) -> None:
        scene = parse_scene(scene_of({"kind": "plain"}))
        layout = scene_layout(scene, "final")
        rng = np.random.default_rng(1)
        p = Particles.at(np.array([6.0, 6.0, 6.0]) + rng.uniform(0, 1, (40, 3)), rng.uniform(0.1, 0.2, 40), 4)
        p.carried[:] = rng.uniform(0, 1, (40, 4))
        before = p.volume.astype(float) @ p.carried
        p, tiling = sorted_particles(p, layout)
        tiles = tiling.surroundings(4)
        p, _ = resampled(Arranged(p, tiling, tiles), tiles.field(-3.0), 8, 40, 0)
        self.assertEqual(len(p), 16)
        np.testing.assert_allclose(p.volume.astype(float) @ p.carried, before, rtol=1e-5)

    def test_what_comes_up_from_below_the_band_is_like_its_neighbours(self) -> None:
        halves = []
        for name, x, colour in (("left", 0.0, RED), ("right", 0.8, BLUE)):
            halves.append(box_fill((x, 0, 0), (x + 0.8, 1.0, 0.8), name, colour=colour))
        made = liquid(0.05, (1.6, 1.4, 0.8), halves, walls=CLOSED, band=4.0, gravity=(0.0, -9.0, 4.0))
        first = len(made.state.particles)
        for frame in range(2, 9):  # the surface sinks on one side of z, so that the band goes down there
            made.advance_frame(frame)
        p, x = made.state.particles, position(made)[:, 0]
        self.assertLess(len(p), 0.7 * first)  # the band has taken the others in
        born = p.id >= first
        self.assertGreater(int(born.sum()), 20)
        for side, colour in ((x < 0.4, 0), (x > 1.2, 2)):
            np.testing.assert_allclose(p.carried[born & side, colour], 1.0, atol=1e-6)


class Colours(SimpleTestCase):
    """Keys, and files."""

    def test_colours_renew_frames_only_where_there_are_any(self) -> None:
        files = SceneFiles(Path())
        plain = scene_of({"kind": "plain"}, colour=[0.05, 0.21, 0.22])
        other = scene_of({"kind": "plain"}, colour=[0.05, 0.21, 0.22], colour_to=[1, 1, 1])
        self.assertEqual(*(frame_keys(parse_scene(s), files, "final", "liquid") for s in (plain, other)))
        gradient = scene_of({"kind": "gradient"})
        turned = scene_of({"kind": "gradient", "along": "x"})
        keys = [frame_keys(parse_scene(s), files, "final", "liquid")[1] for s in (plain, gradient, turned)]
        self.assertEqual(len(set(keys)), 3)

    def test_a_source_that_pours_later_may_be_painted_after_a_run(self) -> None:
        """Its empty frames before are made anew too: their restart states have no room for colours."""
        document = scene_of({"kind": "plain"})
        spout = {"kind": "inflow", "name": "spout", "shape": {"kind": "disc", "radius": 0.05}, "start": 0.05}
        document["elements"] = [{**spout, "pose": {"translation": [0.2, 0.3, 0.2]}}]
        with tempfile.TemporaryDirectory() as name:
            cache = Cache(Path(name))
            list(run(parse_scene(document), Path(name), cache, stages=("liquid",)))
            document["elements"][0] |= {"paint": {"kind": "gradient", "along": "time"}, "mark_to": 2.0}
            list(run(parse_scene(document), Path(name), cache, stages=("liquid",)))
            mark = cache.stage("liquid").frame(3)["mark"]
        self.assertGreater(len(mark), 0)
        self.assertGreater(float(mark.max()), 0.0)

    def test_a_gradient_over_time_depends_on_when_the_shot_ends(self) -> None:
        document = scene_of({"kind": "plain"})
        spout = {"kind": "inflow", "name": "spout", "paint": {"kind": "gradient", "along": "time"}}
        document["elements"] = [{**spout, "pose": {"translation": [0.2, 0.3, 0.2]}}]
        keys = []
        for last in (3, 5):
            document["time"] = {"last": last}
            keys.append(frame_keys(parse_scene(document), SceneFiles(Path()), "final", "liquid")[2])
        self.assertNotEqual(*keys)

    def test_colours_leave_as_the_bytes_that_other_programs_expect(self) -> None:
        import trimesh

        point = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
        given = {"colour": np.array([RED, [0.5029, 0.5029, 0.5029], BLUE]), "mark": np.array([0.5, 1.5, 2.5])}
        with tempfile.TemporaryDirectory() as name:
            for write, kind in ((write_ply, "ply"), (write_obj, "obj")):
                path = Path(name) / f"a.{kind}"
                write(path, point, np.array([[0, 1, 2]]), given)
                read = trimesh.load(path, process=False)
                np.testing.assert_array_equal(
                    read.visual.vertex_colors[:, :3], [[255, 0, 0], [188, 188, 188], [0, 0, 255]]
                )
            read = trimesh.load(Path(name) / "a.ply", process=False)
            np.testing.assert_allclose(read.metadata["_ply_raw"]["vertex"]["data"]["mark"].ravel(), given["mark"])
