"""A curve cut into two that share a point."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from nomogon_core.errors import SketchError
from nomogon_core.geometry.crossings import nearest, span
from nomogon_core.sentence import Declaration
from nomogon_core.sketch import edit
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import LineBlank, Spot
from nomogon_core.sketch.model import CLOSED, Constraint
from nomogon_core.sketch.trim import split_at

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 8
LEAST_SHARE = 1e-3


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    name = filled["curve"]
    curve = sketch.curve(name)
    if curve.kind in CLOSED:
        raise SketchError(f"A {curve.kind} has no ends; trim it, or split a line, an arc or a spline.")
    shape = sketch.geometry(name)
    t = nearest(shape, filled["at"])
    if not LEAST_SHARE < t / span(shape) < 1 - LEAST_SHARE:
        raise SketchError("That place is at an end of the curve; click farther from its ends.")
    changed, lost, second = split_at(sketch, name, t)
    kind = {"arc": "equal", "line": "parallel"}.get(curve.kind)
    if kind:
        changed, _ = edit.add_constraint(changed, Constraint(kind, (name, second)))
    return Edited(changed, f"{curve.kind.capitalize()} split in two", lost)


DECLARATION = Declaration(
    kind="split",
    title="Split",
    shelf="Change",
    told="Click the curve to split, then the place.",
    sentence=(
        "Split",
        LineBlank("curve", asks="Click the curve to split.", empty="a curve"),
        "at",
        Spot("at", asks="Click the place on it.", empty="a place"),
        ".",
    ),
    build=build,
    example={"curve": "c1", "at": [10, 0]},
)
