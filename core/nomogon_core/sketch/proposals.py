"""What a traced sketch was probably meant to be: constraints and standard sizes, by the evidence of the trace's own
uncertainty.

Each candidate is one or two equations; how well they hold is compared with how well they would hold by chance. The best
is taken, all places are conditioned on it (a Kalman update, 1960), and the others are judged anew, so that what follows
is not asked for.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import attrs
import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.quantity.nominal import Size, nominal
from nomogon_core.sketch import edit, rows
from nomogon_core.sketch.dimensions import listed, new_dimension
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.joint import U95, Joint
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.system import by_columns

if TYPE_CHECKING:
    from nomogon_core.quantity.nominal import Nominal

MOST_CURVES = 400
GATE, PAIR_GATE = 9.0, 11.8
LEAST_SCORE, SURE = 3.5, 4.5
PASSES = 3
# Standard deviation of a place that is drawn freely, as a share of the sketch's size: common practice.
FREEHAND_SHARE = 0.007
FOLLOWS, LEAST_VARIANCE = 1e-5, 1e-15
SMOOTH = math.radians(20)
NEAR_AXES = math.radians(6)
# Log odds that two things picked at random are meant so; common practice of drawings.
PRIOR = {
    "axis": 0.0,
    "direction": -1.0,
    "radius": 1.0,
    "tangent": 1.0,
    "concentric": 0.0,
    "level": -2.2,
    "equal": -2.0,
}


@attrs.frozen
class Proposal:
    """Constraints that belong together, with their evidence.

    Attributes:
        words: what it says, of its things by name; constraints: what accepting it adds.
        sigmas: how far off it is, in standard deviations of the trace.
        score: log of the odds that it is meant.
    """

    words: str
    constraints: tuple
    sigmas: float
    score: float

    @property
    def is_sure(self) -> bool:
        """Whether it may be taken without being looked at."""
        return self.score > SURE

    @property
    def of(self) -> tuple[str, ...]:
        """Ids of the points and curves that it speaks of."""
        return tuple(dict.fromkeys(one for item in self.constraints for one in item.of))


@attrs.frozen
class _Candidate:
    kind: str
    of: tuple
    rows: tuple
    alternative: float  # log density of the residuals by chance
    prior: float


def traced_curves(sketch: Sketch) -> list[str]:
    """Ids of the curves that were traced and bound areas."""
    return [name for name, curve in sketch.curves.items() if curve.u95 is not None and not curve.construction]


def candidates_of(sketch: Sketch) -> list[Constraint]:
    """All constraints that are judged."""
    joint, names = Joint(sketch), traced_curves(sketch)
    return [Constraint(one.kind, one.of) for one in (*_on_axes(joint, names), *_pairs(joint, names))]


def propose(sketch: Sketch, scale_sigma: float = 0.0) -> list[Proposal]:
    """What a traced sketch says of what was meant, the surest first; one that was only drawn is taken as drawn freely,
    and says nothing about sizes.

    Args:
        scale_sigma: relative standard uncertainty of the picture's scale.

    Raises:
        SketchError: nothing is in it, or there is too much.
    """
    freehand = not traced_curves(sketch)
    sketch = _as_measured(sketch)
    names = traced_curves(sketch)
    if not names:
        raise SketchError("Nothing is drawn in this sketch yet, so that nothing says what was meant.")
    if len(names) > MOST_CURVES:
        raise SketchError(f"The sketch has {len(names)} traced curves; at most {MOST_CURVES} are judged together.")
    joint = Joint(sketch)
    candidates = [*_on_axes(joint, names), *_pairs(joint, names)]
    joint.seal()
    before = _own_spreads(joint, candidates)
    for row in range(joint.given):
        joint.condition(row)
    taken = _accepted(joint, candidates, before)
    found = _in_words(sketch, taken)
    if not freehand:
        found += _sizes(joint, names, taken, scale_sigma)
    return sorted(found, key=lambda one: -one.score)


def _as_measured(sketch):
    """The sketch itself, or, where nothing in it was traced, one whose curves are as uncertain as a hand draws them."""
    if traced_curves(sketch):
        return sketch
    u95 = U95 * FREEHAND_SHARE * sketch.size()
    return attrs.evolve(sketch, curves={name: attrs.evolve(one, u95=u95) for name, one in sketch.curves.items()})


def _lines(sketch, names):
    return [name for name in names if sketch.curves[name].kind == "line"]


def _round_ones(sketch, names):
    return [name for name in names if sketch.curves[name].kind in ("arc", "circle")]


def _run(joint, name):
    return joint.equations._places(joint.sketch.curves[name].points[:2])


def _length(joint, name):
    a, b = (joint.sketch.points[point] for point in joint.sketch.curves[name].points[:2])
    return math.dist(a, b) / joint.size


def _angle(joint, name):
    a, b = (joint.sketch.points[point] for point in joint.sketch.curves[name].points[:2])
    return math.atan2(b[1] - a[1], b[0] - a[0])


def _on_axes(joint, names):
    for name in _lines(joint.sketch, names):
        angle = math.remainder(_angle(joint, name), math.pi)
        for kind, axis, off in (
            ("horizontal", 1, angle),
            ("vertical", 0, math.remainder(angle - math.pi / 2, math.pi)),
        ):
            if abs(off) < NEAR_AXES:
                at = _run(joint, name)
                row = joint.row(rows.linear, (at[axis], at[axis + 2], 0, 0), 1.0, -1.0, 0.0, 0.0, 0.0)
                chance = -math.log(math.pi / 2 * _length(joint, name))
                yield _Candidate(kind, (name,), (row,), chance, PRIOR["axis"])


def _pairs(joint, names):
    sketch = joint.sketch
    lines, round_ones = _lines(sketch, names), _round_ones(sketch, names)
    for index, one in enumerate(lines):
        for other in lines[index + 1 :]:
            turn = _angle(joint, other) - _angle(joint, one)
            quarter = round(turn / (math.pi / 2))
            if abs(turn - quarter * math.pi / 2) < NEAR_AXES:
                row = joint.row(rows.angle, (*_run(joint, one), *_run(joint, other)), quarter * math.pi / 2)
                kind = "perpendicular" if quarter % 2 else "parallel"
                yield _Candidate(kind, (one, other), (row,), -math.log(math.pi / 2), PRIOR["direction"])
            longer = max(_length(joint, one), _length(joint, other))
            if abs(_length(joint, one) - _length(joint, other)) < 0.05 * longer:
                row = joint.row(rows.equal_runs, (*_run(joint, one), *_run(joint, other)))
                yield _Candidate("equal", (one, other), (row,), -math.log(longer), PRIOR["equal"])
    yield from _of_round_ones(joint, round_ones)
    yield from _joints(joint, names)


def _of_round_ones(joint, round_ones):
    sketch, eq = joint.sketch, joint.equations
    for index, one in enumerate(round_ones):
        for other in round_ones[index + 1 :]:
            first, second = eq.radius_at[one], eq.radius_at[other]
            larger = max(joint.x[first], joint.x[second])
            if abs(joint.x[first] - joint.x[second]) < 0.15 * larger:
                row = joint.row(rows.linear, (first, second, 0, 0), 1.0, -1.0, 0.0, 0.0, 0.0)
                yield _Candidate("equal", (one, other), (row,), -math.log(larger), PRIOR["radius"])
            centers = [sketch.curves[name].points[0] for name in (one, other)]
            if centers[0] == centers[1]:
                continue
            at = eq._places(centers)
            apart = math.dist(*(sketch.points[center] for center in centers)) / joint.size
            pair = [joint.row(rows.linear, (at[axis], at[axis + 2], 0, 0), 1.0, -1.0, 0.0, 0.0, 0.0) for axis in (0, 1)]
            if apart < 0.1:
                # By chance another centre lies anywhere within the larger of both circles, or about there.
                yield _Candidate("concentric", (one, other), tuple(pair), -2 * math.log(larger), PRIOR["concentric"])
            for kind, row, off in (("vertical", pair[0], 0), ("horizontal", pair[1], 1)):
                if abs(joint.x[at[off]] - joint.x[at[off + 2]]) < 0.02:
                    yield _Candidate(kind, tuple(centers), (row,), 0.0, PRIOR["level"])


def _joints(joint, names):
    """Curves that go on into each other nearly smoothly."""
    sketch, eq = joint.sketch, joint.equations
    tied = {frozenset(item.of) for item in sketch.constraints.values() if item.kind in ("tangent", "smooth")}
    at: dict[str, list[str]] = {}
    for name in names:
        for point in sketch.curves[name].end_points():
            at.setdefault(point, []).append(name)
    for there in at.values():
        if len(there) != 2 or frozenset(there) in tied:
            continue
        kinds = {sketch.curves[name].kind for name in there}
        if kinds == {"line"}:
            continue
        trial = Equations(attrs.evolve(sketch, constraints={"new": Constraint("tangent", tuple(there))}))
        kind, parameters, constants = trial.kinds[-1], trial.parameters[-1], trial.constants[-1]
        row = joint._add(kind, parameters, constants)
        residual, _ = _single(joint, kind, parameters, constants, eq.values)
        if abs(residual) < SMOOTH:
            yield _Candidate("tangent", tuple(there), (row,), -math.log(math.pi), PRIOR["tangent"])


def _single(joint, kind, parameters, constants, values):
    width = rows.KINDS[kind][1]
    residual, entries, told = np.empty(1), np.empty(width), np.zeros((1, rows.MOST_CONSTANTS))
    told[0, : len(constants)] = constants
    by_columns(np.array([kind]), np.array([0, width]), np.array(parameters), told, values, residual, entries)
    return float(residual[0]), entries


def _own_spreads(joint, candidates):
    """{candidate: variances of its residuals} as the estimate stands."""
    _, slopes = joint.told()
    return {one: np.diag(told).copy() for one, told in zip(candidates, _spreads_of(joint, slopes, candidates))}


def _accepted(joint, candidates, before):
    """The candidates that are taken, the best first, each as the estimate stood then: (candidate, score, sigmas).

    Args:
        before: {candidate: variances of its residuals} before anything was known to hold.
    """
    open_ones, taken = list(candidates), []
    while open_ones:
        residual, slopes = joint.told()
        best, score, far = None, LEAST_SCORE, 0.0
        going = []
        for candidate, spread in zip(open_ones, _spreads_of(joint, slopes, open_ones)):
            told = _score(candidate, residual[list(candidate.rows)], spread, before[candidate])
            if told is None:
                going.append(candidate)
                continue
            if told[0] > score:
                best, (score, far) = candidate, told
        gone = set(going)
        open_ones = [one for one in open_ones if one not in gone and one is not best]
        if best is None:
            return taken
        for row in best.rows:
            joint.condition(row)
        taken.append((best, score, far))
    return taken


def _spreads_of(joint, slopes, candidates):
    """Covariance of the residuals of each candidate, all at once."""
    if not candidates:
        return []
    chosen = np.array([row for candidate in candidates for row in candidate.rows])
    at, own = joint.at[chosen], slopes[chosen]
    pairs = joint.covariance[at[:, :, None], at[:, None, :]]
    alone = np.einsum("ia,iab,ib->i", own, pairs, own)
    told, place = [], 0
    for candidate in candidates:
        if len(candidate.rows) == 1:
            told.append(np.array([[alone[place]]]))
        else:
            cross = own[place] @ joint.covariance[np.ix_(at[place], at[place + 1])] @ own[place + 1]
            told.append(np.array([[alone[place], cross], [cross, alone[place + 1]]]))
        place += len(candidate.rows)
    return told


def _score(candidate, residual, spread, before):
    """(log odds, sigmas) of a candidate; None where it follows already, or does not hold."""
    own = np.diag(spread)
    fresh = own > np.maximum(FOLLOWS * before, LEAST_VARIANCE)
    if not fresh.any():
        return None
    if len(residual) == 2 and fresh.all() and np.linalg.det(spread) > 1e-6 * own[0] * own[1]:
        far = float(residual @ np.linalg.solve(spread, residual))
        if far > PAIR_GATE:
            return None
        volume = 0.5 * math.log(np.linalg.det(spread)) + math.log(2 * math.pi)
        return -far / 2 - volume - candidate.alternative + candidate.prior, math.sqrt(far / 2)
    index = int(np.argmax(np.where(fresh, own, 0)))
    far = float((residual**2 / np.maximum(own, np.maximum(FOLLOWS * before, LEAST_VARIANCE))).max())
    if far > GATE:
        return None
    density = -far / 2 - 0.5 * math.log(2 * math.pi * own[index])
    return density - candidate.alternative / len(residual) + candidate.prior, math.sqrt(far)


def _called(sketch, name):
    if name in sketch.points:
        return f"centre {name[1:]}"
    return f"{sketch.curves[name].kind} {name[1:]}"


def _in_words(sketch, taken):
    """Proposals of what was taken: what is equal or runs alike in one, all else by itself."""
    groups: dict[tuple, list] = {}
    for candidate, score, far in taken:
        key = (candidate.kind, candidate.of)
        if candidate.kind == "equal":
            found = next((one for one in groups if one[0] == "equal" and set(one[1]) & set(candidate.of)), None)
            key = found or key
            members = groups.pop(found, []) if found else []
            groups["equal", tuple(dict.fromkeys((*key[1], *candidate.of)))] = [*members, (candidate, score, far)]
        else:
            groups[key] = [(candidate, score, far)]
    told = []
    for (kind, of), members in groups.items():
        constraints = tuple(Constraint(one.kind, one.of, source="traced") for one, _, _ in members)
        names = [_called(sketch, name) for name in of]
        words = _words(sketch, kind, names, of)
        told.append(
            Proposal(words, constraints, max(far for _, _, far in members), min(score for _, score, _ in members))
        )
    return told


def _words(sketch, kind, names, of):
    first = names[0].capitalize()
    if kind in ("horizontal", "vertical"):
        way = "level" if kind == "horizontal" else "upright"
        if len(of) == 1:
            return f"{first} {way}"
        beside = "beside each other" if kind == "horizontal" else "above each other"
        return f"The centres {listed([name.removeprefix('centre ') for name in names])} {beside}"
    if kind == "equal":
        radius = sketch.curves[of[0]].radius
        return f"{listed([first, *names[1:]])} equal{f', R {radius:.2f}' if radius else ''}"
    if kind in ("parallel", "perpendicular"):
        return f"{first} {kind} to {names[1]}"
    if kind == "tangent":
        return f"{first} goes on smoothly into {names[1]}"
    return f"{first} {kind} with {names[1]}"


def _sizes(joint, names, taken, scale_sigma):
    """Standard sizes of circles, arcs and the lengths of lines, one of each class of equal ones."""
    sketch = joint.sketch
    follow: dict[str, str] = {}
    for item in (*sketch.constraints.values(), *(candidate for candidate, _, _ in taken)):
        if item.kind == "equal":
            one, other = (_root(follow, name) for name in item.of)
            follow |= {other: one} if other != one else {}
    sized = {
        tuple(_root(follow, one) for one in item.of)
        for item in sketch.constraints.values()
        if item.is_dimension and item.driving
    }
    measured: list[tuple[str, tuple[str, ...], Size]] = []
    for name in names:
        curve = sketch.curves[name]
        if _root(follow, name) != name or (name,) in sized:
            continue
        if curve.kind in ("circle", "arc"):
            at = joint.equations.radius_at[name]
            kind, factor = ("diameter", 2.0) if curve.kind == "circle" else ("radius", 1.0)
            value, sigma = joint.x[at], math.sqrt(max(joint.covariance[at, at], 1e-30))
            size = Size(factor * value * joint.size, factor * sigma * joint.size, curve.kind == "circle")
            measured.append((kind, (name,), size))
    measured += _offsets(joint, names, taken)
    told = nominal([size for _, _, size in measured], max(scale_sigma, 1e-5))
    return [_sized(sketch, kind, of, size, found) for (kind, of, size), found in zip(measured, told) if found]


def _offsets(joint, names, taken):
    """Distances from the longest line of each of the part's two main directions to what is parallel to it, and to the
    centres of circles: (kind, of, size)."""
    sketch = joint.sketch
    family = _families(sketch, names, taken)
    circles = [name for name in names if sketch.curves[name].kind == "circle"]
    centers = list(dict.fromkeys(sketch.curves[name].points[0] for name in circles))
    told = []
    for direction in (0, 1):
        alike = [name for name, way in family.items() if way == direction]
        if not alike:
            continue
        datum = max(alike, key=lambda name: _length(joint, name))
        for other in [*(name for name in alike if name != datum), *centers]:
            point = other if other in sketch.points else sketch.curves[other].points[0]
            at = (*_run(joint, datum), *joint.equations._places((point,)), 0)
            off, slopes = _single(joint, rows.NUMBER_OF[rows.point_line], at, (0.0, 0.0), joint.x)
            spread = float(slopes @ joint.covariance[np.ix_(at, at)] @ slopes)
            if abs(off) > 10 * math.sqrt(max(spread, 0.0)) and spread > 0:
                size = Size(abs(off) * joint.size, math.sqrt(spread) * joint.size)
                told.append(("distance", (other, datum) if other in sketch.points else (datum, other), size))
    return told


def _families(sketch, names, taken):
    """{line: 0 or 1} of the lines that run along the two main directions, square to each other, of most of them."""
    ties: dict[str, list[tuple[str, int]]] = {}
    told = [(one.kind, one.of) for one, _, _ in taken] + [(one.kind, one.of) for one in sketch.constraints.values()]
    for kind, of in told:
        pair = of if kind in ("parallel", "perpendicular") else (of[0], "level") if len(of) == 1 else None
        if pair is None or kind not in ("parallel", "perpendicular", "horizontal", "vertical"):
            continue
        turn = int(kind in ("perpendicular", "vertical"))
        ties.setdefault(pair[0], []).append((pair[1], turn))
        ties.setdefault(pair[1], []).append((pair[0], turn))
    best: dict[str, int] = {}
    seen: set[str] = set()
    for start in ties:
        if start in seen:
            continue
        family, waiting = {start: 0}, [start]
        while waiting:
            here = waiting.pop()
            for other, turn in ties[here]:
                if other not in family:
                    family[other] = (family[here] + turn) % 2
                    waiting.append(other)
        seen |= family.keys()
        if len(family) > len(best):
            best = family
    lines = set(_lines(sketch, names))
    return {name: way for name, way in best.items() if name in lines}


def _root(follow, name):
    while name in follow:
        name = follow[name]
    return name


def _sized(sketch: Sketch, kind: str, of: tuple[str, ...], size: Size, found: Nominal) -> Proposal:
    item = attrs.evolve(new_dimension(sketch, kind, of), value=found.value, typed=found.typed)
    sign = {"diameter": "Ø", "radius": "R"}.get(kind, "at")
    what, *datum = [_called(sketch, name) for name in (of if of[0] in sketch.points else of[::-1])]
    words = f"{what[0].upper()}{what[1:]} {sign} {found.typed.removesuffix(' mm')}"
    words += f" from {datum[0]}, reads {size.value:.2f}" if datum else f", reads {size.value:.2f}"
    words += f"; {found.words}" if found.words else ""
    far = abs(size.value - found.value) / size.sigma
    odds = math.log(max(found.probability, 1e-9) / max(1 - found.probability, 1e-9))
    return Proposal(words, (item,), far, odds)


def conditioned(sketch: Sketch, constraints: list[Constraint]) -> Sketch:
    """The sketch at the places that are likeliest, given that some constraints hold; these are not added.

    Residuals that are left are for the solver.
    """
    wanted = sketch
    for item in constraints:
        wanted, _ = edit.add_constraint(wanted, item)
    joint = Joint(_as_measured(wanted))
    joint.seal()
    covariance, first = joint.covariance.copy(), joint.x.copy()
    for _ in range(PASSES):
        # Each pass begins at the measured places again, with the slopes of where the last one ended.
        residual, slopes = joint.told()
        jacobian = np.zeros((len(residual), len(first)))
        np.add.at(jacobian, (np.arange(len(residual))[:, None], joint.at), slopes)
        sizes = np.sqrt(np.einsum("ij,jk,ik->i", jacobian, covariance, jacobian))
        kept = sizes > 1e-12
        scaled = jacobian[kept] / sizes[kept, None]
        aim = (residual[kept] + jacobian[kept] @ (first - joint.x)) / sizes[kept]
        square = scaled @ covariance @ scaled.T + 1e-9 * np.eye(len(scaled))
        joint.x = first - covariance @ scaled.T @ np.linalg.solve(square, aim)
    return _placed(joint, sketch)


def _placed(joint, sketch):
    """A sketch at the places of an estimate."""
    eq = joint.equations
    points = {name: tuple((joint.x[at : at + 2] * eq.scale + eq.center).tolist()) for name, at in eq.point_at.items()}
    curves = dict(sketch.curves)
    for name, at in eq.radius_at.items():
        curves[name] = attrs.evolve(curves[name], radius=float(max(joint.x[at] * eq.scale, 1e-6)))
    return attrs.evolve(sketch, points=points, curves=curves)


def with_proposals(sketch: Sketch, chosen: list[Proposal]) -> Sketch:
    """The sketch with the constraints of some proposals; nothing is solved, and names of dimensions are made free."""
    for proposal in chosen:
        for item in proposal.constraints:
            named = (
                attrs.evolve(item, name=new_dimension(sketch, item.kind, item.of).name) if item.is_dimension else item
            )
            sketch, _ = edit.add_constraint(sketch, named)
    return sketch
