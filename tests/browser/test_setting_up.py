"""A shot of one's own from an empty page, set up with pointer and keyboard; what is drawn is what then happens."""

from __future__ import annotations

import re

import numpy as np
from django.contrib.auth.models import User
from django.test import override_settings
from playwright.sync_api import Page, expect

from basin.cache import Cache
from studio.productions.models import Membership
from tests.browser.case import PBKDF2
from tests.browser.hand import HandCase


class SettingUp(HandCase):
    """From an empty page to liquid that does what was drawn."""

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
        other.get_by_role("button", name="Drop 2", exact=True).wait_for()
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
