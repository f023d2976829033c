"""Plain changes of a sketch: adding and taking away points, curves, constraints; each returns a new sketch."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from scipy.interpolate import CubicSpline

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import Arc, Circle, Ellipse, EllipticArc, Line, end_directions, ends
from nomogon_core.sketch.model import Constraint, Curve

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

SAME_PLACE_MM = 1e-6


def _with(sketch, prefix, kind, value):
    name = f"{prefix}{sketch.next_number}"
    return attrs.evolve(
        sketch, **{kind: {**getattr(sketch, kind), name: value}}, next_number=sketch.next_number + 1
    ), name


def add_point(sketch: Sketch, place: np.ndarray | tuple[float, float]) -> tuple[Sketch, str]:
    """A new point; returns the sketch and the point's id."""
    return _with(sketch, "p", "points", (float(place[0]), float(place[1])))


def _point_of(sketch, place):
    """An id given as such, or a new point at a place."""
    if isinstance(place, str):
        if place not in sketch.points:
            raise SketchError(f"There is no point {place} in the sketch any more; choose it again.")
        return sketch, place
    return add_point(sketch, place)


def add_curve(
    sketch: Sketch, kind: str, places: Sequence[str | tuple[float, float]], **fields: Any
) -> tuple[Sketch, str]:
    """A new curve through places that are point ids or coordinates; returns the sketch and the curve's id."""
    names = []
    for place in places:
        sketch, name = _point_of(sketch, place)
        names.append(name)
    return _with(sketch, "c", "curves", Curve(kind, names, **fields))


def add_line(
    sketch: Sketch, start: str | tuple[float, float], end: str | tuple[float, float], **fields: Any
) -> tuple[Sketch, str]:
    """A line between two places.

    Raises:
        SketchError: both ends are the same place.
    """
    sketch, first = _point_of(sketch, start)
    sketch, last = _point_of(sketch, end)
    if first == last or math.dist(sketch.points[first], sketch.points[last]) < SAME_PLACE_MM:
        raise SketchError("The line would have no length: both ends are the same place. Click a second place.")
    return add_curve(sketch, "line", (first, last), **fields)


def add_circle(sketch: Sketch, center: tuple[float, float], radius: float, **fields: Any) -> tuple[Sketch, str]:
    """A circle.

    Raises:
        SketchError: the radius is not positive.
    """
    if not radius > SAME_PLACE_MM:
        raise SketchError("The circle would have no size: its rim is at its centre. Click farther away.")
    return add_curve(sketch, "circle", (center,), radius=float(radius), **fields)


def add_ellipse(
    sketch: Sketch, center: tuple[float, float], first: tuple[float, float], second: tuple[float, float], **fields: Any
) -> tuple[Sketch, str]:
    """An ellipse.

    Args:
        center, first: centre and an end of one axis; second: a place as far from that axis as the other one reaches.

    Raises:
        SketchError: one of the semi-axes has no length.
    """
    sketch, middle = _point_of(sketch, center)
    sketch, tip = _point_of(sketch, first)
    (x, y), along = sketch.points[middle], np.subtract(sketch.points[tip], sketch.points[middle])
    reach = math.hypot(*along)
    normal = np.array([-along[1], along[0]]) / max(reach, 1e-300)
    other = float(np.subtract(sketch.points[second] if isinstance(second, str) else second, (x, y)) @ normal)
    if min(reach, abs(other)) <= SAME_PLACE_MM:
        raise SketchError("The ellipse would have no size: one of its axes has no length. Click farther away.")
    return add_curve(sketch, "ellipse", (middle, tip, (x + other * normal[0], y + other * normal[1])), **fields)


def add_elliptical_arc(
    sketch: Sketch,
    center: str | tuple[float, float],
    tip: str | tuple[float, float],
    start: str | tuple[float, float],
    toward: tuple[float, float],
    **fields: Any,
) -> tuple[Sketch, str]:
    """An arc of an ellipse, counter-clockwise.

    Args:
        center, tip: centre and an end of one axis; start: a place on the ellipse, where the arc begins.
        toward: a place in whose direction, seen from the centre, the arc ends.

    Raises:
        SketchError: no ellipse with that axis goes through the start, or both ends are one place.
    """
    sketch, middle = _point_of(sketch, center)
    sketch, first = _point_of(sketch, tip)
    sketch, begin = _point_of(sketch, start)
    x, y = sketch.points[middle]
    along, on_it = (np.subtract(sketch.points[one], (x, y)) for one in (first, begin))
    reach = math.hypot(*along)
    if reach <= SAME_PLACE_MM:
        raise SketchError("The ellipse would have no size: its first axis has no length. Click farther away.")
    ways = np.array([along, (-along[1], along[0])]) / reach
    share, off = float(ways[0] @ on_it) / reach, float(ways[1] @ on_it)
    if abs(share) >= 1 or abs(off) <= SAME_PLACE_MM:
        raise SketchError(
            "No ellipse with that axis goes through the place where the arc begins. Begin off the axis, and not beyond "
            "its ends."
        )
    other = abs(off) / math.sqrt(1 - share * share)
    whole = Ellipse((x, y), (reach, other), math.atan2(along[1], along[0]))
    last = np.subtract(toward, (x, y))
    stop = whole.at([math.atan2(ways[1] @ last / other, ways[0] @ last / reach)])[0]
    if math.dist(stop, sketch.points[begin]) <= SAME_PLACE_MM:
        raise SketchError("The arc would have no length: it ends where it begins. Click another place for its end.")
    places = (middle, first, tuple(np.array((x, y)) + other * ways[1]), begin, tuple(stop))
    return add_curve(sketch, "elliptical arc", places, **fields)


def circle_through(
    first: tuple[float, float], second: np.ndarray | tuple[float, float], third: tuple[float, float]
) -> tuple[tuple[float, float], float]:
    """Centre and radius of the circle through three places.

    Raises:
        SketchError: the places lie on one line.
    """
    (x0, y0), (x1, y1), (x2, y2) = first, second, third
    double = 2 * ((x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0))
    span = max(math.dist(first, second), math.dist(second, third), math.dist(first, third))
    if abs(double) < 1e-6 * max(span, 1e-9) ** 2:
        raise SketchError(
            "The three places lie on one line, so no arc goes through them. Click the middle one off the line."
        )
    a, b = (x1 - x0) ** 2 + (y1 - y0) ** 2, (x2 - x0) ** 2 + (y2 - y0) ** 2
    x, y = ((y2 - y0) * a - (y1 - y0) * b) / double, ((x1 - x0) * b - (x2 - x0) * a) / double
    return (x0 + x, y0 + y), math.hypot(x, y)


def add_arc_through(
    sketch: Sketch,
    start: str | tuple[float, float],
    middle: np.ndarray | tuple[float, float],
    end: str | tuple[float, float],
    **fields: Any,
) -> tuple[Sketch, str]:
    """An arc from start to end through a place between; stored counter-clockwise.

    Raises:
        SketchError: the three places lie on one line.
    """
    sketch, first = _point_of(sketch, start)
    sketch, last = _point_of(sketch, end)
    begin, finish = sketch.points[first], sketch.points[last]
    center, radius = circle_through(begin, middle, finish)
    turn = (middle[0] - begin[0]) * (finish[1] - begin[1]) - (middle[1] - begin[1]) * (finish[0] - begin[0])
    if turn < 0:
        first, last = last, first
    return add_curve(sketch, "arc", (center, first, last), radius=radius, **fields)


def add_spline_through(sketch: Sketch, places: list[str | tuple[float, float]], **fields: Any) -> tuple[Sketch, str]:
    """A smooth spline through two or more places (natural cubic, chord-length parameters).

    Raises:
        SketchError: fewer than two different places.
    """
    names = []
    for place in places:
        sketch, name = _point_of(sketch, place)
        if not names or names[-1] != name:
            names.append(name)
    through = np.array([sketch.points[name] for name in names])
    if len(names) < 2:
        raise SketchError("A spline needs at least two different places.")
    along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(through, axis=0).T))])
    if np.any(np.diff(along) < SAME_PLACE_MM):
        raise SketchError("Two places of the spline are the same; click them apart.")
    slopes = CubicSpline(along, through, bc_type="natural")(along, 1)
    control = [names[0]]
    for index, step in enumerate(np.diff(along)):
        control += [
            tuple(through[index] + slopes[index] * step / 3),
            tuple(through[index + 1] - slopes[index + 1] * step / 3),
            names[index + 1],
        ]
    return add_curve(sketch, "spline", control, **fields)


def add_outline(
    sketch: Sketch, curves: Sequence[Any], u95: Sequence[float | None], *, origin: str, closed: bool = True
) -> tuple[Sketch, list[str], list[tuple]]:
    """The curves of one outline, sharing the points at their joints.

    Returns:
        the sketch, ids of the curves, and the joints as (curve before, curve after) pairs.
    """
    names, last_end, first_start = [], None, None
    for index, (curve, error) in enumerate(zip(curves, u95)):
        fields = {"u95": None if error is None else float(error), "origin": origin}
        if isinstance(curve, Circle):
            sketch, name = add_circle(sketch, curve.center, curve.radius, **fields)
            return sketch, [name], []
        if isinstance(curve, Ellipse):
            first, second = curve.at([0.0, math.pi / 2])
            sketch, name = add_ellipse(sketch, curve.center, tuple(first), tuple(second), **fields)
            return sketch, [name], []
        start, end = ends(curve)
        start = last_end or start
        end = first_start if closed and index == len(curves) - 1 and first_start else end
        sketch, start = _point_of(sketch, start)
        sketch, end = _point_of(sketch, end)
        if isinstance(curve, Line):
            sketch, name = add_curve(sketch, "line", (start, end), **fields)
        elif isinstance(curve, Arc):
            order = (start, end) if curve.sweep > 0 else (end, start)
            sketch, name = add_curve(sketch, "arc", (curve.center, *order), radius=curve.radius, **fields)
        elif isinstance(curve, EllipticArc):
            order = (start, end) if curve.sweep > 0 else (end, start)
            axes = curve.whole.at([0.0, math.pi / 2]).tolist()
            sketch, name = add_curve(
                sketch, "elliptical arc", (curve.whole.center, *map(tuple, axes), *order), **fields
            )
        else:
            sketch, name = add_curve(sketch, "spline", (start, *curve.points[1:-1], end), **fields)
        first_start = first_start or start
        last_end = end
        names.append(name)
    joints = (
        [(names[index - 1], names[index]) for index in range(0 if closed else 1, len(names))] if len(names) > 1 else []
    )
    return sketch, names, joints


def add_constraint(sketch: Sketch, constraint: Constraint) -> tuple[Sketch, str]:
    """The constraint as it is, unsolved; returns the sketch and its id."""
    return _with(sketch, "k", "constraints", constraint)


def remove(sketch: Sketch, names: list[str]) -> Sketch:
    """Take away points, curves and constraints by id, and all that hangs on them."""
    gone = set(names)
    for name in names:
        if name not in sketch.points and name not in sketch.curves and name not in sketch.constraints:
            raise SketchError(f"There is no {name} in the sketch any more.")
    gone |= {name for name, curve in sketch.curves.items() if any(point in gone for point in curve.points)}
    kept_curves = {name: curve for name, curve in sketch.curves.items() if name not in gone}
    used = {point for curve in kept_curves.values() for point in curve.points}
    was_used = {point for curve in sketch.curves.values() for point in curve.points}
    kept_points = {
        name: place
        for name, place in sketch.points.items()
        if name not in gone and (name in used or name not in was_used)
    }
    kept = kept_points.keys() | kept_curves.keys()
    constraints = {}
    for name, item in sketch.constraints.items():
        parts = [part for part in item.parts if kept.issuperset(part)] if name not in gone else []
        if len(parts) == len(item.parts):
            constraints[name] = item
        elif parts:
            constraints[name] = attrs.evolve(item, of=sum(parts, ()))
    return attrs.evolve(sketch, points=kept_points, curves=kept_curves, constraints=constraints)


def set_construction(sketch: Sketch, names: list[str], construction: bool) -> Sketch:
    curves = dict(sketch.curves)
    for name in names:
        curves[name] = attrs.evolve(sketch.curve(name), construction=construction)
    return attrs.evolve(sketch, curves=curves)


def merge_points(sketch: Sketch, kept: str, gone: str) -> Sketch:
    """Two points become one; constraints between them vanish. Used to close a gap."""
    if kept == gone:
        return sketch
    swap = {gone: kept}
    curves = {
        name: attrs.evolve(curve, points=[swap.get(point, point) for point in curve.points])
        for name, curve in sketch.curves.items()
    }
    constraints = {}
    for name, item in sketch.constraints.items():
        parts = [tuple(swap.get(reference, reference) for reference in part) for part in item.parts]
        parts = [part for part in parts if len(set(part)) == len(part)]
        if parts:
            constraints[name] = attrs.evolve(item, of=sum(parts, ()))
    points = {name: place for name, place in sketch.points.items() if name != gone}
    return attrs.evolve(sketch, points=points, curves=curves, constraints=constraints)


def smooth_joints(
    sketch: Sketch, joints: Sequence[tuple[str, str]], *, within: float = math.radians(3.0)
) -> list[Constraint]:
    """Tangent constraints for the joints of an outline that are smooth already."""
    found = []
    for before, after in joints:
        first, second = sketch.curve(before), sketch.curve(after)
        shared = set(first.end_points()) & set(second.end_points())
        if {first.kind, second.kind} == {"line"} or not shared:
            continue
        kink = min(abs(_kink_at(sketch, before, after, point)) for point in shared)
        if kink < within:
            found.append(Constraint("tangent", (before, after), source="traced"))
    return found


def _kink_at(sketch, before, after, point):
    """Angle between two curves' tangent lines at a shared point, 0 to a quarter turn."""
    ways = []
    for name in (before, after):
        curve, place = sketch.curve(name), sketch.points[point]
        if curve.kind == "arc":
            center = sketch.points[curve.points[0]]
            ways.append((-(place[1] - center[1]), place[0] - center[0]))
        elif curve.kind == "line":
            a, b = (sketch.points[end] for end in curve.points)
            ways.append((b[0] - a[0], b[1] - a[1]))
        elif curve.kind == "elliptical arc":
            ways.append(end_directions(sketch.geometry(name))[int(point == curve.points[-1])])
        else:
            near = curve.points[1] if curve.points[0] == point else curve.points[-2]
            ways.append((sketch.points[near][0] - place[0], sketch.points[near][1] - place[1]))
    cross = ways[0][0] * ways[1][1] - ways[0][1] * ways[1][0]
    dot = ways[0][0] * ways[1][0] + ways[0][1] * ways[1][1]
    return math.atan2(abs(cross), abs(dot))
