"""The curves of a sketch as a net: which places their ends share, and where they meet others between their ends."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
import shapely
from scipy.spatial import cKDTree
from shapely import STRtree, dwithin
from shapely.geometry import Point

from nomogon_core.geometry.crossings import at, nearest
from nomogon_core.geometry.curves import CLOSED, Line, Spline, ends, length
from nomogon_core.sketch.dividing import divided, met_at
from nomogon_core.sketch.model import OF_CURVES
from nomogon_core.sketch.shapes import CHORD_MM, MOST_KEPT, lines_of

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

JOINED_MM = 4e-5
LEAST_LENGTH_MM = 1e-4
MOST_MOVED = 8
PARALLEL = 1e-6


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
    geometry = {name: curve for name, curve in geometry.items() if about(curve) > LEAST_LENGTH_MM}
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
        if len(changed) > MOST_MOVED or not whole or name in met or about(curve) <= LEAST_LENGTH_MM:
            return None
    if not changed:
        return net
    lines = lines_of(list(now.values()))
    for line in lines_of(list(changed.values())):
        near = dwithin(lines, line, 2 * CHORD_MM)
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
    names, lines = list(graph.geometry), lines_of(list(graph.geometry.values()))
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


def about(curve: Any) -> float:
    """Length of a curve, of a spline that of its control polygon, which is never shorter."""
    if isinstance(curve, Spline):
        return float(np.hypot(*np.diff(np.asarray(curve.points), axis=0).T).sum())
    return length(curve)


def _all_meetings(graph):
    """(ids, lie on each other, place) of curves that meet other than at joined ends, or lie on each other."""
    names, curves = list(graph.geometry), list(graph.geometry.values())
    lines, found = lines_of(curves), []
    for index, (name, curve) in enumerate(graph.geometry.items()):
        if isinstance(curve, Spline) and len(set(graph.nodes[name])) == 2 and not lines[index].is_simple:
            middle = lines[index].interpolate(0.5, normalized=True)
            found.append(((name,), False, (middle.x, middle.y)))
    if len(names) < 2:
        return found
    for i, j in _touching(graph, names, curves, lines):
        shared = set(graph.nodes.get(names[i], ())) & set(graph.nodes.get(names[j], ()))
        if meeting := _meeting(curves[i], curves[j], tuple(sorted(graph.places[node] for node in shared))):
            found.append(((names[i], names[j]), *meeting))
    return found


def _touching(graph, names, curves, lines):
    """Pairs of indices of curves that touch, without those of two straight lines that meet in a corner that they
    share."""
    first, second = STRtree(lines).query(lines)
    first, second = first[first < second], second[first < second]
    nodes = np.array([graph.nodes.get(name, (-1, -2)) for name in names])
    straight = [index for index, curve in enumerate(curves) if isinstance(curve, Line)]
    ways = np.zeros((len(curves), 2))
    ways[straight] = np.diff(shapely.get_coordinates(lines[straight]).reshape(-1, 2, 2), axis=1)[:, 0]
    ways /= np.maximum(np.hypot(*ways.T), 1e-300)[:, None]
    corner = (nodes[first][:, :, None] == nodes[second][:, None, :]).any(axis=(1, 2))
    corner &= np.abs(ways[first, 0] * ways[second, 1] - ways[first, 1] * ways[second, 0]) > PARALLEL
    first, second = first[~corner], second[~corner]
    meets = shapely.intersects(lines[first], lines[second])
    return zip(first[meets].tolist(), second[meets].tolist())


@lru_cache(maxsize=MOST_KEPT)
def _meeting(first, second, shared):
    """Whether two curves lie on each other, and the place where they do or where they cross other than at the places
    that they share; None where they do neither."""
    one, other = lines_of([first, second])
    common = one.intersection(other)
    if common.length > 0.5 * min(one.length, other.length):
        return True, (common.centroid.x, common.centroid.y)
    for part in getattr(common, "geoms", [common]):
        if all(part.distance(Point(place)) > 20 * CHORD_MM for place in shared):
            return False, (part.centroid.x, part.centroid.y)
    return None
