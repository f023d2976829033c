"""Move or turn a body, or lay a flat face of it on a plane."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Angle, Choice, Clause, Declaration, Length, When
from nomogon_core.solid.phrases import JOB_AXES
from nomogon_core.solid.sentence import AxisBlank, BodyBlank, PlaneBlank

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 31.8
LEAST_MM = 1e-9


def build(ask: Ask) -> dict[str, Body]:
    body = ask.body("of")
    if ask.choice("how") == "onto":
        if ask.filled["face"]["body"] != body.name:
            raise OperationError(f"What comes to lie there is a face of {body.title}; click one that is flat.")
        face, plane = ask.plane("face"), ask.plane("plane")
        turned = ask.kernel.turning_onto(face.normal, tuple(-value for value in plane.normal), body.facts.center)
        matrix, offset = ask.kernel.matrix_of(turned)
        there = np.asarray(matrix) @ face.origin + offset
        lift = ask.kernel.shifting(plane.normal, -float((there - plane.origin) @ np.asarray(plane.normal)))
        return ask.elsewhere(body, lift.Multiplied(turned))
    way = np.array([ask.number(axis) for axis in ("x", "y", "z")])
    far = float(np.linalg.norm(way))
    moved = ask.kernel.shifting(tuple(way / far), far) if far > LEAST_MM else ask.kernel.shifting((0, 0, 1), 0.0)
    if ask.choice("angle"):
        moved = moved.Multiplied(ask.kernel.turning(*ask.axis("about"), ask.number("angle")))
    return ask.elsewhere(body, moved)


def _along(axis):
    return Length(axis, asks=f"Type how far along {axis}; below zero the other way.", usual="0 mm", positive=False)


DECLARATION = Declaration(
    kind="move",
    title="Move",
    shelf="Bodies",
    told="Click the body that moves.",
    sentence=(
        "Move",
        BodyBlank("of", asks="Click the body.", empty="a body"),
        Choice("how", asks="How its way is said.", options={"by": "by", "onto": "so that"}),
        When(
            "how",
            ("by",),
            (
                "x",
                _along("x"),
                "y",
                _along("y"),
                "z",
                _along("z"),
                Clause(
                    "turned",
                    (
                        ", turned by",
                        Angle("angle", asks="Type the angle; counter-clockwise about the axis.", usual="90°"),
                        "about",
                        AxisBlank("about", asks="Choose the axis, or click an edge or a line.", options=JOB_AXES),
                    ),
                ),
            ),
        ),
        When(
            "how",
            ("onto",),
            (
                PlaneBlank("face", asks="Click a flat face of the body.", empty="a flat face", of_face=True),
                "lies on",
                PlaneBlank("plane", asks="Click the plane or flat face that it comes to lie on.", empty="a plane"),
            ),
        ),
        ".",
    ),
    build=build,
    example={"of": "b1", "how": "by", "x": "10 mm", "y": "0 mm", "z": "0 mm"},
)
