"""Curves and the areas between them as lines and polygons close enough to ask where they lie: made many at a time, and
kept, since an edit leaves most curves as they are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import attrs
import numpy as np
import shapely
from shapely.geometry import Polygon

from nomogon_core.geometry.curves import sample_all
from nomogon_core.kept import Kept

CHORD_MM = 0.01
MOST_KEPT = 16_384
_lines = Kept(MOST_KEPT)


def lines_of(curves: Sequence[Any]) -> np.ndarray:
    """The polyline of each curve, as an array of shapely's lines."""
    found = _lines.get_all(curves)
    new = list(dict.fromkeys(curve for curve in curves if curve not in found))
    if new:
        points, counts = sample_all(new, CHORD_MM)
        made = shapely.linestrings(points, indices=np.repeat(np.arange(len(new)), counts))
        found |= _lines.put_all(dict(zip(new, made)))
    return np.array([found[curve] for curve in curves], dtype=object)


@attrs.define(eq=False)
class Shape:
    """An area within a closed run of curves.

    Attributes:
        curves: around it; polygon, inside: roughly, and a point in it, None until :func:`fill` has made them.
    """

    curves: tuple
    polygon: Polygon | None = None
    inside: tuple[float, float] | None = None


def fill(shapes: Sequence[Shape]) -> None:
    """Make the polygons and the points of those shapes that have none yet."""
    new = list({id(shape): shape for shape in shapes if shape.polygon is None}.values())
    if not new:
        return
    points, counts = sample_all([curve for shape in new for curve in shape.curves], CHORD_MM)
    points = np.delete(points, np.cumsum(counts) - 1, axis=0)  # where one curve ends, the next begins
    lengths = np.add.reduceat(counts - 1, np.cumsum([0, *(len(shape.curves) for shape in new[:-1])]))
    last = np.cumsum(lengths)
    first = last - lengths
    closed = np.insert(points, last, points[first], axis=0)
    solid = lengths >= 3
    polygons = np.full(len(new), Polygon(), dtype=object)
    if solid.any():
        kept = np.repeat(solid, lengths + 1)
        indices = np.repeat(np.arange(solid.sum()), lengths[solid] + 1)
        polygons[solid] = shapely.polygons(shapely.linearrings(closed[kept], indices=indices))
    for index in np.flatnonzero(~shapely.is_valid(polygons)):
        whole = polygons[index].buffer(0)
        polygons[index] = whole if whole.geom_type == "Polygon" else polygons[index].convex_hull
    for shape, polygon, inside in zip(new, polygons, _points_in(polygons, points[first])):
        shape.polygon, shape.inside = polygon, inside


def _points_in(polygons, otherwise):
    """A place in each polygon; for an empty one, of a sliver as thin as it is rough, another one."""
    points = shapely.centroid(polygons)
    outside = ~shapely.contains_properly(polygons, points)
    points[outside] = shapely.point_on_surface(polygons[outside])
    empty = shapely.is_empty(points)
    points[empty] = shapely.points(otherwise[empty])  # an empty point has no place that could be asked for
    return list(map(tuple, shapely.get_coordinates(points).tolist()))
