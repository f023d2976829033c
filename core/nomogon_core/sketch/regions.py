"""Closed regions of a sketch: the areas between its curves, with the outlines inside them as holes."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from shapely import STRtree, points

from nomogon_core.geometry.curves import Arc, Line, Spline, bezier, closed_area, reverse, sample
from nomogon_core.sketch.dividing import is_piece, whole
from nomogon_core.sketch.net import Net, about, net_of
from nomogon_core.sketch.shapes import CHORD_MM, MOST_KEPT, Shape, fill

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Curve, Sketch

LEAVING_SHARE, LEAVING_STEPS = 0.01, np.linspace(0, 1, 33)
SAME_SHARE, LEAST_AREA_MM2 = 1e-12, 1e-6


@attrs.frozen
class Region:
    """A closed area between curves.

    Attributes:
        name: stable as long as the outer boundary keeps its curves.
        outer: (id of a curve, or of a piece of one, run backwards) around it, counter-clockwise.
        holes: the same for each outline inside, clockwise.
        area: square millimetres, holes taken out.
    """

    name: str
    outer: tuple
    holes: tuple
    area: float

    def loops(self) -> tuple[tuple[tuple, ...], ...]:
        return (self.outer, *self.holes)


def loop_curves(sketch: Sketch, loop: tuple[tuple[str, bool], ...]) -> tuple[Any, ...]:
    """The curves of a loop in order, each run the way the loop goes."""
    pieces = net_of(sketch).divided.geometry if any(is_piece(name) for name, _ in loop) else None
    curves = [(pieces[name] if pieces else sketch.geometry(name), backwards) for name, backwards in loop]
    return tuple(reverse(curve) if backwards else curve for curve, backwards in curves)


def _closed_part(nodes):
    """Curves left when everything that ends loosely is taken away again and again."""
    alive = set(nodes)
    loose = True
    while loose:
        count = {}
        for name in alive:
            for node in nodes[name]:
                count[node] = count.get(node, 0) + 1
        loose = {
            name for name in alive if any(count[node] == 1 for node in nodes[name]) and nodes[name][0] != nodes[name][1]
        }
        alive -= loose
    return alive


@lru_cache(maxsize=MOST_KEPT)
def _leaving_angle(curve, backwards):
    """Direction in which a curve leaves its first end, told a little way along it, so that curves which begin in one
    direction are told apart by their bend."""
    if isinstance(curve, Line):
        start, end = (curve.end, curve.start) if backwards else (curve.start, curve.end)
        return math.atan2(end[1] - start[1], end[0] - start[0])
    if isinstance(curve, Arc):
        # The chord to a point so far along turns from the tangent by half the angle that the arc goes through.
        sense = -1.0 if backwards else 1.0
        start = curve.start_angle + (curve.sweep if backwards else 0.0)
        turn = sense * LEAVING_SHARE * curve.sweep
        return math.remainder(start + math.copysign(math.pi / 2, turn) + turn / 2, 2 * math.pi)
    reach, points = LEAVING_SHARE * about(curve), None
    if isinstance(curve, Spline):
        control = curve.points[:-5:-1] if backwards else curve.points[:4]
        points = bezier(np.array(control), LEAVING_STEPS)
    if points is None or math.dist(points[0], points[-1]) < 2 * reach:
        run = reverse(curve) if backwards else curve
        points = sample(run, min(CHORD_MM, 1e-4 * about(run)))
    along = np.cumsum(np.hypot(*np.diff(points, axis=0).T))
    index = min(int(np.searchsorted(along, reach)), len(along) - 1)
    before = along[index - 1] if index else 0.0
    share = min(max((reach - before) / max(along[index] - before, 1e-12), 0.0), 1.0)
    way = points[index] + share * (points[index + 1] - points[index]) - points[0]
    return math.atan2(way[1], way[0])


def _faces(geometry, nodes):
    """All loops around faces, each with the face on its left."""
    alive = _closed_part(nodes)
    leaving = {}
    for name in sorted(alive):
        first, last = nodes[name]
        leaving.setdefault(first, []).append((_leaving_angle(geometry[name], False), name, False))
        leaving.setdefault(last, []).append((_leaving_angle(geometry[name], True), name, True))
    following = {}
    for spokes in leaving.values():
        spokes.sort()
        for index, (_, name, backwards) in enumerate(spokes):
            _, turn, turned = spokes[index - 1]
            following[(name, not backwards)] = (turn, turned)
    loops, seen = [], set()
    for edge in following:
        if edge in seen:
            continue
        loop, here = [], edge
        while here not in seen:
            seen.add(here)
            loop.append(here)
            here = following[here]
        loops.append(tuple(loop))
    return loops


@attrs.frozen(eq=False)
class _Loop:
    """Curves around an area, (id, run backwards) each: counter-clockwise around what they enclose, or clockwise around
    an outline from without. Kept, so that the same object is met again while its curves stay."""

    curves: tuple
    area: float
    shape: Shape

    @property
    def names(self) -> set[str]:
        return {name for name, _ in self.curves}


@attrs.frozen(eq=False)
class _Island:
    """Curves that hang together: loops around their areas, and loops around the whole from without."""

    fronts: tuple
    backs: tuple


def _parts_of(graph, names):
    """An island by its curves and by how they hang together, whose nodes are counted anew from 0."""
    number = {}
    return tuple(
        (name, graph.geometry[name], *(number.setdefault(node, len(number)) for node in graph.nodes[name]))
        for name in names
    )


@lru_cache(maxsize=MOST_KEPT)
def _island(parts):
    geometry = {name: curve for name, curve, _, _ in parts}
    simple = _ring(parts)
    if simple:
        curves = tuple(reverse(geometry[name]) if backwards else geometry[name] for name, backwards in simple)
        return _both_sides(simple, curves, closed_area(curves))
    loops = []
    for loop in _faces(geometry, {name: (first, last) for name, _, first, last in parts}):
        curves = tuple(reverse(geometry[name]) if backwards else geometry[name] for name, backwards in loop)
        loops.append(_Loop(_from_smallest(loop), closed_area(curves), Shape(curves)))
    return _Island(
        tuple(loop for loop in loops if loop.area > 0),
        tuple(loop for loop in loops if loop.area <= 0),
    )


def _ring(parts):
    """The curves of an island in order around it, where that is one simple outline; else None."""
    at_node = {}
    for part in parts:
        if part[2] == part[3]:
            return None
        for node in part[2:]:
            at_node.setdefault(node, []).append(part)
    if len(parts) < 2 or any(len(pair) != 2 for pair in at_node.values()):
        return None
    here, node, ring = parts[0], parts[0][3], [(parts[0][0], False)]
    while node != parts[0][2]:
        one, other = at_node[node]
        here = other if one is here else one
        backwards = here[2] != node
        node = here[2] if backwards else here[3]
        ring.append((here[0], backwards))
    return ring


def _both_sides(ring, curves, area):
    """An island of one simple outline; what is seen from without has the same shape."""
    shape, other = Shape(curves), [(name, not backwards) for name, backwards in reversed(ring)]
    inner, outer = (ring, other) if area > 0 else (other, ring)
    inner, outer = (
        _Loop(_from_smallest(tuple(loop)), side * abs(area), shape) for loop, side in ((inner, 1), (outer, -1))
    )
    return _Island((inner,), (outer,)) if abs(area) > 0 else _Island((), (inner, outer))


@lru_cache(maxsize=MOST_KEPT)
def _around(name, curve):
    """A closed curve: what it encloses, and it from without."""
    return _both_sides([(name, False)], (curve,), closed_area((curve,)))


def find_regions(sketch: Sketch) -> tuple[Region, ...]:
    """All regions that the curves enclose, largest first.

    Returns:
        Regions with the outlines inside them as holes; construction curves bound nothing.
    """
    return regions_of(net_of(sketch))


def regions_of(net: Net) -> tuple[Region, ...]:
    """The regions of curves that are divided already."""
    graph = net.divided
    islands = [_island(_parts_of(graph, names)) for names in graph.islands]
    islands += [_around(name, curve) for name, curve in graph.geometry.items() if name not in graph.nodes]
    fronts = [loop for island in islands for loop in island.fronts]
    backs = [loop for island in islands for loop in island.backs]
    owner = [number for number, island in enumerate(islands) for _ in island.fronts]
    owners = [number for number, island in enumerate(islands) for _ in island.backs]
    fill([loop.shape for loop in (*fronts, *backs)])
    holes = {}
    for back, around in _within(fronts, backs, np.array(owner), np.array(owners)):
        holes.setdefault(around, []).append(back)
    found = (
        _region(front, tuple(holes.get(index, ())))
        for index, front in enumerate(fronts)
        if front.area >= LEAST_AREA_MM2
    )
    return tuple(sorted(found, key=lambda region: -region.area))


@lru_cache(maxsize=MOST_KEPT)
def _region(front, holes):
    return Region(
        "region " + " ".join(sorted(front.names)),
        front.curves,
        tuple(hole.curves for hole in holes),
        front.area + sum(hole.area for hole in holes),
    )


def _within(fronts, backs, owner, owners):
    """(loop from without, index of the smallest area around it) for each outline that lies in an area of another one.

    Args:
        owner, owners: which outline each of the fronts and the backs belongs to.
    """
    if not fronts or not backs:
        return
    tree = STRtree([front.shape.polygon for front in fronts])
    inner, outer = tree.query(points([back.shape.inside for back in backs]), predicate="within")
    apart = owner[outer] != owners[inner]
    least = {}
    for back, front in zip(inner[apart].tolist(), outer[apart].tolist()):
        area = fronts[front].area
        if area > -backs[back].area and (back not in least or area < fronts[least[back]].area):
            least[back] = front
    for back in sorted(least):
        yield backs[back], least[back]


def _from_smallest(loop):
    start = min(range(len(loop)), key=lambda index: loop[index])
    return loop[start:] + loop[:start]


def match_region(regions: tuple[Region, ...], name: str, there: dict[str, Curve]) -> Region | None:
    """The region of that name, or the one that has become of it, or None where it is lost.

    A corner rounded later adds a curve to the boundary, a side drawn anew takes the place of another. So the boundary
    has to hold every curve of the old
    one that is still there, which are at least half of it, and all others are younger than these: no more than are
        gone, or than are there if none is.
    A region that was divided, or has grown together with another, is lost.

    Args:
        regions: of the sketch as it is; name: of the region as it was; there: ids of all curves of the sketch.
    """
    wanted = set(name.split()[1:])
    kept = {one for one in wanted if whole(one) in there}
    if 2 * len(kept) < len(wanted) or not kept:
        return None
    most, youngest = len(wanted - kept) or len(kept), max(map(_age, wanted))
    found = []
    for region in regions:
        own = set(region.name.split()[1:])
        if own == wanted:
            return region
        if kept <= own and len(own - kept) <= most and min(map(_age, own - kept), default=math.inf) > youngest:
            found.append(region)
    return found[0] if len(found) == 1 else None


def _age(name):
    """The number in an id: the larger, the younger."""
    return int("".join(filter(str.isdigit, whole(name))) or 0)
