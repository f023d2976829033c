"""Symmetric outlines fitted half by half: one side of the mirror axis, or the mean of both, and its mirror image.

A simple closed outline that is its own mirror image meets the axis in exactly two places; it is cut there, the half
is fitted as an open path, and pieces that cross the axis squarely become one with their images. Outlines beside the
axis come in pairs. In the frame of the axis the first coordinate runs along it and the second to its left.
"""

from __future__ import annotations

import math
from typing import Any

import attrs
import numpy as np
from scipy.spatial import cKDTree

from nomogon_core.errors import TraceError
from nomogon_core.geometry.curves import (
    Arc,
    Circle,
    Ellipse,
    Line,
    Spline,
    closed_area,
    end_directions,
    ends,
    moved,
    reverse,
)
from nomogon_core.trace.fit import Shares, fit_open, fit_outline, held_against, whole_of
from nomogon_core.trace.symmetry import find_axis

SIDES = ("left", "right", "average")
CROSSING_SHARE = 0.02
STRAY_SHARE = 0.02
SQUARE = math.radians(12.0)
PAIR_SHARE = 0.25
MOST_DEPARTURE = 0.03
DENSE = 8


@attrs.frozen
class Halved:
    """Outlines of symmetric halves.

    Attributes:
        fitted: :class:`FittedOutline` of each; deviations are from the whole contour, both its sides.
        holes: whether each is a hole.
        axis: :class:`MirrorAxis` that they are mirrored in, its angle in (-pi/4, 3 pi/4]: upward, or to the right.
    """

    fitted: tuple
    holes: tuple
    axis: Any


def fit_halves(
    contours: list[np.ndarray],
    holes: list[bool],
    keep: str,
    *,
    pixel: float,
    tolerance: float,
    noise_px: float = 0.0,
    blur_px: float = 0.0,
    tell: Any = None,
) -> Halved:
    """Fit contours so that they are mirror images of themselves, or of one another, in the axis of the largest.

    Args:
        contours: closed contours (n, 2) in millimetres, the largest first.
        holes: whether each is a hole.
        keep: "left" or "right" of the axis (seen along it, upward or to the right), or the "average" of both.
        pixel, tolerance, noise_px: as in :func:`fit_outline`; tell: called now and then with the share 0..1 that is
            done.

    Raises:
        TraceError: the largest contour is not symmetric, one crosses the axis more than twice, or has no mirror image
        to be averaged with.
    """
    axis = find_axis(contours[0])
    if axis.angle < -math.pi / 4:
        axis = attrs.evolve(axis, angle=axis.angle + math.pi)
    size = float(np.ptp(contours[0], axis=0).max())
    if axis.rms > MOST_DEPARTURE * size:
        raise TraceError(
            f"The largest outline has no mirror axis: it departs from its best one by {axis.rms:.2f} mm rms. Trace it "
            "with both halves as they are."
        )
    framed = [_into_frame(axis, points) * ((1, -1) if keep == "right" else (1, 1)) for points in contours]
    across = [
        index
        for index, points in enumerate(framed)
        if min(points[:, 1].max(), -points[:, 1].min()) > CROSSING_SHARE * np.ptp(points, axis=0).max()
    ]
    fit, shares = (
        {"pixel": pixel, "tolerance": tolerance, "blur_px": blur_px},
        Shares(tell, [len(points) for points in contours]),
    )
    found = [
        (
            _crossing(framed[index], keep == "average", noise_px, {**fit, "tell": shares.of(index)}),
            framed[index],
            holes[index],
        )
        for index in across
    ]
    for one, other in _pairs(framed, across):
        points, image = framed[one], framed[one] * (1, -1) if other is None else framed[other]
        curves = fit_outline(
            _mean(points, image * (1, -1)) if keep == "average" else points,
            noise_px=noise_px,
            tell=shares.of(one),
            **fit,  # type: ignore[arg-type]
        ).curves
        found += [(curves, points, holes[one]), (tuple(_mirrored(curve) for curve in curves), image, holes[one])]
    fitted = []
    for curves, points, _ in found:
        if keep == "right":
            curves, points = tuple(_mirrored(curve) for curve in curves), points * (1, -1)
        placed = tuple(_placed(curve, axis) for curve in curves)
        if closed_area(placed) < 0:
            placed = tuple(reverse(curve) for curve in reversed(placed))
        fitted.append(held_against(placed, _out_of_frame(axis, points), pixel, blur_px))
    return Halved(tuple(fitted), tuple(hole for *_, hole in found), axis)


def _pairs(framed, across):
    """(left contour, its mirror image or None) of the contours beside the axis."""
    beside = [index for index in range(len(framed)) if index not in across]
    middles = {index: framed[index].mean(axis=0) for index in beside}
    others = [index for index in beside if middles[index][1] <= 0]
    pairs = []
    for one in (index for index in beside if middles[index][1] > 0):
        reach = PAIR_SHARE * np.ptp(framed[one], axis=0).max()
        near = min(others, key=lambda index: math.dist(middles[index] * (1, -1), middles[one]), default=None)
        if near is not None and math.dist(middles[near] * (1, -1), middles[one]) > reach:
            near = None
        if near is not None:
            others.remove(near)
        pairs.append((one, near))
    return pairs


def _axes(axis):
    way = np.array([math.cos(axis.angle), math.sin(axis.angle)])
    return np.array([way, (-way[1], way[0])])


def _into_frame(axis, points):
    return (np.asarray(points, float) - axis.point) @ _axes(axis).T


def _out_of_frame(axis, points):
    return np.asarray(points, float) @ _axes(axis) + axis.point


def _placed(curve, axis):
    """A curve of the frame in the plane."""
    return moved(curve, lambda point: tuple(_out_of_frame(axis, [point])[0]), turn=axis.angle)


def _mirrored(curve):
    """The image of a curve of the frame."""
    return moved(curve, lambda point: (point[0], -point[1]), sense=-1)


def _crossing(points, average, noise_px, fit):
    """Curves of a contour that crosses the axis, from its left half or from both."""
    whole = whole_of(points, noise_px=noise_px, pixel=fit["pixel"], tolerance=fit["tolerance"], blur_px=fit["blur_px"])
    if isinstance(whole, Circle):
        return (Circle((whole.center[0], 0.0), whole.radius),)
    if whole is not None:
        quarters = round(whole.angle / (math.pi / 2))
        if abs(whole.angle - quarters * math.pi / 2) < SQUARE:
            return (Ellipse((whole.center[0], 0.0), whole.semi_axes, quarters * math.pi / 2),)
    half = _left_half(points)
    if average:
        half = _mean(half, _left_half(points * (1, -1)), closed=False)
        half[[0, -1], 1] = 0.0
    return _with_image(list(fit_open(half, **fit).curves), fit["tolerance"])


def _left_half(points):
    """The part of a contour on the left of the axis, from the axis to the axis.

    Raises:
        TraceError: the contour crosses the axis in more than two places.
    """
    left = points[:, 1] > 0
    starts = np.nonzero(left & ~np.roll(left, 1))[0]
    runs = []
    for start in starts:
        turned = np.roll(left, -start)
        runs.append((int(np.argmin(turned)), int(start)))
    runs.sort(reverse=True)
    if len(runs) > 1 and runs[1][0] > STRAY_SHARE * len(points):
        raise TraceError(
            f"An outline crosses its mirror axis in {2 * len(runs)} places, so it has no two halves. Trace it with "
            "both halves as they are."
        )
    count, start = runs[0]
    inner = np.arange(start, start + count) % len(points)
    return np.vstack(
        [
            _on_axis(points[start - 1], points[start]),
            points[inner],
            _on_axis(points[inner[-1]], points[(inner[-1] + 1) % len(points)]),
        ]
    )


def _on_axis(one, other):
    """Where the way between two places on different sides crosses the axis."""
    share = one[1] / (one[1] - other[1])
    return np.array([one[0] + share * (other[0] - one[0]), 0.0])


def _mean(points, other, closed=True):
    """Each place halfway to the nearest one on another contour."""
    ring = np.vstack([other, other[:1]]) if closed else other
    along = np.arange(len(ring))
    dense = np.column_stack(
        [np.interp(np.linspace(0, len(ring) - 1, DENSE * len(ring)), along, ring[:, axis]) for axis in (0, 1)]
    )
    _, nearest = cKDTree(dense).query(points)
    return (points + dense[nearest]) / 2


def _with_image(half, tolerance):
    """A closed outline of the curves of a left half and their images; what crosses the axis squarely is one curve, or
    made exactly square."""
    joined = [None, None]
    if len(half) > 1:
        joined[0] = _joined(half[0], tolerance)
        joined[1] = _joined(reverse(half[-1]), tolerance)
    if joined[0] is None:
        half[0] = _square(half[0])
    if joined[1] is None:
        half[-1] = reverse(_square(reverse(half[-1])))
    inner = half[joined[0] is not None : len(half) - (joined[1] is not None)]
    images = [reverse(_mirrored(curve)) for curve in reversed(inner)]
    first, last = ([curve] if curve is not None else [] for curve in (joined[0], joined[1] and reverse(joined[1])))
    return (*first, *inner, *last, *images)


def _is_square(curve):
    return abs(end_directions(curve)[0][1]) > math.cos(SQUARE)


def _joined(curve, tolerance):
    """A line or arc that leaves the axis squarely and its image as one, if that moves it by no more than the tolerance;
    else None."""
    start, end = ends(curve)
    if not _is_square(curve) or isinstance(curve, Spline):
        return None
    if isinstance(curve, Line):
        return Line((end[0], -end[1]), end) if abs(end[0] - start[0]) <= tolerance else None
    center, radius = (curve.center[0], 0.0), math.dist(end, (curve.center[0], 0.0))
    begin = 0.0 if start[0] > center[0] else math.pi
    if abs(center[0] + radius * math.cos(begin) - start[0]) > tolerance:
        return None
    turn = math.atan2(end[1], end[0] - center[0]) - begin
    half = turn % (2 * math.pi) if curve.sweep > 0 else -(-turn % (2 * math.pi))
    return Arc(center, radius, begin - half, 2 * half)


def _square(curve):
    """A spline that leaves the axis nearly squarely leaves it exactly so, and meets its image smoothly."""
    if not isinstance(curve, Spline) or not _is_square(curve):
        return curve
    (start, handle), rest = curve.points[:2], curve.points[2:]
    return Spline([start, (start[0], math.copysign(math.dist(start, handle), handle[1])), *rest])
