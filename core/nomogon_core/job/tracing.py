"""A trace in the sketch: taken in, traced again with what was built on it kept, and held against the picture's edge."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from scipy.optimize import linear_sum_assignment

from nomogon_core.errors import TraceError
from nomogon_core.geometry.curves import Arc, Line, bounds, length, moved, sample
from nomogon_core.job.document import calibration_of, sketch_of
from nomogon_core.sketch import edit
from nomogon_core.sketch.dimensions import in_words, measure, refreshed
from nomogon_core.sketch.mirroring import joints_of_one_half, tied_halves
from nomogon_core.sketch.model import ROUND, Constraint
from nomogon_core.sketch.solve import solve
from nomogon_core.sketch.trim import HELD_ON
from nomogon_core.trace.distances import distances_from
from nomogon_core.tuples import as_tuple

if TYPE_CHECKING:
    from nomogon_core.reference.calibration import Calibration
    from nomogon_core.sketch.model import Sketch

SAME_CURVE_SHARE = 0.25
LEAST_REACH_MM = 0.5
PLACES = 9
FAR_COST = 1e6
BY_HAND = "drawn"
MOST_PLACES = 5
MOST_NAMED = 4
MEETING_SHARE = 0.75
AXIS_OVERHANG = 0.08
SLOT_U95S, SLOT_TURN = 1.5, math.radians(4.0)


@attrs.frozen
class Outlines:
    """What is put into the sketch: curves in millimetres with their 95 % uncertainties, closed or not, the width of a
    stroke; the axis of its halves as construction."""

    curves: tuple = attrs.field(converter=as_tuple)
    u95: tuple = attrs.field(converter=as_tuple)
    closed: bool = True
    axis: bool = False
    stroke_mm: float | None = None


def axis_outline(curves: list[Any], point: Sequence[float], angle: float, u95: float = 0.0) -> Outlines:
    """The mirror axis of curves as a line past both their ends.

    Args:
        point, angle: of the axis, millimetres and radians.
    """
    way = np.array([math.cos(angle), math.sin(angle)])
    along = (np.vstack([sample(curve, 0.05) for curve in curves]) - point) @ way
    reach = AXIS_OVERHANG * float(np.ptp(along))
    return Outlines(
        [Line(np.array(point) + (along.min() - reach) * way, np.array(point) + (along.max() + reach) * way)],
        [u95],
        closed=False,
        axis=True,
    )


def from_origin(outlines: list[Outlines], calibration: Calibration) -> tuple[list[Outlines], list[float]]:
    """Outlines moved so that their lower left corner is the origin.

    Returns:
        the outlines, and where that corner is in the picture, [x, y] in pixels.
    """
    (left, low), _ = bounds([curve for outline in outlines if not outline.axis for curve in outline.curves], 0.01)

    def place(point: Any) -> tuple[float, float]:
        return point[0] - left, point[1] - low

    there = [attrs.evolve(outline, curves=[moved(curve, place) for curve in outline.curves]) for outline in outlines]
    return there, calibration.to_px(np.array([[left, low]]))[0].tolist()


def taken_in(sketch: Sketch, outlines: list[Outlines], trace: str) -> tuple[Sketch, str]:
    """The sketch with outlines and tangent constraints at their smooth joints, if these can be met together.

    Returns:
        the sketch, and what came in, in words.
    """
    sketch, names, ties = _added(sketch, outlines, trace)
    sketch = _tied(sketch, names, ties)
    kinds = [curve.kind for curve in sketch.curves.values() if curve.origin == trace and not curve.construction]
    told = ", ".join(
        f"{kinds.count(kind)} {kind}{'s' if kinds.count(kind) > 1 else ''}"
        for kind in ("line", "arc", "circle", "ellipse", "spline")
        if kind in kinds
    )
    slots = sum(slot_ends(outline) is not None for outline in outlines)
    return sketch, told + (f" ({slots} slot{'s' if slots > 1 else ''})" if slots else "")


def slot_ends(outline: Outlines) -> tuple[int, int] | None:
    """Places among its curves of the two round ends of a slot: two arcs of one radius within their uncertainties, each
    half a turn, and two lines between; else None."""
    kinds = [type(curve) for curve in outline.curves]
    if not outline.closed or kinds not in ([Line, Arc] * 2, [Arc, Line] * 2):
        return None
    first, second = (index for index, kind in enumerate(kinds) if kind is Arc)
    one, other = outline.curves[first], outline.curves[second]
    alike = abs(one.radius - other.radius) <= SLOT_U95S * math.hypot(outline.u95[first], outline.u95[second])
    half = all(abs(abs(arc.sweep) - math.pi) < SLOT_TURN for arc in (one, other))
    return (first, second) if alike and half else None


def _added(sketch, outlines, trace):
    names, joints, slots, tips = [], [], [], []
    for outline in outlines:
        sketch, own, pairs = edit.add_outline(sketch, outline.curves, outline.u95, origin=trace, closed=outline.closed)
        round_ends = slot_ends(outline)
        if round_ends:
            slots.append(tuple(own[index] for index in round_ends))
        if outline.axis:
            sketch = edit.set_construction(sketch, own, True)
        if outline.stroke_mm and not outline.closed:
            tips += [(own[0], own[-1], MEETING_SHARE * outline.stroke_mm)]
        names += own
        joints += pairs
    return sketch, names, _Ties(tuple(joints), tuple(slots), tuple(tips))


@attrs.frozen
class _Ties:
    """New curves that could be related: pairs that follow one another, the round ends of slots, and the first and last
    curves of strokes with how near their ends are to what they meet, in mm."""

    joints: tuple
    slots: tuple
    tips: tuple = ()

    def renamed(self, name_of: dict[str, str]) -> _Ties:
        """With other names for some curves."""
        return _Ties(
            *(
                tuple(tuple(name_of.get(one, one) for one in group) for group in groups)
                for groups in (self.joints, self.slots, self.tips)
            )
        )


def _tied(sketch, names, ties):
    """The solved sketch with what relates new curves: slots, halves about their axis, if there is one, and smooth
    joints, as far as these can be met together."""
    axis = next((name for name in names if sketch.curves[name].construction), None)
    there = {frozenset(item.of) for item in sketch.constraints.values() if item.kind == "equal"}
    with_slots = sketch
    for pair in ties.slots:
        if frozenset(pair) not in there:
            with_slots, _ = edit.add_constraint(with_slots, Constraint("equal", pair, source="traced"))
    with_slots = _met(with_slots, ties.tips)
    if axis is not None:
        with_slots = tied_halves(with_slots, [name for name in names if name != axis], axis)
    solution = solve(with_slots)
    if not solution.solved:
        return tied_joints(sketch, ties.joints)
    return tied_joints(solution.sketch, ties.joints if axis is None else joints_of_one_half(sketch, ties.joints, axis))


def _met(sketch, tips):
    """The sketch with the loose ends of strokes joined to the ends, or put onto the lines, arcs and circles, that they
    run into; nothing is solved."""
    there = {frozenset(item.of) for item in sketch.constraints.values()}
    for first, last, reach in tips:
        for name, which in ((first, 0), (last, 1)):
            if first == last:
                point = sketch.curves[name].end_points()[which]
            else:
                neighbours = {
                    point for other, curve in sketch.curves.items() if other != name for point in curve.end_points()
                }
                point = next((one for one in sketch.curves[name].end_points() if one not in neighbours), None)
            if point is None or sum(point in curve.points for curve in sketch.curves.values()) > 1:
                continue
            sketch = _end_met(sketch, name, point, reach, there)
    return sketch


def _end_met(sketch, name, point, reach, there):
    """The sketch with one loose end joined to what is nearest to it, if that is in reach."""
    place = sketch.points[point]
    own = set(sketch.curves[name].points)
    others = {
        other: curve
        for other, curve in sketch.curves.items()
        if other != name and not curve.construction and not own & set(curve.end_points())
    }
    ends_near = [(math.dist(sketch.points[end], place), end) for curve in others.values() for end in curve.end_points()]
    if min(ends_near, default=(math.inf, ""))[0] <= reach:
        return edit.merge_points(sketch, min(ends_near)[1], point)
    curves_near = [
        (abs(float(distances_from([place], [sketch.geometry(other)])[0])), other)
        for other, curve in others.items()
        if curve.kind in HELD_ON
    ]
    off, other = min(curves_near, default=(math.inf, ""))
    if off <= reach and frozenset((point, other)) not in there:
        sketch, _ = edit.add_constraint(sketch, Constraint("on curve", (point, other), source="traced"))
    return sketch


def tied_joints(sketch: Sketch, joints: Sequence[tuple[str, str]]) -> Sketch:
    """With tangent constraints at smooth joints that have none; without them where they contradict."""
    there = {frozenset(item.of) for item in sketch.constraints.values() if item.kind == "tangent"}
    tied = sketch
    for constraint in edit.smooth_joints(sketch, joints):
        if frozenset(constraint.of) not in there:
            tied, _ = edit.add_constraint(tied, constraint)
    solution = solve(tied)
    return solution.sketch if solution.solved else sketch


@attrs.frozen
class TracedAgain:
    """A sketch after one of its traces was made anew.

    Attributes:
        sketch: with the new curves; those that still correspond have kept their names, and with them what was tied to
            them.
        kept: how many curves still correspond; new: how many do not.
        lost: in words, the constraints and dimensions that went with curves that are no more.
    """

    sketch: Sketch = attrs.field(repr=False)
    kept: int
    new: int
    lost: tuple

    def sentence(self) -> str:
        told = (
            f"{self.kept} curve{'s' if self.kept != 1 else ''} kept {'their' if self.kept != 1 else 'its'} place "
            f"in the sketch, {self.new} new"
        )
        if not self.lost:
            return told + "; no constraint was lost."
        more = len(self.lost) - MOST_NAMED
        return f"{told}. Lost: {', '.join(self.lost[:MOST_NAMED])}{f' and {more} more' if more > 0 else ''}."


def traced_again(sketch: Sketch, outlines: list[Outlines], trace: str) -> TracedAgain:
    """Replace what a trace brought in by new outlines.

    A new curve corresponds to an old one of the same kind that lies along it; each is matched at most once, the nearest
    first (assignment problem, Kuhn 1955).

    Raises:
        TraceError: the dimensions set by hand cannot be met with the new curves.
    """
    old = [name for name, curve in sketch.curves.items() if curve.origin == trace]
    fresh, names, ties = _added(sketch, outlines, trace)
    pairs = _matched(fresh, old, names)
    name_of = {after: before for before, after in pairs.items()}
    points, curves = _under_old_names(fresh, old, names, name_of)
    there = points.keys() | curves.keys()
    kept = {name: item for name, item in fresh.constraints.items() if all(one in there for one in item.of)}
    lost = tuple(
        _name_of(sketch, name)
        for name, item in fresh.constraints.items()
        if name not in kept and not (item.kind == "tangent" and item.source == "traced")
    )
    result = attrs.evolve(fresh, points=points, curves=curves, constraints=kept)
    measured = {
        name: attrs.evolve(item, value=measure(result, item.kind, item.of))
        for name, item in kept.items()
        if item.is_dimension and item.source == "traced"
    }
    result = attrs.evolve(result, constraints=kept | measured)
    solution = solve(result)
    if not solution.solved:
        raise TraceError(
            "The sketch's constraints and the dimensions set by hand do not go together with the new outlines, so the "
            "trace was left as it was. "
            "Loosen one of these dimensions, or add the outlines as a trace of their own."
        )
    tied = _tied(result, [name_of.get(name, name) for name in names], ties.renamed(name_of))
    return TracedAgain(
        refreshed(tied if solve(tied).solved else solution.sketch), len(pairs), len(names) - len(pairs), lost
    )


def _under_old_names(fresh, old, names, name_of):
    """Points and curves after the new curves took the names of the old ones they correspond to.

    Args:
        fresh: a sketch with both, the curves ``old`` and the new ones ``names``.
        name_of: {new curve: the old one it corresponds to}.
    """
    places, point_of = dict(fresh.points), {}
    for after, before in name_of.items():
        for was, is_now in zip(fresh.curves[before].points, _like(fresh, before, after)):
            if is_now not in point_of and was not in point_of.values():
                point_of[is_now] = was
    curves = {}
    for name, curve in fresh.curves.items():
        if name in old:
            continue
        before = name_of.get(name)
        along = curve.points if before is None else _like(fresh, before, name)
        curve = attrs.evolve(curve, points=[point_of.get(point, point) for point in along])
        if before is not None:
            curve = attrs.evolve(curve, construction=fresh.curves[before].construction)
        curves[before or name] = curve
    for now, was in point_of.items():
        places[was] = fresh.points[now]
    used = {point for curve in curves.values() for point in curve.points}
    gone = {point for name in [*old, *names] for point in fresh.curves[name].points} - used
    return {name: place for name, place in places.items() if name not in gone}, curves


def _name_of(sketch, name):
    item = sketch.constraints[name]
    return item.name if item.is_dimension and item.name else in_words(sketch, name)


def _run(sketch, name):
    """Places (PLACES, 2) evenly along a curve."""
    line = sample(sketch.geometry(name), 0.01)
    along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(line, axis=0).T))])
    at = np.linspace(0, along[-1], PLACES)
    return np.column_stack([np.interp(at, along, line[:, 0]), np.interp(at, along, line[:, 1])])


def _matched(sketch, old, new):
    """Old curve -> new curve of the same kind along it."""
    if not old or not new:
        return {}
    runs = {name: _run(sketch, name) for name in [*old, *new]}
    costs = np.full((len(old), len(new)), FAR_COST)
    for row, before in enumerate(old):
        reach = max(LEAST_REACH_MM, SAME_CURVE_SHARE * length(sketch.geometry(before)))
        for column, after in enumerate(new):
            if sketch.curves[before].kind != sketch.curves[after].kind or (
                sketch.curves[after].construction and not sketch.curves[before].construction
            ):
                continue
            there, back = runs[after], runs[after][::-1]
            off = min(float(np.hypot(*(runs[before] - other).T).mean()) for other in (there, back))
            if off < reach:
                costs[row, column] = off
    rows, columns = linear_sum_assignment(costs)
    return {old[row]: new[column] for row, column in zip(rows, columns) if costs[row, column] < FAR_COST}


def _like(sketch, before, after):
    """The points of a new curve in the order of the old one, which may run the other way."""
    curve = sketch.curves[after]
    if curve.kind in ROUND or len(curve.points) != len(sketch.curves[before].points):
        return list(curve.points)
    start = sketch.points[sketch.curves[before].points[0]]
    first, last = (sketch.points[curve.points[index]] for index in (0, -1))
    return list(curve.points if math.dist(start, first) <= math.dist(start, last) else curve.points[::-1])


@attrs.frozen
class Departure:
    """How far curves are from the edge that was seen in the picture.

    Attributes:
        places: (n, 2) where the edge was seen, in millimetres; off: (n,) signed distance from the nearest curve.
        largest, rms: in millimetres.
        beyond: (x, y, off) of the worst places over a tolerance, the worst first, none near another.
    """

    places: np.ndarray = attrs.field(repr=False)
    off: np.ndarray = attrs.field(repr=False)
    largest: float
    rms: float
    beyond: tuple


def departures(
    document: dict[str, Any], sketch: str, edge: Callable, drawing: Sketch | None = None
) -> dict[str, Departure]:
    """:class:`Departure` of each trace in a sketch of a job by its id; of traces of which nothing is left, or whose
    picture has no scale, none.

    Args:
        sketch: id of the sketch; edge: function of a trace's digest that gives its places (n, 2) in pixels.
        drawing: the sketch, where it was read already.
    """
    found, drawing = {}, drawing or sketch_of(document, sketch)
    for name, item in document["traces"].items():
        if item["edge"] and item["sketch"] == sketch and item["picture"] in document["references"]:
            fit = calibration_of(document, item["picture"])
            if fit is not None:
                told = departure(drawing, name, fit.to_mm(edge(item["edge"])), item["settings"]["tolerance_mm"])
                if told:
                    found[name] = told
    return found


def teeth(told: Departure, exaggeration: float) -> np.ndarray:
    """The comb of a departure: lines (n, 4) from where the curve is to where the edge is seen, drawn longer, in
    millimetres."""
    places = told.places
    run = np.roll(places, -1, axis=0) - np.roll(places, 1, axis=0)
    normal = np.column_stack([run[:, 1], -run[:, 0]]) / np.maximum(np.hypot(run[:, 0], run[:, 1]), 1e-9)[:, None]
    return np.column_stack([places, places + normal * (exaggeration * told.off)[:, None]])


def departure(sketch: Sketch, trace: str, edge_mm: np.ndarray, tolerance_mm: float) -> Departure | None:
    """How far the curves of a trace, as they are now, are from the picture's edge.

    Args:
        edge_mm: (n, 2) places of the edge.
        tolerance_mm: of the trace; worse places are listed.

    Returns:
        :class:`Departure`, or None when nothing of the trace is left.
    """
    own = [curve for curve in sketch.curves.values() if curve.origin == trace and not curve.construction]
    # What was drawn by hand may stand in for a traced curve that was deleted.
    curves = [
        sketch.geometry(name)
        for name, curve in sketch.curves.items()
        if curve.origin in (trace, BY_HAND) and not curve.construction
    ]
    edge_mm = np.asarray(edge_mm, float).reshape(-1, 2)
    if not own or not len(edge_mm):
        return None
    off = distances_from(edge_mm, curves)
    beyond, reach = [], 0.03 * float(np.ptp(edge_mm, axis=0).max())
    for index in np.argsort(-np.abs(off)):
        if abs(off[index]) <= tolerance_mm or len(beyond) == MOST_PLACES:
            break
        if all(math.dist(edge_mm[index], place[:2]) > reach for place in beyond):
            beyond.append((*edge_mm[index].tolist(), float(off[index])))
    return Departure(edge_mm, off, float(np.abs(off).max()), float(np.sqrt(np.mean(off**2))), tuple(beyond))
