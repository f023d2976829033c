"""The outlines of a drawing from a file, such as a logo, put into the sketch at a size."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import bounds, ends, moved
from nomogon_core.sentence import Angle, Choice, Clause, Declaration, Length
from nomogon_core.sketch import arrange, edit
from nomogon_core.sketch.blanks import DrawingBlank, Spot

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 25
CLOSED_MM, CHORD_MM, LEAST_MM = 1e-6, 1e-3, 1e-3


def build(sketch: Sketch, filled: dict[str, Any]) -> arrange.Edited:
    """``filled["drawing"]`` is a list of runs of curves, millimetres at their own size."""
    runs = filled["drawing"]
    (left, low), (right, high) = bounds([curve for run in runs for curve in run], CHORD_MM)
    if right - left < LEAST_MM:
        raise SketchError("The drawing is a single upright line, so it cannot be made so wide; turn it in its file.")
    middle = ((left + right) / 2, (low + high) / 2)
    placing = arrange.turned(middle, filled.get("turn", 0.0), filled["width"] / (right - left))
    matrix = placing.matrix @ np.diag([-1.0, 1.0]) if filled["facing"] == "mirrored" else placing.matrix
    for run in runs:
        placed = [_placed(curve, matrix, middle, filled["place"]) for curve in run]
        closed = len(run) > 1 and math.dist(ends(placed[0])[0], ends(placed[-1])[1]) < CLOSED_MM
        sketch, _, _ = edit.add_outline(sketch, placed, [None] * len(placed), origin="drawn", closed=closed)
    count = sum(map(len, runs))
    size = f"{filled['width']:.2f} mm wide"
    return arrange.Edited(sketch, f"{count} curve{'s' if count > 1 else ''} of a drawing put in, {size}")


def _placed(curve, matrix, middle, place):
    """A curve as it lies in the sketch: turned, scaled or mirrored about the middle of its drawing."""

    def there(point):
        return tuple((matrix @ np.subtract(point, middle) + place).tolist())

    scale = math.sqrt(abs(float(np.linalg.det(matrix))))
    turn, sense = math.atan2(matrix[1, 0], matrix[0, 0]), 1 if np.linalg.det(matrix) > 0 else -1
    return moved(curve, there, scale=scale, turn=turn, sense=sense)


DECLARATION = Declaration(
    kind="drawing",
    title="Drawing",
    shelf="Bring",
    told="Choose an SVG or DXF file.",
    sentence=(
        "Put in",
        DrawingBlank("drawing", asks="Choose an SVG or DXF file; its curves come in as they are.", empty="a file"),
        ",",
        Length("width", asks="Type how wide it is.", empty="a width", usual="40 mm", usual_in="1 1/2 in"),
        "wide, its middle at",
        Spot("place", asks="Click where its middle lies.", empty="a place"),
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
    example={
        "drawing": {"file": "9f2c…", "group": ""},
        "width": "40 mm",
        "place": [0, 0],
        "facing": "same",
    },
)
