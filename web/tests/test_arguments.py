"""Whatever is sent as the arguments of a command: a sentence, never a failure, and nothing changed."""

import json
import math

import numpy as np

from core.tests.test_schema import WRONG as SPOILED
from core.tests.test_schema import leaves, whole_job
from nomogon_core.arguments import Choice, Either, Number, Place, Record, Rows, Switch, Text, Whole, Wrong, checked
from nomogon_core.errors import ArchiveError, InputError
from nomogon_core.job.commands import COMMANDS
from nomogon_core.job.overview import checked as checked_documents
from nomogon_core.sketch.regions import find_regions
from store import making
from store.actions import perform
from store.documents import document_of
from store.models import Document
from web.tests.helpers import JobCase, extrusion
from web.tests.test_jobs import png

WRONG = (
    None,
    True,
    False,
    0,
    -1,
    7,
    1e300,
    math.nan,
    math.inf,
    10**30,
    "",
    "c1",
    "k1",
    "op1",
    "a\0b",
    "x" * 5000,
    "12 mm",
    [],
    [[]],
    [1],
    [1, 2],
    ["c1"],
    ["c1", "p1"],
    [[1, 2], [3, 4]],
    [math.nan, 1],
    [["c1"]],
    {},
    {"a": 1},
    {"kind": "crop"},
    {"kind": ["crop"]},
    [{}],
    [{"places": 3}],
    [None] * 4,
    {"x": {"y": [{}]}},
)
PER_COMMAND = 50


class Kinds(JobCase):
    def test_each_kind_takes_what_it_says(self):
        for kind, good, bad in (
            (Text(3), ["", "abc"], [1, "abcd", "a\0", None]),
            (Number(0, 5), [0, 2.5], [True, "1", math.nan, 6, None]),
            (Whole(1, 3), [1], [1.0, 0, 4]),
            (Switch(), [True], [1, "true"]),
            (Choice(("mm", "in")), ["mm"], ["cm", 1, ["mm"]]),
            (Place(), [[1, 2], (3.5, -1)], [[1], "ab", [1, math.inf], [1, True]]),
            (Rows(Place(), 1, 2), [[[1, 2]]], [[], [[1, 2]] * 3, [[1]]]),
            (Either((Text(), Place())), ["a", [1, 2]], [3, [1]]),
            (Record({"way": Text()}, required=("way",)), [{"way": ""}], [{}, {"way": 1}, {"way": "", "more": 1}, 3]),
        ):
            for value in good:
                self.assertEqual(kind.check(value), value)
            for value in bad:
                with self.assertRaises(Wrong, msg=f"{kind} {value!r}"):
                    kind.check(value)

    def test_the_sentence_names_command_and_argument(self):
        with self.assertRaisesRegex(InputError, "sketch.line expects a number between 0 and 5 as width; 'wide' came"):
            checked("sketch.line", {"width": Number(0, 5)}, (), {"width": "wide"})
        with self.assertRaisesRegex(InputError, "without width"):
            checked("sketch.line", {"width": Number(0, 5)}, (), {})
        with self.assertRaisesRegex(InputError, "takes no 'height'"):
            checked("sketch.line", {"width": Number(0, 5)}, (), {"width": 1, "height": 2})


class Nonsense(JobCase):
    def test_no_command_fails_whatever_is_sent(self):
        """Every command with 50 sets of wrong arguments, on a job with a picture, a sketch and an operation."""
        self.job = making.job_from_picture(self.ro, "Sign", "", png(), "sign.png")
        self.perform("reference.add_known", start=[10, 10], end=[110, 10], text="20 mm", sigma_px=0.1)
        self.perform("sketch.rectangle", first=[0, 0], second=[30, 20])
        region = next(iter(self.regions()))
        self.perform(
            "solid.add",
            **extrusion(region, "5 mm"),
        )
        random = np.random.default_rng(5)
        for name, declared in COMMANDS.items():
            for _ in range(PER_COMMAND):
                arguments = {
                    argument: WRONG[int(random.integers(len(WRONG)))]
                    for argument in declared.arguments
                    if argument not in declared.optional or random.random() < 0.4
                }
                before = document_of(self.job)
                try:
                    perform(self.job.pk, self.ro, None, name, arguments)
                except InputError as problem:
                    self.assertRegex(str(problem), r"^[A-Z0-9\"'].{10,}[.)…]$", name)
                    self.assertEqual(document_of(self.job), before)
                except Exception as problem:
                    raise AssertionError(f"{name} failed on {arguments}: {problem!r}") from problem
        self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/reference").status_code, 200)

    def test_pages_of_a_job_with_one_value_changed_are_answered(self):
        """What of :mod:`core.tests.test_schema` is taken in is shown too; pictures that are not in the store are told,
        not failed on."""
        random, paths, shown = np.random.default_rng(7), [path for path in leaves(whole_job()) if len(path) > 1], 0
        for _ in range(120):
            documents, path = whole_job(), paths[int(random.integers(len(paths)))]
            place = documents
            for key in path[:-1]:
                place = place[key]
            place[path[-1]] = SPOILED[int(random.integers(len(SPOILED)))]
            try:
                whole = checked_documents(documents)
            except ArchiveError:
                continue
            for name, data in whole.items():
                Document.objects.update_or_create(job=self.job, name=name, defaults={"data": data})
            for page in ("reference", "reference/board", "sketch", "sketch/board", "solid", "inspect", "release"):
                answer = self.client.get(f"/jobs/{self.job.pk}/{page}")
                self.assertLess(answer.status_code, 500, f"{page}: {path} {place[path[-1]]!r}")
                shown += answer.status_code == 200
        self.assertGreater(shown, 40)

    def regions(self):
        return [region.name for region in find_regions(self.sketch())]

    def test_a_page_cannot_attach_a_known_digest(self):
        self.job = making.job_from_picture(self.ro, "Sign", "", png(), "sign.png")
        digest = next(iter(document_of(self.job)["references"].values()))["digest"]
        answer = self.do(
            "reference.add_picture", name="mine", digest=digest, media_type="image/png", width=10, height=10, dpi=None
        )
        self.assertEqual(answer.status_code, 400)
        self.assertIn("none that a page sends", answer.json()["problem"])
        with self.assertRaisesRegex(InputError, "width"):
            perform(
                self.job.pk,
                self.ro,
                None,
                "reference.add_picture",
                {"name": "x", "digest": digest, "media_type": "image/png", "width": "abc", "height": 10, "dpi": None},
            )

    def test_requests_of_every_shape_are_answered(self):
        for body in ("", "[]", "nope", '{"version": "x"}'):
            answer = self.client.post(
                f"/jobs/{self.job.pk}/do/sketch.line",
                body,
                content_type="application/json",
                headers={"accept": "application/json"},
            )
            self.assertEqual(answer.status_code, 400, body)
        answer = self.client.post(
            f"/jobs/{self.job.pk}/do/sketch.line",
            json.dumps({"version": self.job.version, "arguments": {"start": math.nan, "end": [1, 2]}}),
            content_type="application/json",
            headers={"accept": "application/json"},
        )
        self.assertIn("as start", answer.json()["problem"])
