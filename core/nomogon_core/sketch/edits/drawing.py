"""The outlines of a drawing from a file, such as a logo, put into the sketch at a size."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import bounds, ends, moved
from nomogon_core.sentence import Angle, Choice, Clause, Declaration, Length, When
from nomogon_core.sketch import arrange, edit
from nomogon_core.sketch.blanks import DrawingBlank, OwnSpot, Spot
from nomogon_core.sketch.lying import Lying, corners_of, placed

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 25
CLOSED_MM, CHORD_MM, LEAST_MM = 1e-6, 1e-3, 1e-3
BY = {"width": "wide,", "height": "high,", "points": "from point"}
NO_SIZE = {
    "width": "The drawing is a single upright line, so it cannot be made so wide; say how high it is.",
    "height": "The drawing is a single level line, so it cannot be made so high; say how wide it is.",
    "points": "These two are the same point of the drawing; pick two that lie apart.",
}


def build(sketch: Sketch, filled: dict[str, Any]) -> arrange.Edited:
    """``filled["drawing"]`` is a list of runs of curves, millimetres at their own size."""
    runs, placing = filled["drawing"], _placing(filled)
    turn, sense = math.atan2(placing.matrix[1, 0], placing.matrix[0, 0]), -1 if placing.mirrors else 1
    for run in runs:
        there = [moved(curve, placing.of, scale=placing.scale, turn=turn, sense=sense) for curve in run]
        closed = len(run) > 1 and math.dist(ends(there[0])[0], ends(there[-1])[1]) < CLOSED_MM
        sketch, _, _ = edit.add_outline(sketch, there, [None] * len(there), origin="drawn", closed=closed)
    count = sum(map(len, runs))
    (left, low), (right, high) = _box(filled)
    size = f"{placing.scale * (right - left):.2f} by {placing.scale * (high - low):.2f} mm"
    return arrange.Edited(sketch, f"{count} curve{'s' if count > 1 else ''} of a drawing put in, {size}")


def lying(_: Sketch, filled: dict[str, Any]) -> Lying:
    """How the drawing lies; its own points are ends of its curves and centres of its circles and arcs."""
    placing, (low, high) = _placing(filled), _box(filled)
    return Lying(
        filled["place"],
        corners_of(low, high, placing),
        filled.get("turn", 0.0),
        placing.mirrors,
        {"move": "place", "size": "size", "turn": "turn", "flip": "facing"},
        filled["size"],
        placing,
        own_points(filled["drawing"]) if filled["by"] == "points" else (),
    )


def own_points(runs: list[list[Any]]) -> list[tuple[float, float]]:
    """Points of a drawing that can be picked: ends of its curves, and centres."""
    found = {}
    for curve in (curve for run in runs for curve in run):
        places = [*(ends(curve) or ()), *([curve.center] if hasattr(curve, "center") else [])]
        found |= {(round(x, 6), round(y, 6)): None for x, y in places}
    return list(found)


def farthest_across(runs: list[list[Any]]) -> list[tuple[float, float]]:
    """The leftmost and the rightmost of these points."""
    points = own_points(runs)
    return [min(points), max(points)]


def _box(filled):
    return bounds([curve for run in filled["drawing"] for curve in run], CHORD_MM)


def _placing(filled):
    (left, low), (right, high) = _box(filled)
    spans = {"width": right - left, "height": high - low}
    by = filled["by"]
    span = math.dist(filled["first"], filled["second"]) if by == "points" else spans[by]
    if span < LEAST_MM:
        raise SketchError(NO_SIZE[by])
    middle = ((left + right) / 2, (low + high) / 2)
    return placed(
        middle,
        filled["place"],
        filled["size"] / span,
        filled.get("turn", 0.0),
        mirrored=filled["facing"] == "mirrored",
    )


DECLARATION = Declaration(
    kind="drawing",
    title="Drawing",
    shelf="Bring",
    told="Choose an SVG or DXF file.",
    sentence=(
        "Put in",
        DrawingBlank("drawing", asks="Choose an SVG or DXF file; its curves come in as they are.", empty="a file"),
        ",",
        Length("size", asks="Type how large it is.", empty="a size", usual="40 mm", usual_in="1 1/2 in"),
        Choice("by", asks="What is so large.", options=BY),
        When(
            "by",
            ("points",),
            (
                OwnSpot("first", asks="Click a point of the drawing to measure from.", empty="a point"),
                "to",
                OwnSpot("second", asks="Click the point of the drawing to measure to.", empty="another"),
                ",",
            ),
        ),
        "its middle at",
        Spot("place", asks="Click where its middle lies, or drag it by its handles.", empty="a place"),
        ",",
        Choice("facing", asks="Which way it faces.", options={"same": "as drawn", "mirrored": "mirrored"}),
        Clause(
            offer="turn it",
            parts=(
                ", turned by",
                Angle("turn", asks="Type by how much it is turned.", empty="an angle", usual="90°"),
            ),
        ),
        ".",
    ),
    build=build,
    lying=lying,
    example={
        "drawing": {"file": "9f2c…", "group": ""},
        "size": "40 mm",
        "by": "width",
        "place": [0, 0],
        "facing": "same",
    },
)
