"""Pictures that nobody tuned for, traced in a real browser: a ring with its hole, a pencil drawing, brushed metal by
two strokes, a cartoon."""

import math

import cv2
import numpy as np
from playwright.sync_api import expect

from benchmarks import random_kinds
from examples.render import photograph
from nomogon_core.devices.compiled_coverage import coverage
from nomogon_core.geometry.curves import bounds
from nomogon_core.job.document import sketch_of
from store import making
from store.actions import perform
from store.documents import document_of
from web.tests.browser import Board, BrowserCase
from web.tests.test_tracing import TEN_PX_A_MM


class Kinds(BrowserCase):
    def job(self, data, name):
        job = making.job_from_picture(self.users[0], "Spring guide", "", data, name)
        perform(job.pk, self.users[0], None, "reference.add_known", TEN_PX_A_MM)
        return job

    def outlines(self, page, job, mode):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/reference")
        board = Board(page)
        expect(page.locator("#note")).not_to_be_empty()
        page.get_by_role("tab", name="Trace").click()
        page.keyboard.press("1")
        page.locator("#outlines").get_by_label("Found by").select_option(mode)
        return board

    def trace(self, page, found, told):
        expect(page.locator("#found")).to_contain_text(found, timeout=30_000)
        page.get_by_role("button", name="Trace these").click()
        expect(page.locator("#said")).to_contain_text(told, timeout=60_000)

    def curves(self, job):
        return list(sketch_of(document_of(job)).curves.values())

    def test_a_ring_keeps_its_hole(self):
        rim = np.linspace(0, 2 * math.pi, 900, endpoint=False)
        circle = np.column_stack([np.cos(rim), np.sin(rim)])
        cover = coverage([(320, 300) + 250 * circle, ((320, 300) + 222 * circle)[::-1]], 640, 600)
        job = self.job(cv2.imencode(".png", photograph(cover))[1].tobytes(), "ring.png")

        def drive(page):
            self.outlines(page, job, "tone")
            self.trace(page, "2 found; 2 kept, 1 of them holes", "2 outlines traced: 2 circles")

        self.drive(drive)
        self.assertEqual([curve.kind for curve in self.curves(job)], ["circle", "circle"])

    def test_a_pencil_drawing(self):
        self.refusals = (400,)
        job = self.job(random_kinds.pencil(np.random.default_rng(21)).data, "pencil.jpg")

        def drive(page):
            self.outlines(page, job, "centre")
            self.trace(page, "2 found; 2 kept", "2 outlines traced")
            self.go(page, "sketch")
            expect(page.locator(".curve").first).to_be_visible()
            expect(page.locator(".found")).to_have_count(0)

        self.drive(drive)

    def test_brushed_metal_by_two_strokes(self):
        self.refusals = (400,)
        picture = random_kinds.metal(np.random.default_rng(9), (1600, 1200))
        job = self.job(picture.data, "metal.jpg")
        on_part, on_ground = picture.tries[0].part_strokes[0], picture.tries[0].ground_strokes[0]

        def drive(page):
            board = self.outlines(page, job, "strokes")
            expect(page.locator("#found")).to_contain_text("Drag a stroke along the part")

            def stroke(places):
                page.mouse.move(*board.pixel((places[0][0], -places[0][1])))
                page.mouse.down()
                for x, y in places[1:]:
                    page.mouse.move(*board.pixel((x, -y)), steps=4)
                page.mouse.up()

            stroke(on_part[::6])
            expect(page.locator("#found")).to_contain_text("Drag a stroke along the ground")
            stroke(on_part[::6])
            expect(page.locator("#said")).to_contain_text("crosses one on the ground")
            page.get_by_role("button", name="Take away stroke 1 on the ground").click()
            stroke(on_ground)
            self.trace(page, "1 found; 1 kept", "traced")
            page.reload()
            expect(page.locator("#note")).not_to_be_empty()
            page.get_by_role("tab", name="Trace").click()
            page.keyboard.press("1")
            expect(page.locator(".hand-stroke")).to_have_count(2)

        self.drive(drive)
        sketch = sketch_of(document_of(job))
        (left, low), (right, high) = bounds([sketch.geometry(name) for name in sketch.curves])
        wide, tall = np.ptp(picture.wanted[0], axis=0) / 10
        self.assertTrue(0.6 < (right - left) / wide < 1.02)
        self.assertTrue(0.6 < (high - low) / tall < 1.02)

    def test_flat_colours(self):
        picture = random_kinds.cartoon(np.random.default_rng(8))
        job = self.job(picture.data, "bee.jpg")

        def drive(page):
            self.outlines(page, job, "flat")
            self.trace(page, "6 found; 6 kept", "6 outlines traced")

        self.drive(drive)
