"""Outlines lifted out of a plan as a cross-section of their own: its origin, its station and its turn."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.errors import SketchError
from nomogon_core.sentence import Angle, Clause, Declaration, Length, Words
from nomogon_core.sketch import edit
from nomogon_core.sketch.arrange import Apart, Edited
from nomogon_core.sketch.blanks import Curves, Spot
from nomogon_core.sketch.chains import chains
from nomogon_core.sketch.dimensions import in_words
from nomogon_core.sketch.model import CLOSED

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 9


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    names = _hanging_together(sketch, filled["curves"])
    if any(not closed for _, closed in chains(sketch, [one for one in names if not sketch.curves[one].construction])):
        raise SketchError("A section is made of closed outlines; close this one first, or choose another.")
    inside = {*names, *(point for name in names for point in sketch.curves[name].points)}
    moving = {key: item for key, item in sketch.constraints.items() if set(item.of) <= inside}
    left = edit.remove(sketch, names)
    lost = [in_words(sketch, key) for key in sketch.constraints if key not in left.constraints and key not in moving]
    own = attrs.evolve(
        sketch,
        points={point: place for point, place in sketch.points.items() if point in inside},
        curves={name: sketch.curves[name] for name in names},
        constraints={key: attrs.evolve(item, against=()) for key, item in moving.items()},
    )
    title = " ".join(filled["title"].split())
    return Edited(left, f"Section {title} lifted out", tuple(lost), Apart(own, title, tuple(filled["origin"])))


def _hanging_together(sketch, chosen):
    """The chosen curves and all that hang on their ends."""
    at: dict[str, list[str]] = {}
    for name, curve in sketch.curves.items():
        for point in curve.points if curve.kind in CLOSED else curve.end_points():
            at.setdefault(point, []).append(name)
    found, ahead = dict.fromkeys(chosen), list(chosen)
    while ahead:
        curve = sketch.curve(ahead.pop())
        for point in curve.points if curve.kind in CLOSED else curve.end_points():
            new = [name for name in at[point] if name not in found]
            found.update(dict.fromkeys(new))
            ahead += new
    return list(found)


DECLARATION = Declaration(
    kind="section",
    title="Section",
    shelf="Picture",
    told="Click the outlines of one cross-section of the plan.",
    sentence=(
        "Lift",
        Curves("curves", asks="Click the outlines of one cross-section; each comes whole.", empty="outlines"),
        "out as section",
        Words("title", asks="Type what the section is called.", empty="a name"),
        ", with its origin at",
        Spot("origin", asks="Click near its cross-hair, or the place or point that is its origin.", empty="a place"),
        ", standing",
        Length(
            "station",
            asks="Type how far from the plan it stands.",
            empty="a distance",
            usual="0 mm",
            usual_in="0 in",
            positive=False,
        ),
        "from the plan",
        Clause(
            offer="turn it",
            parts=(
                ", turned by",
                Angle("turn", asks="Type by how much it is turned about its origin.", empty="an angle", usual="15°"),
            ),
        ),
        ".",
    ),
    build=build,
    example={"curves": ["c1"], "title": "Root", "origin": [0, 0], "station": "20 mm", "turn": "15°"},
)
