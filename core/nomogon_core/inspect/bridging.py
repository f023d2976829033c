"""What a printer spans between two ends without support: a bridge."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import shapely

# Common practice: small machines span 10 mm between two ends without support.
BRIDGE_MM, ACROSS, WAYS = 10.0, 15, 16


def span_of(piece: shapely.Polygon, support: Any) -> float | None:
    """How far a piece of a level spans, millimetres, across where it is farthest from what holds it from below; None
    where it is not held at both ends of any direction there, or farther than a machine spans.

    Args:
        support: what stands below, a polygon or several.
    """
    low_x, low_y, high_x, high_y = piece.bounds
    x, y = np.meshgrid(np.linspace(low_x, high_x, ACROSS), np.linspace(low_y, high_y, ACROSS))
    places = shapely.points(x.ravel(), y.ravel())
    places = np.append(places[shapely.contains(piece, places)], piece.representative_point())
    away = shapely.distance(places, support)
    far = places[int(np.argmax(away))]
    if not 2 * away.max() <= BRIDGE_MM:
        return None
    near = shapely.clip_by_rect(support, far.x - BRIDGE_MM, far.y - BRIDGE_MM, far.x + BRIDGE_MM, far.y + BRIDGE_MM)
    angles = np.arange(2 * WAYS) * math.pi / WAYS
    ends = np.array([far.x, far.y]) + BRIDGE_MM * np.column_stack([np.cos(angles), np.sin(angles)])
    starts = np.broadcast_to((far.x, far.y), ends.shape)
    met = shapely.intersection(shapely.linestrings(np.stack([starts, ends], axis=1)), near)
    # What is not met is infinitely far.
    spans = np.nan_to_num(shapely.distance(far, met), nan=math.inf)
    both = float((spans[:WAYS] + spans[WAYS:]).min())
    return both if both <= BRIDGE_MM else None


def polygon_of(section: Any) -> Any:
    """A cross-section of a mesh as a polygon; its outlines run counter-clockwise, its holes clockwise."""
    rings = [np.asarray(line) for line in section.to_polygons()]
    whole = shapely.union_all([shapely.Polygon(ring) for ring in rings if shapely.LinearRing(ring).is_ccw])
    holes = shapely.union_all([shapely.Polygon(ring) for ring in rings if not shapely.LinearRing(ring).is_ccw])
    return whole.difference(holes)
