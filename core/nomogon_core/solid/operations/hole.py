"""Round holes at circles, arcs or points of a sketch, from the outermost of the body along the sketch's normal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.sentence import Choice, Declaration, Length, When
from nomogon_core.solid.sentence import BodyBlank, Centres

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 2
OVERSHOOT_MM = 1.0


def build(ask: Ask) -> dict[str, Body]:
    body = ask.body("body")
    frame, centres = ask.centres("centres")
    bottom, top = ask.heights(body, frame)
    low = bottom - OVERSHOOT_MM if ask.choice("extent") == "through" else top - ask.number("depth")
    tools, names = [], ask.no_names()
    for name, place in centres:
        maker = ask.kernel.cylinder(*place, low, top + OVERSHOOT_MM - low, ask.number("diameter") / 2)
        for face in ask.kernel.faces_of(maker.Shape()):
            way = ask.kernel.face_normal_z(face)
            role = "wall" if way == 0 else "floor" if way < 0 else "mouth"
            names.put(face, ask.called(f"{role}({name})"))
        tools.append(maker.Shape())
    tools, names = ask.placed(tools, names, frame)
    return ask.put("cut", "body", tools, names)


DECLARATION = Declaration(
    kind="hole",
    title="Hole",
    shelf="Holes",
    told="Click the circles of the sketch that should be holes.",
    sentence=(
        "Hole at",
        Centres("centres", asks="Click the circles of the sketch that should be holes.", empty="the circles"),
        "of diameter",
        Length("diameter", asks="Type the diameter.", empty="a diameter", usual="4.5 mm", usual_in="3/16 in"),
        ",",
        Choice("extent", asks="How deep it goes.", options={"through": "through everything", "by": "deep"}),
        When(
            "extent",
            ("by",),
            (
                Length(
                    "depth",
                    asks="Type the depth, from the outermost of the body.",
                    empty="a depth",
                    usual="3 mm",
                    usual_in="1/8 in",
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
        "diameter": "4.5 mm",
        "extent": "through",
        "body": "b1",
    },
)
