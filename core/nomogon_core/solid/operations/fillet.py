"""Round edges of a body by one radius."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Declaration, Length
from nomogon_core.solid.sentence import Edges

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 3
BISECTIONS = 7
STEP_MM = 0.05


def _rounded(ask, body, edges, radius):
    """(maker, shape, facts) of the rounded body, or None where it cannot be."""
    try:
        maker = ask.kernel.fillet(body.shape, edges, radius)
    except OperationError:
        return None
    if not maker.IsDone():
        return None
    shape = maker.Shape()
    if ask.kernel.is_empty(shape):
        return None
    facts = ask.kernel.facts_of(shape)
    return (maker, shape, facts) if facts.valid and 0 < facts.volume_mm3 < 2 * body.facts.volume_mm3 else None


def _largest(ask, body, edges, too_large):
    """Largest radius that works, rounded down to 0.05 mm, by bisection; None when none does."""
    low, high = 0.0, min(too_large, max(body.facts.size))
    for _ in range(BISECTIONS):
        middle = (low + high) / 2
        if _rounded(ask, body, edges, middle):
            low = middle
        else:
            high = middle
    largest = int(low / STEP_MM) * STEP_MM
    return round(largest, 6) if largest > 0 else None


def build(ask: Ask) -> dict[str, Body]:
    body, edges = ask.edges("edges")
    radius = ask.number("radius")
    result = _rounded(ask, body, edges, radius)
    if result is None:
        largest = _largest(ask, body, edges, radius)
        if largest is None:
            raise OperationError("These edges cannot be rounded; choose fewer of them.")
        ask.suggest(
            f"Radius {radius:.2f} mm is too large for these edges: at most {largest:.2f} mm works.", radius=largest
        )
    maker, shape, facts = result
    return ask.rounded(body, edges, maker, shape, facts)


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
