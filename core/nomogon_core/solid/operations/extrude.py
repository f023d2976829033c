"""Extrude regions of a sketch along the normal of its plane."""

from __future__ import annotations

from typing import TYPE_CHECKING

from nomogon_core.sentence import Choice, Clause, Declaration, Length, When
from nomogon_core.solid.sentence import BodyBlank, Regions

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.planes import Frame

ORDER = 1
OVERSHOOT_MM = 1.0


def span(ask: Ask, frame: Frame) -> tuple[float, float]:
    """(low, height) of the prism along the normal of the plane."""
    start = ask.number("start")
    if ask.choice("extent") == "through":
        low, high = ask.heights(ask.body("body"), frame)
        return low - OVERSHOOT_MM, high - low + 2 * OVERSHOOT_MM
    length, way = ask.number("length"), ask.choice("way")
    if way == "both":
        return start - length / 2, length
    return (start - length, length) if way == "down" else (start, length)


def build(ask: Ask) -> dict[str, Body]:
    frame, regions = ask.regions("regions")
    low, height = span(ask, frame)
    tools, names = [], ask.no_names()
    for loops in regions:
        face, named = ask.kernel.face_of(loops, low)
        maker = ask.kernel.prism(face, height)
        for edge, curve in named:
            for side in ask.kernel.items(maker.Generated(edge)):
                names.put(side, ask.called(f"side({curve})"))
        names.put(maker.FirstShape(), ask.called("bottom"))
        names.put(maker.LastShape(), ask.called("top"))
        tools.append(maker.Shape())
    tools, names = ask.placed(tools, names, frame)
    return ask.put(ask.choice("result"), "body", tools, names)


DECLARATION = Declaration(
    kind="extrude",
    title="Extrude",
    shelf="Shape",
    told="Click the regions to extrude; click again to leave one out.",
    sentence=(
        "Extrude",
        Regions("regions", asks="Click the regions to extrude; click again to leave one out.", empty="the regions"),
        Choice("extent", asks="How far it goes.", options={"by": "by", "through": "through everything"}),
        When(
            "extent",
            ("by",),
            (
                Length("length", asks="Type how far to extrude.", empty="a length", usual="6 mm", usual_in="1/4 in"),
                Choice(
                    "way",
                    asks="Which way from the sketch's plane.",
                    options={"up": "up", "down": "down", "both": "both ways, half each"},
                ),
                Clause(
                    "starting at",
                    (
                        ", starting",
                        Length(
                            "start",
                            asks="Type how far above the plane it starts; below is negative.",
                            usual="1 mm",
                            positive=False,
                        ),
                        "above the plane",
                    ),
                ),
            ),
        ),
        ",",
        Choice(
            "result",
            asks="What becomes of it.",
            options={"new": "as new body", "add": "added to", "cut": "cut out of"},
        ),
        BodyBlank(
            "body", asks="Click the body, or type the name of the new one.", empty="a body", when="result", makes="new"
        ),
        ".",
    ),
    build=build,
    example={
        "regions": {"sketch": "s1", "names": ["region c4 c6 c8 c10"]},
        "extent": "by",
        "length": "6 mm",
        "way": "up",
        "result": "new",
        "body": "Plate",
    },
)
