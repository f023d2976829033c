"""Commands with undo and conflict detection, who may do what, uploads good and bad."""

import importlib
import io
import json
import math
import re
import unittest
import uuid
from unittest import mock

import numpy as np
import trimesh
from django.apps import apps
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import DataError, transaction
from django.utils import timezone
from django.utils.html import escape
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image

from core.tests.old_jobs import whole_version_1
from core.tests.test_reference import png_claiming
from examples import pictures
from nomogon_core.errors import InputError
from nomogon_core.exchange import archive
from nomogon_core.exchange.readers.meshes import read_mesh
from nomogon_core.job.commands.registry import Outcome
from nomogon_core.job.document import calibration_of
from nomogon_core.job.history import apply, difference, taken_back
from nomogon_core.job.migration import from_version_1
from nomogon_core.solid.meshes import packed
from shell.guide import chapters
from store import making
from store.actions import document_at, go_back, undo
from store.documents import Shelf, document_of
from store.models import UNHELD, Blob, Command, Document, Job, Member, Release
from web.tests.helpers import JobCase, make_user

DOCUMENTS = st.recursive(
    st.integers() | st.text(max_size=3) | st.none(),
    lambda inner: st.dictionaries(st.text(max_size=3), inner, max_size=4) | st.lists(inner, max_size=3),
    max_leaves=12,
)


def png(width=64, height=48):
    stream = io.BytesIO()
    Image.fromarray(np.full((height, width), 180, np.uint8)).save(stream, "PNG")
    return stream.getvalue()


class Changes(unittest.TestCase):
    # The library's first words on a fresh machine take it a second or two.
    @settings(suppress_health_check=[HealthCheck.too_slow])
    @given(
        st.dictionaries(st.text(max_size=3), DOCUMENTS, max_size=4),
        st.dictionaries(st.text(max_size=3), DOCUMENTS, max_size=4),
    )
    def test_forth_and_back(self, before, after):
        changes = difference(before, after)
        self.assertEqual(apply(before, changes), after)
        self.assertEqual(apply(after, taken_back({"": changes})[""]), before)


class Blobs(JobCase):
    def test_a_job_holds_what_it_needs_and_cannot_get_what_others_hold(self):
        other = making.new_job(self.mt, "Another")
        mine = Shelf(self.job).keep(b"mine", "text/plain")
        theirs = Shelf(other).keep(b"theirs", "text/plain")
        self.assertEqual(Shelf(self.job).blob(mine), b"mine")
        with self.assertRaisesRegex(InputError, "is not there any more"):
            Shelf(self.job).blob(theirs)

    def test_what_no_job_holds_is_cleared_after_a_while(self):
        shared = [Shelf(job).keep(b"shared", "text/plain") for job in (self.job, making.new_job(self.mt, "Another"))]
        gone = making.new_job(self.mt, "Gone")
        kept = {shared[0]: True, Shelf(gone).keep(b"gone", "text/plain"): False, Shelf(gone).keep(b"new", "x"): True}
        gone.delete()
        for digest in list(kept)[:2]:
            Blob.objects.filter(pk=digest).update(kept=timezone.now() - 2 * UNHELD)
        Blob.sweep()
        for digest, there in kept.items():
            self.assertEqual(Blob.objects.filter(pk=digest).exists(), there)


class Commands(JobCase):
    def test_undo_and_redo_restore_every_document_exactly(self):
        states = [document_of(self.job)]
        self.do("sketch.line", start=[100, 0], end=[120, 30])
        states.append(document_of(self.job))
        self.do("sketch.dimension", kind="diameter", of=[self.first("circle")], text="5 mm")
        states.append(document_of(self.job))
        self.do("sketch.title", text="Brass")
        states.append(document_of(self.job))
        for state in states[-2::-1]:
            self.job.refresh_from_db()
            self.assertEqual(self.post("undo", {"version": self.job.version}).status_code, 200)
            self.assertEqual(document_of(self.job), state)
        self.job.refresh_from_db()
        self.assertContains(self.post("undo", {"version": self.job.version}), "nothing to undo", status_code=400)
        for state in states[1:]:
            self.job.refresh_from_db()
            self.assertEqual(self.post("redo", {"version": self.job.version}).status_code, 200)
            self.assertEqual(document_of(self.job), state)

    def test_a_new_command_after_undo_ends_redo(self):
        self.do("sketch.title", text="Brass")
        self.job.refresh_from_db()
        self.post("undo", {"version": self.job.version})
        self.do("sketch.title", text="Steel")
        self.job.refresh_from_db()
        self.assertEqual(self.post("redo", {"version": self.job.version}).status_code, 400)

    def test_a_stale_version_is_answered_409_with_what_happened(self):
        self.share(self.mt, Member.EDITOR)
        stale = Job.objects.get(pk=self.job.pk).version
        self.do("sketch.title", text="Brass")
        self.client.force_login(self.mt)
        answer = self.do("sketch.title", version=stale, text="Steel")
        self.assertEqual(answer.status_code, 409)
        self.assertIn("Outline is called Brass now (ro)", answer.json()["problem"])
        self.assertEqual(document_of(self.job)["sketches"]["s1"]["title"], "Brass")

    def test_what_two_people_do_to_different_things_goes_together(self):
        self.share(self.mt, Member.EDITOR)
        self.do("sketch.line", start=[100, 0], end=[120, 30])
        stale = Job.objects.get(pk=self.job.pk).version
        self.do("sketch.line", start=[200, 0], end=[220, 30])
        self.do("ledger.add", name="wall", text="2 mm")
        self.client.force_login(self.mt)
        circle = self.first("circle")
        answer = self.do("sketch.dimension", version=stale, kind="diameter", of=[circle], text="5 mm")
        self.assertEqual(answer.status_code, 200, answer.content)
        self.assertIn("Meanwhile:", answer.json()["note"])
        self.assertAlmostEqual(self.sketch().curves[circle].radius, 2.5)
        answer = self.do("sketch.remove", version=stale, names=[circle])
        self.assertEqual(answer.status_code, 409, "its dimension would go too, which that page did not show")

    def test_a_stale_page_learns_of_an_undo(self):
        self.do("sketch.title", text="Brass")
        stale = Job.objects.get(pk=self.job.pk).version
        self.post("undo", {"version": stale})
        answer = self.do("sketch.title", version=stale, text="Steel")
        self.assertEqual(answer.status_code, 409)
        self.assertIn("Undone: Outline is called Brass now (ro)", answer.json()["problem"])

    def test_every_version_can_be_had_again_whatever_was_undone(self):
        states = {self.job.version: document_of(self.job)}

        def after(answer):
            self.assertEqual(answer.status_code, 200, answer.content)
            self.job.refresh_from_db()
            states[self.job.version] = document_of(self.job)

        for step in ("Brass", "Steel", "undo", "Copper", "undo", "undo", "redo", "Zinc", "undo"):
            if step in ("undo", "redo"):
                after(self.post(step, {"version": self.job.version}))
            else:
                after(self.do("sketch.title", text=step))
        self.assertEqual(len(states), 10)
        for version, document in states.items():
            self.assertEqual(document_at(self.job, version), document)
        go_back(self.job.pk, self.ro, self.job.version, 2)
        self.assertEqual(document_of(self.job)["sketches"]["s1"]["title"], "Steel")
        self.job.refresh_from_db()
        undo(self.job.pk, self.ro, self.job.version)
        self.assertEqual(document_of(self.job), states[9])
        with self.assertRaisesRegex(InputError, "cannot be had"):
            document_at(self.job, 99)

    def test_a_refused_command_changes_nothing(self):
        before, version = document_of(self.job), self.job.version
        for name, arguments, words in (
            ("sketch.dimension", {"kind": "diameter", "of": [self.first("line")]}, "one circle or arc"),
            ("sketch.line", {"start": [0, 0], "end": [0, 0]}, "no length"),
            ("sketch.line", {"start": [0, 0]}, "sent without end"),
            ("no.such", {}, "no command"),
            ("sketch.line", {"start": "p999", "end": [1, 1]}, "no point p999"),
            ("sketch.line", {"start": [float("1e300"), 0], "end": [1, 1]}, "as start"),
            ("solid.add", {"kind": "hole", "blanks": {}}, "needs the circles"),
            ("reference.add_known", {"start": [0, 0], "end": [9, 9], "text": "5", "sigma_px": 0.1}, "no picture"),
        ):
            answer = self.do(name, **arguments)
            self.assertEqual(answer.status_code, 400, name)
            self.assertIn(words, answer.json()["problem"])
        self.job.refresh_from_db()
        self.assertEqual((document_of(self.job), self.job.version), (before, version))

    def test_what_is_no_number_is_not_stored(self):
        before = document_of(self.job)
        spoiled = json.loads(json.dumps(before))
        point = next(iter(spoiled["sketches"]["s1"]["points"].values()))
        point[0] = math.nan
        spoiling = mock.patch("store.actions.carry_out", return_value=Outcome(spoiled, "Spoiled"))
        with spoiling, self.assertRaises(DataError), transaction.atomic():
            self.perform("sketch.remove", names=["p1"])
        self.job.refresh_from_db()
        self.assertEqual((self.job.version, document_of(self.job)), (0, before))

    def test_a_full_sketch_takes_no_more_curves_but_lets_some_go(self):
        with mock.patch("nomogon_core.job.commands.sketch.MOST_ENTITIES", 3):
            answer = self.do("sketch.line", start=[500, 0], end=[510, 3])
            self.assertIn("at most 3 curves", answer.json()["problem"])
            before = len(self.sketch().curves)
            self.assertEqual(self.do("sketch.remove", names=[next(iter(self.sketch().curves))]).status_code, 200)
        self.assertEqual(len(self.sketch().curves), before - 1)

    def test_nonsense_bodies_are_refused_in_words(self):
        for body in (b"{", b"[]", b'"x"', b'{"version": "x"}', b'{"version": 0, "arguments": 3}', b"\xff\xfe"):
            answer = self.client.post(
                f"/jobs/{self.job.pk}/do/sketch.line",
                body,
                content_type="application/json",
                headers={"accept": "application/json"},
            )
            self.assertEqual(answer.status_code, 400, body)
            self.assertIn("load it again", answer.json()["problem"])

    def test_a_dimension_typed_over_in_the_ledger(self):
        self.do("sketch.dimension", kind="diameter", of=[self.first("circle")])
        name = next(key for key, item in self.sketch().constraints.items() if item.is_dimension)
        self.job.refresh_from_db()
        sent = {"row": f"dimension:{name}", "value": "3/16 in", "stage": "sketch", "version": self.job.version}
        answer = self.client.post(f"/jobs/{self.job.pk}/quantity", sent)
        self.assertIn("nomogon:changed", json.loads(answer["HX-Trigger"]))
        self.assertAlmostEqual(self.sketch().constraints[name].value, 4.7625)
        self.assertContains(answer, 'value="4.76"')
        stale = self.client.post(f"/jobs/{self.job.pk}/quantity", sent)
        self.assertIn("has changed since", json.loads(stale["HX-Trigger"])["nomogon:changed"]["problem"])
        self.job.refresh_from_db()
        wrong = self.client.post(f"/jobs/{self.job.pk}/quantity", sent | {"value": "wide", "version": self.job.version})
        self.assertIn("not a length", json.loads(wrong["HX-Trigger"])["nomogon:problem"]["problem"])

    def test_an_answer_tells_a_page_only_what_is_another_than_it_shows(self):
        board = self.client.get(f"/jobs/{self.job.pk}/sketch/board").json()
        shown, shapes, circle = board["version"], board["shapes"], self.first("circle")
        for command, arguments in (
            ("sketch.dimension", {"kind": "diameter", "of": [circle]}),
            ("sketch.line", {"start": [200.0, 0.0], "end": [210.0, 0.0]}),
            ("sketch.remove", {"names": [circle]}),
        ):
            body = {"version": shown, "arguments": arguments, "stage": "sketch", "shown": shown}
            answer = self.post(f"do/{command}", body).json()["board"]
            self.assertEqual(answer["since"], shown)
            for part, told in answer["shapes"].items():
                self.assertLessEqual(len(told["put"]), 3)
                kept = {item["id"]: item for item in shapes[part] if item["id"] not in told["gone"]}
                shapes[part] = list((kept | {item["id"]: item for item in told["put"]}).values())
            shown = answer["version"]
        whole = self.client.get(f"/jobs/{self.job.pk}/sketch/board").json()["shapes"]
        self.assertEqual(
            {part: {item["id"]: item for item in items} for part, items in whole.items()},
            {part: {item["id"]: item for item in items} for part, items in shapes.items()},
        )
        body = {"version": shown, "arguments": arguments, "stage": "sketch", "shown": 10**6}
        self.assertEqual(
            self.post("do/sketch.remove", body | {"arguments": {"names": [self.first("line")]}}).json()["board"][
                "since"
            ],
            None,
        )

    def test_dragging_stores_nothing_and_dropping_does(self):
        circle = self.first("circle")
        center = self.sketch().curves[circle].points[0]
        before = document_of(self.job)
        answer = self.post("sketch/drag", {"held": [center], "dx": 2.0, "dy": 1.0, "x": 0, "y": 0, "sequence": 4})
        self.assertEqual(answer.json()["sequence"], 4)
        self.assertEqual(document_of(self.job), before)
        x, y = self.sketch().points[center]
        moved = answer.json()["moved"]
        np.testing.assert_allclose(moved["points"].pop(center), (x + 2, y + 1), atol=1e-6)
        self.assertEqual((moved["points"], list(moved["curves"])), ({}, [circle]), "and nothing else")
        self.do("sketch.drag", held=[center], offset=[2.0, 1.0], place=[0, 0])
        self.assertAlmostEqual(self.sketch().points[center][0], x + 2)
        self.assertAlmostEqual(self.sketch().points[center][1], y + 1)


class Permissions(JobCase):
    def pages(self):
        return [
            "",
            "reference",
            "sketch",
            "solid",
            "inspect",
            "release",
            "sketch/board",
            "reference/board",
            "archive",
            "panel/sketch",
            "picture/" + "0" * 64,
        ]

    def test_sign_in_is_needed_everywhere(self):
        self.client.logout()
        for address in ["/", "/new", *(f"/jobs/{self.job.pk}/{page}" for page in self.pages())]:
            answer = self.client.get(address)
            self.assertEqual(answer.status_code, 302, address)
            self.assertIn("/sign-in", answer["Location"])
        self.assertEqual(self.client.get("/alive").status_code, 200)

    def test_another_account_sees_nothing(self):
        self.client.force_login(self.mt)
        for page in self.pages():
            self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/{page}").status_code, 404, page)
        self.assertEqual(self.do("sketch.title", text="Brass").status_code, 404)
        self.assertNotContains(self.client.get("/"), "Hive latch plate")
        self.assertEqual(self.client.get(f"/jobs/{uuid.uuid4()}/sketch").status_code, 404)

    def test_a_viewer_looks_but_does_not_change(self):
        self.share(self.mt, Member.VIEWER)
        self.client.force_login(self.mt)
        self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/sketch").status_code, 200)
        answer = self.do("sketch.title", text="Brass")
        self.assertEqual(answer.status_code, 403)
        self.assertIn("not change it", answer.json()["problem"])
        self.assertEqual(self.post("undo", {"version": 0}).status_code, 403)

    def test_a_picture_belongs_to_its_job_only(self):
        other = making.job_from_picture(self.mt, "Lid boss", "", png(), "lid.png")
        digest = next(iter(document_of(other)["references"].values()))["digest"]
        self.assertEqual(self.client.get(f"/jobs/{self.job.pk}/picture/{digest}").status_code, 404)
        self.client.force_login(self.mt)
        self.assertEqual(self.client.get(f"/jobs/{other.pk}/picture/{digest}")["Content-Type"], "image/png")


class Pages(JobCase):
    def test_every_stage_is_reachable_from_the_first_day(self):
        empty = making.new_job(self.ro, "Feeder cap")
        for stage in ("reference", "sketch", "solid", "inspect", "release"):
            answer = self.client.get(f"/jobs/{empty.pk}/{stage}")
            self.assertContains(answer, "Feeder cap")
            self.assertContains(answer, "Next")

    def test_policy_is_strict_and_nothing_is_inline(self):
        for page in ("/", "/new", f"/jobs/{self.job.pk}/sketch", f"/jobs/{self.job.pk}/solid"):
            answer = self.client.get(page)
            policy = answer["Content-Security-Policy"]
            self.assertIn("script-src 'self'", policy)
            self.assertNotIn("unsafe", policy)
            text = answer.content.decode()
            self.assertNotIn(" style=", text)
            self.assertNotIn(" onclick=", text)
            self.assertNotRegex(text, r"<script(?![^>]*\bsrc=)[^>]*>")
            self.assertNotRegex(text, r'(src|href)="https?://')

    def test_units_follow_the_user(self):
        self.do("sketch.dimension", kind="diameter", of=[self.first("circle")], text="25.4 mm")
        self.client.post("/units/in")
        self.assertContains(self.client.get(f"/jobs/{self.job.pk}/sketch"), 'value="1.0000"')

    def test_names_with_html_are_only_text(self):
        answer = self.client.post("/new", {"title": "<script>alert(1)</script>", "number": "<b>"})
        job = Job.objects.get(title="<script>alert(1)</script>")
        self.assertRedirects(answer, f"/jobs/{job.pk}/sketch")
        for page in ("/", f"/jobs/{job.pk}/sketch", f"/jobs/{job.pk}/release"):
            text = self.client.get(page).content.decode()
            self.assertNotIn("<script>alert", text)
            self.assertIn("&lt;script&gt;alert(1)&lt;/script&gt;", text)

    def test_the_guide_has_a_page_for_each_chapter_and_its_pictures(self):
        found = list(chapters())
        self.assertEqual(found[:3], ["first", "picture", "reference"])
        pictures = set()
        for slug in found:
            answer = self.client.get(f"/guide/{slug}")
            self.assertContains(answer, f"<h1>{escape(chapters()[slug].title)}</h1>", status_code=200)
            pictures |= set(re.findall(r'src="(/guide/pictures/[^"]+)"', answer.content.decode()))
        self.assertGreater(len(pictures), 5)
        for picture in pictures:
            self.assertEqual(next(iter(self.client.get(picture)))[:4], b"\x89PNG", picture)
        for stage in ("reference", "sketch", "solid", "inspect", "release"):
            page = self.client.get(f"/jobs/{self.job.pk}/{stage}").content.decode()
            (link,) = re.findall(r'href="(/guide/[^"]+)"', page)
            self.assertEqual(self.client.get(link, follow=True).status_code, 200, stage)
        for address in ("/guide/none", "/guide/pictures/none", "/guide/pictures/..%2Fguide.md"):
            self.assertEqual(self.client.get(address).status_code, 404, address)

    def test_unknown_pages_say_so(self):
        self.assertContains(self.client.get("/jobs/none"), "nothing at this address", status_code=404)


class Uploads(JobCase):
    def upload(self, data, name, **fields):
        return self.client.post("/new", {"picture": SimpleUploadedFile(name, data), **fields})

    def test_a_picture_makes_a_job(self):
        answer = self.upload(png(), "feeder-cap.png", number="FLA-040")
        job = Job.objects.get(number="FLA-040")
        self.assertRedirects(answer, f"/jobs/{job.pk}/reference")
        self.assertEqual(job.title, "feeder cap")
        self.assertEqual(self.client.get(f"/jobs/{job.pk}/reference/board").json()["picture"]["width"], 64)

    def test_bad_pictures_make_no_job(self):
        stream = io.BytesIO()
        Image.fromarray(np.random.default_rng(1).integers(0, 255, (300, 400), np.uint8)).save(stream, "JPEG")
        count, blobs = Job.objects.count(), Blob.objects.count()
        for data, name, words in (
            (b"these are words", "words.png", "not a picture that can be read"),
            (stream.getvalue()[:9000], "half.jpg", "cut off"),
            (png_claiming(20000, 10000), "bomb.png", "200 megapixels"),
            (b"x", "nothing.png", "not a picture"),
            (b"PK", "job.zip", "not a job archive"),
        ):
            answer = self.upload(data, name)
            self.assertContains(answer, words, status_code=400)
            self.assertNotContains(answer, "Traceback", status_code=400)
        self.assertEqual((Job.objects.count(), Blob.objects.count()), (count, blobs))

    def test_no_title_and_no_picture(self):
        self.assertContains(self.client.post("/new", {"title": "  "}), "needs a title", status_code=400)

    def test_an_archive_goes_out_and_in_again(self):
        job = making.job_from_picture(self.ro, "Lid boss", "FLA-030", png(), "lid.png")
        data = self.client.get(f"/jobs/{job.pk}/archive").content
        self.assertEqual(len(archive.read(data).pictures), 1)
        self.client.force_login(self.mt)
        self.upload(data, "lid.zip")
        copy = Job.objects.get(title="Lid boss", members__user=self.mt)
        self.assertEqual(document_of(copy), document_of(job))

    def test_meshes_and_kept_releases_go_with_an_archive(self):
        self.job = making.new_job(self.ro, "Entrance disc")
        box = read_mesh(trimesh.creation.box((9, 8, 7)).export(file_type="stl"), "b.stl").mesh
        file = Shelf(self.job).keep(packed(box), "application/octet-stream")
        blanks = {
            "mesh": {"file": file, "name": "b.stl"},
            "unit": "mm",
            "lying": "lies",
            "result": "new",
            "body": "Box",
        }
        self.perform("solid.add", kind="bring", blanks=blanks)
        kept, _ = Release.keep(self.job, self.ro, b"PK all files", 5, "kerf 0.2 mm")
        data = self.client.get(f"/jobs/{self.job.pk}/archive").content
        self.client.force_login(self.mt)
        self.upload(data, "disc.zip")
        copy = Job.objects.get(title="Entrance disc", members__user=self.mt)
        self.assertTrue(copy.holdings.filter(blob_id=file).exists())
        (again,) = copy.releases.all()
        self.assertEqual((again.number, again.version, again.allowances), (kept.number, 5, "kerf 0.2 mm"))
        self.assertEqual(bytes(again.blob.data), b"PK all files")
        self.assertLess(abs((again.made - kept.made).total_seconds()), 2)

    def test_a_picture_is_sized_by_hand_until_something_is_known(self):
        self.job = making.job_from_picture(self.ro, "Sign", "", png(), "sign.png")
        (name,) = document_of(self.job)["references"]
        for text, words in (("0", "longer than zero"), ("wide", "not a length")):
            self.assertIn(
                words, self.do("reference.place_picture", picture=name, field="width", text=text).json()["problem"]
            )
        self.perform("reference.place_picture", picture=name, field="width", text="4 in")
        fit = calibration_of(document_of(self.job))
        self.assertTrue(fit.is_set)
        self.assertAlmostEqual(fit.mm_per_px * document_of(self.job)["references"][name]["width"], 101.6)
        self.perform("reference.set_origin", place=[0, 0])
        self.perform("reference.drag_corner", picture=name, corner=[100, 50], place=[150, 75])
        self.assertAlmostEqual(calibration_of(document_of(self.job)).mm_per_px, 1.5 * fit.mm_per_px)
        for stage in ("reference", "sketch", "solid"):
            page = self.client.get(f"/jobs/{self.job.pk}/{stage}").content.decode()
            self.assertIn("size set by hand", page)
            self.assertNotRegex(page, r"±\s?\d")
        self.perform("reference.add_known", start=[10, 10], end=[110, 10], text="20 mm", sigma_px=0.1)
        self.assertFalse(calibration_of(document_of(self.job)).is_set)
        self.assertIn(
            "is measured", self.do("reference.place_picture", picture=name, field="width", text="90").json()["problem"]
        )
        self.perform("reference.remove_known", name=next(iter(document_of(self.job)["known"])))
        self.assertTrue(calibration_of(document_of(self.job)).is_set)

    def test_what_the_page_sends_of_edges_jaws_and_width_is_looked_at(self):
        self.job = making.job_from_picture(self.ro, "Sign", "", png(), "sign.png")
        corners, length = (
            [[10, 10], [110, 12], [108, 80], [9, 78]],
            {"start": [10, 10], "end": [110, 10], "text": "20 mm", "sigma_px": 0.1},
        )
        for command, arguments, words in (
            ("reference.add_rectangle", {"corners": corners, "thing": "card", "edges": [{}] * 4}, "as edges"),
            ("reference.add_rectangle", {"corners": corners, "thing": "card", "edges": 3}, "as edges"),
            ("reference.add_known", {**length, "jaws": {"way": "sideways", "place": [1, 2]}}, "Jaws close"),
            ("reference.add_known", {**length, "jaws": {"way": True, "place": [1, 2]}}, "as jaws"),
            ("reference.add_known", {**length, "jaws": {"way": "level"}}, "as jaws"),
            ("reference.add_width", {"text": "-3"}, "longer than zero"),
            ("reference.add_straight", {"places": [[1, 1]]}, "places"),
        ):
            with self.subTest(command=command, arguments=arguments):
                answer = self.do(command, **arguments)
                self.assertEqual(answer.status_code, 400)
                self.assertIn(words, answer.json()["problem"])
        self.assertEqual(document_of(self.job)["known"], {})
        self.perform("reference.add_width", text="80 mm")
        self.assertAlmostEqual(
            calibration_of(document_of(self.job)).mm_per_px,
            80 / next(iter(document_of(self.job)["references"].values()))["width"],
            places=9,
        )

    def test_known_lengths_on_a_stored_picture(self):
        shot = pictures.hinge_leaf()
        job = making.job_from_picture(self.ro, "Leaf", "", shot.jpeg, "leaf.jpg")
        self.job = job
        left, right = shot.camera.to_px([(0, 20), (62, 20)])
        picks = [self.post("reference/pick", {"x": x + 3, "y": y, "reach": 14}).json() for x, y in (left, right)]
        self.assertTrue(all(pick["edge"] for pick in picks))
        for text, words in (("0", "longer than zero"), ("wide", "not a length")):
            answer = self.do(
                "reference.add_known",
                start=[picks[0]["x"], picks[0]["y"]],
                end=[picks[1]["x"], picks[1]["y"]],
                text=text,
                sigma_px=0.1,
            )
            self.assertIn(words, answer.json()["problem"])
        same = self.do("reference.add_known", start=[10, 10], end=[10, 10], text="5", sigma_px=0.1)
        self.assertIn("on the same place", same.json()["problem"])
        self.do(
            "reference.add_known",
            start=[picks[0]["x"], picks[0]["y"]],
            end=[picks[1]["x"], picks[1]["y"]],
            text="62 mm",
            sigma_px=0.1,
        )
        self.assertAlmostEqual(
            self.client.get(f"/jobs/{job.pk}/reference/board").json()["scale"]["mm_per_px"], 1 / 24, delta=1e-5
        )
        outlines = self.post("reference/outlines", {"threshold": 0.5, "tolerance": "0.1", "speck": 1}).json()[
            "outlines"
        ]
        self.assertEqual([item["hole"] for item in outlines], [False, True, True, True])
        self.assertIn("between 0.001 and 20 mm", self.post("reference/outlines", {"tolerance": "0"}).json()["problem"])


class Users(JobCase):
    def test_wrong_password_is_told(self):
        self.client.logout()
        answer = self.client.post("/sign-in", {"username": "ro", "password": "wrong"})
        self.assertContains(answer, "do not go together")
        make_user("ab")
        self.assertRedirects(self.client.post("/sign-in", {"username": "ab", "password": "hive-latch"}), "/")


class OldRows(JobCase):
    def test_stored_jobs_of_version_1_become_one_document(self):
        convert = importlib.import_module("store.migrations.0002_one_document").convert
        self.job.documents.all().delete()
        old = whole_version_1()
        for name, data in old.items():
            Document.objects.create(job=self.job, name=name, data=data)
        Command.objects.create(job=self.job, version=1, user=self.ro, name="sketch.line", told="Line drawn")
        convert(apps, None)
        document = document_of(self.job)
        self.assertEqual(document, from_version_1(old, lambda data: Blob.keep(self.job, data, "x").digest))
        self.assertEqual(Member.objects.get(job=self.job, user=self.ro).working, {"picture": "r1"})
        self.assertIn("nothing to undo", self.post("undo", {"version": self.job.version}).json()["problem"])
        convert(apps, None)
        self.assertEqual(document_of(self.job), document)
