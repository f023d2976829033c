"""Sketches and planes as sentences of the Build sheet: where something new lies; commands carry them out."""

from __future__ import annotations

from typing import Any

import attrs

from nomogon_core.errors import OperationError
from nomogon_core.sentence import Angle, Declaration, Length, Words
from nomogon_core.solid.sentence import AxisBlank, CornersBlank, PlaneBlank

FACE = "Click a flat face of the solid, or step through the planes with the arrow keys."


def _by_its_command(*_: Any) -> None:
    raise OperationError("A sketch or a plane is made by its own command.")


@attrs.frozen
class Place(Declaration):
    """A sentence that a command carries out.

    Attributes:
        command: its name; fixed: arguments that are always the same.
    """

    command: str = ""
    fixed: dict = attrs.field(factory=dict)


def _plane(kind, told, *sentence):
    return Place(
        kind=f"plane-{kind}",
        title="Plane",
        shelf="Planes",
        told=told,
        sentence=sentence,
        build=_by_its_command,
        command="plane.add",
        fixed={"kind": kind, "fields": {}},
    )


_SENTENCES = (
    Place(
        kind="sketch",
        title="Sketch",
        shelf="Planes",
        told="Click the flat face that the sketch should lie on.",
        sentence=(
            "Sketch",
            Words("title", asks="Type what the sketch is called.", empty="a name"),
            "on",
            PlaneBlank("plane", asks=FACE, empty="a plane"),
            ".",
        ),
        build=_by_its_command,
        command="sketch.new",
    ),
    _plane(
        "offset",
        "Click the plane or flat face to offset from.",
        "Plane offset from",
        PlaneBlank("from", asks=FACE, empty="a plane"),
        "by",
        Length("distance", asks="Type how far.", empty="a distance", usual="5 mm", usual_in="1/4 in", positive=False),
        ".",
    ),
    _plane(
        "turned",
        "Click the plane or flat face to turn.",
        "Plane",
        PlaneBlank("from", asks=FACE, empty="a plane"),
        "turned about",
        AxisBlank(
            "axis",
            asks="Click a straight edge of the solid, or choose an axis of that plane.",
            options={"across": "its level axis", "up": "its upright axis"},
        ),
        "by",
        Angle("angle", asks="Type the angle.", empty="an angle", usual="30°"),
        ".",
    ),
    _plane(
        "midway",
        "Click the first of two planes or flat faces.",
        "Plane midway between",
        PlaneBlank("first", asks=FACE, empty="a plane"),
        "and",
        PlaneBlank("second", asks=FACE, empty="another"),
        ".",
    ),
    _plane(
        "points",
        "Click three corners of the solid.",
        "Plane through",
        CornersBlank(
            "points",
            asks="Click three corners of the solid, or step through them with the arrow keys.",
            empty="three corners",
        ),
        ".",
    ),
)
PLACES = {one.kind: one for one in _SENTENCES}
