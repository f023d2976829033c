"""Copies in a row, in a ring, or along a curve."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.crossings import at, span
from nomogon_core.geometry.curves import length
from nomogon_core.sentence import Angle, Choice, Count, Declaration, Length, When
from nomogon_core.sketch import arrange
from nomogon_core.sketch.blanks import Curves, LineBlank, Spot
from nomogon_core.sketch.dimensions import refreshed

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 6
MOST_COPIED = 5000
ALONG_STEPS = 400


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
    curve = sketch.geometry(filled["along"])
    t = np.linspace(0, span(curve), ALONG_STEPS * max(1, round(span(curve))) + 1)
    places, ways = (np.array(one) for one in zip(*(at(curve, one) for one in t)))
    run = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(places, axis=0).T))])
    closed = math.dist(places[0], places[-1]) < 1e-9 * max(length(curve), 1.0)
    stops = np.linspace(0, run[-1], count + 1)[:-1] if closed else np.linspace(0, run[-1], count)
    made = []
    for stop in stops[1:]:
        here = np.interp(stop, run, t)
        place, way = at(curve, float(here))
        angle = math.atan2(way[1], way[0]) - math.atan2(ways[0][1], ways[0][0])
        turn = arrange.turned(tuple(places[0]), angle)
        made.append(arrange.Placing(turn.matrix, turn.offset + place - places[0]))
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
