"""Constraints as equations: which rows and merges each one gives, on parameters centred and scaled to size 1.

The kinds of rows are those of :mod:`nomogon_core.sketch.rows`. Linear ones with two unit coefficients or fewer are not
rows at all: they merge parameters.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.sketch.model import article

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Constraint, Sketch

ZERO = 0


@attrs.frozen
class Row:
    """One equation: kind, parameter indices, constants, and the constraint that it comes from."""

    kind: str
    parameters: tuple
    constants: tuple
    owner: str


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
        values: all parameters; the first is the constant zero, then x, y of each point, then radii.
        scale, center: model = value * scale + center.
    """

    def __init__(self, sketch: Sketch, *, only: Any = None) -> None:
        self.sketch = sketch
        self.scale = sketch.size()
        places = np.array(list(sketch.points.values())).reshape(-1, 2)
        self.center = (places.min(axis=0) + places.max(axis=0)) / 2 if len(places) else np.zeros(2)
        self.point_at = {name: 1 + 2 * index for index, name in enumerate(sketch.points)}
        radii = {name: curve.radius for name, curve in sketch.curves.items() if curve.kind in ("arc", "circle")}
        self.radius_at = {name: 1 + places.size + index for index, name in enumerate(radii)}
        values = [
            np.zeros(1),
            ((places - self.center) / self.scale).ravel(),
            np.array(list(radii.values())) / self.scale,
        ]
        self.values = np.concatenate(values)
        self._plain = self.values.tolist()
        self.rows, self.merges = [], []
        for name, curve in sketch.curves.items():
            if curve.kind == "arc":
                for end in curve.points[1:]:
                    self._norm(f"arc {name}", curve.points[0], end, (self.radius_at[name], 1))
            elif curve.kind == "ellipse":
                center, first, second = curve.points
                self._angle(f"ellipse {name}", (center, first), (center, second), (math.pi / 2, -math.pi / 2))
        for name, item in sketch.constraints.items():
            if item.driving and (only is None or name in only):
                self.add(name, item)

    def add(self, name: str, item: Constraint) -> None:
        """Equations of one constraint.

        Raises:
            SketchError: the constraint does not go with what it is put on.
        """
        _BUILDERS[item.kind](self, name, item)

    # --- building blocks

    def _place(self, point):
        at = self.point_at[point]
        return self.values[at : at + 2]

    def _norm(self, owner, start, end, first=(ZERO, 0), second=(ZERO, 0), distance=0.0):
        p, q = self.point_at[start], self.point_at[end]
        self.rows.append(Row("N", (p, p + 1, q, q + 1, first[0], second[0]), (first[1], second[1], distance), owner))

    def _angle(self, owner, first, second, angles):
        """Angle between two point pairs; the nearest of the given angles is kept."""
        a, b, c, d = (self.point_at[point] for point in (*first, *second))
        now = self._direction(c, d) - self._direction(a, b)
        theta = min(angles, key=lambda angle: abs(math.remainder(now - angle, 2 * math.pi)))
        self.rows.append(Row("A", (a, a + 1, b, b + 1, c, c + 1, d, d + 1), (theta,), owner))

    def _direction(self, start, end):
        """Angle of the run between two points, given by where they stand among the parameters."""
        return math.atan2(self._plain[end + 1] - self._plain[start + 1], self._plain[end] - self._plain[start])

    def _point_line(self, owner, line, point, radius=(ZERO, 0), distance=0.0):
        at = [self.point_at[name] for name in (*line, point)]
        self.rows.append(
            Row("P", (*(value for p in at for value in (p, p + 1)), radius[0]), (radius[1], distance), owner)
        )

    def _side(self, line, point):
        a, b, p = (self._place(name) for name in (*line, point))
        return 1.0 if (b[0] - a[0]) * (p[1] - a[1]) - (b[1] - a[1]) * (p[0] - a[0]) >= 0 else -1.0

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
    if all(eq.sketch.curve(curve).kind == "ellipse" for curve in item.of):
        for axis in (1, 2):
            _equal_lengths(eq, name, item.of, axis)
        return
    _equal_runs(eq, name, *_two_lines(eq, item))


def _equal_runs(eq, name, first, second):
    at = [eq.point_at[point] for point in (*first, *second)]
    eq.rows.append(Row("E", tuple(value for p in at for value in (p, p + 1)), (), name))


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
            if eq.sketch.curve(curve).kind == "ellipse"
            else eq._round(curve, "Concentric")[0]
        ]
        for curve in item.of
    )
    eq._merge(name, p, q)
    eq._merge(name, p + 1, q + 1)


def _symmetric(eq, name, item):
    if len(item.of) == 3 and all(
        eq.sketch.curves.get(one) and eq.sketch.curves[one].kind == "ellipse" for one in item.of[:2]
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
    at = [eq.point_at[point] for point in (*pair, *eq._ends(axis, "Symmetric"))]
    parameters = tuple(value for p in at for value in (p, p + 1))
    eq.rows += [Row("S1", parameters, (), name), Row("S2", parameters, (), name)]


def _fixed(eq, name, item):
    for reference in item.of:
        points = [reference] if reference in eq.point_at else eq.sketch.curve(reference).points
        for point in points:
            at = eq.point_at[point]
            eq._merge(name, at, ZERO, float(eq.values[at]))
            eq._merge(name, at + 1, ZERO, float(eq.values[at + 1]))
        if reference in eq.radius_at and eq.sketch.curves[reference].kind == "circle":
            eq._merge(name, eq.radius_at[reference], ZERO, float(eq.values[eq.radius_at[reference]]))


def _on_curve(eq, name, item):
    if len(item.of) != 2 or item.of[0] not in eq.point_at:
        _refuse(item, "a point and a line, circle, arc or ellipse")
    point, curve = item.of
    if eq.sketch.curve(curve).kind == "line":
        eq._point_line(name, eq.sketch.curves[curve].points, point)
    elif eq.sketch.curves[curve].kind == "ellipse":
        at = [eq.point_at[one] for one in (*eq.sketch.curves[curve].points, point)]
        eq.rows.append(Row("O", tuple(value for p in at for value in (p, p + 1)), (), name))
    else:
        center, radius = eq._round(curve, "On curve")
        eq._norm(name, center, point, (radius, 1))


def _midpoint(eq, name, item):
    if len(item.of) != 2 or item.of[0] not in eq.point_at:
        _refuse(item, "a point and a line")
    p, q = eq._ends(item.of[1], "Midpoint")
    for axis in (0, 1):
        eq.rows.append(
            Row(
                "L",
                (eq.point_at[item.of[0]] + axis, eq.point_at[p] + axis, eq.point_at[q] + axis),
                ((1.0, -0.5, -0.5), 0.0),
                name,
            )
        )


def _tangent(eq, name, item):
    if len(item.of) != 2:
        _refuse(item, "two curves, of which one is not a line")
    first, second = (eq.sketch.curve(curve) for curve in item.of)
    if {first.kind, second.kind} == {"line"}:
        _refuse(item, "two curves, of which one is not a line")
    shared = set(first.end_points()) & set(second.end_points())
    if shared:
        point = sorted(shared)[0] if len(shared) == 1 else _smoother_end(eq, first, second, sorted(shared))
        _tangent_at(eq, name, first, second, point)
    elif "spline" in (first.kind, second.kind):
        raise SketchError(
            "A spline can be tangent only at an end that it shares with the other curve; join their ends first."
        )
    elif "line" in (first.kind, second.kind):
        line, round_one = item.of if first.kind == "line" else item.of[::-1]
        center, radius = eq._round(round_one, "Tangent")
        ends = eq.sketch.curves[line].points
        eq._point_line(name, ends, center, (radius, eq._side(ends, center)))
    else:
        _tangent_circles(eq, name, item.of)


def _tangent_circles(eq, name, pair):
    (center_a, radius_a), (center_b, radius_b) = (eq._round(curve, "Tangent") for curve in pair)
    a, b = eq.values[radius_a], eq.values[radius_b]
    apart = float(np.hypot(*(eq._place(center_a) - eq._place(center_b))))
    if abs(apart - abs(a - b)) < abs(apart - (a + b)):
        sign = 1 if a >= b else -1
        eq._norm(name, center_a, center_b, (radius_a, sign), (radius_b, -sign))
    else:
        eq._norm(name, center_a, center_b, (radius_a, 1), (radius_b, 1))


def _smoother_end(eq, first, second, shared):
    def kink(point):
        (a, b), offset = _way_at(eq, first, point)
        (c, d), other = _way_at(eq, second, point)
        run, way = eq._place(b) - eq._place(a), eq._place(d) - eq._place(c)
        angle = math.atan2(way[1], way[0]) - math.atan2(run[1], run[0]) + offset - other
        return abs(math.remainder(angle, math.pi))

    return min(shared, key=kink)


def _way_at(eq, curve, point):
    """Point pair whose direction gives the tangent at an end, and the angle between both."""
    if curve.kind == "line":
        return curve.points, 0.0
    if curve.kind == "arc":
        return (curve.points[0], point), math.pi / 2
    return ((point, curve.points[1]) if curve.points[0] == point else (point, curve.points[-2])), 0.0


def _tangent_at(eq, name, first, second, point):
    (pair, offset), (other, other_offset) = _way_at(eq, first, point), _way_at(eq, second, point)
    turn = offset - other_offset
    eq._angle(name, pair, other, (turn, turn + math.pi))


def _distance(eq, name, item):
    value = item.value / eq.scale
    kinds = tuple("point" if reference in eq.point_at else eq.sketch.curve(reference).kind for reference in item.of)
    if kinds == ("point", "point"):
        eq._norm(name, *item.of, distance=value)
    elif kinds == ("line",):
        eq._norm(name, *eq.sketch.curves[item.of[0]].points, distance=value)
    elif kinds in (("point", "line"), ("line", "point")):
        point, line = item.of if kinds[0] == "point" else item.of[::-1]
        ends = eq.sketch.curves[line].points
        eq._point_line(name, ends, point, distance=value * eq._side(ends, point))
    elif kinds == ("line", "line"):
        ends, point = eq.sketch.curves[item.of[0]].points, eq.sketch.curves[item.of[1]].points[0]
        eq._point_line(name, ends, point, distance=value * eq._side(ends, point))
    else:
        _refuse(item, "two points, a line, a point and a line, or two parallel lines")


def _along(axis):
    def build(eq, name, item):
        p, q = (eq.point_at[point] + axis for point in _pair_of_points(eq, item, "two points or a line"))
        sign = 1.0 if eq.values[q] >= eq.values[p] else -1.0
        eq._merge(name, q, p, sign * item.value / eq.scale)

    return build


def _radius(share):
    def build(eq, name, item):
        if len(item.of) != 1:
            _refuse(item, "one circle or arc")
        eq._merge(name, eq._round(item.of[0], item.kind.capitalize())[1], ZERO, item.value * share / eq.scale)

    return build


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
}
