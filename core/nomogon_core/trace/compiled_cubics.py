"""Compiled loops of the outline fitter: cubics fitted to points, and how far these are from them."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

CUBIC_SAMPLES = 48
CROSSING_STEPS = 32
FOLD_STEPS, FOLD_TURN, MOST_TURN = 16, math.radians(75.0), math.radians(250.0)


@njit(cache=True)
def _cubic_at(control, t):
    u = 1 - t
    return u * u * u * control[0] + 3 * u * u * t * control[1] + 3 * u * t * t * control[2] + t * t * t * control[3]


@njit(cache=True)
def _cubic_frame(control, t):
    """Place, first and second derivative of a cubic, as six numbers."""
    u = 1 - t
    b0, b1, b2, b3 = u * u * u, 3 * u * u * t, 3 * u * t * t, t * t * t
    d0, d1, d2 = 3 * u * u, 6 * u * t, 3 * t * t
    x0, y0, x1, y1 = control[0, 0], control[0, 1], control[1, 0], control[1, 1]
    x2, y2, x3, y3 = control[2, 0], control[2, 1], control[3, 0], control[3, 1]
    return (
        b0 * x0 + b1 * x1 + b2 * x2 + b3 * x3,
        b0 * y0 + b1 * y1 + b2 * y2 + b3 * y3,
        d0 * (x1 - x0) + d1 * (x2 - x1) + d2 * (x3 - x2),
        d0 * (y1 - y0) + d1 * (y2 - y1) + d2 * (y3 - y2),
        6 * (u * (x2 - 2 * x1 + x0) + t * (x3 - 2 * x2 + x1)),
        6 * (u * (y2 - 2 * y1 + y0) + t * (y3 - 2 * y2 + y1)),
    )


@njit(cache=True)
def _closer_parameter(control, x, y, t, rounds):
    """Newton steps of a parameter toward the foot of a point."""
    for _ in range(rounds):
        at_x, at_y, speed_x, speed_y, bend_x, bend_y = _cubic_frame(control, t)
        off_x, off_y = at_x - x, at_y - y
        slope = speed_x * speed_x + speed_y * speed_y + off_x * bend_x + off_y * bend_y
        if slope > 1e-12:
            t = min(max(t - (off_x * speed_x + off_y * speed_y) / slope, 0.0), 1.0)
    return t


@njit(cache=True)
def cubic_distances(control: np.ndarray, points: np.ndarray, steps: int) -> np.ndarray:
    """Signed distances (n,) of points (n, 2) from a cubic: the nearest of its places at so many steps, then Newton's
    method."""
    grid = np.empty((steps, 2))
    for index in range(steps):
        grid[index] = _cubic_at(control, index / (steps - 1))
    out = np.empty(points.shape[0])
    for index in range(points.shape[0]):
        x, y = points[index, 0], points[index, 1]
        best, nearest = 1e300, 0
        for step in range(steps):
            away = (grid[step, 0] - x) ** 2 + (grid[step, 1] - y) ** 2
            if away < best:
                best, nearest = away, step
        t = _closer_parameter(control, x, y, nearest / (steps - 1), 3)
        foot, ahead, behind = (
            _cubic_at(control, t),
            _cubic_at(control, min(t + 1e-4, 1.0)),
            _cubic_at(control, max(t - 1e-4, 0.0)),
        )
        off_x, off_y = x - foot[0], y - foot[1]
        side = (ahead[0] - behind[0]) * off_y - (ahead[1] - behind[1]) * off_x
        out[index] = math.copysign(math.hypot(off_x, off_y), side if side != 0 else 1.0)
    return out


@njit(cache=True)
def _solve_small(normal, right, size):
    """Solve a small symmetric positive system in place (Gaussian elimination); the answer stands in ``right``."""
    for column in range(size):
        pivot = normal[column, column]
        if abs(pivot) < 1e-300:
            pivot = 1e-300
        for row in range(column + 1, size):
            share = normal[row, column] / pivot
            for k in range(column, size):
                normal[row, k] -= share * normal[column, k]
            right[row] -= share * right[column]
    for row in range(size - 1, -1, -1):
        for k in range(row + 1, size):
            right[row] -= normal[row, k] * right[k]
        pivot = normal[row, row]
        right[row] /= pivot if abs(pivot) > 1e-300 else 1e-300


@njit(cache=True)
def _chord_parameters(data, start, end):
    """A parameter for each point by its way along the points (n), and the whole way."""
    count = data.shape[0]
    t = np.empty(count)
    before_x, before_y, way = start[0], start[1], 0.0
    for index in range(count):
        way += math.hypot(data[index, 0] - before_x, data[index, 1] - before_y)
        t[index] = way
        before_x, before_y = data[index, 0], data[index, 1]
    size = way + math.hypot(end[0] - before_x, end[1] - before_y) + 1e-9
    return t / size, size


@njit(cache=True)
def _handle_ways(out_way, in_way, free_start, free_end):
    """Which handle each unknown moves (the one at the end, where true), along which direction, and how many."""
    first = 2 if free_start else 1
    unknowns = first + (2 if free_end else 1)
    outer, way_x, way_y = np.empty(4, np.bool_), np.empty(4), np.empty(4)
    for a in range(unknowns):
        outer[a] = a >= first
        if (free_start and a < first) or (free_end and a >= first):
            along_x = a == 0 or a == first
            way_x[a], way_y[a] = (1.0, 0.0) if along_x else (0.0, 1.0)
        else:
            way_x[a], way_y[a] = (in_way[0], in_way[1]) if outer[a] else (out_way[0], out_way[1])
    return outer, way_x, way_y, first, unknowns


@njit(cache=True)
def _handle_equations(data, t, control, by_normal, outer, way_x, way_y, unknowns, normal, right):
    """Normal equations of the handles, into ``normal`` and ``right``; distances along the normal where asked."""
    normal[:] = 0.0
    right[:] = 0.0
    across, along = np.empty(4), np.empty(4)
    start, end = control[0], control[3]
    for index in range(data.shape[0]):
        s = t[index]
        u = 1 - s
        inner_share, outer_share = 3 * u * u * s, 3 * u * s * s
        at_start, at_end = u * u * u + inner_share, s * s * s + outer_share
        want_x = data[index, 0] - at_start * start[0] - at_end * end[0]
        want_y = data[index, 1] - at_start * start[1] - at_end * end[1]
        axis_x, axis_y, along_weight = 1.0, 0.0, 1.0
        if by_normal:
            _, _, speed_x, speed_y, _, _ = _cubic_frame(control, s)
            pace = math.hypot(speed_x, speed_y) + 1e-12
            axis_x, axis_y, along_weight = -speed_y / pace, speed_x / pace, 0.03
        want_across, want_along = axis_x * want_x + axis_y * want_y, axis_y * want_x - axis_x * want_y
        for a in range(unknowns):
            share = outer_share if outer[a] else inner_share
            across[a] = share * (axis_x * way_x[a] + axis_y * way_y[a])
            along[a] = share * (axis_y * way_x[a] - axis_x * way_y[a])
            right[a] += across[a] * want_across + along_weight * along[a] * want_along
            for b in range(a + 1):
                normal[a, b] += across[a] * across[b] + along_weight * along[a] * along[b]
    trace = 0.0
    for a in range(unknowns):
        trace += normal[a, a]
    for a in range(unknowns):
        normal[a, a] += 1e-9 * trace + 1e-12
        for b in range(a):
            normal[b, a] = normal[a, b]


@njit(cache=True)
def fit_cubic(
    data: np.ndarray,
    start: np.ndarray,
    end: np.ndarray,
    out_way: np.ndarray,
    in_way: np.ndarray,
    free_start: bool,
    free_end: bool,
    rounds: int,
    give_up: float,
) -> tuple[np.ndarray, float, float]:
    """One cubic through fixed ends, handles along given directions or free.

    Starts as in Schneider (1990) with chord-length parameters, then reweights toward the distance along the
    normal (tangent distance minimisation, Wang et al. 2006).

    Args:
        data: (m, 2) points between the ends.
        out_way, in_way: unit directions of the handles, away from each end into the curve.
        free_start, free_end: let a handle point anywhere.
        give_up: stop early where two rounds leave a larger distance than this.

    Returns:
        control points (4, 2), largest and mean square distance.
    """
    t, size = _chord_parameters(data, start, end)
    outer, way_x, way_y, first, unknowns = _handle_ways(out_way, in_way, free_start, free_end)
    count = data.shape[0]
    control, best_control = np.empty((4, 2)), np.empty((4, 2))
    control[0, 0], control[0, 1], control[3, 0], control[3, 1] = start[0], start[1], end[0], end[1]
    control[1], control[2] = control[0], control[3]
    best, best_square = 1e18, 0.0
    normal, right = np.empty((4, 4)), np.empty(4)
    for turn in range(rounds):
        _handle_equations(data, t, control, turn > 0, outer, way_x, way_y, unknowns, normal, right)
        _solve_small(normal, right, unknowns)
        if free_start:
            control[1, 0], control[1, 1] = start[0] + right[0], start[1] + right[1]
        else:
            handle = min(max(right[0], 0.03 * size), 1.2 * size)
            control[1, 0], control[1, 1] = start[0] + handle * out_way[0], start[1] + handle * out_way[1]
        if free_end:
            control[2, 0], control[2, 1] = end[0] + right[first], end[1] + right[first + 1]
        else:
            handle = min(max(right[first], 0.03 * size), 1.2 * size)
            control[2, 0], control[2, 1] = end[0] + handle * in_way[0], end[1] + handle * in_way[1]
        worst, square = 0.0, 0.0
        for index in range(count):
            t[index] = _closer_parameter(control, data[index, 0], data[index, 1], t[index], 2)
            at_x, at_y, _, _, _, _ = _cubic_frame(control, t[index])
            away = (at_x - data[index, 0]) ** 2 + (at_y - data[index, 1]) ** 2
            square += away / count
            worst = max(worst, away)
        if worst < best:
            best, best_square = worst, square
            best_control[:] = control
        if turn and best > give_up * give_up:
            break
    return best_control, math.sqrt(best), best_square


@njit(cache=True)
def folds(control: np.ndarray) -> bool:
    """Whether a cubic loops or turns on the spot: by the directions that it takes at even parameters, and whether it
    crosses itself."""
    total, before_x, before_y = 0.0, 0.0, 0.0
    for index in range(FOLD_STEPS + 1):
        t = index / FOLD_STEPS
        u = 1 - t
        x = (
            u * u * (control[1, 0] - control[0, 0])
            + 2 * u * t * (control[2, 0] - control[1, 0])
            + t * t * (control[3, 0] - control[2, 0])
        )
        y = (
            u * u * (control[1, 1] - control[0, 1])
            + 2 * u * t * (control[2, 1] - control[1, 1])
            + t * t * (control[3, 1] - control[2, 1])
        )
        if index > 0:
            turn = abs(math.atan2(before_x * y - before_y * x, before_x * x + before_y * y))
            total += turn
            if turn > FOLD_TURN or total > MOST_TURN:
                return True
        before_x, before_y = x, y
    return total > math.pi and _crosses_itself(control)


@njit(cache=True)
def _crosses_itself(control):
    places = np.empty((CROSSING_STEPS + 1, 2))
    for index in range(CROSSING_STEPS + 1):
        places[index] = _cubic_at(control, index / CROSSING_STEPS)
    for i in range(CROSSING_STEPS - 1):
        for j in range(i + 2, CROSSING_STEPS):
            if _apart(places[i], places[i + 1], places[j], places[j + 1]) and _apart(
                places[j], places[j + 1], places[i], places[i + 1]
            ):
                return True
    return False


@njit(cache=True)
def _apart(a, b, p, q):
    """Whether two places lie on different sides of a line."""
    first = (b[0] - a[0]) * (p[1] - a[1]) - (b[1] - a[1]) * (p[0] - a[0])
    second = (b[0] - a[0]) * (q[1] - a[1]) - (b[1] - a[1]) * (q[0] - a[0])
    return (first > 0) != (second > 0)


@njit(cache=True)
def _bulges(control, points, first, last, stride, tolerance):
    """Whether a cubic leaves a range of the contour where no point of it would tell."""
    total = points.shape[0]
    limit = tolerance**2 + (0.55 * stride) ** 2
    for step in range(1, FOLD_STEPS):
        place = _cubic_at(control, step / FOLD_STEPS)
        least = 1e18
        for index in range(first - 2, last + 3, stride):
            away = (points[index % total, 0] - place[0]) ** 2 + (points[index % total, 1] - place[1]) ** 2
            least = min(least, away)
        if least > limit:
            return True
    return False


@njit(cache=True)
def cubic_trials(
    points: np.ndarray,
    places: np.ndarray,
    nodes: np.ndarray,
    ways_in: np.ndarray,
    ways_out: np.ndarray,
    corner: np.ndarray,
    tolerance: float,
    skips: np.ndarray,
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """All ranges between candidate places that one cubic covers within the tolerance.

    At a corner its handle is free, and as many pixels as ``skips`` says of that place do not count.

    Returns:
        arrays (from, steps, mean square) and the control points (k, 4, 2).
    """
    total, count = points.shape[0], places.shape[0]
    begin, steps, squares = [0], [0], [0.0]
    controls = [np.zeros((4, 2))]
    data = np.empty((3 * CUBIC_SAMPLES, 2))
    for i in range(count):
        fails = 0
        for step in range(1, count + 1):
            j = (i + step) % count
            first = places[i]
            last = places[j] + (total if i + step >= count else 0)
            if last - first >= total:
                break
            if last - first < 4:
                continue
            stride = 1 if last - first < 60 else (last - first) // CUBIC_SAMPLES
            low = first + (int(skips[i]) if corner[i] else 0)
            high = last - (int(skips[j]) if corner[j] else 0)
            if high - low < 4:
                low, high = first, last
            used = (high - low) // stride + 1
            for index in range(used):
                place = (low + index * stride) % total
                data[index, 0], data[index, 1] = points[place, 0], points[place, 1]
            control, worst, square = fit_cubic(
                data[:used], nodes[i], nodes[j], ways_out[i], -ways_in[j], corner[i], corner[j], 6, 4 * tolerance
            )
            if worst <= tolerance and (folds(control) or _bulges(control, points, first, last, stride, tolerance)):
                continue
            if worst <= tolerance:
                begin.append(i)
                steps.append(step)
                squares.append(square)
                controls.append(control)
                fails = 0
            else:
                fails += 1
                if fails >= 3 or worst > 6 * tolerance:
                    break
    out = np.empty((len(controls) - 1, 4, 2))
    for index in range(1, len(controls)):
        out[index - 1] = controls[index]
    return np.array(begin)[1:], np.array(steps)[1:], np.array(squares)[1:], out
