"""Answers of the Solid stage."""

import attrs
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_POST

from nomogon_core.arguments import Wrong
from nomogon_core.errors import InputError
from nomogon_core.job.commands import carry_out
from nomogon_core.job.document import built_to, numbers_of
from nomogon_core.job.ledger import number_text
from nomogon_core.job.places import plane_words
from nomogon_core.job.schema import PICKS
from nomogon_core.sketch.drawing import draw, draw_regions
from nomogon_core.solid.measured import DIMENSIONS
from nomogon_core.solid.operations import declaration
from nomogon_core.solid.planes import BASE
from stages.overviews import view_of
from stages.reference.underlays import faces_in_words, laid_pictures, on_the_solid
from stages.requests import sent_by, unit_of, uploaded
from stages.solid import sentences
from stages.solid.sheet import sheet_context
from store.access import job_for
from store.documents import Shelf
from store.working import here_for
from work import outside, readers, services
from work.models import Output, Task
from work.views import as_json

MEASURE_PATIENCE_S = 20


@require_POST
def build(request, job_id):
    """Have the Build sheet built, and tell it as it is now, waiting up to 0.4 s for the worker; the page asks again
    while it works."""
    here = here_for(request, job_id)
    job, document, task = here.job, here.document, None
    until = sent_by(request).get("until")
    if document["operations"] or document["planes"] or len(document["sketches"]) > 1:
        arguments = services.rebuild_arguments(built_to(document, until))
        task = services.wait(services.submit(job, "rebuild", arguments))
    view = view_of(here, task.result if task and task.status == Task.DONE else None)
    context = sheet_context(here, view, unit_of(request), until)
    return JsonResponse(
        {
            "version": job.version,
            "work": as_json(task) if task else None,
            "mesh": task.digest if task and task.status == Task.DONE else None,
            "sheet": render(request, "solid.html#sheet", context).content.decode(),
            "sketches": [_drawn(document, name, one, view.result) for name, one in view.sketches.items()],
            "open": here.sketch_id,
            "bodies": [
                {"id": name, **document["bodies"][name]}
                for name in (view.result or {}).get("bodies", {})
                if name in document["bodies"]
            ],
            "declared": sentences.declared(unit_of(request)),
            "operations": {
                one.name: sentences.filled(document, one, unit_of(request)) for one in view.build.operations
            },
            "numbers": numbers_of(document),
            "steps": document["steps"],
            "until": until if until in document["steps"] else None,
            "pictures": on_the_solid(laid_pictures(job, document), document, view.result),
            "faces": faces_in_words(document, view.result),
            "planes": [{"id": name, "words": plane_words(document, name)} for name in (*BASE, *document["planes"])],
        }
    )


def _drawn(document, name, one, result):
    """A sketch as the view draws it where it lies."""
    plane = document["sketches"][name]["plane"]
    frame = (result or {}).get("frames", {}).get(name) or (
        attrs.asdict(BASE[plane]) if plane in ("plan", "front", "side") else None
    )
    return {
        "id": name,
        "title": document["sketches"][name]["title"],
        "frame": frame,
        "regions": draw_regions(one.sketch, one.regions),
        "curves": draw(one.sketch)["curves"],
        "traces": [
            {"id": trace, **{kind: sentences.trace_words(document, kind, trace) for kind in ("centres", "run")}}
            for trace, told in document["traces"].items()
            if told["sketch"] == name
        ],
        "centers": [
            {"id": key, "place": one.sketch.points[curve.points[0]], "radius": curve.radius}
            for key, curve in one.sketch.curves.items()
            if curve.kind == "circle"
        ],
    }


@require_POST
def bring(request, job_id):
    """A mesh that somebody else made, kept until a sentence brings it in; what is told of it."""
    job = job_for(request, job_id, change=True)
    upload = uploaded(request, "mesh")
    data, told = outside.read(readers.mesh, upload.read(), upload.name)
    size = " × ".join(f"{value:.2f}" for value in told["size"])
    unit = "mm" if told["says_unit"] else "of its own unit"
    words = f"{told['triangles']:,} triangles, {size} {unit}, closed, {told['flats']} flat faces."
    if told["mended"]:
        words += f" Noted: {told['mended']}."
    return JsonResponse({"file": Shelf(job).keep(data, "application/octet-stream"), "name": upload.name, "told": words})


@require_POST
def preview(request, job_id):
    """The solid as it would be with an operation that is being written; nothing of the job changes."""
    here = here_for(request, job_id, change=True)
    sent = sent_by(request)
    name, unit, until = sent.get("name"), unit_of(request), sent.get("until")
    until = until if until in here.document["steps"] else None
    new = {"kind": sent.get("kind")} | ({"after": until} if until else {})
    arguments = {"blanks": sent.get("blanks"), "unit": unit} | ({"name": name} if name else new)
    after = carry_out(here.document, "solid.set" if name else "solid.add", arguments, Shelf(here.job)).document
    step = name or after["steps"][after["steps"].index(until) + 1 if until else -1]
    shown = built_to(after, step if until else None)
    task = services.wait(services.submit(here.job, "rebuild", services.rebuild_arguments(shown)))
    done, blanks = task.status == Task.DONE, declaration(after["operations"][step]["kind"]).blanks()
    told = next((one for one in task.result["steps"] if one["name"] == step), {}) if done else {"problem": task.problem}
    return JsonResponse(
        {
            "work": as_json(task),
            "mesh": task.digest if done else None,
            "problem": told.get("problem", ""),
            "works": {
                blank: _size({"value": value, "kind": blanks[blank].kind}, unit)
                for blank, value in (told.get("suggestion") or {}).items()
            },
        }
    )


@require_POST
def measure(request, job_id):
    """Sizes of one thing picked on the solid, or between two, in words."""
    here = here_for(request, job_id)
    sent, unit = sent_by(request), unit_of(request)
    picks = sent.get("picks")
    try:
        PICKS.check(picks)
    except Wrong:
        raise InputError("The page sent something that cannot be read; load it again.") from None
    document = built_to(here.document, sent.get("until"))
    task = services.submit(here.job, "measure", services.rebuild_arguments(document) | {"picks": picks})
    task = services.wait(task, MEASURE_PATIENCE_S)
    if task.status != Task.DONE:
        raise InputError(task.problem or "The solid is still being built; click again in a moment.")
    told = [{"word": one["word"], "size": _size(one, unit)} for one in task.result["measures"]]
    between = next((one["between"] for one in task.result["measures"] if one["between"]), [])
    return JsonResponse({"measures": told, "between": between})


def _size(one, unit):
    number = number_text(one["value"], DIMENSIONS[one["kind"]], unit)
    return f"{number} {unit}" if one["kind"] == "length" else number


@require_GET
def mesh(request, job_id, key):
    """Packed triangles and edges of a finished rebuild; they never change under their key."""
    job = job_for(request, job_id)
    made = (
        Output.objects.filter(task__job=job, task__kind="rebuild", task__digest=key).first() if key.isalnum() else None
    )
    if made is None:
        raise Http404("no such mesh")
    answer = HttpResponse(bytes(made.data), content_type="application/octet-stream")
    answer["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer
