"""Users, jobs and pictures that the web tests use."""

import json

from django.contrib.auth import get_user_model
from django.test import TestCase

from examples import parts
from jobs import services
from jobs.actions import documents_of, perform
from jobs.models import Document, Member
from nomogon_core.sketch import edit, model


def make_user(name):
    user = get_user_model().objects.create(username=name)
    user.set_password("hive-latch")
    user.save()
    return user


def sketched_job(user, outlines=None, title="Hive latch plate"):
    """A job with a drawn sketch and no picture."""
    job = services.new_job(user, title, "FLA-014")
    sketch = model.Sketch()
    for outline in outlines or parts.hinge_leaf():
        sketch, _, _ = edit.add_outline(sketch, outline, [0.05] * len(outline), origin="drawn")
    Document.objects.create(job=job, name="sketch", data=model.to_json(sketch))
    return job


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
        return model.from_json(documents_of(self.job)["sketch"])

    def first(self, kind):
        return next(name for name, curve in self.sketch().curves.items() if curve.kind == kind)

    def share(self, user, role):
        Member.objects.create(job=self.job, user=user, role=role)
