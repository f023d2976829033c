"""Shells between rails, against closed formulas."""

import math
import unittest

from core.tests.specimens import number
from core.tests.test_bar import path_sketch
from nomogon_core.geometry.curves import Arc, Line, Spline, length
from nomogon_core.solid import graph
from nomogon_core.solid.sheet import BuildSheet, OperationStep, PlaneStep, SketchStep

BODIES = {"Shell": {"name": "Shell", "colour": "#9fb0a6", "material": "PLA"}}


def shell(first, second, ends=(), height=30.0, **blanks):
    """What came of a surface between a curve on Plan and one on a plane over it; end lines lie on Front and Side."""
    upper = PlaneStep("l1", "Upper", "offset", {"from": "plan", "distance": number(height)})
    low, high = SketchStep("s1", "Low", "plan", path_sketch(first)), SketchStep("s2", "High", "l1", path_sketch(second))
    far = PlaneStep("l2", "Far", "offset", {"from": "side", "distance": number(45.0)})
    steps = [low, upper, high, far]
    told = {"first": "s1", "second": "s2"}
    for index, (plane, curves) in enumerate(ends):
        steps.append(SketchStep(f"s{5 + index}", "End", plane, path_sketch(curves)))
        told[("start", "end")[index]] = f"s{5 + index}"
    sketches = {step.name: step.sketch for step in steps if isinstance(step, SketchStep)}
    picks = {blank: {"sketch": name, "names": list(sketches[name].curves)} for blank, name in told.items()}
    more = {"thickness": number(2.0), "side": "one", "result": "new", "body": "Shell"} | picks | blanks
    return graph.run(BuildSheet([*steps, OperationStep("op9", "surface", more)], BODIES))


class Shells(unittest.TestCase):
    def facts(self, *arguments, **blanks):
        told = shell(*arguments, **blanks)
        self.assertEqual([step.problem for step in told.steps if step.problem], [])
        facts = told.bodies["Shell"].facts
        self.assertEqual((facts.valid, facts.solids), (True, 1))
        return facts

    def test_a_flat_one(self):
        line = (Line((0, 0), (40, 0)),)
        for side in ("one", "other", "both"):
            self.assertAlmostEqual(self.facts(line, line, side=side).volume_mm3, 40 * 30 * 2, delta=0.05)
        # Whichever way round a rail was drawn, the surface is not twisted.
        self.assertAlmostEqual(self.facts(line, (Line((40, 0), (0, 0)),)).volume_mm3, 2400, delta=0.05)

    def test_rails_lifted_by_numbers_follow_a_parabola(self):
        """Rails 20 mm apart that rise alike: the length of the parabola z = 4 h s (1 - s) over 40 mm, any handbook."""
        first, second = ((Line((0, y), (40, y)),) for y in (0, 20))
        rise = {"begin": 0.0, "middle": 6.0, "end": 0.0}
        up = {f"{rail}_{name}": number(value) for rail in ("first", "second") for name, value in rise.items()}
        steep = 4 * 6 / 40
        along = 20 * (math.sqrt(1 + steep**2) + math.asinh(steep) / steep)
        told = self.facts(first, second, height=0.0, side="both", **up)
        self.assertAlmostEqual(told.volume_mm3 / (along * 20 * 2), 1.0, delta=2e-4)
        both = up | {"first_view": {"sketch": "s1", "names": list(path_sketch(first).curves)}}
        self.assertIn("not by both", shell(first, second, height=0.0, side="both", **both).steps[-1].problem)

    def test_a_part_of_a_tube(self):
        """Between two arcs of radius R over each other: half the angle, the difference of squares, and the height."""
        arc = (Arc((0, 0), 20, 0.2, 1.4),)
        volumes = sorted(self.facts(arc, arc, side=side).volume_mm3 for side in ("one", "other"))
        for told, (inner, outer) in zip(volumes, ((18, 20), (20, 22))):
            self.assertAlmostEqual(told / (0.7 * (outer**2 - inner**2) * 30), 1.0, delta=2e-4)

    def test_a_free_one_and_one_with_end_lines(self):
        wave = (Spline([(0, 0), (15, 12), (30, -12), (45, 0)]),)
        bow = (Spline([(0, 0), (15, 4), (30, 8), (45, 0)]),)
        self.assertGreater(self.facts(wave, bow).volume_mm3, 45 * 30 * 2)
        flat = (Line((0, 0), (45, 0)),)
        # End lines on Side, through (0, 0) and over it: bowed by 6 mm.
        bowed = (Spline([(0, 0), (6, 10), (6, 20), (0, 30)]),)
        plain = self.facts(flat, flat).volume_mm3
        ends = [("side", bowed), ("l2", bowed)]
        ended = self.facts(flat, flat, ends=ends, side="both")
        self.assertAlmostEqual(ended.volume_mm3 / (45 * length(bowed[0]) * 2), 1.0, delta=2e-3)
        # Both end lines lie at x = 0, so one misses the far end of the rails.
        missing = shell(flat, flat, ends=[("side", bowed), ("side", (Line((0, 0), (0, 30)),))])
        self.assertRegex(missing.steps[-1].problem, "misses the end of a rail by 45")
        self.assertGreater(plain, 2600)

    def test_what_cannot_be_says_why(self):
        corner = (Line((0, 0), (20, 0)), Line((20, 0), (20, 20)))
        self.assertRegex(shell(corner, corner).steps[-1].problem, "There is a corner at")
        tight = (Arc((0, 0), 1.0, 0.0, math.pi),)
        problems = [
            shell(tight, tight, side=side, thickness=number(5.0)).steps[-1].problem for side in ("one", "other")
        ]
        self.assertTrue(any("folds over itself" in problem for problem in problems), problems)


if __name__ == "__main__":
    unittest.main()
