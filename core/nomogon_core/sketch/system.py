"""Equations merged into a system: unknowns (union-find with offsets), rows grouped by kind, the sparse Jacobian, and
the components that can be solved alone."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from nomogon_core.sketch.equations import ZERO, Row
from nomogon_core.sketch.rows import EVALUATORS, WIDTHS

if TYPE_CHECKING:
    from nomogon_core.sketch.equations import Equations


class System:
    """Equations ready to be evaluated: merged unknowns and rows grouped by kind.

    Attributes:
        count: number of unknowns; row_count: number of rows.
        owners: constraint of each row.
        broken: merges that contradict others, as (owner, how far off).
    """

    def __init__(self, equations: Equations, *, merge: bool = True) -> None:
        self.equations = equations
        size = len(equations.values)
        self.broken = []
        root, offset = np.arange(size), np.zeros(size)
        rows = list(equations.rows)
        if merge:
            root, offset = self._merge_all(equations.merges, size)
        else:
            rows += [
                Row(
                    "L",
                    (m.first, m.second) if m.second else (m.first,),
                    ((1.0, -1.0) if m.second else (1.0,), m.offset),
                    m.owner,
                )
                for m in equations.merges
            ]
        unknowns = np.nonzero((root == np.arange(size)) & (np.arange(size) != ZERO))[0]
        number = np.full(size, -1)
        number[unknowns] = np.arange(len(unknowns))
        self.unknown_of, self.offset, self.unknowns = number[root], offset, unknowns
        self.count = len(unknowns)
        self._group(rows)

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

    def _group(self, rows):
        """Rows by kind, and where each derivative goes in the sparse Jacobian."""
        self.groups, self.owners = [], []
        row_index, column_index = [], []
        for kind in (*WIDTHS, "L"):
            chosen = [row for row in rows if row.kind == kind]
            if not chosen:
                continue
            first = len(self.owners)
            self.owners += [row.owner for row in chosen]
            if kind == "L":
                width = max(len(row.parameters) for row in chosen)
                parameters = np.array([row.parameters + (ZERO,) * (width - len(row.parameters)) for row in chosen]).T
                factors = np.array(
                    [tuple(row.constants[0]) + (0.0,) * (width - len(row.parameters)) for row in chosen]
                ).T
                constants = (factors, np.array([row.constants[1] for row in chosen]))
            else:
                parameters = np.array([row.parameters for row in chosen]).T
                constants = np.array([row.constants for row in chosen], float).T
            self.groups.append((kind, first, parameters, constants))
            row_index.append(np.tile(np.arange(first, first + len(chosen)), len(parameters)))
            column_index.append(self.unknown_of[parameters].ravel())
        self.row_count = len(self.owners)
        rows_all = np.concatenate(row_index) if row_index else np.zeros(0, int)
        columns_all = np.concatenate(column_index) if column_index else np.zeros(0, int)
        self._kept = columns_all >= 0
        self.row_of, self.column_of = rows_all[self._kept], columns_all[self._kept]

    def start(self) -> np.ndarray:
        """The unknowns as drawn."""
        return self.equations.values[self.unknowns].copy()

    def parameters(self, x: np.ndarray) -> np.ndarray:
        """All parameters of given unknowns."""
        padded = np.append(x, 0.0)
        return padded[self.unknown_of] + self.offset

    def evaluate(self, x: np.ndarray, *, derivatives: bool = True) -> tuple[np.ndarray, Any]:
        """Residuals (rows,) and the Jacobian's entries in the order of ``row_of`` and ``column_of``."""
        values = self.parameters(x)
        residuals = np.empty(self.row_count)
        parts = []
        for kind, first, parameters, constants in self.groups:
            residual, slopes = EVALUATORS[kind](values[parameters], constants, derivatives)
            residuals[first : first + parameters.shape[1]] = residual
            if derivatives:
                parts.append(slopes.ravel())
        if not derivatives:
            return residuals, None
        entries = np.concatenate(parts)[self._kept] if parts else np.zeros(0)
        return residuals, entries

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
