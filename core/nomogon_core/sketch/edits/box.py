"""A rectangle about its centre, by typed sizes; as a guide box it only helps to place others."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from nomogon_core.sentence import Choice, Declaration, Length
from nomogon_core.sketch import edit
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import Spot
from nomogon_core.sketch.dimensions import new_dimension
from nomogon_core.sketch.model import Constraint

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 22


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    (x, y), width, height = filled["center"], filled["width"], filled["height"]
    guide = filled["as"] == "guide"
    corners = []
    for across, up in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        sketch, corner = edit.add_point(sketch, (x + across * width / 2, y + up * height / 2))
        corners.append(corner)
    lines = []
    for one, other in zip(corners, [*corners[1:], corners[0]]):
        sketch, line = edit.add_line(sketch, one, other, construction=guide)
        lines.append(line)
    sketch, diagonal = edit.add_line(sketch, corners[0], corners[2], construction=True)
    sketch, middle = edit.add_point(sketch, (x, y))
    wanted = [Constraint(kind, (line,)) for kind, line in zip(("horizontal", "vertical") * 2, lines)]
    wanted.append(Constraint("midpoint", (middle, diagonal)))
    for constraint in wanted:
        sketch, _ = edit.add_constraint(sketch, constraint)
    for line in lines[:2]:
        sketch, _ = edit.add_constraint(sketch, new_dimension(sketch, "distance", (line,)))
    what = "Guide box" if guide else "Rectangle"
    return Edited(sketch, f"{what} of {width:.2f} × {height:.2f} mm drawn")


DECLARATION = Declaration(
    kind="box",
    title="Box",
    shelf="Shape",
    told="Click the centre of the rectangle.",
    sentence=(
        "Box about",
        Spot("center", asks="Click the centre.", empty="a centre"),
        ",",
        Length("width", asks="Type the width.", empty="a width", usual="40 mm", usual_in="1 1/2 in"),
        "by",
        Length("height", asks="Type the height.", empty="a height", usual="20 mm", usual_in="3/4 in"),
        ", as",
        Choice("as", asks="What it is for.", options={"outline": "an outline", "guide": "a guide"}),
        ".",
    ),
    build=build,
    example={"center": [0, 0], "width": "40 mm", "height": "20 mm", "as": "guide"},
)
