"""The mirror axis of an outline, and how far the outline departs from it.

The axis is found by convolving the outline, as complex numbers, with itself: a mirrored outline runs backwards,
so the convolution peaks where both agree (with the fast Fourier transform). It is then refined by reflecting the
points and matching them to their nearest neighbours (iterated closest points, Besl & McKay 1992), the worst left out.
"""

from __future__ import annotations

import math
from typing import Any

import attrs
import numpy as np
from scipy.spatial import cKDTree

from nomogon_core.errors import TraceError

SAMPLES = 1024
ROUNDS = 30
KEPT_SHARE = 0.8
LEAST_SIDES = 12


@attrs.frozen
class MirrorAxis:
    """A mirror axis.

    Attributes:
        point: a point on it, the outline's middle put onto it.
        angle: its direction in radians, in (-pi/2, pi/2].
        rms, largest: departure of the outline from its mirror image, in the unit of the points.
    """

    point: tuple
    angle: float
    rms: float
    largest: float

    def mirrored(self, points: np.ndarray) -> np.ndarray:
        """Points (n, 2) reflected in the axis."""
        points = np.atleast_2d(np.asarray(points, float))
        normal = np.array([-math.sin(self.angle), math.cos(self.angle)])
        return points - 2 * ((points - self.point) @ normal)[:, None] * normal


def _even_steps(points, count=SAMPLES):
    closed = np.vstack([points, points[:1]])
    along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(closed, axis=0).T))])
    places = np.linspace(0, along[-1], count, endpoint=False)
    return np.column_stack([np.interp(places, along, closed[:, 0]), np.interp(places, along, closed[:, 1])])


def _candidates(points):
    """Directions (radians) of the strongest peaks of the self-convolution."""
    values = points[:, 0] + 1j * points[:, 1]
    values = values - values.mean()
    peaks = np.fft.ifft(np.fft.fft(values) ** 2)
    size = np.abs(peaks)
    tops = np.nonzero((size >= np.roll(size, 1)) & (size > np.roll(size, -1)))[0]
    tops = tops[np.argsort(-size[tops])][:6]
    return np.angle(peaks[tops]) / 2


def _feet(tree, places):
    """The nearest points (n, 2) on the outline to places, and their distances."""
    _, match = tree.query(places)
    outline = tree.data
    near = outline[match]
    run = outline[(match + 1) % len(outline)] - outline[match - 1]
    way = run / np.maximum(np.hypot(run[:, 0], run[:, 1]), 1e-12)[:, None]
    feet = near + ((places - near) * way).sum(axis=1)[:, None] * way
    return feet, np.hypot(*(places - feet).T)


def _refined(points, tree, angle, middle):
    """(point, angle, distances) after matching the reflected points to their neighbours."""
    point = middle
    for _ in range(ROUNDS):
        axis = MirrorAxis(tuple(point), angle, 0.0, 0.0)
        feet, away = _feet(tree, axis.mirrored(points))
        kept = away <= np.quantile(away, KEPT_SHARE)
        first, second = points[kept], feet[kept]
        halves = (first + second) / 2
        # Reflection takes a difference d to its mirror image: the axis direction maximises sum(Re(d1 d2 e^(-2i
        # angle))).
        a, b = first - first.mean(axis=0), second - second.mean(axis=0)
        turned = np.sum((a[:, 0] + 1j * a[:, 1]) * (b[:, 0] + 1j * b[:, 1]))
        new_angle, new_point = float(np.angle(turned) / 2), halves.mean(axis=0)
        settled = abs(math.remainder(new_angle - angle, math.pi)) < 1e-9 and math.dist(new_point, point) < 1e-9
        angle, point = new_angle, new_point
        if settled:
            break
    axis = MirrorAxis(tuple(point), angle, 0.0, 0.0)
    return point, angle, _feet(tree, axis.mirrored(points))[1]


def find_axis(points: np.ndarray) -> MirrorAxis:
    """The mirror axis that an outline follows best.

    Args:
        points: (n, 2) closed outline, evenly dense or not, in any unit.

    Returns:
        :class:`MirrorAxis`.

    Raises:
        TraceError: too few points.
    """
    points = np.asarray(points, float)
    if len(points) < LEAST_SIDES:
        raise TraceError("The outline is too short to have a mirror axis; trace a larger one.")
    points = _even_steps(points)
    dense = _even_steps(points, 6 * SAMPLES)
    tree = cKDTree(dense)
    best: tuple[float, Any, Any, Any] = (math.inf, None, None, None)
    for angle in _candidates(points):
        point, found, away = _refined(points, tree, float(angle), points.mean(axis=0))
        worth = float(np.quantile(away, KEPT_SHARE))
        if worth < best[0]:
            best = (worth, point, found, away)
    _, point, angle, away = best
    angle = math.remainder(angle, math.pi)
    angle = math.pi / 2 if abs(abs(angle) - math.pi / 2) < 1e-12 else angle
    way = np.array([math.cos(angle), math.sin(angle)])
    middle = point + ((points.mean(axis=0) - point) @ way) * way
    return MirrorAxis(tuple(middle.tolist()), angle, float(np.sqrt(np.mean(away**2))), float(away.max()))
