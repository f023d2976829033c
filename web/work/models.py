"""Long work as rows: what was asked, who does it, how far it is, what came of it."""

from django.db import models

from store.models import Job


class Task(models.Model):
    """One piece of long work; work with the same key is done once.

    Attributes:
        arguments: what the work needs; cleared when it has ended.
        holder, held_until, attempt: the worker that does it, until when the others leave it alone, and how often it was
            begun.
        digest: SHA-256 of the bytes that came of it, or "".
    """

    WAITING, RUNNING, DONE, FAILED, CANCELLED = "waiting", "running", "done", "failed", "cancelled"
    STATUSES = (WAITING, RUNNING, DONE, FAILED, CANCELLED)
    OPEN = (WAITING, RUNNING)
    STANDING = (WAITING, RUNNING, DONE)
    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="tasks")
    kind = models.CharField(max_length=20)
    key = models.CharField(max_length=64)
    arguments = models.JSONField(default=dict)
    status = models.CharField(max_length=10, default=WAITING)
    problem = models.CharField(max_length=500, blank=True)
    progress = models.FloatField(default=0.0)
    result = models.JSONField(null=True)
    digest = models.CharField(max_length=64, blank=True)
    holder = models.CharField(max_length=80, blank=True)
    held_until = models.DateTimeField(null=True)
    attempt = models.PositiveSmallIntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)
    finished = models.DateTimeField(null=True)

    class Meta:
        indexes = [
            models.Index(fields=["job", "kind", "key"]),
            models.Index(fields=["status"], condition=models.Q(status__in=("waiting", "running")), name="open_tasks"),
        ]
        constraints = [
            models.UniqueConstraint(
                fields=["job", "kind", "key"],
                condition=models.Q(status__in=("waiting", "running", "done")),
                name="one_task_a_key",
            )
        ]


class Output(models.Model):
    """Bytes that came of a task, such as a mesh or a file; they go with it."""

    task = models.OneToOneField(Task, on_delete=models.CASCADE, primary_key=True)
    data = models.BinaryField()


class Shape(models.Model):
    """What came of a step of a job, for any worker to go on from; see :mod:`work.shapes`."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="shapes", db_constraint=False)
    key = models.CharField(max_length=64)
    step = models.CharField(max_length=20)
    data = models.BinaryField()
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["job", "key"], name="one_shape_a_key")]
