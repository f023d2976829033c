"""The command of the sketch's edits: one for all, by their declarations."""

from __future__ import annotations

from typing import Any

from nomogon_core.arguments import ID, PLAIN, UNIT, Record
from nomogon_core.errors import InputError, SketchError
from nomogon_core.job.commands.registry import command
from nomogon_core.job.commands.sketch import coordinates, store_sketch
from nomogon_core.job.document import sketch_id, sketch_of
from nomogon_core.job.quantities import read_number
from nomogon_core.quantity.expression import evaluate
from nomogon_core.sentence import Angle, Count, Factor, Length
from nomogon_core.sketch.blanks import Spot
from nomogon_core.sketch.edits import edit_called
from nomogon_core.sketch.solve import solve

BLANKS = Record(rest=PLAIN)
NUMBERS = (Length, Angle, Count, Factor)


@command("sketch.edit", sketch=ID, kind=ID, blanks=BLANKS, unit=UNIT)
def carry_out_edit(
    document: dict[str, Any], *, kind: str, blanks: dict[str, Any], sketch: str = "", unit: str = "mm"
) -> tuple[str, str]:
    """An edit of the sketch that is said as a sentence: its kind, and what fills its blanks."""
    declared, sketch = edit_called(kind), sketch_id(document, sketch)
    drawing, known = sketch_of(document, sketch), declared.blanks()
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
    edited = declared.build(drawing, plain)
    solution = solve(edited.sketch)
    if not solution.solved:
        raise SketchError(
            f"{declared.title} cannot be done with the constraints that the sketch has; delete one that is in its way."
        )
    store_sketch(document, sketch, solution.sketch)
    return edited.told, f"Gone with it: {', '.join(edited.lost)}." if edited.lost else ""


def _number(document, blank, text, unit, sketch):
    if isinstance(blank, (Length, Angle)):
        told = read_number(document, text, unit=unit, angle=isinstance(blank, Angle), at=sketch)
        return {"typed": told.typed, "value": told.value}
    value = evaluate(text.strip(), {}) if text.strip() else None
    if value is None or any(value.dimension):
        raise InputError(f"{blank.name.capitalize()} is a plain number, for example {blank.usual}; {text!r} came.")
    return {"typed": text, "value": value.number}
