"""Cross-sections lifted out of a traced plan: the cross-hair, the station, what follows, and the solid through them."""

import math
import unittest

import numpy as np
from scipy.ndimage import gaussian_filter

from examples import parts, pictures
from nomogon_core.errors import SketchError
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import build_of, calibration_of, new_document, sketch_of
from nomogon_core.job.library import Library, picture_arguments
from nomogon_core.job.migration import edge_places
from nomogon_core.job.places import run_alike
from nomogon_core.job.quantities import environment
from nomogon_core.job.tracing import departures
from nomogon_core.picture.crosshair import find_crosshair
from nomogon_core.solid import graph, planes


def cross_in(random, size=160, fine=4):
    """(light, where two thin lines cross in it): of some width, length, turn and contrast, with a round line about."""
    rows, columns = (np.mgrid[0 : size * fine, 0 : size * fine] + 0.5) / fine - 0.5
    center, turn = size / 2 + random.uniform(-8, 8, 2), random.uniform(0, math.pi)
    light, ink = np.full(rows.shape, random.uniform(0.6, 0.95)), random.uniform(0.05, 0.4)
    width, length = random.uniform(1, 3), random.uniform(12, 26)
    x, y = columns - center[0], rows - center[1]
    for angle in (turn, turn + math.pi / 2 + random.uniform(-0.02, 0.02)):
        off, along = -x * math.sin(angle) + y * math.cos(angle), x * math.cos(angle) + y * math.sin(angle)
        light[(abs(off) < width / 2) & (abs(along) < length)] = ink
    light[abs(np.hypot(x, y) - random.uniform(34, 60)) < width / 2] = ink
    light = light.reshape(size, fine, size, fine).mean(axis=(1, 3))
    blurred = gaussian_filter(light, random.uniform(0.3, 1.2))
    return blurred + random.normal(0, random.uniform(0.002, 0.03), light.shape), center


class CrossHairs(unittest.TestCase):
    def test_is_found_to_a_fraction_of_a_pixel_near_a_rough_click(self):
        random, off = np.random.default_rng(), []
        for _ in range(40):
            light, center = cross_in(random)
            found = find_crosshair(light, *(center + random.uniform(-10, 10, 2)), 25.0)
            if found is not None:
                off.append(math.dist(found.place, center))
        self.assertGreaterEqual(len(off), 38)
        self.assertLess(max(off), 0.4)
        self.assertLess(np.median(off), 0.05)

    def test_corners_ends_and_round_lines_are_none(self):
        rows, columns = np.mgrid[0:160, 0:160] - 80.0
        level, upright, right, down = abs(rows) < 1, abs(columns) < 1, columns > 0, rows > 0
        for drawn in (abs(np.hypot(rows, columns) - 30) < 1, level & right | upright & down, level | upright & down):
            light = gaussian_filter(np.where(drawn, 0.1, 0.8), 0.6)
            light += np.random.default_rng(1).normal(0, 0.01, light.shape)
            self.assertIsNone(find_crosshair(light, 83.0, 78.0, 25.0))


class Lifted(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        """A plan of five sections, its scale from one known length, its ovals traced."""
        cls.shot = pictures.spout_plan(angle=0.004, seed=int(np.random.default_rng().integers(1 << 30)))
        cls.library, cls.plan = Library(), parts.spout_plan()
        cls.document = new_document()
        cls.done("reference.add_picture", **picture_arguments(cls.library, cls.shot.jpeg, "plan.jpg"))
        ends = cls.shot.camera.to_px([(cls.plan[0][0][0] - 14, 15), (cls.plan[0][0][0] + 14, 15)])
        start, end = ends.tolist()
        cls.done("reference.add_known", start=start, end=end, text="28 mm", sigma_px=0.1)
        middles = cls.shot.camera.to_px([center for center, *_ in cls.plan])
        keep = [
            [*middle, 100 * math.pi * wide * high] for middle, (wide, high) in zip(middles.tolist(), parts.SPOUT_AXES)
        ]
        settings = {"threshold": 0.5, "tolerance_mm": 0.1, "speck_mm2": 1.0, "keep": keep}
        cls.done("reference.accept_trace", settings=settings)

    @classmethod
    def done(cls, command, /, **arguments):
        cls.document = (outcome := carry_out(cls.document, command, arguments, cls.library)).document
        return outcome

    def setUp(self):
        document = self.document
        self.addCleanup(lambda: setattr(type(self), "document", document))

    def at(self, index):
        """Where the true origin of a section lies in the sketch."""
        fit = calibration_of(self.document, "r2")
        return tuple(fit.to_mm(self.shot.camera.to_px([self.plan[index][0]]))[0].tolist())

    def lift(self, index, title, station, turn=None, off=(0.7, -0.5)):
        sketch, at = sketch_of(self.document, "s1"), self.at(index)
        ovals = {
            name: math.dist(sketch.geometry(name).center, at)
            for name, curve in sketch.curves.items()
            if curve.kind in ("ellipse", "circle")
        }
        blanks = {
            "curves": [min(ovals, key=ovals.get)],
            "title": title,
            "origin": list(np.add(at, off)),
            "station": station,
        }
        return self.done("sketch.edit", kind="section", blanks=blanks | ({"turn": turn} if turn else {}))

    def made(self):
        """(id of the newest sketch, fields of its station)."""
        name = list(self.document["sketches"])[-1]
        return name, self.document["planes"][self.document["sketches"][name]["plane"]]["fields"]

    def test_the_origin_is_the_cross_hair_and_stands_over_that_of_the_plan(self):
        told = self.lift(4, "Mouth", "48 mm", "15°")
        self.assertIn("Its origin is the cross-hair at", told.note)
        name, fields = self.made()
        self.assertLess(math.dist(fields["at"], self.at(4)), 0.01)
        frame = planes.station(planes.PLAN, fields["at"], 48.0, math.radians(15))
        np.testing.assert_allclose(frame.in_space(tuple(fields["at"])), (0, 0, 48), atol=1e-9)
        x, y, _ = np.subtract(frame.in_space((fields["at"][0] + 1, fields["at"][1])), (0, 0, 48))
        self.assertAlmostEqual(math.degrees(math.atan2(y, x)), 15)
        self.assertEqual(len(sketch_of(self.document, "s1").curves), 4)
        self.assertEqual(len(sketch_of(self.document, name).curves), 1)
        self.assertTrue(run_alike(self.document, "plan", self.document["sketches"][name]["plane"]))

    def test_it_follows_the_scale_and_is_held_against_the_picture(self):
        self.lift(1, "Second", "12 mm")
        name, fields = self.made()
        before = sketch_of(self.document, name).geometry(list(sketch_of(self.document, name).curves)[0])
        known = next(iter(self.document["known"]))
        self.done("reference.set_known", name=known, text="56 mm")
        after = sketch_of(self.document, name).geometry(list(sketch_of(self.document, name).curves)[0])
        np.testing.assert_allclose(after.semi_axes, np.multiply(2, before.semi_axes), rtol=1e-6)
        np.testing.assert_allclose(self.made()[1]["at"], np.multiply(2, fields["at"]), rtol=1e-6)
        told = departures(self.document, name, lambda digest: edge_places(self.library.blob(digest)))
        self.assertEqual([one.largest < 0.1 for one in told.values()], [True])
        told = departures(self.document, "s1", lambda digest: edge_places(self.library.blob(digest)))
        self.assertEqual([one.largest < 0.1 for one in told.values()], [True])

    def test_traced_again_it_stays_one_outline(self):
        self.lift(2, "Middle", "24 mm")
        name, _ = self.made()
        trace = next(key for key, item in self.document["traces"].items() if item["sketch"] == name)
        settings = self.document["traces"][trace]["settings"]
        self.done("reference.trace_again", trace=trace, settings=settings | {"tolerance_mm": 0.05})
        self.assertEqual(len(sketch_of(self.document, name).curves), 1)
        (plan,) = (key for key, item in self.document["traces"].items() if item["sketch"] == "s1")
        self.done("reference.trace_again", trace=plan, settings=self.document["traces"][plan]["settings"])
        self.assertEqual(len(sketch_of(self.document, "s1").curves), 4)

    def test_a_loft_through_all_is_as_wide_as_they_say(self):
        """Simpson's rule over the areas of the true ovals, within a percent: the loft is smooth between them."""
        for index in range(5):
            self.lift(index, f"Section {index + 1}", f"{12 * index} mm")
        picks = []
        for name in list(self.document["sketches"])[1:]:
            (curve,) = sketch_of(self.document, name).curves
            picks.append({"sketch": name, "name": f"region {curve}"})
        blanks = {"sections": {"sections": picks}, "how": "smooth", "tip": "flat", "result": "new", "body": "Spout"}
        self.done("solid.add", kind="loft", blanks=blanks)
        built = graph.run(build_of(self.document, environment(self.document)))
        self.assertEqual([step.problem for step in built.steps if step.problem], [])
        self.assertEqual(
            {item["sketch"] for item in self.document["traces"].values()}, {one["sketch"] for one in picks}
        )
        (body,) = built.bodies.values()
        areas = [math.pi * wide * high for wide, high in parts.SPOUT_AXES]
        simpson = 12 / 3 * (areas[0] + 4 * areas[1] + 2 * areas[2] + 4 * areas[3] + areas[4])
        self.assertAlmostEqual(body.facts.volume_mm3 / simpson, 1, delta=0.01)
        (left, front, low), (right, back, high) = body.facts.box
        np.testing.assert_allclose((left, right, front, back), (-22, 22, -14, 14), atol=0.15)
        np.testing.assert_allclose((low, high), (0, 48), atol=1e-6)

    def test_what_cannot_be_lifted_says_why(self):
        self.lift(0, "Root", "0 mm")
        with self.assertRaisesRegex(SketchError, "called Root already"):
            self.lift(1, "Root", "5 mm")
        told = self.lift(1, "Next", "5 mm", off=(9.0, 9.0))
        self.assertIn("No cross-hair is near that click", told.note)
        self.done("sketch.line", start=[0, 90], end=[20, 90], free=True)
        line = list(sketch_of(self.document, "s1").curves)[-1]
        blanks = {"curves": [line], "title": "Open", "origin": [0, 0], "station": "1 mm"}
        with self.assertRaisesRegex(SketchError, "closed outlines"):
            self.done("sketch.edit", kind="section", blanks=blanks)


if __name__ == "__main__":
    unittest.main()
