"""The Release stage: the files for making the part."""

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from jobs.access import job_for
from jobs.frame import frame
from jobs.store import document_of
from jobs.working import here_for
from nomogon_core.errors import OperationError
from nomogon_core.exchange import flat
from nomogon_core.job.advice import statuses
from nomogon_core.job.document import build_of, file_stem
from nomogon_core.quantity.units import parse_positive_length
from work import services
from work.models import Task

MEDIA_TYPES = {
    "step": "model/step",
    "stl": "model/stl",
    "3mf": "model/3mf",
    "dxf": "image/vnd.dxf",
    "svg": "image/svg+xml",
}
PATIENCE_S = 110
READY = "Every body is one closed, valid solid. Every file below is written anew from the exact shape."
FILES = (
    {"kind": "step", "title": "STEP", "for": "other CAD systems, machining", "true": "exact"},
    {"kind": "stl", "title": "STL", "for": "printing", "chord": True},
    {"kind": "3mf", "title": "3MF", "for": "printing, with names and colours of bodies", "chord": True},
    {"kind": "dxf", "title": "DXF", "for": "laser, router, drawing", "true": "exact, 1:1"},
    {"kind": "svg", "title": "SVG", "for": "laser, graphics", "true": "exact, 1:1"},
)


@require_GET
def page(request, job_id):
    context = frame(request, here_for(request, job_id), "release")
    sound = statuses(context["view"])["release"].text == "ready"
    return render(
        request,
        "release.html",
        context | {"chord": f"{flat.DEFAULT_CHORD_MM:g}", "files": FILES, "ready": READY if sound else ""},
    )


@require_GET
def download(request, job_id, kind):
    """One file; solids are written by the worker."""
    job = job_for(request, job_id)
    document = document_of(job)
    if kind not in MEDIA_TYPES:
        raise OperationError(f"There is no file format {kind!r} to release.")
    if kind in ("dxf", "svg"):
        data = flat.write_flat(kind, build_of(document), job.title)
    else:
        data = _from_worker(
            job,
            document,
            kind,
            parse_positive_length(request.GET.get("chord", flat.DEFAULT_CHORD_MM), "The chord tolerance"),
        )
    answer = HttpResponse(data, content_type=MEDIA_TYPES[kind])
    answer["Content-Disposition"] = f'attachment; filename="{file_stem(job.title)}.{kind}"'
    return answer


def _from_worker(job, document, kind, chord):
    arguments = services.rebuild_arguments(document) | {"file": kind, "title": job.title, "chord": chord}
    task = services.wait(services.submit(job, "release", arguments), PATIENCE_S)
    if task.status == Task.DONE:
        return bytes(task.output.data)
    raise OperationError(task.problem or "The file is still being written; try again in a minute.")
