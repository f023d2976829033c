"""Compiled loops of the sketch solver: rows, the sparse normal equations of their rows, minimum-norm steps.

J W J' is factored as L D L' by the up-looking method (Davis, Algorithm 849, 2005); its pattern is worked out once a
sketch. Flat entries of J stand in the order of the rows' parameters; ``column`` of an entry is -1 where its parameter
is no unknown.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from nomogon_core.sketch import rows

_ROWS = tuple(njit(function) for function, _, _ in rows.KINDS)
(
    _norm,
    _angle,
    _point_line,
    _equal_runs,
    _middle_on_axis,
    _across_axis,
    _on_ellipse,
    _linear,
    _line_ellipse,
    _circle_ellipse_reach,
    _circle_ellipse_square,
    _arc_length,
    _on_cubic,
    _end_bend,
    _equal_bends,
    _oval_end,
) = _ROWS
_WIDEST = rows.WIDEST
# Damping of the normal equations: least, first after a failed factor, growth, and the largest share of the size a step.
_LEAST, _START, _GROWTH, _LARGEST_STEP = 1e-11, 1e-7, 30.0, 0.25
_TRIES, _DEAD = 12, 1e300
_MEMORY = 5


@njit(cache=True)
def evaluate(
    kind: np.ndarray,
    first: np.ndarray,
    at: np.ndarray,
    constants: np.ndarray,
    values: np.ndarray,
    residual: np.ndarray,
    entries: np.ndarray,
) -> None:
    """Residuals (rows,) and flat derivatives (first[-1],) of all rows at given parameters, into the last two."""
    v, d = np.empty(_WIDEST), np.empty(_WIDEST)
    for row in range(kind.size):
        begin, end = first[row], first[row + 1]
        for place in range(begin, end):
            v[place - begin] = values[at[place]]
        c, k = constants[row], kind[row]
        if k == 0:
            r = _norm(v, c, d)
        elif k == 1:
            r = _angle(v, c, d)
        elif k == 2:
            r = _point_line(v, c, d)
        elif k == 3:
            r = _equal_runs(v, c, d)
        elif k == 4:
            r = _middle_on_axis(v, c, d)
        elif k == 5:
            r = _across_axis(v, c, d)
        elif k == 6:
            r = _on_ellipse(v, c, d)
        elif k == 7:
            r = _linear(v, c, d)
        elif k == 8:
            r = _line_ellipse(v, c, d)
        elif k == 9:
            r = _circle_ellipse_reach(v, c, d)
        elif k == 10:
            r = _circle_ellipse_square(v, c, d)
        elif k == 11:
            r = _arc_length(v, c, d)
        elif k == 12:
            r = _on_cubic(v, c, d)
        elif k == 13:
            r = _end_bend(v, c, d)
        elif k == 14:
            r = _equal_bends(v, c, d)
        else:
            r = _oval_end(v, c, d)
        residual[row] = r
        for place in range(begin, end):
            entries[place] = d[place - begin]


@njit(cache=True)
def expand(x: np.ndarray, unknown: np.ndarray, offset: np.ndarray, values: np.ndarray) -> None:
    """Parameters of unknowns: x of each one's unknown, if it has one, plus its offset."""
    for index in range(unknown.size):
        values[index] = (x[unknown[index]] if unknown[index] >= 0 else 0.0) + offset[index]


@njit(cache=True)
def entry_pairs(start: np.ndarray, flat: np.ndarray, row: np.ndarray, count: int) -> tuple:
    """All pairs of flat entries of one unknown, the later row first.

    Args:
        start: of each unknown in ``flat``, which lists its entries; row: of each entry; count: room for pairs.
    """
    one, other, of = np.empty(count, np.int32), np.empty(count, np.int32), np.empty(count, np.int32)
    found = 0
    for unknown in range(start.size - 1):
        for i in range(start[unknown], start[unknown + 1]):
            for j in range(start[unknown], start[unknown + 1]):
                if row[flat[i]] >= row[flat[j]]:
                    one[found], other[found], of[found] = flat[i], flat[j], unknown
                    found += 1
    return one[:found], other[:found], of[:found]


@njit(cache=True)
def elimination(size: int, start: np.ndarray, index: np.ndarray) -> tuple:
    """Elimination tree and column starts of L for the pattern of an upper triangle by columns."""
    parent, count, seen = np.full(size, -1, np.int32), np.zeros(size, np.int32), np.full(size, -1, np.int32)
    for k in range(size):
        seen[k] = k
        for place in range(start[k], start[k + 1]):
            i = index[place]
            while i < k and seen[i] != k:
                if parent[i] == -1:
                    parent[i] = k
                count[i] += 1
                seen[i] = k
                i = parent[i]
    begin = np.zeros(size + 1, np.int64)
    for k in range(size):
        begin[k + 1] = begin[k] + count[k]
    return parent, begin


@njit(cache=True)
def assemble(one: Any, other: Any, of: Any, slot: Any, entries: Any, weights: Any, square: Any) -> None:
    """The upper triangle of J W J' in the slots of its pattern."""
    square[:] = 0.0
    for pair in range(one.size):
        square[slot[pair]] += entries[one[pair]] * entries[other[pair]] * weights[of[pair]]


@njit(cache=True)
def factor(
    start: Any,
    index: Any,
    square: Any,
    damping: Any,
    least: Any,
    begin: Any,
    parent: Any,
    at: Any,
    low: Any,
    diagonal: Any,
    dead: Any,
) -> int:
    """L D L' of a symmetric matrix; its pivots that fall below ``least`` of their diagonal are dead: their rows depend
    on those before, and are left out.

    Returns:
        number of dead pivots; -1 if one is not positive and none may be (``least`` is 0).
    """
    size = diagonal.size
    work, path = np.zeros(size), np.empty(size, np.int32)
    seen, count, found = np.full(size, -1, np.int32), np.zeros(size, np.int32), 0
    for k in range(size):
        top = size
        seen[k] = k
        for place in range(start[k], start[k + 1]):
            i = index[place]
            work[i] += square[place]
            length = 0
            while seen[i] != k:
                path[length] = i
                length += 1
                seen[i] = k
                i = parent[i]
            while length > 0:
                top -= 1
                length -= 1
                path[top] = path[length]
        own = work[k]
        pivot = own + damping
        work[k] = 0.0
        for step in range(top, size):
            i = path[step]
            value = work[i]
            work[i] = 0.0
            end = begin[i] + count[i]
            for place in range(begin[i], end):
                work[at[place]] -= low[place] * value
            share = value / diagonal[i]
            pivot -= share * value
            at[end], low[end] = k, share
            count[i] += 1
        dead[k] = False
        if not pivot > least * own:
            if least == 0.0:
                return -1
            pivot, dead[k] = _DEAD, True
            found += 1
        diagonal[k] = pivot
    return found


@njit(cache=True)
def back_solve(begin: Any, at: Any, low: Any, diagonal: Any, order: Any, given: Any, out: Any) -> None:
    """Solution of the factored system; ``order`` is the elimination order of its rows."""
    size = diagonal.size
    y = np.empty(size)
    for k in range(size):
        y[k] = given[order[k]]
    for k in range(size):
        value = y[k]
        for place in range(begin[k], begin[k + 1]):
            y[at[place]] -= low[place] * value
    for k in range(size):
        y[k] /= diagonal[k]
    for k in range(size - 1, -1, -1):
        value = y[k]
        for place in range(begin[k], begin[k + 1]):
            value -= low[place] * y[at[place]]
        y[k] = value
    for k in range(size):
        out[order[k]] = y[k]


@njit(cache=True)
def transposed(first: Any, column: Any, entries: Any, z: Any, out: Any) -> None:
    """J' z."""
    out[:] = 0.0
    for row in range(first.size - 1):
        for place in range(first[row], first[row + 1]):
            if column[place] >= 0:
                out[column[place]] += entries[place] * z[row]


@njit(cache=True)
def times(first: Any, column: Any, entries: Any, x: Any, out: Any) -> None:
    """J x."""
    for row in range(first.size - 1):
        total = 0.0
        for place in range(first[row], first[row + 1]):
            if column[place] >= 0:
                total += entries[place] * x[column[place]]
        out[row] = total


@njit(cache=True)
def descend(
    x: Any, weights: Any, tolerance: Any, most: Any, rows_: Any, map_: Any, pattern: Any, factored: Any
) -> tuple[int, float]:
    """Damped minimum-norm steps (Levenberg 1944, Marquardt 1963) from x, in place.

    Args:
        weights: (unknowns,) how gladly each moves; rows_: kind, first, at, constants; map_: unknown and offset of each
            parameter, column of each entry; pattern, factored: see ``part.py: Part``.

    Returns:
        iterations, largest residual.
    """
    kind, first, at, constants = rows_
    unknown, offset, column = map_
    one, other, of, slot, start, index, parent, begin, order = pattern
    low_at, low, diagonal, dead, square = factored
    count = kind.size
    values = np.empty(unknown.size)
    residual, trial_residual = np.empty(count), np.empty(count)
    entries, trial_entries = np.empty(at.size), np.empty(at.size)
    z, step, trial = np.empty(count), np.empty(x.size), np.empty(x.size)
    expand(x, unknown, offset, values)
    evaluate(kind, first, at, constants, values, residual, entries)
    cost, damping, iteration = np.dot(residual, residual), _LEAST, 0
    while iteration < most:
        if np.abs(residual).max() < tolerance:
            break
        iteration += 1
        assemble(one, other, of, slot, entries, weights, square)
        better = False
        for _ in range(_TRIES):
            if factor(start, index, square, damping, 0.0, begin, parent, low_at, low, diagonal, dead) < 0:
                damping = max(damping * 100, 1e-9)
                continue
            back_solve(begin, low_at, low, diagonal, order, residual, z)
            transposed(first, column, entries, z, step)
            largest = 0.0
            for j in range(x.size):
                step[j] *= -weights[j]
                largest = max(largest, abs(step[j]))
            share = min(1.0, _LARGEST_STEP / max(largest, 1e-300))
            for j in range(x.size):
                trial[j] = x[j] + share * step[j]
            expand(trial, unknown, offset, values)
            evaluate(kind, first, at, constants, values, trial_residual, trial_entries)
            trial_cost = np.dot(trial_residual, trial_residual)
            if trial_cost < cost:
                better = True
                break
            damping = max(damping * _GROWTH, _START)
        if not better:
            break
        x[:] = trial
        residual, trial_residual = trial_residual, residual
        entries, trial_entries = trial_entries, entries
        cost, damping = trial_cost, max(damping / _GROWTH, _LEAST)
    return iteration, np.abs(residual).max()


@njit(cache=True)
def linearize(
    x: Any, weights: Any, damping: Any, rows_: Any, map_: Any, pattern: Any, factored: Any, residual: Any, entries: Any
) -> bool:
    """Residuals and derivatives at x, and the factor of J W J' with a damping; False where that cannot be."""
    kind, first, at, constants = rows_
    unknown, offset, _ = map_
    one, other, of, slot, start, index, parent, begin, _ = pattern
    low_at, low, diagonal, dead, square = factored
    values = np.empty(unknown.size)
    expand(x, unknown, offset, values)
    evaluate(kind, first, at, constants, values, residual, entries)
    assemble(one, other, of, slot, entries, weights, square)
    return factor(start, index, square, damping, 0.0, begin, parent, low_at, low, diagonal, dead) >= 0


@njit(cache=True)
def sped_up(z: np.ndarray, z_changes: np.ndarray, step_changes: np.ndarray, count: int) -> None:
    """A correction (rows,), in place, less what the last ones have shown of the error of the factor.

    Args:
        z_changes: (memory, rows) of the last corrections, as they went into the unknowns.
        step_changes: (memory, rows) by which the plain corrections then changed; count: of them that are known.
    """
    normal, right = np.zeros((count, count)), np.zeros(count)
    for one in range(count):
        right[one] = np.dot(step_changes[one], z)
        for other in range(one + 1):
            normal[one, other] = normal[other, one] = np.dot(step_changes[one], step_changes[other])
    for one in range(count):
        normal[one, one] = normal[one, one] * (1 + 1e-12) + 1e-300
    shares = np.linalg.solve(normal, right)
    for one in range(count):
        for row in range(z.size):
            z[row] -= shares[one] * (z_changes[one, row] + step_changes[one, row])


@njit(cache=True)
def pulled(
    x: Any,
    pull: Any,
    weights: Any,
    tolerance: Any,
    most: Any,
    rows_: Any,
    map_: Any,
    pattern: Any,
    factored: Any,
    residual: Any,
    entries: Any,
) -> tuple[np.ndarray, float, bool]:
    """One wished step and its corrections by the factor at hand, which is made anew only where the residual falls by
    less than half. Such chord steps are sped up from the last few of them (Anderson 1965; Walker and Ni 2011).

    Args:
        x: where ``residual``, ``entries`` and the factor were made; pull: (unknowns,) the wished step.

    Returns:
        the new unknowns, largest residual, whether the factor is still that of x.
    """
    kind, first, at, constants = rows_
    unknown, offset, column = map_
    begin, order = pattern[7], pattern[8]
    low_at, low, diagonal = factored[0], factored[1], factored[2]
    values, now, slopes = np.empty(unknown.size), np.empty(kind.size), np.empty(at.size)
    wanted, z, step = np.empty(kind.size), np.empty(kind.size), np.empty(x.size)
    own, fresh = entries.copy(), True
    times(first, column, own, pull, wanted)
    for row in range(kind.size):
        wanted[row] += residual[row]
    back_solve(begin, low_at, low, diagonal, order, wanted, z)
    transposed(first, column, own, z, step)
    found = np.empty(x.size)
    for j in range(x.size):
        found[j] = x[j] + pull[j] - weights[j] * step[j]
    before, known = np.inf, 0
    last_z, last_step = np.empty(kind.size), np.empty(kind.size)
    z_changes, step_changes = np.empty((_MEMORY, kind.size)), np.empty((_MEMORY, kind.size))
    for _ in range(most):
        expand(found, unknown, offset, values)
        evaluate(kind, first, at, constants, values, now, slopes)
        worst = np.abs(now).max()
        if worst < tolerance or not worst < 1e3:
            break
        if worst > 0.5 * before:
            if not linearize(found, weights, _LEAST, rows_, map_, pattern, factored, now, own):
                return found, worst, False
            fresh, known = False, 0
        before = worst
        back_solve(begin, low_at, low, diagonal, order, now, z)
        if known:
            place = (known - 1) % _MEMORY
            for row in range(kind.size):
                step_changes[place, row] = z[row] - last_step[row]
                z_changes[place, row] = last_z[row]
        for row in range(kind.size):
            last_step[row] = z[row]
        if known:
            sped_up(z, z_changes, step_changes, min(known, _MEMORY))
        for row in range(kind.size):
            last_z[row] = z[row]
        known += 1
        transposed(first, column, own, z, step)
        for j in range(x.size):
            found[j] -= weights[j] * step[j]
    return found, worst, fresh


@njit(cache=True)
def brought_to_unit(first: Any, column: Any, entries: Any, least: Any, out: Any) -> None:
    """Entries with each row divided by its length, into ``out``; a row no longer than ``least`` becomes 0."""
    for row in range(first.size - 1):
        square = 0.0
        for one in range(first[row], first[row + 1]):
            for other in range(first[row], first[row + 1]):
                if column[one] >= 0 and column[one] == column[other]:
                    square += entries[one] * entries[other]
        share = 1.0 / np.sqrt(square) if square > least * least else 0.0
        for one in range(first[row], first[row + 1]):
            out[one] = entries[one] * share


@njit(cache=True)
def keeping(
    first: Any, column: Any, entries: Any, begin: Any, order: Any, low_at: Any, low: Any, diagonal: Any, drawn: Any
) -> None:
    """The parts of drawn directions (k, unknowns) that change no row, in place, each brought to length 1."""
    b, z, back = np.empty(first.size - 1), np.empty(first.size - 1), np.empty(drawn.shape[1])
    for one in range(drawn.shape[0]):
        for _ in range(2):
            times(first, column, entries, drawn[one], b)
            back_solve(begin, low_at, low, diagonal, order, b, z)
            transposed(first, column, entries, z, back)
            drawn[one] -= back
        drawn[one] /= max(np.sqrt(np.dot(drawn[one], drawn[one])), 1e-300)
