"""Parts built in the browser by the operations of the Build sheet, stepped back, added to in the middle, mended."""

import math
import re
from xml.etree import ElementTree

import numpy as np
import trimesh
from playwright.sync_api import expect

from nomogon_core.job.document import build_of, sketch_of
from nomogon_core.job.quantities import environment
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph
from store import making
from store.actions import perform
from store.documents import Shelf, document_of
from web.tests.browser import BrowserCase
from web.tests.helpers import extrusion

COVERED = """(canvas) => {
  const flat = new OffscreenCanvas(canvas.width, canvas.height).getContext("2d");
  flat.drawImage(canvas, 0, 0);
  const { data } = flat.getImageData(0, 0, canvas.width, canvas.height);
  return data.filter((value, index) => index % 4 === 3 && value > 127).length;
}"""
BUILT = re.compile("[0-9a-f]{64}")


class Building(BrowserCase):
    def job(self, *commands):
        job = making.new_job(self.users[0], "Feeder cap")
        for name, arguments in commands:
            perform(job.pk, self.users[0], None, name, arguments)
        return job

    def open(self, page, job, built=True):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/solid")
        if built:
            expect(page.locator("#board")).to_have_attribute("data-mesh", BUILT, timeout=60_000)

    def take(self, page, shelf, tool):
        page.get_by_role("tab", name=shelf).click()
        page.locator("#tray .tool:visible", has_text=tool).click()

    def finish(self, page):
        expect(page.locator("#board")).to_have_class(re.compile("trying"), timeout=30_000)
        page.get_by_role("button", name="Build", exact=True).click()
        expect(page.locator(".writing")).to_have_count(0)

    def volume(self, job):
        document = document_of(job)
        built = graph.run(build_of(document, environment(document), files=Shelf(job)))
        self.assertEqual([step.problem for step in built.steps if step.problem], [])
        (body,) = built.bodies.values()
        self.assertTrue(body.facts.valid and body.facts.solids == 1)
        return body.facts.volume_mm3

    def test_holes_in_a_row_and_a_chamfer_put_in_before_them(self):
        job = self.job(
            ("sketch.rectangle", {"first": [0, 0], "second": [60, 40]}),
            ("sketch.circle", {"center": [15, 20], "rim": [18, 20]}),
        )
        regions = [region.name for region in find_regions(sketch_of(document_of(job)))]
        block = extrusion(regions[0], "20 mm", body="Block")
        block["blanks"]["regions"]["names"] = regions
        perform(job.pk, self.users[0], None, "solid.add", block)
        self.refusals = (400,)
        self.drive(self.holes, job)
        job.refresh_from_db()
        document = document_of(job)
        kinds = [document["operations"][step]["kind"] for step in document["steps"] if step in document["operations"]]
        self.assertEqual(kinds, ["extrude", "chamfer", "hole", "repeat"])
        bevel = 2 * (60 + 40) * 0.5 - 4 / 3  # the prisms of 1 mm along four edges, less what two share at each corner
        self.assertAlmostEqual(self.volume(job), 48_000 - bevel - 3 * math.pi * 2.25**2 * 20, places=5)

    def holes(self, page, job):
        self.open(page, job)
        self.take(page, "Shape", "Hole")
        page.locator("svg.drawing circle[data-pick]").dispatch_event("click")
        page.locator(".writing [data-blank=diameter]").fill("M4")
        self.finish(page)
        self.take(page, "Again", "Repeat")
        page.locator(".op[data-step]", has_text="Hole at").locator(".no").click()
        expect(page.locator(".writing [data-blank=operations]")).to_have_text("operation 2")
        page.get_by_label("Where the copies lie.").select_option("row")
        page.get_by_label("Type how many there are in all.").fill("3")
        page.get_by_label("Type how far apart; negative goes the other way.").fill("15 mm")
        self.finish(page)
        expect(page.locator(".op .told").last).to_contain_text("0.636 cm³", timeout=30_000)
        # Back to the block alone; what is added now comes before the holes.
        first = page.locator(".op[data-step]", has_text="Extrude")
        first.get_by_role("button", name="Build to here").click()
        expect(page.locator(".op.later")).to_have_count(2)
        self.take(page, "Edges", "Chamfer")
        page.get_by_label("Rule for the edges").select_option("top")
        expect(page.locator(".writing .works")).to_have_text(
            re.compile(r"Up to 19\.\d\d mm works for these edges"), timeout=30_000
        )
        page.locator(".writing [data-blank=distance]").fill("40 mm")
        expect(page.locator(".writing .why")).to_contain_text("at most", timeout=30_000)
        page.locator(".writing [data-blank=distance]").fill("1 mm")
        expect(page.locator(".writing .why")).to_be_hidden(timeout=30_000)
        self.finish(page)
        expect(page.locator(".built-to")).to_be_visible()
        expect(page.locator(".op.later")).to_have_count(2)
        page.get_by_role("button", name="Build all").click()
        expect(page.locator(".op.later")).to_have_count(0)
        # Lines are dragged by their rail: below the holes the chamfer goes, above what it repeats a repeat does not.
        self.drag_line(page, "Chamfer", "Hole at")
        expect(page.locator(".op[data-step]:has(.no)").nth(1)).to_contain_text("Hole at")
        page.get_by_role("button", name="Undo").click()
        expect(page.locator(".op[data-step]:has(.no)").nth(1)).to_contain_text("Chamfer")
        self.drag_line(page, "Repeat", "Hole at")
        expect(page.locator("#said.bad")).to_contain_text("so it stays below it")
        expect(self.ledger_value(page, "Solid")).to_contain_text("closed, valid", timeout=30_000)

    def drag_line(self, page, line, onto):
        first, last = (page.locator(".op[data-step]", has_text=words).last for words in (line, onto))
        first.scroll_into_view_if_needed()
        (x, y), (_, below) = ((box["x"] + 40, box["y"] + 20) for box in (first.bounding_box(), last.bounding_box()))
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x, (y + below) / 2, steps=4)
        page.mouse.move(x, below, steps=4)
        page.mouse.up()

    def test_a_block_is_measured_and_cut_open_to_look(self):
        job = self.job(("sketch.rectangle", {"first": [0, 0], "second": [60, 40]}))
        region = find_regions(sketch_of(document_of(job)))[0].name
        perform(job.pk, self.users[0], None, "solid.add", extrusion(region, "20 mm", body="Box"))
        self.drive(self.measured, job)

    def measured(self, page, job):
        self.open(page, job)
        page.get_by_role("tab", name="View").click()
        page.locator("#tray .tool:visible", has_text="Above").click()
        page.get_by_role("tab", name="Look").click()
        page.locator("#tray .tool:visible", has_text="Measure").click()
        box = page.locator("canvas.solid").bounding_box()
        page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        expect(page.locator("#said")).to_contain_text("top of 1: area 2400 mm²", timeout=30_000)
        page.get_by_role("button", name="Keep area").click()
        expect(self.ledger_value(page, "Measured area").locator(".value")).to_have_text("(2400 mm²)", timeout=30_000)
        drawing = self.save(page, page.locator("#tray .tool:visible", has_text="Save as drawing"))
        root = ElementTree.fromstring(drawing.read_text())
        # From above: a rectangle of 60 x 40 with a margin of 5 mm around, all of it visible, nothing behind.
        self.assertEqual((root.get("width"), root.get("height")), ("70mm", "53.5mm"))
        lines = [path.get("class") for path in root.iter("{http://www.w3.org/2000/svg}path")]
        self.assertEqual(lines, ["visible"])
        page.get_by_role("tab", name="View").click()
        page.locator("#tray .tool:visible", has_text="Below").click()
        page.get_by_role("tab", name="Look").click()
        page.locator("#tray .tool:visible", has_text="Section").click()
        expect(page.locator("#section output")).to_have_text("20.00 mm")
        page.get_by_label("Where the plane lies").fill("12")
        expect(page.locator("#section output")).to_have_text("12.00 mm")
        page.keyboard.press("Escape")
        expect(page.locator("#section")).to_be_hidden()
        self.nearer_looks_larger(page)

    def nearer_looks_larger(self, page):
        """From above the top of a box hides the rest; in perspective it is seen larger than in a parallel view."""
        page.get_by_role("tab", name="View").click()

        def seen():
            page.evaluate("new Promise((then) => requestAnimationFrame(() => requestAnimationFrame(then)))")
            return page.locator("canvas.solid").evaluate(COVERED)

        page.locator("#tray .tool:visible", has_text="Above").click()
        parallel = seen()
        page.locator("#tray .tool:visible", has_text="Perspective").click()
        expect(page.locator("#note")).to_contain_text("in perspective")
        self.assertGreater(seen(), 1.03 * parallel)
        page.locator("#tray .tool:visible", has_text="Perspective").click()
        expect(page.locator("#note")).not_to_contain_text("in perspective")
        self.assertEqual(seen(), parallel)

    def test_a_mark_is_let_into_a_face_in_another_colour(self):
        job = self.job(("sketch.rectangle", {"first": [0, 0], "second": [40, 30]}))
        region = find_regions(sketch_of(document_of(job)))[0].name
        perform(job.pk, self.users[0], None, "solid.add", extrusion(region, "5 mm", body="Tag"))
        document = document_of(job)
        (body,), (block,) = document["bodies"], document["operations"]
        top = {"body": body, "face": f"{block}.top"}
        mark = perform(job.pk, self.users[0], None, "sketch.new", {"title": "Mark", "plane": top}).made
        for x in (12, 28):
            perform(
                job.pk, self.users[0], None, "sketch.circle", {"center": [x, 15], "rim": [x + 5, 15], "sketch": mark}
            )
        self.drive(self.let_in, job)
        document = document_of(job)
        built = graph.run(build_of(document, environment(document)))
        volumes = sorted(body.facts.volume_mm3 for body in built.bodies.values())
        np.testing.assert_allclose(volumes, (2 * math.pi * 4.9**2, 40 * 30 * 5 - 2 * math.pi * 25), rtol=1e-9)

    def let_in(self, page, job):
        self.open(page, job)
        self.take(page, "Marks", "Inlay")
        for index in range(2):
            page.get_by_label("square millimetres of Mark").nth(index).dispatch_event("click")
        page.locator(".writing [data-blank=depth]").fill("1 mm")
        page.get_by_label("Type the name of the new body.").fill("Bee")
        page.get_by_role("button", name="clearance").click()
        page.locator(".writing [data-blank=clearance]").fill("0.1 mm")
        self.finish(page)
        expect(self.ledger_value(page, "Bee: Solid")).to_contain_text("closed, valid, 2 pieces", timeout=30_000)
        expect(page.locator("[data-stage-link=release]")).to_contain_text("ready")

    def test_a_mark_is_laid_around_a_rod(self):
        job = self.job(("sketch.circle", {"center": [0, 0], "rim": [10, 0]}))
        (region,) = find_regions(sketch_of(document_of(job)))
        perform(job.pk, self.users[0], None, "solid.add", extrusion(region.name, "30 mm", body="Rod"))
        mark = perform(job.pk, self.users[0], None, "sketch.new", {"title": "Mark", "plane": "front"}).made
        corners = {"first": [-3, 12], "second": [3, 18], "sketch": mark}
        perform(job.pk, self.users[0], None, "sketch.rectangle", corners)
        self.drive(self.laid_around, job)
        job.refresh_from_db()
        # The mark keeps its 6 mm along the rod's surface; between radii 10 and 10.8 it is a sector of a ring.
        raised = 6 / 10 * (10.8**2 - 10**2) / 2 * 6
        self.assertAlmostEqual(self.volume(job), math.pi * 100 * 30 + raised, places=4)

    def laid_around(self, page, job):
        self.open(page, job)
        self.take(page, "Marks", "Wrap")
        page.get_by_label("square millimetres of Mark").dispatch_event("click")
        blank = page.locator(".writing [data-blank=face]")
        self.point_at(page, blank, "top of 1")
        expect(page.locator(".writing .why")).to_contain_text("flat", timeout=30_000)
        page.keyboard.press("Space")
        self.point_at(page, blank, "side")
        expect(blank).to_have_text("1 face")
        self.finish(page)
        expect(page.locator(".op .told").last).to_contain_text("+0.030 cm³", timeout=30_000)

    def point_at(self, page, blank, words):
        """Takes what the keyboard finds under a name."""
        blank.focus()
        for _ in range(40):
            page.keyboard.press("ArrowDown")
            if words in page.locator("#prompt").inner_text():
                break
        page.keyboard.press("Space")

    def test_a_bar_is_wound_as_a_helix(self):
        job = self.job()
        self.drive(self.wound, job)
        job.refresh_from_db()
        wanted = math.pi * 2.0**2 * 3 * math.hypot(2 * math.pi * 12, 6)
        self.assertAlmostEqual(self.volume(job) / wanted, 1, delta=2e-4)

    def wound(self, page, job):
        self.open(page, job, built=False)
        self.take(page, "Shape", "Bar")
        page.locator(".writing [data-blank=path]").select_option("helix")
        for name, text in (("reach", "12 mm"), ("pitch", "6 mm"), ("turns", "3"), ("diameter", "7 mm")):
            page.locator(f".writing [data-blank={name}]").fill(text)
        expect(page.locator(".writing .why")).to_contain_text("of itself", timeout=30_000)
        page.locator(".writing [data-blank=diameter]").fill("4 mm")
        expect(page.locator(".writing .why")).to_be_hidden(timeout=30_000)
        self.finish(page)
        page.reload()
        expect(page.get_by_label("Operation 1, pitch")).to_have_value("6.00")

    def test_a_surface_between_two_rails(self):
        job = self.job(
            ("sketch.line", {"start": [0, 0], "end": [40, 0], "free": True}),
            ("sketch.line", {"start": [0, 30], "end": [40, 30], "free": True}),
        )
        self.drive(self.between_rails, job)
        job.refresh_from_db()
        self.assertAlmostEqual(self.volume(job), 40 * 30 * 3, places=4)

    def between_rails(self, page, job):
        self.open(page, job, built=False)
        self.take(page, "Shape", "Surface")
        for index, blank in enumerate(("first", "second")):
            page.locator(f".writing [data-blank={blank}]").focus()
            page.locator("svg.drawing .hit[data-pick]").nth(index).dispatch_event("click")
            expect(page.locator(f".writing [data-blank={blank}]")).to_contain_text("1 curve")
        page.locator(".writing [data-blank=thickness]").fill("3 mm")
        self.finish(page)
        expect(page.locator(".op .told").last).to_contain_text("3.600 cm³", timeout=30_000)
        page.get_by_role("button", name="Undo").click()
        expect(page.locator(".op[data-step] .no")).to_have_count(0)
        page.get_by_role("button", name="Redo").click()
        expect(page.get_by_label("Operation 1, thickness")).to_have_value("3.00")

    def test_a_mesh_of_somebody_else_gets_a_hole_and_is_released(self):
        job = self.job(("sketch.circle", {"center": [5, 0], "rim": [7, 0]}))
        self.refusals = (400,)
        self.drive(self.brought, job)
        job.refresh_from_db()
        hole = 2 * math.pi * 2.0**2  # within 0.01 mm of its rim
        self.assertAlmostEqual(self.volume(job), 20 * 20 * 2 - hole, delta=0.01 * 2 * math.pi * 2 * 2)

    def brought(self, page, job):
        self.open(page, job, built=False)
        self.take(page, "Bodies", "Mesh")
        surface, chooser = trimesh.creation.box((20, 20, 2)), page.locator(".writing input[type=file]")
        torn = trimesh.Trimesh(surface.vertices, surface.faces[5:])
        for shape, words in ((torn, "disc.stl is open"), (surface, "12 triangles, 20.00 × 20.00 × 2.00")):
            data = shape.export(file_type="stl")
            chooser.set_input_files({"name": "disc.stl", "mimeType": "model/stl", "buffer": data})
            expect(page.locator(".writing")).to_contain_text(words, timeout=20_000)
        page.locator(".writing [data-blank=body]").fill("Disc")
        self.finish(page)
        expect(page.locator(".op .told").last).to_contain_text("0.800 cm³", timeout=30_000)
        self.take(page, "Shape", "Hole")
        page.locator("svg.drawing circle[data-pick]").dispatch_event("click")
        page.locator(".writing [data-blank=diameter]").fill("4 mm")
        page.locator(".writing [data-blank=extent]").select_option("through")
        self.finish(page)
        page.reload()
        expect(page.locator(".sheet .head")).to_contain_text("2 built")
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/inspect")
        expect(page.locator(".finding", has_text="It is a mesh")).to_be_visible(timeout=30_000)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/release")
        with page.expect_download() as told:
            page.locator("[data-file=stl], [data-kind=stl]").first.click()
        again = trimesh.load(told.value.path(), file_type="stl")
        self.assertTrue(again.is_watertight)
        self.assertEqual(again.euler_number, 0)

    def test_a_clause_of_a_line_is_added_and_a_draft_too_large_is_set_to_what_works(self):
        """A dumbbell: a box of 8 x 2 between two of 10 x 10 mm; over 10 mm its bridge goes at 5.71 degrees."""
        places = [(0, 0), (10, 0), (10, 4), (18, 4), (18, 0), (28, 0), (28, 10), (18, 10), (18, 6), (10, 6), (10, 10),
                  (0, 10)]  # fmt: skip
        job = self.job()
        start = None
        for place, after in zip(places, [*places[1:], places[0]]):
            perform(job.pk, self.users[0], None, "sketch.line", {"start": start or list(place), "end": list(after)})
            sketch = sketch_of(document_of(job))
            start = sketch.curves[list(sketch.curves)[-1]].points[1]
        region = find_regions(sketch_of(document_of(job)))[0].name
        perform(job.pk, self.users[0], None, "solid.add", extrusion(region, "10 mm", body="Plate"))
        self.drive(self.leans, job)
        job.refresh_from_db()
        draft = document_of(job)["operations"]
        self.assertTrue(4.5 < math.degrees(next(iter(draft.values()))["blanks"]["draft"]["value"]) < 5.71)
        upright = 10 * (200 + 16)
        self.assertTrue(0.4 * upright < self.volume(job) < upright)

    def leans(self, page, job):
        self.open(page, job)
        page.get_by_role("button", name="+ draft").click()
        draft = page.locator(".writing [data-blank=draft]")
        expect(draft).to_be_focused()
        draft.fill("8°")
        draft.press("Enter")
        line = page.locator(".op[data-step]", has_text="Extrude")
        expect(line).to_contain_text("The sides cannot lean 8°", timeout=60_000)
        line.get_by_role("button", name=re.compile("^Set .*°$")).click()
        expect(line).not_to_contain_text("cannot lean", timeout=60_000)

    def test_a_body_is_laid_on_its_side(self):
        job = self.job(("sketch.rectangle", {"first": [0, 0], "second": [20, 10]}))
        region = find_regions(sketch_of(document_of(job)))[0].name
        perform(job.pk, self.users[0], None, "solid.add", extrusion(region, "6 mm", body="Plate"))
        self.drive(self.moved, job)
        job.refresh_from_db()
        document = document_of(job)
        body = next(iter(graph.run(build_of(document, environment(document), files=Shelf(job))).bodies.values()))
        (low, high) = body.facts.box
        sizes = sorted(round(b - a, 6) for a, b in zip(low, high))
        self.assertEqual((sizes, round(low[2], 6)), ([6.0, 10.0, 20.0], 0.0))
        self.assertNotAlmostEqual(high[2], 6.0)

    def moved(self, page, job):
        self.open(page, job)
        self.take(page, "Bodies", "Move")
        page.get_by_label("How its way is said.").select_option("onto")
        face = page.locator(".writing [data-blank=face]")
        face.focus()
        for _ in range(6):
            page.keyboard.press("ArrowDown")
            if "side" in page.locator("#prompt, .prompt").first.inner_text():
                break
        page.keyboard.press("Space")
        expect(face).to_contain_text("side")
        self.finish(page)
        expect(page.locator(".op[data-step]", has_text="lies on")).to_be_visible()

    def test_a_profile_is_turned_about_a_line_of_its_sketch(self):
        job = self.job(
            ("sketch.rectangle", {"first": [10, 0], "second": [14, 10]}),
            ("sketch.line", {"start": [0, 0], "end": [0, 30], "construction": True}),
        )
        self.drive(self.turned, job)
        job.refresh_from_db()
        # Pappus's centroid theorem: the rectangle's middle goes 75° of a circle of radius 12.
        self.assertAlmostEqual(self.volume(job), math.radians(75) * 12 * 40, places=6)

    def turned(self, page, job):
        self.open(page, job, built=False)
        self.take(page, "Shape", "Revolve")
        # The only region is taken already.
        expect(page.locator(".writing [data-blank=regions]")).to_contain_text("1 region")
        axis = page.get_by_label("Click a line of the sketch or a straight edge, or choose an axis.")
        axis.focus()
        page.locator("svg.drawing .hit[data-pick]").last.dispatch_event("click")
        expect(axis.locator("option:checked")).to_have_text("the line clicked")
        page.get_by_label("How far it turns.").select_option("by")
        page.get_by_label("Type the angle.").fill("75°")
        self.finish(page)
        expect(page.locator(".op[data-step] .no")).to_have_count(1)
        page.get_by_role("button", name="Undo").click()
        expect(page.locator(".op[data-step] .no")).to_have_count(0)
        page.get_by_role("button", name="Redo").click()
        expect(page.locator(".op[data-step] .no")).to_have_count(1)
        field = page.get_by_label("Operation 1, angle")
        expect(field).to_have_value("75.0°")

    def test_a_wall_and_an_opened_box_by_the_keyboard(self):
        job = self.job(("sketch.rectangle", {"first": [0, 0], "second": [60, 40]}))
        region = find_regions(sketch_of(document_of(job)))[0].name
        perform(job.pk, self.users[0], None, "solid.add", extrusion(region, "20 mm", body="Box"))
        self.drive(self.opened_box, job)
        job.refresh_from_db()
        self.assertAlmostEqual(self.volume(job), 48_000 - 56 * 36 * 15, places=5)

    def opened_box(self, page, job):
        self.open(page, job)
        self.take(page, "Edges", "Hollow")
        blank = page.locator(".writing [data-blank=faces]")
        self.point_at(page, blank, "top of 1")
        expect(blank).to_have_text("1 face")
        self.finish(page)
        expect(page.locator(".op .told").last).to_contain_text("36.288 cm³", timeout=30_000)
        self.take(page, "Bodies", "Cap")
        blank = page.locator(".writing [data-blank=edges]")
        self.point_at(page, blank, "edge between top of 1 and inside of 2")
        page.locator(".writing [data-blank=thickness]").fill("3 mm")
        self.finish(page)
        expect(page.locator(".op .told").last).to_contain_text("+6.048 cm³", timeout=30_000)
        self.together(page)

    def together(self, page):
        """The opening and its cap under one heading, that folds and leaves both out."""
        for kind in ("Hollow", "Cap"):
            page.locator(".op[data-step]", has_text=kind).get_by_role("button", name="Group", exact=True).click()
        expect(page.locator(".together .told")).to_have_text("2 steps")
        page.locator(".together input").fill("Inside")
        page.locator(".together input").press("Enter")
        page.locator(".together [data-fold]").click()
        expect(page.locator(".op[data-step]:visible")).to_have_count(2)
        page.locator(".together").get_by_role("button", name="Leave out").click()
        expect(page.locator(".sheet .head")).to_contain_text("2 left out", timeout=30_000)
        page.reload()
        expect(page.locator(".together input")).to_have_value("Inside")
        expect(page.locator(".op[data-step]:visible")).to_have_count(2)
        page.locator(".together").get_by_role("button", name="Take in").click()
        expect(page.locator(".sheet .head")).to_contain_text("3 built", timeout=30_000)
