"""References into random parts after edits upstream, names from a warm cache and a cold one, rules."""

import unittest
from contextlib import suppress

import numpy as np

from benchmarks.random_jobs import RandomPart
from core.tests.specimens import drawn, operation, plate_operations, run
from examples.render import hole, rounded_polygon
from nomogon_core.errors import CoreError, OperationError
from nomogon_core.solid import graph, kernel, naming, phrases, selection

PARTS, EDITS = 14, 3


class References(unittest.TestCase):
    def test_each_is_found_rightly_or_reported_lost(self):
        """A part drawn anew, a side split, a cut across an edge, another height, a hole: never another edge or face."""
        found = 0
        for seed in range(PARTS):
            part = RandomPart(np.random.default_rng([77, seed]))
            for _ in range(EDITS):
                with suppress(CoreError):
                    part.edit()
                self.assertEqual(part.wrong_references(), "", seed)
                found += not any(step.problem for step in part.built().steps)
        self.assertGreater(found, PARTS)

    def test_names_do_not_depend_on_what_the_cache_holds(self):
        cache = graph.Cache()
        for seed in range(4):
            part = RandomPart(np.random.default_rng([78, seed]))
            for _ in range(EDITS):
                with suppress(CoreError):
                    part.edit()
                self.assertEqual(part.names(cache), part.names(graph.Cache()))


class Rules(unittest.TestCase):
    def setUp(self):
        sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [6, 0, 0, 0]), hole(30, 20, 5))
        circle = next(name for name, curve in sketch.curves.items() if curve.kind == "circle")
        self.operations = [
            *plate_operations(sketch, 5.0),
            operation("op3", "hole", centers=[circle], diameter=9.0, depth=2.0),
        ]
        self.sketch = sketch
        self.body = run(sketch, self.operations)[0]["Plate"]

    def chosen(self, **rule):
        edges = selection.edges_by_rule(self.body, rule)
        names = {name: edge for edge, name in naming.edge_names(self.body.shape, self.body.names)}
        return sorted(name for name, edge in names.items() if any(edge.IsSame(one) for one in edges))

    def test_counts_by_rule(self):
        # A plate with one round corner (5 sides) and a counterbored bore: 5 + 1 upper edges, 5 + 1 lower ones.
        self.assertEqual(len(self.chosen(at="top")), 6)
        self.assertEqual(len(self.chosen(at="top", but=["op3"])), 5)
        self.assertEqual(len(self.chosen(at="top", operation="op3")), 1)
        self.assertEqual(len(self.chosen(at="bottom")), 6)
        self.assertEqual(len(self.chosen(at="upright", between=["flat", "flat"])), 3)
        self.assertEqual(len(self.chosen(at="round")), 2 + 4)
        chain = self.chosen(at="all", chain=self.chosen(at="top", but=["op3"])[0])
        self.assertIn(len(chain), (1, 3))

    def test_faces_by_rule(self):
        count = {
            at: len(selection.faces_by_rule(self.body, {"at": at})) for at in ("top", "bottom", "upright", "round")
        }
        self.assertEqual(count, {"top": 2, "bottom": 1, "upright": 4, "round": 3})
        self.assertEqual(len(selection.faces_by_rule(self.body, {"at": "all", "operation": "op3"})), 2)

    def test_in_words(self):
        numbers = {"op1": 1, "op3": 2}
        for rule, words in (
            ({"at": "top"}, "all top edges of Plate"),
            ({"at": "top", "but": ["op3"]}, "all top edges of Plate but those of 2"),
            ({"at": "round", "operation": "op3"}, "all round edges of 2"),
            ({"at": "all", "between": ["flat", "round"]}, "all edges between flat and round faces of Plate"),
        ):
            self.assertEqual(phrases.words_of_rule(rule, "Plate", numbers), words)

    def test_a_rule_is_evaluated_anew(self):
        rounded = operation("op4", "fillet", edges={"at": "top", "but": ["op3"]}, radius=0.5)
        bodies, steps = run(self.sketch, [*self.operations, rounded])
        self.assertEqual(steps[-1].problem, "")
        thicker = [plate_operations(self.sketch, 9.0)[0], self.operations[1], rounded]
        self.assertEqual(run(self.sketch, thicker)[1][-1].problem, "")
        gone = operation("op4", "fillet", edges={"at": "all", "chain": "op9.top | op9.side(c1)"}, radius=0.5)
        self.assertIn("not there any more", run(self.sketch, [*self.operations, gone])[1][-1].problem)
        with self.assertRaisesRegex(OperationError, "no such edge"):
            selection.chosen_edges(self.body, rule={"at": "top", "operation": "op99"})
        self.assertEqual(len(kernel.faces_of(bodies["Plate"].shape)) > 10, True)


if __name__ == "__main__":
    unittest.main()
