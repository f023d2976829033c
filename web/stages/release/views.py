"""The Release stage: the files for making the part."""

from django.http import Http404, HttpResponse, JsonResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET, require_POST

from nomogon_core.arguments import NUMBER, Rows, Whole, Wrong
from nomogon_core.errors import InputError, OperationError
from nomogon_core.exchange import flat
from nomogon_core.inspect.making import ALLOWANCES, CUTTER, FLAT_OF, PRINTER, in_words, making_of, printer_of
from nomogon_core.job.advice import statuses
from nomogon_core.job.commands.inspect import CALLED, CUT, PRINTED
from nomogon_core.job.document import built_to
from nomogon_core.quantity.units import parse_positive_length
from stages.overviews import view_of
from stages.requests import sent_by, shown, unit_of
from store.access import job_for
from store.documents import document_of
from store.models import Release
from store.working import here_for
from work import services
from work.models import Task
from work.views import as_json

MEDIA_TYPES = {
    "step": "model/step",
    "stl": "model/stl",
    "3mf": "model/3mf",
    "glb": "model/gltf-binary",
    "dxf": "image/vnd.dxf",
    "lines": "image/vnd.dxf",
    "svg": "image/svg+xml",
    "sheet": "image/vnd.dxf",
    "pdf": "application/pdf",
    "views": "image/svg+xml",
    "view": "image/svg+xml",
    "zip": "application/zip",
}
LAID = ("stl", "3mf")
# What each simulated device reads of how the part is made: parts of it, and the ways whose numbers count.
TRIED = {
    "print": (("up", "allowances"), ("printing", "printer")),
    "cut": (("allowances", "flat"), ("cutting", "cutter")),
    "gauge": (("way", "allowances"), ("cutting",)),
}
PART = Whole(1, 999)
LOOK = Rows(Rows(NUMBER, 3, 3), 2, 2)
READY = "Every body is one closed, valid solid. Every file below is written anew from it."
FILES = (
    {"kind": "zip", "title": "All files", "for": "in one zip, with a report in plain words", "chord": True},
    {"kind": "step", "title": "STEP", "for": "other CAD systems, machining", "true": "exact, without meshes"},
    {"kind": "stl", "title": "STL", "for": "printing", "chord": True},
    {"kind": "3mf", "title": "3MF", "for": "printing, with names and colours of bodies", "chord": True},
    {"kind": "glb", "title": "GLB", "for": "looking at, with names and colours of bodies", "chord": True},
    {"kind": "dxf", "title": "DXF", "for": "laser, router, drawing", "true": "exact, 1:1"},
    {"kind": "lines", "title": "DXF, lines only", "for": "receivers that know no curves", "chord": True},
    {"kind": "svg", "title": "SVG", "for": "laser, graphics", "true": "exact, 1:1"},
    {"kind": "sheet", "title": "Nested sheet, DXF", "for": "all copies on one sheet", "true": "exact, 1:1"},
    {
        "kind": "pdf",
        "title": "Drawing, PDF",
        "for": "workshop: three views with dimensions",
        "true": "to a scale of ISO 5455, A4 or A3",
    },
    {
        "kind": "views",
        "title": "Views, SVG",
        "for": "drawing: front, plan, side and askew",
        "true": "1:1, hidden lines dashed",
    },
)


def page_context(here, unit):
    """What the page of this stage holds besides its frame."""
    sound = statuses(view_of(here))["release"].text == "ready"
    making = making_of(here.document["making"])
    allowances, printer = making.allowances, printer_of(here.document["making"])
    return {
        "chord": f"{flat.DEFAULT_CHORD_MM:g}",
        "files": FILES,
        "ready": READY if sound else "",
        "allowances": [_setting(one, CALLED, getattr(allowances, one.name), unit) for one in ALLOWANCES],
        "printer": [_setting(one, PRINTED, printer[one.name], unit) for one in PRINTER],
        "cutter": [_setting(one, CUT, making.cutter[one.name], unit) for one in CUTTER],
        "flat": {"of": making.flat.of, "at": shown(making.flat.at, "mm", unit), "options": FLAT_OF.items()},
        "releases": here.job.releases.select_related("made_by").defer("blob__data"),
    }


def _setting(one, called, value, unit):
    """A number of a sentence as the page writes it."""
    return {"name": one.name, "words": one.words, "called": called[one.name], "value": shown(value, one.unit, unit)}


@require_POST
def allowed(request, job_id):
    """In words, what the files have otherwise than the design, waiting a moment for the worker."""
    here = here_for(request, job_id)
    making = {"allowances": here.document["making"].get("allowances", {})}
    if not any(making["allowances"].get(one.name) for one in ALLOWANCES if one.name != "widest"):
        return JsonResponse({"told": []})
    arguments = services.rebuild_arguments(here.document) | {"making": making}
    task = services.wait(services.submit(here.job, "allow", arguments))
    return JsonResponse({"work": as_json(task), "told": task.result["told"] if task.status == Task.DONE else []})


@require_POST
def tried(request, job_id, device):
    """What a simulated device makes of the part, waiting a moment for the worker."""
    here = here_for(request, job_id)
    if device not in TRIED:
        raise Http404("no such device")
    if not here.document["operations"]:
        return JsonResponse({"told": None})
    parts, ways = TRIED[device]
    making = {part: value for part, value in here.document["making"].items() if part in parts}
    numbers = here.document["making"].get("numbers", {})
    making["numbers"] = {way: numbers[way] for way in ways if way in numbers}
    arguments = services.rebuild_arguments(here.document) | {"making": making}
    if device != "print":
        arguments["unit"] = unit_of(request)
    if device == "gauge":
        arguments["part"] = _part(sent_by(request).get("part", 1))
    task = services.wait(services.submit(here.job, device, arguments))
    return JsonResponse({"work": as_json(task), "told": task.result if task.status == Task.DONE else None})


def _part(number):
    try:
        PART.check(number)
    except Wrong:
        raise InputError("The page sent something that cannot be read; load it again.") from None
    return number


@require_GET
def shown_of(request, job_id, device, task):
    """What a simulated device shows of its work."""
    made = services.finished(job_for(request, job_id), task, device) if device in TRIED else None
    if made is None:
        raise Http404("no such work")
    return HttpResponse(b"".join(services.pieces_of(made)), content_type="application/json")


@require_POST
def make(request, job_id):
    """Have one file written by a worker; how the work is getting on."""
    job = job_for(request, job_id)
    sent = sent_by(request)
    arguments = _arguments(job, built_to(document_of(job), sent.get("until")), sent)
    return JsonResponse(as_json(services.wait(services.submit(job, "release", arguments))))


def _arguments(job, document, sent):
    """What a file depends on."""
    kind = sent.get("kind")
    if kind not in MEDIA_TYPES:
        raise OperationError(f"There is no file format {kind!r} to release.")
    chord = parse_positive_length(str(sent.get("chord") or flat.DEFAULT_CHORD_MM), "The chord tolerance")
    arguments = services.rebuild_arguments(document) | {"file": kind, "title": job.title, "chord": chord}
    read = ["allowances", *(["up"] if kind in LAID else []), *(["flat"] if kind in flat.FLAT else [])]
    read += ["numbers"] if kind == "sheet" else []
    making = {part: value for part, value in document["making"].items() if kind == "zip" or part in read}
    if making and kind not in ("view", "views"):
        arguments["making"] = making
    if kind == "zip":
        arguments |= services.pictures_of(document)
    if kind in ("zip", "pdf"):
        arguments["block"] = {
            "number": job.number,
            "version": str(job.version),
            "date": f"{job.changed:%Y-%m-%d}",
            "by": job.changed_by.get_username() if job.changed_by else "",
        }
    if kind == "view":
        arguments["look"] = _look(sent.get("look"))
    return arguments


@require_POST
def keep(request, job_id):
    """Keep the zip of all files as a release, as the job is now."""
    here = here_for(request, job_id, change=True)
    job, document = here.job, here.document
    made = services.known(job, "release", _arguments(job, document, sent_by(request) | {"kind": "zip"}))
    if made is None:
        raise InputError("The job has changed while its files were written; keep the release again.")
    data = b"".join(services.pieces_of(made))
    words = in_words(making_of(document["making"]).allowances)
    kept, new = Release.keep(job, request.user, data, job.version, words)
    if not new:
        raise InputError(f"Nothing has changed since release {kept.number}; that is the same, byte for byte.")
    return JsonResponse({"number": kept.number})


@require_GET
def kept(request, job_id, number):
    """The zip of a release that was kept."""
    job = job_for(request, job_id)
    found = get_object_or_404(job.releases, number=number)
    answer = HttpResponse(bytes(found.blob.data), content_type="application/zip")
    name = f"{flat.file_stem(job.title)}-release-{number}.zip"
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


def _look(sent):
    """What runs to the right and up in a view, as the page sends it."""
    try:
        LOOK.check(sent)
    except Wrong:
        raise InputError("The page sent something that cannot be read; load it again.") from None
    return sent


@require_GET
def download(request, job_id, task):
    """A file that was written, piece by piece."""
    job = job_for(request, job_id)
    made = services.finished(job, task, "release")
    if made is None:
        raise Http404("no such file")
    kind = made.result["kind"]
    answer = StreamingHttpResponse(services.pieces_of(made), content_type=MEDIA_TYPES[kind])
    answer["Content-Length"] = services.size_of(made)  # so that one that was cut off does not pass for whole
    answer["Content-Disposition"] = f'attachment; filename="{flat.file_name(job.title, kind)}"'
    return answer
