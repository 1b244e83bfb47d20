"""Someone who puts foam on a splash: where it is born by two handles, how much by a number, what is seen by ticks."""

from __future__ import annotations

from typing import Any

from playwright.sync_api import Page, expect

from basin.stages.samples import block_into_pool
from studio.runs.models import Run
from tests.browser.case import PageCase


class Whitewater(PageCase):
    """Layers, ranges, kinds."""

    def test_a_splash_gets_its_foam(self) -> None:
        scene = {**block_into_pool(), "time": {"last": 12}, "quality": {"draft": 1, "proof": 1}}
        self.take.scene = {**self.take.scene, **scene}
        self.take.save()
        self.at_the_page(self.foam)

    def layers(self) -> list[dict[str, Any]]:
        self.take.refresh_from_db()
        return list(self.take.scene.get("whitewater", {}).get("layers", []))

    def told(self, part: str) -> dict[str, Any]:
        self.take.refresh_from_db()
        return dict(self.take.scene.get(part, {}))

    def foam(self, page: Page) -> None:
        self.sign_in(page)
        page.locator("a.take").click()
        rail = page.locator(".rail")
        rail.get_by_role("button", name="Whitewater").click()
        page.get_by_role("button", name="Put in a layer").click()
        self.wait(lambda: len(self.layers()) == 1, 15, "the layer was not kept")
        count = page.get_by_label("Particles", exact=True).last
        count.fill("4000")
        count.press("Enter")
        self.wait(lambda: self.layers()[0].get("particles") == 4000, 15, "the amount was not kept")
        page.get_by_role("button", name="Run draft").click()
        self.wait(lambda: Run.objects.filter(status="done").exists(), 300, "nothing was made")
        page.get_by_role("button", name="Make foam").click()
        self.wait(lambda: Run.objects.filter(status="done").count() == 2, 300, "there is no foam")
        self.assertEqual(Run.objects.latest("pk").stages, "air,whitewater")

        # where it is born, by hand
        page.get_by_label("Viewport").click()
        for _ in range(9):
            page.keyboard.press(".")
        page.get_by_role("button", name="Air", exact=True).first.click()
        handle = page.get_by_label("Births begin at").first
        handle.wait_for()
        box = handle.bounding_box()
        assert box
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(box["x"] + 60, box["y"] + 4, steps=5)
        page.mouse.up()
        self.wait(lambda: bool(self.layers()[0].get("trapped_from")), 15, "the range was not kept")
        low = self.layers()[0]["trapped_from"]
        self.assertGreater(self.layers()[0]["trapped_to"], low)
        handle.press("ArrowRight")
        self.wait(lambda: self.layers()[0]["trapped_from"] > low, 15, "the arrow did nothing")
        with page.expect_response(lambda reply: "/births/" in reply.url) as told:
            page.get_by_label("Births of this frame").check()
        self.assertEqual(told.value.status, 200)
        with page.expect_response(lambda reply: "/births/" in reply.url) as told:
            page.get_by_label("How long they have lived").select_option("4")
        self.assertEqual(told.value.status, 200)
        page.get_by_label("Births of this frame").uncheck()
        page.get_by_role("button", name="by the shot").click()
        self.wait(lambda: self.layers()[0].get("trapped_from") is None, 15, "the range was not given back")

        # what is seen
        page.get_by_role("button", name="Whitewater", exact=True).first.click()
        alone = page.get_by_role("button", name="Only foam")
        alone.wait_for()
        told = [int(t.replace(",", "")) for t in page.locator(".kind .n").all_inner_texts()]
        self.assertAlmostEqual(sum(told) / 4000, 1.0, delta=0.3)  # near its fullest frame
        alone.click()
        expect(page.get_by_role("checkbox", name="Spray")).not_to_be_checked()
        expect(page.get_by_role("checkbox", name="Foam")).to_be_checked()
        alone.click()
        expect(page.get_by_role("checkbox", name="Spray")).to_be_checked()
        page.get_by_label("True size").check()
        page.get_by_label("Adding up").check()
        page.wait_for_function("window.viewport.drawn() > 0")

        # mist of what flies
        rail.get_by_role("button", name="Mist").click()
        page.get_by_role("checkbox", name="Make mist").check()
        self.wait(lambda: self.told("mist").get("made", False), 15, "mist was not asked for")
        page.get_by_role("button", name="Make mist").click()
        self.wait(lambda: Run.objects.filter(status="done").count() == 3, 300, "there is no mist")
        page.get_by_role("button", name="Mist", exact=True).first.click()
        page.wait_for_function("window.viewport.drawn() > 0")

        # what leaves is counted before
        rail.get_by_role("button", name="Delivery").click()
        page.get_by_role("button", name="Put in a delivery").click()
        page.get_by_role("checkbox", name="Whitewater", exact=True).check()
        whole = page.get_by_text("points of whitewater at its fullest")
        whole.wait_for()
        before = whole.inner_text()
        page.get_by_label("Kinds").select_option("foam")
        self.wait(lambda: whole.inner_text() != before, 15, "the count did not follow")
        self.assertEqual(page.get_by_label("Layer", exact=True).locator("option").count(), 2)

        # what cannot be is said, and nothing is lost
        rail.get_by_role("button", name="Whitewater").click()
        page.get_by_text("Where it is born", exact=True).click()
        page.get_by_label("Trapped air from").fill("9")
        page.get_by_label("Trapped air from").press("Enter")
        page.get_by_label("Trapped air to").fill("2")
        page.get_by_label("Trapped air to").press("Enter")
        page.get_by_text("upside down").first.wait_for()
        self.assertEqual(self.layers()[0]["particles"], 4000)
