"""The sketch as data: points, curves, constraints; immutable, changed by copy, stored as JSON.

An arc, of a circle or an ellipse, always runs counter-clockwise from its start to its end. Curves that meet share the
point itself.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import attrs
import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import Arc, Circle, Ellipse, EllipticArc, Line, Spline
from nomogon_core.tuples import as_tuple

POINT_COUNT = {"line": 2, "arc": 3, "circle": 1, "ellipse": 3, "elliptical arc": 5}
OVAL = ("ellipse", "elliptical arc")
ROUND = ("circle", "arc", *OVAL)
CLOSED = ("circle", "ellipse")
CONSTRAINTS = (
    "coincident",
    "horizontal",
    "vertical",
    "parallel",
    "perpendicular",
    "tangent",
    "smooth",
    "equal",
    "concentric",
    "symmetric",
    "fixed",
    "on curve",
    "midpoint",
)
DIMENSIONS = ("distance", "across", "up", "radius", "diameter", "angle", "arc length", "offset")


def article(kind: str) -> str:
    """A kind of entity with its article."""
    return f"{'an' if kind[0] in 'aeiou' else 'a'} {kind}"


@attrs.frozen
class Curve:
    """A curve of the sketch.

    Attributes:
        kind: line, arc, circle, ellipse, elliptical arc or spline.
        points: ids; line: start, end; arc: centre, start, end; circle: centre; ellipse: centre and an end of each axis,
            the second to the left of the first; elliptical arc: these, then start and end; spline: 3k+1 control points.
        radius: of a circle or arc, else 0.
        construction: helps to place others but bounds no region.
        u95: 95 % uncertainty of its size and place when traced, else None.
        origin: what it came from ("drawn", or the id of a trace).
    """

    kind: str
    points: tuple = attrs.field(converter=as_tuple)
    radius: float = 0.0
    construction: bool = False
    u95: float | None = None
    origin: str = "drawn"

    def end_points(self) -> tuple[str, ...]:
        """Ids of both ends, or () for a circle or ellipse."""
        if self.kind in CLOSED:
            return ()
        if self.kind in ("arc", "elliptical arc"):
            return self.points[-2], self.points[-1]
        return self.points[0], self.points[-1]


def with_radius(curve: Curve, radius: float) -> Curve:
    """A curve with another radius; several times as fast as ``attrs.evolve``, for drags of many."""
    return Curve(curve.kind, curve.points, radius, curve.construction, curve.u95, curve.origin)


@attrs.frozen
class Constraint:
    """A constraint or dimension.

    Attributes:
        kind: one of CONSTRAINTS or DIMENSIONS.
        of: ids of points and curves, in the order that the kind asks for; of an offset one or more pairs, each a curve
            and what it is at a distance from.
        value: millimetres or radians of a dimension, else None.
        typed: the value as the user typed it, "" when it was measured.
        name: of a dimension, as in the Ledger.
        driving: False for a reference dimension, which only reads.
        source: "set", "traced", "gauge".
        u95: 95 % uncertainty of a traced value.
        against: ids of others that it contradicts: it is kept, but not met, until one of these goes.
    """

    kind: str
    of: tuple = attrs.field(converter=as_tuple)
    value: float | None = None
    typed: str = ""
    name: str = ""
    driving: bool = True
    source: str = "set"
    u95: float | None = None
    against: tuple = attrs.field(default=(), converter=as_tuple)

    @property
    def is_dimension(self) -> bool:
        return self.kind in DIMENSIONS

    @property
    def parts(self) -> list[tuple]:
        """What it is said of one by one: the pairs of an offset, else all of it."""
        return list(zip(self.of[::2], self.of[1::2])) if self.kind == "offset" else [self.of]


CURVE_FIELDS = tuple(field.name for field in attrs.fields(Curve))
CONSTRAINT_FIELDS = tuple(field.name for field in attrs.fields(Constraint))


# Functions of a sketch that look at its curves alone.
OF_CURVES: set[Callable] = set()


@attrs.frozen
class Sketch:
    """Points by id, curves by id, constraints by id, and the next number for ids."""

    points: dict = attrs.field(factory=dict)
    curves: dict = attrs.field(factory=dict)
    constraints: dict = attrs.field(factory=dict)
    next_number: int = 1
    _geometries: dict = attrs.field(factory=dict, init=False, eq=False, repr=False)
    _derived: dict = attrs.field(factory=dict, init=False, eq=False, repr=False)
    _earlier: dict = attrs.field(factory=dict, init=False, eq=False, repr=False)

    def numbered(self, next_number: int) -> Sketch:
        """This sketch with another next number; what was worked out of it stays known."""
        if next_number == self.next_number:
            return self
        same = attrs.evolve(self, next_number=next_number)
        object.__setattr__(same, "_geometries", self._geometries)
        object.__setattr__(same, "_derived", self._derived)
        object.__setattr__(same, "_earlier", self._earlier)
        return same

    def derived(self, work: Callable[[Sketch], Any]) -> Any:
        """What a function makes of this sketch, worked out once."""
        if work not in self._derived:
            self._derived[work] = work(self)
        return self._derived[work]

    def keep(self, work: Callable[..., Any], result: Any) -> None:
        """What a function would make of this sketch, known from elsewhere."""
        self._derived[work] = result

    def give_up(self, work: Callable[..., Any]) -> Any:
        """What was kept of a function, which is then no longer; None where nothing was."""
        return self._derived.pop(work, None)

    def with_constraints(self, changed: dict[str, Constraint]) -> Sketch:
        """This sketch with some constraints new or changed; its curves stay drawn."""
        same = attrs.evolve(self, constraints={**self.constraints, **changed})
        object.__setattr__(same, "_geometries", self._geometries)
        same._earlier.update(self.drawn())
        return same

    def drawn(self) -> dict[Callable, Any]:
        """What was worked out of the curves alone, of this sketch or of the one that it came from."""
        return self._earlier | {work: told for work, told in self._derived.items() if work in OF_CURVES}

    def earlier(self, work: Callable[[Sketch], Any]) -> Any:
        """What a function of the curves made of the sketch that this one came from; None where that is not known."""
        return self._earlier.get(work)

    def drawn_like(self, other: Sketch) -> Sketch:
        """This sketch, with the geometry of another one's curves where these are the same in the same places."""
        for name, geometry in other._geometries.items():
            curve = self.curves.get(name)
            if curve is other.curves[name] and all(self.points[point] is other.points[point] for point in curve.points):
                self._geometries[name] = geometry
        self._earlier.update(other.drawn())
        return self

    def curve(self, name: str) -> Curve:
        try:
            return self.curves[name]
        except KeyError:
            raise SketchError(f"There is no curve {name} in the sketch any more; choose it again.") from None

    def geometry(self, name: str) -> Any:
        """The plane curve of an entity."""
        found = self._geometries.get(name)
        if found is None:
            found = self._geometries[name] = self._geometry(self.curve(name))
        return found

    def _geometry(self, curve):
        places = [self.points[point] for point in curve.points]
        if curve.kind == "line":
            return Line(*places)
        if curve.kind == "circle":
            return Circle(places[0], curve.radius)
        if curve.kind == "spline":
            return Spline(places)
        if curve.kind in OVAL:
            center, first, second, *on_it = places
            whole = Ellipse(
                center,
                (math.dist(center, first), math.dist(center, second)),
                math.atan2(first[1] - center[1], first[0] - center[0]),
            )
            if not on_it:
                return whole
            begin, finish = map(whole.eccentric, on_it)
            return EllipticArc(whole, begin, (finish - begin) % (2 * math.pi) or 2 * math.pi)
        center, start, end = places
        first = math.atan2(start[1] - center[1], start[0] - center[0])
        last = math.atan2(end[1] - center[1], end[0] - center[0])
        sweep = (last - first) % (2 * math.pi) or 2 * math.pi
        return Arc(center, curve.radius, first, sweep)

    def size(self) -> float:
        """Longer side of the box around all points, circles and ellipses; 1 when empty."""
        if not self.points:
            return 1.0
        round_ones = [curve for curve in self.curves.values() if curve.kind in CLOSED]
        centers = np.array([self.points[curve.points[0]] for curve in round_ones]).reshape(-1, 2)
        reach = np.array([self._reach(curve) for curve in round_ones])[:, None]
        places = np.vstack([list(self.points.values()), centers - reach, centers + reach])
        return max(float(np.ptp(places, axis=0).max()), 1e-6)

    def _reach(self, curve):
        """Radius of a circle, longer semi-axis of an ellipse."""
        center, *ends = (self.points[point] for point in curve.points)
        return curve.radius if curve.kind == "circle" else max(math.dist(center, end) for end in ends)


def to_json(sketch: Sketch, like: tuple[Sketch, dict[str, Any]] | None = None) -> dict[str, Any]:
    """Plain data of a sketch; the inverse of :func:`from_json`.

    Args:
        like: another sketch with its plain data; what both hold as the same object is told by the same plain data, so
            that comparing is quick.
    """
    ways = {
        "points": list,
        "curves": lambda curve: _plain(curve, CURVE_FIELDS),
        "constraints": lambda item: _plain(item, CONSTRAINT_FIELDS),
    }
    told: dict[str, Any] = {"next_number": sketch.next_number}
    for part, plain in ways.items():
        own = getattr(sketch, part)
        before, known = (getattr(like[0], part), like[1][part]) if like else ({}, {})
        told[part] = {
            name: known[name] if item is before.get(name) and name in known else plain(item)
            for name, item in own.items()
        }
    return told


def _plain(item, fields):
    """The fields of a curve or constraint as a dict; several times as fast as ``attrs.asdict``."""
    values = [getattr(item, name) for name in fields]
    return {name: list(value) if type(value) is tuple else value for name, value in zip(fields, values)}


def from_json(data: dict[str, Any]) -> Sketch:
    """A sketch from plain data.

    Raises:
        SketchError: the data does not describe a sketch.
    """
    try:
        points = {str(name): (float(x), float(y)) for name, (x, y) in data.get("points", {}).items()}
        curves = {str(name): Curve(**fields) for name, fields in data.get("curves", {}).items()}
        constraints = {str(name): Constraint(**fields) for name, fields in data.get("constraints", {}).items()}
        sketch = Sketch(points, curves, constraints, int(data.get("next_number", 1)))
    except (TypeError, ValueError, AttributeError) as problem:
        raise SketchError(f"The sketch data cannot be read: {problem}") from None
    for name, curve in sketch.curves.items():
        if curve.kind != "spline" and curve.kind not in POINT_COUNT:
            raise SketchError(f"The sketch data cannot be read: there is no kind of curve {curve.kind!r} ({name}).")
        if curve.kind in ("arc", "circle") and not curve.radius > 0:
            raise SketchError(f"The sketch data cannot be read: {curve.kind} {name} has no radius.")
        missing = [point for point in curve.points if point not in points]
        wanted = POINT_COUNT.get(curve.kind)
        if (
            missing
            or (wanted and len(curve.points) != wanted)
            or (curve.kind == "spline" and len(curve.points) % 3 != 1)
        ):
            raise SketchError(
                f"The sketch data cannot be read: {curve.kind} {name} has points {', '.join(curve.points)}, which do "
                "not fit."
            )
    for name, item in sketch.constraints.items():
        if item.kind not in CONSTRAINTS and not item.is_dimension:
            raise SketchError(f"The sketch data cannot be read: there is no constraint {item.kind!r} ({name}).")
        if not all(one in points or one in curves for one in item.of) or (item.is_dimension and item.value is None):
            raise SketchError(
                f"The sketch data cannot be read: {item.kind} {name} has no value, or ties what is not there."
            )
    return sketch
