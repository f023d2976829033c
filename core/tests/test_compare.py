"""What differs between two states of a job."""

import copy
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from benchmarks.random_jobs import RandomPart
from nomogon_core.errors import CoreError
from nomogon_core.job.commands import carry_out
from nomogon_core.job.compare import Changed, Compared, compare
from nomogon_core.job.history import changed, changes_of, go_together, taken_back
from nomogon_core.job.library import Library


def part(seed=5):
    return RandomPart(np.random.default_rng(seed))


class Differences(unittest.TestCase):
    def changed(self, name, /, **arguments):
        made = part()
        before = copy.deepcopy(made.document)
        made.do(name, **arguments)
        return compare(before, made.document)

    @settings(max_examples=8, deadline=None)
    @given(st.integers(0, 2**20))
    def test_a_job_is_as_itself_and_what_is_new_one_way_is_gone_the_other(self, seed):
        made = part(seed)
        before = copy.deepcopy(made.document)
        self.assertEqual(compare(before, copy.deepcopy(before)), Compared((), (), ()))
        for _ in range(3):
            try:
                made.edit()
            except CoreError:
                continue
        forth, back = compare(before, made.document), compare(made.document, before)
        swapped = {(one.before, one.after) for one in back.numbers}
        self.assertEqual({(one.after, one.before) for one in forth.numbers}, swapped)
        self.assertEqual([(one.gone, one.new) for one in forth.drawn], [(one.new, one.gone) for one in back.drawn])
        self.assertEqual(len(forth.told), len(back.told))

    def test_a_number_before_and_after(self):
        operation = next(iter(part().document["operations"]))
        told = self.changed("solid.set", name=operation, blanks={"length": "9 mm"})
        self.assertEqual(told.told, ("Extrude 1 says something else.",))
        (one,), drawn = told.numbers, told.drawn
        self.assertEqual((one.name, one.after, drawn), ("extrude length", "9.00", ()))
        self.assertEqual(self.changed("ledger.add", name="wall", text="1/4 in").numbers, (Changed("wall", "", "6.35"),))

    def test_bodies_as_built_at_both(self):
        box = {"box": [[0, 0, 0], [10, 20, 3]], "volume_mm3": 600.0}
        document = part().document
        (key, held), *_ = document["bodies"].items()
        (one,) = compare(document, document, "mm", (None, {"bodies": {key: box}})).bodies
        self.assertEqual((one.name, one.was, one.now[0]), (held["name"], None, "10.00 × 20.00 × 3.00 mm"))
        self.assertEqual(one.now[1], "600 mm³")
        (inches,) = compare(document, document, "in", ({"bodies": {key: box}}, None)).bodies
        self.assertIn("0.3937", inches.was[0])

    def test_what_goes_together(self):
        """Two commands that touch different things make the same changes in either order, but for ids; two that touch
        one thing do not."""
        quantity = ("ledger.add", {"name": "wall", "text": "2 mm"})
        circle = ("sketch.circle", {"center": [300, 0], "rim": [303, 0]})
        title = ("sketch.title", {"text": "Brass"})
        for first, second, together in (
            (quantity, circle, True),
            (circle, quantity, True),
            (circle, title, True),
            (title, ("sketch.title", {"text": "Steel"}), False),
            (quantity, ("ledger.add", {"name": "wall", "text": "3 mm"}), False),
        ):
            then, library = part().document, Library()
            now = carry_out(then, *first, library).document
            would = changes_of(then, carry_out(then, *second, library).document)
            try:
                does = changes_of(now, carry_out(now, *second, library).document)
            except CoreError:
                does = {}
            self.assertEqual(go_together(then, would, now, does), together, (first, second))
            self.assertEqual(changed(changed(now, does), taken_back(does)), now)

    def test_curves_and_bodies(self):
        told = self.changed("sketch.circle", center=[200, 0], rim=[203, 0])
        self.assertEqual(told.told, ("Outline: curves 1 added.",))
        (one,) = told.drawn
        self.assertEqual((len(one.new), one.gone), (1, ()))
        self.assertGreaterEqual(one.box[2], 200)
        body, held = next(iter(part().document["bodies"].items()))
        told = self.changed("body.set", name=body, field="colour", text="#7f9fc4")
        self.assertEqual(told.told, (f"Body {held['name']}: colour changed.",))
