"""Curves at a distance from others."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import Circle
from nomogon_core.sentence import Choice, Declaration, Length
from nomogon_core.sketch import edit, offset
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import Curves
from nomogon_core.sketch.chains import as_run, chains

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 1
SIDES = {"out": (1.0,), "in": (-1.0,), "both": (1.0, -1.0)}


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    made = 0
    before = sketch
    for run, closed in chains(before, filled["curves"]):
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
    return Edited(sketch, f"Offset by {filled['distance']:.2f} mm: {made} curve{'s' if made > 1 else ''}")


def _at(sketch, run, closed, distance, sharp):
    curves = as_run(sketch, run, closed)
    if sketch.curves[run[0]].kind == "circle":
        radius = curves[0].radius + distance
        return [offset.Chain((Circle(curves[0].center, radius),), True)] if radius > 1e-6 else []
    return offset.offset(curves, closed, distance, sharp=sharp)


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
        ".",
    ),
    build=build,
    example={"curves": ["c1", "c2"], "distance": "2 mm", "side": "out", "corners": "round"},
)
