"""Cutting curves back, carrying them on, and points of splines, against crossings with closed answers."""

import math
import unittest

import numpy as np
import shapely
from hypothesis import example, given, settings
from hypothesis import strategies as st

from nomogon_core.errors import SketchError
from nomogon_core.geometry.crossings import at, crossings, part, span
from nomogon_core.geometry.curves import Arc, Circle, Line, Spline, end_directions, ends, length, sample
from nomogon_core.sketch import edit, trim
from nomogon_core.sketch.model import Constraint, Sketch

WAVE = Spline([(0, 0), (10, 12), (20, -12), (30, 0)])
PLACE = st.floats(-20, 20)


class Crossings(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.tuples(PLACE, PLACE), st.floats(0.5, 15), st.floats(0, 6.2), st.floats(-14, 14))
    @example((0.0, 0.0), 1.0, 0.0, -1.9e-212)
    @example((3.0, 2.0), 5.0, 0.0, 0.0)
    def test_a_line_through_a_circle(self, center, radius, angle, off):
        """Chord of a circle: two crossings at half its length from its middle, none where the line passes by (any
        geometry text)."""
        way = np.array([math.cos(angle), math.sin(angle)])
        middle = np.array(center) + off * np.array([-way[1], way[0]])
        line = Line(middle - 80 * way, middle + 80 * way)
        found = crossings(line, Circle(center, radius))
        if abs(off) > radius + 1e-3:
            self.assertEqual(found, [])
        elif abs(off) < radius - 1e-3:
            half = math.sqrt(radius**2 - off**2)
            np.testing.assert_allclose(found, [(80 - half) / 160, (80 + half) / 160], atol=1e-9)

    def test_a_cubic_and_its_inflection(self):
        found = crossings(WAVE, Line((-1, 0), (31, 0)))
        np.testing.assert_allclose(found, [0, 0.5, 1], atol=1e-9)

    def test_an_end_that_touches_counts(self):
        self.assertEqual(crossings(Line((0, 0), (10, 0)), Line((4, 0), (4, 5))), [0.4])
        self.assertEqual(crossings(Line((0, 0), (10, 0)), Line((4, 0.1), (4, 5))), [])

    @settings(max_examples=30, deadline=None)
    @given(st.floats(0.05, 0.9), st.floats(0.05, 0.9))
    def test_parts_lie_on_the_whole(self, low, size):
        for curve in (
            Line((1, 2), (9, -3)),
            Arc((1, 1), 5, 0.3, -2.0),
            WAVE,
            Spline([*WAVE.points, (40, 12), (50, 5), (55, 5)]),
        ):
            first, last = low * span(curve), min(low + size, 0.99) * span(curve)
            if last <= first:
                continue
            piece = part(curve, first, last)
            np.testing.assert_allclose(ends(piece), (at(curve, first)[0], at(curve, last)[0]), atol=1e-9)
            whole = shapely.LineString(sample(curve, 1e-5))
            self.assertLess(max(whole.distance(shapely.Point(place)) for place in sample(piece, 0.01)), 1e-4)
            rest = length(part(curve, 0.0, first)) + length(piece) + length(part(curve, last, span(curve)))
            self.assertAlmostEqual(rest, length(curve), places=3)


class Trimming(unittest.TestCase):
    def setUp(self):
        """A cross of two lines and a circle about their crossing."""
        self.sketch, self.level = edit.add_line(Sketch(), (-10, 0), (10, 0))
        self.sketch, self.upright = edit.add_line(self.sketch, (0, -10), (0, 10))
        self.sketch, self.circle = edit.add_circle(self.sketch, (0, 0), 5.0)

    def ends(self, sketch, name):
        return sorted(tuple(np.round(sketch.points[point], 6)) for point in sketch.curves[name].end_points())

    def test_the_end_that_sticks_out(self):
        done = trim.trim(self.sketch, self.level, (8, 0.2)).sketch
        self.assertEqual(self.ends(done, self.level), [(-10, 0), (5, 0)])
        self.assertEqual([item.kind for item in done.constraints.values()], ["on curve"])

    def test_a_piece_between_two_crossings_leaves_two_curves(self):
        done = trim.trim(self.sketch, self.level, (2, 0)).sketch
        self.assertEqual(len(done.curves), 4)
        self.assertEqual(self.ends(done, self.level), [(-10, 0), (0, 0)])
        new = next(name for name in done.curves if name not in self.sketch.curves)
        self.assertEqual(self.ends(done, new), [(5, 0), (10, 0)])

    def test_a_circle_becomes_the_arc_that_is_left(self):
        done = trim.trim(self.sketch, self.circle, (3.5, 3.5)).sketch
        arc = done.geometry(self.circle)
        self.assertIsInstance(arc, Arc)
        self.assertAlmostEqual(length(arc), 5.0 * 1.5 * math.pi, places=6)
        self.assertEqual(self.ends(done, self.circle), [(0, 5), (5, 0)])

    def test_two_long_lines_make_a_corner(self):
        sketch, first = edit.add_line(Sketch(), (0, 0), (10, 0))
        sketch, second = edit.add_line(sketch, (7, -3), (7, 8))
        sketch = trim.trim(sketch, first, (9, 0)).sketch
        sketch = trim.trim(sketch, second, (7, -2)).sketch
        self.assertEqual(
            set(sketch.curves[first].points) & set(sketch.curves[second].points), {sketch.curves[first].points[1]}
        )
        self.assertEqual(self.ends(sketch, second), [(7, 0), (7, 8)])

    def test_a_spline_is_cut_exactly(self):
        sketch, wave = edit.add_curve(Sketch(), "spline", WAVE.points)
        sketch, _ = edit.add_line(sketch, (15, -9), (15, 9))
        done = trim.trim(sketch, wave, (25, -3)).sketch
        self.assertEqual(self.ends(done, wave), [(0, 0), (15, 0)])
        self.assertAlmostEqual(length(done.geometry(wave)), length(WAVE) / 2, places=9)

    def test_what_said_how_long_it_was_goes_and_is_named(self):
        sketch, _ = edit.add_constraint(self.sketch, Constraint("distance", (self.level,), value=20.0, name="Span"))
        sketch, _ = edit.add_constraint(sketch, Constraint("horizontal", (self.level,)))
        done = trim.trim(sketch, self.level, (8, 0))
        self.assertEqual(done.lost, ("Span (20.00 mm)",))
        self.assertEqual(sorted(item.kind for item in done.sketch.constraints.values()), ["horizontal", "on curve"])

    def test_carried_on_to_the_next_curve(self):
        sketch, short = edit.add_line(self.sketch, (-9, 3), (-7, 3))
        done = trim.extend(sketch, short, (-7.1, 3)).sketch
        self.assertEqual(self.ends(done, short), [(-9, 3), (-4, 3)])
        sketch, bow = edit.add_arc_through(self.sketch, (8, 1), (7.5, 3), (6, 5))
        done = trim.extend(sketch, bow, (8, 1.2)).sketch
        self.assertAlmostEqual(min(y for _, y in self.ends(done, bow)), 0.0, places=6)

    def test_refusals_in_words(self):
        alone, line = edit.add_line(Sketch(), (0, 0), (5, 0))
        alone, ring = edit.add_circle(alone, (50, 50), 2)
        for call, words in (
            (lambda: trim.trim(alone, line, (2, 0)), "crosses no other"),
            (lambda: trim.trim(alone, ring, (52, 50)), "fewer than two places"),
            (lambda: trim.extend(alone, line, (5, 0)), "Nothing lies on the way"),
            (lambda: trim.extend(alone, ring, (52, 50)), "A line or an arc"),
            (lambda: trim.add_spline_point(alone, line, (2, 0)), "is for splines"),
        ):
            with self.assertRaisesRegex(SketchError, words):
                call()
        sketch, second = edit.add_line(alone, alone.curves[line].points[1], (5, 5))
        with self.assertRaisesRegex(SketchError, "joined to another curve"):
            trim.extend(sketch, second, (5, 0.1))


class SplinePoints(unittest.TestCase):
    def test_a_point_more_leaves_the_shape_and_taken_away_again_gives_it_back(self):
        sketch, wave = edit.add_curve(Sketch(), "spline", WAVE.points)
        more = trim.add_spline_point(sketch, wave, (8, 4))
        self.assertEqual(len(more.curves[wave].points), 7)
        self.assertAlmostEqual(length(more.geometry(wave)), length(WAVE), places=9)
        back, off = trim.remove_spline_point(more, wave, (8, 4))
        self.assertEqual((len(back.curves[wave].points), len(back.points)), (4, 4))
        self.assertLess(off, 1e-3)

    def test_the_deviation_is_told(self):
        sketch, bow = edit.add_spline_through(Sketch(), [(0, 0), (5, 4), (10, -4), (15, 4), (20, 0)])
        fewer, off = trim.remove_spline_point(sketch, bow, (10, -4))
        self.assertEqual(len(fewer.curves[bow].points), 10)
        old = sample(sketch.geometry(bow), 1e-4)
        new = sample(fewer.geometry(bow), 1e-4)
        self.assertAlmostEqual(max(np.hypot(*(new - place).T).min() for place in old[::5]), off, delta=0.15 * off)
        with self.assertRaisesRegex(SketchError, "no point between its ends"):
            trim.remove_spline_point(edit.add_curve(Sketch(), "spline", WAVE.points)[0], "c5", (1, 1))


class Smoother(unittest.TestCase):
    def bend_jump(self, curve):
        """Largest jump of the signed curvature between pieces."""
        bends = []
        for control in curve.pieces():
            for end in (0, 1):
                a, b, c = control[:3] if end == 0 else control[:0:-1]
                first, second = b - a, c - 2 * b + a
                bend = 2 / 3 * (first[0] * second[1] - first[1] * second[0]) / math.hypot(*first) ** 3
                bends.append(bend if end == 0 else -bend)
        return max(abs(before - after) for before, after in zip(bends[1:-1:2], bends[2::2]))

    @given(st.lists(st.floats(-3, 3), min_size=4, max_size=8))
    @settings(max_examples=30, deadline=None)
    def test_points_and_end_directions_stay_and_the_bend_goes_on(self, heights):
        control = [(0.0, 0.0)]
        for index, height in enumerate(heights):
            x, before = 10.0 * index, control[-1]
            control += [(x + 3, before[1] + 0.5), (x + 7, height - 0.5), (x + 10, height)]
        sketch, name = edit.add_curve(Sketch(), "spline", control)
        done, off = trim.smoother(sketch, name)
        curve = done.geometry(name)
        np.testing.assert_allclose(curve.points[::3], control[::3], atol=1e-12)
        np.testing.assert_allclose(end_directions(curve), end_directions(sketch.geometry(name)), atol=1e-9)
        self.assertLess(self.bend_jump(curve), 0.6 * self.bend_jump(sketch.geometry(name)) + 1e-6)
        far = max(
            shapely.LineString(sample(curve, 1e-4)).distance(shapely.Point(place))
            for place in sample(sketch.geometry(name), 0.01)
        )
        self.assertAlmostEqual(off, far, delta=0.02)

    def test_what_is_smooth_already_is_said(self):
        sketch, name = edit.add_spline_through(Sketch(), [(0, 0), (10, 4), (20, -3), (30, 0)])
        done, _ = trim.smoother(sketch, name)
        with self.assertRaisesRegex(SketchError, "evenly already"):
            trim.smoother(trim.smoother(trim.smoother(done, name)[0], name)[0], name)
        with self.assertRaisesRegex(SketchError, "no point between"):
            trim.smoother(*edit.add_curve(Sketch(), "spline", [(0, 0), (1, 1), (2, 1), (3, 0)]))
