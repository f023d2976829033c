"""Round bars along paths, against Pappus and lengths in closed form."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import drawn, number
from examples.parts import rounded_polygon
from examples.render import hole
from nomogon_core.geometry.curves import Arc, Line, Spline, length
from nomogon_core.sketch import edit
from nomogon_core.sketch.model import Sketch
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph, kernel
from nomogon_core.solid.sheet import BuildSheet, OperationStep, SketchStep

S_BEND = (Arc((0, 0), 10, -math.pi / 2, math.pi), Arc((0, 20), 10, -math.pi / 2, -math.pi))


def path_sketch(curves, closed=False):
    sketch, _, _ = edit.add_outline(Sketch(), curves, [None] * len(curves), origin="drawn", closed=closed)
    return sketch


def bar(sketch=None, more=(), plane="plan", **blanks):
    """What came of a bar; along all curves of a sketch, if there is one."""
    told = {"path": "curves", "result": "new", "body": "Bar"}
    if sketch is not None:
        told["curves"] = {"sketch": "s1", "names": list(sketch.curves)}
    told |= {key: number(value) if isinstance(value, (int, float)) else value for key, value in blanks.items()}
    steps = [SketchStep("s1", "Path", plane, sketch or Sketch()), *more, OperationStep("op9", "bar", told)]
    bodies = {name: {"name": name, "colour": "#9fb0a6", "material": "PLA"} for name in ("Bar", "Rod")}
    return graph.run(BuildSheet(steps, bodies))


class Bars(unittest.TestCase):
    def volume(self, *arguments, **blanks):
        told = bar(*arguments, **blanks)
        self.assertEqual([step.problem for step in told.steps if step.problem], [])
        facts = told.bodies["Bar"].facts
        self.assertEqual((facts.valid, facts.solids), (True, 1))
        return facts.volume_mm3

    def test_along_flat_curves(self):
        """pi r² L along a smooth path, 2 pi² R r² round a circle (Pappus)."""
        self.assertAlmostEqual(self.volume(drawn(hole(5, 3, 40)), diameter=4.0), 2 * math.pi**2 * 20 * 4, delta=1e-5)
        for curves, closed in (
            (S_BEND, False),
            (rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [10] * 4), True),
            ((Line((0, 0), (20, 0)), Arc((20, 10), 10, -math.pi / 2, math.pi / 2), Line((30, 10), (30, 40))), False),
            ((Spline([(0, 0), (20, 30), (40, -30), (60, 0)]),), False),
        ):
            for plane in ("plan", "side"):
                wanted = math.pi * 4 * sum(map(length, curves))
                told = self.volume(path_sketch(curves, closed), plane=plane, diameter=4.0)
                self.assertAlmostEqual(told / wanted, 1.0, places=5)

    @given(st.floats(6, 30), st.floats(5, 15), st.floats(0.3, 6), st.sampled_from("xyz"))
    @settings(max_examples=10, deadline=None)
    def test_a_helix(self, radius, pitch, turns, axis):
        """n turns of radius R and pitch p are n sqrt((2 pi R)² + p²) long (any calculus text)."""
        wanted = math.pi * 1.5**2 * turns * math.hypot(2 * math.pi * radius, pitch)
        told = self.volume(path="helix", about=axis, reach=radius, pitch=pitch, turns=turns, diameter=3.0)
        self.assertAlmostEqual(told / wanted, 1.0, delta=2e-4)

    def test_a_flat_spiral(self):
        """Length of Archimedes' spiral r = a + b t by quadrature of sqrt(r² + b²)."""
        slope, turn = 6 / (2 * math.pi), np.linspace(0, 2 * math.pi * 3, 20001)
        size = float(np.trapezoid(np.hypot(8 + slope * turn, slope), turn))
        told = self.volume(path="spiral", about="z", reach=8.0, pitch=6.0, turns=3.0, diameter=3.0)
        self.assertAlmostEqual(told / (math.pi * 1.5**2 * size), 1.0, delta=2e-4)

    def test_its_diameter_changes_along_the_way(self):
        """A straight bar from Ø 4 to Ø 8 in the monotone cubic is a body of revolution; a constant one stays exact."""
        line = path_sketch((Line((0, 0), (60, 0)),))
        told = self.volume(line, diameter=4.0, diameter_second=8.0, share_second=100.0)
        # Between two values the monotone cubic is a straight line, so it is a frustum: h pi (a² + a b + b²) / 3.
        self.assertAlmostEqual(told / (60 * math.pi * (4 + 8 + 16) / 3), 1.0, delta=1e-4)
        even = self.volume(line, diameter=4.0, diameter_second=4.0, share_second=50.0)
        self.assertAlmostEqual(even, math.pi * 4 * 60, places=6)
        told = bar(
            path_sketch(S_BEND),
            diameter=4.0,
            diameter_second=7.0,
            share_second=40.0,
            diameter_third=2.0,
            share_third=100.0,
        )
        self.assertEqual([step.problem for step in told.steps if step.problem], [])
        self.assertTrue(told.bodies["Bar"].facts.valid)

    def test_corners_are_rounded(self):
        corner = path_sketch((Line((0, 0), (30, 0)), Line((30, 0), (30, 25))))
        told = self.volume(corner, diameter=6.0)
        # Two cylinders up to the corner, their shared inside told once, and the wedge of a ball outside.
        self.assertGreater(told, math.pi * 9 * 55 - 2 * 27)
        self.assertLess(told, math.pi * 9 * 55 + 4 / 3 * math.pi * 27)

    def test_drawn_in_two_views(self):
        """Where it runs on Plan and how high it lies on Front; its length is integrated."""
        upright = [SketchStep("s2", "View", "front", path_sketch((Line((0, 5), (30, 17)),)))]
        quarter = path_sketch((Arc((0, 0), 30, 0, math.pi / 2),))
        view = {"path_view": {"sketch": "s2", "names": list(upright[0].sketch.curves)}}
        t = np.linspace(0, math.pi / 2, 200_001)
        wanted = np.trapezoid(30 * np.hypot(1.0, 12 / 30 * np.sin(t)), t) * math.pi * 1.5**2
        self.assertAlmostEqual(self.volume(quarter, upright, diameter=3.0, **view) / wanted, 1.0, delta=2e-4)
        long = path_sketch((Line((0, 0), (45, 0)),))
        self.assertIn("ends 15.00 mm before", bar(long, upright, diameter=3.0, **view).steps[-1].problem)
        back = [SketchStep("s2", "View", "front", path_sketch((Arc((15, 5), 15, -math.pi / 2, math.pi * 0.9),)))]
        told = bar(quarter, back, diameter=3.0, path_view={"sketch": "s2", "names": list(back[0].sketch.curves)})
        self.assertIn("one way only", told.steps[-1].problem)

    def test_lifted_by_numbers(self):
        flat, rise = path_sketch((Line((0, 0), (40, 0)),)), {"path_begin": 2.0, "path_middle": 8.0, "path_end": 2.0}
        steep = 4 * 6 / 40
        along = 20 * (math.sqrt(1 + steep**2) + math.asinh(steep) / steep)  # of a parabola, any handbook
        self.assertAlmostEqual(self.volume(flat, diameter=3.0, **rise) / (along * math.pi * 1.5**2), 1.0, delta=2e-4)
        ring = bar(drawn(hole(0, 0, 40)), diameter=3.0, **rise)
        self.assertIn("no beginning", ring.steps[-1].problem)

    def test_laid_around_a_cylinder(self):
        """A helix drawn as a slanted line and laid around a rod is the helix; half sunk and bored out at the rod's
        radius about half of it is left (common practice)."""
        rod_sketch = drawn(hole(0, 0, 40))
        rod = [
            SketchStep("s3", "Rod", "plan", rod_sketch),
            OperationStep(
                "op1",
                "extrude",
                {
                    "regions": {"sketch": "s3", "names": [region.name for region in find_regions(rod_sketch)]},
                    "extent": "by",
                    "length": number(60),
                    "way": "up",
                    "result": "new",
                    "body": "Rod",
                },
            ),
        ]
        line = path_sketch((Line((-25, 10), (25, 45)),))
        face = {"body": "Rod", "names": ["op1.side(c2)"]}
        told = bar(line, more=rod, plane="front", face=face, diameter=3.0)
        self.assertEqual([step.problem for step in told.steps if step.problem], [])
        whole = told.bodies["Bar"]
        self.assertAlmostEqual(whole.facts.volume_mm3 / (math.pi * 2.25 * math.hypot(50, 35)), 1.0, delta=1e-3)
        left = kernel.facts_of(kernel.boolean("cut", whole.shape, [told.bodies["Rod"].shape]).Shape())
        self.assertAlmostEqual(left.volume_mm3 / whole.facts.volume_mm3, 0.5, delta=0.05)
        higher = bar(line, more=rod, plane="front", face=face, lift=1.5, diameter=3.0).bodies["Bar"]
        self.assertGreater(higher.facts.box[1][0], 0)
        self.assertGreater(math.dist(*higher.facts.box), math.dist(*whole.facts.box))

    def test_what_is_too_thick_is_told_with_what_works(self):
        told = bar(path_sketch(S_BEND), diameter=22.0).steps[-1]
        self.assertRegex(told.problem, r"bends with a radius of 10\.00 mm .* at most Ø 19\.95 mm works")
        self.assertAlmostEqual(told.suggestion["diameter"], 19.95)
        self.assertEqual(bar(path_sketch(S_BEND), diameter=told.suggestion["diameter"] - 0.1).steps[-1].problem, "")
        told = bar(path="helix", about="z", reach=10.0, pitch=3.0, turns=4.0, diameter=4.0).steps[-1]
        self.assertRegex(told.problem, r"comes within (2\.9\d|3\.00) mm of itself")
        straight = path_sketch((Line((0, 0), (9, 0)),))
        for blanks, words in (
            ({"path": "helix", "about": "z", "reach": 10.0, "pitch": 3.0, "turns": 900.0}, "200 turns"),
            (
                {"sketch": straight, "diameter_second": 3.0, "share_second": 120.0},
                "at 100 at",
            ),
        ):
            self.assertRegex(bar(diameter=2.0, **blanks).steps[-1].problem, words)
        apart, _ = edit.add_line(path_sketch((Line((0, 0), (9, 0)),)), (0, 20), (9, 20))
        self.assertRegex(bar(apart, diameter=2.0).steps[-1].problem, "do not hang together")


if __name__ == "__main__":
    unittest.main()
