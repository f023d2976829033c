"""Copies of a body in a ring or in a row, joined with it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.sentence import Choice, Count, Declaration, When
from nomogon_core.solid.operations.repeat import APART, PATH, RING, ROW, SPREAD, motions
from nomogon_core.solid.sentence import BodyBlank

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 22


def build(ask: Ask) -> dict[str, Body]:
    body, tools, names = ask.body("of"), [], ask.no_names()
    for called, move in motions(ask):
        tools += ask.transformed([body.shape], body.names, move, called, names)[0]
    return ask.put_into(body.name, "add", tools, names)


DECLARATION = Declaration(
    kind="copies",
    title="Copies",
    shelf="Again",
    told="Click the body that is copied.",
    sentence=(
        "Copies of",
        BodyBlank("of", asks="Click the body.", empty="a body"),
        Choice("way", asks="Where the copies lie.", options={"ring": "in a ring", "row": "in a row", "path": "along"}),
        When("way", ("ring",), RING),
        When("way", ("row",), ROW),
        When("way", ("path",), PATH),
        Count("count", asks="Type how many there are in all.", empty="how many", usual="6"),
        "in all,",
        When("way", ("ring",), SPREAD),
        When("way", ("row",), APART),
        ", joined.",
    ),
    build=build,
    example={"of": "b1", "way": "ring", "about": "z", "count": "6", "spread": "full"},
)
