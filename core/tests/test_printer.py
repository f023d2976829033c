"""The simulated printer against closed formulas and volume arithmetic."""

import json
import math
import unittest

import numpy as np
import trimesh

from core.tests.test_allowing import plate
from nomogon_core.devices.printer import Settings, preview, printed
from nomogon_core.errors import InputError, OperationError
from nomogon_core.exchange import release
from nomogon_core.inspect.making import making_of, printer_of
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import new_document
from nomogon_core.job.library import Library
from nomogon_core.solid import graph, meshes
from nomogon_core.solid.bodies import of_mesh

PLA = 1.24


def body_of(surface):
    triangles = np.asarray(surface.faces)
    labels, names = meshes.named_flats(surface.vertices, triangles)
    return of_mesh("Part", "Part", meshes.Mesh(np.asarray(surface.vertices), triangles, labels, names))


class Printing(unittest.TestCase):
    def test_layer_areas_are_those_of_the_sections(self):
        """Circles of a cone and of a sphere at the heights of the layers' middles."""
        cone = body_of(trimesh.creation.cone(radius=12, height=24, sections=1440))
        for one in printed([cone], Settings(), PLA).layers[:-3]:
            self.assertAlmostEqual(one.area / (math.pi * (12 - one.height / 2) ** 2), 1, delta=1e-3)
        sphere = body_of(trimesh.creation.icosphere(subdivisions=5, radius=10))
        for one in printed([sphere], Settings(layer=0.4), PLA).layers[3:-3]:
            self.assertAlmostEqual(one.area / (math.pi * (100 - (one.height - 10) ** 2)), 1, delta=2e-3)

    def test_grams_at_full_infill_are_those_of_the_volume(self):
        bodies = graph.run(plate()).bodies
        for held in (list(bodies.values()), [body_of(trimesh.creation.icosphere(subdivisions=5, radius=10))]):
            told = printed(held, Settings(infill=100), PLA)
            wanted = held[0].facts.volume_mm3 / 1000 * PLA
            self.assertAlmostEqual(told.grams / wanted, 1, delta=0.01)
            self.assertAlmostEqual(told.cost, told.grams * 0.022)
            self.assertAlmostEqual(told.metres * 1000 * math.pi * 0.875**2 / 1000 * PLA, told.grams)

    def test_walls_skins_and_infill_of_a_block(self):
        """20 x 10 x 4 with two walls of 0.4: the rest is 18.4 x 8.4, of which four layers of 0.2 below and on top are
        closed, and a fifth of the others."""
        block = body_of(trimesh.creation.box((20, 10, 4)))
        told = printed([block], Settings(), PLA)
        self.assertEqual(len(told.layers), 20)
        inner = 18.4 * 8.4
        for number, one in enumerate(told.layers):
            closed = number < 4 or number >= 16
            np.testing.assert_allclose(
                [one.walls, one.skin, one.sparse], [200 - inner, inner * closed, inner * (not closed)], atol=1e-6
            )
        volume = 0.2 * (20 * (200 - inner) + 8 * inner + 12 * 0.2 * inner)
        self.assertAlmostEqual(told.grams, volume / 1000 * PLA)
        walls = 20 * (2 * (19.6 + 9.6) + 2 * (18.8 + 8.8)) / 50
        self.assertGreater(told.seconds, walls + 8 * inner / 0.4 / 50)

    def test_thinner_layers_take_longer_and_less_infill_weighs_less(self):
        bodies = list(graph.run(plate()).bodies.values())
        usual, thin, hollow = (printed(bodies, Settings(**more), PLA) for more in ({}, {"layer": 0.1}, {"infill": 5}))
        self.assertGreater(thin.seconds, 1.5 * usual.seconds)
        self.assertLess(hollow.grams, usual.grams)

    def test_what_lies_over_nothing_is_told(self):
        """A roof of 10 mm over a post: the first layer of it hangs, but for what the post holds."""
        post = trimesh.creation.box((4, 4, 10))
        roof = trimesh.creation.box((20, 4, 2))
        roof.apply_translation((0, 0, 6))
        told = printed([body_of(post), body_of(roof)], Settings(), PLA)
        hanging = [number for number, one in enumerate(told.layers) if one.hanging]
        self.assertEqual(hanging, [50])
        shown = json.loads(preview(told))
        self.assertEqual((len(shown), shown[50][0], shown[49][2]), (len(told.layers), 10.1, ""))
        self.assertTrue(shown[50][2].startswith("M"))

    def test_how_steep_is_that_of_the_machine(self):
        """A cone on its tip leans by 56° from upright."""
        cone = trimesh.creation.cone(radius=12, height=8, sections=240)
        cone.apply_transform(np.diag([1.0, -1.0, -1.0, 1.0]))
        for hang, hangs in ((45.0, True), (60.0, False)):
            told = printed([body_of(cone)], Settings(hang=hang), PLA)
            self.assertEqual(any(one.hanging for one in told.layers[5:]), hangs, hang)

    def test_it_lies_as_it_is_made_with_what_is_allowed_for(self):
        making = making_of({"up": [1.0, 0.0, 0.0], "allowances": {"shrinkage": 1.0, "upright": 1.0}})
        told = printed(list(release.as_made(plate(), making).values()), Settings(), PLA)
        self.assertEqual(len(told.layers), round(60 * 1.01 / 0.2))

    def test_too_many_layers_are_refused(self):
        with self.assertRaisesRegex(OperationError, "type thicker ones"):
            printed([body_of(trimesh.creation.box((5, 5, 40)))], Settings(layer=0.01), PLA)


class Numbers(unittest.TestCase):
    def test_the_layer_is_that_of_printing(self):
        document = new_document()
        for name, text in (("layer", "0.12 mm"), ("walls", "3"), ("infill", "35 %"), ("price", "19.5")):
            document = carry_out(document, "release.printer", {"name": name, "text": text}, Library()).document
        told = printer_of(document["making"])
        self.assertEqual((told["layer"], told["walls"], told["infill"], told["price"]), (0.12, 3, 35.0, 19.5))
        self.assertEqual(making_of(document["making"]).numbers["layer"], 0.12)
        document = carry_out(document, "inspect.set", {"name": "hang", "text": "60"}, Library()).document
        self.assertEqual(printer_of(document["making"])["hang"], 60.0)
        for name, text in (("walls", "2.5"), ("infill", "120"), ("layer", "0"), ("speed", "fast")):
            with self.assertRaises(InputError, msg=name):
                carry_out(document, "release.printer", {"name": name, "text": text}, Library())


class OverNothing(unittest.TestCase):
    def layers(self, *holes, wide=60.0):
        """A block with something taken out of it: (numbers of layers that hang, those that bridge)."""
        block = trimesh.creation.box((wide, 30, 20))
        told = printed(
            [body_of(trimesh.boolean.difference([block, *holes], engine="manifold"))], Settings(), PLA
        ).layers
        return [[n for n, one in enumerate(told, 1) if getattr(one, kind)] for kind in ("hanging", "bridges")]

    def test_what_is_held_at_both_ends_is_a_bridge_where_it_is_short(self):
        for width, hangs in ((8.0, False), (14.0, True)):
            tunnel = trimesh.creation.box((width, 40, 6))
            hanging, bridges = self.layers(tunnel)
            self.assertEqual((hanging, bridges), ([66], []) if hangs else ([], [66]))
        closed_in = trimesh.creation.box((8.0, 12, 6))
        self.assertEqual(self.layers(closed_in), [[], [66]])
        blind = trimesh.creation.box((6.0, 30, 6))
        blind.apply_translation((0, 10, 0))
        self.assertEqual(self.layers(blind), [[], [66]])

    def test_what_is_held_at_one_end_hangs(self):
        corner = trimesh.creation.box((20, 40, 10))
        corner.apply_translation((28, 0, -5))
        self.assertEqual(self.layers(corner), [[51], []])
