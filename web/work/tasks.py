"""Doing a task: run it in the pool, write down what came of it."""

import hashlib
import logging
import tempfile
from pathlib import Path

from django.db import InterfaceError, OperationalError

from nomogon_core.errors import CoreError
from store.models import Blob
from work import kernels, queue
from work.models import Task
from work.pool import CANCELLED, CRASHED, TOO_LARGE, TOO_LONG, Lanes, Stopped
from work.shapes import shared_by

log = logging.getLogger(__name__)
TIME_LIMITS_S = {"rebuild": 60, "trace": 90, "clean": 60, "release": 120, "edge": 60, "measure": 60}
TIME_LIMITS_S |= {"inspect": 90, "allow": 60, "print": 90, "cut": 60, "gauge": 60}
MEMORY_BYTES = 4 * 2**30
PROCESSES = 2
pool = Lanes("work.kernels", PROCESSES, MEMORY_BYTES)
WORDS = {
    CRASHED: "The geometry kernel stopped while working on this, which it does on some shapes. "
    "Nothing was lost; change the last operation and try again.",
    TOO_LONG: "This took longer than {seconds} s and was stopped. Nothing was lost; make the shape simpler and try "
    "again.",
    TOO_LARGE: "This needs more memory than there is for it and was stopped. Nothing was lost; make the shape simpler "
    "and try again.",
    CANCELLED: "",
}


def _call(task, progress):
    """Function and arguments of a task; ``progress`` is a file that the work writes its share 0..1 into."""
    arguments = task.arguments
    if task.kind == "rebuild":
        return kernels.rebuild_job, [arguments["document"], shared_by(task.job_id), None, None, progress]
    if task.kind == "edge":
        picked = [arguments[name] for name in ("sketch", "body", "edge")]
        return kernels.edge_in_sketch, [arguments["document"], shared_by(task.job_id), *picked]
    if task.kind == "measure":
        return kernels.measure_solid, [arguments["document"], shared_by(task.job_id), arguments["picks"]]
    if task.kind == "inspect":
        told = [arguments["making"], arguments.get("pictures", {})]
        return kernels.inspect_solid, [arguments["document"], shared_by(task.job_id), *told]
    if task.kind == "allow":
        return kernels.allow_for, [arguments["document"], shared_by(task.job_id), arguments["making"]]
    if task.kind == "print":
        return kernels.print_part, [arguments["document"], shared_by(task.job_id), arguments["making"]]
    if task.kind == "cut":
        told = [arguments["making"], arguments["unit"]]
        return kernels.cut_part, [arguments["document"], shared_by(task.job_id), *told]
    if task.kind == "gauge":
        told = [arguments["making"], arguments["part"], arguments["unit"]]
        return kernels.gauge_part, [arguments["document"], shared_by(task.job_id), *told]
    if task.kind == "trace":
        digest = arguments["document"]["references"][arguments["picture"]]["digest"]
        picture = bytes(Blob.objects.get(pk=digest, holdings__job=task.job_id).data)
        return kernels.trace_picture, [
            arguments["document"],
            arguments["picture"],
            picture,
            arguments["settings"],
            progress,
        ]
    if task.kind == "clean":
        picture = bytes(Blob.objects.get(pk=arguments["digest"], holdings__job=task.job_id).data)
        return kernels.clean_picture, [
            picture,
            arguments["name"],
            arguments["drawn"],
            arguments["steps"],
            arguments["mm_per_px"],
            progress,
        ]
    wanted = [arguments[name] for name in ("file", "title", "chord")]
    wanted += [
        arguments.get("look"),
        arguments.get("making", {}),
        arguments.get("pictures", {}),
        arguments.get("block", {}),
    ]
    return kernels.release_file, [arguments["document"], shared_by(task.job_id), *wanted]


def serve_with(processes):
    """Do work in so many processes."""
    global pool
    pool = Lanes("work.kernels", processes, MEMORY_BYTES)
    pool.start()


def _up_to_the_culprit(task, why, cancelled):
    """The rebuild without the step that stopped the kernel and those after it; that one gets the reason."""
    document, shared = task.arguments["document"], shared_by(task.job_id)
    order = document["steps"]
    works, fails = 0, len(order)
    result, data = kernels.NOTHING, None
    while fails - works > 1:
        middle = (works + fails) // 2
        try:
            arguments = [document, shared, middle]
            result, data = pool.run(task.job_id, kernels.rebuild_job, arguments, TIME_LIMITS_S["rebuild"], cancelled)
            works = middle
        except Stopped as stopped:
            if stopped.reason == CANCELLED:
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


def run(task):
    """Do a task that was claimed; one that was cancelled meanwhile stays cancelled."""
    with tempfile.TemporaryDirectory() as folder:
        outcome, data = _outcome(task, Path(folder) / "progress")
    queue.finish(task, data, digest=hashlib.sha256(data).hexdigest() if data else "", **outcome)


def _outcome(task, progress):
    """What a task ended with: fields of its row, and bytes or None."""
    outcome, data, seconds = {"status": Task.FAILED}, None, TIME_LIMITS_S[task.kind]

    picture = Path(f"{progress}{kernels.FIRST}")

    def watch():
        if picture.exists():
            early = picture.read_bytes()
            picture.unlink()
            queue.show(task, early, hashlib.sha256(early).hexdigest())
        text = progress.read_text() if progress.exists() else ""
        if text:
            Task.objects.filter(pk=task.pk).update(progress=float(text))
        return not Task.objects.filter(pk=task.pk, status=Task.RUNNING, attempt=task.attempt).exists()

    try:
        try:
            result, data = pool.run(task.job_id, *_call(task, str(progress)), seconds, watch)
        except Stopped as stopped:
            if task.kind != "rebuild" or stopped.reason == CANCELLED:
                raise
            why = WORDS[stopped.reason].format(seconds=seconds)
            result, data = _up_to_the_culprit(task, why, watch)
        outcome = {"status": Task.DONE, "result": result}
    except CoreError as problem:
        outcome["problem"] = str(problem)[:500]
    except Stopped as stopped:
        outcome["problem"] = WORDS[stopped.reason].format(seconds=seconds)
    except (OperationalError, InterfaceError):
        raise  # the database is lost: the lease runs out, and the work is taken up again
    except Exception:
        log.exception("task %s (%s) failed", task.pk, task.kind)
        outcome["problem"] = "Something went wrong that was not foreseen; it has been noted in the log."
    return outcome, data
