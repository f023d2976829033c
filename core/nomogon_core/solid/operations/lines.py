"""Raise or cut lines of a sketch with a width: a sign or a plate of line-work, whose lines may cross and meet."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError, SketchError
from nomogon_core.sentence import Choice, Declaration, Length
from nomogon_core.sketch.offset import stroked
from nomogon_core.solid.phrases import RESULT
from nomogon_core.solid.sentence import Run

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 5.8


def build(ask: Ask) -> dict[str, Body]:
    frame, runs = ask.runs("curves", meeting=True)
    try:
        areas = stroked(runs, ask.number("width"))
    except SketchError as problem:
        raise OperationError(str(problem)) from None
    height, down = ask.number("height"), ask.choice("way") == "down"
    tools, names = [], ask.no_names()
    for number, loops in enumerate(areas, 1):
        called = [
            [(f"{number}.{side}.{index}", curve) for index, curve in enumerate(loop, 1)]
            for side, loop in enumerate(loops, 1)
        ]
        roles = ("side", f"bottom({number})", f"top({number})")
        tools.append(ask.prism(called, -height if down else 0.0, height, names, roles))
    tools, names = ask.placed(tools, names, frame)
    return ask.put(ask.choice("result"), "body", tools, names)


DECLARATION = Declaration(
    kind="lines",
    title="Line-work",
    shelf="Marks",
    told="Click the lines, or choose all of a trace; they may cross and meet.",
    sentence=(
        "Line-work along",
        Run("curves", asks="Click the lines, or choose all of a trace; they may cross and meet.", empty="the lines"),
        ",",
        Length("width", asks="Type how wide they are.", empty="a width", usual="2 mm", usual_in="1/16 in"),
        "wide, by",
        Length("height", asks="Type how far they go.", empty="a height", usual="2 mm", usual_in="1/16 in"),
        Choice("way", asks="Which way from the sketch's plane.", options={"up": "up", "down": "down"}),
        *RESULT,
    ),
    build=build,
    example={
        "curves": {"sketch": "s1", "names": [], "trace": "t5"},
        "width": "2 mm",
        "height": "3 mm",
        "way": "up",
        "result": "new",
        "body": "Sign",
    },
)
