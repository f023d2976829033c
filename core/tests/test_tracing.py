"""Outlines by colour, edge and centre line; following edges by hand; traces made again; departures."""

import math
import unittest

import attrs
import cv2
import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import camera, drawn, light_of
from examples import parts
from examples.render import hole, part_coverage, photograph, rounded_polygon, slot
from examples.tilted import scale_from
from nomogon_core.devices.compiled_coverage import coverage
from nomogon_core.errors import InputError, TraceError
from nomogon_core.geometry.curves import Arc, Circle, Line, Spline, end_directions, ends, outline_points, sample
from nomogon_core.job import tracing
from nomogon_core.picture.contours import find_contours
from nomogon_core.reference.calibration import KnownLength
from nomogon_core.sketch import underhand
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.trace.finding import needless, perceptual, share_of_colours
from nomogon_core.trace.fit import fit_open, fit_outline
from nomogon_core.trace.following import follow_edge
from nomogon_core.trace.outlines import TraceSettings, contour_preview, trace

SCALE = 10.0
PLATE = (rounded_polygon([(0, 0), (40, 0), (40, 24), (0, 24)], [4, 0, 4, 0]), hole(12, 12, 8), hole(30, 10, 6))
RED, BLUE, SAND = (0.45, 0.06, 0.05), (0.05, 0.09, 0.35), (0.6, 0.55, 0.45)


def plate_view():
    return camera(SCALE, (60.3, 300.6))


def calibrated(view=None):
    origin = (view or plate_view()).center
    return scale_from([KnownLength("given", (0, 0), (100 * SCALE, 0), 100.0, 0.01)], origin_px=origin)


def away(curves, truth):
    """Distances of points on curves from true outlines, in millimetres."""
    lines = shapely.union_all([shapely.LineString(sample(curve, 0.0005)) for outline in truth for curve in outline])
    return np.array([lines.distance(shapely.Point(point)) for curve in curves for point in sample(curve, 0.002)])


def strokes_light(lines, width_px, size, **how):
    """Linear light of dark strokes of a width along (n, 2) lines."""
    ink = shapely.union_all([shapely.LineString(line).buffer(width_px / 2, quad_segs=24) for line in lines])
    rings = []
    for area in getattr(ink, "geoms", [ink]):
        turned = shapely.geometry.polygon.orient(area)
        rings += [np.array(ring.coords)[:-1] for ring in (turned.exterior, *turned.interiors)]
    from nomogon_core.picture.decode import srgb_to_linear

    return srgb_to_linear(photograph(coverage(rings, *size), **how) / 255).astype(np.float32)


class Colours(unittest.TestCase):
    """A red plate with a blue inlay of the same lightness, on sand."""

    @classmethod
    def setUpClass(cls):
        cls.view = plate_view()
        red = part_coverage(PLATE, cls.view, 520, 360)[..., None]
        blue = part_coverage((hole(21, 18, 7),), cls.view, 520, 360)[..., None]
        scene = np.array(SAND) + (np.array(RED) - SAND) * red
        scene = scene + (np.array(BLUE) - scene) * blue
        random = np.random.default_rng(4)
        cls.colour = (
            cv2.GaussianBlur(scene.astype(np.float32), (0, 0), 0.8) + random.normal(0, 0.006, scene.shape)
        ).astype(np.float32)
        cls.light = cls.colour @ np.array([0.2126, 0.7152, 0.0722], np.float32)

    def traced(self, *picked, **how):
        return trace(
            self.light,
            calibrated(),
            TraceSettings(mode="colour", colours=picked, tolerance_mm=0.05, **how),
            colour=self.colour,
        )

    def test_one_colour_leaves_the_other_out(self):
        outlines = self.traced(BLUE)
        self.assertEqual([len(outline.curves) for outline in outlines], [1])
        circle = outlines[0].curves[0]
        self.assertIsInstance(circle, Circle)
        self.assertAlmostEqual(circle.radius, 3.5, delta=0.01)
        self.assertLess(math.dist(circle.center, (21, 18)), 0.01)

    def test_two_colours_are_one_part(self):
        outlines = self.traced(RED, BLUE)
        self.assertEqual(len(outlines), 3)
        self.assertLess(away([curve for outline in outlines for curve in outline.curves], PLATE).max(), 0.03)
        self.assertEqual(len(self.traced(RED)), 4)

    def test_half_a_pixel_has_half_a_share(self):
        """Shares are linear in light, so that edges do not wander with the colours (law of a mixture)."""
        for mix in (0.0, 0.25, 0.5, 1.0):
            patch = np.array(SAND) + mix * (np.array(RED) - SAND)
            picture = np.concatenate(
                [np.tile(SAND, (30, 60, 1)), np.tile(patch, (1, 60, 1)), np.tile(RED, (30, 60, 1))]
            ).astype(np.float32)
            self.assertAlmostEqual(float(share_of_colours(picture, [RED])[30, 20]), mix, delta=0.02)

    def test_white_is_the_lightest(self):
        """OKLab: white has lightness 1 and no colour, black 0 (Ottosson 2020)."""
        np.testing.assert_allclose(perceptual([[1, 1, 1], [0, 0, 0]]), [[1, 0, 0], [0, 0, 0]], atol=2e-4)

    def test_refusals(self):
        with self.assertRaisesRegex(TraceError, "No colour is chosen"):
            self.traced()
        with self.assertRaisesRegex(TraceError, "Nearly the whole picture"):
            trace(
                self.light,
                calibrated(),
                TraceSettings(mode="colour", colours=(RED,)),
                colour=np.tile(np.float32(RED), (80, 90, 1)),
            )


class Edges(unittest.TestCase):
    def test_a_part_is_found_by_its_edge(self):
        """On a ground that grows nearly twice as bright from side to side."""
        view = plate_view()
        cover = part_coverage(PLATE, view, 520, 360)
        ground = np.linspace(0.3, 0.5, 520, dtype=np.float32)
        light = (ground * (1 - cover) + 0.15 * cover + np.random.default_rng(2).normal(0, 0.004, cover.shape)).astype(
            np.float32
        )
        outlines = trace(
            cv2.GaussianBlur(light, (0, 0), 0.8), calibrated(), TraceSettings(mode="edge", tolerance_mm=0.05)
        )
        self.assertEqual(sorted(len(outline.curves) for outline in outlines), [1, 1, 6])
        self.assertLess(away([curve for outline in outlines for curve in outline.curves], PLATE).max(), 0.05)

    def test_nothing_fenced_off(self):
        for light, words in (
            (np.full((200, 200), 0.4, np.float32), "no edge"),
            (np.tile(np.linspace(0.3, 0.5, 300, dtype=np.float32), (200, 1)), "no edge|No edge"),
        ):
            with self.assertRaisesRegex(TraceError, words):
                trace(light, calibrated(), TraceSettings(mode="edge"))

    def test_uneven_ground_is_levelled(self):
        view = plate_view()
        cover = part_coverage(PLATE, view, 520, 360)
        blotches = cv2.GaussianBlur(np.random.default_rng(3).normal(0, 1, cover.shape).astype(np.float32), (0, 0), 70)
        ground = 0.45 * (1 + 0.45 * blotches / np.abs(blotches).max())
        light = (ground * (1 - cover) + 0.12 * cover).astype(np.float32)
        outlines = trace(
            cv2.GaussianBlur(light, (0, 0), 0.8), calibrated(), TraceSettings(flatten=True, tolerance_mm=0.05)
        )
        self.assertLess(away([curve for outline in outlines for curve in outline.curves], PLATE).max(), 0.06)


class Needless(unittest.TestCase):
    def test_a_frame_and_the_inner_side_of_a_line(self):
        light = np.full((400, 500), 0.8, np.float32)
        cv2.rectangle(light, (12, 12), (487, 387), 0.05, 3)
        for x, radius in ((120, 70), (260, 50), (390, 60)):
            cv2.circle(light, (x, 200), radius, 0.05, 5)
        light = cv2.GaussianBlur(light, (0, 0), 0.8)
        told = needless(find_contours(light), (500, 400))
        self.assertEqual(sorted(told.values()), ["double"] * 3 + ["frame"] * 2)
        outlines = trace(light, calibrated(), TraceSettings(tolerance_mm=0.1))
        self.assertEqual([type(curve) for outline in outlines for curve in outline.curves], [Circle] * 3)
        shown = contour_preview(light, TraceSettings(), 0.1, 1.0)
        self.assertEqual(len(shown), 8)
        self.assertEqual(sum(bool(one["needless"]) for one in shown), 5)

    def test_a_ring_keeps_its_hole(self):
        """A designed ring is as thin as a drawn line may be, and keeps its width; what is wanted can be said."""
        light = light_of(((Circle((20, 20), 15),), (Circle((20, 20), 13),)), 440, 440, camera(11.0, (0.0, 440.0)))
        for sides, count in (("auto", 2), ("both", 2), ("outer", 1)):
            self.assertEqual(len(trace(light, calibrated(), TraceSettings(sides=sides))), count)
        with self.assertRaisesRegex(TraceError, "auto, both, outer sides are kept; 'inner' came"):
            trace(light, calibrated(), TraceSettings(sides="inner"))

    def test_a_washer_is_no_drawn_line(self):
        light = light_of((hole(20, 15, 24), hole(20, 15, 12)), 420, 320, camera(10.0, (5.0, 310.0)))
        self.assertEqual(needless(find_contours(light), (420, 320)), {})


class CentreLines(unittest.TestCase):
    def strokes(self, lines, width=8, size=(700, 500), **how):
        light = strokes_light(lines, width, size, **{"noise": 0.008, "seed": 2, **how})
        return trace(
            light,
            calibrated(camera(SCALE, (0.0, 0.0))),
            TraceSettings(mode="centre", tolerance_mm=0.04, speck_mm2=0.25),
        )

    def off_px(self, outline, line):
        points = np.vstack([sample(curve, 0.002) for curve in outline.curves]) * [SCALE, -SCALE]
        return np.array([shapely.LineString(line).distance(shapely.Point(point)) for point in points])

    def test_a_corner_a_ring_and_a_crossing(self):
        angle = np.linspace(0, 2 * math.pi, 900)
        bent, ring = (
            np.array([(80, 420), (300, 420), (300, 330)], float),
            np.column_stack([420 + 90 * np.cos(angle), 200 + 90 * np.sin(angle)]),
        )
        through = np.array([(200, 320), (640, 60)], float)
        outlines = self.strokes([bent, ring, through])
        self.assertEqual(len(outlines), 3)
        by_kind = {tuple(type(curve).__name__ for curve in outline.curves): outline for outline in outlines}
        self.assertEqual(set(by_kind), {("Circle",), ("Line", "Line"), ("Line",)})
        for kinds, line in ((("Circle",), ring), (("Line", "Line"), bent), (("Line",), through)):
            off = self.off_px(by_kind[kinds], line)
            self.assertLess(float(np.sqrt(np.mean(off**2))), 0.06, kinds)
            self.assertAlmostEqual(by_kind[kinds].stroke_mm, 0.8, delta=0.04)
        self.assertEqual([by_kind[kinds].closed for kinds in (("Circle",), ("Line",))], [True, False])
        ends_px = np.array(ends(by_kind[("Line",)].curves[0])) * [SCALE, -SCALE]
        self.assertLess(min(np.hypot(*(ends_px - through).T).max(), np.hypot(*(ends_px[::-1] - through).T).max()), 1.5)

    def test_ends_that_run_into_strokes_stay_on_them(self):
        """A T and a corner of three strokes: in the sketch the loose ends are tied to what they meet."""
        lines = [
            np.array([(80, 420), (600, 380)], float),
            np.array([(330, 400), (300, 90)], float),
            np.array([(300, 90), (560, 150)], float),
        ]
        found = self.strokes(lines)
        sketch, told = tracing.taken_in(
            Sketch(),
            [
                tracing.Outlines(outline.curves, outline.u95_mm, outline.closed, stroke_mm=outline.stroke_mm)
                for outline in found
            ],
            "t1",
        )
        self.assertIn("line", told)
        ((point, stem),) = [item.of for item in sketch.constraints.values() if item.kind == "on curve"]
        self.assertIn("line", sketch.curves[stem].kind)
        self.assertLess(math.dist(sketch.points[point], (33.0, -40.0)), 0.45)
        self.assertAlmostEqual(
            float(tracing.distances_from([sketch.points[point]], [sketch.geometry(stem)])[0]), 0.0, places=6
        )

    def test_a_blank_sheet(self):
        with self.assertRaises(TraceError):
            trace(np.full((200, 300), 0.7, np.float32), calibrated(), TraceSettings(mode="centre"))


class OpenPaths(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(st.floats(30, 250), st.floats(30, 250), st.floats(0.6, 2.4), st.integers(0, 100))
    def test_two_lines_meet_at_their_corner(self, first, second, turn, seed):
        corner = np.array([300.0, 200.0])
        way = np.array([math.cos(turn), math.sin(turn)])
        path = np.vstack(
            [
                corner - [first, 0] + np.linspace(0, 1, int(first))[:, None] * [first, 0],
                corner + np.linspace(0, 1, int(second))[1:, None] * second * way,
            ]
        )
        path += np.random.default_rng(seed).normal(0, 0.02, path.shape)
        fitted = fit_open(path, pixel=1.0, tolerance=0.5)
        self.assertEqual([type(curve) for curve in fitted.curves], [Line, Line])
        self.assertLess(math.dist(fitted.curves[0].end, corner), 0.2)
        self.assertLess(math.dist(fitted.curves[0].start, path[0]), 0.3)
        self.assertLess(math.dist(fitted.curves[1].end, path[-1]), 0.3)

    def test_an_arc_and_too_little(self):
        angle = np.linspace(0, 1.5, 200)
        fitted = fit_open(np.column_stack([120 * np.cos(angle), 120 * np.sin(angle)]), pixel=1.0, tolerance=0.3)
        self.assertEqual([type(curve) for curve in fitted.curves], [Arc])
        self.assertAlmostEqual(fitted.curves[0].radius, 120, delta=0.05)
        with self.assertRaisesRegex(TraceError, "too short"):
            fit_open([(0, 0), (1, 0)], pixel=1.0, tolerance=0.3)
        with self.assertRaisesRegex(TraceError, "more than zero"):
            fit_open([(0, 0), (50, 0)], pixel=1.0, tolerance=0.0)

    def test_a_leaf_keeps_its_tips(self):
        """The usual failure: a pointed lens shape comes out as an ellipse."""
        first, second = Spline([(4, 38), (24, 4), (70, 2), (112, 40)]), Spline([(112, 40), (82, 78), (32, 76), (4, 38)])
        points = outline_points([first, second], 1e-4) * 9
        fitted = fit_outline(points, pixel=1.0, tolerance=0.5)
        self.assertLessEqual(len(fitted.curves), 5)
        joints = np.array([ends(curve)[0] for curve in fitted.curves])
        for tip in ((36, 342), (1008, 360)):
            self.assertLess(np.hypot(*(joints - tip).T).min(), 0.15)


class ByHand(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.view = plate_view()
        cls.light = light_of(PLATE, 520, 360, cls.view, noise=0.006)
        cls.fit = calibrated(cls.view)

    def test_a_point_goes_to_the_edge(self):
        x, y = underhand.stick(self.light, self.fit, (20.0, 24.4), 1.0)
        self.assertAlmostEqual(y, 24.0, delta=0.01)
        self.assertAlmostEqual(x, 20.0, delta=0.05)
        self.assertIsNone(underhand.stick(self.light, self.fit, (20.0, 18.0), 0.5))
        self.assertIsNone(underhand.stick(self.light, self.fit, (900.0, 18.0), 0.5))

    def test_an_edge_is_followed_around_a_corner(self):
        drawn_curves = underhand.along_edge(self.light, self.fit, (20, 0.2), (39.8, 12), 0.05)
        self.assertEqual([type(curve) for curve in drawn_curves.curves], [Line, Line])
        self.assertLess(math.dist(drawn_curves.curves[0].end, (40, 0)), 0.03)
        rounded = underhand.along_edge(self.light, self.fit, (20, 24), (0.1, 12), 0.05)
        kinds = [type(curve) for curve in rounded.curves]
        self.assertLessEqual(len(kinds), 4)
        self.assertLess(away(rounded.curves, PLATE[:1]).max(), 0.03)

    def test_a_circle_from_a_rough_click(self):
        found = underhand.round_near(self.light, self.fit, (13.5, 11.0))
        self.assertLess(math.dist(found.curves[0].center, (12, 12)), 0.01)
        self.assertAlmostEqual(found.curves[0].radius, 4.0, delta=max(0.01, found.u95[0]))

    def test_an_arc_from_three_rough_places(self):
        """The corner of radius 4 about (4, 4), clicked up to half a millimetre beside its edge, the other way round
        too."""
        for places in (((0.3, 4.4), (4.2, -0.4), (1.0, 1.5)), ((4.2, -0.4), (0.3, 4.4), (1.0, 1.5))):
            found = underhand.arc_near(self.light, self.fit, *places)
            (arc,) = found.curves
            self.assertLess(math.dist(arc.center, (4, 4)), 0.04)
            self.assertLess(abs(arc.radius - 4.0), max(0.03, found.u95[0]))
            start, end = ends(arc)
            self.assertLess(math.dist(start, places[0]), 0.6)
            self.assertLess(math.dist(end, places[1]), 0.6)
            self.assertLess(abs(arc.sweep), math.pi)
        with self.assertRaisesRegex(InputError, "no clear edge"):
            underhand.arc_near(self.light, self.fit, (16, 14), (22, 14), (19, 17))
        with self.assertRaisesRegex(InputError, "on one line"):
            underhand.arc_near(self.light, self.fit, (16, 14), (22, 14), (19, 14))

    def test_a_corner_gets_the_radius_that_the_picture_shows(self):
        """The corner of radius 4 at the origin, and the sharp one at (40, 0)."""
        right, up = np.array([1.0, 0.0]), np.array([0.0, 1.0])
        found = underhand.corner_radius(self.light, self.fit, (0.0, 0.0), (right, up), 9.0)
        self.assertAlmostEqual(found, 4.0, delta=0.06)
        sharp = underhand.corner_radius(self.light, self.fit, (40.0, 0.0), (-right, up), 9.0)
        self.assertLess(sharp, 3 * self.fit.mm_per_px)
        with self.assertRaisesRegex((InputError, TraceError), "edge"):
            underhand.corner_radius(self.light, self.fit, (20.0, 14.0), (right, up), 3.0)

    def test_refusals_in_words(self):
        with self.assertRaisesRegex(TraceError, "same place"):
            follow_edge(self.light, (100, 100), (101, 100))
        with self.assertRaisesRegex(TraceError, "outside the picture"):
            follow_edge(self.light, (-5, 100), (101, 100))
        with self.assertRaisesRegex(TraceError, "no clear edge"):
            follow_edge(np.full((300, 300), 0.5, np.float32), (50, 100), (150, 100))
        with self.assertRaises(InputError):
            underhand.round_near(self.light, self.fit, (60.0, 30.0))


class Again(unittest.TestCase):
    """A trace that is made anew with other settings keeps what was built on it."""

    def setUp(self):
        self.outlines = [tracing.Outlines(curves, [0.02] * len(curves)) for curves in parts.latch_plate()]
        self.sketch, _ = tracing.taken_in(Sketch(), self.outlines, "t1")
        circle = next(name for name, curve in self.sketch.curves.items() if curve.kind == "circle")
        line = next(name for name, curve in self.sketch.curves.items() if curve.kind == "line")
        self.sketch = attrs.evolve(
            self.sketch,
            constraints={
                **self.sketch.constraints,
                "k900": Constraint("diameter", (circle,), value=5.0, typed="5", name="Pivot"),
                "k901": Constraint("distance", (line,), value=1.0, name="Side", source="traced"),
            },
        )

    def moved(self, by, outlines=None):
        def shifted(curve):
            if isinstance(curve, Line):
                return Line(np.add(curve.start, by), np.add(curve.end, by))
            return attrs.evolve(curve, center=tuple(np.add(curve.center, by)))

        return [
            attrs.evolve(outline, curves=[shifted(curve) for curve in outline.curves])
            for outline in outlines or self.outlines
        ]

    def test_names_and_constraints_stay(self):
        done = tracing.traced_again(self.sketch, self.moved((0.05, -0.03)), "t1")
        self.assertEqual((done.kept, done.new, done.lost), (21, 0, ()))
        self.assertEqual(set(done.sketch.curves), set(self.sketch.curves))
        self.assertEqual(set(done.sketch.constraints), set(self.sketch.constraints))
        self.assertAlmostEqual(done.sketch.geometry(done.sketch.constraints["k900"].of[0]).radius, 2.5)
        self.assertIn("no constraint was lost", done.sentence())

    def test_a_slot_is_known_as_one_and_its_ends_are_equal(self):
        sketch, told = tracing.taken_in(Sketch(), self.outlines, "t1")
        self.assertIn("(1 slot)", told)
        equals = [item for item in sketch.constraints.values() if item.kind == "equal"]
        self.assertEqual([{sketch.curves[name].kind for name in item.of} for item in equals], [{"arc"}])
        uneven = tracing.Outlines((*slot((0, 0), 20, 4)[:3], Arc((-10, 0), 4.0, math.pi / 2, 2.0)), [0.02] * 4)
        self.assertIsNone(tracing.slot_ends(uneven))
        again = tracing.traced_again(sketch, self.moved((0.05, -0.03)), "t1")
        self.assertEqual(len([item for item in again.sketch.constraints.values() if item.kind == "equal"]), 1)

    def test_what_goes_is_named(self):
        done = tracing.traced_again(self.sketch, self.outlines[:1] + self.outlines[2:], "t1")
        self.assertIn("Pivot", done.lost)
        self.assertIn("Lost: Pivot", done.sentence())
        self.assertEqual(done.new, 0)

    def test_another_outline_comes_in(self):
        done = tracing.traced_again(
            self.sketch, [*self.outlines, tracing.Outlines((Circle((60, 40), 2.0),), (0.02,))], "t1"
        )
        self.assertEqual((done.kept, done.new), (21, 1))

    def test_turned_curves_match_too(self):
        backwards = [
            attrs.evolve(
                self.outlines[0],
                curves=[
                    Line(curve.end, curve.start) if isinstance(curve, Line) else curve
                    for curve in self.outlines[0].curves[:1]
                ],
                closed=False,
            )
        ]
        only, _ = tracing.taken_in(
            Sketch(),
            [attrs.evolve(self.outlines[0], curves=self.outlines[0].curves[:1], u95=(0.02,), closed=False)],
            "t1",
        )
        done = tracing.traced_again(only, [attrs.evolve(backwards[0], u95=(0.02,))], "t1")
        self.assertEqual(done.kept, 1)
        name = next(iter(only.curves))
        self.assertAlmostEqual(
            math.dist(only.points[only.curves[name].points[0]], done.sketch.points[done.sketch.curves[name].points[0]]),
            0.0,
            places=6,
        )


class Departures(unittest.TestCase):
    def test_a_curve_beside_its_edge(self):
        sketch = drawn(hole(0, 0, 20))
        sketch = attrs.evolve(
            sketch, curves={name: attrs.evolve(curve, origin="t1") for name, curve in sketch.curves.items()}
        )
        angles = np.linspace(0, 2 * math.pi, 200, endpoint=False)
        radii = np.where(np.abs(angles - 1.0) < 0.2, 10.3, 10.05)
        edge = np.column_stack([radii * np.cos(angles), radii * np.sin(angles)])
        told = tracing.departure(sketch, "t1", edge, 0.1)
        self.assertAlmostEqual(told.largest, 0.3, places=6)
        self.assertAlmostEqual(told.rms, float(np.sqrt(np.mean((radii - 10) ** 2))), places=6)
        self.assertEqual(len(told.beyond) > 0, True)
        self.assertLess(abs(math.atan2(told.beyond[0][1], told.beyond[0][0]) - 1.0), 0.25)
        comb = tracing.teeth(told, 10.0)
        np.testing.assert_allclose(np.hypot(*(comb[:, 2:] - comb[:, :2]).T), 10 * np.abs(told.off), atol=1e-9)
        self.assertIsNone(tracing.departure(sketch, "t9", edge, 0.1))


class HardPictures(unittest.TestCase):
    """Pictures that hold no part end in a sentence, whatever the mode."""

    def test_blank_noise_and_specks(self):
        random = np.random.default_rng(1)
        specks = np.full((1500, 1500), 0.7, np.float32)
        for x, y in random.integers(5, 1495, (10_000, 2)):
            specks[y - 2 : y + 3, x - 2 : x + 3] = 0.05
        for light in (np.full((300, 400), 0.5, np.float32), random.random((300, 400)).astype(np.float32), specks):
            for mode in ("tone", "edge", "centre"):
                with self.subTest(mode=mode, size=light.shape), self.assertRaisesRegex(TraceError, r"\. |\.$"):
                    trace(light, calibrated(), TraceSettings(mode=mode, speck_mm2=0.0))

    def test_settings_out_of_range(self):
        light = light_of(PLATE, 520, 360, plate_view())
        for how, words in (
            ({"tolerance_mm": 0.0}, "tolerance must lie"),
            ({"mode": "smell"}, "found by tone"),
            ({"reach": 3.0}, "reaches must lie"),
            ({"threshold": 2.0}, "threshold"),
        ):
            with self.assertRaisesRegex(TraceError, words):
                trace(light, calibrated(), TraceSettings(**how))


class SmoothJoins(unittest.TestCase):
    def test_a_free_outline_has_no_kinks(self):
        angle = np.linspace(0, 2 * math.pi, 3000, endpoint=False)
        radius = 200 + 25 * np.sin(3 * angle) + 9 * np.cos(5 * angle)
        fitted = fit_outline(
            np.column_stack([radius * np.cos(angle), radius * np.sin(angle)]), pixel=1.0, tolerance=0.4
        )
        self.assertLess(fitted.max_deviation, 0.45)
        self.assertLessEqual(len(fitted.curves), 16)
        for before, after in zip((fitted.curves[-1], *fitted.curves[:-1]), fitted.curves):
            turn = math.degrees(math.acos(float(np.clip(end_directions(before)[1] @ end_directions(after)[0], -1, 1))))
            self.assertLess(turn, 0.2)
