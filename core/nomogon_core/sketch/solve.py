"""Solving a sketch: smallest movement that meets all constraints, dragging, what is free, what contradicts.

Minimum-norm steps (``parts.py``); where these stall, Powell's dogleg (1970) from the drawing and from slightly moved
starts. Not solving is a status, not an exception.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import attrs
import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.model import Sketch, with_radius
from nomogon_core.sketch.parts import MOST_ITERATIONS, MOTIONS, TOLERANCE, Part, Pulling
from nomogon_core.sketch.system import System

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Curve

# Moves that are no more than rounding, as a share of the sketch's size.
ROUNDING = 1e-11
MET, HELD = TOLERANCE * 100, 1e-8
# Tries from moved places are dense: of a part of more rows there is one, of still more none, so that no answer hangs.
RESTARTS, FEW_ROWS, MANY_ROWS = 8, 160, 400
DRAG_STEP, DRAG_STEPS, DRAG_WEIGHT, QUARTERED = 0.1, 60, 100.0, 4
LEAST_MOTION, WAY_DIGITS = 1e-6, 6
DEPENDENCE, LEAST_SHARE = 1e-6, 1e-5
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


def _dogleg(part, x, radius=0.2):
    """Powell's dogleg for one part from x (unknowns,); returns unknowns and largest residual."""

    def at(place):
        residual, entries = part.linearized(place)
        return residual, part.matrix(entries).toarray(), residual @ residual

    residual, jacobian, cost = at(x)
    for _ in range(80):
        if np.abs(residual).max(initial=0) < TOLERANCE or radius < 1e-12:
            break
        gradient = jacobian.T @ residual
        newton = -np.linalg.lstsq(jacobian, residual, rcond=1e-10)[0]
        steepest = -gradient * (gradient @ gradient) / max(np.sum((jacobian @ gradient) ** 2), 1e-300)
        step = _dogleg_step(newton, steepest, radius)
        new_residual, new_jacobian, new_cost = at(x + step)
        gain = (cost - new_cost) / max(cost - np.sum((residual + jacobian @ step) ** 2), 1e-300)
        if not np.isfinite(new_cost) or gain < 0.1:
            radius = 0.25 * min(radius, np.linalg.norm(step))
        elif gain > 0.75:
            radius = max(radius, 2 * np.linalg.norm(step))
        if np.isfinite(new_cost) and new_cost < cost:
            x, residual, jacobian, cost = x + step, new_residual, new_jacobian, new_cost
    return x, np.abs(residual).max(initial=0)


def _dogleg_step(newton, steepest, radius):
    if np.linalg.norm(newton) <= radius:
        return newton
    if np.linalg.norm(steepest) >= radius:
        return steepest * radius / np.linalg.norm(steepest)
    between = newton - steepest
    a, b, c = between @ between, 2 * steepest @ between, steepest @ steepest - radius**2
    return steepest + between * (-b + np.sqrt(max(b * b - 4 * a * c, 0))) / (2 * a)


def solve(sketch: Sketch, *, compiled: bool = True, most: int = MOST_ITERATIONS, again: bool = True) -> Solution:
    """Move a sketch as little as possible until all constraints are met.

    Args:
        compiled: by the compiled loops, or by numpy and scipy from the same rows.
        most: steps, of which each goes no farther than a quarter of the sketch's size.
        again: whether it is tried from moved places too, where the steps stall.

    Returns:
        :class:`Solution`; never raises for a sketch that cannot be solved.
    """
    equations = Equations(sketch)
    system = System(equations, compiled=compiled)
    if any(abs(off) > TOLERANCE * 10 for _, off in system.broken):
        return Solution(sketch, "unsolved", max(abs(off) for _, off in system.broken) * equations.scale, 0)
    x, restarted, worst, iterations = solved_from(system, system.start(), most, again=again)
    if worst >= MET or _collapsed(system, x):
        return Solution(sketch, "unsolved", worst * equations.scale, iterations)
    status, moved = "restarted" if restarted else "solved", _moved(equations, system, x)
    moved.keep(_solved, (equations, system, x))
    return Solution(moved, status, worst * equations.scale, iterations)


def solved_from(
    system: System, x: np.ndarray, most: int = MOST_ITERATIONS, *, again: bool = True
) -> tuple[np.ndarray, bool, float, int]:
    """Unknowns that meet all rows, from x: (unknowns, whether from moved places, largest residual, iterations)."""
    x, restarted, worst, iterations = x.copy(), False, 0.0, 0
    residual = system.evaluate(x)[0]
    for unknowns, rows in system.components():
        if np.abs(residual[rows]).max() < TOLERANCE:
            continue
        part = Part(system, unknowns, rows)
        found, left, steps = part.descend(x[unknowns], most)
        if again and (left >= MET or _collapsed(system, _with(x, unknowns, found))):
            found, left = _try_again(part, system, x)
            restarted = True
        x[unknowns] = found
        worst, iterations = max(worst, left), iterations + steps
    return x, restarted, worst, iterations


def _with(x, unknowns, found):
    changed = x.copy()
    changed[unknowns] = found
    return changed


def _try_again(part, system, x):
    random = np.random.default_rng(7)
    start = x[part.unknowns]
    best, least = start, np.inf
    tries = RESTARTS + 1 if len(part.rows) <= FEW_ROWS else int(len(part.rows) <= MANY_ROWS)
    for attempt in range(tries):
        moved = start + (random.normal(0, 0.03 * 1.4 ** (attempt - 1), len(start)) if attempt else 0.0)
        found, left = _dogleg(part, moved)
        if left < least and not _collapsed(system, _with(x, part.unknowns, found)):
            best, least = found, left
        if least < MET:
            break
    return best, least


def _collapsed(system, x):
    """Whether a line or a radius has shrunk to nothing, which meets equal lengths without meaning it."""
    values, equations, ends = system.parameters(x), system.equations, system.line_ends
    at = equations.point_at
    run = values[ends[:, 1, None] + (0, 1)] - values[ends[:, 0, None] + (0, 1)]
    radii = values[1 + 2 * len(at) :][: len(equations.radius_at)]
    return bool((np.abs(run).sum(axis=1) < SMALLEST_LENGTH).any() or (radii < SMALLEST_LENGTH).any())


def _moved(equations, system, x):
    """The sketch at given unknowns; what moved by rounding alone stays exactly where it was."""
    values, sketch = system.parameters(x), equations.sketch
    far = np.abs(values - equations.values) >= ROUNDING
    count = len(equations.point_at)
    points, curves = dict(sketch.points), dict(sketch.curves)
    index = np.flatnonzero(far[1 : 1 + 2 * count].reshape(-1, 2).any(axis=1))
    places = values[1 : 1 + 2 * count].reshape(-1, 2)[index] * equations.scale + equations.center
    points.update(zip(map(list(equations.point_at).__getitem__, index.tolist()), zip(*places.T.tolist())))
    rounds = list(equations.radius_at)
    index = np.flatnonzero(far[1 + 2 * count :][: len(rounds)])
    radii = values[1 + 2 * count :][index] * equations.scale
    for name, radius in zip(map(rounds.__getitem__, index.tolist()), radii.tolist()):
        curves[name] = with_radius(curves[name], radius)
    return Sketch(points, curves, sketch.constraints, sketch.next_number).drawn_like(sketch)


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
        free = (self.system.alone(), np.zeros(0, int))
        self.parts = [
            Part(self.system, unknowns, rows)
            for unknowns, rows in (*self.system.components(), free)
            if numbers & set(unknowns.tolist())
        ]
        self.start = self.system.start()
        self._pullings: dict[int, Pulling] = {}

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
            mine = part.unknowns
            x[mine] = self._moved_part(part, x[mine], want[mine], held[mine])
        return _moved(self.equations, self.system, x)

    def _moved_part(self, part, x, want, held):
        """Unknowns of a part as near to what is wanted as its rows let them come."""
        if not part.shape[0]:
            return np.where(held, want, x)
        weights = np.where(held, 1 / DRAG_WEIGHT, 1.0)
        pulling = self._pullings.get(id(part)) or self._pullings.setdefault(id(part), part.pulling(x, weights))
        for _ in range(DRAG_STEPS):
            pull = np.where(held, want - x, 0.0)
            share = min(1.0, DRAG_STEP / max(np.abs(pull).max(initial=0), 1e-300))
            found = self._step(pulling, pull * share)
            if found is None:
                break
            gain = np.abs(found - x).max(initial=0)
            x = found
            if share == 1.0 or gain < 1e-5:
                break
            pulling = part.pulling(x, weights)
        return x

    @staticmethod
    def _step(pulling, pull):
        """A wished step with its corrections; quartered up to three times; None when nothing holds."""
        for _ in range(QUARTERED):
            stepped = pulling.step(pull)
            if stepped is None:
                return None
            found, left = stepped
            if left < HELD:
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


def freedom(sketch: Sketch, *, compiled: bool = True) -> Freedom:
    """Degrees of freedom and where they are, from the null space of the constraints."""
    equations, system, x = sketch.give_up(_solved) or _solved(sketch, compiled=compiled)
    across, up = (system.unknown_of[axis : 1 + 2 * len(equations.point_at) : 2] for axis in (1, 2))
    degrees, motions, part_of = 0, np.zeros((system.count + 1, MOTIONS)), np.full(system.count + 1, -1)
    for number, (unknowns, rows) in enumerate(system.components()):
        independent = Part(system, unknowns, rows).independence(x[unknowns])
        free = len(unknowns) - independent.rank
        degrees, part_of[unknowns] = degrees + free, number
        if free:
            told = independent.motions()
            motions[unknowns, : told.shape[1]] = told
    own = np.square(motions).sum(axis=1)
    together = (part_of[across] == part_of[up]) & (part_of[across] >= 0)
    both = np.where(together, (motions[across] * motions[up]).sum(axis=1), 0.0)
    alone = system.alone()
    own[alone] = 1.0
    degrees += len(alone)
    radii = frozenset(name for name, at in equations.radius_at.items() if own[system.unknown_of[at]] > LEAST_MOTION**2)
    return Freedom(degrees, _ways(equations, own[across], own[up], both), radii)


def _solved(sketch, *, compiled=True):
    """(equations, system, its unknowns) of a sketch whose constraints are met."""
    equations = Equations(sketch)
    system = System(equations, compiled=compiled)
    return equations, system, system.start()


def _ways(equations, x, y, both):
    """Unit directions in which each point can move: both axes, or the one of its motions."""
    middle, half = (x + y) / 2, np.hypot((x - y) / 2, both)
    angle = np.arctan2(2 * both, x - y) / 2
    names, points = list(equations.point_at), {}
    first, second = middle + half > LEAST_MOTION**2, middle - half > LEAST_MOTION**2
    for index in np.flatnonzero(first).tolist():
        if second[index]:
            points[names[index]] = ((1.0, 0.0), (0.0, 1.0))
        else:
            way = (np.cos(angle[index]), np.sin(angle[index]))
            points[names[index]] = (tuple(round(float(one), WAY_DIGITS) + 0.0 for one in way),)
    return points


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
    x, own = system.start(), np.array([owner == name for owner in system.owners], bool)
    everything, others = np.arange(system.count), np.flatnonzero(~own)
    new = Part(system, everything, np.flatnonzero(own))
    _, entries = new.linearized(x)
    before, among = Part(system, everything, others).independence(x), set()
    for direction in new.matrix(entries).toarray():
        size = np.linalg.norm(direction)
        shares, missing = before.mix(direction / max(size, 1e-300))
        if size > 1e-12 and missing > DEPENDENCE:
            return Dependence(False, ())
        among |= {system.owners[others[index]] for index in np.flatnonzero(np.abs(shares) > LEAST_SHARE)}
    return Dependence(bool(own.any()), tuple(sorted(among & set(sketch.constraints))))
