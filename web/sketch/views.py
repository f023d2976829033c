"""Pages and answers of the Sketch stage."""

import threading
from collections import OrderedDict

from django.http import JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_POST

from jobs.access import job_for
from jobs.actions import documents_of
from jobs.frame import frame, sketch_board, unit_of
from nomogon_core.errors import InputError
from nomogon_core.sketch import model
from nomogon_core.sketch.dimensions import refreshed
from nomogon_core.sketch.drawing import draw
from nomogon_core.sketch.solve import Grab
from jobs.requests import number_from, sent_by

MOST_GRABS = 32
_lock = threading.Lock()
_grabs = OrderedDict()


@require_GET
def page(request, job_id):
    return render(request, "sketch.html", frame(request, job_for(request, job_id), "sketch"))


@require_GET
def board(request, job_id):
    job = job_for(request, job_id)
    return JsonResponse(sketch_board(job, documents_of(job), unit_of(request)))


def _grab(job, held):
    """A drag in progress; made anew on whichever server the next move comes to."""
    key = (job.pk, job.version, tuple(held))
    with _lock:
        found = _grabs.get(key)
    if found is None:
        found = Grab(model.from_json(documents_of(job)["sketch"]), held)
        with _lock:
            _grabs[key] = found
            while len(_grabs) > MOST_GRABS:
                _grabs.popitem(last=False)
    return found


@require_POST
def drag(request, job_id):
    """The sketch while something is dragged; nothing is stored."""
    job = job_for(request, job_id, change=True)
    sent = sent_by(request)
    held = sent.get("held")
    if not isinstance(held, list) or not held:
        raise InputError("Nothing was taken hold of.")
    offset = (number_from(sent, "dx"), number_from(sent, "dy"))
    moved = _grab(job, held).move(offset, (number_from(sent, "x"), number_from(sent, "y")))
    return JsonResponse({"sequence": sent.get("sequence", 0), "version": job.version, "drawing": draw(refreshed(moved), unit=unit_of(request))})
