"""Pages and answers of the Solid stage."""

from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from jobs.access import job_for
from jobs.actions import documents_of
from jobs.frame import frame, laid_pictures, sheet_context, unit_of
from nomogon_core.job.overview import overview
from nomogon_core.sketch.drawing import draw, draw_regions
from reference.underlays import faces_in_words, on_the_solid
from work import services
from work.models import Task
from work.views import as_json


@require_GET
def page(request, job_id):
    return render(request, "solid.html", frame(request, job_for(request, job_id), "solid"))


@require_GET
def state(request, job_id):
    """The Build sheet as built now, waiting up to 0.4 s for the worker; the page asks again while it works."""
    job = job_for(request, job_id)
    documents = documents_of(job)
    task = None
    if documents["build"]["order"]:
        task = services.wait(services.submit(job, "rebuild", services.rebuild_arguments(documents)))
    view = overview(documents, task.result if task and task.status == Task.DONE else None)
    context = sheet_context(job, view, unit_of(request))
    return JsonResponse(
        {
            "version": job.version,
            "work": as_json(task) if task else None,
            "mesh": task.blob_id if task and task.status == Task.DONE else None,
            "sheet": render(request, "solid.html#sheet", context).content.decode(),
            "regions": draw_regions(view.sketch, view.regions),
            "curves": draw(view.sketch)["curves"],
            "centers": [
                {"id": name, "place": view.sketch.points[curve.points[0]], "radius": curve.radius}
                for name, curve in view.sketch.curves.items()
                if curve.kind == "circle"
            ],
            "bodies": list((view.result or {}).get("bodies", {})),
            "pictures": on_the_solid(laid_pictures(job, documents), documents, view.result),
            "faces": faces_in_words(documents, view.result),
        }
    )


@require_GET
def mesh(request, job_id, key):
    """Packed triangles and edges of a finished rebuild; they never change under their key."""
    job = job_for(request, job_id)
    task = Task.objects.filter(job=job, kind="rebuild", blob_id=key).select_related("blob").first()
    if task is None:
        raise Http404("no such mesh")
    answer = HttpResponse(bytes(task.blob.data), content_type="application/octet-stream")
    answer["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer
