"""Drawing: each command adds curves to a sketch, through places, at typed sizes, or on the picture's edge."""

from __future__ import annotations

import math
from typing import Any

import attrs

from nomogon_core.arguments import ID, SPOT, SWITCH, TEXT, UNIT, Rows
from nomogon_core.errors import InputError, SketchError
from nomogon_core.geometry.curves import Ellipse, polar
from nomogon_core.job.commands.registry import command
from nomogon_core.job.commands.sketch import coordinates, numbered, place_of, store_sketch
from nomogon_core.job.document import calibration_of, sketch_id, sketch_of
from nomogon_core.job.quantities import read_number
from nomogon_core.job.tracing import tied_joints
from nomogon_core.quantity.units import format_length
from nomogon_core.sketch import edit
from nomogon_core.sketch.constrain import constrain
from nomogon_core.sketch.dimensions import NAMES, new_dimension
from nomogon_core.sketch.model import Constraint
from nomogon_core.sketch.solve import solve
from nomogon_core.sketch.underhand import along_edge, arc_near, round_near

LEVEL_WITHIN = math.radians(1.5)
FOLLOW_TOLERANCE_PX = 0.8
SIZES = Rows(TEXT, 0, 2)


def _typed(document, sketch, sizes, unit, *kinds):
    """What was typed for each of the sizes of a shape while it was drawn; None where nothing was.

    Raises:
        InputError: more was typed than it has, or one is not to be read.
    """
    if len(sizes) > len(kinds):
        raise InputError(f"Type at most {len(kinds)} number{'s' if len(kinds) > 1 else ''} here.")
    told = []
    for text, kind in zip(sizes, kinds):
        number = read_number(document, text, unit=unit, angle=kind == "angle", at=sketch) if text.strip() else None
        if number and kind != "angle" and number.value <= 0:
            raise InputError(f"A {kind} must be more than zero; {text!r} came.")
        told.append(number)
    return told + [None] * (len(kinds) - len(told))


def _kept(document, drawing, kind, name, typed):
    """The sketch with a typed size as a dimension of a curve."""
    if typed is None:
        return drawing
    called = numbered(document, NAMES[kind], drawing)
    wanted = attrs.evolve(new_dimension(drawing, kind, (name,)), name=called, value=typed.value, typed=typed.typed)
    return constrain(drawing, wanted).sketch


@command("sketch.line", sketch=ID, start=SPOT, end=SPOT, construction=SWITCH, free=SWITCH, sizes=SIZES, unit=UNIT)
def line(
    document: dict[str, Any],
    *,
    start: list[float] | str,
    end: list[float] | str,
    construction: bool = False,
    free: bool = False,
    sizes: list[str] | tuple[str, ...] = (),
    unit: str = "mm",
    sketch: str = "",
) -> tuple[str, str]:
    """A line; unless ``free``, a nearly level or upright one is made exactly so. Of ``sizes`` the first is its length,
    kept as a dimension, and the second the angle it is drawn at, from the x axis; ``end`` tells what is not typed."""
    sketch = sketch_id(document, sketch)
    drawing = sketch_of(document, sketch)
    long, angle = _typed(document, sketch, sizes, unit, "length", "angle")
    if long or angle:
        end = _end_of(coordinates(drawing, start), coordinates(drawing, end), long, angle, free)
    drawing, name = edit.add_line(drawing, place_of(start), place_of(end), construction=bool(construction))
    note = ""
    if not free:
        drawing, note = _levelled(drawing, name)
    drawing = _kept(document, drawing, "distance", name, long)
    store_sketch(document, sketch, drawing)
    return "Line drawn", note


def _end_of(start, toward, long, angle, free):
    """Where a line of a typed length and angle ends that runs toward a place."""
    way = angle.value if angle else math.atan2(toward[1] - start[1], toward[0] - start[0])
    quarter = round(way / (math.pi / 2)) * (math.pi / 2)
    if not free and abs(way - quarter) < LEVEL_WITHIN:
        way = quarter
    return list(polar(start, long.value if long else math.dist(start, toward), way))


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
        drawing, place_of(start), coordinates(drawing, middle), place_of(end), construction=bool(construction)
    )
    store_sketch(document, sketch, drawing)
    return "Arc drawn"


@command("sketch.circle", sketch=ID, center=SPOT, rim=SPOT, construction=SWITCH, sizes=SIZES, unit=UNIT)
def circle(
    document: dict[str, Any],
    *,
    center: list[float],
    rim: list[float],
    construction: bool = False,
    sizes: list[str] | tuple[str, ...] = (),
    unit: str = "mm",
    sketch: str = "",
) -> str:
    """A circle from its centre and a place on its rim; or of a diameter, the one of ``sizes``, that is kept as a
    dimension."""
    sketch = sketch_id(document, sketch)
    drawing = sketch_of(document, sketch)
    (across,) = _typed(document, sketch, sizes, unit, "diameter")
    radius = across.value / 2 if across else math.dist(coordinates(drawing, center), coordinates(drawing, rim))
    drawing, name = edit.add_circle(drawing, place_of(center), radius, construction=bool(construction))
    store_sketch(document, sketch, _kept(document, drawing, "diameter", name, across))
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
        drawing, place_of(center), place_of(first), coordinates(drawing, second), construction=bool(construction)
    )
    store_sketch(document, sketch, drawing)
    return _ellipse_in_words(drawing.geometry(name))


@command("sketch.elliptical_arc", sketch=ID, center=SPOT, tip=SPOT, start=SPOT, end=SPOT, construction=SWITCH)
def elliptical_arc(
    document: dict[str, Any],
    *,
    center: list[float],
    tip: list[float],
    start: list[float],
    end: list[float],
    construction: bool = False,
    sketch: str = "",
) -> str:
    """An arc of an ellipse, counter-clockwise, from its centre, the end of one axis, the place where it begins, and one
    toward which it ends."""
    drawing = sketch_of(document, sketch)
    spots = (place_of(center), place_of(tip), place_of(start), coordinates(drawing, end))
    drawing, name = edit.add_elliptical_arc(drawing, *spots, construction=bool(construction))
    store_sketch(document, sketch, drawing)
    whole = drawing.geometry(name).whole
    return f"Arc of {_ellipse_in_words(whole)[0].lower()}{_ellipse_in_words(whole)[1:]}"


def _ellipse_in_words(curve):
    return f"Ellipse of {format_length(2 * curve.semi_axes[0])} × {format_length(2 * curve.semi_axes[1])} mm drawn"


@command("sketch.spline", sketch=ID, places=Rows(SPOT, 2, 500), construction=SWITCH)
def spline(
    document: dict[str, Any], *, places: list[list[float] | str], construction: bool = False, sketch: str = ""
) -> str:
    """A smooth spline through places."""
    drawing, _ = edit.add_spline_through(
        sketch_of(document, sketch), [place_of(value) for value in places], construction=bool(construction)
    )
    store_sketch(document, sketch, drawing)
    return f"Spline through {len(places)} places drawn"


def light_and_scale(document: dict[str, Any], library: Any, picture: str) -> tuple[Any, Any]:
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
    light, fit = light_and_scale(document, library, picture)
    ends = [place_of(value) for value in (start, end)]
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
    light, fit = light_and_scale(document, library, picture)
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
    light, fit = light_and_scale(document, library, picture)
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


@command("sketch.rectangle", sketch=ID, first=SPOT, second=SPOT, construction=SWITCH, sizes=SIZES, unit=UNIT)
def rectangle(
    document: dict[str, Any],
    *,
    first: list[float],
    second: list[float],
    construction: bool = False,
    sizes: list[str] | tuple[str, ...] = (),
    unit: str = "mm",
    sketch: str = "",
) -> str:
    """Four lines, level and upright, between two opposite corners; ``sizes`` are its width and its height, kept as
    dimensions, on the side of the first corner where the second one is."""
    sketch = sketch_id(document, sketch)
    drawing = sketch_of(document, sketch)
    (x0, y0), (x1, y1) = coordinates(drawing, first), coordinates(drawing, second)
    wide, high = _typed(document, sketch, sizes, unit, "width", "height")
    if wide:
        x1 = x0 + math.copysign(wide.value, x1 - x0)
    if high:
        y1 = y0 + math.copysign(high.value, y1 - y0)
    if abs(x1 - x0) < edit.SAME_PLACE_MM or abs(y1 - y0) < edit.SAME_PLACE_MM:
        raise SketchError("The rectangle would have no area: both corners lie on one line. Click the corners apart.")
    names, lines = [], []
    for place in (place_of(first), (x1, y0), (x1, y1) if wide or high else place_of(second), (x0, y1)):
        drawing, name = (drawing, place) if isinstance(place, str) else edit.add_point(drawing, place)
        names.append(name)
    for index, kind in enumerate(("horizontal", "vertical", "horizontal", "vertical")):
        drawing, line_name = edit.add_line(
            drawing, names[index], names[(index + 1) % 4], construction=bool(construction)
        )
        drawing, _ = edit.add_constraint(drawing, Constraint(kind, (line_name,)))
        lines.append(line_name)
    drawing = _kept(document, drawing, "distance", lines[0], wide)
    drawing = _kept(document, drawing, "distance", lines[1], high)
    store_sketch(document, sketch, drawing)
    return f"Rectangle of {format_length(abs(x1 - x0))} × {format_length(abs(y1 - y0))} mm drawn"
