"""Sink areas into a body, and fill them with a body of their own: a logo in another colour."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Choice, Declaration, Length, When
from nomogon_core.solid.phrases import filling_of
from nomogon_core.solid.sentence import BodyBlank, Regions
from nomogon_core.solid.thickening import STROKES, narrowed, thickened

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 6
OVERSHOOT_MM = 1.0


def build(ask: Ask) -> dict[str, Body]:
    frame, regions = ask.regions("regions")
    regions = thickened(regions, ask.number("strokes"))
    depth, body = ask.number("depth"), ask.body("of")
    low, high = ask.heights(body, frame)
    if low > -depth + ask.kernel.TOUCHING_MM:
        raise OperationError(
            f"{body.title} is only {max(-low, 0.0):.2f} mm thick under the sketch, so the areas would be sunk through "
            "it. Type a smaller depth, or cut them through with Extrude."
        )
    sunk, names = [], ask.no_names()
    for loops in regions:
        sunk.append(ask.prism(loops, -depth, high + OVERSHOOT_MM + depth, names, ("wall", "floor", "top")))
    changed = ask.put_into(body.name, "cut", *ask.placed(sunk, names, frame))
    if ask.choice("result") == "empty":
        return changed
    clearance, rise = ask.number("clearance"), ask.number("rise")
    filling, names = [], ask.no_names()
    for loops in regions:
        inside = narrowed(loops, clearance) if clearance else loops
        filling.append(ask.prism(inside, -depth, rise + depth, names))
    return changed | ask.after(changed).put("new", "body", *ask.placed(filling, names, frame))


DECLARATION = Declaration(
    kind="inlay",
    title="Inlay",
    shelf="Marks",
    told="Click the areas that are sunk into a face.",
    sentence=(
        "Sink",
        Regions("regions", asks="Click areas of a sketch that lies on a face.", empty="areas"),
        "into",
        BodyBlank("of", asks="Click the body that they are sunk into.", empty="a body"),
        "by",
        Length("depth", asks="Type how deep.", empty="a depth", usual="0.8 mm", usual_in="1/32 in"),
        STROKES,
        ",",
        Choice("result", asks="What stands in them.", options={"new": "filled with new body", "empty": "left empty"}),
        When("result", ("new",), filling_of("new")),
        ".",
    ),
    build=build,
    example={
        "regions": {"sketch": "s2", "names": ["region c4"]},
        "of": "b1",
        "depth": "0.8 mm",
        "result": "new",
        "body": "Bee",
    },
)
