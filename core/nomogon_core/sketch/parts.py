"""Rows and unknowns that hang together, and how they are brought to solve: compiled, or by numpy and scipy from the
same rows, which the tests hold against each other.

Steps are the minimum-norm solutions of the damped normal equations J W J' + damping (Levenberg 1944, Marquardt 1963).
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.sparse import coo_matrix, csc_matrix, eye
from scipy.sparse.linalg import splu

from nomogon_core.sketch import compiled_solve
from nomogon_core.sketch.system import by_columns

if TYPE_CHECKING:
    from nomogon_core.sketch.system import System

# Residuals as shares of the sketch's size.
TOLERANCE = 1e-10
MOST_ITERATIONS = 60
LARGEST_STEP = 0.25
LEAST_DAMPING, DAMPING_GROWTH, TRIES = 1e-11, 30.0, 12
CHORD_STEPS = 25
MOST_PAIRS = 6_000_000
DEPENDENT, SMALLEST_ROW = 1e-10, 1e-12
REFINED, MOTIONS = 3, 4


def _order_of(square):
    """An elimination order with little fill for the rows of a sparse symmetric pattern (minimum degree, by SuperLU)."""
    size = square.shape[0]
    if size <= 2:
        return np.arange(size)
    heavy = abs(square)
    heavy = (heavy + coo_matrix((np.asarray(heavy.sum(axis=1)).ravel() + 1, (range(size), range(size))))).tocsc()
    order = splu(heavy, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True}).perm_c
    return np.argsort(order)


@lru_cache(maxsize=256)
def _pattern(size, count, first_bytes, column_bytes):
    """Pairs of entries, their slots in the upper triangle of J J' by columns, its elimination tree and order."""
    first, column = np.frombuffer(first_bytes, np.int64), np.frombuffer(column_bytes, np.int64)
    row = np.repeat(np.arange(size), np.diff(first))
    flat = np.flatnonzero(column >= 0)
    flat = flat[np.argsort(column[flat], kind="stable")]
    start = np.searchsorted(column[flat], np.arange(count + 1))
    room = int((np.diff(start) ** 2).sum())
    if room > MOST_PAIRS:
        return None
    one, other, of = compiled_solve.entry_pairs(start, flat, row, room)
    key = row[one].astype(np.int64) * size + row[other]
    cells, slot = np.unique(key, return_inverse=True)
    later, earlier = cells // size, cells % size
    order = _order_of(csc_matrix((np.ones(len(cells)), (later, earlier)), shape=(size, size)))
    place = np.empty(size, np.int64)
    place[order] = np.arange(size)
    a, b = place[later], place[earlier]
    high, low = np.maximum(a, b), np.minimum(a, b)
    by_column = np.lexsort((low, high))
    to = np.empty(len(cells), np.int32)
    to[by_column] = np.arange(len(cells))
    index = low[by_column].astype(np.int32)
    begin = np.searchsorted(high[by_column], np.arange(size + 1)).astype(np.int32)
    parent, columns = compiled_solve.elimination(size, begin, index)
    return one, other, of, to[slot.ravel()], begin, index, parent, columns, order.astype(np.int64)


class Part:
    """Rows and unknowns that hang together.

    Attributes:
        unknowns, rows: their numbers in the system.
        constants: (rows, MOST_CONSTANTS) of the rows; a size may be changed in place.
    """

    def __init__(self, system: System, unknowns: np.ndarray, rows: np.ndarray) -> None:
        self.unknowns, self.rows = unknowns, rows
        starts, widths = system.first[rows], np.diff(system.first)[rows]
        first = np.concatenate([[0], np.cumsum(widths)]).astype(np.int64)
        flat = np.repeat(starts - first[:-1], widths) + np.arange(first[-1])
        parameters, at = np.unique(system.at[flat], return_inverse=True)
        local = np.full(system.count + 1, -1)
        local[unknowns] = np.arange(len(unknowns))
        unknown = local[system.unknown_of[parameters]]
        self.shape = (len(rows), len(unknowns))
        self.constants = system.constants[rows]
        self._rows = (system.kind[rows], first, at.astype(np.int64).ravel(), self.constants)
        self._map = (unknown, system.offset[parameters], unknown[self._rows[2]])
        self._pattern: Any = self._pattern_of() if system.compiled else None
        self._factored: Any = None
        self._factored_for: Any = None

    def _pattern_of(self):
        return _pattern(*self.shape, self._rows[1].tobytes(), self._map[2].tobytes())

    def _work(self):
        """Room for a factor."""
        if self._factored is None:
            rows, fill, cells = self.shape[0], int(self._pattern[7][-1]), len(self._pattern[5])
            self._factored = (
                np.empty(fill, np.int32),
                np.empty(fill),
                np.empty(rows),
                np.zeros(rows, np.bool_),
                np.empty(cells),
            )
        return self._factored

    def linearized(self, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Residuals (rows,) and flat derivatives at x (unknowns,)."""
        unknown, offset, _ = self._map
        values = np.append(x, 0.0)[unknown] + offset
        residual, entries = np.empty(self.shape[0]), np.empty(len(self._rows[2]))
        evaluate = by_columns if self._pattern is None else compiled_solve.evaluate
        evaluate(*self._rows, values, residual, entries)
        return residual, entries

    def matrix(self, entries: np.ndarray) -> Any:
        """The Jacobian (rows, unknowns), sparse."""
        kept = self._map[2] >= 0
        row = np.repeat(np.arange(self.shape[0]), np.diff(self._rows[1]))
        return coo_matrix((entries[kept], (row[kept], self._map[2][kept])), shape=self.shape).tocsr()

    def descend(self, x: np.ndarray, most: int = MOST_ITERATIONS) -> tuple[np.ndarray, float, int]:
        """Damped minimum-norm steps from x; returns unknowns, largest residual, iterations."""
        found = x.copy()
        if self._pattern is None:
            return self._descend_by_numpy(found, most)
        steps, worst = compiled_solve.descend(
            found, np.ones(len(x)), TOLERANCE, most, self._rows, self._map, self._pattern, self._work()
        )
        return found, worst, steps

    def _factor_by_numpy(self, jacobian, weights, damping):
        """Function r -> W J' (J W J' + damping)^-1 r; None when that cannot be factored."""
        square = (jacobian.multiply(weights) @ jacobian.T + damping * eye(self.shape[0])).tocsc()
        try:
            found = splu(square, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
        except RuntimeError:
            return None
        return lambda r: weights * (jacobian.T @ found.solve(r))

    def _descend_by_numpy(self, x, most):
        weights, iteration = np.ones(len(x)), 0
        residual, entries = self.linearized(x)
        cost, damping = residual @ residual, LEAST_DAMPING
        while iteration < most and np.abs(residual).max(initial=0) >= TOLERANCE:
            iteration += 1
            jacobian = self.matrix(entries)
            for _ in range(TRIES):
                step_of = self._factor_by_numpy(jacobian, weights, damping)
                if step_of is None:
                    damping = max(damping * 100, 1e-9)
                    continue
                step = -step_of(residual)
                step *= min(1.0, LARGEST_STEP / max(np.abs(step).max(initial=0), 1e-300))
                new_residual, new_entries = self.linearized(x + step)
                new_cost = new_residual @ new_residual
                if new_cost < cost:
                    x, residual, entries, cost = x + step, new_residual, new_entries, new_cost
                    damping = max(damping / DAMPING_GROWTH, LEAST_DAMPING)
                    break
                damping = max(damping * DAMPING_GROWTH, 1e-7)
            else:
                break
        return x, float(np.abs(residual).max(initial=0)), iteration

    def pulling(self, x: np.ndarray, weights: np.ndarray) -> Pulling:
        """A pull from x, whose factor is kept from one wished step to the next."""
        return Pulling(self, x, weights)

    def independence(self, x: np.ndarray) -> Independence:
        """Which rows say something of their own at x, and what can still move."""
        return Independence(self, x)


class Pulling:
    """Wished steps from one place, corrected by the factor of that place (chord steps)."""

    def __init__(self, part: Part, x: np.ndarray, weights: np.ndarray) -> None:
        self.part, self.x, self.weights = part, x, weights
        self.residual, self.entries = part.linearized(x)
        self._made = False
        self._by_numpy: Any = None

    def _factor(self):
        part = self.part
        return compiled_solve.linearize(
            self.x,
            self.weights,
            LEAST_DAMPING,
            part._rows,
            part._map,
            part._pattern,
            part._work(),
            self.residual,
            self.entries,
        )

    def step(self, pull: np.ndarray) -> tuple[np.ndarray, float] | None:
        """The unknowns after a wished step (unknowns,) and its corrections, and the largest residual; None where that
        cannot be factored."""
        part = self.part
        if part._pattern is None:
            return self._step_by_numpy(pull)
        if not self._made or part._factored_for is not self:
            if not self._factor():
                return None
            self._made, part._factored_for = True, self
        found, worst, fresh = compiled_solve.pulled(
            self.x,
            pull,
            self.weights,
            TOLERANCE,
            CHORD_STEPS,
            part._rows,
            part._map,
            part._pattern,
            part._work(),
            self.residual,
            self.entries,
        )
        if not fresh:
            self._made = False
        return found, worst

    def _step_by_numpy(self, pull):
        if self._by_numpy is None:
            jacobian = self.part.matrix(self.entries)
            self._by_numpy = jacobian, self.part._factor_by_numpy(jacobian, self.weights, LEAST_DAMPING)
        jacobian, step_of = self._by_numpy
        if step_of is None:
            return None
        found, worst, _ = self.part._descend_by_numpy(
            self.x + pull - step_of(self.residual + jacobian @ pull), MOST_ITERATIONS
        )
        return found, worst


class Independence:
    """Which rows of a part depend on others at a place, and the motions that keep all of them.

    Rows are brought to length 1; a pivot of J J' that falls below ``DEPENDENT`` of its diagonal tells a row that says
    nothing of its own.

    Attributes:
        rank: number of rows that say something of their own.
    """

    def __init__(self, part: Part, x: np.ndarray) -> None:
        self.part = part
        _, entries = part.linearized(x)
        self._entries = np.empty_like(entries)
        compiled_solve.brought_to_unit(part._rows[1], part._map[2], entries, SMALLEST_ROW, self._entries)
        self._plain = None
        if part._pattern is None:
            self._plain = part.matrix(self._entries).toarray()
            _, strength, right = np.linalg.svd(self._plain, full_matrices=True)
            self.rank = int((strength > np.sqrt(DEPENDENT)).sum())
            self._null = right[self.rank :].T
            return
        one, other, of, slot, begin, index, parent, columns, _ = part._pattern
        low_at, low, diagonal, dead, square = part._work()
        part._factored_for = self
        compiled_solve.assemble(one, other, of, slot, self._entries, np.ones(part.shape[1]), square)
        found = compiled_solve.factor(
            begin, index, square, 0.0, DEPENDENT, columns, parent, low_at, low, diagonal, dead
        )
        self.rank = part.shape[0] - found
        self._kept = tuple(one.copy() for one in (low_at, low, diagonal))

    def _solved(self, given):
        """y with J J' y = given, of the rows that say something of their own."""
        low_at, low, diagonal = self._kept
        out = np.empty(len(given))
        compiled_solve.back_solve(self.part._pattern[7], low_at, low, diagonal, self.part._pattern[8], given, out)
        return out

    def _times(self, x):
        out = np.empty(self.part.shape[0])
        compiled_solve.times(self.part._rows[1], self.part._map[2], self._entries, x, out)
        return out

    def _transposed(self, y):
        out = np.empty(self.part.shape[1])
        compiled_solve.transposed(self.part._rows[1], self.part._map[2], self._entries, y, out)
        return out

    def motions(self) -> np.ndarray:
        """(unknowns, k) motions of length 1 that keep all rows to first order; four at random where there are more than
        four, so that what none of them moves cannot move."""
        free = self.part.shape[1] - self.rank
        if self._plain is not None:
            mixed = np.random.default_rng(self.part.shape[1]).normal(size=(self._null.shape[1], MOTIONS))
            return self._null if free <= MOTIONS else self._null @ mixed / math.sqrt(free)
        drawn = np.random.default_rng(self.part.shape[1]).normal(size=(min(free, MOTIONS), self.part.shape[1]))
        _, _, _, _, _, _, _, columns, order = self.part._pattern
        low_at, low, diagonal = self._kept
        compiled_solve.keeping(
            self.part._rows[1], self.part._map[2], self._entries, columns, order, low_at, low, diagonal, drawn
        )
        return drawn.T

    def mix(self, wanted: np.ndarray) -> tuple[np.ndarray, float]:
        """How a direction (unknowns,) of length 1 is made of the rows, (rows,), and what it misses by."""
        if self._plain is not None:
            shares = np.linalg.lstsq(self._plain.T, wanted, rcond=1e-9)[0]
            return shares, float(np.linalg.norm(self._plain.T @ shares - wanted))
        shares, missing = np.zeros(self.part.shape[0]), wanted
        for _ in range(REFINED):
            shares = shares + self._solved(self._times(missing))
            missing = wanted - self._transposed(shares)
        return shares, float(np.linalg.norm(missing))
