"""Curves scaled about a place."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from nomogon_core.errors import SketchError
from nomogon_core.sentence import Declaration, Factor
from nomogon_core.sketch import arrange
from nomogon_core.sketch.blanks import Curves, Spot
from nomogon_core.sketch.edits.place import KEEPING, carried

if TYPE_CHECKING:
    from nomogon_core.sketch.arrange import Edited
    from nomogon_core.sketch.model import Sketch

ORDER = 5


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    factor, count = filled["factor"], len(filled["curves"])
    if not 1e-3 <= factor <= 1e3:
        raise SketchError(f"The factor must be between 0.001 and 1000; {factor:g} came.")
    told = f"{count} curve{'s' if count > 1 else ''} {{}}, {factor:g} times as large"
    return carried(sketch, filled, arrange.turned(filled["center"], 0.0, factor), told)


DECLARATION = Declaration(
    kind="scale",
    title="Scale",
    shelf="Change",
    told="Click the curves to make larger or smaller.",
    sentence=(
        "Scale",
        Curves("curves", asks="Click curves; a double click takes the whole chain.", empty="curves"),
        KEEPING,
        "about",
        Spot("center", asks="Click the place or point that stays.", empty="a place"),
        "to",
        Factor("factor", asks="Type the factor; 2 makes it twice as large.", empty="a factor"),
        "times its size.",
    ),
    build=build,
    example={"curves": ["c1"], "leaving": "move", "center": [0, 0], "factor": "1.5"},
)
