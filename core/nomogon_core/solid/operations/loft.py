"""A solid through sections on several planes."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import bounds, moved
from nomogon_core.sentence import Choice, Clause, Declaration, Length, When
from nomogon_core.solid.phrases import RESULT
from nomogon_core.solid.sentence import Sections

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 3
DOME_SECTIONS = 7
MOST_SWING = 1.6
CHORD_MM = 0.01


def build(ask: Ask) -> dict[str, Body]:
    sections, straight = ask.sections("sections"), ask.choice("how") == "straight"
    _check(sections)
    wires, named = [], []
    for frame, loops in sections:
        wire, edges = ask.kernel.wire_in(loops[0], frame)
        wires.append(wire)
        named.append(edges)
    maker = _through(ask, wires, straight)
    if not straight and len(wires) > 2:
        _check_even(ask, maker, wires)
    names = ask.no_names()
    for edge, curve in named[0]:
        face = maker.GeneratedFace(edge)
        if not face.IsNull():
            names.put(face, ask.called(f"side({curve})"))
    names.put(maker.FirstShape(), ask.called("start"))
    names.put(maker.LastShape(), ask.called("end"))
    shapes = [ask.kernel.outward(maker.Shape())]
    if ask.choice("tip") != "flat":
        shapes.append(_rounded_end(ask, sections, wires[-1], ask.choice("tip"), ask.number("reach")))
        ask.name_rest(shapes[-1], names, "tip")
    if ask.choice("root"):
        shapes.append(_rounded_end(ask, sections[::-1], wires[0], "rounded", ask.number("root")))
        ask.name_rest(shapes[-1], names, "root")
    ask.name_rest(shapes[0], names)
    return ask.put(ask.choice("result"), "body", shapes, names)


def _through(ask, wires, straight, last=None):
    maker = ask.kernel.through_sections(wires, straight=straight, last=last)
    if not maker.IsDone():
        raise OperationError(
            "No solid goes through these sections; pick them in their order along it, or put one more between."
        )
    return maker


def _check_even(ask, maker, wires):
    """Refuse a smooth way that swings out between sections, as it does where stations are very uneven."""
    smooth = abs(ask.kernel.volume_properties(maker.Shape()).Mass())
    straight = abs(ask.kernel.volume_properties(_through(ask, wires, True).Shape()).Mass())
    if not straight / MOST_SWING < smooth < straight * MOST_SWING:
        raise OperationError(
            "Between these sections the smooth way swings far out, since their stations are too uneven; go straight, "
            "or put sections where they are far apart."
        )


def _check(sections):
    if any(len(loops) > 1 for _, loops in sections):
        raise OperationError("A section with holes in it cannot be lofted; loft its outline, and cut the holes after.")
    for (first, _), (second, _) in zip(sections, sections[1:]):
        away = np.subtract(second.origin, first.origin)
        if abs(np.dot(first.normal, second.normal)) > 1 - 1e-9 and abs(np.dot(away, first.normal)) < 1e-6:
            raise OperationError(
                "Two sections that follow one another lie in one plane; lay one of them on another plane."
            )


def _rounded_end(ask, sections, base, way, reach):
    """A solid on the last of some sections that ends in a point, or is rounded like half an ellipsoid."""
    (before, _), (frame, loops) = sections[-2:]
    sense = math.copysign(1.0, np.dot(np.subtract(frame.origin, before.origin), frame.normal))
    low, high = bounds([curve for _, curve in loops[0]], CHORD_MM)
    middle, wires = np.add(low, high) / 2, [base]
    for angle in _even(float(np.subtract(high, low).mean()) / 2, reach) if way == "rounded" else ():
        size = math.cos(angle)
        smaller = [
            (name, moved(curve, lambda place, size=size: tuple(middle + size * np.subtract(place, middle)), scale=size))
            for name, curve in loops[0]
        ]
        wires.append(ask.kernel.wire_in(smaller, frame, sense * math.sin(angle) * reach)[0])
    maker = _through(ask, wires, way == "pointed", frame.in_space(tuple(middle), sense * reach))
    return ask.kernel.outward(maker.Shape())


def _even(radius, reach):
    """Angles at which sections of half an ellipsoid lie evenly along its outline, so that the spline through them does
    not swing out."""
    angles = np.linspace(0, math.pi / 2, 361)
    steps = np.hypot(radius * np.diff(np.cos(angles)), reach * np.diff(np.sin(angles)))
    along = np.concatenate([[0.0], np.cumsum(steps)])
    return np.interp(along[-1] * np.arange(1, DOME_SECTIONS) / DOME_SECTIONS, along, angles).tolist()


DECLARATION = Declaration(
    kind="loft",
    title="Loft",
    shelf="Shape",
    told="Click the sections in their order, each on its own plane.",
    sentence=(
        "Loft through",
        Sections("sections", asks="Click the sections in their order.", empty="the sections"),
        ",",
        Choice("how", asks="How it goes from one to the next.", options={"smooth": "smoothly", "straight": "straight"}),
        ", ending",
        Choice("tip", asks="How it ends.", options={"flat": "flat", "pointed": "in a point", "rounded": "rounded,"}),
        When(
            "tip",
            ("pointed", "rounded"),
            (
                Length(
                    "reach",
                    asks="Type how far beyond the last section.",
                    empty="a length",
                    usual="5 mm",
                    usual_in="1/4 in",
                ),
                "beyond it",
            ),
        ),
        Clause(
            "round root",
            (
                ", beginning rounded,",
                Length(
                    "root",
                    asks="Type how far before the first section.",
                    empty="a length",
                    usual="5 mm",
                    usual_in="1/4 in",
                ),
                "before it",
            ),
        ),
        *RESULT,
    ),
    build=build,
    example={
        "sections": {"sections": [{"sketch": "s1", "name": "region c3"}, {"sketch": "s2", "name": "region c9"}]},
        "how": "smooth",
        "tip": "flat",
        "result": "new",
        "body": "Spout",
    },
)
