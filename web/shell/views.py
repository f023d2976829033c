"""The register, changes to a job, and the parts of the frame that follow a change."""

import json

from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from examples.parts import SAMPLES
from examples.samples import WAYS
from nomogon_core.devices.scanner import RESOLUTIONS
from nomogon_core.errors import CoreError, InputError
from nomogon_core.exchange.flat import file_stem
from nomogon_core.job.advice import STAGES
from nomogon_core.job.commands import declared
from nomogon_core.job.ledger import command_for
from shell.frame import initials, panel_context, view_box
from stages.overviews import refresh_summary, view_of
from stages.requests import UNITS, number_from, sent_by, unit_of, whole_from
from stages.sketch.boards import sketch_board
from store import actions, making
from store.access import job_for
from store.documents import document_of
from store.models import Blob, Job
from store.pictures import display_copy
from store.refusals import Forbidden, Stale
from store.working import here_for, here_of

MOST_LISTED = 200
STOPS = (8, 62, 116, 170, 224)


@require_GET
def register(request):
    """All jobs of the user."""
    away = request.GET.get("away") == "1"
    mine = Job.objects.filter(members__user=request.user)
    jobs = list(mine.filter(put_away=away).select_related("changed_by")[:MOST_LISTED])
    rows = [
        {
            "job": job,
            "at": STAGES.index(job.summary.get("stage", "reference")),
            "summary": job.summary,
            "size": " × ".join(f"{side:.1f}" for side in job.summary.get("size", [])),
            "view_box": view_box(job.summary.get("box")),
            "stops": STOPS,
            "needle": STOPS[STAGES.index(job.summary.get("stage", "reference"))],
        }
        for job in jobs
    ]
    counts = [
        {"title": title, "jobs": [row for row in rows if row["at"] == index]}
        for index, title in enumerate(("Reference", "Sketch", "Solid", "Inspect", "Release"))
    ]
    to_fix = [row for row in rows if row["summary"].get("tone") == "bad"]
    return render(
        request,
        "register.html",
        {
            "rows": rows,
            "counts": counts,
            "to_fix": to_fix,
            "away": away,
            "put_away": mine.filter(put_away=True).count(),
            "unit": unit_of(request),
            "initials": initials(request.user),
            "stages": [
                {"title": entry["title"], "x": 84 + 150 * index, "count": len(entry["jobs"])}
                for index, entry in enumerate(counts)
            ],
            "ticks": [54 + 15 * index for index in range(45)],
        },
    )


def _new_context(request):
    return {
        "initials": initials(request.user),
        "unit": unit_of(request),
        "samples": SAMPLES.items(),
        "ways": WAYS.items(),
        "resolutions": RESOLUTIONS,
    }


@require_http_methods(["GET", "POST"])
def new(request):
    """A new job from a picture or an archive, or an empty one to draw in by hand."""
    if request.method == "GET":
        return render(request, "new.html", _new_context(request))
    title, number = request.POST.get("title", ""), request.POST.get("number", "")
    try:
        if "nomogon.too_large" in request.META:
            raise InputError(
                f"The file has {request.META['nomogon.too_large'] / 1e6:.0f} MB; at most 96 MB are taken. Reduce the "
                "picture and drop it again."
            )
        upload = request.FILES.get("picture")
        if request.POST.get("sample"):
            job = making.job_from_sample(
                request.user, *(request.POST.get(name, "") for name in ("sample", "way", "dpi", "turn"))
            )
        elif upload is None:
            job = making.new_job(request.user, title, number)
        elif upload.name.lower().endswith((".zip", ".nomogon")):
            job = making.import_archive(request.user, upload.read(), upload.name)
        else:
            stem = upload.name.rsplit(".", 1)[0].replace("-", " ").replace("_", " ")
            told = {name: " ".join(request.POST.get(name, "").split())[:400] for name in ("taken_from", "licence")}
            drawing = {"dpi": request.POST.get("drawing_dpi") or 300, "page": request.POST.get("page") or 1}
            job = making.job_from_picture(
                request.user, title or stem, number, upload.read(), upload.name, **told, **drawing
            )
    except CoreError as problem:
        return render(
            request,
            "new.html",
            _new_context(request) | {"problem": str(problem), "title": title, "number": number},
            status=400,
        )
    refresh_summary(job)
    return redirect("reference" if request.FILES.get("picture") or request.POST.get("sample") else "sketch", job.pk)


@require_GET
def open_job(request, job_id):
    job = job_for(request, job_id)
    return redirect(job.summary.get("stage", "reference"), job.pk)


@require_POST
def units(request, unit):
    """Read lengths in another unit from now on."""
    if unit not in UNITS:
        raise Http404("no such unit")
    request.session["unit"] = unit
    back = request.headers.get("Referer", "")
    safe = url_has_allowed_host_and_scheme(back, {request.get_host()})
    return redirect(back if safe else "register")


def _answer(request, job, done, sent):
    job.refresh_from_db()
    refresh_summary(job, done.document)
    answer = {"version": done.version, "told": done.told, "note": done.note, "made": done.made}
    if sent.get("stage") == "sketch":
        here = here_of(job, request.user, done.document)
        answer["board"] = sketch_board(here, unit_of(request), whole_from(sent, "shown"))
    return JsonResponse(answer)


@require_POST
def do(request, job_id, name):
    """Carry out a command; the body holds the version that the page shows, the arguments and the stage."""
    job = job_for(request, job_id, change=True)
    sent = sent_by(request)
    arguments = sent.get("arguments", {})
    if not isinstance(arguments, dict):
        raise InputError("The page sent something that cannot be read; load it again.")
    if not declared(name).asked_for:
        raise InputError(f"The command {name} is none that a page sends.")
    done = actions.perform(job.pk, request.user, int(number_from(sent, "version")), name, arguments)
    return _answer(request, job, done, sent)


def _history(request, job_id, step):
    job = job_for(request, job_id, change=True)
    sent = sent_by(request)
    return _answer(request, job, step(job.pk, request.user, int(number_from(sent, "version"))), sent)


@require_POST
def undo(request, job_id):
    return _history(request, job_id, actions.undo)


@require_POST
def redo(request, job_id):
    return _history(request, job_id, actions.redo)


@require_GET
def panel(request, job_id, stage):
    """Ledger, stage line and Next after a change."""
    if stage not in STAGES:
        raise Http404("no such stage")
    here = here_for(request, job_id)
    return render(
        request, "frame.html#panel", panel_context(here.job, view_of(here), stage, unit_of(request)) | {"swap": True}
    )


@require_POST
def quantity(request, job_id):
    """A number of the Ledger typed over; answers with the panel, and tells the page what happened."""
    job = job_for(request, job_id, change=True)
    stage = request.POST.get("stage", "reference")
    version = request.POST.get("version", "")
    events = {}
    try:
        command, arguments = command_for(request.POST.get("row", ""), request.POST.get("value", ""), unit_of(request))
        if not (version.isascii() and version.isdecimal()):
            raise InputError("The page sent no version; load it again.")
        done = actions.perform(job.pk, request.user, int(version), command, arguments)
        refresh_summary(Job.objects.get(pk=job.pk), done.document)
        events["nomogon:changed"] = {"version": done.version, "told": done.told, "note": done.note}
    except Stale as stale:
        events["nomogon:changed"] = {"version": stale.version, "told": "", "note": "", "problem": str(stale)}
    except (CoreError, Forbidden) as problem:
        events["nomogon:problem"] = {"problem": str(problem)}
    job.refresh_from_db()
    answer = render(
        request,
        "frame.html#panel",
        panel_context(
            job, view_of(here_of(job, request.user)), stage if stage in STAGES else "reference", unit_of(request)
        )
        | {"swap": True},
    )
    answer["HX-Trigger"] = json.dumps(events)
    return answer


@require_GET
def archive(request, job_id):
    """The job as one open file."""
    job = job_for(request, job_id)
    answer = HttpResponse(making.export_archive(job), content_type="application/zip")
    answer["Content-Disposition"] = f'attachment; filename="{file_stem(job.title)}.nomogon.zip"'
    return answer


@require_GET
def picture(request, job_id, digest):
    """A picture of the job; it never changes under its digest."""
    job = job_for(request, job_id)
    held = next((item for item in document_of(job)["references"].values() if item["digest"] == digest), None)
    blob = Blob.objects.filter(pk=digest).first() if held else None
    if blob is None:
        raise Http404("no such picture")
    data, media_type = display_copy(held, bytes(blob.data), blob.media_type)
    answer = HttpResponse(data, content_type=media_type)
    answer["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer
