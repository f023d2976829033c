"""Commands of the core: archives of version 1, lists played again, variants, the page that describes them."""

import hashlib
import io
import json
import tempfile
import unittest
import zipfile
from contextlib import redirect_stderr
from pathlib import Path

import numpy as np

from benchmarks.random_jobs import RandomPart
from core.tests.old_jobs import whole_version_1
from examples.render import hole, rounded_polygon
from nomogon_cli.__main__ import main
from nomogon_core.arguments import checked
from nomogon_core.errors import ArchiveError, CoreError, SketchError
from nomogon_core.exchange import archive
from nomogon_core.geometry.curves import closed_area
from nomogon_core.job.commands import COMMANDS, carry_out
from nomogon_core.job.commands.described import commands_page, example
from nomogon_core.job.document import build_of, keep_sketch, new_document, sketch_of
from nomogon_core.job.files import read_job, write_job
from nomogon_core.job.library import Library
from nomogon_core.job.migration import edge_bytes, edge_places
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid import graph

ROOT = Path(__file__).resolve().parents[2]
EXAMPLE = ROOT / "examples" / "play" / "latch-plate.json"


def old_archive(picture=b"picture", **changes):
    """Bytes of an archive of version 1."""
    head = {"format": archive.FORMAT, "version": 1, "title": "Hive latch plate", "number": "FLA-014"}
    documents = whole_version_1() | changes
    digest = hashlib.sha256(picture).hexdigest()
    documents["reference"]["pictures"]["r1"]["digest"] = digest
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as bundle:
        bundle.writestr("job.json", json.dumps(head | documents))
        bundle.writestr(f"pictures/{digest}", picture)
    return stream.getvalue()


class OldArchives(unittest.TestCase):
    def open(self, **changes):
        return read_job(old_archive(**changes), "old.zip")

    def test_an_old_archive_opens_with_the_volume_that_it_had(self):
        job = self.open()
        built = graph.run(build_of(job.document))
        self.assertEqual([step.problem for step in built.steps], [""] * 3)
        (body,) = built.bodies.values()
        areas = [
            abs(closed_area(outline))
            for outline in (rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [6, 0, 0, 0]), hole(20, 20, 5))
        ]
        plain = 5 * (areas[0] - areas[1])
        # The fillet of radius 1 takes (1 - pi/4) r^2 along the upper edges, less at corners: between 0 and that.
        self.assertTrue(0 < plain - body.facts.volume_mm3 < 0.215 * (2 * 100 + 16))
        self.assertEqual((body.title, job.document["bodies"]["b1"]["material"]), ("Plate", "PLA"))
        self.assertEqual(sorted(job.document["known"]), ["g1", "g2", "g3", "g4", "g5", "g6"])

    def test_places_of_a_traced_edge_become_a_blob(self):
        job = self.open()
        (trace,) = job.document["traces"].values()
        np.testing.assert_allclose(edge_places(job.library.blob(trace["edge"])), [[10, 799], [300, 799]])
        with self.assertRaisesRegex(ArchiveError, "damaged"):
            edge_places(edge_bytes([[1, 2]])[:-1])

    def test_written_again_it_is_of_todays_version_and_stays_the_same(self):
        job = self.open()
        data = write_job(job.title, job.number, job.document, job.library)
        again = read_job(data)
        self.assertEqual(again.document, job.document)
        self.assertEqual(write_job(again.title, again.number, again.document, again.library), data)

    def test_kept_releases_go_with_it(self):
        job, data = self.open(), b"PK a zip of files"
        release = {
            "number": 3,
            "digest": job.library.keep(data),
            "version": 17,
            "allowances": "kerf 0.2 mm",
            "made": "2026-11-27T16:00:00+00:00",
        }
        again = read_job(write_job(job.title, job.number, job.document, job.library, [release]))
        self.assertEqual(again.releases, [release])
        self.assertEqual(again.library.blob(release["digest"]), data)
        for wrong in ({"made": "2026-13-27"}, {"number": 0}, {"digest": "0" * 64}, {"allowances": 5}):
            head = archive.Archive("", "", job.document, releases=[release | wrong], zips={release["digest"]: data})
            with self.assertRaisesRegex(ArchiveError, "damaged"):
                archive.read(archive.write(head))

    def test_unknown_things_are_refused(self):
        build = whole_version_1()["build"]
        build["operations"]["op1"]["kind"] = "melt"
        with self.assertRaisesRegex(ArchiveError, "no operation 'melt'"):
            self.open(build=build)
        with self.assertRaisesRegex(ArchiveError, "Build sheet names an operation 'op7'"):
            self.open(build=whole_version_1()["build"] | {"order": ["op7"]})


class Replays(unittest.TestCase):
    def test_a_list_played_again_gives_the_same_document(self):
        for seed in range(5):
            part, listed = RandomPart(np.random.default_rng([91, seed])), []
            plain = part.do

            def do(name, /, plain=plain, listed=listed, **arguments):
                plain(name, **arguments)
                listed.append((name, json.loads(json.dumps(arguments))))

            part.do, document = do, part.document
            for _ in range(4):
                try:
                    part.edit()
                except CoreError:
                    continue
            for name, arguments in listed:
                document = carry_out(document, name, arguments, Library()).document
            self.assertEqual(document, part.document)

    def test_a_command_leaves_the_document_that_it_was_given(self):
        part = RandomPart(np.random.default_rng(92))
        before = json.dumps(part.document)
        carry_out(part.document, "sketch.circle", {"center": [0, 0], "rim": [1, 0]}, part.library)
        self.assertEqual(json.dumps(part.document), before)


class Lines(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def refused(self, *arguments):
        with redirect_stderr(io.StringIO()) as said:
            self.assertEqual(main(list(map(str, arguments))), 2)
        return said.getvalue()

    def test_the_worked_example_and_a_variant(self):
        job, made = self.folder / "job.zip", self.folder / "made"
        self.assertEqual(main(["play", str(EXAMPLE), "--out", str(job), "--title", "Hive latch plate"]), 0)
        for options, height in (([], 6.0), (["--set", "thickness=1/4 in"], 6.35)):
            self.assertEqual(main(["make", str(job), "--out", str(made), "--files", "step", *options]), 0)
            (body,) = json.loads((made / "report.json").read_text())["bodies"]
            for size, truth in zip(np.ptp(body["box_mm"], axis=0), (84, 46, height)):
                self.assertAlmostEqual(size, truth, delta=0.03)
            self.assertTrue(body["valid"])
        self.assertIn("with one of Hole diameter", self.refused("make", job, "--out", made, "--set", "girth=3"))
        self.assertIn("is none of step", self.refused("make", job, "--out", made, "--files", "dwg"))

    def test_a_refusal_names_its_place_in_the_list(self):
        script = self.folder / "list.json"
        for text, words in (
            ("[", "is no JSON"),
            ("{}", "holds no list"),
            ('[{"command": "sketch.line", "arguments": 3}]', "entry 1"),
            ('[{"command": "sketch.fly"}]', "Command 1 (sketch.fly): There is no command"),
            ('[{"command": "reference.add_picture", "arguments": {"file": "no.png"}}]', "There is no file"),
            ('[{"command": "sketch.title", "arguments": {"text": "A"}}, {"command": "sketch.line"}]', "Command 2"),
        ):
            script.write_text(text)
            self.assertIn(words, self.refused("play", script, "--out", self.folder / "x.zip"))
        self.assertFalse((self.folder / "x.zip").exists())


class Page(unittest.TestCase):
    def test_it_is_as_the_declarations_are(self):
        self.assertEqual((ROOT / "docs" / "commands.md").read_text(), commands_page(), "run ./nomogon docs")

    def test_every_example_fits_its_command(self):
        for name, declared in COMMANDS.items():
            checked(name, declared.arguments, declared.optional, example(declared))
            self.assertTrue(declared.told, name)


class Trims(unittest.TestCase):
    def test_a_sketch_that_cannot_be_met_after_a_cut_is_not_stored(self):
        document, library = new_document(), Library()
        for start, end in (((0, 0), (40, 0)), ((30, -10), (30, 20))):
            arguments = {"start": list(start), "end": list(end), "free": True}
            document = carry_out(document, "sketch.line", arguments, library).document
        sketch = sketch_of(document)
        line = next(iter(sketch.curves))
        keep_sketch(document, "s1", sketch)
        outcome = carry_out(document, "sketch.trim", {"name": line, "place": [38.0, 0.0]}, library)
        self.assertEqual(len(sketch_of(outcome.document).curves), 2)
        self.assertFalse(find_regions(sketch_of(outcome.document)))
        with self.assertRaises(SketchError):
            carry_out(document, "sketch.trim", {"name": "c99", "place": [0, 0]}, library)


if __name__ == "__main__":
    unittest.main()
