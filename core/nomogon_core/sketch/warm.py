"""Compiles the numeric inner loops into their cache: ``python -m nomogon_core.sketch.warm``."""

from __future__ import annotations

from nomogon_core.sketch import edit
from nomogon_core.sketch.model import Constraint, Sketch
from nomogon_core.sketch.solve import Grab, freedom, solve
from nomogon_core.trace import warm


def solver() -> None:
    """Solve, drag and tell of a small sketch, so that every loop of the solver is compiled, or read from the cache."""
    sketch, first = edit.add_line(Sketch(), (0, 0), (10, 1))
    sketch, second = edit.add_line(sketch, sketch.curves[first].points[1], (12, 8))
    for constraint in (Constraint("perpendicular", (first, second)), Constraint("equal", (first, second))):
        sketch, _ = edit.add_constraint(sketch, constraint)
    sketch = solve(sketch).sketch
    freedom(sketch)
    Grab(sketch, [sketch.curves[second].points[1]]).move((1.0, 0.5), None)


if __name__ == "__main__":
    warm.main()
    solver()
