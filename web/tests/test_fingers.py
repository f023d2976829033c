"""A tablet: two fingers, a drag, a long press, as touches that the browser itself turns into pointer events."""

from playwright.sync_api import expect

from examples.render import rounded_polygon
from nomogon_core.job.document import sketch_of
from store.actions import perform
from store.documents import document_of
from store.models import Job
from web.tests.browser import Board, BrowserCase
from web.tests.helpers import extrusion, sketched_job

SQUARE = rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4)


class Fingers(BrowserCase):
    touch = True

    def setUp(self):
        super().setUp()
        self.job = sketched_job(self.users[0], [SQUARE])
        line = next(iter(self.sketch().curves))
        perform(self.job.pk, self.users[0], None, "sketch.dimension", {"kind": "distance", "of": [line]})

    def sketch(self):
        return sketch_of(document_of(Job.objects.get(pk=self.job.pk)))

    def test_the_sketch_by_fingers(self):
        before = self.sketch().points
        self.drive(self.sketch_by_fingers)
        after = self.sketch().points
        self.assertEqual(sum(after[name] != before[name] for name in before), 1, "one corner was dragged, and no more")

    def sketch_by_fingers(self, page):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{self.job.pk}/sketch")
        board, touch = Board(page), Touch(page)
        expect(page.locator(".hit[data-curve]")).to_have_count(4)
        middle, corner = board.pixel((30, 20)), board.pixel((60, 40))
        width = corner[0] - middle[0]
        touch.down(1, middle[0] - 40, middle[1])
        touch.down(2, middle[0] + 40, middle[1])
        touch.move({1: (middle[0] - 80, middle[1]), 2: (middle[0] + 80, middle[1])})
        touch.up()
        now = board.pixel((30, 20)), board.pixel((60, 40))
        self.assertAlmostEqual((now[1][0] - now[0][0]) / width, 2.0, delta=0.05)
        self.assertAlmostEqual(now[0][0], middle[0], delta=2)
        touch.drag(now[0], (now[0][0] + 50, now[0][1] + 30))
        shifted = board.pixel((30, 20))
        self.assertAlmostEqual(shifted[0] - now[0][0], 50, delta=4)
        self.assertAlmostEqual(shifted[1] - now[0][1], 30, delta=4)
        page.keyboard.press("0")
        self.interrupted(page, board, touch)
        page.keyboard.press("0")
        place = board.pixel((60, 40))
        touch.drag(place, (place[0] + 60, place[1] + 40))
        expect(page.locator(".page")).to_have_attribute("data-version", "2")
        box = page.locator("[data-dimension] text").first.bounding_box()
        touch.down(1, box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        expect(page.locator("#ask")).to_be_visible()
        touch.up()

    def interrupted(self, page, board, touch):
        """A second finger that comes down while a corner is dragged makes it a pinch, and the corner goes back."""
        place = board.pixel((0, 0))
        touch.down(1, *place)
        touch.move({1: (place[0] + 30, place[1] - 20)})
        touch.move({1: (place[0] + 40, place[1] - 30)})
        touch.down(2, place[0] + 200, place[1] - 100)
        touch.up()
        page.wait_for_load_state("networkidle")

    def test_the_solid_by_fingers(self):
        region = "region " + " ".join(sorted(self.sketch().curves))
        perform(self.job.pk, self.users[0], None, "solid.add", extrusion(region, "5 mm"))
        self.drive(self.solid_by_fingers)

    def solid_by_fingers(self, page):
        self.sign_in(page)
        page.goto(f"{self.live_server_url}/jobs/{self.job.pk}/solid")
        expect(page.locator("#board[data-mesh]")).to_be_attached(timeout=30_000)
        touch, note = Touch(page), page.locator("#note")
        before = note.inner_text()
        box = page.locator("canvas.solid").bounding_box()
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        touch.drag((x, y), (x + 80, y + 20))
        expect(note).not_to_have_text(before)
        turned = note.inner_text()
        touch.down(1, x - 30, y)
        touch.down(2, x + 30, y)
        touch.move({1: (x - 90, y), 2: (x + 90, y)})
        touch.up()
        expect(note).to_have_text(turned)


class Touch:
    """Fingers on the screen, by number."""

    def __init__(self, page):
        self.session, self.at = page.context.new_cdp_session(page), {}

    def _tell(self, kind):
        points = [{"x": x, "y": y, "id": finger} for finger, (x, y) in self.at.items()]
        self.session.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": points})

    def down(self, finger, x, y):
        self.at[finger] = (x, y)
        self._tell("touchStart")

    def move(self, places, steps=4):
        begin = dict(self.at)
        for step in range(1, steps + 1):
            for finger, (x, y) in places.items():
                fx, fy = begin[finger]
                self.at[finger] = (fx + (x - fx) * step / steps, fy + (y - fy) * step / steps)
            self._tell("touchMove")

    def up(self):
        self.at = {}
        self._tell("touchEnd")

    def drag(self, start, end):
        self.down(1, *start)
        self.move({1: end}, steps=8)
        self.up()
