"""Meshes that somebody else made: read, checked and mended, and changed by exact bodies, against trimesh."""

import io
import math
import unittest

import attrs
import lib3mf
import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from core.tests.specimens import drawn, number, sheet_of
from examples.render import hole, rounded_polygon
from nomogon_core.errors import InputError, OperationError
from nomogon_core.exchange import release
from nomogon_core.exchange.readers.meshes import read_mesh
from nomogon_core.job.library import Library
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import display, graph, keeping, meshes
from nomogon_core.solid.crossings import crossings
from nomogon_core.solid.sheet import OperationStep, SketchStep


def disc(radius=20.0, height=6.0, sections=240):
    return trimesh.creation.cylinder(radius=radius, height=height, sections=sections)


def read(surface, kind="stl", name=""):
    return read_mesh(surface.export(file_type=kind), name or f"disc.{kind}")


class Reading(unittest.TestCase):
    def test_every_kind_holds_the_same_solid(self):
        surface = disc()
        for kind in ("stl", "obj", "ply"):
            data = surface.export(file_type=kind)
            told = read_mesh(data if isinstance(data, bytes) else data.encode(), f"disc.{kind}")
            facts = meshes.facts_of(told.mesh)
            self.assertAlmostEqual(facts.volume_mm3 / surface.volume, 1, delta=1e-6)
            self.assertAlmostEqual(facts.area_mm2 / surface.area, 1, delta=1e-6)
            self.assertTrue(facts.valid and facts.solids == 1 and not told.says_unit)
            self.assertEqual(told.mesh.names, ("round", "flat(1)", "flat(2)"))

    def test_a_3mf_says_its_unit_and_where_its_objects_lie(self):
        wrapper = lib3mf.get_wrapper()
        model = wrapper.CreateModel()
        model.SetUnit(lib3mf.ModelUnit.Inch)
        box = trimesh.creation.box((1, 2, 0.5))
        item = model.AddMeshObject()
        item.SetGeometry(
            (lib3mf.Position * 8).from_buffer_copy(box.vertices.astype(np.float32).tobytes()),
            (lib3mf.Triangle * 12).from_buffer_copy(box.faces.astype(np.uint32).tobytes()),
        )
        both = model.AddComponentsObject()
        for x in (0.0, 3.0):
            transform = wrapper.GetTranslationTransform(x, 0.0, 1.0)
            both.AddComponent(item, transform)
        model.AddBuildItem(both, wrapper.GetTranslationTransform(0.0, 10.0, 0.0))
        told = read_mesh(bytes(model.QueryWriter("3mf").WriteToBuffer()), "two.3mf")
        facts = meshes.facts_of(told.mesh)
        self.assertTrue(told.says_unit)
        self.assertEqual(facts.solids, 2)
        self.assertAlmostEqual(facts.volume_mm3, 2 * 25.4**3, places=2)
        np.testing.assert_allclose(np.array(facts.box) / 25.4, [(-0.5, 9, 0.75), (3.5, 11, 1.25)], atol=1e-6)

    def test_a_mirrored_object_of_a_3mf_is_not_inside_out(self):
        wrapper = lib3mf.get_wrapper()
        model, box = wrapper.CreateModel(), trimesh.creation.box((1, 2, 3))
        item = model.AddMeshObject()
        item.SetGeometry(
            (lib3mf.Position * 8).from_buffer_copy(box.vertices.astype(np.float32).tobytes()),
            (lib3mf.Triangle * 12).from_buffer_copy(box.faces.astype(np.uint32).tobytes()),
        )
        model.AddBuildItem(item, wrapper.GetIdentityTransform())
        mirrored = wrapper.GetTranslationTransform(5.0, 0.0, 0.0)
        mirrored.Fields[0][0] = -1.0
        model.AddBuildItem(item, mirrored)
        facts = meshes.facts_of(read_mesh(bytes(model.QueryWriter("3mf").WriteToBuffer()), "two.3mf").mesh)
        self.assertEqual((facts.solids, round(facts.volume_mm3, 6)), (2, 12.0))

    def test_what_is_safe_is_mended_and_said(self):
        whole = disc()
        faces = whole.faces
        cases = {
            "1 lost triangle put back": faces[1:],
            "1 doubled triangle left out": np.vstack([faces, faces[5:6]]),
            "3 triangles turned round": np.vstack([faces[:3, ::-1], faces[3:]]),
            "turned inside out": faces[:, ::-1],
        }
        for words, changed in cases.items():
            surface = trimesh.Trimesh(whole.vertices, changed, process=False)
            told = read(surface).mesh
            self.assertIn(words, told.note)
            self.assertAlmostEqual(meshes.facts_of(told).volume_mm3 / whole.volume, 1, delta=1e-6, msg=words)

    def test_what_is_not_is_refused_with_the_place(self):
        whole = disc()
        kept = ~(np.abs(whole.triangles_center - (20, 0, 0)) < (12, 12, 9)).all(axis=1)
        torn = trimesh.Trimesh(whole.vertices, whole.faces[kept], process=False)
        two = trimesh.util.concatenate([trimesh.creation.box((1, 1, 1)), trimesh.creation.box((1, 1, 1))])
        two.vertices[8:] += (1, 1, 0)
        bad = (
            (torn.export(file_type="stl"), "disc.stl", "disc.stl is open: .* the first at"),
            (two.export(file_type="stl"), "two.stl", "more than two triangles meet"),
            (b"solid nothing", "empty.stl", "damaged|no triangles"),
            (b"\x00" * 50, "zero.3mf", "damaged"),
            (b"v 0 0 0\nv nan 1 1\nv 2 0 0\nf 1 2 3\n", "nan.obj", "no numbers|damaged"),
            (b"v 1 1 1\nf 1 1 1\n", "point.obj", "one place|no triangles|lines or points"),
            (b"anything", "part.step", "no mesh that is read here"),
        )
        for data, name, words in bad:
            with self.assertRaisesRegex(InputError, words, msg=name):
                read_mesh(data, name)

    def test_shells_that_run_into_each_other_are_joined(self):
        """V(A ∪ B) = V(A) + V(B) − V(A ∩ B), of boxes turned against each other by whole numbers."""
        one, other = trimesh.creation.box((20, 10, 6)), trimesh.creation.box((6, 24, 4))
        other.apply_translation((3, 2, 1))
        told = read(trimesh.util.concatenate([one, other]))
        facts = meshes.facts_of(told.mesh)
        self.assertIn("2 shells that ran into each other joined", told.mesh.note)
        self.assertAlmostEqual(facts.volume_mm3, 1200 + 576 - 6 * 10 * 4, places=6)
        self.assertTrue(facts.valid and facts.solids == 1)
        apart = other.copy()
        apart.apply_translation((40, 0, 0))
        self.assertEqual(read(trimesh.util.concatenate([one, apart])).mesh.note, "")
        beside = trimesh.creation.box((20, 7, 6))
        beside.apply_translation((1.5, 8.5, 0.5))  # it touches, with a whole face, and nothing goes through anything
        self.assertEqual(read(trimesh.util.concatenate([one, beside])).mesh.note, "")

    def test_a_surface_that_runs_through_itself_is_told_with_the_place(self):
        surface = trimesh.creation.icosphere(subdivisions=4, radius=10)
        self.assertEqual(read(surface).mesh.note, "")
        top = surface.vertices[:, 2] > 9.3
        surface.vertices[top] += (0.37, -0.21, -22.0)
        told = read(surface).mesh.note
        self.assertRegex(told, r"runs through itself at \d+ edges, the first at \(-?\d+\.\d\d, ")
        place = np.array([float(one) for one in told.split("(")[1].split(")")[0].split(",")])
        self.assertLess(abs(np.linalg.norm(place) - 10), 0.2, "near the sphere's foot")
        self.assertLess(place[2], -9)

    @settings(max_examples=15, deadline=None)
    @given(st.integers(0, 2**31))
    def test_boxes_anyhow_cross_where_manifold3d_finds_something_common(self, seed):
        random = np.random.default_rng(seed)
        boxes = []
        for _ in range(2):
            box = trimesh.creation.box(random.uniform(4, 12, 3))
            box.apply_transform(trimesh.transformations.random_rotation_matrix(random.uniform(0, 1, 3)))
            box.apply_translation(random.uniform(-6, 6, 3))
            boxes.append(meshes.Mesh(np.array(box.vertices), np.array(box.faces), np.zeros(12, int), ("",)))
        vertices = np.vstack([one.vertices for one in boxes])
        pairs, places = crossings(vertices, np.vstack([boxes[0].triangles, boxes[1].triangles + 8]))
        common = meshes.as_manifold(boxes[0]) ^ meshes.as_manifold(boxes[1])
        volumes = [meshes.facts_of(one).volume_mm3 for one in boxes]
        apart = common.volume() < 1e-9 or abs(common.volume() - min(volumes)) < 1e-9
        self.assertEqual(len(pairs) == 0, apart)
        for place in places:
            self.assertTrue(
                (place >= vertices.min(axis=0) - 1e-9).all() and (place <= vertices.max(axis=0) + 1e-9).all()
            )

    def test_packed_and_unpacked(self):
        mesh = read(disc()).mesh
        data = meshes.packed(mesh)
        self.assertEqual(data, meshes.packed(meshes.unpacked(data)))
        with self.assertRaisesRegex(OperationError, "Bring its file in again"):
            meshes.unpacked(data[:-300])


class Building(unittest.TestCase):
    def setUp(self):
        self.library = Library()

    def bring(self, surface, unit="mm", lying="stands", name="op1", body="Disc", result="new"):
        kept = self.library.keep(meshes.packed(read(surface).mesh))
        blanks = {
            "mesh": {"file": kept, "name": "disc.stl"},
            "unit": unit,
            "lying": lying,
            "result": result,
            "body": body,
        }
        return OperationStep(name, "bring", blanks)

    def run_sheet(self, sketch, steps, *more):
        return graph.run(attrs.evolve(sheet_of(sketch, steps, *more), files=self.library))

    def test_it_stands_on_plan_in_its_unit(self):
        built = self.run_sheet(drawn(), [self.bring(disc(), "in")])
        facts = built.bodies["Disc"].facts
        np.testing.assert_allclose(facts.box, [(-508, -508, 0), (508, 508, 152.4)], rtol=1e-6, atol=1e-3)
        self.assertEqual(len(built.bodies["Disc"].flat_faces()), 2)

    def test_a_logo_on_its_flat_face_obeys_the_volume_law(self):
        """A rectangle with a hole raised and another sunk: volumes of prisms."""
        top = {"body": "Disc", "face": "op1.flat(1)"}
        mark = drawn(rounded_polygon([(-6, -4), (6, -4), (6, 4), (-6, 4)], [0] * 4), hole(0, 0, 5))
        first = self.bring(disc())
        upper = graph.run(attrs.evolve(sheet_of(drawn(), [first]), files=self.library)).bodies["Disc"].flat_faces()
        top["face"] = max(upper, key=lambda name: upper[name].origin[2])
        regions = {"sketch": "s2", "names": [find_regions(mark)[0].name]}
        lies = SketchStep("s2", "Mark", top, mark)
        plate = 12 * 8 - math.pi * 2.5**2
        before = disc().volume
        for result, way, change in (("add", "up", 1.5 * plate), ("cut", "down", -1.5 * plate)):
            blanks = {"regions": regions, "extent": "by", "length": number(1.5), "way": way}
            extrude = OperationStep("op2", "extrude", blanks | {"result": result, "body": "Disc"})
            built = self.run_sheet(drawn(), [], first, lies, extrude)
            self.assertFalse([step.problem for step in built.steps if step.problem])
            body = built.bodies["Disc"]
            self.assertTrue(body.facts.valid)
            # The round hole of the mark is a polygon within 0.01 mm.
            self.assertAlmostEqual(body.facts.volume_mm3, before + change, delta=0.01 * 5 * math.pi * 1.5)
            self.assertIn(top["face"], body.flat_faces(), "the face keeps its name")
            self.assertTrue(any(name.startswith("op2.side") for name in body.mesh.names))
            again = trimesh.load(io.BytesIO(release.solids.stl(built.bodies, 0.05)), file_type="stl")
            self.assertTrue(again.is_watertight)
            self.assertAlmostEqual(again.volume, body.facts.volume_mm3, delta=0.02)
            packed, _ = keeping.unpack(keeping.pack({"Disc": body}, built.steps[-1]))
            self.assertEqual(packed["Disc"].facts, body.facts)
            self.assertIn(b'"faces": ["op1.round"', display.pack(built.bodies))

    def test_one_step_after_another_works_on_it(self):
        one, other = (read(trimesh.creation.box((10, 10, size))).mesh for size in (4, 8))
        across = read(trimesh.creation.box((2, 20, 20))).mesh
        both = meshes.combined("add", one, [other], "It")
        cut = meshes.combined("cut", both, [across], "It")
        self.assertAlmostEqual(meshes.facts_of(cut).volume_mm3, 8 * 10 * 8, places=6)

    def test_joined_with_an_exact_body_it_is_a_mesh(self):
        plate = drawn(rounded_polygon([(-30, -5), (30, -5), (30, 5), (-30, 5)], [0] * 4))
        regions = {"sketch": "s1", "names": [find_regions(plate)[0].name]}
        blanks = {
            "regions": regions,
            "extent": "by",
            "length": number(6.0),
            "way": "up",
            "result": "new",
            "body": "Bar",
        }
        extrude = OperationStep("op2", "extrude", blanks)
        for how, wanted in (("add", "union"), ("cut", "difference"), ("overlap", "intersection")):
            join = OperationStep("op3", "combine", {"body": "Bar", "other": "Disc", "how": how, "stays": "gone"})
            built = self.run_sheet(plate, [self.bring(disc()), extrude, join])
            bar, other = trimesh.creation.box((60, 10, 6)), disc()
            told = getattr(trimesh.boolean, wanted)([bar, other], engine="manifold").volume
            self.assertAlmostEqual(built.bodies["Bar"].facts.volume_mm3, told, delta=1e-3 * told)
            self.assertNotIn("Disc", built.bodies)

    def test_it_is_laid_on_its_slope_and_scaled(self):
        """A wedge 30 x 20 mm, 8 mm high at one end: half a box; its slope is the hypotenuse (Pythagoras)."""
        corners = [(0, 0, 0), (30, 0, 0), (30, 20, 0), (0, 20, 0), (0, 0, 8), (0, 20, 8)]
        wedge = self.bring(trimesh.convex.convex_hull(np.array(corners, float)), lying="lies")
        plain = self.run_sheet(drawn(), [wedge]).bodies["Disc"]
        slope = next(name for name, frame in plain.flat_faces().items() if 0.1 < frame.normal[2] < 0.99)
        face = {"body": "Disc", "face": slope}
        laid = OperationStep("op2", "move", {"of": "Disc", "how": "onto", "face": face, "plane": "plan"})
        factors = {"x": number(2.0), "y": number(1.0), "z": number(0.5)}
        scaled = OperationStep("op2", "scale", {"of": "Disc", "how": "each", "about": "middle"} | factors)
        down, grown = (self.run_sheet(drawn(), [wedge, one]).bodies["Disc"] for one in (laid, scaled))
        for body in (down, grown):
            self.assertAlmostEqual(body.facts.volume_mm3, 30 * 20 * 8 / 2, places=3)
        self.assertAlmostEqual(down.facts.box[0][2], 0, places=6)
        self.assertAlmostEqual(down.facts.box[1][2], 30 * 8 / math.hypot(30, 8), places=4)
        np.testing.assert_allclose(grown.facts.center, plain.facts.center, atol=1e-4)
        self.assertAlmostEqual(grown.facts.box[1][0] - grown.facts.box[0][0], 60, places=4)

    def test_a_file_that_is_gone_fails_its_step_alone(self):
        bring = self.bring(disc())
        self.library.blobs.clear()
        built = self.run_sheet(drawn(), [bring])
        self.assertIn("not there any more", built.steps[-1].problem)
        self.assertFalse(built.bodies)

    def test_what_needs_exact_faces_says_so(self):
        steps = [
            self.bring(disc()),
            OperationStep("op2", "fillet", {"edges": {"body": "Disc", "rule": {"at": "top"}}, "radius": number(1.0)}),
        ]
        built = self.run_sheet(drawn(), steps)
        self.assertIn("Disc is a mesh, without exact faces and edges", built.steps[-1].problem)
        self.assertIn("Disc", built.bodies)
        with self.assertRaisesRegex(OperationError, "only meshes; take STL"):
            release.solids.step(built.bodies)
        lying = release.laid(built.bodies, (1.0, 0.0, 0.0))
        self.assertAlmostEqual(lying["Disc"].lowest(), 0.0, places=9)
