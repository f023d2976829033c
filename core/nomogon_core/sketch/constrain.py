"""Adding and changing constraints so that the sketch stays solved, or saying in words why it cannot."""

from __future__ import annotations

from typing import TYPE_CHECKING

import attrs

from nomogon_core.errors import NotNeededError, SketchError
from nomogon_core.quantity.units import format_angle, format_length
from nomogon_core.sketch import edit
from nomogon_core.sketch.dimensions import in_words, refreshed
from nomogon_core.sketch.solve import STATUS, dependence, solve

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Constraint, Sketch


@attrs.frozen
class Change:
    """A changed sketch and what to tell about it ("" for nothing)."""

    sketch: Sketch
    note: str
    name: str = ""


def constrain(sketch: Sketch, constraint: Constraint) -> Change:
    """Add a constraint or dimension and solve.

    A dimension that the others already determine becomes a reference dimension.

    Raises:
        SketchError: it contradicts others (these are named), already follows from them, or nothing near the drawing
            meets it.
    """
    _refuse_doubles(sketch, constraint)
    bigger, name = edit.add_constraint(sketch, constraint)
    solution = solve(bigger)
    if not solution.solved:
        raise SketchError(_contradiction(bigger, name))
    told = dependence(solution.sketch, name)
    if told.dependent:
        if not constraint.is_dimension:
            raise NotNeededError(
                f"{constraint.kind.capitalize()} is not needed: it already follows from "
                f"{_list(solution.sketch, told.among)}."
            )
        reference = attrs.evolve(constraint, driving=False)
        changed, name = edit.add_constraint(sketch, reference)
        return Change(
            refreshed(changed),
            f"{constraint.name} only reads: it already follows from {_list(changed, told.among)}.",
            name,
        )
    note = STATUS["restarted"] if solution.status == "restarted" else ""
    return Change(refreshed(solution.sketch), note, name)


def _refuse_doubles(sketch, constraint):
    for item in sketch.constraints.values():
        if item.kind == constraint.kind and set(item.of) == set(constraint.of):
            what = item.name if item.is_dimension else item.kind
            raise SketchError(f"{what} is there already; change or delete that one.")


def _list(sketch, names):
    words = [in_words(sketch, name) for name in names if name in sketch.constraints]
    if not words:
        return "what is drawn"
    return words[0] if len(words) == 1 else ", ".join(words[:-1]) + " and " + words[-1]


def _contradiction(sketch, name):
    """Why a constraint cannot be met: the smallest set that it is in conflict with, in words."""
    item = sketch.constraints[name]
    what = item.name or item.kind.capitalize()
    told = dependence(sketch, name)
    if told.dependent and told.among:
        return (
            f"{what} contradicts {_list(sketch, told.among)}. Change or delete one of them first; nothing was changed."
        )
    return f"{what} cannot be met together with the other constraints near the shape as drawn; nothing was changed."


def set_value(sketch: Sketch, name: str, value: float, *, typed: str, source: str = "set") -> Change:
    """Give a dimension a new value and solve.

    Raises:
        SketchError: it is a reference dimension, the value is not positive, or the sketch cannot follow.
    """
    item = sketch.constraints.get(name)
    if item is None or not item.is_dimension:
        raise SketchError("That dimension is not in the sketch any more.")
    if not item.driving:
        raise SketchError(f"{item.name} only reads, since other constraints determine it; change one of those.")
    if value <= 0 and item.kind not in ("angle",):
        raise SketchError(f"{item.name} must be more than zero; {typed!r} came. To turn a side around, drag it across.")
    changed = attrs.evolve(
        sketch,
        constraints={**sketch.constraints, name: attrs.evolve(item, value=value, typed=typed, source=source, u95=None)},
    )
    solution = solve(changed)
    if not solution.solved:
        shown = format_angle(value) if item.kind == "angle" else format_length(value) + " mm"
        was = format_angle(item.value) if item.kind == "angle" else format_length(item.value) + " mm"
        raise SketchError(
            f"{item.name} cannot be {shown}: no place near the drawing meets all constraints then. It stays {was}."
        )
    note = STATUS["restarted"] if solution.status == "restarted" else ""
    return Change(refreshed(solution.sketch), note, name)
