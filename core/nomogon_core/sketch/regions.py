"""Closed regions of a sketch, and what keeps a sketch from having them: gaps, loose ends, crossings, doubles."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from scipy.spatial import cKDTree
from shapely import STRtree, dwithin
from shapely.geometry import LineString, Point, Polygon

from nomogon_core.geometry.crossings import at, nearest
from nomogon_core.geometry.curves import CLOSED, Arc, Line, Spline, bezier, closed_area, ends, length, reverse, sample
from nomogon_core.sketch.dividing import divided, is_piece, met_at, whole
from nomogon_core.sketch.model import OF_CURVES

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Curve, Sketch

JOINED_MM = 4e-5
CHORD_MM = 0.01
LEAST_LENGTH_MM = 1e-4
MOST_MOVED = 8
LEAVING_SHARE, LEAVING_STEPS = 0.01, np.linspace(0, 1, 33)
# What is worked out of single curves and loops is kept, since an edit leaves most of them as they are.
MOST_KEPT = 16_384


@attrs.frozen
class Region:
    """A closed area between curves.

    Attributes:
        name: stable as long as the outer boundary keeps its curves.
        outer: (id of a curve, or of a piece of one, run backwards) around it, counter-clockwise.
        holes: the same for each outline inside, clockwise.
        area: square millimetres, holes taken out.
        inside: a point inside.
    """

    name: str
    outer: tuple
    holes: tuple
    area: float
    inside: tuple

    def loops(self) -> tuple[tuple[tuple, ...], ...]:
        return (self.outer, *self.holes)


def loop_curves(sketch: Sketch, loop: tuple[tuple[str, bool], ...]) -> tuple[Any, ...]:
    """The curves of a loop in order, each run the way the loop goes."""
    pieces = net_of(sketch).divided.geometry if any(is_piece(name) for name, _ in loop) else None
    curves = [(pieces[name] if pieces else sketch.geometry(name), backwards) for name, backwards in loop]
    return tuple(reverse(curve) if backwards else curve for curve, backwards in curves)


@attrs.frozen
class Graph:
    """Curves between joined places.

    Attributes:
        geometry: plane curve of each id; nodes: numbers of the places of its ends, for those that have ends.
        at_node: ids of the curves at a place; places: millimetres.
        islands: ids of the curves that hang together by their ends, for each such group.
    """

    geometry: dict
    nodes: dict
    at_node: dict
    places: dict
    islands: tuple


def _graph(sketch):
    """Curves as they are drawn, whatever they cross."""
    geometry = {name: sketch.geometry(name) for name, curve in sketch.curves.items() if not curve.construction}
    geometry = {name: curve for name, curve in geometry.items() if _about(curve) > LEAST_LENGTH_MM}
    ends_of = {
        name: (sketch.points[pair[0]], sketch.points[pair[1]])
        for name in geometry
        if (pair := sketch.curves[name].end_points())
    }
    return _graph_of(geometry, ends_of)


def _graph_of(geometry, ends_of):
    node_of = _joined(list(dict.fromkeys(place for pair in ends_of.values() for place in pair)))
    nodes, at_node = {name: (node_of[first], node_of[last]) for name, (first, last) in ends_of.items()}, {}
    for name, pair in nodes.items():
        for node in pair:
            at_node.setdefault(node, []).append(name)
    places = {node: place for place, node in reversed(node_of.items())}
    return Graph(geometry, nodes, at_node, places, _islands(nodes, at_node))


@attrs.frozen
class Net:
    """The curves of a sketch as drawn, and as they are divided where they meet.

    Attributes:
        drawn: a graph of the whole curves; divided: one of their pieces, or the same where none meet between ends.
        crossed: (ids, lie on each other, place) of curves that cross or lie on each other.
    """

    drawn: Graph
    divided: Graph
    crossed: tuple


def net_of(sketch: Sketch) -> Net:
    """The curves of a sketch, and how they meet."""
    return sketch.derived(_net)


def _net(sketch):
    earlier = sketch.earlier(_net)
    return (earlier and _with_moved_rounds(sketch, earlier)) or _whole_net(sketch)


OF_CURVES.add(_net)


def _with_moved_rounds(sketch, net):
    """The net of an earlier sketch with what is another now, where that is nothing but circles and ellipses that met
    nothing and meet nothing; None where it is more."""
    before = net.drawn.geometry
    now = {name: sketch.geometry(name) for name, curve in sketch.curves.items() if not curve.construction}
    if now.keys() != before.keys():
        return None
    changed = {name: curve for name, curve in now.items() if curve is not before[name] and curve != before[name]}
    met = {name for names, _, _ in net.crossed for name in names}
    for name, curve in changed.items():
        whole = isinstance(curve, CLOSED) and isinstance(before[name], CLOSED) and name in net.divided.geometry
        if len(changed) > MOST_MOVED or not whole or name in met or _about(curve) <= LEAST_LENGTH_MM:
            return None
    if not changed:
        return net
    lines = np.array([_line(curve) for curve in now.values()], dtype=object)
    for curve in changed.values():
        near = dwithin(lines, _line(curve), 2 * CHORD_MM)
        if near.sum() > 1:  # itself
            return None
    drawn = attrs.evolve(net.drawn, geometry=before | changed)
    same = net.divided is net.drawn
    divided = drawn if same else attrs.evolve(net.divided, geometry=net.divided.geometry | changed)
    return Net(drawn, divided, net.crossed)


def _whole_net(sketch):
    drawn = _graph(sketch)
    meetings = _all_meetings(drawn)
    cuts, crossed = {}, []
    for names, double, place in meetings:
        if double or len(names) == 1:
            crossed.append((names, double, place))
            continue
        first, second = (drawn.geometry[name] for name in names)
        for name, other, met in ((*names, met_at(first, second)), (*names[::-1], met_at(second, first))):
            cuts.setdefault(name, []).extend((t, other) for t in met)
        if _cross(first, second):
            crossed.append((names, double, place))
    for name, t, other in _resting(drawn):
        cuts.setdefault(name, []).append((t, other))
    if not any(cuts.values()):
        return Net(drawn, drawn, tuple(crossed))
    geometry, ends_of = {}, {}
    for name, curve in drawn.geometry.items():
        pieces = divided(name, curve, tuple(cuts[name])) if name in cuts else {}
        if pieces:
            geometry |= pieces
            ends_of |= {piece: ends(told) for piece, told in pieces.items()}
        else:
            geometry[name] = curve
            if name in drawn.nodes:
                ends_of[name] = tuple(drawn.places[node] for node in drawn.nodes[name])
    return Net(drawn, _graph_of(geometry, ends_of), tuple(crossed))


@lru_cache(maxsize=MOST_KEPT)
def _cross(first, second):
    """Whether curves cross between their ends, not only touch with one."""
    tips = [place for curve in (first, second) for place in ends(curve) or ()]
    places = [at(first, t)[0] for t in met_at(first, second)]
    return any(all(math.dist(place, tip) > JOINED_MM for tip in tips) for place in places)


def _resting(graph):
    """(curve, parameter, the other) where the loose end of another one rests on a curve."""
    loose = [(node, names[0]) for node, names in graph.at_node.items() if len(names) == 1]
    if not loose:
        return
    names, lines = list(graph.geometry), [_line(curve) for curve in graph.geometry.values()]
    spots = [Point(graph.places[node]) for node, _ in loose]
    for index, near in zip(*STRtree(lines).query(spots, predicate="dwithin", distance=2 * CHORD_MM)):
        (node, own), name = loose[index], names[near]
        if name == own:
            continue
        t = nearest(graph.geometry[name], graph.places[node])
        if math.dist(at(graph.geometry[name], t)[0], graph.places[node]) <= JOINED_MM:
            yield name, t, own


def _islands(nodes, at_node):
    found, seen = [], set()
    for first in nodes:
        if first in seen:
            continue
        island, ahead = [], [first]
        seen.add(first)
        while ahead:
            name = ahead.pop()
            island.append(name)
            for node in nodes[name]:
                new = [other for other in at_node[node] if other not in seen]
                seen.update(new)
                ahead += new
        found.append(tuple(sorted(island)))
    return tuple(found)


def _joined(places):
    """The number of each place; those that lie on each other have one."""
    numbers = {place: index for index, place in enumerate(places)}
    if places:
        for first, second in sorted(cKDTree(np.array(places)).query_pairs(JOINED_MM)):
            numbers[places[second]] = numbers[places[first]]
    return numbers


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


def _about(curve):
    """Length of a curve, of a spline that of its control polygon, which is never shorter."""
    if isinstance(curve, Spline):
        return float(np.hypot(*np.diff(np.asarray(curve.points), axis=0).T).sum())
    return length(curve)


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
    reach, points = LEAVING_SHARE * _about(curve), None
    if isinstance(curve, Spline):
        control = curve.points[:-5:-1] if backwards else curve.points[:4]
        points = bezier(np.array(control), LEAVING_STEPS)
    if points is None or math.dist(points[0], points[-1]) < 2 * reach:
        run = reverse(curve) if backwards else curve
        points = sample(run, min(CHORD_MM, 1e-4 * _about(run)))
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
    polygon: Polygon
    point: Point

    @property
    def names(self) -> set[str]:
        return {name for name, _ in self.curves}


def _loop_of(loop, curves):
    polygon = _polygon(curves)
    point = polygon.representative_point()
    if point.is_empty:  # a sliver as thin as its polygon is rough
        point = Point(sample(curves[0], CHORD_MM)[0])
    return _Loop(_from_smallest(loop), closed_area(curves), polygon, point)


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
    loops = []
    for loop in _faces(geometry, {name: (first, last) for name, _, first, last in parts}):
        curves = tuple(reverse(geometry[name]) if backwards else geometry[name] for name, backwards in loop)
        area = closed_area(curves)
        if len(loops) == 1 and abs(area + loops[0].area) <= 1e-12 * abs(area) and len(loop) == len(loops[0].curves):
            # One simple outline: what is seen from without has the same shape.
            loops.append(attrs.evolve(loops[0], curves=_from_smallest(loop), area=area))
        else:
            loops.append(_loop_of(loop, curves))
    return _Island(
        tuple(loop for loop in loops if loop.area > 0),
        tuple(loop for loop in loops if loop.area <= 0),
    )


@lru_cache(maxsize=MOST_KEPT)
def _meetings(parts):
    """(ids, lie on each other, place) of the curves of an island that cross."""
    geometry = {name: curve for name, curve, _, _ in parts}
    nodes = {name: (first, last) for name, _, first, last in parts}
    meetings = []
    for name, (first, last) in nodes.items():
        line = _line(geometry[name])
        if first != last and not line.is_simple:
            middle = line.interpolate(0.5, normalized=True)
            meetings.append(((name,), False, (middle.x, middle.y)))
    place_of = {node: place for name, pair in nodes.items() for node, place in zip(pair, ends(geometry[name]))}
    names, lines = list(geometry), [_line(curve) for curve in geometry.values()]
    for i, j in _touching(lines):
        shared = [place_of[node] for node in set(nodes[names[i]]) & set(nodes[names[j]])]
        if meeting := _meeting(lines[i], lines[j], shared):
            meetings.append(((names[i], names[j]), *meeting))
    return tuple(meetings)


@lru_cache(maxsize=MOST_KEPT)
def _around(name, curve):
    """Loops of a closed curve: around what it encloses, and from without."""
    inner = _loop_of(((name, False),), (curve,))
    return inner, attrs.evolve(inner, curves=((name, True),), area=-inner.area)


def find_regions(sketch: Sketch) -> tuple[Region, ...]:
    """All regions that the curves enclose, largest first.

    Returns:
        Regions with the outlines inside them as holes; construction curves bound nothing.
    """
    return regions_of(net_of(sketch))


def regions_of(net: Net) -> tuple[Region, ...]:
    """The regions of curves that are divided already."""
    graph = net.divided
    fronts, backs, owner, owners = [], [], [], []
    islands = [_island(_parts_of(graph, names)) for names in graph.islands]
    closed = [_around(name, curve) for name, curve in graph.geometry.items() if name not in graph.nodes]
    for number, (inner, outer) in enumerate(
        [(island.fronts, island.backs) for island in islands] + [((front,), (back,)) for front, back in closed]
    ):
        fronts += inner
        backs += outer
        owner += [number] * len(inner)
        owners += [number] * len(outer)
    holes = {}
    for back, around in _within(fronts, backs, np.array(owner), np.array(owners)):
        holes.setdefault(around, []).append(back)
    found = (_region(front, tuple(holes.get(index, ()))) for index, front in enumerate(fronts) if front.area >= 1e-6)
    return tuple(sorted(found, key=lambda region: -region.area))


@lru_cache(maxsize=MOST_KEPT)
def _region(front, holes):
    inside = front.point
    if holes:
        shape = Polygon(front.polygon.exterior.coords, [hole.polygon.exterior.coords for hole in holes]).buffer(0)
        inside = inside if shape.is_empty else shape.representative_point()
    return Region(
        "region " + " ".join(sorted(front.names)),
        front.curves,
        tuple(hole.curves for hole in holes),
        front.area + sum(hole.area for hole in holes),
        (inside.x, inside.y),
    )


def _within(fronts, backs, owner, owners):
    """(loop from without, index of the smallest area around it) for each outline that lies in an area of another one.

    Args:
        owner, owners: which outline each of the fronts and the backs belongs to.
    """
    if not fronts or not backs:
        return
    tree = STRtree([front.polygon for front in fronts])
    inner, outer = tree.query([back.point for back in backs], predicate="within")
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


@lru_cache(maxsize=MOST_KEPT)
def _polygon(curves):
    points = np.vstack([sample(curve, CHORD_MM)[:-1] for curve in curves])
    polygon = Polygon(points) if len(points) >= 3 else Polygon()
    return (
        polygon
        if polygon.is_valid
        else polygon.buffer(0)
        if polygon.buffer(0).geom_type == "Polygon"
        else polygon.convex_hull
    )


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


def _all_meetings(graph):
    """(ids, lie on each other, place) of curves that meet other than at joined ends, or lie on each other."""
    found = [meeting for names in graph.islands for meeting in _meetings(_parts_of(graph, names))]
    names = list(graph.geometry)
    lines = [_line(curve) for curve in graph.geometry.values()]
    island_of = {name: number for number, island in enumerate(graph.islands) for name in island}
    for i, j in _touching(lines, np.array([island_of.get(name, -1) for name in names])):
        if meeting := _meeting(lines[i], lines[j], ()):
            found.append(((names[i], names[j]), *meeting))
    return found


def _touching(lines, island=None):
    """Pairs of indices of lines that touch; of no two in the same island."""
    if not lines:
        return []
    first, second = STRtree(lines).query(lines, predicate="intersects")
    chosen = first < second
    if island is not None:
        chosen &= (island[first] != island[second]) | (island[first] < 0)
    return zip(first[chosen].tolist(), second[chosen].tolist())


@lru_cache(maxsize=MOST_KEPT)
def _line(curve):
    return LineString(sample(curve, CHORD_MM))


def _meeting(first, second, shared):
    """Whether two lines lie on each other, and the place where they do or where they cross other than at the places
    that they share; None where they do neither."""
    common = first.intersection(second)
    if common.length > 0.5 * min(first.length, second.length):
        return True, (common.centroid.x, common.centroid.y)
    for part in getattr(common, "geoms", [common]):
        if all(part.distance(Point(place)) > 20 * CHORD_MM for place in shared):
            return False, (part.centroid.x, part.centroid.y)
    return None
