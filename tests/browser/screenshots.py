"""Takes the pictures in ``docs/screenshots`` from a running Plonket with its demo project.

``.venv/bin/python -m tests.browser.screenshots [ADDRESS] [NAME ...]``
"""

from __future__ import annotations

import re
import sys
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright

OUT = Path(__file__).resolve().parents[2] / "docs" / "screenshots"
CHROMIUM = ["--no-sandbox", "--disable-quic", "--no-first-run", "--disable-background-networking",
            "--disable-component-update", "--disable-sync"]  # fmt: skip
SIZE = {"width": 1280, "height": 800}
PATIENCE_MS = 120_000


class Tour:
    """One page, and what a visitor does on it."""

    def __init__(self, page: Page, address: str) -> None:
        self.page, self.address = page, address

    def open(self, shot: str, frame: int | None = None) -> None:
        """A shot of the demo project, at a frame."""
        self.page.goto(self.address)
        self.page.get_by_role("button", name=f"Open {shot}").click()
        expect(self.page.locator("canvas[data-frame]")).to_be_visible()
        if frame is not None:
            self.go_to(frame)
        self.settle()

    def go_to(self, frame: int) -> None:
        last = self.page.get_by_role("slider", name="Last frame of the range").get_attribute("aria-valuemax")
        box = self.page.get_by_test_id("lanes").bounding_box()
        assert box
        self.page.mouse.click(box["x"] + 10 + (frame + 0.5) / (int(last or 0) + 1) * (box["width"] - 20), box["y"] + 45)
        expect(self.page.locator(f'canvas[data-frame="{frame}"]')).to_be_visible()

    def card(self, name: str | re.Pattern[str]) -> None:
        """Choose a card of the run sheet."""
        self.page.get_by_role("navigation", name="Run sheet").get_by_role("button", name=name).first.click()

    def settle(self) -> None:
        """Until the picture is there in its full size, and the film strip too."""
        self.page.wait_for_function("() => document.querySelector('canvas[data-frame]')?.dataset.url !== ''", timeout=PATIENCE_MS)
        self.page.wait_for_load_state("networkidle")
        self.page.wait_for_timeout(400)

    def pictures(self) -> None:
        """Until every picture of a page is there: they are made as they are asked for, a few at a time."""
        there = ("() => document.images.length > 0 && !document.querySelector('[data-waiting]')"
                 " && [...document.images].every((i) => i.complete && i.naturalWidth > 0)")  # fmt: skip
        self.page.wait_for_function(there, timeout=PATIENCE_MS)
        self.page.wait_for_timeout(400)


def workspace(t: Tour) -> None:
    t.open("Chart wall, take 3", 75)


def advice(t: Tour) -> None:
    t.open("Harbour, untouched", 30)
    t.page.keyboard.press("q")
    expect(t.page.get_by_role("button", name="Use this").first).to_be_visible(timeout=PATIENCE_MS)
    t.settle()


def depth(t: Tour) -> None:
    t.open("A whale behind the lighthouse", 40)
    t.card(re.compile("^Depth"))
    t.settle()
    t.page.get_by_test_id("depth").wait_for(timeout=PATIENCE_MS)


def frame(t: Tour) -> None:
    t.open("A boat behind the lamp", 84)
    t.card("Upright")
    t.settle()


def match(t: Tour) -> None:
    """A match beside the picture before it, enlarged."""
    t.open("The keeper on the quay", 60)
    t.card(re.compile("^Keeper"))
    t.settle()
    t.page.get_by_role("button", name=re.compile("^Match")).first.click()
    expect(t.page.get_by_role("button", name="Before", exact=True)).to_be_visible()
    t.page.get_by_role("button", name="Compare …").click()
    t.page.get_by_role("combobox", name="Compared with").click()
    t.page.get_by_role("option", name=re.compile("^Before: Match")).first.click()
    t.page.get_by_role("radio", name="Beside").click()
    t.page.mouse.click(640, 24)
    t.page.mouse.move(448, 312)
    t.page.mouse.wheel(0, -900)
    t.settle()


def scopes(t: Tour) -> None:
    t.open("The keeper on the quay", 60)
    t.card(re.compile("^Keeper"))
    t.page.keyboard.press("g")
    t.settle()
    region = t.page.get_by_role("region", name="Scopes")
    region.get_by_role("radio", name="Parade").click()
    region.get_by_role("radio", name="Element and plate").click()
    t.settle()


def shelf(t: Tour) -> None:
    t.page.goto(f"{t.address}/shelf")
    expect(t.page.get_by_role("heading", name="Elements")).to_be_visible()
    t.pictures()


def projects(t: Tour) -> None:
    t.page.goto(t.address)
    expect(t.page.get_by_role("button", name="Open Chart wall, take 3")).to_be_visible()
    t.pictures()


def dim_room(t: Tour) -> None:
    t.open("The keeper by night", 60)
    t.card(re.compile("^Keeper(?! on)"))
    t.page.get_by_role("button", name="Dim room").click()
    t.settle()
    t.page.get_by_test_id("matte-quality").wait_for(timeout=PATIENCE_MS)


def deliver(t: Tour) -> None:
    t.open("A boat behind the lamp", 75)
    t.page.get_by_role("button", name="Deliver", exact=True).click()
    t.page.get_by_role("dialog").wait_for()
    t.page.wait_for_timeout(400)


def deliveries(t: Tour) -> None:
    t.page.goto(f"{t.address}/deliveries")
    expect(t.page.get_by_role("heading", name="Deliveries")).to_be_visible()
    t.page.wait_for_load_state("networkidle")
    if not t.page.get_by_role("link", name="Download").count():
        t.open("Chart wall, take 3")
        t.page.get_by_role("button", name="Deliver", exact=True).click()
        t.page.get_by_role("dialog").get_by_role("button", name="Deliver", exact=True).click()
        expect(t.page.get_by_role("link", name="Download the video")).to_be_visible(timeout=300_000)
        t.page.goto(f"{t.address}/deliveries")
    expect(t.page.get_by_role("link", name="Download").first).to_be_visible()
    played = "() => [...document.querySelectorAll('video')].every((v) => v.readyState >= 2)"
    t.page.wait_for_function(played, timeout=PATIENCE_MS)
    t.page.wait_for_timeout(400)


def steady(t: Tour) -> None:
    t.open("The chart held still", 40)
    t.card("Steady")
    t.settle()


def room(t: Tour) -> None:
    t.open("A whale behind the lighthouse", 40)
    t.card("Camera")
    views = t.page.get_by_role("button", name="Top and side")
    if views.is_visible():
        views.click()
    t.settle()
    t.page.wait_for_timeout(4000)


def desk(t: Tour) -> None:
    t.open("A boat for the tin", 75)
    t.card("No tin")
    t.page.get_by_role("button", name="Paint frame").first.click()
    t.page.wait_for_timeout(3000)
    t.page.get_by_role("button", name="Heal").click()
    t.page.mouse.move(645, 620)
    for _ in range(3):
        t.page.mouse.wheel(0, -180)
        t.page.wait_for_timeout(200)
    t.page.wait_for_timeout(1500)


def form(t: Tour) -> None:
    t.open("The crate is a cabin", 75)
    t.card("Crate")
    t.settle()


def front(t: Tour) -> None:
    t.open("The keeper on watch", 60)
    t.card("Keyed footage")
    t.page.keyboard.press("t")
    t.settle()
    t.page.get_by_test_id("matte-quality").wait_for(timeout=PATIENCE_MS)


def matte(t: Tour) -> None:
    t.open("A boat behind the lamp", 85)
    t.card(re.compile("^Lamp"))
    t.settle()
    t.page.get_by_test_id("matte").wait_for(timeout=PATIENCE_MS)


def curves(t: Tour) -> None:
    t.open("The lamp, slowly", 70)
    t.page.get_by_role("navigation", name="Run sheet").locator("button[aria-pressed]").first.click()
    t.page.keyboard.press("x")
    t.settle()


def breaking(t: Tour) -> None:
    t.open("The wall gives way", 74)
    t.card("Boards")
    t.settle()


VIEWS: list[Callable[[Tour], None]] = [
    workspace, advice, depth, frame, match, scopes, shelf, projects, dim_room, deliver, deliveries,
    steady, room, desk, form, front, curves, matte, breaking,
]  # fmt: skip


def main(arguments: list[str]) -> None:
    address = arguments.pop(0) if arguments and arguments[0].startswith("http") else "http://127.0.0.1:8790"
    expect.set_options(timeout=PATIENCE_MS)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        for view in VIEWS:
            name = view.__name__.replace("_", "-")
            if arguments and name not in arguments:
                continue
            # Each in a window of its own, so that nothing of the one before is open, chosen or dim.
            context = browser.new_context(viewport=SIZE)  # type: ignore[arg-type]
            page = context.new_page()
            page.set_default_timeout(PATIENCE_MS)
            try:
                view(Tour(page, address))
                page.screenshot(path=str(OUT / f"{name}.png"))
                print(name)
            except Exception as error:
                print(f"{name}: {str(error).splitlines()[0]}")
            context.close()
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1:])
