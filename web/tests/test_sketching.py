"""The Sketch stage driven as a practitioner does: edits as sentences, conflicts kept and settled, what was meant."""

import math
import re

import numpy as np
from playwright.sync_api import expect

from benchmarks.proposals import traced, true_sketch
from examples.parts import hole, rounded_polygon
from nomogon_core.geometry.curves import Line, length
from nomogon_core.job.document import keep_sketch, new_document, sketch_of
from nomogon_core.sketch.regions import find_regions
from store import making
from store.actions import document_at, perform
from store.documents import document_of, keep_document
from web.tests.browser import Board, BrowserCase

TRIANGLE = """<svg xmlns="http://www.w3.org/2000/svg" width="20mm" height="10mm" viewBox="0 0 20 10">
<path d="M0 0H20V10Z"/><circle cx="15" cy="3.5" r="1.5"/></svg>"""


# All at once, as the Board may be drawn anew between two questions.
MIDDLE_OF = """([what, at]) => {
  const box = document.querySelectorAll(what)[at].getBoundingClientRect();
  return [box.x + box.width / 2, box.y + box.height / 2];
}"""


class Sketching(BrowserCase):
    def job(self, *commands):
        job = making.new_job(self.users[0], "Feeder cap")
        for name, arguments in commands:
            perform(job.pk, self.users[0], None, name, arguments)
        return job

    def open(self, page, job):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/sketch")
        expect(page.locator("#note")).not_to_be_empty()
        return Board(page)

    def sketch(self, job):
        job.refresh_from_db()
        return sketch_of(document_of(job))

    def shapes(self, page):
        """What the Board of the Sketch draws, as the server tells it now."""
        return page.evaluate("async () => (await (await fetch(location.pathname + '/board')).json()).shapes")

    def areas(self, page):
        return sorted(region["area"] for region in self.shapes(page)["regions"])

    def version(self, page, number):
        expect(page.locator(".page")).to_have_attribute("data-version", str(number))

    def test_edits_as_sentences(self):
        job = self.job(
            ("sketch.rectangle", {"first": [0, 0], "second": [60, 40]}),
            ("sketch.circle", {"center": [15, 12], "rim": [18, 12]}),
        )
        self.refusals = (400,)
        self.drive(self.sentences, job)

    def sentences(self, page, job):
        board = self.open(page, job)
        page.get_by_role("tab", name="Change").click()
        page.get_by_role("button", name="Offset").click()
        board.click((30, 0))
        board.click((30, 0))
        x, y = board.pixel((30, 0))
        page.mouse.dblclick(x, y)
        expect(page.locator("#sentence .picked")).to_have_text("4 curves")
        expect(page.locator(".would-be")).to_have_count(4)
        # A distance that cannot be is said where it is typed, and nothing happens.
        page.locator("#sentence input").fill("wide")
        expect(page.locator("#sentence .asks")).to_contain_text("wide")
        page.locator("#sentence input").fill("25 mm")
        page.get_by_label("To which side.").select_option("in")
        expect(page.locator("#sentence .asks")).to_contain_text("narrower than twice that")
        page.locator("#sentence input").fill("4 mm")
        expect(page.locator("#sentence .asks")).to_contain_text("Enter does it")
        page.locator("#sentence input").press("Enter")
        self.version(page, 3)
        self.assertAlmostEqual(self.areas(page)[-1], 52 * 32 - 9 * math.pi, delta=1)
        # A ring of six about a place that is clicked.
        page.get_by_role("button", name="Repeat").click()
        board.click((18, 12))
        page.get_by_label("Type how many there should be in all.").fill("6")
        page.get_by_label("How they follow one another.").select_option("ring")
        page.get_by_label("Click the centre of the ring.").click()
        board.click((30, 20))
        expect(page.locator(".would-be")).to_have_count(5)
        page.keyboard.press("Enter")
        self.version(page, 4)
        shapes = self.shapes(page)
        rims = [curve["points"][0] for curve in shapes["curves"] if curve["kind"] == "circle"]
        centers = [(point["x"], point["y"]) for point in shapes["points"] if point["id"] in rims]
        self.assertEqual(len(centers), 6)
        self.assertLess(np.ptp([math.dist(center, (30, 20)) for center in centers]), 0.4)
        # A corner rounded, by the keyboard but for the pick.
        page.keyboard.press("1")
        board.click((60, 40))
        page.keyboard.press("Control+A")
        page.keyboard.type("5 mm")
        expect(page.locator(".would-be")).to_have_count(3)
        page.keyboard.press("Enter")
        self.version(page, 5)
        expect(page.locator("#prompt")).to_be_visible()
        for number in (6, 7, 8):
            page.locator("[data-history=undo]").click()
            self.version(page, number)
        self.assertEqual(len(self.shapes(page)["curves"]), 5)

    def test_sizes_are_typed_findings_mended_and_a_dimension_only_reads(self):
        ends = ([[30, -0.8], [30, 38.7]], [[70, 0], [80, 0]], [[80.4, 0], [75, 9]], [[75, 9], [70, 0]])
        lines = [("sketch.line", {"start": first, "end": last, "free": True}) for first, last in ends]
        self.drive(self.typed, self.job())
        self.drive(self.mended, self.job(("sketch.rectangle", {"first": [0, 0], "second": [60, 38.1]}), *lines))

    def typed(self, page, job):
        board = self.open(page, job)
        page.keyboard.press("6")
        board.click((0, 0))
        expect(page.locator("#prompt")).to_contain_text("or type width and height")
        page.mouse.move(*board.pixel((20, 10)))
        page.keyboard.type("60, 1 1/2 in")
        expect(page.locator("#ask")).to_contain_text("Width, height")
        page.keyboard.press("Enter")
        self.version(page, 1)
        self.assertAlmostEqual(self.areas(page)[-1], 60 * 38.1, places=6)
        # A dimension reads and drives by one key.
        page.keyboard.press("Escape")
        page.keyboard.press("0")
        page.locator("[data-dimension] text").first.click()
        page.keyboard.press("d")
        self.version(page, 2)
        expect(page.locator("[data-dimension] text").first).to_have_text("(60.00)")
        page.keyboard.press("d")
        expect(page.locator("[data-dimension] text").first).to_have_text("60.00")

    def mended(self, page, job):
        """A line that pokes out by less than a millimetre and a gap are listed, shown large, and put right."""
        self.open(page, job)
        page.get_by_role("tab", name="View").click()
        page.get_by_role("button", name="Findings").click()
        rows = page.locator("#findings li")
        rows.filter(has_text="Gap of 0.40 mm").hover()
        expect(page.locator("svg.lens")).to_be_visible()
        before = rows.count()
        rows.filter(has_text="Gap of 0.40 mm").get_by_role("button", name="Join the ends").click()
        expect(rows).not_to_have_count(before)
        page.get_by_label("Mend what changes no more than this").fill("1 mm")
        page.get_by_role("button", name="Mend all").click()
        expect(page.locator("#findings .count")).to_have_text("none")
        self.assertEqual([round(area, 3) for area in self.areas(page)][-2:], [1143.0, 1143.0])
        page.get_by_role("button", name="Undo").click()
        expect(page.locator("#findings .count")).not_to_have_text("none")

    def test_a_logo_is_put_in_from_a_file_and_a_broken_one_says_why(self):
        job = self.job()
        self.refusals = (400,)
        self.drive(self.logo, job)
        regions = find_regions(self.sketch(job))
        self.assertEqual([len(region.holes) for region in regions], [1, 0])
        self.assertAlmostEqual(regions[0].area, 40 * 20 / 2 - math.pi * 9, places=5)

    def logo(self, page, job):
        board = self.open(page, job)
        head = '<svg xmlns="http://www.w3.org/2000/svg" width="1in" height="1in" viewBox="0 0 30 30">'
        logo = '<path d="M0 0H20V10Z"/><circle cx="15" cy="3" r="1.5" fill="#c03020"/><text x="1" y="9">A</text></svg>'
        page.get_by_role("tab", name="Draw").click()
        page.get_by_role("button", name="Drawing").click()
        choose = page.locator("#sentence input[type=file]")
        choose.set_input_files({"name": "bee.svg", "mimeType": "image/svg+xml", "buffer": b"<svg"})
        expect(page.locator("#sentence .asks")).to_contain_text("bee.svg cannot be read as SVG")
        choose.set_input_files({"name": "bee.svg", "mimeType": "image/svg+xml", "buffer": (head + logo).encode()})
        expect(page.locator("#said")).to_contain_text("Left out of bee.svg, since it is no curve: 1 text.")
        # The triangle is 20 of 30 parts of an inch wide, which is offered with all its digits.
        expect(page.locator("#sentence input[data-blank=size]")).to_have_value("16.9333333 mm")
        page.locator("#sentence input[data-blank=size]").fill("40 mm")
        page.get_by_label("Click where its middle lies").click()
        board.click((10, 5))
        expect(page.locator(".would-be")).to_have_count(4)
        page.get_by_label("Which of its groups come in.").select_option("#c03020")
        expect(page.locator(".would-be")).to_have_count(1)
        page.get_by_label("Which of its groups come in.").select_option("")
        expect(page.locator(".would-be")).to_have_count(4)
        page.keyboard.press("Escape")
        expect(page.locator("#sentence")).to_be_hidden()
        page.get_by_role("button", name="Drawing").click()
        choose.set_input_files({"name": "bee.svg", "mimeType": "image/svg+xml", "buffer": (head + logo).encode()})
        page.get_by_label("Type how large it is.").fill("40 mm")
        page.get_by_label("Click where its middle lies").click()
        board.click((10, 5))
        expect(page.locator("#sentence .asks")).to_contain_text("Enter does it")
        page.keyboard.press("Enter")
        self.version(page, 1)
        expect(page.locator(".hit[data-curve]")).to_have_count(4)

    def test_a_conflict_is_kept_explained_and_settled(self):
        job = self.job(("sketch.rectangle", {"first": [0, 0], "second": [60, 40]}))
        lines = list(self.sketch(job).curves)
        perform(job.pk, self.users[0], None, "sketch.dimension", {"kind": "distance", "of": lines[:1], "text": "60 mm"})
        perform(
            job.pk, self.users[0], None, "sketch.dimension", {"kind": "distance", "of": lines[1:2], "text": "40 mm"}
        )
        self.refusals = (400,)
        self.drive(self.conflict, job)

    def conflict(self, page, job):
        board = self.open(page, job)
        page.get_by_role("tab", name="Tie").click()
        page.get_by_role("button", name="Equal").click()
        board.click((30, 0))
        board.click((60, 20))
        expect(page.locator("#said")).to_contain_text(
            "Equal contradicts Distance 1 (60.00 mm) and Distance 2 (40.00 mm)"
        )
        page.get_by_role("button", name="Keep it unmet for now").click()
        self.version(page, 4)
        expect(page.locator(".curve.bad")).to_have_count(2)
        page.keyboard.press("Escape")
        page.locator("[data-conflict]").click()
        expect(page.locator("#said")).to_contain_text("is not met: it contradicts Distance 1")
        page.get_by_role("button", name="Drop Distance 2").click()
        self.version(page, 5)
        expect(page.locator(".curve.bad")).to_have_count(0)
        self.assertAlmostEqual(self.areas(page)[0], 3600, places=5)
        page.locator("[data-history=undo]").click()
        self.version(page, 6)
        expect(page.locator(".curve.bad")).to_have_count(2)

    def test_what_was_meant_is_taken(self):
        plate = rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [5] * 4)
        truth = true_sketch([plate, hole(12, 12, 4.5), hole(48, 12, 4.5)])
        job, document = self.job(), new_document()
        keep_sketch(document, next(iter(document["sketches"])), traced(truth, np.random.default_rng(12)))
        keep_document(job, None, document)
        self.drive(self.meant, job)
        holes = [curve.radius for curve in self.sketch(job).curves.values() if curve.kind == "circle"]
        self.assertTrue(all(abs(radius - 2.25) < 1e-7 for radius in holes), holes)

    def meant(self, page, job):
        self.open(page, job)
        page.get_by_role("tab", name="Edges").click()
        page.locator("#tray .tool", has_text="Meant?").click()
        panel = page.locator("#meant")
        expect(panel.locator("li")).not_to_have_count(0)
        expect(panel).to_contain_text("clearance for M4")
        box = panel.locator("li", has_text="clearance for M4").locator("input")
        before = panel.locator("[data-take]").inner_text()
        box.set_checked(not box.is_checked())
        self.assertNotEqual(panel.locator("[data-take]").inner_text(), before)
        for one in panel.locator("li input").all():
            one.check()
        panel.locator("[data-take]").click()
        self.version(page, 1)
        expect(page.locator("#said")).to_contain_text("No point moved by more than 0.")

    def test_a_half_is_mirrored_and_meets_its_image_smoothly(self):
        job = self.job(
            ("sketch.line", {"start": [0, -15], "end": [0, 35], "construction": True, "free": True}),
            ("sketch.spline", {"places": [[0, 20], [12, 15], [14, 4], [0, -5]]}),
        )
        self.drive(self.mirroring, job)
        sketch = self.sketch(job)
        splines = [curve for curve in sketch.curves.values() if curve.kind == "spline"]
        self.assertEqual(len(splines), 2)
        for end, handle in ((0, 1), (-1, -2)):
            (x, y), (u, v) = (sketch.points[splines[0].points[index]] for index in (end, handle))
            self.assertLess(abs(v - y), 1e-6 * abs(u - x) + 1e-7)
            self.assertAlmostEqual(x, 0, places=7)

    def mirroring(self, page, job):
        board = self.open(page, job)
        page.get_by_role("tab", name="Change").click()
        # What is clicked before the words of the sentence have come is not lost.
        held = []
        page.route("**/sketch/edits", lambda route: held.append(route))
        with page.expect_request("**/sketch/edits"):
            page.keyboard.press("3")
        board.click((12, 15))
        held[0].continue_()
        expect(page.locator("#sentence .picked").first).to_have_text("1 curve")
        page.get_by_label("Click the line to mirror in.").click()
        board.click((0, 30))
        page.get_by_label("How the halves meet.").select_option("smooth")
        expect(page.locator(".would-be")).not_to_have_count(0)
        page.get_by_role("button", name="Do it").click()
        self.version(page, 3)
        self.assertEqual(len(self.areas(page)), 1)

    def test_lines_drawn_long_are_closed_up_by_the_keyboard(self):
        ends = (((-3, 0), (45, 0)), ((40, -4), (40, 34)), ((44, 30), (-5, 30)), ((0, 33), (0, -2)))
        job = self.job(*[("sketch.line", {"start": list(a), "end": list(b), "free": True}) for a, b in ends])
        self.drive(self.closing, job)

    def closing(self, page, job):
        board = self.open(page, job)
        # A box dragged with Shift takes three lines, which then stand in the sentence; a click the fourth.
        page.keyboard.down("Shift")
        page.mouse.move(*board.pixel((-4, -6)))
        page.mouse.down()
        page.mouse.move(*board.pixel((20, 20)))
        page.mouse.move(*board.pixel((48, 35)))
        page.mouse.up()
        page.keyboard.up("Shift")
        expect(page.locator(".halo")).to_have_count(3)
        for _ in range(3):
            page.keyboard.press("]")
        page.keyboard.press("8")
        expect(page.locator("#sentence .picked")).to_have_text("3 curves")
        board.click((20, 30))
        expect(page.locator(".would-be")).to_have_count(4)
        page.keyboard.press("Enter")
        self.version(page, 5)
        self.assertEqual([round(area, 5) for area in self.areas(page)], [1200])
        # A wrong click and Escape leave all as it is.
        page.keyboard.press("3")
        board.click((20, 0))
        page.keyboard.press("Enter")
        expect(page.locator("#sentence .asks")).to_contain_text("Mirror still needs a line")
        page.keyboard.press("Escape")
        expect(page.locator("#sentence")).to_be_hidden()
        self.version(page, 5)

    def test_a_drawing_is_held_by_its_handles(self):
        job = self.job(("sketch.rectangle", {"first": [0, 0], "second": [60, 40]}))
        self.drive(self.holding, job)
        job.refresh_from_db()
        self.assertEqual(len(self.sketch(job).curves), 4)
        sketch = sketch_of(document_at(job, 2))
        mark = [sketch.geometry(name) for name in list(sketch.curves)[4:]]
        lines = sorted(length(curve) for curve in mark if isinstance(curve, Line))
        np.testing.assert_allclose(lines, np.array((1, 2, 5**0.5)) * 45 / 5**0.5, rtol=1e-6)

    def holding(self, page, job):
        board = self.open(page, job)
        sentence, asks = page.locator("#sentence"), page.locator("#sentence .asks")
        page.get_by_role("button", name="Drawing").click()
        sentence.locator("input[type=file]").set_input_files(
            {"name": "mark.svg", "mimeType": "image/svg+xml", "buffer": TRIANGLE.encode()}
        )
        expect(sentence.get_by_label("Type how large it is.")).to_have_value("20 mm")
        board.click((30, 20), (3, 3))
        expect(page.locator(".handles [data-handle=size]")).to_have_count(1)
        self.pull(page, "move", (25, 14))
        self.pull(page, "size", (41, 22))  # twice as far from its middle: the corner lies at half of 20 by 10
        expect(sentence.get_by_label("Type how large it is.")).to_have_value(re.compile(r"^3\d(\.\d)? mm$"))
        expect(asks).to_contain_text("Enter does it")
        self.pull(page, "turn", (25, 40))
        expect(sentence.get_by_label("Type by how much it is turned.")).to_have_value("90°")
        expect(asks).to_contain_text("Enter does it")
        page.locator(".handles [data-handle=flip]").click()
        expect(sentence.get_by_label("Which way it faces.")).to_have_value("mirrored")
        # The slanting side, picked by its ends on the drawing itself, is made 45 mm long.
        sentence.get_by_label("What is so large.").select_option("points")
        expect(page.locator(".own-point")).to_have_count(4)
        for label, own in (("to measure from", 0), ("to measure to", 2)):
            sentence.get_by_label(label).click()
            self.refuse_a_miss(page, board)
            page.mouse.click(*page.evaluate(MIDDLE_OF, [".own-point", own]))
            expect(asks).to_contain_text("Enter does it")
        sentence.get_by_label("Type how large it is.").fill("45 mm")
        expect(asks).to_contain_text("Enter does it")
        sentence.get_by_label("Type how large it is.").press("Enter")
        self.version(page, 2)
        page.get_by_role("button", name="Undo").click()
        self.version(page, 3)

    def pull(self, page, which, to):
        """Drag a handle to a place of the Board."""
        page.mouse.move(*page.evaluate(MIDDLE_OF, [f".handles [data-handle={which}]", 0]))
        page.mouse.down()
        page.mouse.move(*Board(page).pixel(to), steps=5)
        page.mouse.up()

    def refuse_a_miss(self, page, board):
        board.click((58, 38))
        expect(page.locator("#said")).to_contain_text("small rings")

    def test_text_runs_around_a_circle(self):
        job = self.job(("sketch.circle", {"center": [0, 0], "rim": [20, 0]}))
        self.drive(self.around, job)
        sketch = self.sketch(job)
        places = np.array([point for name, point in sketch.points.items() if math.hypot(*point) > 1])
        away = np.hypot(*places.T)
        self.assertGreater(away.min(), 15.5)
        self.assertLess(away.max(), 20.5)
        self.assertGreater(places[:, 1].min(), 0)

    def around(self, page, job):
        board = self.open(page, job)
        page.get_by_role("tab", name="Shape").click()
        page.get_by_role("button", name="Text").click()
        sentence = page.locator("#sentence")
        sentence.get_by_label("Type the text.").fill("HIVE 7")
        sentence.get_by_label("Type how high").fill("4 mm")
        sentence.get_by_label("How the text lies").select_option("middle")
        board.click((1, 24))
        sentence.get_by_label("How it runs.").select_option("along")
        expect(sentence.locator(".asks")).to_contain_text("Click the line, arc or circle")
        board.click((-20, 0))
        sentence.get_by_label("On which side of it.").select_option("inside")
        expect(sentence.locator(".asks")).to_contain_text("Enter does it")
        expect(page.locator(".handles [data-handle]")).to_have_count(1)
        sentence.get_by_label("Type how high").press("Enter")
        self.version(page, 2)
