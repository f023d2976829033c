"""Commands of the Sketch stage; each keeps the sketch solved or refuses in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import attrs

from nomogon_core.arguments import ID, IDS, LONGEST_NAME, PLACE, SPOT, SWITCH, TEXT, UNIT, Rows, Text
from nomogon_core.errors import InputError, SketchError
from nomogon_core.geometry.curves import Ellipse
from nomogon_core.geometry.records import curve_of_record
from nomogon_core.job.commands.registry import command
from nomogon_core.job.document import calibration_of, clean_name, keep_sketch, next_id, picture_of, sketch_id, sketch_of
from nomogon_core.job.follow import dimension_u95
from nomogon_core.job.places import check_plane, plane_words
from nomogon_core.job.quantities import free_name, read_number
from nomogon_core.job.quantities import rename as rename_quantity
from nomogon_core.job.schema import PLANE
from nomogon_core.job.tracing import tied_joints
from nomogon_core.quantity.units import format_angle, format_length
from nomogon_core.sketch import edit, trim
from nomogon_core.sketch.conflicts import ConflictError
from nomogon_core.sketch.constrain import constrain, kept_unmet, set_value, settled
from nomogon_core.sketch.dimensions import NAMES, in_words, new_dimension, refreshed
from nomogon_core.sketch.model import CONSTRAINTS, DIMENSIONS, Constraint, Sketch
from nomogon_core.sketch.regions import find_findings
from nomogon_core.sketch.solve import Grab, solve
from nomogon_core.sketch.underhand import along_edge, arc_near, round_near

LEVEL_WITHIN = math.radians(1.5)
MOST_ENTITIES, FARTHEST_MM = 5000, 1e6
FOLLOW_TOLERANCE_PX = 0.8


def store_sketch(document: dict[str, Any], name: str, sketch: Sketch) -> None:
    """Keep a sketch.

    Raises:
        SketchError: it has more curves than a sketch holds, and more than before.
    """
    name = sketch_id(document, name)
    if len(sketch.curves) > max(MOST_ENTITIES, len(document["sketches"][name]["curves"])):
        raise SketchError(f"A sketch holds at most {MOST_ENTITIES} curves; delete some first.")
    keep_sketch(document, name, sketch)


def _place(value):
    """A point id or coordinates as sent by the page."""
    if isinstance(value, str):
        return value
    x, y = value
    if max(abs(x), abs(y)) >= FARTHEST_MM:
        raise SketchError("A place was sent that is out of reach; click again.")
    return (float(x), float(y))


def coordinates(sketch: Sketch, value: Any) -> tuple[float, float]:
    """A place as sent by the page; of a point, its own.

    Raises:
        SketchError: there is no such point, or the place is out of reach.
    """
    place = _place(value)
    if isinstance(place, str):
        if place not in sketch.points:
            raise SketchError(f"There is no point {place} in the sketch any more; click again.")
        return sketch.points[place]
    return place


@command("sketch.line", sketch=ID, start=SPOT, end=SPOT, construction=SWITCH, free=SWITCH)
def line(
    document: dict[str, Any],
    *,
    start: list[float] | str,
    end: list[float] | str,
    construction: bool = False,
    free: bool = False,
    sketch: str = "",
) -> tuple[str, str]:
    """A line; unless ``free``, a nearly level or upright one is made exactly so."""
    drawing, name = edit.add_line(
        sketch_of(document, sketch), _place(start), _place(end), construction=bool(construction)
    )
    note = ""
    if not free:
        drawing, note = _levelled(drawing, name)
    store_sketch(document, sketch, drawing)
    return "Line drawn", note


def _levelled(sketch, name):
    a, b = (sketch.points[point] for point in sketch.curves[name].points)
    angle = math.remainder(math.atan2(b[1] - a[1], b[0] - a[0]), math.pi)
    kind = (
        "horizontal"
        if abs(angle) < LEVEL_WITHIN
        else "vertical"
        if abs(abs(angle) - math.pi / 2) < LEVEL_WITHIN
        else None
    )
    if kind is None:
        return sketch, ""
    try:
        return constrain(
            sketch, Constraint(kind, (name,))
        ).sketch, f"Made {kind}; hold Alt while drawing to leave it as drawn."
    except SketchError:
        return sketch, ""


@command("sketch.arc", sketch=ID, start=SPOT, middle=SPOT, end=SPOT, construction=SWITCH)
def arc(
    document: dict[str, Any],
    *,
    start: list[float],
    middle: list[float],
    end: list[float],
    construction: bool = False,
    sketch: str = "",
) -> str:
    """An arc through three places."""
    drawing = sketch_of(document, sketch)
    drawing, _ = edit.add_arc_through(
        drawing, _place(start), coordinates(drawing, middle), _place(end), construction=bool(construction)
    )
    store_sketch(document, sketch, drawing)
    return "Arc drawn"


@command("sketch.circle", sketch=ID, center=SPOT, rim=SPOT, construction=SWITCH)
def circle(
    document: dict[str, Any], *, center: list[float], rim: list[float], construction: bool = False, sketch: str = ""
) -> str:
    """A circle from its centre and a place on its rim."""
    drawing = sketch_of(document, sketch)
    radius = math.dist(coordinates(drawing, center), coordinates(drawing, rim))
    drawing, _ = edit.add_circle(drawing, _place(center), radius, construction=bool(construction))
    store_sketch(document, sketch, drawing)
    return f"Circle of {format_length(2 * radius)} mm drawn"


@command("sketch.ellipse", sketch=ID, center=SPOT, first=SPOT, second=SPOT, construction=SWITCH)
def ellipse(
    document: dict[str, Any],
    *,
    center: list[float],
    first: list[float],
    second: list[float],
    construction: bool = False,
    sketch: str = "",
) -> str:
    """An ellipse from its centre, the end of one axis, and a place as far from that axis as the other one reaches."""
    drawing = sketch_of(document, sketch)
    drawing, name = edit.add_ellipse(
        drawing, _place(center), _place(first), coordinates(drawing, second), construction=bool(construction)
    )
    store_sketch(document, sketch, drawing)
    return _ellipse_in_words(drawing.geometry(name))


def _ellipse_in_words(curve):
    return f"Ellipse of {format_length(2 * curve.semi_axes[0])} × {format_length(2 * curve.semi_axes[1])} mm drawn"


@command("sketch.spline", sketch=ID, places=Rows(SPOT, 2, 500), construction=SWITCH)
def spline(
    document: dict[str, Any], *, places: list[list[float] | str], construction: bool = False, sketch: str = ""
) -> str:
    """A smooth spline through places."""
    drawing, _ = edit.add_spline_through(
        sketch_of(document, sketch), [_place(value) for value in places], construction=bool(construction)
    )
    store_sketch(document, sketch, drawing)
    return f"Spline through {len(places)} places drawn"


def _picture(document, library, picture):
    """(linear light, calibration) of the picture worked on.

    Raises:
        InputError: there is none, or it has no scale.
    """
    fit = calibration_of(document, picture)
    if fit is None:
        raise InputError(
            "There is no picture with a known length under the sketch; set one in Reference first, or draw with Alt "
            "held."
        )
    return library.light(document, picture), fit


@command("sketch.follow", sketch=ID, picture=ID, start=SPOT, end=SPOT)
def follow(
    document: dict[str, Any], library: Any, *, start: list[float], end: list[float], sketch: str = "", picture: str = ""
) -> str:
    """The picture's edge between two places, as the fewest curves."""
    drawing = sketch_of(document, sketch)
    light, fit = _picture(document, library, picture)
    ends = [_place(value) for value in (start, end)]
    drawn = along_edge(
        light, fit, coordinates(drawing, start), coordinates(drawing, end), FOLLOW_TOLERANCE_PX * fit.mm_per_px
    )
    drawing, names, joints = edit.add_outline(drawing, drawn.curves, drawn.u95, origin="drawn", closed=False)
    store_sketch(document, sketch, tied_joints(_caught(drawing, names, ends), joints))
    return f"Edge followed: {len(names)} curve{'s' if len(names) > 1 else ''}"


def _caught(sketch, names, ends):
    """The sketch with the outer ends of a chain of new curves joined to the points that were clicked on, where there
    were any."""
    for point, curve in zip(ends, (names[0], names[-1])):
        if isinstance(point, str):
            sketch = edit.merge_points(sketch, point, _outer_end(sketch, curve, sketch.points[point]))
    return solve(sketch).sketch


def _outer_end(sketch, name, near):
    return min(sketch.curves[name].end_points(), key=lambda point: math.dist(sketch.points[point], near))


@command("sketch.arc_edge", sketch=ID, picture=ID, start=SPOT, end=SPOT, middle=SPOT)
def arc_edge(
    document: dict[str, Any],
    library: Any,
    *,
    start: list[float] | str,
    end: list[float],
    middle: list[float] | str,
    sketch: str = "",
    picture: str = "",
) -> str:
    """An arc on the picture's edge along three rough places."""
    drawing = sketch_of(document, sketch)
    light, fit = _picture(document, library, picture)
    drawn = arc_near(light, fit, *(coordinates(drawing, value) for value in (start, end, middle)))
    drawing, names, _ = edit.add_outline(drawing, drawn.curves, drawn.u95, origin="drawn", closed=False)
    store_sketch(document, sketch, _caught(drawing, names, (start, end)))
    return f"Arc of radius {format_length(drawn.curves[0].radius)} mm on the picture's edge"


@command("sketch.round", sketch=ID, picture=ID, place=SPOT)
def round_edge(
    document: dict[str, Any], library: Any, *, place: list[float] | str, sketch: str = "", picture: str = ""
) -> tuple[str, str] | str:
    """A circle, or an ellipse, on the round edge around a place."""
    drawing = sketch_of(document, sketch)
    light, fit = _picture(document, library, picture)
    drawn = round_near(light, fit, coordinates(drawing, place))
    found = drawn.curves[0]
    drawing, _, _ = edit.add_outline(drawing, drawn.curves, drawn.u95, origin="drawn")
    store_sketch(document, sketch, drawing)
    if isinstance(found, Ellipse):
        return (
            _ellipse_in_words(found),
            "That edge is an oval. If it is round in reality, delete the ellipse and take the tilt out of the picture "
            "first.",
        )
    return f"Circle of {format_length(2 * found.radius)} mm on the picture's edge"


def _cut(document, name, change, told):
    """Keep a sketch after a cut.

    Raises:
        SketchError: what is left cannot meet its constraints.
    """
    solution = solve(change.sketch)
    if not solution.solved:
        raise SketchError(
            "What would be left of the sketch cannot meet all of its constraints. Delete one of those on this curve, "
            "and cut again."
        )
    store_sketch(document, name, refreshed(solution.sketch))
    return told, f"Gone with it: {', '.join(change.lost)}." if change.lost else ""


@command("sketch.trim", sketch=ID, name=ID, place=PLACE)
def trim_curve(document: dict[str, Any], *, name: str, place: list[float], sketch: str = "") -> tuple[str, str]:
    """Take away the part of a curve that was clicked, back to where it crosses others."""
    return _cut(document, sketch, trim.trim(sketch_of(document, sketch), name, _place(place)), "Curve trimmed")


@command("sketch.extend", sketch=ID, name=ID, place=PLACE)
def extend_curve(document: dict[str, Any], *, name: str, place: list[float], sketch: str = "") -> tuple[str, str]:
    """Carry a curve's loose end on to the next curve."""
    return _cut(document, sketch, trim.extend(sketch_of(document, sketch), name, _place(place)), "Curve carried on")


@command("sketch.add_spline_point", sketch=ID, name=ID, place=PLACE)
def add_spline_point(document: dict[str, Any], *, name: str, place: list[float], sketch: str = "") -> str:
    """A point more on a spline."""
    store_sketch(document, sketch, trim.add_spline_point(sketch_of(document, sketch), name, _place(place)))
    return "Point added to the spline"


@command("sketch.remove_spline_point", sketch=ID, name=ID, place=PLACE)
def remove_spline_point(
    document: dict[str, Any], *, name: str, place: list[float], sketch: str = ""
) -> tuple[str, str]:
    """A point fewer on a spline; the note says how far the curve moved."""
    drawing, off = trim.remove_spline_point(sketch_of(document, sketch), name, _place(place))
    store_sketch(document, sketch, drawing)
    return "Point taken from the spline", f"The spline moved by at most {format_length(off)} mm."


@command("sketch.smooth_spline", sketch=ID, name=ID, place=PLACE)
def smooth_spline(document: dict[str, Any], *, name: str, place: list[float], sketch: str = "") -> tuple[str, str]:
    """A spline through the same points with an even bend; the note says how far the curve moved."""
    drawing, off = trim.smoother(sketch_of(document, sketch), name)
    store_sketch(document, sketch, drawing)
    return "Spline made smoother", f"The spline moved by at most {format_length(off)} mm."


@command("sketch.constrain", sketch=ID, kind=ID, of=Rows(ID, 1, 8), instead_of=ID, disputed=SWITCH)
def add_constraint(
    document: dict[str, Any],
    *,
    kind: str,
    of: list[str],
    instead_of: str = "",
    disputed: bool = False,
    sketch: str = "",
) -> tuple[str, str]:
    """A constraint between chosen points and curves; in the place of one that it contradicts, or kept unmet beside
    those (``disputed``)."""
    if kind not in CONSTRAINTS:
        raise SketchError(f"There is no constraint {kind!r}.")
    drawing = _without(sketch_of(document, sketch), instead_of)
    item = Constraint(kind, references(drawing, of))
    try:
        change = constrain(drawing, item)
    except ConflictError as refusal:
        if not disputed or not refusal.conflict.among:
            raise
        change = kept_unmet(drawing, item, refusal.conflict.among)
    store_sketch(document, sketch, change.sketch)
    return f"{in_words(change.sketch, change.name).capitalize()} set", change.note


def _without(sketch, name):
    return edit.remove(sketch, [name]) if name else sketch


@command("sketch.settle", sketch=ID, name=ID, drop=ID)
def settle_conflict(document: dict[str, Any], *, name: str, drop: str = "", sketch: str = "") -> tuple[str, str]:
    """A constraint that is kept unmet becomes met, without one that it contradicts; or is dropped itself."""
    drawing = sketch_of(document, sketch)
    change = settled(drawing, name, drop)
    store_sketch(document, sketch, change.sketch)
    gone = in_words(drawing, drop) if drop in drawing.constraints else ""
    return f"{gone[0].upper()}{gone[1:]} dropped" if gone else "Conflict settled", change.note


@command("sketch.mend", sketch=ID, below=TEXT, unit=UNIT)
def mend(document: dict[str, Any], *, below: str, unit: str = "mm", sketch: str = "") -> tuple[str, str]:
    """Every gap up to a size joined, curves without length and doubled ones taken away."""
    most = read_number(document, below, unit=unit).value
    drawing, joined, gone = sketch_of(document, sketch), 0, 0
    for finding in find_findings(drawing):
        if finding.code == "gap" and finding.size <= most and all(one in drawing.points for one in finding.of):
            trial = solve(edit.merge_points(drawing, *finding.of))
            if trial.solved:
                drawing, joined = trial.sketch, joined + 1
        elif finding.code in ("no length", "double") and finding.of[-1] in drawing.curves:
            drawing, gone = edit.remove(drawing, [finding.of[-1]]), gone + 1
    if not joined + gone:
        raise SketchError(f"There is nothing to mend up to {format_length(most)} mm.")
    store_sketch(document, sketch, refreshed(drawing))
    left = len(find_findings(drawing))
    told = f"{joined} gap{'s' if joined != 1 else ''} joined"
    told += f", {gone} curve{'s' if gone != 1 else ''} taken away" if gone else ""
    return told, f"{left} left to mend by hand." if left else ""


def references(sketch: Sketch, of: Sequence[str]) -> tuple[str, ...]:
    """Ids of things of the sketch.

    Raises:
        SketchError: one is not there.
    """
    for name in of:
        if name not in sketch.points and name not in sketch.curves:
            raise SketchError(f"There is no {name} in the sketch any more; choose again.")
    return tuple(of)


def _fit(document, sketch, of):
    """Calibration of the picture that curves were traced from, or of the last one."""
    curves = [curve for name, curve in sketch.curves.items() if name in of or set(of) & set(curve.points)]
    traces = [document["traces"][curve.origin] for curve in curves if curve.origin in document["traces"]]
    return calibration_of(document, traces[0]["picture"] if traces else picture_of(document)[0])


@command("sketch.dimension", sketch=ID, kind=ID, of=Rows(ID, 1, 8), text=TEXT, unit=UNIT)
def add_dimension(
    document: dict[str, Any], *, kind: str, of: list[str], text: str = "", unit: str = "mm", sketch: str = ""
) -> tuple[str, str]:
    """A dimension at its present value, or at a typed one."""
    if kind not in DIMENSIONS:
        raise SketchError(f"There is no dimension {kind!r}.")
    sketch = sketch_id(document, sketch)
    drawing = sketch_of(document, sketch)
    picked = references(drawing, of)
    measured = new_dimension(drawing, kind, picked)
    measured = attrs.evolve(measured, name=numbered(document, NAMES[kind]))
    fit = _fit(document, drawing, picked)
    u95 = dimension_u95(drawing, measured, fit) if fit else None
    change = constrain(drawing, attrs.evolve(measured, source="traced" if u95 else "set", u95=u95))
    if str(text).strip() and change.sketch.constraints[change.name].driving:
        told = read_number(document, text, unit=unit, angle=kind == "angle", at=sketch)
        change = set_value(change.sketch, change.name, told.value, typed=told.typed)
    store_sketch(document, sketch, change.sketch)
    return f"{in_words(change.sketch, change.name)} set", change.note


def numbered(document: dict[str, Any], word: str, sketch: Sketch | None = None) -> str:
    """The first of ``Angle 1``, ``Angle 2`` … that nothing is called yet, in the document nor in a changed sketch."""
    taken = {item.name for item in sketch.constraints.values()} if sketch else set()
    number = 1
    while (name := f"{word} {number}") in taken or free_name(document, name) != name:
        number += 1
    return name


def _dimension(document, name):
    """(id of its sketch, sketch, dimension) of a dimension, whichever sketch it is in.

    Raises:
        SketchError: it is not in the job any more.
    """
    for key, data in document["sketches"].items():
        if name in data["constraints"]:
            sketch = sketch_of(document, key)
            if sketch.constraints[name].is_dimension:
                return key, sketch, sketch.constraints[name]
    raise SketchError("That dimension is not in the sketch any more.")


@command("sketch.set_value", name=ID, text=TEXT, unit=UNIT, instead_of=ID, disputed=SWITCH)
def change_value(
    document: dict[str, Any],
    *,
    name: str,
    text: str,
    unit: str = "mm",
    instead_of: str = "",
    disputed: bool = False,
) -> tuple[str, str]:
    """A new value for a dimension: a number, or an expression over other quantities; in the place of a constraint that
    it contradicts, or kept unmet beside it (``disputed``)."""
    sketch, drawing, item = _dimension(document, name)
    told = read_number(document, text, unit=unit, angle=item.kind == "angle", at=sketch)
    drawing = _without(drawing, instead_of)
    try:
        change = set_value(drawing, name, told.value, typed=told.typed)
    except ConflictError as refusal:
        if not disputed or not refusal.conflict.among:
            raise
        wanted = attrs.evolve(item, value=told.value, typed=told.typed, source="set", u95=None)
        change = kept_unmet(drawing, wanted, refusal.conflict.among, name)
    store_sketch(document, sketch, change.sketch)
    value = change.sketch.constraints[name].value
    return (
        f"{item.name} set to {format_angle(value) if item.kind == 'angle' else format_length(value) + ' mm'}",
        change.note,
    )


@command("sketch.rename", name=ID, text=TEXT)
def rename(document: dict[str, Any], *, name: str, text: str) -> str:
    """Another name for a dimension, in all expressions too."""
    _, _, item = _dimension(document, name)
    new = rename_quantity(document, f"dimension:{name}", clean_name(text, "A dimension"))
    return f"{item.name or NAMES[item.kind]} is called {new} now"


@command("sketch.drag", sketch=ID, held=IDS, offset=PLACE, place=PLACE)
def drag(
    document: dict[str, Any], *, held: list[str], offset: list[float], place: list[float], sketch: str = ""
) -> str:
    """What is free moves; the rest stays."""
    moved = Grab(sketch_of(document, sketch), held).move(_place(offset), _place(place))
    store_sketch(document, sketch, refreshed(moved))
    return "Dragged"


@command("sketch.remove", sketch=ID, names=IDS)
def remove(document: dict[str, Any], *, names: list[str], sketch: str = "") -> str:
    """Delete points, curves, constraints and dimensions, and what hangs on them."""
    drawing = sketch_of(document, sketch)
    smaller = edit.remove(drawing, names)
    store_sketch(document, sketch, smaller)
    data = document["sketches"][sketch_id(document, sketch)]
    if data.get("brought"):
        data["brought"] = {name: source for name, source in data["brought"].items() if name in smaller.curves}
    counts = [
        (len(drawing.curves) - len(smaller.curves), "curve"),
        (len(drawing.constraints) - len(smaller.constraints), "constraint"),
        (len(drawing.points) - len(smaller.points), "point"),
    ]
    told = [f"{count} {word}{'s' if count > 1 else ''}" for count, word in counts if count]
    return f"Deleted {' and '.join(told[:2])}"


@command("sketch.construction", sketch=ID, names=IDS, on=SWITCH)
def construction(document: Any, *, names: Any, on: Any, sketch: str = "") -> Any:
    """Make curves construction, or outline again."""
    store_sketch(document, sketch, edit.set_construction(sketch_of(document, sketch), names, bool(on)))
    return "Made construction" if on else "Made outline"


@command("sketch.join", sketch=ID, first=ID, second=ID)
def join(document: Any, *, first: Any, second: Any, sketch: str = "") -> Any:
    """Two loose ends become one point."""
    drawing = sketch_of(document, sketch)
    for name in (first, second):
        if name not in drawing.points:
            raise SketchError("One of the two ends is not in the sketch any more.")
    gap = math.dist(drawing.points[first], drawing.points[second])
    solution = solve(edit.merge_points(drawing, first, second))
    if not solution.solved:
        raise SketchError(
            "The two ends cannot be joined: the constraints on both hold them apart. Delete one of those first."
        )
    store_sketch(document, sketch, refreshed(solution.sketch))
    return f"Gap of {format_length(gap)} mm joined"


@command("sketch.rectangle", sketch=ID, first=SPOT, second=SPOT, construction=SWITCH)
def rectangle(
    document: dict[str, Any], *, first: list[float], second: list[float], construction: bool = False, sketch: str = ""
) -> str:
    """Four lines, level and upright, between two opposite corners."""
    drawing = sketch_of(document, sketch)
    (x0, y0), (x1, y1) = coordinates(drawing, first), coordinates(drawing, second)
    if abs(x1 - x0) < edit.SAME_PLACE_MM or abs(y1 - y0) < edit.SAME_PLACE_MM:
        raise SketchError("The rectangle would have no area: both corners lie on one line. Click the corners apart.")
    places = [_place(first), (x1, y0), _place(second), (x0, y1)]
    names = []
    for place in places:
        drawing, name = (drawing, place) if isinstance(place, str) else edit.add_point(drawing, place)
        names.append(name)
    for index, kind in enumerate(("horizontal", "vertical", "horizontal", "vertical")):
        drawing, line_name = edit.add_line(
            drawing, names[index], names[(index + 1) % 4], construction=bool(construction)
        )
        drawing, _ = edit.add_constraint(drawing, Constraint(kind, (line_name,)))
    store_sketch(document, sketch, drawing)
    return f"Rectangle of {format_length(abs(x1 - x0))} × {format_length(abs(y1 - y0))} mm drawn"


@command("sketch.new", title=TEXT, plane=PLANE)
def new(document: dict[str, Any], *, title: str = "", plane: dict[str, str] | str = "plan") -> str:
    """An empty sketch on a plane or on a flat face, as the last step of the Build sheet."""
    check_plane(document, plane)
    name = next_id(document, "s")
    taken = {data["title"] for data in document["sketches"].values()}
    wanted = clean_name(title, "The sketch") if title.strip() else f"Sketch {len(taken) + 1}"
    if wanted in taken:
        raise SketchError(f"There is a sketch called {wanted} already; choose a different name.")
    document["sketches"][name] = {"title": wanted, "plane": plane, "points": {}, "curves": {}, "constraints": {}}
    document["steps"].append(name)
    return f"Sketch {wanted} begun on {plane_words(document, plane)}"


@command("sketch.bring", sketch=ID, body=ID, edge=Text(LONGEST_NAME))
def bring(document: dict[str, Any], library: Any, *, body: str, edge: str, sketch: str = "") -> str:
    """Bring an edge of the solid into a sketch, as construction that follows it."""
    sketch = sketch_id(document, sketch)
    if body not in document["bodies"]:
        raise SketchError("That body is not in the solid any more; choose an edge of another.")
    data = document["sketches"][sketch]
    if {"body": body, "edge": edge} in data.get("brought", {}).values():
        raise SketchError("That edge is in the sketch already.")
    curve = curve_of_record(library.edge(document, sketch, body, edge))
    drawing = sketch_of(document, sketch)
    drawing, (name,), _ = edit.add_outline(drawing, [curve], [None], origin="solid", closed=False)
    drawing = edit.set_construction(drawing, [name], True)
    held = drawing.curves[name].points if drawing.curves[name].kind == "line" else (name,)
    for one in held:
        drawing, _ = edit.add_constraint(drawing, Constraint("fixed", (one,), source="solid"))
    store_sketch(document, sketch, drawing)
    document["sketches"][sketch]["brought"] = data.get("brought", {}) | {name: {"body": body, "edge": edge}}
    return f"Edge brought into {data['title']}, as construction that follows it"


@command("sketch.lay_on", sketch=ID, plane=PLANE)
def lay_on(document: dict[str, Any], *, plane: dict[str, str] | str, sketch: str = "") -> Any:
    """Lay a sketch on another plane or flat face."""
    sketch = sketch_id(document, sketch)
    check_plane(document, plane, sketch)
    document["sketches"][sketch]["plane"] = plane
    return f"{document['sketches'][sketch]['title']} laid on {plane_words(document, plane)}"


@command("sketch.title", sketch=ID, text=TEXT)
def title(document: dict[str, Any], *, text: str, sketch: str = "") -> str:
    """Another name for a sketch."""
    sketch = sketch_id(document, sketch)
    wanted = clean_name(text, "The sketch")
    if any(data["title"] == wanted for key, data in document["sketches"].items() if key != sketch):
        raise SketchError(f"There is a sketch called {wanted} already; choose a different name.")
    old, document["sketches"][sketch]["title"] = document["sketches"][sketch]["title"], wanted
    return f"{old} is called {wanted} now"
