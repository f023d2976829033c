"""Pages and answers of the Sketch stage."""

from django.http import JsonResponse
from django.views.decorators.http import require_GET, require_POST

from nomogon_core.errors import InputError
from nomogon_core.job.commands import carry_out
from nomogon_core.job.commands.edits import how_it_lies
from nomogon_core.job.document import sketch_of
from nomogon_core.job.meant import meant_by
from nomogon_core.job.tracing import departures, teeth
from nomogon_core.kept import Kept
from nomogon_core.quantity.units import format_length
from nomogon_core.sketch.dimensions import refreshed
from nomogon_core.sketch.drawing import changed_paths, draw_moved
from nomogon_core.sketch.edits import EDITS
from nomogon_core.sketch.solve import Grab
from nomogon_core.sketch.underhand import stick
from nomogon_core.trace.following import follow_edge
from stages.declared import part_of
from stages.requests import number_from, sent_by, unit_of, uploaded
from stages.sketch.boards import behind, sketch_board
from store import pictures
from store.access import job_for
from store.documents import Shelf, edge_of
from store.models import Member
from store.working import here_for, here_of, work_on
from work import outside, readers, services
from work.models import Task

EXAGGERATION = 30.0
EDGE_PATIENCE_S, WIDTH_DIGITS = 20, 7
_grabs, _meant = Kept(32), Kept(32)


@require_POST
def open_sketch(request, job_id):
    """Work on another sketch from now on."""
    here = here_for(request, job_id)
    wanted = sent_by(request).get("sketch")
    if wanted not in here.document["sketches"]:
        raise InputError("That sketch is not in the job any more; open another.")
    work_on(here.job, request.user, sketch=wanted)
    return JsonResponse({"open": wanted})


@require_GET
def board(request, job_id):
    return JsonResponse(sketch_board(here_for(request, job_id), unit_of(request)))


@require_GET
def edits(request, job_id):
    """Every edit as the page writes its sentence."""
    job_for(request, job_id)
    unit = unit_of(request)
    told = {
        kind: {"title": one.title, "told": one.told, "parts": [part_of(part, unit) for part in one.sentence]}
        for kind, one in EDITS.items()
    }
    return JsonResponse({"edits": told})


@require_POST
def preview(request, job_id):
    """What an edit that is being written would draw and take away; nothing of the job changes."""
    here = here_for(request, job_id, change=True)
    sent = sent_by(request)
    arguments = {
        "kind": sent.get("kind"),
        "blanks": sent.get("blanks"),
        "sketch": here.sketch_id,
        "unit": unit_of(request),
    }
    outcome = carry_out(here.document, "sketch.edit", arguments, Shelf(here.job))
    before, after = (sketch_of(document, here.sketch_id) for document in (here.document, outcome.document))
    lies = how_it_lies(here.document, Shelf(here.job), **arguments)
    told = {"told": outcome.told, "note": outcome.note, "lying": lies and _lying(lies)}
    return JsonResponse(changed_paths(before, after) | told)


def _lying(lies):
    """How something lies, for the handles on the Board; points of its own by themselves and where they are."""
    return {
        "about": lies.about,
        "corners": lies.corners,
        "turn": lies.turn,
        "mirrored": lies.mirrored,
        "blanks": lies.blanks,
        "size": lies.size,
        "points": [[own, lies.placing.of(own)] for own in lies.points],
    }


@require_POST
def drawing(request, job_id):
    """The curves of a file, kept until a sentence puts them into the sketch."""
    job = job_for(request, job_id, change=True)
    upload = uploaded(request, "drawing")
    data, told = outside.read(readers.outlines, upload.read(), upload.name)
    unit = unit_of(request)
    # With all its digits, so that a drawing put in as it is has a factor of one.
    width = f"{format_length(told.pop('width_mm'), unit=unit, digits=WIDTH_DIGITS).rstrip('0').rstrip('.')} {unit}"
    kept = Shelf(job).keep(data, "application/json")
    return JsonResponse(told | {"file": kept, "name": upload.name, "width": width})


@require_GET
def meant(request, job_id):
    """What the traces of the open sketch say of what was meant."""
    here = here_for(request, job_id)
    key = (here.job.pk, here.job.version, here.sketch_id)
    found = _meant.get(key) or _meant.put(key, meant_by(here.document, here.sketch_id))
    return JsonResponse(
        {
            "proposals": [
                {
                    "words": one.words,
                    "sigmas": one.sigmas,
                    "of": list(one.of),
                    "sure": one.sure,
                    "constraints": [_proposed(item) for item in one.constraints],
                    "command": one.command,
                    "arguments": one.arguments,
                    "line": one.line,
                }
                for one in found
            ]
        }
    )


def _proposed(item):
    told = {"kind": item.kind, "of": list(item.of)}
    return told | {"value": item.value, "typed": item.typed} if item.is_dimension else told


@require_POST
def solid(request, job_id):
    """Have the solid behind the sketch built; it, and whether it is still being built."""
    here, task = here_for(request, job_id), None
    if here.document["operations"]:
        task = services.wait(services.submit(here.job, "rebuild", services.rebuild_arguments(here.document)))
    return JsonResponse({"solid": behind(here), "building": bool(task and task.status in Task.OPEN)})


def _grab(job, user, held):
    """A drag in progress; made anew on whichever server the next move comes to. While it goes on, the document is not
    read again."""
    member = Member.objects.get(job=job, user=user)
    key = (job.pk, job.version, member.working.get("sketch", ""), tuple(held))
    if found := _grabs.get(key):
        return found
    here = here_of(job, user)
    return _grabs.put(key, Grab(sketch_of(here.document, here.sketch_id), held))


@require_POST
def drag(request, job_id):
    """What of the sketch has moved while something is dragged; nothing is stored."""
    job = job_for(request, job_id, change=True)
    sent = sent_by(request)
    held = sent.get("held")
    if not isinstance(held, list) or not held or not all(isinstance(name, str) for name in held):
        raise InputError("Nothing was taken hold of.")
    grab = _grab(job, request.user, held)
    offset = (number_from(sent, "dx"), number_from(sent, "dy"))
    moved = refreshed(grab.move(offset, (number_from(sent, "x"), number_from(sent, "y"))))
    return JsonResponse(
        {
            "sequence": sent.get("sequence", 0),
            "version": job.version,
            "moved": draw_moved(grab.equations.sketch, moved, unit_of(request)),
        }
    )


def _under(request, job_id):
    """(job as it is worked on, light, calibration) of the picture under the sketch; light and calibration are None
    where there is none."""
    here = here_for(request, job_id)
    return here, pictures.light_of(*here.where) if here.fit else None, here.fit


@require_POST
def stick_to_edge(request, job_id):
    """The place on the picture's edge nearest to the pointer, or nothing."""
    _, light, fit = _under(request, job_id)
    sent = sent_by(request)
    place = (
        stick(light, fit, (number_from(sent, "x"), number_from(sent, "y")), number_from(sent, "reach", 1.0))
        if fit
        else None
    )
    return JsonResponse({"place": place, "sequence": sent.get("sequence", 0)})


@require_POST
def follow_preview(request, job_id):
    """The edge between two places as path data, while the pointer moves."""
    _, light, fit = _under(request, job_id)
    sent = sent_by(request)
    if fit is None:
        raise InputError("There is no picture with a known length under the sketch; set one in Reference first.")
    path = follow_edge(
        light,
        *fit.to_px(
            [(number_from(sent, "x0"), number_from(sent, "y0")), (number_from(sent, "x1"), number_from(sent, "y1"))]
        ),
    )
    places = fit.to_mm(path)[::2]
    return JsonResponse(
        {"d": "M" + "L".join(f"{x:.3f} {y:.3f}" for x, y in places), "sequence": sent.get("sequence", 0)}
    )


@require_GET
def comb(request, job_id):
    """How far the traced curves are from the picture's edge: teeth along it, and the worst places."""
    here = here_for(request, job_id)
    told = departures(here.document, here.sketch_id, edge_of)
    return JsonResponse(
        {
            "teeth": [tooth for one in told.values() for tooth in teeth(one, EXAGGERATION).round(4).tolist()],
            "exaggeration": EXAGGERATION,
            "beyond": [list(place) for one in told.values() for place in one.beyond],
            "rms": max((one.rms for one in told.values()), default=None),
            "largest": max((one.largest for one in told.values()), default=None),
        }
    )


@require_POST
def edge(request, job_id):
    """Find how an edge of the solid shows in the open sketch, for the command that brings it in."""
    here = here_for(request, job_id, change=True)
    sent = sent_by(request)
    wanted = (here.sketch_id, str(sent.get("body")), str(sent.get("edge")))
    task = services.submit(here.job, "edge", services.edge_arguments(here.document, *wanted))
    task = services.wait(task, EDGE_PATIENCE_S)
    if task.status != Task.DONE:
        raise InputError(task.problem or "The solid is still being built; click the edge again in a moment.")
    return JsonResponse({"edge": wanted[2]})
