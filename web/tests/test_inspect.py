"""The part checked in the browser: what is thin, what hangs, what is accepted, for other ways of making."""

import io
import math
import re
import zipfile

import ezdxf
import trimesh
from playwright.sync_api import expect

from nomogon_core.job.document import sketch_of
from nomogon_core.sketch.regions import find_regions
from store import making
from store.actions import perform
from store.documents import document_of
from web.tests.browser import BrowserCase
from web.tests.helpers import extrusion

BUILT = re.compile("[0-9a-f]{64}")
# An upright with an arm that hangs 10 mm above the bed once the part is turned over its back.
HOOK = [(0, 0), (8, 0), (8, 10), (20, 10), (20, 15), (0, 15)]


class Inspecting(BrowserCase):
    def job(self, outline, circles=(), height="8 mm"):
        job = making.new_job(self.users[0], "Hook")
        start = None
        for place, after in zip(outline, [*outline[1:], outline[0]]):
            perform(job.pk, self.users[0], None, "sketch.line", {"start": start or list(place), "end": list(after)})
            sketch = sketch_of(document_of(job))
            start = sketch.curves[list(sketch.curves)[-1]].points[1]
        for x, y, radius in circles:
            perform(job.pk, self.users[0], None, "sketch.circle", {"center": [x, y], "rim": [x + radius, y]})
        region = find_regions(sketch_of(document_of(job)))[0].name
        perform(job.pk, self.users[0], None, "solid.add", extrusion(region, height, body="Plate"))
        return job

    def open(self, page, job):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/inspect")
        expect(page.locator("#board")).to_have_attribute("data-mesh", BUILT, timeout=60_000)

    def finding(self, page, title):
        return page.locator(".finding", has=page.locator("b", has_text=re.compile(f"^{title}")))

    def test_a_thin_wall_is_found_shown_accepted_and_comes_back(self):
        rectangle = [(0, 0), (60, 0), (60, 40), (0, 40)]
        job = self.job(rectangle, [(10, 20, 3), (16.62, 20, 3)])
        self.refusals = (400,)
        report = self.drive(self.thin, job)
        self.assertIn("Accepted: Thin wall, 0.62 mm: is filled with resin.", report)
        self.assertIn("To be made by printing: nozzle 0.4 mm", report)
        job.refresh_from_db()
        self.assertEqual(list(document_of(job)["making"]["accepted"].values())[0]["why"], "is filled with resin")
        # With another number it is there again, and says so.
        circle = next(name for name, one in sketch_of(document_of(job)).curves.items() if one.kind == "circle")
        perform(job.pk, self.users[0], None, "sketch.dimension", {"kind": "diameter", "of": [circle], "text": "6.2 mm"})
        self.refusals, self.complaints = (), []
        self.drive(self.thinner, job)

    def thin(self, page, job):
        self.open(page, job)
        wall = self.finding(page, "Thin wall")
        expect(wall).to_contain_text("0.62 mm")
        expect(wall).to_contain_text("between faces of step 1")
        expect(page.locator(".sheet .head")).to_contain_text("1 to mend")
        page.locator("[data-mark]", has_text="1").locator("circle").click()
        expect(wall).to_have_class(re.compile("shown"))
        # A nozzle that needs less wall, a word that is none, and back.
        nozzle = page.get_by_label("nozzle")
        nozzle.fill("0.25")
        nozzle.press("Enter")
        expect(self.finding(page, "Walls are thick enough")).to_be_visible()
        expect(page.get_by_label("nozzle")).to_have_value("0.25")
        page.get_by_label("nozzle").fill("wide")
        page.get_by_label("nozzle").press("Enter")
        expect(page.locator("#said, .said").first).to_contain_text("wide")
        expect(page.get_by_label("nozzle")).to_have_value("0.25")
        page.get_by_role("button", name="Undo").click()
        expect(wall).to_contain_text("0.62 mm")
        wall.get_by_role("button", name="Accept …").click()
        page.get_by_label("Why this is accepted").fill("is filled with resin")
        page.get_by_role("button", name="Accept", exact=True).click()
        expect(wall).to_have_class(re.compile("accepted"))
        expect(wall).to_contain_text("is filled with resin")
        expect(page.locator(".sheet .head")).to_contain_text("1 accepted")
        self.go(page, "release")
        row = page.locator("tr", has_text="All files")
        with zipfile.ZipFile(self.save(page, row.get_by_role("button"))) as packed:
            return packed.read("report.txt").decode()

    def thinner(self, page, job):
        self.open(page, job)
        wall = self.finding(page, "Thin wall")
        expect(wall).to_contain_text("0.52 mm")
        expect(wall).to_contain_text("It was accepted at 0.62 mm: is filled with resin")
        page.locator("#tray .tool", has_text="Milling").click()
        expect(page.get_by_label("cutter Ø")).to_have_value("3")
        expect(self.finding(page, "The cutter reaches all corners")).to_be_visible()

    def test_an_overhang_is_gone_after_its_remedy_and_the_file_lies_so(self):
        job = self.job(HOOK, height="20 mm")
        data = self.drive(self.hangs, job)
        mesh = trimesh.load(io.BytesIO(data), file_type="stl")
        self.assertAlmostEqual(mesh.bounds[0][2], 0.0, places=4)
        # On its head: the arm lies on the bed then, and the foot is the widest.
        self.assertAlmostEqual(mesh.extents[2], 15.0, places=4)
        self.assertAlmostEqual(mesh.volume, 20 * (8 * 15 + 12 * 5), places=2)

    def hangs(self, page, job):
        self.open(page, job)
        expect(self.finding(page, "Nothing hangs")).to_be_visible()
        page.get_by_role("tab", name="Lying").click()
        page.locator("#tray .tool:visible", has_text="On its front").click()
        hanging = self.finding(page, "Overhang")
        expect(hanging).to_contain_text("90° · 240 mm²")
        page.keyboard.press("Escape")
        hanging.get_by_role("button", name="Lay it that way").click()
        expect(self.finding(page, "Nothing hangs")).to_be_visible()
        page.reload()
        expect(self.finding(page, "Nothing hangs")).to_be_visible()
        self.go(page, "release")
        row = page.locator("tr", has_text="STL")
        return self.save(page, row.get_by_role("button").or_(row.get_by_role("link")).first).read_bytes()

    def test_an_allowance_changes_the_files_and_not_the_design_and_a_release_is_kept(self):
        job = self.job([(0, 0), (60, 0), (60, 40), (0, 40)], [(15, 20, 2.5)], height="6 mm")
        self.refusals = (400,)
        plain, grown, first, again, second = self.drive(self.allowed, job)
        ring = 6 * math.pi * (2.6**2 - 2.5**2)
        self.assertAlmostEqual(plain - grown, ring, delta=0.05 * ring)
        self.assertEqual(first, again)
        self.assertNotEqual(first, second)
        report, later = (zipfile.ZipFile(io.BytesIO(one)).read("report.txt").decode() for one in (first, second))
        self.assertIn("Round holes, Ø: 5.00 → 5.20.", report)
        self.assertNotIn("→", later)
        job.refresh_from_db()
        self.assertEqual([one.allowances for one in job.releases.all()], ["", "holes +0.2 mm up to Ø 20"])
        circle = next(one for one in sketch_of(document_of(job)).curves.values() if one.kind == "circle")
        self.assertEqual(circle.radius, 2.5)

    def allowed(self, page, job):
        self.open(page, job)
        self.go(page, "release")

        def volume():
            data = self.save(page, page.get_by_label("Download the STL file")).read_bytes()
            return trimesh.load(io.BytesIO(data), file_type="stl").volume

        def kept(number):
            page.get_by_role("button", name="Keep a release").click()
            link = page.get_by_label(f"Download release {number}")
            expect(link).to_be_visible(timeout=60_000)
            return self.save(page, link).read_bytes()

        expect(page.locator("#allowed")).to_have_text("Nothing: the files have the sizes of the design.")
        plain = volume()
        holes = page.get_by_label("The growth of holes")
        holes.fill("40 mm")
        holes.press("Enter")
        expect(page.locator("#said")).to_contain_text("lies between -1 and 5 mm")
        expect(holes).to_have_value("0")
        holes.fill("0.2")
        holes.press("Enter")
        expect(page.locator("#allowed")).to_contain_text("Ø: 5.00 → 5.20. The design keeps its sizes.")
        grown, first = volume(), kept(1)
        page.reload()
        again = self.save(page, page.get_by_label("Download release 1")).read_bytes()
        page.get_by_role("button", name="Keep a release").click()
        expect(page.locator("#said")).to_contain_text("Nothing has changed since release 1", timeout=60_000)
        holes.fill("0")
        holes.press("Enter")
        expect(page.locator("#allowed")).to_contain_text("sizes of the design.")
        return plain, grown, first, again, kept(2)

    def test_the_layers_of_a_simulated_print(self):
        job = self.job(HOOK, height="20 mm")
        self.refusals = (400,)
        self.drive(self.layers, job)
        job.refresh_from_db()
        self.assertEqual(document_of(job)["making"]["numbers"]["printer"], {"infill": 100.0})

    def layers(self, page, job):
        self.open(page, job)
        self.go(page, "release")
        expect(page.locator("#layer-at")).to_have_text("50 of 100, at 9.90 mm", timeout=60_000)
        infill = page.get_by_label("The infill")
        infill.fill("300")
        infill.press("Enter")
        expect(page.locator("#said")).to_contain_text("lies between 0 and 100 %")
        infill.fill("100")
        infill.press("Enter")
        # 3.6 cm³ of PLA, 1.24 g a cubic centimetre
        expect(page.locator("#taken")).to_contain_text(f"{20 * (8 * 15 + 12 * 5) / 1000 * 1.24:.1f} g", timeout=60_000)
        slider = page.get_by_label("Layer shown")
        slider.focus()
        page.keyboard.press("Home")
        expect(page.locator("#layer-at")).to_have_text("1 of 100, at 0.10 mm")
        first = page.locator("#layer .part").get_attribute("d")
        page.keyboard.press("ArrowRight")
        expect(page.locator("#layer-at")).to_have_text("2 of 100, at 0.30 mm")
        self.assertEqual(page.locator("#layer .part").get_attribute("d"), first)
        self.assertEqual(page.locator("#layer .under").get_attribute("d"), first)

    def test_a_machine_of_ones_own_is_kept_taken_and_forgotten(self):
        job = self.job(HOOK)
        self.refusals = (400,)
        self.drive(self.machines, job)
        job.refresh_from_db()
        self.assertEqual(document_of(job)["making"]["numbers"]["printing"]["nozzle"], 0.6)
        self.assertFalse(self.users[0].machines.exists())

    def machines(self, page, job):
        self.open(page, job)
        nozzle, machine = page.get_by_label("nozzle"), page.get_by_label("Machine of your own")
        nozzle.fill("0.6")
        nozzle.press("Enter")
        expect(self.finding(page, "Walls are thick")).to_contain_text("1.20 mm")
        machine.select_option("+")
        name = page.get_by_label("Name of the machine")
        name.press("Enter")
        expect(page.locator("#said")).to_contain_text("The machine needs a name")
        machine.select_option("+")
        name.fill("Wide nozzle")
        name.press("Enter")
        expect(machine).to_have_value("Wide nozzle")
        nozzle.fill("0.4")
        nozzle.press("Enter")
        expect(machine).to_have_value("")
        machine.select_option("Wide nozzle")
        expect(nozzle).to_have_value("0.6")
        machine.select_option("-")
        expect(machine.locator("option")).to_have_count(2)

    def test_a_sheet_is_cut_and_the_made_part_read_until_both_come_out_right(self):
        job = self.job([(0, 0), (60, 0), (60, 40), (0, 40)], [(15, 20, 2.5), (45, 20, 2.5)], height="6 mm")
        self.drive(self.tried, job)
        job.refresh_from_db()
        making = document_of(job)["making"]
        self.assertEqual(making["numbers"]["cutting"], {"kerf": 2.0})
        self.assertEqual(making["numbers"]["cutter"], {"copies": 5.0})
        self.assertEqual(making["allowances"]["kerf"], 2.0)
        self.assertTrue(0.0 < making["allowances"]["holes"] < 0.4)

    def tried(self, page, job):
        self.open(page, job)
        self.go(page, "release")
        expect(page.locator("#cut-taken")).to_contain_text("Copies on it", timeout=60_000)
        for label, value in (("The number of copies", "5"), ("The width of the cut", "2 mm")):
            page.get_by_label(label).fill(value)
            page.get_by_label(label).press("Enter")
        expect(page.locator("#cut-taken")).to_contain_text("5 (room for", timeout=60_000)
        expect(page.locator("#cut-note")).to_contain_text("comes off 2 mm too small", timeout=60_000)
        moves = page.locator("#sheet path.cut")
        self.assertEqual(moves.count(), 5 * 3)
        slider = page.get_by_label("Time shown")
        slider.focus()
        page.keyboard.press("Home")
        self.assertEqual(page.locator("#sheet path.cut:visible").count(), 0)
        page.locator("#cut-play").click()
        expect(page.locator("#cut-at")).not_to_have_text("0 min 00 s")
        page.locator("#cut-play").click()
        page.get_by_role("button", name="Allow for the cut").click()
        expect(page.locator("#cut-note")).to_contain_text("with the sizes of the design", timeout=60_000)
        expect(page.get_by_label("The kerf")).to_have_value("2")
        file = self.save(page, page.get_by_label("Download the Nested sheet, DXF file"))
        sheet = ezdxf.read(io.StringIO(file.read_text()))
        radii = [one.dxf.radius for one in sheet.modelspace() if one.dxftype() == "CIRCLE"]
        self.assertEqual(len(radii), 10)
        self.assertTrue(all(abs(radius - 1.5) < 1e-6 for radius in radii), "a hole of 5 mm, half a cut of 2 mm off")
        expect(page.locator("#gauge-rows")).to_contain_text("Hole 1 of Plate, Ø 5.00", timeout=60_000)
        page.get_by_role("button", name="Let holes grow by").click()
        expect(page.locator("#allowed")).to_contain_text("Ø: 5.00 →", timeout=60_000)
        page.get_by_role("button", name="Read another part").click()
        expect(page.locator("#gauge-part")).to_have_text("2", timeout=60_000)
        level = page.get_by_label("What flat files show")
        level.select_option("plan")
        distance = page.get_by_label("Distance from that plane")
        distance.fill("900 mm")
        distance.press("Enter")
        expect(page.locator("#cut-note")).to_contain_text("there is nothing of the part", timeout=60_000)
        distance.fill("1 mm")
        distance.press("Enter")
        expect(page.locator("#cut-taken")).to_contain_text("5 (room for", timeout=60_000)
