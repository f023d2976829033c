"""Following an edge between two clicks, by the cheapest way over a picture of how steep the light is.

The way is the shortest path (Dijkstra 1959, as live wires do after Mortensen and Barrett 1995) through a
reduced copy; its places are then moved to the middle of the light on both sides at full resolution.
"""

from __future__ import annotations

import math

import cv2
import numpy as np
from scipy.ndimage import gaussian_filter1d
from skimage.graph import route_through_array

from nomogon_core.errors import TraceError
from nomogon_core.picture.blur import USUAL_BLUR_PX
from nomogon_core.picture.compiled_contours import plateau_levels, shift_to_level

MOST_PIXELS = 200_000
MARGIN_SHARE, MARGIN_PX = 1.2, 60
LEVEL_COST = 0.02
SHIFT_PX = 4.0
NEAR_PX, FAR_PX = 4.0, 7.0
SMOOTHING_PX = 2.0
# A way is smoothed along itself, which draws back tips and round edges as a blur of that size does, besides the
# picture's own.
FOLLOWED_BLUR_PX = math.hypot(SMOOTHING_PX, USUAL_BLUR_PX)
LEAST_STEEP = 0.004


def follow_edge(
    light: np.ndarray, start: np.ndarray | tuple[int, int], end: np.ndarray | tuple[int, int]
) -> np.ndarray:
    """Places along the edge between two clicks near it.

    Args:
        light: linear luminance (h, w); start, end: pixels.

    Returns:
        (n, 2) pixels, about one apart.

    Raises:
        TraceError: the clicks lie outside the picture or on one place, or no edge runs between them.
    """
    height, width = light.shape
    start, end = np.asarray(start, float), np.asarray(end, float)
    for x, y in (start, end):
        if not (0 <= x <= width - 1 and 0 <= y <= height - 1):
            raise TraceError("A click lies outside the picture; click on the edge that is to be followed.")
    apart = math.dist(start, end)
    if apart < 4:
        raise TraceError("Both clicks are on the same place; click farther along the edge.")
    margin = MARGIN_SHARE * apart + MARGIN_PX
    left, top = (int(max(0, min(start[axis], end[axis]) - margin)) for axis in (0, 1))
    right, low = (int(min(size, max(start[axis], end[axis]) + margin)) for axis, size in ((0, width), (1, height)))
    window = light[top:low, left:right]
    share = min(1.0, math.sqrt(MOST_PIXELS / window.size))
    small = cv2.resize(window, None, fx=share, fy=share, interpolation=cv2.INTER_AREA) if share < 1 else window
    smooth = cv2.GaussianBlur(small, (0, 0), 1.2)
    steep = cv2.magnitude(
        cv2.Sobel(smooth, cv2.CV_32F, 1, 0, scale=1 / 8), cv2.Sobel(smooth, cv2.CV_32F, 0, 1, scale=1 / 8)
    )
    strong = float(np.quantile(steep, 0.995))
    if strong < LEAST_STEEP:
        raise TraceError("There is no clear edge near these clicks. Come closer with the wheel, or draw with Alt held.")
    cost = LEVEL_COST + (1 - np.clip(steep / strong, 0, 1)) ** 2
    first, last = (
        tuple(
            int(np.clip(round((place[axis] - origin + 0.5) * share - 0.5), 0, size - 1))
            for axis, origin, size in ((1, top, small.shape[0]), (0, left, small.shape[1]))
        )
        for place in (start, end)
    )
    way, _ = route_through_array(cost, first, last, fully_connected=True, geometric=True)
    places = (np.array(way, float)[:, ::-1] + 0.5) / share - 0.5 + (left, top)
    return _onto_edge(light, _every_pixel(places), start, end)


def _every_pixel(places):
    along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(places, axis=0).T))])
    at = np.linspace(0, along[-1], max(4, int(along[-1])))
    return np.column_stack([np.interp(at, along, places[:, axis]) for axis in (0, 1)])


def _onto_edge(light, path, start, end):
    """A rough path moved onto the edge; both ends to the foot of their click."""
    even = cv2.GaussianBlur(light, (0, 0), 1.0)
    for _ in range(2):
        smooth = gaussian_filter1d(path, SMOOTHING_PX, axis=0, mode="nearest")
        run = np.gradient(smooth, axis=0)
        normals = np.ascontiguousarray(
            np.column_stack([run[:, 1], -run[:, 0]]) / np.maximum(np.hypot(run[:, 0], run[:, 1]), 1e-9)[:, None]
        )
        sides, _ = plateau_levels(even, smooth, normals, NEAR_PX, FAR_PX)
        levels = gaussian_filter1d(sides.mean(axis=1), 6.0, mode="nearest")
        path = shift_to_level(even, np.ascontiguousarray(smooth), normals, levels, SHIFT_PX)
    first, last = (int(np.hypot(*(path - click).T).argmin()) for click in (start, end))
    path = path[first : last + 1] if first < last else path
    if len(path) < 4:
        raise TraceError("The edge between the two clicks is too short to be followed; click farther apart.")
    return path
