"""Reading checks in a calibrated picture, and which measurement to take next."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from nomogon_core.geometry.curves import Arc, Circle, Line
from nomogon_core.job.document import observations
from nomogon_core.reference.models import measure_next

if TYPE_CHECKING:
    from nomogon_core.job.overview import Overview
    from nomogon_core.reference.calibration import Calibration
    from nomogon_core.reference.models import Suggestion

PARALLEL_WITHIN = 0.01
LEAST_FACING = 0.1
LEAST_GAP_MM = 1.0
MOST_LINES = 16


def read_check(fit: Calibration, item: dict[str, Any]) -> tuple[float, float]:
    """(reading, its 95 % uncertainty) of a check: millimetres, or radians of an angle.

    Args:
        fit: calibration of its picture.
        item: its plain data; ``places`` are two ends, or corner and both arms of an angle, or for a diameter the
            ends of both axes of the ellipse.
    """
    places = item["places"]
    if item["what"] == "angle":
        return fit.angle_between(places[0], places[1], places[2], item["sigma_px"])
    if item["what"] == "diameter" and len(places) == 4:
        (first, u_first), (second, u_second) = (
            fit.distance(places[at], places[at + 1], item["sigma_px"]) for at in (0, 2)
        )
        return (first + second) / 2, max(u_first, u_second)
    return fit.distance(places[0], places[1], item["sigma_px"])


def _facing(first, second):
    """The two places between which a caliper measures from a line to a parallel line or to a round edge, or None."""
    start, run = np.array(first.start), np.subtract(first.end, first.start)
    size = math.hypot(*run)
    way = run / max(size, 1e-12)
    normal = np.array([-way[1], way[0]])
    if isinstance(second, Line):
        ends = (np.array([second.start, second.end]) - start) @ np.column_stack([way, normal])
        if abs(ends[1, 1] - ends[0, 1]) > PARALLEL_WITHIN * math.dist(second.start, second.end):
            return None
        low, high = max(0.0, ends[:, 0].min()), min(size, ends[:, 0].max())
        along, off = (low + high) / 2, float(ends[:, 1].mean())
        if high - low < LEAST_FACING * size:
            return None
    else:
        along, level = (np.subtract(second.center, start)) @ np.column_stack([way, normal])
        off = level + math.copysign(second.radius, level)
        angle = math.atan2(*(normal * math.copysign(1.0, off))[::-1])
        if not 0 <= along <= size or (isinstance(second, Arc) and not _sweeps_over(second, angle)):
            return None
    if abs(off) < LEAST_GAP_MM:
        return None
    foot = start + along * way
    return tuple(foot), tuple(foot + off * normal)


def _sweeps_over(arc, angle):
    turned = (angle - arc.start_angle) * math.copysign(1.0, arc.sweep) % (2 * math.pi)
    return turned <= abs(arc.sweep)


def _gaugeable(curves):
    """Pairs of places that a caliper can be laid on: parallel edges, an edge and a round one across, diameters."""
    lines = sorted(
        (curve for curve in curves if isinstance(curve, Line)), key=lambda line: -math.dist(line.start, line.end)
    )[:MOST_LINES]
    rounds = [curve for curve in curves if isinstance(curve, (Arc, Circle))]
    pairs = [_facing(first, second) for index, first in enumerate(lines) for second in (*lines[index + 1 :], *rounds)]
    return [pair for pair in pairs if pair is not None] + [
        _size_of(curve) for curve in curves if isinstance(curve, Circle)
    ]


def suggest(view: Overview, size: tuple | None = None) -> Suggestion | None:
    """The measurement that would improve the sketch's sizes most, or one size alone; or None.

    Args:
        view: an :class:`nomogon_core.job.overview.Overview`.
        size: the two places in the sketch that it lies between, millimetres; None looks at all sizes.

    Returns:
        :class:`nomogon_core.reference.models.Suggestion` or None.
    """
    fit, document = view.calibration, view.document
    if fit is None or fit.is_set:
        return None
    name = view.picture_id
    traces = {key for key, item in document["traces"].items() if item["picture"] == name}
    geometry = {
        key: view.sketch.geometry(key)
        for key, curve in view.sketch.curves.items()
        if curve.origin in traces and not curve.construction
    }
    if not geometry:
        return None
    targets = [pair for pair in map(_size_of, geometry.values()) if pair is not None]
    candidates = _gaugeable(list(geometry.values()))
    if not candidates:
        return None
    told = observations({key: item for key, item in document["known"].items() if item["picture"] == name})
    known = [(np.array(item.start), np.array(item.end)) for item in told.lengths]

    def in_px(pairs):
        return [tuple(map(tuple, fit.to_px(pair).tolist())) for pair in pairs]

    fresh = [pair for pair in in_px(candidates) if not any(_same(pair, other, view.picture) for other in known)]
    return measure_next(
        fit,
        (view.picture["width"], view.picture["height"]),
        fresh,
        in_px([size] if size else targets + candidates),
        lengths=told.lengths,
        rectangles=told.rectangles,
    )


def _size_of(curve):
    """The two places whose distance is a curve's size: ends of a line, opposite rim of a circle."""
    if isinstance(curve, Line):
        return curve.start, curve.end
    if isinstance(curve, Circle):
        (x, y), radius = curve.center, curve.radius
        return (x - radius, y), (x + radius, y)
    return None


def _same(pair, known, picture):
    """Whether a candidate runs where something is known already: about as long, and beside it or along it."""
    reach = 0.02 * math.hypot(picture["width"], picture["height"])
    first, second = np.array(pair[1]) - pair[0], known[1] - known[0]
    if abs(first[0] * second[1] - first[1] * second[0]) > 0.05 * math.hypot(*first) * math.hypot(*second):
        return False
    return abs(math.hypot(*first) - math.hypot(*second)) < reach
