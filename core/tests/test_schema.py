"""Documents from outside: whatever one value of a job is changed to, the job is read in full or refused in words."""

import copy
import io
import json
import unittest
import zipfile

import numpy as np

from core.tests.old_jobs import whole_version_1
from nomogon_core.errors import ArchiveError, CoreError
from nomogon_core.exchange import archive
from nomogon_core.job import advice, ledger
from nomogon_core.job.commands import carry_out
from nomogon_core.job.library import Library
from nomogon_core.job.migration import from_version_1
from nomogon_core.job.overview import checked, overview

WRONG = ("abc", "", None, True, -1, 0, 1e300, 10**30, [], {}, [1], [1, 2], [["a", 2]], {"a": 1}, "c1", "a\0b")
MUTATIONS = 600


def whole_job():
    """A document that holds one of everything."""
    library = Library()
    document = from_version_1(whole_version_1(), library.keep)
    for name, arguments in (
        ("ledger.add", {"name": "rim", "text": "4 mm"}),
        ("plane.add", {"kind": "offset", "fields": {"from": "plan", "distance": "rim + 2 mm"}}),
        ("plane.add", {"kind": "turned", "fields": {"from": "front", "axis": "up", "angle": "30°"}}),
        ("plane.add", {"kind": "midway", "fields": {"first": "plan", "second": {"body": "b1", "face": "op1.top"}}}),
        ("plane.add", {"kind": "points", "fields": {"points": [[0, 0, 0], [1, 0, 0], [0, 1, 1]]}}),
        ("sketch.new", {"title": "Seats", "plane": {"body": "b1", "face": "op1.top"}}),
    ):
        document = carry_out(document, name, arguments, library).document
    return document


def leaves(value, path=()):
    """Paths of all values in plain data, the containers too."""
    yield path
    for key, item in value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ():
        yield from leaves(item, (*path, key))


class Documents(unittest.TestCase):
    def test_a_whole_job_is_read(self):
        view = overview(checked(whole_job()))
        self.assertEqual((len(view.build.operations), len(view.build.steps)), (2, 8))
        self.assertTrue(ledger.ledger(view, "reference"))

    def test_one_value_changed_is_read_or_refused(self):
        base, random, refused = whole_job(), np.random.default_rng(11), 0
        paths = [path for path in leaves(base) if path]
        for _ in range(MUTATIONS):
            document, path = copy.deepcopy(base), paths[int(random.integers(len(paths)))]
            place = document
            for key in path[:-1]:
                place = place[key]
            place[path[-1]] = WRONG[int(random.integers(len(WRONG)))]
            with self.subTest(path=path, value=place[path[-1]]):
                try:
                    whole = checked(document)
                except ArchiveError:
                    refused += 1
                    continue
                view = overview(whole)
                for stage in ledger.GROUP_ORDER:
                    ledger.ledger(view, stage)
                    advice.next_step(view, stage)
                advice.statuses(view)
                advice.state_words(view)
        self.assertGreater(refused, MUTATIONS // 3)

    def test_unknown_kinds_and_missing_things_are_named(self):
        for path, value, words in (
            (("bodies", "b1", "material"), "butter", "butter"),
            (("steps",), ["op9"], "op9"),
            (("operations", "op1", "kind"), "knit", "knit"),
            (("known", "g1", "picture"), "r7", "not there"),
            (("sketches", "s1", "curves", "c99"), {"kind": "wiggle", "points": []}, "wiggle|number"),
            (("operations", "b1"), {"kind": "fillet", "blanks": {}}, "stands for two things"),
            (("next_number",), 3, "next number is 3"),
        ):
            document = whole_job()
            place = document
            for key in path[:-1]:
                place = place[key]
            place[path[-1]] = value
            with self.assertRaisesRegex(CoreError, words):
                checked(document)


class Archives(unittest.TestCase):
    @staticmethod
    def zipped(text):
        stream = io.BytesIO()
        with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as bundle:
            bundle.writestr("job.json", text)
        return stream.getvalue()

    def test_hostile_archives_are_refused(self):
        good = self.zipped(json.dumps({"format": archive.FORMAT, "version": 1}))
        broken = bytearray(good)
        broken[45:60] = b"\xff" * 15
        for data in (
            self.zipped("[" * 100_000),
            self.zipped('{"format": NaN}'),
            self.zipped("1" * 10_000),
            self.zipped("[],"[:3] * 5_000_000),
            bytes(broken),
            b"PK",
            b"",
        ):
            with self.assertRaises(ArchiveError):
                archive.read(data)
        self.assertEqual(archive.read(good).title, "")
