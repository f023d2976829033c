"""The ± of sizes of a sketch and of a body: whether it covers what it says, on fresh random drawings."""

import math
import unittest

import attrs
import numpy as np

from core.tests.specimens import drawn, job_of, operation, tied
from examples.render import hole
from nomogon_core.geometry.curves import Ellipse, Spline
from nomogon_core.job.ledger import ledger
from nomogon_core.job.overview import overview
from nomogon_core.job.sizes import sizes_u95
from nomogon_core.sketch import edit, model
from nomogon_core.sketch.joint import U95
from nomogon_core.sketch.model import Constraint
from nomogon_core.sketch.regions import find_regions
from nomogon_core.sketch.solve import solve
from nomogon_core.sketch.spread import span_u95
from nomogon_core.solid import graph

SIGMA, SCALE_SIGMA, DRAWINGS = 0.02, 0.001, 400
WIDE, HIGH = 60.0, 40.0
ACROSS = (1.0, 0.0)


def rectangle(random, square):
    """A rectangle as a trace brings it: each corner off by the noise, all of it by the scale; its sides by id."""
    corners = np.array([(0, 0), (WIDE, 0), (WIDE, HIGH), (0, HIGH)]) * (1 + random.normal(0, SCALE_SIGMA))
    sketch, points, lines = model.Sketch(), [], []
    for place in corners + random.normal(0, SIGMA, (4, 2)):
        sketch, name = edit.add_point(sketch, tuple(place))
        points.append(name)
    for index in range(4):
        sketch, name = edit.add_line(sketch, points[index], points[(index + 1) % 4])
        lines.append(name)
    curves = {name: attrs.evolve(curve, u95=U95 * SIGMA) for name, curve in sketch.curves.items()}
    sketch = attrs.evolve(sketch, curves=curves)
    if square:
        sketch = tied(sketch, *(Constraint(kind, (one,)) for one, kind in zip(lines, ("horizontal", "vertical") * 2)))
    return sketch, lines


class Spans(unittest.TestCase):
    def covered(self, square):
        random, inside, widths = np.random.default_rng(), 0, []
        for _ in range(DRAWINGS):
            sketch, lines = rectangle(random, square)
            told = span_u95(sketch, lines[3], lines[1], ACROSS, SCALE_SIGMA)
            xs = [x for x, _ in sketch.points.values()]
            inside += abs(max(xs) - min(xs) - WIDE) <= told
            widths.append(told)
        return inside / DRAWINGS, np.mean(widths)

    def test_covers_95_in_100_and_constraints_make_it_smaller(self):
        """Within four standard deviations of a binomial share of 400: 0.906 to 0.994. Free corners reach out, so the
        larger of two is taken; level and upright sides are means of two corners each."""
        (free, wide), (tied_up, narrow) = self.covered(False), self.covered(True)
        self.assertTrue(0.906 < tied_up < 0.994, tied_up)
        self.assertTrue(0.88 < free < 0.994, free)
        # Two corners of the noise each against two means of two, and the scale's part: sqrt(2) and 1 of SIGMA.
        scale = SCALE_SIGMA * WIDE
        self.assertAlmostEqual(narrow / (U95 * math.hypot(SIGMA, scale)), 1, delta=0.02)
        self.assertGreater(wide, narrow)

    def with_width(self, source, u95=None):
        sketch, lines = rectangle(np.random.default_rng(5), square=True)
        wide = Constraint("distance", (lines[3], lines[1]), WIDE, name="Wide", source=source, u95=u95)
        sketch, _ = edit.add_constraint(sketch, wide)
        sketch = solve(sketch).sketch
        return [
            span_u95(sketch, low, high, way, SCALE_SIGMA)
            for low, high, way in ((lines[3], lines[1], ACROSS), (lines[0], lines[2], (0.0, 1.0)))
        ]

    def test_what_is_set_has_none_and_says_nothing_of_the_rest(self):
        """A width that was set is no measurement of the scale: the height is as unsure as without it."""
        across, up = self.with_width("set")
        self.assertLess(across, 1e-6)
        self.assertAlmostEqual(up / (U95 * math.hypot(SIGMA, SCALE_SIGMA * HIGH)), 1, delta=0.03)

    def test_of_a_gauged_dimension_it_is_the_gauge_s_and_of_a_traced_one_the_trace_s(self):
        self.assertAlmostEqual(self.with_width("gauge", 0.03)[0], 0.03, delta=1e-4)
        traced = self.with_width("traced", 0.05)[0]
        self.assertAlmostEqual(traced / (U95 * math.hypot(SIGMA, SCALE_SIGMA * WIDE)), 1, delta=0.03)

    def test_round_ones_and_splines_by_differences(self):
        """The slopes of a circle, an ellipse and a spline against central differences of what they reach."""
        spline = Spline([(0, 0), (10, 14), (22, -3), (30, 6), (38, 15), (44, 9), (50, 0)])
        sketch = drawn(hole(0, 0, 10), (Ellipse((60, 5), (12, 6), 0.4),))
        sketch, _, _ = edit.add_outline(sketch, [spline], [0.05], origin="drawn", closed=False)
        curves = {name: attrs.evolve(curve, u95=0.05) for name, curve in sketch.curves.items()}
        sketch, way = attrs.evolve(sketch, curves=curves), np.array([0.6, 0.8])
        circle, oval, free = curves
        one = span_u95(sketch, circle, oval, tuple(way), 0.0)
        other = span_u95(sketch, circle, free, tuple(way), 0.0)
        self.assertTrue(0.03 < one < 0.3 and 0.03 < other < 0.3, (one, other))
        # Only the scale: the span itself times it.
        still = attrs.evolve(sketch, curves={name: attrs.evolve(curve, u95=1e-7) for name, curve in curves.items()})
        for low, high, shape in ((circle, oval, "ellipse"), (circle, free, "spline")):
            reach = np.max(sketch.geometry(high).at(np.linspace(0, 7, 20001)) @ way) if shape == "ellipse" else None
            if shape == "spline":
                t = np.linspace(0, 1, 20001)
                shares = np.column_stack([(1 - t) ** 3, 3 * t * (1 - t) ** 2, 3 * t**2 * (1 - t), t**3])
                points = np.array(spline.points)
                reach = max((shares @ (points[at : at + 4] @ way)).max() for at in (0, 3))
            # The circle reaches 5 mm the other way.
            told = span_u95(still, low, high, tuple(way), 0.01)
            self.assertAlmostEqual(told / U95 / 0.01, reach + 5.0, delta=0.01)


class Bodies(unittest.TestCase):
    def test_an_extruded_trace_has_the_sketch_s_and_a_set_height_none(self):
        sketch, lines = rectangle(np.random.default_rng(7), square=True)
        plate = operation("op1", "extrude", mode="new", regions=[find_regions(sketch)[0].name], length=6.0)
        document = job_of(sketch, [plate])
        view = overview(document)
        built = graph.run(view.build)
        result = {
            "steps": [attrs.asdict(one) for one in built.steps],
            "bodies": {name: attrs.asdict(body.facts) for name, body in built.bodies.items()},
            "frames": {name: attrs.asdict(frame) for name, frame in built.frames.items()},
            "extremes": {name: graph.extremes_of(body) for name, body in built.bodies.items()},
        }
        view = overview(document, result)
        (body,) = built.bodies
        told = sizes_u95(view, body)
        self.assertAlmostEqual(told[0], span_u95(sketch, lines[3], lines[1], ACROSS, 0.0), places=9)
        self.assertAlmostEqual(told[1], span_u95(sketch, lines[0], lines[2], (0.0, 1.0), 0.0), places=9)
        self.assertEqual(told[2], 0.0)
        rows = {row.name: row for group in ledger(view, "solid") for row in group.rows}
        self.assertRegex(rows["Size"].note, r"± 0\.0\d+ × 0\.0\d+ × set from picture and gauge, 95 %")


if __name__ == "__main__":
    unittest.main()
