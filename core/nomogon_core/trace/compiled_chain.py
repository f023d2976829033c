"""Compiled loops of the chain of lines and arcs: running moments, the misfit of a line and of an arc, the cheapest
chain.

A node is a place of the contour at which a piece may begin and end, with a margin: so many points on either side of it
are
left out of its pieces, since the lens rounded them off. A place that may be a corner is a node twice, with a margin and
without.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

from nomogon_core.trace.compiled_pieces import smallest_root

HOPELESS, PATIENCE = 60.0, 8
FALLBACK_COST = 400.0
LEAST_SAGITTA_PX = 0.25
MOST_TURN = 5.9


@njit(cache=True)
def line_misfit(n: Any, s: Any) -> Any:
    """Sum of squared distances from the best line of n points with moments s (x, y, xx, xy, yy, …)."""
    mean_x, mean_y = s[0] / n, s[1] / n
    xx, xy, yy = s[2] / n - mean_x * mean_x, s[3] / n - mean_x * mean_y, s[4] / n - mean_y * mean_y
    return max(0.5 * n * (xx + yy - math.sqrt((xx - yy) ** 2 + 4 * xy * xy)), 0.0)


@njit(cache=True)
def arc_misfit(n: Any, s: Any) -> Any:
    """Sum of squared distances from the circle of Taubin (1991), found by Newton's method on the moments (Chernov
    2010), and its radius.

    Args:
        n: number of points; s: their sums of x, y, xx, xy, yy, xz, yz, zz where z = xx + yy.
    """
    mean_x, mean_y = s[0] / n, s[1] / n
    e_xx, e_xy, e_yy = s[2] / n, s[3] / n, s[4] / n
    xx, xy, yy = e_xx - mean_x * mean_x, e_xy - mean_x * mean_y, e_yy - mean_y * mean_y
    z, c = xx + yy, mean_x * mean_x + mean_y * mean_y
    xz = s[5] / n - 2 * mean_x * e_xx - 2 * mean_y * e_xy + c * mean_x - mean_x * z
    yz = s[6] / n - 2 * mean_x * e_xy - 2 * mean_y * e_yy + c * mean_y - mean_y * z
    zz = (
        s[7] / n
        - 4 * mean_x * s[5] / n
        - 4 * mean_y * s[6] / n
        + 2 * c * (e_xx + e_yy)
        + 4 * mean_x * mean_x * e_xx
        + 8 * mean_x * mean_y * e_xy
        + 4 * mean_y * mean_y * e_yy
        - 3 * c * c
    )
    spread, variance = xx * yy - xy * xy, zz - z * z
    a3, a2 = 4 * z, -3 * z * z - zz
    a1 = variance * z + 4 * spread * z - xz * xz - yz * yz
    a0 = xz * (xz * yy - yz * xy) + yz * (yz * xx - xz * xy) - variance * spread
    root = smallest_root(a0, a1, a2, a3)
    determinant = root * root - root * z + spread
    if determinant == 0:
        return 1e300, -1.0
    a = (xz * (yy - root) - yz * xy) / determinant / 2
    b = (yz * (xx - root) - xz * xy) / determinant / 2
    squared = a * a + b * b + z
    off = variance + 4 * a * a * xx + 4 * b * b * yy - 4 * a * xz - 4 * b * yz + 8 * a * b * xy
    return max(n * off / (4 * squared), 0.0), math.sqrt(squared)


@njit(cache=True)
def _add_points(moments, points, first, summed, until):
    """Running sums of x, y, xx, xy, yy, xz, yz, zz about the first point, up to so many points further on; how many
    stand there now."""
    total = points.shape[0]
    origin_x, origin_y = points[first % total, 0], points[first % total, 1]
    while summed <= until:
        k = (first + summed) % total
        x, y = points[k, 0] - origin_x, points[k, 1] - origin_y
        z = x * x + y * y
        before, here = moments[summed], moments[summed + 1]
        here[0], here[1], here[2], here[3] = before[0] + x, before[1] + y, before[2] + x * x, before[3] + x * y
        here[4], here[5], here[6], here[7] = before[4] + y * y, before[5] + x * z, before[6] + y * z, before[7] + z * z
        summed += 1
    return summed


@njit(cache=True)
def cheapest_lines_and_arcs(
    points: np.ndarray,
    places: np.ndarray,
    margins: np.ndarray,
    node_costs: np.ndarray,
    variance: float,
    line_cost: float,
    arc_cost: float,
    least: int,
    least_radius: float,
) -> tuple[np.ndarray, np.ndarray]:
    """The cheapest chain from the first node to the last.

    Args:
        points: (n, 2), about a pixel apart; the last node may stand at n, which is the first point again.
        places, margins, node_costs: of each node, places rising.
        variance: twice the variance of a point's distance, times how many points say one thing.
        line_cost, arc_cost: of a piece of each kind.
        least: fewest points that tell a line; an arc needs one more.
        least_radius: of an arc.

    Returns:
        (back (m,), kinds (m,)): the node that each is reached from, and by a line (0) or an arc (1).
    """
    total, count = points.shape[0], places.shape[0]
    best, back, kinds = np.full(count, 1e300), np.full(count, -1), np.zeros(count, np.int64)
    best[0] = 0.0
    moments = np.zeros((total + 2, 8))
    for i in range(count - 1):
        if best[i] >= 1e300:
            continue
        first = places[i]
        summed, hopeless, low = 0, 0, first + margins[i]
        for j in range(i + 1, count):
            last = places[j]
            if last <= first:
                continue
            summed = _add_points(moments, points, first, summed, last - first)
            corner, high = node_costs[j], last - margins[j]
            used = high - low + 1
            if used < least:
                if last - first <= 2 * (margins[i] + margins[j]) + 2 or last - first < least:
                    cost = best[i] + line_cost + corner + FALLBACK_COST / max(last - first, 1)
                    if cost < best[j]:
                        best[j], back[j], kinds[j] = cost, i, 0
                continue
            s = moments[high - first + 1] - moments[low - first]
            line = line_misfit(used, s) / variance
            if best[i] + line + line_cost + corner < best[j]:
                best[j], back[j], kinds[j] = best[i] + line + line_cost + corner, i, 0
            arc = 1e300
            if used > least:
                squares, radius = arc_misfit(used, s)
                if radius >= least_radius and used < MOST_TURN * radius and used * used > 8 * LEAST_SAGITTA_PX * radius:
                    arc = squares / variance
                    if best[i] + arc + arc_cost + corner < best[j]:
                        best[j], back[j], kinds[j] = best[i] + arc + arc_cost + corner, i, 1
            if min(line, arc) > HOPELESS + 4 * arc_cost + 0.2 * used:
                hopeless += 1
                if hopeless > PATIENCE:
                    break
            else:
                hopeless = 0
    return back, kinds
