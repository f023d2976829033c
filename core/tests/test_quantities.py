"""Quantities of a job: expressions across sketch and operations, names, circles, what is read off only later."""

import unittest

from core.tests.specimens import drawn
from examples.render import hole, rounded_polygon
from nomogon_core.errors import InputError, OperationError
from nomogon_core.job import ledger
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import build_of, keep_sketch, new_document, sketch_of
from nomogon_core.job.library import Library
from nomogon_core.job.overview import overview
from nomogon_core.job.quantities import environment, hangs_on, u95_of
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph


class JobCase(unittest.TestCase):
    """A plate of 60 × 40 with a bore whose diameter is named, extruded by a named thickness."""

    def setUp(self):
        self.library, self.document = Library(), new_document()
        sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4), hole(20, 20, 5))
        keep_sketch(self.document, "s1", sketch)
        self.circle = next(name for name, curve in sketch.curves.items() if curve.kind == "circle")
        self.lines = [name for name, curve in sketch.curves.items() if curve.kind == "line"]
        self.bore = self.dimension("diameter", [self.circle], "Bore", "6 mm")
        region = find_regions(self.sketch())[0].name
        blanks = {"regions": {"sketch": "s1", "names": [region]}, "extent": "by", "length": "5 mm", "way": "up"}
        self.do("solid.add", kind="extrude", title="Plate", blanks=blanks | {"result": "new", "body": "Plate"})
        (self.body,), (self.extrude,) = self.document["bodies"], self.document["operations"]

    def do(self, name, /, **arguments):
        outcome = carry_out(self.document, name, arguments, self.library)
        self.document = outcome.document
        return outcome

    def sketch(self, name="s1"):
        return sketch_of(self.document, name)

    def dimension(self, kind, of, name, text=""):
        self.do("sketch.dimension", kind=kind, of=of, text=text)
        key = max(
            (key for key, item in self.sketch().constraints.items() if item.is_dimension),
            key=lambda key: int(key[1:]),
        )
        self.do("sketch.rename", name=key, text=name)
        return key

    def length(self, operation=None, blank="length"):
        return self.document["operations"][operation or self.extrude]["blanks"][blank]["value"]

    def built(self):
        return graph.run(build_of(self.document, environment(self.document)))


class Expressions(JobCase):
    def test_one_number_drives_sketch_and_operation(self):
        self.do("ledger.add", name="rim", text="4 mm")
        self.do("sketch.set_value", name=self.bore, text="rim * 2")
        self.do("solid.set", name=self.extrude, blanks={"length": "Bore / 2 + 1/16 in"})
        self.assertAlmostEqual(self.length(), 4 + 25.4 / 16)
        rim = next(iter(self.document["quantities"]))
        self.do("ledger.set", name=rim, text="1/4 in")
        self.assertAlmostEqual(self.sketch().curves[self.circle].radius, 6.35)
        self.assertAlmostEqual(self.length(), 6.35 + 25.4 / 16)

    def test_a_name_is_carried_into_every_expression(self):
        self.do("ledger.add", name="rim", text="4 mm")
        self.do("solid.set", name=self.extrude, blanks={"length": "rim + Bore"})
        self.do("ledger.rename", row=f"quantity:{next(iter(self.document['quantities']))}", text="edge width")
        self.do("sketch.rename", name=self.bore, text="Seat")
        self.assertEqual(self.document["operations"][self.extrude]["blanks"]["length"]["typed"], "edge width + Seat")
        with self.assertRaisesRegex(InputError, "another quantity called Seat"):
            self.do("ledger.add", name="Seat", text="1 mm")
        for name, words in (("mm", "is no unit"), ("a+b", "holds none of"), ("9 lives", "begins with a letter")):
            with self.assertRaisesRegex(InputError, words):
                self.do("ledger.rename", row=f"dimension:{self.bore}", text=name)

    def test_a_circle_is_named(self):
        self.do("ledger.add", name="rim", text="4 mm")
        self.do("ledger.add", name="wide", text="rim * 2")
        rim = next(iter(self.document["quantities"]))
        with self.assertRaisesRegex(InputError, "in a circle: (rim → wide → rim|wide → rim → wide)"):
            self.do("ledger.set", name=rim, text="wide / 3")
        with self.assertRaisesRegex(InputError, "in a circle"):
            self.do("sketch.set_value", name=self.bore, text="Bore + 1 mm")

    def test_what_is_used_cannot_go(self):
        self.do("solid.set", name=self.extrude, blanks={"length": "Bore"})
        with self.assertRaisesRegex(InputError, "Plate length is set to 'Bore', which could not be worked out"):
            self.do("sketch.remove", names=[self.bore])

    def test_a_reference_dimension_can_be_used_only_after_its_sketch(self):
        self.dimension("distance", [self.lines[0]], "Width", "60 mm")
        reads = self.dimension("distance", self.lines[1:2], "Height")
        sketch = self.document["sketches"]["s1"]
        sketch["constraints"][reads]["driving"] = False
        self.do("solid.set", name=self.extrude, blanks={"length": "Height / 8"})
        self.assertAlmostEqual(self.length(), 5.0)
        with self.assertRaisesRegex(InputError, "read off only at that place|in a circle"):
            self.do("sketch.set_value", name=self.bore, text="Height / 4")

    def test_a_size_of_the_solid_is_known_only_downstream(self):
        with self.assertRaisesRegex(InputError, "known only once the solid is built"):
            self.do("sketch.set_value", name=self.bore, text="Plate height")
        edges = {"body": self.body, "rule": {"at": "top"}}
        self.do("solid.add", kind="fillet", blanks={"edges": edges, "radius": "Plate height / 10"})
        built = self.built()
        self.assertEqual([step.problem for step in built.steps], [""] * 3)
        self.assertAlmostEqual(built.steps[-1].numbers["radius"], 0.5)
        self.do("solid.set", name=self.extrude, blanks={"length": "8 mm"})
        self.assertAlmostEqual(self.built().steps[-1].numbers["radius"], 0.8)

    def test_what_was_measured_on_the_solid_is_read_off_anew_and_drives_what_comes_after(self):
        faces = [{"body": self.body, "kind": "face", "name": f"{self.extrude}.{role}"} for role in ("top", "bottom")]
        self.do("ledger.measure", picks=faces, word="shortest distance", name="thick")
        edges = {"body": self.body, "rule": {"at": "top"}}
        self.do("solid.add", kind="fillet", blanks={"edges": edges, "radius": "thick / 10"})
        fillet = list(self.document["operations"])[-1]
        self.assertAlmostEqual(self.built().steps[-1].numbers["radius"], 0.5)
        self.do("solid.set", name=self.extrude, blanks={"length": "8 mm"})
        built = self.built()
        self.assertAlmostEqual(built.steps[-1].numbers["radius"], 0.8)
        sheet = build_of(self.document, environment(self.document))
        self.assertEqual(graph.measures_of(built, sheet), {"thick": 8.0})
        key = next(iter(self.document["quantities"]))
        self.do("ledger.rename", row=f"quantity:{key}", text="plate thickness")
        self.assertEqual(self.document["operations"][fillet]["blanks"]["radius"]["typed"], "plate thickness / 10")
        for command, arguments, why in (
            ("ledger.remove", {"name": key}, "is used by"),
            ("ledger.set", {"name": key, "text": "3 mm"}, "is read off the solid"),
            ("sketch.set_value", {"name": self.bore, "text": "plate thickness"}, "only once the solid is built"),
            ("ledger.add", {"name": "plate thickness", "text": "3 mm"}, "another quantity called"),
        ):
            with self.assertRaisesRegex(InputError, why):
                self.do(command, **arguments)

    def test_a_measure_of_what_is_not_there_yet_says_so_and_a_lost_one_is_told(self):
        round_one = {"body": self.body, "kind": "face", "name": "op9.round(nothing)"}
        self.do("ledger.measure", picks=[round_one], word="radius")
        (name,) = (item["name"] for item in self.document["quantities"].values())
        self.assertEqual(name, "Measured radius")
        sheet = build_of(self.document, environment(self.document))
        self.assertEqual(graph.measures_of(graph.run(sheet), sheet), {name: None})
        view = overview(self.document, {"measures": {name: None}})
        rows = {row.name: row for group in ledger.ledger(view, "solid") for row in group.rows}
        self.assertIn("not there any more", rows[name].note)
        edges = {"body": self.body, "rule": {"at": "top"}}
        self.do("solid.add", kind="fillet", blanks={"edges": edges, "radius": "Measured radius"})
        self.assertIn("cannot be read off before this operation", self.built().steps[-1].problem)

    def test_uncertainty_and_source_of_a_derived_number(self):
        sketch = self.document["sketches"]["s1"]["constraints"][self.bore]
        sketch |= {"u95": 0.04, "source": "traced"}
        self.do("solid.set", name=self.extrude, blanks={"length": "Bore / 2"})
        known = environment(self.document)
        self.assertAlmostEqual(u95_of(known["Plate length"]), 0.02)
        rows = {row.id: row for group in ledger.ledger(overview(self.document), "solid") for row in group.rows}
        self.assertEqual(rows[f"operation:{self.extrude}:length"].source, "derived")
        self.assertIn(f"operation:{self.extrude}:length", rows[f"dimension:{self.bore}"].hangs)
        self.assertIn(f"operation:{self.extrude}:length", hangs_on(self.document)[f"dimension:{self.bore}"])

    def test_bare_numbers_beside_a_name_need_a_unit_on_an_inch_page(self):
        with self.assertRaisesRegex(InputError, "write its unit"):
            self.do("solid.set", name=self.extrude, blanks={"length": "Bore + 2"}, unit="in")
        self.do("solid.set", name=self.extrude, blanks={"length": "Bore + 2 in"}, unit="in")
        self.assertAlmostEqual(self.length(), 56.8)


class Bodies(JobCase):
    def test_name_colour_and_material(self):
        self.do("solid.set", name=self.extrude, blanks={"length": "5 mm"})
        edges = {"body": self.body, "rule": {"at": "top"}}
        self.do("solid.add", kind="fillet", blanks={"edges": edges, "radius": "Plate height / 10"})
        self.do("body.set", name=self.body, field="name", text="Lid")
        self.assertEqual(list(self.document["operations"].values())[-1]["blanks"]["radius"]["typed"], "Lid height / 10")
        self.do("body.set", name=self.body, field="colour", text="#D8B45A")
        self.do("body.set", name=self.body, field="material", text="brass")
        body = self.built().bodies[self.body]
        self.assertEqual((body.title, body.colour), ("Lid", "#d8b45a"))
        for field, text, words in (("colour", "red", "#rrggbb"), ("material", "butter", "brass"), ("age", "1", "name")):
            with self.assertRaisesRegex(OperationError, words):
                self.do("body.set", name=self.body, field=field, text=text)

    def test_a_body_goes_with_its_last_operation(self):
        self.do("solid.remove", name=self.extrude)
        self.assertEqual((self.document["bodies"], self.document["steps"]), ({}, ["s1"]))


if __name__ == "__main__":
    unittest.main()
