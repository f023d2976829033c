"""A spline with fewer points in one go, as near to its shape as is asked for."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import Spline, sample
from nomogon_core.sentence import Declaration, Length
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import LineBlank
from nomogon_core.sketch.trim import with_controls
from nomogon_core.trace.compiled_cubics import cubic_distances, fit_cubic

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 23
KINK_RAD = math.radians(5)
PLACES, STEPS = 24, 200


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    name, within = filled["curve"], filled["within"]
    if sketch.curve(name).kind != "spline":
        raise SketchError("Simplify goes with a spline; click one.")
    pieces = sketch.geometry(name).pieces()
    kept = _held(sketch, name, pieces)
    made, worst = [], 0.0
    first = 0
    while first < len(pieces):
        last, control, off = first + 1, pieces[first], 0.0
        for end in range(first + 2, min([knot for knot in kept if knot > first]) + 1):
            trial, far = _one(pieces[first:end])
            if far <= within:
                last, control, off = end, trial, far
        made.append(control)
        worst, first = max(worst, off), last
    if len(made) == len(pieces):
        raise SketchError(f"None of the spline's {len(pieces) - 1} points can go within {within:.3g} mm; allow more.")
    places = [tuple(made[0][0])] + [tuple(place) for control in made for place in control[1:]]
    changed = with_controls(sketch, name, sketch.curves[name], places)
    gone = len(pieces) - len(made)
    told = f"{gone} point{'s' if gone > 1 else ''} taken from the spline, {len(made) - 1} left; it moved by at most"
    return Edited(changed, f"{told} {worst:.3f} mm")


def _held(sketch, name, pieces):
    """Knots that stay: kinks, points that something else hangs on, and the end."""
    points = sketch.curves[name].points
    tied = {one for item in sketch.constraints.values() for one in item.of}
    used = {point for other, curve in sketch.curves.items() if other != name for point in curve.points}
    kept = [len(pieces)]
    for knot in range(1, len(pieces)):
        before, after = pieces[knot - 1][3] - pieces[knot - 1][2], pieces[knot][1] - pieces[knot][0]
        turn = math.atan2(before[0] * after[1] - before[1] * after[0], float(before @ after))
        if abs(turn) > KINK_RAD or points[3 * knot] in tied | used:
            kept.append(knot)
    return kept


def _one(pieces):
    """The cubic nearest to a run of pieces with their directions at its ends, and its largest distance from them."""
    run = Spline([tuple(pieces[0][0])] + [tuple(place) for piece in pieces for place in piece[1:]])
    reach = float(np.ptp(np.array(run.points), axis=0).max())
    data = np.ascontiguousarray(sample(run, 1e-4 * max(reach, 1e-6)))
    ways = [pieces[0][1] - pieces[0][0], pieces[-1][2] - pieces[-1][3]]
    ways = [way / max(math.hypot(*way), 1e-12) for way in ways]
    control, _, _ = fit_cubic(
        np.ascontiguousarray(data[1:-1]), data[0], data[-1], ways[0], ways[1], False, False, PLACES, math.inf
    )
    return control, float(np.abs(cubic_distances(control, data, STEPS)).max())


DECLARATION = Declaration(
    kind="simplify",
    title="Simplify",
    shelf="Shape",
    told="Click the spline to simplify.",
    sentence=(
        "Simplify",
        LineBlank("curve", asks="Click the spline to simplify.", empty="a spline"),
        "to within",
        Length("within", asks="Type how far it may move.", empty="a tolerance", usual="0.05 mm", usual_in="0.002 in"),
        ".",
    ),
    build=build,
    example={"curve": "c1", "within": "0.05 mm"},
)
