"""The hand of somebody who sets a shot up: presses, drags, keys, and what each action takes of them."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
from playwright.sync_api import Page

from basin.cache import Cache
from studio.productions.models import Production, Take
from tests.browser.case import PageCase

VOXEL = 0.03  # m, of an empty shot's draft
COUNTING = (
    "window.hand = { presses: 0, keys: 0 };"
    "addEventListener('pointerdown', () => hand.presses++, true);"
    "addEventListener('keydown', () => hand.keys++, true);"
)


class HandCase(PageCase):
    """From an empty page, with pointer and keyboard; what each action took is written down."""

    def setUp(self) -> None:
        super().setUp()
        Production.objects.all().delete()
        self.actions: list[dict[str, Any]] = []

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

    def begin(self, page: Page, start: str = "", frames: int = 24) -> None:
        """Sign in, begin a production and a shot, come to its take."""
        page.add_init_script(COUNTING)  # before the page's own handlers
        self.sign_in(page)
        page.get_by_text("Nothing here yet").wait_for()
        page.get_by_role("button", name="Begin a production").first.click()
        page.get_by_label("Name", exact=True).fill("Kiln yard")
        page.keyboard.press("Enter")
        page.get_by_role("button", name="Begin a shot").click()
        page.get_by_role("radio", name=start or "Nothing yet").click()
        page.get_by_label("Last frame").fill(str(frames))
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

    @contextmanager
    def action(self, page: Page, what: str) -> Iterator[None]:
        """Count the presses and keys of an action, and its seconds until the page has done it."""
        before, begun = page.evaluate("({ ...hand })"), time.monotonic()
        yield
        after = page.evaluate("({ ...hand })")
        took = {name: after[name] - before[name] for name in after}
        self.actions.append({"action": what, **took, "seconds": time.monotonic() - begun})

    def tearDown(self) -> None:
        if kept := os.environ.get("ZINC_ACTIONS"):
            with Path(kept).open("a", encoding="utf-8") as file:
                for one in self.actions:
                    file.write(json.dumps({"flow": self.shortDescription() or self.id(), **one}) + "\n")
        super().tearDown()

    def move(self, page: Page, name: str, axis: int, metres: str) -> None:
        """Drag what is picked by the arrow of an axis, by a number that is typed."""
        page.get_by_text("Keeping").wait_for(state="hidden")
        page.wait_for_function("viewport.settled")
        index = next(n for n, e in enumerate(self.kept()) if e["name"] == name)
        place = page.evaluate("i => viewport.placeOf(i).elements.slice(12, 15)", index)
        reach = page.evaluate("viewport.arm()")
        grip = list(place)
        grip[axis] += reach
        u, v = self.at(page, grip)
        page.mouse.move(u, v, steps=4)
        page.mouse.down()
        page.mouse.move(u + 6, v - 8, steps=4)
        page.keyboard.type(metres)
        page.mouse.up()

    def pick(self, page: Page, name: str) -> None:
        """Pick an element in the list."""
        page.get_by_role("button", name=name, exact=True).click()

    def give(self, page: Page, label: str, value: str) -> None:
        """Type a number into a field."""
        field = page.get_by_label(label, exact=True)
        field.fill("")
        field.press_sequentially(value)
        field.press("Enter")

    def there(self, page: Page, count: int) -> None:
        """Wait until so many elements are kept and drawn."""
        self.wait(lambda: len(self.kept()) == count, 10, f"there are no {count} elements")
        page.wait_for_function(f"viewport.placeOf({count - 1}) !== null")
