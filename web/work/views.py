"""How a piece of long work is getting on, and stopping it."""

import time

from django.http import JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET, require_POST

from store.access import job_for
from work import services
from work.models import Task


def as_json(task):
    return {
        "task": task.pk,
        "kind": task.kind,
        "status": task.status,
        "problem": task.problem,
        "progress": task.progress,
        "first": task.digest if task.status == Task.RUNNING else "",
        "seconds": round((task.finished.timestamp() if task.finished else time.time()) - task.created.timestamp(), 1),
    }


@require_GET
def state(request, job_id, task):
    """Waits up to 0.4 s for the end of the work."""
    job = job_for(request, job_id)
    return JsonResponse(as_json(services.wait(get_object_or_404(Task, pk=task, job=job))))


@require_POST
def cancel(request, job_id, task):
    job = job_for(request, job_id, change=True)
    found = get_object_or_404(Task, pk=task, job=job)
    services.cancel(found)
    found.refresh_from_db()
    return JsonResponse(as_json(found))
