"""Round edges of a body by one radius."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Declaration, Length
from nomogon_core.solid.sentence import Edges
from nomogon_core.solid.trying import STEP_MM, attempt, largest

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 6
SHARES = (1.0, 0.98, 0.9, 0.75)


def build(ask: Ask) -> dict[str, Body]:
    body, edges = ask.edges("edges")
    radius = ask.number("radius")

    def maker(size):
        return ask.kernel.fillet(body.shape, edges, size)

    if ask.rounding.vanishes(body.shape, edges, radius):
        made = ask.rounded_by_sections(body, edges, radius)
        if made is not None:
            return made
        least, most = ask.rounding.likely_volume(body.shape, edges, radius)
    else:
        least, most = 0.0, body.facts.volume_mm3 * 2
    result = attempt(ask, body, maker, radius)
    if result is not None and least <= result[2].volume_mm3 <= most:
        return ask.rounded(body, edges, *result)
    return ask.rounded_by_sections(body, edges, radius) or _refuse(ask, body, edges, maker, radius)


def _refuse(ask, body, edges, maker, radius):
    """Say the largest radius that works, and where the sections of a larger one would meet."""
    told = ask.rounding.largest(body.shape, edges, radius)
    where, too_large = "", f"Radius {radius:.2f} mm is too large for these edges"
    if told is not None:
        most, (x, y, z) = told
        where = f": at ({x:.1f}, {y:.1f}, {z:.1f}) the rounded edges would run into each other"
        for share in SHARES:
            size = round(int(share * most / STEP_MM) * STEP_MM, 6)
            if size > 0 and (ask.rounded_by_sections(body, edges, size) or attempt(ask, body, maker, size)):
                ask.suggest(f"{too_large}{where}. At most {size:.2f} mm works.", radius=size)
    most = largest(ask, body, maker, radius)
    if most is None:
        raise OperationError(f"These edges cannot be rounded{where}; choose fewer of them.")
    ask.suggest(f"{too_large}: at most {most:.2f} mm works.", radius=most)


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
