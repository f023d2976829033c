"""Areas laid around faces, against what the developed areas have to give."""

import io
import math
import unittest

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import Point, Polygon

from core.tests.specimens import drawn, number, operation
from examples.parts import rounded_polygon
from examples.render import hole
from nomogon_core.exchange.writers.solids import stl
from nomogon_core.geometry.curves import Arc, Line, Spline, outline_points
from nomogon_core.sketch import edit
from nomogon_core.sketch.regions import find_regions, loop_curves
from nomogon_core.solid import graph, kernel
from nomogon_core.solid.developing import development_of
from nomogon_core.solid.planes import FRONT
from nomogon_core.solid.sheet import BuildSheet, OperationStep, SketchStep

RADIUS, TALL, DEPTH = 25.0, 60.0, 0.8
LOGO = drawn(
    rounded_polygon([(-8, 10), (8, 10), (8, 24), (-8, 24)], [3] * 4),
    hole(-1, 17, 6),
    rounded_polygon([(-7, 30), (0, 42), (7, 30)], [0] * 3),
)
AREA = sum(region.area for region in find_regions(LOGO))


def names_of(sketch):
    return [region.name for region in find_regions(sketch)]


def revolved(profile):
    return OperationStep(
        "op1",
        "revolve",
        {
            "regions": {"sketch": "s1", "names": names_of(profile)},
            "axis": "z",
            "extent": "full",
            "result": "new",
            "body": "Plate",
        },
    )


def rod():
    sketch = drawn(hole(0, 0, 2 * RADIUS))
    return sketch, "plan", operation("op1", "extrude", regions=names_of(sketch), length=TALL, mode="new")


def turned_part(*profile):
    sketch = drawn(profile)
    return sketch, "front", revolved(sketch)


def cone():
    return turned_part(Line((0, 0), (30, 0)), Line((30, 0), (18, 60)), Line((18, 60), (0, 60)), Line((0, 60), (0, 0)))


def built(part, face, logo=LOGO, plane="front", result="raised", depth=DEPTH, more=(), **blanks):
    """(the body without the logo, what came of the sheet) of areas laid around a face."""
    sketch, lies_on, first = part
    told = {
        "regions": {"sketch": "s2", "names": names_of(logo)},
        "face": {"body": "Plate", "names": [face] if isinstance(face, str) else face},
        "result": result,
        "depth": number(depth),
    } | blanks
    steps = [SketchStep("s1", "Profile", lies_on, sketch), SketchStep("s2", "Logo", plane, logo), first]
    bodies = {name: {"name": name, "colour": "#9fb0a6", "material": "PLA"} for name in ("Plate", "Bee")}
    plain = graph.run(BuildSheet(steps, bodies)).bodies["Plate"]
    return plain, graph.run(BuildSheet([*steps, OperationStep("op9", "wrap", told), *more], bodies))


def side(plain, kind):
    """The face of a body that is a surface of a kind, and its name."""
    for face in kernel.faces_of(plain.shape):
        if kernel.BRepAdaptor_Surface(face).GetType() == getattr(kernel.GeomAbs_SurfaceType, f"GeomAbs_{kind}"):
            return face, plain.names.get(face)
    raise AssertionError(f"no {kind}")


def farthest_hit(triangles, origin, way):
    """How far along a ray the last of some triangles (n, 3, 3) is (Möller and Trumbore 1997)."""
    first, second = triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0]
    normal = np.cross(way, second)
    size = (first * normal).sum(axis=1)
    size = np.where(np.abs(size) < 1e-12, np.nan, size)
    away = origin - triangles[:, 0]
    u = (away * normal).sum(axis=1) / size
    across = np.cross(away, first)
    v, far = (across @ way) / size, (second * across).sum(axis=1) / size
    return far[(u >= -1e-9) & (v >= -1e-9) & (u + v <= 1 + 1e-9)].max()


class OnACylinder(unittest.TestCase):
    def wrapped(self, **how):
        plain, told = built(rod(), "op1.side(c2)", **how)
        self.assertEqual([step.problem for step in told.steps if step.problem], [])
        return plain.facts.volume_mm3, told.bodies

    def test_the_seam_of_a_turned_body_makes_room(self):
        """Whichever way the areas are turned, the seam cuts none of them. A body that is not the same when it is turned
        keeps its seam. The volume is that of the developed areas."""
        wanted = AREA * ((RADIUS + DEPTH) ** 2 - RADIUS**2) / (2 * RADIUS)
        boss = drawn(hole(12, 0, 6))
        boss_step = OperationStep("op2", "extrude", {
            "regions": {"sketch": "s3", "names": names_of(boss)}, "extent": "by", "way": "up",
            "length": number(TALL + 4), "result": "add", "body": "Plate"})  # fmt: skip
        counts = []
        for turn in np.radians([0, 45, 90, 133, 180, 270]):
            plain, told = built(rod(), "op1.side(c2)", turn=number(turn))
            body = told.bodies["Plate"]
            self.assertAlmostEqual((body.facts.volume_mm3 - plain.facts.volume_mm3) / wanted, 1, places=7)
            counts.append(len(kernel.faces_of(body.shape)))
            self.assertEqual(len(kernel.faces_of(plain.shape)), 3)
        self.assertEqual(len(set(counts)), 1, counts)
        sketch, lies_on, first = rod()
        steps = [SketchStep("s1", "Profile", lies_on, sketch), SketchStep("s3", "Boss", "plan", boss),
                 SketchStep("s2", "Logo", "front", LOGO), first, boss_step]  # fmt: skip
        bodies = {"Plate": {"name": "Plate", "colour": "#9fb0a6", "material": "PLA"}}
        face = {"body": "Plate", "names": ["op1.side(c2)"]}
        for degrees in (0, 90):
            blanks = {"regions": {"sketch": "s2", "names": names_of(LOGO)}, "depth": number(DEPTH), "face": face,
                      "result": "raised", "turn": number(math.radians(degrees))}  # fmt: skip
            plain = graph.run(BuildSheet(steps, bodies)).bodies["Plate"]
            told = graph.run(BuildSheet([*steps, OperationStep("op9", "wrap", blanks)], bodies))
            self.assertEqual([step.problem for step in told.steps if step.problem], [])
            grown = told.bodies["Plate"].facts.volume_mm3 - plain.facts.volume_mm3
            self.assertAlmostEqual(grown / wanted, 1, places=6)

    def test_the_volume_is_that_of_the_developed_areas(self):
        """A developed area A raised by d over a radius R: A ((R + d)² - R²) / 2R, since the face bends without
        stretching (Gauss). Quarter turns bring the areas over the seam of the face too."""
        for quarter in range(4):
            for result, rise in (("raised", DEPTH), ("sunk", -DEPTH)):
                before, bodies = self.wrapped(result=result, turn=number(quarter * math.pi / 2))
                wanted = AREA * ((RADIUS + rise) ** 2 - RADIUS**2) / (2 * RADIUS)
                body = bodies["Plate"]
                self.assertAlmostEqual((body.facts.volume_mm3 - before) / wanted, 1.0, places=5)
                self.assertEqual((body.facts.valid, body.facts.solids), (True, 1))

    def test_it_lies_where_it_was_drawn_and_is_as_deep_everywhere(self):
        """Rays outward at 200 places: the raised areas stand at R + d, the rest at R."""
        _, bodies = self.wrapped(turn=number(math.pi / 2), along=number(4.0))
        mesh = trimesh.load(io.BytesIO(stl({"Plate": bodies["Plate"]}, 0.002)), file_type="stl")
        mesh.merge_vertices()
        self.assertTrue(mesh.is_watertight)
        places = np.random.default_rng(3).uniform((-10, 8), (10, 44), (200, 2))
        shapes = []
        for region in find_regions(LOGO):
            loops = [outline_points(loop_curves(LOGO, loop), 1e-3) for loop in region.loops()]
            shapes.append(Polygon(loops[0], loops[1:]))
        for x, y in places:
            edge = min(shape.boundary.distance(Point(x, y)) for shape in shapes)
            if edge < 0.05:
                continue
            raised = any(shape.contains(Point(x, y)) for shape in shapes)
            # Front looks along y: x = 0 lies at -90°, and is turned by 90° from there.
            way = np.array([math.cos(x / RADIUS), math.sin(x / RADIUS), 0.0])
            far = farthest_hit(mesh.triangles, np.array([0, 0, y + 4.0]), way)
            self.assertAlmostEqual(far, RADIUS + DEPTH * raised, delta=0.01)

    def test_let_in_as_a_body_with_clearance(self):
        before, bodies = self.wrapped(result="filled", body="Bee", clearance=number(0.1), rise=number(0.3))
        bee, plate = bodies["Bee"].facts, bodies["Plate"].facts
        sunk = AREA * (RADIUS**2 - (RADIUS - DEPTH) ** 2) / (2 * RADIUS)
        self.assertAlmostEqual((before - plate.volume_mm3) / sunk, 1.0, places=5)
        self.assertEqual(bee.solids, 2)
        overlap = kernel.boolean("overlap", bodies["Plate"].shape, [bodies["Bee"].shape]).Shape()
        self.assertTrue(kernel.is_empty(overlap))
        full = AREA * ((RADIUS + 0.3) ** 2 - (RADIUS - DEPTH) ** 2) / (2 * RADIUS)
        self.assertLess(bee.volume_mm3, full)
        self.assertGreater(bee.volume_mm3, 0.9 * full)

    def test_faces_have_names_and_later_steps_work_on_them(self):
        fillet = OperationStep(
            "op10",
            "fillet",
            {"edges": {"body": "Plate", "rule": {"at": "top", "operation": "op1"}}, "radius": number(1.0)},
        )
        _, told = built(rod(), "op1.side(c2)", more=[fillet])
        self.assertEqual([step.problem for step in told.steps if step.problem], [])
        body = told.bodies["Plate"]
        names = [body.names.get(face) for face in kernel.faces_of(body.shape)]
        self.assertNotIn(None, names)
        self.assertIn("op1.side(c2)", names)
        self.assertTrue(any(name.startswith("op9.top(") for name in names))
        _, again = built(rod(), "op1.side(c2)", more=[fillet])
        body = again.bodies["Plate"]
        self.assertEqual(names, [body.names.get(face) for face in kernel.faces_of(body.shape)])

    def test_neighbours_are_one(self):
        """Two areas with a line between them: the wall between is not made."""
        halves = drawn(rounded_polygon([(-8, 10), (8, 10), (8, 24), (-8, 24)], [0] * 4))
        divided, _ = edit.add_line(halves, (-8, 17), (8, 17))
        self.assertEqual(len(find_regions(divided)), 2)
        one, other = (built(rod(), "op1.side(c2)", logo=logo)[1].bodies["Plate"] for logo in (halves, divided))
        self.assertAlmostEqual(one.facts.volume_mm3, other.facts.volume_mm3, places=6)

    def test_within_a_bore(self):
        """In a bore areas raised reach inward: A (R² - (R - d)²) / 2R."""
        ring = drawn(hole(0, 0, 60), hole(0, 0, 44))
        name = next(region.name for region in find_regions(ring) if region.holes)
        part = ring, "plan", operation("op1", "extrude", regions=[name], length=TALL, mode="new")
        plain, told = built(part, "op1.side(c4)")
        grown = told.bodies["Plate"].facts.volume_mm3 - plain.facts.volume_mm3
        self.assertAlmostEqual(grown / (AREA * (22**2 - (22 - DEPTH) ** 2) / 44), 1.0, places=5)


class OnOtherFaces(unittest.TestCase):
    @given(st.floats(5, 40), st.floats(-25, 25), st.floats(-math.pi, math.pi), st.integers(0, 10**6))
    @settings(max_examples=25, deadline=None)
    def test_a_cone_is_developed_without_stretching(self, radius, lean, turn, seed):
        """Small steps on the sketch are as long on the cone, and square steps square (Gauss)."""
        run = 60 * math.tan(math.radians(lean))
        top = max(radius + run, 2.0)
        if abs(top - radius) < 0.5:
            return
        part = turned_part(
            Line((0, 0), (radius, 0)), Line((radius, 0), (top, 60)), Line((top, 60), (0, 60)), Line((0, 60), (0, 0))
        )
        sketch, plane, first = part
        plain = graph.run(
            BuildSheet([SketchStep("s1", "P", plane, sketch), first], {"Plate": {"name": "Plate", "colour": "#888888"}})
        ).bodies["Plate"]
        face, _ = side(plain, "Cone")
        places = np.random.default_rng(seed).uniform((-4, 25), (4, 35), (20, 2))
        laid = development_of(face, FRONT, places, turn)

        def at(place):
            return np.array(laid.surface.Value(*map(float, laid.parameters(np.array([place]))[0])).Coord())

        for place in places:
            ways = np.array([(at(place + step) - at(place - step)) / 2e-4 for step in 1e-4 * np.eye(2)])
            np.testing.assert_allclose(ways @ ways.T, np.eye(2), atol=1e-6)
        middle = at(np.array([0.0, 30.0]))
        self.assertAlmostEqual(
            math.atan2(middle[1], middle[0]), math.remainder(turn - math.pi / 2, math.tau), delta=1e-6
        )

    def test_a_cone_a_ball_and_a_free_shape(self):
        """On a ball an area A taken at the equator grows by ((R + d)³ - R³) / 3R² a unit of it (volume of shells); the
        mean of raising and sinking by d is A d on any face, to second order."""
        vase = turned_part(
            Spline([(20, 0), (34, 15), (20, 40), (28, 60)]),
            Line((28, 60), (0, 60)),
            Line((0, 60), (0, 0)),
            Line((0, 0), (20, 0)),
        )
        ball = turned_part(Arc((0, 27), 30, -math.pi / 2, math.pi), Line((0, 57), (0, -3)))
        for part, kind, spread in ((cone(), "Cone", 2e-4), (ball, "Sphere", 0.03), (vase, "SurfaceOfRevolution", 0.03)):
            sketch, plane, first = part
            plain = graph.run(
                BuildSheet(
                    [SketchStep("s1", "P", plane, sketch), first], {"Plate": {"name": "Plate", "colour": "#888888"}}
                )
            ).bodies["Plate"]
            _, name = side(plain, kind)
            grown = []
            for result in ("raised", "sunk"):
                _, told = built(part, name, result=result)
                self.assertEqual([step.problem for step in told.steps if step.problem], [])
                body = told.bodies["Plate"]
                mesh = trimesh.load(io.BytesIO(stl({"Plate": body}, 0.02)), file_type="stl")
                mesh.merge_vertices()
                self.assertTrue(mesh.is_watertight)
                grown.append(abs(body.facts.volume_mm3 - plain.facts.volume_mm3))
            self.assertAlmostEqual(sum(grown) / 2 / (AREA * DEPTH), 1.0, delta=spread)
            if kind == "Sphere":
                self.assertAlmostEqual(grown[0] / grown[1], (30.8**3 - 30**3) / (30**3 - 29.2**3), places=4)

    def test_what_is_left_of_the_face_has_its_area_less_that_of_the_areas(self):
        """A cone is laid out without stretching, so that area is exact in the plane: pi (R + r) s of the whole side."""
        letters = drawn(*(rounded_polygon([(x, 8), (x + 3, 8), (x + 3, 20 + x), (x, 19)], [0.7] * 4) for x in
                          (-9, -4, 1, 6)))  # fmt: skip
        area = sum(region.area for region in find_regions(letters))
        part = cone()
        plain, _ = built(part, "op1.side(c2)", logo=letters)
        face, name = side(plain, "Cone")
        whole = math.pi * (30 + 18) * math.hypot(12, 60)
        self.assertAlmostEqual(kernel.area_of_face(face), whole, places=6)
        _, told = built(part, name, logo=letters)
        body = told.bodies["Plate"]
        left = sum(kernel.area_of_face(one) for one in kernel.faces_of(body.shape) if body.names.get(one) == name)
        self.assertAlmostEqual(left / (whole - area), 1.0, delta=3e-6)

    def test_what_cannot_be_says_why(self):
        for face, how, words in (
            ("op1.top", {}, "is flat"),
            (["op1.side(c2)", "op1.top"], {}, "choose one"),
            ("op1.side(c2)", {"depth": 30.0, "result": "sunk"}, "deeper than the axis"),
            ("op1.side(c99)", {}, "not there any more"),
        ):
            _, told = built(rod(), face, **how)
            self.assertRegex(told.steps[-1].problem, words)
        ball = turned_part(Arc((0, 30), 30, -math.pi / 2, math.pi), Line((0, 60), (0, 0)))
        far = drawn(rounded_polygon([(60, 10), (70, 10), (70, 20)], [0] * 3))
        _, told = built(ball, "op1.side(c4)", logo=far)
        self.assertRegex(told.steps[-1].problem, "does not lie under the middle")


if __name__ == "__main__":
    unittest.main()
