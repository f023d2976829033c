"""Constraints as equations: which rows and merges each one gives, on parameters centred and scaled to size 1.

The kinds of rows are those of :mod:`nomogon_core.sketch.rows`. Linear ones with two unit coefficients or fewer are not
rows at all: they merge parameters.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import attrs
import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import bezier
from nomogon_core.sketch import rows
from nomogon_core.sketch.model import OVAL, article

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Constraint, Sketch

ZERO = 0
ONE_PLACE = 1e-9  # share of a radius within which centres are one
NEARNESS = 97  # places at which the nearest of a curve is looked for


@attrs.frozen
class Merge:
    """parameter ``first`` = parameter ``second`` + ``offset``."""

    first: int
    second: int
    offset: float
    owner: str


class Equations:
    """Rows and merges of a sketch, with its parameters centred and scaled to size 1.

    Attributes:
        values: all parameters; the first is the constant zero, then x, y of each point, then radii, then what rows need
            of their own (where a point stands on a spline).
        scale, center: model = value * scale + center.
        kinds, parameters, constants, owners: of each row: its number in ``rows.KINDS``, indices of its parameters, its
            constants, and the constraint that it comes from.
    """

    def __init__(self, sketch: Sketch) -> None:
        self.sketch = sketch
        self.scale = sketch.size()
        places = np.array(list(sketch.points.values())).reshape(-1, 2)
        self.center = (places.min(axis=0) + places.max(axis=0)) / 2 if len(places) else np.zeros(2)
        self.point_at = {name: 1 + 2 * index for index, name in enumerate(sketch.points)}
        radii = {name: curve.radius for name, curve in sketch.curves.items() if curve.kind in ("arc", "circle")}
        self.radius_at = {name: 1 + places.size + index for index, name in enumerate(radii)}
        scaled = ((places - self.center) / self.scale).ravel()
        self._plain = [0.0, *scaled.tolist(), *(radius / self.scale for radius in radii.values())]
        self.kinds: list[int] = []
        self.parameters: list[tuple] = []
        self.constants: list[tuple] = []
        self.owners: list[str] = []
        self.merges: list[Merge] = []
        for name, curve in sketch.curves.items():
            if curve.kind == "arc":
                for end in curve.points[1:]:
                    self._norm(f"arc {name}", curve.points[0], end, (self.radius_at[name], 1))
            elif curve.kind in OVAL:
                center, first, second, *on_it = curve.points
                owner = f"{curve.kind} {name}"
                self._angle(owner, (center, first), (center, second), (math.pi / 2, -math.pi / 2))
                for end in on_it:
                    if end not in (first, second):
                        self._row(owner, rows.on_ellipse, self._places((center, first, second, end)))
        for name, item in sketch.constraints.items():
            if item.driving and not item.against:
                self.add(name, item)
        self.values = np.array(self._plain)

    def add(self, name: str, item: Constraint) -> None:
        """Equations of one constraint.

        Raises:
            SketchError: the constraint does not go with what it is put on.
        """
        _BUILDERS[item.kind](self, name, item)

    # --- building blocks

    def _row(self, owner, kind, parameters, *constants):
        self.kinds.append(rows.NUMBER_OF[kind])
        self.parameters.append(parameters)
        self.constants.append(constants)
        self.owners.append(owner)

    def _own(self, value):
        """A parameter that only rows speak of."""
        self._plain.append(value)
        return len(self._plain) - 1

    def _place(self, point):
        at = self.point_at[point]
        return self._plain[at], self._plain[at + 1]

    def _places(self, points):
        """Parameters of points one after another."""
        found: list[int] = []
        for point in points:
            at = self.point_at[point]
            found += (at, at + 1)
        return tuple(found)

    def _norm(self, owner, start, end, first=(ZERO, 0), second=(ZERO, 0), distance=0.0):
        p, q = self.point_at[start], self.point_at[end]
        self._row(owner, rows.norm, (p, p + 1, q, q + 1, first[0], second[0]), first[1], second[1], distance)

    def _angle(self, owner, first, second, angles):
        """Angle between two point pairs; the nearest of the given angles is kept."""
        parameters = self._places((*first, *second))
        now = self._direction(*parameters[4::2]) - self._direction(*parameters[:4:2])
        theta = min(angles, key=lambda angle: abs(math.remainder(now - angle, math.tau)))
        self._row(owner, rows.angle, parameters, theta)

    def _direction(self, start, end):
        """Angle of the run between two points, given by where they stand among the parameters."""
        return math.atan2(self._plain[end + 1] - self._plain[start + 1], self._plain[end] - self._plain[start])

    def _point_line(self, owner, line, point, radius=(ZERO, 0), distance=0.0):
        self._row(owner, rows.point_line, (*self._places((*line, point)), radius[0]), radius[1], distance)

    def _side(self, line, point):
        (ax, ay), (bx, by), (x, y) = (self._place(name) for name in (*line, point))
        return 1.0 if (bx - ax) * (y - ay) - (by - ay) * (x - ax) >= 0 else -1.0

    def _merge(self, owner, first, second, offset=0.0):
        self.merges.append(Merge(first, second, offset, owner))

    def _ends(self, name, what):
        curve = self.sketch.curve(name)
        if curve.kind != "line":
            raise SketchError(f"{what} needs a line, not {article(curve.kind)}.")
        return curve.points

    def _round(self, name, what):
        if name not in self.radius_at:
            kind = "point" if name in self.point_at else self.sketch.curve(name).kind
            raise SketchError(f"{what} needs a circle or an arc, not {article(kind)}.")
        return self.sketch.curves[name].points[0], self.radius_at[name]


def _refuse(item, wanted):
    raise SketchError(f"{item.kind.capitalize()} goes with {wanted}; choose those and try again.")


def _pair_of_points(eq, item, wanted):
    if len(item.of) == 2 and all(name in eq.point_at for name in item.of):
        return item.of
    if len(item.of) == 1 and item.of[0] in eq.sketch.curves and eq.sketch.curves[item.of[0]].kind == "line":
        return eq.sketch.curves[item.of[0]].points
    return _refuse(item, wanted)


def _coincident(eq, name, item):
    if len(item.of) != 2 or not all(point in eq.point_at for point in item.of):
        _refuse(item, "two points")
    p, q = (eq.point_at[point] for point in item.of)
    eq._merge(name, p, q)
    eq._merge(name, p + 1, q + 1)


def _level(axis):
    def build(eq, name, item):
        p, q = _pair_of_points(eq, item, "a line or two points")
        eq._merge(name, eq.point_at[p] + axis, eq.point_at[q] + axis)

    return build


def _two_lines(eq, item):
    if len(item.of) != 2:
        _refuse(item, "two lines")
    return [eq._ends(line, item.kind.capitalize()) for line in item.of]


def _parallel(eq, name, item):
    eq._angle(name, *_two_lines(eq, item), (0.0, math.pi))


def _perpendicular(eq, name, item):
    eq._angle(name, *_two_lines(eq, item), (math.pi / 2, -math.pi / 2))


def _equal(eq, name, item):
    if len(item.of) != 2:
        _refuse(item, "two lines, two circles or arcs, or two ellipses")
    if all(curve in eq.radius_at for curve in item.of):
        eq._merge(name, eq.radius_at[item.of[0]], eq.radius_at[item.of[1]])
        return
    if all(eq.sketch.curve(curve).kind in OVAL for curve in item.of):
        for axis in (1, 2):
            _equal_lengths(eq, name, item.of, axis)
        return
    _equal_runs(eq, name, *_two_lines(eq, item))


def _equal_runs(eq, name, first, second):
    eq._row(name, rows.equal_runs, eq._places((*first, *second)))


def _equal_lengths(eq, name, ellipses, axis):
    """The same semi-axis, the first or the second, of two ellipses."""
    _equal_runs(
        eq,
        name,
        *((eq.sketch.curves[ellipse].points[0], eq.sketch.curves[ellipse].points[axis]) for ellipse in ellipses),
    )


def _concentric(eq, name, item):
    if len(item.of) != 2:
        _refuse(item, "two circles or arcs")
    p, q = (
        eq.point_at[
            eq.sketch.curves[curve].points[0]
            if eq.sketch.curve(curve).kind in OVAL
            else eq._round(curve, "Concentric")[0]
        ]
        for curve in item.of
    )
    eq._merge(name, p, q)
    eq._merge(name, p + 1, q + 1)


def _symmetric(eq, name, item):
    if len(item.of) == 3 and all(
        eq.sketch.curves.get(one) and eq.sketch.curves[one].kind in OVAL for one in item.of[:2]
    ):
        pairs = list(zip(*(eq.sketch.curves[one].points for one in item.of[:2])))
        for pair in pairs[:2]:
            _symmetric_points(eq, name, pair, item.of[2])
        _equal_lengths(eq, name, item.of[:2], 2)
        return
    if len(item.of) != 3 or item.of[0] not in eq.point_at or item.of[1] not in eq.point_at:
        _refuse(item, "two points, or two ellipses, and the line between them")
    _symmetric_points(eq, name, item.of[:2], item.of[2])


def _symmetric_points(eq, name, pair, axis):
    parameters = eq._places((*pair, *eq._ends(axis, "Symmetric")))
    eq._row(name, rows.middle_on_axis, parameters)
    eq._row(name, rows.across_axis, parameters)


def _fixed(eq, name, item):
    for reference in item.of:
        points = [reference] if reference in eq.point_at else eq.sketch.curve(reference).points
        for point in points:
            at = eq.point_at[point]
            eq._merge(name, at, ZERO, eq._plain[at])
            eq._merge(name, at + 1, ZERO, eq._plain[at + 1])
        if reference in eq.radius_at and eq.sketch.curves[reference].kind == "circle":
            eq._merge(name, eq.radius_at[reference], ZERO, eq._plain[eq.radius_at[reference]])


def _on_curve(eq, name, item):
    if len(item.of) != 2 or item.of[0] not in eq.point_at or item.of[1] not in eq.sketch.curves:
        _refuse(item, "a point and a curve")
    point, curve = item.of
    kind, points = eq.sketch.curves[curve].kind, eq.sketch.curves[curve].points
    if kind == "line":
        eq._point_line(name, points, point)
    elif kind in OVAL:
        eq._row(name, rows.on_ellipse, eq._places((*points[:3], point)))
    elif kind == "spline":
        _on_spline(eq, name, point, curve)
    else:
        center, radius = eq._round(curve, "On curve")
        eq._norm(name, center, point, (radius, 1))


def _on_spline(eq, name, point, curve):
    """A point on the piece of a spline that is nearest now."""
    points = eq.sketch.curves[curve].points
    if point in points[::3]:
        raise SketchError("The point is one of the spline's own, so that it lies on it already.")
    pieces, grid = eq.sketch.geometry(curve).pieces(), np.linspace(0, 1, NEARNESS)
    far = np.array([np.hypot(*(bezier(piece, grid) - eq.sketch.points[point]).T) for piece in pieces])
    piece, step = np.unravel_index(far.argmin(), far.shape)
    parameter = eq._own(float(grid[step]))
    control = points[3 * piece : 3 * piece + 4]
    for axis in (0, 1):
        at = (*(eq.point_at[one] + axis for one in control), parameter, eq.point_at[point] + axis)
        eq._row(name, rows.on_cubic, at)


def _midpoint(eq, name, item):
    if len(item.of) != 2 or item.of[0] not in eq.point_at:
        _refuse(item, "a point and a line")
    p, q = eq._ends(item.of[1], "Midpoint")
    for axis in (0, 1):
        at = (eq.point_at[item.of[0]] + axis, eq.point_at[p] + axis, eq.point_at[q] + axis, ZERO)
        eq._row(name, rows.linear, at, 1.0, -0.5, -0.5, 0.0, 0.0)


def _tangent(eq, name, item):
    """Two curves; where they share both ends, a point after them tells which end is meant."""
    if len(item.of) != 2 and not (len(item.of) == 3 and item.of[2] in eq.point_at):
        _refuse(item, "two curves, of which one is not a line")
    first, second = (eq.sketch.curve(curve) for curve in item.of[:2])
    kinds = {first.kind, second.kind}
    if kinds == {"line"}:
        _refuse(item, "two curves, of which one is not a line")
    shared = _shared_end(eq, first, second)
    if shared:
        meant = item.of[-1] if item.of[-1] in {*first.end_points()} & {*second.end_points()} else shared
        _tangent_at(eq, name, first, second, meant)
    elif "spline" in kinds:
        raise SketchError(
            "A spline can be tangent only at an end that it shares with the other curve; join their ends first."
        )
    elif kinds & set(OVAL):
        _tangent_to_ellipse(eq, name, item.of[:2])
    elif "line" in kinds:
        line, round_one = item.of[:2] if first.kind == "line" else item.of[1::-1]
        center, radius = eq._round(round_one, "Tangent")
        ends = eq.sketch.curves[line].points
        eq._point_line(name, ends, center, (radius, eq._side(ends, center)))
    else:
        _tangent_circles(eq, name, item.of[:2])


def _tangent_to_ellipse(eq, name, pair):
    """A line, circle or arc that touches an ellipse; two ellipses are refused."""
    oval, other = sorted(pair, key=lambda curve: eq.sketch.curves[curve].kind not in OVAL)
    points, kind = eq.sketch.curves[oval].points[:3], eq.sketch.curves[other].kind
    if kind in OVAL:
        raise SketchError("Tangent does not go with two ellipses; put a circle or an arc between them.")
    if kind == "line":
        ends = eq.sketch.curves[other].points
        eq._row(name, rows.line_ellipse, eq._places((*ends, *points)), eq._side(ends, points[0]))
        return
    center, radius = eq._round(other, "Tangent")
    (x, y), (px, py), (qx, qy) = (eq._place(point) for point in points)
    angles, (u, w) = np.linspace(0, 2 * math.pi, NEARNESS, endpoint=False), eq._place(center)
    far = np.hypot(
        x - u + np.cos(angles) * (px - x) + np.sin(angles) * (qx - x),
        y - w + np.cos(angles) * (py - y) + np.sin(angles) * (qy - y),
    )
    nearest_or_farthest = min((far.argmin(), far.argmax()), key=lambda index: abs(far[index] - eq._plain[radius]))
    parameter = eq._own(float(angles[nearest_or_farthest]))
    eq._row(name, rows.circle_ellipse_reach, (*eq._places(points), parameter, *eq._places((center,)), radius), 1.0, 0.0)
    eq._row(name, rows.circle_ellipse_square, (*eq._places(points), parameter, *eq._places((center,))))


def _tangent_circles(eq, name, pair):
    (center_a, radius_a), (center_b, radius_b) = (eq._round(curve, "Tangent") for curve in pair)
    a, b = eq._plain[radius_a], eq._plain[radius_b]
    apart = math.dist(eq._place(center_a), eq._place(center_b))
    if abs(apart - abs(a - b)) < abs(apart - (a + b)):
        sign = 1 if a >= b else -1
        eq._norm(name, center_a, center_b, (radius_a, sign), (radius_b, -sign))
    else:
        eq._norm(name, center_a, center_b, (radius_a, 1), (radius_b, 1))


def _shared_end(eq, first, second):
    """The end that two curves share, of two the smoother one; None without one."""
    shared = sorted(set(first.end_points()) & set(second.end_points()))
    return (shared[0] if len(shared) == 1 else _smoother_end(eq, first, second, shared)) if shared else None


def _smooth(eq, name, item):
    """The same direction and the same curvature where two curves meet, of which one is a spline."""
    wanted = "a spline and a line, arc or spline that it shares an end with"
    if len(item.of) != 2:
        _refuse(item, wanted)
    first, second = sorted((eq.sketch.curve(curve) for curve in item.of), key=lambda curve: curve.kind != "spline")
    shared = _shared_end(eq, first, second)
    if first.kind != "spline" or not shared or second.kind == "elliptical arc":
        _refuse(item, wanted)
    _tangent_at(eq, name, first, second, shared)
    near = _from_end(first, shared)
    if second.kind == "line":
        eq._point_line(name, near[:2], near[2])
    elif second.kind == "arc":
        radius = eq.radius_at[next(one for one in item.of if eq.sketch.curves[one] is second)]
        eq._row(name, rows.end_bend, (*eq._places(near), radius), eq._side(near[:2], second.points[0]))
    else:
        other = _from_end(second, shared)
        handles = [math.dist(eq._place(shared), eq._place(one[1])) for one in (near, other)]
        eq._row(name, rows.equal_bends, eq._places((*near, *other[1:])), 1.0, -1.0, max(sum(handles) / 2, 1e-6))


def _from_end(spline, end):
    """The first three control points of a spline from one of its ends."""
    return spline.points[:3] if spline.points[0] == end else spline.points[:-4:-1]


def _smoother_end(eq, first, second, shared):
    def kink(point):
        return abs(math.remainder(_heading(eq, second, point) - _heading(eq, first, point), math.pi))

    return min(shared, key=kink)


def _heading(eq, curve, point):
    """Angle of a curve's tangent at an end."""
    if curve.kind == "elliptical arc":
        x, y = _oval_way(eq, curve, point)
        return math.atan2(y, x)
    (a, b), offset = _way_at(eq, curve, point)
    return eq._direction(eq.point_at[a], eq.point_at[b]) + offset


def _oval_way(eq, curve, point):
    """Direction in which an elliptical arc goes on counter-clockwise at one of its points."""
    (x, y), (px, py), (qx, qy), (ex, ey) = (eq._place(one) for one in (*curve.points[:3], point))
    px, py, qx, qy, ex, ey = px - x, py - y, qx - x, qy - y, ex - x, ey - y
    u, w = (ex * px + ey * py) / (px * px + py * py), (ex * qx + ey * qy) / (qx * qx + qy * qy)
    return u * qx - w * px, u * qy - w * py


def _way_at(eq, curve, point):
    """Point pair whose direction gives the tangent at an end, and the angle between both."""
    if curve.kind == "line":
        return curve.points, 0.0
    if curve.kind == "arc":
        return (curve.points[0], point), math.pi / 2
    return ((point, curve.points[1]) if curve.points[0] == point else (point, curve.points[-2])), 0.0


def _tangent_at(eq, name, first, second, point):
    ovals = [curve for curve in (first, second) if curve.kind == "elliptical arc"]
    if len(ovals) == 2:
        raise SketchError("Tangent does not go with two elliptical arcs; put a circle or an arc between them.")
    if ovals:
        other, offset = _way_at(eq, second if ovals[0] is first else first, point)
        along = (1.0, 0.0) if offset == 0.0 else (0.0, 1.0)
        ends = (*ovals[0].points[:3], point, other[1] if other[0] == point else other[0])
        eq._row(name, rows.oval_end, eq._places(ends), *along)
        return
    (pair, offset), (other, other_offset) = _way_at(eq, first, point), _way_at(eq, second, point)
    turn = offset - other_offset
    eq._angle(name, pair, other, (turn, turn + math.pi))


def _offset(eq, name, item):
    if not item.of or len(item.of) % 2:
        _refuse(item, "pairs, each a curve and what it is at a distance from")
    for pair in item.parts:
        _distance(eq, name, attrs.evolve(item, of=pair))


def _distance(eq, name, item):
    value = item.value / eq.scale
    kinds = ["point" if reference in eq.point_at else eq.sketch.curve(reference).kind for reference in item.of]
    rank = {"line": 0, "circle": 1, "arc": 1, "point": 2}
    if kinds == ["line"]:
        eq._norm(name, *eq.sketch.curves[item.of[0]].points, distance=value)
        return
    if len(kinds) != 2 or any(kind not in rank for kind in kinds):
        _refuse(item, "two points, a line, a point and a curve, or two curves (lines, circles, arcs)")
    first, second = item.of if rank[kinds[0]] <= rank[kinds[1]] else item.of[::-1]
    if first in eq.point_at:
        eq._norm(name, first, second, distance=value)
    elif first in eq.radius_at:
        _distance_from_round(eq, name, first, second, value)
    else:
        ends = eq.sketch.curves[first].points
        radius = (eq.radius_at[second], 1.0) if second in eq.radius_at else (ZERO, 0.0)
        point = second if second in eq.point_at else eq.sketch.curves[second].points[0]
        side = eq._side(ends, point)
        eq._point_line(name, ends, point, (radius[0], side * radius[1]), side * value)


def _distance_from_round(eq, name, first, second, value):
    """Shortest distance from a circle or arc to a point or another one, outside or inside as they are now."""
    center, radius = eq._round(first, "Distance")
    if second in eq.point_at:
        apart = math.dist(eq._place(center), eq._place(second))
        if apart <= ONE_PLACE * eq._plain[radius]:
            eq._merge(name, radius, ZERO, value)
            return
        eq._norm(name, center, second, (radius, 1), distance=value if apart >= eq._plain[radius] else -value)
        return
    other, reach = eq._round(second, "Distance")
    apart, a, b = math.dist(eq._place(center), eq._place(other)), eq._plain[radius], eq._plain[reach]
    if apart <= ONE_PLACE * max(a, b):
        eq._merge(name, radius, reach, value if a >= b else -value)
    elif apart >= max(a, b):
        eq._norm(name, center, other, (radius, 1), (reach, 1), value)
    else:
        sign = 1 if a >= b else -1
        eq._norm(name, center, other, (radius, sign), (reach, -sign), -value)


def _along(axis):
    def build(eq, name, item):
        p, q = (eq.point_at[point] + axis for point in _pair_of_points(eq, item, "two points or a line"))
        sign = 1.0 if eq._plain[q] >= eq._plain[p] else -1.0
        eq._merge(name, q, p, sign * item.value / eq.scale)

    return build


def _radius(share):
    def build(eq, name, item):
        if len(item.of) == 2 and share == 0.5:
            _diameter_about(eq, name, item)
            return
        if len(item.of) != 1:
            _refuse(item, "one circle or arc")
        eq._merge(name, eq._round(item.of[0], item.kind.capitalize())[1], ZERO, item.value * share / eq.scale)

    return build


def _diameter_about(eq, name, item):
    """Twice the distance from the axis, the second, of a half profile's point or line."""
    axis = eq._ends(item.of[1], "The axis of a diameter")
    point = item.of[0] if item.of[0] in eq.point_at else eq._ends(item.of[0], "A diameter about an axis")[0]
    eq._point_line(name, axis, point, distance=eq._side(axis, point) * item.value / (2 * eq.scale))


def _arc_length(eq, name, item):
    if len(item.of) != 1 or eq.sketch.curve(item.of[0]).kind != "arc":
        _refuse(item, "one arc")
    at = (*eq._places(eq.sketch.curves[item.of[0]].points), eq.radius_at[item.of[0]])
    eq._row(name, rows.arc_length, at, eq.sketch.geometry(item.of[0]).sweep, item.value / eq.scale)


def _angle_between(eq, name, item):
    value = item.value
    eq._angle(name, *_two_lines(eq, item), (value, -value, math.pi - value, value - math.pi))


_BUILDERS = {
    "coincident": _coincident,
    "horizontal": _level(1),
    "vertical": _level(0),
    "parallel": _parallel,
    "perpendicular": _perpendicular,
    "tangent": _tangent,
    "equal": _equal,
    "concentric": _concentric,
    "symmetric": _symmetric,
    "fixed": _fixed,
    "on curve": _on_curve,
    "midpoint": _midpoint,
    "distance": _distance,
    "across": _along(0),
    "up": _along(1),
    "radius": _radius(1.0),
    "diameter": _radius(0.5),
    "angle": _angle_between,
    "arc length": _arc_length,
    "offset": _offset,
    "smooth": _smooth,
}
