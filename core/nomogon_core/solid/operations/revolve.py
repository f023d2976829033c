"""Turn regions of a sketch about an axis in its plane."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import outline_points
from nomogon_core.sentence import Angle, Choice, Declaration, When
from nomogon_core.solid.phrases import JOB_AXES, RESULT
from nomogon_core.solid.sentence import AxisBlank, Regions

if TYPE_CHECKING:
    from nomogon_core.solid.asking import Ask
    from nomogon_core.solid.bodies import Body

ORDER = 2
IN_PLANE, ON_AXIS_MM, CHORD_MM = 1e-7, 1e-6, 0.01


def build(ask: Ask) -> dict[str, Body]:
    frame, regions = ask.regions("regions")
    place, way = _in_sketch(ask.axis("axis"), frame)
    whole = ask.choice("extent") == "full"
    angle = 2 * math.pi if whole else ask.number("angle")
    if not 0 < angle <= 2 * math.pi + 1e-9:
        raise OperationError("The angle of a revolve lies between 0 and 360°.")
    tools, names = [], ask.no_names()
    for loops in regions:
        _check_side(loops, place, way)
        face, named = ask.kernel.face_of(loops, 0.0)
        maker = ask.kernel.revolution(face, (*place, 0.0), (*way, 0.0), angle)
        for edge, curve in named:
            # Of a whole turn the kernel does not tell the flat rings that edges square to the axis give.
            made = ask.kernel.items(maker.Generated(edge)) or ask.kernel.faces_along(maker.Shape(), edge)
            for side in made:
                names.put(side, ask.called(f"side({curve})"))
        if not whole:
            names.put(maker.FirstShape(), ask.called("start"))
            names.put(maker.LastShape(), ask.called("end"))
        tools.append(ask.kernel.outward(maker.Shape()))
    tools, names = ask.placed(tools, names, frame)
    return ask.put(ask.choice("result"), "body", tools, names)


def _in_sketch(axis, frame):
    """(place, unit direction) of an axis in the coordinates of a plane.

    Raises:
        OperationError: it does not lie in the plane.
    """
    (x, y, away), (u, v, w) = frame.of_space(axis[0]), frame.of_space(np.add(frame.origin, axis[1]))
    if abs(w) > IN_PLANE or abs(away) > IN_PLANE * max(1.0, abs(x), abs(y)):
        raise OperationError("The axis has to lie in the plane of the sketch; choose a line of the sketch itself.")
    return np.array([x, y]), np.array([u, v])


def _check_side(loops, place, way):
    points = np.vstack([outline_points([curve], CHORD_MM) for _, curve in loops[0]]) - place
    off = way[0] * points[:, 1] - way[1] * points[:, 0]
    if off.min() < -ON_AXIS_MM and off.max() > ON_AXIS_MM:
        raise OperationError(
            f"The region lies on both sides of the axis, by {min(-off.min(), off.max()):.2f} mm on the smaller; "
            "only one half of a profile can be turned."
        )


DECLARATION = Declaration(
    kind="revolve",
    title="Revolve",
    shelf="Shape",
    told="Click the regions of a half profile, then the line that it turns about.",
    sentence=(
        "Revolve",
        Regions("regions", asks="Click the regions of the half profile.", empty="the regions"),
        "about",
        AxisBlank(
            "axis",
            asks="Click a line of the sketch or a straight edge, or choose an axis.",
            empty="an axis",
            options={"y": JOB_AXES["y"], "x": JOB_AXES["x"], "z": JOB_AXES["z"]},
        ),
        Choice("extent", asks="How far it turns.", options={"full": "all round", "by": "by"}),
        When("extent", ("by",), (Angle("angle", asks="Type the angle.", empty="an angle", usual="180°"),)),
        *RESULT,
    ),
    build=build,
    example={
        "regions": {"sketch": "s1", "names": ["region c4 c6 c8 c10"]},
        "axis": {"sketch": "s1", "names": ["c4"]},
        "extent": "full",
        "result": "new",
        "body": "Cap",
    },
)
