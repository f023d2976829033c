"""Mirror a body in a plane."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.sentence import Choice, Declaration, When
from nomogon_core.solid.sentence import BodyBlank, PlaneBlank

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 20


def build(ask: Ask) -> dict[str, Body]:
    body, move = ask.body("of"), ask.kernel.mirroring(ask.plane("plane"))
    tools, names = ask.transformed([body.shape], body.names, move, "image")
    result = ask.choice("result")
    if result == "new":
        return ask.put("new", "body", tools, names)
    if result == "instead":
        return ask.replaced(body, tools[0], names)
    return ask.put_into(body.name, "add", tools, names)


DECLARATION = Declaration(
    kind="mirror",
    title="Mirror",
    shelf="Again",
    told="Click the body, then the plane or flat face that it is mirrored in.",
    sentence=(
        "Mirror",
        BodyBlank("of", asks="Click the body.", empty="a body"),
        "in",
        PlaneBlank("plane", asks="Click a flat face, or choose a plane.", empty="a plane"),
        ",",
        Choice(
            "result",
            asks="What becomes of the image.",
            options={"add": "joined with it", "new": "as new body", "instead": "in its place"},
        ),
        When(
            "result",
            ("new",),
            (BodyBlank("body", asks="Type the name of the new body.", empty="a name", when="result", makes="new"),),
        ),
        ".",
    ),
    build=build,
    example={"of": "b1", "plane": "side", "result": "add"},
)
