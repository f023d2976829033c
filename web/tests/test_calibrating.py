"""Calibrating in a real browser: card, scanner, wrong length, following, checks, clean-up; and every bad file."""

import io
import math
import re
import tempfile
from pathlib import Path

import cv2
import numpy as np
from PIL import Image
from playwright.sync_api import expect

from examples import parts, samples
from examples.render import Camera, part_coverage, photograph
from examples.tilted import Pinhole, shoot_beside_card
from nomogon_core.geometry.curves import bounds
from nomogon_core.job.document import age_of, calibration_of, sketch_of
from nomogon_core.picture.decode import decode
from nomogon_core.picture.edges import pick_edge
from shell import demo
from store import making
from store.actions import perform
from store.documents import document_of
from store.models import Job
from web.tests.browser import Board, BrowserCase, Late
from web.tests.helpers import JobCase, make_user


class Calibrating(BrowserCase):
    def open_reference(self, page, job):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/reference")
        board = Board(page)
        expect(page.locator("#note")).not_to_be_empty()
        return board

    def asked(self, page, rest):
        """What the stage's page gets from the server below its own address."""
        return page.evaluate("async (rest) => await (await fetch(`${location.pathname}/${rest}`)).json()", rest)

    def built(self, page):
        """What the Solid stage's page gets from the server."""
        return page.evaluate(
            "async () => await (await fetch(`${location.pathname}/build`, { method: 'POST', body: '{}', headers: "
            "{ 'X-CSRFToken': document.body.dataset.csrf } })).json()"
        )

    def points(self, page):
        drawing = page.evaluate(
            "async () => await (await fetch(location.pathname.replace('reference', 'sketch/board'))).json()"
        )["shapes"]
        return np.array([(point["x"], point["y"]) for point in drawing["points"]])

    def test_a_card_in_a_tilted_photo(self):
        camera = Pinhole((2600, 1950), tilt=16.0, turn=0.3, focal=2340.0, height=290.0, target=(55.0, 70.0), bend=0.02)
        photo = shoot_beside_card(
            camera, parts.latch_plate(), part_at=(10.0, 10.0), card_at=(12.0, 75.0), noise=0.01, light=0.3, seed=9
        )
        job = making.job_from_picture(self.users[0], "Latch", "FLA-014", photo, "latch.jpg")
        self.drive(self.card, job, camera)

    def test_jaws_close_on_the_part(self):
        self.refusals = (400,)
        view = Camera(10.0, (60.0, 560.0))
        picture = cv2.imencode(".png", photograph(part_coverage(parts.latch_plate(), view, 980, 620), seed=4))[
            1
        ].tobytes()
        job = making.job_from_picture(self.users[0], "Latch", "FLA-014", picture, "latch.png")
        self.drive(self.jaws, job)
        sketch = sketch_of(document_of(job))
        (left, _), (right, _) = bounds([sketch.geometry(name) for name in sketch.curves], 1e-5)
        self.assertAlmostEqual(right - left, 84.1375, delta=2e-4)
        (known,) = document_of(job)["known"].values()
        self.assertEqual(known["jaws"]["way"], 0.0)

    def jaws(self, page, job):
        board = self.open_reference(page, job)
        page.get_by_role("tab", name="Jaws").click()
        page.keyboard.press("1")
        late = Late(page, "reference/find")
        board.click((400.0, -300.0))
        page.keyboard.press("Escape")
        late.wait()
        expect(page.locator("#ask")).to_be_hidden()
        page.keyboard.press("1")
        board.click((30.0, -30.0))
        expect(page.locator("#said")).to_contain_text("No outline goes around that place", timeout=20_000)
        board.click((400.0, -300.0))
        expect(page.locator("#ask")).to_be_visible(timeout=20_000)
        page.locator("#ask input[name=reading]").fill("84 mm")
        page.locator("#ask input[name=reading]").press("Enter")
        expect(page.locator("#note")).to_contain_text("10.0", timeout=20_000)
        page.reload()
        value = self.ledger_value(page, "Known length 1").locator("input[name=value]")
        expect(value).to_have_value("84.00")
        value.fill("3 5/16 in")
        value.press("Enter")
        value = self.ledger_value(page, "Known length 1").locator("input[name=value]")
        expect(value).to_have_value("84.14")
        value.focus()
        expect(value).to_have_value("3 5/16 in")
        page.get_by_role("tab", name="Jaws").click()
        page.keyboard.press("3")
        for place in ((400.0, -300.0), (300.0, -558.0), (700.0, -559.0)):
            board.click(place)
        expect(page.locator("#ask")).to_be_visible(timeout=20_000)
        page.locator("#ask input[name=reading]").press("Escape")
        page.get_by_role("button", name="Find outlines").first.click()
        expect(page.locator("#found")).to_contain_text("kept", timeout=20_000)
        page.get_by_role("button", name="Trace these").click()
        expect(page.locator("#said")).to_contain_text("outlines traced: ", timeout=30_000)
        page.get_by_role("button", name="Measure this").click()
        expect(page.locator("#ask")).to_be_visible(timeout=20_000)
        expect(page.locator("#prompt")).to_contain_text("Type how long that is")
        page.keyboard.press("Escape")

    def card(self, page, job, camera):
        board = self.open_reference(page, job)

        def click(places):
            for x, y in camera.to_px(places):
                board.click((x, -y))

        page.get_by_role("tab", name="Rectify").click()
        page.keyboard.press("1")
        expect(page.locator("#note")).to_contain_text("camera", timeout=40_000)
        expect(self.ledger_value(page, "Bank card, width").locator("input[name=value]")).to_have_value("85.60")
        page.get_by_role("tab", name="Check").click()
        page.keyboard.press("2")
        click([(80.0, 26.0)])
        page.locator("#ask input").fill("4.76")
        page.locator("#ask input").press("Enter")
        row = self.ledger_value(page, "Check 1")
        expect(row).to_be_visible()
        read, u95 = (float(row.locator(part).inner_text()) for part in (".value", ".u95"))
        self.assertAlmostEqual(read, 4.76, delta=u95 + 0.005)
        self.assertLess(u95, 0.12)
        page.get_by_role("button", name="Find outlines").first.click()
        expect(page.locator("#found")).to_contain_text("4 found; 4 kept, 3 of them holes")
        page.get_by_role("button", name="Trace these").click()
        expect(page.locator("#said")).to_contain_text("4 outlines traced: ", timeout=30_000)
        self.go(page, "sketch")
        expect(page.locator(".hit[data-curve]")).to_have_count(21)
        self.assertIn("/flat/", self.asked(page, "board")["pictures"][0]["url"])

    def test_a_scan_whose_axes_differ(self):
        picture = samples.take("latch-plate", "scan", dpi=200, turn_degrees=1.0, seed=3)
        job = making.job_from_picture(
            self.users[0],
            "Latch",
            "",
            picture.data,
            picture.name,
            stand_in={"part": "latch-plate", "px_from_mm": picture.px_from_mm.ravel().tolist()},
        )
        self.drive(self.scan, job, picture.px_from_mm)
        fit = calibration_of(document_of(job))
        self.assertEqual(fit.model, "x and y scale")
        across, down = (math.hypot(*picture.px_from_mm[row, :2] / picture.px_from_mm[2, 2]) for row in (0, 1))
        self.assertAlmostEqual(fit.parameters[1] / fit.parameters[0], across / down, delta=0.0015)

    def scan(self, page, job, matrix):
        board = self.open_reference(page, job)

        def place(x, y):
            u, v, w = matrix @ (x, y, 1)
            return u / w, -v / w

        page.keyboard.press("4")
        expect(self.ledger_value(page, "Resolution 1").locator("input[name=value]")).to_have_value("200 dpi")
        expect(page.locator(".next")).to_contain_text("Confirm it by one known length")
        for ends in (((0, 20), (84, 20)), ((25, 0), (25, 46))):
            page.keyboard.press("1")
            for end in ends:
                board.click(place(*end), off=(1, 1))
            page.get_by_role("button", name="Caliper stand-in").click()
            page.wait_for_function("() => document.querySelector('#ask input').value.endsWith('mm')")
            page.locator("#ask input").press("Enter")
            expect(page.locator("#ask")).to_be_hidden()
        expect(page.locator("#note")).to_contain_text("x and y scale")
        page.get_by_role("tab", name="Check").click()
        page.keyboard.press("4")
        expect(page.locator("#quality .measure")).to_have_count(8)
        expect(page.locator("#quality .measure", has_text="Contrast")).to_have_class("measure good")

    def test_a_wrong_length_is_named_and_the_sketch_follows(self):
        picture = samples.take("latch-plate", "above", seed=21)
        job = making.job_from_picture(self.users[0], "Latch", "FLA-014", picture.data, picture.name)
        for ends, wrong in (
            (((0, 16), (84, 16)), 0),
            (((25, 0), (25, 46)), 0),
            (((0, 25), (50, 6)), 0),
            (((12 - 2.38, 34), (84, 16)), 1.5),
        ):
            places = [(matrix := picture.px_from_mm @ (*end, 1))[:2] / matrix[2] for end in ends]
            picks = [pick_edge(decode(picture.data), *place) for place in places]
            perform(
                job.pk,
                self.users[0],
                None,
                "reference.add_known",
                {
                    "start": [picks[0].x, picks[0].y],
                    "end": [picks[1].x, picks[1].y],
                    "text": f"{math.dist(*ends) + wrong:.2f}",
                    "sigma_px": max(pick.sigma_px for pick in picks),
                },
            )
        self.drive(self.wrong, job)

    def wrong(self, page, job):
        self.open_reference(page, job)
        expect(page.locator(".next")).to_contain_text("Known length 4 disagrees with the others by +1.5")
        page.get_by_role("button", name="Leave it out").click()
        expect(page.locator("[data-row='fit:model']")).to_contain_text("similarity")
        expect(page.locator("[data-row='known:g6']")).to_have_class("row gauge off")
        page.get_by_role("tab", name="Trace").click()
        page.keyboard.press("1")
        expect(page.locator("#found")).to_contain_text("4 kept")
        page.get_by_role("button", name="Trace these").click()
        expect(page.locator("#said")).to_contain_text("4 outlines traced", timeout=30_000)
        before = self.points(page)
        value = page.locator("[data-row='known:g3'] input[name=value]")
        value.fill("86")
        value.press("Enter")
        expect(page.locator("#said")).to_contain_text("of the sketch followed, at most by")
        ratio = np.ptp(self.points(page), axis=0) / np.ptp(before, axis=0)
        self.assertGreater(ratio.max(), 1.002)
        page.get_by_role("button", name="Undo").click()
        expect(value).to_have_value("84.00")
        np.testing.assert_array_equal(self.points(page), before)

    def test_steps_pictures_and_placing(self):
        self.refusals = (400,)
        picture = samples.take("hinge-leaf", "above", seed=4)
        job = making.job_from_picture(self.users[0], "Leaf", "", picture.data, picture.name)
        with tempfile.TemporaryDirectory() as folder:
            drawing = Path(folder) / "plan.svg"
            drawing.write_text(
                '<svg xmlns="http://www.w3.org/2000/svg" width="50mm" height="30mm" viewBox="0 0 50 30">'
                '<rect x="10" y="5" width="30" height="20"/></svg>'
            )
            self.drive(self.steps, job, picture, drawing)

    def steps(self, page, job, picture, drawing):
        board = self.open_reference(page, job)
        page.get_by_role("tab", name="Clean up").click()
        page.keyboard.press("1")
        page.locator("#clean select").select_option("specks")
        page.get_by_role("button", name="Add", exact=True).click()
        expect(page.locator("#said")).to_contain_text("Set a known length first")
        ends = [tuple((lambda v: v[:2] / v[2])(picture.px_from_mm @ (*end, 1))) for end in ((0, 20), (62, 20))]
        page.keyboard.press("Escape")
        page.get_by_role("tab", name="Measure").click()
        page.keyboard.press("1")
        for x, y in ends:
            board.click((x, -y))
        page.locator("#ask input").fill("62")
        page.locator("#ask input").press("Enter")
        expect(page.locator("#note")).to_contain_text("px per mm")
        page.get_by_role("tab", name="Clean up").click()
        page.keyboard.press("1")
        page.locator("#clean select").select_option("specks")
        page.get_by_role("button", name="Add", exact=True).click()
        expect(page.locator("#clean .step")).to_have_count(1)
        page.keyboard.press("Escape")
        page.keyboard.press("2")
        board.drag((60, -60), (2000, -1200))
        expect(page.locator("#clean .step")).to_have_count(2)
        expect(page.locator("#note")).to_contain_text("px per mm", timeout=20_000)
        page.locator("#clean .step", has_text="Drop specks").get_by_role("checkbox").uncheck()
        expect(page.locator(".page")).to_have_attribute("data-version", "5")
        self.assertEqual([step["on"] for step in self.asked(page, "board")["picture"]["steps"]], [False, True])
        page.keyboard.press("Escape")
        page.get_by_role("tab", name="Place").click()
        page.keyboard.press("4")
        card = page.locator("#pictures")
        card.get_by_label("Turned by").fill("90")
        card.get_by_label("Turned by").press("Enter")
        expect(page.locator(".page")).to_have_attribute("data-version", "6")
        card.get_by_label("locked").check()
        expect(card.get_by_label("Turned by")).to_be_disabled()
        page.keyboard.press("Escape")
        page.keyboard.press("2")
        board.click((-300, -300))
        expect(page.locator("#said")).to_contain_text("is locked, so that no click can move it")
        page.keyboard.press("Escape")
        page.keyboard.press("4")
        card.locator("input[type=file]").set_input_files(str(drawing))
        expect(card.locator("select[name=picture] option")).to_have_count(2)
        expect(page.locator("#note")).to_contain_text("no known length yet")
        card.get_by_label("Licence").fill("own work")
        card.get_by_label("Licence").press("Tab")
        expect(self.ledger_value(page, "Licence")).to_contain_text("own work")

    def test_a_picture_laid_on_a_face_of_the_solid(self):
        demo.write_demo()
        self.drive(self.laying, Job.objects.get(number="FLA-014"))

    def laying(self, page, job):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{job.pk}/solid")
        expect(page.locator("#board")).to_have_attribute("data-mesh", re.compile("[0-9a-f]{64}"), timeout=60_000)
        page.get_by_role("tab", name="Reference").click()
        page.keyboard.press("1")
        chosen = page.locator("#lay [data-chosen]")
        expect(chosen).to_contain_text("lies on Plan")
        box = page.locator("canvas.solid").bounding_box()
        place = (box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.click(box["x"] + 8, box["y"] + 8)
        expect(page.locator("#prompt")).to_contain_text("No face there")
        page.mouse.click(*place)
        expect(chosen).to_contain_text("Chosen: top of 1")
        page.get_by_role("button", name="Lay it there").click()
        expect(chosen).to_contain_text("lies on top of 1")
        picture = self.built(page)["pictures"][0]
        np.testing.assert_allclose(picture["frame"]["origin"], (0, 0, 6))
        thickness = page.locator(".op input[data-field=length]").first
        thickness.fill("9 mm")
        thickness.press("Tab")
        expect(self.ledger_value(page, "Plate: Size")).to_contain_text("9.00)", timeout=30_000)
        np.testing.assert_allclose(self.built(page)["pictures"][0]["frame"]["origin"], (0, 0, 9))
        page.locator(".op:has(.no)").first.get_by_role("button", name="Leave out").click()
        expect(chosen).to_contain_text("which is not there any more", timeout=30_000)
        page.get_by_role("button", name="On Plan").click()
        expect(chosen).to_contain_text("lies on Plan")


def encoded(kind, size=(60, 40), mode="RGB"):
    stream = io.BytesIO()
    Image.new(mode, size, 128 if mode == "L" else (128, 128, 128)).save(stream, kind)
    return stream.getvalue()


class BadFiles(JobCase):
    """Every bad input is refused in words, by the page for a new job and on the Board, and nothing is made."""

    def test_each_is_told(self):
        whole = encoded("PNG")
        bad = (
            ("empty.png", b"", "is empty"),
            ("words.png", b"words", "not a picture that can be read"),
            ("cut.png", whole[:-30], "cut off"),
            ("tiny.png", encoded("PNG", (8, 8)), "at least 16"),
            ("huge.png", encoded("PNG", (9000, 6000), "L"), "megapixels"),
            ("bad.svg", b"<svg", "cannot be read as SVG"),
            (
                "far.svg",
                b'<svg xmlns="http://www.w3.org/2000/svg"><image href="other.png"/></svg>',
                "points to other files",
            ),
            ("bomb.svg", b'<!DOCTYPE svg [<!ENTITY a "b">]><svg/>', "points to other files"),
            ("bad.dxf", b"words", "cannot be read as DXF"),
            ("bad.pdf", b"words", "cannot be read as PDF"),
            ("cut.heic", encoded("HEIF")[:200], "not a picture that can be read"),
            ("cut.avif", encoded("AVIF")[:120], "not a picture that can be read"),
        )
        jobs = Job.objects.count()
        for name, data, words in bad:
            with self.subTest(name=name):
                for address in ("/new", f"/jobs/{self.job.pk}/reference/pictures"):
                    upload = io.BytesIO(data)
                    upload.name = name
                    answer = self.client.post(address, {"picture": upload})
                    self.assertEqual(answer.status_code, 400)
                    text = answer.content.decode()
                    self.assertTrue(words in text, f"{words!r} is not in what was answered to {name}")
        self.assertEqual(Job.objects.count(), jobs)
        self.assertEqual(document_of(self.job)["references"], {})

    def test_another_formats_come_in(self):
        for kind, ending in (("BMP", "bmp"), ("GIF", "gif"), ("HEIF", "heic"), ("AVIF", "avif"), ("TIFF", "tif")):
            upload = io.BytesIO(encoded(kind))
            upload.name = f"part.{ending}"
            self.assertEqual(
                self.client.post(f"/jobs/{self.job.pk}/reference/pictures", {"picture": upload}).status_code, 200
            )
        pictures = document_of(self.job)["references"]
        self.assertEqual(len(pictures), 5)
        shown = self.client.get(f"/jobs/{self.job.pk}/picture/{pictures[sorted(pictures, key=age_of)[2]]['digest']}")
        self.assertEqual(shown["Content-Type"], "image/png")

    def test_a_viewer_may_not_add_one(self):
        self.share(self.mt, "viewer")
        self.client.force_login(self.mt)
        upload = io.BytesIO(encoded("PNG"))
        upload.name = "part.png"
        self.assertEqual(
            self.client.post(f"/jobs/{self.job.pk}/reference/pictures", {"picture": upload}).status_code, 403
        )

    def test_a_job_of_somebody_else_is_not_there(self):
        self.client.force_login(make_user("xy"))
        for address in ("reference/quality", "reference/find", "reference/preview", "reference/axis"):
            self.assertEqual(self.post(address, {"places": [[1, 1]]}).status_code, 404)
