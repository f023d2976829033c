"""Users, jobs and pictures that the web tests use."""

import json

from django.contrib.auth import get_user_model
from django.test import TestCase

from examples import parts
from nomogon_core.job.document import keep_sketch, sketch_of
from nomogon_core.sketch import edit, model
from store import making
from store.actions import perform
from store.documents import document_of, keep_document
from store.models import Member


def make_user(name):
    user = get_user_model().objects.create(username=name)
    user.set_password("hive-latch")
    user.save()
    return user


def sketched_job(user, outlines=None, title="Hive latch plate"):
    """A job with a drawn sketch and no picture."""
    job = making.new_job(user, title, "FLA-014")
    sketch = model.Sketch()
    for outline in outlines or parts.hinge_leaf():
        sketch, _, _ = edit.add_outline(sketch, outline, [0.05] * len(outline), origin="drawn")
    document = document_of(job)
    keep_sketch(document, "s1", sketch)
    keep_document(job, None, document)
    return job


def extrusion(region, length, body="Leaf", result="new"):
    """Arguments of the command that extrudes a region."""
    blanks = {"regions": {"sketch": "s1", "names": [region]}, "extent": "by", "length": length, "way": "up"}
    return {"kind": "extrude", "blanks": blanks | {"result": result, "body": body}}


class JobCase(TestCase):
    """Two users, one job that belongs to the first, and short ways to ask."""

    def setUp(self):
        self.ro, self.mt = make_user("ro"), make_user("mt")
        self.job = sketched_job(self.ro)
        self.client.force_login(self.ro)

    def post(self, rest, body):
        return self.client.post(
            f"/jobs/{self.job.pk}/{rest}",
            json.dumps(body),
            content_type="application/json",
            headers={"accept": "application/json"},
        )

    def do(self, command, version=None, **arguments):
        self.job.refresh_from_db()
        return self.post(
            f"do/{command}",
            {"version": self.job.version if version is None else version, "arguments": arguments, "stage": "sketch"},
        )

    def perform(self, command, /, **arguments):
        return perform(self.job.pk, self.ro, None, command, arguments)

    def sketch(self):
        return sketch_of(document_of(self.job))

    def first(self, kind):
        return next(name for name, curve in self.sketch().curves.items() if curve.kind == kind)

    def share(self, user, role):
        Member.objects.create(job=self.job, user=user, role=role)
