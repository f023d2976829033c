"""Ellipses from the picture to the solid: found, solved, closed off, exported."""

import io
import math
import unittest

import attrs
import ezdxf
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import Polygon

from core.tests.specimens import camera, fixed, light_of, plate_operations, run, tied
from examples import samples
from examples.render import hole, rounded_polygon
from examples.tilted import scale_from
from nomogon_core.errors import SketchError
from nomogon_core.exchange.writers.drawing import dxf, svg
from nomogon_core.geometry.crossings import at, crossings, part
from nomogon_core.geometry.curves import (
    Arc,
    Circle,
    Ellipse,
    EllipticArc,
    Line,
    closed_area,
    end_directions,
    ends,
    length,
    moved,
    reverse,
    sample,
)
from nomogon_core.geometry.records import curve_of_record, primitive_record
from nomogon_core.job import tracing
from nomogon_core.picture.decode import decode
from nomogon_core.reference.calibration import KnownLength
from nomogon_core.sketch import arrange, edit, model, underhand
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.findings import find_findings
from nomogon_core.sketch.mirroring import tied_halves
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.regions import find_regions
from nomogon_core.sketch.solve import freedom, solve
from nomogon_core.sketch.system import System
from nomogon_core.sketch.trim import trim
from nomogon_core.trace.distances import signed_distance
from nomogon_core.trace.outlines import TraceSettings, trace

OVAL = Ellipse((21.0, 14.0), (12.0, 7.0), math.radians(25.0))
SIZES = st.floats(0.5, 20.0)
ANGLES = st.floats(-3.0, 3.0)


def oval(center=(3.0, 2.0), first=(8.0, 3.0), second=(2.0, 6.0)):
    return edit.add_ellipse(Sketch(), center, first, second)


class Geometry(unittest.TestCase):
    def test_perimeter_and_area(self):
        """Perimeter with semi-axes 2 and 1: 9.688448220547675, by the complete elliptic integral 8 E(sqrt(3)/2) (value
        from memory)."""
        self.assertAlmostEqual(length(Ellipse((5, 5), (2, 1), 0.3)), 9.688448220547675, places=10)
        self.assertAlmostEqual(length(Ellipse((5, 5), (1, 2), 0.3)), 9.688448220547675, places=10)
        self.assertAlmostEqual(closed_area((OVAL,)), math.pi * 84, places=10)

    @given(SIZES, SIZES, ANGLES, st.floats(0, 6.28), st.floats(-0.3, 3.0))
    @settings(max_examples=60, deadline=None)
    def test_distance_along_a_normal(self, a, b, turn, angle, share):
        """A place on the outer or, near enough, the inner normal is as far away as it was put: the curvature's radius
        is min(a,b)²/max(a,b) at least."""
        ellipse = Ellipse((1.0, -2.0), (a, b), turn)
        off = share * min(a, b) ** 2 / max(a, b)
        normal = np.array([b * math.cos(angle), a * math.sin(angle)])
        normal = np.array([[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]]) @ (
            normal / np.hypot(*normal)
        )
        self.assertAlmostEqual(
            signed_distance(ellipse.at([angle]) + off * normal, ellipse)[0], off, delta=1e-6 * max(a, b)
        )

    @given(SIZES, SIZES, ANGLES, ANGLES)
    @settings(max_examples=40, deadline=None)
    def test_a_line_through_the_middle_meets_it_twice(self, a, b, turn, way):
        ellipse = Ellipse((0.4, 0.2), (a, b), turn)
        reach = 2 * max(a, b) * np.array([math.cos(way), math.sin(way)])
        found = crossings(ellipse, Line(ellipse.center - reach, ellipse.center + reach))
        self.assertEqual(len(found), 2)
        np.testing.assert_allclose(sum(at(ellipse, t)[0] for t in found) / 2, ellipse.center, atol=1e-6)


class InThePicture(unittest.TestCase):
    """An oval plate of known axes with a round and an oval hole, as a camera sees them."""

    @classmethod
    def setUpClass(cls):
        cls.view = camera(12.0, (40.3, 380.6))
        cls.fit = scale_from([KnownLength("a", (0, 0), (1200, 0), 100.0)], origin_px=cls.view.center)
        cls.inner = Ellipse((24.0, 15.0), (4.0, 1.6), -0.4)
        cls.light = light_of(((OVAL,), (cls.inner,), hole(15, 12, 4)), 540, 420, cls.view, noise=0.008, seed=4)

    def test_ellipses_and_circles_are_told_apart(self):
        found = trace(self.light, self.fit, TraceSettings(tolerance_mm=0.1))
        self.assertEqual(
            [[type(curve) for curve in outline.curves] for outline in found], [[Ellipse], [Ellipse], [Circle]]
        )
        for outline, true in zip(found, (OVAL, self.inner)):
            (curve,) = outline.curves
            self.assertLess(math.dist(curve.center, true.center), 0.01)
            np.testing.assert_allclose(sorted(curve.semi_axes), sorted(true.semi_axes), atol=0.015)
            self.assertLess(np.abs(signed_distance(sample(curve, 0.01), true)).max(), 0.03)
            again = curve_of_record(primitive_record(curve, 0.01))
            np.testing.assert_allclose([*again.center, *again.semi_axes], [*curve.center, *curve.semi_axes], atol=1e-12)

    def test_what_is_almost_an_ellipse_is_none(self):
        """A pointed lens of two arcs and a plate with rounded corners: common practice knows both as what a loose fit
        turns into ovals."""
        radius = 14.0
        half = math.acos((radius - 5.0) / radius)
        lens = tuple(
            Arc((20.0, 15.0 + sense * (radius - 5.0)), radius, -sense * math.pi / 2 - half, 2 * half)
            for sense in (1, -1)
        )
        for shape in (lens, rounded_polygon([(4, 8), (36, 8), (36, 22), (4, 22)], [6.9] * 4)):
            (found,) = trace(
                light_of((shape,), 540, 420, self.view, noise=0.008, seed=4), self.fit, TraceSettings(tolerance_mm=0.15)
            )
            self.assertNotIn(Ellipse, [type(curve) for curve in found.curves])

    def test_halves_of_an_oval_are_one_ellipse_on_the_axis(self):
        """An oval plate with an oval hole on its axis and a pair beside it, traced by halves, and tied in the
        sketch."""
        pair = [Ellipse((20.0 + 9 * side, 15.0), (2.5, 1.5), side * 0.5) for side in (1, -1)]
        part = (
            (Ellipse((20.0, 15.0), (15.0, 9.0), 0.0),),
            (Ellipse((20.0, 15.0), (1.8, 4.0), 0.0),),
            *((one,) for one in pair),
        )
        light = light_of(part, 540, 420, self.view, noise=0.006, seed=5)
        found = trace(light, self.fit, TraceSettings(tolerance_mm=0.08, halves="average"))
        self.assertEqual([[type(curve) for curve in outline.curves] for outline in found], [[Ellipse]] * 4)
        axis = found[0].axis
        outlines = [tracing.Outlines(outline.curves, outline.u95_mm) for outline in found]
        outlines.append(
            tracing.axis_outline([curve for outline in outlines for curve in outline.curves], axis.point, axis.angle)
        )
        sketch, told = tracing.taken_in(Sketch(), outlines, "t1")
        self.assertEqual(told, "4 ellipses")
        self.assertIn("symmetric", [item.kind for item in sketch.constraints.values()])
        largest = max(
            (name for name, curve in sketch.curves.items() if curve.kind == "ellipse"),
            key=lambda name: max(sketch.geometry(name).semi_axes),
        )
        np.testing.assert_allclose(sorted(sketch.geometry(largest).semi_axes), (9.0, 15.0), atol=0.03)

    def test_the_feeder_cap_as_a_scanner_sees_it(self):
        """The sample part: two ovals and three round holes, each as one curve, at 200 dpi from a scanner with its
        faults."""
        picture = samples.take("feeder-cap", "scan", dpi=200, turn_degrees=0.7, seed=11)
        corners = np.column_stack([[[0, 31], [96, 31]], [1, 1]]) @ picture.px_from_mm.T
        start, end = (tuple(corner[:2] / corner[2]) for corner in corners)
        fit = scale_from([KnownLength("length", start, end, 96.0)])
        found = trace(decode(picture.data), fit, TraceSettings(tolerance_mm=0.1))
        self.assertEqual(
            [[type(curve).__name__ for curve in outline.curves] for outline in found],
            [["Ellipse"], ["Ellipse"], ["Circle"], ["Circle"], ["Circle"]],
        )
        np.testing.assert_allclose(sorted(found[0].curves[0].semi_axes), (31, 48), atol=0.08)
        np.testing.assert_allclose(sorted(found[1].curves[0].semi_axes), (8, 15), atol=0.08)

    def test_an_oval_edge_from_a_rough_click(self):
        (curve,) = underhand.round_near(self.light, self.fit, (24.0, 15.2)).curves
        self.assertLess(np.abs(signed_distance(sample(curve, 0.01), self.inner)).max(), 0.03)


class InTheSketch(unittest.TestCase):
    def test_five_degrees_of_freedom_and_back_from_json(self):
        sketch, name = oval()
        self.assertEqual(freedom(sketch).degrees, 5)
        again = model.from_json(model.to_json(sketch))
        self.assertEqual(again.geometry(name), sketch.geometry(name))
        with self.assertRaisesRegex(SketchError, "no size"):
            edit.add_ellipse(Sketch(), (0, 0), (5, 0), (2, 0))

    def test_a_point_on_it_moves_along_it(self):
        sketch, name = oval()
        sketch, point = edit.add_point(sketch, (9.0, 7.0))
        sketch = tied(sketch, fixed(*sketch.curves[name].points), Constraint("on curve", (point, name)))
        self.assertEqual(freedom(sketch).degrees, 1)
        self.assertAlmostEqual(
            signed_distance(np.array([sketch.points[point]]), sketch.geometry(name))[0], 0.0, places=7
        )

    def test_axes_are_dimensioned_and_made_equal(self):
        sketch, name = oval()
        sketch, other = edit.add_ellipse(sketch, (30, 3), (33, 4), (30, 7))
        center, first, second = sketch.curves[name].points
        sketch = tied(
            sketch,
            Constraint("distance", (center, first), value=9.0, name="a"),
            Constraint("distance", (center, second), value=4.0, name="b"),
            Constraint("horizontal", (center, first)),
            Constraint("equal", (name, other)),
        )
        np.testing.assert_allclose(sketch.geometry(other).semi_axes, (9.0, 4.0), atol=1e-8)
        self.assertAlmostEqual(math.sin(sketch.geometry(name).angle), 0.0, places=9)

    @given(st.lists(st.floats(-5, 5), min_size=8, max_size=8))
    @settings(max_examples=40, deadline=None)
    def test_derivatives_of_a_point_on_an_ellipse(self, moves):
        sketch, name = oval((1.0, 2.0), (14.0, 4.0), (0.0, 9.0))
        sketch, point = edit.add_point(sketch, (13.0, 14.0))
        sketch, _ = edit.add_constraint(sketch, Constraint("on curve", (point, name)))
        system = System(
            Equations(
                attrs.evolve(
                    sketch,
                    points={
                        key: (x + move, y + other)
                        for (key, (x, y)), move, other in zip(sketch.points.items(), moves[::2], moves[1::2])
                    },
                )
            )
        )
        x = system.start()
        _, entries = system.evaluate(x)
        slopes = np.zeros((system.row_count, system.count))
        np.add.at(slopes, (system.row_of, system.column_of), entries)
        for index in range(system.count):
            step = np.zeros(system.count)
            step[index] = 1e-6
            numeric = (system.evaluate(x + step)[0] - system.evaluate(x - step)[0]) / 2e-6
            np.testing.assert_allclose(slopes[:, index], numeric, atol=2e-6 * (1 + np.abs(slopes).max()))

    def test_halves_stay_images_of_each_other(self):
        sketch, axis = edit.add_line(Sketch(), (0, -20), (0, 20), construction=True)
        sketch, left = edit.add_ellipse(sketch, (-10, 2), (-7, 3), (-11, 5))
        sketch, right = edit.add_ellipse(sketch, (10, 2), (7, 3), (11, 5))
        both = solve(tied_halves(sketch, [left, right], axis))
        self.assertTrue(both.solved)
        self.assertEqual(freedom(both.sketch).degrees, freedom(sketch).degrees - 5)
        moved = tied(both.sketch, Constraint("distance", both.sketch.curves[left].points[:2], value=5.0, name="a"))
        self.assertAlmostEqual(moved.geometry(right).semi_axes[0], 5.0, places=8)

    def test_two_that_cross_divide_their_areas_and_are_told(self):
        sketch, _ = oval()
        sketch, _ = edit.add_ellipse(sketch, (8, 3), (12, 3), (8, 6))
        (finding,) = find_findings(sketch)
        self.assertEqual(finding.code, "crossing")
        shapes = [Polygon(sample(sketch.geometry(name), 1e-5)) for name in sketch.curves]
        wanted = [shapes[0] - shapes[1], shapes[1] - shapes[0], shapes[0] & shapes[1]]
        found = sorted(region.area for region in find_regions(sketch))
        np.testing.assert_allclose(found, sorted(shape.area for shape in wanted), rtol=1e-4)

    def test_what_a_cut_leaves_is_an_arc_of_it(self):
        sketch, name = oval()
        whole = sketch.geometry(name)
        sketch, _ = edit.add_line(sketch, (3, -20), (3, 20))
        cut = trim(sketch, name, (8, 3)).sketch
        left = cut.geometry(name)
        self.assertEqual(cut.curves[name].kind, "elliptical arc")
        self.assertLess(np.abs(signed_distance(sample(left, 1e-3), whole)).max(), 1e-9)
        self.assertAlmostEqual(length(left), length(whole) / 2, places=9)
        np.testing.assert_allclose([place[0] for place in ends(left)], [3, 3], atol=1e-9)
        # Its shape is that of the ellipse, and both ends run on the line: five and four less the four of the two ends.
        self.assertEqual(freedom(cut).degrees, 5 + 4)
        self.assertEqual(model.from_json(model.to_json(cut)), cut)


class ArcsOfThem(unittest.TestCase):
    @given(SIZES, SIZES, ANGLES, ANGLES, st.floats(0.2, 6.0), st.sampled_from([-1, 1]))
    @settings(max_examples=60, deadline=None)
    def test_length_area_directions_and_parts_agree_with_what_is_seen(self, a, b, turn, first, sweep, sense):
        arc = EllipticArc(Ellipse((1.0, -2.0), (a, b), turn), first, sense * sweep)
        line = sample(arc, 1e-5)
        chords = np.diff(line, axis=0)
        size = max(a, b)
        self.assertAlmostEqual(length(arc) / float(np.hypot(*chords.T).sum()), 1.0, delta=1e-4)
        crossed = (line[:-1, 0] * line[1:, 1] - line[1:, 0] * line[:-1, 1]).sum() / 2
        self.assertAlmostEqual(closed_area((arc,)), float(crossed), delta=1e-4 * size)
        for way, chord in zip(end_directions(arc), chords[[0, -1]]):
            self.assertGreater(float(way @ chord / np.hypot(*chord)), 0.99)
        first_part, second_part = part(arc, 0.0, 0.3), part(arc, 0.3, 1.0)
        self.assertAlmostEqual(length(first_part) + length(second_part), length(arc), delta=1e-9 * size)
        np.testing.assert_allclose(ends(first_part)[1], at(arc, 0.3)[0], atol=1e-9 * size)
        np.testing.assert_allclose(ends(reverse(arc)), ends(arc)[::-1], atol=1e-9 * size)
        mirror = moved(arc, lambda place: (place[0], -place[1]), sense=-1)
        np.testing.assert_allclose(ends(mirror), np.array(ends(arc)) * (1, -1), atol=1e-9 * size)
        np.testing.assert_allclose(ends(curve_of_record(primitive_record(arc, None))), ends(arc), atol=1e-9 * size)
        beyond = sample(arc, 1e-3)
        self.assertLess(np.abs(signed_distance(beyond, arc)).max(), 1e-7 * size)

    def test_tangent_where_it_ends(self):
        """A line, an arc and a spline that leave an elliptical arc in its own direction."""
        for add in (
            lambda sketch, end: edit.add_line(sketch, end, (-40, -6)),
            lambda sketch, end: edit.add_arc_through(sketch, end, (-24, -14), (-30, -20)),
            lambda sketch, end: edit.add_curve(sketch, "spline", [end, (-22, -4), (-30, -20), (-34, -20)]),
        ):
            sketch, oval_arc = edit.add_elliptical_arc(Sketch(), (0, 0), (20, 0), (10, 8), (-20, -3))
            end = sketch.curves[oval_arc].points[-1]
            sketch, other = add(sketch, end)
            sketch, _ = edit.add_constraint(sketch, Constraint("tangent", (oval_arc, other)))
            told = solve(sketch)
            self.assertTrue(told.solved)
            ways = [
                end_directions(told.sketch.geometry(name))[told.sketch.curves[name].end_points().index(end)]
                for name in (oval_arc, other)
            ]
            self.assertAlmostEqual(abs(float(ways[0] @ ways[1])), 1.0, places=9)

    def test_a_second_one_and_what_lies_wrong_are_refused(self):
        sketch, first = edit.add_elliptical_arc(Sketch(), (0, 0), (20, 0), (10, 8), (-20, 3))
        end = sketch.curves[first].points[-1]
        sketch, second = edit.add_elliptical_arc(sketch, (-30, 0), (-20, 5), end, (-40, 0))
        with self.assertRaisesRegex(SketchError, "two elliptical arcs"):
            Equations(edit.add_constraint(sketch, Constraint("tangent", (first, second)))[0])
        for start in ((30, 3), (10, 0)):
            with self.assertRaisesRegex(SketchError, "No ellipse with that axis"):
                edit.add_elliptical_arc(Sketch(), (0, 0), (20, 0), start, (-20, 3))

    def test_moved_mirrored_and_copied(self):
        sketch, name = edit.add_elliptical_arc(Sketch(), (0, 0), (20, 0), (10, 8), (-20, 3))
        across = arrange.mirrored((40, 0), (40, 10))
        image, became = arrange.copy(sketch, [name], across)
        self.assertAlmostEqual(length(image.geometry(became[name])), length(sketch.geometry(name)), places=9)
        np.testing.assert_allclose(
            ends(image.geometry(became[name])), [across.of(place) for place in ends(sketch.geometry(name))[::-1]]
        )

    def test_an_outline_with_one_is_a_solid_and_a_drawing(self):
        """A quarter of an ellipse: a b pi / 4 and its height."""
        quarter = (
            EllipticArc(Ellipse((5, 5), (12, 7), 0.0), 0.0, math.pi / 2),
            Line((5, 12), (5, 5)),
            Line((5, 5), (17, 5)),
        )
        sketch, _, _ = edit.add_outline(Sketch(), quarter, [0.01] * 3, origin="drawn")
        (region,) = find_regions(sketch)
        self.assertAlmostEqual(region.area, math.pi * 84 / 4, places=9)
        (body,) = run(sketch, plate_operations(sketch, 5.0))[0].values()
        self.assertAlmostEqual(body.facts.volume_mm3, 5 * math.pi * 84 / 4, places=5)
        entities = ezdxf.read(io.StringIO(dxf([quarter]).decode())).modelspace()
        (oval_entity,) = entities.query("ELLIPSE")
        np.testing.assert_allclose(oval_entity.start_point.vec2, (17, 5), atol=1e-9)
        np.testing.assert_allclose(oval_entity.end_point.vec2, (5, 12), atol=1e-9)
        self.assertIn("A12 7 0 0 1 5 12", svg([quarter]))


class InTheSolid(unittest.TestCase):
    def test_volume_and_size(self):
        """Volume of an elliptic cylinder, pi a b h; half its extent across a direction at angle t to its first axis is
        hypot(a cos t, b sin t)."""
        sketch = Sketch()
        sketch, _, _ = edit.add_outline(sketch, (OVAL,), [0.05], origin="drawn")
        sketch, _, _ = edit.add_outline(sketch, (Ellipse((20, 14), (2, 3), 0.2),), [0.05], origin="drawn")
        self.assertAlmostEqual(find_regions(sketch)[0].area, math.pi * (84 - 6), places=9)
        (body,) = run(sketch, plate_operations(sketch, 5.0))[0].values()
        facts = body.facts
        self.assertAlmostEqual(facts.volume_mm3 / (5 * math.pi * (84 - 6)), 1.0, delta=1e-7)
        width = 2 * math.hypot(12 * math.cos(OVAL.angle), 7 * math.sin(OVAL.angle))
        self.assertAlmostEqual(facts.box[1][0] - facts.box[0][0], width, delta=1e-4)

    def test_drawings(self):
        tall = Ellipse((3, 4), (2, 5), 0.3)
        (entity,) = ezdxf.read(io.StringIO(dxf([(tall,)]).decode())).modelspace()
        self.assertEqual(entity.dxftype(), "ELLIPSE")
        places = np.array([(point.x, point.y) for point in entity.vertices(np.linspace(0, 2 * math.pi, 40))])
        self.assertLess(np.abs(signed_distance(places, tall)).max(), 1e-9)
        self.assertIn("A2 5 17.188734", svg([(tall,)]))
