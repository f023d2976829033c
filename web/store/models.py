"""What is stored of a job: its documents, its members, its commands, and blobs by their contents."""

import hashlib
import uuid
from datetime import timedelta

from django.conf import settings
from django.db import connection, models, transaction
from django.utils import timezone
from django.utils.dateparse import parse_datetime

from nomogon_core.errors import InputError
from nomogon_core.job.document import clean_name
from store.fields import PlainField

UNHELD, MOST_MACHINES = timedelta(hours=1), 50


class Job(models.Model):
    """One part, with all that led to it."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    title = models.CharField(max_length=120)
    number = models.CharField(max_length=40, blank=True)
    version = models.PositiveIntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)
    changed_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    summary = models.JSONField(default=dict)
    put_away = models.BooleanField(default=False)

    class Meta:
        ordering = ["-changed"]

    def __str__(self):
        return f"{self.title} {self.number}".strip()


class Blob(models.Model):
    """Bytes under the SHA-256 of their contents, such as pictures; they stay as long as a job holds them."""

    digest = models.CharField(max_length=64, primary_key=True)
    media_type = models.CharField(max_length=100)
    data = models.BinaryField()
    kept = models.DateTimeField(default=timezone.now)

    @classmethod
    def keep(cls, job, data, media_type):
        """The blob of some bytes, held by a job from now on."""
        digest = hashlib.sha256(data).hexdigest()
        blob, new = cls.objects.get_or_create(digest=digest, defaults={"media_type": media_type, "data": data})
        if not new:
            cls.objects.filter(pk=digest).update(kept=timezone.now())  # so that a sweep passes it over
        Holding.objects.get_or_create(job=job, blob=blob)
        return blob

    @classmethod
    def sweep(cls):
        """Delete what no job holds, in one statement, so that what is kept meanwhile stays."""
        with connection.cursor() as cursor:
            cursor.execute(
                "DELETE FROM jobs_blob WHERE kept < %s AND NOT EXISTS "
                "(SELECT FROM jobs_holding WHERE jobs_holding.blob_id = jobs_blob.digest)",
                [timezone.now() - UNHELD],
            )


class Holding(models.Model):
    """A job needs a blob, for its document or to undo; what it does not hold it cannot get."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="holdings")
    blob = models.ForeignKey(Blob, on_delete=models.CASCADE, related_name="holdings")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["job", "blob"], name="one_holding_a_blob")]


class Member(models.Model):
    """Who may see and change a job, and which picture and sketch of it they work on."""

    OWNER, EDITOR, VIEWER = "owner", "editor", "viewer"
    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="members")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="memberships")
    role = models.CharField(max_length=10, choices=[(role, role) for role in (OWNER, EDITOR, VIEWER)])
    working = models.JSONField(default=dict)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["job", "user"], name="one_role_a_member")]


class Document(models.Model):
    """One part of a job's document, such as its sketches or its operations."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="documents")
    name = models.CharField(max_length=20)
    data = PlainField(default=dict)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["job", "name"], name="one_document_a_name")]


class Command(models.Model):
    """One change: what was asked and what it changed. Rows are added and never taken away, so that any version can be
    had again.

    A row that stands is DONE, one that was undone is UNDONE and can be done again until something else is done, then it
    is GONE. Undoing and doing again are rows of their own, a STEP each. An OLD one is of a document of an earlier form,
    and only told.
    """

    DONE, UNDONE, GONE, STEP, OLD = "done", "undone", "gone", "step", "old"
    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="commands")
    version = models.PositiveIntegerField()
    user = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    name = models.CharField(max_length=60)
    arguments = models.JSONField(default=dict)
    told = models.CharField(max_length=300)
    changes = models.JSONField(default=dict)  # the standard library refuses what is no number, orjson does not
    state = models.CharField(max_length=10, default=DONE)
    when = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["version"]
        indexes = [models.Index(fields=["job", "state", "version"])]


class Revision(models.Model):
    """A version of a job with a name."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="revisions")
    version = models.PositiveIntegerField()
    name = models.CharField(max_length=80)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    when = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-version", "-pk"]


class Release(models.Model):
    """All files of a job as they were released, in one zip that stays byte for byte."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="releases")
    number = models.PositiveIntegerField()
    blob = models.ForeignKey(Blob, on_delete=models.PROTECT, related_name="+")
    version = models.PositiveIntegerField()
    allowances = models.CharField(max_length=300, blank=True)
    made = models.DateTimeField(auto_now_add=True)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["job", "number"], name="one_release_a_number")]

    @classmethod
    def keep(cls, job, user, data, version, allowances):
        """Keep a zip; the one that is there already where nothing has changed since the last."""
        with transaction.atomic():
            Job.objects.select_for_update().get(pk=job.pk)
            last = job.releases.first()
            blob = Blob.keep(job, data, "application/zip")
            if last is not None and last.blob_id == blob.pk:
                return last, False
            number = last.number + 1 if last else 1
            made = cls(job=job, number=number, blob=blob, version=version, allowances=allowances, made_by=user)
            made.save(force_insert=True)
        return made, True

    @classmethod
    def restore(cls, job, told, data):
        """A release as an archive of the job holds it; who made it is not known here."""
        made = parse_datetime(told["made"]) or timezone.now()
        blob = Blob.keep(job, data, "application/zip")
        wanted = {name: told[name] for name in ("number", "version", "allowances")}
        kept, _ = cls.objects.update_or_create(job=job, number=wanted.pop("number"), defaults=wanted | {"blob": blob})
        cls.objects.filter(pk=kept.pk).update(made=made if timezone.is_aware(made) else timezone.now())


class Machine(models.Model):
    """A machine of a person's own: the numbers of a way of making, by a name."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="machines")
    way = models.CharField(max_length=20)
    title = models.CharField(max_length=60)
    numbers = models.JSONField()

    class Meta:
        ordering = ["title"]
        constraints = [models.UniqueConstraint(fields=["user", "way", "title"], name="one_machine_a_name")]

    @classmethod
    def keep(cls, user, way, title, numbers):
        """Keep the numbers of a way by a name.

        Raises:
            InputError: it is no name, or there are too many machines.
        """
        title = clean_name(title, "The machine", cls._meta.get_field("title").max_length)
        if user.machines.count() >= MOST_MACHINES and not user.machines.filter(way=way, title=title).exists():
            raise InputError(f"You keep {MOST_MACHINES} machines already; forget one first.")
        cls.objects.update_or_create(user=user, way=way, title=title, defaults={"numbers": numbers})
