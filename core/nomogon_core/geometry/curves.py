"""Plane curves that every room shares: lines, arcs, circles, ellipses and arcs of these, chains of cubic Bézier pieces.

All curves are immutable; points are (x, y) tuples in one length unit, angles are radians counted from
the x axis toward the y axis. An arc runs from ``start_angle`` by ``sweep``, positive toward y.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import singledispatch
from typing import Any

import attrs
import numpy as np
from scipy.special import ellipe, ellipeinc

GAUSS_X, GAUSS_W = np.polynomial.legendre.leggauss(8)
GAUSS_T, GAUSS_W = (GAUSS_X + 1) / 2, GAUSS_W / 2
FINE_TURN = 16


def _point(value):
    return (float(value[0]), float(value[1]))


def _points(values):
    return tuple(_point(value) for value in values)


@attrs.frozen
class Line:
    start: tuple = attrs.field(converter=_point)
    end: tuple = attrs.field(converter=_point)


@attrs.frozen
class Arc:
    center: tuple = attrs.field(converter=_point)
    radius: float = attrs.field(converter=float)
    start_angle: float = attrs.field(converter=float)
    sweep: float = attrs.field(converter=float)


@attrs.frozen
class Circle:
    center: tuple = attrs.field(converter=_point)
    radius: float = attrs.field(converter=float)


@attrs.frozen
class Ellipse:
    """A full ellipse: centre, both semi-axes, and the angle of the first one."""

    center: tuple = attrs.field(converter=_point)
    semi_axes: tuple = attrs.field(converter=_point)
    angle: float = attrs.field(converter=float)

    def at(self, angles: list[float] | np.ndarray) -> np.ndarray:
        """Points (n, 2) at eccentric angles (n,), counted from the first semi-axis."""
        (a, b), turn = self.semi_axes, np.array([math.cos(self.angle), math.sin(self.angle)])
        angles = np.asarray(angles, float)[:, None]
        return np.array(self.center) + a * np.cos(angles) * turn + b * np.sin(angles) * np.array([-turn[1], turn[0]])

    def eccentric(self, place: Sequence[float]) -> float:
        """The eccentric angle of a place on the ellipse, -pi to pi."""
        x, y = place[0] - self.center[0], place[1] - self.center[1]
        cos, sin = math.cos(self.angle), math.sin(self.angle)
        return math.atan2((cos * y - sin * x) / self.semi_axes[1], (cos * x + sin * y) / self.semi_axes[0])


@attrs.frozen
class EllipticArc:
    """The part of an ellipse from one eccentric angle on by ``sweep``, positive toward y."""

    whole: Ellipse
    first: float = attrs.field(converter=float)
    sweep: float = attrs.field(converter=float)

    def angles(self, count: int) -> np.ndarray:
        """Eccentric angles (count,), evenly from end to end."""
        return self.first + self.sweep * np.linspace(0, 1, count)


CLOSED = (Circle, Ellipse)


@attrs.frozen(cache_hash=True)
class Spline:
    """A chain of cubic Bézier pieces; 3k+1 control points, every third one lies on the curve."""

    points: tuple = attrs.field(converter=_points)

    def pieces(self) -> np.ndarray:
        """Array (k, 4, 2) of the control points of each piece."""
        points = np.asarray(self.points)
        return np.stack([points[index : index + 4] for index in range(0, len(points) - 1, 3)])


def polar(center: np.ndarray | tuple[float, float], radius: float, angle: float) -> tuple[float, float]:
    return (center[0] + radius * math.cos(angle), center[1] + radius * math.sin(angle))


def bezier(control: np.ndarray, t: np.ndarray) -> np.ndarray:
    """Points (n, 2) of one cubic with control points (4, 2) at parameters t (n,)."""
    t = np.asarray(t, float)[:, None]
    u = 1 - t
    return u**3 * control[0] + 3 * u * u * t * control[1] + 3 * u * t * t * control[2] + t**3 * control[3]


def bezier_derivative(control: np.ndarray, t: np.ndarray) -> np.ndarray:
    t = np.asarray(t, float)[:, None]
    u = 1 - t
    return 3 * (
        u * u * (control[1] - control[0]) + 2 * u * t * (control[2] - control[1]) + t * t * (control[3] - control[2])
    )


@singledispatch
def ends(curve: Any) -> tuple[tuple[float, float], tuple[float, float]]:
    """Start and end point; None for a closed circle or ellipse."""
    raise TypeError(f"not a curve: {curve!r}")


@ends.register
def _(curve: Line):
    return curve.start, curve.end


@ends.register
def _(curve: Arc):
    return (
        polar(curve.center, curve.radius, curve.start_angle),
        polar(curve.center, curve.radius, curve.start_angle + curve.sweep),
    )


@ends.register
def _(curve: Circle):
    return None


@ends.register
def _(curve: Ellipse):
    return None


@ends.register
def _(curve: EllipticArc):
    return tuple(_points(curve.whole.at(curve.angles(2))))


@ends.register
def _(curve: Spline):
    return curve.points[0], curve.points[-1]


@singledispatch
def sample(curve: Any, chord: float) -> np.ndarray:
    """Points (n, 2) on the curve, both ends included, no farther from it than ``chord`` in between."""
    raise TypeError(f"not a curve: {curve!r}")


@sample.register
def _(curve: Line, chord):
    return np.array([curve.start, curve.end])


def _arc_count(radius, sweep, chord):
    """How many points an arc needs; numbers or arrays."""
    step = 2 * np.arccos(1 - np.minimum(chord / np.maximum(radius, 1e-12), 1.0))
    return np.maximum(2, np.ceil(np.abs(sweep) / np.maximum(step, 1e-3)).astype(int) + 1)


def _arc_points(center, radius, start, sweep, chord):
    count = int(_arc_count(radius, sweep, chord))
    angles = start + np.arange(count) * (sweep / (count - 1))
    points = np.empty((count, 2))
    points[:, 0] = center[0] + radius * np.cos(angles)
    points[:, 1] = center[1] + radius * np.sin(angles)
    return points


@sample.register
def _(curve: Arc, chord):
    return _arc_points(curve.center, curve.radius, curve.start_angle, curve.sweep, chord)


@sample.register
def _(curve: Circle, chord):
    return _arc_points(curve.center, curve.radius, 0.0, 2 * math.pi, chord)


def _oval_steps(curve, sweep, chord):
    step = 2 * math.acos(max(-1.0, 1 - min(chord / max(*curve.semi_axes, 1e-12), 1.0)))
    return math.ceil(abs(sweep) / max(step, 1e-3)) + 1


@sample.register
def _(curve: Ellipse, chord):
    return curve.at(np.linspace(0, 2 * math.pi, max(9, _oval_steps(curve, 2 * math.pi, chord))))


@sample.register
def _(curve: EllipticArc, chord):
    return curve.whole.at(curve.angles(max(3, _oval_steps(curve.whole, curve.sweep, chord))))


@sample.register
def _(curve: Spline, chord):
    parts = [np.asarray(curve.points[:1])]
    for control in curve.pieces():
        bend = np.abs(np.diff(control, 2, axis=0)).sum(axis=1).max()
        count = max(2, math.ceil(math.sqrt(0.75 * bend / max(chord, 1e-9))) + 1)
        parts.append(bezier(control, np.linspace(0, 1, count)[1:]))
    return np.vstack(parts)


@singledispatch
def length(curve: Any) -> float:
    """Arc length."""
    raise TypeError(f"not a curve: {curve!r}")


@length.register
def _(curve: Line):
    return math.dist(curve.start, curve.end)


@length.register
def _(curve: Arc):
    return abs(curve.sweep) * curve.radius


@length.register
def _(curve: Circle):
    return 2 * math.pi * curve.radius


@length.register
def _(curve: Ellipse):
    a, b = max(curve.semi_axes), min(curve.semi_axes)
    return 4 * a * float(ellipe(1 - (b / a) ** 2)) if a > 0 else 0.0


@length.register
def _(curve: EllipticArc):
    # The integral counts from the end of the second axis, where the curve runs along the first one.
    a, b = curve.whole.semi_axes
    low, high = curve.first - math.pi / 2, curve.first - math.pi / 2 + curve.sweep
    return a * abs(float(ellipeinc(high, 1 - (b / a) ** 2) - ellipeinc(low, 1 - (b / a) ** 2)))


@length.register
def _(curve: Spline):
    total = 0.0
    for control in curve.pieces():
        for low in np.linspace(0, 1, 5)[:-1]:
            speed = bezier_derivative(control, low + GAUSS_T / 4)
            total += 0.25 * float(GAUSS_W @ np.hypot(speed[:, 0], speed[:, 1]))
    return total


@singledispatch
def signed_area(curve: Any) -> float:
    """Half the integral of x dy - y dx along the curve; sums to the area of a closed outline."""
    raise TypeError(f"not a curve: {curve!r}")


@signed_area.register
def _(curve: Line):
    (x0, y0), (x1, y1) = curve.start, curve.end
    return (x0 * y1 - x1 * y0) / 2


@signed_area.register
def _(curve: Arc):
    (x0, y0), (x1, y1) = ends(curve)
    center_x, center_y = curve.center
    return (curve.radius**2 * curve.sweep + center_x * (y1 - y0) - center_y * (x1 - x0)) / 2


@signed_area.register
def _(curve: Circle):
    return math.pi * curve.radius**2


@signed_area.register
def _(curve: Ellipse):
    return math.pi * curve.semi_axes[0] * curve.semi_axes[1]


@signed_area.register
def _(curve: EllipticArc):
    (x0, y0), (x1, y1) = ends(curve)
    (center_x, center_y), (a, b) = curve.whole.center, curve.whole.semi_axes
    return (a * b * curve.sweep + center_x * (y1 - y0) - center_y * (x1 - x0)) / 2


@signed_area.register
def _(curve: Spline):
    """Exact: half the cross products of the control points, weighted by the integrals of the Bernstein polynomials."""
    a, b, c, d = np.moveaxis(curve.pieces(), 1, 0)

    def cross(one, other):
        return one[:, 0] * other[:, 1] - one[:, 1] * other[:, 0]

    first, middle = cross(a, b) + cross(c, d), cross(a, c) + cross(b, c) + cross(b, d)
    return float((6 * first + 3 * middle + cross(a, d)).sum() / 20)


@singledispatch
def reverse(curve: Any) -> Any:
    """The same curve run the other way."""
    return curve


@reverse.register
def _(curve: Line):
    return Line(curve.end, curve.start)


@reverse.register
def _(curve: Arc):
    return Arc(curve.center, curve.radius, curve.start_angle + curve.sweep, -curve.sweep)


@reverse.register
def _(curve: EllipticArc):
    return EllipticArc(curve.whole, curve.first + curve.sweep, -curve.sweep)


@reverse.register
def _(curve: Spline):
    return Spline(curve.points[::-1])


def moved(curve: Any, place: Callable, *, scale: float = 1.0, turn: float = 0.0, sense: int = 1) -> Any:
    """A curve under a similarity of the plane.

    Args:
        place: function from a point to its place.
        scale, turn: by which it stretches lengths and turns angles; sense: -1 if it mirrors, the turn coming after the
            mirroring in the x axis.
    """
    if isinstance(curve, Line):
        return Line(place(curve.start), place(curve.end))
    if isinstance(curve, Spline):
        return Spline([place(point) for point in curve.points])
    if isinstance(curve, Circle):
        return Circle(place(curve.center), curve.radius * scale)
    if isinstance(curve, Ellipse):
        return Ellipse(place(curve.center), np.multiply(curve.semi_axes, scale), sense * curve.angle + turn)
    if isinstance(curve, EllipticArc):
        whole = moved(curve.whole, place, scale=scale, turn=turn, sense=sense)
        return EllipticArc(whole, sense * curve.first, sense * curve.sweep)
    return Arc(place(curve.center), curve.radius * scale, sense * curve.start_angle + turn, sense * curve.sweep)


@singledispatch
def end_directions(curve: Any) -> tuple[Any, Any]:
    """Unit directions of travel (2, 2) at start and end."""
    raise TypeError(f"a closed curve has no ends: {curve!r}")


def _unit(vector):
    size = math.hypot(vector[0], vector[1])
    return np.array([vector[0], vector[1]]) / (size if size > 0 else 1.0)


@end_directions.register
def _(curve: Line):
    direction = _unit(np.subtract(curve.end, curve.start))
    return np.array([direction, direction])


@end_directions.register
def _(curve: Arc):
    sense = math.copysign(1.0, curve.sweep)
    return np.array(
        [
            [-sense * math.sin(angle), sense * math.cos(angle)]
            for angle in (curve.start_angle, curve.start_angle + curve.sweep)
        ]
    )


@end_directions.register
def _(curve: EllipticArc):
    ways = curve.whole.at(curve.angles(2) + math.pi / 2) - np.array(curve.whole.center)
    return math.copysign(1.0, curve.sweep) * np.array([_unit(way) for way in ways])


@end_directions.register
def _(curve: Spline):
    points = np.asarray(curve.points)
    first = next((p - points[0] for p in points[1:] if np.hypot(*(p - points[0])) > 1e-12), points[-1] - points[0])
    last = next((points[-1] - p for p in points[-2::-1] if np.hypot(*(points[-1] - p)) > 1e-12), points[-1] - points[0])
    return np.array([_unit(first), _unit(last)])


def ellipse_pieces(curve: Ellipse, first: float, last: float, a_turn: int = 8) -> list[Spline]:
    """Cubics along an ellipse between two eccentric angles, so many a turn: with 8 good to 4e-6 of its size, with 16 to
    7e-8 (Goldapp 1991)."""
    count = max(1, math.ceil(abs(last - first) / (2 * math.pi) * a_turn - 1e-9))
    angles = np.linspace(first, last, count + 1)
    reach = 4 / 3 * math.tan((last - first) / count / 4)
    places = curve.at(angles)
    ways = curve.at(angles + math.pi / 2) - np.array(curve.center)
    return [
        Spline([tuple(a), tuple(a + reach * u), tuple(b - reach * v), tuple(b)])
        for a, b, u, v in zip(places, places[1:], ways, ways[1:])
    ]


def as_pieces(curve: EllipticArc, a_turn: int = 8) -> list[Spline]:
    """Cubics along an arc of an ellipse; see :func:`ellipse_pieces`."""
    return ellipse_pieces(curve.whole, curve.first, curve.first + curve.sweep, a_turn)


def cubics_of(curve: Any) -> list[np.ndarray]:
    """A plane curve as cubics, arrays (4, 2): exact but for round ones, which are good to 7e-8 of their size."""
    if isinstance(curve, Line):
        a, b = np.array(curve.start), np.array(curve.end)
        return [np.array([a, a + (b - a) / 3, b - (b - a) / 3, b])]
    if isinstance(curve, (Circle, Arc)):
        whole = Ellipse(curve.center, (curve.radius, curve.radius), 0.0)
        first, sweep = (curve.start_angle, curve.sweep) if isinstance(curve, Arc) else (0.0, 2 * math.pi)
        return [np.array(piece.points) for piece in ellipse_pieces(whole, first, first + sweep, FINE_TURN)]
    if isinstance(curve, Ellipse):
        return [np.array(piece.points) for piece in ellipse_pieces(curve, 0.0, 2 * math.pi, FINE_TURN)]
    if isinstance(curve, EllipticArc):
        return [np.array(piece.points) for piece in as_pieces(curve, FINE_TURN)]
    return list(curve.pieces())


def sample_all(curves: Sequence[Any], chord: float) -> tuple[np.ndarray, np.ndarray]:
    """The samples of many curves one after another, those of lines, arcs and circles made at once.

    Returns:
        points (n, 2), and how many of them each curve has.
    """
    kinds = np.array([_BULK.get(type(curve), 0) for curve in curves])
    lines, rounds = np.flatnonzero(kinds == 1), np.flatnonzero(kinds == 2)
    others = {index: sample(curves[index], chord) for index in np.flatnonzero(kinds == 0).tolist()}
    numbers = [(*curves[index].center, curves[index].radius, *_run(curves[index])) for index in rounds.tolist()]
    x, y, radius, start, sweep = np.array(numbers).reshape(-1, 5).T
    counts = np.full(len(curves), 2)
    counts[rounds] = _arc_count(radius, sweep, chord)
    counts[list(others)] = [len(points) for points in others.values()]
    first = np.cumsum(counts) - counts
    points = np.empty((int(counts.sum()), 2))
    if len(lines):
        ends_of = [(*curves[index].start, *curves[index].end) for index in lines.tolist()]
        points[first[lines][:, None] + [0, 1]] = np.array(ends_of).reshape(-1, 2, 2)
    each = counts[rounds]
    along = np.arange(each.sum()) - np.repeat(np.cumsum(each) - each, each)
    angles = np.repeat(start, each) + along * np.repeat(sweep / (each - 1), each)
    at = np.repeat(first[rounds], each) + along
    points[at, 0] = np.repeat(x, each) + np.repeat(radius, each) * np.cos(angles)
    points[at, 1] = np.repeat(y, each) + np.repeat(radius, each) * np.sin(angles)
    for index, told in others.items():
        points[first[index] : first[index] + counts[index]] = told
    return points, counts


_BULK = {Line: 1, Arc: 2, Circle: 2}


def _run(curve):
    """Angle at which an arc or a circle begins, and the angle that it goes through."""
    return (0.0, 2 * math.pi) if isinstance(curve, Circle) else (curve.start_angle, curve.sweep)


def closed_area(curves: tuple[Any, ...]) -> float:
    """Enclosed area of a closed outline, positive when it runs counter-clockwise (x toward y)."""
    return sum(signed_area(curve) for curve in curves)


def outline_points(curves: Sequence[Any], chord: float) -> np.ndarray:
    """Polygon (n, 2) along consecutive curves, without repeating the joints."""
    parts = [sample(curve, chord) for curve in curves]
    return np.vstack([part[:-1] for part in parts])


def with_area_left(loop: np.ndarray, *, inner: bool) -> np.ndarray:
    """A polygon (n, 2) run so that the area of which it is the outline, or a hole, lies to its left."""
    x, y = loop.T
    area = float((x * np.roll(y, -1) - y * np.roll(x, -1)).sum())
    return loop[::-1] if (area > 0) == inner else loop


def bounds(curves: Sequence[Any], chord: float = 1e-3) -> tuple[tuple[float, float], tuple[float, float]]:
    """((min x, min y), (max x, max y)) of all curves."""
    points = np.vstack([sample(curve, chord) for curve in curves])
    return tuple(points.min(axis=0).tolist()), tuple(points.max(axis=0).tolist())
