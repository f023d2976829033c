"""What was meant: standard sizes with an unknown scale, constraints by evidence, and that what is proposed is so."""

import math
import unittest

import numpy as np

from benchmarks.meant_parts import meant_part
from benchmarks.proposals import SCALE_SIGMA, U95, holds, traced, true_sketch
from examples.parts import hole, rounded_polygon
from nomogon_core.errors import SketchError
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import keep_sketch, new_document, sketch_of
from nomogon_core.job.library import Library
from nomogon_core.quantity.nominal import Size, nominal
from nomogon_core.sketch import edit
from nomogon_core.sketch.dimensions import measure
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.proposals import conditioned, propose
from nomogon_core.sketch.solve import freedom


class StandardSizes(unittest.TestCase):
    def test_the_scale_is_found_with_the_sizes(self):
        # All 0.3 % too large: none is a standard size by itself at 0.01 mm, together they are.
        true = [6.0, 14.0, 22.0, 35.0, 84.0]
        told = nominal([Size(1.003 * size, 0.01) for size in true], 3e-3)
        self.assertEqual([one.value if one else None for one in told], true)

    def test_inches_are_told_from_millimetres(self):
        told = nominal([Size(25.4 * size + 0.004, 0.01) for size in (0.1875, 0.625, 2.375, 1.5)], 2e-4)
        self.assertEqual([one.typed for one in told], ["3/16 in", "5/8 in", "2 3/8 in", "1 1/2 in"])

    def test_clearance_holes_are_known_and_odd_sizes_left(self):
        # ISO 273, medium: 4.5 for M4, 6.6 for M6 (from memory).
        holes = [Size(size, 0.01, True) for size in (4.507, 6.595, 3.398, 5.504)]
        told = nominal([*holes, Size(17.27, 0.01)], 1e-4)
        words = [f"clearance for {screw}" for screw in ("M4", "M6", "M3", "M5")]
        self.assertEqual([one.words if one else None for one in told], [*words, None])

    def test_sizes_of_no_standard_are_left(self):
        random = np.random.default_rng(8)
        told = nominal([Size(float(size), 0.02) for size in random.uniform(3, 90, 40)], 5e-4)
        self.assertLessEqual(sum(one is not None for one in told), 1)

    def test_a_rough_size_is_left(self):
        self.assertEqual(nominal([Size(7.1, 0.6)], 1e-3), [None])


class Proposals(unittest.TestCase):
    def test_what_is_proposed_of_made_up_parts_is_so(self):
        right = wrong = before = after = 0
        for seed in range(8):
            random = np.random.default_rng(900 + seed)
            truth = true_sketch(meant_part(random))
            sketch = traced(truth, random)
            found = propose(sketch, SCALE_SIGMA)
            items = [item for one in found for item in one.constraints]
            right += sum(holds(truth, item) for item in items)
            wrong += sum(not holds(truth, item) for item in items)
            placed = conditioned(sketch, items)
            for name, place in truth.points.items():
                before += math.dist(place, sketch.points[name]) ** 2
                after += math.dist(place, placed.points[name]) ** 2
            self.assertEqual(placed.constraints, sketch.constraints)
        self.assertGreater(right, 100)
        self.assertLessEqual(wrong, 0.03 * (right + wrong))
        self.assertLess(after, before)

    def test_a_plate_and_its_holes(self):
        plate = rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [5] * 4)
        truth = true_sketch([plate, *[hole(x, y, 4.5) for x, y in ((10, 10), (50, 10))]])
        sketch = traced(truth, np.random.default_rng(4))
        words = [one.words for one in propose(sketch, SCALE_SIGMA)]
        self.assertTrue(any("equal, R 5.0" in one or "equal, R 4.9" in one for one in words), words)
        self.assertTrue(any("clearance for M4" in one for one in words), words)
        self.assertTrue(any("beside each other" in one for one in words), words)
        self.assertTrue(any("parallel" in one or "level" in one for one in words), words)

    def test_a_lone_curve_has_nothing_to_agree_with(self):
        lone, _ = edit.add_circle(Sketch(), (0, 0), 3.71, u95=U95, origin="t1")
        self.assertEqual(propose(lone, SCALE_SIGMA), [])
        slanted, _ = edit.add_line(Sketch(), (0, 0), (30, 17), u95=U95, origin="t1")
        self.assertEqual(propose(slanted, SCALE_SIGMA), [])

    def test_nothing_drawn_says_nothing(self):
        with self.assertRaisesRegex(SketchError, "Nothing is drawn in this sketch yet"):
            propose(Sketch())

    def test_accepting_adds_names_and_skips_what_follows(self):
        plate = rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4)
        sketch = traced(true_sketch([plate]), np.random.default_rng(7))
        document = new_document()
        keep_sketch(document, next(iter(document["sketches"])), sketch)
        lines = list(sketch.curves)
        groups = [
            [{"kind": "horizontal", "of": [lines[0]]}],
            [{"kind": "vertical", "of": [lines[1]]}],
            [{"kind": "perpendicular", "of": lines[:2]}],
            [{"kind": "distance", "of": [lines[0]], "value": 60.0, "typed": "60 mm"}],
        ]
        outcome = carry_out(document, "sketch.accept", {"proposals": groups}, Library())
        changed = sketch_of(outcome.document)
        self.assertEqual(len(changed.constraints), 3)
        (size,) = [item for item in changed.constraints.values() if item.is_dimension]
        self.assertEqual((size.name, size.typed), ("Distance 1", "60 mm"))
        self.assertAlmostEqual(measure(changed, "distance", (lines[0],)), 60.0, places=8)
        self.assertEqual(freedom(changed).degrees, freedom(sketch).degrees - 3)
        self.assertRegex(outcome.note, r"No point moved by more than 0\.\d+ mm\.$")
        with self.assertRaisesRegex(SketchError, "no constraint 'melted'"):
            carry_out(document, "sketch.accept", {"proposals": [[{"kind": "melted", "of": lines[:1]}]]}, Library())
        contradicting = [
            *groups,
            [{"kind": "distance", "of": [lines[2]], "value": 50.0, "typed": "50 mm"}],
            [{"kind": "vertical", "of": [lines[3]]}],
            [{"kind": "horizontal", "of": [lines[2]]}],
        ]
        outcome = carry_out(document, "sketch.accept", {"proposals": contradicting}, Library())
        self.assertIn("Left out, since they contradict the others: vertical", outcome.note)

    def test_conditioning_meets_what_is_asked(self):
        random = np.random.default_rng(5)
        sketch, first = edit.add_circle(Sketch(), (0, 0), 5.01, u95=U95, origin="t1")
        sketch, second = edit.add_circle(sketch, (20, 0.03), 4.98, u95=2 * U95, origin="t1")
        placed = conditioned(sketch, [Constraint("equal", (first, second))])
        # Inverse-variance mean of 5.01 and 4.98 with sigmas 1 : 2 (any text on least squares).
        self.assertAlmostEqual(placed.curves[first].radius, 5.004, places=7)
        self.assertAlmostEqual(placed.curves[second].radius, 5.004, places=7)
        del random


if __name__ == "__main__":
    unittest.main()
