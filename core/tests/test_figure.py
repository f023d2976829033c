"""How a figure lies and what it mirrors, against figures drawn with known turn and axis."""

import math
import unittest

import attrs
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from benchmarks.proposals import traced, true_sketch
from core.tests.specimens import drawn, job_of
from examples.parts import rounded_polygon
from examples.render import hole
from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import Ellipse, moved
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import sketch_of
from nomogon_core.job.library import Library
from nomogon_core.sketch.figure import askew, mirror_axis
from nomogon_core.sketch.mirroring import images
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.proposals import conditioned, propose
from nomogon_core.sketch.solve import freedom

AXIS_RMS = 0.027
"""Millimetres, of the axes of many noisy traces of one figure; a single one may be off by several times as much."""
HALF = [(0, 0), (22, 0), (30, 12), (18, 20), (24, 34), (0, 40)]


def turned(outlines, angle, shift=(0.0, 0.0)):
    cos, sin = math.cos(angle), math.sin(angle)

    def place(point):
        return cos * point[0] - sin * point[1] + shift[0], sin * point[0] + cos * point[1] + shift[1]

    return [tuple(moved(curve, place, turn=angle) for curve in outline) for outline in outlines]


def figure(radius=3.0):
    """An outline and two holes that are their own images about the y axis."""
    corners = HALF + [(-x, y) for x, y in reversed(HALF[1:-1])]
    corners = [corner for corner in corners if corner != (0, 0)]
    return [rounded_polygon(corners, [radius] * len(corners)), hole(9, 8, 5), hole(-9, 8, 5), hole(0, 30, 4)]


class Lying(unittest.TestCase):
    @given(st.floats(-0.7, 0.7), st.integers(0, 10**6))
    @settings(max_examples=40, deadline=None)
    def test_the_turn_of_a_plate(self, angle, seed):
        plate = [rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [5] * 4)]
        sketch = traced(true_sketch(turned(plate, angle)), np.random.default_rng(seed))
        found = askew(sketch, list(sketch.curves))
        if abs(angle) > math.radians(0.5):
            self.assertLess(abs(found.angle - angle), 4.5 * found.sigma)
            (x0, y0), (x1, y1) = found.run
            self.assertAlmostEqual(math.remainder(math.atan2(y1 - y0, x1 - x0) - found.angle, math.pi / 2), 0, places=9)
            self.assertGreater(math.dist(*found.run), 50)
        elif found:
            self.assertLess(abs(found.angle), math.radians(0.6))

    def test_level_ones_and_random_ones_are_left(self):
        plate = [rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [5] * 4)]
        sketch = traced(true_sketch(plate), np.random.default_rng(3))
        self.assertIsNone(askew(sketch, list(sketch.curves)))
        fan = [rounded_polygon([(0, 0), (50, 7), (61, 31), (33, 55), (-9, 30)], [0] * 5)]
        sketch = traced(true_sketch(fan), np.random.default_rng(3))
        self.assertIsNone(askew(sketch, list(sketch.curves)))
        self.assertIsNone(askew(traced(true_sketch([hole(0, 0, 5)]), np.random.default_rng(3)), []))


class Mirroring(unittest.TestCase):
    def axis_error(self, angle, x, y, seed):
        """How far the axis that is found passes the true one at the figure's origin, in millimetres."""
        truth = true_sketch(turned(figure(), angle, (x, y)))
        sketch = traced(truth, np.random.default_rng(seed))
        found = mirror_axis(sketch, list(sketch.curves))
        self.assertIsNotNone(found)
        self.assertTrue(found.whole)
        way = np.subtract(*found.run[::-1])
        told = math.atan2(way[1], way[0]) - (angle + math.pi / 2)
        self.assertLess(abs(math.remainder(told, math.pi)), 0.002)
        self.assertAlmostEqual(math.remainder(found.askew - angle, math.pi / 2), 0, delta=0.002)
        normal = np.array([-way[1], way[0]]) / np.hypot(*way)
        return float(normal @ np.subtract((x, y), found.run[0]))

    @given(st.floats(-3, 3), st.floats(-80, 80), st.floats(-80, 80), st.integers(0, 10**6))
    @settings(max_examples=40, deadline=None)
    def test_the_axis_of_a_figure(self, angle, x, y, seed):
        self.assertLess(abs(self.axis_error(angle, x, y, seed)), 6 * AXIS_RMS)

    def test_its_error_over_many_traces(self):
        random = np.random.default_rng(5)
        errors = [
            self.axis_error(random.uniform(-3, 3), *random.uniform(-80, 80, 2), int(random.integers(10**6)))
            for _ in range(80)
        ]
        self.assertLess(np.sqrt(np.mean(np.square(errors))), AXIS_RMS)

    def test_what_is_no_image_of_itself_has_none(self):
        random = np.random.default_rng(8)
        for _ in range(20):
            corners = [(40 * math.cos(a), 40 * math.sin(a)) for a in np.sort(random.uniform(0, 2 * math.pi, 6))]
            if min(math.dist(a, b) for a, b in zip(corners, corners[1:] + corners[:1])) < 8:
                continue
            sketch = traced(true_sketch([rounded_polygon(corners, [0] * 6)]), random)
            self.assertIsNone(mirror_axis(sketch, list(sketch.curves)))

    def test_some_curves_may_have_no_image(self):
        sketch = traced(true_sketch([*figure(), hole(14, 22, 1.5)]), np.random.default_rng(2))
        found = mirror_axis(sketch, list(sketch.curves))
        self.assertFalse(found.whole)
        self.assertEqual(len(found.of), len(sketch.curves) - 1)

    def test_ellipses_and_arcs_of_them(self):
        pair = [(Ellipse((sense * 20, 0), (8, 4), sense * 0.3),) for sense in (1, -1)]
        sketch = traced(true_sketch([*figure(), *pair]), np.random.default_rng(2))
        self.assertTrue(mirror_axis(sketch, list(sketch.curves)).whole)

    def test_imposed_as_a_command(self):
        """Half of what a figure is free to do goes, and its ends are exact images then."""
        sketch = traced(true_sketch(turned(figure(), 0.2)), np.random.default_rng(6))
        document = job_of(sketch)
        outcome = carry_out(document, "sketch.mirror_axis", {}, Library())
        after = sketch_of(outcome.document)
        (axis,) = [name for name, curve in after.curves.items() if curve.construction]
        pairs, on_axis = images(after, list(sketch.curves), axis, 1e-6)
        self.assertEqual(2 * len(pairs) + len(on_axis), len({p for c in sketch.curves.values() for p in c.points}))
        self.assertLess(freedom(after).degrees, 0.75 * freedom(sketch).degrees + 4)
        self.assertRegex(outcome.note, r"No point moved by more than 0\.[01]")
        with self.assertRaisesRegex(SketchError, "No line was found"):
            carry_out(outcome.document, "sketch.mirror_axis", {}, Library())


class Freehand(unittest.TestCase):
    def test_what_is_drawn_by_hand_says_what_it_was_meant_to_be(self):
        random, truth = np.random.default_rng(4), drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4))
        free = Sketch(
            {name: tuple((np.array(at) + random.normal(0, 0.3, 2)).tolist()) for name, at in truth.points.items()},
            {name: attrs.evolve(curve, u95=None) for name, curve in truth.curves.items()},
        )
        items = [item for one in propose(free) for item in one.constraints]
        self.assertFalse([item for item in items if item.is_dimension])
        placed = conditioned(free, items)
        self.assertTrue({"horizontal", "vertical"} & {item.kind for item in items})
        self.assertTrue(all(curve.u95 is None for curve in placed.curves.values()))
        self.assertEqual(Constraint("horizontal", items[0].of).kind, "horizontal")


if __name__ == "__main__":
    unittest.main()
