"""Exact area coverage of pixels by polygons."""

from __future__ import annotations

import math

import numpy as np
from numba import njit


@njit(cache=True)
def _accumulate(sums, polygon):
    """Add a polygon's signed area to each pixel of its row's running sums (exact coverage)."""
    height, width = sums.shape[0], sums.shape[1] - 2
    count = polygon.shape[0]
    for index in range(count):
        x0, y0 = polygon[index, 0], polygon[index, 1]
        x1, y1 = polygon[(index + 1) % count, 0], polygon[(index + 1) % count, 1]
        if y0 == y1:
            continue
        sense = 1.0
        if y0 > y1:
            x0, y0, x1, y1, sense = x1, y1, x0, y0, -1.0
        slope = (x1 - x0) / (y1 - y0)
        row = max(0, int(math.floor(y0)))
        while row < min(height, y1):
            low, high = max(y0, float(row)), min(y1, row + 1.0)
            left, right = x0 + slope * (low - y0), x0 + slope * (high - y0)
            if left > right:
                left, right = right, left
            weight = sense * (high - low)
            left, right = min(max(left, 0.0), float(width)), min(max(right, 0.0), float(width))
            for cell in range(int(left), int(right) + 1):
                begin, end = max(left, float(cell)), min(right, cell + 1.0)
                share = (end - begin) / (right - left) if right > left else 1.0
                inside = cell + 1 - (begin + end) / 2
                sums[row, cell] += weight * share * inside
                sums[row, cell + 1] += weight * share * (1 - inside)
            row += 1


def coverage(polygons: list[np.ndarray], width: int, height: int) -> np.ndarray:
    """Share 0..1 of each pixel (height, width) inside polygons; later ones run the other way as holes.

    Polygons are (n, 2) pixels with centres at integers.
    """
    sums = np.zeros((height, width + 2))
    for polygon in polygons:
        _accumulate(sums, np.ascontiguousarray(polygon + 0.5))
    return np.clip(np.abs(np.cumsum(sums, axis=1)[:, :width]), 0, 1).astype(np.float32)
