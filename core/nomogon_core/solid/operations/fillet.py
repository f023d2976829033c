"""Round edges of a body by one radius."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Declaration, Length
from nomogon_core.solid.sentence import Edges
from nomogon_core.solid.trying import attempt, largest

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 6


def build(ask: Ask) -> dict[str, Body]:
    body, edges = ask.edges("edges")
    radius = ask.number("radius")

    def maker(size):
        return ask.kernel.fillet(body.shape, edges, size)

    result = attempt(ask, body, maker, radius)
    if result is None:
        most = largest(ask, body, maker, radius)
        if most is None:
            raise OperationError("These edges cannot be rounded; choose fewer of them.")
        ask.suggest(f"Radius {radius:.2f} mm is too large for these edges: at most {most:.2f} mm works.", radius=most)
    made, shape, facts = result
    return ask.rounded(body, edges, made, shape, facts)


DECLARATION = Declaration(
    kind="fillet",
    title="Fillet",
    shelf="Edges",
    told="Click edges of the solid, or choose a rule.",
    sentence=(
        "Fillet",
        Edges("edges", asks="Click edges of the solid, or choose a rule.", empty="the edges"),
        ", radius",
        Length("radius", asks="Type the radius.", empty="a radius", usual="1 mm", usual_in="1/32 in"),
        ".",
    ),
    build=build,
    example={"edges": {"body": "b1", "rule": {"at": "top"}}, "radius": "0.8 mm"},
)
