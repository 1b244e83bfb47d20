"""What the hand does besides putting things in: several at once, forces, measuring, curves, files, views, advice."""

from __future__ import annotations

import base64
import re
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from playwright.sync_api import Page, expect

from basin.scene import parse_scene
from tests.browser.case import ROOT
from tests.browser.hand import HandCase

DROPPING = """(files) => {
  const held = new DataTransfer()
  for (const [name, data] of files)
    held.items.add(new File([Uint8Array.from(atob(data), (c) => c.charCodeAt(0))], name))
  for (const type of ['dragenter', 'dragover', 'drop'])
    document.querySelector('.workspace').dispatchEvent(
      new DragEvent(type, { dataTransfer: held, bubbles: true, cancelable: true }))
}"""
AXE = ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js"


class Hand(HandCase):
    """Flows through one take each."""

    def placed(self, name: str) -> np.ndarray:
        return np.array(self.element(name)["pose"]["translation"])

    # several at once

    def test_several_are_moved_grouped_hidden_and_measured(self) -> None:
        """Several at once."""
        self.at_the_page(self.several)

    def several(self, page: Page) -> None:
        self.begin(page, "Jet against an object")
        ball, jet = self.placed("Ball"), self.placed("Jet")
        with self.action(page, "Move two at once"):
            self.pick(page, "Jet")
            page.get_by_role("button", name="Ball", exact=True).click(modifiers=["Shift"])
            self.move(page, "Ball", 1, "0.1")
            self.wait(lambda: self.placed("Ball")[1] > ball[1] + 0.09, 10, "the ball was not moved")
        np.testing.assert_allclose(self.placed("Ball") - ball, [0, 0.1, 0], atol=1e-4)
        np.testing.assert_allclose(self.placed("Jet") - jet, [0, 0.1, 0], atol=1e-4)
        with self.action(page, "Group them"):
            page.keyboard.press("Control+g")
            self.wait(lambda: self.element("Jet")["group"] == self.element("Ball")["group"] != "", 10, "no group")
        page.keyboard.press("Escape")
        self.pick(page, "Jet")
        expect(page.get_by_role("button", name="Ball", exact=True)).to_have_attribute("aria-pressed", "true")
        with self.action(page, "Copy and paste them"):
            page.keyboard.press("Control+c")
            page.keyboard.press("Control+v")
            self.wait(lambda: len(self.kept()) == 4, 10, "they were not put in")
        page.keyboard.press("Control+z")
        self.wait(lambda: len(self.kept()) == 2, 10, "it was not undone")
        page.get_by_text("Keeping").wait_for(state="hidden")
        with self.action(page, "Ungroup them"):
            page.keyboard.press("Escape")
            self.pick(page, "Jet")
            page.keyboard.press("Control+g")
            self.wait(lambda: self.element("Jet")["group"] == "", 10, "they are a group still")
        page.get_by_text("Keeping").wait_for(state="hidden")
        # out of sight, locked: not picked by a press any more
        page.keyboard.press("Escape")
        with self.action(page, "Lock one"):
            page.get_by_role("button", name="Lock Ball", exact=True).click()
            self.wait(lambda: self.element("Ball")["locked"], 10, "it was not locked")
        page.wait_for_function("viewport.isLocked(1)")
        x, y = self.at(page, list(self.placed("Ball")))
        page.mouse.click(x, y)
        expect(page.get_by_role("button", name="Ball", exact=True)).to_have_attribute("aria-pressed", "false")
        with self.action(page, "Put one out of sight"):
            page.get_by_role("button", name="Hide Ball", exact=True).click()
            self.wait(lambda: self.element("Ball")["hidden"], 10, "it was not hidden")
        page.get_by_role("button", name="See Ball", exact=True).click()
        page.get_by_role("button", name="Unlock Ball", exact=True).click()
        self.wait(lambda: not (self.element("Ball")["hidden"] or self.element("Ball")["locked"]), 10, "it is not back")
        with self.action(page, "See one alone"):
            self.pick(page, "Ball")
            page.keyboard.press("a")
            page.get_by_role("button", name="All", exact=True).wait_for()
        page.keyboard.press("a")
        # a force by hand, with lines along its push
        page.keyboard.press("Escape")
        with self.action(page, "A vortex, its reach and its strength"):
            page.keyboard.press("y")
            self.drag(page, [-0.3, 0, 0.2], [-0.15, 0, 0.2])
            x, y = self.at(page, [-0.3, 0.1, 0.2])
            page.mouse.move(x, y, steps=5)
            page.locator(".beside").get_by_text("m/s²").wait_for()
            page.keyboard.type("4")
            page.keyboard.press("Enter")
            self.wait(lambda: len(self.kept()) == 3, 10, "there is no vortex")
        self.assertEqual(self.element("Vortex")["effect"]["strength"], 4)
        page.get_by_text("pushes with 4 m/s² at most").wait_for()
        # a distance and an angle
        page.keyboard.press("Escape")
        with self.action(page, "Measure a distance and an angle"):
            page.keyboard.press("e")
            for n, spot in enumerate(([-0.2, 0, 0.3], [0.2, 0, 0.3], [0.2, 0, 0.1])):
                x, y = self.at(page, spot)
                page.mouse.move(x, y, steps=3)
                if n == 1:
                    told = self.beside(page)
                page.mouse.down()
                page.mouse.up()
            angle = self.beside(page)
        self.assertAlmostEqual(float(re.search(r"([\d.]+) m\n", told)[1]), 0.4, delta=0.01)  # type: ignore[index]
        self.assertAlmostEqual(float(re.search(r"([\d.]+)°", angle)[1]), 90, delta=2)  # type: ignore[index]
        page.keyboard.press("Escape")
        self.ramp(page)
        # advice: shown at its place and frame, then put aside
        page.get_by_role("button", name="Liquid").first.click()
        self.give(page, "Substeps, most", "2")
        self.wait(lambda: self.scene()["liquid"]["substeps_max"] == 2, 10, "the substeps were not kept")
        said = page.locator(".sentence", has_text="voxels a substep")
        said.wait_for()
        frame = page.get_by_test_id("frame").inner_text()
        said.get_by_role("button", name="Show").click()
        expect(page.get_by_test_id("frame")).not_to_have_text(frame)
        with self.action(page, "Put advice aside"):
            said.get_by_role("button", name="Put aside").click()
            self.wait(lambda: self.scene()["aside"] == ["too_fast:Jet"], 10, "it was not put aside")
            expect(said).to_have_count(0)

    def ramp(self, page: Page) -> None:
        """A ramp, and a ball put on it."""
        with self.action(page, "A ramp, its way and its height"):
            page.keyboard.press("/")
            self.drag(page, [-0.3, 0, -0.2], [0.1, 0, -0.2])
            x, y = self.at(page, [0.1, 0.15, -0.2])
            page.mouse.move(x, y, steps=5)
            page.keyboard.type("0.2")
            told = self.beside(page)
            page.keyboard.press("Enter")
            self.there(page, 4)
        along = float(re.search(r"([\d.]+) m long", told)[1])  # type: ignore[index]
        slope, speed = float(re.search(r"(\d+)°", told)[1]), float(re.search(r"([\d.]+) m/s", told)[1])  # type: ignore[index]
        self.assertAlmostEqual(slope, np.degrees(np.arctan2(0.2, along)), delta=0.6)
        self.assertAlmostEqual(speed, np.sqrt(2 * 9.80665 * 0.2), delta=0.01)  # a slide without friction (textbook)
        ramp = next(e for e in parse_scene(self.scene()).elements if e.name == "Ramp")
        wide, thick, _ = ramp.shape.size  # type: ignore[union-attr]
        ends = ramp.pose.matrix(0.0) @ np.array([[-wide / 2, thick / 2, 0, 1], [wide / 2, thick / 2, 0, 1]]).T
        np.testing.assert_allclose(ends[:3, 0], [-0.3, 0, -0.2], atol=0.03)  # its upper face begins where was pressed
        np.testing.assert_allclose(ends[1], [0, 0.2], atol=1e-4)
        with self.action(page, "Put a ball on what is under the pointer"):
            self.pick(page, "Ball")
            page.keyboard.press("1")
            grip = self.placed("Ball") + np.array([page.evaluate("viewport.arm()"), 0, 0])
            u, v = self.at(page, list(grip))
            page.mouse.move(u, v, steps=4)
            page.keyboard.down("Alt")
            page.mouse.down()
            on = ramp.pose.matrix(0.0) @ np.array([0.2 * wide, thick / 2, 0, 1])
            u, v = self.at(page, list(on[:3]))
            page.mouse.move(u, v, steps=6)
            said = self.beside(page)
            page.mouse.up()
            page.keyboard.up("Alt")
            self.assertIn("on Ramp", said)
            self.wait(lambda: np.linalg.norm(self.placed("Ball") - on[:3]) < 0.02, 10, "the ball is not on the ramp")
        page.keyboard.press("Escape")

    # curves, fit, size, views

    def test_curves_views_and_size(self) -> None:
        """Curves, views, and the size of the scene."""
        self.at_the_page(self.curves)

    def keys(self) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.element("Pushing wall")["pose"]["translation"]["keys"]
        return found

    def curves(self, page: Page) -> None:
        self.begin(page, "Tank with a moving wall")
        self.pick(page, "Pushing wall")
        before = self.keys()
        page.get_by_role("button", name="Curves").click()
        dot = page.get_by_label("Pushing wall translation x at frame 19")
        with self.action(page, "Drag a key in time and value"):
            dot.hover()  # which waits until the editor has opened and nothing moves any more
            box = dot.bounding_box()
            assert box
            page.mouse.down()
            page.mouse.move(box["x"] + 34, box["y"] + 24, steps=5)
            page.get_by_text("stays").wait_for()
            page.mouse.up()
            self.wait(lambda: self.keys()[2] != before[2], 10, "the key was not dragged")
        now = self.keys()
        self.assertGreater(now[2]["time"], before[2]["time"])
        self.assertLess(now[2]["value"][0], before[2]["value"][0])
        self.assertEqual(now[2]["value"][1:], before[2]["value"][1:])
        with self.action(page, "Give it a slope"):
            page.get_by_label("Slope after the key").hover()
            grip = page.get_by_label("Slope after the key").bounding_box()
            assert grip
            page.mouse.down()
            page.mouse.move(grip["x"] + 14, grip["y"] - 30, steps=4)
            page.mouse.up()
            self.wait(lambda: self.keys()[2]["slope"] is not None, 10, "it has no slope")
        self.assertGreater(self.keys()[2]["slope"][0], 0)
        with self.action(page, "Type a key's value"):
            self.give(page, "Value of the key", "-0.6")
            self.wait(lambda: self.keys()[2]["value"][0] == -0.6, 10, "the value was not kept")
        page.get_by_label("How it goes on").select_option("linear")
        self.wait(lambda: self.keys()[2]["segment"] == "linear", 10, "it goes on as before")
        with self.action(page, "Add a key on the curve"):
            plot = page.get_by_label("Plot of the curves").bounding_box()
            assert plot
            line = page.get_by_label("Pushing wall translation x at frame 7").bounding_box()
            assert line
            page.mouse.dblclick(line["x"] - 16, line["y"] + 4)
            self.wait(lambda: len(self.keys()) == len(before) + 1, 10, "no key was added")
        page.get_by_label("Close the curves").click()
        # a point of its way is pulled in the viewport
        page.wait_for_timeout(600)
        count = len(self.keys())
        which = next(n for n, k in enumerate(self.keys()) if k["value"][0] == -0.6)
        spot = self.keys()[which]
        with self.action(page, "Pull a point of its way"):
            x, y = self.at(page, spot["value"])
            page.mouse.move(x, y)
            page.mouse.down()
            page.mouse.move(x, y - 30, steps=4)
            page.mouse.up()
            self.wait(lambda: self.keys()[which]["value"][1] > spot["value"][1] + 0.005, 10, "it was not pulled")
        self.assertEqual(len(self.keys()), count)
        # views at once, one that is kept, and the shot camera put there
        page.keyboard.press("Escape")
        page.keyboard.press("8")
        page.keyboard.press("8")
        expect(page.locator(".pane")).to_have_count(4)
        drawn = "n => { const c = document.querySelectorAll('.pane canvas')[n]; return c.width > 60 && c.height > 60 }"
        for n in (1, 2, 3):
            page.wait_for_function(drawn, arg=n)
        page.keyboard.press("8")
        page.keyboard.press("6")
        page.get_by_label("Views").click()
        page.get_by_label("Name of this view").fill("From the side")
        page.get_by_role("button", name="Keep", exact=True).click()
        self.wait(lambda: [v["name"] for v in self.scene()["views"]] == ["From the side"], 10, "it was not kept")
        page.get_by_role("button", name="for the shot").click()
        self.wait(lambda: self.scene()["camera"]["angle"] == 3, 10, "the shot is seen from elsewhere")
        page.keyboard.press("Escape")
        # a domain that fits, and another size
        page.get_by_role("button", name="Scene").first.click()
        size = self.scene()["domain"]["size"]
        with self.action(page, "Fit the domain"):
            page.get_by_role("button", name="Fit the domain").click()
            page.get_by_role("button", name="Use it").click()
            self.wait(lambda: self.scene()["domain"]["size"] != size, 10, "the domain is as before")
        size = self.scene()["domain"]["size"]
        with self.action(page, "Let it last twice as long"):
            self.give(page, "Lasts now", "1")
            self.give(page, "Should last", "2")
            page.get_by_role("button", name="Make it so").click()
            self.wait(lambda: self.scene()["domain"]["size"][0] > 3 * size[0], 10, "it has its size still")
        np.testing.assert_allclose(self.scene()["domain"]["size"], 4 * np.array(size), rtol=1e-6)
        page.keyboard.press("Control+z")
        self.wait(lambda: self.scene()["domain"]["size"] == size, 10, "it is not one edit")
        # the manual is there, with all settings
        page.get_by_role("link", name="Manual").click()
        page.get_by_role("heading", name="A first hour").wait_for()
        page.get_by_role("link", name="All settings").click()
        page.get_by_label("Look for a setting").fill("voxel size")
        expect(page.get_by_role("row", name=re.compile("Voxel size"))).to_contain_text("eight times")

    # files

    def test_files_dropped_on_the_page_become_elements(self) -> None:
        """Files dropped on the page."""
        self.at_the_page(self.dropper)

    def dropper(self, page: Page) -> None:
        self.begin(page)
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            plinth, orb = trimesh.creation.box((0.1, 0.1, 0.1)), trimesh.creation.icosphere(4, 0.06)
            orb.apply_translation((0.2, 0.1, 0))
            both = trimesh.Scene()
            both.add_geometry(plinth, node_name="plinth", geom_name="plinth")
            both.add_geometry(orb, node_name="orb", geom_name="orb")
            both.export(folder / "both.glb")
            orb.export(folder / "knob.ply")
            plinth.apply_scale(1.5)
            plinth.export(folder / "newer.ply")
            files = [
                [n, base64.b64encode((folder / n).read_bytes()).decode()] for n in ("both.glb", "knob.ply", "newer.ply")
            ]
            with self.action(page, "Drop two files, one with two parts"):
                page.evaluate(DROPPING, files[:2])
                page.get_by_role("button", name="Put them in").wait_for()
                page.get_by_label("What plinth is").select_option("none")
                page.get_by_label("orb is delivered").uncheck()
                page.get_by_role("button", name="Put them in").click()
                self.there(page, 3)
            orb_e, plinth_e, knob = (self.element(n) for n in ("orb", "plinth", "knob"))
            self.assertEqual((plinth_e["shape"]["part"], plinth_e["active"]), ("plinth", 0))
            self.assertEqual((orb_e["shape"]["part"], orb_e["delivered"]), ("orb", False))
            self.assertEqual(orb_e["shape"]["file"], plinth_e["shape"]["file"])
            with self.action(page, "Make a stand-in"):
                self.pick(page, "knob")
                self.give(page, "Triangles of a stand-in", "400")
                page.get_by_role("button", name="Make it", exact=True).click()
                self.wait(lambda: self.element("knob")["shape"]["fine"] == knob["shape"]["file"], 10, "none was made")
            stand_in = trimesh.load(self.take.folder / self.element("knob")["shape"]["file"])
            self.assertLessEqual(len(stand_in.faces), 400)
            self.assertAlmostEqual(stand_in.volume / orb.volume, 1.0, delta=0.001)
            with self.action(page, "Exchange a file for a newer one"):
                self.pick(page, "knob")
                self.pick(page, "plinth")
                page.get_by_label("File", exact=True).set_input_files(folder / "newer.ply")
                self.wait(lambda: "newer" in self.element("plinth")["shape"]["file"], 10, "it was not exchanged")
            self.assertEqual(self.element("plinth")["active"], 0)  # settings stay

    # for everybody

    def test_no_serious_fault_for_anybody_at_any_size_in_both_looks(self) -> None:
        """No serious fault that axe-core finds; without a pointer."""
        self.at_the_page(self.everybody)

    def faults(self, page: Page) -> list[str]:
        page.evaluate(AXE.read_text(encoding="utf-8"))
        found = page.evaluate("axe.run(document, { resultTypes: ['violations'] })")
        return [
            f"{v['id']}: {v['nodes'][0]['html'][:160]}"
            for v in found["violations"]
            if v["impact"] in ("serious", "critical")
        ]

    def everybody(self, page: Page) -> None:
        self.begin(page, "Pour into a vessel")
        take = page.url
        for size in ({"width": 1280, "height": 800}, {"width": 2560, "height": 1440}):
            page.set_viewport_size(size)  # type: ignore[arg-type]
            for look in ("dusk", "daylight"):
                page.goto(take)
                page.get_by_text("Voxel size").wait_for()
                self.pick(page, "Stream")
                page.get_by_text("is full of").wait_for()
                with self.subTest(size=size["width"], look=look, page="take"):
                    self.assertEqual(self.faults(page), [])
                wide = page.evaluate("document.documentElement.scrollWidth <= innerWidth")
                self.assertTrue(wide, "the page is wider than its window")
                if size["width"] > 1280:
                    page.get_by_role("button", name=re.compile("Daylight|Dusk")).click()
                    continue
                for name, address in (("sheet", self.address), ("manual", f"{self.address}/manual/settings")):
                    page.goto(address)
                    page.locator("a.take, table").first.wait_for()
                    with self.subTest(size=size["width"], look=look, page=name):
                        self.assertEqual(self.faults(page), [])
                page.get_by_role("button", name=re.compile("Daylight|Dusk")).click()
        # by keyboard alone: an element is picked, moved by its settings, taken out and back
        page.goto(take)
        page.get_by_text("Voxel size").wait_for()
        page.wait_for_function("window.viewport?.generation > 0")
        stream = page.get_by_role("button", name="Stream", exact=True)
        for _ in range(60):
            if stream.evaluate("e => e === document.activeElement"):
                break
            page.keyboard.press("Tab")
        page.keyboard.press("Enter")
        field = page.get_by_label("Translation y", exact=True)
        for _ in range(80):
            if field.evaluate("e => e === document.activeElement"):
                break
            page.keyboard.press("Tab")
        page.keyboard.press("Control+a")
        page.keyboard.type("0.4")
        page.keyboard.press("Enter")
        self.wait(lambda: self.placed("Stream")[1] == 0.4, 10, "it was not moved")
        page.keyboard.press("Escape")
        field.evaluate("e => e.blur()")
        page.keyboard.press("Delete")
        self.wait(lambda: len(self.kept()) == 2, 10, "it was not taken out")
        page.keyboard.press("Control+z")
        self.wait(lambda: len(self.kept()) == 3, 10, "it is not back")
