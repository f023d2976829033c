"""Places evenly along curves, by length."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from nomogon_core.geometry.crossings import at, span
from nomogon_core.geometry.curves import length

STEPS = 400
CLOSED_SHARE = 1e-9


def evenly_along(curves: Sequence[Any], count: int) -> list[tuple[tuple[float, float], float]]:
    """(place, direction in radians) of so many stops along curves that follow one another, from the start of the first
    to the end of the last; where they close, the first stop is not repeated.

    Args:
        curves: each beginning where the one before ends; count: at least 2.
    """
    ends = np.concatenate([[0.0], np.cumsum([length(curve) for curve in curves])])
    first, last = at(curves[0], 0.0)[0], at(curves[-1], span(curves[-1]))[0]
    closed = math.dist(first, last) < CLOSED_SHARE * max(ends[-1], 1.0)
    stops = np.linspace(0, ends[-1], count + 1)[:-1] if closed else np.linspace(0, ends[-1], count)
    owners = np.clip(np.searchsorted(ends, stops, side="right") - 1, 0, len(curves) - 1)
    found = []
    for number in np.unique(owners):
        curve = curves[number]
        steps = np.linspace(0, span(curve), STEPS * max(1, round(span(curve))) + 1)
        chords = np.hypot(*np.diff(np.array([at(curve, float(t))[0] for t in steps]), axis=0).T)
        run = np.concatenate([[0.0], np.cumsum(chords)])
        run *= length(curve) / run[-1]
        for stop in stops[owners == number] - ends[number]:
            place, way = at(curve, float(np.interp(stop, run, steps)))
            found.append(((float(place[0]), float(place[1])), math.atan2(way[1], way[0])))
    return found
