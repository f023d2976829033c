"""Curves mirrored in a line, and kept its image."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.errors import SketchError
from nomogon_core.sentence import Choice, Declaration
from nomogon_core.sketch import arrange, edit
from nomogon_core.sketch.blanks import Curves, LineBlank
from nomogon_core.sketch.dimensions import refreshed
from nomogon_core.sketch.mirroring import tied_halves
from nomogon_core.sketch.model import Constraint
from nomogon_core.sketch.solve import solve

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 2


def build(sketch: Sketch, filled: dict[str, Any]) -> arrange.Edited:
    axis = sketch.curve(filled["axis"])
    if axis.kind != "line":
        raise SketchError("Mirror needs a straight line to mirror in; click one.")
    placing = arrange.mirrored(*(sketch.points[point] for point in axis.points))
    names = [name for name in filled["curves"] if name != filled["axis"] and not _own_image(sketch, name, placing)]
    if not names:
        raise SketchError("All that is chosen lies on the line, or is its own image; choose other curves.")
    before = set(sketch.constraints)
    made, became = arrange.copy(sketch, names, placing)
    copies = [became[name] for name in names]
    if filled["kept"] == "kept":
        # What the copy would say of itself follows from its being the image.
        own = {key: item for key, item in made.constraints.items() if key in before}
        made = attrs.evolve(made, constraints=own)
        made = tied_halves(made, [*names, *copies], filled["axis"])
    if filled["crossing"] == "smooth":
        made = _smooth_across(made, names, became, filled["axis"])
    solution = solve(made)
    if not solution.solved:
        raise SketchError(
            "The halves cannot meet smoothly with the constraints that the curves have; mirror them as they meet, or "
            "delete one of the constraints at the axis."
        )
    count = len(names)
    return arrange.Edited(refreshed(solution.sketch), f"{count} curve{'s' if count > 1 else ''} mirrored")


def _own_image(sketch, name, placing):
    """Whether a curve is its own image: a circle or ellipse about the axis, or a line on it."""
    curve = sketch.curve(name)
    points = curve.points if curve.kind == "line" else curve.points[:1]
    if curve.kind not in ("line", "circle", "ellipse"):
        return False
    return all(math.dist(sketch.points[one], placing.of(sketch.points[one])) < arrange.SAME_PLACE_MM for one in points)


def _smooth_across(sketch, names, became, axis):
    """Both halves tangent where a curve meets its image at the axis."""
    for name in names:
        for point in sketch.curves[name].end_points():
            if became.get(point) != point:
                continue
            straight = sketch.curves[name].kind == "line"
            of = (name, axis) if straight else (name, became[name], point)
            sketch, _ = edit.add_constraint(sketch, Constraint("perpendicular" if straight else "tangent", of))
    return sketch


DECLARATION = Declaration(
    kind="mirror",
    title="Mirror",
    shelf="Change",
    told="Click the curves to mirror.",
    sentence=(
        "Mirror",
        Curves("curves", asks="Click curves; a double click takes the whole chain.", empty="curves"),
        "in",
        LineBlank("axis", asks="Click the line to mirror in.", empty="a line"),
        ", meeting it",
        Choice("crossing", asks="How the halves meet.", options={"as": "as it comes", "smooth": "smoothly"}),
        ", the image",
        Choice("kept", asks="Whether it follows.", options={"kept": "kept so", "free": "free to change"}),
        ".",
    ),
    build=build,
    example={"curves": ["c1"], "axis": "c2", "crossing": "as", "kept": "kept"},
)
