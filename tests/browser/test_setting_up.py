"""A shot of one's own from an empty page, set up with pointer and keyboard; what is drawn is what then happens."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.test import override_settings
from playwright.sync_api import Page, expect

from basin.cache import Cache
from studio.productions.models import Membership, Production, Take
from tests.browser.case import PBKDF2, PageCase

VOXEL = 0.03  # m, of an empty shot's draft


class SettingUp(PageCase):
    """From an empty page to liquid that does what was drawn."""

    def setUp(self) -> None:
        super().setUp()
        Production.objects.all().delete()

    # the hand

    def at(self, page: Page, place: list[float]) -> tuple[float, float]:
        """Pixels of a point of the scene."""
        box = page.locator("canvas").bounding_box()
        assert box
        x, y = page.evaluate("p => viewport.pixels(p)", place)
        return box["x"] + x, box["y"] + y

    def drag(self, page: Page, *places: list[float], lets_go: bool = True) -> None:
        """Press at the first of some points of the scene and drag along the others."""
        for n, place in enumerate(places):
            x, y = self.at(page, place)
            page.mouse.move(x, y, steps=1 if n == 0 else 6)
            if n == 0:
                page.mouse.down()
        if lets_go:
            page.mouse.up()

    def begin(self, page: Page, start: str = "") -> None:
        """Sign in, begin a production and a shot, come to its take."""
        self.sign_in(page)
        page.get_by_text("Nothing here yet").wait_for()
        page.get_by_role("button", name="Begin a production").first.click()
        page.get_by_label("Name", exact=True).fill("Kiln yard")
        page.keyboard.press("Enter")
        page.get_by_role("button", name="Begin a shot").click()
        page.get_by_role("radio", name=start or "Nothing yet").click()
        page.get_by_label("Last frame").fill("24")
        page.get_by_role("button", name="Begin", exact=True).click()
        page.get_by_text("Voxel size").wait_for()
        page.wait_for_function("window.viewport?.generation > 0")
        self.take = Take.objects.get()

    def beside(self, page: Page) -> str:
        """What is said beside the pointer."""
        return page.locator(".beside").inner_text()

    def element(self, name: str) -> dict[str, Any]:
        return next(e for e in self.kept() if e["name"] == name)

    def made(self, page: Page, frames: int) -> None:
        """Run the draft's liquid and wait for it."""
        page.get_by_role("button", name="Run draft").click()
        page.wait_for_function(
            f"document.querySelector('svg[aria-label=\"liquid frames\"]')?.dataset.current === '{frames}'",
            timeout=240_000,
        )

    def particles(self, frame: int) -> tuple[np.ndarray, float]:
        """Positions (n, 3) in metres of a frame, and the liquid's litres."""
        stage = Cache(self.take.cache_folder("draft")).stage("liquid")
        return np.asarray(stage.frame(frame)["position"]), stage.records()[frame].readings["volume"] * 1000

    def test_a_tub_is_filled_to_a_level_and_a_drop_falls_into_it(self) -> None:
        self.at_the_page(self.filler)

    def filler(self, page: Page) -> None:
        self.begin(page)
        # a tub: its base is dragged out on the floor, its height pulled up
        page.keyboard.press("u")
        self.drag(page, [0, 0, 0], [0.3, 0, 0])
        x, y = self.at(page, [0, 0.25, 0])
        page.mouse.move(x, y, steps=6)
        self.assertIn("m high", self.beside(page))
        page.keyboard.type("0.2")  # a number that is typed is its measure
        page.mouse.down()
        page.mouse.up()
        self.wait(lambda: len(self.kept()) == 1, 10, "the tub was not kept")
        shape = self.element("Tub")["shape"]
        self.assertAlmostEqual(shape["radius"], 0.3, delta=0.01)
        self.assertEqual(shape["height"], 0.2)
        page.wait_for_function("viewport.placeOf(0) !== null")
        # filled from within, to a depth that is typed
        page.keyboard.press("Escape")
        page.keyboard.press("f")
        floor = shape["wall"]
        spot = [-0.07, floor, -0.09]  # of its floor, seen over its rim
        self.drag(page, spot, lets_go=False)
        page.locator(".beside").get_by_text("m deep").wait_for()
        page.keyboard.type("0.1")
        page.locator(".beside").get_by_text("typed 0.1").wait_for()
        inside = shape["radius"] - shape["wall"]
        litres = np.pi * inside**2 * 0.1 * 1000
        self.wait(
            lambda: abs(self.told_litres(page) - litres) < 0.12 * litres,
            10,
            f"not {litres:.1f} l are told: {self.beside(page)!r} {shape}",
        )
        told = self.told_litres(page)
        page.mouse.up()
        self.wait(lambda: len(self.kept()) == 2, 10, "the fill was not kept")
        # a drop, lifted from the floor of the tub
        page.keyboard.press("Escape")
        page.keyboard.press("d")
        self.drag(page, spot, [spot[0], 0.5, spot[2]], lets_go=False)
        said = self.beside(page)
        fall, seconds = (float(re.search(p, said)[1]) for p in (r"([\d.]+) m above", r"falls ([\d.]+) s"))  # type: ignore[index]
        self.assertAlmostEqual(seconds, np.sqrt(2 * fall / 9.80665), delta=0.006)  # Galilei
        page.mouse.up()
        self.wait(lambda: len(self.kept()) == 3, 10, "the drop was not kept")
        radius = self.element("Drop")["shape"]["radius"]
        # what was undone is back after a reload, and done again by the keyboard
        page.keyboard.press("Control+z")
        self.wait(lambda: len(self.kept()) == 2, 10, "the drop was not undone")
        page.reload()
        page.get_by_text("Voxel size").wait_for()
        page.keyboard.press("Control+Shift+z")
        self.wait(lambda: len(self.kept()) == 3, 10, "the drop did not come back")
        self.made(page, 24)
        place, volume = self.particles(24)
        drop = 4 / 3 * np.pi * radius**3 * 1000
        self.assertAlmostEqual(volume, told + drop, delta=0.06 * (told + drop))
        held = np.hypot(place[:, 0], place[:, 2]) < shape["radius"]
        self.assertGreater(held.mean(), 0.9)

    def told_litres(self, page: Page) -> float:
        found = re.search(r"([\d.]+) l,", self.beside(page))
        return float(found[1]) if found else 0.0

    def test_a_jet_from_a_picked_face_lands_where_it_is_drawn(self) -> None:
        self.at_the_page(self.aimer)

    def aimer(self, page: Page) -> None:
        self.begin(page)
        # a block, and a source out of the face that looks at us
        page.keyboard.press("b")
        self.drag(page, [-0.45, 0, -0.12], [-0.25, 0, 0.12])
        x, y = self.at(page, [-0.35, 0.3, 0])
        page.mouse.move(x, y, steps=6)
        page.keyboard.type("0.5")
        page.keyboard.press("Enter")
        self.wait(lambda: len(self.kept()) == 1, 10, "the block was not kept")
        page.wait_for_function("viewport.placeOf(0) !== null")
        size = self.element("Box")["shape"]["size"]
        page.keyboard.press("Escape")
        with page.expect_response(re.compile("openings")):
            page.keyboard.press("i")
        face = [-0.25, 0.25, 0]
        self.drag(page, face, lets_go=False)
        page.keyboard.type("1.5")
        page.locator(".beside").get_by_text("m/s").first.wait_for()
        page.locator(".beside").get_by_text("l/s").wait_for()
        page.keyboard.press("Enter")
        page.mouse.up()
        self.wait(lambda: len(self.kept()) == 2, 10, "the inflow was not kept")
        inflow = self.element("Inflow")
        middle = inflow["pose"]["translation"]
        np.testing.assert_allclose(middle, [-0.25, 0.25, 0], atol=0.03)  # the middle of the face, not where was pressed
        np.testing.assert_allclose(inflow["velocity"], [1.5, 0, 0], atol=1e-6)
        self.assertAlmostEqual(np.pi * inflow["shape"]["radius"] ** 2, size[1] * size[2], delta=0.02)
        # narrower, so that it is a jet; the stream says where it will land
        radius = page.get_by_label("Radius", exact=True)
        radius.fill("0.05")
        radius.press("Enter")
        self.wait(lambda: self.element("Inflow")["shape"]["radius"] == 0.05, 10, "the radius was not kept")
        stream = page.get_by_label("Stream")
        expect(stream).to_contain_text("meets the floor at frame", timeout=10_000)
        frame = int(re.search(r"at frame (\d+)", stream.inner_text())[1])  # type: ignore[index]
        drop = middle[1]
        self.assertAlmostEqual(frame, 1 + np.ceil(24 * np.sqrt(2 * drop / 9.80665)), delta=1)
        self.made(page, 24)
        place, _ = self.particles(frame)
        there = place[place[:, 1] < 2 * VOXEL]
        self.assertGreater(len(there), 0)
        # the parabola from the opening's middle: x = v sqrt(2 h / g)
        lands = middle[0] + 1.5 * np.sqrt(2 * drop / 9.80665)
        self.assertAlmostEqual(np.median(there[:, 0]), lands, delta=2 * VOXEL)
        # dragged by a handle: a number that is typed is the way
        page.get_by_role("button", name="Box", exact=True).click()
        at = self.element("Box")["pose"]["translation"]
        reach = page.evaluate("viewport.arm()")
        u, v = self.at(page, [at[0], at[1] + reach, at[2]])
        page.mouse.move(u, v, steps=4)
        page.mouse.down()
        page.mouse.move(u, v - 12, steps=4)
        page.keyboard.type("0.1")
        page.mouse.up()
        self.wait(
            lambda: abs(self.element("Box")["pose"]["translation"][1] - at[1] - 0.1) < 1e-4, 10, "it was not moved"
        )

    def test_people_share_a_take_and_what_was_taken_off_comes_back(self) -> None:
        self.at_the_page(self.sharer)

    def sharer(self, page: Page) -> None:
        with override_settings(PASSWORD_HASHERS=[PBKDF2]):
            jon = User.objects.create_user("jon", password="clay")
        self.begin(page, "Drop into a pool")
        page.goto(self.address)
        page.get_by_role("button", name="You alone").click()
        page.get_by_label("Name of an account").fill("jon")
        page.get_by_role("button", name="Let in").click()
        page.get_by_label("Role of jon").select_option("viewer")
        self.wait(lambda: Membership.objects.get(user=jon).role == 1, 10, "he is no viewer")
        page.get_by_role("button", name="Close").click()
        # somebody else edits the take that is open: it is told and shown
        page.locator("a.take").click()
        page.get_by_text("Voxel size").wait_for()
        scene = self.scene()
        other = page.context.browser.new_page()  # type: ignore[union-attr]
        other.goto(self.address)
        other.get_by_label("Name").fill("jon")
        other.get_by_label("Password").fill("clay")
        other.get_by_label("Password").press("Enter")
        other.locator("a.take").click()
        other.get_by_text("shared with you for viewing").wait_for()
        self.assertEqual(other.get_by_role("toolbar").count(), 0)
        page.keyboard.press("d")
        self.drag(page, [0.1, 0.0, 0.1], [0.1, 0.4, 0.1])
        self.wait(lambda: len(self.kept()) == len(scene["elements"]) + 1, 10, "the drop was not kept")
        other.get_by_text("mira changed this take").wait_for()
        other.get_by_role("button", name="Drop 2").wait_for()
        other.close()
        # off the sheet, and back
        page.goto(self.address)
        page.get_by_label("More of Drop into a pool").or_(page.get_by_label(re.compile("More of Shot"))).first.click()
        page.get_by_role("button", name="Take off the sheet").click()
        page.get_by_test_id("take-off").get_by_text("One take").wait_for()
        page.get_by_role("button", name="Take it off").click()
        page.get_by_text("No shot yet").wait_for()
        page.get_by_role("button", name="Taken off").click()
        page.get_by_role("button", name="Take it back").click()
        page.get_by_text("Nothing in the last week.").wait_for()
        page.get_by_role("button", name="Close").click()
        page.locator("a.take").wait_for()

    def test_liquid_is_rehearsed_while_it_is_set_up(self) -> None:
        self.at_the_page(self.rehearser)

    def rehearser(self, page: Page) -> None:
        self.begin(page, "Tank with a moving wall")
        page.keyboard.press("r")
        page.get_by_text("frames/s").wait_for(timeout=120_000)
        page.wait_for_function("window.viewport.drawn() > 1000")
        page.wait_for_function("+document.querySelector('[data-testid=frame]').innerText >= 4", timeout=120_000)
        page.get_by_role("button", name="Hold (h)").click()
        page.get_by_role("button", name="Follow edits").click()
        # an edit begins again
        bar = page.get_by_label("Rehearsal")
        before = bar.inner_text().splitlines()[0]
        page.get_by_role("button", name="Water", exact=True).click()
        size = page.get_by_label("Size y", exact=True)
        size.fill("0.13")
        size.press("Enter")
        expect(bar).not_to_contain_text(before, timeout=120_000)  # half the water: a finer voxel
        self.assertIn("mm voxel", bar.inner_text())
        page.get_by_role("button", name="Leave").click()
        page.get_by_text("This frame has no liquid yet.").wait_for()

        # a key of the wall, moved by the keyboard, dragged, and taken out
        def times() -> list[float]:
            return [round(24 * k["time"], 3) for k in self.element("Pushing wall")["pose"]["translation"]["keys"]]

        self.assertEqual(times(), [0, 6, 18, 36, 48])
        page.get_by_role("button", name="Pushing wall", exact=True).click()
        page.get_by_label("Key of Pushing wall at frame 19").focus()
        page.keyboard.press("ArrowRight")
        self.wait(lambda: times() == [0, 6, 19, 36, 48], 10, "the key was not moved")
        box = page.get_by_label("Key of Pushing wall at frame 20").bounding_box()
        lane = page.get_by_label("Keys", exact=True).bounding_box()
        assert box
        assert lane
        page.mouse.move(box["x"] + 5, box["y"] + 6)
        page.mouse.down()
        page.mouse.move(box["x"] + 5 - 4 * lane["width"] / 24, box["y"] + 6, steps=5)
        page.get_by_text("stays").wait_for()
        page.mouse.up()
        self.wait(lambda: times() == [0, 6, 15, 36, 48], 10, "the key was not dragged")
        page.get_by_label("Key of Pushing wall at frame 16").focus()
        page.keyboard.press("Delete")
        self.wait(lambda: times() == [0, 6, 36, 48], 10, "the key was not taken out")
        self.assertEqual(Cache(self.take.cache_folder("draft")).stage("liquid").records(), {})
