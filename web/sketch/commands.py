"""Commands of the Sketch stage; each keeps the sketch solved or refuses in words."""

import math

import attrs

from jobs.actions import command
from nomogon_core.arguments import ID, IDS, PLACE, SPOT, SWITCH, TEXT, UNIT, Rows
from nomogon_core.errors import InputError, SketchError
from nomogon_core.geometry.curves import Ellipse
from nomogon_core.job.document import calibration_of
from nomogon_core.job.follow import dimension_u95
from nomogon_core.job.tracing import tied_joints
from nomogon_core.quantity.units import format_angle, format_length, parse_angle, parse_length
from nomogon_core.sketch import edit, model, trim
from nomogon_core.sketch.constrain import constrain, set_value
from nomogon_core.sketch.dimensions import NAMES, in_words, new_dimension, refreshed
from nomogon_core.sketch.model import CONSTRAINTS, DIMENSIONS, Constraint
from nomogon_core.sketch.solve import Grab, solve
from nomogon_core.sketch.underhand import along_edge, arc_near, round_near
from reference import pictures
from reference.commands import clean_name

LEVEL_WITHIN = math.radians(1.5)
MOST_ENTITIES, FARTHEST_MM = 5000, 1e6
FOLLOW_TOLERANCE_PX = 0.8


def _sketch(documents):
    return model.from_json(documents["sketch"])


def _store(documents, sketch):
    """Keep a sketch.

    Raises:
        SketchError: it has more curves than a sketch holds, and more than before.
    """
    if len(sketch.curves) > max(MOST_ENTITIES, len(documents["sketch"]["curves"])):
        raise SketchError(f"A sketch holds at most {MOST_ENTITIES} curves; delete some first.")
    documents["sketch"] = model.to_json(sketch)


def _place(value):
    """A point id or coordinates as sent by the page."""
    if isinstance(value, str):
        return value
    x, y = value
    if max(abs(x), abs(y)) >= FARTHEST_MM:
        raise SketchError("A place was sent that is out of reach; click again.")
    return (float(x), float(y))


def _coordinates(sketch, value):
    place = _place(value)
    if isinstance(place, str):
        if place not in sketch.points:
            raise SketchError(f"There is no point {place} in the sketch any more; click again.")
        return sketch.points[place]
    return place


@command("sketch.line", start=SPOT, end=SPOT, construction=SWITCH, free=SWITCH)
def line(documents, *, start, end, construction=False, free=False):
    """A line; unless ``free``, a nearly level or upright one is made exactly so."""
    sketch, name = edit.add_line(_sketch(documents), _place(start), _place(end), construction=bool(construction))
    note = ""
    if not free:
        sketch, note = _levelled(sketch, name)
    _store(documents, sketch)
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


@command("sketch.arc", start=SPOT, middle=SPOT, end=SPOT, construction=SWITCH)
def arc(documents, *, start, middle, end, construction=False):
    """An arc through three places."""
    sketch = _sketch(documents)
    sketch, _ = edit.add_arc_through(
        sketch, _place(start), _coordinates(sketch, middle), _place(end), construction=bool(construction)
    )
    _store(documents, sketch)
    return "Arc drawn"


@command("sketch.circle", center=SPOT, rim=SPOT, construction=SWITCH)
def circle(documents, *, center, rim, construction=False):
    """A circle from its centre and a place on its rim."""
    sketch = _sketch(documents)
    radius = math.dist(_coordinates(sketch, center), _coordinates(sketch, rim))
    sketch, _ = edit.add_circle(sketch, _place(center), radius, construction=bool(construction))
    _store(documents, sketch)
    return f"Circle of {format_length(2 * radius)} mm drawn"


@command("sketch.ellipse", center=SPOT, first=SPOT, second=SPOT, construction=SWITCH)
def ellipse(documents, *, center, first, second, construction=False):
    """An ellipse from its centre, the end of one axis, and a place as far from that axis as the other one reaches."""
    sketch = _sketch(documents)
    sketch, name = edit.add_ellipse(
        sketch, _place(center), _place(first), _coordinates(sketch, second), construction=bool(construction)
    )
    _store(documents, sketch)
    return _ellipse_in_words(sketch.geometry(name))


def _ellipse_in_words(curve):
    return f"Ellipse of {format_length(2 * curve.semi_axes[0])} × {format_length(2 * curve.semi_axes[1])} mm drawn"


@command("sketch.spline", places=Rows(SPOT, 2, 500), construction=SWITCH)
def spline(documents, *, places, construction=False):
    """A smooth spline through places."""
    sketch, _ = edit.add_spline_through(
        _sketch(documents), [_place(value) for value in places], construction=bool(construction)
    )
    _store(documents, sketch)
    return f"Spline through {len(places)} places drawn"


def _picture(documents):
    """(linear light, calibration) of the picture worked on.

    Raises:
        InputError: there is none, or it has no scale.
    """
    fit = calibration_of(documents)
    if fit is None:
        raise InputError(
            "There is no picture with a known length under the sketch; set one in Reference first, or draw with Alt "
            "held."
        )
    return pictures.light_of(documents), fit


@command("sketch.follow", start=SPOT, end=SPOT)
def follow(documents, *, start, end):
    """The picture's edge between two places, as the fewest curves."""
    sketch = _sketch(documents)
    light, fit = _picture(documents)
    ends = [_place(value) for value in (start, end)]
    drawn = along_edge(
        light, fit, *(_coordinates(sketch, value) for value in (start, end)), FOLLOW_TOLERANCE_PX * fit.mm_per_px
    )
    sketch, names, joints = edit.add_outline(sketch, drawn.curves, drawn.u95, origin="drawn", closed=False)
    _store(documents, tied_joints(_caught(sketch, names, ends), joints))
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


@command("sketch.arc_edge", start=SPOT, end=SPOT, middle=SPOT)
def arc_edge(documents, *, start, end, middle):
    """An arc on the picture's edge along three rough places."""
    sketch = _sketch(documents)
    light, fit = _picture(documents)
    drawn = arc_near(light, fit, *(_coordinates(sketch, value) for value in (start, end, middle)))
    sketch, names, _ = edit.add_outline(sketch, drawn.curves, drawn.u95, origin="drawn", closed=False)
    _store(documents, _caught(sketch, names, (start, end)))
    return f"Arc of radius {format_length(drawn.curves[0].radius)} mm on the picture's edge"


@command("sketch.round", place=SPOT)
def round_edge(documents, *, place):
    """A circle, or an ellipse, on the round edge around a place."""
    sketch = _sketch(documents)
    light, fit = _picture(documents)
    drawn = round_near(light, fit, _coordinates(sketch, place))
    found = drawn.curves[0]
    sketch, _, _ = edit.add_outline(sketch, drawn.curves, drawn.u95, origin="drawn")
    _store(documents, sketch)
    if isinstance(found, Ellipse):
        return (
            _ellipse_in_words(found),
            "That edge is an oval. If it is round in reality, delete the ellipse and take the tilt out of the picture "
            "first.",
        )
    return f"Circle of {format_length(2 * found.radius)} mm on the picture's edge"


def _cut(documents, change, told):
    _store(documents, change.sketch)
    return told, f"Gone with it: {', '.join(change.lost)}." if change.lost else ""


@command("sketch.trim", name=ID, place=PLACE)
def trim_curve(documents, *, name, place):
    """Take away the part of a curve that was clicked, back to where it crosses others."""
    return _cut(documents, trim.trim(_sketch(documents), name, _place(place)), "Curve trimmed")


@command("sketch.extend", name=ID, place=PLACE)
def extend_curve(documents, *, name, place):
    """Carry a curve's loose end on to the next curve."""
    return _cut(documents, trim.extend(_sketch(documents), name, _place(place)), "Curve carried on")


@command("sketch.add_spline_point", name=ID, place=PLACE)
def add_spline_point(documents, *, name, place):
    """A point more on a spline."""
    _store(documents, trim.add_spline_point(_sketch(documents), name, _place(place)))
    return "Point added to the spline"


@command("sketch.remove_spline_point", name=ID, place=PLACE)
def remove_spline_point(documents, *, name, place):
    """A point fewer on a spline; the note says how far the curve moved."""
    sketch, off = trim.remove_spline_point(_sketch(documents), name, _place(place))
    _store(documents, sketch)
    return "Point taken from the spline", f"The spline moved by at most {format_length(off)} mm."


@command("sketch.smooth_spline", name=ID, place=PLACE)
def smooth_spline(documents, *, name, place):
    """A spline through the same points with an even bend; the note says how far the curve moved."""
    sketch, off = trim.smoother(_sketch(documents), name)
    _store(documents, sketch)
    return "Spline made smoother", f"The spline moved by at most {format_length(off)} mm."


@command("sketch.constrain", kind=ID, of=Rows(ID, 1, 8))
def add_constraint(documents, *, kind, of):
    """A constraint between chosen points and curves."""
    if kind not in CONSTRAINTS:
        raise SketchError(f"There is no constraint {kind!r}.")
    sketch = _sketch(documents)
    change = constrain(sketch, Constraint(kind, _references(sketch, of)))
    _store(documents, change.sketch)
    return f"{in_words(change.sketch, change.name).capitalize()} set", change.note


def _references(sketch, of):
    for name in of:
        if name not in sketch.points and name not in sketch.curves:
            raise SketchError(f"There is no {name} in the sketch any more; choose again.")
    return tuple(of)


def _value(kind, text, unit):
    return parse_angle(text) if kind == "angle" else parse_length(text, unit=unit)


@command("sketch.dimension", kind=ID, of=Rows(ID, 1, 8), text=TEXT, unit=UNIT)
def add_dimension(documents, *, kind, of, text="", unit="mm"):
    """A dimension at its present value, or at a typed one."""
    if kind not in DIMENSIONS:
        raise SketchError(f"There is no dimension {kind!r}.")
    sketch = _sketch(documents)
    references = _references(sketch, of)
    measured = new_dimension(sketch, kind, references)
    fit = calibration_of(documents)
    u95 = dimension_u95(sketch, measured, fit) if fit else None
    change = constrain(sketch, attrs.evolve(measured, source="traced" if u95 else "set", u95=u95))
    if str(text).strip() and change.sketch.constraints[change.name].driving:
        change = set_value(change.sketch, change.name, _value(kind, text, unit), typed=str(text))
    _store(documents, change.sketch)
    return f"{in_words(change.sketch, change.name)} set", change.note


@command("sketch.set_value", name=ID, text=TEXT, unit=UNIT)
def change_value(documents, *, name, text, unit="mm"):
    """A new value for a dimension."""
    sketch = _sketch(documents)
    item = sketch.constraints.get(name)
    if item is None or not item.is_dimension:
        raise SketchError("That dimension is not in the sketch any more.")
    change = set_value(sketch, name, _value(item.kind, text, unit), typed=str(text))
    _store(documents, change.sketch)
    value = change.sketch.constraints[name].value
    return (
        f"{item.name} set to {format_angle(value) if item.kind == 'angle' else format_length(value) + ' mm'}",
        change.note,
    )


@command("sketch.rename", name=ID, text=TEXT)
def rename(documents, *, name, text):
    """Another name for a dimension."""
    sketch = _sketch(documents)
    item = sketch.constraints.get(name)
    if item is None or not item.is_dimension:
        raise SketchError("That dimension is not in the sketch any more.")
    new = clean_name(text, "A dimension")
    if any(other.name == new for key, other in sketch.constraints.items() if key != name):
        raise SketchError(f"There is another quantity called {new}; choose a different name.")
    _store(documents, attrs.evolve(sketch, constraints={**sketch.constraints, name: attrs.evolve(item, name=new)}))
    return f"{item.name or NAMES[item.kind]} is called {new} now"


@command("sketch.drag", held=IDS, offset=PLACE, place=PLACE)
def drag(documents, *, held, offset, place):
    """What is free moves; the rest stays."""
    moved = Grab(_sketch(documents), held).move(_place(offset), _place(place))
    _store(documents, refreshed(moved))
    return "Dragged"


@command("sketch.remove", names=IDS)
def remove(documents, *, names):
    sketch = _sketch(documents)
    smaller = edit.remove(sketch, names)
    _store(documents, smaller)
    counts = [
        (len(sketch.curves) - len(smaller.curves), "curve"),
        (len(sketch.constraints) - len(smaller.constraints), "constraint"),
        (len(sketch.points) - len(smaller.points), "point"),
    ]
    told = [f"{count} {word}{'s' if count > 1 else ''}" for count, word in counts if count]
    return f"Deleted {' and '.join(told[:2])}"


@command("sketch.construction", names=IDS, on=SWITCH)
def construction(documents, *, names, on):
    _store(documents, edit.set_construction(_sketch(documents), names, bool(on)))
    return "Made construction" if on else "Made outline"


@command("sketch.join", first=ID, second=ID)
def join(documents, *, first, second):
    """Two loose ends become one point."""
    sketch = _sketch(documents)
    for name in (first, second):
        if name not in sketch.points:
            raise SketchError("One of the two ends is not in the sketch any more.")
    gap = math.dist(sketch.points[first], sketch.points[second])
    solution = solve(edit.merge_points(sketch, first, second))
    if not solution.solved:
        raise SketchError(
            "The two ends cannot be joined: the constraints on both hold them apart. Delete one of those first."
        )
    _store(documents, refreshed(solution.sketch))
    return f"Gap of {format_length(gap)} mm joined"


@command("sketch.rectangle", first=SPOT, second=SPOT, construction=SWITCH)
def rectangle(documents, *, first, second, construction=False):
    """Four lines, level and upright, between two opposite corners."""
    sketch = _sketch(documents)
    (x0, y0), (x1, y1) = _coordinates(sketch, first), _coordinates(sketch, second)
    if abs(x1 - x0) < edit.SAME_PLACE_MM or abs(y1 - y0) < edit.SAME_PLACE_MM:
        raise SketchError("The rectangle would have no area: both corners lie on one line. Click the corners apart.")
    places = [_place(first), (x1, y0), _place(second), (x0, y1)]
    names = []
    for place in places:
        sketch, name = (sketch, place) if isinstance(place, str) else edit.add_point(sketch, place)
        names.append(name)
    for index, kind in enumerate(("horizontal", "vertical", "horizontal", "vertical")):
        sketch, line_name = edit.add_line(sketch, names[index], names[(index + 1) % 4], construction=bool(construction))
        sketch, _ = edit.add_constraint(sketch, Constraint(kind, (line_name,)))
    _store(documents, sketch)
    return f"Rectangle of {format_length(abs(x1 - x0))} × {format_length(abs(y1 - y0))} mm drawn"
