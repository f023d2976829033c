"""Planes and several sketches: where they lie, what follows when what they lie on moves, and what is refused."""

import math
import unittest

import numpy as np

from core.tests.test_quantities import JobCase
from nomogon_core.errors import InputError, OperationError, TraceError
from nomogon_core.job.places import check_same_plane, looks_up
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import kernel, naming, planes


class Frames(unittest.TestCase):
    def test_there_and_back(self):
        random = np.random.default_rng(3)
        for frame in (planes.PLAN, planes.FRONT, planes.SIDE, planes.frame_of((1, 2, 3), (1, -2, 0.5))):
            axes = np.array([frame.across, frame.up, frame.normal])
            np.testing.assert_allclose(axes @ axes.T, np.eye(3), atol=1e-12)
            self.assertAlmostEqual(np.linalg.det(axes), 1.0)
            u, v, h = random.normal(0, 9, 3)
            np.testing.assert_allclose(frame.of_space(frame.in_space((u, v), h)), (u, v, h), atol=1e-12)

    def test_views_are_those_of_the_drawing_standard(self):
        # ISO 128-30: Front looks along +y at x to the right and z up; Side here from the right, y to the right.
        self.assertEqual(
            (planes.FRONT.across, planes.FRONT.up, planes.FRONT.normal), ((1, 0, 0), (0, 0, 1), (0, -1, 0))
        )
        self.assertEqual((planes.SIDE.across, planes.SIDE.up, planes.SIDE.normal), ((0, 1, 0), (0, 0, 1), (1, 0, 0)))

    def test_planes_made_from_others(self):
        self.assertEqual(planes.offset(planes.FRONT, 5).origin, (0, -5, 0))
        turned = planes.turned(planes.PLAN, (0, 0, 0), (1, 0, 0), math.pi / 2)
        np.testing.assert_allclose(turned.normal, (0, -1, 0), atol=1e-12)
        between = planes.midway(planes.PLAN, planes.offset(planes.PLAN, 8))
        self.assertEqual(between.origin, (0, 0, 4))
        halved = planes.midway(planes.PLAN, planes.SIDE)
        np.testing.assert_allclose(halved.normal, np.array([1, 0, 1]) / math.sqrt(2), atol=1e-12)
        through = planes.through([(0, 0, 1), (4, 0, 1), (0, 3, 1)])
        np.testing.assert_allclose((*through.origin, *through.normal), (0, 0, 1, 0, 0, 1), atol=1e-12)
        for make, words in (
            (lambda: planes.midway(planes.PLAN, planes.PLAN), "one and the same"),
            (lambda: planes.through([(0, 0, 0), (1, 1, 1), (2, 2, 2)]), "on one line"),
        ):
            with self.assertRaisesRegex(OperationError, words):
                make()


class Sketches(JobCase):
    def boss(self, plane, height="3 mm", result="add", rim=(13.0, 30.0)):
        """A round boss of radius 3 around (10, 30) in a new sketch on a plane."""
        self.do("sketch.new", title="Boss", plane=plane)
        sketch = self.document["steps"][-1]
        self.do("sketch.circle", center=[10.0, 30.0], rim=list(rim), sketch=sketch)
        region = find_regions(self.sketch(sketch))[0].name
        blanks = {"regions": {"sketch": sketch, "names": [region]}, "extent": "by", "length": height, "way": "up"}
        self.do("solid.add", kind="extrude", title="Boss", blanks=blanks | {"result": result, "body": "Plate"})
        return sketch, self.document["steps"][-1]

    def top(self):
        return {"body": self.body, "face": f"{self.extrude}.top"}

    def volume(self):
        built = self.built()
        self.assertEqual([step.problem for step in built.steps if step.problem], [])
        return built.bodies[self.body].facts.volume_mm3

    def test_a_sketch_on_a_face_follows_it(self):
        base = 60 * 40 - math.pi * 9
        self.boss(self.top())
        self.assertAlmostEqual(self.volume(), 5 * base + 3 * math.pi * 9, places=6)
        self.do("solid.set", name=self.extrude, blanks={"length": "9 mm"})
        self.assertAlmostEqual(self.volume(), 9 * base + 3 * math.pi * 9, places=6)

    def test_down_both_ways_and_from_a_side_face(self):
        _, boss = self.boss(self.top(), "2 mm", "cut")
        self.do("solid.set", name=boss, blanks={"way": "down"})
        base = 5 * (60 * 40 - math.pi * 9)
        self.assertAlmostEqual(self.volume(), base - 2 * math.pi * 9, places=6)
        self.do("solid.set", name=boss, blanks={"way": "both", "length": "4 mm"})
        self.assertAlmostEqual(self.volume(), base - 2 * math.pi * 9, places=6)
        self.do("solid.remove", name=boss)
        side = {"body": self.body, "face": f"{self.extrude}.side({self.lines[0]})"}
        self.do("sketch.new", title="Side", plane=side)
        sketch = self.document["steps"][-1]
        frame = self.built().frames[sketch]
        middle = frame.of_space((30.0, 0.0, 2.5))[:2]
        self.do("sketch.circle", center=list(middle), rim=[middle[0] + 1, middle[1]], sketch=sketch)
        circle = next(iter(self.sketch(sketch).curves))
        blanks = {"centres": {"sketch": sketch, "names": [circle]}, "diameter": "2 mm", "extent": "by"}
        self.do("solid.add", kind="hole", blanks=blanks | {"depth": "4 mm", "body": "Plate"})
        self.assertAlmostEqual(self.volume(), base - 4 * math.pi, places=6)
        name = f"{self.document['steps'][-1]}.floor({circle})"
        body = self.built().bodies[self.body]
        self.assertIn(name, [body.names.get(face) for face in kernel.faces_of(body.shape)])

    def test_on_front_and_on_made_planes(self):
        self.do("plane.add", kind="offset", fields={"from": "front", "distance": "Bore"}, title="Before")
        plane = self.document["steps"][-1]
        self.do("sketch.new", title="Fin", plane=plane)
        sketch = self.document["steps"][-1]
        self.do("sketch.rectangle", first=[0, 0], second=[10, 20], sketch=sketch)
        region = find_regions(self.sketch(sketch))[0].name
        blanks = {"regions": {"sketch": sketch, "names": [region]}, "extent": "by", "length": "2 mm", "way": "up"}
        self.do("solid.add", kind="extrude", blanks=blanks | {"result": "new", "body": "Fin"})
        fin = list(self.built().bodies.values())[-1]
        np.testing.assert_allclose(fin.facts.box, ((0, -8, 0), (10, -6, 20)), atol=1e-6)
        self.do("sketch.set_value", name=self.bore, text="7 mm")
        fin = list(self.built().bodies.values())[-1]
        np.testing.assert_allclose(fin.facts.box, ((0, -9, 0), (10, -7, 20)), atol=1e-6)

    def test_planes_by_edges_and_corners_follow_the_solid(self):
        body = self.built().bodies[self.body]
        corners = naming.corner_names(body.shape, body.names)
        self.assertEqual(len(dict(corners)), 8)
        self.assertEqual(len({name for _, name in corners}), 8)
        named = {tuple(np.round(place, 6)): name for place, name in corners}
        ways = ((0, 0, 0), (60, 0, 0), (60, 40, 5))
        picked = [{"body": self.body, "corner": named[way]} for way in ways]
        self.do("plane.add", kind="points", fields={"points": picked}, title="Slope")
        slope = self.document["steps"][-1]
        edge = f"{self.extrude}.side({self.lines[0]}) | {self.extrude}.top"
        axis = {"body": self.body, "edge": edge}
        self.do("plane.add", kind="turned", fields={"from": "plan", "axis": axis, "angle": "30°"}, title="Roof")
        roof = self.document["steps"][-1]
        for thickness in (5, 9):
            self.do("solid.set", name=self.extrude, blanks={"length": f"{thickness} mm"})
            frames = self.built().frames
            for x, y, z in ((0, 0, 0), (60, 0, 0), (60, 40, thickness)):
                self.assertAlmostEqual(frames[slope].of_space((x, y, z))[2], 0, places=9)
            self.assertAlmostEqual(frames[roof].normal[2], math.cos(math.radians(30)))
            # A plane that turns about an edge stays as far from it as it was.
            self.assertAlmostEqual(abs(frames[roof].of_space((0, 0, thickness))[2]), thickness)
        with self.assertRaisesRegex(OperationError, "uses Operation 1"):
            self.do("solid.move", name=slope, by=-1)
        with self.assertRaisesRegex(OperationError, "not in the solid any more"):
            self.do("plane.add", kind="points", fields={"points": [{"body": "b99", "corner": "?"}] * 3})
        bore = {"body": self.body, "edge": f"{self.extrude}.side({self.circle}) | {self.extrude}.top"}
        self.do("plane.add", kind="turned", fields={"from": "plan", "axis": bore, "angle": "30°"}, title="Bent")
        bent = self.document["steps"][-1]
        self.do("solid.suppress", name=self.extrude, suppressed=True)
        told = {step.name: step.problem for step in self.built().steps}
        self.assertTrue(told[slope] and told[roof])
        self.do("solid.suppress", name=self.extrude, suppressed=False)
        self.assertIn("is not straight", {step.name: step.problem for step in self.built().steps}[bent])

    def test_edges_brought_in_follow_the_solid(self):
        """A boss whose centre is tied to the bore's edge and whose size to a side moves with both."""
        self.do("sketch.new", title="Boss", plane=self.top())
        sketch = self.document["steps"][-1]
        bore = f"{self.extrude}.side({self.circle}) | {self.extrude}.top"
        side = f"{self.extrude}.side({self.lines[0]}) | {self.extrude}.top"
        for edge in (bore, side):
            self.do("sketch.bring", sketch=sketch, body=self.body, edge=edge)
        drawing = self.sketch(sketch)
        round_one, line = list(drawing.curves)
        self.assertTrue(all(curve.construction for curve in drawing.curves.values()))
        self.assertAlmostEqual(drawing.curves[round_one].radius, 3.0)
        self.assertAlmostEqual(math.dist(drawing.geometry(line).start, drawing.geometry(line).end), 60.0)
        self.do("sketch.circle", center=[20.0, 30.0], rim=[24.0, 30.0], sketch=sketch)
        ring = next(name for name in self.sketch(sketch).curves if name not in (round_one, line))
        self.do("sketch.constrain", kind="concentric", of=[ring, round_one], sketch=sketch)
        region = next(one.name for one in find_regions(self.sketch(sketch)))
        blanks = {"regions": {"sketch": sketch, "names": [region]}, "extent": "by", "length": "2 mm", "way": "up"}
        self.do("solid.add", kind="extrude", blanks=blanks | {"result": "new", "body": "Ring"})
        place = np.array(self.sketch().points[self.sketch().curves[self.circle].points[0]])
        ring_body = list(self.built().bodies.values())[-1]
        np.testing.assert_allclose(ring_body.facts.center[:2], place, atol=1e-6)
        shift = [7.0, 4.0]
        center = self.sketch().curves[self.circle].points[0]
        self.do("sketch.drag", held=[center], offset=shift, place=(place + shift).tolist())
        ring_body = list(self.built().bodies.values())[-1]
        np.testing.assert_allclose(ring_body.facts.center[:2], place + shift, atol=1e-6)
        with self.assertRaisesRegex(InputError, "in the sketch already"):
            self.do("sketch.bring", sketch=sketch, body=self.body, edge=bore)
        upright = f"{self.extrude}.side({self.lines[0]}) | {self.extrude}.side({self.lines[1]})"
        with self.assertRaisesRegex(OperationError, "Only straight edges"):
            self.do("sketch.bring", sketch=sketch, body=self.body, edge=upright)
        own = f"{self.document['steps'][-1]}.top | {self.document['steps'][-1]}.side({ring})"
        with self.assertRaisesRegex(OperationError, "made later in the Build sheet"):
            self.do("sketch.bring", sketch=sketch, body=list(self.document["bodies"])[-1], edge=own)
        self.do("solid.suppress", name=self.extrude, suppressed=True)
        self.assertIn("Boss", {step.name: step.problem for step in self.built().steps}[sketch])

    def test_a_lost_face_is_reported_by_its_name(self):
        sketch, boss = self.boss({"body": self.body, "face": f"{self.extrude}.side({self.lines[0]})"}, result="add")
        self.do("solid.suppress", name=self.extrude, suppressed=True)
        told = {step.name: step.problem for step in self.built().steps}
        self.assertIn("The plane of Boss is lost", told[sketch])
        self.assertIn("The plane of Boss is lost", told[boss])

    def test_an_order_that_cannot_be_is_refused(self):
        sketch, boss = self.boss(self.top())
        for name, by, words in ((sketch, -2, "uses Operation 1"), ("s1", 2, "uses Sketch Outline"), (boss, -1, "Boss")):
            with self.assertRaisesRegex(OperationError, words):
                self.do("solid.move", name=name, by=by)
        for name, words in ((sketch, "is used by Operation 2"), ("s1", "is used by Operation 1")):
            with self.assertRaisesRegex(OperationError, words):
                self.do("solid.remove", name=name)
        for plane, words in (("l99", "not in the job"), ({"body": "b99", "face": "op1.top"}, "not in the solid")):
            with self.assertRaisesRegex(InputError, words):
                self.do("sketch.new", title="Lost", plane=plane)
        with self.assertRaisesRegex(InputError, "later in the Build sheet"):
            self.do("sketch.lay_on", sketch="s1", plane=self.top())

    def test_pictures_are_traced_where_they_lie(self):
        self.boss(self.top())
        boss = next(name for name in self.document["sketches"] if name != "s1")
        picture = {"name": "front.jpg", "plane": "front"}
        self.assertTrue(looks_up(self.document, self.top()))
        check_same_plane(self.document, {"name": "top.jpg", "plane": "plan"}, boss)
        with self.assertRaisesRegex(TraceError, "front.jpg lies on Front, and the sketch Boss on top of 1"):
            check_same_plane(self.document, picture, boss)
        self.do("sketch.new", title="Front view", plane="front")
        check_same_plane(self.document, picture, self.document["steps"][-1])


if __name__ == "__main__":
    unittest.main()
