"""Edits of the sketch, one command for all by their declarations; and what its traces say of what was meant."""

from __future__ import annotations

import math
from typing import Any

import attrs

from nomogon_core.arguments import ID, IDS, PLAIN, TEXT, UNIT, Number, Record, Rows
from nomogon_core.errors import InputError, NotNeededError, SketchError
from nomogon_core.job.commands.drawing import light_and_scale
from nomogon_core.job.commands.registry import command
from nomogon_core.job.commands.sketch import coordinates, numbered, references, store_sketch
from nomogon_core.job.document import calibration_of, sketch_id, sketch_of
from nomogon_core.job.outlines import outlines_in
from nomogon_core.job.quantities import read_number
from nomogon_core.job.sections import crosshair_near, picture_under, put_apart
from nomogon_core.quantity.expression import evaluate
from nomogon_core.quantity.units import format_length
from nomogon_core.sentence import NUMBERS, Angle, Length
from nomogon_core.sketch import edit
from nomogon_core.sketch.blanks import Spot
from nomogon_core.sketch.constrain import constrain
from nomogon_core.sketch.dimensions import NAMES, refreshed
from nomogon_core.sketch.edits import edit_called
from nomogon_core.sketch.edits.corner import ways_at
from nomogon_core.sketch.figure import mirror_axis
from nomogon_core.sketch.lying import Lying
from nomogon_core.sketch.mirroring import ties_of_halves
from nomogon_core.sketch.model import CONSTRAINTS, DIMENSIONS, Constraint
from nomogon_core.sketch.proposals import conditioned, traced_curves
from nomogon_core.sketch.solve import solve
from nomogon_core.sketch.underhand import corner_radius

BLANKS = Record(rest=PLAIN)
CONSTRAINT = Record({"kind": ID, "of": IDS, "value": Number(0, 1e5), "typed": TEXT}, required=("kind", "of"))
ARM_SHARE = 0.45


@command("sketch.edit", sketch=ID, kind=ID, blanks=BLANKS, unit=UNIT)
def carry_out_edit(
    document: dict[str, Any], library: Any, *, kind: str, blanks: dict[str, Any], sketch: str = "", unit: str = "mm"
) -> tuple[str, str]:
    """An edit of the sketch that is said as a sentence: its kind, and what fills its blanks."""
    sketch = sketch_id(document, sketch)
    drawing = sketch_of(document, sketch)
    declared, kept, plain, notes = _filled(document, library, drawing, kind, blanks, unit, sketch)
    edited = declared.build(drawing, plain)
    solution = solve(edited.sketch)
    if not solution.solved:
        raise SketchError(
            f"{declared.title} cannot be done with the constraints that the sketch has; delete one that is in its way."
        )
    store_sketch(document, sketch, solution.sketch)
    if edited.apart:
        put_apart(document, library, sketch, edited.apart, kept)
        notes.append(f"{edited.apart.title} is a sketch of its own now.")
    if edited.lost:
        notes.append(f"Gone with it: {', '.join(edited.lost)}.")
    return edited.told, " ".join(filter(None, notes))


def how_it_lies(
    document: dict[str, Any], library: Any, *, kind: str, blanks: dict[str, Any], sketch: str, unit: str = "mm"
) -> Lying | None:
    """How what an edit that is being written would put in lies; None for an edit that puts in nothing of its own.

    Raises:
        InputError: a blank is empty or filled with something else.
    """
    if edit_called(kind).lying is None:
        return None
    drawing = sketch_of(document, sketch)
    declared, _, plain, _ = _filled(document, library, drawing, kind, blanks, unit, sketch)
    return declared.lying(drawing, plain)


def _filled(document, library, drawing, kind, blanks, unit, sketch):
    """(declaration, fillings as they are kept, as plain numbers and places, notes) of an edit."""
    declared = edit_called(kind)
    known = declared.blanks()
    filled = {
        name: _number(document, known[name], value, unit, sketch)
        if name in known and isinstance(known[name], NUMBERS) and isinstance(value, str)
        else value
        for name, value in blanks.items()
    }
    kept = declared.check(filled)
    plain = {}
    for name, value in kept.items():
        if isinstance(known[name], NUMBERS):
            plain[name] = value["value"]
        else:
            plain[name] = coordinates(drawing, value) if isinstance(known[name], Spot) else value
    notes = []
    if kind == "corner" and plain["how"] == "picture":
        plain["size"] = _radius_in_picture(document, library, drawing, plain["corner"])
    if kind == "section" and not isinstance(kept["origin"], str):
        plain["origin"], note = _origin_in_picture(document, library, drawing, plain)
        notes.append(note)
    if kind == "drawing":
        plain["drawing"] = outlines_in(library, kept["drawing"])
    return declared, kept, plain, notes


def _radius_in_picture(document, library, drawing, corner):
    """The radius with which the last picture rounds a corner, to a hundredth of a millimetre."""
    light, fit = light_and_scale(document, library, "")
    ways, shorter = ways_at(drawing, corner)
    radius = corner_radius(light, fit, drawing.points[corner], ways, ARM_SHARE * shorter)
    return round(radius, 2) or 0.01


def _origin_in_picture(document, library, drawing, filled):
    """(the cross-hair of the picture near the place that was clicked, or that place itself, what was found in
    words)."""
    picture, place = picture_under(document, drawing, filled["curves"]), filled["origin"]
    if not picture or calibration_of(document, picture) is None:
        return place, ""
    light, fit = light_and_scale(document, library, picture)
    found = crosshair_near(light, fit, place)
    if found is None:
        return place, "No cross-hair is near that click, so the origin lies where you clicked."
    x, y = (format_length(value) for value in found)
    return found, f"Its origin is the cross-hair at ({x}, {y}) mm."


def _number(document, blank, text, unit, sketch):
    if isinstance(blank, (Length, Angle)):
        told = read_number(document, text, unit=unit, angle=isinstance(blank, Angle), at=sketch)
        return {"typed": told.typed, "value": told.value}
    value = evaluate(text.strip(), {}) if text.strip() else None
    if value is None or any(value.dimension):
        raise InputError(f"{blank.name.capitalize()} is a plain number, for example {blank.usual}; {text!r} came.")
    return {"typed": text, "value": value.number}


@command("sketch.accept", sketch=ID, proposals=Rows(Rows(CONSTRAINT, 1, 400), 1, 400))
def accept(document: dict[str, Any], *, proposals: list[list[dict[str, Any]]], sketch: str = "") -> tuple[str, str]:
    """Constraints and standard sizes that were proposed from a trace: groups of constraints, added as far as they do
    not follow from one another; places move as little as the trace's uncertainty allows."""
    sketch = sketch_id(document, sketch)
    drawing = sketch_of(document, sketch)
    wanted = [Constraint(source="traced", **item) for group in proposals for item in group]
    for item in wanted:
        if item.kind not in (*CONSTRAINTS, *DIMENSIONS) or (item.is_dimension and not item.value):
            raise SketchError(f"There is no constraint {item.kind!r} that could be accepted.")
        references(drawing, item.of)
    return _take(document, sketch, drawing, wanted, "taken from what the picture says")


@command("sketch.mirror_axis", sketch=ID)
def impose_axis(document: dict[str, Any], *, sketch: str = "") -> tuple[str, str]:
    """The line about which the traced curves are images of each other, as a construction line, with their ends made
    symmetric about it; places move as little as the trace's uncertainty allows."""
    sketch = sketch_id(document, sketch)
    drawing = sketch_of(document, sketch)
    found = mirror_axis(drawing, traced_curves(drawing))
    if found is None:
        raise SketchError("No line was found about which the traced curves are images of each other.")
    drawing, axis = edit.add_line(drawing, *found.run, construction=True)
    wanted = ties_of_halves(drawing, list(found.of), axis, found.within)
    return _take(document, sketch, drawing, wanted, "about the mirror axis")


def _take(document, sketch, drawing, wanted, words):
    """Constraints added as far as they do not follow from one another: what was done, and how far that moved places."""
    before, refused = drawing, []
    drawing = conditioned(drawing, wanted)
    for item in wanted:
        try:
            if item.is_dimension:
                called = numbered(document, NAMES[item.kind], drawing)
                change = constrain(drawing, attrs.evolve(item, name=called, source="set"))
                if not change.sketch.constraints[change.name].driving:
                    continue
            else:
                change = constrain(drawing, item)
            drawing = change.sketch
        except NotNeededError:
            continue
        except SketchError:
            refused.append(item.name or item.kind)
    solution = solve(drawing)
    if not solution.solved:
        raise SketchError("These cannot all be taken together; take fewer of them.")
    store_sketch(document, sketch, refreshed(solution.sketch))
    added = len(solution.sketch.constraints) - len(before.constraints)
    moved = max((math.dist(place, solution.sketch.points[name]) for name, place in before.points.items()), default=0.0)
    note = f"No point moved by more than {format_length(moved, digits=3)} mm."
    if refused:
        note += f" Left out, since they contradict the others: {', '.join(refused)}."
    return f"{added} constraint{'s' if added != 1 else ''} {words}", note
