"""How far points are from curves, and how sure a fitted curve is."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from nomogon_core.geometry.curves import Arc, Circle, Ellipse, EllipticArc, Line, Spline, bezier, ends
from nomogon_core.picture.blur import radius_doubt
from nomogon_core.trace import compiled_cubics

FOOT_ROUNDS = 12
SYSTEMATIC_PX, MOST_LAGS = 0.006, 64


def signed_distance(points: np.ndarray, curve: Any) -> Any:
    """Distances (n,) of points from a curve; unsigned beyond its ends, so that a neighbour can be nearer."""
    if isinstance(curve, Circle):
        return np.hypot(points[:, 0] - curve.center[0], points[:, 1] - curve.center[1]) - curve.radius
    if isinstance(curve, Ellipse):
        return _ellipse_distance(points, curve)[0]
    if isinstance(curve, EllipticArc):
        radial, angle = _ellipse_distance(points, curve.whole)
        within = (angle - curve.first) * math.copysign(1, curve.sweep) % (2 * math.pi) <= abs(curve.sweep)
        return np.where(within, radial, _to_ends(points, curve))
    if isinstance(curve, Line):
        start, run = np.array(curve.start), np.subtract(curve.end, curve.start)
        size = max(math.hypot(*run), 1e-12)
        along = np.clip((points - start) @ run / size**2, 0, 1)
        off = points - start - along[:, None] * run
        sign = np.sign(run[0] * off[:, 1] - run[1] * off[:, 0])
        return np.where(sign == 0, 1, sign) * np.hypot(off[:, 0], off[:, 1])
    if isinstance(curve, Arc):
        spoke = points - curve.center
        angle = (
            (np.arctan2(spoke[:, 1], spoke[:, 0]) - curve.start_angle) * math.copysign(1, curve.sweep) % (2 * math.pi)
        )
        radial = np.hypot(spoke[:, 0], spoke[:, 1]) - curve.radius
        return np.where(angle <= abs(curve.sweep), radial, _to_ends(points, curve))
    points, nearest = np.ascontiguousarray(points, float), None
    for control in curve.pieces():
        steps = max(24, int(np.hypot(*np.diff(control, axis=0).T).sum() / 3))
        away = compiled_cubics.cubic_distances(control, points, steps)
        nearest = away if nearest is None else np.where(np.abs(away) < np.abs(nearest), away, nearest)
    return nearest


def _to_ends(points, curve):
    """Distances (n,) from the nearer end of a curve."""
    return np.minimum(*(np.hypot(*(points - np.array(end)).T) for end in ends(curve)))


def _ellipse_distance(points, ellipse):
    """Signed distances (n,) from an ellipse, positive outside, and the eccentric angles of the feet: Newton's method,
    from a start on the evolute's side (Eberly 2013)."""
    a, b = ellipse.semi_axes
    turn = np.array([math.cos(ellipse.angle), math.sin(ellipse.angle)])
    away = np.asarray(points, float) - ellipse.center
    x, y = away @ turn, away @ np.array([-turn[1], turn[0]])
    angle = np.arctan2(a * y, b * x)
    for _ in range(FOOT_ROUNDS):
        cos, sin = np.cos(angle), np.sin(angle)
        off_x, off_y = a * cos - x, b * sin - y
        slope = -a * sin * off_x + b * cos * off_y
        bend = (a * sin) ** 2 + (b * cos) ** 2 - a * cos * off_x - b * sin * off_y
        angle = angle - np.clip(slope / np.where(bend > 1e-9, bend, (a * sin) ** 2 + (b * cos) ** 2 + 1e-12), -0.5, 0.5)
    outside = (x / a) ** 2 + (y / b) ** 2 >= 1
    return np.where(outside, 1, -1) * np.hypot(a * np.cos(angle) - x, b * np.sin(angle) - y), angle


def distances_to_run(points: np.ndarray, line: np.ndarray) -> np.ndarray:
    """Distances (n,) of points from the two segments of a polyline (m, 2) at its vertex that is nearest to each."""
    nearest = ((points[:, None] - line[None]) ** 2).sum(axis=2).argmin(axis=1)
    off = np.full(len(points), np.inf)
    for step in (-1, 0):
        start = line[np.clip(nearest + step, 0, len(line) - 2)]
        run = line[np.clip(nearest + step, 0, len(line) - 2) + 1] - start
        share = np.clip(((points - start) * run).sum(axis=1) / np.maximum((run**2).sum(axis=1), 1e-12), 0, 1)
        off = np.minimum(off, np.hypot(*(points - start - share[:, None] * run).T))
    return off


def points_along(curve: Arc | Line | Spline, count: int = 24) -> np.ndarray:
    """Points (count, 2) along a curve, so many a piece of a spline."""
    shares = np.linspace(0, 1, count)
    if isinstance(curve, Arc):
        angles = curve.start_angle + shares * curve.sweep
        return np.column_stack(
            [curve.center[0] + curve.radius * np.cos(angles), curve.center[1] + curve.radius * np.sin(angles)]
        )
    if isinstance(curve, Spline):
        pieces = curve.pieces()
        return (
            np.vstack([bezier(control, shares) for control in pieces]) if len(pieces) > 1 else bezier(pieces[0], shares)
        )
    return np.array(curve.start) + shares[:, None] * np.subtract(curve.end, curve.start)


def distances_of(contour: np.ndarray, curves: Sequence[Any]) -> tuple[np.ndarray, np.ndarray]:
    """Signed distance of every contour point from the nearest curve, and which curve that is."""
    best = np.full(len(contour), np.inf)
    owner = np.zeros(len(contour), int)
    for index, curve in enumerate(curves):
        near = _in_box(contour, curve)
        if not near.any():
            continue
        away = signed_distance(contour[near], curve)
        closer = np.abs(away) < np.abs(best[near])
        places = np.nonzero(near)[0][closer]
        best[places], owner[places] = away[closer], index
    lost = ~np.isfinite(best)
    for place in np.nonzero(lost)[0]:
        all_of_them = [signed_distance(contour[place : place + 1], curve)[0] for curve in curves]
        owner[place] = int(np.argmin(np.abs(all_of_them)))
        best[place] = all_of_them[owner[place]]
    return best, owner


def distances_from(points: list[tuple[float, float]] | np.ndarray, curves: Sequence[Any]) -> np.ndarray:
    """Signed distances (n,) of points (n, 2) from the nearest of several curves, in the points' unit."""
    return distances_of(np.asarray(points, float), curves)[0]


def _in_box(contour, curve, margin=6.0):
    curve = curve.whole if isinstance(curve, EllipticArc) else curve
    if isinstance(curve, Ellipse):
        low, high = np.subtract(curve.center, max(curve.semi_axes)), np.add(curve.center, max(curve.semi_axes))
    elif isinstance(curve, (Arc, Circle)):
        low, high = np.subtract(curve.center, curve.radius), np.add(curve.center, curve.radius)
    else:
        corners = np.array(curve.points if isinstance(curve, Spline) else (curve.start, curve.end))
        low, high = corners.min(axis=0), corners.max(axis=0)
    return ((contour >= low - margin) & (contour <= high + margin)).all(axis=1)


def uncertainty_of(curve: Any, residuals: np.ndarray, blur: float = 0.0) -> float:
    """95 % uncertainty of a radius or of a place, from residuals whose neighbours are alike.

    The residuals' correlation length lowers their number (Bartlett 1946); the radius of an arc follows from
    the least-squares normal matrix (Chernov 2010). Of points from a picture (``blur`` over 0) what no model of the
    lens tells is added: it is alike all along the curve, so that more points do not help.
    """
    count = len(residuals)
    if count < 4:
        return 1.0
    centered = residuals - residuals.mean()
    variance = max(float(np.mean(residuals**2)), 1e-8)
    power = max(float(centered @ centered), 1e-12)
    alike = np.array(
        [float(centered[:-lag] @ centered[lag:]) / power for lag in range(1, min(MOST_LAGS, count // 3))] + [0.0]
    )
    length = 1 + 2 * float(alike[: int(np.argmax(alike <= 0))].sum())
    effective = max(count / length, 1.0)
    common = (
        math.hypot(SYSTEMATIC_PX, radius_doubt(curve.radius) if isinstance(curve, (Arc, Circle)) else 0.0)
        if blur > 0
        else 0.0
    )
    mean = variance / effective + common**2
    if isinstance(curve, Circle):
        return 2 * math.sqrt(mean)
    if isinstance(curve, Arc):
        angles = np.linspace(0, abs(curve.sweep), max(8, min(count, 200)))
        rows = np.column_stack([np.cos(angles), np.sin(angles), np.ones_like(angles)])
        spread = np.linalg.pinv(rows.T @ rows) * len(angles)
        return 2 * math.sqrt(mean * max(spread[2, 2], 1.0))
    return 2 * math.sqrt(4 * variance / effective + common**2)
