"""Curves turned about a place."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from nomogon_core.sentence import Angle, Declaration
from nomogon_core.sketch import arrange
from nomogon_core.sketch.blanks import Curves, Spot
from nomogon_core.sketch.edits.place import KEEPING, carried

if TYPE_CHECKING:
    from nomogon_core.sketch.arrange import Edited
    from nomogon_core.sketch.model import Sketch

ORDER = 4


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    count, angle = len(filled["curves"]), filled["angle"]
    told = f"{count} curve{'s' if count > 1 else ''} {{}}, turned by {math.degrees(angle):.1f}°"
    return carried(sketch, filled, arrange.turned(filled["center"], angle), told)


DECLARATION = Declaration(
    kind="turn",
    title="Turn",
    shelf="Change",
    told="Click the curves to turn.",
    sentence=(
        "Turn",
        Curves("curves", asks="Click curves; a double click takes the whole chain.", empty="curves"),
        KEEPING,
        "about",
        Spot("center", asks="Click the place or point to turn about.", empty="a place"),
        "by",
        Angle("angle", asks="Type the angle, counter-clockwise.", empty="an angle", usual="90°"),
        ".",
    ),
    build=build,
    example={"curves": ["c1"], "leaving": "move", "center": [0, 0], "angle": "30°"},
)
