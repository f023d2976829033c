"""How sure the outer sizes of bodies are: the picture's part in them, carried from the sketch to the solid."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.geometry.curves import sample
from nomogon_core.job.document import calibration_of
from nomogon_core.job.quantities import environment, u95_of, web_of
from nomogon_core.sketch.joint import U95
from nomogon_core.sketch.spread import span_u95
from nomogon_core.trace.outlines import scale_u95

if TYPE_CHECKING:
    from nomogon_core.job.overview import Overview
    from nomogon_core.sketch.model import Sketch

_SIDE = re.compile(r"(op\d+)\.(?:side|wall)\(([^()~]+)\)")
_END = re.compile(r"(op\d+)\.(?:top|bottom|floor)")
LEVEL, MOST_ASKED, SEEN_MM, LEVEL_MM = 1e-9, 12, 1e-3, 1e-6


def sizes_u95(view: Overview, body: str) -> list[float | None]:
    """95 % uncertainty in millimetres of the size of a body along x, y and z; None where it cannot be told: the faces
    there are not those of one sketch, or not the two ends of one operation."""
    result = view.result or {}
    told: list[float | None] = []
    for axis, pair in enumerate(result.get("extremes", {}).get(body, ())):
        told.append(_across(view, axis, *pair) if all(pair) else None)
    return told


@attrs.frozen
class Sure:
    """The outer size that the picture makes least sure.

    Attributes:
        body: id; axis: 0, 1, 2 along x, y, z; size, u95: millimetres.
        picture: id of a picture that it was traced in; ends: the two places in the sketch that it lies between.
    """

    body: str
    axis: int
    size: float
    u95: float
    picture: str
    ends: tuple


def least_sure(view: Overview) -> Sure | None:
    """The size of a body, between two sides that came of a traced sketch, with the largest uncertainty."""
    found = None
    for body, pairs in ((view.result or {}).get("extremes") or {}).items():
        facts = (view.result or {})["bodies"].get(body)
        for axis, pair in enumerate(pairs):
            sides = [next(filter(None, map(_SIDE.fullmatch, names)), None) for names in pair]
            u95 = _across(view, axis, *pair) if all(sides) and facts else None
            if not u95 or (found is not None and u95 <= found.u95):
                continue
            low, high = facts["box"][0][axis], facts["box"][1][axis]
            told = _traced_between(view, axis, *sides)
            found = Sure(body, axis, high - low, u95, *told) if told else found
    return found


def _traced_between(view, axis, low, high):
    """(picture, the two places) of a size between two sides, or None."""
    name, frame = _frame_of(view, low[1])
    sketch = view.sketches[name].sketch if frame else None
    if sketch is None or low[2] not in sketch.curves or high[2] not in sketch.curves:
        return None
    traces = view.document["traces"]
    picture = next((traces[sketch.curves[one[2]].origin]["picture"] for one in (low, high)
                    if sketch.curves[one[2]].origin in traces), None)  # fmt: skip
    if picture is None:
        return None
    way = np.array([frame["across"][axis], frame["up"][axis]])
    ends = []
    for side, sign in ((low, -1), (high, 1)):
        places = sample(sketch.geometry(side[2]), SEEN_MM)
        reach = places @ (sign * way)
        # A straight side lies all along the end of the size: its middle.
        ends.append(tuple(places[reach > reach.max() - LEVEL_MM].mean(axis=0).tolist()))
    return picture, tuple(ends)


def _across(view, axis, low, high):
    for pattern, told in ((_SIDE, _between_sides), (_END, _between_ends)):
        found = [next(filter(None, map(pattern.fullmatch, names)), None) for names in (low, high)]
        if all(found):
            u95 = told(view, axis, *found)
            if u95 is not None:
                return u95
    return None


def _frame_of(view, operation):
    """(sketch that an operation raises, its frame) or (None, None)."""
    name = _sketch_of(view.document, operation)
    return name, (view.result or {}).get("frames", {}).get(name)


def _between_sides(view, axis, low, high):
    """Of the distance of two sides that were raised from one sketch, which does not lean against the axis."""
    (name, frame), other = _frame_of(view, low[1]), _sketch_of(view.document, high[1])
    if frame is None or name != other or abs(frame["normal"][axis]) > LEVEL:
        return None
    way = (frame["across"][axis], frame["up"][axis])
    sketch = view.sketches[name].sketch
    return span_u95(sketch, low[2], high[2], way, _scale_sigma(view.document, sketch))


def _between_ends(view, axis, low, high):
    """Of the distance of the two ends of one operation, whose sketch lies square to the axis."""
    _, frame = _frame_of(view, low[1])
    if frame is None or low[1] != high[1] or abs(frame["normal"][axis]) < 1 - LEVEL:
        return None
    return _length_u95(view, low[1])


def _sketch_of(document: dict[str, Any], operation: str) -> str | None:
    """The sketch whose regions an operation raises."""
    data = document["operations"].get(operation)
    picked = data and data["kind"] == "extrude" and data["blanks"].get("regions")
    return picked["sketch"] if picked else None


def _length_u95(view, operation):
    """Of the length of an extrusion by a number; what it starts at moves both its ends."""
    blanks = view.document["operations"].get(operation, {}).get("blanks", {})
    length = blanks.get("length")
    if blanks.get("extent") != "by" or not length or length.get("late"):
        return None
    web = web_of(view.document)
    if f"operation:{operation}:length" not in web.uses:
        return 0.0
    known = environment(view.document, web).get(length.get("name", ""))
    return u95_of(known) if known is not None else None


def _scale_sigma(document: dict[str, Any], sketch: Sketch) -> float:
    """Relative standard uncertainty of the scale where a sketch was traced; the largest of its pictures."""
    shares: list[float] = []
    for trace in {curve.origin for curve in sketch.curves.values()} & document["traces"].keys():
        fit = calibration_of(document, document["traces"][trace]["picture"])
        if fit is None or fit.is_set:
            continue
        names = [name for name, curve in sketch.curves.items() if curve.origin == trace]
        shares += [scale_u95(fit, sketch.geometry(name)) for name in names[:MOST_ASKED]]
    return float(np.max(shares, initial=0.0)) / U95
