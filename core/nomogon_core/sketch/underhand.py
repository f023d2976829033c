"""Help for drawing by hand over a picture: places, circles and runs of curves on its edges, in millimetres."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import attrs
import numpy as np
from scipy.optimize import minimize_scalar

from nomogon_core.errors import InputError
from nomogon_core.geometry.curves import Arc, Circle
from nomogon_core.picture.edges import pick_edge
from nomogon_core.reference.calibration import COVERAGE_FACTOR
from nomogon_core.reference.sheets import find_round
from nomogon_core.sketch.edit import circle_through
from nomogon_core.trace.fit import fit_open
from nomogon_core.trace.following import FOLLOWED_BLUR_PX, follow_edge
from nomogon_core.trace.whole import ellipse_through

if TYPE_CHECKING:
    from nomogon_core.reference.calibration import Calibration

RIM_PLACES = 64
LEAST_REACH_PX, MOST_REACH_PX = 3.0, 60.0
ROUND_SHARE = 0.02
ARC_PLACES, ARC_REACH_PX, LEAST_SEEN = 80, 8.0, 0.5
OUTLIER_SPREADS = 4.0
CORNER_ROUNDS, CORNER_SHARE, CORNER_SPARE = 3, 0.9, 2.2
LEAST_ARM_PX, OFF_ARMS_PX = 14.0, 1.5


@attrs.frozen
class Drawn:
    """Curves in millimetres, each with its 95 % uncertainty, the scale's included."""

    curves: tuple
    u95: tuple


def stick(
    light: np.ndarray, fit: Calibration, place_mm: tuple[float, float], reach_mm: float
) -> tuple[float, float] | None:
    """The place on the nearest edge of the picture, along the edge's normal, or None where there is none in reach."""
    x, y = fit.to_px([place_mm])[0]
    height, width = light.shape
    if not (0 <= x <= width - 1 and 0 <= y <= height - 1):
        return None
    found = pick_edge(light, x, y, search_px=float(np.clip(reach_mm / fit.mm_per_px, LEAST_REACH_PX, MOST_REACH_PX)))
    return tuple(fit.to_mm([(found.x, found.y)])[0].tolist()) if found.on_edge else None


def along_edge(
    light: np.ndarray, fit: Calibration, start_mm: tuple[float, float], end_mm: tuple[float, float], tolerance_mm: float
) -> Drawn:
    """The edge between two places as the fewest curves.

    Raises:
        TraceError: see :func:`nomogon_core.trace.following.follow_edge`.
    """
    path = follow_edge(light, *fit.to_px([start_mm, end_mm]))
    fitted = fit_open(fit.to_mm(path), pixel=fit.mm_per_px, tolerance=tolerance_mm, blur_px=FOLLOWED_BLUR_PX)
    return Drawn(fitted.curves, fitted.u95)


def round_near(light: np.ndarray, fit: Calibration, place_mm: tuple[float, float]) -> Drawn:
    """The circle, or else the ellipse, on the round edge around a place.

    Raises:
        CalibrationError: there is no round edge around it.
    """
    found = find_round(light, fit.to_px([place_mm])[0])
    angles = np.linspace(0, 2 * math.pi, RIM_PLACES, endpoint=False)
    way = np.array([math.cos(found.angle), math.sin(found.angle)])
    side = np.array([-way[1], way[0]])
    rim = fit.to_mm(
        np.array(found.center)
        + found.half_axes[0] * np.cos(angles)[:, None] * way
        + found.half_axes[1] * np.sin(angles)[:, None] * side
    )
    x, y, radius = _circle_of(rim)
    off = np.abs(np.hypot(rim[:, 0] - x, rim[:, 1] - y) - radius).max()
    oval = ellipse_through(rim) if off > ROUND_SHARE * radius else None
    u95 = math.hypot(
        COVERAGE_FACTOR * fit.u_mm_per_px / fit.mm_per_px * radius,
        COVERAGE_FACTOR * fit.pick_sigma_px * fit.mm_per_px / math.sqrt(RIM_PLACES / 8),
    )
    return Drawn((oval or Circle((x, y), radius),), (u95,))


def _circle_of(places):
    """Centre and radius of the circle through places (n, 2): algebraic start, then geometric least squares by
    Gauss-Newton (Chernov 2010)."""
    middle = places.mean(axis=0)
    near = places - middle
    rows = np.column_stack([2 * near, np.ones(len(near))])
    x, y, rest = np.linalg.lstsq(rows, (near**2).sum(axis=1), rcond=None)[0]
    radius = math.sqrt(rest + x * x + y * y)
    for _ in range(4):
        spokes = near - (x, y)
        size = np.hypot(*spokes.T)
        slopes = np.column_stack([-spokes / size[:, None], -np.ones(len(near))])
        step = np.linalg.lstsq(slopes, -(size - radius), rcond=None)[0]
        x, y, radius = x + step[0], y + step[1], radius + step[2]
    return x + middle[0], y + middle[1], radius


def arc_near(
    light: np.ndarray,
    fit: Calibration,
    start_mm: tuple[float, float],
    end_mm: tuple[float, float],
    between_mm: tuple[float, float],
) -> Drawn:
    """The arc on the edge along three rough places: its ends and a place between.

    The edge is looked for along the way through the three places; what lies far from the circle through the rest is
    left out.

    Raises:
        SketchError: the three places lie on one line.
        InputError: there is no clear edge along most of the way.
    """
    center, radius = circle_through(start_mm, between_mm, end_mm)
    first, middle, last = (
        math.atan2(place[1] - center[1], place[0] - center[0]) for place in (start_mm, between_mm, end_mm)
    )
    sweep = (last - first) % (2 * math.pi)
    if (middle - first) % (2 * math.pi) > sweep:
        sweep -= 2 * math.pi
    angles = first + sweep * (np.arange(ARC_PLACES) + 0.5) / ARC_PLACES
    rough = fit.to_px(np.array(center) + radius * np.column_stack([np.cos(angles), np.sin(angles)]))
    height, width = light.shape
    picks = [
        pick_edge(light, x, y, search_px=ARC_REACH_PX) for x, y in rough if 0 <= x <= width - 1 and 0 <= y <= height - 1
    ]
    seen = fit.to_mm(np.array([(pick.x, pick.y) for pick in picks if pick.on_edge]).reshape(-1, 2))
    if len(seen) < LEAST_SEEN * ARC_PLACES:
        raise InputError(
            "There is no clear edge along those three places. Click closer to the edge, or draw the arc with Alt held."
        )
    for _ in range(3):
        x, y, radius = _circle_of(seen)
        off = np.hypot(seen[:, 0] - x, seen[:, 1] - y) - radius
        spread = max(1.4826 * float(np.median(np.abs(off))), 0.02 * fit.mm_per_px)
        seen = seen[np.abs(off) <= OUTLIER_SPREADS * spread]
    first, last = (math.atan2(place[1] - y, place[0] - x) for place in (start_mm, end_mm))
    turn = (last - first) % (2 * math.pi) if sweep > 0 else -((first - last) % (2 * math.pi))
    rows = np.column_stack(
        [
            np.cos(np.arctan2(seen[:, 1] - y, seen[:, 0] - x)),
            np.sin(np.arctan2(seen[:, 1] - y, seen[:, 0] - x)),
            np.ones(len(seen)),
        ]
    )
    noise = max(spread, fit.pick_sigma_px * fit.mm_per_px) * math.sqrt(np.linalg.inv(rows.T @ rows)[2, 2])
    u95 = COVERAGE_FACTOR * math.hypot(fit.u_mm_per_px / fit.mm_per_px * radius, noise)
    return Drawn((Arc((x, y), radius, first, turn),), (u95,))


def corner_radius(
    light: np.ndarray,
    fit: Calibration,
    corner: tuple[float, float],
    ways: tuple[np.ndarray, np.ndarray],
    reach_mm: float,
) -> float:
    """The radius with which the picture rounds a corner.

    The edge is followed from one arm to the other; the radius is that of the arc between both, touching them, which
    with what is left of the arms lies closest to it (least squares).

    Args:
        corner: where both arms would meet; ways: unit directions along them, away from it; reach_mm: how far along.

    Raises:
        TraceError: there is no edge from one to the other; InputError: it leaves the arms.
    """
    half = math.acos(max(-1.0, min(1.0, float(ways[0] @ ways[1])))) / 2
    middle = (ways[0] + ways[1]) / np.linalg.norm(ways[0] + ways[1])
    for _ in range(CORNER_ROUNDS):
        ends = np.array([np.add(corner, reach_mm * way) for way in ways])
        path = fit.to_mm(follow_edge(light, *fit.to_px(ends))) - np.array(corner)
        off = _off_rounded(path, ways, middle, half)
        found = minimize_scalar(
            lambda radius, off=off: float((off(radius) ** 2).sum()),
            bounds=(0.0, CORNER_SHARE * reach_mm * math.tan(half)),
            method="bounded",
            options={"xatol": 1e-4 * reach_mm},
        )
        radius = float(found.x)
        reach_mm = min(reach_mm, max(CORNER_SPARE * radius / math.tan(half), LEAST_ARM_PX * fit.mm_per_px))
    if np.sqrt((off(radius) ** 2).mean()) > OFF_ARMS_PX * fit.mm_per_px:
        raise InputError("The picture's edge does not run along both curves of this corner; type the radius instead.")
    return radius


def _off_rounded(path, ways, middle, half):
    """A function of a radius: how far places (n, 2), told from a corner, are from its rounding and its arms."""
    along = np.column_stack([path @ way for way in ways])
    across = np.column_stack([np.abs(path[:, 0] * way[1] - path[:, 1] * way[0]) for way in ways])
    nearer = np.argmin(across, axis=1)[:, None]
    run, side = (np.take_along_axis(values, nearer, axis=1)[:, 0] for values in (along, across))

    def off(radius):
        spokes = np.hypot(*(path - radius / math.sin(half) * middle).T)
        return np.where(run < radius / math.tan(half), spokes - radius, side)

    return off
