"""The solver: rows against differences, compiled against numpy, and shapes whose sizes geometry knows."""

import math
import unittest

import attrs
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import drawn, fixed, tied
from examples import parts
from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import bezier, length
from nomogon_core.sketch import compiled_solve, edit, rows
from nomogon_core.sketch.dimensions import measure, new_dimension
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.solve import Grab, freedom, solve
from nomogon_core.sketch.system import System, by_columns


def told(number, values, constants, evaluate=compiled_solve.evaluate):
    """(residual, derivatives) of one row of a kind."""
    width = rows.KINDS[number][1]
    residual, entries = np.empty(1), np.empty(width)
    evaluate(np.array([number]), np.array([0, width]), np.arange(width), constants, values, residual, entries)
    return residual[0], entries


class Rows(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10**6))
    def test_derivatives_agree_with_differences_and_both_ways_agree(self, seed):
        random, step = np.random.default_rng(seed), 1e-6
        for number, (function, width, count) in enumerate(rows.KINDS):
            constants = np.zeros((1, rows.MOST_CONSTANTS))
            constants[0, :count] = random.normal(0, 1, count)
            values = random.normal(0, 1, width)
            residual, entries = told(number, values, constants)
            same, same_entries = told(number, values, constants, by_columns)
            size = max(1.0, np.abs(entries).max())
            self.assertAlmostEqual(residual / size, same / size, places=12)
            np.testing.assert_allclose(entries / size, same_entries / size, atol=1e-12)
            slopes = [
                (told(number, values + e, constants)[0] - told(number, values - e, constants)[0]) / (2 * step)
                for e in step * np.eye(width)
            ]
            if size < 1e3:
                np.testing.assert_allclose(
                    entries / size, np.array(slopes) / size, atol=2e-5, err_msg=function.__name__
                )


class BothWays(unittest.TestCase):
    def sketches(self):
        outline = parts.latch_plate()[0]
        joined, _, joints = edit.add_outline(Sketch(), outline, [0.05] * len(outline), origin="drawn")
        for constraint in edit.smooth_joints(joined, joints)[:9]:
            joined, _ = edit.add_constraint(joined, constraint)
        yield joined
        first = next(name for name, curve in joined.curves.items() if curve.kind == "line")
        yield edit.add_constraint(joined, Constraint("horizontal", (first,)))[0]
        yield edit.add_constraint(
            joined, Constraint("distance", (first,), value=1.07 * measure(joined, "distance", (first,)), name="a")
        )[0]

    def test_solving_and_what_is_free_are_the_same_by_numpy(self):
        for sketch in self.sketches():
            one, other = solve(sketch), solve(sketch, compiled=False)
            self.assertEqual((one.status, one.solved), (other.status, True))
            for name, place in one.sketch.points.items():
                self.assertLess(math.dist(place, other.sketch.points[name]), 1e-8 * sketch.size())
            free, same = freedom(one.sketch), freedom(one.sketch, compiled=False)
            self.assertEqual(
                (free.degrees, free.points.keys(), free.radii), (same.degrees, same.points.keys(), same.radii)
            )

    def test_what_is_not_touched_keeps_its_last_digit(self):
        sketch = next(self.sketches())
        sketch, name = edit.add_circle(sketch, (200, 20), 5)
        sketch, line = edit.add_line(sketch, (220, 0), (231.7, 13.3))
        sketch = solve(sketch).sketch
        changed = tied(sketch, Constraint("distance", (line,), value=20.0, name="a"))
        ends = sketch.curves[line].points
        self.assertEqual({point for point in sketch.points if sketch.points[point] != changed.points[point]}, set(ends))
        self.assertEqual(changed.curves[name], sketch.curves[name])

    def test_a_way_out_and_back_ends_where_it_began(self):
        sketch = solve(next(self.sketches())).sketch
        corner = next(iter(sketch.points))
        grab = Grab(sketch, [corner])
        there = grab.move((3.0, -2.0), None)
        self.assertTrue(np.abs(System(Equations(there)).evaluate(System(Equations(there)).start())[0]).max() < 1e-8)
        back = grab.move((0.0, 0.0), None)
        for name, place in sketch.points.items():
            self.assertLess(math.dist(place, back.points[name]), 1e-9 * sketch.size())


class Shapes(unittest.TestCase):
    """Constraints and dimensions that need rows of their own, on places that geometry knows."""

    def oval(self, center=(0, 0), first=(10, 0), second=(0, 6)):
        return edit.add_ellipse(Sketch(), center, first, second)

    def test_a_line_touches_an_ellipse(self):
        # A line y = m x + c touches x²/a² + y²/b² = 1 where c² = a² m² + b² (any text of analytic geometry).
        sketch, oval = self.oval()
        sketch, line = edit.add_line(sketch, (-12, 6), (14, 8.5))
        sketch = tied(sketch, fixed(oval), Constraint("tangent", (line, oval)))
        (ax, ay), (bx, by) = (sketch.points[point] for point in sketch.curves[line].points)
        slope = (by - ay) / (bx - ax)
        self.assertAlmostEqual((ay - slope * ax) ** 2, 100 * slope**2 + 36, places=7)

    def test_a_circle_touches_an_ellipse_outside_and_inside(self):
        for center, radius in (((16, 5), 6.0), ((0, 0), 5.0), ((5, 0), 3.0)):
            sketch, oval = self.oval()
            sketch, circle = edit.add_circle(sketch, center, radius)
            sketch = tied(sketch, fixed(*sketch.curves[oval].points), Constraint("tangent", (oval, circle)))
            middle = sketch.points[sketch.curves[circle].points[0]]
            far = np.hypot(*(sketch.geometry(oval).at(np.linspace(0, 2 * math.pi, 200_001)) - middle).T)
            self.assertAlmostEqual(far.min(), sketch.curves[circle].radius, places=6)

    def test_two_ellipses_are_refused(self):
        sketch, first = self.oval()
        sketch, second = edit.add_ellipse(sketch, (30, 0), (36, 0), (30, 4))
        with self.assertRaisesRegex(SketchError, "two ellipses; put a circle"):
            tied(sketch, Constraint("tangent", (first, second)))

    def test_a_point_stays_on_a_spline(self):
        sketch, name = edit.add_spline_through(Sketch(), [(0, 0), (10, 6), (20, -3), (30, 4)])
        sketch, point = edit.add_point(sketch, (14, 3.5))
        sketch = tied(sketch, Constraint("on curve", (point, name)))
        pieces = sketch.geometry(name).pieces()
        near = min(
            np.hypot(*(bezier(piece, np.linspace(0, 1, 20_001)) - sketch.points[point]).T).min() for piece in pieces
        )
        self.assertLess(near, 1e-4)
        with self.assertRaisesRegex(SketchError, "one of the spline's own"):
            tied(sketch, Constraint("on curve", (sketch.curves[name].points[3], name)))

    def bend(self, sketch, name, end):
        """Curvature of a spline at one of its ends."""
        points = sketch.curves[name].points
        control = points[:3] if points[0] == end else points[:-4:-1]
        a, b, c = (np.array(sketch.points[one]) for one in control)
        return 2 / 3 * abs((b - a)[0] * (c - b)[1] - (b - a)[1] * (c - b)[0]) / math.dist(a, b) ** 3

    def test_a_spline_goes_smoothly_into_an_arc_a_line_and_another_spline(self):
        sketch, arc = edit.add_arc_through(Sketch(), (0, 0), (5, 2), (10, 0))
        end = max(sketch.curves[arc].points[1:], key=lambda point: sketch.points[point][0])
        sketch, spline = edit.add_spline_through(sketch, [end, (16, -5), (24, -4), (30, 1)])
        last = sketch.curves[spline].points[-1]
        sketch, line = edit.add_line(sketch, last, (44, 10))
        sketch = tied(sketch, Constraint("smooth", (arc, spline)), Constraint("smooth", (spline, line)))
        self.assertAlmostEqual(self.bend(sketch, spline, end), 1 / sketch.curves[arc].radius, places=8)
        self.assertAlmostEqual(self.bend(sketch, spline, last), 0.0, places=8)
        sketch, first = edit.add_spline_through(Sketch(), [(0, 0), (8, 5), (16, 3)])
        joint = sketch.curves[first].points[-1]
        sketch, second = edit.add_spline_through(sketch, [joint, (24, -2), (33, 2)])
        sketch = tied(sketch, Constraint("smooth", (first, second)))
        self.assertAlmostEqual(self.bend(sketch, first, joint), self.bend(sketch, second, joint), places=8)

    def test_the_length_of_an_arc(self):
        sketch, name = edit.add_arc_through(Sketch(), (0, 0), (5, 3), (10, 0))
        sketch = tied(sketch, new_dimension(sketch, "arc length", (name,)))
        (key,) = sketch.constraints
        sketch = tied(attrs.evolve(sketch, constraints={}), attrs.evolve(sketch.constraints[key], value=14.0))
        self.assertAlmostEqual(length(sketch.geometry(name)), 14.0, places=8)

    def test_distances_to_circles(self):
        sketch, left = edit.add_circle(Sketch(), (0, 0), 5)
        sketch, right = edit.add_circle(sketch, (20, 1), 4)
        sketch, line = edit.add_line(sketch, (-30, 12), (30, 12))
        sketch, inner = edit.add_circle(sketch, (0.5, 0.2), 2)
        sketch, point = edit.add_point(sketch, (-9, 1))
        for of, value in (((left, right), 7.0), ((left, line), 9.0), ((point, left), 6.0), ((left, inner), 1.0)):
            self.assertGreater(measure(sketch, "distance", of), 0)
            sketch = tied(sketch, Constraint("distance", of, value=value, name=str(of)))
            self.assertAlmostEqual(measure(sketch, "distance", of), value, places=8)
        center = [sketch.points[sketch.curves[name].points[0]] for name in (left, right, inner)]
        radius = [sketch.curves[name].radius for name in (left, right, inner)]
        self.assertAlmostEqual(math.dist(center[0], center[1]) - radius[0] - radius[1], 7.0, places=8)
        self.assertAlmostEqual(radius[0] - radius[2] - math.dist(center[0], center[2]), 1.0, places=8)

    def test_the_diameter_of_a_half_profile(self):
        sketch, axis = edit.add_line(Sketch(), (0, 0), (0, 40), construction=True)
        sketch, side = edit.add_line(sketch, (8, 5), (8.5, 30))
        sketch = tied(
            sketch,
            fixed(axis),
            Constraint("vertical", (side,)),
            Constraint("diameter", (side, axis), value=22.0, name="Bore"),
        )
        self.assertAlmostEqual(sketch.points[sketch.curves[side].points[0]][0], 11.0, places=9)
        self.assertAlmostEqual(measure(sketch, "diameter", (side, axis)), 22.0, places=9)

    def test_a_chain_of_many_equal_lines(self):
        sketch, random = drawn([]), np.random.default_rng(3)
        sketch, last = edit.add_point(sketch, (0, 0))
        lines = []
        for index in range(300):
            sketch, line = edit.add_line(sketch, last, (index + 1.0, random.normal(0, 0.3)))
            last = sketch.curves[line].points[1]
            lines.append(line)
        for one, other in zip(lines, lines[1:]):
            sketch, _ = edit.add_constraint(sketch, Constraint("equal", (one, other)))
        solved = solve(sketch)
        self.assertTrue(solved.solved)
        self.assertEqual(freedom(solved.sketch).degrees, 2 * 301 - 299)


if __name__ == "__main__":
    unittest.main()
