"""Two bodies made one: joined, cut out, or what both have in common."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Choice, Declaration
from nomogon_core.solid.sentence import BodyBlank

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 30


def build(ask: Ask) -> dict[str, Body | None]:
    body, other = ask.body("body"), ask.body("other")
    if body.name == other.name:
        raise OperationError("A body cannot be put together with itself; choose two.")
    joined = ask.put_together(ask.choice("how"), body, other)
    return joined | ({other.name: None} if ask.choice("stays") == "gone" else {})


DECLARATION = Declaration(
    kind="combine",
    title="Join bodies",
    shelf="Bodies",
    told="Click a body, then the other one.",
    sentence=(
        "To",
        BodyBlank("body", asks="Click the body that changes.", empty="a body"),
        ",",
        BodyBlank("other", asks="Click the other body.", empty="another"),
        Choice(
            "how",
            asks="What is done with the other.",
            options={"add": "is joined", "cut": "is cut out", "overlap": "leaves only what overlaps"},
        ),
        ", and",
        Choice("stays", asks="Whether the other body stays.", options={"gone": "goes into it", "stays": "stays"}),
        ".",
    ),
    build=build,
    example={"body": "b1", "other": "b2", "how": "add", "stays": "gone"},
)
