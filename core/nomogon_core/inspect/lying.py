"""How a part lies to be printed: what hangs, what it stands on, whether it fits, and the best way to lay it."""

from __future__ import annotations

import math
from typing import Any

import attrs
import numpy as np
import shapely
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import ConvexHull, QhullError
from shapely import MultiPoint, Point, convex_hull

from nomogon_core.inspect.bridging import polygon_of, span_of
from nomogon_core.inspect.meshed import Meshed
from nomogon_core.solid import planes

ON_BED_MM, LEVEL = 0.05, 0.999
TURNS_DEGREES = 0.1
MOST_WAYS = 24
SAME_WAY, SAME_PLACE = 3, 4
MOST_PIECES, BELOW_MM, LOOKED_INTO = 40, 0.05, 6


@attrs.frozen
class Lying:
    """What a way to lie comes to.

    Attributes:
        up: unit vector away from the bed.
        hanging: square millimetres that are steeper than allowed and no bridges; worst: place of the largest such
            triangle's face; steepest: degrees from upright of the steepest part of it; faces: names of the faces that
            hang.
        foot: square millimetres that touch the bed; height: millimetres.
        bridged: square millimetres that are held at both ends, near enough to be spanned; span: the longest of them,
            millimetres.
    """

    up: tuple[float, float, float]
    hanging: float
    worst: tuple[float, float, float]
    steepest: float
    faces: tuple[str, ...]
    foot: float
    height: float
    bridged: float = 0.0
    span: float = 0.0


def lying(meshed: Meshed, up: Any, most_degrees: float, *, bridges: bool = True) -> Lying:
    """What hangs, and what stands on the bed, where the part is laid with a direction up.

    Args:
        most_degrees: how far from upright a face may lean over without support.
        bridges: tell what a printer spans from what hangs; otherwise all of it hangs.
    """
    up = np.asarray(up, float) / np.linalg.norm(up)
    heights = meshed.corners @ up
    low, lean = float(heights.min()), meshed.normals @ up
    over = (lean < -math.sin(math.radians(most_degrees)) - 1e-6) & (heights.mean(axis=1) > low + ON_BED_MM)
    foot = (lean < -LEVEL) & (heights.max(axis=1) < low + ON_BED_MM)
    spanned, span = _spanned(meshed, up, over) if bridges and over.any() else (np.zeros_like(over), 0.0)
    over &= ~spanned
    faces: tuple[str, ...] = ()
    worst, steepest = (0.0, 0.0, 0.0), 0.0
    if over.any():
        by_face = np.bincount(meshed.owner[over], meshed.areas[over], minlength=len(meshed.faces))
        face = int(by_face.argmax())
        mine = over & (meshed.owner == face)
        worst = tuple(np.average(meshed.corners[mine].mean(axis=1), axis=0, weights=meshed.areas[mine]).tolist())
        steepest = math.degrees(math.asin(min(1.0, float(-lean[over].min()))))
        faces = tuple(meshed.name(int(one)) for one in np.flatnonzero(by_face > 0))
    told = tuple(up.tolist())
    return Lying(
        told,
        float(meshed.areas[over].sum()),
        worst,
        steepest,
        faces,
        float(meshed.areas[foot].sum()),
        float(heights.max() - low),
        float(meshed.areas[spanned].sum()),
        span,
    )


def _spanned(meshed, up, over):
    """(which triangles belong to bridges, the longest span) of those that lean over."""
    level = planes.frame_of((0, 0, 0), up)
    turn = np.array([level.across, level.up, level.normal])
    numbers = np.flatnonzero(over)
    corners = meshed.corners[numbers] @ turn.T
    solid, spanned, longest = None, np.zeros_like(over), 0.0
    for piece in _pieces(corners)[:MOST_PIECES]:
        area = shapely.union_all(shapely.polygons(corners[piece][:, :, :2]))
        if area.geom_type != "Polygon":
            continue
        solid = solid or meshed.solid.transform(np.column_stack([turn, np.zeros(3)]))
        below = polygon_of(solid.slice(float(corners[piece][:, :, 2].min()) - BELOW_MM))
        span = span_of(area, below)
        if span is not None:
            spanned[numbers[piece]] = True
            longest = max(longest, span)
    return spanned, longest


def _pieces(corners):
    """Numbers of the triangles that hang together at their corners, the largest pieces first."""
    _, places = np.unique(corners.reshape(-1, 3).round(SAME_PLACE), axis=0, return_inverse=True)
    places, count = places.reshape(-1, 3), len(corners)
    graph = coo_array((np.ones(3 * count), (np.repeat(np.arange(count), 3), count + places.ravel())))
    size = max(graph.shape)
    _, owner = connected_components(coo_array((graph.data, graph.coords), shape=(size, size)), directed=False)
    found = [np.flatnonzero(owner[:count] == one) for one in np.unique(owner[:count])]
    return sorted(found, key=len, reverse=True)


def ways_to_lie(meshed: Meshed) -> list[np.ndarray]:
    """Directions up in which the part stands by itself: on the facets of its hull that hold its centre of mass, the
    largest first."""
    try:
        hull = ConvexHull(meshed.vertices)
    except QhullError:
        return []
    facets: dict[tuple, list[int]] = {}
    for simplex, equation in zip(hull.simplices, np.round(hull.equations, SAME_WAY)):
        facets.setdefault(tuple(equation), []).extend(simplex)
    center, found = np.array(meshed.body.facts.center), []
    for equation, points in facets.items():
        out = np.array(equation[:3]) / np.linalg.norm(equation[:3])
        plane = np.linalg.svd(out[None])[2][1:]
        foot = convex_hull(MultiPoint(meshed.vertices[np.unique(points)] @ plane.T))
        if foot.geom_type == "Polygon" and foot.contains(Point(plane @ center)):
            found.append((foot.area, -out))
    return [up for _, up in sorted(found, key=lambda one: -one[0])[:MOST_WAYS]]


def best_way(meshed: Meshed, most_degrees: float) -> Lying | None:
    """The way to lie in which the least hangs, and among these the one with the larger foot and the lesser height."""
    rough = [lying(meshed, up, most_degrees, bridges=False) for up in ways_to_lie(meshed)]
    nearest = sorted(rough, key=lambda one: one.hanging)[:LOOKED_INTO]
    told = [lying(meshed, one.up, most_degrees) if one.hanging else one for one in nearest]
    return min(told, key=lambda one: (round(one.hanging, 0), one.height - 0.05 * one.foot), default=None)


@attrs.frozen
class Fit:
    """Whether a part fits a bed: millimetres left over, negative where it is too large; degrees by which it is turned,
    and its sizes there."""

    slack: float
    turn: float
    sizes: tuple[float, float]


def bed_fit(meshed: Meshed, up: Any, bed: tuple[float, float]) -> Fit:
    """How a part fits a rectangular bed, turned on it as it fits best; unturned where that fits."""
    level = planes.frame_of((0, 0, 0), up)
    plane = np.array([level.across, level.up])
    hull = np.array(convex_hull(MultiPoint(meshed.vertices @ plane.T)).exterior.coords)
    turns = np.radians(np.arange(0, 180, TURNS_DEGREES))
    across, aside = np.column_stack([np.cos(turns), np.sin(turns)]), np.column_stack([-np.sin(turns), np.cos(turns)])
    wide, deep = np.ptp(hull @ across.T, axis=0), np.ptp(hull @ aside.T, axis=0)
    slack = np.minimum(bed[0] - wide, bed[1] - deep)
    best = 0 if slack[0] >= 0 else int(slack.argmax())
    return Fit(float(slack[best]), math.degrees(turns[best]), (float(wide[best]), float(deep[best])))
