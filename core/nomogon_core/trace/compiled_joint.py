"""Compiled loops of the outline fitter: all pieces of an outline adjusted together."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from nomogon_core.trace.compiled_cubics import _closer_parameter, _cubic_at
from nomogon_core.trace.compiled_pieces import ARC, CUBIC, GAP, LINE

EXTRAS = (0, 1, 4, 2)
STIFFENING = 12.0
BAND = 16


@njit(cache=True)
def _arc_from_bulge(x0, y0, x1, y1, bulge):
    """Centre and radius of the arc with given ends; bulge is the tangent of a quarter of its sweep."""
    if abs(bulge) < 1e-7:
        bulge = 1e-7 if bulge >= 0 else -1e-7
    run_x, run_y = x1 - x0, y1 - y0
    chord = math.hypot(run_x, run_y) + 1e-12
    lift = chord * (1 - bulge * bulge) / (4 * bulge)
    return (
        (x0 + x1) / 2 - run_y / chord * lift,
        (y0 + y1) / 2 + run_x / chord * lift,
        chord * (1 + bulge * bulge) / (4 * abs(bulge)),
    )


@njit(cache=True)
def _piece_residuals(kind, joint, extra, data, feet, out):
    """Signed distances of a piece's points; ``feet`` holds t and the normal for cubics."""
    x0, y0, x1, y1 = joint[0], joint[1], joint[2], joint[3]
    if kind == LINE:
        run_x, run_y = x1 - x0, y1 - y0
        size = math.hypot(run_x, run_y) + 1e-12
        for index in range(data.shape[0]):
            out[index] = ((data[index, 1] - y0) * run_x - (data[index, 0] - x0) * run_y) / size
    elif kind == ARC:
        x, y, radius = _arc_from_bulge(x0, y0, x1, y1, extra[0])
        for index in range(data.shape[0]):
            out[index] = math.hypot(data[index, 0] - x, data[index, 1] - y) - radius
    else:
        for index in range(data.shape[0]):
            s = feet[index, 0]
            u = 1 - s
            b0, b1, b2, b3 = u * u * u, 3 * u * u * s, 3 * u * s * s, s * s * s
            x = (b0 + b1) * x0 + b1 * extra[0] + (b2 + b3) * x1 + b2 * extra[2]
            y = (b0 + b1) * y0 + b1 * extra[1] + (b2 + b3) * y1 + b2 * extra[3]
            out[index] = (x - data[index, 0]) * feet[index, 1] + (y - data[index, 1]) * feet[index, 2]


@njit(cache=True)
def end_angles(kind: int, joint: np.ndarray, extra: np.ndarray) -> tuple[float, float]:
    """Directions of travel at both ends, as angles."""
    if kind == CUBIC:
        return math.atan2(extra[1], extra[0]), math.atan2(-extra[3], -extra[2])
    if kind == GAP:
        return extra[0], extra[1]
    chord = math.atan2(joint[3] - joint[1], joint[2] - joint[0])
    half = 2 * math.atan(extra[0]) if kind == ARC else 0.0
    return chord - half, chord + half


@njit(cache=True)
def _wrap(angle):
    return angle - 2 * math.pi * math.floor((angle + math.pi) / (2 * math.pi))


@njit(cache=True)
def _joint_of(x, piece, count):
    following = (piece + 1) % count
    return np.array([x[2 * piece], x[2 * piece + 1], x[2 * following], x[2 * following + 1]])


@njit(cache=True)
def _project_cubics(x, kinds, columns, data, data_start, feet):
    count = kinds.shape[0]
    control = np.empty((4, 2))
    for piece in range(count):
        if kinds[piece] != CUBIC:
            continue
        joint, c = _joint_of(x, piece, count), columns[piece]
        control[0, 0], control[0, 1], control[3, 0], control[3, 1] = joint[0], joint[1], joint[2], joint[3]
        control[1, 0], control[1, 1] = joint[0] + x[c], joint[1] + x[c + 1]
        control[2, 0], control[2, 1] = joint[2] + x[c + 2], joint[3] + x[c + 3]
        grid = np.empty((81, 2))
        for index in range(81):
            grid[index] = _cubic_at(control, index / 80)
        for index in range(data_start[piece], data_start[piece + 1]):
            nearest, best = 0, 1e18
            for step in range(81):
                away = (grid[step, 0] - data[index, 0]) ** 2 + (grid[step, 1] - data[index, 1]) ** 2
                if away < best:
                    best, nearest = away, step
            t = _closer_parameter(control, data[index, 0], data[index, 1], nearest / 80, 3)
            u = 1 - t
            speed = (
                u * u * (control[1] - control[0])
                + 2 * u * t * (control[2] - control[1])
                + t * t * (control[3] - control[2])
            )
            pace = math.hypot(speed[0], speed[1]) + 1e-12
            feet[index, 0], feet[index, 1], feet[index, 2] = t, -speed[1] / pace, speed[0] / pace


@njit(cache=True)
def _total_cost(x, kinds, columns, smooth, data, data_start, weights, feet, tangent_weight):
    count = kinds.shape[0]
    cost = 0.0
    out = np.empty(data.shape[0])
    for piece in range(count):
        low, high = data_start[piece], data_start[piece + 1]
        _piece_residuals(
            kinds[piece], _joint_of(x, piece, count), x[columns[piece] :], data[low:high], feet[low:high], out
        )
        for index in range(high - low):
            cost += weights[low + index] * out[index] ** 2
        if smooth[piece]:
            before = (piece - 1) % count
            here, _ = end_angles(kinds[piece], _joint_of(x, piece, count), x[columns[piece] :])
            _, there = end_angles(kinds[before], _joint_of(x, before, count), x[columns[before] :])
            cost += (tangent_weight * _wrap(here - there)) ** 2
    return cost


@njit(cache=True)
def _unknowns_of(piece, kinds, columns, count):
    extra = EXTRAS[kinds[piece]]
    following = (piece + 1) % count
    places = np.empty(4 + extra, np.int64)
    places[0], places[1], places[2], places[3] = 2 * piece, 2 * piece + 1, 2 * following, 2 * following + 1
    for index in range(extra):
        places[4 + index] = columns[piece] + index
    return places


@njit(cache=True)
def _piece_slopes(kind, joint, extra, data, feet, slopes):
    """Derivatives of a piece's signed distances by its unknowns: slopes (unknowns, points)."""
    x0, y0, x1, y1 = joint[0], joint[1], joint[2], joint[3]
    if kind == LINE:
        size = math.hypot(x1 - x0, y1 - y0) + 1e-12
        way_x, way_y = (x1 - x0) / size, (y1 - y0) / size
        for index in range(data.shape[0]):
            share = (way_x * (data[index, 0] - x0) + way_y * (data[index, 1] - y0)) / size
            slopes[0, index], slopes[1, index] = (1 - share) * way_y, -(1 - share) * way_x
            slopes[2, index], slopes[3, index] = share * way_y, -share * way_x
    elif kind == ARC:
        x, y, radius = _arc_from_bulge(x0, y0, x1, y1, extra[0])
        for a in range(5):
            move = np.zeros(5)
            move[a] = 1e-5
            to_x, to_y, to_radius = _arc_from_bulge(
                x0 + move[0], y0 + move[1], x1 + move[2], y1 + move[3], extra[0] + move[4]
            )
            by_x, by_y, by_radius = (to_x - x) / 1e-5, (to_y - y) / 1e-5, (to_radius - radius) / 1e-5
            for index in range(data.shape[0]):
                spoke_x, spoke_y = data[index, 0] - x, data[index, 1] - y
                away = math.hypot(spoke_x, spoke_y) + 1e-12
                slopes[a, index] = -(spoke_x * by_x + spoke_y * by_y) / away - by_radius
    else:
        for index in range(data.shape[0]):
            s = feet[index, 0]
            u = 1 - s
            b1, b2 = 3 * u * u * s, 3 * u * s * s
            for axis in range(2):
                normal = feet[index, 1 + axis]
                slopes[axis, index], slopes[2 + axis, index] = (u * u * u + b1) * normal, (s * s * s + b2) * normal
                slopes[4 + axis, index], slopes[6 + axis, index] = b1 * normal, b2 * normal


@njit(cache=True)
def _kink(x, piece, before, kinds, columns, count):
    here, _ = end_angles(kinds[piece], _joint_of(x, piece, count), x[columns[piece] :])
    _, there = end_angles(kinds[before], _joint_of(x, before, count), x[columns[before] :])
    return _wrap(here - there)


@njit(cache=True)
def _add(band, edge, corner, slot, a, b, value):
    """Add to a symmetric matrix kept as a band, a border and a corner; to be called for (a, b) and (b, a)."""
    inner = band.shape[0]
    row, column = slot[a], slot[b]
    if row < inner and column < inner:
        if row >= column:
            band[row, row - column] += value
    elif row >= inner and column >= inner:
        corner[row - inner, column - inner] += value
    elif row >= inner:
        edge[column, row - inner] += value


@njit(cache=True)
def _normal_equations(
    x, kinds, columns, smooth, data, data_start, weights, feet, tangent_weight, slot, band, edge, corner
):
    count, size = kinds.shape[0], x.shape[0]
    right = np.zeros(size)
    band[:], edge[:], corner[:] = 0.0, 0.0, 0.0
    most = 0
    for piece in range(count):
        most = max(most, data_start[piece + 1] - data_start[piece])
    residuals, slopes = np.empty(most), np.empty((8, most))
    for piece in range(count):
        low, high = data_start[piece], data_start[piece + 1]
        used = high - low
        places = _unknowns_of(piece, kinds, columns, count)
        joint = _joint_of(x, piece, count)
        _piece_residuals(kinds[piece], joint, x[columns[piece] :], data[low:high], feet[low:high], residuals)
        _piece_slopes(kinds[piece], joint, x[columns[piece] :], data[low:high], feet[low:high], slopes)
        for index in range(used):
            share = math.sqrt(weights[low + index])
            residuals[index] *= share
            for a in range(places.shape[0]):
                slopes[a, index] *= share
        for a in range(places.shape[0]):
            total = 0.0
            for index in range(used):
                total += slopes[a, index] * residuals[index]
            right[slot[places[a]]] += total
            for b in range(a + 1):
                total = 0.0
                for index in range(used):
                    total += slopes[a, index] * slopes[b, index]
                _add(band, edge, corner, slot, places[a], places[b], total)
                if a != b:
                    _add(band, edge, corner, slot, places[b], places[a], total)
    for piece in range(count):
        if not smooth[piece]:
            continue
        before = (piece - 1) % count
        places = np.unique(
            np.concatenate((_unknowns_of(before, kinds, columns, count), _unknowns_of(piece, kinds, columns, count)))
        )
        base = _kink(x, piece, before, kinds, columns, count)
        slope = np.empty(places.shape[0])
        for a in range(places.shape[0]):
            kept = x[places[a]]
            x[places[a]] = kept + 1e-6
            slope[a] = tangent_weight * _wrap(_kink(x, piece, before, kinds, columns, count) - base) / 1e-6
            x[places[a]] = kept
        for a in range(places.shape[0]):
            right[slot[places[a]]] += slope[a] * tangent_weight * base
            for b in range(places.shape[0]):
                _add(band, edge, corner, slot, places[a], places[b], slope[a] * slope[b])
    return right


@njit(cache=True)
def _solve_bordered(band, edge, corner, right):
    """Solve a symmetric positive system of a band with a border (LDLᵀ of the band, then the Schur complement of the
    corner)."""
    inner, width = band.shape[0], band.shape[1] - 1
    rows = right[:inner].copy()
    edge, corner = edge.copy(), corner.copy()
    border = corner.shape[0]
    last = right[inner:].copy()
    factor = band.copy()
    for j in range(inner):
        pivot = max(factor[j, 0], 1e-12)
        factor[j, 0] = pivot
        reach = min(width, inner - 1 - j)
        for k in range(1, reach + 1):
            share = factor[j + k, k] / pivot
            if share != 0.0:
                for far in range(k, reach + 1):
                    factor[j + far, far - k] -= share * factor[j + far, far]
        for k in range(1, reach + 1):
            factor[j + k, k] /= pivot
            share = factor[j + k, k]
            if share != 0.0:
                rows[j + k] -= share * rows[j]
                for column in range(border):
                    edge[j + k, column] -= share * edge[j, column]
    for j in range(inner):
        for a in range(border):
            share = edge[j, a] / factor[j, 0]
            last[a] -= share * rows[j]
            for b in range(border):
                corner[a, b] -= share * edge[j, b]
    last = np.linalg.solve(corner, last)
    for j in range(inner - 1, -1, -1):
        value = rows[j]
        for column in range(border):
            value -= edge[j, column] * last[column]
        value /= factor[j, 0]
        for k in range(1, min(width, inner - 1 - j) + 1):
            value -= factor[j + k, k] * rows[j + k]
        rows[j] = value
    return np.concatenate((rows, last))


@njit(cache=True)
def _slots(kinds, columns, size):
    """Where each unknown stands in the band: piece after piece, the joint first; and how many stand before the
    border."""
    count = kinds.shape[0]
    slot = np.empty(size, np.int64)
    at, inner = 0, 0
    for piece in range(count):
        if piece == count - 2 and count > 4:
            inner = at
        slot[2 * piece], slot[2 * piece + 1] = at, at + 1
        at += 2
        extra = EXTRAS[kinds[piece]]
        for index in range(extra):
            slot[columns[piece] + index] = at
            at += 1
    return slot, inner


@njit(cache=True)
def _damped_step(x, band, edge, corner, right, slot, damping):
    """The unknowns after one damped step, and how far the one that moves most has moved."""
    damped, damped_corner = band.copy(), corner.copy()
    for a in range(band.shape[0]):
        damped[a, 0] += damping * band[a, 0] + 1e-7
    for a in range(corner.shape[0]):
        damped_corner[a, a] += damping * corner[a, a] + 1e-7
    ordered = _solve_bordered(damped, edge, damped_corner, right)
    moved, furthest = x.copy(), 0.0
    for a in range(x.shape[0]):
        moved[a] -= ordered[slot[a]]
        furthest = max(furthest, abs(ordered[slot[a]]))
    return moved, furthest


@njit(cache=True)
def adjust_jointly(
    x: np.ndarray,
    kinds: np.ndarray,
    columns: np.ndarray,
    smooth: np.ndarray,
    data: np.ndarray,
    data_start: np.ndarray,
    weights: np.ndarray,
    hold: np.ndarray,
    tangent_weight: float,
    outer_rounds: int,
    leash: float,
) -> np.ndarray:
    """Least squares over all joints, bulges and handles at once (Levenberg 1944, Marquardt 1963).

    Args:
        x: joints (2 a piece), then one bulge an arc, four handle coordinates a cubic and the directions at both ends of
            a gap; see ``columns``.
        columns: where each piece's own unknowns begin.
        smooth: whether the joint at each piece's start is smooth; its kink is weighted by ``tangent_weight``
            pixels a radian, more from round to round, so that smooth joints end up smooth.
        data: points of all pieces in a row; data_start: (pieces + 1,); weights: of their squared distances.
        hold: weights that keep each unknown where it is.
        leash: how far a joint may move, in pixels.

    Returns:
        the adjusted unknowns.
    """
    x = x.copy()
    begin = x.copy()
    joints = 2 * kinds.shape[0]
    feet = np.zeros((data.shape[0], 3))
    slot, inner = _slots(kinds, columns, x.shape[0])
    border = x.shape[0] - inner
    band, edge, corner = np.zeros((inner, BAND + 1)), np.zeros((inner, border)), np.zeros((border, border))
    damping = 1e-3
    for outer in range(outer_rounds):
        if outer > 0:
            tangent_weight *= STIFFENING
        _project_cubics(x, kinds, columns, data, data_start, feet)
        cost = _total_cost(x, kinds, columns, smooth, data, data_start, weights, feet, tangent_weight) + np.sum(
            hold * (x - begin) ** 2
        )
        for _ in range(6):
            right = _normal_equations(
                x, kinds, columns, smooth, data, data_start, weights, feet, tangent_weight, slot, band, edge, corner
            )
            for place in range(x.shape[0]):
                right[slot[place]] += hold[place] * (x[place] - begin[place])
                _add(band, edge, corner, slot, place, place, hold[place])
            better, move = False, 0.0
            for _ in range(5):
                trial, move_now = _damped_step(x, band, edge, corner, right, slot, damping)
                far = np.max(np.abs(trial[:joints] - begin[:joints]))
                trial_cost = _total_cost(
                    trial, kinds, columns, smooth, data, data_start, weights, feet, tangent_weight
                ) + np.sum(hold * (trial - begin) ** 2)
                if far < leash and trial_cost < cost:
                    move = move_now
                    better = trial_cost < cost * (1 - 1e-7)
                    x, cost = trial, trial_cost
                    damping = max(damping / 5, 1e-8)
                    break
                damping *= 6
            if not better or move < 1e-5:
                break
    return x


@njit(cache=True)
def distances_along(
    x: np.ndarray, kinds: np.ndarray, columns: np.ndarray, data: np.ndarray, data_start: np.ndarray
) -> np.ndarray:
    """Unsigned distances of all pieces' points from their pieces, as the adjustment sees them."""
    count = kinds.shape[0]
    feet = np.zeros((data.shape[0], 3))
    _project_cubics(x, kinds, columns, data, data_start, feet)
    away = np.empty(data.shape[0])
    for piece in range(count):
        low, high = data_start[piece], data_start[piece + 1]
        _piece_residuals(
            kinds[piece],
            _joint_of(x, piece, count),
            x[columns[piece] :],
            data[low:high],
            feet[low:high],
            away[low:high],
        )
    return np.abs(away)
