"""Plane curves as plain data, and back: the one form in which curves are stored and reported."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from nomogon_core.geometry.curves import Arc, Circle, Ellipse, EllipticArc, Line, Spline, ends


def primitive_record(curve: Any, u95_mm: float | None) -> dict[str, Any]:
    """Plain data of a curve for reports: kind, points, center, radius, u95_mm; points of an ellipse are an end of each
    axis, those of an arc of one start, middle and end after them."""
    record: dict[str, Any] = {
        "kind": "elliptical arc" if isinstance(curve, EllipticArc) else type(curve).__name__.lower(),
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
    if isinstance(curve, EllipticArc):
        axes = curve.whole.at([0.0, math.pi / 2])
        record |= {
            "center": list(curve.whole.center),
            "points": [*axes.tolist(), *curve.whole.at(curve.angles(3)).tolist()],
        }
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
    if record["kind"] in ("ellipse", "elliptical arc"):
        center, (first, second, *on_it) = record["center"], points
        whole = Ellipse(
            center,
            (math.dist(center, first), math.dist(center, second)),
            math.atan2(first[1] - center[1], first[0] - center[0]),
        )
        return EllipticArc(whole, *_run(*map(whole.eccentric, on_it))) if on_it else whole
    center, (start, middle, end) = np.array(record["center"]), np.array(points)
    return Arc(
        record["center"],
        record["radius"],
        *_run(*(math.atan2(*(point - center)[::-1]) for point in (start, middle, end))),
    )


def _run(first, between, last):
    """(first, sweep) of a run of angles over one between."""
    sweep = (last - first) % (2 * math.pi)
    return first, sweep - 2 * math.pi if (between - first) % (2 * math.pi) > sweep else sweep
