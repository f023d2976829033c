"""How true proposals are: made-up parts with known truth, traced with noise."""

import time

import attrs
import numpy as np

from benchmarks.meant_parts import meant_part
from nomogon_core.sketch import edit
from nomogon_core.sketch import proposals as own
from nomogon_core.sketch.dimensions import measure
from nomogon_core.sketch.equations import Equations
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.solve import solve
from nomogon_core.sketch.system import System

PARTS, SIGMA_MM, SCALE_SIGMA = 40, 0.02, 5e-4
HOLDS, DEPENDENT = 1e-6, 1e-7
U95 = 1.96 * SIGMA_MM


def true_sketch(outlines):
    """A sketch of exact outlines as if traced, its smooth joints tied."""
    sketch = Sketch()
    for outline in outlines:
        sketch, _, joints = edit.add_outline(sketch, outline, [U95] * len(outline), origin="t1")
        for constraint in edit.smooth_joints(sketch, joints):
            sketch, _ = edit.add_constraint(sketch, constraint)
    return sketch


def traced(truth, random):
    """The sketch as a trace would give it: every place and radius off by its own noise, all by one scale."""
    scale = 1 + random.normal(0, SCALE_SIGMA)
    points = {
        name: tuple((scale * np.array(place) + random.normal(0, SIGMA_MM, 2)).tolist())
        for name, place in truth.points.items()
    }
    curves = {
        name: attrs.evolve(curve, radius=float(scale * curve.radius + random.normal(0, SIGMA_MM)))
        if curve.radius
        else curve
        for name, curve in truth.curves.items()
    }
    return solve(attrs.evolve(truth, points=points, curves=curves)).sketch


def holds(truth, item):
    """Whether a constraint is so in the part as it is meant."""
    if item.is_dimension:
        return abs(measure(truth, item.kind, item.of) - item.value) < HOLDS
    trial, name = edit.add_constraint(attrs.evolve(truth, constraints={}), item)
    system = System(Equations(trial), merge=False)
    mine = np.array(system.owners) == name
    return bool(np.abs(system.evaluate(system.start())[0][mine]).max() < HOLDS)


def _rank(truth, items):
    """Rank of what the part is tied by and some constraints more, at the truth."""
    sketch = attrs.evolve(truth, next_number=10**6)
    for item in items:
        sketch, _ = edit.add_constraint(sketch, item)
    system = System(Equations(sketch), merge=False)
    jacobian = np.zeros((system.row_count, system.count))
    np.add.at(jacobian, (system.row_of, system.column_of), system.evaluate(system.start())[1])
    sizes = np.linalg.norm(jacobian, axis=1)
    return np.linalg.matrix_rank(jacobian[sizes > 1e-12] / sizes[sizes > 1e-12, None], tol=DEPENDENT)


def _sizes(sketch):
    """Lengths of lines and radii."""
    return np.array(
        [
            curve.radius or measure(sketch, "distance", (name,))
            for name, curve in sketch.curves.items()
            if curve.kind in ("line", "arc", "circle")
        ]
    )


def figures(random, make=meant_part, parts=PARTS):
    """Shares and times over random parts that ``make`` draws."""
    right = wrong = told = meant = size_right = size_wrong = 0
    before = after = 0.0
    for _ in range(parts):
        truth = true_sketch(make(random))
        sketch = traced(truth, random)
        found = [item for one in own.propose(sketch, SCALE_SIGMA) for item in one.constraints]
        good = [item for item in found if holds(truth, item)]
        right, wrong = right + len(good), wrong + len(found) - len(good)
        size_right += sum(item.is_dimension for item in good)
        size_wrong += sum(item.is_dimension for item in found) - sum(item.is_dimension for item in good)
        alone, mine, every = _rank(truth, []), _rank(truth, [one for one in good if not one.is_dimension]), 0
        possible = [Constraint(one.kind, one.of) for one in own.candidates_of(sketch)]
        every = _rank(truth, [one for one in possible if holds(truth, one)])
        told, meant = told + mine - alone, meant + every - alone
        changed = own.with_proposals(sketch, own.propose(sketch, SCALE_SIGMA))
        placed = own.conditioned(sketch, found)
        solved = solve(attrs.evolve(placed, constraints=changed.constraints, next_number=changed.next_number))
        before += float(np.square(_sizes(sketch) - _sizes(truth)).sum())
        after += float(np.square(_sizes(solved.sketch) - _sizes(truth)).sum())
    large = true_sketch([outline for _ in range(5) for outline in make(random)])
    names = list(large.curves)[:60]
    large = traced(edit.remove(large, [name for name in large.curves if name not in names]), random)
    begin = time.perf_counter()
    own.propose(large, SCALE_SIGMA)
    return {
        "precision": 100 * right / max(right + wrong, 1),
        "recall": 100 * told / max(meant, 1),
        "sizes_wrong": 100 * size_wrong / max(size_right + size_wrong, 1),
        "error_ratio": (after / before) ** 0.5,
        "seconds": time.perf_counter() - begin,
    }
