"""What is found on a part before it is made, on parts whose thin places, angles and radii are known."""

import math
import unittest

import attrs
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import drawn, number, operation, sheet_of
from examples.parts import rounded_polygon
from examples.render import hole
from nomogon_core.errors import InputError
from nomogon_core.exchange.release import laid
from nomogon_core.geometry.curves import Line
from nomogon_core.inspect.corners import inside_corners, steep_sides
from nomogon_core.inspect.findings import inspected
from nomogon_core.inspect.lettering import of_marks
from nomogon_core.inspect.lying import bed_fit, best_way, lying
from nomogon_core.inspect.making import WAYS, making_of
from nomogon_core.inspect.meshed import Meshed
from nomogon_core.inspect.reaching import hidden_from, land_of
from nomogon_core.inspect.telling import report, told
from nomogon_core.inspect.thin import thin_places
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import new_document
from nomogon_core.job.library import Library
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph, kernel
from nomogon_core.solid.bores import bores_of
from nomogon_core.solid.sheet import OperationStep

UP = (0.0, 0.0, 1.0)


def polygon(*places):
    return rounded_polygon(list(places), [0] * len(places))


def plate(*outlines, height=8.0, more=()):
    """A plate of the largest region of some outlines."""
    sketch = drawn(*outlines)
    largest = find_regions(sketch)[0].name
    first = operation("op1", "extrude", regions=[largest], length=height, mode="new")
    built = graph.run(sheet_of(sketch, [first, *more]))
    assert not any(step.problem for step in built.steps), [step.problem for step in built.steps]
    return built.bodies["Plate"]


RECTANGLE = polygon((0, 0), (60, 0), (60, 40), (0, 40))


class Thin(unittest.TestCase):
    @given(st.floats(0.15, 0.75), st.floats(3, 9), st.floats(-0.6, 0.6))
    @settings(max_examples=15, deadline=None)
    def test_the_wall_between_two_holes(self, wall, diameter, turn):
        """Two holes whose rims are so far apart leave a wall of exactly that."""
        way = np.array([math.cos(turn), math.sin(turn)])
        first, second = (
            np.array([30, 20]) - (diameter + wall) / 2 * way,
            np.array([30, 20]) + (diameter + wall) / 2 * way,
        )
        body = plate(RECTANGLE, hole(*first, diameter), hole(*second, diameter))
        (found,) = thin_places(Meshed(body), 0.8)
        self.assertTrue(found.exact)
        self.assertAlmostEqual(found.size, wall, places=6)
        np.testing.assert_allclose(found.place[:2], (30, 20), atol=0.2)

    @given(st.floats(0.1, 0.35), st.floats(0.5, 6))
    @settings(max_examples=10, deadline=None)
    def test_a_slot_is_a_gap_and_a_fin_is_a_wall(self, slot, deep):
        notched = polygon(
            (0, 0), (60, 0), (60, 40), (30 + slot, 40), (30 + slot, 40 - deep), (30, 40 - deep), (30, 40), (0, 40)
        )
        meshed = Meshed(plate(notched))
        (gap,) = thin_places(meshed, 0.4, gaps=True)
        self.assertAlmostEqual(gap.size, slot, places=6)
        self.assertEqual(thin_places(meshed, 0.4), [])
        finned = polygon(
            (0, 0), (60, 0), (60, 40), (30 + slot, 40), (30 + slot, 40 + deep), (30, 40 + deep), (30, 40), (0, 40)
        )
        (fin,) = thin_places(Meshed(plate(finned)), 0.4)
        self.assertAlmostEqual(fin.size, slot, places=6)

    def test_thick_parts_have_none_and_a_blade_tapers(self):
        solid = plate(RECTANGLE, hole(20, 20, 12), more=[operation("op2", "fillet", edges={"at": "top"}, radius=2.0)])
        meshed = Meshed(solid)
        self.assertEqual(thin_places(meshed, 2.0) + thin_places(meshed, 2.0, gaps=True), [])
        blade = Meshed(plate(polygon((0, 0), (40, 0), (0, 4))))
        found = thin_places(blade, 0.8)
        self.assertTrue(found and found[0].tapers)
        pin = drawn(hole(0, 0, 0.6))
        sketch, region = pin, find_regions(pin)[0].name
        body = graph.run(sheet_of(sketch, [operation("op1", "extrude", regions=[region], length=5.0, mode="new")]))
        (found,) = thin_places(Meshed(body.bodies["Plate"]), 0.8)
        self.assertAlmostEqual(found.size, 0.6, places=9)


class Lying(unittest.TestCase):
    def shelf(self):
        """An upright with an arm 20 wide and 12 long that hangs 10 above the bed, lying on its side in the sketch."""
        outline = polygon((0, 0), (8, 0), (8, 10), (20, 10), (20, 15), (0, 15))
        return Meshed(plate(outline, height=20.0))

    def test_what_hangs_is_the_underside(self):
        """Laid with y up, 12 x 20 mm hang; laid flat, as it was drawn, nothing does."""
        told = lying(self.shelf(), (0, 1, 0), 45.0)
        self.assertAlmostEqual(told.hanging, 240.0, places=6)
        self.assertAlmostEqual(told.steepest, 90.0, places=6)
        self.assertAlmostEqual(told.foot, 160.0, places=6)
        self.assertEqual(told.faces, ("op1.side(c7)",) if len(told.faces) == 1 else told.faces)
        np.testing.assert_allclose(told.worst, (14, 10, 10), atol=1e-6)
        best = best_way(self.shelf(), 45.0)
        self.assertAlmostEqual(best.hanging, 0.0, places=6)

    @given(st.floats(20, 80))
    @settings(max_examples=10, deadline=None)
    def test_the_steepest_angle_decides(self, degrees):
        """A side that leans over by an angle hangs where that is more than what is allowed."""
        over = 20 * math.tan(math.radians(degrees))
        leaning = Meshed(plate(polygon((0, 0), (10, 0), (10 + over, 20), (0, 20)), height=5.0))
        hangs = lying(leaning, (0, 1, 0), degrees - 1.0)
        self.assertAlmostEqual(hangs.hanging, 5 * math.hypot(20, over), delta=1e-6)
        self.assertAlmostEqual(hangs.steepest, degrees, places=6)
        self.assertEqual(lying(leaning, (0, 1, 0), degrees + 1.0).hanging, 0.0)

    @given(st.floats(2, 18), st.floats(0.1, 3.0))
    @settings(max_examples=12, deadline=None)
    def test_what_is_held_at_both_ends_is_a_bridge_where_it_is_short(self, gap, turn):
        """A gate: its beam hangs between two legs, and is a bridge up to ten millimetres, however it is turned."""
        cos, sin = math.cos(turn), math.sin(turn)
        outline = [(0, 0), (5, 0), (5, 8), (5 + gap, 8), (5 + gap, 0), (10 + gap, 0), (10 + gap, 12), (0, 12)]
        gate = Meshed(plate(polygon(*((cos * x - sin * y, sin * x + cos * y) for x, y in outline)), height=30.0))
        told = lying(gate, (-sin, cos, 0), 45.0)
        spans = gap <= 10.0
        self.assertAlmostEqual(told.bridged, 30 * gap if spans else 0.0, places=4)
        self.assertAlmostEqual(told.hanging, 0.0 if spans else 30 * gap, places=4)
        self.assertAlmostEqual(told.span, gap if spans else 0.0, delta=0.01)

    def test_the_crown_of_a_level_hole_is_one_too(self):
        """What is steeper than 45° in a level hole is √½ of its diameter wide."""
        for diameter, spans in ((6.0, True), (13.0, True), (16.0, False)):
            block = Meshed(plate(polygon((0, 0), (40, 0), (40, 40), (0, 40)), hole(20, 20, diameter), height=20.0))
            told = lying(block, (0, 1, 0), 45.0)
            crown = 20 * diameter * math.pi / 4
            self.assertAlmostEqual(told.bridged if spans else told.hanging, crown, delta=0.06 * crown)
            self.assertEqual((told.hanging if spans else told.bridged), 0.0)

    def test_a_rod_fits_a_bed_across_its_corners(self):
        """A rod of 250 x 10 fits 200 x 200 at 45°: it takes (250 + 10) / sqrt(2) there."""
        rod = Meshed(plate(polygon((0, 0), (250, 0), (250, 10), (0, 10))))
        fit = bed_fit(rod, UP, (200, 200))
        self.assertAlmostEqual(fit.slack, 200 - 260 / math.sqrt(2), delta=0.01)
        self.assertAlmostEqual(fit.turn % 90, 45.0, delta=0.1)
        self.assertLess(bed_fit(rod, UP, (180, 180)).slack, 0)
        self.assertEqual(bed_fit(rod, UP, (260, 20)).turn, 0.0)


class Corners(unittest.TestCase):
    def test_sharp_and_tight_inside_corners_and_no_others(self):
        """An L has one inside corner; rounded by less than the cutter it is tight, by as much or more it is none."""
        for radius, wanted in ((0.0, [0.0]), (1.0, [1.0]), (1.5, []), (2.0, [])):
            places = [(0, 0), (40, 0), (40, 15), (15, 15), (15, 40), (0, 40)]
            body = plate(rounded_polygon(places, [0, 0, 0, radius, 0, 0]))
            found = inside_corners(Meshed(body), UP, 1.5)
            self.assertEqual([round(one.radius, 9) for one in found], wanted)
            for one in found:
                self.assertAlmostEqual(one.height, 8.0, places=6)
                np.testing.assert_allclose(one.place[:2], (15, 15), atol=0.5)
        pocket = plate(RECTANGLE, polygon((10, 10), (30, 10), (30, 30), (10, 30)))
        self.assertEqual(len(inside_corners(Meshed(pocket), UP, 1.5)), 4)

    def test_sides_without_draft(self):
        upright = steep_sides(Meshed(plate(RECTANGLE, hole(30, 20, 10))), UP, 1.0)
        self.assertAlmostEqual(upright.area, 8 * (200 + math.pi * 10), delta=0.4)  # of triangles
        self.assertAlmostEqual(upright.least, 0.0, places=6)
        sketch = drawn(RECTANGLE)
        name = find_regions(sketch)[0].name
        step = operation("op1", "extrude", regions=[name], length=8.0, mode="new")
        step.blanks["draft"] = number(math.radians(2.0))
        leaning = Meshed(graph.run(sheet_of(sketch, [step])).bodies["Plate"])
        self.assertIsNone(steep_sides(leaning, UP, 1.9))
        self.assertAlmostEqual(steep_sides(leaning, UP, 2.1).least, 2.0, places=6)


class Findings(unittest.TestCase):
    def test_every_way_says_what_is_bad_and_what_is_well(self):
        body = plate(RECTANGLE, hole(10, 20, 6), hole(16.62, 20, 6))
        for way in WAYS:
            found = inspected({"Plate": body}, making_of({"way": way.kind}))
            thin = next(one for one in found if one.title == "Thin wall")
            self.assertEqual((thin.number, thin.operations, thin.severity), ("0.62 mm", ("op1",), "mend"))
            self.assertIn("{0}", thin.sentence)
            self.assertTrue(any(one.title == "Closed, valid" and one.severity == "well" for one in found))
            self.assertEqual(
                [one.severity for one in found], sorted((o.severity for o in found), key=["mend", "know", "well"].index)
            )
            self.assertEqual(len({one.key for one in found}), len(found))

    def test_numbers_of_a_way_decide(self):
        body = plate(RECTANGLE, hole(10, 20, 6), hole(16.62, 20, 6))
        finer = making_of({"way": "printing", "numbers": {"printing": {"nozzle": 0.25, "bed_x": 50.0, "bed_y": 50.0}}})
        titles = [one.title for one in inspected({"Plate": body}, finer)]
        self.assertIn("Walls are thick enough", titles)
        self.assertIn("Too large for the bed", titles)

    def test_an_overhang_is_gone_after_its_remedy(self):
        outline = [
            Line(a, b)
            for a, b in zip(
                [(0, 0), (8, 0), (8, 10), (20, 10), (20, 15), (0, 15)],
                [(8, 0), (8, 10), (20, 10), (20, 15), (0, 15), (0, 0)],
            )
        ]
        bodies = {"Plate": plate(outline, height=20.0)}
        found = {one.title: one for one in inspected(bodies, making_of({"up": [0.0, 1.0, 0.0]}))}
        remedy = found["Overhang"].remedy
        self.assertEqual(remedy["command"], "inspect.lay")
        up = remedy["arguments"]["up"]
        low, high = kernel.tight_box(laid(bodies, up)["Plate"].shape)
        self.assertAlmostEqual(low[2], 0.0, places=9)
        self.assertAlmostEqual(high[2] - low[2], lying(Meshed(bodies["Plate"]), up, 45.0).height, places=6)
        after = inspected(bodies, making_of({"up": up}))
        self.assertIn("Nothing hangs", [one.title for one in after])


class Telling(unittest.TestCase):
    """What is accepted holds for the number that it was accepted at, and a report says all that is not well."""

    @classmethod
    def setUpClass(cls):
        sketch = drawn(RECTANGLE, hole(10, 20, 6), hole(16.62, 20, 6))
        step = operation("op1", "extrude", regions=[find_regions(sketch)[0].name], length=8.0, mode="new")
        cls.sheet = sheet_of(sketch, [attrs.evolve(step, title="Slab")])
        cls.found = inspected(graph.run(cls.sheet).bodies, making_of({}))
        cls.wall = next(one for one in cls.found if one.title == "Thin wall")

    def accepted(self, number):
        return making_of({"accepted": {self.wall.key: {"why": "is filled with resin", "number": number}}})

    def test_the_operation_is_called_as_in_the_build_sheet(self):
        first = told(self.found, making_of({}), self.sheet)[0]
        self.assertEqual((first.severity, first.title, first.why), ("mend", "Thin wall", ""))
        self.assertIn("between faces of step 1 Slab.", first.sentence)

    def test_accepted_at_its_number_and_open_again_at_another(self):
        rows = told(self.found, self.accepted("0.62 mm"), self.sheet)
        self.assertEqual([row.severity for row in rows if row.finding is self.wall], ["accepted"])
        self.assertFalse(any(row.severity == "mend" for row in rows))
        rows = told(self.found, self.accepted("0.70 mm"), self.sheet)
        self.assertEqual((rows[0].severity, rows[0].why), ("mend", ""))
        self.assertIn("It was accepted at 0.70 mm: is filled with resin.", rows[0].sentence)

    def test_titles_say_which_body_where_there_are_several(self):
        two = attrs.evolve(self.sheet, bodies=self.sheet.bodies | {"Pin": self.sheet.bodies["Plate"]})
        name = self.sheet.bodies["Plate"]["name"]
        self.assertEqual(told(self.found, making_of({}), two)[0].title, f"{name}: Thin wall")

    def test_a_report_tells_all_but_what_is_well(self):
        lines = report(self.found, making_of({}), self.sheet)
        self.assertTrue(lines[0].startswith("To be made by printing: nozzle 0.4 mm, layer 0.2 mm"))
        self.assertEqual(sum(line.startswith("To mend: Thin wall, 0.62 mm.") for line in lines), 1)
        self.assertTrue(any(line.startswith("To know: Holes will print small, Ø 6.00.") for line in lines))
        self.assertNotIn("Nothing was found", "".join(lines))
        lines = report(self.found, self.accepted("0.62 mm"), self.sheet)
        self.assertIn("Accepted: Thin wall, 0.62 mm: is filled with resin.", lines)
        self.assertIn("Nothing was found that is to be mended.", lines)
        # Accepted at another number, it is to be mended, and the report does not say that it is accepted.
        self.assertNotIn("Accepted:", "".join(report(self.found, self.accepted("0.70 mm"), self.sheet)))
        turned = report(self.found, making_of({"up": [0.0, 0.0, -1.0]}), self.sheet)
        self.assertIn("Files for printing lie as chosen for making, not as drawn.", turned)


if __name__ == "__main__":
    unittest.main()


class Reaching(unittest.TestCase):
    @given(st.floats(0.6, 6.0), st.floats(3.0, 9.0), st.floats(0.05, 1.5))
    @settings(max_examples=12, deadline=None)
    def test_the_land_beside_a_hole(self, land, diameter, turn):
        """A hole so far from the edge of a plate; the plate is turned, so that no ray is drawn square to the edge."""
        c, s = math.cos(turn), math.sin(turn)
        corners = [(0, 0), (60, 0), (60, 40), (0, 40)]
        turned = polygon(*((c * x - s * y, s * x + c * y) for x, y in corners))
        x, y = land + diameter / 2, 20.0
        body = plate(turned, hole(c * x - s * y, s * x + c * y, diameter))
        found = land_of(Meshed(body), bores_of(body.shape)[0])
        # Rays every 2.5 degrees are up to 1.25 degrees from the shortest way.
        off = math.radians(1.25)
        most = (land + diameter / 2) / math.cos(off) - diameter / 2 + 0.02
        self.assertTrue(land - 0.02 <= found.size <= most, (land, found.size, most))
        told = [one for one in inspected({"Plate": body}, making_of({})) if one.key.startswith("edge")]
        self.assertEqual([one.severity for one in told], ["know" if land < 0.7 * diameter - 0.02 else "well"])

    def test_an_undercut_is_what_is_seen_from_neither_side(self):
        """A slot 4 mm deep into the side of a plate: its floor and its ceiling, each 60 x 4 mm, and its back."""
        profile = polygon((0, 0), (40, 0), (40, 4), (36, 4), (36, 7), (40, 7), (40, 10), (0, 10))
        body = plate(profile, height=60)
        found = hidden_from(Meshed(body), [(0.0, 1.0, 0.0), (0.0, -1.0, 0.0)])
        self.assertAlmostEqual(found.area, 60 * (4 + 4 + 3), delta=0.02 * 660)
        self.assertEqual(len(found.faces), 3)
        self.assertIsNone(hidden_from(Meshed(body), [UP, (0.0, 0.0, -1.0)]))
        for way, data in (("milling", {"up": [0, 1, 0]}), ("casting", {"up": [0, 1, 0]})):
            told = {one.title for one in inspected({"Plate": body}, making_of({"way": way} | data))}
            self.assertIn("Undercut", told)
            upright = {one.title for one in inspected({"Plate": body}, making_of({"way": way}))}
            self.assertIn("No undercuts", upright)

    def test_a_relief_above_its_rim_is_told(self):
        sketch = drawn(hole(0, 0, 40), hole(0, 0, 34))
        rim, field = sorted(find_regions(sketch), key=lambda one: one.area)
        for height, title in ((3.0, "Nothing stands above the rim"), (1.0, "Relief above its rim")):
            blanks = {
                "regions": {"sketch": "s1", "names": [rim.name]},
                "height": number(height),
                "regions_second": {"sketch": "s1", "names": [field.name]},
                "height_second": number(2.0),
                "result": "new",
                "body": "Plate",
            }
            sheet = sheet_of(sketch, [OperationStep("op1", "relief", blanks)])
            (found,) = of_marks(sheet, graph.run(sheet), making_of({}))
            self.assertEqual(found.title, title)
            self.assertEqual(found.number, "3.00 mm" if height == 3.0 else "1.00 mm")


class Machines(unittest.TestCase):
    def test_all_numbers_of_a_way_come_at_once_and_nonsense_is_refused(self):
        document = new_document()
        sent = {"way": "milling", "title": "The old mill", "numbers": {"cutter": 4.0, "reach": 20.0}}
        told = carry_out(document, "inspect.machine", sent, Library())
        self.assertEqual(told.told, "To be made on The old mill")
        making = making_of(told.document["making"])
        self.assertEqual((making.way, making.numbers), ("milling", {"cutter": 4.0, "reach": 20.0, "wall": 0.8}))
        for numbers in ({"cutter": -1.0}, {"nozzle": 0.4}):
            with self.assertRaisesRegex(InputError, "makes no sense"):
                carry_out(document, "inspect.machine", sent | {"numbers": numbers}, Library())
