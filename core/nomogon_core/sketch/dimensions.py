"""What a dimension reads: its value at the sketch's present places, and a name in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import length
from nomogon_core.sketch.model import Constraint

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

NAMES = {
    "distance": "Distance",
    "across": "Across",
    "up": "Up",
    "radius": "Radius",
    "diameter": "Diameter",
    "angle": "Angle",
    "arc length": "Arc length",
    "offset": "Offset",
}


def measure(sketch: Sketch, kind: str, of: tuple[str, ...]) -> float:
    """Present value of a dimension, millimetres or radians.

    Raises:
        SketchError: the kind does not go with what is chosen.
    """
    if kind == "diameter" and len(of) == 2:
        return 2 * _off_axis(sketch, *of)
    if kind == "offset":
        return _distance(sketch, of[:2])
    if kind == "arc length":
        if len(of) != 1 or of[0] not in sketch.curves or sketch.curves[of[0]].kind != "arc":
            raise SketchError("An arc length goes with one arc; choose one and try again.")
        return length(sketch.geometry(of[0]))
    if kind in ("radius", "diameter"):
        if len(of) != 1 or of[0] not in sketch.curves or sketch.curves[of[0]].kind not in ("arc", "circle"):
            raise SketchError(f"A {kind} goes with one circle or arc; choose one and try again.")
        return sketch.curves[of[0]].radius * (2 if kind == "diameter" else 1)
    if kind == "angle":
        if len(of) != 2 or any(name not in sketch.curves or sketch.curves[name].kind != "line" for name in of):
            raise SketchError("An angle goes with two lines; choose two and try again.")
        ways = [np.subtract(*(sketch.points[end] for end in sketch.curves[name].points[::-1])) for name in of]
        angle = math.atan2(ways[0][0] * ways[1][1] - ways[0][1] * ways[1][0], float(ways[0] @ ways[1]))
        return abs(angle) if abs(angle) <= math.pi / 2 else math.pi - abs(angle)
    if kind in ("across", "up"):
        (x0, y0), (x1, y1) = _two_places(sketch, of, kind)
        return abs(x1 - x0) if kind == "across" else abs(y1 - y0)
    return _distance(sketch, of)


def _distance(sketch, of):
    kinds = ["point" if name in sketch.points else sketch.curve(name).kind for name in of]
    if len(of) != 2 or kinds == ["point", "point"] or not set(kinds) <= {"point", "line", "circle", "arc"}:
        return math.dist(*_two_places(sketch, of, "distance"))
    if "line" in kinds:
        line = of[kinds.index("line")]
        other = of[1] if line == of[0] else of[0]
        radius = sketch.curves[other].radius if other in sketch.curves else 0.0
        return abs(_off_line(sketch, line, _middle(sketch, other)) - radius)
    apart = math.dist(*(_middle(sketch, name) for name in of))
    first, second = (sketch.curves[name].radius if name in sketch.curves else 0.0 for name in of)
    return abs(apart - first - second) if apart >= max(first, second) else abs(abs(first - second) - apart)


def _middle(sketch, name):
    """A point's place, the centre of a circle or arc, the start of a line."""
    return sketch.points[name if name in sketch.points else sketch.curves[name].points[0]]


def _off_line(sketch, line, place):
    """Distance of a place from the straight line through a line."""
    a, b = (np.array(sketch.points[end]) for end in sketch.curves[line].points)
    run = (b - a) / max(math.dist(a, b), 1e-12)
    return abs(float(run[0] * (place[1] - a[1]) - run[1] * (place[0] - a[0])))


def _off_axis(sketch, name, axis):
    """Distance of a half profile's point or line from its axis."""
    lines = [one for one in (name, axis) if one in sketch.curves]
    if axis not in lines or any(sketch.curves[one].kind != "line" for one in lines):
        raise SketchError("A diameter about an axis goes with a point or a line, and the axis; choose those again.")
    return _off_line(sketch, axis, _middle(sketch, name))


def _two_places(sketch, of, kind):
    if len(of) == 1 and of[0] in sketch.curves and sketch.curves[of[0]].kind == "line":
        of = sketch.curves[of[0]].points
    if len(of) != 2 or any(name not in sketch.points for name in of):
        raise SketchError(f"{NAMES[kind]} goes with two points or a line; choose those and try again.")
    return sketch.points[of[0]], sketch.points[of[1]]


def new_dimension(sketch: Sketch, kind: str, of: tuple[str, ...], **fields: Any) -> Constraint:
    """A dimension at its present value with a free name; lines shared with a point pair are told apart by number."""
    names = {item.name for item in sketch.constraints.values()}
    number = 1
    while f"{NAMES[kind]} {number}" in names:
        number += 1
    return Constraint(kind, of, value=measure(sketch, kind, of), name=f"{NAMES[kind]} {number}", **fields)


def traced_u95(sketch: Sketch, item: Constraint, picture_u95: float) -> float | None:
    """95 % uncertainty of a dimension on traced curves, in millimetres or radians; None when something drawn by hand is
    in it.

    Args:
        picture_u95: what the calibration of the picture alone makes of the dimension, in its unit; radii have that in
            their own already.
    """
    names = [name for name in item.of if name in sketch.curves]
    for point in (name for name in item.of if name in sketch.points):
        names += [name for name, curve in sketch.curves.items() if point in curve.points][:1]
    curves = [sketch.curves[name] for name in names]
    if not curves or any(curve.u95 is None for curve in curves):
        return None
    if item.kind == "angle":
        lengths = [math.dist(*(sketch.points[point] for point in curve.points[:2])) for curve in curves]
        return (
            angle_u95(lengths[0], curves[0].u95, lengths[-1], curves[-1].u95, picture_u95) if len(curves) == 2 else None
        )
    if item.kind in ("radius", "diameter") and len(item.of) == 1:
        return curves[0].u95 * (2 if item.kind == "diameter" else 1)
    own = [curve.u95 for curve in curves]
    if item.kind == "distance" and curves[0].kind == "line" and len(names) == 2:
        own[0] = _u95_at_foot(
            sketch,
            curves[0],
            curves[1].points[0] if names[1] in item.of else next(point for point in item.of if point in sketch.points),
        )
    return math.hypot(*own, picture_u95)


def _u95_at_foot(sketch, line, point):
    """95 % uncertainty of a fitted line where a point is square to it, which may be far beyond its ends: there its
    direction counts most.

    A line's own uncertainty is that at its ends, twice that of its middle (see :func:`angle_u95`).
    """
    start, end = (np.array(sketch.points[name]) for name in line.points)
    run = math.dist(start, end)
    along = float((np.array(sketch.points[point]) - (start + end) / 2) @ (end - start)) / max(run, 1e-12)
    return line.u95 / 2 * math.sqrt(1 + 12 * (along / max(run, 1e-12)) ** 2)


def angle_u95(
    first_length: float, first_u95: float, second_length: float, second_u95: float, picture_u95: float
) -> float:
    """95 % uncertainty in radians of the angle between two fitted lines.

    A line through evenly spread points is as unsure in direction as √12 times its middle across, over its length
    (Chernov 2010); a line's own
    uncertainty of place is taken as twice that of its middle.

    Args:
        picture_u95: of an angle in the picture, from its calibration.
    """
    return math.hypot(
        *(
            math.sqrt(3) * u95 / max(length, 1e-9)
            for length, u95 in ((first_length, first_u95), (second_length, second_u95))
        ),
        picture_u95,
    )


def refreshed(sketch: Sketch) -> Sketch:
    """The sketch with every reference dimension read anew; itself where it has none."""
    read = {
        name: attrs.evolve(item, value=measure(sketch, item.kind, item.of))
        for name, item in sketch.constraints.items()
        if item.is_dimension and not item.driving
    }
    return sketch.with_constraints(read) if read else sketch


def listed(words: Sequence[str]) -> str:
    """``a``, ``a and b``, ``a, b and c``."""
    return f"{', '.join(words[:-1])} and {words[-1]}" if len(words) > 1 else "".join(words)


def in_words(sketch: Sketch, name: str) -> str:
    """A constraint as people would say it, for messages."""
    item = sketch.constraints[name]
    if item.is_dimension:
        value = f"{math.degrees(item.value):.1f}°" if item.kind == "angle" else f"{item.value:.2f} mm"
        return f"{item.name} ({value})"
    parts = [sketch.curves[ref].kind + " " + ref[1:] if ref in sketch.curves else "point " + ref[1:] for ref in item.of]
    return f"{item.kind} ({' and '.join(parts)})"
