"""Curves moved, turned, scaled, mirrored and copied; what is tied to them stays tied as far as it still can be."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import attrs
import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.sketch import edit
from nomogon_core.sketch.dimensions import in_words, refreshed
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.model import Constraint
from nomogon_core.sketch.solve import solve
from nomogon_core.sketch.system import System

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

SAME_PLACE_MM = 1e-5
HOLDS = 1e-8
LENGTHS = ("distance", "across", "up", "radius", "diameter", "arc length", "offset")


@attrs.frozen
class Apart:
    """What an edit takes into a sketch of its own.

    Attributes:
        sketch: its curves, where they were; title: what it is called; at: the place that is its origin.
    """

    sketch: Sketch = attrs.field(repr=False)
    title: str
    at: tuple[float, float]


@attrs.frozen
class Edited:
    """A sketch after an edit.

    Attributes:
        sketch: as it is now; told: what was done, for the history.
        lost: in words, the constraints that went.
        apart: what went into a sketch of its own, or None.
    """

    sketch: Sketch = attrs.field(repr=False)
    told: str
    lost: tuple = ()
    apart: Apart | None = None


@attrs.frozen
class Placing:
    """A similarity of the plane: place -> matrix @ place + offset.

    Attributes:
        matrix: (2, 2), scale times a turn, or a mirror image of it.
    """

    matrix: np.ndarray
    offset: np.ndarray

    @property
    def scale(self) -> float:
        return math.sqrt(abs(float(np.linalg.det(self.matrix))))

    @property
    def mirrors(self) -> bool:
        return float(np.linalg.det(self.matrix)) < 0

    def of(self, place: tuple[float, float]) -> tuple[float, float]:
        """Where a place goes."""
        x, y = self.matrix @ np.asarray(place) + self.offset
        return float(x), float(y)


def shifted(by: tuple[float, float]) -> Placing:
    """A move."""
    return Placing(np.eye(2), np.asarray(by, float))


def turned(center: tuple[float, float], angle: float, scale: float = 1.0) -> Placing:
    """A turn by radians about a place, and a scaling about it."""
    cos, sin = math.cos(angle), math.sin(angle)
    matrix = scale * np.array([[cos, -sin], [sin, cos]])
    return Placing(matrix, np.asarray(center) - matrix @ np.asarray(center))


def mirrored(start: tuple[float, float], end: tuple[float, float]) -> Placing:
    """The mirror image in a line.

    Raises:
        SketchError: the line has no length.
    """
    run = np.subtract(end, start)
    if math.hypot(*run) < SAME_PLACE_MM:
        raise SketchError("The line to mirror in has no length; choose another.")
    x, y = run / math.hypot(*run)
    matrix = np.array([[x * x - y * y, 2 * x * y], [2 * x * y, y * y - x * x]])
    return Placing(matrix, np.asarray(start) - matrix @ np.asarray(start))


def points_of(sketch: Sketch, names: list[str]) -> list[str]:
    """Ids of the points of some curves, and of those named themselves, in order.

    Raises:
        SketchError: something of that name is not in the sketch.
    """
    found: dict[str, None] = {}
    for name in names:
        found.update(dict.fromkeys([name] if name in sketch.points else sketch.curve(name).points))
    return list(found)


def _curve_at(sketch, name, placing, points):
    """A curve as it is after a placing, on given points."""
    curve = sketch.curves[name]
    places = [points.get(point, point) for point in curve.points]
    if curve.kind in ("arc", "elliptical arc") and placing.mirrors:
        places[-2:] = places[:-3:-1]
    return attrs.evolve(curve, points=places, radius=curve.radius * placing.scale)


def move(sketch: Sketch, names: list[str], placing: Placing) -> Edited:
    """Curves and points placed otherwise; what hangs on them follows, and what then contradicts goes.

    Raises:
        SketchError: something of that name is not in the sketch.
    """
    moving = points_of(sketch, names)
    curves = dict(sketch.curves)
    for name in names:
        if name in curves:
            curves[name] = _curve_at(sketch, name, placing, {})
    points = sketch.points | {point: placing.of(sketch.points[point]) for point in moving}
    inside = set(moving) | set(names)
    constraints = {
        key: _scaled(item, placing.scale) if set(item.of) <= inside else item
        for key, item in sketch.constraints.items()
    }
    placed = attrs.evolve(sketch, points=points, curves=curves, constraints=constraints)
    held = placed
    for point in moving:
        held, _ = edit.add_constraint(held, Constraint("fixed", (point,)))
    followed = solve(held)
    if followed.solved:
        kept = attrs.evolve(followed.sketch, constraints=constraints, next_number=sketch.next_number)
        return Edited(refreshed(kept), "")
    left, lost = without_what_fails(placed, set(constraints))
    return Edited(refreshed(left), "", lost)


def _scaled(item, scale):
    if item.kind not in LENGTHS or not item.driving or scale == 1.0:
        return item
    return attrs.evolve(item, value=item.value * scale, typed="", source="set", u95=None)


def without_what_fails(sketch: Sketch, suspects: set[str]) -> tuple[Sketch, tuple]:
    """The sketch without those of some constraints that do not hold in it as it lies, and these in words."""
    system = System(Equations(sketch), merge=False)
    residual, _ = system.evaluate(system.start())
    failing = {system.owners[row] for row in np.flatnonzero(np.abs(residual) > HOLDS)} & suspects
    kept = {key: item for key, item in sketch.constraints.items() if key not in failing}
    lost = tuple(in_words(sketch, key) for key in sketch.constraints if key in failing)
    return attrs.evolve(sketch, constraints=kept), lost


def copy(sketch: Sketch, names: list[str], placing: Placing) -> tuple[Sketch, dict[str, str]]:
    """A copy of curves and points; constraints among them are copied where they hold, and sizes are tied to those of
    the first where these are the same.

    Returns:
        the sketch, and what each point and curve became; a point that lands on itself or on another end is shared.
    """
    became: dict[str, str] = {}
    ends = {point for curve in sketch.curves.values() for point in curve.end_points()}
    loose = [point for point in sketch.points if point in ends]
    places = np.array([sketch.points[point] for point in loose]).reshape(-1, 2)
    for point in points_of(sketch, names):
        there = placing.of(sketch.points[point])
        if point in ends and len(loose):
            away = np.hypot(*(places - there).T)
            if away.min() < SAME_PLACE_MM:
                became[point] = loose[int(away.argmin())]
                continue
        sketch, became[point] = edit.add_point(sketch, there)
    for name in names:
        if name in sketch.curves:
            made = _curve_at(sketch, name, placing, became)
            number = sketch.next_number
            became[name] = f"c{number}"
            sketch = attrs.evolve(sketch, curves={**sketch.curves, f"c{number}": made}, next_number=number + 1)
    return _tied_like(sketch, became, placing), became


def _tied_like(sketch, became, placing):
    """The copy's own constraints: those of the first that hold, and sizes equal to its sizes."""
    before, wanted = set(sketch.constraints), []
    for item in sketch.constraints.values():
        of = tuple(became.get(one, "") for one in item.of)
        if not all(of) or item.kind == "fixed" or of == item.of:
            continue
        if not item.is_dimension:
            wanted.append(Constraint(item.kind, of, source=item.source))
        elif item.driving and item.kind == "distance" and _is_line(sketch, item.of):
            wanted.append(Constraint("equal", (item.of[0], of[0])))
    if abs(placing.scale - 1.0) < 1e-12:
        round_ones = (
            name for name in became if name in sketch.curves and sketch.curves[name].kind in ("circle", "arc")
        )
        wanted += [Constraint("equal", (name, became[name])) for name in round_ones]
    for constraint in wanted:
        sketch, _ = edit.add_constraint(sketch, constraint)
    return without_what_fails(sketch, set(sketch.constraints) - before)[0]


def _is_line(sketch, of):
    return len(of) == 1 and of[0] in sketch.curves and sketch.curves[of[0]].kind == "line"
