"""Operations done again: in a ring, in a row, or mirrored."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from nomogon_core.errors import OperationError
from nomogon_core.geometry.stops import evenly_along
from nomogon_core.sentence import Angle, Choice, Count, Declaration, Length, When
from nomogon_core.solid.phrases import JOB_AXES
from nomogon_core.solid.sentence import AxisBlank, Operations, PlaneBlank, Run

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 21


def build(ask: Ask) -> dict[str, Body]:
    changed: dict[str, Body] = {}
    moves = motions(ask)
    for told in ask.recorded("operations"):
        tools, names = [], ask.no_names()
        for copy, move in moves:
            tools += ask.transformed(told.tools, told.names, move, copy, names)[0]
        changed |= ask.after(changed).put_into(told.body, told.mode, tools, names)
    if not changed:
        raise OperationError("These operations put nothing into a body, so there is nothing to repeat.")
    return changed


def motions(ask: Ask) -> list[tuple[str, Any]]:
    """(what a copy is called, motion) of each."""
    way = ask.choice("way")
    if way == "mirror":
        return [("image", ask.kernel.mirroring(ask.plane("plane")))]
    count = int(ask.number("count"))
    if way == "path":
        return _along(ask, count)
    if way == "row":
        _, along = ask.axis("along")
        step = ask.number("apart")
        return [(f"copy{index}", ask.kernel.shifting(along, index * step)) for index in range(1, count)]
    axis = ask.axis("about")
    turn = 2 * math.pi / count if ask.choice("spread") == "full" else ask.number("angle")
    return [(f"copy{index}", ask.kernel.turning(*axis, index * turn)) for index in range(1, count)]


def _along(ask, count):
    """Evenly along curves of a sketch, from where these begin."""
    frame, runs = ask.runs("path")
    if len(runs) > 1:
        raise OperationError("The curves to go along have to hang together; choose one run of them.")
    (start, way), *stops = evenly_along(runs[0][0], count)
    turns = ask.choice("turning") == "with"
    return [
        (
            f"copy{index}",
            ask.kernel.carrying(
                frame.in_space(start), frame.normal, angle - way if turns else 0.0, frame.in_space(place)
            ),
        )
        for index, (place, angle) in enumerate(stops, 1)
    ]


RING = (
    "about",
    AxisBlank(
        "about",
        asks="Click a line of a sketch, a straight or a round edge, or choose an axis.",
        empty="an axis",
        options=JOB_AXES,
    ),
    ",",
)
ROW = (
    "along",
    AxisBlank(
        "along",
        asks="Click a line of a sketch or a straight edge, or choose an axis.",
        empty="an axis",
        options={axis: JOB_AXES[axis] for axis in ("x", "y", "z")},
    ),
    ",",
)
SPREAD = (
    Choice("spread", asks="How they are spread.", options={"full": "all round", "by": "every"}),
    When("spread", ("by",), (Angle("angle", asks="Type the angle between two.", empty="an angle", usual="30°"),)),
)
APART = (
    Length(
        "apart",
        asks="Type how far apart; negative goes the other way.",
        empty="a distance",
        usual="10 mm",
        usual_in="1/2 in",
        positive=False,
    ),
    "apart",
)
PATH = (
    Run("path", asks="Click curves of a sketch that hang together, the first first.", empty="curves"),
    ",",
    Choice("turning", asks="Whether the copies turn.", options={"with": "turned with them", "same": "not turned"}),
    ",",
)
DECLARATION = Declaration(
    kind="repeat",
    title="Repeat",
    shelf="Again",
    told="Click lines of the Build sheet that should be done again.",
    sentence=(
        "Repeat",
        Operations("operations", asks="Click lines of the Build sheet.", empty="operations"),
        Choice(
            "way",
            asks="Where the copies lie.",
            options={"ring": "in a ring", "row": "in a row", "path": "along", "mirror": "mirrored"},
        ),
        When("way", ("ring",), RING),
        When("way", ("row",), ROW),
        When("way", ("path",), PATH),
        When(
            "way",
            ("mirror",),
            ("in", PlaneBlank("plane", asks="Click a flat face, or choose a plane.", empty="a plane")),
        ),
        When(
            "way",
            ("ring", "row", "path"),
            (Count("count", asks="Type how many there are in all.", empty="how many", usual="6"), "in all,"),
        ),
        When("way", ("ring",), SPREAD),
        When("way", ("row",), APART),
        ".",
    ),
    build=build,
    example={"operations": {"operations": ["op3"]}, "way": "ring", "about": "z", "count": "6", "spread": "full"},
)
