"""A real server, a real worker and a real browser for the tests that act as a creator does."""

from __future__ import annotations

import atexit
import base64
import json
import os
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, ClassVar

import cv2
import numpy as np
import uvicorn
from django.conf import settings
from django.db import connection
from django.test import TransactionTestCase
from playwright.sync_api import Browser, Download, FloatRect, Locator, Page, expect, sync_playwright
from playwright.sync_api import TimeoutError as PlaywrightTimeout

from plonket_server.asgi import application
from plonket_server.celery import app
from shots.models import Shot

CHROMIUM = [
    "--no-sandbox", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip
SIZE = {"width": 1280, "height": 800}
TWO_PAINTS = "() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))"


class Stage:
    """The server, the worker beside it and the browser, started once for all tests of a run: each takes seconds."""

    _one: ClassVar[Stage | None] = None

    def __init__(self) -> None:
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            port = s.getsockname()[1]
        self.address = f"http://127.0.0.1:{port}"
        self.server = uvicorn.Server(uvicorn.Config(application, host="127.0.0.1", port=port, log_level="error"))
        self.thread = threading.Thread(target=self.server.run, daemon=True)
        self.thread.start()
        env = dict(os.environ, PLONKET_DB_NAME=str(connection.settings_dict["NAME"]), PLONKET_STORE=str(settings.STORE))
        env.pop("PLONKET_TESTING")
        self.worker = subprocess.Popen(
            [sys.executable, "-m", "celery", "-A", "plonket_server", "worker", "--concurrency", "2", "--loglevel",
             "error", "--without-gossip", "--without-mingle"],
            cwd=settings.ROOT / "server", env=env,
        )  # fmt: skip
        atexit.register(self.close)
        until(lambda: self.server.started and bool(app.control.ping(timeout=0.5)), 60, "the worker to answer")
        self.playwright = sync_playwright().start()
        self.browser = self.playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)

    @classmethod
    def set(cls) -> Stage:
        """The one of this run."""
        if cls._one is None:
            cls._one = cls()
        return cls._one

    def close(self) -> None:
        self.browser.close()
        self.playwright.stop()
        self.worker.terminate()
        self.worker.wait(20)
        self.server.should_exit = True
        self.thread.join(10)


class BrowserTest(TransactionTestCase):
    """Serves the application on a free port with one worker beside it."""

    browser: ClassVar[Browser]
    address: ClassVar[str]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        app.conf.task_always_eager = False
        stage = Stage.set()
        cls.address, cls.browser = stage.address, stage.browser

    @classmethod
    def tearDownClass(cls) -> None:
        app.conf.task_always_eager = True
        super().tearDownClass()

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.context = self.browser.new_context(viewport=SIZE, accept_downloads=True)  # type: ignore[arg-type]
        self.addCleanup(self.context.close)
        self.page = self.context.new_page()
        self.page.set_default_timeout(150_000)
        expect.set_options(timeout=60_000)
        self.complaints: list[str] = []
        self.page.on("pageerror", lambda e: self.complaints.append(str(e)))

    def tearDown(self) -> None:
        self.assertEqual(self.complaints, [])

    # What is stored, and what the page shows of it.

    def stored(self) -> Shot:
        """The shot that the page has open, as it is stored."""
        found = self.page.url.partition("/shots/")[2].partition("?")[0]
        return Shot.objects.select_related("current").get(id=found)

    def steps(self) -> int:
        """The number of the stored shot's current step."""
        current = self.stored().current
        assert current
        return current.number

    def document(self) -> dict[str, Any]:
        current = self.stored().current
        assert current
        return dict(current.document)

    def caught_up(self) -> None:
        """Wait until the page shows the step that is stored: only then do its handles lie where they stay."""
        said = self.page.get_by_text("Saved · step")
        until(lambda: said.text_content() == f"Saved · step {self.steps()}", 20, "the page to show what is stored")

    def box(self, thing: Locator) -> FloatRect:
        """Where a thing lies on the page, once the page has caught up and the thing lies still."""
        self.caught_up()
        found: list[FloatRect | None] = []

        def still() -> bool:
            found.append(thing.bounding_box())
            self.page.evaluate(TWO_PAINTS)
            return found[-1] is not None and found[-1] == thing.bounding_box()

        until(still, 20, "a thing to lie still")
        assert found[-1]
        return found[-1]

    def centre(self, thing: Locator) -> tuple[float, float]:
        """The middle of a thing on the page, for the mouse."""
        box = self.box(thing)
        return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2

    def reached(self, thing: Locator) -> tuple[float, float]:
        """The middle of a thing, once nothing lies over it there: what the mouse presses is the thing itself."""
        at = (0.0, 0.0)

        def free() -> bool:
            nonlocal at
            at = self.centre(thing)
            inside = "(one, [x, y]) => { const top = document.elementFromPoint(x, y); return one === top || one.contains(top) }"
            return bool(thing.evaluate(inside, list(at)))

        until(free, 20, "a thing to lie free")
        return at

    # What a creator does.

    def new_shot(self) -> None:
        """From the first page to an empty workspace."""
        page = self.page
        page.goto(self.address)
        page.get_by_role("button", name="New project").first.click()
        page.get_by_label("Name of the project").fill("Small Lights")
        page.get_by_role("button", name="Make it").click()
        page.get_by_role("button", name="New shot").click()
        expect(page.get_by_text("Bring in a clip").first).to_be_visible()

    def bring_in(self, clip: Path) -> None:
        self.page.get_by_label("Clip to bring in").set_input_files(clip)
        expect(self.page.get_by_role("img", name="Frame 0")).to_be_visible(timeout=120_000)
        self.shown(0)

    def put_in(self, *layers: dict[str, Any]) -> None:
        """Layers put into the open shot, as another window would."""
        for layer in layers:
            patch = [{"op": "add", "path": "/stack/0", "value": layer}]
            done = self.page.evaluate(
                """async ([path, body]) => (await fetch(path, {method: "POST", body, headers: {"Content-Type": "application/json",
                "X-CSRFToken": document.cookie.match(/plonket_csrf=([^;]+)/)[1]}})).status""",
                [f"/api/shots/{self.stored().pk}/edits", json.dumps({"label": "Put in", "patch": patch})],
            )
            self.assertEqual(done, 200)
        self.caught_up()

    def shown(self, frame: int) -> None:
        """Wait until the canvas really shows a frame; the first look at a model may be long in the making."""
        expect(self.page.locator(f'canvas[data-frame="{frame}"]')).to_be_visible(timeout=180_000)

    def go_to(self, frame: int) -> None:
        """Scrub in the time strip; pressed again where the strip grew a lane meanwhile."""
        lanes = self.page.get_by_test_id("lanes")
        frames = int(self.page.get_by_role("slider", name="Last frame of the range").get_attribute("aria-valuemax") or 0) + 1

        def there() -> bool:
            box = self.box(lanes)
            self.page.mouse.click(box["x"] + 10 + (frame + 0.5) / frames * (box["width"] - 20), box["y"] + 45)
            try:
                self.page.get_by_role("img", name=f"Frame {frame}", exact=True).wait_for(timeout=3_000)
            except PlaywrightTimeout:
                return False
            return True

        until(there, 20, f"the playhead at frame {frame}")
        self.shown(frame)

    def screen(self, x: float, y: float, size: tuple[int, int]) -> tuple[float, float]:
        """Where a picture pixel lies on the page while the picture is fitted."""
        well = self.box(self.page.get_by_test_id("well"))
        zoom = min((well["width"] - 36) / size[0], (well["height"] - 36) / size[1])
        left = well["x"] + (well["width"] - size[0] * zoom) / 2
        top = well["y"] + (well["height"] - size[1] * zoom) / 2
        return left + x * zoom, top + y * zoom

    def solve_camera(self) -> None:
        """Follow the camera of a clip that is there, and solve it."""
        self.page.get_by_role("button", name="Follow", exact=True).click()
        self.page.get_by_role("menuitem", name="The camera").click()
        self.page.get_by_role("button", name="Measure", exact=True).click()
        until(lambda: self.document()["motions"][0]["measurement"] is not None, 120, "the camera to be solved")
        expect(self.page.locator("[data-detail]").first).to_be_attached()

    def type_number(self, label: str, value: float) -> None:
        box = self.page.get_by_label(f"{label} value")
        box.click()
        box.fill(str(value))
        box.press("Enter")

    def choose(self, menu: str, option: str) -> None:
        """Take an option of a menu; opened again when what lies round it was just being drawn anew."""
        box = self.page.get_by_role("combobox", name=menu, exact=True)
        wanted = self.page.get_by_role("option", name=option)

        def opened() -> bool:
            box.click()
            try:
                wanted.wait_for(timeout=5_000)
            except PlaywrightTimeout:
                return False
            return True

        until(opened, 20, f"{option} in the menu {menu}")
        wanted.click()

    def deliver(self) -> Path:
        """Deliver the shot and save the file."""
        page = self.page
        page.get_by_role("button", name="Deliver", exact=True).click()
        dialog = page.get_by_role("dialog")
        # With the files that it lists the dialog grows: its buttons lie still only then.
        expect(dialog.get_by_role("list", name="Files that are made").get_by_role("listitem").first).to_be_visible()
        dialog.get_by_role("button", name="Deliver", exact=True).click()
        return self.download()

    def download(self) -> Path:
        """Save what is being delivered, once it is made."""
        page = self.page
        link = page.get_by_role("link", name="Download the video")
        expect(link).to_be_visible(timeout=360_000)
        with page.expect_download() as waiting:
            link.click()
        download: Download = waiting.value
        target = self.folder / "delivered.mp4"
        download.save_as(target)
        return target

    def canvas_pixels(self) -> Any:
        """What the viewer's canvas shows, as RGB (h, w, 3), once it is there in the size that is asked for."""
        self.page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url !== ''", timeout=180_000)
        data = self.page.evaluate("() => document.querySelector('canvas[data-frame]').toDataURL('image/png')")
        picture = cv2.imdecode(np.frombuffer(base64.b64decode(data.split(",")[1]), np.uint8), cv2.IMREAD_COLOR)
        assert picture is not None
        return picture[..., ::-1]


def until(ready: Callable[[], bool], seconds: float, what: str) -> None:
    """Wait for a condition, with a limit: the seconds are a calm machine's, a busy one gets three times as many."""
    end = time.monotonic() + 3 * seconds
    while not ready():
        if time.monotonic() > end:
            raise AssertionError(f"waited {seconds} s in vain for {what}")
        time.sleep(0.1)


__all__ = ["BrowserTest", "Page", "until"]
