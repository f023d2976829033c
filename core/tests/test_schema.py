"""Documents from outside: whatever one value of a job is changed to, the job is read in full or refused in words."""

import copy
import io
import json
import unittest
import zipfile

import numpy as np

from core.tests.specimens import drawn, plate_operations
from examples.render import hole, rounded_polygon
from nomogon_core.errors import ArchiveError, CoreError
from nomogon_core.exchange import archive
from nomogon_core.job import advice, ledger
from nomogon_core.job.overview import checked, overview
from nomogon_core.sketch import model
from nomogon_core.sketch.constrain import constrain
from nomogon_core.sketch.model import Constraint
from nomogon_core.solid.operations import to_json

WRONG = ("abc", "", None, True, -1, 0, 1e300, 10**30, [], {}, [1], [1, 2], [["a", 2]], {"a": 1}, "c1", "a\0b")
MUTATIONS = 600


def whole_job():
    """Documents that hold one of everything."""
    sketch = drawn(rounded_polygon([(0, 0), (60, 0), (60, 40), (0, 40)], [6, 0, 0, 0]), hole(20, 20, 5))
    circle, line = (
        next(name for name, curve in sketch.curves.items() if curve.kind == kind) for kind in ("circle", "line")
    )
    sketch = constrain(sketch, Constraint("diameter", (circle,), value=5.0, name="Bore")).sketch
    sketch = constrain(sketch, Constraint("horizontal", (line,))).sketch
    operations = plate_operations(sketch, 5.0, fillet=1.0)
    length = {"picture": "r1", "used": True, "sigma_px": 0.1, "gauge_u95_mm": 0.02}
    corners = [[100, 100], [956, 102], [955, 640], [99, 639]]
    known = {
        "k1": {
            "kind": "length",
            "name": "Width",
            "start": [10, 10],
            "end": [610, 10],
            "length_mm": 60.0,
            "typed": "60 mm",
            "jaws": {"way": "level", "place": [9, 9]},
            **length,
        },
        "k2": {
            "kind": "diameter",
            "name": "Bore",
            "center": [200, 200],
            "half_axes": [25, 25],
            "angle": 0.0,
            "length_mm": 5.0,
            **length,
        },
        "k3": {
            "kind": "rectangle",
            "name": "Card",
            "corners": corners,
            "width_mm": 85.6,
            "height_mm": 53.98,
            "thing": "",
            **length,
            "used": False,
        },
        "k4": {
            "kind": "straight",
            "name": "Edge",
            "places": [[10, 10], [100, 10.1], [200, 10], [300, 10], [400, 10]],
            "picture": "r1",
            "used": False,
        },
        "k5": {
            "kind": "check",
            "name": "Check",
            "what": "distance",
            "places": [[10, 10], [10, 410]],
            "gauge": 40.0,
            "stand_in": False,
            **length,
        },
        "k6": {"kind": "resolution", "name": "Resolution", "dpi": [254.0, 254.0], "picture": "r1", "used": True},
    }
    picture = {
        "name": "plate.png",
        "digest": "0" * 64,
        "media_type": "image/png",
        "width": 1200,
        "height": 800,
        "dpi": [254.0, 254.0],
        "taken_from": "",
        "licence": "",
        "origin_px": [0.0, 799.0],
        "angle": 0.0,
        "at_mm": [0.0, 0.0],
        "flipped": False,
        "drawn": False,
        "stand_in": None,
        "camera": "",
        "focal": None,
        "visible": True,
        "locked": False,
        "opacity": 0.55,
        "model": "auto",
        "steps": [{"kind": "even", "reach_percent": 25, "on": True}],
        "height_mm": 2.0,
        "camera_mm": 400.0,
    }
    trace = {
        "picture": "r1",
        "settings": {"tolerance_mm": 0.1, "threshold": 0.5, "speck_mm2": 1.0, "keep": "all"},
        "max_dev_mm": 0.05,
        "rms_dev_mm": 0.01,
        "edge": [[10.0, 799.0], [300.0, 799.0]],
    }
    return {
        "reference": {
            "pictures": {"r1": picture},
            "active": "r1",
            "known": known,
            "traces": {"drawn": trace},
            "next_number": 9,
        },
        "sketch": model.to_json(sketch),
        "build": {
            "operations": {one.name: json.loads(json.dumps(to_json(one))) for one in operations},
            "order": [one.name for one in operations],
            "material": "PLA",
            "next_number": 5,
        },
    }


def leaves(value, path=()):
    """Paths of all values in plain data, the containers too."""
    yield path
    for key, item in value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ():
        yield from leaves(item, (*path, key))


class Documents(unittest.TestCase):
    def test_a_whole_job_is_read(self):
        view = overview(checked(whole_job()))
        self.assertEqual(len(view.build.operations), 2)
        self.assertTrue(ledger.ledger(view, "reference"))

    def test_one_value_changed_is_read_or_refused(self):
        base, random, refused = whole_job(), np.random.default_rng(11), 0
        paths = [path for path in leaves(base) if path]
        for _ in range(MUTATIONS):
            documents, path = copy.deepcopy(base), paths[int(random.integers(len(paths)))]
            place = documents
            for key in path[:-1]:
                place = place[key]
            place[path[-1]] = WRONG[int(random.integers(len(WRONG)))]
            with self.subTest(path=path, value=place[path[-1]]):
                try:
                    whole = checked(documents)
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
            (("build", "material"), "butter", "butter"),
            (("build", "order"), ["op9"], "op9"),
            (("build", "operations", "op1", "kind"), "knit", "knit"),
            (("reference", "known", "k1", "picture"), "r7", "not there"),
            (("sketch", "curves", "c9"), {"kind": "wiggle", "points": []}, "wiggle"),
        ):
            documents = whole_job()
            place = documents
            for key in path[:-1]:
                place = place[key]
            place[path[-1]] = value
            with self.assertRaisesRegex(CoreError, words):
                checked(documents)


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
