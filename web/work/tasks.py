"""The queue's one entry: take a Task, run it in the pool, write down what came of it."""

import logging
import tempfile
from pathlib import Path

from django.utils import timezone
from procrastinate.contrib.django import app

from jobs.models import Blob
from nomogon_core.errors import CoreError
from work import kernels, pool
from work.models import Task

log = logging.getLogger(__name__)
MEDIA_TYPES = {"rebuild": "application/octet-stream", "release": "application/octet-stream", "clean": "image/jpeg"}


def _call(task, progress):
    """Function and arguments of a task; ``progress`` is a file that the work writes its share 0..1 into."""
    arguments = task.arguments
    if task.kind == "rebuild":
        return kernels.rebuild_job, [arguments["document"]]
    if task.kind == "edge":
        return kernels.edge_in_sketch, [arguments[name] for name in ("document", "sketch", "body", "edge")]
    if task.kind == "trace":
        digest = arguments["document"]["references"][arguments["picture"]]["digest"]
        picture = bytes(Blob.objects.get(pk=digest).data)
        return kernels.trace_picture, [
            arguments["document"],
            arguments["picture"],
            picture,
            arguments["settings"],
            progress,
        ]
    if task.kind == "clean":
        picture = bytes(Blob.objects.get(pk=arguments["digest"]).data)
        return kernels.clean_picture, [
            picture,
            arguments["name"],
            arguments["drawn"],
            arguments["steps"],
            arguments["mm_per_px"],
            progress,
        ]
    return kernels.release_file, [arguments["document"], arguments["file"], arguments["title"], arguments["chord"]]


def _up_to_the_culprit(document, why, cancelled):
    """The rebuild without the step that stopped the kernel and those after it; that one gets the reason."""
    order = document["steps"]
    works, fails = 0, len(order)
    result, data = kernels.NOTHING, None
    while fails - works > 1:
        middle = (works + fails) // 2
        try:
            result, data = pool.run(kernels.rebuild_job, [document, middle], "rebuild", cancelled)
            works = middle
        except pool.Stopped as stopped:
            if not str(stopped):
                raise
            fails = middle
    after = [
        {
            "name": name,
            "facts": {},
            "problem": why if index == 0 else "Not built, because the step before it stopped.",
            "suggestion": {},
            "numbers": {},
            "suppressed": False,
        }
        for index, name in enumerate(order[works:])
    ]
    return result | {"steps": result["steps"] + after}, data


@app.task(name="run", retry=2)
def run(task_id):
    """Run one task; a task that was cancelled meanwhile stays cancelled."""
    if not Task.objects.filter(pk=task_id, status__in=Task.OPEN).update(status=Task.RUNNING):
        return
    task = Task.objects.get(pk=task_id)
    with tempfile.TemporaryDirectory() as folder:
        progress = Path(folder) / "progress"
        outcome = _outcome(task, progress)
    Task.objects.filter(pk=task_id, status=Task.RUNNING).update(finished=timezone.now(), **outcome)


def _outcome(task, progress):
    """What a task ended with, as fields of its row."""
    outcome = {"status": Task.FAILED}

    def watch():
        text = progress.read_text() if progress.exists() else ""
        if text:
            Task.objects.filter(pk=task.pk).update(progress=float(text))
        return Task.objects.filter(pk=task.pk, status=Task.CANCELLED).exists()

    try:
        try:
            result, data = pool.run(*_call(task, str(progress)), task.kind, watch)
        except pool.Stopped as stopped:
            if task.kind != "rebuild" or not str(stopped):
                raise
            result, data = _up_to_the_culprit(task.arguments["document"], str(stopped), watch)
        outcome = {
            "status": Task.DONE,
            "result": result,
            "blob": Blob.keep(data, MEDIA_TYPES[task.kind]) if data else None,
        }
    except CoreError as problem:
        outcome["problem"] = str(problem)[:500]
    except pool.Stopped as problem:
        outcome["problem"] = str(problem)
    except Exception:
        log.exception("task %s (%s) failed", task.pk, task.kind)
        outcome["problem"] = "Something went wrong that was not foreseen; it has been noted in the log."
    return outcome
