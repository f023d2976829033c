"""Equations merged into a system: unknowns (union-find with offsets), rows, the sparse Jacobian, and the components
that can be solved alone."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from nomogon_core.sketch import rows
from nomogon_core.sketch.compiled_solve import evaluate
from nomogon_core.sketch.equations import ZERO

if TYPE_CHECKING:
    from nomogon_core.sketch.equations import Equations

WIDTHS = np.array([width for _, width, _ in rows.KINDS])
LINEAR = rows.NUMBER_OF[rows.linear]


class System:
    """Equations ready to be evaluated: merged unknowns and rows.

    Attributes:
        count: number of unknowns; row_count: number of rows.
        kind, first, at, constants: of each row its number in ``rows.KINDS``, where its parameters begin in ``at``, and
            its constants.
        owners: constraint of each row.
        row_of, column_of: row and unknown of each entry of the Jacobian that belongs to an unknown.
        broken: merges that contradict others, as (owner, how far off).
    """

    def __init__(self, equations: Equations, *, merge: bool = True, compiled: bool = True) -> None:
        self.equations, self.compiled = equations, compiled
        size = len(equations.values)
        self.broken: list[tuple[str, float]] = []
        root, offset = np.arange(size), np.zeros(size)
        kinds, parameters = list(equations.kinds), list(equations.parameters)
        constants, self.owners = list(equations.constants), list(equations.owners)
        if merge:
            root, offset = self._merge_all(equations.merges, size)
        else:
            for one in equations.merges:
                kinds.append(LINEAR)
                parameters.append((one.first, one.second, ZERO, ZERO))
                constants.append((1.0, -1.0, 0.0, 0.0, one.offset))
                self.owners.append(one.owner)
        unknowns = np.nonzero((root == np.arange(size)) & (np.arange(size) != ZERO))[0]
        number = np.full(size, -1)
        number[unknowns] = np.arange(len(unknowns))
        self.unknown_of, self.offset, self.unknowns = number[root], offset, unknowns
        self.count, self.row_count = len(unknowns), len(kinds)
        self.kind = np.array(kinds, np.int64)
        self.first = np.concatenate([[0], np.cumsum(WIDTHS[self.kind])]).astype(np.int64)
        self.at = np.array([value for row in parameters for value in row], np.int64)
        self.constants = np.zeros((self.row_count, rows.MOST_CONSTANTS))
        for row, values in enumerate(constants):
            self.constants[row, : len(values)] = values
        self.column = self.unknown_of[self.at] if self.row_count else np.zeros(0, np.int64)
        self.row = np.repeat(np.arange(self.row_count), np.diff(self.first))
        self._kept = self.column >= 0
        self.row_of, self.column_of = self.row[self._kept], self.column[self._kept]

    @cached_property
    def line_ends(self) -> np.ndarray:
        """(lines, 2) the x parameters of the ends of each line."""
        at, curves = self.equations.point_at, self.equations.sketch.curves.values()
        found = [(at[curve.points[0]], at[curve.points[1]]) for curve in curves if curve.kind == "line"]
        return np.array(found, int).reshape(-1, 2)

    def _merge_all(self, merges, size):
        parent, offset = {}, {}

        def find(index):
            total = 0.0
            while index in parent:
                total += offset[index]
                index = parent[index]
            return index, total

        for item in merges:
            (first, a), (second, b) = find(item.first), find(item.second)
            if first == second:
                self.broken.append((item.owner, a - b - item.offset))
            elif first == ZERO:
                parent[second], offset[second] = ZERO, a - item.offset - b
            else:
                parent[first], offset[first] = second, b + item.offset - a
        root, off = np.arange(size), np.zeros(size)
        for index in parent:
            root[index], off[index] = find(index)
        return root, off

    def start(self) -> np.ndarray:
        """The unknowns as drawn."""
        return self.equations.values[self.unknowns].copy()

    def parameters(self, x: np.ndarray) -> np.ndarray:
        """All parameters of given unknowns."""
        padded = np.append(x, 0.0)
        return padded[self.unknown_of] + self.offset

    def evaluate(self, x: np.ndarray) -> tuple[np.ndarray, Any]:
        """Residuals (rows,) and the Jacobian's entries in the order of ``row_of`` and ``column_of``."""
        residual, entries = np.empty(self.row_count), np.empty(len(self.at))
        evaluate_by = evaluate if self.compiled else by_columns
        evaluate_by(self.kind, self.first, self.at, self.constants, self.parameters(x), residual, entries)
        return residual, entries[self._kept]

    def alone(self) -> np.ndarray:
        """Indices of the unknowns that no row speaks of."""
        return np.setdiff1d(np.arange(self.count), self.column_of)

    def components(self) -> list[tuple[np.ndarray, np.ndarray]]:
        """Groups of unknowns that rows tie together, as (unknown indices, row indices); those that no row speaks of are
        in none."""
        tied, column = np.unique(self.column_of, return_inverse=True)
        size = self.row_count + len(tied)
        edges = (np.ones(len(column), np.int8), (self.row_of, self.row_count + column))
        number, label = connected_components(coo_matrix(edges, shape=(size, size)), directed=False)
        row_label, label = label[: self.row_count], label[self.row_count :]
        order, row_order = np.argsort(label, kind="stable"), np.argsort(row_label, kind="stable")
        bounds = np.searchsorted(label[order], np.arange(number + 1))
        row_bounds = np.searchsorted(row_label[row_order], np.arange(number + 1))
        return [
            (tied[order[bounds[i] : bounds[i + 1]]], row_order[row_bounds[i] : row_bounds[i + 1]])
            for i in range(number)
            if bounds[i] < bounds[i + 1]
        ]


def by_columns(
    kind: np.ndarray,
    first: np.ndarray,
    at: np.ndarray,
    constants: np.ndarray,
    values: np.ndarray,
    residual: np.ndarray,
    entries: np.ndarray,
) -> None:
    """What :func:`compiled_solve.evaluate` does, from the same functions, all rows of a kind at once."""
    for number in np.unique(kind):
        function, width, _ = rows.KINDS[number]
        chosen = np.flatnonzero(kind == number)
        places = first[chosen] + np.arange(width)[:, None]
        slopes = np.empty(places.shape)
        residual[chosen] = function(values[at[places]], constants[chosen].T, slopes)
        entries[places] = slopes
