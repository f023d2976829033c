"""The command line, the archive, the Ledger and Next: a job from picture bytes to files without a browser."""

import io
import json
import math
import subprocess
import sys
import tempfile
import unittest
import zipfile
from contextlib import redirect_stderr
from pathlib import Path

import attrs
import cv2
import ezdxf
import numpy as np
import svgelements

from core.tests.specimens import drawn, job_of, plate_operations
from examples import parts, pictures
from examples.tilted import Pinhole, shoot_beside_card
from nomogon_cli.__main__ import main
from nomogon_core.errors import ArchiveError, InputError
from nomogon_core.exchange import archive, flat
from nomogon_core.geometry.curves import closed_area, moved
from nomogon_core.job import document as job
from nomogon_core.job.advice import _next_level, level_turn, next_step, state_words, statuses
from nomogon_core.job.commands import carry_out
from nomogon_core.job.ledger import ledger, split_id
from nomogon_core.job.library import Library
from nomogon_core.job.overview import checked, overview
from nomogon_core.sketch import edit, model


class CommandLine(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = tempfile.TemporaryDirectory()
        cls.shot = pictures.latch_plate()
        cls.picture = Path(cls.folder.name) / "plate.jpg"
        cls.picture.write_bytes(cls.shot.jpeg)
        ends = cls.shot.camera.to_px([(0, 16), (84, 16)]).ravel()
        cls.known = ",".join(f"{value:.2f}" for value in ends)

    @classmethod
    def tearDownClass(cls):
        cls.folder.cleanup()

    def out(self, name):
        return str(Path(self.folder.name) / name)

    def refuse(self, *arguments):
        """The sentence on standard error; the exit code is 2 and nothing else is said."""
        with redirect_stderr(io.StringIO()) as said:
            code = main(list(arguments))
        self.assertEqual(code, 2, said.getvalue())
        self.assertEqual(said.getvalue().count("\n"), 1, said.getvalue())
        return said.getvalue()

    def test_exit_code_of_the_process(self):
        done = subprocess.run(
            [sys.executable, "-m", "nomogon_cli", "trace", "none.png", "--out", "x.dxf"], capture_output=True, text=True
        )
        self.assertEqual((done.returncode, done.stdout), (2, ""))
        self.assertRegex(done.stderr, "^nomogon: There is no file none.png.\n$")

    def test_trace_writes_dxf_svg_json_and_report(self):
        for kind in ("dxf", "svg", "json"):
            code = main(
                [
                    "trace",
                    str(self.picture),
                    "--known",
                    self.known + ",84mm",
                    "--tolerance",
                    "0.1mm",
                    "--out",
                    self.out(f"o.{kind}"),
                    "--report",
                    self.out("report.json"),
                ]
            )
            self.assertEqual(code, 0)
        report = json.loads(Path(self.out("report.json")).read_text())
        self.assertEqual(json.loads(Path(self.out("o.json")).read_text()), report)
        self.assertAlmostEqual(report["scale"]["mm_per_px"], 1 / 22, delta=1e-5)
        outer, *inner = report["outlines"]
        self.assertEqual([outline["hole"] for outline in report["outlines"]], [False, True, True, True])
        self.assertTrue(outer["closed"])
        self.assertAlmostEqual(outer["area_mm2"], closed_area(parts.latch_plate()[0]), delta=1.5)
        circles = [outline["primitives"][0] for outline in inner if outline["primitives"][0]["kind"] == "circle"]
        self.assertEqual(len(circles), 2)
        for circle in circles:
            self.assertAlmostEqual(2 * circle["radius"], 4.76, delta=0.02)
            self.assertLess(circle["u95_mm"], 0.05)
        kinds = sorted(entity.dxftype() for entity in ezdxf.readfile(self.out("o.dxf")).modelspace())
        self.assertEqual([kinds.count(kind) for kind in ("ARC", "CIRCLE", "LINE", "SPLINE")], [10, 2, 9, 0])
        box = svgelements.SVG.parse(self.out("o.svg")).bbox()
        self.assertAlmostEqual((box[2] - box[0]) / 96 * 25.4, 84, delta=0.1)

    def test_lengths_in_inches_and_repeated(self):
        height = ",".join(f"{value:.2f}" for value in self.shot.camera.to_px([(25, 0), (25, 46)]).ravel())
        self.assertEqual(
            main(
                [
                    "trace",
                    str(self.picture),
                    "--known",
                    f"{self.known},{84 / 25.4:.5f} in",
                    "--known",
                    f"{height},46",
                    "--out",
                    self.out("i.json"),
                    "--keep",
                    "largest",
                ]
            ),
            0,
        )
        scale = json.loads(Path(self.out("i.json")).read_text())["scale"]
        self.assertEqual(len(scale["known"]), 2)
        self.assertLess(max(abs(known["off_mm"]) for known in scale["known"]), 0.03)

    def test_a_tilted_photo_with_a_card(self):
        camera = Pinhole((2000, 1500), tilt=18.0, focal=1800.0)
        picture = Path(self.out("tilted.jpg"))
        picture.write_bytes(shoot_beside_card(camera, parts.latch_plate(), part_at=(20, 20), card_at=(15, 105)))
        self.assertEqual(main(["trace", str(picture), "--card", "auto", "--out", self.out("t.json")]), 0)
        report = json.loads(Path(self.out("t.json")).read_text())
        self.assertEqual(report["scale"]["model"], "camera")
        self.assertEqual(len(report["scale"]["covariance"]), 11)
        outer, *inner = report["outlines"]
        self.assertAlmostEqual(outer["area_mm2"], closed_area(parts.latch_plate()[0]), delta=6)
        for outline in inner[1:]:
            (circle,) = outline["primitives"]
            self.assertAlmostEqual(2 * circle["radius"], 4.76, delta=max(0.05, circle["u95_mm"]))
        rough = ",".join(
            f"{value:.0f}"
            for value in (camera.to_px([(15, 105), (100.6, 105), (100.6, 158.98), (15, 158.98)]) + 3).ravel()
        )
        self.assertEqual(
            main(["trace", str(picture), "--rectangle", f"85.6x53.98mm:{rough}", "--out", self.out("r.json")]), 0
        )
        again = json.loads(Path(self.out("r.json")).read_text())
        shares = [told["scale"]["u95_mm_per_px"] / told["scale"]["mm_per_px"] for told in (report, again)]
        self.assertAlmostEqual(
            again["outlines"][0]["area_mm2"], outer["area_mm2"], delta=2 * math.hypot(*shares) * outer["area_mm2"]
        )
        self.assertIn(
            "No clear edge",
            self.refuse("trace", str(picture), "--card", "100,100,200,100,200,160,100,160", "--out", self.out("x.dxf")),
        )

    def test_diameter_resolution_and_height(self):
        picture, out = str(self.picture), self.out("d.json")
        x, y = self.shot.camera.to_px([(12, 34)])[0]
        self.assertEqual(main(["trace", picture, "--known-diameter", f"{x:.0f},{y:.0f},4.76mm", "--out", out]), 0)
        self.assertAlmostEqual(json.loads(Path(out).read_text())["scale"]["mm_per_px"], 1 / 22, delta=2e-4)
        self.assertEqual(main(["trace", picture, "--dpi", "558.8", "--out", out]), 0)
        self.assertAlmostEqual(json.loads(Path(out).read_text())["scale"]["mm_per_px"], 1 / 22, delta=1e-6)
        # Pinhole model: an edge 6 mm above the plane under a camera at 300 mm appears 300/294 as large.
        self.assertEqual(
            main(["trace", picture, "--known", self.known + ",84", "--height", "6", "--camera", "300", "--out", out]), 0
        )
        self.assertAlmostEqual(json.loads(Path(out).read_text())["scale"]["mm_per_px"] * 22, 294 / 300, delta=1e-4)
        for options, words in (
            (["--dpi", "file"], "notes no resolution"),
            (["--dpi", "wide"], "must be a number"),
            (["--known", self.known + ",84", "--height", "6"], "go together"),
            (["--sheet", "B4:auto"], "must be A4, A5 or Letter"),
            (["--rectangle", "12:1,2"], "WIDTHxHEIGHTmm"),
            (["--known-diameter", "5,5,3"], "no round edge"),
        ):
            self.assertIn(words, self.refuse("trace", picture, *options, "--out", out))

    def test_bad_input_is_one_sentence_and_code_2(self):
        picture, out = str(self.picture), self.out("x.dxf")
        self.assertIn("At least one --known", self.refuse("trace", picture, "--out", out))
        self.assertIn("longer than zero", self.refuse("trace", picture, "--known", self.known + ",0", "--out", out))
        self.assertIn(
            "same place", self.refuse("trace", picture, "--known", "50,50,50,50,10", "--picks", "exact", "--out", out)
        )
        self.assertIn("must be X1,Y1,X2,Y2,LENGTH", self.refuse("trace", picture, "--known", "1,2,3", "--out", out))
        self.assertIn("outside the picture", self.refuse("trace", picture, "--known", "1,2,9000,3,10", "--out", out))
        self.assertIn(
            "must end in", self.refuse("trace", picture, "--known", self.known + ",84", "--out", self.out("x.dwg"))
        )
        self.assertIn(
            "no file", self.refuse("trace", self.out("none.png"), "--known", self.known + ",84", "--out", out)
        )
        self.assertIn(
            "between 0.001 and 20 mm",
            self.refuse("trace", picture, "--known", self.known + ",84", "--tolerance", "0", "--out", out),
        )
        text = Path(self.out("text.png"))
        text.write_text("not a picture")
        self.assertIn(
            "not a picture that can be read",
            self.refuse("trace", str(text), "--known", self.known + ",84", "--out", out),
        )
        blank = Path(self.out("blank.png"))
        blank.write_bytes(cv2.imencode(".png", np.full((300, 300), 128, np.uint8))[1].tobytes())
        self.assertIn("one tone only", self.refuse("trace", str(blank), "--known", "10,10,200,10,84", "--out", out))
        self.assertIn("not a job archive", self.refuse("make", str(text), "--out", self.out("d")))

    def test_make_writes_all_files(self):
        sketch = drawn(*parts.hinge_leaf())
        contents = archive.Archive("Smoker hinge leaf", "FLA-021", job_of(sketch, plate_operations(sketch, 2.0)))
        Path(self.out("job.zip")).write_bytes(archive.write(contents))
        self.assertEqual(main(["make", self.out("job.zip"), "--out", self.out("made")]), 0)
        names = sorted(path.name for path in Path(self.out("made")).iterdir())
        self.assertEqual(
            names,
            sorted(
                [
                    "report.json",
                    *(flat.file_name("Smoker hinge leaf", kind) for kind in flat.FILES),
                ]
            ),
        )
        (body,) = json.loads(Path(self.out("made/report.json")).read_text())["bodies"]
        areas = [abs(closed_area(outline)) for outline in parts.hinge_leaf()]
        self.assertAlmostEqual(body["volume_mm3"], 2 * (areas[0] - sum(areas[1:])), places=5)
        self.assertTrue(body["valid"])


class Archives(unittest.TestCase):
    contents = archive.Archive("Lid boss", "FLA-030", job_of(drawn(*parts.hinge_leaf())), {})

    def test_reads_back(self):
        data = archive.write(self.contents)
        again = archive.read(data)
        self.assertEqual((again.title, again.document), ("Lid boss", self.contents.document))
        self.assertEqual(archive.write(again), data)

    def test_damage_inside_shows_when_it_is_taken_in(self):
        good = job_of(drawn(*parts.hinge_leaf()))
        sketch = good["sketches"]["s1"]
        for part, content in (
            ("sketches", {"s1": sketch | {"points": {"p1": "x"}}}),
            ("sketches", {"s1": sketch | {"curves": {"c1": {"kind": "line", "points": ["p8", "p9"]}}}}),
            ("references", {"r1": {}}),
            ("operations", {"op1": {"kind": "melt", "blanks": {}}}),
            ("steps", []),
        ):
            with self.assertRaisesRegex(ArchiveError, "job.zip is damaged: "):
                checked(good | {part: content}, "job.zip")

    def test_refusals(self):
        def packed(name, text):
            stream = io.BytesIO()
            with zipfile.ZipFile(stream, "w") as bundle:
                bundle.writestr(name, text)
            return stream.getvalue()

        for data, words in (
            (b"PK nonsense", "not a job archive or is damaged"),
            (packed("other.txt", "x"), "no job.json"),
            (packed("job.json", "{"), "damaged"),
            (packed("job.json", "{}"), "does not say"),
            (packed("job.json", '{"format": "nomogon job", "version": 99}'), "version 99"),
            (packed("job.json", '{"format": "nomogon job", "version": 1, "sketch": 3}'), "no record"),
        ):
            with self.assertRaisesRegex(ArchiveError, words):
                archive.read(data, "job.zip")


class LedgerAndNext(unittest.TestCase):
    picture = {
        "r1": {
            "name": "a",
            "digest": "0",
            "media_type": "image/png",
            "width": 900,
            "height": 600,
            "dpi": None,
            "origin_px": [0, 599],
            "angle": 0.0,
            "plane": "plan",
        }
    }

    def known(self, *lengths):
        return {
            f"g{index}": {
                "name": f"Length {index}",
                "picture": "r1",
                "start": [0, 0],
                "end": [base, 0],
                "length_mm": length,
                "typed": "",
                "sigma_px": 0.1,
                "gauge_u95_mm": 0.02,
            }
            for index, (base, length) in enumerate(lengths)
        }

    def test_next_follows_the_work(self):
        empty = job.new_document()
        self.assertIn("Drop a picture", next_step(overview(empty), "reference").sentence)
        self.assertEqual(state_words(overview(empty)), ("reference", "no picture", ""))
        blanks = {"path": "helix", "about": "z", "reach": "9 mm", "pitch": "6 mm", "turns": "3", "diameter": "2 mm"}
        blanks |= {"result": "new", "body": "Coil"}
        wound = carry_out(empty, "solid.add", {"kind": "bar", "blanks": blanks}, Library()).document
        self.assertEqual(state_words(overview(wound))[0], "solid", "without a sketch or a picture")
        pictured = job_of(model.Sketch(), references=self.picture)
        self.assertEqual(next_step(overview(pictured), "reference").actions[0].tool, "known")
        self.assertEqual(state_words(overview(pictured))[1:], ("no known length", "bad"))
        scaled = job_of(model.Sketch(), references=self.picture, known=self.known((800, 80)))
        self.assertEqual(next_step(overview(scaled), "reference").actions[0].tool, "outlines")
        sketch = drawn(*parts.hinge_leaf())
        self.assertEqual(next_step(overview(job_of(sketch)), "sketch").actions[0].stage, "solid")
        line = next(name for name, curve in sketch.curves.items() if curve.kind == "line")
        ends = [sketch.points[point] for point in sketch.curves[line].points]
        gappy, _ = edit.add_line(edit.remove(sketch, [line]), ends[0], (ends[1][0], ends[1][1] - 0.4))
        advice = next_step(overview(job_of(gappy)), "sketch")
        self.assertEqual(advice.actions[0].command, "sketch.join")

    def test_level_is_offered_with_its_uncertainty(self):
        def turn_by(place):
            return place[0] * math.cos(0.05) - place[1] * math.sin(0.05), place[0] * math.sin(0.05) + place[
                1
            ] * math.cos(0.05)

        turned = tuple(moved(curve, turn_by, turn=0.05) for curve in parts.hinge_leaf()[0])
        sketch, _, _ = edit.add_outline(model.Sketch(), turned, [0.03] * len(turned), origin="t1")
        view = overview(
            job_of(
                sketch,
                references=self.picture,
                known=self.known((800, 80), (799, 79.9)),
                traces={"t1": {"picture": "r1", "sketch": "s1", "settings": {}, "edge": ""}},
            )
        )
        turn, u95 = level_turn(view)
        self.assertAlmostEqual(turn, 0.05, delta=1e-6)
        self.assertLess(u95, 0.002)
        advice = _next_level(view)
        self.assertIn("2.86°", advice.sentence)
        self.assertAlmostEqual(float(advice.actions[0].arguments["text"].rstrip("°")), math.degrees(0.05), places=3)
        line = next(name for name, curve in sketch.curves.items() if curve.kind == "line")
        level = attrs.evolve(sketch, constraints={**sketch.constraints, "h": model.Constraint("horizontal", (line,))})
        sketches = {"s1": attrs.evolve(view.sketches["s1"], sketch=level)}
        self.assertIsNone(_next_level(attrs.evolve(view, sketches=sketches)))

    def test_a_failed_operation_comes_first(self):
        sketch = drawn(*parts.hinge_leaf())
        operations = plate_operations(sketch, 2.0, fillet=1.0)
        result = {
            "bodies": {},
            "steps": [
                {"name": "op1", "problem": ""},
                {"name": "op2", "problem": "Too large.", "suggestion": {"radius": 0.5}},
            ],
        }
        view = overview(job_of(sketch, operations), result)
        advice = next_step(view, "solid")
        self.assertEqual(
            (advice.sentence, advice.actions[0].arguments["blanks"]), ("Too large.", {"radius": "0.50 mm"})
        )
        self.assertEqual(statuses(view)["solid"].tone, "bad")

    def test_rows_tell_value_uncertainty_and_source(self):
        documents = job_of(
            drawn(*parts.hinge_leaf()), references=self.picture, known=self.known((800, 80), (500, 50.4))
        )
        groups = {group.name: group.rows for group in ledger(overview(documents), "reference")}
        first, second = groups["Known lengths"]
        self.assertEqual((first.value, first.source, first.editable), ("80.00", "gauge", True))
        self.assertEqual((first.state, second.state), ("bad", "bad"))
        self.assertLess(second.off[1], 0)
        inches = {group.name: group.rows for group in ledger(overview(documents), "reference", "in")}
        self.assertEqual(inches["Known lengths"][0].value, f"{80 / 25.4:.4f}")

    def test_worked_out_rows_cannot_be_typed_over(self):
        self.assertEqual(split_id("operation:op1:length"), ("operation", "op1:length"))
        for row in ("fit:scale", "known:", "x"):
            with self.assertRaisesRegex(InputError, "worked out from others"):
                split_id(row)

    def test_file_names_are_plain(self):
        self.assertEqual(flat.file_stem("Höhe <b>&/../x"), "hohe-b-x")
        self.assertEqual(flat.file_stem("…"), "part")
        self.assertEqual(len(flat.file_stem("x" * 500)), 60)


if __name__ == "__main__":
    unittest.main()
