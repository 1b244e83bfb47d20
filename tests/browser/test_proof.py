"""Shots from an empty page, by pointer and keyboard as an artist would, whose liquid is then measured."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from playwright.sync_api import Page, expect

from basin.exchange import write_ply
from basin.geometry.deforming import Deforming
from basin.geometry.primitives import sphere_mesh
from basin.scene import parse_scene
from basin.stages.assembly import distance_of
from basin.stages.files import SceneFiles
from tests.browser.hand import VOXEL, HandCase

G = 9.80665


class Proof(HandCase):
    """What is set up by hand does what it was drawn to do."""

    # a pour over an object from a moving ladle

    def test_a_pour_over_an_object_from_a_moving_ladle(self) -> None:
        """A pour over an object from a moving ladle."""
        self.at_the_page(self.ladle)

    def ladle(self, page: Page) -> None:
        self.begin(page)
        with self.action(page, "A ball on the floor"):
            page.keyboard.press("o")
            self.drag(page, [0.15, 0, 0], [0.27, 0, 0])
            self.there(page, 1)
        page.keyboard.press("Escape")
        with self.action(page, "A box as the ladle"):
            page.keyboard.press("b")
            self.drag(page, [-0.4, 0, -0.1], [-0.2, 0, 0.1])
            x, y = self.at(page, [-0.3, 0.2, 0])
            page.mouse.move(x, y, steps=6)
            page.keyboard.type("0.2")
            page.keyboard.press("Enter")
            self.there(page, 2)
        with self.action(page, "Lift it by its handle"):
            self.move(page, "Box", 1, "0.5")
            self.wait(lambda: self.element("Box")["pose"]["translation"][1] > 0.55, 10, "it was not lifted")
        page.wait_for_function("viewport.placeOf(1).elements[13] > 0.55")
        page.keyboard.press("Escape")
        with self.action(page, "An inflow out of the face that is pressed"):
            with page.expect_response(re.compile("openings")):
                page.keyboard.press("i")
            self.drag(page, [-0.2, 0.6, 0], lets_go=False)
            page.keyboard.type("1.2")
            page.locator(".beside").get_by_text("l/s").wait_for()
            page.keyboard.press("Enter")
            page.mouse.up()
            self.there(page, 3)
        middle = self.element("Inflow")["pose"]["translation"]
        # the middle of the face, not where was pressed
        np.testing.assert_allclose(middle, [-0.2, 0.6, 0], atol=0.03)
        np.testing.assert_allclose(self.element("Inflow")["velocity"], [1.2, 0, 0], atol=1e-6)
        with self.action(page, "Make it narrower"):
            self.assertEqual(self.element("Inflow")["shape"]["kind"], "slot")  # as the face is
            self.give(page, "Width", "0.1")
            self.give(page, "Depth", "0.1")
            sides = {"kind": "slot", "width": 0.1, "depth": 0.1}
            self.wait(lambda: self.element("Inflow")["shape"] == sides, 10, "its sides were not kept")
        with self.action(page, "Attach it to the ladle by dragging it onto it"):
            inflow = page.get_by_role("button", name="Inflow", exact=True)
            inflow.drag_to(page.get_by_role("button", name="Box", exact=True))
            self.wait(lambda: self.element("Inflow")["attached"] == "Box", 10, "it was not attached")
        own = self.element("Inflow")["pose"]["translation"]
        box = self.element("Box")["pose"]["translation"]
        np.testing.assert_allclose(np.add(own, box), middle, atol=1e-3)  # it stays where it was
        with self.action(page, "Record keys of the ladle at frames 8, 16 and the last"):
            self.pick(page, "Box")
            page.get_by_label("Record keys").click()
            for count, (frame, by) in enumerate(((8, "0.01"), (16, "0.01"), (24, "0.18")), start=2):
                while int(page.get_by_test_id("frame").inner_text()) < frame:
                    page.keyboard.press(".")
                self.move(page, "Box", 0, by)
                self.wait(lambda n=count: len(self.ladle_keys()) == n, 10, f"no key was set at frame {frame}")
        page.get_by_label("Record keys").click()
        page.keyboard.press("Home")
        keys = self.ladle_keys()
        self.assertAlmostEqual(keys[-1]["value"][0] - keys[0]["value"][0], 0.2, places=3)
        self.pick(page, "Inflow")
        stream = page.get_by_label("Stream", exact=True)
        expect(stream).to_contain_text("meets the Ball".replace("the ", ""))
        frame = int(re.search(r"at frame (\d+)", stream.inner_text())[1])  # type: ignore[index]
        self.made(page, 24)
        # the first liquid strikes the ball where the parabola does: x = x0 + v t on a ball of its radius
        ball = self.element("Ball")
        radius, centre = ball["shape"]["radius"], np.array(ball["pose"]["translation"])
        times = np.linspace(0, 0.6, 6001)
        path = np.array(middle) + np.array([1.2, 0, 0]) * times[:, None] + [0, -G / 2, 0] * times[:, None] ** 2
        first = int((np.linalg.norm(path - centre, axis=1) < radius).argmax())
        self.assertAlmostEqual(frame, 1 + np.ceil(24 * times[first]), delta=1)
        place, _ = self.particles(min(frame + 1, 24))
        near = place[np.linalg.norm(place - centre, axis=1) < radius + 2 * VOXEL]
        self.assertGreater(len(near), 0)
        struck = near[near[:, 1] > path[first][1] - VOXEL]
        self.assertLess(float(np.linalg.norm(np.median(struck, axis=0) - path[first])), 2 * VOXEL + 0.05)
        # and the liquid goes around what it meets
        late, _ = self.particles(24)
        self.assertGreater(float(np.linalg.norm(late - centre, axis=1).min()), radius - 0.5 * VOXEL)
        # a key that is dragged late: the strip shows which frames would go, and nothing is kept before it is let go
        self.pick(page, "Box")
        strip = page.locator('svg[aria-label="liquid frames"]')
        expect(strip).to_have_attribute("data-going", "0")
        grip = page.get_by_label("Key of Box at frame 24", exact=True).bounding_box()
        assert grip
        page.mouse.move(grip["x"] + 5, grip["y"] + 6)
        page.mouse.down()
        page.mouse.move(grip["x"] - 70, grip["y"] + 6, steps=4)
        stays = page.get_by_text("stays").inner_text()
        # a smooth curve at frame 8 knows of the keys beside it only: of those at 1 and 16
        self.assertIn("before frame 8 stays", stays)
        expect(strip).to_have_attribute("data-going", "17")
        page.mouse.move(grip["x"] + 5, grip["y"] + 6, steps=4)
        page.mouse.up()
        expect(strip).to_have_attribute("data-going", "0")
        self.assertEqual(self.ladle_keys(), keys)

    def ladle_keys(self) -> list[dict[str, Any]]:
        value = self.element("Box")["pose"]["translation"]
        return [] if isinstance(value, list) else list(value["keys"])

    # a tap from a picked opening with its basin filled in a stated time

    def test_a_tap_whose_basin_is_full_when_it_was_said(self) -> None:
        """A tap from a picked opening, with its basin filled in a stated time."""
        self.at_the_page(self.tap)

    def tap(self, page: Page) -> None:
        self.begin(page, frames=48)
        with self.action(page, "A tub as the basin"):
            page.keyboard.press("u")
            self.drag(page, [0, 0, 0], [0.24, 0, 0])
            x, y = self.at(page, [0, 0.2, 0])
            page.mouse.move(x, y, steps=6)
            page.keyboard.type("0.3")
            page.keyboard.press("Enter")
            self.there(page, 1)
        page.keyboard.press("Escape")
        with self.action(page, "A box as the tap"):
            page.keyboard.press("b")
            self.drag(page, [-0.45, 0, -0.1], [-0.25, 0, 0.1])
            x, y = self.at(page, [-0.35, 0.6, 0])
            page.mouse.move(x, y, steps=6)
            page.keyboard.type("0.7")
            page.keyboard.press("Enter")
            self.there(page, 2)
        page.keyboard.press("Escape")
        with self.action(page, "An inflow out of its face"):
            with page.expect_response(re.compile("openings")):
                page.keyboard.press("i")
            self.drag(page, [-0.25, 0.5, 0], lets_go=False)
            page.keyboard.type("1")
            page.locator(".beside").get_by_text("l/s").wait_for()
            page.keyboard.press("Enter")
            self.there(page, 3)
            page.get_by_label("Width", exact=True).wait_for()
            page.mouse.up()  # late: it picks nothing else
            page.get_by_label("Width", exact=True).wait_for()
        with self.action(page, "Make it narrower and put it higher"):
            self.give(page, "Width", "0.14")
            self.give(page, "Depth", "0.14")
            self.give(page, "Translation y", "0.5")
            self.wait(lambda: self.element("Inflow")["pose"]["translation"][1] == 0.5, 10, "it was not moved")
        stream = page.get_by_label("Stream", exact=True)
        expect(stream).to_contain_text("Tub is full of")
        with self.action(page, "Say how high"):
            self.give(page, "Height to fill to", "0.14")
            expect(page.get_by_label("Height to fill to", exact=True)).to_have_value(re.compile(r"^0\.14"))
            page.wait_for_timeout(500)
        with self.action(page, "Say when the basin shall be full"):
            self.give(page, "Full after", "1.7")
            self.wait(lambda: self.element("Inflow")["velocity"][0] != 1, 30, "the rate was not found")
        with self.action(page, "Stop when it is full"):
            page.get_by_role("button", name="Stop when it is full").click()
            self.wait(lambda: self.element("Inflow")["end"] is not None, 10, "it has no end")
        expect(stream).to_contain_text(re.compile(r"full of [\d.]+ l"))  # as it pours now
        told = float(re.search(r"full of ([\d.]+) l", stream.inner_text())[1])  # type: ignore[index]
        tub = self.element("Tub")["shape"]
        inside = tub["radius"] - tub["wall"]
        litres = np.pi * inside**2 * 0.14 * 1000
        self.assertAlmostEqual(told / litres, 1.0, delta=0.12)  # cells of a draft: a tub of 17 voxels across
        self.made(page, 48)
        place, held = self.particles(48)
        self.assertAlmostEqual(held / told, 1.0, delta=0.06)  # what was poured is what was said
        at = self.element("Tub")["pose"]["translation"]
        within = (np.hypot(place[:, 0] - at[0], place[:, 2] - at[2]) < tub["radius"]) & (
            place[:, 1] < tub["height"] + 2 * VOXEL
        )
        self.assertGreater(float(within.mean()), 0.75)  # what splashes is not told

    # a closed shape filled by an inflow inside it

    def test_a_closed_shape_that_fills_with_a_cap(self) -> None:
        """A closed shape filled by an inflow inside it, strays thrown away, with a cap."""
        self.at_the_page(self.shape)

    def shape(self, page: Page) -> None:
        self.begin(page)
        mesh = sphere_mesh(0.3)
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "globe.ply"
            write_ply(file, mesh.position + np.array([0, 0.35, 0]), mesh.triangle)
            with self.action(page, "Import a closed mesh as a collider"):
                page.get_by_label("Put in an element").click()
                page.get_by_role("button", name="Import a mesh…").click()
                page.get_by_label("Mesh file").set_input_files(file)
                page.get_by_test_id("mesh-facts").wait_for()
                page.get_by_role("button", name="Make it a collider").click()
                self.there(page, 1)
        with self.action(page, "Let liquid be inside of it"):
            page.get_by_label("Liquid is", exact=True).select_option("inside")
            self.wait(lambda: self.kept()[0]["side"] == "inside", 10, "it is not the room")
        page.wait_for_function("viewport.generation > 1")
        page.keyboard.press("Escape")
        with self.action(page, "An inflow into it"):
            with page.expect_response(re.compile("openings")):
                page.keyboard.press("i")
            x, y = self.at(page, [0, 0.63, 0.08])
            page.mouse.move(x, y)
            page.mouse.down()
            page.keyboard.type("1.5")
            page.keyboard.press("Enter")
            page.mouse.up()
            self.there(page, 2)
        inflow = self.element("Inflow")
        inwards = np.array([0, 0.35, 0]) - inflow["pose"]["translation"]
        self.assertGreater(float(np.dot(inwards, inflow["velocity"])), 0)
        with self.action(page, "A drain around it that takes what strays"):
            page.keyboard.press("Escape")
            page.keyboard.press("x")
            self.drag(page, [0.5, 0, 0.5], [-0.5, 0, -0.5])
            x, y = self.at(page, [0, 0.7, 0])
            page.mouse.move(x, y, steps=6)
            page.keyboard.type("0.7")
            page.keyboard.press("Enter")
            self.there(page, 3)
            page.get_by_label("Liquid goes", exact=True).select_option("outside")
            self.wait(lambda: self.element("Drain")["takes"] == "outside", 10, "it takes what is inside")
        with self.action(page, "A cap on particles"):
            page.get_by_role("button", name="Liquid").first.click()
            self.give(page, "Particles at most", "3000")
            self.wait(lambda: self.scene()["liquid"]["particles_most"] == 3000, 10, "there is no cap")
        self.made(page, 24)
        place, held = self.particles(24)
        far = np.linalg.norm(place - [0, 0.35, 0], axis=1)
        self.assertGreater(len(place), 2500)
        self.assertLess(len(place), 3000 * 1.15)  # one substep may pass it
        self.assertLess(float(far.max()), 0.3 + VOXEL)
        self.assertAlmostEqual(held / (len(place) / 8 * VOXEL**3 * 1000), 1.0, delta=0.35)

    # a heavy sphere that rises through a tank while a wall pushes

    def test_a_heavy_sphere_rises_through_a_tank_while_a_wall_pushes(self) -> None:
        """A heavy sphere that rises through a tank while a wall pushes."""
        self.at_the_page(self.tank)

    def tank(self, page: Page) -> None:
        self.begin(page)
        with self.action(page, "A ball on the tank's floor"):
            page.keyboard.press("o")
            self.drag(page, [0.1, 0, 0], [0.22, 0, 0])
            self.there(page, 1)
        page.keyboard.press("Escape")
        with self.action(page, "Fill the tank to a level"):
            page.keyboard.press("f")
            self.drag(page, [-0.2, 0, 0.3], lets_go=False)
            page.locator(".beside").get_by_text("m deep").wait_for()
            page.keyboard.type("0.3")
            page.locator(".beside").get_by_text("typed 0.3").wait_for()
            self.wait(lambda: "0.3 m deep" in self.beside(page), 10, "the level was not taken")
            page.mouse.up()
            self.there(page, 2)
        size = self.scene()["domain"]["size"]
        ball = self.element("Ball")["shape"]["radius"]
        litres = (size[0] * size[2] * 0.3 - 4 / 3 * np.pi * ball**3) * 1000
        with self.action(page, "A box as a wall at its end"):
            page.keyboard.press("Escape")
            page.keyboard.press("b")
            self.drag(page, [-0.55, 0, -0.55], [-0.47, 0, 0.55])
            x, y = self.at(page, [-0.5, 0.5, 0])
            page.mouse.move(x, y, steps=6)
            page.keyboard.type("0.6")
            page.keyboard.press("Enter")
            self.there(page, 3)
        with self.action(page, "Record that it pushes"):
            page.get_by_label("Record keys").click()
            page.keyboard.press("End")
            self.move(page, "Box", 0, "0.15")
            self.wait(lambda: "keys" in self.element("Box")["pose"]["translation"], 10, "no key was set")
        with self.action(page, "Record that the ball rises"):
            self.pick(page, "Ball")
            page.wait_for_timeout(300)
            self.move(page, "Ball", 1, "0.5")
            self.wait(lambda: "keys" in self.element("Ball")["pose"]["translation"], 10, "no key was set")
        page.get_by_label("Record keys").click()
        page.keyboard.press("Home")
        self.made(page, 24)
        _, first = self.particles(1)
        covered = (0.5 - 0.47) * size[2] * 0.3 * 1000  # of the wall what lies in the domain stands in the water
        self.assertAlmostEqual(first / (litres - covered), 1.0, delta=0.05)
        place, last = self.particles(24)
        self.assertAlmostEqual(last / first, 1.0, delta=0.005)  # volume stays
        scene = parse_scene(self.scene())
        for index, name in ((0, "Ball"), (2, "Box")):
            collider = scene.elements[index]
            self.assertEqual(collider.name, name)
            held = distance_of(collider, scene, SceneFiles(self.take.folder), VOXEL)
            assert not isinstance(held, Deforming)
            far = held.placed_at(place.astype(np.float64), scene.placement(collider).matrix(23 / 24))
            self.assertGreater(float(np.quantile(far, 0.001)), -0.5 * VOXEL)  # nothing is passed through
        # what the wall took has raised the level: volume over the area that is left
        free = (0.5 + 0.47 - 0.15) * size[2]
        ahead = place[place[:, 0] > -0.2]
        self.assertGreater(float(np.quantile(ahead[:, 1], 0.97)), 0.9 * first / 1000 / free)
