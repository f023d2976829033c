"""Tracing in a real browser: colour, strokes, keeping and dropping, following an edge, a circle from a rough click,
tracing again."""

import cv2
import numpy as np
from playwright.sync_api import expect

from core.tests.test_tracing import BLUE, PLATE, RED, SAND, plate_view, strokes_light
from examples import samples
from examples.parts import spout_plan
from examples.render import Camera, hole, part_coverage, rounded_polygon
from nomogon_core.errors import TraceError
from nomogon_core.geometry.crossings import at
from nomogon_core.job.document import picture_of, sketch_of
from nomogon_core.picture.decode import linear_to_srgb
from nomogon_core.sketch.regions import find_regions
from store import making
from store.actions import perform
from store.documents import document_of
from web.tests.browser import Board, BrowserCase, Late
from web.tests.helpers import extrusion

TEN_PX_A_MM = {"start": [0.0, 0.0], "end": [500.0, 0.0], "text": "50 mm", "sigma_px": 0.02}


def png(linear):
    """PNG of linear light (h, w) or red, green, blue (h, w, 3)."""
    stored = np.clip(linear_to_srgb(np.clip(linear, 0, 1)) * 255 + 0.5, 0, 255).astype(np.uint8)
    return cv2.imencode(".png", stored[..., ::-1] if stored.ndim == 3 else stored)[1].tobytes()


TONE = {"threshold": 0.5, "tolerance_mm": 0.1, "speck_mm2": 1.0, "keep": "all"}


class Tracing(BrowserCase):
    def job(self, picture, name="plate.png"):
        job = making.job_from_picture(self.users[0], "Plate", "", picture, name)
        perform(job.pk, self.users[0], None, "reference.add_known", TEN_PX_A_MM)
        return job

    def perform_on(self, job, command, /, **arguments):
        return perform(job.pk, self.users[0], None, command, arguments)

    def open(self, page, job, stage="reference"):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/{stage}")
        board = Board(page)
        expect(page.locator("#note")).not_to_be_empty()
        return board

    def kinds(self, job):
        sketch = sketch_of(document_of(job))
        return sorted(curve.kind for curve in sketch.curves.values())

    def test_by_halves(self):
        symmetric = (
            rounded_polygon([(0, 0), (40, 0), (36, 24), (4, 24)], [4, 4, 0, 0]),
            hole(12, 10, 6),
            hole(28, 10, 6),
        )
        job = self.job(png(1 - 0.9 * part_coverage(symmetric, plate_view(), 520, 360)))
        self.drive(self.by_halves, job)
        sketch = sketch_of(document_of(job))
        self.assertEqual(sum(curve.construction for curve in sketch.curves.values()), 1)
        self.assertEqual(sum(item.kind == "symmetric" for item in sketch.constraints.values()), 4)

    def by_halves(self, page, job):
        self.open(page, job)
        page.get_by_role("tab", name="Trace").click()
        page.keyboard.press("1")
        page.locator("#outlines").get_by_label("Mirror halves").select_option("average")
        expect(page.locator("#found")).to_contain_text("3 found; 3 kept")
        page.get_by_role("button", name="Trace these").click()
        expect(page.locator("#said")).to_contain_text(
            "mirrored in their axis, from which the picture departs by 0.0", timeout=30_000
        )
        self.go(page, "sketch")
        expect(page.locator(".curve.construction")).to_have_count(1)

    def test_by_colour(self):
        view = plate_view()
        red, blue = (part_coverage(outlines, view, 520, 360)[..., None] for outlines in (PLATE, (hole(21, 18, 7),)))
        scene = np.array(SAND) + (np.array(RED) - SAND) * red
        job = self.job(png(scene + (np.array(BLUE) - scene) * blue))
        self.drive(self.by_colour, job)
        self.assertEqual(self.kinds(job), ["arc", "arc", "circle", "circle", "line", "line", "line", "line"])
        settings = next(iter(document_of(job)["traces"].values()))["settings"]
        self.assertEqual((settings["mode"], len(settings["colours"])), ("colour", 2))

    def by_colour(self, page, job):
        board = self.open(page, job)
        # What was looked for first is answered after another way was chosen.
        late = Late(page, "reference/outlines")
        page.get_by_role("tab", name="Trace").click()
        page.keyboard.press("1")
        form = page.locator("#outlines")
        form.get_by_label("Found by").select_option("colour")
        late.wait()
        expect(page.locator("#found")).to_contain_text("Click the part on the Board")
        view = plate_view()

        def click(place):
            x, y = view.to_px([place])[0]
            board.click((x, -y))

        click((20, 4))
        expect(page.locator("#found")).to_contain_text("4 found; 4 kept, 3 of them holes")
        click((21, 18))
        expect(page.locator("#found")).to_contain_text("3 found; 3 kept, 2 of them holes")
        page.get_by_role("button", name="Trace these").click()
        expect(page.locator("#said")).to_contain_text("3 outlines traced", timeout=30_000)

    def test_strokes_and_dropping_one(self):
        lines = [np.array([(80, 420), (300, 420), (300, 330)], float), np.array([(420, 300), (640, 80)], float)]
        job = self.job(png(strokes_light(lines, 8, (700, 500), noise=0.0)), "drawing.png")
        self.drive(self.strokes, job)
        self.assertEqual(self.kinds(job), ["line", "line"])

    def strokes(self, page, job):
        self.open(page, job)
        page.get_by_role("tab", name="Trace").click()
        page.keyboard.press("1")
        page.locator("#outlines").get_by_label("Found by").select_option("centre")
        expect(page.locator("#found")).to_contain_text("2 found; 2 kept")
        expect(page.locator("#found")).to_contain_text("Strokes are about 0.8")
        page.locator(".found-outline").nth(1).press("Enter")
        expect(page.locator("#found")).to_contain_text("1 kept")
        page.get_by_role("button", name="Trace these").click()
        expect(page.locator("#said")).to_contain_text("1 outline traced: 2 lines", timeout=30_000)

    def test_tracing_again_keeps_what_was_built(self):
        picture = samples.take("latch-plate", "above", seed=5)
        job = making.job_from_picture(self.users[0], "Latch", "", picture.data, picture.name)
        places = [(matrix := picture.px_from_mm @ (*end, 1))[:2] / matrix[2] for end in ((0, 16), (84, 16))]
        perform(
            job.pk,
            self.users[0],
            None,
            "reference.add_known",
            {"start": places[0].tolist(), "end": places[1].tolist(), "text": "84 mm", "sigma_px": 0.05},
        )
        self.drive(self.again, job)
        sketch = sketch_of(document_of(job))
        self.assertEqual([item.name for item in sketch.constraints.values() if item.kind == "diameter"], ["Diameter 1"])
        self.assertEqual(len(document_of(job)["traces"]), 1)

    def again(self, page, job):
        self.open(page, job)
        page.get_by_role("tab", name="Trace").click()
        page.keyboard.press("1")
        expect(page.locator("#found")).to_contain_text("4 kept")
        expect(page.get_by_role("button", name="Trace again")).to_be_hidden()
        page.get_by_role("button", name="Trace these").click()
        expect(page.locator("#said")).to_contain_text("4 outlines traced", timeout=30_000)
        expect(page.locator("[data-row$=':rms']").first).to_be_visible()
        self.go(page, "sketch")
        page.get_by_role("tab", name="Dimension").click()
        page.keyboard.press("5")
        circle = next(
            curve
            for curve in page.evaluate(
                "async () => (await (await fetch(location.pathname + '/board')).json()).shapes.curves"
            )
            if curve["kind"] == "circle"
        )
        page.locator(f".hit[data-curve='{circle['id']}']").dispatch_event("click")
        expect(page.locator("#ask")).to_be_visible()
        page.keyboard.press("Enter")
        page.get_by_role("tab", name="View").click()
        page.locator("#tray .tool", has_text="Edge comb").click()
        expect(page.locator(".comb")).to_have_count(1)
        expect(page.locator("#prompt")).to_contain_text("Edge to curve: rms 0.0")
        self.go(page, "reference")
        page.get_by_role("tab", name="Trace").click()
        page.keyboard.press("1")
        expect(page.locator("#found")).to_contain_text("4 kept", timeout=15_000)
        page.locator("#outlines").get_by_label("Tolerance").fill("0.2 mm")
        page.get_by_role("button", name="Trace again").click()
        expect(page.locator("#said")).to_contain_text("no constraint was lost", timeout=30_000)

    def test_a_picture_on_a_side_face_is_not_traced_onto_the_base(self):
        job = self.job(png(0.6 - 0.5 * part_coverage(PLATE, plate_view(), 520, 360)))
        self.perform_on(job, "sketch.rectangle", first=[0, 0], second=[30, 20])
        region = find_regions(sketch_of(document_of(job)))[0].name
        self.perform_on(job, "solid.add", **extrusion(region, "5 mm"))
        document = document_of(job)
        (body,), (operation,) = document["bodies"], document["operations"]
        side = {"body": body, "face": f"{operation}.side({next(iter(sketch_of(document).curves))})"}
        self.perform_on(job, "reference.lay_on", picture=picture_of(document_of(job))[0], plane=side)
        with self.assertRaisesRegex(TraceError, "lies on side of 1, and the sketch Outline on Plan"):
            self.perform_on(job, "reference.accept_trace", settings=TONE)

    def test_trimming_and_spline_points(self):
        job = making.new_job(self.users[0], "Cross")
        for one, other in (((0, 0), (40, 0)), ((30, -10), (30, 20)), ((4, 8), (12, 8))):
            perform(job.pk, self.users[0], None, "sketch.line", {"start": list(one), "end": list(other), "free": True})
        perform(job.pk, self.users[0], None, "sketch.spline", {"places": [[0, 30], [10, 36], [20, 28], [30, 32]]})
        sketch = sketch_of(document_of(job))
        self.drive(
            self.trimming,
            job,
            next(sketch.geometry(name) for name, curve in sketch.curves.items() if curve.kind == "spline"),
        )

    def trimming(self, page, job, spline):
        self.open(page, job, "sketch")
        board = Board(page)

        def curves():
            return page.evaluate("async () => (await (await fetch(location.pathname + '/board')).json()).shapes.curves")

        page.get_by_role("tab", name="Edit").click()
        page.keyboard.press("5")
        board.click((37, 0))
        board.click((30, -6))
        expect(page.locator(".page")).to_have_attribute("data-version", "6")
        self.assertEqual(len({point for curve in curves()[:2] for point in curve["points"]}), 3)
        page.keyboard.press("6")
        board.click((11.5, 8))
        expect(page.locator(".page")).to_have_attribute("data-version", "7")
        page.get_by_role("tab", name="Shape").click()
        page.keyboard.press("1")
        board.click(tuple(at(spline, 0.5)[0]))
        expect(page.locator(".page")).to_have_attribute("data-version", "8")
        self.assertEqual(len(next(curve for curve in curves() if curve["kind"] == "spline")["points"]), 13)
        page.keyboard.press("2")
        board.click((10, 36))
        expect(page.locator("#said")).to_contain_text("The spline moved by at most")
        expect(page.locator(".page")).to_have_attribute("data-version", "9")
        before = next(curve["d"] for curve in curves() if curve["kind"] == "spline")
        page.keyboard.press("3")
        board.click((20, 28))
        expect(page.locator(".page")).to_have_attribute("data-version", "10")
        after = next(curve["d"] for curve in curves() if curve["kind"] == "spline")
        self.assertNotEqual(before, after)
        self.assertEqual(
            [piece.split(" ")[-2:] for piece in before.split("C")],
            [piece.split(" ")[-2:] for piece in after.split("C")],
        )
        page.keyboard.press("Escape")

    def test_a_section_is_lifted_out_of_a_plan(self):
        """Two ovals with a cross-hair each: one is lifted out by clicks, and undone; the other stays in the plan."""
        plan = spout_plan()
        cover = sum(part_coverage((oval, cross), Camera(5.0, (60.0, 150.0)), 420, 200) for _, oval, cross in plan[:2])
        job = self.job(png(cv2.GaussianBlur(0.7 - 0.6 * cover, (0, 0), 0.8)))
        oval = self.drive(self.lifted, job)
        job.refresh_from_db()
        document = document_of(job)
        (station,) = document["planes"].values()
        np.testing.assert_allclose(station["fields"]["at"], oval, atol=0.03)
        self.assertEqual([data["title"] for data in document["sketches"].values()], ["Outline", "Neck"])
        self.assertEqual(len(sketch_of(document).curves), 1)

    def lifted(self, page, job):
        """Where the oval's centre is."""
        self.open(page, job)
        page.get_by_role("tab", name="Trace").click()
        page.keyboard.press("1")
        expect(page.locator("#found")).to_contain_text("4 found")
        page.locator("#outlines input[name=speck]").fill("20")
        expect(page.locator("#found")).to_contain_text("2 found; 2 kept")
        page.get_by_role("button", name="Trace these").click()
        expect(page.locator("#said")).to_contain_text("2 outlines traced", timeout=30_000)
        self.go(page, "sketch")
        board = Board(page)
        drawing = page.evaluate("async () => (await (await fetch(location.pathname + '/board')).json()).shapes")
        center, first, second = max(
            ([point for point in drawing["points"] if point["id"] in curve["points"]] for curve in drawing["curves"]),
            key=lambda points: max(point["x"] for point in points),
        )
        x, y = center["x"], center["y"]
        high = min(max(abs(end["x"] - x), abs(end["y"] - y)) for end in (first, second))
        page.get_by_role("tab", name="Edges").click()
        page.get_by_role("button", name="Section").click()
        board.click((x, y + high))
        expect(page.locator("#sentence .picked").first).to_have_text("1 curve")
        page.get_by_label("Type what the section is called.").fill("Neck")
        page.get_by_label("Click near its cross-hair").click()
        board.click((x + 1.3, y - 1.1))
        page.get_by_label("Type how far from the plan it stands.").fill("12 mm")
        expect(page.locator("#sentence .asks")).to_contain_text("Enter does it")
        page.keyboard.press("Enter")
        expect(page.locator("#said")).to_contain_text("Its origin is the cross-hair at")
        expect(page.locator(".hit[data-curve]")).to_have_count(1)
        page.locator("[data-history=undo]").click()
        expect(page.locator(".hit[data-curve]")).to_have_count(2)
        page.locator("[data-history=redo]").click()
        expect(page.locator(".hit[data-curve]")).to_have_count(1)
        return x, y

    def test_edges_by_hand(self):
        view = plate_view()
        cover = part_coverage(PLATE, view, 520, 360)
        job = self.job(png(cv2.GaussianBlur(0.6 - 0.5 * cover, (0, 0), 0.8)))
        self.drive(self.by_hand, job)
        self.assertEqual(self.kinds(job), ["arc", "circle", "line", "line", "line"])

    def by_hand(self, page, job):
        self.open(page, job)
        self.go(page, "sketch")
        board = Board(page)
        left, low = (np.array(plate_view().center) * (1, -1) + (0, 359)) / 10

        def laid(x, y):
            return left + x, low + y

        page.get_by_role("tab", name="Edges").click()
        page.keyboard.press("2")
        board.click(laid(13.0, 11.0))
        expect(page.locator(".hit[data-curve]")).to_have_count(1)
        page.keyboard.press("Escape")
        page.keyboard.press("1")
        board.click(laid(20, 0.2))
        expect(page.locator("#prompt")).to_contain_text("Move along the edge")
        page.mouse.move(*board.pixel(laid(39.9, 9)))
        expect(page.locator(".rubber")).to_have_count(1)
        board.click(laid(39.9, 10))
        expect(page.locator(".hit[data-curve]")).to_have_count(3)
        page.keyboard.press("Escape")
        page.get_by_role("tab", name="Draw").click()
        page.keyboard.press("1")
        board.click(laid(8, 24.3))
        board.click(laid(30, 23.8))
        expect(page.locator(".hit[data-curve]")).to_have_count(4)
        drawing = page.evaluate("async () => (await (await fetch(location.pathname + '/board')).json()).shapes")
        heights = [point["y"] for point in drawing["points"] if point["role"] == "end" and point["y"] > low + 20]
        np.testing.assert_allclose(heights, low + 24.0, atol=0.02)
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Undo").click()
        expect(page.locator(".hit[data-curve]")).to_have_count(3)
        page.get_by_role("button", name="Redo").click()
        expect(page.locator(".hit[data-curve]")).to_have_count(4)
        page.get_by_role("tab", name="Edges").click()
        page.keyboard.press("3")
        for place in ((0.3, 4.4), (4.2, -0.2), (1.0, 1.4)):
            board.click(laid(*place))
        expect(page.locator(".hit[data-curve]")).to_have_count(5)
        drawing = page.evaluate("async () => (await (await fetch(location.pathname + '/board')).json()).shapes")
        center = min((point for point in drawing["points"] if point["role"] == "center"), key=lambda point: point["x"])
        np.testing.assert_allclose((center["x"], center["y"]), laid(4, 4), atol=0.04)
