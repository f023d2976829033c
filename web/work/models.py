"""Long work as rows: what was asked, how far it is, what came of it."""

from django.db import models

from jobs.models import Blob, Job


class Task(models.Model):
    """One piece of long work; work with the same key is done once."""

    WAITING, RUNNING, DONE, FAILED, CANCELLED = "waiting", "running", "done", "failed", "cancelled"
    OPEN = (WAITING, RUNNING)
    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="tasks")
    kind = models.CharField(max_length=20)
    key = models.CharField(max_length=64)
    arguments = models.JSONField(default=dict)
    status = models.CharField(max_length=10, default=WAITING)
    problem = models.CharField(max_length=500, blank=True)
    progress = models.FloatField(default=0.0)
    result = models.JSONField(null=True)
    blob = models.ForeignKey(Blob, null=True, on_delete=models.SET_NULL)
    created = models.DateTimeField(auto_now_add=True)
    finished = models.DateTimeField(null=True)

    class Meta:
        indexes = [models.Index(fields=["job", "kind", "key"])]
