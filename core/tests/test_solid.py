"""Solids against formulas, names through operations, failures in words, and files re-read by independent readers."""

import hashlib
import io
import json
import math
import re
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import ezdxf
import lib3mf
import numpy as np
import svgelements
import trimesh
from OCP.Bnd import Bnd_Box
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepGProp import BRepGProp
from OCP.GProp import GProp_GProps
from OCP.STEPControl import STEPControl_Reader

from core.tests.specimens import drawn, operation, plate_operations, run, sheet_of, with_number
from examples import parts
from examples.render import hole, rounded_polygon, slot
from nomogon_core.errors import OperationError
from nomogon_core.exchange import flat, release
from nomogon_core.geometry.curves import Line, Spline, closed_area, length, sample
from nomogon_core.sketch import edit
from nomogon_core.sketch.model import Sketch
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import display, graph, kernel, naming, planes
from nomogon_core.solid.facts import DENSITIES
from nomogon_core.solid.flats import flat as flat_face

ROUNDED = rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [6] * 4)


class Shelf(dict):
    """A store of results in memory."""

    def put(self, key, step, data):
        self[key] = data


def only(bodies):
    (body,) = bodies.values()
    return body


class Volumes(unittest.TestCase):
    def test_prism_is_area_times_height(self):
        sketch = drawn(*parts.latch_plate())
        area = find_regions(sketch)[0].area
        facts = only(run(sketch, plate_operations(sketch, 6.0))[0]).facts
        self.assertAlmostEqual(facts.volume_mm3, 6 * area, delta=1e-9 * facts.volume_mm3)
        self.assertTrue(facts.valid)
        self.assertEqual(facts.solids, 1)
        np.testing.assert_allclose(facts.size, (84, 46, 6), atol=1e-5)
        outline = sum(sum(map(length, loop)) for loop in parts.latch_plate())
        self.assertAlmostEqual(facts.area_mm2, 2 * area + 6 * outline, delta=1e-6 * facts.area_mm2)

    def test_spline_sides_are_integrated_exactly(self):
        # The kernel's plain volume is percents off on sides with many spline spans; Green's theorem on the outline is
        # exact.
        places = [
            ((40 + 8 * math.sin(3 * a)) * math.cos(a), (40 + 8 * math.sin(3 * a)) * math.sin(a))
            for a in np.arange(24) * math.pi / 12
        ]
        loop = np.array([*places, places[0]])
        ways = (np.roll(loop[:-1], -1, axis=0) - np.roll(loop[:-1], 1, axis=0)) / 6
        pieces = [
            Spline([loop[k], loop[k] + ways[k], loop[k + 1] - ways[(k + 1) % 24], loop[k + 1]]) for k in range(24)
        ]
        sketch = drawn(tuple(pieces))
        facts = only(run(sketch, plate_operations(sketch, 5.0))[0]).facts
        self.assertAlmostEqual(facts.volume_mm3, 5 * closed_area(pieces), delta=1e-7 * facts.volume_mm3)

    def test_hole_takes_out_its_cylinder(self):
        sketch = drawn(ROUNDED, hole(20, 20, 3), hole(40, 20, 3))
        whole = plate_operations(sketch, 8.0)
        centers = [name for name, curve in sketch.curves.items() if curve.kind == "circle"]
        before = only(run(sketch, whole)[0]).facts.volume_mm3
        blind = operation("op2", "hole", body="Plate", centers=centers, diameter=7.0, depth=3.0)
        through = operation("op2", "hole", body="Plate", centers=centers, diameter=7.0)
        # Two rings of 7 over 3 mm, 3 deep or 8 deep (cylinder volume, any geometry text).
        ring = math.pi / 4 * (49 - 9)
        self.assertAlmostEqual(before - only(run(sketch, [*whole, blind])[0]).facts.volume_mm3, 2 * 3 * ring, places=6)
        self.assertAlmostEqual(
            before - only(run(sketch, [*whole, through])[0]).facts.volume_mm3, 2 * 8 * ring, places=6
        )

    def test_fillet_of_a_round_edge_by_pappus(self):
        # Pappus's centroid theorem: rounding the rim of a disc of radius R takes a ring away whose section is the
        # corner square less the quarter circle.
        radius, r = 20.0, 2.0
        sketch = drawn(hole(0, 0, 2 * radius))
        before = only(run(sketch, plate_operations(sketch, 6.0))[0]).facts.volume_mm3
        after = only(run(sketch, plate_operations(sketch, 6.0, fillet=r))[0]).facts.volume_mm3
        square, quarter = r * r, math.pi * r * r / 4
        moment = square * (radius - r / 2) - quarter * (radius - r + 4 * r / (3 * math.pi))
        self.assertAlmostEqual(before - after, 2 * math.pi * moment, places=4)

    def test_boss_added_and_pocket_cut(self):
        sketch = drawn(ROUNDED, slot((30, 20), 20, 5))
        outer, inner = find_regions(sketch)
        base = operation("op1", "extrude", mode="new", body="Plate", regions=[outer.name, inner.name], length=5.0)
        boss = operation("op2", "extrude", mode="add", body="Plate", regions=[inner.name], length=4.0, start=5.0)
        pocket = operation("op2", "extrude", mode="cut", body="Plate", regions=[inner.name], length=4.0, start=3.0)
        flat = 5 * (outer.area + inner.area)
        self.assertAlmostEqual(only(run(sketch, [base])[0]).facts.volume_mm3, flat, places=6)
        self.assertAlmostEqual(only(run(sketch, [base, boss])[0]).facts.volume_mm3, flat + 4 * inner.area, places=6)
        self.assertAlmostEqual(only(run(sketch, [base, pocket])[0]).facts.volume_mm3, flat - 2 * inner.area, places=6)

    def test_box_of_rounded_and_turned_parts_agrees_with_the_kernels_search(self):
        turned = rounded_polygon([(0, 0), (50, 20), (40, 45), (-10, 25)], [5, 3, 8, 2])
        for outline, radius in ((turned, 0.0), (turned, 1.5), (hole(3, -7, 21)[0:1], 2.0)):
            sketch = drawn(outline)
            body = only(run(sketch, plate_operations(sketch, 6.0, fillet=radius))[0])
            searched = Bnd_Box()
            BRepBndLib.AddOptimal_s(body.shape, searched, False, False)
            np.testing.assert_allclose(
                body.facts.box, (searched.CornerMin().Coord(), searched.CornerMax().Coord()), atol=1e-5
            )

    def test_flat_faces_by_stokes_agree_with_the_kernels_integrals(self):
        """Area, share of the volume, moments and box of faces that lie anywhere, against Gaussian integration."""
        outline = rounded_polygon([(3, 5), (60, 0), (64, 41), (0, 40)], [6, 0, 9, 3])
        face, _ = kernel.face_of(
            [[(str(index), curve) for index, curve in enumerate(loop)] for loop in (outline, hole(20, 20, 9))], 0.0
        )
        random, seen = np.random.default_rng(3), 0
        for _ in range(12):
            frame = planes.frame_of(tuple(random.uniform(-50, 50, 3)), tuple(random.uniform(-1, 1, 3)))
            solid = kernel.prism(face, float(random.uniform(-9, 9))).Shape()
            for one in kernel.faces_of(kernel.placed(solid, frame)):
                told = flat_face(one)
                self.assertEqual(told is None, kernel.plane_of(one) is None)
                if told is None:
                    continue
                seen += 1
                share = kernel._share_of(one)
                np.testing.assert_allclose(told.sums[0], kernel.area_of_face(one), rtol=1e-9)
                np.testing.assert_allclose(told.sums[1:], share, rtol=1e-9, atol=1e-9 * max(map(abs, share)))
                np.testing.assert_allclose(told.box, kernel.tight_box(one), atol=1e-9)
        self.assertEqual(seen, 12 * 6)

    def test_box_of_cubics_is_that_of_their_points(self):
        random = np.random.default_rng(6)
        for _ in range(5):
            ring = [(r * math.cos(a), r * math.sin(a)) for r, a in zip(random.uniform(20, 30, 6), np.arange(6) * 1.047)]
            ways = (np.roll(ring, -1, axis=0) - np.roll(ring, 1, axis=0)) / 4
            pieces = tuple(
                Spline([ring[k], ring[k] + ways[k], ring[(k + 1) % 6] - ways[(k + 1) % 6], ring[(k + 1) % 6]])
                for k in range(6)
            )
            sketch = drawn(pieces)
            low, high = only(run(sketch, plate_operations(sketch, 6.0))[0]).facts.box
            points = np.vstack([sample(piece, 1e-5) for piece in pieces])
            np.testing.assert_allclose((low[:2], high[:2]), (points.min(axis=0), points.max(axis=0)), atol=1e-4)
            self.assertTrue(np.all(np.array(low[:2]) <= points.min(axis=0) + 1e-9))

    def test_mass(self):
        # Densities in g/cm3: Machinery's Handbook and makers' data sheets (memory).
        self.assertEqual((DENSITIES["PLA"], DENSITIES["aluminium"], DENSITIES["steel"]), (1.24, 2.70, 7.85))
        sketch = drawn(rounded_polygon([(0, 0), (10, 0), (10, 10), (0, 10)], [0] * 4))
        facts = only(run(sketch, plate_operations(sketch, 10.0))[0]).facts
        self.assertAlmostEqual(facts.mass_g("steel"), 7.85, places=9)


class Failures(unittest.TestCase):
    def setUp(self):
        self.sketch = drawn(ROUNDED, hole(20, 20, 5))
        self.base = plate_operations(self.sketch, 5.0)

    def test_a_fillet_too_large_tells_the_largest(self):
        bodies, steps = run(
            self.sketch, [*self.base, operation("op2", "fillet", body="Plate", edges={"at": "top"}, radius=9.0)]
        )
        self.assertRegex(steps[1].problem, r"Radius 9.00 mm is too large for these edges: at most \d\.\d\d mm works")
        self.assertAlmostEqual(only(bodies).facts.volume_mm3, steps[0].facts["Plate"].volume_mm3)
        again = run(
            self.sketch,
            [
                *self.base,
                operation("op2", "fillet", body="Plate", edges={"at": "top"}, radius=steps[1].suggestion["radius"]),
            ],
        )[1]
        self.assertEqual(again[1].problem, "")

    def test_each_refusal_is_a_sentence_and_the_rest_goes_on(self):
        region = self.base[0].blanks["regions"]["names"][0]
        for wrong, words in (
            (
                operation("x", "extrude", mode="cut", body="Plate", regions=[region], length=2.0, start=50.0),
                "does not touch Plate",
            ),
            (
                operation("x", "extrude", mode="cut", body="Plate", regions=["region c90"], length=2.0),
                "not closed any more",
            ),
            (operation("x", "extrude", mode="new", body="Plate", regions=[region], length=2.0), "a body Plate already"),
            (operation("x", "extrude", body="Plate", regions=[region], length=0.0), "more than zero"),
            (operation("x", "hole", body="Nothing", centers=["c1"], diameter=3.0), "no body Nothing"),
            (
                operation("x", "hole", body="Plate", centers=["c77"], diameter=3.0),
                "not in the sketch any more",
            ),
            (
                operation("x", "hole", body="Plate", centers=["p1"], diameter=300.0),
                "Nothing would be left",
            ),
            (operation("x", "fillet", body="Plate", edges=["op1.top | gone"], radius=1.0), "not there any more"),
            (operation("x", "fillet", body="Plate", edges=[], radius=1.0), "needs the edges"),
        ):
            bodies, steps = run(
                self.sketch,
                [*self.base, wrong, operation("op9", "fillet", body="Plate", edges={"at": "top"}, radius=0.5)],
            )
            self.assertRegex(steps[1].problem, words)
            self.assertNotIn("Traceback", steps[1].problem)
            self.assertEqual(len(bodies), 1)
            self.assertEqual(steps[2].problem, "")
            self.assertNotAlmostEqual(only(bodies).facts.volume_mm3, steps[1].facts["Plate"].volume_mm3, places=3)

    def test_a_self_crossing_profile_has_no_plate_and_says_so(self):
        sketch, _, _ = edit.add_outline(Sketch(), drawn_bow(), [0.1] * 4, origin="drawn")
        crossing = ["region " + " ".join(sketch.curves)]
        bow = operation("op1", "extrude", mode="new", body="Bow", regions=crossing, length=3.0)
        self.assertRaisesRegex(
            OperationError,
            "Operation 1 fails",
            release.built,
            sheet_of(sketch, [bow]),
        )

    def test_suppressed_operations_are_passed_over(self):
        bodies, steps = run(
            self.sketch,
            [*self.base, operation("op2", "fillet", body="Plate", edges={"at": "top"}, radius=1.0, suppressed=True)],
        )
        self.assertTrue(steps[1].suppressed)
        self.assertAlmostEqual(only(bodies).facts.volume_mm3, steps[0].facts["Plate"].volume_mm3)


def drawn_bow():
    corners = [(0, 0), (20, 15), (20, 0), (0, 15)]
    return tuple(Line(a, b) for a, b in zip(corners, [*corners[1:], corners[0]]))


class Names(unittest.TestCase):
    def test_every_face_keeps_a_name_through_hole_and_fillet(self):
        sketch = drawn(ROUNDED, hole(20, 20, 5))
        circle = next(name for name, curve in sketch.curves.items() if curve.kind == "circle")
        operations = [
            *plate_operations(sketch, 5.0),
            operation("op3", "hole", body="Plate", centers=[circle], diameter=9.0, depth=2.0),
            operation("op4", "fillet", body="Plate", edges={"at": "top"}, radius=0.5),
        ]
        body = only(run(sketch, operations)[0])
        names = [body.names.get(face) for face in kernel.faces_of(body.shape)]
        self.assertNotIn(None, names)
        for wanted in ("op1.top", "op1.bottom", f"op3.floor({circle})", f"op3.wall({circle})", f"op1.side({circle})"):
            self.assertIn(wanted, names)

    def test_an_edge_chosen_by_name_is_found_after_the_thickness_changes(self):
        sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4))
        line = next(iter(sketch.curves))
        edge = f"op1.side({line}) | op1.top"
        for thickness in (5.0, 12.0):
            operations = [
                *plate_operations(sketch, thickness),
                operation("op2", "fillet", body="Plate", edges=[edge], radius=2.0),
            ]
            facts = only(run(sketch, operations)[0]).facts
            self.assertAlmostEqual(60 * 40 * thickness - facts.volume_mm3, 60 * (4 - math.pi), places=6)

    def test_a_side_drawn_anew_has_its_own_name_whatever_the_cache_holds(self):
        """The same rectangle, one side of which has been deleted and drawn again: equal geometry, another id."""
        sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4))
        side = next(iter(sketch.curves))
        ends = sketch.curves[side].points
        again, fresh = edit.add_line(edit.remove(sketch, [side]), *(sketch.points[end] for end in ends))
        again = edit.merge_points(
            edit.merge_points(
                again,
                next(p for p, at in again.points.items() if at == sketch.points[ends[0]]),
                again.curves[fresh].points[0],
            ),
            next(p for p, at in again.points.items() if at == sketch.points[ends[1]]),
            again.curves[fresh].points[1],
        )
        cache = graph.Cache()
        run(sketch, plate_operations(sketch, 5.0), cache)

        def names(cache):
            body = only(run(again, plate_operations(again, 5.0), cache)[0])
            return sorted(body.names.get(face) for face in kernel.faces_of(body.shape))

        self.assertEqual(names(cache), names(graph.Cache()))
        self.assertIn(f"op1.side({fresh})", names(cache))

    def test_round_faces_and_edges_of_one_pair_of_faces_are_told_apart(self):
        """A hole across the front splits its upper edge in two, which are told apart by what is at their ends."""
        sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4), hole(25, 3, 4))
        circle = next(name for name, curve in sketch.curves.items() if curve.kind == "circle")
        front = next(
            name
            for name, curve in sketch.curves.items()
            if curve.kind == "line" and all(sketch.points[point][1] == 0 for point in curve.points)
        )
        base = [
            *plate_operations(sketch, 5.0),
            operation("op3", "hole", body="Plate", centers=[circle], diameter=14.0),
        ]
        body = only(run(sketch, base)[0])
        names = [name for _, name in naming.edge_names(body.shape, body.names)]
        self.assertEqual(len(names), len(set(names)))
        split = [name for name in names if name.startswith(f"op1.side({front}) | op1.top")]
        self.assertEqual([("#" in name, f"op3.wall({circle})" in name) for name in split], [(False, True)] * 2)
        old = [
            name
            for _, name in naming.old_edge_names(body.shape, body.names)
            if name.startswith(f"op1.side({front}) | op1.top")
        ]
        self.assertEqual(sorted(old), [f"op1.side({front}) | op1.top", f"op1.side({front}) | op1.top #2"])
        for edges in (split, old):
            rounded = only(run(sketch, [*base, operation("op4", "fillet", body="Plate", edges=edges, radius=1.0)])[0])
            faces = [rounded.names.get(face) for face in kernel.faces_of(rounded.shape)]
            self.assertEqual(len({name for name in faces if name.startswith("op4.round(")}), 2)
            self.assertNotIn(None, faces)

    def test_an_edge_that_was_split_is_lost_and_not_one_of_its_halves_in_its_place(self):
        sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [0] * 4), hole(25, 3, 4))
        circle = next(name for name, curve in sketch.curves.items() if curve.kind == "circle")
        front = next(
            name
            for name, curve in sketch.curves.items()
            if curve.kind == "line" and all(sketch.points[point][1] == 0 for point in curve.points)
        )
        fillet = operation("op9", "fillet", body="Plate", edges=[f"op1.side({front}) | op1.top"], radius=1.0)
        base = plate_operations(sketch, 5.0)
        self.assertEqual(run(sketch, [*base, fillet])[1][-1].problem, "")
        across = operation("op3", "hole", body="Plate", centers=[circle], diameter=14.0)
        self.assertIn("not there any more", run(sketch, [*base, across, fillet])[1][-1].problem)

    def test_only_what_follows_a_change_is_built_again(self):
        sketch = drawn(ROUNDED)
        operations = plate_operations(sketch, 5.0, fillet=1.0)
        cache = graph.Cache()
        first = run(sketch, operations, cache)
        self.assertIs(run(sketch, operations, cache)[0]["Plate"], first[0]["Plate"])
        changed = run(sketch, [operations[0], with_number(operations[1], "radius", 1.5)], cache)
        self.assertEqual(changed[1][0], first[1][0])
        self.assertNotEqual(changed[1][1], first[1][1])

    def test_a_fresh_process_goes_on_from_what_another_has_built(self):
        sketch = drawn(ROUNDED, hole(20, 20, 5))
        operations = plate_operations(sketch, 5.0, fillet=1.0)
        store = Shelf()
        with mock.patch.object(graph, "WORTH_SHARING_S", 0.0):
            first = run(sketch, operations, graph.Cache(store=store))
        self.assertEqual(len(store), 2)
        with mock.patch.object(graph, "_attempt", side_effect=AssertionError("nothing is built again")):
            second = run(sketch, operations, graph.Cache(store=store))
        self.assertEqual(first[1], second[1])
        one, other = only(first[0]), only(second[0])
        self.assertEqual((one.facts, one.key, one.title), (other.facts, other.key, other.title))
        self.assertEqual(one.flat_faces(), other.flat_faces())
        edges = [[name for _, name in naming.edge_names(body.shape, body.names)] for body in (one, other)]
        self.assertEqual(sorted(edges[0]), sorted(edges[1]))
        longer = [*operations, operation("op3", "fillet", body="Plate", edges=edges[0][:1], radius=0.2)]
        whole, resumed = (only(run(sketch, longer, cache)[0]) for cache in (None, graph.Cache(store=store)))
        self.assertAlmostEqual(whole.facts.volume_mm3, resumed.facts.volume_mm3, places=9)

    def test_flat_faces_are_planes_that_look_out_of_the_material(self):
        sketch = drawn(ROUNDED, hole(20, 20, 5))
        circle = next(name for name, curve in sketch.curves.items() if curve.kind == "circle")
        operations = [
            *plate_operations(sketch, 5.0),
            operation("op3", "hole", body="Plate", centers=[circle], diameter=9.0, depth=2.0),
        ]
        frames = {name: frame for _, name, frame in graph.flat_faces(run(sketch, operations)[0])}
        self.assertEqual(len(frames), 4 + 2 + 1)
        self.assertEqual(
            (frames["op1.top"].origin, frames["op1.top"].across, frames["op1.top"].up),
            ((0, 0, 5), (1, 0, 0), (0, 1, 0)),
        )
        self.assertEqual((frames["op1.bottom"].normal, frames["op1.bottom"].up), ((0, 0, -1), (0, -1, 0)))
        self.assertAlmostEqual(frames[f"op3.floor({circle})"].origin[2], 3.0)
        middle = np.array([30.0, 20.0, 2.5])
        for name, frame in frames.items():
            axes = np.array([frame.across, frame.up, frame.normal])
            np.testing.assert_allclose(axes @ axes.T, np.eye(3), atol=1e-12)
            self.assertAlmostEqual(np.linalg.det(axes), 1.0)
            if ".side" in name:
                self.assertEqual((frame.across[2], frame.up), (0.0, (0, 0, 1)))
                self.assertGreater(np.dot(np.subtract(frame.origin, middle), frame.normal), 0)
        self.assertEqual(planes.words_of("op3.floor(c1)", {"op3": 2}), "floor of 2")


class Files(unittest.TestCase):
    """Each file is re-read by a reader that is not ours and compared."""

    @classmethod
    def setUpClass(cls):
        cls.sketch = drawn(*parts.latch_plate())
        cls.operations = plate_operations(cls.sketch, 6.0, fillet=0.8)
        cls.sheet = sheet_of(cls.sketch, cls.operations)
        cls.released = release.release_all(cls.sheet, "Hive <latch> & plate", chord=0.02)
        cls.facts = only(run(cls.sketch, cls.operations)[0]).facts
        cls.flat = sum(sum(map(length, loop)) for loop in parts.latch_plate())

    def test_step(self):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "part.step"
            path.write_bytes(self.released.files["step"])
            reader = STEPControl_Reader()
            reader.ReadFile(str(path))
            reader.TransferRoots()
            properties = GProp_GProps()
            BRepGProp.VolumeProperties_s(reader.OneShape(), properties)
        self.assertAlmostEqual(properties.Mass(), self.facts.volume_mm3, delta=1e-6 * self.facts.volume_mm3)
        text = self.released.files["step"].decode("ascii", "replace")
        self.assertIn("SI_UNIT(.MILLI.,.METRE.)", text)
        self.assertIn("'Plate'", text)

    def test_all_files_in_one_zip_with_a_report(self):
        said = "Accepted at 0.7 mm: it is only a trial."
        made = release.bundle(self.sheet, "Hive <latch> & plate", chord=0.02, notes=[said])
        with zipfile.ZipFile(io.BytesIO(made)) as packed:
            files = {name: packed.read(name) for name in packed.namelist()}
        told = files.pop("report.txt").decode()
        self.assertEqual(len(files), len(flat.FILES))
        for name, data in files.items():
            self.assertTrue(name.startswith("hive-latch-plate"), name)
            self.assertIn(f"{name}: ", told)
            self.assertIn(hashlib.sha256(data).hexdigest(), told)
        self.assertEqual(files["hive-latch-plate.stl"], self.released.files["stl"])
        self.assertIn(f"volume {self.facts.volume_mm3 / 1000:.3f} cm³", told)
        self.assertIn("one solid, closed and valid", told)
        self.assertIn("within 0.02 mm of the surface", told)
        self.assertIn(said, told)

    def test_stl_within_its_chord_tolerance(self):
        mesh = trimesh.load(io.BytesIO(self.released.files["stl"]), file_type="stl")
        self.assertTrue(mesh.is_watertight)
        self.assertAlmostEqual(mesh.volume, self.facts.volume_mm3, delta=0.02 * self.facts.area_mm2)
        self.assertLess(abs(mesh.volume / self.facts.volume_mm3 - 1), 1e-3)
        coarse = trimesh.load(io.BytesIO(release.write_file("stl", self.sheet, "", chord=0.5)), file_type="stl")
        self.assertLess(len(coarse.faces), len(mesh.faces))
        with self.assertRaisesRegex(OperationError, "between 0.001 and 5.0 mm"):
            release.write_file("stl", self.sheet, "", chord=0.0)

    def test_3mf(self):
        model = lib3mf.get_wrapper().CreateModel()
        model.QueryReader("3mf").ReadFromBuffer(list(self.released.files["3mf"]))
        items = model.GetMeshObjects()
        self.assertTrue(items.MoveNext())
        item = items.GetCurrentMeshObject()
        self.assertEqual((item.GetName(), model.GetUnit()), ("Plate", lib3mf.ModelUnit.MilliMeter))
        self.assertTrue(item.IsManifoldAndOriented())
        places = np.array([list(vertex.Coordinates) for vertex in item.GetVertices()])
        corners = np.array([list(triangle.Indices) for triangle in item.GetTriangleIndices()])
        self.assertLess(abs(kernel.mesh_volume(places, corners) / self.facts.volume_mm3 - 1), 1e-3)

    def test_glb(self):
        """Metres, y up; colours in linear light (glTF 2.0)."""
        scene = trimesh.load(io.BytesIO(self.released.files["glb"]), file_type="glb")
        low, high = self.facts.box
        wide, deep, tall = np.subtract(high, low) / 1000
        np.testing.assert_allclose(scene.extents, (wide, tall, deep), rtol=1e-5)
        np.testing.assert_allclose(scene.bounds[0], np.array([low[0], low[2], -high[1]]) / 1000, atol=1e-6)
        part = scene.geometry["Plate"]
        self.assertLess(abs(part.volume * 1e9 / self.facts.volume_mm3 - 1), 1e-3)
        np.testing.assert_allclose(part.visual.material.baseColorFactor[:3], (88, 111, 97), atol=1)

    def test_dxf(self):
        document = ezdxf.read(io.StringIO(self.released.files["dxf"].decode()))
        self.assertEqual(document.units, ezdxf.units.MM)
        total = 0.0
        for entity in document.modelspace():
            kind = entity.dxftype()
            if kind == "LINE":
                total += entity.dxf.start.distance(entity.dxf.end)
            else:
                sweep = (
                    2 * math.pi
                    if kind == "CIRCLE"
                    else math.radians((entity.dxf.end_angle - entity.dxf.start_angle) % 360)
                )
                total += entity.dxf.radius * sweep
        self.assertAlmostEqual(total, self.flat, places=6)

    def test_svg(self):
        text = self.released.files["svg"].decode()
        self.assertIn("Hive &lt;latch&gt; &amp; plate", text)
        self.assertRegex(text, r'width="94mm" height="56mm" viewBox="0 0 94 56"')
        total = sum(svgelements.Path(d).length(error=1e-7) for d in re.findall(r'<path d="([^"]+)"', text))
        self.assertAlmostEqual(total, self.flat, places=3)

    def test_report(self):
        (body,) = self.released.report["bodies"]
        self.assertAlmostEqual(body["mass_g"], self.facts.volume_mm3 / 1000 * 2.70)
        self.assertTrue(body["valid"])

    def test_display_mesh_is_closed_and_named(self):
        bodies, _ = run(self.sketch, self.operations)
        data = display.pack(bodies)
        size = int.from_bytes(data[:4], "little")
        (head,) = json.loads(data[4 : 4 + size])["bodies"]
        entry = head["triangles"]
        triangles = np.frombuffer(data, np.uint32, entry["count"], 4 + size + entry["offset"]).reshape(-1, 3)
        entry = head["vertices"]
        vertices = np.frombuffer(data, np.float32, entry["count"], 4 + size + entry["offset"]).reshape(-1, 3)
        self.assertLess(abs(kernel.mesh_volume(vertices, triangles) / self.facts.volume_mm3 - 1), 2e-3)
        self.assertEqual(len(head["smooth"]), len(head["edges"]))
        self.assertIn("op1.bottom", head["faces"])


class Again(unittest.TestCase):
    def test_a_picture_that_keeps_triangles_is_closed_and_the_same_as_one_from_scratch(self):
        sketch, cache = drawn(ROUNDED, hole(20, 20, 8), hole(40, 20, 8)), graph.Cache()
        names = [find_regions(sketch)[0].name]
        for radius in (0.5, 1.0, 1.7):
            steps = [
                operation("op1", "extrude", regions=names, length=8.0, mode="new"),
                operation("op2", "fillet", body="Plate", edges={"at": "top"}, radius=radius),
            ]
            body = graph.run(sheet_of(sketch, steps), cache).bodies["Plate"]
            told = []
            for again in (True, False):
                vertices, triangles, owners = kernel.triangulate(body.shape, 0.05, again=again)
                mesh = trimesh.Trimesh(vertices, triangles, process=True)
                self.assertTrue(mesh.is_watertight)
                self.assertAlmostEqual(mesh.volume / body.facts.volume_mm3, 1, delta=1e-3)
                told.append((len(triangles), sorted(set(owners.tolist()))))
            self.assertEqual(*told)
            self.assertEqual(display.pack({"Plate": body}), display.pack({"Plate": body}))


if __name__ == "__main__":
    unittest.main()
