"""What is stored of a job: its documents, its members, its commands, and blobs by their contents."""

import hashlib
import uuid

from django.conf import settings
from django.db import models


class Blob(models.Model):
    """Bytes under the SHA-256 of their contents: pictures, meshes."""

    digest = models.CharField(max_length=64, primary_key=True)
    media_type = models.CharField(max_length=100)
    data = models.BinaryField()

    @classmethod
    def keep(cls, data, media_type):
        digest = hashlib.sha256(data).hexdigest()
        return cls.objects.get_or_create(digest=digest, defaults={"media_type": media_type, "data": data})[0]


class Job(models.Model):
    """One part, with all that led to it."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    title = models.CharField(max_length=120)
    number = models.CharField(max_length=40, blank=True)
    version = models.PositiveIntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)
    changed_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    released = models.DateTimeField(null=True)
    summary = models.JSONField(default=dict)

    class Meta:
        ordering = ["-changed"]

    def __str__(self):
        return f"{self.title} {self.number}".strip()


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
    data = models.JSONField(default=dict)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["job", "name"], name="one_document_a_name")]


class Command(models.Model):
    """One change: what was asked and what it changed, so that it can be undone and redone; an old one is of a document
    of an earlier version, and only told."""

    DONE, UNDONE, OLD = "done", "undone", "old"
    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="commands")
    version = models.PositiveIntegerField()
    user = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    name = models.CharField(max_length=60)
    arguments = models.JSONField(default=dict)
    told = models.CharField(max_length=300)
    changes = models.JSONField(default=dict)
    state = models.CharField(max_length=10, default=DONE)
    when = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["version"]
        indexes = [models.Index(fields=["job", "state", "version"])]
