"""Someone who puts a sea into a shot: by the pointer, by its numbers; and what the graphics card does with it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from playwright.sync_api import Page

from basin.cache import Cache
from basin.scene import parse_scene
from basin.sea.numbers import laid
from studio.runs.models import Run
from tests.browser.case import PageCase


class SeaAlone(PageCase):
    """From an empty scene to a sea with foam."""

    def test_a_sea_is_put_in_made_and_seen(self) -> None:
        self.take.scene = {**self.take.scene, "elements": [], "time": {"last": 6}, "deliveries": []}
        self.take.save()
        self.at_the_page(self.sea)

    def told(self, part: str) -> dict[str, Any]:
        self.take.refresh_from_db()
        return dict(self.take.scene.get(part, {}))

    def sea(self, page: Page) -> None:
        self.sign_in(page)
        page.locator("a.take").click()
        page.get_by_role("button", name="Put in an element").click()
        page.get_by_role("button", name="Sea", exact=True).click()
        self.wait(lambda: bool(self.told("sea").get("made")), 15, "the sea was not kept")
        rail = page.locator(".rail .stage")
        self.wait(lambda: rail.count() == 5, 15, "the rail shows what a sea has nothing to do with")
        by_numbers = page.get_by_label("The sea by the numbers")
        by_numbers.get_by_text("Significant height").wait_for()

        # a sea in one click, then wind; numbers follow
        by_numbers.get_by_label("A sea to begin with").select_option("4 moderate breeze")
        self.wait(lambda: self.told("sea").get("height") == 1.0, 15, "the sea was not kept")
        by_numbers.get_by_text("slight").wait_for()
        page.get_by_label("Seed", exact=True).fill("7")
        page.get_by_label("Seed", exact=True).press("Enter")
        self.wait(lambda: self.told("sea").get("seed") == 7, 15, "the seed was not kept")
        by_numbers.get_by_role("button", name="As sharp as it can be").click()
        self.wait(lambda: self.told("sea")["sets"][0]["choppiness"] > 1, 15, "the choppiness was not kept")

        page.get_by_role("button", name="Make its foam").click()
        self.wait(lambda: Run.objects.filter(status="done").exists(), 300, "nothing was made")
        self.assertEqual(Run.objects.latest("pk").stages, "sea,sea_foam")
        page.get_by_label("Viewport").click(position={"x": 300, "y": 300})
        page.get_by_role("button", name="Sea with foam").click()
        page.get_by_label("Coloured by").wait_for()
        self.as_the_cache_has_it(page)
        page.get_by_label("Coloured by").select_option("squeeze")
        page.get_by_label("Ramp from").wait_for()

        # bad input is said and nothing is lost
        field = page.get_by_label("Wind at 10 m", exact=True)
        page.locator(".rail .stage").nth(1).click()
        page.get_by_label("Set by").select_option("wind")
        field.fill("-4")
        field.press("Enter")
        page.get_by_text("0 to 100 m/s").first.wait_for()

    def as_the_cache_has_it(self, page: Page) -> None:
        """What the graphics card moves points by, near and far, against the cached patches: 1 mm rms."""
        rng = np.random.default_rng(3)
        points = np.concatenate([rng.uniform(-150, 150, (200, 2)), rng.uniform(-2500, 2500, (200, 2))])
        page.wait_for_function("window.viewport?.seaMovedAt([[0, 0]]).length === 1")
        found = np.array(page.evaluate("p => window.viewport.seaMovedAt(p)", points.tolist()))
        self.take.refresh_from_db()
        scene = parse_scene(self.take.scene)
        frame = Cache(Path(self.take.folder) / "draft").stage("sea").frame(scene.time.first)
        patches = [(float(size), frame[f"shift_{n}"]) for n, size in enumerate(frame["size"])]
        wanted = laid(scene.sea).over(points, patches)[:, [1, 0, 2]]
        rms = float(np.sqrt(((found - wanted) ** 2).mean()))
        self.assertGreater(float(wanted[:, 1].std()), 0.05)
        self.assertLess(rms, 1e-3)
