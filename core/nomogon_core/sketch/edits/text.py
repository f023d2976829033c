"""Text as outlines that can be extruded, cut or engraved."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import bounds, moved
from nomogon_core.geometry.lettering import FONTS, letter
from nomogon_core.sentence import Choice, Clause, Declaration, Length, Words
from nomogon_core.sketch import edit
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import Spot

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 24
CHORD_MM = 0.01
SHARES = {"left": 0.0, "middle": 0.5, "right": 1.0}


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    words, height = " ".join(filled["words"].split()), filled["height"]
    set_ = letter(words, font=filled["font"], cap_height=height, spacing=filled.get("spacing", 0.0))
    if set_.missing:
        raise SketchError(f"This font has no {', '.join(sorted(set(set_.missing)))}; take another font or other words.")
    if not set_.outlines:
        raise SketchError("There is nothing to draw: type at least one letter.")
    (left, _), (right, _) = bounds([curve for outline in set_.outlines for curve in outline], CHORD_MM)
    offset = np.array(filled["place"]) - [left + SHARES[filled["from"]] * (right - left), 0.0]
    for outline in set_.outlines:
        placed = [moved(curve, lambda place: tuple(np.add(place, offset))) for curve in outline]
        sketch, _, _ = edit.add_outline(sketch, placed, [None] * len(placed), origin="drawn")
    return Edited(sketch, f"Text {words!r} drawn, {right - left:.2f} mm long")


DECLARATION = Declaration(
    kind="text",
    title="Text",
    shelf="Shape",
    told="Click where the text stands.",
    sentence=(
        "Text",
        Words("words", asks="Type the text.", empty="words"),
        "in",
        Choice(
            "font",
            asks="In which letters.",
            options={name: name for name in FONTS},
        ),
        ",",
        Length("height", asks="Type how high its capitals are.", empty="a height", usual="6 mm", usual_in="1/4 in"),
        "high,",
        Choice(
            "from",
            asks="How the text lies about the place.",
            options={"left": "beginning", "middle": "centred", "right": "ending"},
        ),
        "at",
        Spot("place", asks="Click where the text stands.", empty="a place"),
        Clause(
            offer="letters apart",
            parts=(
                ", letters",
                Length(
                    "spacing",
                    asks="Type how much farther apart the letters stand.",
                    empty="a length",
                    usual="0.3 mm",
                    usual_in="1/64 in",
                ),
                "farther apart",
            ),
        ),
        ".",
    ),
    build=build,
    example={"words": "HIVE 7", "font": "bold", "height": "6 mm", "from": "middle", "place": [20, 10]},
)
