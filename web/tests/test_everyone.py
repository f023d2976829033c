"""For everyone: a whole job by keys alone, and every page held against the accessibility rules."""

import re
import tempfile
from pathlib import Path

from nomogon_web.settings import ROOT
from OCP.STEPControl import STEPControl_Reader
from playwright.sync_api import expect

from examples import parts, pictures
from examples.render import Camera
from nomogon_core.job.document import sketch_of
from nomogon_core.job.library import picture_facts
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import kernel
from store import making
from store.actions import perform
from store.documents import document_of
from web.tests.browser import Board, BrowserCase
from web.tests.helpers import extrusion, sketched_job

MOST_TABS = 160
STEP_PX, LITTLE_PX = 40, 4


# axe-core's rules for WCAG 2.2 AA, in each page and in some states of it.
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
PAGES = ("/", "/?away=1", "/new", "/password", "/guide", "/guide/solid")
OF_A_JOB = ("reference", "sketch", "solid", "inspect", "release", "history", "people", "history/differences?from=0")


class Rules(BrowserCase):
    maxDiff = None

    def test_no_page_breaks_a_rule(self):
        job = sketched_job(self.users[0], parts.latch_plate())
        data = pictures.latch_plate().jpeg
        making.add_picture(job, self.users[0], data, picture_facts(data, "latch.jpg"))
        region = find_regions(sketch_of(document_of(job)))[0].name
        perform(job.pk, self.users[0], None, "solid.add", extrusion(region, "5 mm"))
        found = self.drive(self.every_page, job)
        self.assertEqual(found, [])

    def every_page(self, page, job):
        self.axe = (ROOT / "node_modules" / "axe-core" / "axe.min.js").read_text()
        page.goto(self.live_server_url + "/sign-in")
        found = self.broken(page, "/sign-in")
        self.sign_in(page)
        for address in (*PAGES, *(f"/jobs/{job.pk}/{rest}" for rest in OF_A_JOB)):
            page.goto(self.live_server_url + address)
            page.wait_for_load_state("networkidle")
            found += self.broken(page, address)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/reference")
        page.get_by_role("tab", name="Clean up").click()
        for name in ("Clean up", "Trace", "Place"):
            page.get_by_role("tab", name=name).click()
            page.keyboard.press("1")
            found += self.broken(page, f"reference, {name}")
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/solid")
        expect(page.locator("#tray")).not_to_have_attribute("inert", "")
        page.keyboard.press("3")
        expect(page.locator(".writing")).to_be_visible(timeout=30_000)
        return found + self.broken(page, "solid, a sentence being written")

    def broken(self, page, where):
        page.evaluate(self.axe)
        told = page.evaluate("(tags) => axe.run(document, { runOnly: { type: 'tag', values: tags } })", RULES)
        return [f"{where}: {one['id']}: {one['nodes'][0]['html'][:120]}" for one in told["violations"]]


class Keyboard(BrowserCase):
    def test_a_whole_job(self):
        shot = pictures.shoot(
            parts.hinge_leaf(), 1500, 1100, Camera(18.1, (187.3, 902.9)), noise=0.01, light=0.3, seed=2311
        )
        with tempfile.TemporaryDirectory() as folder:
            picture = Path(folder) / "leaf.jpg"
            picture.write_bytes(shot.jpeg)
            step = self.drive(self.by_keys, shot, picture)
        reader = STEPControl_Reader()
        reader.ReadFile(str(step))
        reader.TransferRoots()
        width, depth, height = kernel.facts_of(reader.OneShape()).size
        self.assertAlmostEqual(width, 62, delta=0.15)
        self.assertAlmostEqual(height, 4, delta=1e-6)

    def by_keys(self, page, shot, picture):
        self.keys = page.keyboard
        page.goto(self.live_server_url + "/sign-in")
        self.fill(page, page.get_by_label("Name"), "ro")
        self.fill(page, page.get_by_label("Password"), "hive-latch")
        self.keys.press("Enter")
        self.press(page, page.get_by_role("link", name="New job from a picture").first)
        # What the system's own dialog for files would do.
        page.locator("input[name=picture]").set_input_files(str(picture))
        self.press(page, page.get_by_role("button", name="Make job"))
        self.reference(page, shot)
        self.sketch(page)
        self.solid(page)
        self.press(page, page.locator("[data-stage-link=release]"))
        self.reach(page, page.locator("[data-file=step]"))
        with page.expect_download() as waiting:
            self.keys.press("Enter")
        place = Path(self.downloads.name) / waiting.value.suggested_filename
        waiting.value.save_as(place)
        return place

    def reference(self, page, shot):
        expect(page.locator("#note")).to_contain_text("rulers show pixels", timeout=30_000)
        board = Board(page)
        (x0, y0), (x1, y1) = shot.camera.to_px([(0, 20), (62, 20)])
        self.keys.press("1")
        self.point(page, board.pixel((x0, -y0)))
        expect(page.locator(".pick")).to_have_count(2)
        self.point(page, board.pixel((x1, -y1)))
        expect(page.locator("#ask input").first).to_be_focused()
        self.keys.type("62 mm")
        self.keys.press("Enter")
        expect(page.locator("#note")).to_contain_text("18.1")
        self.press(page, page.get_by_role("button", name="Find outlines").first)
        expect(page.locator("#found")).to_contain_text("kept")
        self.press(page, page.get_by_role("button", name="Trace these"))
        expect(page.locator("#outlines")).to_be_hidden(timeout=30_000)

    def sketch(self, page):
        self.press(page, page.locator("[data-stage-link=sketch]"))
        board = Board(page)
        free = page.locator("#note").inner_text()
        circle = page.evaluate(
            "async () => (await (await fetch(location.pathname + '/board')).json()).shapes.curves"
            ".find((curve) => curve.kind === 'circle').d"
        )
        x, y = map(float, re.match(r"M(\S+) (\S+?)A", circle).groups())
        while page.get_by_role("tab", name="Dimension").get_attribute("aria-selected") != "true":
            self.keys.press("]")
        self.keys.press("5")
        self.point(page, board.pixel((x, y)))
        expect(page.locator("#ask input")).to_be_focused()
        self.keys.press("Enter")
        expect(page.locator("#note")).not_to_have_text(free)
        self.keys.press("Escape")

    def solid(self, page):
        self.press(page, page.locator("[data-stage-link=solid]"))
        expect(page.locator("#tray")).not_to_have_attribute("inert", "")
        self.keys.press("1")
        expect(page.locator(".writing .picked")).to_contain_text("region")
        self.fill(page, page.locator(".writing [data-blank=length]"), "4 mm")
        self.keys.press("Enter")
        expect(self.ledger_value(page, "Solid")).to_contain_text("closed, valid", timeout=40_000)

    def point(self, page, place):
        """Move the mark to a place on the screen and click there."""
        box = page.locator("svg.drawing").bounding_box()
        at = [box["x"] + box["width"] / 2, box["y"] + box["height"] / 2]
        if page.locator(".keypoint").is_visible():
            mark = page.locator(".keypoint").bounding_box()
            at = [mark["x"], mark["y"]]
        for axis, (less, more) in enumerate((("ArrowLeft", "ArrowRight"), ("ArrowUp", "ArrowDown"))):
            for step, shift in ((STEP_PX, ""), (LITTLE_PX, "Shift+")):
                count = round((place[axis] - at[axis]) / step)
                for _ in range(abs(count)):
                    self.keys.press(f"Control+{shift}{more if count > 0 else less}")
                at[axis] += count * step
        self.keys.press("Enter")

    def reach(self, page, wanted):
        """Tab until something has the focus."""
        for _ in range(MOST_TABS):
            if wanted.evaluate("(one) => one === document.activeElement"):
                return
            self.keys.press("Tab")
        self.fail(f"{wanted} cannot be reached by Tab")

    def press(self, page, wanted):
        self.reach(page, wanted)
        self.keys.press("Enter")

    def fill(self, page, field, text):
        self.reach(page, field)
        self.keys.press("Control+a")
        self.keys.type(text)
