"""A headless browser, a live server and a worker on the test database."""

import os
import re
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from django.conf import settings
from django.db import connection
from django.test import LiveServerTestCase
from playwright.sync_api import expect, sync_playwright

from launch.chromium import ARGUMENTS, CHROMIUM, SIZE
from web.tests.helpers import make_user

# How long a busy machine may take; whether something is quick is asked by the benchmarks.
PATIENCE_MS = 20_000
HARMLESS = ("GPU stall", "GL Driver")


class Board:
    """Clicks on the Board in its own coordinates: the plane with y up."""

    def __init__(self, page):
        self.page = page
        page.wait_for_selector("svg.drawing g[transform]", state="attached")
        page.wait_for_load_state("networkidle")

    def pixel(self, place):
        """Screen position of a place in the plane."""
        matrix = self.page.evaluate("() => document.querySelector('svg.drawing g').getAttribute('transform')")
        a, _, _, d, e, f = (float(part) for part in re.findall(r"-?[\d.]+(?:e-?\d+)?", matrix))
        box = self.page.locator("svg.drawing").bounding_box()
        return box["x"] + a * place[0] + e, box["y"] + d * place[1] + f

    def click(self, place, off=(0, 0)):
        x, y = self.pixel(place)
        self.page.mouse.click(x + off[0], y + off[1])

    def drag(self, start, end, steps=8):
        x, y = self.pixel(start)
        self.page.mouse.move(x, y)
        self.page.mouse.down()
        self.page.mouse.move(*self.pixel(end), steps=steps)
        self.page.wait_for_timeout(120)
        self.page.mouse.up()


LATE = """([address, wait]) => {
  const prompt = window.fetch;
  window.fetch = async (...asked) => {
    const answer = await prompt(...asked);
    if (!String(asked[0]).endsWith(address)) return answer;
    await new Promise((then) => setTimeout(then, wait));
    setTimeout(() => document.body.setAttribute("data-answered", address), 100);
    return answer;
  };
}"""


class Late:
    """Answers to an address come late, as from a busy server."""

    def __init__(self, page, address, milliseconds=1200):
        self.page, self.address = page, address
        page.evaluate(LATE, [address, milliseconds])

    def wait(self):
        """Until an answer has come, and the page has seen it."""
        self.page.wait_for_selector(f"body[data-answered='{self.address}']")


class BrowserCase(LiveServerTestCase):
    """Each test method ``drive_…`` runs on the browser's own thread, since the driver leaves an event loop behind.

    ``refusals`` are the answers that a test provokes, 400 and the like; any other complaint of the browser fails it.
    ``touch`` is whether the screen can be touched.
    """

    refusals, touch = (), False

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.thread = ThreadPoolExecutor(1)
        cls.downloads = tempfile.TemporaryDirectory()
        cls.thread.submit(cls._open).result()
        environment = {**os.environ, "NOMOGON_DATABASE": connection.settings_dict["NAME"]}
        cls.worker = subprocess.Popen(
            [sys.executable, str(settings.ROOT / "web" / "manage.py"), "work"], env=environment
        )

    @classmethod
    def _open(cls):
        cls.driver = sync_playwright().start()
        expect.set_options(timeout=PATIENCE_MS)
        cls.browser = cls.driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)

    @classmethod
    def _close(cls):
        cls.browser.close()
        cls.driver.stop()

    @classmethod
    def tearDownClass(cls):
        cls.worker.terminate()
        cls.worker.wait(20)
        cls.thread.submit(cls._close).result()
        cls.thread.shutdown()
        cls.downloads.cleanup()
        super().tearDownClass()

    def setUp(self):
        self.users = [make_user("ro"), make_user("mt")]
        self.complaints = []

    def drive(self, function, *arguments):
        """Run a function of the page on the browser's thread, then look that the page had nothing to complain about."""

        def run():
            context = self.browser.new_context(viewport=SIZE, accept_downloads=True, has_touch=self.touch)
            page = context.new_page()
            page.set_default_timeout(PATIENCE_MS)
            page.on(
                "console",
                lambda message: self.complaints.append(message.text) if message.type in ("error", "warning") else None,
            )
            page.on("pageerror", lambda error: self.complaints.append(str(error)))
            try:
                return function(page, *arguments)
            except Exception:
                page.screenshot(path=str(Path(tempfile.gettempdir()) / f"{self.id()}.png"))
                raise
            finally:
                context.close()

        outcome = self.thread.submit(run).result()
        awaited = [*HARMLESS, *(f"status of {status}" for status in self.refusals)]
        self.assertEqual([text for text in self.complaints if not any(word in text for word in awaited)], [])
        for status in self.refusals:
            self.assertTrue(
                any(f"status of {status}" in text for text in self.complaints), f"no request was refused with {status}"
            )
        return outcome

    def sign_in(self, page, name="ro"):
        page.goto(self.live_server_url + "/sign-in")
        page.get_by_label("Name").fill(name)
        page.get_by_label("Password").fill("hive-latch")
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("heading", name="Register")).to_be_visible()

    def go(self, page, stage):
        page.locator(f"[data-stage-link={stage}]").click()
        expect(page.locator(f"[data-stage-link={stage}]")).to_have_attribute("aria-current", "page")

    def ledger_value(self, page, name):
        return page.locator(".row", has=page.locator(".name", has_text=name)).first

    def save(self, page, button):
        """Path of what a download button gives."""
        with page.expect_download(timeout=60_000) as waiting:
            button.click()
        place = Path(self.downloads.name) / waiting.value.suggested_filename
        waiting.value.save_as(place)
        return place
