"""Curves and the areas between them as lines and polygons close enough to ask where they lie: made many at a time, and
kept, since an edit leaves most curves as they are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import attrs
import numpy as np
import shapely
from shapely.geometry import Polygon

from nomogon_core.geometry.curves import sample
from nomogon_core.kept import Kept

CHORD_MM = 0.01
MOST_KEPT = 16_384
_lines = Kept(MOST_KEPT)


def lines_of(curves: Sequence[Any]) -> np.ndarray:
    """The polyline of each curve, as an array of shapely's lines."""
    found = {curve: _lines.get(curve) for curve in curves}
    new = [curve for curve, line in found.items() if line is None]
    if new:
        points = [sample(curve, CHORD_MM) for curve in new]
        made = shapely.linestrings(np.vstack(points), indices=np.repeat(np.arange(len(new)), list(map(len, points))))
        found.update((curve, _lines.put(curve, line)) for curve, line in zip(new, made))
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
    rings = [np.vstack([sample(curve, CHORD_MM)[:-1] for curve in shape.curves]) for shape in new]
    solid = np.array([len(ring) >= 3 for ring in rings])
    polygons = np.full(len(new), Polygon(), dtype=object)
    if solid.any():
        chosen = [ring for ring, fits in zip(rings, solid) if fits]
        closed = np.vstack([part for ring in chosen for part in (ring, ring[:1])])
        counts = [len(ring) + 1 for ring in chosen]
        polygons[solid] = shapely.polygons(
            shapely.linearrings(closed, indices=np.repeat(np.arange(len(chosen)), counts))
        )
    for index in np.flatnonzero(~shapely.is_valid(polygons)):
        whole = polygons[index].buffer(0)
        polygons[index] = whole if whole.geom_type == "Polygon" else polygons[index].convex_hull
    for shape, polygon, inside in zip(new, polygons, _points_in(polygons, [ring[0] for ring in rings])):
        shape.polygon, shape.inside = polygon, inside


def _points_in(polygons, otherwise):
    """A place in each polygon; for an empty one, of a sliver as thin as it is rough, another one."""
    points = shapely.centroid(polygons)
    outside = ~shapely.contains_properly(polygons, points)
    points[outside] = shapely.point_on_surface(polygons[outside])
    places = np.column_stack([shapely.get_x(points), shapely.get_y(points)])
    return [
        tuple(map(float, given)) if empty else tuple(place)
        for place, empty, given in zip(places.tolist(), shapely.is_empty(points).tolist(), otherwise)
    ]
