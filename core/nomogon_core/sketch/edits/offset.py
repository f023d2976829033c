"""Curves at a distance from others."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import Circle
from nomogon_core.sentence import Choice, Declaration, Length
from nomogon_core.sketch import edit, offset
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import Curves
from nomogon_core.sketch.chains import as_run, chains
from nomogon_core.sketch.dimensions import measure, new_dimension
from nomogon_core.sketch.model import Constraint, article
from nomogon_core.sketch.solve import dependence

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 1
SAME = 1e-6  # share of the sketch within which a curve is at its distance
SIDES = {"out": (1.0,), "in": (-1.0,), "both": (1.0, -1.0)}


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    before, ties = sketch, []
    made = 0
    for run, closed in chains(before, filled["curves"]):
        if filled["kept"] == "kept":
            _refuse_free(before, run)
        for side in SIDES[filled["side"]]:
            distance = side * filled["distance"]
            found = _at(before, run, closed, distance, filled["corners"] == "sharp")
            if not found:
                raise SketchError(
                    f"Nothing is left at {filled['distance']:.2f} mm on that side: the outline is narrower than twice "
                    "that. Take a smaller distance or the other side."
                )
            for chain in found:
                sketch, names, joints = edit.add_outline(
                    sketch, chain.curves, [None] * len(chain.curves), origin="drawn", closed=chain.closed
                )
                for constraint in edit.smooth_joints(sketch, joints):
                    sketch, _ = edit.add_constraint(sketch, constraint)
                made += len(names)
                ties += [_tie(sketch, name, run, filled["distance"]) for name in names]
    if filled["kept"] == "kept":
        sketch = _held(sketch, [tie for tie in ties if tie])
    return Edited(sketch, f"Offset by {filled['distance']:.2f} mm: {made} curve{'s' if made > 1 else ''}")


def _refuse_free(sketch, run):
    free = next((name for name in run if sketch.curves[name].kind not in ("line", "arc", "circle")), None)
    if free:
        raise SketchError(
            f"At a distance from {article(sketch.curves[free].kind)} there is only a curve near it, so it cannot be "
            "kept there. Let the new curves be free to change."
        )


def _at(sketch, run, closed, distance, sharp):
    curves = as_run(sketch, run, closed)
    if sketch.curves[run[0]].kind == "circle":
        radius = curves[0].radius + distance
        return [offset.Chain((Circle(curves[0].center, radius),), True)] if radius > 1e-6 else []
    return offset.offset(curves, closed, distance, sharp=sharp)


def _tie(sketch, name, run, distance):
    """The curve and what it is at a distance from: a curve of the run, or a corner of it; None where neither."""
    curve, within = sketch.curves[name], SAME * sketch.size()

    def is_off(one, other):
        return abs(measure(sketch, "distance", (one, other)) - distance) < within

    if curve.kind == "line":
        lines = [other for other in run if sketch.curves[other].kind == "line"]
        return next(((name, other) for other in lines if all(is_off(end, other) for end in curve.points)), None)
    rounds = {other: sketch.curves[other].points[0] for other in run if sketch.curves[other].kind != "line"}
    corners = {point: point for other in run for point in sketch.curves[other].end_points()}
    for other, center in (rounds | corners).items():
        if math.dist(sketch.points[curve.points[0]], sketch.points[center]) < within and is_off(name, other):
            return name, other
    return None


def _held(sketch, ties):
    """The sketch with new curves kept at their distance, by as little as determines it: centres first, then how lines
    run, then the one distance of all that is left."""
    for name, other in ties:
        if sketch.curves[name].kind != "line":
            center = other if other in sketch.points else sketch.curves[other].points[0]
            pair = (sketch.curves[name].points[0], center)
            sketch, _ = edit.add_constraint(sketch, Constraint("coincident", pair))
    for name, other in ties:
        if sketch.curves[name].kind == "line":
            sketch = _unless_it_follows(sketch, Constraint("parallel", (name, other))) or sketch
    apart, held = [], sketch
    for pair in ties:
        more = _unless_it_follows(held, new_dimension(held, "offset", pair))
        if more:
            apart, held = [*apart, *pair], more
    if not apart:
        return sketch
    return edit.add_constraint(sketch, new_dimension(sketch, "offset", tuple(apart)))[0]


def _unless_it_follows(sketch, constraint):
    bigger, name = edit.add_constraint(sketch, constraint)
    return None if dependence(bigger, name).dependent else bigger


DECLARATION = Declaration(
    kind="offset",
    title="Offset",
    shelf="Change",
    told="Click the curves to offset; a double click on one takes its whole chain.",
    sentence=(
        "Offset",
        Curves("curves", asks="Click curves; a double click takes the whole chain.", empty="curves"),
        "by",
        Length("distance", asks="Type the distance.", empty="a distance", usual="2 mm", usual_in="1/16 in"),
        "to",
        Choice(
            "side",
            asks="To which side.",
            options={"out": "the outside", "in": "the inside", "both": "both sides"},
        ),
        ", corners",
        Choice("corners", asks="How corners go on.", options={"sharp": "sharp", "round": "rounded"}),
        ", the distance",
        Choice("kept", asks="Whether it stays.", options={"free": "free to change", "kept": "kept as a dimension"}),
        ".",
    ),
    build=build,
    example={"curves": ["c1", "c2"], "distance": "2 mm", "side": "out", "corners": "round", "kept": "free"},
)
