"""A simulated caliper on a sample part whose true size is known: a stand-in for trying things out and for tests."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from nomogon_core.errors import InputError
from nomogon_core.geometry.curves import Arc, Circle, Line, sample

RESOLUTION_MM = 0.01
REPEATABILITY_MM = 0.01
REACH_MM = 3.0
PARALLEL_WITHIN = 0.02


def _nearest(outlines, place):
    """(distance, curve, point on it) of the curve nearest to a place."""
    best = None
    for outline in outlines:
        for curve in outline:
            points = sample(curve, 0.002)
            first, run = points[:-1], np.diff(points, axis=0)
            along = np.clip(((place - first) * run).sum(axis=1) / np.maximum((run**2).sum(axis=1), 1e-18), 0, 1)
            feet = first + along[:, None] * run
            away = np.hypot(*(feet - place).T)
            index = int(away.argmin())
            if best is None or away[index] < best[0]:
                best = (float(away[index]), curve, feet[index])
    return best


def _shown(true_mm, random):
    """What the caliper shows: its repeatability, then rounding to its resolution."""
    reading = true_mm + random.normal(0, REPEATABILITY_MM)
    return round(round(reading / RESOLUTION_MM) * RESOLUTION_MM, 4)


def read_between(
    outlines: tuple[tuple[Arc | Line, ...], tuple[Circle], tuple[Circle], tuple[Line, Arc, Line, Arc]],
    first: np.ndarray | tuple[int, float],
    second: np.ndarray | tuple[int, float],
    random: Any,
) -> float:
    """A reading between two edges.

    Args:
        outlines: of the true part, in mm.
        first, second: places near its edges, in the part's own coordinates.
        random: a numpy generator.

    Returns:
        millimetres; between parallel straight edges their distance, since the jaws lie flat.

    Raises:
        InputError: a place is not near an edge, or both are on the same one.
    """
    found = [_nearest(outlines, np.asarray(place, float)) for place in (first, second)]
    if any(away > REACH_MM for away, _, _ in found):
        raise InputError("The caliper stand-in finds no edge of the part there; pick on its edges.")
    (_, a, p), (_, b, q) = found
    if a is b and isinstance(a, Line):
        raise InputError("Both picks are on the same edge; the caliper measures between two edges.")
    if isinstance(a, Line) and isinstance(b, Line):
        u, v = (np.subtract(line.end, line.start) / math.dist(line.start, line.end) for line in (a, b))
        if abs(u[0] * v[1] - u[1] * v[0]) < PARALLEL_WITHIN:
            return _shown(abs(float((q - p) @ (-u[1], u[0]))), random)
    return _shown(math.dist(p, q), random)


def read_diameter(
    outlines: tuple[tuple[Arc | Line, ...], tuple[Circle], tuple[Circle], tuple[Line, Arc, Line, Arc]],
    place: tuple[int, int],
    random: Any,
) -> Any:
    """A reading of the diameter of the round edge nearest to a place.

    Raises:
        InputError: the nearest edge is not round.
    """
    _, curve, _ = _nearest(outlines, np.asarray(place, float))
    if not isinstance(curve, (Circle, Arc)):
        raise InputError("The nearest edge of the part is no circle or arc; pick a round one for a diameter.")
    return _shown(2 * curve.radius, random)
