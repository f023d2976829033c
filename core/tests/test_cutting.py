"""Nesting, the simulated cutter and the simulated gauge, against closed formulas and a general-purpose library."""

import io
import json
import math
import unittest

import ezdxf
import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import drawn, sheet_of
from core.tests.test_allowing import plate
from core.tests.test_operations import block
from examples.render import hole, rounded_polygon
from nomogon_core.devices import cutter, gauge
from nomogon_core.devices.motion import seconds_along
from nomogon_core.errors import InputError, OperationError
from nomogon_core.exchange import release
from nomogon_core.exchange.nesting import nested
from nomogon_core.geometry.curves import outline_points
from nomogon_core.inspect.making import cutter_of, making_of
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import new_document
from nomogon_core.job.library import Library
from nomogon_core.solid import graph

BOX = np.array([(0, 0), (40, 0), (40, 20), (0, 20)], float)
AREA = [
    rounded_polygon([(0, 0), (60, 0), (60, 30), (0, 30)], [5] * 4),
    hole(10, 15, 8),
    rounded_polygon([(20, 10), (40, 10), (40, 20), (20, 20)], [0] * 4)[::-1],
]


def numbers(**changed):
    """Of the simulated cutter."""
    return cutter_of({}) | changed


class Nesting(unittest.TestCase):
    def test_boxes_lie_as_in_a_grid(self):
        """floor((W - gap) / (w + gap)) columns of each of both ways round, counted by hand."""
        for sheet, gap in (((600.0, 400.0), 2.0), ((130.0, 75.0), 3.0)):
            told = nested(BOX, 500, gap, sheet)
            counts = [
                math.floor((sheet[0] - gap + 1e-9) / (w + gap)) * math.floor((sheet[1] - gap + 1e-9) / (h + gap))
                for w, h in ((40, 20), (20, 40))
            ]
            self.assertGreaterEqual(told.most, max(counts))
            self.assertLessEqual(told.most * (40 + gap) * (20 + gap), (sheet[0] + gap) * (sheet[1] + gap))

    def test_discs_and_triangles_lie_closer_than_their_boxes(self):
        """Discs in a hexagonal lattice: rows 0.866 of a pitch apart (Thue 1910); triangles in pairs."""
        angles = np.arange(90) * math.tau / 90
        disc = 20 * np.column_stack([np.cos(angles), np.sin(angles)])
        told = nested(disc, 500, 2.0, (600.0, 400.0))
        rows = math.floor((396 - 40) / (42 * math.sqrt(3) / 2) + 1e-3) + 1
        self.assertGreaterEqual(told.most, rows * 13)
        triangle = np.array([(0, 0), (40, 0), (0, 40)], float)
        self.assertGreater(nested(triangle, 500, 2.0, (600.0, 400.0)).most, 1.5 * (598 // 42) * (398 // 42))

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 10**6), st.floats(0.5, 8.0), st.integers(1, 60))
    def test_copies_keep_their_distance_and_stay_on_the_sheet(self, seed, gap, copies):
        random = np.random.default_rng(seed)
        angles = np.sort(random.uniform(0, math.tau, 14))
        part = random.uniform(8, 40, 14)[:, None] * np.column_stack([np.cos(angles), np.sin(angles)])
        if not shapely.Polygon(part).is_valid:
            return
        told = nested(part, copies, gap, (500.0, 300.0))
        laid = [shapely.Polygon(place.moved(part)) for place in told.places]
        self.assertEqual(len(laid), min(copies, told.most))
        self.assertEqual(told.sheets, math.ceil(copies / told.most))
        field = shapely.box(gap, gap, 500 - gap, 300 - gap).buffer(1e-6)
        self.assertTrue(all(field.contains(one) for one in laid))
        tree = shapely.STRtree(laid)
        pairs = tree.query(laid, predicate="dwithin", distance=gap - 1e-6)
        self.assertEqual(len(pairs[0]), len(laid), "each is near itself alone")

    def test_what_does_not_go_on_the_sheet_says_so(self):
        with self.assertRaisesRegex(OperationError, "does not go on a sheet of 30 × 30 mm"):
            nested(BOX, 1, 2.0, (30.0, 30.0))

    def test_a_file_holds_all_copies(self):
        making = making_of({"numbers": {"cutter": {"copies": 7}}, "allowances": {"kerf": 0.2}})
        held = ezdxf.read(io.StringIO(release.write_file("sheet", plate(), "Plate", making=making).decode()))
        circles = [one for one in held.modelspace() if one.dxftype() == "CIRCLE"]
        once = ezdxf.read(io.StringIO(release.write_file("dxf", plate(), "Plate", making=making).decode()))
        alone = [one for one in once.modelspace() if one.dxftype() == "CIRCLE"]
        self.assertEqual(len(circles), 7 * len(alone))
        self.assertEqual(*({round(one.dxf.radius, 6) for one in those} for those in (circles, alone)))


class Cutting(unittest.TestCase):
    def test_inner_cuts_come_first_and_the_part_is_half_a_cut_smaller(self):
        told = cutter.cut([AREA], numbers(kerf=0.4, copies=3))
        cuts = [one for one in told.moves if one.cuts]
        self.assertEqual(len(cuts), 9)
        areas = [abs(shapely.Polygon(one.places[cutter.LEAD_STEPS - 1 :]).area) for one in cuts]
        for copy in range(3):
            self.assertEqual(max(range(3), key=lambda k: areas[3 * copy + k]), 2)
        outer, *holes = (shapely.Polygon(outline_points(list(loop), 1e-4)) for loop in AREA)
        wanted = outer.difference(shapely.union_all(holes)).buffer(-0.2).area
        polygons = [shapely.Polygon(ring).area for ring in told.made]
        made = sum(2 * max(polygons[3 * k : 3 * k + 3]) - sum(polygons[3 * k : 3 * k + 3]) for k in range(3))
        self.assertAlmostEqual(made / 3 / wanted, 1, places=4)

    def test_the_tool_comes_out_of_the_waste_and_never_into_a_part(self):
        told = cutter.cut([AREA], numbers(kerf=0.4, copies=5))
        self.assertEqual(told.bare, 0)
        rings = [shapely.Polygon(ring) for ring in told.made]
        parts = [rings[k].difference(shapely.union_all(rings[k + 1 : k + 3])) for k in range(0, len(rings), 3)]
        material = shapely.union_all(parts)
        for one in told.moves:
            if one.cuts:
                beam = shapely.LineString(one.places).buffer(0.2 * 0.97)
                self.assertLess(beam.intersection(material).area, 1e-3)

    def test_time_is_the_way_over_the_feed_and_more_for_corners_and_piercing(self):
        told = cutter.cut([AREA], numbers(feed=10.0, pierce=0.7))
        plain = 1000 * told.metres / 10.0
        self.assertGreater(told.seconds, plain + 3 * 0.7)
        self.assertLess(told.seconds, 1.2 * plain + 3 * 0.7 + 2)
        twice = cutter.cut([AREA], numbers(feed=10.0, pierce=0.7, passes=2))
        rapid = sum(one.end - one.begin for one in told.moves if not one.cuts)
        self.assertAlmostEqual(twice.seconds - rapid, 2 * (told.seconds - rapid), places=6)
        times = [(one.begin, one.end) for one in told.moves]
        self.assertTrue(all(a[1] == b[0] for a, b in zip(times, times[1:])))

    def test_a_straight_way_takes_its_length(self):
        """A circle of many sides loses nothing at its corners; a square loses four stops."""
        angles = np.arange(720) * math.tau / 720
        circle = 10 * np.column_stack([np.cos(angles), np.sin(angles)])
        self.assertAlmostEqual(seconds_along([circle], 20.0, 1000.0, 8.0), 2 * math.pi * 10 / 20, places=3)
        square = seconds_along([BOX], 20.0, 1000.0, 8.0)
        corner = min(20.0, 8.0 / math.sqrt(2))
        self.assertAlmostEqual(square, 120 / 20 + 4 * (20 - corner) ** 2 / (20 * 1000), places=9)

    def test_what_the_files_do_not_allow_for_is_told(self):
        told = cutter.cut([AREA], numbers(kerf=0.125))
        self.assertIn("allow for 0 of the 0.125 mm that the cut takes: the part comes off 0.125 mm too small",
                      cutter.in_words(told, 0.125, 0.0, "mm"))  # fmt: skip
        self.assertIn("0.0984 in too large", cutter.in_words(told, 0.0, 2.5, "in"))
        self.assertIn("with the sizes of the design", cutter.in_words(told, 0.2, 0.2, "mm"))

    def test_the_preview_is_json_of_the_sheet(self):
        data = json.loads(cutter.preview(cutter.cut([AREA], numbers(copies=2)), numbers(copies=2)))
        self.assertEqual((data["sheet"], len(data["moves"])), ([600.0, 400.0], 2 * 2 * 3))
        self.assertEqual(data["parts"].count("Z"), 6)


class FlatFiles(unittest.TestCase):
    def test_a_section_shows_what_the_first_outline_does_not(self):
        sheet = sheet_of(drawn(*AREA[:1], AREA[1]), [block(drawn(*AREA[:1], AREA[1]), 6.0)])
        making = making_of({"flat": {"of": "front", "at": 0.0}})
        with self.assertRaisesRegex(OperationError, "there is nothing of the part"):
            release.write_file("dxf", sheet, "Plate", making=making_of({"flat": {"of": "plan", "at": 9.0}}))
        held = ezdxf.read(io.StringIO(release.write_file("dxf", sheet, "Plate", making=making).decode()))
        self.assertTrue(len(held.modelspace()))

    def test_commands_say_what_they_do(self):
        document = new_document()
        told = carry_out(document, "release.flat", {"of": "plan", "at": "2 mm"}, Library())
        self.assertEqual(told.document["making"]["flat"], {"of": "plan", "at": 2.0})
        self.assertIn("the section level with Plan", told.told)
        for name, text, words in (("copies", "2.5", "whole number"), ("feed", "0", "lies between")):
            with self.assertRaisesRegex(InputError, words):
                carry_out(document, "release.cutter", {"name": name, "text": text}, Library())
        told = carry_out(document, "release.cutter", {"name": "kerf", "text": "0.2"}, Library())
        self.assertEqual(told.document["making"]["numbers"], {"cutting": {"kerf": 0.2}})


class Gauge(unittest.TestCase):
    def setUp(self):
        self.bodies = list(graph.run(plate()).bodies.values())

    def test_the_loop_closes(self):
        """What is proposed brings the holes of the next part to the design, within what the spread leaves."""
        first = gauge.read(self.bodies, self.bodies, "printing")
        told = gauge.proposal(first)
        outer = gauge.proposal(first, "level")
        self.assertEqual((told.count, outer.count), (sum(one.kind == "hole" for one in first), 2))
        making = making_of({"allowances": {"holes": told.by, "widest": 100.0, "outer": outer.by}})
        filed = list(release.as_made(plate(), making).values())
        again = gauge.read(self.bodies, filed, "printing", part="2")
        for kind in ("hole", "level"):
            off = [one.read - one.design for one in again if one.kind == kind]
            self.assertLess(abs(np.mean(off)), 0.1)
        self.assertGreater(abs(np.mean([one.read - one.design for one in first if one.kind == "hole"])), 0.1)
        self.assertEqual(
            [one.read for one in first], [one.read for one in gauge.read(self.bodies, self.bodies, "printing")]
        )

    def test_what_chance_explains_is_not_to_be_set(self):
        def readings(*offs):
            return [gauge.Reading(f"Hole {index}", "hole", 5.0, 5.0, 5.0 + off) for index, off in enumerate(offs)]

        (holes, outlines) = gauge.in_words(readings(0.02, -0.03, 0.01), "mm")["told"]
        self.assertIsNone(holes["typed"])
        self.assertRegex(holes["sentence"], r"as far as these tell: within 0\.07 mm\.")
        self.assertIn("two outlines or more", outlines["sentence"])
        (holes, _) = gauge.in_words(readings(-0.20, -0.19, -0.21), "mm")["told"]
        self.assertEqual((holes["typed"], holes["words"]), ("0.20", "Let holes grow by 0.20 mm"))

    def test_the_uncertainty_covers_the_bias(self):
        """Of 300 parts with five holes each, about 95 in a hundred; the bias is that of the process."""
        bias, spread = gauge.PROCESSES["printing"]["hole"]
        inside = 0
        for part in range(300):
            readings = [
                gauge._reading(f"Hole {index}", "hole", 5.0, 5.0, "printing", 0.0, str(part)) for index in range(5)
            ]
            told = gauge.proposal(readings)
            inside += abs(told.by + bias) <= told.u95
        self.assertTrue(0.91 <= inside / 300 <= 0.985, inside)
        self.assertGreater(spread, 0)

    def test_a_cut_part_is_off_by_the_cut_that_nothing_allows_for(self):
        plain, allowed = (gauge.read(self.bodies, self.bodies, "cutting", 0.3, off) for off in (0.0, 0.3))
        for one, other in zip(plain, allowed):
            if not one.name.endswith("z"):
                self.assertAlmostEqual(one.read - other.read, 0.3 if one.kind == "hole" else -0.3, delta=0.011)
