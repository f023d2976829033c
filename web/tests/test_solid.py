"""The Solid stage in a real browser: a second sketch on a face, an expression, a body's name and colour, a sentence by
the keyboard alone, an archive of version 1."""

import math
import re
import tempfile
from pathlib import Path

import cv2
import numpy as np
from playwright.sync_api import expect

from core.tests.test_commands import old_archive
from nomogon_core.job.document import build_of, sketch_of
from nomogon_core.job.quantities import environment
from nomogon_core.solid import graph
from store import making
from store.actions import perform
from store.documents import document_of
from store.models import Job
from web.tests.browser import Board, BrowserCase
from web.tests.helpers import extrusion

BUILT = re.compile("[0-9a-f]{64}")


class Solid(BrowserCase):
    def plate(self):
        """A job with a plate of 60 × 40 × 5."""
        job = making.new_job(self.users[0], "Feeder cap")
        perform(job.pk, self.users[0], None, "sketch.rectangle", {"first": [0, 0], "second": [60, 40]})
        region = "region " + " ".join(sorted(sketch_of(document_of(job)).curves))
        perform(job.pk, self.users[0], None, "solid.add", extrusion(region, "5 mm", body="Cap"))
        return job

    def open(self, page, job):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/solid")
        expect(page.locator("#board")).to_have_attribute("data-mesh", BUILT, timeout=60_000)

    def built(self, job):
        document = document_of(job)
        return graph.run(build_of(document, environment(document)))

    def test_a_second_sketch_on_a_face_follows_the_first(self):
        self.refusals = (400,)
        job = self.plate()
        self.drive(self.second_sketch, job)
        built = self.built(job)
        self.assertEqual([step.problem for step in built.steps if step.problem], [])
        (body,) = built.bodies.values()
        self.assertEqual((body.title, body.colour), ("Lid", "#aa3355"))
        # Plate of 8 mm with a round boss of radius 6 that is half as high.
        self.assertAlmostEqual(body.facts.volume_mm3, 60 * 40 * 8 + math.pi * 36 * 4, delta=2)

    def second_sketch(self, page, job):
        self.open(page, job)
        page.get_by_role("tab", name="Planes").click()
        page.keyboard.press("1")
        page.locator(".writing [data-blank=title]").fill("Boss")
        page.locator(".writing [data-blank=plane]").click()
        box = page.locator("canvas.solid").bounding_box()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2 - 8)
        expect(page.locator(".pointed")).to_have_text("top of 1")
        page.mouse.click(box["x"] + 6, box["y"] + 6)
        expect(page.locator("#prompt")).to_contain_text("No face there")
        page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2 - 8)
        expect(page.locator(".writing [data-blank=plane]")).to_have_text("top of 1")
        page.get_by_role("button", name="Build", exact=True).click()
        page.wait_for_url("**/sketch")
        expect(page.locator("#opened")).to_contain_text("Boss, on top of 1")
        board = Board(page)
        expect(page.locator(".behind")).to_have_count(1)
        page.get_by_role("tab", name="Edges").click()
        page.keyboard.press("4")
        page.locator(".hit.edge[data-edge*=top]").first.dispatch_event("click")
        expect(page.locator(".curve.construction")).to_have_count(1, timeout=30_000)
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Undo").click()
        expect(page.locator(".curve.construction")).to_have_count(0)
        page.get_by_role("tab", name="Draw").click()
        page.keyboard.press("3")
        board.click((30, 20))
        board.click((36, 20))
        expect(page.locator(".hit[data-curve]")).to_have_count(1)
        page.keyboard.press("Escape")
        page.get_by_role("tab", name="Dimension").click()
        page.keyboard.press("5")
        page.locator(".hit[data-curve]").first.dispatch_event("click")
        page.locator("#ask input").fill("12 mm")
        page.locator("#ask input").press("Enter")
        self.go(page, "solid")
        expect(page.locator("#board")).to_have_attribute("data-mesh", BUILT, timeout=60_000)
        self.extrude_boss(page)
        thickness = page.locator("[data-step] input[data-field=length]").first
        thickness.fill("8 mm")
        thickness.press("Tab")
        expect(self.ledger_value(page, "Size")).to_contain_text("12.00)", timeout=30_000)
        self.look(page)

    def test_planes_by_edges_and_corners(self):
        job = self.plate()
        self.drive(self.made_planes, job)
        document = document_of(job)
        kinds = [plane["kind"] for plane in document["planes"].values()]
        self.assertEqual(kinds, ["points", "turned"])
        turned = list(document["planes"].values())[1]["fields"]
        self.assertIn("|", turned["axis"]["edge"])
        self.assertEqual([step.problem for step in self.built(job).steps if step.problem], [])

    def made_planes(self, page, job):
        self.open(page, job)
        page.get_by_role("tab", name="Planes").click()
        page.keyboard.press("5")
        points = page.locator(".writing [data-blank=points]")
        points.focus()
        for count in (1, 2, 3):
            page.keyboard.press("ArrowDown")
            page.keyboard.press(" ")
            if count < 3:
                expect(points).to_have_text(f"{count} of 3 corners")
        expect(page.locator(".corner.sel")).to_have_count(3)
        page.keyboard.press("Enter")
        expect(page.locator("[data-step]", has_text="through three points")).to_have_count(1)
        page.get_by_role("tab", name="Planes").click()
        page.keyboard.press("3")
        page.locator(".writing [data-blank=axis]").focus()
        self.click_what_is_called(page, "edge between")
        expect(page.locator(".writing [data-blank=axis]")).to_have_value("picked")
        page.locator(".writing [data-blank=angle]").fill("20 deg")
        page.keyboard.press("Enter")
        expect(page.locator("[data-step]", has_text="turned about an edge")).to_have_count(1)

    def click_what_is_called(self, page, words):
        """Move up the middle of the view until what is pointed at is called so, and click there."""
        box = page.locator("canvas.solid").bounding_box()
        x, top = box["x"] + box["width"] / 2, box["y"]
        for y in range(int(top + box["height"] - 80), int(top) + 40, -3):
            page.mouse.move(x, y)
            label = page.locator(".pointed")
            if label.count() and label.is_visible() and words in label.text_content():
                return page.mouse.click(x, y)
        return self.fail(f"nothing in the view is called {words}")

    def extrude_boss(self, page):
        page.get_by_role("tab", name="Shape").click()
        page.keyboard.press("1")
        page.get_by_role("checkbox", name="of Boss").first.click()
        expect(page.locator(".writing [data-blank=regions]")).to_have_text("1 region of Boss")
        page.locator(".writing [data-blank=result]").select_option("add")
        length = page.locator(".writing [data-blank=length]")
        length.fill("extrude lenth / 2")
        expect(page.locator(".writing .why")).to_contain_text("no quantity called", timeout=10_000)
        length.fill("extrude length / 2")
        expect(page.locator("#note")).to_have_text("as it would be", timeout=20_000)
        length.press("Enter")
        expect(page.locator(".writing")).to_have_count(0)
        expect(self.ledger_value(page, "Size")).to_contain_text("7.50)", timeout=30_000)
        expect(self.ledger_value(page, "2 extrude length 2")).to_contain_text("derived")

    def look(self, page):
        """Another name and colour for the body; hidden and shown."""
        name = page.get_by_label("Name of Cap")
        name.fill("Lid")
        name.press("Enter")
        colour = page.get_by_label("Colour of Lid")
        colour.fill("#aa3355")
        page.wait_for_timeout(200)
        expect(page.get_by_label("Colour of Lid")).to_have_value("#aa3355")
        page.get_by_label("Hide or show Lid").click()
        expect(page.get_by_label("Hide or show Lid")).to_have_text("show")
        page.reload()
        expect(page.locator(".sheet .head")).to_contain_text("2 built")
        expect(page.get_by_label("Hide or show Lid")).to_have_text("show")
        page.get_by_label("Hide or show Lid").click()
        expect(page.get_by_label("Hide or show Lid")).to_have_text("hide")
        expect(page.get_by_label("Name of Lid")).to_have_value("Lid")

    def test_a_sentence_by_the_keyboard_alone(self):
        job = self.plate()
        self.drive(self.keyboard, job)
        built = self.built(job)
        self.assertEqual([step.problem for step in built.steps if step.problem], [])
        (body,) = built.bodies.values()
        self.assertLess(body.facts.volume_mm3, 60 * 40 * 5 - 100)

    def keyboard(self, page, job):
        self.open(page, job)
        page.keyboard.press("]")
        page.keyboard.press("1")
        edges = page.locator(".writing [data-blank=edges]")
        edges.focus()
        for _ in range(2):
            page.keyboard.press("ArrowDown")
        expect(page.locator("#prompt")).to_contain_text("Space takes it")
        page.keyboard.press(" ")
        expect(page.locator(".writing [data-blank=edges]")).to_have_text("1 edge")
        page.keyboard.press("Tab")
        for _ in range(4):
            page.keyboard.press("ArrowDown")
        for _ in range(3):
            page.keyboard.press("Tab")
        expect(page.locator(".writing [data-blank=radius]")).to_be_focused()
        page.keyboard.press("Control+a")
        page.keyboard.type("6 mm")
        expect(page.locator("#note")).to_have_text("as it would be", timeout=20_000)
        page.keyboard.press("Enter")
        expect(page.locator(".writing")).to_have_count(0)
        expect(page.locator(".sheet .head")).to_contain_text("2 built", timeout=30_000)
        expect(page.locator("[data-step] .picked").last).to_have_text("all upright edges of Cap")

    def test_an_archive_of_version_1_is_opened(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "old.nomogon.zip"
            pixels = np.full((800, 1200), 200, np.uint8)
            pixels[200:600, 300:900] = 40  # a part, since the archive's clean-up steps need two tones
            path.write_bytes(old_archive(cv2.imencode(".png", pixels)[1].tobytes()))
            self.drive(self.opened, path)
        job = Job.objects.get(number="FLA-014")
        (body,) = self.built(job).bodies.values()
        self.assertEqual(body.title, "Plate")
        np.testing.assert_allclose(body.facts.size, (60, 40, 5), atol=1e-6)

    def opened(self, page, path):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/new")
        page.locator("input[name=picture]").set_input_files(str(path))
        page.get_by_role("button", name="Make job").click()
        page.wait_for_url("**/reference")
        page.goto(page.url.replace("/reference", "/solid"))
        expect(page.locator(".sheet .head")).to_contain_text("2 built", timeout=60_000)
