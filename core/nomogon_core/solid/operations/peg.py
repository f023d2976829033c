"""Round pegs at circles, arcs or points of a sketch, standing on a face or on the sketch's plane."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Choice, Clause, Declaration, Length
from nomogon_core.solid.sentence import BodyBlank, Centres

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 5.5


def build(ask: Ask) -> dict[str, Body]:
    body = ask.body("body")
    frame, centres = ask.centres("centres")
    _, top = ask.heights(body, frame)
    foot = 0.0 if ask.choice("from") == "plane" else top
    radius, high, bevel = ask.number("diameter") / 2, ask.number("height"), ask.number("bevel")
    if bevel >= min(radius, high):
        raise OperationError(
            f"A bevel of {bevel:.2f} mm leaves nothing of a peg of {2 * radius:.2f} by {high:.2f} mm; type less."
        )
    tools, names = [], ask.no_names()
    for name, place in centres:
        parts = [(ask.kernel.cylinder(*place, foot, high - bevel, radius), "")]
        if bevel:
            parts.append((ask.kernel.cone(*place, foot + high - bevel, bevel, radius, radius - bevel), "tip_"))
        shapes = [
            ask.upright(maker.Shape(), names, name, (f"{prefix}side", "top", f"{prefix}foot"))
            for maker, prefix in parts
        ]
        tools.append(ask.joined(shapes, names) if bevel else shapes[0])
    tools, names = ask.placed(tools, names, frame)
    return ask.put("add", "body", tools, names)


DECLARATION = Declaration(
    kind="peg",
    title="Peg",
    shelf="Shape",
    told="Click the circles of the sketch that should be pegs.",
    sentence=(
        "Peg at",
        Centres("centres", asks="Click the circles of the sketch that should be pegs.", empty="the circles"),
        "of diameter",
        Length("diameter", asks="Type the diameter.", empty="a diameter", usual="4 mm", usual_in="5/32 in"),
        ",",
        Length("height", asks="Type how high it stands.", empty="a height", usual="6 mm", usual_in="1/4 in"),
        "high, standing on",
        Choice("from", asks="What it stands on.", options={"plane": "the sketch's plane", "top": "the outermost"}),
        "of",
        BodyBlank("body", asks="Click the body.", empty="a body"),
        Clause(
            offer="bevelled",
            parts=(
                ", bevelled by",
                Length(
                    "bevel",
                    asks="Type how far its tip is cut back, at 45°.",
                    empty="a length",
                    usual="0.6 mm",
                    usual_in="1/32 in",
                ),
            ),
        ),
        ".",
    ),
    build=build,
    example={
        "centres": {"sketch": "s1", "names": ["c5"]},
        "diameter": "4 mm",
        "height": "6 mm",
        "from": "plane",
        "body": "b1",
    },
)
