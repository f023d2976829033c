"""Commands of the Reference stage."""

import math

import attrs

from jobs.actions import command
from nomogon_core.errors import InputError
from nomogon_core.geometry import bounds
from nomogon_core.job import calibration_of, known_lengths_of, picture_of
from nomogon_core.quantity.units import format_length, parse_positive_length
from nomogon_core.reference.calibration import GAUGE_U95_MM, fit_similarity
from nomogon_core.sketch import edit, model
from nomogon_core.sketch.solve import solve
from nomogon_core.trace.outlines import curve_of_record
from work.models import Task

LONGEST_NAME = 80


def _next(document, prefix):
    name = f"{prefix}{document['next_number']}"
    document["next_number"] += 1
    return name


def clean_name(text, what):
    """A name as typed, shortened and on one line.

    Raises:
        InputError: nothing but spaces.
    """
    name = " ".join(str(text).split())[:LONGEST_NAME]
    if not name:
        raise InputError(f"{what} needs a name; write a word or two.")
    return name


@command("reference.add_picture")
def add_picture(documents, *, name, digest, media_type, width, height, dpi, taken_from="", licence=""):
    """Put a picture into the job; a job has one picture."""
    reference = documents["reference"]
    if reference["pictures"]:
        raise InputError("This job has its picture already. Make a new job for another picture.")
    reference["pictures"][_next(reference, "r")] = {
        "name": clean_name(name, "The picture"), "digest": digest, "media_type": media_type, "width": width, "height": height, "dpi": dpi,
        "taken_from": taken_from, "licence": licence, "origin_px": [0.0, height - 1.0], "angle": 0.0}
    return f"Picture {name} added"


def _checked(documents, picture):
    """Refuse known lengths that give no calibration."""
    fit_similarity(known_lengths_of(documents, picture).values())


def _place(value):
    try:
        x, y = (float(part) for part in value)
    except (TypeError, ValueError):
        raise InputError("A pick was sent without two coordinates; pick again.") from None
    if not (math.isfinite(x) and math.isfinite(y)):
        raise InputError("A pick was sent without two coordinates; pick again.")
    return [x, y]


@command("reference.add_known")
def add_known(documents, *, start, end, text, sigma_px, unit="mm"):
    """A known length between two picked places."""
    picture, _ = picture_of(documents)
    if picture is None:
        raise InputError("There is no picture to measure in; drop one first.")
    reference = documents["reference"]
    key = _next(reference, "k")
    name = f"Known length {1 + len(reference['known'])}"
    length = parse_positive_length(text, name, unit=unit)
    reference["known"][key] = {"name": name, "picture": picture, "start": _place(start), "end": _place(end), "length_mm": length,
                               "typed": str(text), "sigma_px": min(max(float(sigma_px), 0.005), 5.0), "gauge_u95_mm": GAUGE_U95_MM}
    _checked(documents, picture)
    return f"{name} set to {format_length(length)} mm"


def _known(documents, name):
    item = documents["reference"]["known"].get(name)
    if item is None:
        raise InputError("That known length is not in the job any more.")
    return item


TRACED_BEFORE = "What was traced before keeps its size; find the outlines again to use the new scale."


@command("reference.set_known")
def set_known(documents, *, name, text, unit="mm"):
    """Another gauge reading for a known length."""
    item = _known(documents, name)
    item["length_mm"], item["typed"] = parse_positive_length(text, item["name"], unit=unit), str(text)
    _checked(documents, item["picture"])
    note = TRACED_BEFORE if documents["reference"]["traces"] else ""
    return f"{item['name']} set to {format_length(item['length_mm'])} mm", note


@command("reference.move_known")
def move_known(documents, *, name, which, place, sigma_px):
    """Move one end of a known length."""
    item = _known(documents, name)
    if which not in ("start", "end"):
        raise InputError("A known length has a start and an end; move one of these.")
    item[which], item["sigma_px"] = _place(place), min(max(float(sigma_px), 0.005), 5.0)
    _checked(documents, item["picture"])
    return f"End of {item['name']} moved"


@command("reference.remove_known")
def remove_known(documents, *, name):
    item = _known(documents, name)
    del documents["reference"]["known"][name]
    return f"{item['name']} taken away"


@command("reference.rename_known")
def rename_known(documents, *, name, text):
    item = _known(documents, name)
    old, item["name"] = item["name"], clean_name(text, "A known length")
    return f"{old} is called {item['name']} now"


@command("reference.level")
def level(documents, *, start, end):
    """Make the direction between two picked places the x axis."""
    _, picture = picture_of(documents)
    if picture is None:
        raise InputError("There is no picture to level; drop one first.")
    (x0, y0), (x1, y1) = _place(start), _place(end)
    if math.hypot(x1 - x0, y1 - y0) < 5:
        raise InputError("The two picks are on the same place; pick two places far apart on a straight edge.")
    angle = math.atan2(-(y1 - y0), x1 - x0)
    angle = math.remainder(angle, math.pi)
    if abs(angle) > math.pi / 4:
        angle -= math.copysign(math.pi / 2, angle)
    picture["angle"] = angle
    return f"Picture levelled by {math.degrees(angle):.2f}°"


@command("reference.accept_trace")
def accept_trace(documents, *, task, job):
    """Put the outlines of a finished trace into the sketch."""
    found = Task.objects.filter(pk=task, job_id=job, kind="trace", status=Task.DONE).first()
    if found is None:
        raise InputError("That trace is not there any more; find the outlines again.")
    calibration = calibration_of(documents)
    if calibration is None:
        raise InputError("The picture has no known length any more; set one and find the outlines again.")
    reference, records = documents["reference"], found.result["outlines"]
    outlines = [([curve_of_record(item) for item in record["primitives"]], [item["u95_mm"] for item in record["primitives"]]) for record in records]
    sketch = model.from_json(documents["sketch"])
    if not sketch.curves:
        outlines = _from_origin(documents, calibration, outlines)
    trace = _next(reference, "t")
    sketch, told = _with_outlines(sketch, outlines, trace)
    reference["traces"][trace] = {"picture": picture_of(documents)[0], "settings": found.arguments["settings"],
                                  "max_dev_mm": max(record["max_dev_mm"] for record in records),
                                  "rms_dev_mm": max(record["rms_dev_mm"] for record in records)}
    documents["sketch"] = model.to_json(sketch)
    return f"{len(records)} outline{'s' if len(records) > 1 else ''} traced: {told}"


def _from_origin(documents, calibration, outlines):
    """Shift the first trace so that its lower left corner is the origin; the picture goes along."""
    (left, low), _ = bounds([curve for curves, _ in outlines for curve in curves], 0.01)
    picture = picture_of(documents)[1]
    picture["origin_px"] = calibration.to_px([[left, low]])[0].tolist()
    return [([_shifted(curve, -left, -low) for curve in curves], u95) for curves, u95 in outlines]


def _shifted(curve, dx, dy):
    def move(point):
        return (point[0] + dx, point[1] + dy)
    if hasattr(curve, "center"):
        return attrs.evolve(curve, center=move(curve.center))
    if hasattr(curve, "points"):
        return attrs.evolve(curve, points=tuple(map(move, curve.points)))
    return attrs.evolve(curve, start=move(curve.start), end=move(curve.end))


def _with_outlines(sketch, outlines, trace):
    """The sketch with outlines and tangent constraints at their smooth joints, if these can be met together."""
    counts, joints = {}, []
    for curves, u95 in outlines:
        sketch, names, pairs = edit.add_outline(sketch, curves, u95, origin=trace)
        joints += pairs
        for name in names:
            kind = sketch.curves[name].kind
            counts[kind] = counts.get(kind, 0) + 1
    tied = sketch
    for constraint in edit.smooth_joints(sketch, joints):
        tied, _ = edit.add_constraint(tied, constraint)
    solution = solve(tied)
    told = ", ".join(f"{count} {kind}{'s' if count > 1 else ''}" for kind, count in counts.items())
    return (solution.sketch if solution.status == "solved" else sketch), told
