"""Strokes and gaps of marks: how narrow they are, what a machine makes of them, and thickening them."""

import math
import unittest

import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import drawn
from core.tests.test_operations import BOX, block, built, picked, problem_of, step
from examples.render import hole, rounded_polygon
from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import Arc, Line, outline_points
from nomogon_core.geometry.lettering import FONTS, letter
from nomogon_core.geometry.necks import narrowest
from nomogon_core.inspect.findings import inspected
from nomogon_core.inspect.lettering import of_marks
from nomogon_core.inspect.making import making_of
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import build_of, keep_sketch, new_document
from nomogon_core.job.quantities import environment
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph
from nomogon_core.solid.areas import together
from nomogon_core.solid.thickening import thickened


def box(x, y, width, height):
    return np.array([(x, y), (x + width, y), (x + width, y + height), (x, y + height)], float)


def named(curves):
    return [(f"c{index}", curve) for index, curve in enumerate(curves)]


class Letters(unittest.TestCase):
    def test_no_outline_of_a_shipped_font_runs_back_along_itself(self):
        for font in FONTS:
            for glyph in "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789&@%+":
                for outline in letter(glyph, font=font, cap_height=7).outlines:
                    around = shapely.LinearRing(outline_points(outline, 1e-3))
                    self.assertTrue(around.is_simple, (font, glyph))


class Together(unittest.TestCase):
    def test_two_halves_of_a_ring_are_a_ring(self):
        """Its hole stays a hole; a third area that meets none stays as it is."""

        def arc(name, radius, start, sweep):
            return name, Arc((0, 0), radius, start, sweep)

        def spoke(name, sign, outward):
            ends = [(sign * 3, 0), (sign * 5, 0)]
            return name, Line(*(ends if outward else ends[::-1]))

        upper = [
            arc("c1", 5, 0, math.pi),
            spoke("c2", -1, False),
            arc("c3", 3, math.pi, -math.pi),
            spoke("c4", 1, True),
        ]
        lower = [
            arc("c5", 5, math.pi, math.pi),
            spoke("c4", 1, False),
            arc("c6", 3, 0, -math.pi),
            spoke("c2", -1, True),
        ]
        apart = named(rounded_polygon([(9, 0), (12, 0), (12, 2), (9, 2)], [0] * 4))
        apart = [(f"a{name}", curve) for name, curve in apart]
        told = together([[upper], [lower], [apart]])
        self.assertEqual(sorted(len(area) for area in told), [1, 2])
        ring = next(area for area in told if len(area) == 2)
        self.assertEqual([{name for name, _ in loop} for loop in ring], [{"c1", "c5"}, {"c3", "c6"}])
        self.assertEqual([[loop] for loop in (apart,)], [area for area in told if len(area) == 1])


class Necks(unittest.TestCase):
    @settings(max_examples=30, deadline=None)
    @given(st.floats(0.2, 0.75), st.floats(0.2, 0.75), st.floats(0, math.pi), st.floats(-40, 40))
    def test_a_bar_and_the_gap_beside_it_are_told_to_a_micrometre(self, bar, gap, turn, away):
        turned = np.array([[math.cos(turn), math.sin(turn)], [-math.sin(turn), math.cos(turn)]])
        areas = [[box(away, 3, 9, bar) @ turned], [box(away, 3 + bar + gap, 9, 4) @ turned]]
        stroke, between = narrowest(areas, 0.8)
        self.assertAlmostEqual(stroke.width, bar, places=6)
        self.assertAlmostEqual(between.width, gap, places=6)

    def test_a_ring_that_lies_askew_is_narrowest_on_one_side(self):
        angles = np.linspace(0, 2 * math.pi, 1500, endpoint=False)
        ring = np.column_stack([np.cos(angles), np.sin(angles)])
        stroke, gap = narrowest([[5 * ring, 4.3 * ring[::-1] + (0.1, 0.0)]], 0.8)
        self.assertAlmostEqual(stroke.width, 0.6, places=4)
        np.testing.assert_allclose(stroke.place, (4.7, 0.0), atol=0.05)
        self.assertIsNone(gap)

    def test_points_and_corners_are_no_necks(self):
        for apex in (40, 60, 90):
            half = math.tan(math.radians(apex / 2))
            wedge = np.array([(0, 0), (8, -8 * half), (8, 8 * half)])
            self.assertEqual(narrowest([[wedge]], 0.8), (None, None))

    def test_letters_fall_apart_at_their_necks_when_they_are_eroded(self):
        """A letter that is worn from all sides (shapely) falls apart, or vanishes, no sooner than its narrowest stroke
        says."""
        for font in FONTS:
            for one in "BRENas8&":
                loops = [outline_points(outline, 1e-3) for outline in letter(one, font=font, cap_height=4.0).outlines]
                whole = shapely.Polygon()
                for loop in loops:
                    whole = whole.symmetric_difference(shapely.Polygon(loop))
                pieces = [[np.asarray(ring.coords)[:-1] for ring in (piece.exterior, *piece.interiors)]
                          for piece in map(shapely.geometry.polygon.orient, shapely.get_parts(whole))]  # fmt: skip
                stroke, _ = narrowest(pieces, 2.0)
                apart = len(shapely.get_parts(whole.buffer(-stroke.width / 2 * 0.98)))
                self.assertEqual(apart, len(pieces), f"{one} in {font}")


class Thickened(unittest.TestCase):
    def test_the_narrowest_stroke_is_as_wide_as_said_and_grown_all_around(self):
        loops = [named(rounded_polygon([(0, 0), (10, 0), (10, 0.5), (0, 0.5)], [0.2] * 4))]
        (grown,) = thickened([loops], 0.8)
        told = shapely.Polygon(outline_points([curve for _, curve in grown[0]], 1e-4))
        was = shapely.Polygon(outline_points([curve for _, curve in loops[0]], 1e-4))
        # Sides that lean by up to 8° count as a stroke, so that a rounded end makes it 1 % narrower.
        by = told.bounds[3] - 0.5
        self.assertTrue(0.15 - 1e-6 < by < 0.15 + 0.003, by)
        self.assertLess(told.symmetric_difference(was.buffer(by, quad_segs=200)).area, 2e-3)

    def test_what_is_wide_enough_stays_and_what_would_run_together_is_refused(self):
        wide, thin = ([named(rounded_polygon(box(0, y, 10, height), [0] * 4))] for y, height in ((0, 2), (2.2, 0.4)))
        self.assertIs(thickened([wide], 0.8)[0], wide)
        with self.assertRaisesRegex(OperationError, "two areas would run together at"):
            thickened([wide, thin], 0.9)
        ring = [named(hole(0, 0, 1.2)), named(hole(0, 0, 0.3))]
        with self.assertRaisesRegex(OperationError, "would close a hole"):
            thickened([ring], 1.2)

    def test_an_extrusion_has_the_volume_of_the_grown_area(self):
        sketch = drawn(rounded_polygon([(0, 0), (20, 0), (20, 0.5), (0, 0.5)], [0.0] * 4))
        body = built(sketch, step(
            "op1", "extrude", regions=picked(sketch), extent="by", length=2.0, way="up", strokes=0.9, result="new",
            body="Plate",
        ))["Plate"]  # fmt: skip
        grown = 20 * 0.5 + 2 * 0.2 * 20.5 + math.pi * 0.2**2  # Steiner's formula of a parallel body
        self.assertAlmostEqual(body.facts.volume_mm3, 2 * grown, places=5)


class Marks(unittest.TestCase):
    """A bar 0.5 mm wide raised by 0.2 mm on a plate, to be printed with a nozzle of 0.4 mm in layers of 0.2 mm."""

    def setUp(self):
        sketch = drawn(BOX, rounded_polygon([(5, 5), (25, 5), (25, 5.5), (5, 5.5)], [0] * 4))
        document = new_document()
        keep_sketch(document, "s1", sketch)
        regions = sorted(find_regions(sketch), key=lambda one: one.area)
        plate = {"regions": {"sketch": "s1", "names": [one.name for one in regions]}, "extent": "by", "length": "4 mm",
                 "way": "up", "result": "new", "body": "Plate"}  # fmt: skip
        self.document = self.do(document, "solid.add", kind="extrude", blanks=plate)
        (body,) = self.document["bodies"]
        bar = {"regions": {"sketch": "s1", "names": [regions[0].name]}, "extent": "by", "length": "4.2 mm",
               "way": "up", "result": "add", "body": body, "start": "0 mm"}  # fmt: skip
        self.bar = {**bar, "length": "0.2 mm", "start": "4 mm"}
        self.document = self.do(self.document, "solid.add", kind="extrude", blanks=self.bar)

    def do(self, document, command, /, **arguments):
        return carry_out(document, command, arguments, None).document

    def found(self, document, **making):
        sheet = build_of(document, environment(document))
        told = graph.run(sheet)
        self.assertEqual([one.problem for one in told.steps if one.problem], [])
        how = making_of(making)
        marks = of_marks(sheet, told, how)
        return marks, inspected(told.bodies, how, frozenset(), marks)

    def test_both_are_told_and_their_remedies_mend_them(self):
        marks, every = self.found(self.document)
        self.assertEqual({(one.title, one.number) for one in marks},
                         {("Narrow stroke in a mark", "0.50 mm"), ("Shallow mark", "0.20 mm")})  # fmt: skip
        self.assertNotIn("Thin wall", [one.title for one in every], "the stroke is not told twice")
        stroke = next(one for one in marks if "stroke" in one.title)
        self.assertAlmostEqual(stroke.place[1], 5.25, places=3)
        self.assertTrue(stroke.faces and all(name.startswith(stroke.operations[0]) for name in stroke.faces))
        after = self.document
        for one in marks:
            after = self.do(after, one.remedy["command"], **one.remedy["arguments"])
        (told,), _ = self.found(after)
        self.assertEqual((told.severity, told.number), ("well", "stroke 0.80 mm"))

    def test_milling_looks_at_the_cutter(self):
        marks, _ = self.found(self.document, way="milling")
        self.assertEqual([one.number for one in marks], ["0.50 mm"])
        self.assertEqual(self.found(self.document, way="casting")[0], [])

    def test_too_wide_for_its_neighbours_is_refused_with_the_place(self):
        sketch = drawn(BOX, hole(10, 10, 0.5), hole(10.9, 10, 0.5))
        small = sorted(find_regions(sketch), key=lambda one: one.area)[:2]
        both = {"sketch": "s1", "names": [one.name for one in small]}
        pins = step("op2", "extrude", regions=both, extent="by", length=12.0, way="up", strokes=1.0, result="add",
                    body="Plate")  # fmt: skip
        whole = block(sketch, regions=[one.name for one in find_regions(sketch)])
        self.assertIn("would run together at (10.4, 10.0)", problem_of(sketch, whole, pins))
