"""Round holes at circles, arcs or points of a sketch: plain, counterbored or countersunk; from the outermost of the
body along the sketch's normal, or from the sketch's plane."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Angle, Choice, Clause, Declaration, Length, When
from nomogon_core.solid.sentence import BodyBlank, Centres

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 5
OVERSHOOT_MM = 1.0


def build(ask: Ask) -> dict[str, Body]:
    body = ask.body("body")
    frame, centres = ask.centres("centres")
    bottom, top = ask.heights(body, frame)
    face = 0.0 if ask.choice("from") == "plane" else top
    low = bottom - OVERSHOOT_MM if ask.choice("extent") == "through" else face - ask.number("depth")
    radius = ask.number("diameter") / 2
    _check_heads(ask, radius)
    tools, names = [], ask.no_names()
    for name, place in centres:
        parts = [(ask.kernel.cylinder(*place, low, top + OVERSHOOT_MM - low, radius), "")]
        if ask.choice("bore"):
            deep = ask.number("bore_depth")
            height = top + OVERSHOOT_MM - (face - deep)
            parts.append((ask.kernel.cylinder(*place, face - deep, height, ask.number("bore") / 2), "bore_"))
        if ask.choice("sink"):
            parts += _sunk(ask, place, face, top, radius)
        for maker, prefix in parts:
            roles = (f"{prefix}wall", f"{prefix}mouth", f"{prefix}floor")
            tools.append(ask.upright(maker.Shape(), names, name, roles))
    tools, names = ask.placed(tools, names, frame)
    return ask.put("cut", "body", tools, names)


def _sunk(ask, place, face, top, radius):
    """A cone from the hole's radius to that of the head at the face, and on beyond it."""
    head, slope = ask.number("sink") / 2, math.tan(ask.number("angle") / 2)
    deep = (head - radius) / slope
    beyond = top + OVERSHOOT_MM - face
    sunk = [(ask.kernel.cone(*place, face - deep, deep, radius, head), "sink_")]
    return [*sunk, (ask.kernel.cylinder(*place, face, beyond, head), "sink_above_")]


def _check_heads(ask, radius):
    for blank, word in (("bore", "counterbore"), ("sink", "countersink")):
        if ask.choice(blank) and ask.number(blank) / 2 <= radius:
            raise OperationError(
                f"The {word} of {ask.number(blank):.2f} mm is not wider than the hole of {2 * radius:.2f} mm."
            )
    if ask.choice("sink") and not 0 < ask.number("angle") < math.pi:
        raise OperationError("The angle of a countersink lies between 0 and 180°; 90° is usual.")


DECLARATION = Declaration(
    kind="hole",
    title="Hole",
    shelf="Shape",
    told="Click the circles of the sketch that should be holes.",
    sentence=(
        "Hole at",
        Centres("centres", asks="Click the circles of the sketch that should be holes.", empty="the circles"),
        "of diameter",
        Length(
            "diameter",
            asks="Type the diameter, or a screw: M4, M4 fine, M4 coarse.",
            empty="a diameter",
            usual="4.5 mm",
            usual_in="3/16 in",
        ),
        ",",
        Choice("extent", asks="How deep it goes.", options={"through": "through everything", "by": "deep"}),
        When(
            "extent",
            ("by",),
            (
                Length(
                    "depth",
                    asks="Type the depth, from the face that it is measured from.",
                    empty="a depth",
                    usual="3 mm",
                    usual_in="1/8 in",
                ),
            ),
        ),
        Clause(
            "counterbored",
            (
                ", counterbored",
                Length(
                    "bore", asks="Type how wide, or M4 head + 1 mm.", empty="a width", usual="8 mm", usual_in="5/16 in"
                ),
                "wide",
                Length(
                    "bore_depth",
                    asks="Type how deep, or M4 head height.",
                    empty="a depth",
                    usual="4 mm",
                    usual_in="3/16 in",
                ),
                "deep",
            ),
        ),
        Clause(
            "countersunk",
            (
                ", countersunk to",
                Length("sink", asks="Type how wide at the face.", empty="a width", usual="9 mm", usual_in="3/8 in"),
                "at",
                Angle("angle", asks="Type the angle of the cone.", empty="an angle", usual="90°"),
            ),
        ),
        Clause(
            "measured from",
            (
                ", measured from",
                Choice(
                    "from",
                    asks="Where depths begin.",
                    options={"plane": "the sketch's plane", "outermost": "the outermost of the body"},
                ),
            ),
        ),
        "in",
        BodyBlank("body", asks="Click the body.", empty="a body"),
        ".",
    ),
    build=build,
    example={
        "centres": {"sketch": "s1", "names": ["c12"]},
        "diameter": "M4",
        "extent": "through",
        "bore": "M4 head + 1 mm",
        "bore_depth": "M4 head height",
        "body": "b1",
    },
)
