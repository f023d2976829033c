"""Compiled loops of the outline fitter: trial lines and arcs, and the best chain of pieces.

A closed contour is an array (n, 2) of points about one pixel apart; index ranges may run past the end and
wrap around. A piece is a line (0), an arc (1), one cubic (2), or the gap (3) between the ends of an open path or of a
run that is looked at alone; it has no points.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

LINE, ARC, CUBIC, GAP = 0, 1, 2, 3
MOST_SAMPLES = 120
NEWTON_STEPS = 50


@njit(cache=True)
def _middle(points, first, last, stride):
    """How many points a range has, and their mean."""
    total = points.shape[0]
    count, sum_x, sum_y = 0, 0.0, 0.0
    for index in range(first, last + 1, stride):
        sum_x += points[index % total, 0]
        sum_y += points[index % total, 1]
        count += 1
    return count, sum_x / count, sum_y / count


@njit(cache=True)
def line_through(points: np.ndarray, first: int, last: int, stride: int) -> tuple[float, float, float]:
    """Total least squares line: unit normal and offset, normal · p + offset = 0."""
    total = points.shape[0]
    _, mean_x, mean_y = _middle(points, first, last, stride)
    xx, xy, yy = 0.0, 0.0, 0.0
    for index in range(first, last + 1, stride):
        x, y = points[index % total, 0] - mean_x, points[index % total, 1] - mean_y
        xx += x * x
        xy += x * y
        yy += y * y
    angle = 0.5 * math.atan2(2 * xy, xx - yy)
    normal_x, normal_y = -math.sin(angle), math.cos(angle)
    return normal_x, normal_y, -(normal_x * mean_x + normal_y * mean_y)


@njit(cache=True)
def smallest_root(a0: Any, a1: Any, a2: Any, a3: Any) -> Any:
    """The root next to zero of a polynomial of third degree whose values fall from there, by Newton's method (Chernov
    2010)."""
    root, value = 0.0, a0
    for _ in range(NEWTON_STEPS):
        slope = a1 + root * (2 * a2 + 3 * a3 * root)
        if slope == 0:
            break
        following = root - value / slope
        if following == root or not math.isfinite(following):
            break
        next_value = a0 + following * (a1 + following * (a2 + following * a3))
        if abs(next_value) >= abs(value):
            break
        root, value = following, next_value
    return root


@njit(cache=True)
def circle_through(points: np.ndarray, first: int, last: int, stride: int) -> tuple[float, float, float]:
    """Algebraic circle fit by Taubin (1991) in the Newton form of Chernov (2010): centre and radius, or -1."""
    total = points.shape[0]
    count, mean_x, mean_y = _middle(points, first, last, stride)
    m_xx, m_yy, m_xy, m_xz, m_yz, m_zz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for index in range(first, last + 1, stride):
        x, y = points[index % total, 0] - mean_x, points[index % total, 1] - mean_y
        z = x * x + y * y
        m_xx += x * x / count
        m_yy += y * y / count
        m_xy += x * y / count
        m_xz += x * z / count
        m_yz += y * z / count
        m_zz += z * z / count
    m_z = m_xx + m_yy
    spread = m_xx * m_yy - m_xy * m_xy
    variance = m_zz - m_z * m_z
    a3, a2 = 4 * m_z, -3 * m_z * m_z - m_zz
    a1 = variance * m_z + 4 * spread * m_z - m_xz * m_xz - m_yz * m_yz
    a0 = m_xz * (m_xz * m_yy - m_yz * m_xy) + m_yz * (m_yz * m_xx - m_xz * m_xy) - variance * spread
    root = smallest_root(a0, a1, a2, a3)
    determinant = root * root - root * m_z + spread
    if abs(determinant) < 1e-18:
        return 0.0, 0.0, -1.0
    x = (m_xz * (m_yy - root) - m_yz * m_xy) / determinant / 2
    y = (m_yz * (m_xx - root) - m_xz * m_xy) / determinant / 2
    return x + mean_x, y + mean_y, math.sqrt(x * x + y * y + m_z)


@njit(cache=True)
def _line_misfit(points, first, last, stride, normal_x, normal_y, offset, limit):
    worst, squares, count = 0.0, 0.0, 0
    total = points.shape[0]
    for index in range(first, last + 1, stride):
        away = abs(normal_x * points[index % total, 0] + normal_y * points[index % total, 1] + offset)
        squares += away * away
        count += 1
        worst = max(worst, away)
        if worst > limit:
            break
    return worst, squares / max(count, 1)


@njit(cache=True)
def _circle_misfit(points, first, last, stride, x, y, radius, limit):
    worst, squares, count = 0.0, 0.0, 0
    total = points.shape[0]
    for index in range(first, last + 1, stride):
        away = abs(math.hypot(points[index % total, 0] - x, points[index % total, 1] - y) - radius)
        squares += away * away
        count += 1
        worst = max(worst, away)
        if worst > limit:
            break
    return worst, squares / max(count, 1)


@njit(cache=True)
def run_length(arc_lengths: Any, first: Any, last: Any, total: Any) -> Any:
    extra = arc_lengths[total] if last >= total else 0.0
    return arc_lengths[last % total] - arc_lengths[first] + extra


@njit(cache=True)
def _inner_range(first, last, head, tail):
    """The range without the ``head`` and ``tail`` pixels at its ends, where corners are rounded by the lens."""
    low, high = int(head + 0.999), int(tail + 0.999)
    if last - first > 2 * (low + high) + 2:
        return first + low, last - high
    return first, last


@njit(cache=True)
def _turn(points, first, last, stride, x, y, radius):
    total = points.shape[0]
    turned = 0.0
    before_x, before_y = points[first % total, 0] - x, points[first % total, 1] - y
    for index in range(first + stride, last + 1, stride):
        here_x, here_y = points[index % total, 0] - x, points[index % total, 1] - y
        turned += math.atan2(before_x * here_y - before_y * here_x, before_x * here_x + before_y * here_y)
        before_x, before_y = here_x, here_y
    return turned


@njit(cache=True)
def _line_over(points, first, last, inner_first, inner_last, stride, tolerance, slack_first, slack_last):
    """Largest distance from the line through the inner points, less what the ends may be off, and the mean square."""
    normal_x, normal_y, offset = line_through(points, inner_first, inner_last, stride)
    worst, square = _line_misfit(points, inner_first, inner_last, stride, normal_x, normal_y, offset, 3 * tolerance)
    if worst <= tolerance:
        head, _ = _line_misfit(points, first, inner_first, 1, normal_x, normal_y, offset, 1e9)
        tail, _ = _line_misfit(points, inner_last, last, 1, normal_x, normal_y, offset, 1e9)
        worst = max(worst, max(head - slack_first, tail - slack_last))
    return worst, square


@njit(cache=True)
def _arc_over(points, first, last, inner_first, inner_last, stride, tolerance, slack_first, slack_last):
    """The same of the circle; 1e9 where it turns a whole way round or far less than the points do."""
    x, y, radius = circle_through(points, inner_first, inner_last, stride)
    if not 0 < radius < 2e4:
        return 1e9, 0.0
    worst, square = _circle_misfit(points, inner_first, inner_last, stride, x, y, radius, 3 * tolerance)
    if worst <= tolerance:
        head, _ = _circle_misfit(points, first, inner_first, 1, x, y, radius, 1e9)
        tail, _ = _circle_misfit(points, inner_last, last, 1, x, y, radius, 1e9)
        worst = max(worst, max(head - slack_first, tail - slack_last))
    if worst <= tolerance:
        turned = abs(_turn(points, inner_first, inner_last, stride, x, y, radius))
        if turned > 6.2 or turned * radius < 0.6 * (inner_last - inner_first):
            worst = 1e9
    return worst, square


@njit(cache=True)
def line_and_arc_trials(
    points: np.ndarray,
    arc_lengths: np.ndarray,
    places: np.ndarray,
    tolerance: float,
    skips: np.ndarray,
    slacks: np.ndarray,
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """All ranges between candidate places that one line or one arc covers within the tolerance.

    The pixels next to both ends, as many as ``skips`` says of each place, may be off by ``slacks`` more, since corners
    are rounded by the lens.

    Returns:
        arrays (from, steps, kind, mean square) of candidate indices and how many candidates further the end is.
    """
    total, count = points.shape[0], places.shape[0]
    begin, steps, kinds, squares = [0], [0], [0], [0.0]
    for i in range(count):
        line_fails, arc_fails = 0, 0
        for step in range(1, count + 1):
            j = (i + step) % count
            first = places[i]
            last = places[j] + (total if i + step >= count else 0)
            if last - first >= total:
                break
            size = run_length(arc_lengths, first, last, total)
            inner_first, inner_last = _inner_range(first, last, skips[i], skips[j])
            used = inner_last - inner_first + 1
            if used < 3:
                continue
            stride = 1 if used < 160 else used // MOST_SAMPLES
            if line_fails < 3:
                worst, square = _line_over(
                    points, first, last, inner_first, inner_last, stride, tolerance, slacks[i], slacks[j]
                )
                if worst <= tolerance:
                    begin.append(i)
                    steps.append(step)
                    kinds.append(LINE)
                    squares.append(square)
                    line_fails = 0
                elif worst > 2 * tolerance and size > 6 and inner_first > first:
                    line_fails += 1
            if arc_fails < 4 and used >= 5 and size > 3:
                worst, square = _arc_over(
                    points, first, last, inner_first, inner_last, stride, tolerance, slacks[i], slacks[j]
                )
                if worst <= tolerance:
                    begin.append(i)
                    steps.append(step)
                    kinds.append(ARC)
                    squares.append(square)
                    arc_fails = 0
                elif worst > 2 * tolerance and size > 6 and inner_first > first:
                    arc_fails += 1
            if line_fails >= 3 and arc_fails >= 4:
                break
    return np.array(begin)[1:], np.array(steps)[1:], np.array(kinds)[1:], np.array(squares)[1:]


@njit(cache=True)
def cheapest_chain(
    count: int, first_trial: np.ndarray, steps: np.ndarray, costs: np.ndarray, start: int
) -> tuple[float, np.ndarray]:
    """Cheapest closed chain of trials around ``count`` places from ``start`` (dynamic programming).

    Args:
        first_trial: (count + 1,) where the trials of each place begin; trials are sorted by place.
        steps, costs: one a trial.

    Returns:
        total cost (infinite without a chain) and the trials taken, in order.
    """
    reach = np.full(count + 1, np.inf)
    reach[0] = 0.0
    came_from = np.full(count + 1, -1)
    by = np.full(count + 1, -1)
    for place in range(count):
        if reach[place] == np.inf:
            continue
        here = (start + place) % count
        for trial in range(first_trial[here], first_trial[here + 1]):
            target = place + steps[trial]
            if target <= count and reach[place] + costs[trial] < reach[target] - 1e-12:
                reach[target] = reach[place] + costs[trial]
                came_from[target] = place
                by[target] = trial
    chain = np.empty(count, np.int64)
    used = 0
    if reach[count] < np.inf:
        place = count
        while place > 0:
            chain[used] = by[place]
            used += 1
            place = came_from[place]
    return reach[count], chain[:used][::-1].copy()


@njit(cache=True)
def one_sided_directions(
    points: np.ndarray, window: int, skip: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Directions of travel before and after each point, from lines through ``window`` points, and their centres."""
    total = points.shape[0]
    before, after = np.empty((total, 2)), np.empty((total, 2))
    before_center, after_center = np.empty((total, 2)), np.empty((total, 2))
    for index in range(total):
        for side in range(2):
            first = index + skip if side else index - skip - window + total
            normal_x, normal_y, offset = line_through(points, first, first + window, 1)
            way_x, way_y = normal_y, -normal_x
            run_x = points[(first + window) % total, 0] - points[first % total, 0]
            run_y = points[(first + window) % total, 1] - points[first % total, 1]
            if run_x * way_x + run_y * way_y < 0:
                way_x, way_y = -way_x, -way_y
            center_x, center_y = 0.0, 0.0
            for step in range(window + 1):
                center_x += points[(first + step) % total, 0] / (window + 1)
                center_y += points[(first + step) % total, 1] / (window + 1)
            if side:
                after[index, 0], after[index, 1] = way_x, way_y
                after_center[index, 0], after_center[index, 1] = center_x, center_y
            else:
                before[index, 0], before[index, 1] = way_x, way_y
                before_center[index, 0], before_center[index, 1] = center_x, center_y
    return before, before_center, after, after_center
