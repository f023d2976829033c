"""Copies in a row, in a ring, or along a curve."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.stops import evenly_along
from nomogon_core.sentence import Angle, Choice, Count, Declaration, Length, When
from nomogon_core.sketch import arrange
from nomogon_core.sketch.blanks import Curves, LineBlank, Spot
from nomogon_core.sketch.dimensions import refreshed

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 6
MOST_COPIED = 5000


def build(sketch: Sketch, filled: dict[str, Any]) -> arrange.Edited:
    count, names = round(filled["count"]), [name for name in filled["curves"] if name != filled.get("along")]
    if count * len(names) > MOST_COPIED:
        raise SketchError(f"That makes {count * len(names)} curves; a sketch holds {MOST_COPIED}. Take fewer copies.")
    for placing in _PLACINGS[filled["way"]](sketch, filled, count):
        sketch, _ = arrange.copy(sketch, names, placing)
    what = f"{len(names)} curve{'s' if len(names) > 1 else ''}"
    return arrange.Edited(refreshed(sketch), f"{what}, {count} times {WAYS[filled['way']]}")


def _in_a_row(sketch, filled, count):
    step = filled["pitch"]
    way = (math.cos(filled["direction"]), math.sin(filled["direction"]))
    return [arrange.shifted((step * index * way[0], step * index * way[1])) for index in range(1, count)]


def _in_a_ring(sketch, filled, count):
    whole = 2 * math.pi
    step = whole / count
    return [arrange.turned(filled["center"], step * index) for index in range(1, count)]


def _along(sketch, filled, count):
    """Evenly by length along a curve, from its start, turned with it."""
    (start, way), *stops = evenly_along([sketch.geometry(filled["along"])], count)
    made = []
    for place, angle in stops:
        turn = arrange.turned(start, angle - way)
        made.append(arrange.Placing(turn.matrix, turn.offset + place - np.array(start)))
    return made


WAYS = {"row": "in a row", "ring": "in a ring", "along": "along a curve"}
_PLACINGS = {"row": _in_a_row, "ring": _in_a_ring, "along": _along}

DECLARATION = Declaration(
    kind="repeat",
    title="Repeat",
    shelf="Change",
    told="Click the curves to repeat.",
    sentence=(
        "Repeat",
        Curves("curves", asks="Click curves; a double click takes the whole chain.", empty="curves"),
        ",",
        Count("count", asks="Type how many there should be in all.", empty="how many"),
        "times",
        Choice("way", asks="How they follow one another.", options=WAYS),
        When(
            "way",
            ("row",),
            (
                ", every",
                Length("pitch", asks="Type the pitch.", empty="a pitch", usual="10 mm", usual_in="1/2 in"),
                "at",
                Angle("direction", asks="Type the direction; 0° goes to the right.", empty="an angle", usual="0°"),
            ),
        ),
        When("way", ("ring",), ("about", Spot("center", asks="Click the centre of the ring.", empty="a centre"))),
        When("way", ("along",), (":", LineBlank("along", asks="Click the curve to go along.", empty="a curve"))),
        ".",
    ),
    build=build,
    example={"curves": ["c1"], "count": "6", "way": "ring", "center": [0, 0]},
)
