"""A sketch as a drawing board needs it: path data, states, where dimensions are anchored; plain data."""

from __future__ import annotations

import math
from itertools import islice
from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.geometry.paths import path_data
from nomogon_core.quantity.units import format_angle, format_length
from nomogon_core.sketch.dimensions import in_words
from nomogon_core.sketch.mending import remedy_of
from nomogon_core.sketch.model import ROUND
from nomogon_core.sketch.regions import loop_curves

if TYPE_CHECKING:
    from nomogon_core.sketch.findings import Finding
    from nomogon_core.sketch.model import Constraint, Sketch
    from nomogon_core.sketch.regions import Region
    from nomogon_core.sketch.solve import Freedom


# Before a length that is none between two places (ISO 129-1).
SIGNS = {"radius": "R", "diameter": "Ø", "arc length": "⌒"}


def draw(sketch: Sketch, free: Freedom | None = None, unit: str = "mm") -> dict[str, list[dict]]:
    """Curves, points, dimensions and constraints of a sketch.

    Args:
        free: a Freedom, to tell what is located; None while dragging, when nobody asks.
    """
    return {
        "curves": _curves(sketch, free),
        "points": _points(sketch, free),
        "dimensions": _dimensions(sketch, unit),
        "constraints": [
            {"id": name, "kind": item.kind, "of": list(item.of), "words": in_words(sketch, name)}
            for name, item in sketch.constraints.items()
            if not item.is_dimension
        ],
    }


def paths(sketch: Sketch, most: int) -> list[str]:
    """Path data of at most so many curves that are no construction."""
    names = (name for name, curve in sketch.curves.items() if not curve.construction)
    return [path_data([sketch.geometry(name)]) for name in islice(names, most)]


def difference(before: dict[str, list[dict]], after: dict[str, list[dict]]) -> dict[str, dict]:
    """What of a drawing is another than of an earlier one: for each of its lists what to put, by "id", and the ids of
    what is gone."""
    told = {}
    for part, items in after.items():
        was = {item["id"]: item for item in before[part]}
        put = [item for item in items if was.pop(item["id"], None) != item]
        told[part] = {"put": put, "gone": list(was)}
    return told


def draw_moved(before: Sketch, after: Sketch, unit: str = "mm") -> dict[str, Any]:
    """What of a drawing is another while something is dragged: path data of curves and places of points by id, and the
    dimensions on these."""
    points = {name: place for name, place in after.points.items() if place != before.points[name]}
    curves = {
        name
        for name, curve in after.curves.items()
        if curve.radius != before.curves[name].radius or not points.keys().isdisjoint(curve.points)
    }
    touched = points.keys() | curves | {point for name in curves for point in after.curves[name].points}
    return {
        "points": {name: list(place) for name, place in points.items()},
        "curves": {name: path_data([after.geometry(name)]) for name in curves},
        "dimensions": _dimensions(after, unit, touched),
    }


def changed_paths(before: Sketch, after: Sketch) -> dict[str, list]:
    """Path data of what is drawn otherwise or new in a changed sketch, and ids of the curves that it takes the place
    of."""
    new = [name for name in after.curves if name not in before.curves or after.geometry(name) != before.geometry(name)]
    gone = [name for name in before.curves if name in new or name not in after.curves]
    return {"paths": [path_data([after.geometry(name)]) for name in new], "gone": gone}


def _curves(sketch, free):
    drawn, disputed = [], _disputed(sketch)
    for name, curve in sketch.curves.items():
        geometry = sketch.geometry(name)
        drawn.append(
            {
                "id": name,
                "kind": curve.kind,
                "d": path_data([geometry]),
                "points": list(curve.points),
                "construction": curve.construction,
                "free": bool(free and free.curve_is_free(name, curve)),
                "bad": name in disputed or not disputed.isdisjoint(curve.points),
            }
        )
    return drawn


def _disputed(sketch):
    """What the constraints speak of that are in conflict."""
    unmet = [item for item in sketch.constraints.values() if item.against]
    others = {sketch.constraints[one] for item in unmet for one in item.against if one in sketch.constraints}
    return {one for item in (*unmet, *others) for one in item.of}


def _points(sketch, free):
    roles = {}
    for curve in sketch.curves.values():
        for index, point in enumerate(curve.points):
            role = (
                "center"
                if curve.kind in ROUND and index == 0
                else "handle"
                if curve.kind == "spline" and index % 3
                else "end"
            )
            if roles.get(point) != "end":
                roles[point] = role
    return [
        {
            "id": name,
            "x": x,
            "y": y,
            "role": roles.get(name, "point"),
            "ways": [list(way) for way in free.points.get(name, ())] if free else [],
        }
        for name, (x, y) in sketch.points.items()
    ]


def _dimensions(sketch, unit, touched=None):
    drawn = []
    for name, item in sketch.constraints.items():
        if not item.is_dimension or (touched is not None and touched.isdisjoint(item.of)):
            continue
        value = format_angle(item.value) if item.kind == "angle" else format_length(item.value, unit=unit)
        sign = SIGNS.get(item.kind, "")
        label = f"{sign}{value}" if item.driving else f"({sign}{value})"
        drawn.append(
            {
                "id": name,
                "name": item.name,
                "label": label,
                "source": item.source,
                "driving": item.driving,
                **anchor(sketch, item),
            }
        )
    return drawn


def anchor(sketch: Sketch, item: Constraint) -> dict[str, Any]:
    """Where a dimension is drawn: ``shape`` "straight" with two places and a way, "round" with a rim, or a corner."""
    if item.kind in ("radius", "diameter", "arc length") and len(item.of) == 1:
        curve = sketch.curves[item.of[0]]
        center = sketch.points[curve.points[0]]
        angle = -math.pi / 4
        if curve.kind == "arc":
            arc = sketch.geometry(item.of[0])
            angle = arc.start_angle + arc.sweep / 2
        return {"shape": "round", "center": list(center), "radius": curve.radius, "angle": angle}
    if item.kind == "angle":
        return _corner(sketch, item)
    item = attrs.evolve(item, of=item.parts[0])
    first, second = (_across if item.kind == "diameter" else _two_places)(sketch, item)
    if item.kind == "across":
        way = (1.0, 0.0)
    elif item.kind == "up":
        way = (0.0, 1.0)
    else:
        size = max(math.dist(first, second), 1e-9)
        way = ((second[0] - first[0]) / size, (second[1] - first[1]) / size)
    return {"shape": "straight", "first": list(first), "second": list(second), "way": list(way)}


def _two_places(sketch, item):
    places = []
    rims = [name for name in item.of if name in sketch.curves and sketch.curves[name].kind in ("circle", "arc")]
    if rims:
        return _to_rims(sketch, item.of)
    for reference in item.of:
        if reference in sketch.points:
            places.append(sketch.points[reference])
        elif len(item.of) == 1:
            return tuple(sketch.points[point] for point in sketch.curves[reference].points)
        else:
            a, b = (sketch.points[point] for point in sketch.curves[reference].points)
            places.append((a, b))
    if isinstance(places[0][0], tuple) and isinstance(places[1][0], tuple):
        middle = tuple((a + b) / 2 for a, b in zip(*places[1]))
        return _foot(places[0], middle), middle
    if isinstance(places[0][0], tuple):
        return _foot(places[0], places[1]), places[1]
    if isinstance(places[1][0], tuple):
        return places[0], _foot(places[1], places[0])
    return places[0], places[1]


def _across(sketch, item):
    """A half profile's point, or its line's middle, and its image beyond the axis."""
    name, axis = item.of
    ends = [sketch.points[point] for point in sketch.curves[axis].points]
    if name in sketch.points:
        place = sketch.points[name]
    else:
        place = tuple((a + b) / 2 for a, b in zip(*(sketch.points[point] for point in sketch.curves[name].points)))
    return place, tuple(2 * a - b for a, b in zip(_foot(ends, place), place))


def _to_rims(sketch, of):
    """The places between which the distance from a circle or arc to something else is shortest."""
    centers = [sketch.points[name if name in sketch.points else sketch.curves[name].points[0]] for name in of]
    lines = [name in sketch.curves and sketch.curves[name].kind == "line" for name in of]
    for index in (0, 1):
        if lines[index]:
            ends = tuple(sketch.points[point] for point in sketch.curves[of[index]].points)
            centers[index] = _foot(ends, centers[1 - index])
    apart = math.dist(*centers)
    way = [(b - a) / apart for a, b in zip(*centers)] if apart > 1e-9 else [1.0, 0.0]
    reach = [0.0 if name in sketch.points else sketch.curves[name].radius for name in of]
    signs = (1, -1)
    if not any(lines) and apart < max(reach):  # one inside the other
        signs = (1, 1) if reach[0] > reach[1] else (-1, -1)
    return tuple(
        (center[0] + sign * radius * way[0], center[1] + sign * radius * way[1])
        for center, sign, radius in zip(centers, signs, reach)
    )


def _foot(line, point):
    (ax, ay), (bx, by) = line
    run = (bx - ax, by - ay)
    share = ((point[0] - ax) * run[0] + (point[1] - ay) * run[1]) / max(run[0] ** 2 + run[1] ** 2, 1e-18)
    return (ax + share * run[0], ay + share * run[1])


def _corner(sketch, item):
    """Crossing of two lines, and the middle direction between them."""
    (a, b), (c, d) = (tuple(sketch.points[point] for point in sketch.curves[name].points) for name in item.of)
    first, second = (b[0] - a[0], b[1] - a[1]), (d[0] - c[0], d[1] - c[1])
    cross = first[0] * second[1] - first[1] * second[0]
    if abs(cross) < 1e-9:
        place = ((a[0] + c[0]) / 2, (a[1] + c[1]) / 2)
    else:
        share = ((c[0] - a[0]) * second[1] - (c[1] - a[1]) * second[0]) / cross
        place = (a[0] + share * first[0], a[1] + share * first[1])
    far = [max(pair, key=lambda p: math.dist(p, place)) for pair in ((a, b), (c, d))]
    angles = [math.atan2(p[1] - place[1], p[0] - place[0]) for p in far]
    return {"shape": "corner", "center": list(place), "angles": angles}


def draw_regions(sketch: Sketch, regions: tuple[Region, ...]) -> list[dict[str, Any]]:
    """Regions as path data that can be filled by the even-odd rule."""
    return [
        {
            "id": region.name,
            "area": region.area,
            "d": "".join(path_data(loop_curves(sketch, loop), closed=True) for loop in region.loops()),
        }
        for region in regions
    ]


def draw_findings(findings: tuple[Finding, ...]) -> list[dict[str, Any]]:
    """Findings with their places, and in words the remedy of each that has one."""
    return [
        {
            "code": item.code,
            "sentence": item.sentence,
            "place": list(item.place),
            "size": remedy.size if remedy else item.size,
            "of": list(item.of),
            "remedy": remedy.words if remedy else "",
        }
        for item in findings
        for remedy in (remedy_of(item),)
    ]
