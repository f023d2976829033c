"""A part held against the picture again, with edges that are off by known amounts."""

import math
import unittest

import numpy as np
import trimesh

from core.tests.specimens import drawn, sheet_of
from core.tests.test_allowing import plate
from core.tests.test_operations import block
from examples.render import hole, rounded_polygon
from nomogon_core.geometry.curves import outline_points
from nomogon_core.inspect.against import against, finding, seen
from nomogon_core.solid import graph, meshes, planes
from nomogon_core.solid.bodies import of_mesh


class Seen(unittest.TestCase):
    def test_areas_from_three_sides(self):
        bodies = list(graph.run(plate()).bodies.values())
        outline = 60 * 40 - (4 - math.pi) * 16
        holes = math.pi * (2.5**2 + 12**2)
        for frame, wanted in ((planes.PLAN, outline - holes), (planes.FRONT, 60 * 6), (planes.SIDE, 40 * 6)):
            self.assertAlmostEqual(seen(bodies, frame).area.area / wanted, 1, delta=3e-4)

    def test_a_plane_through_the_part_shows_its_section(self):
        """A cone: the circle half way up, not its foot."""
        cone = trimesh.creation.cone(radius=10, height=20, sections=720)
        labels, names = meshes.named_flats(cone.vertices, np.asarray(cone.faces))
        body = of_mesh("Cone", "Cone", meshes.Mesh(cone.vertices, np.asarray(cone.faces), labels, names))
        for height, radius in ((0.0, 10.0), (10.0, 5.0), (15.0, 2.5)):
            frame = planes.offset(planes.PLAN, height)
            self.assertAlmostEqual(seen([body], frame).area.area / (math.pi * radius**2), 1, delta=1e-3)

    def test_several_bodies_cover_one_area(self):
        sketch = drawn(rounded_polygon([(0, 0), (20, 0), (20, 10), (0, 10)], [0] * 4))
        bodies = graph.run(sheet_of(sketch, [block(sketch, 6.0)])).bodies
        (body,) = bodies.values()
        other = of_mesh("Box", "Box", _box((10, 10, 2), (20, 5, 3)))
        self.assertAlmostEqual(seen([body, other], planes.PLAN).area.area, 20 * 10 + 5 * 10, places=4)


def _box(sizes, middle):
    box = trimesh.creation.box(sizes)
    box.apply_translation(middle)
    return meshes.Mesh(box.vertices, np.asarray(box.faces), *meshes.named_flats(box.vertices, np.asarray(box.faces)))


class Edges(unittest.TestCase):
    def test_what_is_off_is_told_with_its_side_its_place_and_its_size(self):
        part = seen(list(graph.run(plate()).bodies.values()), planes.PLAN)
        true = np.vstack([outline_points(hole(15, 20, 5), 0.001), outline_points(hole(45, 20, 24), 0.001)])
        told = against(part, true)
        self.assertLess(told.largest, 0.006, "the chords of the silhouette")
        wrong = true.copy()
        nearest = np.argmin(np.hypot(*(true - (57, 20)).T))
        wrong[nearest] += (0.3, 0)
        told = against(part, wrong)
        self.assertAlmostEqual(told.worst[0][2], -0.3, delta=0.006)
        np.testing.assert_allclose(told.worst[0][:2], (57.3, 20), atol=0.01)
        self.assertAlmostEqual(told.rms, 0.3 / math.sqrt(len(true)), delta=0.004)
        outside = against(part, np.array([[30, -0.2], [61, 20.0], [-0.1, 20]]))
        np.testing.assert_allclose(outside.off, [0.2, 1.0, 0.1], atol=1e-6)

    def test_it_is_well_within_what_the_picture_is_good_for(self):
        part = seen(list(graph.run(plate()).bodies.values()), planes.PLAN)
        for off, u95, severity in ((0.03, 0.04, "well"), (0.03, 0.008, "know"), (0.03, None, "know")):
            told = against(part, np.array([[30, -off], [30, 40 + off / 2]]))
            one = finding("t1", "plate.jpg", "Outline", told, planes.PLAN, u95, "Plate")
            self.assertEqual((one.severity, one.number), (severity, "0.030 mm"))
            self.assertIn("outside the part's outline", one.sentence)
            np.testing.assert_allclose(one.place, (30, -0.03, 0), atol=1e-9)
