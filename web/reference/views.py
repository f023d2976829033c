"""Pages and answers of the Reference stage."""

from django.http import JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_POST

from jobs.access import job_for
from jobs.actions import documents_of
from jobs.frame import frame
from jobs.requests import number_from, sent_by
from nomogon_core.errors import InputError
from nomogon_core.job import calibration_of, picture_of
from nomogon_core.quantity.units import parse_length
from nomogon_core.reference.edges import pick_edge
from nomogon_core.trace.outlines import DEFAULT_SPECK_MM2, TraceSettings, check_settings, contour_preview
from reference import pictures
from work import services
from work.views import as_json


@require_GET
def page(request, job_id):
    return render(request, "reference.html", frame(request, job_for(request, job_id), "reference"))


def _calibrated_picture(documents):
    """Plain data of the picture and its calibration.

    Raises:
        InputError: either is missing.
    """
    picture = picture_of(documents)[1]
    if picture is None:
        raise InputError("There is no picture in this job yet; drop one on the Board.")
    return picture, calibration_of(documents)


@require_GET
def board(request, job_id):
    """What the Board draws: the picture, its scale and the known lengths."""
    job = job_for(request, job_id)
    documents = documents_of(job)
    picture = picture_of(documents)[1]
    fit = calibration_of(documents)
    return JsonResponse({
        "version": job.version,
        "picture": picture and {"digest": picture["digest"], "width": picture["width"], "height": picture["height"]},
        "scale": fit and {"mm_per_px": fit.mm_per_px, "origin": list(fit.origin_px)},
        "known": [{"id": name, "name": item["name"], "start": item["start"], "end": item["end"], "mm": item["length_mm"], "sigma": item["sigma_px"]}
                  for name, item in documents["reference"]["known"].items()],
        "angle": picture["angle"] if picture else 0.0,
    })


@require_POST
def pick(request, job_id):
    """The edge nearest to a click."""
    job = job_for(request, job_id)
    sent = sent_by(request)
    picture, _ = _calibrated_picture(documents_of(job))
    light = pictures.light_of(picture["digest"], picture["name"])
    reach = min(max(number_from(sent, "reach", 14.0), 3.0), 60.0)
    found = pick_edge(light, number_from(sent, "x"), number_from(sent, "y"), search_px=reach)
    return JsonResponse({"x": found.x, "y": found.y, "sigma": found.sigma_px, "edge": found.on_edge})


def settings_of(sent):
    """Trace settings from what the page sent.

    Raises:
        InputError: out of range.
    """
    tolerance = parse_length(sent.get("tolerance", "0.1"))
    keep = sent.get("keep", "all")
    if keep not in ("all", "largest") and not (isinstance(keep, list) and all(isinstance(item, list) and len(item) == 3 for item in keep)):
        raise InputError("The page sent no choice of outlines; load it again.")
    settings = TraceSettings(number_from(sent, "threshold", 0.5), tolerance, number_from(sent, "speck", DEFAULT_SPECK_MM2), keep,
                             part=str(sent.get("part", "auto")))
    check_settings(settings)
    return settings


@require_POST
def outlines(request, job_id):
    """Live outlines for a threshold, on a reduced copy of the picture."""
    documents = documents_of(job_for(request, job_id))
    sent = sent_by(request)
    picture, fit = _calibrated_picture(documents)
    if fit is None:
        raise InputError("Set a known length first, so that outlines have a size.")
    light, factor = pictures.reduced(pictures.light_of(picture["digest"], picture["name"]))
    return JsonResponse({"outlines": contour_preview(light, settings_of(sent), fit.mm_per_px * factor, factor)})


@require_POST
def start_trace(request, job_id):
    """Trace at full resolution in the worker."""
    job = job_for(request, job_id, change=True)
    documents = documents_of(job)
    picture, fit = _calibrated_picture(documents)
    if fit is None:
        raise InputError("Set a known length first, so that outlines have a size.")
    settings = settings_of(sent_by(request))
    plain = {"threshold": settings.threshold, "tolerance_mm": settings.tolerance_mm, "speck_mm2": settings.speck_mm2, "keep": settings.keep,
             "part": settings.part}
    task = services.submit(job, "trace", {"documents": {"reference": documents["reference"]}, "digest": picture["digest"], "settings": plain})
    return JsonResponse(as_json(services.wait(task)))
