"""Commands of the Sketch stage; each keeps the sketch solved or refuses in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import attrs

from nomogon_core.arguments import ID, IDS, LONGEST_NAME, PLACE, SWITCH, TEXT, UNIT, Rows, Text
from nomogon_core.errors import SketchError
from nomogon_core.geometry.records import curve_of_record
from nomogon_core.job.commands.registry import command
from nomogon_core.job.document import calibration_of, clean_name, keep_sketch, next_id, picture_of, sketch_id, sketch_of
from nomogon_core.job.follow import dimension_u95
from nomogon_core.job.places import check_plane, plane_words
from nomogon_core.job.quantities import free_name, read_number
from nomogon_core.job.quantities import rename as rename_quantity
from nomogon_core.job.schema import PLANE
from nomogon_core.quantity.units import format_angle, format_length
from nomogon_core.sketch import edit, trim
from nomogon_core.sketch.conflicts import ConflictError
from nomogon_core.sketch.constrain import constrain, driving, kept_unmet, set_value, settled
from nomogon_core.sketch.dimensions import NAMES, in_words, new_dimension, refreshed
from nomogon_core.sketch.findings import find_findings
from nomogon_core.sketch.mending import mend_all, mended, remedy_of
from nomogon_core.sketch.model import CONSTRAINTS, DIMENSIONS, Constraint, Sketch
from nomogon_core.sketch.solve import Grab, solve

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


def place_of(value: Any) -> Any:
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
    place = place_of(value)
    if isinstance(place, str):
        if place not in sketch.points:
            raise SketchError(f"There is no point {place} in the sketch any more; click again.")
        return sketch.points[place]
    return place


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
    return _cut(document, sketch, trim.trim(sketch_of(document, sketch), name, place_of(place)), "Curve trimmed")


@command("sketch.extend", sketch=ID, name=ID, place=PLACE)
def extend_curve(document: dict[str, Any], *, name: str, place: list[float], sketch: str = "") -> tuple[str, str]:
    """Carry a curve's loose end on to the next curve."""
    return _cut(document, sketch, trim.extend(sketch_of(document, sketch), name, place_of(place)), "Curve carried on")


@command("sketch.add_spline_point", sketch=ID, name=ID, place=PLACE)
def add_spline_point(document: dict[str, Any], *, name: str, place: list[float], sketch: str = "") -> str:
    """A point more on a spline."""
    store_sketch(document, sketch, trim.add_spline_point(sketch_of(document, sketch), name, place_of(place)))
    return "Point added to the spline"


@command("sketch.remove_spline_point", sketch=ID, name=ID, place=PLACE)
def remove_spline_point(
    document: dict[str, Any], *, name: str, place: list[float], sketch: str = ""
) -> tuple[str, str]:
    """A point fewer on a spline; the note says how far the curve moved."""
    drawing, off = trim.remove_spline_point(sketch_of(document, sketch), name, place_of(place))
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


@command("sketch.mend", sketch=ID, below=TEXT, of=IDS, unit=UNIT)
def mend(
    document: dict[str, Any], *, below: str = "", of: Sequence[str] = (), unit: str = "mm", sketch: str = ""
) -> tuple[str, str]:
    """What keeps areas from closing put right: one finding, by the ids that it speaks of; or all whose remedy changes
    no more than a size: gaps joined, doubled curves and such without length taken away, ends that poke past a crossing
    cut off."""
    drawing = sketch_of(document, sketch)
    if of:
        finding = next((one for one in find_findings(drawing) if one.of == tuple(of)), None)
        remedy = remedy_of(finding) if finding else None
        if finding is None or remedy is None:
            raise SketchError("That is mended already, or it takes you to say how; look at the drawing again.")
        changed, told = mended(drawing, finding), f"{finding.code.capitalize()} mended: {remedy.words.lower()}"
        if changed is None:
            raise SketchError("The constraints do not allow that; delete one that holds it apart first.")
    else:
        most = read_number(document, below, unit=unit).value
        changed, count = mend_all(drawing, most)
        if not count:
            raise SketchError(f"There is nothing to mend up to {format_length(most)} mm.")
        told = f"{count} mended" if count > 1 else "One mended"
    store_sketch(document, sketch, refreshed(changed))
    left = len(find_findings(changed))
    return told, f"{left} left to mend by hand." if left and not of else ""


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


@command("sketch.drive", name=ID, on=SWITCH)
def drive(document: dict[str, Any], *, name: str, on: bool) -> str:
    """A dimension drives at its present value from now on, or only reads (``on`` false)."""
    sketch, drawing, item = _dimension(document, name)
    store_sketch(document, sketch, driving(drawing, name, on).sketch)
    return f"{item.name} drives now" if on else f"{item.name} only reads now"


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
    moved = Grab(sketch_of(document, sketch), held).move(place_of(offset), place_of(place))
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
