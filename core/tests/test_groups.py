"""Groups of steps of the Build sheet: they stay runs of neighbours whatever is done; and bodies of changed steps."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import drawn
from examples.render import rounded_polygon
from nomogon_core.errors import CoreError, OperationError
from nomogon_core.job.commands import carry_out
from nomogon_core.job.compare import compare
from nomogon_core.job.document import keep_sketch, new_document
from nomogon_core.job.overview import checked
from nomogon_core.sketch.regions import find_regions

BOX = rounded_polygon([(0, 0), (40, 0), (40, 20), (0, 20)], [0] * 4)


def do(document, command, /, **arguments):
    return carry_out(document, command, arguments, None).document


def plated(count=5):
    """A job with so many plates raised over one sketch."""
    document, sketch = new_document(), drawn(BOX)
    keep_sketch(document, "s1", sketch)
    region = find_regions(sketch)[0].name
    for number in range(count):
        blanks = {"regions": {"sketch": "s1", "names": [region]}, "extent": "by", "length": "4 mm", "way": "up",
                  "result": "new", "body": f"Plate {number}"}  # fmt: skip
        document = do(document, "solid.add", kind="extrude", blanks=blanks)
    return document


class Made(unittest.TestCase):
    """An operation that makes a body, changed: the body stays, under another name where one comes."""

    def test_its_own_body_is_kept_and_called_otherwise(self):
        document = plated(2)
        _, first, second = document["steps"]
        body = document["operations"][first]["blanks"]["body"]
        for text in (body, "Plate 0", "Lid"):
            after = do(document, "solid.set", name=first, blanks={"length": "5 mm", "result": "new", "body": text})
            self.assertEqual(after["operations"][first]["blanks"]["body"], body)
            self.assertEqual(after["bodies"][body]["name"], "Lid" if text == "Lid" else "Plate 0")
        with self.assertRaisesRegex(OperationError, "There is a body Plate 1 already"):
            do(document, "solid.set", name=first, blanks={"result": "new", "body": "Plate 1"})
        added = do(document, "solid.set", name=second, blanks={"result": "add", "body": body})
        self.assertEqual(list(added["bodies"]), [body])
        again = do(added, "solid.set", name=second, blanks={"result": "new", "body": "Cover"})
        self.assertEqual([one["name"] for one in again["bodies"].values()], ["Plate 0", "Cover"])


class Groups(unittest.TestCase):
    def setUp(self):
        self.document = plated()
        _, *self.ops = self.document["steps"]

    def grouped(self, *steps):
        document = self.document
        for step in steps:
            document = do(document, "group.join", step=step)
        return document, next(iter(document["groups"]))

    def test_a_group_is_begun_joined_named_and_taken_apart(self):
        document, name = self.grouped(self.ops[1], self.ops[2])
        self.assertEqual(document["groups"][name], {"title": "Group 1", "steps": self.ops[1:3]})
        document = do(document, "group.title", name=name, text="Bores")
        self.assertIn("Group Bores is new.", compare(self.document, document).told)
        self.assertEqual(checked(document)["groups"][name]["title"], "Bores")
        self.assertEqual(do(document, "group.part", name=name)["groups"], {})

    def test_it_is_left_out_and_moves_as_one(self):
        document, name = self.grouped(self.ops[1], self.ops[2])
        out = do(document, "group.suppress", name=name, suppressed=True)
        told = [out["operations"][step]["suppressed"] for step in self.ops]
        self.assertEqual(told, [False, True, True, False, False])
        one, *others = self.ops
        moved = do(document, "group.move", name=name, by=-1)
        self.assertEqual(moved["steps"], ["s1", *others[:2], one, *others[2:]])
        with self.assertRaisesRegex(OperationError, "uses Sketch Outline, so it stays below it"):
            do(moved, "group.move", name=name, by=-1)

    def test_what_comes_between_two_is_in_and_what_goes_away_is_out(self):
        document, name = self.grouped(*self.ops[1:4])
        inside = do(document, "solid.move", name=self.ops[4], by=-1)
        self.assertEqual(inside["groups"][name]["steps"], [*self.ops[1:3], self.ops[4], self.ops[3]])
        outside = do(document, "solid.move", name=self.ops[1], by=-1)
        self.assertEqual(outside["groups"][name]["steps"], self.ops[2:4])
        with self.assertRaisesRegex(OperationError, "Only the first or the last"):
            do(document, "group.leave", step=self.ops[2])
        self.assertEqual(do(document, "group.leave", step=self.ops[3])["groups"][name]["steps"], self.ops[1:3])

    @settings(max_examples=40, deadline=None)
    @given(st.lists(st.tuples(st.sampled_from(
        ["solid.move", "group.join", "group.leave", "group.move", "solid.remove", "group.part"]
    ), st.integers(0, 5), st.integers(-3, 3)), max_size=14))  # fmt: skip
    def test_groups_are_always_runs_of_steps_that_are_there(self, acts):
        document = self.document
        for command, place, by in acts:
            steps, groups = document["steps"], list(document["groups"])
            step = steps[place % len(steps)]
            group = groups[place % len(groups)] if groups else "g0"
            arguments = {
                "solid.move": {"name": step, "by": by},
                "group.join": {"step": step},
                "group.leave": {"step": step},
                "group.move": {"name": group, "by": by},
                "solid.remove": {"name": step},
                "group.part": {"name": group},
            }[command]
            try:
                document = do(document, command, **arguments)
            except CoreError:
                continue
            seen = [one for item in document["groups"].values() for one in item["steps"]]
            self.assertEqual(len(seen), len(set(seen)), "no step is in two")
            for item in document["groups"].values():
                first = document["steps"].index(item["steps"][0])
                self.assertEqual(document["steps"][first : first + len(item["steps"])], item["steps"])
                self.assertTrue(item["steps"])
