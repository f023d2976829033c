"""Lines drawn past one another made one closed outline in one go."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.errors import SketchError
from nomogon_core.geometry.crossings import at, crossings, part, span
from nomogon_core.geometry.curves import length
from nomogon_core.sentence import Declaration
from nomogon_core.sketch import edit
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import Curves
from nomogon_core.sketch.dimensions import in_words, refreshed
from nomogon_core.sketch.solve import solve
from nomogon_core.sketch.trim import curve_like

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 7
MOST_LINES = 24
KINDS = ("line", "arc")
ABOUT_LENGTH = ("distance", "across", "up", "equal", "midpoint", "arc length")


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    names = list(dict.fromkeys(filled["curves"]))
    if any(sketch.curve(name).kind not in KINDS for name in names):
        raise SketchError("Close up goes with lines and arcs; leave out the other curves.")
    if not 2 <= len(names) <= MOST_LINES:
        raise SketchError(f"Close up goes with 2 to {MOST_LINES} lines; {len(names)} are chosen.")
    meetings = _meetings(sketch, names)
    for name in names:
        if len({other for other, _ in meetings[name]}) < (1 if len(names) == 2 else 2):
            raise SketchError(
                f"{sketch.curves[name].kind.capitalize()} {name[1:]} crosses fewer than two of the others, so it can "
                "be no side of a closed outline. Draw it longer, or leave it out."
            )
    round_trip = _least_lost(sketch, names, meetings)
    if round_trip is None:
        raise SketchError(
            "There is no way round that takes each of these lines once from crossing to crossing. Draw longer those "
            "that fall short, or leave some out."
        )
    return _cut_to(sketch, *round_trip)


def _meetings(sketch, names):
    """{curve: [(other, parameter on the curve)]} of all crossings among some curves."""
    found: dict[str, list] = {name: [] for name in names}
    for name in names:
        for other in names:
            if other != name:
                curve = sketch.geometry(name)
                found[name] += [(other, t) for t in crossings(curve, sketch.geometry(other))]
    return found


def _least_lost(sketch, names, meetings):
    """The way round through each curve once that loses the least of them: (names in order, parameter at which each is
    entered, and left); None without one. Branch and bound over the crossings."""
    whole = {name: length(sketch.geometry(name)) for name in names}
    tops = {name: span(sketch.geometry(name)) for name in names}
    pairs = {
        (name, other): [
            (t, s)
            for o, t in meetings[name]
            if o == other
            for p, s in meetings[other]
            if p == name and _same_place(sketch, name, t, other, s)
        ]
        for name in names
        for other in names
        if name != other
    }
    best: list[Any] = [float("inf"), None]
    first = names[0]

    def lost(name, t, s):
        return whole[name] * (1 - abs(t - s) / tops[name])

    def go(run, entered, total, begin):
        if total >= best[0]:
            return
        here, came = run[-1], entered[-1]
        if len(run) == len(names):
            for t, s in pairs.get((here, first), []):
                if len(names) == 2 and abs(s - begin) < 1e-9:
                    continue
                told = total + lost(here, came, t) + lost(first, s, begin)
                if told < best[0]:
                    best[0], best[1] = told, (list(run), [s, *entered[1:]], t)
            return
        for other, t in sorted(meetings[here], key=lambda one: -abs(one[1] - came)):
            if other in run or abs(t - came) < 1e-9:
                continue
            for _, s in [pair for pair in pairs[(here, other)] if abs(pair[0] - t) < 1e-9]:
                go([*run, other], [*entered, s], total + lost(here, came, t), begin)

    for other, t in meetings[first]:
        for _, s in [pair for pair in pairs[(first, other)] if abs(pair[0] - t) < 1e-9]:
            go([first, other], [t, s], 0.0, t)
    if best[1] is None:
        return None
    run, entered, last = best[1]
    return run, entered, last


def _same_place(sketch, name, t, other, s):
    (x, y), (u, v) = at(sketch.geometry(name), t)[0], at(sketch.geometry(other), s)[0]
    return abs(x - u) + abs(y - v) < 1e-5


def _cut_to(sketch, run, entered, last):
    before = sketch
    count = len(run)
    joints, parameters = [], []
    for index, name in enumerate(run):
        place = at(before.geometry(name), entered[index])[0]
        sketch, point = edit.add_point(sketch, place)
        joints.append(point)
    for index, name in enumerate(run):
        after = run[(index + 1) % count]
        there = sketch.points[joints[(index + 1) % count]]
        curve = before.geometry(name)
        leave = (
            last
            if index == count - 1
            else min(crossings(curve, before.geometry(after)), key=lambda t: abs(at(curve, t)[0] - there).sum())
        )
        parameters.append((entered[index], leave))
    for index, name in enumerate(run):
        low, high = sorted(parameters[index])
        ends = (joints[index], joints[(index + 1) % count])
        if parameters[index][0] > parameters[index][1]:
            ends = ends[::-1]
        item = before.curves[name]
        sketch, made = curve_like(sketch, item, part(before.geometry(name), low, high), ends)
        curves = dict(sketch.curves)
        new = curves.pop(made)
        sketch = attrs.evolve(sketch, curves=curves | {name: new})
    used = {point for curve in sketch.curves.values() for point in curve.points}
    points = {name: place for name, place in sketch.points.items() if name in used or name not in _used(before)}
    there = points.keys() | sketch.curves.keys()
    gone = {
        key
        for key, item in sketch.constraints.items()
        if not set(item.of) <= there or (item.kind in ABOUT_LENGTH and set(item.of) & set(run) and len(item.of) == 1)
    }
    kept = {key: item for key, item in sketch.constraints.items() if key not in gone}
    solution = solve(attrs.evolve(sketch, points=points, constraints=kept))
    lost = tuple(in_words(before, key) for key in gone if key in before.constraints)
    return Edited(refreshed(solution.sketch), f"{count} lines closed up to one outline", lost)


def _used(sketch):
    return {point for curve in sketch.curves.values() for point in curve.points}


DECLARATION = Declaration(
    kind="close-up",
    title="Close up",
    shelf="Change",
    told="Click the lines that should become one closed outline.",
    sentence=(
        "Close up",
        Curves("curves", asks="Click the lines drawn past their corners.", empty="lines"),
        "to one outline.",
    ),
    build=build,
    example={"curves": ["c1", "c2", "c3"]},
)
