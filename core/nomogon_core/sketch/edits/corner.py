"""A corner between two curves rounded or cut."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.errors import SketchError
from nomogon_core.geometry.crossings import at, part, span
from nomogon_core.geometry.curves import length
from nomogon_core.sentence import Choice, Declaration, Length, When
from nomogon_core.sketch import edit
from nomogon_core.sketch.arrange import Edited
from nomogon_core.sketch.blanks import Corner
from nomogon_core.sketch.dimensions import in_words, new_dimension, refreshed
from nomogon_core.sketch.model import Constraint
from nomogon_core.sketch.solve import solve
from nomogon_core.sketch.trim import curve_like

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

ORDER = 0
NEWTON, HALVINGS = 40, 30
LEAST_TURN = math.radians(1.0)


def build(sketch: Sketch, filled: dict[str, Any]) -> Edited:
    corner, size = filled["corner"], filled["size"]
    arms = _arms(sketch, corner)
    turn = abs(math.pi - _angle_between(arms))
    if turn < LEAST_TURN:
        raise SketchError("These two curves go on smoothly into each other there; there is no corner to change.")
    rounded = filled["how"] != "cut"
    found = (_rounded if rounded else _cut)(arms, size)
    if found is None:
        raise SketchError(_too_large(arms, size, filled["how"]))
    return _with_corner(sketch, corner, arms, found, size, rounded)


def _arms(sketch, corner):
    pair = [name for name, curve in sketch.curves.items() if corner in curve.end_points()]
    if len(pair) != 2:
        raise SketchError("Click a corner at which just two curves meet.")
    return [_Arm(sketch, name, corner) for name in pair]


def ways_at(sketch: Sketch, corner: str) -> tuple[tuple[np.ndarray, np.ndarray], float]:
    """(unit directions of both curves away from a corner, length of the shorter one).

    Raises:
        SketchError: there are not two curves at it, or they go on smoothly into each other.
    """
    arms = _arms(sketch, corner)
    if abs(math.pi - _angle_between(arms)) < LEAST_TURN:
        raise SketchError("These two curves go on smoothly into each other there; there is no corner to change.")
    first, second = (way / np.hypot(*way) for way in (arm.at(0.0)[1] for arm in arms))
    return (first, second), min(length(arm.curve) for arm in arms)


class _Arm:
    """A curve as it runs away from a corner: ``s`` is 0 at the corner and 1 at its other end."""

    def __init__(self, sketch: Sketch, name: str, corner: str) -> None:
        self.name, self.item, self.curve = name, sketch.curves[name], sketch.geometry(name)
        self.forward = self.item.end_points()[0] == corner
        self.top = span(self.curve)

    def parameter(self, s: float) -> float:
        return s * self.top if self.forward else (1 - s) * self.top

    def at(self, s: float) -> tuple[np.ndarray, np.ndarray]:
        """(place, derivative by s)."""
        place, way = at(self.curve, self.parameter(s))
        return place, way * self.top * (1 if self.forward else -1)

    def rest(self, s: float) -> Any:
        """What is left of the curve beyond s, as it ran before."""
        low, high = sorted((self.parameter(s), self.parameter(1.0)))
        return part(self.curve, low, high)


def _angle_between(arms):
    (x, y), (u, v) = (arm.at(0.0)[1] for arm in arms)
    return math.atan2(abs(x * v - y * u), x * u + y * v)


def _rounded(arms, radius):
    """(parameters of both contacts, centre) of the arc of a radius that touches both arms; None without one."""
    ways = [arm.at(0.0)[1] for arm in arms]
    side = math.copysign(1.0, ways[0][0] * ways[1][1] - ways[0][1] * ways[1][0])
    reach = radius / math.tan(_angle_between(arms) / 2)
    s = np.array([reach / math.hypot(*way) for way in ways])

    def offsets(s):
        told = []
        for arm, value, turn in zip(arms, s, (side, -side)):
            place, way = arm.at(value)
            told.append(place + radius * turn * np.array([-way[1], way[0]]) / math.hypot(*way))
        return told

    s = np.minimum(s, 0.9)
    for _ in range(NEWTON):
        one, other = offsets(s)
        gap, step = other - one, 1e-7
        slopes = np.column_stack(
            [
                (offsets(s + [step, 0])[0] - one) / step,
                -(offsets(s + [0, step])[1] - other) / step,
            ]
        )
        if abs(np.linalg.det(slopes)) < 1e-14:
            return None
        move = np.linalg.solve(slopes, gap)
        s = s + move * min(1.0, 0.3 / max(np.abs(move).max(), 1e-300))
        if not (np.abs(s) < 3).all():
            return None
        if np.abs(move).max() < 1e-12:
            break
    one, other = offsets(s)
    if not (s > 1e-9).all() or not (s < 1 - 1e-9).all() or math.dist(one, other) > 1e-7 * max(1.0, radius):
        return None
    return s, (one + other) / 2


def _cut(arms, size):
    """Parameters of the places at a length along both arms; None where one is too short."""
    s = []
    for arm in arms:
        whole = length(arm.curve)
        if size >= whole * (1 - 1e-9):
            return None
        low, high = 0.0, 1.0
        for _ in range(60):
            middle = (low + high) / 2
            gone = length(part(arm.curve, *sorted((arm.parameter(0.0), arm.parameter(middle)))))
            low, high = (middle, high) if gone < size else (low, middle)
        s.append((low + high) / 2)
    return np.array(s), None


def _too_large(arms, size, how):
    low, high = 0.0, size
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        fits = (_rounded if how == "round" else _cut)(arms, middle) is not None
        low, high = (middle, high) if fits else (low, middle)
    what = "A radius" if how == "round" else "A cut"
    if low < 1e-4:
        return f"{what} of {size:.2f} mm does not fit at this corner, nor does a smaller one."
    return f"{what} of {size:.2f} mm does not fit at this corner; at most {math.floor(low * 100) / 100:.2f} mm does."


def _with_corner(sketch, corner, arms, found, size, rounded):
    s, center = found
    before, contacts = sketch, []
    for arm, value in zip(arms, s):
        sketch, contact = edit.add_point(sketch, arm.at(value)[0])
        contacts.append(contact)
        far = next(point for point in arm.item.end_points()[:: -1 if arm.forward else 1] if point != corner)
        tips = (contact, far) if arm.forward else (far, contact)
        sketch, made = curve_like(sketch, arm.item, arm.rest(value), tips)
        curves = dict(sketch.curves)
        item = curves.pop(made)
        sketch = attrs.evolve(sketch, curves=curves | {arm.name: item})
    if rounded:
        (x, y), (u, v) = (np.subtract(sketch.points[contact], center) for contact in contacts)
        order = contacts if x * v - y * u > 0 else contacts[::-1]
        sketch, made = edit.add_curve(sketch, "arc", (tuple(center.tolist()), *order), radius=size)
        for arm in arms:
            sketch, _ = edit.add_constraint(sketch, Constraint("tangent", (arm.name, made)))
        sketch, _ = edit.add_constraint(sketch, new_dimension(sketch, "radius", (made,)))
    else:
        sketch, made = edit.add_line(sketch, *contacts)
    gone = {key for key, item in before.constraints.items() if corner in item.of or _of_both(item, arms)}
    lost = tuple(in_words(before, key) for key in gone)
    kept = {key: item for key, item in sketch.constraints.items() if key not in gone}
    points = {name: place for name, place in sketch.points.items() if name != corner}
    solution = solve(attrs.evolve(sketch, points=points, constraints=kept))
    if not solution.solved:
        raise SketchError("The corner cannot be changed with the constraints that its curves have; delete one first.")
    what = f"Corner rounded with R {size:.2f} mm" if rounded else f"Corner cut by {size:.2f} mm"
    return Edited(refreshed(solution.sketch), what, lost)


def _of_both(item, arms):
    """Whether a constraint needs the corner that both curves had in common, or how long they were."""
    names, lines = {arm.name for arm in arms}, {arm.name for arm in arms if arm.item.kind == "line"}
    if item.kind == "tangent":
        return set(item.of) == names
    if item.kind in ("distance", "across", "up", "arc length"):
        return len(item.of) == 1 and item.of[0] in names
    return item.kind in ("equal", "midpoint") and bool(lines & set(item.of))


DECLARATION = Declaration(
    kind="corner",
    title="Corner",
    shelf="Change",
    told="Click the corner to change.",
    sentence=(
        "Corner at",
        Corner("corner", asks="Click a point at which two curves meet.", empty="a corner"),
        Choice(
            "how",
            asks="Rounded or cut.",
            options={
                "round": "rounded with radius",
                "picture": "rounded as the picture shows",
                "cut": "cut on both sides by",
            },
        ),
        When(
            "how",
            ("round", "cut"),
            (Length("size", asks="Type the size.", empty="a size", usual="3 mm", usual_in="1/8 in"),),
        ),
        ".",
    ),
    build=build,
    example={"corner": "p1", "how": "round", "size": "3 mm"},
)
