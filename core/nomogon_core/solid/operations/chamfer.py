"""Cut edges of a body at a slant."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Angle, Choice, Declaration, Length, When
from nomogon_core.solid.sentence import Edges
from nomogon_core.solid.trying import attempt, largest

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 7


def build(ask: Ask) -> dict[str, Body]:
    body, edges = ask.edges("edges")
    how, first = ask.choice("how"), ask.number("distance")
    second = ask.number("other") if how == "two" else None
    angle = ask.number("angle") if how == "angle" else None
    if angle is not None and not 0 < angle < math.pi / 2:
        raise OperationError("The angle of a chamfer lies between 0 and 90°.")

    def maker(size):
        return ask.kernel.chamfer(body.shape, edges, size, second and second * size / first, angle)

    result = attempt(ask, body, maker, first)
    if result is None:
        most = largest(ask, body, maker, first)
        if most is None:
            raise OperationError("These edges cannot be cut; choose fewer of them.")
        ask.suggest(f"{first:.2f} mm is too large for these edges: at most {most:.2f} mm works.", distance=most)
    made, shape, facts = result
    return ask.rounded(body, edges, made, shape, facts, "bevel")


DECLARATION = Declaration(
    kind="chamfer",
    title="Chamfer",
    shelf="Edges",
    told="Click edges of the solid, or choose a rule.",
    sentence=(
        "Chamfer",
        Edges("edges", asks="Click edges of the solid, or choose a rule.", empty="the edges"),
        ",",
        Length("distance", asks="Type how far from the edge.", empty="a distance", usual="1 mm", usual_in="1/32 in"),
        Choice(
            "how",
            asks="How it slants.",
            options={"equal": "on both sides", "two": "on the flatter face, and", "angle": "on the flatter face, at"},
        ),
        When(
            "how",
            ("two",),
            (
                Length(
                    "other",
                    asks="Type how far on the other face.",
                    empty="a distance",
                    usual="2 mm",
                    usual_in="1/16 in",
                ),
                "on the other",
            ),
        ),
        When("how", ("angle",), (Angle("angle", asks="Type the angle.", empty="an angle", usual="30°"),)),
        ".",
    ),
    build=build,
    example={"edges": {"body": "b1", "rule": {"at": "top"}}, "distance": "0.8 mm", "how": "equal"},
)
