"""Closed regions of a sketch, and what keeps a sketch from having them: gaps, loose ends, crossings, doubles."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from shapely import STRtree
from shapely.geometry import LineString, Point, Polygon

from nomogon_core.geometry.curves import Arc, Line, Spline, bezier, closed_area, ends, length, reverse, sample
from nomogon_core.sketch.model import article

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Curve, Sketch

JOINED_MM = 1e-5
CHORD_MM = 0.01
NEAR_SHARE = 0.05
LEAST_LENGTH_MM = 1e-4
LEAVING_SHARE, LEAVING_STEPS = 0.01, np.linspace(0, 1, 33)
# What is worked out of single curves and loops is kept, since an edit leaves most of them as they are.
MOST_KEPT = 16_384


@attrs.frozen
class Region:
    """A closed area between curves.

    Attributes:
        name: stable as long as the outer boundary keeps its curves.
        outer: (curve id, run backwards) around it, counter-clockwise.
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


@attrs.frozen
class Finding:
    """Something that keeps regions from closing.

    Attributes:
        code: gap, loose end, crossing, double, no length.
        sentence: what and where.
        place: millimetres.
        size: of a gap, in millimetres, else 0.
        of: ids of the points or curves.
    """

    code: str
    sentence: str
    place: tuple
    size: float
    of: tuple


def loop_curves(sketch: Sketch, loop: tuple[tuple[str, bool], ...]) -> tuple[Any, ...]:
    """The curves of a loop in order, each run the way the loop goes."""
    return tuple(reverse(sketch.geometry(name)) if backwards else sketch.geometry(name) for name, backwards in loop)


@attrs.frozen
class _Graph:
    """Curves between joined places."""

    geometry: dict
    nodes: dict
    at_node: dict
    places: dict


def _graph(sketch):
    geometry = {name: sketch.geometry(name) for name, curve in sketch.curves.items() if not curve.construction}
    geometry = {name: curve for name, curve in geometry.items() if _about(curve) > LEAST_LENGTH_MM}
    nodes, at_node, places, cells = {}, {}, {}, {}
    for name, curve in geometry.items():
        if ends(curve) is None:
            continue
        pair = []
        for place in ends(curve):
            cell = (round(place[0] / JOINED_MM / 4), round(place[1] / JOINED_MM / 4))
            near = next(
                (
                    cells[(cell[0] + dx, cell[1] + dy)]
                    for dx in (-1, 0, 1)
                    for dy in (-1, 0, 1)
                    if (cell[0] + dx, cell[1] + dy) in cells
                ),
                None,
            )
            node = cells.setdefault(cell, len(places)) if near is None else near
            places.setdefault(node, place)
            pair.append(node)
        nodes[name] = tuple(pair)
        for node in pair:
            at_node.setdefault(node, []).append(name)
    return _Graph(geometry, nodes, at_node, places)


def _closed_part(graph):
    """Curves left when everything that ends loosely is taken away again and again."""
    alive = {name for name, pair in graph.nodes.items()}
    loose = True
    while loose:
        count = {}
        for name in alive:
            for node in graph.nodes[name]:
                count[node] = count.get(node, 0) + 1
        loose = {
            name
            for name in alive
            if any(count[node] == 1 for node in graph.nodes[name]) and graph.nodes[name][0] != graph.nodes[name][1]
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


def _faces(graph):
    """All loops around faces, each with the face on its left."""
    alive = _closed_part(graph)
    leaving = {}
    for name in sorted(alive):
        first, last = graph.nodes[name]
        leaving.setdefault(first, []).append((_leaving_angle(graph.geometry[name], False), name, False))
        leaving.setdefault(last, []).append((_leaving_angle(graph.geometry[name], True), name, True))
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


def find_regions(sketch: Sketch) -> tuple[Region, ...]:
    """All regions that the curves enclose, largest first.

    Returns:
        Regions with the outlines inside them as holes; construction curves bound nothing.
    """
    graph = _graph(sketch)
    fronts, backs = [], []
    for loop in _faces(graph):
        curves = loop_curves(sketch, loop)
        area = closed_area(curves)
        (fronts if area > 0 else backs).append((loop, area, _polygon(curves)))
    for name, curve in graph.geometry.items():
        if ends(curve) is None:
            polygon = _polygon((curve,))
            fronts.append((((name, False),), closed_area((curve,)), polygon))
            backs.append((((name, True),), -closed_area((curve,)), polygon))
    holes = {}
    for (loop, area, polygon), indices in zip(backs, _within(fronts, backs)):
        names = {name for name, _ in loop}
        around = [
            index
            for index in indices
            if fronts[index][1] > -area and not names & {name for name, _ in fronts[index][0]}
        ]
        if around:
            holes.setdefault(min(around, key=lambda index: fronts[index][1]), []).append((loop, area, polygon))
    regions = []
    for index, (loop, area, polygon) in enumerate(fronts):
        inner = holes.get(index, [])
        left = area + sum(hole_area for _, hole_area, _ in inner)
        if area < 1e-6:
            continue
        inside = _inside(polygon, tuple(hole for _, _, hole in inner))
        name = "region " + " ".join(sorted({name for name, _ in loop}))
        regions.append(
            Region(
                name,
                _from_smallest(loop),
                tuple(_from_smallest(hole) for hole, _, _ in inner),
                left,
                inside,
            )
        )
    return tuple(sorted(regions, key=lambda region: -region.area))


def _within(fronts, backs):
    """For each loop of the second list the indices of the polygons of the first that a point of it lies in."""
    found = [[] for _ in backs]
    if fronts and backs:
        points = [_some_point(polygon) for _, _, polygon in backs]
        for back, front in STRtree([polygon for _, _, polygon in fronts]).query(points, predicate="within").T:
            found[back].append(int(front))
    return found


@lru_cache(maxsize=MOST_KEPT)
def _some_point(polygon):
    return polygon.representative_point()


@lru_cache(maxsize=MOST_KEPT)
def _inside(polygon, holes):
    """A place within a polygon and outside its holes."""
    shape = Polygon(polygon.exterior.coords, [hole.exterior.coords for hole in holes]).buffer(0) if holes else polygon
    inside = _some_point(polygon) if shape.is_empty or not holes else shape.representative_point()
    return inside.x, inside.y


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
    kept = wanted & set(there)
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
    return int("".join(filter(str.isdigit, name)) or 0)


def _spot(place):
    """A place in words, without a negative nought."""
    x, y = (round(float(value), 1) + 0.0 for value in place)
    return f"({x:.1f}, {y:.1f})"


def find_findings(sketch: Sketch) -> tuple[Finding, ...]:
    """Everything that keeps the curves from closing regions, worst first."""
    graph = _graph(sketch)
    found = [
        Finding(
            "no length",
            f"{article(sketch.curves[name].kind).capitalize()} has no length.",
            sketch.points[curve.points[0]],
            0.0,
            (name,),
        )
        for name, curve in sketch.curves.items()
        if name not in graph.geometry and not curve.construction
    ]
    return tuple(_crossings(sketch, graph) + _gaps(sketch, graph) + found)


def _loose_ends(sketch, graph):
    loose = []
    for node, names in graph.at_node.items():
        if len(names) == 1 and graph.nodes[names[0]][0] != graph.nodes[names[0]][1]:
            curve = sketch.curves[names[0]]
            place = graph.places[node]
            point = min(curve.end_points(), key=lambda end: math.dist(sketch.points[end], place))
            loose.append((point, place, names[0]))
    return loose


def _gaps(sketch, graph):
    """Loose ends, paired with the nearest other loose end where that is close."""
    loose = _loose_ends(sketch, graph)
    near = NEAR_SHARE * sketch.size()
    pairs = sorted((math.dist(a[1], b[1]), i, j) for i, a in enumerate(loose) for j, b in enumerate(loose) if i < j)
    paired, found = set(), []
    for size, i, j in pairs:
        if size > near or {i, j} & paired:
            continue
        paired |= {i, j}
        (first, a, _), (second, b, _) = loose[i], loose[j]
        middle = ((a[0] + b[0]) / 2, (a[1] + b[1]) / 2)
        found.append(
            Finding(
                "gap", f"Gap of {size:.2f} mm at {_spot(middle)}: join the two ends.", middle, size, (first, second)
            )
        )
    for index, (point, place, name) in enumerate(loose):
        if index not in paired:
            found.append(
                Finding(
                    "loose end", f"The {sketch.curves[name].kind} ends loosely at {_spot(place)}.", place, 0.0, (point,)
                )
            )
    return found


def _crossings(sketch, graph):
    """Places where curves cross other than at joined ends, and curves that lie on each other."""
    names = list(graph.geometry)
    lines = [_line(graph.geometry[name]) for name in names]
    found = []
    for index, line in enumerate(lines):
        if (
            ends(graph.geometry[names[index]]) is not None
            and not _is_simple(line)
            and graph.nodes[names[index]][0] != graph.nodes[names[index]][1]
        ):
            place = line.interpolate(0.5, normalized=True)
            found.append(
                Finding(
                    "crossing",
                    f"A spline crosses itself near {_spot((place.x, place.y))}.",
                    (place.x, place.y),
                    0.0,
                    (names[index],),
                )
            )
    if not lines:
        return found
    for i, j in STRtree(lines).query(lines, predicate="intersects").T:
        if i >= j:
            continue
        found += _crossing_of(sketch, graph, (names[i], names[j]), lines[i], lines[j])
    return found


@lru_cache(maxsize=MOST_KEPT)
def _line(curve):
    return LineString(sample(curve, CHORD_MM))


@lru_cache(maxsize=MOST_KEPT)
def _is_simple(line):
    return line.is_simple


@lru_cache(maxsize=MOST_KEPT)
def _common(first, second):
    return first.intersection(second)


def _crossing_of(sketch, graph, pair, first, second):
    shared = [graph.places[node] for node in set(graph.nodes.get(pair[0], ())) & set(graph.nodes.get(pair[1], ()))]
    common = _common(first, second)
    if common.length > 0.5 * min(first.length, second.length):
        middle = common.centroid
        return [
            Finding(
                "double",
                f"Two curves lie on each other near {_spot((middle.x, middle.y))}: take one away.",
                (middle.x, middle.y),
                0.0,
                pair,
            )
        ]
    away = [
        part
        for part in getattr(common, "geoms", [common])
        if all(part.distance(Point(place)) > 20 * CHORD_MM for place in shared)
    ]
    if not away:
        return []
    place = away[0].centroid
    kinds = " and ".join(article(sketch.curves[name].kind) for name in pair)
    whole = all(sketch.curves[name].kind == "ellipse" for name in pair)
    remedy = "move one of them or take it away" if whole else "trim them or join their ends there"
    return [
        Finding(
            "crossing",
            f"{kinds.capitalize()} cross at {_spot((place.x, place.y))}: {remedy}.",
            (place.x, place.y),
            0.0,
            pair,
        )
    ]
