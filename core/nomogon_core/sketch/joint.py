"""The places of a traced sketch as a joint estimate: how sure each is, and how they hang together."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from nomogon_core.sketch import rows
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.system import System, by_columns

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

U95 = 1.96
LEAST_SIGMA_SHARE = 1e-6


class Joint:
    """Joint estimate of all parameters of a sketch, with their covariance."""

    def __init__(self, sketch: Sketch) -> None:
        self.sketch = sketch
        self.equations = Equations(sketch)
        base = System(self.equations, merge=False)
        self.size = sketch.size()
        self.x = self.equations.values.copy()
        sigma = np.zeros(len(self.x))
        for name, told in _sigmas(sketch).items():
            if name in self.equations.point_at:
                at = self.equations.point_at[name]
                sigma[at] = sigma[at + 1] = told / self.size
            else:
                sigma[self.equations.radius_at[name]] = told / self.size
        self.covariance = np.diag(np.maximum(sigma, 0) ** 2)
        self.kind: Any = []
        self.at: Any = []
        self.constants: Any = []
        for row in range(base.row_count):
            first, last = base.first[row], base.first[row + 1]
            self._add(int(base.kind[row]), base.at[first:last].tolist(), base.constants[row].tolist())
        self.given, self.owners = base.row_count, list(base.owners)

    def _add(self, kind, at, constants):
        self.kind.append(kind)
        self.at.append(list(at) + [0] * (rows.WIDEST - len(at)))
        self.constants.append(list(constants) + [0.0] * (rows.MOST_CONSTANTS - len(constants)))
        return len(self.kind) - 1

    def row(self, function: Any, at: Any, *constants: float) -> int:
        """Number of a new equation."""
        return self._add(rows.NUMBER_OF[function], at, constants)

    def seal(self) -> None:
        """No equation comes in any more."""
        self.kind, self.at = np.array(self.kind, int), np.array(self.at, int).reshape(-1, rows.WIDEST)
        self.constants = np.array(self.constants, float).reshape(-1, rows.MOST_CONSTANTS)
        self.width = np.array([width for _, width, _ in rows.KINDS])[self.kind]

    def told(self, chosen: Any = None) -> tuple[np.ndarray, np.ndarray]:
        """Residuals and slopes (rows, WIDEST) of all equations, or some, as the estimate stands."""
        index = np.arange(len(self.kind)) if chosen is None else np.asarray(chosen)
        width = self.width[index]
        first = np.concatenate([[0], np.cumsum(width)])
        inside = np.arange(rows.WIDEST) < width[:, None]
        residual, entries = np.empty(len(index)), np.empty(int(first[-1]))
        by_columns(self.kind[index], first, self.at[index][inside], self.constants[index], self.x, residual, entries)
        slopes = np.zeros((len(index), rows.WIDEST))
        slopes[inside] = entries
        return residual, slopes

    def condition(self, row: int) -> None:
        """The estimate, given that an equation holds."""
        (residual,), (slopes,) = self.told([row])
        gain = self.covariance[:, self.at[row]] @ slopes
        spread = float(slopes @ gain[self.at[row]])
        if spread <= 1e-30:
            return
        self.x -= gain * (residual / spread)
        self.covariance -= np.outer(gain, gain / spread)


def _sigmas(sketch):
    """Standard uncertainty in millimetres of each traced point and radius; points drawn by hand are taken as drawn."""
    told: dict[str, list[float]] = {}
    for name, curve in sketch.curves.items():
        if curve.u95 is None:
            continue
        sigma = max(curve.u95 / U95, LEAST_SIGMA_SHARE * sketch.size())
        if curve.kind in ("arc", "circle"):
            told[name] = [sigma]
            told.setdefault(curve.points[0], []).append(math.sqrt(2) * sigma)
        for point in curve.end_points():
            told.setdefault(point, []).append(sigma)
    return {name: math.sqrt(sum(one**2 for one in several) / len(several)) for name, several in told.items()}
