"""What the files of a release allow for: the design stays, sizes in the files are read back by others."""

import io
import math
import unittest
import zipfile

import ezdxf
import numpy as np
import shapely
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from benchmarks.random_parts import random_part
from core.tests.specimens import drawn, sheet_of
from core.tests.test_operations import block, step
from examples.render import hole, rounded_polygon
from nomogon_core.errors import InputError, OperationError
from nomogon_core.exchange import allowing, flat, release
from nomogon_core.geometry.curves import Circle, outline_points
from nomogon_core.inspect.findings import inspected
from nomogon_core.inspect.making import Allowances, making_of
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import new_document
from nomogon_core.job.library import Library
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph
from nomogon_core.solid.bores import bores_of
from nomogon_core.solid.kernel import faces_of
from nomogon_core.solid.sheet import SketchStep
from nomogon_core.solid.thickening import moved_out


def plate(*steps):
    """60 x 40 x 6 with holes of 5 and 24 mm."""
    sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [4.0] * 4), hole(15, 20, 5), hole(45, 20, 24))
    return sheet_of(sketch, [block(sketch, 6.0), *steps])


class Solids(unittest.TestCase):
    def test_round_holes_are_found_and_nothing_else(self):
        """A slot and rounded corners are round too, but not all around."""
        slot = rounded_polygon([(20, 5), (40, 5), (40, 11), (20, 11)], [3.0] * 4)
        sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [4.0] * 4), slot, hole(15, 25, 5))
        bodies = graph.run(sheet_of(sketch, [block(sketch, 6.0)])).bodies
        (bore,) = bores_of(bodies["Plate"].shape)
        np.testing.assert_allclose([bore.radius, bore.length, *bore.start], [2.5, 6, 15, 25, 0], atol=1e-9)

    def test_holes_of_a_class_grow_or_shrink_by_the_volume_of_their_rings(self):
        bodies = graph.run(plate()).bodies
        for holes, widest, radii in ((0.2, 10, {2.5}), (0.3, 30, {2.5, 12}), (-0.25, 30, {2.5, 12})):
            told = allowing.allowed(bodies, Allowances(holes=holes, widest=widest))["Plate"]
            wanted = sum(6 * math.pi * (radius**2 - (radius + holes / 2) ** 2) for radius in radii)
            self.assertAlmostEqual(told.facts.volume_mm3 - bodies["Plate"].facts.volume_mm3, wanted, places=6)
            self.assertEqual(
                {round(bore.radius, 6) for bore in bores_of(told.shape)},
                {radius + holes / 2 if radius in radii else radius for radius in (2.5, 12)},
            )
        with self.assertRaisesRegex(OperationError, "would vanish"):
            allowing.allowed(bodies, Allowances(holes=-5.0))

    def test_what_stands_in_a_round_hole_stays(self):
        """A post in a round groove: the groove's wall moves, the post does not."""
        sketch = drawn(
            rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4), hole(30, 20, 12), hole(30, 20, 9)
        )
        largest = find_regions(sketch)[0].name
        post = next(one.name for one in find_regions(sketch) if abs(one.area - math.pi * 4.5**2) < 1e-6)
        bodies = graph.run(sheet_of(sketch, [block(sketch, 6.0, regions=[largest, post])])).bodies
        (before,) = bodies.values()
        (after,) = allowing.allowed(bodies, Allowances(holes=0.4)).values()
        ring = 6 * math.pi * (6.2**2 - 6**2)
        self.assertAlmostEqual(before.facts.volume_mm3 - after.facts.volume_mm3, ring, places=6)

    def test_a_rounded_rim_stays_round(self):
        edges = {"body": "Plate", "rule": {"at": "top"}}
        bodies = graph.run(plate(step("op2", "fillet", edges=edges, radius=1.0))).bodies
        told = allowing.allowed(bodies, Allowances(holes=0.2))["Plate"]
        self.assertTrue(told.facts.valid)
        self.assertIn(2.6, {round(bore.radius, 6) for bore in bores_of(told.shape)})

    def test_shrinkage_is_exact_alike_and_by_axis(self):
        for shrinkage, upright in ((0.5, 0.5), (0.4, 0.2)):
            making = making_of({"allowances": {"shrinkage": shrinkage, "upright": upright}})
            data = release.write_file("stl", plate(), "Plate", making=making)
            told = trimesh.load(io.BytesIO(data), file_type="stl").extents
            wanted = np.array([60, 40, 6]) * (1 + np.array([shrinkage, shrinkage, upright]) / 100)
            np.testing.assert_allclose(told, wanted, atol=2e-5)

    def test_outlines_grow_or_shrink_and_holes_and_rounded_edges_stay(self):
        """A plate 60 × 40 × 6 with a rounded top edge: half of the allowance on each side."""
        edges = {"body": "Plate", "rule": {"at": "top", "operation": "op1"}}
        sheet = plate(step("op2", "fillet", edges=edges, radius=0.5))
        for grown in (-0.3, 0.2):
            making = making_of({"allowances": {"outer": grown}})
            (made,) = release.as_made(sheet, making).values()
            np.testing.assert_allclose(made.facts.size, (60 + grown, 40 + grown, 6), atol=1e-6)
            (design,) = graph.run(sheet).bodies.values()
            holes = [sorted(round(bore.radius, 6) for bore in bores_of(one.shape)) for one in (design, made)]
            self.assertEqual(holes[0], holes[1])
            self.assertEqual(*(sorted(map(one.names.get, faces_of(one.shape))) for one in (design, made)))
            cut = flat.allowed_areas(flat.flat_outlines(sheet), making.allowances)
            outer = shapely.Polygon(outline_points(cut[0][0], 1e-4)).bounds
            np.testing.assert_allclose(outer, (-grown / 2, -grown / 2, 60 + grown / 2, 40 + grown / 2), atol=1e-6)
            (told,) = allowing.told_of({"Plate": made}, making.allowances)
            self.assertIn(f"are moved {'out' if grown > 0 else 'in'} by {abs(grown) / 2:g} mm", told)

    def test_fillings_stand_back_and_the_design_does_not(self):
        base = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4))
        mark = drawn(rounded_polygon([(20, 10), (30, 10), (30, 20), (20, 20)], [0] * 4))
        regions = {"sketch": "s2", "names": [find_regions(mark)[0].name]}
        filled = step("op2", "inlay", regions=regions, of="Plate", depth=1.0, result="new", body="Mark")
        lies = SketchStep("s2", "Mark", {"body": "Plate", "face": "op1.top"}, mark)
        sheet = sheet_of(base, [], block(base, 6.0), lies, filled)
        loose = allowing.allowed_sheet(sheet, Allowances(clearance=0.1))
        for held, side in ((sheet, 10.0), (loose, 9.8)):
            self.assertAlmostEqual(graph.run(held).bodies["Mark"].facts.volume_mm3, side**2, places=6)

    def test_the_report_says_what_is_otherwise(self):
        def report_of(data):
            with zipfile.ZipFile(io.BytesIO(data)) as held:
                return held.read("report.txt").decode()

        making = making_of({"allowances": {"holes": 0.2, "kerf": 0.15}})
        text = report_of(release.bundle(plate(), "Plate", making=making))
        for words in ("Round holes, Ø: 5.00 → 5.20.", "stand off by 0.075 mm", "those of the design"):
            self.assertIn(words, text)
        self.assertNotIn("those of the design", report_of(release.bundle(plate(), "Plate")))


class MovedOut(unittest.TestCase):
    """An outline that is moved out, as an extrusion has it."""

    @given(st.integers(0, 10**6), st.floats(-0.4, 0.8))
    @settings(max_examples=12, deadline=None)
    def test_it_is_the_buffer_with_corners_that_stay_sharp(self, seed, by):
        loop = [(f"c{index}", curve) for index, curve in enumerate(random_part(np.random.default_rng(seed))[0])]
        plain = shapely.Polygon(outline_points([curve for _, curve in loop], 1e-3))
        wanted = plain.buffer(by, quad_segs=64, join_style="mitre", mitre_limit=50)
        try:
            (moved,) = moved_out([loop], by)
        except OperationError:
            self.assertNotEqual(plain.buffer(by - 0.02 if by < 0 else by + 0.3).geom_type, "Polygon")
            return
        told = shapely.Polygon(outline_points([curve for _, curve in moved], 1e-3))
        self.assertLess(told.symmetric_difference(wanted).area, 2e-3 * plain.length * max(abs(by), 0.05) + 0.02)
        self.assertLessEqual({name.split(".")[0] for name, _ in moved}, {name for name, _ in loop})

    def test_a_circle_stays_one_and_vanishes_where_it_is_too_small(self):
        for by in (1.5, -1.5):
            (moved,) = moved_out([[("c1", Circle((3, 4), 10.0))]], by)
            self.assertEqual(moved, [("c1", Circle((3, 4), 10.0 + by))])
        with self.assertRaisesRegex(OperationError, "fall apart or vanish"):
            moved_out([[("c1", Circle((3, 4), 1.0))]], -1.5)

    def test_what_does_not_go_is_said(self):
        corners = rounded_polygon([(0, 0), (20, 0), (20, 20), (0, 20)], [0] * 4)
        square = [(str(number), curve) for number, curve in enumerate(corners)]
        ring = [square, [("hole", Circle((10, 10), 8.0))]]
        with self.assertRaisesRegex(OperationError, "run into a hole"):
            moved_out(ring, -3.0)
        with self.assertRaisesRegex(OperationError, "fall apart or vanish"):
            moved_out([square], -11.0)


class Flat(unittest.TestCase):
    def test_outlines_stand_off_by_half_a_kerf(self):
        """A beam as wide as the kerf along the outlines leaves the part: shapely's buffer."""
        areas = flat.flat_outlines(plate())
        cut = [loop for area in flat.allowed_areas(areas, Allowances(kerf=0.3, holes=0.2)) for loop in area]
        outer, *inner = (shapely.Polygon(outline_points(loop, 1e-4)) for loop in cut)
        part = outer.buffer(-0.15).area - sum(one.buffer(0.15).area for one in inner)
        wanted = 60 * 40 - (4 - math.pi) * 16 - math.pi * (2.6**2 + 12**2)
        self.assertAlmostEqual(part, wanted, delta=2e-2)
        np.testing.assert_allclose(sorted(loop[0].radius for loop in cut[1:]), [2.6 - 0.15, 12 - 0.15])
        with self.assertRaisesRegex(OperationError, "too narrow to be moved by 3 mm"):
            flat.allowed_areas(areas, Allowances(kerf=6.0))

    def test_a_dxf_has_them(self):
        making = making_of({"allowances": {"kerf": 0.2, "shrinkage": 1.0}})
        data = release.write_file("dxf", plate(), "Plate", making=making)
        held = ezdxf.read(io.StringIO(data.decode()))
        radii = sorted(one.dxf.radius for one in held.modelspace().query("CIRCLE"))
        np.testing.assert_allclose(radii, [2.525 - 0.1, 12.12 - 0.1], atol=1e-6)

    def test_lines_only_stay_within_the_tolerance(self):
        """Read by ezdxf: closed polylines whose area differs from the outline's by no more than the chords take."""
        data = release.write_file("lines", plate(), "Plate", chord=0.02)
        held = ezdxf.read(io.StringIO(data.decode()))
        self.assertEqual(held.units, ezdxf.units.MM)
        areas = sorted(shapely.Polygon(one.get_points("xy")).area for one in held.modelspace())
        self.assertTrue(all(one.closed for one in held.modelspace()))
        for told, radius in zip(areas, (2.5, 12.0)):
            self.assertLess(0, math.pi * radius**2 - told)
            self.assertLess(math.pi * radius**2 - told, 0.02 * 2 * math.pi * radius)
        with self.assertRaisesRegex(OperationError, "between 0.001 and 5.0 mm"):
            release.write_file("lines", plate(), "Plate", chord=0.0)


class Command(unittest.TestCase):
    def test_it_is_kept_and_what_makes_no_sense_is_refused(self):
        document = new_document()
        for name, text, value in (
            ("holes", "0.2 mm", 0.2),
            ("holes", "1/128 in", 25.4 / 128),
            ("shrinkage", "0.5 %", 0.5),
        ):
            document = carry_out(document, "release.allow", {"name": name, "text": text}, Library()).document
            self.assertAlmostEqual(document["making"]["allowances"][name], value)
        for name, text in (("holes", "30 mm"), ("kerf", "-1"), ("upright", "80"), ("holes", "wide"), ("depth", "1")):
            with self.assertRaises((InputError, OperationError), msg=name):
                carry_out(document, "release.allow", {"name": name, "text": text}, Library())

    def test_the_remedy_of_a_finding_makes_it_good(self):
        bodies = graph.run(plate()).bodies
        (found,) = [one for one in inspected(bodies, making_of({})) if one.title == "Holes will print small"]
        document = carry_out(new_document(), found.remedy["command"], found.remedy["arguments"], Library()).document
        after = inspected(bodies, making_of(document["making"]))
        self.assertFalse([one for one in after if one.title == found.title])
        self.assertTrue(any("grow by 0.20 mm in the files" in one.title for one in after))
