"""A slot: two equal arcs and the lines that go on smoothly from one to the other."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import Arc, Line
from nomogon_core.sentence import Declaration, Length
from nomogon_core.sketch import edit
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import Spot
from nomogon_core.sketch.dimensions import new_dimension
from nomogon_core.sketch.model import Constraint

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 20


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    (ax, ay), (bx, by) = filled["from"], filled["to"]
    apart, radius = math.dist((ax, ay), (bx, by)), filled["width"] / 2
    if apart < 1e-6:
        raise SketchError("Both ends of the slot are at the same place; click another.")
    angle = math.atan2(by - ay, bx - ax)
    x, y = -radius * math.sin(angle), radius * math.cos(angle)
    outline = [
        Line((ax - x, ay - y), (bx - x, by - y)),
        Arc((bx, by), radius, angle - math.pi / 2, math.pi),
        Line((bx + x, by + y), (ax + x, ay + y)),
        Arc((ax, ay), radius, angle + math.pi / 2, math.pi),
    ]
    sketch, names, joints = edit.add_outline(sketch, outline, [None] * 4, origin="drawn")
    wanted = [*edit.smooth_joints(sketch, joints), Constraint("equal", (names[1], names[3]))]
    for constraint in (*wanted, new_dimension(sketch, "radius", (names[1],))):
        sketch, _ = edit.add_constraint(sketch, constraint)
    return Edited(sketch, f"Slot of {apart:.2f} × {2 * radius:.2f} mm drawn")


DECLARATION = Declaration(
    kind="slot",
    title="Slot",
    shelf="Shape",
    told="Click the centre of one end, then of the other.",
    sentence=(
        "Slot from",
        Spot("from", asks="Click the centre of one end.", empty="a place"),
        "to",
        Spot("to", asks="Click the centre of the other end.", empty="another"),
        ",",
        Length("width", asks="Type the width.", empty="a width", usual="6 mm", usual_in="1/4 in"),
        "wide.",
    ),
    build=build,
    example={"from": [0, 0], "to": [20, 0], "width": "6 mm"},
)
