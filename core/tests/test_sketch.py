"""The solver against closed answers, constraints in words, regions and findings."""

import itertools
import math
import unittest

import attrs
import numpy as np
import shapely
import shapely.ops
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy.linalg import null_space

from core.tests.specimens import drawn, fixed, tied, triangle
from examples import parts
from examples.render import hole, rounded_polygon, slot
from nomogon_core.errors import SketchError
from nomogon_core.geometry.crossings import at, crossings
from nomogon_core.geometry.curves import Arc, Circle, Line, closed_area, ends, length
from nomogon_core.sketch import edit, model
from nomogon_core.sketch.constrain import constrain, set_value
from nomogon_core.sketch.dimensions import measure, new_dimension, traced_u95
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.findings import find_both, find_findings
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.regions import find_regions, loop_curves, match_region
from nomogon_core.sketch.shapes import Shape, fill
from nomogon_core.sketch.solve import Grab, freedom, solve
from nomogon_core.sketch.system import System


def dimension(kind, of, value):
    return Constraint(kind, of, value=value, name=f"{kind} {value:g}")


def circles(*places):
    sketch, names = Sketch(), []
    for x, y, radius in places:
        sketch, name = edit.add_circle(sketch, (x, y), radius)
        names.append(name)
    return sketch, names


class ClosedAnswers(unittest.TestCase):
    def test_equilateral_triangle(self):
        sketch, points, lines = triangle((0, 0), (1, 0.1), (0.4, 0.7))
        sketch = tied(
            sketch,
            fixed(points[0]),
            Constraint("horizontal", (lines[0],)),
            dimension("distance", (lines[0],), 1.0),
            Constraint("equal", lines[:2]),
            Constraint("equal", lines[1:]),
        )
        # Height of the equilateral triangle of side 1: sqrt(3)/2 (any geometry text).
        self.assertAlmostEqual(sketch.points[points[2]][1], math.sqrt(3) / 2, places=10)
        self.assertEqual(freedom(sketch).degrees, 0)

    def test_regular_pentagon(self):
        sketch, names, lines = Sketch(), [], []
        for k in range(5):
            sketch, name = edit.add_point(sketch, (math.cos(1.3 * k), math.sin(1.2 * k + 0.1)))
            names.append(name)
        for k in range(5):
            sketch, name = edit.add_line(sketch, names[k], names[(k + 1) % 5])
            lines.append(name)
        angles = [Constraint("angle", (lines[k], lines[k + 1]), value=math.radians(72), name=f"a{k}") for k in range(2)]
        start = attrs.evolve(
            sketch,
            points={
                name: (math.cos(2 * math.pi * k / 5 + 0.1 * math.sin(k)), math.sin(2 * math.pi * k / 5))
                for k, name in enumerate(names)
            },
        )
        sketch = tied(
            start,
            dimension("distance", (lines[0],), 1.0),
            *[Constraint("equal", (lines[k], lines[k + 1])) for k in range(4)],
            *angles,
        )
        # Diagonal over side is the golden ratio: Euclid XIII.
        self.assertAlmostEqual(
            math.dist(sketch.points[names[0]], sketch.points[names[2]]), (1 + math.sqrt(5)) / 2, places=9
        )

    def test_circle_tangent_to_three_circles(self):
        # Apollonius: circles (0,0;1), (4,0;1), (2,4;2): the one outside all three is (2, 5/6; 7/6).
        sketch, names = circles((0, 0, 1), (4, 0, 1), (2, 4, 2), (2.2, 0.9, 1.0))
        sketch = tied(
            sketch,
            *[fixed(name) for name in names[:3]],
            *[Constraint("tangent", (name, names[3])) for name in names[:3]],
        )
        center = sketch.points[sketch.curves[names[3]].points[0]]
        np.testing.assert_allclose([*center, sketch.curves[names[3]].radius], [2, 5 / 6, 7 / 6], atol=1e-9)

    def test_descartes_circle(self):
        # Descartes' circle theorem: 1, 2, 3 at (0,0), (3,0), (0,4): the inner one has radius 6/23 at (21/23, 20/23).
        sketch, names = circles((0, 0, 1), (3, 0, 2), (0, 4, 3), (0.8, 0.8, 0.3))
        sketch = tied(
            sketch,
            *[fixed(name) for name in names[:3]],
            *[Constraint("tangent", (name, names[3])) for name in names[:3]],
        )
        self.assertAlmostEqual(sketch.curves[names[3]].radius, 6 / 23, places=9)

    def test_incircle_of_the_3_4_5_triangle(self):
        sketch, points, lines = triangle((0, 0), (4, 0), (0, 3))
        sketch, name = edit.add_circle(sketch, (1.2, 0.8), 0.6)
        sketch = tied(sketch, fixed(*points), *[Constraint("tangent", (line, name)) for line in lines])
        self.assertAlmostEqual(sketch.curves[name].radius, 1.0, places=9)

    def test_rounded_rectangle_and_slot_lengths(self):
        outline = rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [5] * 4)
        self.assertAlmostEqual(sum(map(length, outline)), 191.415926535898, places=9)
        self.assertAlmostEqual(sum(map(length, slot((0, 0), 15, 3))), 48.8495559215388, places=9)

    def test_fillet_of_60_degrees(self):
        # Tangent length of a radius of 10 in a corner of 60 degrees: 10 sqrt(3) (any geometry text).
        sketch, corner = edit.add_point(Sketch(), (0, 0))
        sketch, first = edit.add_line(sketch, corner, (40, 0))
        sketch, second = edit.add_line(sketch, corner, (20, 20 * math.sqrt(3)))
        sketch, circle = edit.add_circle(sketch, (15, 8), 8)
        sketch = tied(
            sketch,
            fixed(first, second),
            dimension("radius", (circle,), 10.0),
            Constraint("tangent", (first, circle)),
            Constraint("tangent", (second, circle)),
        )
        center = sketch.points[sketch.curves[circle].points[0]]
        np.testing.assert_allclose(center, [10 * math.sqrt(3), 10], atol=1e-8)


class Derivatives(unittest.TestCase):
    @settings(max_examples=15, deadline=None)
    @given(st.integers(0, 10**6), st.booleans())
    def test_agree_with_differences(self, seed, merge):
        random = np.random.default_rng(seed)
        sketch, ids = Sketch(), []
        for _ in range(11):
            sketch, name = edit.add_point(sketch, random.normal(0, 1, 2))
            ids.append(name)
        sketch, first = edit.add_line(sketch, ids[0], ids[1])
        sketch, second = edit.add_line(sketch, ids[2], ids[3])
        sketch, small = edit.add_circle(sketch, ids[4], 0.5)
        sketch, large = edit.add_circle(sketch, ids[5], 0.8)
        sketch, arc = edit.add_arc_through(sketch, ids[1], random.normal(0, 1, 2), ids[6])
        for item in (
            Constraint("parallel", (first, second)),
            Constraint("perpendicular", (first, second)),
            Constraint("tangent", (first, small)),
            Constraint("tangent", (small, large)),
            Constraint("tangent", (first, arc)),
            Constraint("equal", (first, second)),
            Constraint("symmetric", (ids[7], ids[8], first)),
            Constraint("on curve", (ids[9], second)),
            Constraint("on curve", (ids[9], large)),
            Constraint("midpoint", (ids[10], first)),
            dimension("distance", (ids[0], ids[3]), 0.7),
            dimension("distance", (ids[0], second), 0.7),
            dimension("angle", (first, second), 0.7),
            dimension("across", (ids[0], ids[3]), 0.7),
        ):
            sketch, _ = edit.add_constraint(sketch, item)
        system = System(Equations(sketch), merge=merge)
        x = system.start()
        _, entries = system.evaluate(x)
        exact = np.zeros((system.row_count, system.count))
        np.add.at(exact, (system.row_of, system.column_of), entries)
        step = 1e-6
        for column in range(system.count):
            move = np.eye(system.count)[column] * step
            slope = (system.evaluate(x + move)[0] - system.evaluate(x - move)[0]) / (2 * step)
            np.testing.assert_allclose(exact[:, column], slope, rtol=1e-4, atol=1e-4)


class Constraining(unittest.TestCase):
    def setUp(self):
        self.sketch = drawn(rounded_polygon([(0, 0), (40, 0), (40, 20), (0, 20)], [0] * 4))
        self.lines = list(self.sketch.curves)

    def test_what_follows_already_is_not_needed(self):
        sketch = tied(self.sketch, Constraint("horizontal", self.lines[:1]), Constraint("horizontal", self.lines[2:3]))
        with self.assertRaisesRegex(SketchError, "already follows from horizontal .* and horizontal"):
            constrain(sketch, Constraint("parallel", (self.lines[0], self.lines[2])))
        with self.assertRaisesRegex(SketchError, "is there already"):
            constrain(sketch, Constraint("horizontal", self.lines[:1]))

    def test_a_dimension_that_follows_only_reads(self):
        sketch = tied(self.sketch, dimension("distance", self.lines[:1], 40.0))
        change = constrain(sketch, new_dimension(sketch, "distance", self.sketch.curves[self.lines[0]].points))
        self.assertFalse(change.sketch.constraints[change.name].driving)
        self.assertIn("only reads: it already follows from distance 40", change.note)
        driving = next(name for name, item in change.sketch.constraints.items() if item.driving)
        wider = set_value(change.sketch, driving, 50.0, typed="50")
        self.assertAlmostEqual(wider.sketch.constraints[change.name].value, 50.0)

    def test_a_contradiction_names_the_smallest_set(self):
        corners = [self.sketch.curves[line].points[0] for line in self.lines]
        sketch = tied(
            self.sketch,
            Constraint("across", corners[:2], value=40.0, name="Foot"),
            Constraint("up", corners[1:3], value=20.0, name="Side"),
            Constraint("vertical", self.lines[1:2]),
            Constraint("vertical", self.lines[3:]),
        )
        with self.assertRaisesRegex(SketchError, "Head contradicts .*Nothing was changed") as caught:
            constrain(sketch, Constraint("across", corners[2:], value=45.0, name="Head"))
        self.assertIn("Foot (40.00 mm)", str(caught.exception))
        self.assertEqual(str(caught.exception).count("vertical"), 2)
        self.assertNotIn("Side", str(caught.exception))

    def test_an_impossible_value_changes_nothing(self):
        sketch, points, lines = triangle((0, 0), (4, 0), (2, 3))
        sketch = tied(
            sketch,
            *[
                Constraint("distance", (line,), value=measure(sketch, "distance", (line,)), name=f"Side {line}")
                for line in lines
            ],
        )
        name = next(iter(sketch.constraints))
        with self.assertRaisesRegex(SketchError, r"Side \w+ contradicts Side \w+ \(.*\) and Side \w+ \(.*\)"):
            set_value(sketch, name, 500.0, typed="500")
        with self.assertRaisesRegex(SketchError, "more than zero"):
            set_value(sketch, name, -3.0, typed="-3")

    def test_wrong_choices_are_refused_in_words(self):
        for item, words in (
            (Constraint("parallel", self.lines[:1]), "two lines"),
            (Constraint("concentric", self.lines[:2]), "needs a circle or an arc, not a line"),
            (Constraint("tangent", self.lines[:2]), "one is not a line"),
            (Constraint("symmetric", self.lines[:3]), "two points, or two ellipses, and the line"),
        ):
            with self.assertRaisesRegex(SketchError, words):
                constrain(self.sketch, item)

    def test_solving_twice_moves_nothing(self):
        sketch = tied(self.sketch, Constraint("equal", self.lines[:2]), dimension("distance", self.lines[:1], 33.0))
        again = solve(sketch).sketch
        for name, place in sketch.points.items():
            self.assertLess(math.dist(place, again.points[name]), 1e-9)

    @settings(max_examples=20, deadline=None)
    @given(st.floats(5, 200), st.floats(5, 200))
    def test_a_fully_located_rectangle_has_the_sizes_asked_for(self, width, height):
        points = [self.sketch.curves[line].points[0] for line in self.lines]
        sketch = tied(
            self.sketch,
            fixed(points[0]),
            *[Constraint(kind, (line,)) for kind, line in zip(("horizontal", "vertical") * 2, self.lines)],
            dimension("distance", self.lines[:1], width),
            dimension("distance", self.lines[1:2], height),
        )
        self.assertEqual(freedom(sketch).degrees, 0)
        self.assertAlmostEqual(find_regions(sketch)[0].area, width * height, delta=1e-6 * width * height)

    def test_what_is_free_is_told_with_its_direction(self):
        sketch = tied(
            self.sketch, *[Constraint(kind, (line,)) for kind, line in zip(("horizontal", "vertical") * 2, self.lines)]
        )
        self.assertEqual(freedom(sketch).degrees, 4)
        self.assertEqual({len(ways) for ways in freedom(sketch).points.values()}, {2})
        corner = self.sketch.curves[self.lines[0]].points[0]
        level = tied(sketch, Constraint("fixed", (corner,)), dimension("distance", self.lines[:1], 40.0))
        free = freedom(level)
        self.assertEqual(free.degrees, 1)
        for ways in free.points.values():
            np.testing.assert_allclose(np.abs(ways), [[0, 1]], atol=1e-9)

    def test_what_is_free_agrees_with_the_null_space_of_all_equations_at_once(self):
        """scipy.linalg.null_space of the whole Jacobian against freedom by parts; points and a sketch that cannot move
        too."""
        outline = parts.latch_plate()[0]
        joined, _, joints = edit.add_outline(Sketch(), outline, [0.05] * len(outline), origin="drawn")
        joined = tied(joined, *edit.smooth_joints(joined, joints)[:9])
        joined, _ = edit.add_circle(joined, (20, 20), 5)
        first = next(name for name, curve in joined.curves.items() if curve.kind == "line")
        held = tied(joined, Constraint("horizontal", (first,)), fixed(joined.curves[first].points[0]))
        still = tied(self.sketch, *[fixed(point) for point in self.sketch.points])
        alone, _ = edit.add_point(Sketch(), (3.0, 4.0))
        for sketch in (joined, held, still, alone, Sketch()):
            told, system = freedom(sketch), System(Equations(sketch))
            jacobian = np.zeros((system.row_count, system.count))
            if jacobian.size:
                np.add.at(jacobian, (system.row_of, system.column_of), system.evaluate(system.start())[1])
            null = null_space(jacobian, rcond=1e-7) if jacobian.size else np.eye(system.count)
            self.assertEqual(told.degrees, null.shape[1])
            padded = np.vstack([null, np.zeros(null.shape[1])])
            for name, first in system.equations.point_at.items():
                moves = padded[system.unknown_of[first : first + 2]]
                rank = np.linalg.matrix_rank(moves, tol=1e-6) if null.shape[1] else 0
                ways = np.array(told.points.get(name, ())).reshape(-1, 2)
                self.assertEqual(len(ways), rank, name)
                np.testing.assert_allclose(moves - ways.T @ (ways @ moves), 0, atol=1e-6)

    def test_uncertainty_of_a_traced_dimension(self):
        traced = drawn(hole(0, 0, 20))
        name = next(iter(traced.curves))
        diameter = new_dimension(traced, "diameter", (name,))
        self.assertAlmostEqual(traced_u95(traced, diameter, 0.001), 2 * 0.05)
        by_hand, other = edit.add_circle(traced, (30, 0), 5)
        self.assertIsNone(traced_u95(by_hand, new_dimension(by_hand, "radius", (other,)), 0.001))

    def test_uncertainty_of_distances_and_angles_of_lines(self):
        """Against ten thousand draws of lines through 30 noisy points each: between their ends, and far beyond them."""
        random, noise, places = np.random.default_rng(2), 0.02, np.linspace(0, 10, 30)
        slopes, levels = np.polyfit(places - 5, random.normal(0, noise, (30, 10_000)), 1)
        own = 4 * noise / math.sqrt(30)
        for start, end in ((2.0, 8.0), (40.0, 60.0)):
            sketch, (first,), _ = edit.add_outline(Sketch(), [Line((0, 0), (10, 0))], [own], origin="t1", closed=False)
            sketch, (second,), _ = edit.add_outline(
                sketch, [Line((start, 7), (end, 7))], [0.0], origin="t1", closed=False
            )
            u95 = traced_u95(sketch, new_dimension(sketch, "distance", (first, second)), 0.0)
            self.assertAlmostEqual(float(np.mean(np.abs(levels + slopes * (start - 5)) < u95)), 0.954, delta=0.012)
        angle = traced_u95(sketch, new_dimension(sketch, "angle", (first, second)), 0.0)
        self.assertAlmostEqual(float(np.mean(np.abs(np.arctan(slopes)) < angle)), 0.954, delta=0.012)
        self.assertAlmostEqual(
            traced_u95(sketch, new_dimension(sketch, "angle", (first, second)), 0.01), math.hypot(angle, 0.01)
        )

    def test_sketches_read_back_from_json(self):
        sketch = tied(
            drawn(*parts.latch_plate()),
            Constraint(
                "horizontal",
                [next(name for name, curve in drawn(*parts.latch_plate()).curves.items() if curve.kind == "line")],
            ),
        )
        self.assertEqual(model.from_json(model.to_json(sketch)), sketch)
        with self.assertRaisesRegex(SketchError, "cannot be read"):
            model.from_json({"points": {"p1": [0, 0]}, "curves": {"c1": {"kind": "line", "points": ["p1", "p9"]}}})


class Dragging(unittest.TestCase):
    def test_what_is_free_follows_and_the_rest_stays(self):
        sketch, points, lines = triangle((0, 0), (40, 0), (10, 30))
        sketch = tied(
            sketch, fixed(points[0]), Constraint("horizontal", lines[:1]), dimension("distance", lines[:1], 40.0)
        )
        grab = Grab(sketch, [points[2]])
        moved = grab.move((5.0, -3.0), None)
        np.testing.assert_allclose(moved.points[points[2]], (15, 27), atol=1e-6)
        np.testing.assert_allclose(moved.points[points[1]], (40, 0), atol=1e-6)

    def test_a_way_out_and_back_ends_where_it_began(self):
        sketch = drawn(rounded_polygon([(0, 0), (40, 0), (40, 20), (0, 20)], [4] * 4))
        sketch = tied(
            sketch,
            *edit.smooth_joints(sketch, list(zip(sketch.curves, [*list(sketch.curves)[1:], list(sketch.curves)[0]]))),
        )
        held = [next(iter(sketch.points))]
        grab = Grab(sketch, held)
        for step in range(20):
            grab.move((step, 2.0 * step), None)
        back = grab.move((0.0, 0.0), None)
        self.assertLess(max(math.dist(sketch.points[name], back.points[name]) for name in sketch.points), 1e-6)

    def test_an_unreachable_pointer_keeps_the_constraints(self):
        sketch, points, lines = triangle((0, 0), (10, 0), (5, 8))
        sketch = tied(
            sketch,
            fixed(points[0], points[1]),
            Constraint("distance", (lines[1],), value=measure(sketch, "distance", (lines[1],)), name="Arm"),
        )
        moved = Grab(sketch, [points[2]]).move((500.0, 300.0), None)
        self.assertAlmostEqual(
            math.dist(moved.points[points[1]], moved.points[points[2]]),
            measure(sketch, "distance", (lines[1],)),
            places=6,
        )

    def test_a_circle_by_its_rim(self):
        sketch, names = circles((0, 0, 5))
        self.assertAlmostEqual(Grab(sketch, names).move((0, 0), (7.5, 0)).curves[names[0]].radius, 7.5)


class Regions(unittest.TestCase):
    def test_a_plate_with_holes_and_a_slot(self):
        sketch = drawn(*parts.latch_plate())
        regions = find_regions(sketch)
        truth = [abs(closed_area(outline)) for outline in parts.latch_plate()]
        self.assertEqual([len(region.holes) for region in regions], [3, 0, 0, 0])
        self.assertAlmostEqual(regions[0].area, truth[0] - sum(truth[1:]), places=6)
        self.assertEqual(find_findings(sketch), ())

    def test_nested_rings(self):
        regions = find_regions(drawn(hole(0, 0, 20), hole(0, 0, 12), hole(0, 0, 6)))
        self.assertEqual([round(region.area / math.pi, 6) for region in regions], [64, 27, 9])

    def test_a_shared_line_makes_two_regions(self):
        sketch = drawn(rounded_polygon([(0, 0), (40, 0), (40, 20), (0, 20)], [0] * 4))
        ids = list(sketch.points)
        sketch, _ = edit.add_line(sketch, ids[0], ids[2])
        self.assertEqual([round(region.area, 6) for region in find_regions(sketch)], [400, 400])

    def test_loops_close(self):
        for region in find_regions(drawn(*parts.hinge_leaf())):
            for loop in region.loops():
                curves = loop_curves(drawn(*parts.hinge_leaf()), loop)
                for before, after in zip([curves[-1], *curves[:-1]], curves):
                    if ends(after):
                        self.assertLess(math.dist(ends(before)[1], ends(after)[0]), 1e-9)

    def test_a_region_is_found_again_when_a_corner_is_added(self):
        sketch = drawn(rounded_polygon([(0, 0), (40, 0), (40, 20), (0, 20)], [3] * 4))
        name = find_regions(sketch)[0].name
        youngest = max(name.split()[1:], key=lambda one: int(one[1:]))
        shorter = " ".join(one for one in name.split() if one != youngest)
        self.assertEqual(match_region(find_regions(sketch), shorter, sketch.curves).name, name)
        self.assertIsNone(match_region(find_regions(sketch), "region c90 c91", sketch.curves))

    def test_an_edit_moves_nothing_that_does_not_hang_on_it(self):
        """Thirty rounded plates, level and upright, off the origin; a dimension of one changes, and of the others not a
        digit does."""
        sketch = model.Sketch()
        for row in range(30):
            corners = np.array([(0, 0), (20, 0), (20, 10), (0, 10)]) * (1 + 0.01 * math.sin(row)) + (
                60 * (row % 6) + 137.77,
                60 * (row // 6) + 45.9,
            )
            sketch, names, _ = edit.add_outline(sketch, rounded_polygon(corners, [2] * 4), [0.0] * 8, origin="drawn")
            for name in (name for name in names if sketch.curves[name].kind == "line"):
                (x0, y0), (x1, y1) = (sketch.points[point] for point in sketch.curves[name].points)
                sketch, _ = edit.add_constraint(
                    sketch, Constraint("horizontal" if abs(y1 - y0) < abs(x1 - x0) else "vertical", (name,))
                )
            line = next(name for name in names if sketch.curves[name].kind == "line")
            span = math.dist(*(sketch.points[point] for point in sketch.curves[line].points))
            sketch, _ = edit.add_constraint(
                sketch, Constraint("distance", sketch.curves[line].points, value=span, name=f"d{row}")
            )
        sketch = solve(sketch).sketch
        name = next(key for key, item in sketch.constraints.items() if item.name == "d7")
        after = set_value(sketch, name, 17.0, typed="17").sketch
        self.assertLessEqual(sum(sketch.points[point] != after.points[point] for point in sketch.points), 12)
        self.assertAlmostEqual(
            math.dist(*(after.points[point] for point in after.constraints[name].of)), 17.0, places=8
        )

    def test_a_region_that_was_divided_is_lost_and_one_with_a_side_drawn_anew_is_not(self):
        sketch = drawn(rounded_polygon([(0, 0), (40, 0), (40, 20), (0, 20)], [0] * 4))
        name = find_regions(sketch)[0].name
        ids = list(sketch.points)
        divided, _ = edit.add_line(sketch, ids[0], ids[2])
        self.assertIsNone(match_region(find_regions(divided), name, divided.curves))
        merged = edit.remove(divided, [one for one in divided.curves if one not in sketch.curves])
        half = find_regions(divided)[0].name
        self.assertIsNone(match_region(find_regions(merged), half, merged.curves))
        side = next(iter(sketch.curves))
        anew, fresh = edit.add_line(edit.add_line(sketch, *sketch.curves[side].points)[0], *sketch.curves[side].points)
        anew = edit.remove(anew, [one for one in anew.curves if one not in sketch.curves and one != fresh] + [side])
        found = match_region(find_regions(anew), name, anew.curves)
        self.assertIn(fresh, found.name.split())
        self.assertNotIn(side, found.name.split())

    def test_crossing_outlines_close_the_areas_between_them(self):
        """Two circles of radius r, centres d apart: the lens has the area 2 r² acos(d / 2r) − d/2 √(4r² − d²) (any
        geometry text, from memory)."""
        r, d = 10.0, 12.0
        sketch, _ = circles((0, 0, r), (d, 0, r))
        lens = 2 * r * r * math.acos(d / (2 * r)) - d / 2 * math.sqrt(4 * r * r - d * d)
        found = sorted(region.area for region in find_regions(sketch))
        np.testing.assert_allclose(found, [lens, math.pi * r * r - lens, math.pi * r * r - lens], rtol=1e-12)
        for region in find_regions(sketch):
            curves = loop_curves(sketch, region.outer)
            for before, after in zip([curves[-1], *curves[:-1]], curves):
                self.assertLess(math.dist(ends(before)[1], ends(after)[0]), 1e-9)

    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.tuples(*[st.integers(-45, 45)] * 4), min_size=2, max_size=6))
    def test_areas_of_any_lines_are_those_of_shapely(self, ways):
        """Lines across a square at random; what shapely's polygonize closes (a general-purpose library)."""
        square = [(-50, -50), (50, -50), (50, 50), (-50, 50)]
        sketch = drawn(rounded_polygon(square, [0] * 4))
        lines = [shapely.LineString([*square, square[0]])]
        for x, y, u, v in ways:
            start, end = (x, y), (u, v)
            if math.dist(start, end) < 5:
                continue
            sketch, _ = edit.add_line(sketch, start, end)
            lines.append(shapely.LineString([start, end]))
        for one, other in itertools.combinations(lines, 2):
            assume(one.intersection(other).length == 0)  # what lies on each other is a finding of its own
        union = shapely.unary_union(lines)
        truth = sorted(area for shape in shapely.ops.polygonize(union) if (area := shape.area) > 0.05)
        found = sorted(area for region in find_regions(sketch) if (area := region.area) > 0.05)
        np.testing.assert_allclose(found, truth, rtol=1e-6)

    def test_an_end_that_rests_on_a_curve_divides_it_and_nothing_is_to_mend(self):
        sketch = drawn(rounded_polygon([(0, 0), (40, 3), (37, 20), (0, 20)], [4] * 4))
        outline = [sketch.geometry(name) for name in sketch.curves]
        hits = sorted(at(curve, t)[0][1] for curve in outline for t in crossings(curve, Line((17.3, -1), (17.3, 30))))
        sketch, _ = edit.add_line(sketch, (17.3, hits[0]), (17.3, hits[1]))
        self.assertEqual(find_findings(sketch), ())
        regions = find_regions(sketch)
        self.assertEqual(len(regions), 2)
        self.assertAlmostEqual(sum(region.area for region in regions), abs(closed_area(outline)), places=6)

    def test_a_piece_keeps_its_name_while_other_curves_come_and_is_lost_when_divided_again(self):
        sketch, _ = circles((0, 0, 10), (12, 0, 10))
        lens = min(find_regions(sketch), key=lambda region: region.area)
        beside, _ = edit.add_line(sketch, (-20, 2), (-5, 2))
        self.assertEqual(match_region(find_regions(beside), lens.name, beside.curves).area, lens.area)
        through, _ = edit.add_line(sketch, (-20, 2), (40, 2))
        self.assertIsNone(match_region(find_regions(through), lens.name, through.curves))

    def test_gap_crossing_loose_end_and_double_are_told_with_place(self):
        sketch = drawn(rounded_polygon([(0, 0), (40, 0), (40, 20), (0, 20)], [0] * 4))
        ids = list(sketch.points)
        open_one = edit.remove(sketch, [list(sketch.curves)[0]])
        open_one, _ = edit.add_line(open_one, ids[0], (39.7, 0.0))
        (gap,) = find_findings(open_one)
        self.assertEqual((gap.code, round(gap.size, 6)), ("gap", 0.3))
        self.assertIn("Gap of 0.30 mm at (39.9, 0.0)", gap.sentence)
        closed = edit.merge_points(open_one, *gap.of)
        self.assertEqual(len(find_regions(closed)), 1)
        crossed, _ = edit.add_line(sketch, (10, -9), (10, 9))
        codes = [finding.code for finding in find_findings(crossed)]
        self.assertEqual(codes.count("crossing"), 1)
        self.assertEqual(codes.count("loose end"), 2)
        poking, _ = edit.add_line(sketch, (10, -1), (10, 20))
        self.assertEqual(
            [finding.sentence for finding in find_findings(poking)], ["The line pokes out by 1.00 mm, to (10.0, -1.0)."]
        )
        doubled, _ = edit.add_line(sketch, ids[0], ids[1])
        self.assertIn("double", [finding.code for finding in find_findings(doubled)])

    def test_drawing_nonsense_is_refused_in_words(self):
        for act, words in (
            (lambda: edit.add_line(Sketch(), (1, 1), (1, 1)), "no length"),
            (lambda: edit.add_circle(Sketch(), (0, 0), 0), "no size"),
            (lambda: edit.add_arc_through(Sketch(), (0, 0), (1, 0), (2, 0)), "on one line"),
            (lambda: edit.add_spline_through(Sketch(), [(0, 0)]), "two different places"),
        ):
            with self.assertRaisesRegex(SketchError, words):
                act()


class Slivers(unittest.TestCase):
    def test_an_area_thinner_than_it_is_rough_has_a_place_too(self):
        """Its polygon is empty: there and back along one line, or between two arcs that are almost one."""
        there = (Line((2.0, 1.0), (9.0, 1.0)), Line((9.0, 1.0), (2.0, 1.0)))
        thin = (Arc((0, 0), 5, 0.0, 1.0), Arc((0, 0), 5, 1.0, -1.0))
        whole = (Circle((20, 20), 3),)
        some = [Shape(curves) for curves in (there, whole, thin)]
        fill(some)
        self.assertEqual(some[0].inside, (2.0, 1.0))
        self.assertLess(math.dist(some[1].inside, (20, 20)), 1e-6)
        self.assertTrue(all(math.isfinite(value) for value in some[2].inside))


class KeptNets(unittest.TestCase):
    """What is told of a sketch whose circles changed is what would be told of it anew."""

    def test_after_any_change_of_holes_as_if_worked_out_anew(self):
        random = np.random.default_rng()
        for _ in range(12):
            sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [4] * 4))
            sizes = []
            for _ in range(5):
                place = tuple(random.uniform((0, 0), (60, 40)).tolist())
                sketch, rim = edit.add_circle(sketch, place, float(random.uniform(1, 6)))
                sketch, name = edit.add_constraint(
                    sketch, Constraint("diameter", (rim,), 2 * sketch.curves[rim].radius)
                )
                sizes.append(name)
            for _ in range(6):
                find_both(sketch)
                name = str(random.choice(sizes))
                sketch = set_value(sketch, name, float(random.uniform(1, 14)), typed="").sketch
                told, anew = find_both(sketch), find_both(model.from_json(model.to_json(sketch)))
                self.assertEqual([one.name for one in told[0]], [one.name for one in anew[0]])
                np.testing.assert_allclose([one.area for one in told[0]], [one.area for one in anew[0]], rtol=1e-9)
                self.assertEqual([one.sentence for one in told[1]], [one.sentence for one in anew[1]])


if __name__ == "__main__":
    unittest.main()
