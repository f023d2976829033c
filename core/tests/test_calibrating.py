"""The calibration's inverse, following of the sketch, the next measurement, rectifying, and the stand-ins."""

import math
import unittest

import attrs
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from examples import parts
from examples.tilted import CARD, Pinhole, scale_from, shoot_beside_card
from nomogon_core.devices import caliper, scanner
from nomogon_core.errors import CalibrationError, InputError
from nomogon_core.geometry.curves import Circle, Line, sample
from nomogon_core.job import document as job
from nomogon_core.job.commands import carry_out
from nomogon_core.job.follow import follow
from nomogon_core.job.measuring import read_check, suggest
from nomogon_core.job.overview import overview
from nomogon_core.job.quantities import environment
from nomogon_core.job.sizes import least_sure, sizes_u95
from nomogon_core.job.sureness import how_sure, length_for_size
from nomogon_core.picture.decode import decode, inspect
from nomogon_core.picture.edges import pick_edge
from nomogon_core.reference.calibration import Calibration, KnownLength, level_angle
from nomogon_core.reference.models import choose_model, measure_next
from nomogon_core.reference.rectify import rectify
from nomogon_core.reference.sheets import find_rectangle, follow_straight
from nomogon_core.sketch import edit, model
from nomogon_core.sketch.constrain import constrain
from nomogon_core.sketch.dimensions import new_dimension
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph
from nomogon_core.trace.symmetry import find_axis

SIZE = (4000, 3000)
PARAMETERS = {
    "similarity": (250.0,),
    "x and y scale": (250.0, 255.0),
    "affine": (250.0, 2.0, 245.0),
    "perspective": (250.0, 2.0, 245.0, 0.06, -0.04),
}


class Mapping(unittest.TestCase):
    @given(
        st.sampled_from(sorted(PARAMETERS)),
        st.booleans(),
        st.floats(-3, 3),
        st.booleans(),
        st.floats(0, 3999),
        st.floats(0, 2999),
    )
    def test_to_px_undoes_to_mm(self, kind, bends, angle, flipped, x, y):
        fit = Calibration(
            kind,
            PARAMETERS[kind] + ((0.04,) if bends else ()),
            np.zeros((1, 1)),
            (1999.5, 1499.5),
            2500.0,
            (300.0, 2000.0),
            angle,
            raised=0.97,
            at_mm=(3.0, -4.0),
            flipped=flipped,
        )
        np.testing.assert_allclose(fit.to_px(fit.to_mm([(x, y)])), [(x, y)], atol=1e-6)

    def test_a_linear_one_is_its_matrix(self):
        fit = Calibration(
            "affine", PARAMETERS["affine"], np.zeros((3, 3)), (100.0, 80.0), 500.0, (10.0, 20.0), 0.3, flipped=True
        )
        a, b, c, d, e, f = fit.px_matrix()
        np.testing.assert_allclose(fit.to_mm([(37, 91)]), [(37 * a + 91 * c + e, 37 * b + 91 * d + f)], atol=1e-9)
        self.assertTrue(fit.is_linear)
        self.assertFalse(attrs.evolve(fit, parameters=(*fit.parameters, 0.01)).is_linear)

    def test_level_lays_an_edge_flat(self):
        fit = scale_from([KnownLength("a", (0, 0), (1000, 0), 100.0)])
        level = attrs.evolve(fit, angle=level_angle(fit, (100, 500), (900, 460)))
        (_, y0), (_, y1) = level.to_mm([(100, 500), (900, 460)])
        self.assertAlmostEqual(y0, y1, places=9)

    def test_a_circle_is_read_with_an_angle(self):
        fit = scale_from([KnownLength("a", (0, 0), (1000, 0), 100.0, sigma_px=0.1)])
        angle, u95 = fit.angle_between((0, 0), (1000, 0), (0, 1000))
        self.assertAlmostEqual(angle, math.pi / 2, places=9)
        # Both arms contribute sigma / arm each, the corner both: about 2 * 0.1 * sqrt(2 + 2) / 1000.
        self.assertAlmostEqual(u95, 2 * 0.1 * 2 / 1000, delta=2e-5)


def traced_sketch(outlines):
    sketch = model.Sketch()
    for outline in outlines:
        sketch, _, joints = edit.add_outline(sketch, outline, [0.03] * len(outline), origin="t1")
        for constraint in edit.smooth_joints(sketch, joints):
            sketch, _ = edit.add_constraint(sketch, constraint)
    return sketch


def scaled_fit(mm_per_px):
    return scale_from([KnownLength("a", (0, 0), (1000, 0), 1000 * mm_per_px)], origin_px=(100, 900))


class Following(unittest.TestCase):
    sketch = traced_sketch(parts.latch_plate())

    def test_everything_grows_with_the_scale(self):
        followed = follow(self.sketch, {"t1"}, scaled_fit(0.1), scaled_fit(0.102))
        for name, (x, y) in self.sketch.points.items():
            np.testing.assert_allclose(followed.sketch.points[name], (1.02 * x, 1.02 * y), atol=1e-6)
        for name, curve in self.sketch.curves.items():
            self.assertAlmostEqual(followed.sketch.curves[name].radius, 1.02 * curve.radius, places=6)
        self.assertAlmostEqual(
            followed.farthest_mm, 0.02 * max(math.hypot(*place) for place in self.sketch.points.values()), places=6
        )

    @settings(max_examples=15, deadline=None)
    @given(st.floats(0.97, 1.03))
    def test_forth_and_back_is_where_it_was(self, factor):
        there = follow(self.sketch, {"t1"}, scaled_fit(0.1), scaled_fit(0.1 * factor)).sketch
        back = follow(there, {"t1"}, scaled_fit(0.1 * factor), scaled_fit(0.1)).sketch
        for name, place in self.sketch.points.items():
            np.testing.assert_allclose(back.points[name], place, atol=1e-6)

    def test_a_traced_dimension_follows_and_one_set_by_hand_stays(self):
        sketch = self.sketch
        holes = [name for name, curve in sketch.curves.items() if curve.kind == "circle"]
        sketch = constrain(sketch, new_dimension(sketch, "diameter", (holes[0],), source="traced")).sketch
        sketch = constrain(sketch, new_dimension(sketch, "diameter", (holes[1],), source="set")).sketch
        followed = follow(sketch, {"t1"}, scaled_fit(0.1), scaled_fit(0.11))
        self.assertAlmostEqual(2 * followed.sketch.curves[holes[0]].radius, 1.1 * 4.76, places=6)
        self.assertAlmostEqual(2 * followed.sketch.curves[holes[1]].radius, 4.76, places=6)
        self.assertIn("Diameter 1 4.76 → 5.24", followed.sentence())

    def test_what_was_drawn_by_hand_stays(self):
        sketch, name = edit.add_line(self.sketch, (200, 0), (220, 0))
        followed = follow(sketch, {"t1"}, scaled_fit(0.1), scaled_fit(0.11))
        self.assertEqual(followed.sketch.geometry(name), sketch.geometry(name))

    def test_a_flip_mirrors_arcs_too(self):
        flipped = attrs.evolve(scaled_fit(0.1), flipped=True)
        followed = follow(self.sketch, {"t1"}, scaled_fit(0.1), flipped)
        for name, curve in self.sketch.curves.items():
            if curve.kind == "arc":
                self.assertAlmostEqual(followed.sketch.geometry(name).sweep, self.sketch.geometry(name).sweep, places=6)

    def test_what_was_set_by_hand_is_kept_even_when_the_picture_turns(self):
        sketch, line = edit.add_line(model.Sketch(), (10, 10), (60, 10))
        sketch = attrs.evolve(sketch, curves={line: attrs.evolve(sketch.curves[line], origin="t1")})
        ends = sketch.curves[line].points
        for item in (new_dimension(sketch, "across", ends), model.Constraint("horizontal", (line,))):
            sketch = constrain(sketch, item).sketch
        turned = attrs.evolve(scaled_fit(0.1), angle=math.pi / 2)
        followed = follow(sketch, {"t1"}, scaled_fit(0.1), turned)
        (x0, y0), (x1, y1) = (followed.sketch.points[end] for end in ends)
        self.assertAlmostEqual(y0, y1, places=6)
        self.assertAlmostEqual(abs(x1 - x0), 50.0, places=6)


def scanned_job(dpi=300, seed=5, gauge=True):
    """A job on a scan with two known lengths, and the scan."""
    scan = scanner.scan(parts.latch_plate(), dpi=dpi, turn_degrees=2.0, seed=seed)
    light, info = decode(scan.png), inspect(scan.png)
    random, known = np.random.default_rng(seed), {}
    for key, pair in (("k1", ((0, 20), (84, 20))), ("k2", ((25, 0), (25, 46)))):
        picks = [pick_edge(light, *place) for place in scan.to_px(pair)]
        reading = caliper.read_between(parts.latch_plate(), *pair, random)
        known[key] = {
            "kind": "length",
            "name": key,
            "picture": "r1",
            "used": True,
            "start": [picks[0].x, picks[0].y],
            "end": [picks[1].x, picks[1].y],
            "length_mm": reading,
            "sigma_px": max(pick.sigma_px for pick in picks),
            "gauge_u95_mm": 0.02,
        }
    picture = {
        "name": "scan",
        "width": info.width,
        "height": info.height,
        "origin_px": [0.0, info.height - 1.0],
        "angle": 0.0,
        "dpi": list(info.dpi),
        "plane": "plan",
    }
    trace = {"picture": "r1", "sketch": "s1", "edge": ""}
    document = job.new_document() | {"references": {"r1": picture}, "known": known, "traces": {"t1": trace}}
    return document, scan, light


class StandIns(unittest.TestCase):
    def test_a_scan_with_two_readings_measures_the_true_part(self):
        document, scan, light = scanned_job()
        fit = job.calibration_of(document)
        center, radius = np.array((70.0, 16.0)), 2.38
        for way in ((1, 0), (0, 1)):
            ends = scan.to_px([center - np.array(way) * radius, center + np.array(way) * radius])
            picks = [pick_edge(light, *end) for end in ends]
            read, u95 = fit.distance((picks[0].x, picks[0].y), (picks[1].x, picks[1].y), 0.1)
            self.assertAlmostEqual(read, 2 * radius, delta=u95)

    def test_the_axes_of_a_scan_differ_and_the_model_says_so(self):
        told = 0
        for seed in range(1, 9):
            document, scan, _ = scanned_job(seed=seed)
            a, b, c, d, _, _ = scan.px_from_mm
            ratio = math.hypot(a, c) / math.hypot(b, d)
            fit = job.calibration_of(document)
            if abs(ratio - 1) > 0.003:
                told += 1
                self.assertEqual(fit.model, "x and y scale", seed)
                self.assertAlmostEqual(fit.parameters[1] / fit.parameters[0], ratio, delta=0.0015)
        self.assertGreater(told, 2)

    def test_the_caliper_repeats_and_rounds(self):
        random = np.random.default_rng(3)
        readings = np.array(
            [caliper.read_between(parts.latch_plate(), (12, 0.4), (25, 45.8), random) for _ in range(400)]
        )
        self.assertAlmostEqual(readings.mean(), 46.0, delta=0.003)
        self.assertAlmostEqual(
            readings.std(), math.hypot(caliper.REPEATABILITY_MM, caliper.RESOLUTION_MM / math.sqrt(12)), delta=0.0015
        )
        np.testing.assert_allclose(readings * 100, np.round(readings * 100), atol=1e-6)

    def test_the_caliper_refuses_what_no_caliper_can(self):
        random = np.random.default_rng(3)
        for places, words in ((((40, 20), (0, 20)), "finds no edge"), (((10, 0), (40, 0)), "same edge")):
            with self.assertRaisesRegex(InputError, words):
                caliper.read_between(parts.latch_plate(), *places, random)
        with self.assertRaisesRegex(InputError, "no circle or arc"):
            caliper.read_diameter(parts.latch_plate(), (0, 20), random)
        with self.assertRaisesRegex(InputError, "scans at"):
            scanner.scan(parts.latch_plate(), dpi=123)


class NextMeasurement(unittest.TestCase):
    def test_after_a_length_across_comes_one_up(self):
        across = KnownLength("a", (500, 1500), (3500, 1500), 300.0)
        fit = scale_from([across])
        pairs = [((500, 1000), (3500, 1000)), ((2000, 200), (2000, 2800))]
        found = measure_next(fit, SIZE, pairs, pairs, lengths=[across])
        self.assertEqual(found.start_px, (2000, 200))
        self.assertAlmostEqual(found.about_mm, 260.0, places=6)
        self.assertLess(found.after_u95_mm, 0.6 * found.before_u95_mm)

    def test_measuring_it_keeps_the_promise(self):
        across, up = (
            KnownLength("a", (500, 1500), (3500, 1500), 300.0),
            KnownLength("b", (2000, 200), (2000, 2800), 260.0),
        )
        pairs = [((500, 1000), (3500, 1000)), ((2000, 200), (2000, 2800))]
        first = measure_next(scale_from([across]), SIZE, pairs, pairs, lengths=[across])
        second = measure_next(scale_from([across, up]), SIZE, [((600, 300), (3300, 2700))], pairs, lengths=[across, up])
        self.assertAlmostEqual(
            (second or first).before_u95_mm if second else first.after_u95_mm,
            first.after_u95_mm,
            delta=0.15 * first.after_u95_mm,
        )

    def test_a_job_is_told_something_that_a_caliper_can_hold(self):
        document, _, _ = scanned_job()
        del document["known"]["k2"]
        fit = job.calibration_of(document)
        sketch = traced_sketch(parts.latch_plate())
        job.keep_sketch(document, "s1", sketch)
        found = suggest(overview(document))
        ends = fit.to_mm([found.start_px, found.end_px])
        curves = [sketch.geometry(name) for name in sketch.curves]
        for place in ends:
            near = min(
                abs(math.dist(place, curve.center) - curve.radius)
                if not isinstance(curve, Line)
                else abs(np.linalg.det([np.subtract(curve.end, curve.start), np.subtract(place, curve.start)]))
                / math.dist(curve.start, curve.end)
                for curve in curves
            )
            self.assertLess(near, 1e-6)


class HowSure(unittest.TestCase):
    """The least sure size of a part that was traced in a scan, and the length whose reading helps it most."""

    def test_it_names_the_size_and_what_to_measure(self):
        document, _, _ = scanned_job()
        del document["known"]["k2"]
        sketch = traced_sketch(parts.latch_plate())
        job.keep_sketch(document, "s1", sketch)
        settings = {"tolerance_mm": 0.05, "threshold": 0.5, "speck_mm2": 1.0}
        trace = {
            "picture": "r1",
            "settings": settings,
            "max_dev_mm": 0.1,
            "rms_dev_mm": 0.03,
            "sketch": "s1",
            "edge": "",
        }
        document["traces"]["t1"] = trace
        region = max(find_regions(sketch), key=lambda one: one.area).name
        plate = {"regions": {"sketch": "s1", "names": [region]}, "extent": "by", "length": "6 mm", "way": "up",
                 "result": "new", "body": "Plate"}  # fmt: skip
        document = carry_out(document, "solid.add", {"kind": "extrude", "blanks": plate}, None).document
        built = graph.run(job.build_of(document, environment(document)))
        result = {
            "steps": [attrs.asdict(one) for one in built.steps],
            "bodies": {name: attrs.asdict(body.facts) for name, body in built.bodies.items()},
            "frames": {name: attrs.asdict(frame) for name, frame in built.frames.items()},
            "extremes": {name: graph.extremes_of(body) for name, body in built.bodies.items()},
        }
        view = overview(document, result)
        told = least_sure(view)
        (body,) = built.bodies
        every = [one for one in sizes_u95(view, body) if one]
        self.assertEqual(told.u95, max(every))
        self.assertAlmostEqual(told.size, built.bodies[body].facts.size[told.axis], places=9)
        self.assertAlmostEqual(abs(told.ends[1][told.axis] - told.ends[0][told.axis]), told.size, places=5)
        finding = how_sure(view)
        self.assertEqual(finding.number, f"±{told.u95:.3f} mm")
        found = length_for_size(view)
        if found is None:
            self.assertEqual((finding.severity, finding.remedy), ("well", None))
        else:
            self.assertIn(f"about {found.about_mm:.1f} mm", finding.sentence)
            self.assertEqual(finding.remedy["tool"], "sure")
        self.assertIsNone(how_sure(overview(document)), "nothing is told of what is not built")
        elsewhere = attrs.evolve(view, picture_id="r9")
        self.assertIsNone(length_for_size(elsewhere), "a length in another picture says nothing of it")
        self.assertEqual((how_sure(elsewhere).severity, how_sure(elsewhere).remedy), ("well", None))


class Flat(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.camera = Pinhole((1600, 1200), tilt=18.0, focal=1500.0, height=300.0, target=(55.0, 70.0))
        cls.photo = decode(
            shoot_beside_card(cls.camera, parts.latch_plate(), part_at=(10.0, 10.0), card_at=(12.0, 75.0))
        )
        cls.fit = choose_model((1600, 1200), rectangles=[find_rectangle(cls.photo, "card")])

    def test_the_rectified_card_has_its_size(self):
        flat = rectify(self.photo, self.fit)
        pixel = flat.matrix[0]
        card = find_rectangle(flat.pixels, "card")
        sides = np.hypot(*(np.roll(card.corners, -1, axis=0) - np.array(card.corners)).T) * pixel
        np.testing.assert_allclose(sides, [85.60, 53.98, 85.60, 53.98], atol=0.08)

    def test_a_hole_is_measured_within_its_interval(self):
        ends = self.camera.to_px([(80 - 2.38, 26), (80 + 2.38, 26)])
        picks = [pick_edge(self.photo, *end) for end in ends]
        item = {
            "what": "distance",
            "places": [(pick.x, pick.y) for pick in picks],
            "sigma_px": max(pick.sigma_px for pick in picks),
        }
        read, u95 = read_check(self.fit, item)
        self.assertAlmostEqual(read, 4.76, delta=u95)
        self.assertLess(u95, 0.1)

    def test_a_straight_edge_is_followed(self):
        start, end = self.camera.to_px([(14.0, 75.0), (90.0, 75.0)])
        places = follow_straight(self.photo, start + (2, 2), end + (1, -2))
        truth = [
            np.abs(np.array(self.camera.to_px([(x, 75.0) for x in np.linspace(10, 100, 400)])) - place)
            .sum(axis=1)
            .min()
            for place in places
        ]
        self.assertLess(np.median(truth), 0.5)
        self.assertGreater(len(places), 30)
        with self.assertRaisesRegex(CalibrationError, "too near"):
            follow_straight(self.photo, start, start + 20)


class Mirror(unittest.TestCase):
    def test_a_turned_card_has_its_axis(self):
        points = np.array([curve_point for curve in CARD for curve_point in _points(curve)])
        for angle in (0.0, 0.3, 1.2, -0.7):
            turn = np.array([[math.cos(angle), math.sin(angle)], [-math.sin(angle), math.cos(angle)]])
            axis = find_axis(points @ turn + (20, -30))
            off = min(
                abs(math.remainder(axis.angle - angle, math.pi)),
                abs(math.remainder(axis.angle - angle - math.pi / 2, math.pi)),
            )
            self.assertLess(math.degrees(off), 0.02)
            self.assertLess(axis.rms, 0.08)
            middle = np.array([42.8, 26.99]) @ turn + (20, -30)
            self.assertLess(
                abs((np.subtract(axis.point, middle)) @ (-math.sin(axis.angle), math.cos(axis.angle))), 0.03
            )

    def test_a_bump_is_told_and_does_not_move_the_axis(self):
        angle = np.linspace(0, 2 * np.pi, 2000, endpoint=False)
        radius = 30 + 6 * np.cos(3 * angle) + 3 * np.exp(-(((angle - 2.0) / 0.05) ** 2))
        axis = find_axis(np.column_stack([radius * np.cos(angle), radius * np.sin(angle)]))
        off = min(abs(math.remainder(axis.angle - k * math.pi / 3, math.pi)) for k in range(3))
        self.assertLess(math.degrees(off), 0.2)
        self.assertGreater(axis.largest, 1.5)


def _points(curve):
    return sample(curve, 0.001)[:-1]


class Circles(unittest.TestCase):
    def test_a_known_diameter_counts_across_and_along(self):
        known = {
            "k1": {
                "kind": "diameter",
                "name": "Bore",
                "picture": "r1",
                "center": [500, 400],
                "half_axes": [200, 202],
                "angle": 0.0,
                "length_mm": 40.0,
                "sigma_px": 0.1,
                "gauge_u95_mm": 0.02,
            },
            "k2": {"kind": "straight", "name": "Edge", "picture": "r1", "places": [[0, 0], [5, 5], [9, 9]]},
            "k3": {"kind": "check", "name": "Check", "picture": "r1"},
            "k4": {"kind": "resolution", "name": "Resolution 1", "picture": "r1", "dpi": [254, 254], "used": False},
        }
        told = job.observations(known)
        self.assertEqual([round(item.base_px) for item in told.lengths], [400, 404])
        self.assertEqual(len(told.straights), 1)
        self.assertAlmostEqual(Circle((0, 0), 20).radius * 2, told.lengths[0].length_mm)
