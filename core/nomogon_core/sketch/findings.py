"""What keeps the curves of a sketch from closing areas, or its constraints from being met; each with place and size."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import attrs

from nomogon_core.geometry.curves import length
from nomogon_core.sketch.dimensions import in_words, listed
from nomogon_core.sketch.dividing import is_piece, met, whole
from nomogon_core.sketch.model import article
from nomogon_core.sketch.net import net_of
from nomogon_core.sketch.regions import regions_of

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch
    from nomogon_core.sketch.regions import Region

NEAR_SHARE = 0.05
POKE_SHARE = 0.5


@attrs.frozen
class Finding:
    """Something that keeps regions from closing.

    Attributes:
        code: conflict, gap, loose end, crossing, double, no length.
        sentence: what and where.
        place: millimetres.
        size: millimetres: of a gap; of a loose end how far it runs past the last curve that it meets; else 0.
        of: ids of the points or curves; of a conflict those of its constraints, the one that is not met first.
    """

    code: str
    sentence: str
    place: tuple
    size: float
    of: tuple


def find_findings(sketch: Sketch) -> tuple[Finding, ...]:
    """Everything that keeps the curves from closing areas, worst first."""
    return _conflicts(sketch) + _findings(sketch, net_of(sketch))


def find_both(sketch: Sketch) -> tuple[tuple[Region, ...], tuple[Finding, ...]]:
    """Regions and findings of a sketch."""
    net = net_of(sketch)
    return regions_of(net), _conflicts(sketch) + _findings(sketch, net)


def _spot(place):
    """A place in words, without a negative nought."""
    x, y = (round(float(value), 1) + 0.0 for value in place)
    return f"({x:.1f}, {y:.1f})"


def _conflicts(sketch):
    """Constraints that are kept although they contradict others."""
    found = []
    for name, item in sketch.constraints.items():
        if not item.against:
            continue
        others = listed([in_words(sketch, one) for one in item.against if one in sketch.constraints])
        why = f"it contradicts {others}; drop one of them" if others else "try it again"
        at = [sketch.points[one if one in sketch.points else sketch.curves[one].points[-1]] for one in item.of]
        place = tuple(sum(axis) / len(at) for axis in zip(*at))
        what = in_words(sketch, name)
        sentence = f"{what[0].upper()}{what[1:]} is not met: {why}."
        found.append(Finding("conflict", sentence, place, 0.0, (name, *item.against)))
    return tuple(found)


def _findings(sketch, net):
    short = [
        Finding(
            "no length",
            f"{article(sketch.curves[name].kind).capitalize()} has no length.",
            sketch.points[curve.points[0]],
            0.0,
            (name,),
        )
        for name, curve in sketch.curves.items()
        if name not in net.drawn.geometry and not curve.construction
    ]
    loose = _loose_ends(sketch, net.divided)
    poking = {frozenset((end.curve, end.past)) for end in loose if end.poke}
    crossings = [_crossing(sketch, *one) for one in net.crossed if one[1] or frozenset(one[0]) not in poking]
    return tuple(crossings + _gaps(sketch, loose) + short)


@attrs.frozen
class _LooseEnd:
    """A loose end: its point, its place, its curve, how far it runs past the last curve that it meets, and that
    one."""

    point: str
    place: tuple
    curve: str
    poke: float
    past: str


def _loose_ends(sketch, graph):
    loose = []
    for node, names in graph.at_node.items():
        if len(names) == 1 and graph.nodes[names[0]][0] != graph.nodes[names[0]][1]:
            name, place = whole(names[0]), graph.places[node]
            point = min(sketch.curves[name].end_points(), key=lambda end: math.dist(sketch.points[end], place))
            poke = length(graph.geometry[names[0]]) if is_piece(names[0]) else 0.0
            poke = poke if poke < POKE_SHARE * length(sketch.geometry(name)) else 0.0
            loose.append(_LooseEnd(point, place, name, poke, met(names[0]) if poke else ""))
    return loose


def _gaps(sketch, loose):
    """Loose ends, paired with the nearest other loose end where that is close."""
    near = NEAR_SHARE * sketch.size()
    apart = [end for end in loose if not end.poke]
    pairs = sorted(
        (math.dist(a.place, b.place), i, j) for i, a in enumerate(apart) for j, b in enumerate(apart) if i < j
    )
    paired, found = set(), []
    for size, i, j in pairs:
        if size > near or {i, j} & paired:
            continue
        paired |= {i, j}
        a, b = apart[i], apart[j]
        middle = ((a.place[0] + b.place[0]) / 2, (a.place[1] + b.place[1]) / 2)
        sentence = f"Gap of {size:.2f} mm at {_spot(middle)}: join the two ends."
        found.append(Finding("gap", sentence, middle, size, (a.point, b.point)))
    joined = {apart[index].point for index in paired}
    for end in loose:
        if end.point in joined:
            continue
        kind, spot = sketch.curves[end.curve].kind, _spot(end.place)
        told = f"pokes out by {end.poke:.2f} mm, to {spot}" if end.poke else f"ends loosely at {spot}"
        found.append(Finding("loose end", f"The {kind} {told}.", end.place, end.poke, (end.point,)))
    return found


def _crossing(sketch, names, double, place):
    spot = _spot(place)
    if double:
        return Finding("double", f"Two curves lie on each other near {spot}: take one away.", place, 0.0, names)
    if len(names) == 1:
        return Finding("crossing", f"A spline crosses itself near {spot}.", place, 0.0, names)
    kinds = " and ".join(article(sketch.curves[name].kind) for name in names)
    whole = all(sketch.curves[name].kind == "ellipse" for name in names)
    remedy = (
        "move one of them or take it away" if whole else "the areas are divided there; trim one if that is not meant"
    )
    return Finding("crossing", f"{kinds.capitalize()} cross at {spot}: {remedy}.", place, 0.0, names)
