"""Help for drawing by hand over a picture: places, circles and runs of curves on its edges, in millimetres."""

import math

import attrs
import numpy as np

from nomogon_core.errors import InputError
from nomogon_core.geometry import Circle
from nomogon_core.reference.calibration import COVERAGE_FACTOR
from nomogon_core.reference.edges import pick_edge
from nomogon_core.reference.sheets import find_round
from nomogon_core.trace.fit import fit_open
from nomogon_core.trace.following import follow_edge

RIM_PLACES = 64
LEAST_REACH_PX, MOST_REACH_PX = 3.0, 60.0
ROUND_SHARE = 0.02


@attrs.frozen
class Drawn:
    """Curves in millimetres, each with its 95 % uncertainty, the scale's included."""

    curves: tuple
    u95: tuple


def stick(light, fit, place_mm, reach_mm):
    """The place on the nearest edge of the picture, along the edge's normal, or None where there is none in reach."""
    x, y = fit.to_px([place_mm])[0]
    height, width = light.shape
    if not (0 <= x <= width - 1 and 0 <= y <= height - 1):
        return None
    found = pick_edge(light, x, y, search_px=float(np.clip(reach_mm / fit.mm_per_px, LEAST_REACH_PX, MOST_REACH_PX)))
    return tuple(fit.to_mm([(found.x, found.y)])[0].tolist()) if found.on_edge else None


def along_edge(light, fit, start_mm, end_mm, tolerance_mm):
    """The edge between two places as the fewest curves.

    Raises:
        TraceError: see :func:`nomogon_core.trace.following.follow_edge`.
    """
    path = follow_edge(light, *fit.to_px([start_mm, end_mm]))
    fitted = fit_open(fit.to_mm(path), pixel=fit.mm_per_px, tolerance=tolerance_mm)
    return Drawn(fitted.curves, fitted.u95)


def round_near(light, fit, place_mm):
    """The circle on the round edge around a place.

    Raises:
        CalibrationError: there is no round edge around it.
        InputError: the edge is round in the picture but not in reality.
    """
    found = find_round(light, fit.to_px([place_mm])[0])
    angles = np.linspace(0, 2 * math.pi, RIM_PLACES, endpoint=False)
    way = np.array([math.cos(found.angle), math.sin(found.angle)])
    side = np.array([-way[1], way[0]])
    rim = fit.to_mm(np.array(found.center) + found.half_axes[0] * np.cos(angles)[:, None] * way + found.half_axes[1] * np.sin(angles)[:, None] * side)
    rows = np.column_stack([2 * rim, np.ones(len(rim))])
    x, y, rest = np.linalg.lstsq(rows, (rim**2).sum(axis=1), rcond=None)[0]
    radius = math.sqrt(rest + x * x + y * y)
    off = np.abs(np.hypot(rim[:, 0] - x, rim[:, 1] - y) - radius).max()
    if off > ROUND_SHARE * radius:
        raise InputError(f"The edge around that place is an oval: it departs from a circle by {off:.2f} mm. Take the tilt out of the picture first, or follow the edge.")
    u95 = math.hypot(COVERAGE_FACTOR * fit.u_mm_per_px / fit.mm_per_px * radius, COVERAGE_FACTOR * fit.pick_sigma_px * fit.mm_per_px / math.sqrt(RIM_PLACES / 8))
    return Drawn((Circle((x, y), radius),), (u95,))
