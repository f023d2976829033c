"""Change the size of a body, alike in all directions or not."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.sentence import Choice, Declaration, Factor, When
from nomogon_core.solid.sentence import BodyBlank

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 32


def build(ask: Ask) -> dict[str, Body]:
    body = ask.body("of")
    point = (0.0, 0.0, 0.0) if ask.choice("about") == "origin" else body.facts.center
    if ask.choice("how") == "alike":
        shape = ask.kernel.transformed(body.shape, ask.kernel.enlarging(point, ask.number("factor")))
    else:
        shape = ask.kernel.stretched(body.shape, point, tuple(ask.number(axis) for axis in ("x", "y", "z")))
    names = ask.no_names()
    for before, after in zip(ask.kernel.faces_of(body.shape), ask.kernel.faces_of(shape)):
        names.put(after, body.names.get(before))
    return ask.replaced(body, shape, names)


DECLARATION = Declaration(
    kind="scale",
    title="Scale",
    shelf="Bodies",
    told="Click the body whose size changes.",
    sentence=(
        "Scale",
        BodyBlank("of", asks="Click the body.", empty="a body"),
        Choice("how", asks="Whether alike in all directions.", options={"alike": "by", "each": "along each axis:"}),
        When("how", ("alike",), (Factor("factor", asks="Type the factor; 1.013 makes up for 1.3 %.", usual="1.01"),)),
        When(
            "how",
            ("each",),
            (
                "x",
                Factor("x", asks="Type the factor along x.", usual="1"),
                "y",
                Factor("y", asks="Type the factor along y.", usual="1"),
                "z",
                Factor("z", asks="Type the factor along z.", usual="1"),
            ),
        ),
        "about",
        Choice("about", asks="What stays where it is.", options={"origin": "the origin", "middle": "its middle"}),
        ".",
    ),
    build=build,
    example={"of": "b1", "how": "alike", "factor": "1.013", "about": "origin"},
)
