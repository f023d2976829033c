"""A card or sheet anywhere in a picture: long edges of a reduced copy, paired to four sides by direction, by which side
is bright, and by size.

Edge pixels are ridges of the gradient; runs of them are found by the probabilistic Hough transform (Matas, Galambos and
Kittler 2000)
and joined to lines that may be bowed by some pixels. What is scored is how much of each of the four sides is there.
"""

from __future__ import annotations

import itertools
import math
from typing import Any

import attrs
import cv2
import numpy as np

REDUCED_SIDE = 800
SMOOTHING_PX = 1.2
# The median gradient is noise and slow light; of noise alone it is 1.18 standard deviations (Rayleigh).
RAYLEIGH_MEDIAN, NOISE_SIGMAS, LEAST_GRADIENT = 1.18, 4.5, 0.0022
HOUGH_VOTES, LEAST_RUN_PX, GAP_PX = 25, 22, 8
MOST_RUNS, MOST_LINES, MOST_PAIRS = 400, 90, 140
SAME_DIRECTION, SAME_LINE_PX = 0.994, 9.0
ANTIPARALLEL, LEAST_APART_PX = -0.9, 25.0
SIDE_SHARES, LEAST_SEEN_SHARE = (0.55, 1.5), 0.25
OUTSIDE_SHARE, LEAST_SIDE_PX = 0.08, 30.0
MOST_ASPECT_OFF, MOST_TAPER = 0.35, 1.7
SUPPORT_PLACES, SUPPORT_REACH_PX, ALIGNED = 40, 7, 0.9
LEAST_SUPPORTS = (0.3, 0.55, 0.7)


@attrs.frozen
class _Line:
    """A long edge: a place on it, unit direction with the bright side to the left as y runs down, normal, extent along
    it, and how much of that is seen."""

    middle: np.ndarray
    way: np.ndarray
    normal: np.ndarray
    low: float
    high: float
    seen: float


@attrs.frozen
class _Gradients:
    """Gradient of the reduced copy: components, size, and where it is an edge."""

    across: np.ndarray
    down: np.ndarray
    size: np.ndarray
    edge: np.ndarray


@attrs.frozen
class Quadrangle:
    """Four corners (4, 2) in pixels, in order around, how well all four sides are seen (more is better), and how far
    the aspect is off, as a logarithm."""

    corners: np.ndarray
    score: float
    aspect_off: float


def find_quadrangles(light: np.ndarray, aspect: float, near: Any = None) -> list[Quadrangle]:
    """Things with four straight sides of a known ratio, the most convincing first.

    Args:
        light: linear luminance (h, w).
        aspect: width over height of the thing.
        near: a place on it in pixels, if known.
    """
    scale = min(1.0, REDUCED_SIDE / max(light.shape))
    # The root evens out the noise of bright and dark places.
    small = np.sqrt(np.maximum(cv2.resize(light, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA), 0))
    gradients = _gradients(small)
    lines = _lines(gradients)
    near = None if near is None else (np.asarray(near, float) + 0.5) * scale - 0.5
    found = [
        quadrangle
        for four in _fours(lines, aspect)
        if (quadrangle := _judged(four, lines, gradients, aspect, near)) is not None
    ]
    found.sort(key=lambda quadrangle: -quadrangle.score)
    return [attrs.evolve(quadrangle, corners=(quadrangle.corners + 0.5) / scale - 0.5) for quadrangle in found]


def _gradients(small):
    smooth = cv2.GaussianBlur(small.astype(np.float32), (0, 0), SMOOTHING_PX)
    across, down = (cv2.Sobel(smooth, cv2.CV_32F, *order, scale=1 / 8) for order in ((1, 0), (0, 1)))
    size = np.hypot(across, down)
    least = max(NOISE_SIGMAS * float(np.median(size)) / RAYLEIGH_MEDIAN, LEAST_GRADIENT)
    angle = np.arctan2(down, across)
    step_x, step_y = np.round(np.cos(angle)).astype(int), np.round(np.sin(angle)).astype(int)
    height, width = size.shape
    rows, columns = np.mgrid[0:height, 0:width]
    ahead, behind = (
        size[np.clip(rows + sign * step_y, 0, height - 1), np.clip(columns + sign * step_x, 0, width - 1)]
        for sign in (1, -1)
    )
    edge = (size > least) & (size >= ahead) & (size > behind)
    edge[:2], edge[-2:], edge[:, :2], edge[:, -2:] = False, False, False, False
    return _Gradients(across, down, size, edge)


def _lines(gradients):
    """Long edges, those that are seen most first."""
    runs = cv2.HoughLinesP(
        gradients.edge.astype(np.uint8) * 255,
        1,
        math.pi / 360,
        HOUGH_VOTES,
        minLineLength=LEAST_RUN_PX,
        maxLineGap=GAP_PX,
    )
    if runs is None:
        return []
    runs = runs.reshape(-1, 2, 2).astype(float)
    sizes = np.hypot(*(runs[:, 1] - runs[:, 0]).T)
    groups = []
    for index in np.argsort(-sizes)[:MOST_RUNS]:
        start, end = runs[index]
        way = (end - start) / sizes[index]
        normal = np.array([-way[1], way[0]])
        x, y = np.round((start + end) / 2).astype(int)
        if gradients.across[y, x] * normal[0] + gradients.down[y, x] * normal[1] < 0:
            way, normal = -way, -normal
        for middle, own_way, own_normal, ends in groups:
            if (
                own_way @ way > SAME_DIRECTION
                and max(abs((start - middle) @ own_normal), abs((end - middle) @ own_normal)) < SAME_LINE_PX
            ):
                ends.append((start, end))
                break
        else:
            groups.append(((start + end) / 2, way, normal, [(start, end)]))
    lines = [_line_of(way, ends) for _, way, _, ends in groups]
    return sorted(lines, key=lambda line: -line.seen)[:MOST_LINES]


def _line_of(way, ends):
    points = np.array(ends).reshape(-1, 2)
    along = np.sort(np.array([[start @ way, end @ way] for start, end in ends]), axis=1)
    seen, reached = 0.0, -math.inf
    for low, high in along[np.argsort(along[:, 0])]:
        seen += max(0.0, high - max(low, reached))
        reached = max(reached, high)
    middle = points.mean(axis=0)
    best = np.linalg.svd(points - middle, full_matrices=False)[2][0]
    best = best * math.copysign(1.0, float(best @ way))
    return _Line(
        middle, best, np.array([-best[1], best[0]]), float((points @ best).min()), float((points @ best).max()), seen
    )


def _fours(lines, aspect):
    """Indices (first, second, third, fourth) of two pairs of opposite sides."""
    pairs = []
    for i, j in itertools.combinations(range(len(lines)), 2):
        first, second = lines[i], lines[j]
        apart = float((second.middle - first.middle) @ first.normal)
        if first.way @ second.way > ANTIPARALLEL or abs(apart) < LEAST_APART_PX:
            continue
        extent, seen = max(first.high - first.low, second.high - second.low), min(first.seen, second.seen)
        low, high = SIDE_SHARES
        if any(
            low * side < extent < high * side and seen > LEAST_SEEN_SHARE * side
            for side in (abs(apart) * aspect, abs(apart) / aspect)
        ):
            pairs.append((seen, i, j, math.copysign(1, apart)))
    pairs.sort(reverse=True)
    for (_, i, j, bright), (_, k, l, other) in itertools.combinations(pairs[:MOST_PAIRS], 2):
        if len({i, j, k, l}) == 4 and bright == other and abs(lines[i].way @ lines[k].way) < 0.5:
            yield i, k, j, l


def _crossing(first, second):
    matrix = np.column_stack([first.way, -second.way])
    if abs(np.linalg.det(matrix)) < 0.3:
        return None
    return first.middle + np.linalg.solve(matrix, second.middle - first.middle)[0] * first.way


def _judged(four, lines, gradients, aspect, near):
    """The quadrangle of four lines with its score, or None where they make none of this size."""
    height, width = gradients.size.shape
    corners = [_crossing(lines[four[index - 1]], lines[four[index]]) for index in range(4)]
    if any(corner is None for corner in corners):
        return None
    corners, slack = np.array(corners), OUTSIDE_SHARE * max(height, width)
    if corners.min() < -slack or corners[:, 0].max() > width + slack or corners[:, 1].max() > height + slack:
        return None
    if near is not None and cv2.pointPolygonTest(corners.astype(np.float32), tuple(map(float, near)), False) < 0:
        return None
    sides = np.hypot(*(np.roll(corners, -1, axis=0) - corners).T)
    ratio = (sides[0] + sides[2]) / (sides[1] + sides[3])
    off = min(abs(math.log(ratio / aspect)), abs(math.log(ratio * aspect)))
    taper = max(sides[0] / sides[2], sides[2] / sides[0], sides[1] / sides[3], sides[3] / sides[1])
    if sides.min() < LEAST_SIDE_PX or off > MOST_ASPECT_OFF or taper > MOST_TAPER:
        return None
    supports = sorted(_support(gradients, start, end) for start, end in zip(corners, np.roll(corners, -1, axis=0)))
    if any(support < least for support, least in zip(supports, LEAST_SUPPORTS)):
        return None
    score = 0.5 * supports[0] + sum(supports[1:]) - 2 * off + 0.3 * min(1.0, float(sides.sum()) / max(height, width))
    return Quadrangle(corners, score, off)


def _support(gradients, start, end):
    """Share of a side along which an edge of its direction is near."""
    shares = np.linspace(0.06, 0.94, SUPPORT_PLACES)[:, None]
    way = (end - start) / math.dist(start, end)
    normal = np.array([-way[1], way[0]])
    places = (start + (end - start) * shares)[:, None] + np.arange(-SUPPORT_REACH_PX, SUPPORT_REACH_PX + 1)[
        None, :, None
    ] * normal
    columns, rows = np.round(places[..., 0]).astype(int), np.round(places[..., 1]).astype(int)
    height, width = gradients.size.shape
    inside = (columns >= 0) & (columns < width) & (rows >= 0) & (rows < height)
    columns, rows = np.clip(columns, 0, width - 1), np.clip(rows, 0, height - 1)
    aligned = (
        np.abs(gradients.across[rows, columns] * normal[0] + gradients.down[rows, columns] * normal[1])
        > ALIGNED * gradients.size[rows, columns]
    )
    return float((gradients.edge[rows, columns] & aligned & inside).any(axis=1).mean())
