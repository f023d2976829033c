"""Who may do what: every address of a job × every role, sign-in, passwords, and the deployed setting."""

import json
import os
import subprocess
import sys

from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.cache import cache
from django.db import connection, transaction
from django.test import override_settings
from django.urls import reverse
from nomogon_web.urls import JOB

from nomogon_core.job.library import picture_facts
from store import making
from store.documents import document_of
from store.models import Member
from web.tests.helpers import JobCase
from web.tests.test_jobs import png
from work.models import Task

GIVEN = {
    "name": "sketch.title",
    "stage": "sketch",
    "digest": "0" * 64,
    "picture": "r1",
    "key": "0" * 20,
    "kind": "dxf",
    "device": "print",
    "task": 1,
    "version": 0,
    "member": 1,
    "number": 1,
}
# What a viewer may send: it is answered and changes nothing that is stored of the job.
LOOKING = {
    "inspect-findings",
    "inspect-machines",
    "reference-pick",
    "reference-find",
    "reference-outlines",
    "reference-preview",
    "reference-clean",
    "reference-axis",
    "solid-measure",
    "reference-next",
    "reference-quality",
    "reference-caliper",
    "reference-choose",
    "sketch-stick",
    "sketch-follow",
    "sketch-drag",
    "sketch-open",
    "sketch-solid",
    "solid-build",
    "release-allowed",
    "release-make",
    "release-try",
    "job-copy",
}


class Reversed(Exception):
    """Ends a transaction without an error."""


class Addresses(JobCase):
    def setUp(self):
        super().setUp()
        data = png()
        making.add_picture(self.job, self.ro, data, picture_facts(data, "plain.png"))
        self.job.refresh_from_db()

    def addresses(self):
        for pattern in JOB:
            arguments = {name: GIVEN[name] for name in pattern.pattern.converters}
            yield pattern.name, reverse(pattern.name, kwargs={"job_id": self.job.pk, **arguments})

    def asked(self, method, address):
        body = json.dumps({"version": self.job.version, "arguments": {"text": "Brass"}, "value": "3"})
        send = getattr(self.client, method)
        return send(address, **({"data": body, "content_type": "application/json"} if method == "post" else {}))

    def stored(self):
        self.job.refresh_from_db()
        return (
            self.job.version,
            document_of(self.job),
            self.job.commands.count(),
            sorted(self.job.members.values_list("user__username", "role")),
        )

    def test_what_serves_pages_holds_no_geometry_kernel(self):
        """It takes seconds and 250 MB to load; only workers build."""
        script = (
            "import sys, django; django.setup(); import nomogon_web.urls; "
            "sys.exit(any(name.startswith('OCP') for name in sys.modules))"
        )
        paths = os.pathsep.join(sys.path)
        done = subprocess.run([sys.executable, "-c", script], env=os.environ | {"PYTHONPATH": paths}, check=False)
        self.assertEqual(done.returncode, 0)

    def test_strangers_learn_nothing(self):
        for user in (None, self.mt):
            self.client.logout()
            if user is not None:
                self.client.force_login(user)
            for name, address in self.addresses():
                for method in ("get", "post"):
                    answer = self.asked(method, address)
                    if user is None:
                        self.assertEqual(answer.status_code, 302, (name, method))
                        self.assertTrue(answer.url.startswith("/sign-in"), (name, method))
                    else:
                        self.assertIn(answer.status_code, (404, 405), (name, method))

    def test_viewers_look_and_change_nothing(self):
        self.share(self.mt, Member.VIEWER)
        self.client.force_login(self.mt)
        before = self.stored()
        for name, address in self.addresses():
            for method in ("get", "post"):
                answer = self.asked(method, address)
                self.assertLess(answer.status_code, 500, (name, method, answer.content[:200]))
                if method == "post" and name not in LOOKING and answer.status_code not in (404, 405):
                    self.assertEqual(answer.status_code, 403, (name, answer.content[:200]))
        self.assertEqual(self.stored(), before)
        asked = Task.objects.exclude(kind__in=("rebuild", "release", "inspect", "allow", "print", "cut", "gauge"))
        self.assertFalse(asked.exists(), "looking asks for no more")

    def test_nobody_changes_anything_by_looking(self):
        """A GET writes nothing at all: each is answered in a transaction that may only read."""
        for name, address in self.addresses():
            try:
                with transaction.atomic(), connection.cursor() as cursor:
                    cursor.execute("SET LOCAL transaction_read_only = on")
                    self.assertLess(self.asked("get", address).status_code, 500, name)
                    raise Reversed
            except Reversed:
                continue


class SignIn(JobCase):
    def setUp(self):
        super().setUp()
        self.client.logout()
        cache.clear()

    def tries(self, password, name="ro"):
        return self.client.post("/sign-in", {"username": name, "password": password})

    def test_too_many_wrong_passwords_lock_the_name_for_a_while(self):
        self.assertEqual(self.tries("hive-latch").status_code, 302)
        self.client.logout()
        for _ in range(settings.AXES_FAILURE_LIMIT - 1):
            self.assertContains(self.tries("wrong"), "Name and password do not go together")
        self.assertContains(self.tries("wrong"), "Too many wrong passwords", status_code=429)
        self.assertContains(self.tries("hive-latch"), "Try again in 10 minutes", status_code=429)
        self.assertEqual(self.tries("hive-latch", "mt").status_code, 302, "others get in")

    @override_settings(PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"])
    def test_a_password_is_changed_by_the_rules(self):
        self.client.force_login(self.ro)
        for new, words in (("short", "at least 10"), ("1234567890123", "numeric"), ("password123", "too common")):
            answer = self.client.post(
                "/password", {"old_password": "hive-latch", "new_password1": new, "new_password2": new}
            )
            self.assertContains(answer, words)
        new = "brass hinge, smoked"
        self.client.post("/password", {"old_password": "hive-latch", "new_password1": new, "new_password2": new})
        self.assertTrue(get_user_model().objects.get(username="ro").check_password(new))
        self.assertEqual(self.client.get("/").status_code, 200, "and the session goes on")


class Deployed(JobCase):
    def test_numbers_to_watch_are_for_who_has_the_token(self):
        self.assertEqual(self.client.get("/metrics").status_code, 404)
        with override_settings(METRICS_TOKEN="secret"):
            self.assertEqual(self.client.get("/metrics").status_code, 404)
            text = self.client.get("/metrics", headers={"authorization": "Bearer secret"}).content.decode()
        for line in ("nomogon_jobs 1", "# TYPE nomogon_changes_total counter", 'nomogon_tasks{status="waiting"} 0'):
            self.assertIn(line, text.splitlines())

    def test_the_deployed_setting_passes_djangos_own_check(self):
        done = subprocess.run(
            [sys.executable, str(settings.ROOT / "web" / "manage.py"), "check", "--deploy", "--fail-level", "WARNING"],
            env={**os.environ, "NOMOGON_HTTPS": "1"},
            capture_output=True,
            text=True,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("no issues", done.stdout)
