"""Curves drawn long past a corner and cut back to where they cross, or drawn short and carried on; splines with more or
fewer points."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from scipy.interpolate import CubicSpline

from nomogon_core.errors import SketchError
from nomogon_core.geometry.crossings import at, crossings, nearest, part, span
from nomogon_core.geometry.curves import Arc, EllipticArc, Line, Spline, end_directions, ends, length, sample
from nomogon_core.sketch import edit
from nomogon_core.sketch.dimensions import in_words
from nomogon_core.sketch.model import CLOSED, Constraint
from nomogon_core.sketch.solve import solve
from nomogon_core.trace.compiled_cubics import cubic_distances, fit_cubic

if TYPE_CHECKING:
    from collections.abc import Sequence

    from nomogon_core.sketch.model import Curve, Sketch

END_SHARE = 1e-6
REACH_SIZES = 4.0
SAME_POINT_MM = 1e-5
SHAPE_KINDS = ("distance", "across", "up", "equal", "midpoint", "symmetric", "on curve")
DISTANCE_STEPS = 200
LEAST_CHANGE_SHARE = 1e-3
HELD_ON = ("line", "arc", "circle", "ellipse", "elliptical arc")


@attrs.frozen
class Trimmed:
    """A sketch after a curve was cut back or carried on, and in words the constraints that went."""

    sketch: Sketch = attrs.field(repr=False)
    lost: tuple = ()


def _meetings(sketch, name, curve):
    """(parameter, name of the other curve) of every place where a curve meets others, ascending."""
    found = [(t, other) for other in sketch.curves if other != name for t in crossings(curve, sketch.geometry(other))]
    return sorted(found)


def trim(sketch: Sketch, name: str, place: tuple[float, float]) -> Trimmed:
    """Take away the part of a curve around a place, from where it meets others on one side to where it does on the
    other.

    Raises:
        SketchError: the curve meets no other.
    """
    curve, item = sketch.geometry(name), sketch.curve(name)
    top, here = span(curve), nearest(curve, place)
    inner = [
        (t, other)
        for t, other in _meetings(sketch, name, curve)
        if item.kind in CLOSED or END_SHARE * top < t < (1 - END_SHARE) * top
    ]
    before = [meeting for meeting in inner if meeting[0] <= here]
    after = [meeting for meeting in inner if meeting[0] > here]
    if item.kind in CLOSED:
        if len({round(t, 7) for t, _ in inner}) < 2:
            raise SketchError(
                f"This {item.kind} is crossed in fewer than two places, so there is nothing to cut it back to. Delete "
                "takes it away whole."
            )
        low, high = (before or inner)[-1], (after or inner)[0]
        return _with_parts(sketch, name, [(high, low)])
    if not inner:
        raise SketchError(
            "This curve crosses no other between its ends, so there is nothing to cut it back to. Delete takes it "
            "away whole."
        )
    kept = []
    if before:
        kept.append(((0.0, None), before[-1]))
    if after:
        kept.append((after[0], (top, None)))
    return _with_parts(sketch, name, kept)


def _with_parts(sketch, name, kept):
    """The sketch with a curve cut to parts, each from (parameter, curve met there or None at its own end) to
    another."""
    curve, item = sketch.geometry(name), sketch.curves[name]
    own = dict(zip((0.0, span(curve)), item.end_points()))
    before = sketch
    for index, (low, high) in enumerate(kept):
        piece = part(curve, low[0], high[0])
        tips = []
        for (t, other), tip in zip((low, high), ends(piece)):
            sketch, point = (sketch, own[t]) if other is None else _meeting_point(sketch, other, tip)
            tips.append(point)
        sketch, new = curve_like(sketch, item, piece, tips)
        curves = dict(sketch.curves)
        made = curves.pop(new)
        target = name if index == 0 else new
        sketch = attrs.evolve(sketch, curves={**curves, target: made})
        for (_, other), point in zip((low, high), tips):
            if other is not None and sketch.curves[other].kind in HELD_ON and point not in sketch.curves[other].points:
                sketch, _ = edit.add_constraint(sketch, Constraint("on curve", (point, other)))
    return _settled(before, sketch, name)


def split_at(sketch: Sketch, name: str, t: float) -> tuple[Sketch, tuple[str, ...], str]:
    """A curve with ends cut into two at a parameter: the sketch, in words the constraints that went, and the id of the
    second part; the first keeps its name."""
    curve, item = sketch.geometry(name), sketch.curves[name]
    before = sketch
    first, last = item.end_points()
    sketch, middle = edit.add_point(sketch, at(curve, t)[0])
    sketch, second = curve_like(sketch, item, part(curve, t, span(curve)), (middle, last))
    sketch, made = curve_like(sketch, item, part(curve, 0.0, t), (first, middle))
    curves = dict(sketch.curves)
    own = curves.pop(made)
    changed = _settled(before, attrs.evolve(sketch, curves=curves | {name: own}), name)
    return changed.sketch, changed.lost, second


def _meeting_point(sketch, other, place):
    """The end of the other curve at a place, or a new point."""
    near = [
        point for point in sketch.curves[other].end_points() if math.dist(sketch.points[point], place) < SAME_POINT_MM
    ]
    return (sketch, near[0]) if near else edit.add_point(sketch, place)


def curve_like(sketch: Sketch, item: Curve, piece: Any, tips: Sequence[str]) -> tuple[Sketch, str]:
    """A curve like another over a part of it, between two points."""
    fields = {"construction": item.construction, "u95": item.u95, "origin": item.origin}
    if isinstance(piece, Line):
        return edit.add_curve(sketch, "line", tips, **fields)
    if isinstance(piece, Arc):
        return edit.add_curve(
            sketch, "arc", (item.points[0], *(tips if piece.sweep > 0 else tips[::-1])), radius=piece.radius, **fields
        )
    if isinstance(piece, EllipticArc):
        order = tips if piece.sweep > 0 else tips[::-1]
        return edit.add_curve(sketch, "elliptical arc", (*item.points[:3], *order), **fields)
    return edit.add_curve(sketch, "spline", (tips[0], *piece.points[1:-1], tips[1]), **fields)


def _settled(before, sketch, name):
    """Without points that nothing uses any more and what hung on them; constraints on the whole length of a cut curve
    go too."""
    used = {point for curve in sketch.curves.values() for point in curve.points}
    was_used = {point for curve in before.curves.values() for point in curve.points}
    points = {key: place for key, place in sketch.points.items() if key in used or key not in was_used}
    there = points.keys() | sketch.curves.keys()
    kept = {
        key: item
        for key, item in sketch.constraints.items()
        if all(one in there for one in item.of)
        and not (
            key in before.constraints
            and name in item.of
            and item.kind in SHAPE_KINDS
            and not _still_holds(sketch, item, name)
        )
    }
    lost = tuple(in_words(before, key) for key in before.constraints if key not in kept)
    result = attrs.evolve(sketch, points=points, constraints=kept)
    solution = solve(result)
    return Trimmed(solution.sketch if solution.solved else result, lost)


def _still_holds(sketch, item, name):
    """Whether a constraint that names a curve says nothing about how long it is."""
    return (
        item.kind == "on curve"
        and item.of[-1] == name
        or item.kind == "symmetric"
        and item.of[-1] == name
        or (item.kind == "equal" and sketch.curves[name].kind in ("arc", "circle"))
        or (item.kind == "distance" and len(item.of) == 2)
        or item.kind == "offset"
    )


def extend(sketch: Sketch, name: str, place: tuple[float, float]) -> Trimmed:
    """Carry the end of a line or arc that is nearest to a place on to the next curve that it meets.

    Raises:
        SketchError: the curve has no such end, that end is joined to another curve, or nothing lies on its way.
    """
    curve, item = sketch.geometry(name), sketch.curve(name)
    if item.kind not in ("line", "arc"):
        raise SketchError("A line or an arc can be carried on; choose one of these.")
    at_end = nearest(curve, place) > 0.5
    tip = item.end_points()[1 if at_end else 0]
    if sum(tip in other.points for other in sketch.curves.values()) > 1:
        raise SketchError("That end is joined to another curve already. Click near a loose end.")
    longer, begin = _carried_on(curve, at_end, REACH_SIZES * sketch.size())
    met = [(t, other) for t, other in _meetings(sketch, name, longer) if t > begin + END_SHARE]
    if not met:
        raise SketchError(
            "Nothing lies on the way of that end. Draw what it should meet first, or click near the other end."
        )
    t, other = met[0]
    sketch_with, point = _meeting_point(sketch, other, at(longer, t)[0])
    ends_now = tuple(point if one == tip else one for one in item.points)
    result = attrs.evolve(sketch_with, curves={**sketch_with.curves, name: attrs.evolve(item, points=ends_now)})
    if sketch.curves[other].kind in HELD_ON and point not in sketch.curves[other].points:
        result, _ = edit.add_constraint(result, Constraint("on curve", (point, other)))
    return _settled(sketch, result, name)


def _carried_on(curve, at_end, reach):
    """A line or arc made longer at one end, run so that this end comes last; and the parameter at which the old one
    ends."""
    if isinstance(curve, Line):
        start, end = (curve.start, curve.end) if at_end else (curve.end, curve.start)
        size = math.dist(start, end)
        return Line(start, np.array(start) + (np.subtract(end, start)) * ((size + reach) / size)), size / (size + reach)
    first, sweep = (curve.start_angle, curve.sweep) if at_end else (curve.start_angle + curve.sweep, -curve.sweep)
    whole = math.copysign(2 * math.pi - 1e-9, sweep)
    return Arc(curve.center, curve.radius, first, whole), sweep / whole


def add_spline_point(sketch: Sketch, name: str, place: tuple[float, float]) -> Sketch:
    """One more point on a spline, whose shape stays exactly as it is.

    Raises:
        SketchError: the curve is no spline, or it has a point there already.
    """
    item, curve = _spline(sketch, name)
    t = nearest(curve, place)
    if abs(t - round(t)) < 0.02:
        raise SketchError("The spline has a point there already; click between two of its points.")
    before: Any = part(curve, 0.0, t)
    after: Any = part(curve, t, span(curve))
    return with_controls(sketch, name, item, [*before.points, *after.points[1:]])


def remove_spline_point(sketch: Sketch, name: str, place: tuple[float, float]) -> tuple[Sketch, float]:
    """One point fewer on a spline: the two pieces beside the point nearest to a place become the cubic that is nearest
    to both.

    Returns:
        the sketch, and the largest distance between the old curve and the new one.

    Raises:
        SketchError: the curve is no spline, or it has no points between its ends.
    """
    item, curve = _spline(sketch, name)
    inner = list(range(1, len(curve.points) // 3))
    if not inner:
        raise SketchError("This spline has no point between its ends that could be taken away.")
    index = min(inner, key=lambda number: math.dist(curve.points[3 * number], place))
    both = Spline(curve.points[3 * index - 3 : 3 * index + 4])
    if any(
        sum(point in other.points for other in sketch.curves.values()) > 1
        for point in item.points[3 * index - 2 : 3 * index + 3]
    ):
        raise SketchError("Another curve is joined to that point of the spline. Choose another point.")
    data = sample(both, 1e-4 * max(float(np.ptp(np.array(both.points), axis=0).max()), 1e-6))
    ways = [np.subtract(both.points[1], both.points[0]), np.subtract(both.points[-2], both.points[-1])]
    ways = [way / max(float(np.hypot(*way)), 1e-12) for way in ways]
    control, _, _ = fit_cubic(
        np.ascontiguousarray(data[1:-1]), data[0], data[-1], ways[0], ways[1], False, False, 12, math.inf
    )
    off = np.abs(cubic_distances(control, np.ascontiguousarray(data), DISTANCE_STEPS)).max()
    changed = with_controls(
        sketch, name, item, [*curve.points[: 3 * index - 3], *map(tuple, control), *curve.points[3 * index + 4 :]]
    )
    return changed, float(off)


def smoother(sketch: Sketch, name: str) -> tuple[Sketch, float]:
    """A spline through the same points whose bend goes on evenly from piece to piece (cubic spline interpolation), with
    the directions at its ends kept.

    Returns:
        the sketch, and the largest distance between the old curve and the new one.

    Raises:
        SketchError: the curve is no spline, has one piece only, or is that smooth already.
    """
    item, curve = _spline(sketch, name)
    if len(curve.points) < 7:
        raise SketchError(
            "This spline has no point between its ends, so it is as smooth as it can be. Drag its handles, or give it "
            "another point."
        )
    through = np.array(curve.points[::3])
    if any(sum(point in other.points for other in sketch.curves.values()) > 1 for point in item.points[1:-1]):
        raise SketchError("Another curve is joined to a point between the ends of this spline. Take it off first.")
    along = np.concatenate(
        [[0], np.cumsum([length(Spline(curve.points[at : at + 4])) for at in range(0, len(curve.points) - 1, 3)])]
    )
    ways = end_directions(curve)
    slopes = CubicSpline(along, through, bc_type=((1, ways[0]), (1, ways[1])))(along, 1)
    control = [through[0]]
    for index, step in enumerate(np.diff(along)):
        control += [
            through[index] + slopes[index] * step / 3,
            through[index + 1] - slopes[index + 1] * step / 3,
            through[index + 1],
        ]
    fair = Spline(control)
    if np.abs(np.array(fair.points) - np.array(curve.points)).max() < LEAST_CHANGE_SHARE * along[-1]:
        raise SketchError("The bend of this spline goes on evenly already. Drop a point to make it smoother still.")
    data = sample(curve, 1e-4 * max(float(np.ptp(through, axis=0).max()), 1e-6))
    off = np.min(
        [np.abs(cubic_distances(piece, np.ascontiguousarray(data), DISTANCE_STEPS)) for piece in fair.pieces()], axis=0
    ).max()
    return with_controls(sketch, name, item, [tuple(place) for place in control]), float(off)


def _spline(sketch, name):
    item = sketch.curve(name)
    if item.kind != "spline":
        raise SketchError("This tool is for splines; click one.")
    return item, sketch.geometry(name)


def with_controls(sketch: Sketch, name: str, item: Curve, places: Sequence[tuple[float, float]]) -> Sketch:
    """A spline with other control points; those that stay where they were keep their names."""
    before = {sketch.points[point]: point for point in item.points}
    names, result = [], sketch
    for index, place in enumerate(places):
        place = (float(place[0]), float(place[1]))
        point = item.points[0] if index == 0 else item.points[-1] if index == len(places) - 1 else before.get(place)
        if point is None:
            result, point = edit.add_point(result, place)
        names.append(point)
    result = attrs.evolve(result, curves={**result.curves, name: attrs.evolve(item, points=names)})
    return _settled(sketch, result, "").sketch
