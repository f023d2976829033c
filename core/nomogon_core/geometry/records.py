"""Plane curves as plain data, and back: the one form in which curves are stored and reported."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from nomogon_core.geometry.curves import Arc, Circle, Ellipse, Line, Spline, ends


def primitive_record(curve: Any, u95_mm: float | None) -> dict[str, Any]:
    """Plain data of a curve for reports: kind, points, center, radius, u95_mm; points of an ellipse are an end of each
    axis."""
    record: dict[str, Any] = {
        "kind": type(curve).__name__.lower(),
        "points": [],
        "center": None,
        "radius": None,
        "u95_mm": u95_mm,
    }
    if isinstance(curve, Spline):
        record["points"] = [list(point) for point in curve.points]
    elif isinstance(curve, (Line, Arc)):
        record["points"] = [list(point) for point in ends(curve)]
    if isinstance(curve, Ellipse):
        record |= {"center": list(curve.center), "points": curve.at([0.0, math.pi / 2]).tolist()}
    if isinstance(curve, (Arc, Circle)):
        record |= {"center": list(curve.center), "radius": curve.radius}
    if isinstance(curve, Arc):
        angle = curve.start_angle + curve.sweep / 2
        middle = [curve.center[0] + curve.radius * math.cos(angle), curve.center[1] + curve.radius * math.sin(angle)]
        record["points"].insert(1, middle)
    return record


def curve_of_record(record: dict[str, Any]) -> Any:
    """The curve of a record; the inverse of :func:`primitive_record`."""
    points = record["points"]
    if record["kind"] == "line":
        return Line(*points)
    if record["kind"] == "circle":
        return Circle(record["center"], record["radius"])
    if record["kind"] == "spline":
        return Spline(points)
    if record["kind"] == "ellipse":
        center, (first, second) = record["center"], points
        return Ellipse(
            center,
            (math.dist(center, first), math.dist(center, second)),
            math.atan2(first[1] - center[1], first[0] - center[0]),
        )
    center, (start, middle, end) = np.array(record["center"]), np.array(points)
    first, between, last = (math.atan2(*(point - center)[::-1]) for point in (start, middle, end))
    sweep = (last - first) % (2 * math.pi)
    if (between - first) % (2 * math.pi) > sweep:
        sweep -= 2 * math.pi
    return Arc(record["center"], record["radius"], first, sweep)
