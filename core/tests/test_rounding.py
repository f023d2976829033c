"""Edges of a flat face rounded by sections: against closed formulas, the kernel's own fillet, and polygons."""

import math
import unittest

import numpy as np
import shapely
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from scipy.integrate import simpson

from benchmarks.random_parts import random_part
from core.tests.specimens import drawn, sheet_of
from core.tests.test_operations import block, step
from examples.parts import rounded_polygon
from examples.render import hole
from nomogon_core.geometry.curves import outline_points
from nomogon_core.geometry.lettering import letter
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph, kernel, rounding, selection

TOP = {"body": "Plate", "rule": {"at": "top"}}


def plate(*outlines, height=10.0):
    """The sheet of a plate, and its body."""
    sketch = drawn(*outlines)
    sheet = sheet_of(sketch, [block(sketch, height, regions=[find_regions(sketch)[0].name])])
    return sheet, graph.run(sheet).bodies["Plate"]


def filleted(sheet, radius, edges=TOP):
    """What came of a fillet of edges: the body, and the step."""
    more = sheet_of(sheet.steps[0].sketch, [sheet.operations[0], step("op2", "fillet", edges=edges, radius=radius)])
    built = graph.run(more)
    return built.bodies["Plate"], built.steps[-1]


def polygon_of(outline):
    return shapely.Polygon(outline_points(outline, 1e-3))


def volume(area, height, radius, join="mitre"):
    """Cubic millimetres of a plate with its top edges rounded, from shapely's buffers."""
    angles = np.linspace(0, math.pi / 2, 65)
    moved = [area.buffer(-radius * (1 - math.cos(at)), join_style=join, mitre_limit=100, quad_segs=32) for at in angles]
    rounded = simpson([one.area * radius * math.cos(at) for one, at in zip(moved, angles)], x=angles)
    return area.area * (height - radius) + float(rounded)


class Sections(unittest.TestCase):
    @given(st.floats(12, 60), st.floats(12, 60), st.floats(0.5, 5.5))
    @settings(max_examples=12, deadline=None)
    def test_a_rectangle_in_closed_form(self, width, depth, radius):
        """∫ (w − 2d)(l − 2d) dz over z = r sin θ, d = r (1 − cos θ), worked out by hand."""
        _, body = plate(rounded_polygon([(0, 0), (width, 0), (width, depth), (0, depth)], [0] * 4))
        told = rounding.rounded(body.shape, selection.edges_by_rule(body, {"at": "top"}), radius)
        facts = kernel.facts_of(told.shape)
        # ∫ d dz = r² (1 − π/4), ∫ d² dz = r³ (5/3 − π/2)
        once, twice = radius**2 * (1 - math.pi / 4), radius**3 * (5 / 3 - math.pi / 2)
        wanted = width * depth * 10 - 2 * (width + depth) * once + 4 * twice
        self.assertTrue(facts.valid)
        self.assertAlmostEqual(facts.volume_mm3, wanted, delta=1e-7 * wanted)

    def by_sections(self, seed, share):
        """(outlines, their plate, edges of its top, radius, facts of what is rounded by sections) of a random part."""
        outlines = random_part(np.random.default_rng(seed))
        _, body = plate(*outlines)
        edges = selection.edges_by_rule(body, {"at": "top"})
        radius = share * min([1.0, *(one[0].radius for one in outlines[1:] if len(one) == 1)])
        told = rounding.rounded(body.shape, edges, radius)
        return outlines, body, edges, radius, told and kernel.facts_of(told.shape)

    def test_as_the_kernel_rounds(self):
        """Around sharp inside corners the kernel rolls a ball, and sections run on to a corner."""
        compared = 0
        for seed in range(4):
            _, body, edges, radius, facts = self.by_sections(seed, 0.4)
            maker = kernel.fillet(body.shape, edges, radius)
            self.assertTrue(facts.valid)
            if maker.IsDone():
                compared += 1
                self.assertAlmostEqual(facts.volume_mm3 / kernel.facts_of(maker.Shape()).volume_mm3, 1.0, delta=2e-5)
        self.assertGreater(compared, 2)

    @given(st.integers(0, 10**6), st.floats(0.2, 0.6))
    @settings(max_examples=8, deadline=None, phases=(Phase.explicit, Phase.reuse, Phase.generate))
    def test_as_polygons_that_are_moved_inward(self, seed, share):
        outlines, body, _, radius, facts = self.by_sections(seed, share)
        outer, *holes = map(polygon_of, [one for one in outlines if len(one) > 1])
        circles = [one[0] for one in outlines if len(one) == 1]
        discs = [shapely.Point(*one.center).buffer(one.radius, quad_segs=200) for one in circles]
        area = outer.difference(shapely.union_all([*holes, *discs]))
        if facts is None:
            self.assertNotEqual(len(area.buffer(-1.05 * radius).interiors), len(outlines) - 1)
            return
        self.assertTrue(facts.valid)
        left = volume(area, 10.0, radius) / (10.0 * area.area)
        self.assertAlmostEqual(facts.volume_mm3 / body.facts.volume_mm3, left, delta=1e-5)

    def test_wider_than_its_corners_and_than_letters_are(self):
        """Where pieces of the outline vanish on the way; the kernel's own fillet fails on these, or is wrong."""
        board = rounded_polygon([(0, 0), (40, 0), (40, 30), (0, 30)], [2.0, 3.0, 1.0, 0.5])
        notch = rounded_polygon(
            [(0, 0), (50, 0), (50, 30), (28, 30), (25, 24), (22, 30), (0, 30)], [4, 4, 1, 1, 0, 1, 4]
        )
        glyph = letter("S", font="bold", cap_height=30).outlines[0]
        for outline, radius in ((board, 6.0), (board, 9.5), (notch, 5.0), (glyph, 2.5)):
            with self.subTest(radius=radius):
                sheet, body = plate(outline)
                self.assertTrue(rounding.vanishes(body.shape, selection.edges_by_rule(body, {"at": "top"}), radius))
                made, told = filleted(sheet, radius)
                self.assertEqual(told.problem, "")
                area = polygon_of(outline)
                least, most = (volume(area, 10.0, radius, join) for join in ("mitre", "round"))
                self.assertGreater(made.facts.volume_mm3, least * (1 - 2e-4))
                self.assertLess(made.facts.volume_mm3, most * (1 + 2e-4))
                self.assertTrue(made.facts.valid)
                self.assertEqual(made.facts.solids, 1)

    def test_names_stay_and_rounds_are_called_by_their_edges(self):
        sheet, before = plate(rounded_polygon([(0, 0), (40, 0), (40, 30), (0, 30)], [2.0] * 4), hole(20, 15, 8))
        made, _ = filleted(sheet, 4.0)
        names = {made.names.get(face) for face in kernel.faces_of(made.shape)}
        there = {before.names.get(face) for face in kernel.faces_of(before.shape)}
        self.assertLessEqual(there, names)
        rounds = {name for name in names if name.startswith("op2.round(")}
        self.assertEqual(len(rounds), 9)  # of eight edges around and one of the hole
        self.assertTrue(all("op1.top" in name for name in rounds))
        self.assertEqual(names - there - rounds, set())

    def test_top_and_bottom_at_once(self):
        outline = rounded_polygon([(0, 0), (40, 0), (40, 30), (0, 30)], [1.0] * 4)
        sheet, _ = plate(outline, height=12.0)
        made, _ = filleted(sheet, 4.0)
        more = sheet_of(
            sheet.steps[0].sketch,
            [
                sheet.operations[0],
                step("op2", "fillet", edges=TOP, radius=4.0),
                step("op3", "fillet", edges={"body": "Plate", "rule": {"at": "bottom"}}, radius=4.0),
            ],
        )
        both = graph.run(more)
        self.assertEqual([one.problem for one in both.steps], [""] * len(both.steps))
        plain = polygon_of(
            sheet.steps[0].sketch.geometry and rounded_polygon([(0, 0), (40, 0), (40, 30), (0, 30)], [1.0] * 4)
        )
        gone = plain.area * 12 - made.facts.volume_mm3
        self.assertAlmostEqual(both.bodies["Plate"].facts.volume_mm3, plain.area * 12 - 2 * gone, delta=1e-3 * gone)

    def test_one_that_is_too_large_says_where_and_how_large_one_may_be(self):
        """Between a hole and the edge there are 5 mm: two roundings of 2.5 mm meet there."""
        sheet, _ = plate(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [8] * 4), hole(12, 20, 14))
        _, told = filleted(sheet, 4.0)
        self.assertRegex(told.problem, r"at \(2\.5, 20\.0, 10\.0\) the rounded edges would run into each other")
        self.assertAlmostEqual(told.suggestion["radius"], 2.45, delta=0.051)
        _, again = filleted(sheet, told.suggestion["radius"])
        self.assertEqual(again.problem, "")


if __name__ == "__main__":
    unittest.main()
