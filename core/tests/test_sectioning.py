"""Sections of solids against closed formulas and against the sketches that they were drawn with."""

import math
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import drawn
from core.tests.test_operations import BOX, block, built, step
from examples.render import hole, rounded_polygon
from nomogon_core.geometry.curves import Arc, Circle, Line, closed_area, ends
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid.planes import FRONT, PLAN, SIDE
from nomogon_core.solid.sectioning import section
from nomogon_core.solid.sheet import SketchStep


def area_of(areas):
    return sum(abs(closed_area(loops[0])) - sum(abs(closed_area(loop)) for loop in loops[1:]) for loops in areas)


class Sections(unittest.TestCase):
    def test_a_plate_shows_what_later_operations_cut(self):
        """A plate with a slot, a hole, and a pocket 2 mm deep that was cut afterwards: areas of the sketch."""
        slot = rounded_polygon([(28, 6), (36, 6), (36, 14), (28, 14)], [2] * 4)
        sketch = drawn(BOX, slot, hole(10, 10, 3))
        plate = max(find_regions(sketch), key=lambda one: one.area).name
        pocket = drawn(rounded_polygon([(15, 5), (25, 5), (25, 15), (15, 15)], [0] * 4))
        sunk = step("op2", "extrude", regions={"sketch": "s2", "names": [find_regions(pocket)[0].name]}, extent="by",
                    length=2.0, way="up", start=8.0, result="cut", body="Plate")  # fmt: skip
        second = SketchStep("s2", "Pocket", "plan", pocket)
        body = built(sketch, block(sketch, 10.0, regions=[plate]), sunk, second)["Plate"]
        areas = section([body.shape], PLAN, 5.0)
        self.assertEqual([len(loops) for loops in areas], [3])
        slot_area = 64 - (4 - math.pi) * 4
        self.assertAlmostEqual(area_of(areas), 800 - slot_area - math.pi * 1.5**2, places=6)
        self.assertEqual([type(loop[0]) for loop in areas[0] if len(loop) == 1], [Circle])
        for loop in areas[0]:
            for before, after in zip(loop, [*loop[1:], loop[0]]):
                if ends(before):
                    self.assertLess(math.dist(ends(before)[1], ends(after)[0]), 1e-6)
        self.assertAlmostEqual(area_of(section([body.shape], PLAN, 9.0)), area_of(areas) - 100, places=6)
        self.assertEqual(section([body.shape], PLAN, 11.0), [])

    @settings(max_examples=10, deadline=None)
    @given(st.floats(-11.5, 11.5), st.sampled_from([PLAN, FRONT, SIDE]))
    def test_a_ball_shows_circles(self, at, frame):
        """A circle of radius sqrt(R² - h²); any geometry text."""
        half = drawn((Arc((0, 0), 12, -math.pi / 2, math.pi), Line((0, 12), (0, -12))))
        ball = step("op1", "revolve", regions={"sketch": "s1", "names": [find_regions(half)[0].name]}, axis="y",
                    extent="full", result="new", body="Plate")  # fmt: skip
        body = built(half, ball)["Plate"]
        self.assertAlmostEqual(area_of(section([body.shape], frame, at)) / (math.pi * (144 - at * at)), 1, places=6)
