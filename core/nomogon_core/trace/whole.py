"""Closed contours that are one full circle or ellipse."""

from __future__ import annotations

import math

import numpy as np
from scipy.ndimage import uniform_filter1d

from nomogon_core.geometry.curves import Circle, Ellipse
from nomogon_core.trace import compiled_pieces
from nomogon_core.trace.distances import signed_distance

SURE_WOBBLE_PX = 0.6
ROUNDS = 6
LEAST_POINTS = 24
FLATTEST = 0.08


def as_circle(contour: np.ndarray, detection: float, tolerance: float) -> Circle | None:
    """A contour (n, 2) in pixels as a full circle, or None.

    Args:
        detection: within this, in pixels, it is one in any case.
        tolerance: within this it is one where the departure is wobble and no other shape.
    """
    x, y, radius = compiled_pieces.circle_through(contour, 0, len(contour) - 1, 1)
    if radius <= 0:
        return None
    circle = Circle((x, y), radius)
    return circle if _is(contour, circle, radius, detection, tolerance) else None


def as_ellipse(contour: np.ndarray, detection: float, tolerance: float) -> Ellipse | None:
    """A contour (n, 2) in pixels as a full ellipse, or None; as :func:`as_circle`."""
    ellipse = ellipse_through(contour) if len(contour) >= LEAST_POINTS else None
    return ellipse if ellipse and _is(contour, ellipse, min(ellipse.semi_axes), detection, tolerance) else None


def ellipse_through(points: np.ndarray) -> Ellipse | None:
    """The ellipse nearest to points (n, 2), or None where none is or it is very flat.

    Direct least squares (Fitzgibbon, Pilu and Fisher 1999, in the stable form of Halir and Flusser 1998), then
    Gauss-Newton on the true distances.
    """
    ellipse = _direct(points)
    for _ in range(ROUNDS):
        if ellipse is None or min(ellipse.semi_axes) < FLATTEST * max(ellipse.semi_axes):
            return None
        ellipse = _closer(points, ellipse)
    return ellipse


def _is(contour, curve, radius, detection, tolerance):
    away = signed_distance(contour, curve)
    largest = np.abs(away).max()
    round_enough = largest <= max(1.4 * detection, 6 * away.std()) and largest <= min(
        2.5 * detection, 0.25 * radius, max(tolerance, SURE_WOBBLE_PX)
    )
    shape = np.abs(uniform_filter1d(away, max(3, len(contour) // 10), mode="wrap")).max()
    wobbles = largest <= min(tolerance, 0.25 * radius) and shape <= max(detection, 0.5 * tolerance)
    area = 0.5 * abs(np.sum(contour[:, 0] * np.roll(contour[:, 1], -1) - contour[:, 1] * np.roll(contour[:, 0], -1)))
    own = math.pi * (curve.radius**2 if isinstance(curve, Circle) else curve.semi_axes[0] * curve.semi_axes[1])
    return (round_enough or wobbles) and abs(area - own) < 0.03 * area + 2


def _direct(contour):
    """The algebraic ellipse through a contour, or None where the points are on none."""
    middle, size = contour.mean(axis=0), float(np.ptp(contour, axis=0).max()) / 2
    x, y = ((contour - middle) / size).T
    squares, straight = np.column_stack([x * x, x * y, y * y]), np.column_stack([x, y, np.ones_like(x)])
    try:
        to_straight = -np.linalg.solve(straight.T @ straight, straight.T @ squares)
    except np.linalg.LinAlgError:
        return None
    reduced = squares.T @ squares + squares.T @ straight @ to_straight
    values, vectors = np.linalg.eig(np.array([reduced[2] / 2, -reduced[1], reduced[0] / 2]))
    vectors = np.real(vectors[:, np.abs(np.imag(values)) < 1e-12])
    proper = vectors[:, 4 * vectors[0] * vectors[2] - vectors[1] ** 2 > 0]
    if not proper.shape[1]:
        return None
    first = proper[:, 0]
    (a, b, c), (d, e, f) = first, to_straight @ first
    quadratic = np.array([[a, b / 2], [b / 2, c]])
    center = np.linalg.solve(-2 * quadratic, [d, e])
    level = -(f + 0.5 * float(np.array([d, e]) @ center))
    weights, ways = np.linalg.eigh(quadratic)
    if np.any(level / weights <= 0):
        return None
    (p, q), way = np.sqrt(level / weights) * size, ways[:, 0]
    return Ellipse(center * size + middle, (p, q), math.atan2(way[1], way[0]))


def _closer(contour, ellipse):
    """One Gauss-Newton step on the distances along the normals, or None where it runs away."""
    away = signed_distance(contour, ellipse)
    (a, b), turn = ellipse.semi_axes, np.array([math.cos(ellipse.angle), math.sin(ellipse.angle)])
    side = np.array([-turn[1], turn[0]])
    near = contour - ellipse.center
    angle = np.arctan2(a * (near @ side), b * (near @ turn))
    cos, sin = np.cos(angle), np.sin(angle)
    normal = (b * cos)[:, None] * turn + (a * sin)[:, None] * side
    normal /= np.hypot(*normal.T)[:, None]
    turned = (a * cos)[:, None] * side - (b * sin)[:, None] * turn
    slopes = np.column_stack([-normal, -cos * (normal @ turn), -sin * (normal @ side), -(turned * normal).sum(axis=1)])
    step = np.linalg.lstsq(slopes, -away, rcond=1e-9)[0]
    axes = np.array([a, b]) + step[2:4]
    if axes.min() <= 0 or not np.isfinite(step).all():
        return None
    return Ellipse(np.array(ellipse.center) + step[:2], axes, ellipse.angle + step[4])
