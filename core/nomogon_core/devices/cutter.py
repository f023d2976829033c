"""A simulated cutter, laser or router, a stand-in for a real one: copies of a flat part nested on a sheet, the way of
the tool along them, and what it takes in time. No machine runs from it."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from typing import Any

import attrs
import numpy as np
import shapely

from nomogon_core.devices.motion import seconds_along
from nomogon_core.exchange.nesting import Nest, nest_of
from nomogon_core.geometry.curves import outline_points
from nomogon_core.quantity.units import format_short

CHORD_MM, LEAD_MM, LEAD_STEPS, TOUCH, STARTS, SAME_MM = 0.01, 2.0, 7, 0.98, 48, 1e-6
# Common practice of small machines: mm/s between cuts, mm/s², mm/s at a right corner.
RAPID, ACCELERATION, JERK = 200.0, 1500.0, 10.0


@attrs.frozen
class Stroke:
    """One cut of the part: the lead-in (n, 2), on which the tool comes out of the waste, and the closed line (n, 2)
    from where that ends."""

    lead: np.ndarray
    line: np.ndarray


@attrs.frozen
class Move:
    """What the tool does from one time to another, seconds: along places (n, 2), cutting or not."""

    cuts: bool
    places: np.ndarray
    begin: float
    end: float


@attrs.frozen
class Cut:
    """What cutting one sheet takes.

    Attributes:
        nest: where the copies lie; moves: of the tool on the first sheet, in order.
        made: outlines (n, 2) of the parts as they come off, copy by copy, millimetres.
        seconds, metres: of the first sheet, and the way that is cut there; bare: how many cuts begin on the outline,
            since there is no room for a lead-in.
    """

    nest: Nest
    moves: tuple[Move, ...] = attrs.field(repr=False)
    made: tuple[np.ndarray, ...] = attrs.field(repr=False)
    seconds: float
    metres: float
    bare: int


def cut(areas: Sequence[Sequence[Sequence[Any]]], cutter: Mapping[str, float]) -> Cut:
    """A flat part cut out along its outlines as the file has them.

    Args:
        areas: of each, curves of the line to follow around it, then of those around its holes.
        cutter: its numbers by name, see :data:`nomogon_core.inspect.making.CUTTER`.

    Raises:
        OperationError: it does not go on the sheet.
    """
    rings = [_turned([outline_points(list(loop), CHORD_MM) for loop in area]) for area in areas]
    made = [shapely.Polygon(loops[0], loops[1:]).buffer(-cutter["kerf"] / 2, quad_segs=32) for loops in rings]
    strokes = _strokes(rings, made, cutter)
    nest = nest_of(areas, cutter)
    moves, at, clock, cut_mm = [], np.zeros(2), 0.0, 0.0
    once = [cutter["passes"] * (cutter["pierce"] + _seconds(one, cutter["feed"])) for one in strokes]
    for place in nest.places:
        for stroke, seconds in zip(strokes, once):
            lead, line = place.moved(stroke.lead), place.moved(np.vstack([stroke.line, stroke.line[:1]]))
            way = np.vstack([lead, line[1:]])
            rapid = float(np.hypot(*(way[0] - at))) / RAPID
            moves.append(Move(False, np.array([at, way[0]]), clock, clock + rapid))
            clock += rapid
            moves.append(Move(True, way, clock, clock + seconds))
            clock, at = clock + seconds, way[-1]
            cut_mm += _length(way)
    whole = [ring for polygon in made for ring in _rings_of(polygon)]
    parts = tuple(place.moved(ring) for place in nest.places for ring in whole)
    bare = sum(len(one.lead) == 1 for one in strokes)
    return Cut(nest, tuple(moves), parts, clock, cut_mm / 1000, bare)


def _turned(loops):
    """Points of loops, the material to their left: outlines counter-clockwise, holes clockwise."""
    return [loop[::-1] if shapely.LinearRing(loop).is_ccw == (index > 0) else loop for index, loop in enumerate(loops)]


def _rings_of(polygon):
    for part in shapely.get_parts(polygon):
        for ring in (part.exterior, *part.interiors):
            yield np.array(ring.coords)[:-1]


def _strokes(rings, made, cutter):
    """The cuts of a copy in order: inner ones first, each the nearest next; then what is around them."""
    material, strokes, at = shapely.union_all(made), [], np.zeros(2)
    for loops in sorted(rings, key=lambda loops: float(loops[0].min(axis=0).sum())):
        holes = list(loops[1:])
        while holes:
            index = min(range(len(holes)), key=lambda k: float(np.hypot(*(holes[k] - at).T).min()))
            strokes.append(_stroke(holes.pop(index), material, at, cutter))
            at = strokes[-1].line[0]
        strokes.append(_stroke(loops[0], material, at, cutter))
        at = strokes[-1].line[0]
    return strokes


def _stroke(ring, material, at, cutter):
    """A closed line begun where a quarter arc out of the waste leads into it, as near as that goes."""
    # In the middle of long straight pieces there is room that a corner does not have.
    after = np.roll(ring, -1, axis=0)
    long = np.hypot(*(after - ring).T) > cutter["gap"]
    ring = np.vstack([[a, *([(a + b) / 2] if is_long else [])] for a, b, is_long in zip(ring, after, long)])
    order = np.argsort(np.hypot(*(ring - at).T))
    steps = np.roll(ring, -1, axis=0) - np.roll(ring, 1, axis=0)
    for reach in (1.0, 0.5, 0.25):
        radius = min(LEAD_MM, cutter["gap"] / 2) * reach
        for start in order[:: max(1, len(order) // STARTS)].tolist():
            way = steps[start] / max(float(np.hypot(*steps[start])), 1e-12)
            waste = np.array([way[1], -way[0]])
            angles = np.linspace(math.pi / 2, 0.0, LEAD_STEPS)
            centre = ring[start] + radius * waste
            lead = centre - radius * (np.cos(angles)[:, None] * waste + np.sin(angles)[:, None] * way)
            if shapely.LineString(lead[:-1]).distance(material) >= TOUCH * cutter["kerf"] / 2:
                return Stroke(lead, np.roll(ring, -start, axis=0))
    start = int(order[0])
    return Stroke(ring[start : start + 1], np.roll(ring, -start, axis=0))


def _seconds(stroke, feed):
    return _length(stroke.lead) / feed + seconds_along([stroke.line], feed, ACCELERATION, JERK)


def _length(places):
    return float(np.hypot(*np.diff(places, axis=0).T).sum()) if len(places) > 1 else 0.0


def allows(kerf: float, allowed: float) -> bool:
    """Whether the files allow for the whole width of the cut."""
    return abs(kerf - allowed) < SAME_MM


def in_words(told: Cut, kerf: float, allowed: float, unit: str) -> str:
    """What is to be known of the parts as they come off: how far they are off where the files allow for another width
    than that of the cut, and where a cut begins on the outline itself."""
    off, sizes = kerf - allowed, [format_short(size, unit=unit) for size in (allowed, kerf, abs(kerf - allowed))]
    if allows(kerf, allowed):
        words = "The files allow for the whole cut: the part comes off with the sizes of the design."
    else:
        ways = "small, its holes too large" if off > 0 else "large, its holes too small"
        words = (
            f"The files allow for {sizes[0]} of the {sizes[1]} {unit} that the cut takes: the part comes off "
            f"{sizes[2]} {unit} too {ways}."
        )
    if told.bare:
        begin = "one cut begins" if told.bare == 1 else f"{told.bare} cuts begin"
        words += f" Without room to come out of the waste, {begin} on the outline itself."
    return words


def preview(told: Cut, cutter: Mapping[str, float]) -> bytes:
    """JSON for a page: the sheet, the parts as SVG paths (y down), and the moves: whether each cuts, its path, and from
    when to when."""

    def path(places, closed=""):
        return "M" + "L".join(f"{x:.2f} {cutter['sheet_y'] - y:.2f}" for x, y in places) + closed

    moves = [[int(one.cuts), path(one.places), round(one.begin, 2), round(one.end, 2)] for one in told.moves]
    parts = "".join(path(ring, "Z") for ring in told.made)
    data = {"sheet": [cutter["sheet_x"], cutter["sheet_y"]], "parts": parts, "moves": moves}
    return json.dumps(data, separators=(",", ":")).encode()
