"""Line-work: the area of strokes that cross and meet, plates of it, and marks of a trace as holes and pegs."""

import math
import unittest

import attrs
import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.test_operations import block, built, problem_of, step
from examples.render import rounded_polygon
from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import Arc, Circle, Line, Spline, outline_points, sample
from nomogon_core.sketch import edit, model
from nomogon_core.sketch.chains import chains
from nomogon_core.sketch.offset import stroked
from nomogon_core.sketch.regions import find_regions


def polygons(areas):
    return shapely.union_all(
        [shapely.Polygon(*(lambda rings: (rings[0], rings[1:]))([outline_points(loop, 1e-4) for loop in loops]))
         for loops in areas]
    )  # fmt: skip


def spread(runs, width):
    """What a round tip covers, by another way: shapely's buffer of fine polygons."""
    lines = [sample(curve, 1e-4) for curves, _ in runs for curve in curves]
    return shapely.MultiLineString(lines).buffer(width / 2, quad_segs=400)


class Strokes(unittest.TestCase):
    def same(self, runs, width, pieces, holes):
        areas = stroked(runs, width)
        self.assertEqual((len(areas), sum(len(loops) - 1 for loops in areas)), (pieces, holes))
        told, wanted = polygons(areas), spread(runs, width)
        self.assertLess(told.symmetric_difference(wanted).area, 2e-4 * wanted.area)

    def test_a_cross_a_tee_a_star_and_a_ring_with_spokes(self):
        line = Line
        self.same([([line((-10, 0), (10, 0))], False), ([line((0, -8), (3, 9))], False)], 1.2, 1, 0)
        tee = [([line((-10, 0), (0, 0))], False), ([line((0, 0), (10, 0))], False), ([line((0, 0), (0, 7))], False)]
        self.same(tee, 1.5, 1, 0)
        star = [([line((0, 0), (9 * math.cos(a), 9 * math.sin(a)))], False) for a in np.arange(5) * 2 * math.pi / 5]
        self.same(star, 1.0, 1, 0)
        spokes = [([line((0, 0), (10 * math.cos(a), 10 * math.sin(a)))], False) for a in (0.3, 2.4, 4.5)]
        self.same([([Circle((0, 0), 10)], True), *spokes], 0.8, 1, 3)
        self.same([([line((0, 0), (5, 0))], False), ([line((0, 4), (5, 4))], False)], 1.0, 2, 0)

    def test_a_spline_that_crosses_itself_and_an_arc_that_goes_on_smoothly(self):
        loop = [Spline([(0, 0), (14, 9), (-6, 9), (8, 0)])]
        self.same([(loop, False)], 0.9, 1, 1)
        hook = [Line((0, 0), (6, 0)), Arc((6, 3), 3, -math.pi / 2, math.pi)]
        self.same([(hook, False)], 1.0, 1, 0)

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 2**31), st.integers(2, 7), st.floats(0.4, 1.5))
    def test_lines_anyhow_cover_what_a_round_tip_covers(self, seed, count, width):
        places = np.random.default_rng(seed).uniform(-12, 12, (count, 2, 2))
        runs = [([Line(tuple(first), tuple(last))], False) for first, last in places.tolist()]
        told, wanted = polygons(stroked(runs, width)), spread(runs, width)
        self.assertLess(told.symmetric_difference(wanted).area, 1e-3 * wanted.area)

    def test_lines_upon_one_another_are_told(self):
        twice = [([Line((0, 0), (9, 0))], False), ([Line((2, 0), (7, 0))], False)]
        try:
            told = polygons(stroked(twice, 1.0))
            self.assertAlmostEqual(told.area / spread(twice, 1.0).area, 1, places=3)
        except SketchError as problem:
            self.assertIn("lie upon one another", str(problem))


def traced(*outlines, trace="t1"):
    """A sketch of outlines, closed or open, that came of a trace."""
    sketch = model.Sketch()
    for curves, closed in outlines:
        sketch, _, _ = edit.add_outline(sketch, curves, [0.01] * len(curves), origin=trace, closed=closed)
    return sketch


class Signs(unittest.TestCase):
    def test_chains_that_meet_end_there(self):
        sketch = model.Sketch()
        sketch, hub = edit.add_point(sketch, (0.0, 0.0))
        for place in ((5.0, 0.0), (0.0, 5.0), (-5.0, 0.0)):
            sketch, end = edit.add_point(sketch, place)
            sketch, _ = edit.add_curve(sketch, "line", (hub, end))
        self.assertEqual([len(run) for run, _ in chains(sketch, list(sketch.curves), meeting=True)], [1, 1, 1])
        with self.assertRaisesRegex(SketchError, "More than two"):
            chains(sketch, list(sketch.curves))

    def test_all_lines_of_a_trace_become_a_plate(self):
        sketch = traced(([Line((0, 0), (20, 0))], False), ([Line((10, -6), (10, 8))], False))
        lines = step("op1", "lines", curves={"sketch": "s1", "names": [], "trace": "t1"}, width=2.0, height=3.0,
                     way="up", result="new", body="Sign")  # fmt: skip
        body = built(sketch, lines)["Sign"]
        area = 20 * 2 + 14 * 2 - 2 * 2 + 2 * math.pi  # two bars, less what both cover, and four round ends
        self.assertAlmostEqual(body.facts.volume_mm3, 3 * area, places=5)
        self.assertEqual(body.facts.size, (22.0, 16.0, 3.0))
        gone = step("op1", "lines", curves={"sketch": "s1", "names": ["c99"]}, width=2.0, height=3.0, way="up",
                    result="new", body="Sign")  # fmt: skip
        self.assertIn("no curve", problem_of(sketch, gone))
        lost = attrs.evolve(gone, blanks=gone.blanks | {"curves": {"sketch": "s1", "names": [], "trace": "t9"}})
        self.assertIn("no curve of that trace", problem_of(sketch, lost))

    def test_marks_of_two_traces_become_holes_and_pegs(self):
        """Marks of any closed shape count by their centroid."""
        plate = rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4)
        square = rounded_polygon([(39, 9), (41, 9), (41, 11), (39, 11)], [0] * 4)
        sketch = traced((plate, True), trace="drawn")
        for trace, marks in (("t1", [(Circle((10, 10), 1),), square]), ("t2", [(Circle((10, 30), 1.4),)])):
            for curves in marks:
                sketch, _, _ = edit.add_outline(sketch, curves, [0.01] * len(curves), origin=trace, closed=True)
        whole = block(sketch, 5.0, regions=[one.name for one in find_regions(sketch)])
        hole = step("op2", "hole", centres={"sketch": "s1", "names": [], "trace": "t1"}, diameter=3.0,
                    extent="through", body="Plate")  # fmt: skip
        peg = step("op3", "peg", centres={"sketch": "s1", "names": [], "trace": "t2"}, diameter=4.0, height=6.0,
                   body="Plate", **{"from": "top"})  # fmt: skip
        body = built(sketch, whole, hole, peg)["Plate"]
        wanted = 60 * 40 * 5 - 2 * math.pi * 1.5**2 * 5 + math.pi * 2**2 * 6
        self.assertAlmostEqual(body.facts.volume_mm3, wanted, places=5)
        bare = attrs.evolve(hole, blanks=hole.blanks | {"centres": {"sketch": "s1", "names": [], "trace": "t9"}})
        self.assertIn("no closed mark of that trace", problem_of(sketch, whole, bare))
