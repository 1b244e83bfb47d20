"""``./zinc screenshots``: renews docs/screenshots from the running demo."""

from __future__ import annotations

import os
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

FOLDER = Path(__file__).resolve().parent / "screenshots"
FLAGS = ["--no-sandbox", "--disable-quic", "--no-first-run", "--disable-background-networking"]
FLAGS += ["--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader"]


def keep(page: Page, name: str, wait: int = 1500) -> None:
    """One picture, after what is loading has come."""
    page.wait_for_timeout(wait)
    page.screenshot(path=FOLDER / f"{name}.png")


def set_up(page: Page, address: str) -> None:
    """A shot begun with a starting scene, filled by hand, its stream, its rehearsal; then taken off again."""
    page.goto(address)
    page.get_by_role("button", name="Begin a shot").first.click()
    page.get_by_role("radio", name="Pour into a vessel").click()
    keep(page, "begin", 500)
    page.get_by_label("Name", exact=True).fill("TM050 Slip jug")
    page.get_by_role("button", name="Begin", exact=True).click()
    page.get_by_text("Voxel size").wait_for()
    page.wait_for_function("window.viewport?.placeOf(1)")
    page.get_by_role("button", name="Stream", exact=True).click()
    page.get_by_text("is full of").wait_for()
    keep(page, "stream", 800)
    page.keyboard.press("Escape")
    page.keyboard.press("f")
    box = page.get_by_label("Viewport").locator("canvas").bounding_box()
    assert box
    x, y = page.evaluate("viewport.pixels([-0.038, 0.195, -0.05])")
    page.mouse.move(box["x"] + x, box["y"] + y)
    page.mouse.down()
    page.get_by_text("m deep").wait_for()
    page.mouse.move(box["x"] + x, box["y"] + y + 26, steps=8)
    keep(page, "fill", 800)
    page.keyboard.press("Escape")
    page.mouse.up()
    page.keyboard.press("r")
    page.get_by_text("frames/s").wait_for()
    page.wait_for_function("+document.querySelector('[data-testid=frame]').innerText >= 22")
    page.get_by_role("button", name="Hold (h)").click()
    keep(page, "rehearsal", 200)
    page.keyboard.press("r")
    take_off(page, address, "TM050 Slip jug")


def curves(page: Page, address: str) -> None:
    """A shot with a wall that moves: its curves, and another view beside."""
    page.goto(address)
    page.get_by_role("button", name="Begin a shot").first.click()
    page.get_by_role("radio", name="Tank with a moving wall").click()
    page.get_by_label("Name", exact=True).fill("TM041 Lock wall")
    page.get_by_role("button", name="Begin", exact=True).click()
    page.get_by_text("Voxel size").wait_for()
    page.wait_for_function("window.viewport?.placeOf(1)")
    page.get_by_role("button", name="Pushing wall", exact=True).click()
    page.get_by_role("button", name="Curves").click()
    page.get_by_label("Pushing wall translation x at frame 19").click()
    page.keyboard.press("8")
    keep(page, "curves", 1500)
    take_off(page, address, "TM041 Lock wall")
    page.goto(f"{address}/manual/setting-up")
    keep(page, "manual", 800)


def take_off(page: Page, address: str, shot: str) -> None:
    """What was begun for a picture goes again."""
    page.goto(address)
    page.get_by_label(f"More of {shot}", exact=True).click()
    page.get_by_role("button", name="Take off the sheet").click()
    page.get_by_role("button", name="Take it off").click()


def first_light(page: Page, shot: int, frames: int) -> None:
    """Open the first take of the demo's shot of a number, and go so many frames on."""
    page.locator("a.take", has_text="first light").nth(shot).click()
    page.get_by_label("Viewport").wait_for()
    page.wait_for_timeout(3000)
    for _ in range(frames):
        page.keyboard.press(".")


def main() -> None:
    """Sign in and look at every main view."""
    address = os.environ["ZINC_URL"]
    FOLDER.mkdir(exist_ok=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800}, bypass_csp=True)  # to wait for functions
        page.set_default_timeout(600_000)
        page.goto(address)
        keep(page, "sign-in")
        page.get_by_label("Name").fill("demo")
        page.get_by_label("Password").fill("tide-mill")
        page.get_by_role("button", name="Sign in").click()
        page.get_by_text("TM020").first.wait_for()
        keep(page, "shots", 45000)
        first_light(page, 0, 54)
        page.keyboard.press("s")
        page.get_by_role("button", name="Glaze", exact=True).click()
        page.keyboard.press("Escape")
        for _ in range(55):
            page.keyboard.press(".")
        keep(page, "films", 6000)
        page.keyboard.press("s")
        page.goto(address)
        first_light(page, 1, 33)
        keep(page, "particles", 4000)
        page.locator(".rail").get_by_role("button", name="Whitewater").click()
        keep(page, "whitewater", 6000)
        page.keyboard.press("p")
        page.get_by_role("button", name="Race and steps", exact=True).click()
        page.get_by_role("button", name="Show the solver’s solid").click()
        page.get_by_text("at most").wait_for()
        keep(page, "solid", 2000)
        set_up(page, address)
        curves(page, address)
        page.goto(address + "/runs")
        keep(page, "runs")
        page.goto(address)
        first_light(page, 4, 73)
        page.keyboard.press("s")
        page.get_by_role("button", name="Slip", exact=True).click()
        page.get_by_label("Numbers behind the look").scroll_into_view_if_needed()
        keep(page, "pour", 20000)
        page.goto(address)
        first_light(page, 5, 59)
        page.locator(".rail .stage").nth(1).click()
        page.get_by_label("The sea by the numbers").scroll_into_view_if_needed()
        page.get_by_role("button", name="Sea with foam").click()
        keep(page, "sea", 6000)
        page.goto(address)
        first_light(page, 3, 17)
        page.keyboard.press("s")
        keep(page, "surface", 5000)
        page.keyboard.press("j")
        page.get_by_test_id("judge-facts").get_by_text("open edges").wait_for()
        page.get_by_text("As set.").wait_for()
        page.get_by_label("Surface voxel", exact=True).hover()
        keep(page, "judge", 1000)
        page.keyboard.press("s")
        page.locator(".rail").get_by_role("button", name="Delivery").click()
        page.get_by_role("button", name="Deliver draft").first.click()
        page.get_by_text("96 of 96 files current").wait_for()
        keep(page, "delivery", 2000)
        page.get_by_role("button", name="Daylight").click()
        page.get_by_role("button", name="Barrel", exact=True).click()
        keep(page, "daylight", 3000)
        browser.close()


if __name__ == "__main__":
    main()
