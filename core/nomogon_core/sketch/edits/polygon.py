"""A regular polygon."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from nomogon_core.errors import SketchError
from nomogon_core.sentence import Choice, Count, Declaration
from nomogon_core.sketch import edit
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import Spot
from nomogon_core.sketch.model import Constraint

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 21


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    count, (x, y), (u, v) = round(filled["sides"]), filled["center"], filled["through"]
    reach, angle = math.dist((x, y), (u, v)), math.atan2(v - y, u - x)
    if reach < 1e-6:
        raise SketchError("The polygon would have no size; click farther from its centre.")
    if filled["at"] == "side":
        reach, angle = reach / math.cos(math.pi / count), angle + math.pi / count
    turns = [angle + 2 * math.pi * index / count for index in range(count)]
    corners = []
    for turn in turns:
        sketch, corner = edit.add_point(sketch, (x + reach * math.cos(turn), y + reach * math.sin(turn)))
        corners.append(corner)
    sketch, around = edit.add_circle(sketch, (x, y), reach, construction=True)
    lines = []
    for one, other in zip(corners, [*corners[1:], corners[0]]):
        sketch, line = edit.add_line(sketch, one, other)
        lines.append(line)
    wanted = [Constraint("on curve", (corner, around)) for corner in corners]
    wanted += [Constraint("equal", (lines[index - 1], lines[index])) for index in range(1, count)]
    for constraint in wanted:
        sketch, _ = edit.add_constraint(sketch, constraint)
    return Edited(sketch, f"Polygon of {count} sides drawn")


DECLARATION = Declaration(
    kind="polygon",
    title="Polygon",
    shelf="Shape",
    told="Click the centre of the polygon.",
    sentence=(
        "Polygon of",
        Count("sides", asks="Type the number of sides.", empty="how many", usual="6", least=3, most=120),
        "sides about",
        Spot("center", asks="Click the centre.", empty="a centre"),
        ", its",
        Choice("at", asks="What is at the second place.", options={"corner": "corner", "side": "side's middle"}),
        "at",
        Spot("through", asks="Click where that is.", empty="a place"),
        ".",
    ),
    build=build,
    example={"sides": "6", "center": [0, 0], "at": "side", "through": [8, 0]},
)
