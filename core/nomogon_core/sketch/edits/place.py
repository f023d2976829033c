"""Curves moved."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.sentence import Choice, Declaration
from nomogon_core.sketch import arrange
from nomogon_core.sketch.blanks import Curves, Spot
from nomogon_core.sketch.dimensions import refreshed

if TYPE_CHECKING:
    from nomogon_core.sketch.arrange import Edited
    from nomogon_core.sketch.model import Sketch

ORDER = 3
LEAVING = {"move": "moved", "copy": "copied"}
KEEPING = Choice("leaving", asks="Whether the first stays.", options={"move": "itself", "copy": "as a copy"})


def carried(sketch: Sketch, filled: dict[str, Any], placing: Any, told: str) -> Edited:
    """The chosen curves placed otherwise, themselves or as a copy."""
    names = filled["curves"]
    if filled["leaving"] == "move":
        return attrs.evolve(arrange.move(sketch, names, placing), told=told.format(LEAVING["move"]))
    made, _ = arrange.copy(sketch, names, placing)
    return arrange.Edited(refreshed(made), told.format(LEAVING["copy"]))


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    by = (filled["to"][0] - filled["from"][0], filled["to"][1] - filled["from"][1])
    count = len(filled["curves"])
    told = f"{count} curve{'s' if count > 1 else ''} {{}} by {math.hypot(*by):.2f} mm"
    return carried(sketch, filled, arrange.shifted(by), told)


DECLARATION = Declaration(
    kind="move",
    title="Move",
    shelf="Change",
    told="Click the curves to move.",
    sentence=(
        "Move",
        Curves("curves", asks="Click curves; a double click takes the whole chain.", empty="curves"),
        KEEPING,
        "from",
        Spot("from", asks="Click a place or a point to move from.", empty="a place"),
        "to",
        Spot("to", asks="Click the place or point to move to.", empty="another"),
        ".",
    ),
    build=build,
    example={"curves": ["c1"], "leaving": "copy", "from": [0, 0], "to": [10, 5]},
)
