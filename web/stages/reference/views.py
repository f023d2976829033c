"""Pages and answers of the Reference stage."""

import math

import attrs
import numpy as np
from django.http import Http404, HttpResponse, JsonResponse
from django.views.decorators.http import require_GET, require_POST

from examples import parts
from nomogon_core.arguments import PLACE, Record, Rows, Wrong
from nomogon_core.devices import caliper
from nomogon_core.errors import InputError
from nomogon_core.job.document import calibration_of, known_of, rectangle_of, things_of
from nomogon_core.job.measuring import read_check, suggest
from nomogon_core.job.sureness import length_for_size
from nomogon_core.picture.cleanup import KINDS
from nomogon_core.picture.contours import find_contours
from nomogon_core.picture.edges import pick_edge
from nomogon_core.picture.quality import assess
from nomogon_core.quantity.units import format_length, parse_length
from nomogon_core.reference.models import across_picture
from nomogon_core.reference.sheets import SIZES_MM, find_rectangle, find_round, follow_straight, rectangle_from_corners
from nomogon_core.trace.finding import SAME_COLOUR, colour_at
from nomogon_core.trace.jaws import between_jaws, part_around, square_to, way_in_picture
from nomogon_core.trace.offered import offered_tolerance
from nomogon_core.trace.outlines import (
    DEFAULT_SPECK_MM2,
    DEFAULT_TOLERANCE_MM,
    TraceSettings,
    check_settings,
    contour_preview,
)
from nomogon_core.trace.symmetry import find_axis
from nomogon_core.trace.things import light_without_cards, thing_of
from stages.overviews import refresh_summary, view_of
from stages.requests import number_from, sent_by, uploaded
from store import making, pictures
from store.access import job_for, may_change
from store.working import here_for, work_on
from work import services
from work.views import as_json

MOST_STROKES, MOST_STROKE_PLACES = 40, 400
STROKES = Record({side: Rows(Rows(PLACE, 1, MOST_STROKE_PLACES), most=MOST_STROKES) for side in ("part", "ground")})


def page_context(here, _unit):
    """What the page of this stage holds besides its frame."""
    return {"step_kinds": KINDS, "sheets": [name for name in SIZES_MM if name != "card"]}


def _here(request, job_id, *, scaled=False, change=False):
    """The job as this user works on it, with a picture.

    Raises:
        InputError: there is no picture, or, if wanted, no scale.
    """
    here = here_for(request, job_id, change=change)
    if here.picture is None:
        raise InputError("There is no picture in this job yet; drop one on the Board.")
    if scaled and here.fit is None:
        raise InputError("Set a known length first, so that outlines have a size.")
    return here


def _known_for_board(document, name, fit):
    told = []
    for key, item in known_of(document, name).items():
        kind = item.get("kind", "length")
        plain = {"id": key, "kind": kind, "used": item.get("used", True)} | {
            field: item[field]
            for field in (
                "name",
                "start",
                "end",
                "corners",
                "center",
                "half_axes",
                "angle",
                "places",
                "what",
                "gauge",
                "width_mm",
                "height_mm",
                "dpi",
            )
            if field in item
        }
        plain |= {"mm": item.get("length_mm"), "sigma": item.get("sigma_px")}
        if item.get("edges"):
            plain["outline"] = thing_of(rectangle_of(key, item)).outline
        if kind == "check" and fit:
            plain["read"], plain["u95"] = read_check(fit, item)
        told.append(plain)
    return told


@require_GET
def board(request, job_id):
    """What the Board draws: the picture worked on, its scale and place, and what is known of it."""
    here = here_for(request, job_id)
    job, document = here.job, here.document
    name, picture, fit = here.picture_id, here.picture, here.fit
    cleaned = bool(picture and pictures.steps_of(picture))
    return JsonResponse(
        {
            "version": job.version,
            "picture": picture
            and {
                "id": name,
                "digest": picture["digest"],
                "width": picture["width"],
                "height": picture["height"],
                "angle": picture["angle"],
                "flipped": picture.get("flipped", False),
                "locked": picture.get("locked", False),
                "dpi": picture["dpi"],
                "steps": picture.get("steps", []),
                "cleaned": pictures.steps_key(picture, fit.mm_per_px if fit else None) if cleaned else "",
                "stand_in": bool(picture.get("stand_in")),
            },
            "pictures": [
                {
                    "id": key,
                    **{
                        field: item.get(field)
                        for field in ("name", "visible", "locked", "drawn", "opacity", "taken_from", "licence", "model")
                    },
                    "flipped": item.get("flipped", False),
                    "degrees": round(math.degrees(item["angle"]), 4),
                    "at": item.get("at_mm", [0.0, 0.0]),
                    "height": item.get("height_mm", 0.0),
                    "camera": item.get("camera_mm", 0.0),
                    "worked_on": key == name,
                    "wide": _width_of(document, key, item),
                }
                for key, item in document["references"].items()
            ],
            "scale": fit
            and {
                "is_set": fit.is_set,
                "mm_per_px": fit.mm_per_px,
                "origin": list(fit.origin_px),
                "model": fit.model,
                "why": fit.why,
                "bends": fit.bends,
            },
            "known": _known_for_board(document, name, fit),
            "traces": [
                {"id": key, "settings": item["settings"]}
                for key, item in document["traces"].items()
                if item["picture"] == name
            ],
        }
    )


def _width_of(document, name, item):
    """{mm, is_set} of a picture's width, or None while it has no scale."""
    fit = calibration_of(document, name)
    return fit and {"mm": fit.distance(*across_picture(item["width"], item["height"])[:2])[0], "is_set": fit.is_set}


@require_POST
def pick(request, job_id):
    """The edge nearest to a click."""
    here = _here(request, job_id)
    sent = sent_by(request)
    light = pictures.light_of(*here.where)
    reach = min(max(number_from(sent, "reach", 14.0), 3.0), 60.0)
    found = pick_edge(light, number_from(sent, "x"), number_from(sent, "y"), search_px=reach)
    return JsonResponse({"x": found.x, "y": found.y, "sigma": found.sigma_px, "edge": found.on_edge})


def _sent_places(sent, least):
    places = sent.get("places")
    if (
        not isinstance(places, list)
        or len(places) < least
        or not all(isinstance(place, list) and len(place) == 2 for place in places)
    ):
        raise InputError("The page sent no places; click again.")
    return [[number_from({"x": value}, "x") for value in place] for place in places]


@require_POST
def find(request, job_id):
    """A card, sheet, rectangle, round edge or straight edge near clicks, as geometry in pixels."""
    here = _here(request, job_id)
    picture = here.picture
    sent = sent_by(request)
    kind = sent.get("kind")
    places = _sent_places(sent, 0 if kind in ("card", "sheet") else 1)
    light = pictures.light_of(*here.where)
    if kind == "card":
        return JsonResponse(_as_found(find_rectangle(light, "card", places[0] if places else None)))
    if kind == "sheet":
        return JsonResponse(_found_sheet(light, places[0] if places else None))
    if kind == "rectangle":
        corners = np.array(_sent_places(sent, 4)[:4])
        sides = np.hypot(*(np.roll(corners, -1, axis=0) - corners).T)
        size = sorted((sides[0] + sides[2], sides[1] + sides[3]), reverse=True)
        if sent.get("keep"):
            size = sides[0] + sides[2], sides[1] + sides[3]
        return JsonResponse(_as_found(rectangle_from_corners(light, "Rectangle", corners, size, 1.0)))
    if kind == "jaws":
        way = (
            square_to(*places[1:3])
            if len(places) > 2
            else way_in_picture(str(sent.get("way", "closest")), picture["angle"])
        )
        jaws = between_jaws(part_around(light_without_cards(light, things_of(*here.where)), places[0]), way)
        return JsonResponse(
            {
                "way": way,
                "start": list(jaws.start),
                "end": list(jaws.end),
                "contacts": [list(place) for place in jaws.contacts],
                "sigma": jaws.sigma_px,
            }
        )
    if kind == "round":
        return JsonResponse(attrs.asdict(find_round(light, places[0])))
    if kind == "straight":
        return JsonResponse({"places": follow_straight(light, *_sent_places(sent, 2)[:2])})
    raise InputError("The page asked for something that cannot be found; load it again.")


def _as_found(rectangle):
    """A rectangle as the page keeps it until it is sent back."""
    edges = [
        {
            "places": np.round(edge.places, 3).tolist(),
            "normals": np.round(edge.normals, 4).tolist(),
            "sigma_px": round(edge.sigma_px, 4),
        }
        for edge in rectangle.edges
    ]
    return {"corners": np.round(rectangle.corners, 3).tolist(), "edges": edges, "sigma": rectangle.sigma_px}


def _found_sheet(light, near):
    """The sheet, around a place if one was clicked, and the size whose sides fit best."""
    problem = None
    for kind in ("A4", "Letter"):
        try:
            found = find_rectangle(light, kind, near)
        except InputError as refusal:
            problem = refusal
            continue
        corners = np.array(found.corners)
        sides = np.hypot(*(np.roll(corners, -1, axis=0) - corners).T)
        aspect = (sides[0] + sides[2]) / (sides[1] + sides[3])
        likely = min(
            (name for name in SIZES_MM if name != "card"),
            key=lambda name: abs(math.log(aspect / (SIZES_MM[name][0] / SIZES_MM[name][1]))),
        )
        return _as_found(found) | {"likely": "A4" if likely == "A5" else likely}
    raise problem


@require_POST
def quality(request, job_id):
    """Whether the picture is good enough: graduated scales."""
    here = _here(request, job_id)
    fit = here.fit
    return JsonResponse(
        {"measures": [attrs.asdict(measure) for measure in assess(pictures.light_of(*here.where), fit)]}
    )


@require_POST
def mirror_axis(request, job_id):
    """The mirror axis of the picture's largest outline: a place on it, and the angle that lays it upright or level,
    whichever is nearer."""
    here = _here(request, job_id, scaled=True)
    fit = here.fit
    small, factor = pictures.preview_light(*here.where)
    contours = [contour for contour in find_contours(small) if not contour.touches_border]
    if not contours:
        raise InputError("No outline stands free of the picture's border, so there is no mirror axis to find.")
    level = attrs.evolve(fit, angle=0.0, flipped=False)
    axis = find_axis(level.to_mm(contours[0].points * factor + (factor - 1) / 2))
    return JsonResponse(
        {
            "point": level.to_px([axis.point])[0].tolist(),
            "angle": math.remainder(axis.angle, math.pi / 2),
            "rms_mm": axis.rms,
            "largest_mm": axis.largest,
        }
    )


@require_POST
def next_measurement(request, job_id):
    """Which measurement would improve the sketch's sizes most, or the least sure size of the part."""
    view = view_of(here_for(request, job_id))
    found = length_for_size(view) if sent_by(request).get("of") == "size" else suggest(view)
    return JsonResponse(
        {"found": found and {"start": list(found.start_px), "end": list(found.end_px), "about_mm": found.about_mm}}
    )


@require_POST
def read_caliper(request, job_id):
    """A reading of the caliper stand-in, for pictures that came from the scanner stand-in or the samples."""
    here = _here(request, job_id)
    picture = here.picture
    stand_in = picture.get("stand_in")
    if not stand_in or stand_in.get("part") not in parts.SAMPLES:
        raise InputError(
            "The caliper stand-in measures sample parts only; this picture is none of theirs. Type your own caliper's "
            "reading."
        )
    sent = sent_by(request)
    places = np.array(_sent_places(sent, 1))
    whole = (
        np.column_stack([places, np.ones(len(places))])
        @ np.linalg.inv(np.array(stand_in["px_from_mm"]).reshape(3, 3)).T
    )
    true = whole[:, :2] / whole[:, 2:]
    outlines, random = parts.SAMPLES[stand_in["part"]].outlines(), np.random.default_rng()
    reading = (
        caliper.read_diameter(outlines, true[0], random)
        if len(true) == 1 or sent.get("what") == "diameter"
        else caliper.read_between(outlines, true[0], true[1], random)
    )
    return JsonResponse({"reading_mm": reading})


@require_POST
def add_picture(request, job_id):
    """Another picture dropped or pasted onto the Board."""
    job = job_for(request, job_id, change=True)
    upload = uploaded(request, "picture")
    dpi, page_number = (request.POST.get(name, "") or fallback for name, fallback in (("dpi", "300"), ("page", "1")))
    data, facts = making.read_picture(upload.read(), upload.name, dpi=dpi, page=page_number)
    done = making.add_picture(job, request.user, data, facts)
    job.refresh_from_db()
    work_on(job, request.user, picture=done.made)
    refresh_summary(job, done.document)
    return JsonResponse({"version": done.version, "told": done.told})


@require_POST
def preview_steps(request, job_id):
    """The picture after clean-up steps that are being changed, on a reduced copy, as JPEG."""
    here = _here(request, job_id)
    steps = sent_by(request).get("steps")
    if not isinstance(steps, list):
        raise InputError("The page sent no clean-up steps; load it again.")
    return HttpResponse(pictures.clean_preview(*here.where, steps), content_type="image/jpeg")


@require_POST
def start_cleaning(request, job_id):
    """Carry out the stored clean-up steps at full size in the worker; who may only look sees it once it is done."""
    here = _here(request, job_id)
    picture, fit = here.picture, here.fit
    arguments = {
        "digest": picture["digest"],
        "name": picture["name"],
        "drawn": picture.get("drawn", False),
        "steps": pictures.steps_of(picture),
        "mm_per_px": fit.mm_per_px if fit else None,
    }
    if may_change(here.job, request.user):
        return JsonResponse(as_json(services.wait(services.submit(here.job, "clean", arguments))))
    task = services.known(here.job, "clean", arguments)
    return JsonResponse(as_json(task) if task else {"status": "unknown"})


def _kept(data, media_type):
    answer = HttpResponse(data, content_type=media_type)
    answer["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer


@require_GET
def cleaned(request, job_id, task):
    """The picture that a clean-up task made."""
    job = job_for(request, job_id)
    found = services.finished(job, task, "clean")
    if found is None:
        raise Http404("no such cleaned picture")
    return _kept(bytes(found.output.data), "image/jpeg")


@require_GET
def flat(request, job_id, picture, key):
    """A picture laid flat; ``key`` changes with its calibration."""
    document = here_for(request, job_id).document
    if picture not in document["references"] or calibration_of(document, picture) is None:
        raise Http404("no such picture")
    return _kept(pictures.flat_copy(document, picture), "image/jpeg")


def settings_of(sent, here):
    """Trace settings from what the page sent; colours come as places in the picture that were clicked.

    Raises:
        InputError: out of range.
    """
    tolerance = parse_length(sent.get("tolerance", "0.1"))
    keep = sent.get("keep", "all")
    if keep not in ("all", "largest") and not (
        isinstance(keep, list) and all(isinstance(item, list) and len(item) == 3 for item in keep)
    ):
        raise InputError("The page sent no choice of outlines; load it again.")
    mode, picked = str(sent.get("mode", "tone")), ()
    if mode == "colour":
        if not sent.get("picked"):
            raise InputError(
                "Click the part on the Board to say which colour it has; click again for each further colour."
            )
        colour = pictures.colours_of(here.picture)
        picked = tuple(
            tuple(float(value) for value in colour_at(colour, *place))
            for place in _sent_places({"places": sent["picked"]}, 1)
        )
    strokes = {side: _sent_strokes(sent, side) if mode == "strokes" else () for side in ("part", "ground")}
    settings = TraceSettings(
        number_from(sent, "threshold", 0.5),
        tolerance,
        number_from(sent, "speck", DEFAULT_SPECK_MM2),
        keep,
        part=str(sent.get("part", "auto")),
        mode=mode,
        flatten=bool(sent.get("flatten")),
        colours=picked,
        reach=number_from(sent, "reach", SAME_COLOUR),
        halves=str(sent.get("halves", "")),
        gap_mm=number_from(sent, "gap", 0.0),
        sides=str(sent.get("sides", "auto")),
        part_strokes=strokes["part"],
        ground_strokes=strokes["ground"],
    )
    check_settings(settings)
    return settings


def _sent_strokes(sent, side):
    """Strokes on the part or on the ground, as tuples of places in pixels.

    Raises:
        InputError: no list of strokes, or more than anybody draws.
    """
    try:
        strokes = STROKES.check(sent.get("strokes")).get(side, [])
    except Wrong:
        raise InputError(
            f"The page sent no strokes that can be used, at most {MOST_STROKES} on each side; load it again."
        ) from None
    return tuple(tuple(map(tuple, stroke)) for stroke in strokes)


@require_POST
def outlines(request, job_id):
    """Live outlines, on a reduced copy of the picture."""
    here = _here(request, job_id, scaled=True)
    fit = here.fit
    settings = settings_of(sent_by(request), here)
    light, colour, factor = pictures.preview_of(*here.where, settings.mode)
    offered, why = offered_tolerance(0.0, fit.mm_per_px)
    return JsonResponse(
        {
            "outlines": contour_preview(
                light, settings, fit.mm_per_px * factor, factor, things_of(*here.where), colour
            ),
            "offered": {
                "text": {"mm": f"{offered:g} mm", "in": f"{format_length(offered, unit='in')} in"},
                "why": why if offered > DEFAULT_TOLERANCE_MM else "",
            },
        }
    )


@require_POST
def start_trace(request, job_id):
    """Trace at full resolution in the worker; the answer holds what the command that takes it in is sent."""
    here = _here(request, job_id, scaled=True, change=True)
    plain = attrs.asdict(settings_of(sent_by(request), here), filter=lambda field, _: field.name != "border")
    asked = {"picture": here.picture_id, "settings": plain}
    task = services.submit(here.job, "trace", services.trace_arguments(here.document, **asked))
    return JsonResponse(as_json(services.wait(task)) | asked)


@require_POST
def choose_picture(request, job_id):
    """Work on another picture from now on; nothing of the job changes."""
    here = _here(request, job_id)
    wanted = str(sent_by(request).get("picture"))
    if wanted not in here.document["references"]:
        raise InputError("That picture is not in the job any more.")
    work_on(here.job, request.user, picture=wanted)
    return JsonResponse(
        {"version": here.job.version, "note": f"Working on {here.document['references'][wanted]['name']}"}
    )
