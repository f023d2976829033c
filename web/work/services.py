"""Asking for long work and waiting for it a little."""

import hashlib
import time

from django.db import transaction
from django.db.models.functions import Length, Substr
from django.utils import timezone

from nomogon_core.errors import InputError
from nomogon_core.solid.facts import fingerprint
from work import queue
from work.ears import Ears
from work.models import Output, Task

RESULT_FORM = 5  # raised when a result's form changes, so that none of an older form is shown
PATIENCE_S = 0.4
LOOK_EVERY_S, LOOK_DEAF_S = 0.4, 0.05
MOST_KEPT = 24
PIECE_BYTES = 2**20
ended = Ears(queue.ENDED)


def key_of(kind, arguments):
    """The key under which work with these arguments is found again."""
    return fingerprint(RESULT_FORM, kind, arguments)


def submit(job, kind, arguments):
    """The task for this work; work that was done already with the same inputs is not done again.

    A rebuild that failed is not tried again either: it would fail the same way until something is changed.
    """
    key = key_of(kind, arguments)
    if kind == "rebuild":
        failed = Task.objects.filter(job=job, kind=kind, key=key, status=Task.FAILED).order_by("-pk").first()
        if failed:
            return failed
    task, new = Task.objects.get_or_create(
        job=job, kind=kind, key=key, status__in=Task.STANDING, defaults={"arguments": arguments}
    )
    if new:
        queue.announce(queue.ASKED)
        _let_go(job, kind)
    return task


def keep_done(job, kind, arguments, result, data=None):
    """A finished task, for work that was done here and now."""
    with transaction.atomic():
        task = Task.objects.create(
            job=job,
            kind=kind,
            key=key_of(kind, arguments),
            status=Task.DONE,
            result=result,
            digest=hashlib.sha256(data).hexdigest() if data else "",
            finished=timezone.now(),
        )
        if data:
            Output.objects.create(task=task, data=data)
    return task


def _let_go(job, kind):
    """Only so many tasks of a kind are kept, each with what came of it."""
    past = Task.objects.filter(job=job, kind=kind).order_by("-pk").values_list("pk", flat=True)[MOST_KEPT:]
    Task.objects.filter(pk__in=list(past)).exclude(status__in=Task.OPEN).delete()


def wait(task, seconds=PATIENCE_S):
    """The task as it is once finished, or after so many seconds.

    Raises:
        InputError: its job was deleted meanwhile.
    """
    if task.status not in Task.OPEN:
        return task
    try:
        return _waited(task, seconds)
    except Task.DoesNotExist:
        raise InputError("This job was deleted while it was worked on.") from None


def _waited(task, seconds):
    deadline = time.monotonic() + seconds
    with ended.waiting(str(task.pk)) as event:
        while True:
            task.refresh_from_db(fields=["status"])
            left = deadline - time.monotonic()
            if task.status not in Task.OPEN or left <= 0:
                break
            event.wait(min(left, LOOK_EVERY_S if ended.hearing else LOOK_DEAF_S))
            event.clear()
    task.refresh_from_db()
    return task


def finished(job, pk, kind):
    """The finished task of a kind with its result, or None."""
    return Task.objects.filter(pk=pk, job=job, kind=kind, status=Task.DONE).first()


def size_of(task):
    """How many bytes came of a task."""
    return Output.objects.filter(pk=task.pk).values_list(Length("data"), flat=True).get()


def pieces_of(task):
    """The bytes that came of a task, read piece by piece."""
    part, first = Output.objects.filter(pk=task.pk), 1
    while piece := part.values_list(Substr("data", first, PIECE_BYTES), flat=True).first():
        yield bytes(piece)
        first += PIECE_BYTES


def cancel(task):
    if Task.objects.filter(pk=task.pk, status__in=Task.OPEN).update(status=Task.CANCELLED, arguments={}):
        queue.announce(queue.ENDED, str(task.pk))


PICTURES = ("references", "known", "traces")
BUILT_FROM = ("sketches", "planes", "operations", "bodies", "steps", "quantities", "known", "version", "next_number")


def rebuild_arguments(document):
    """What a rebuild depends on, and nothing else."""
    known = document["known"] if any_late(document) else {}
    return {"document": {part: document[part] for part in BUILT_FROM} | {"known": known}}


def any_late(document):
    """Whether some number is known only once the solid is built."""
    blanks = [value for one in document["operations"].values() for value in one["blanks"].values()]
    return any(isinstance(value, dict) and value.get("late") for value in blanks)


def known(job, kind, arguments):
    """The finished task of exactly this, or None."""
    return Task.objects.filter(job=job, kind=kind, key=key_of(kind, arguments), status=Task.DONE).first()


def known_rebuild(job, document):
    """The finished rebuild of exactly this document, or None."""
    return known(job, "rebuild", rebuild_arguments(document))


def inspect_arguments(document):
    """What the checks of a part depend on, and nothing else."""
    making = {part: value for part, value in document["making"].items() if part != "accepted"}
    return rebuild_arguments(document) | {"making": making} | pictures_of(document)


def pictures_of(document):
    """What holding a part against its pictures depends on."""
    needed = {part: document[part] for part in PICTURES}
    return {"pictures": needed} if any(one["edge"] for one in document["traces"].values()) else {}


def edge_arguments(document, sketch, body, edge):
    """What an edge as a sketch sees it depends on."""
    return rebuild_arguments(document) | {"sketch": sketch, "body": body, "edge": edge}


def finished_edge(job, document, sketch, body, edge):
    """Record of the plane curve of an edge that a worker has found, or None."""
    found = known(job, "edge", edge_arguments(document, sketch, body, edge))
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
    found = known(job, "trace", trace_arguments(document, picture, settings))
    return found.result["outlines"] if found else None
