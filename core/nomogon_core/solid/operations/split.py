"""Divide a body by a plane."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import attrs

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Choice, Declaration, When
from nomogon_core.solid.sentence import BodyBlank, PlaneBlank

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 31
SPARE_MM = 10.0


def build(ask: Ask) -> dict[str, Body]:
    body, frame, keep = ask.body("of"), ask.plane("plane"), ask.choice("keep")
    low, high = ask.heights(body, frame)
    if not low < 0 < high:
        raise OperationError(f"The plane does not go through {body.title}; choose another, or move it.")
    here = attrs.evolve(frame, origin=frame.in_space(frame.of_space(body.facts.center)[:2]))
    reach, changed = math.dist(*body.facts.box) + SPARE_MM, {}
    if keep in ("above", "both"):
        changed |= ask.made(body.name, *ask.common(body, *_half(ask, here, reach, high)))
    if keep in ("below", "both"):
        name = ask.choice("body") if keep == "both" else body.name
        changed |= ask.made(name, *ask.common(body, *_half(ask, here.turned_over(), reach, -low)))
    return changed


def _half(ask, frame, reach, height):
    """A block on the upper side of a plane, whose face on it is called the cut."""
    block, names = ask.kernel.block(frame, reach, height + SPARE_MM), ask.no_names()
    for face in ask.kernel.faces_of(block):
        _, normal = ask.kernel.plane_of(face)
        if abs(sum(a * b for a, b in zip(normal, frame.normal)) + 1) < 1e-9:
            names.put(face, ask.called("cut"))
    return block, names


DECLARATION = Declaration(
    kind="split",
    title="Split",
    shelf="Bodies",
    told="Click the body, then the plane or flat face that divides it.",
    sentence=(
        "Split",
        BodyBlank("of", asks="Click the body.", empty="a body"),
        "by",
        PlaneBlank("plane", asks="Click a flat face, or choose a plane.", empty="a plane"),
        ", keeping",
        Choice(
            "keep",
            asks="What is kept.",
            options={"above": "what is above", "below": "what is below", "both": "both, what is below as"},
        ),
        When(
            "keep",
            ("both",),
            (BodyBlank("body", asks="Type the name of the new body.", empty="a name", when="keep", makes="both"),),
        ),
        ".",
    ),
    build=build,
    example={"of": "b1", "plane": "plan", "keep": "above"},
)
