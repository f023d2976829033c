"""Solving a sketch: smallest movement that meets all constraints, dragging, what is free, what contradicts.

Steps are the minimum-norm solutions of the damped normal equations J Jᵀ + λ (Levenberg 1944, Marquardt
1963); where that stalls, Powell's dogleg (1970) from the drawing and from slightly moved starts. Not
solving is a status, not an exception.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from scipy.linalg import LinAlgError, cho_factor, cho_solve
from scipy.sparse import coo_matrix, eye
from scipy.sparse.linalg import splu

from nomogon_core.errors import SketchError
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.system import System

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Curve, Sketch

# Residuals, and moves that are no more than rounding, as shares of the sketch's size.
TOLERANCE, ROUNDING = 1e-10, 1e-11
MOST_ITERATIONS = 60
LARGEST_STEP = 0.25
DENSE_ROWS = 260
RESTARTS = 8
DRAG_STEP = 0.1
DRAG_DAMPING = 1e-11
DRAG_WEIGHT = 100.0
LEAST_MOTION, UNIT_DIGITS, WAY_DIGITS = 1e-6, 12, 6
RANK_TOLERANCE = 1e-7
SMALLEST_LENGTH = 1e-7

STATUS = {
    "solved": "All constraints are met.",
    "restarted": "All constraints are met, but only after trying from moved places: "
    "look whether the shape is the one meant.",
    "unsolved": "No place near the drawing meets all constraints.",
}


@attrs.frozen
class Solution:
    """What a solve came to.

    Attributes:
        sketch: the sketch at the new places, or the one given when unsolved.
        status: a key of STATUS.
        residual_mm: largest residual left.
        iterations: steps taken.
    """

    sketch: Sketch = attrs.field(repr=False)
    status: str
    residual_mm: float
    iterations: int

    @property
    def solved(self) -> bool:
        return self.status != "unsolved"


class _Component:
    """Rows and unknowns that hang together, with dense or sparse algebra by size."""

    def __init__(self, system: System, unknowns: np.ndarray, rows: np.ndarray) -> None:
        self.system, self.unknowns, self.rows = system, unknowns, rows
        local_row, local_column = np.full(system.row_count, -1), np.full(system.count, -1)
        local_row[rows], local_column[unknowns] = np.arange(len(rows)), np.arange(len(unknowns))
        self.entries = np.nonzero(local_row[system.row_of] >= 0)[0]
        self.row, self.column = local_row[system.row_of[self.entries]], local_column[system.column_of[self.entries]]
        self.shape = (len(rows), len(unknowns))
        self.dense = len(rows) <= DENSE_ROWS

    def residuals(self, x: Any) -> Any:
        return self.system.evaluate(x, derivatives=False)[0][self.rows]

    def linearize(self, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        residuals, entries = self.system.evaluate(x)
        values = entries[self.entries]
        if self.dense:
            flat = np.bincount(
                self.row * self.shape[1] + self.column, weights=values, minlength=self.shape[0] * self.shape[1]
            )
            return residuals[self.rows], flat.reshape(self.shape)
        return residuals[self.rows], coo_matrix((values, (self.row, self.column)), shape=self.shape).tocsr()

    def factor(self, jacobian: Any, weights: np.ndarray, damping: float) -> Callable | None:
        """Function r -> -W J' (J W J' + damping)^-1 r; None when that cannot be factored."""
        if self.dense:
            weighted = jacobian * weights
            try:
                factored = cho_factor(weighted @ jacobian.T + damping * np.eye(self.shape[0]), check_finite=False)
            except LinAlgError:
                return None
            return lambda r: -weights * (jacobian.T @ cho_solve(factored, r, check_finite=False))
        square = (jacobian.multiply(weights) @ jacobian.T + damping * eye(self.shape[0])).tocsc()
        try:
            factored = splu(square, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True})
        except RuntimeError:
            return None
        return lambda r: -weights * (jacobian.T @ factored.solve(r))


def _descend(part, x):
    """Damped minimum-norm steps from x; returns unknowns, largest residual, iterations."""
    weights = np.ones(part.shape[1])
    residual, jacobian = part.linearize(x)
    cost, damping = residual @ residual, 1e-11
    for iteration in range(MOST_ITERATIONS):
        if np.abs(residual).max(initial=0) < TOLERANCE:
            return x, np.abs(residual).max(initial=0), iteration
        for _ in range(12):
            step_of = part.factor(jacobian, weights, damping)
            if step_of is None:
                damping = max(damping * 100, 1e-9)
                continue
            step = step_of(residual)
            step *= min(1.0, LARGEST_STEP / max(np.abs(step).max(initial=0), 1e-300))
            trial = x.copy()
            trial[part.unknowns] += step
            new_residual, new_jacobian = part.linearize(trial)
            new_cost = new_residual @ new_residual
            if np.isfinite(new_cost) and new_cost < cost:
                x, residual, jacobian, cost = trial, new_residual, new_jacobian, new_cost
                damping = max(damping / 30, 1e-11)
                break
            damping = max(damping * 30, 1e-7)
        else:
            break
    return x, np.abs(residual).max(initial=0), iteration + 1


def _dogleg(part, x, radius=0.2):
    """Powell's dogleg for one component; returns unknowns and largest residual."""
    residual, jacobian = part.linearize(x)
    jacobian = jacobian if part.dense else jacobian.toarray()
    cost = residual @ residual
    for _ in range(80):
        if np.abs(residual).max(initial=0) < TOLERANCE or radius < 1e-12:
            break
        gradient = jacobian.T @ residual
        newton = -np.linalg.lstsq(jacobian, residual, rcond=1e-10)[0]
        steepest = -gradient * (gradient @ gradient) / max(np.sum((jacobian @ gradient) ** 2), 1e-300)
        step = _dogleg_step(newton, steepest, radius)
        trial = x.copy()
        trial[part.unknowns] += step
        new_residual, new_jacobian = part.linearize(trial)
        new_cost = new_residual @ new_residual
        gain = (cost - new_cost) / max(cost - np.sum((residual + jacobian @ step) ** 2), 1e-300)
        if not np.isfinite(new_cost) or gain < 0.1:
            radius = 0.25 * min(radius, np.linalg.norm(step))
        elif gain > 0.75:
            radius = max(radius, 2 * np.linalg.norm(step))
        if np.isfinite(new_cost) and new_cost < cost:
            x, residual, cost = trial, new_residual, new_cost
            jacobian = new_jacobian if part.dense else new_jacobian.toarray()
    return x, np.abs(residual).max(initial=0)


def _dogleg_step(newton, steepest, radius):
    if np.linalg.norm(newton) <= radius:
        return newton
    if np.linalg.norm(steepest) >= radius:
        return steepest * radius / np.linalg.norm(steepest)
    between = newton - steepest
    a, b, c = between @ between, 2 * steepest @ between, steepest @ steepest - radius**2
    return steepest + between * (-b + np.sqrt(max(b * b - 4 * a * c, 0))) / (2 * a)


def solve(sketch: Sketch) -> Solution:
    """Move a sketch as little as possible until all constraints are met.

    Returns:
        :class:`Solution`; never raises for a sketch that cannot be solved.
    """
    equations = Equations(sketch)
    system = System(equations)
    if any(abs(off) > TOLERANCE * 10 for _, off in system.broken):
        return Solution(sketch, "unsolved", max(abs(off) for _, off in system.broken) * equations.scale, 0)
    x, status, worst, iterations = system.start(), "solved", 0.0, 0
    residual = system.evaluate(x, derivatives=False)[0]
    for unknowns, rows in system.components():
        if np.abs(residual[rows]).max() < TOLERANCE:
            continue
        part = _Component(system, unknowns, rows)
        found, left, steps = _descend(part, x)
        if left >= TOLERANCE * 100 or _collapsed(system, found):
            found, left = _try_again(part, system, x)
            status = "restarted"
        x, worst, iterations = found, max(worst, left), iterations + steps
    if worst >= TOLERANCE * 100 or _collapsed(system, x):
        return Solution(sketch, "unsolved", worst * equations.scale, iterations)
    return Solution(_moved(equations, system, x), status, worst * equations.scale, iterations)


def _try_again(part, system, x):
    random = np.random.default_rng(7)
    best, least = x, np.inf
    for attempt in range(RESTARTS + 1):
        start = x.copy()
        if attempt:
            start[part.unknowns] += random.normal(0, 0.03 * 1.4 ** (attempt - 1), len(part.unknowns))
        found, left = _dogleg(part, start)
        if left < least and not _collapsed(system, found):
            best, least = found, left
        if least < TOLERANCE * 100:
            break
    return best, least


def _collapsed(system, x):
    """Whether a line or a radius has shrunk to nothing, which meets equal lengths without meaning it."""
    values, equations = system.parameters(x), system.equations
    at, lines = equations.point_at, (curve for curve in equations.sketch.curves.values() if curve.kind == "line")
    ends = np.array([[at[point] for point in curve.points] for curve in lines], int).reshape(-1, 2)
    run = values[ends[:, 1, None] + (0, 1)] - values[ends[:, 0, None] + (0, 1)]
    radii = values[len(values) - len(equations.radius_at) :]
    return bool((np.abs(run).sum(axis=1) < SMALLEST_LENGTH).any() or (radii < SMALLEST_LENGTH).any())


def _moved(equations, system, x):
    """The sketch at given unknowns; what moved by rounding alone stays exactly where it was."""
    values, sketch, scale = system.parameters(x), equations.sketch, equations.scale
    far = np.abs(values - equations.values) >= ROUNDING
    count = len(equations.point_at)
    names, points = list(equations.point_at), dict(sketch.points)
    for index in np.flatnonzero(far[1 : 1 + 2 * count].reshape(-1, 2).any(axis=1)):
        at = 1 + 2 * index
        points[names[index]] = tuple((values[at : at + 2] * scale + equations.center).tolist())
    rounds, curves = list(equations.radius_at), dict(sketch.curves)
    for index in np.flatnonzero(far[1 + 2 * count :]):
        radius = float(values[1 + 2 * count + index] * scale)
        curves[rounds[index]] = attrs.evolve(curves[rounds[index]], radius=radius)
    return attrs.evolve(sketch, points=points, curves=curves)


class Grab:
    """A drag in progress: the sketch as it was taken hold of, ready to be moved many times.

    Every move starts from the state at the grab, so that a way out and back ends where it began.
    """

    def __init__(self, sketch: Sketch, held: list[str]) -> None:
        """Args:
            held: ids of the points that follow the pointer, or of one circle or arc whose radius does.

        Raises:
            SketchError: nothing of that name is in the sketch.
        """
        self.equations = Equations(sketch)
        self.system = System(self.equations)
        self.held_points = [name for name in held if name in self.equations.point_at]
        self.held_round = next((name for name in held if name in self.equations.radius_at), None)
        if not self.held_points and self.held_round is None:
            raise SketchError("What was taken hold of is not in the sketch any more.")
        at = [self.equations.point_at[name] + axis for name in self.held_points for axis in (0, 1)]
        if not self.held_points:
            at = [self.equations.radius_at[self.held_round]]
        numbers = {int(self.system.unknown_of[index]) for index in at} - {-1}
        self.parts = [
            _Component(self.system, unknowns, rows)
            for unknowns, rows in (*self.system.components(), (self.system.alone(), np.zeros(0, int)))
            if numbers & set(unknowns.tolist())
        ]
        self.start = self.system.start()

    def _target(self, offset, place):
        """Unknowns as the pointer wants them, and which of them it holds."""
        want, held = self.start.copy(), np.zeros(len(self.start), bool)
        if self.held_points:
            for name in self.held_points:
                at = self.equations.point_at[name]
                for axis in (0, 1):
                    number = self.system.unknown_of[at + axis]
                    if number >= 0:
                        want[number] = self.start[number] + offset[axis] / self.equations.scale
                        held[number] = True
        else:
            number = self.system.unknown_of[self.equations.radius_at[self.held_round]]
            center = self.equations.sketch.points[self.equations.sketch.curves[self.held_round].points[0]]
            if number >= 0:
                wanted = np.hypot(place[0] - center[0], place[1] - center[1]) / self.equations.scale
                want[number] = max(wanted, 1e-4)
                held[number] = True
        return want, held

    def move(self, offset: tuple[float, float], place: tuple[float, float] | None) -> Sketch:
        """The sketch with the held parts moved by ``offset`` (mm) as far as constraints let them.

        Args:
            offset: pointer now minus pointer at the grab.
            place: pointer now.
        """
        want, held = self._target(offset, place)
        x = self.start.copy()
        for part in self.parts:
            x = self._move_part(part, x, want, held)
        return _moved(self.equations, self.system, x)

    def _move_part(self, part, x, want, held):
        if not part.shape[0]:
            x = x.copy()
            x[part.unknowns] = np.where(held[part.unknowns], want[part.unknowns], x[part.unknowns])
            return x
        weights = np.where(held[part.unknowns], 1 / DRAG_WEIGHT, 1.0)
        for _ in range(60):
            pull = np.where(held[part.unknowns], want[part.unknowns] - x[part.unknowns], 0.0)
            far = np.abs(pull).max(initial=0)
            share = min(1.0, DRAG_STEP / max(far, 1e-300))
            moved = self._try_step(part, x, pull * share, weights)
            if moved is None:
                break
            gain = np.abs(moved - x).max(initial=0)
            x = moved
            if share == 1.0 or gain < 1e-5:
                break
        return x

    @staticmethod
    def _try_step(part, x, pull, weights):
        """One capped step and its corrections; quartered up to three times; None when nothing holds."""
        for _ in range(4):
            residual, jacobian = part.linearize(x)
            step_of = part.factor(jacobian, weights, DRAG_DAMPING)
            if step_of is None:
                return None
            trial = x.copy()
            trial[part.unknowns] += pull + step_of(residual + jacobian @ pull)
            found, left, _ = _descend(part, trial)
            if left < 1e-8:
                return found
            pull = pull / 4
        return None


@attrs.frozen
class Freedom:
    """What can still move.

    Attributes:
        degrees: number of degrees of freedom.
        points: for each point that can move, one or two unit directions in which it can.
        radii: ids of curves whose radius is free.
    """

    degrees: int
    points: dict
    radii: frozenset

    def curve_is_free(self, curve_name: str, curve: Curve) -> bool:
        return curve_name in self.radii or any(point in self.points for point in curve.points)


def freedom(sketch: Sketch) -> Freedom:
    """Degrees of freedom and where they are, from the null space of the constraints (rank by singular values)."""
    equations = Equations(sketch)
    system = System(equations)
    x = system.start()
    _, entries = system.evaluate(x)
    degrees, group, place, motions = 0, np.full(len(x) + 1, -1), np.zeros(len(x), int), []
    for unknowns, rows in system.components():
        jacobian = np.zeros((len(rows), len(unknowns)))
        part = _Component(system, unknowns, rows)
        np.add.at(jacobian, (part.row, part.column), entries[part.entries])
        null = _null_space(jacobian)
        degrees += null.shape[1]
        group[unknowns], place[unknowns] = len(motions), np.arange(len(unknowns))
        motions.append((unknowns, null))
    own, both = _sizes(system, equations, group, place, motions)
    alone = system.alone()
    own[alone] = 1.0
    degrees += len(alone)
    radii = frozenset(name for name, at in equations.radius_at.items() if own[system.unknown_of[at]] > LEAST_MOTION**2)
    return Freedom(degrees, _ways(equations, system, own, both), radii)


def _sizes(system, equations, group, place, motions):
    """Summed over the null vectors: (squared motion of each unknown, and last a 0 for what is fixed; the product of the
    motions of both coordinates of each point)."""
    own, both = np.zeros(len(group)), np.zeros(len(equations.point_at))
    across = system.unknown_of[1 : 1 + 2 * len(both) : 2]
    up = system.unknown_of[2 : 2 + 2 * len(both) : 2]
    together = (across >= 0) & (up >= 0) & (group[across] == group[up]) & (group[across] >= 0)
    points = np.flatnonzero(together)
    points = points[np.argsort(group[across[points]], kind="stable")]
    bounds = np.searchsorted(group[across[points]], np.arange(len(motions) + 1))
    for number, (unknowns, null) in enumerate(motions):
        own[unknowns] = np.square(null).sum(axis=1)
        mine = points[bounds[number] : bounds[number + 1]]
        both[mine] = (null[place[across[mine]]] * null[place[up[mine]]]).sum(axis=1)
    return own, both


def _ways(equations, system, own, both):
    """Unit directions in which each point can move: the axes of the ellipse of its motions, in closed form."""
    count = len(both)
    x, y = own[system.unknown_of[1 : 1 + 2 * count : 2]], own[system.unknown_of[2 : 2 + 2 * count : 2]]
    middle, half = (x + y) / 2, np.hypot((x - y) / 2, both)
    angle = np.arctan2(2 * both, x - y) / 2
    names, points = list(equations.point_at), {}
    first, second = middle + half > LEAST_MOTION**2, middle - half > LEAST_MOTION**2
    free = np.flatnonzero(first)
    cos, sin = (way(angle[free]).round(WAY_DIGITS).tolist() for way in (np.cos, np.sin))
    for index, c, s, two in zip(free.tolist(), cos, sin, second[free].tolist()):
        points[names[index]] = ((c, s), (-s, c)) if two else ((c, s),)
    return points


def _null_space(jacobian):
    """Orthonormal columns that span what a matrix takes to 0; kept, since an edit leaves most parts of a sketch as they
    are but for its scale, which rows of length 1 do not show."""
    sizes = np.linalg.norm(jacobian, axis=1, keepdims=True)
    unit = np.round(jacobian / np.where(sizes > 0, sizes, 1), UNIT_DIGITS) + 0.0
    return _null_space_of(unit.shape, unit.tobytes())


@lru_cache(maxsize=512)
def _null_space_of(shape, data):
    _, strength, right = np.linalg.svd(np.frombuffer(data).reshape(shape), full_matrices=True)
    rank = int((strength > RANK_TOLERANCE * max(1.0, strength[0])).sum()) if len(strength) else 0
    return right[rank:].T.copy()


@attrs.frozen
class Dependence:
    """How a new constraint stands to those before it.

    Attributes:
        dependent: it says something about what the others already determine.
        among: ids of the smallest set of others that determine it.
    """

    dependent: bool
    among: tuple


def dependence(sketch: Sketch, name: str) -> Dependence:
    """Whether constraint ``name`` follows from the others at the sketch's present places, and from which."""
    system = System(Equations(sketch), merge=False)
    _, entries = system.evaluate(system.start())
    jacobian = np.zeros((system.row_count, system.count))
    np.add.at(jacobian, (system.row_of, system.column_of), entries)
    sizes = np.linalg.norm(jacobian, axis=1, keepdims=True)
    jacobian /= np.where(sizes > 1e-12, sizes, 1)
    own = np.array([owner == name for owner in system.owners])
    others = jacobian[~own]
    other_owners = [owner for owner in system.owners if owner != name]
    among = set()
    for row in jacobian[own]:
        mix, *_ = np.linalg.lstsq(others.T, row, rcond=1e-9)
        if np.abs(others.T @ mix - row).max(initial=0) > RANK_TOLERANCE * 10:
            return Dependence(False, ())
        among |= {other_owners[index] for index in np.nonzero(np.abs(mix) > 1e-5)[0]}
    return Dependence(bool(own.any()), tuple(sorted(among & set(sketch.constraints))))
