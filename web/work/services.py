"""Asking for long work and waiting for it a little."""

import time

from nomogon_core.solid.facts import fingerprint
from work import tasks
from work.models import Task

RESULT_FORM = 2  # raised when a result's form changes, so that none of an older form is shown
PATIENCE_S = 0.4
LOOK_EVERY_S = 0.012
MOST_KEPT = 60


def key_of(kind, arguments):
    """The key under which work with these arguments is found again."""
    return fingerprint(RESULT_FORM, kind, arguments)


def submit(job, kind, arguments):
    """The task for this work; work that was done already with the same inputs is not done again.

    A rebuild that failed is not tried again either: it would fail the same way until something is changed.
    """
    key = key_of(kind, arguments)
    standing = (*Task.OPEN, Task.DONE, Task.FAILED) if kind == "rebuild" else (*Task.OPEN, Task.DONE)
    known = Task.objects.filter(job=job, kind=kind, key=key, status__in=standing).order_by("-pk").first()
    if known:
        return known
    task = Task.objects.create(job=job, kind=kind, key=key, arguments=arguments)
    tasks.run.defer(task_id=task.pk)
    old = Task.objects.filter(job=job, kind=kind).order_by("-pk").values_list("pk", flat=True)[MOST_KEPT:]
    Task.objects.filter(pk__in=list(old)).exclude(status__in=Task.OPEN).delete()
    return task


def wait(task, seconds=PATIENCE_S):
    """The task as it is once finished, or after so many seconds."""
    deadline = time.monotonic() + seconds
    while task.status in Task.OPEN and time.monotonic() < deadline:
        time.sleep(LOOK_EVERY_S)
        task.refresh_from_db(fields=["status"])
    if task.status not in Task.OPEN:
        task.refresh_from_db()
    return task


def finished(job, pk, kind):
    """The finished task of a kind with its result, or None."""
    return Task.objects.filter(pk=pk, job=job, kind=kind, status=Task.DONE).select_related("blob").first()


def cancel(task):
    Task.objects.filter(pk=task.pk, status__in=Task.OPEN).update(status=Task.CANCELLED)


BUILT_FROM = ("sketches", "planes", "operations", "bodies", "steps", "quantities", "known", "version", "next_number")


def rebuild_arguments(document):
    """What a rebuild depends on, and nothing else."""
    known = document["known"] if any_late(document) else {}
    return {"document": {part: document[part] for part in BUILT_FROM} | {"known": known}}


def any_late(document):
    """Whether some number is known only once the solid is built."""
    blanks = [value for one in document["operations"].values() for value in one["blanks"].values()]
    return any(isinstance(value, dict) and value.get("late") for value in blanks)


def known_rebuild(job, document):
    """The finished rebuild of exactly this document, or None."""
    key = key_of("rebuild", rebuild_arguments(document))
    return Task.objects.filter(job=job, kind="rebuild", key=key, status=Task.DONE).order_by("-pk").first()


def edge_arguments(document, sketch, body, edge):
    """What an edge as a sketch sees it depends on."""
    return rebuild_arguments(document) | {"sketch": sketch, "body": body, "edge": edge}


def finished_edge(job, document, sketch, body, edge):
    """Record of the plane curve of an edge that a worker has found, or None."""
    key = key_of("edge", edge_arguments(document, sketch, body, edge))
    found = Task.objects.filter(job=job, kind="edge", key=key, status=Task.DONE).order_by("-pk").first()
    return found.result["curve"] if found else None


def trace_arguments(document, picture, settings):
    """What a trace depends on."""
    parts = {"references": document["references"], "known": document["known"]}
    return {"document": parts, "picture": picture, "settings": _canonical(settings)}


def _canonical(value):
    """Plain data in which whole numbers are written in one way, as a page sends them back."""
    if isinstance(value, dict):
        return {name: _canonical(item) for name, item in value.items()}
    if isinstance(value, (list, tuple)):
        return [_canonical(item) for item in value]
    return int(value) if isinstance(value, float) and value.is_integer() else value


def finished_trace(job, document, picture, settings):
    """Records of the outlines of a finished trace of exactly this, or None."""
    key = key_of("trace", trace_arguments(document, picture, settings))
    found = Task.objects.filter(job=job, kind="trace", key=key, status=Task.DONE).order_by("-pk").first()
    return found.result["outlines"] if found else None
