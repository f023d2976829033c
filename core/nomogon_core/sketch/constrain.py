"""Adding and changing constraints so that the sketch stays solved, or saying in words why it cannot."""

from __future__ import annotations

from typing import TYPE_CHECKING

import attrs

from nomogon_core.errors import NotNeededError, SketchError
from nomogon_core.quantity.units import format_angle, format_length
from nomogon_core.sketch import edit
from nomogon_core.sketch.conflicts import conflict_of, told_of
from nomogon_core.sketch.dimensions import in_words, listed, measure, refreshed
from nomogon_core.sketch.model import Constraint
from nomogon_core.sketch.solve import STATUS, dependence, solve

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch


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
        ConflictError: it contradicts others (these are named), or nothing near the drawing meets it.
        SketchError: it is there already, or follows from others.
    """
    _refuse_doubles(sketch, constraint)
    bigger, name = edit.add_constraint(sketch, constraint)
    solution = solve(bigger)
    if not solution.solved:
        raise told_of(bigger, conflict_of(bigger, name))
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
            if not item.is_dimension:
                raise NotNeededError(f"{item.kind.capitalize()} is there already.")
            raise SketchError(f"{item.name} is there already; change or delete that one.")


def _list(sketch, names):
    words = [in_words(sketch, name) for name in names if name in sketch.constraints]
    return listed(words) or "what is drawn"


def driving(sketch: Sketch, name: str, drives: bool) -> Change:
    """A dimension that from now on drives at its present value, or only reads.

    Raises:
        SketchError: there is no such dimension, or the others determine it, so that it cannot drive.
    """
    item = sketch.constraints.get(name)
    if item is None or not item.is_dimension:
        raise SketchError("That dimension is not in the sketch any more.")
    if not drives:
        reads = attrs.evolve(item, driving=False, typed="", against=())
        return Change(refreshed(sketch.with_constraints({name: reads})), "", name)
    here = measure(sketch, item.kind, item.of)
    wanted = attrs.evolve(item, driving=True, value=here, typed="", source="set", u95=None)
    changed = sketch.with_constraints({name: wanted})
    told = dependence(changed, name)
    if told.dependent:
        raise SketchError(
            f"{item.name} cannot drive: it already follows from {_list(sketch, told.among)}. "
            "Make one of those read first."
        )
    return Change(changed, "", name)


def kept_unmet(sketch: Sketch, constraint: Constraint, among: tuple[str, ...], name: str = "") -> Change:
    """A constraint, or a dimension that is there by id, that stays although it contradicts others; nothing moves."""
    disputed = attrs.evolve(constraint, against=among)
    if name:
        changed = sketch.with_constraints({name: disputed})
    else:
        changed, name = edit.add_constraint(sketch, disputed)
    what = disputed.name or disputed.kind.capitalize()
    return Change(changed, f"{what} is kept but not met; the last good shape stays.", name)


def settled(sketch: Sketch, name: str, dropped: str = "") -> Change:
    """A disputed constraint met at last, without one that it contradicted.

    Raises:
        SketchError: it is not disputed any more; ConflictError: it still cannot be met.
    """
    item = sketch.constraints.get(name)
    if item is None or not item.against:
        raise SketchError("That constraint is not in conflict any more.")
    if dropped == name:
        return Change(edit.remove(sketch, [name]), "")
    without = edit.remove(sketch, [dropped]) if dropped in sketch.constraints else sketch
    trial = without.with_constraints({name: attrs.evolve(item, against=())})
    solution = solve(trial)
    if not solution.solved:
        raise told_of(trial, conflict_of(trial, name))
    return Change(refreshed(solution.sketch), "", name)


def _from_what_stays(sketch, item):
    """The solution in which an offset moves and what it is off stays, with all that joins it; None where that cannot
    be."""
    staying = _joined_to(sketch, {other for _, other in item.parts})
    if staying & {name for name, _ in item.parts}:
        return None
    held, _ = edit.add_constraint(sketch, Constraint("fixed", tuple(sorted(staying))))
    found = solve(held, again=False)
    if not found.solved:
        return None
    moved = attrs.evolve(sketch, points=found.sketch.points, curves=found.sketch.curves).drawn_like(found.sketch)
    return attrs.evolve(found, sketch=moved)


def _joined_to(sketch, names):
    """Points and curves, and the curves that join them end to end."""
    points = {one for one in names if one in sketch.points}
    curves, grown = names - points, True
    while grown:
        points |= {point for name in curves for point in sketch.curves[name].end_points()}
        more = {name for name, curve in sketch.curves.items() if not points.isdisjoint(curve.end_points())} - curves
        curves, grown = curves | more, bool(more)
    return points | curves


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
    wanted = attrs.evolve(item, value=value, typed=typed, source=source, u95=None, against=())
    changed = sketch.with_constraints({name: wanted})
    solution = (item.kind == "offset" and _from_what_stays(changed, wanted)) or solve(changed)
    if not solution.solved:
        told = told_of(changed, conflict_of(changed, name))
        if told.conflict.among:
            raise told
        shown = format_angle(value) if item.kind == "angle" else format_length(value) + " mm"
        was = format_angle(item.value) if item.kind == "angle" else format_length(item.value) + " mm"
        raise SketchError(
            f"{item.name} cannot be {shown}: no place near the drawing meets all constraints then. It stays {was}."
        )
    note = STATUS["restarted"] if solution.status == "restarted" else ""
    return Change(refreshed(solution.sketch), note, name)
