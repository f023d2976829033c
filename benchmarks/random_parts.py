"""Parts of lines and arcs drawn at random: another one for every seed, so that nothing can be tuned to them.

Every part is a list of outlines in millimetres, the outer one first and counter-clockwise, holes after it. Five
families: rounded
polygons, belts around circles, polygons with bowed sides, strips along a winding path, toothed bars; each with holes of
three kinds.
"""

import math

import numpy as np
import shapely

from examples.render import rounded_polygon, slot
from nomogon_core.geometry.curves import Arc, Circle, Line, closed_area, length, moved, outline_points, polar, reverse

LEAST_CURVE_MM = 1.2
LEAST_TURN = math.radians(15.0)
CLEARANCE_MM = 2.0
MOST_TRIES = 400
HOLE_TRIES = 30


def random_part(random):
    """One part of lines, arcs and circles.

    Args:
        random: numpy Generator.
    """
    family = FAMILIES[random.integers(len(FAMILIES))]
    for _ in range(MOST_TRIES):
        outline = family(random)
        if outline is None or not _is_sound(outline):
            continue
        if closed_area(outline) < 0:
            outline = tuple(reverse(curve) for curve in reversed(outline))
        return (outline, *_holes(outline, random))
    raise RuntimeError("no sound part was drawn")


def _polygon(outline):
    return shapely.Polygon(outline_points(outline, 0.01))


def _is_sound(outline):
    """Whether an outline crosses itself nowhere, is nowhere thin, and has no curve too short to be seen."""
    polygon = _polygon(outline)
    if not polygon.is_valid or polygon.area < 400 or min(map(length, outline)) < LEAST_CURVE_MM:
        return False
    thinned = polygon.buffer(-1.0).buffer(1.02)
    thickened = polygon.buffer(1.0).buffer(-1.02)
    return (
        isinstance(thinned, shapely.Polygon)
        and polygon.difference(thinned).area < 1.5
        and thickened.difference(polygon).area < 1.5
    )


def _rounded(random):
    """A polygon around a middle, some corners rounded and some sharp."""
    number = int(random.integers(5, 11))
    angles = np.sort(random.uniform(0, 2 * math.pi, number))
    corners = np.array([polar((0, 0), random.uniform(18, 55), angle) for angle in angles])
    ways = np.roll(corners, -1, axis=0) - corners
    sides = np.hypot(*ways.T)
    before = np.roll(ways, 1, axis=0)
    turns = np.abs(np.arctan2(before[:, 0] * ways[:, 1] - before[:, 1] * ways[:, 0], (before * ways).sum(axis=1)))
    if turns.min() < LEAST_TURN or turns.max() > math.radians(140) or sides.min() < 6:
        return None
    reach = 0.46 * np.minimum(sides, np.roll(sides, 1)) / np.tan(turns / 2)
    radii = [0.0 if random.random() < 0.3 else float(random.uniform(1.2, max(1.3, min(most, 25)))) for most in reach]
    return rounded_polygon(corners, radii)


def _belt(random):
    """Circles with the outer tangents between them, as the hull of the circles."""
    number = int(random.integers(2, 6))
    centers = [
        polar((0, 0), random.uniform(15, 40), angle) for angle in np.sort(random.uniform(0, 2 * math.pi, number))
    ]
    radii = random.uniform(3, 16, number)
    discs = shapely.union_all(
        [shapely.Point(center).buffer(radius, quad_segs=64) for center, radius in zip(centers, radii)]
    )
    hull = np.array(shapely.convex_hull(discs).exterior.coords)[:-1]
    owner = np.array(
        [
            int(np.argmin([abs(math.dist(place, center) - radius) for center, radius in zip(centers, radii)]))
            for place in hull
        ]
    )
    order = [int(owner[index]) for index in range(len(owner)) if owner[index] != owner[index - 1]][::-1]
    if len(order) < 2 or len(set(order)) != len(order):
        return None
    touching = []
    for first, second in zip(order, [*order[1:], order[0]]):
        away = np.subtract(centers[second], centers[first])
        gap = math.hypot(*away)
        if gap <= abs(radii[first] - radii[second]) + 1:
            return None
        normal = math.atan2(away[1], away[0]) - math.pi / 2 + math.asin((radii[first] - radii[second]) / gap) * 1.0
        touching.append((first, second, normal))
    outline = []
    for index, (first, second, normal) in enumerate(touching):
        arriving = touching[index - 1][2]
        outline.append(Arc(centers[first], radii[first], arriving, (normal - arriving) % (2 * math.pi)))
        outline.append(Line(polar(centers[first], radii[first], normal), polar(centers[second], radii[second], normal)))
    return (
        None if min(math.dist(one.start, one.end) for one in outline if isinstance(one, Line)) < 3 else tuple(outline)
    )


def _bowed(random):
    """A polygon whose sides are lines or arcs that bow out or in, all corners sharp."""
    number = int(random.integers(3, 7))
    angles = np.sort(random.uniform(0, 2 * math.pi, number))
    corners = [polar((0, 0), random.uniform(25, 50), angle) for angle in angles]
    outline = []
    for start, end in zip(corners, [*corners[1:], corners[0]]):
        span = math.dist(start, end)
        if span < 12:
            return None
        if random.random() < 0.35:
            outline.append(Line(start, end))
            continue
        sweep = math.copysign(random.uniform(0.4, 2.2), random.uniform(-0.6, 1))
        radius = span / 2 / math.sin(abs(sweep) / 2)
        middle, way = np.add(start, end) / 2, np.subtract(end, start) / span
        center = middle + math.copysign(1, sweep) * radius * math.cos(sweep / 2) * np.array([-way[1], way[0]])
        outline.append(Arc(center, radius, math.atan2(start[1] - center[1], start[0] - center[0]), sweep))
    for before, after in zip([outline[-1], *outline[:-1]], outline):
        if not math.radians(20) < abs(_turn(before, after)) < math.radians(145):
            return None
    return tuple(outline)


def _turn(before, after):
    def way(curve, at_end):
        if isinstance(curve, Line):
            return math.atan2(curve.end[1] - curve.start[1], curve.end[0] - curve.start[0])
        return curve.start_angle + (curve.sweep if at_end else 0) + math.copysign(math.pi / 2, curve.sweep)

    return math.remainder(way(after, False) - way(before, True), 2 * math.pi)


def _strip(random):
    """A band of even width along a winding path of tangent lines and arcs, its ends round."""
    half, heading, here = random.uniform(4, 8), random.uniform(0, 2 * math.pi), np.zeros(2)
    left, right = [], []
    for index in range(int(random.integers(3, 6))):
        if index % 2 == 0:
            end = here + random.uniform(10, 35) * np.array([math.cos(heading), math.sin(heading)])
            off = half * np.array([-math.sin(heading), math.cos(heading)])
            left.append(Line(here + off, end + off))
            right.append(Line(here - off, end - off))
            here = end
        else:
            radius, sweep = half + random.uniform(3, 25), math.copysign(random.uniform(0.5, 2.0), random.uniform(-1, 1))
            side = math.copysign(1, sweep)
            center = here + side * radius * np.array([-math.sin(heading), math.cos(heading)])
            begin = heading - side * math.pi / 2
            left.append(Arc(center, radius - side * half, begin, sweep))
            right.append(Arc(center, radius + side * half, begin, sweep))
            heading += sweep
            here = np.array(polar(center, radius, begin + sweep))
    if not isinstance(left[-1], Line):
        return None
    cap = Arc(here, half, heading - math.pi / 2, math.pi)
    first = math.atan2(right[0].end[1] - right[0].start[1], right[0].end[0] - right[0].start[0])
    foot = Arc(np.zeros(2), half, first + math.pi / 2, math.pi)
    return (*right, cap, *(reverse(curve) for curve in reversed(left)), foot)


def _toothed(random):
    """A bar with steps of changing depth and slope along its top."""
    x, level, points = 0.0, random.uniform(10, 16), [(0.0, 0.0)]
    points.append((0.0, level))
    for _ in range(int(random.integers(3, 7))):
        run, slope, depth = (
            random.uniform(5, 14),
            random.uniform(0.8, 4),
            random.uniform(2.5, 7) * random.choice([-1, 1]),
        )
        points += [(x + run, level), (x + run + slope, level + depth if level + depth > 5 else level - depth)]
        x, level = points[-1]
    points += [(x + random.uniform(5, 10), level)]
    points.append((points[-1][0], 0.0))
    return rounded_polygon(points[::-1], [0.0 if random.random() < 0.6 else 1.5 for _ in points])


FAMILIES = (_rounded, _belt, _bowed, _strip, _toothed)


def _holes(outline, random):
    """Round holes, slots and rounded windows inside an outline, clear of it and of one another."""
    free, found = _polygon(outline), []
    low, high = np.array(free.bounds[:2]), np.array(free.bounds[2:])
    for _ in range(HOLE_TRIES):
        if len(found) == 4:
            break
        kind, place, angle = random.integers(3), random.uniform(low, high), random.uniform(0, math.pi)
        if kind == 0:
            hole = (Circle(place, random.uniform(1.2, 9)),)
        elif kind == 1:
            hole = _turned(slot((0, 0), random.uniform(4, 16), random.uniform(1.5, 5)), angle, place)
        else:
            w, h = random.uniform(6, 18, 2)
            radii = random.uniform(0, 0.35 * min(w, h), 4) * (random.uniform(0, 1, 4) > 0.3)
            hole = _turned(rounded_polygon([(0, 0), (w, 0), (w, h), (0, h)], radii), angle, place)
        if min(length(curve) for curve in hole) < LEAST_CURVE_MM or any(
            isinstance(curve, Arc) and curve.radius < LEAST_CURVE_MM for curve in hole
        ):
            continue
        own = _polygon(hole)
        if free.buffer(-CLEARANCE_MM).contains(own):
            found.append(hole)
            free = free.difference(own)
    return found


def _turned(outline, angle, place):
    cos, sin = math.cos(angle), math.sin(angle)

    def put(point):
        return place[0] + cos * point[0] - sin * point[1], place[1] + sin * point[0] + cos * point[1]

    return tuple(moved(curve, put, turn=angle) for curve in outline)
