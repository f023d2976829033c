"""Change the size of a body, alike in all directions or not."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from nomogon_core.sentence import Choice, Declaration, Factor, When
from nomogon_core.solid.sentence import BodyBlank

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 32


def build(ask: Ask) -> dict[str, Body]:
    body = ask.body("of")
    point = (0.0, 0.0, 0.0) if ask.choice("about") == "origin" else body.facts.center
    alike = ask.choice("how") == "alike"
    factors = tuple(ask.number("factor" if alike else axis) for axis in ("x", "y", "z"))
    if body.mesh is not None:
        return ask.remeshed(body, np.diag(factors), np.array(point) * (1 - np.array(factors)))
    if alike:
        shape = ask.kernel.transformed(body.shape, ask.kernel.enlarging(point, factors[0]))
    else:
        shape = ask.kernel.stretched(body.shape, point, factors)
    return ask.replaced(body, shape, ask.named_alike(body, shape))


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
