"""Curves of a sketch that follow one another."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from nomogon_core.errors import SketchError
from nomogon_core.geometry.curves import closed_area, reverse
from nomogon_core.sketch.model import CLOSED

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch


def chains(sketch: Sketch, names: list[str], *, meeting: bool = False) -> list[tuple[list[str], bool]]:
    """Chosen curves as chains: (ids in order, whether the last ends where the first begins).

    Args:
        meeting: chains may meet in a point, in which they end.

    Raises:
        SketchError: a curve is not in the sketch, or more than two of the chosen meet at a point where they may not.
    """
    at: dict[str, list[str]] = {}
    for name in dict.fromkeys(names):
        for point in sketch.curve(name).end_points():
            at.setdefault(point, []).append(name)
    crowded = [point for point, there in at.items() if len(there) > 2]
    if meeting:
        at |= {point: [] for point in crowded}
    elif crowded:
        x, y = sketch.points[crowded[0]]
        raise SketchError(
            f"More than two of the chosen curves meet at ({x:.2f}, {y:.2f}); leave out those that should not go along."
        )
    found, used = [], set()
    for name in dict.fromkeys(names):
        if name in used:
            continue
        used.add(name)
        curve = sketch.curves[name]
        if curve.kind in CLOSED:
            found.append(([name], True))
            continue
        run = [name]
        first, last = curve.end_points()
        for end, to_front in ((last, False), (first, True)):
            tip = end
            while after := next((other for other in at[tip] if other not in used), None):
                used.add(after)
                run.insert(0, after) if to_front else run.append(after)
                tip = next(point for point in sketch.curves[after].end_points() if point != tip)
            if not to_front:
                last = tip
        found.append((run, first == last and len(run) > 1))
    return found


def as_run(sketch: Sketch, run: list[str], closed: bool) -> list[Any]:
    """The curves of a chain, each run from the one before to the one after; a closed one counter-clockwise."""
    if len(run) == 1:
        return [sketch.geometry(run[0])]
    made = []
    tip = _shared(sketch, run[-1], run[0]) if closed else None
    for name in run:
        points, curve = sketch.curves[name].end_points(), sketch.geometry(name)
        if tip is None:
            tip = next(point for point in points if point not in sketch.curves[run[1]].end_points())
        made.append(curve if points[0] == tip else reverse(curve))
        tip = points[1] if points[0] == tip else points[0]
    if closed and closed_area(tuple(made)) < 0:
        made = [reverse(curve) for curve in reversed(made)]
    return made


def _shared(sketch, one, other):
    return next(point for point in sketch.curves[one].end_points() if point in sketch.curves[other].end_points())
