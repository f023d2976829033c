"""Text as outlines that can be extruded, cut or engraved."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import Arc, Circle, Line, bounds, moved
from nomogon_core.geometry.lettering import FONTS, Lettering, letter
from nomogon_core.sentence import Angle, Choice, Clause, Declaration, Length, When, Words
from nomogon_core.sketch import edit
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import LineBlank, Spot
from nomogon_core.sketch.lying import Lying, corners_of, placed

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 24
CHORD_MM = 0.01
SHARES = {"left": 0.0, "middle": 0.5, "right": 1.0}
UPRIGHT = 1e-6


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    words = " ".join(filled["words"].split())
    set_ = _set(words, filled)
    left, right = _reach(set_)
    if filled["run"] == "along":
        outlines = set_.along(_path(sketch.geometry(filled["along"]), filled, (left, right)))
    else:
        placing = _placing(set_, filled)
        turn = filled.get("turn", 0.0)
        outlines = [tuple(moved(curve, placing.of, turn=turn) for curve in outline) for outline in set_.outlines]
    for outline in outlines:
        sketch, _, _ = edit.add_outline(sketch, list(outline), [None] * len(outline), origin="drawn")
    strokes = f", its narrowest stroke {set_.stroke:.2f} mm" if set_.stroke is not None else ""
    return Edited(sketch, f"Text {words!r} drawn, {right - left:.2f} mm long{strokes}")


def lying(_: Sketch, filled: dict[str, Any]) -> Lying:
    """How the text lies; along a curve it only has its place."""
    if filled["run"] == "along":
        return Lying(filled["place"], (), 0.0, False, {"move": "place"})
    set_ = _set(" ".join(filled["words"].split()), filled)
    low, high = bounds([curve for outline in set_.outlines for curve in outline], CHORD_MM)
    blanks = {"move": "place", "size": "height", "turn": "turn"}
    corners = corners_of(low, high, _placing(set_, filled))
    return Lying(filled["place"], corners, filled.get("turn", 0.0), False, blanks, filled["height"])


def _set(words, filled) -> Lettering:
    set_ = letter(words, font=filled["font"], cap_height=filled["height"], spacing=filled.get("spacing", 0.0))
    if set_.missing:
        raise SketchError(f"This font has no {', '.join(sorted(set(set_.missing)))}; take another font or other words.")
    if not set_.outlines:
        raise SketchError("There is nothing to draw: type at least one letter.")
    return set_


def _reach(set_):
    (left, _), (right, _) = bounds([curve for outline in set_.outlines for curve in outline], CHORD_MM)
    return left, right


def _placing(set_, filled):
    left, right = _reach(set_)
    return placed((left + SHARES[filled["from"]] * (right - left), 0.0), filled["place"], turn=filled.get("turn", 0.0))


def _path(curve, filled, reach):
    """Places and directions of a baseline beside a curve, by the distance along the text, whose letters stand left of
    it. It reads from left to right at its place, or upwards, or else the other way."""
    (left, right), away, height = reach, filled.get("away", 0.0), filled["height"]
    anchor, outside = left + SHARES[filled["from"]] * (right - left), filled["side"] == "outside"
    if isinstance(curve, Line):
        way = np.subtract(curve.end, curve.start) / math.dist(curve.start, curve.end)
        way = way if _reads(way) == (filled["reads"] == "upright") else -way
        # Above a line is where letters stand that are upright on it.
        stands = outside == (filled["reads"] == "upright")
        return _along_line(curve, filled["place"], anchor, way, away if stands else -away - height)
    if not isinstance(curve, (Circle, Arc)):
        raise SketchError("Text runs along lines, arcs and circles; choose one of these, or draw an arc for it.")
    run = np.subtract(filled["place"], curve.center)
    begin = math.atan2(run[1], run[0])
    clockwise = _reads((math.sin(begin), -math.cos(begin))) == (filled["reads"] == "upright")
    radius = curve.radius + (away if outside else -away)
    if outside != clockwise:
        radius += height if outside else -height
    if min(radius, radius - (0 if clockwise else height)) <= 0:
        raise SketchError(
            f"Letters {height:.2f} mm high do not fit inside a radius of {curve.radius:.2f} mm. Make them smaller, or "
            "let them stand outside."
        )
    if right - left > math.tau * radius:
        raise SketchError(
            f"The text is {right - left:.2f} mm long, and once around is only {math.tau * radius:.2f} mm; make it "
            "smaller."
        )
    sense = -1 if clockwise else 1

    def stop(distance):
        angle = begin + sense * (distance - anchor) / radius
        place = curve.center[0] + radius * math.cos(angle), curve.center[1] + radius * math.sin(angle)
        return place, angle + sense * math.pi / 2

    return stop


def _reads(way):
    """Whether what runs in this direction reads from left to right, or upwards."""
    return way[0] > UPRIGHT or (abs(way[0]) <= UPRIGHT and way[1] > 0)


def _along_line(line, place, anchor, way, beside):
    foot = np.asarray(line.start) + way * float(way @ np.subtract(place, line.start))
    foot = foot + beside * np.array([-way[1], way[0]])

    def stop(distance):
        x, y = foot + (distance - anchor) * way
        return (float(x), float(y)), math.atan2(way[1], way[0])

    return stop


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
        ",",
        Choice("run", asks="How it runs.", options={"straight": "straight on", "along": "along"}),
        When(
            "run",
            ("along",),
            (
                LineBlank("along", asks="Click the line, arc or circle to run along.", empty="a curve"),
                Choice(
                    "side",
                    asks="On which side of it.",
                    options={"outside": "outside or above,", "inside": "inside or below,"},
                ),
                Choice(
                    "reads",
                    asks="Which way it reads.",
                    options={"upright": "upright", "turned": "the other way round"},
                ),
                Clause(
                    offer="off it",
                    parts=(
                        ", off it by",
                        Length(
                            "away",
                            asks="Type how far off the curve.",
                            empty="a length",
                            usual="1 mm",
                            usual_in="1/32 in",
                        ),
                    ),
                ),
            ),
        ),
        When(
            "run",
            ("straight",),
            (
                Clause(
                    offer="turn it",
                    parts=(
                        ", turned by",
                        Angle("turn", asks="Type by how much it is turned.", empty="an angle", usual="90°"),
                    ),
                ),
            ),
        ),
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
    lying=lying,
    example={
        "words": "HIVE 7",
        "font": "bold",
        "height": "6 mm",
        "from": "middle",
        "place": [20, 10],
        "run": "straight",
    },
)
