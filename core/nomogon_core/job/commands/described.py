"""The page docs/commands.md, made from the declarations of the commands and operations."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from nomogon_core.arguments import Choice, Either, Id, Place, Plain, Record, Rows, Switch, Text, Whole
from nomogon_core.job.commands.registry import COMMANDS
from nomogon_core.sentence import Choice as ChoiceBlank
from nomogon_core.sentence import Clause, When
from nomogon_core.sketch.edits import EDITS
from nomogon_core.solid.operations import DECLARATIONS

if TYPE_CHECKING:
    from nomogon_core.job.commands.registry import Declared

HEAD = """# Commands

Everything that changes a job is a command: a name and named arguments. A page sends them, and
`./nomogon play [JOB.zip] COMMANDS.json --out NEW.zip` carries out a list of them without a server:

```json
[
 {"command": "reference.add_picture", "arguments": {"file": "latch-plate.jpg"}},
 {"command": "ledger.add", "arguments": {"name": "thickness", "text": "6 mm"}}
]
```

`examples/play/latch-plate.json` goes from a picture to the finished latch plate. Lengths are typed as text, with a unit
or in that of the argument `unit` (millimetres), and may be expressions over quantities of the Ledger; places in a
picture are pixels, places in a sketch millimetres, pixels have their centre at integers. `picture` and `sketch` may
be left out: then the last picture and the first sketch are meant, and on a page those that are worked on. In a played
list, `reference.add_picture` takes a `file` in place of what is stored of it.

This page is generated (`./nomogon docs`); a test keeps it true.
"""
STAGES = {
    "reference": "Reference",
    "sketch": "Sketch",
    "solid": "Build sheet",
    "group": "Groups of steps",
    "plane": "Planes",
    "body": "Bodies",
    "ledger": "Ledger",
}
EXAMPLES = {
    "picture": "r2",
    "sketch": "s1",
    "start": [120.5, 88.0],
    "end": [640.25, 90.5],
    "place": [24.0, 12.5],
    "text": "12 mm",
    "unit": "mm",
    "sigma_px": 0.05,
    "plane": "plan",
    "steps": [],
    "step": {"kind": "even", "reach_percent": 25},
    "settings": {"threshold": 0.5, "tolerance_mm": 0.1, "speck_mm2": 1.0, "keep": "all"},
    "of": ["c4"],
    "names": ["c4"],
    "kind": "horizontal",
    "corners": [[100, 100], [956, 102], [955, 640], [99, 639]],
    "field": "name",
    "row": "dimension:k7",
    "title": "Seats",
    "trace": "t5",
    "thing": "card",
    "name": "c4",
    "what": "distance",
    "which": "start",
    "edges": [],
    "jaws": {"way": "level", "place": [320, 240]},
    "held": ["p3"],
    "value": True,
}
OWN_EXAMPLES: dict[str, dict[str, Any]] = {
    "sketch.settle": {"name": "k7", "drop": "k4"},
    "sketch.mend": {"below": "0.2 mm"},
    "sketch.accept": {"proposals": [[{"kind": "equal", "of": ["c4", "c9"]}]]},
    "sketch.edit": {"kind": "offset", "blanks": EDITS["offset"].example},
    "reference.set_known": {"name": "g3", "text": "84 mm"},
    "reference.move_known": {"name": "g3", "which": "start", "place": [120.5, 88.0], "sigma_px": 0.05},
    "reference.remove_known": {"name": "g3"},
    "reference.use_known": {"name": "g3", "used": False},
    "reference.rename_known": {"name": "g3", "text": "Overall length"},
    "reference.check_to_known": {"name": "g3"},
    "reference.set_corners": {"name": "g3", "corners": EXAMPLES["corners"], "edges": []},
    "reference.place_picture": {"picture": "r2", "field": "angle", "text": "1.5°"},
    "reference.set_picture": {"picture": "r2", "field": "visible", "value": False},
    "reference.trace_again": {"trace": "t5", "settings": EXAMPLES["settings"]},
    "reference.add_resolution": {"text": "300"},
    "reference.add_picture": {
        "name": "latch.png",
        "digest": "0f3a…",
        "media_type": "image/png",
        "width": 1200,
        "height": 800,
        "dpi": None,
    },
    "sketch.set_value": {"name": "k7", "text": "Hole diameter + 1/8 in"},
    "sketch.rename": {"name": "k7", "text": "Hole diameter"},
    "sketch.dimension": {"kind": "diameter", "of": ["c4"], "text": "3/16 in"},
    "sketch.join": {"first": "p3", "second": "p8"},
    "sketch.title": {"text": "Seats"},
    "sketch.new": {"title": "Seats", "plane": {"body": "b8", "face": "op7.top"}},
    "sketch.bring": {"body": "b8", "edge": "op7.side(c4) | op7.top"},
    "solid.add": {"kind": "fillet", "blanks": DECLARATIONS["fillet"].example},
    "solid.set": {"name": "op7", "blanks": {"length": "rim + 2 mm"}},
    "solid.suppress": {"name": "op7", "suppressed": True},
    "solid.remove": {"name": "op7"},
    "solid.move": {"name": "op7", "by": -1},
    "solid.title": {"name": "op7", "text": "Screw seats"},
    "group.join": {"step": "op7", "title": "Bores"},
    "group.leave": {"step": "op7"},
    "group.title": {"name": "g9", "text": "Screw seats"},
    "group.part": {"name": "g9"},
    "group.suppress": {"name": "g9", "suppressed": True},
    "group.move": {"name": "g9", "by": -1},
    "plane.add": {"kind": "offset", "fields": {"from": "plan", "distance": "12 mm"}, "title": "Middle"},
    "plane.set": {"name": "l9", "field": "distance", "text": "14 mm"},
    "body.set": {"name": "b8", "field": "colour", "text": "#d8b45a"},
    "ledger.add": {"name": "rim", "text": "4 mm"},
    "ledger.set": {"name": "q3", "text": "1/4 in"},
    "ledger.measure": {
        "picks": [
            {"body": "b1", "kind": "face", "name": "op7.top"},
            {"body": "b1", "kind": "face", "name": "op7.bottom"},
        ],
        "word": "shortest distance",
        "name": "plate thickness",
    },
    "ledger.rename": {"row": "operation:op7:length", "text": "thickness"},
    "ledger.remove": {"name": "q3"},
    "inspect.make": {"way": "milling"},
    "inspect.machine": {"way": "printing", "title": "The small printer", "numbers": {"nozzle": 0.6, "layer": 0.3}},
    "inspect.set": {"name": "nozzle", "text": "0.6 mm"},
    "inspect.lay": {"up": [0.0, 0.0, -1.0]},
    "inspect.accept": {"key": "wall b8 op7.side(c4) op7.top", "why": "is filled with resin", "number": "0.62 mm"},
    "release.printer": {"name": "walls", "text": "3"},
    "release.cutter": {"name": "copies", "text": "12"},
    "release.flat": {"of": "plan", "at": "2 mm"},
    "release.allow": {"name": "holes", "text": "0.2 mm"},
    "inspect.reopen": {"key": "wall b8 op7.side(c4) op7.top"},
}


def example_of(kind: Any, argument: str) -> Any:
    """A value that an argument of a kind takes."""
    if argument in EXAMPLES:
        return EXAMPLES[argument]
    if isinstance(kind, Either):
        return example_of(kind.kinds[-1], argument)
    if isinstance(kind, Choice):
        return kind.options[0]
    if isinstance(kind, Rows):
        return [example_of(kind.of, "")] * max(kind.least, 1)
    for one, value in ((Place, [24.0, 12.5]), (Switch, True), (Whole, 1), (Id, "c4"), (Text, "text"), (Plain, {})):
        if isinstance(kind, one):
            return value
    return {} if isinstance(kind, Record) else 1.5


def example(declared: Declared) -> dict[str, Any]:
    """Arguments of a worked call of a command: its own, or one of each that it needs."""
    if declared.name in OWN_EXAMPLES:
        return OWN_EXAMPLES[declared.name]
    return {
        argument: example_of(kind, argument)
        for argument, kind in declared.arguments.items()
        if argument not in declared.optional
    }


def _command(declared):
    lines = [f"### `{declared.name}`", "", declared.told or "", ""]
    if not declared.asked_for:
        lines[2] += " (carried out by the application itself, not sent by a page)"
    for argument, kind in declared.arguments.items():
        words = kind.words if len(kind.words) < 160 else kind.words[:157] + " …"
        lines.append(f"- `{argument}`{' (may be missing)' if argument in declared.optional else ''}: {words}")
    call = {"command": declared.name, "arguments": example(declared)}
    return [*lines, "", "```json", json.dumps(call, ensure_ascii=False), "```", ""]


def _sentence(parts):
    told = []
    for part in parts:
        if isinstance(part, str):
            told.append(part)
        elif isinstance(part, When):
            told.append(f"[with {part.choice} {' or '.join(part.values)}: {_sentence(part.parts)}]")
        elif isinstance(part, Clause):
            told.append(f"[+ {part.offer}: {_sentence(part.parts)}]")
        elif isinstance(part, ChoiceBlank):
            told.append(f"*{part.name}* ({', '.join(part.options)})")
        else:
            told.append(f"*{part.name}*")
    return " ".join(told).replace(" ,", ",").replace(" .", ".")


def _operation(declared, command="solid.add"):
    lines = [f"### {declared.title}", "", _sentence(declared.sentence), ""]
    lines += [f"- `{blank.name}` ({blank.kind}): {blank.asks}" for blank in declared.blanks().values()]
    call = {"command": command, "arguments": {"kind": declared.kind, "blanks": declared.example}}
    return [*lines, "", "```json", json.dumps(call, ensure_ascii=False), "```", ""]


def commands_page() -> str:
    """Text of docs/commands.md."""
    lines = [HEAD, "## Operations", "", "The blanks of `solid.add` and `solid.set`, by operation.", ""]
    for declared in DECLARATIONS.values():
        lines += _operation(declared)
    lines += ["## Edits of the sketch", "", "The blanks of `sketch.edit`, by edit.", ""]
    for declared in EDITS.values():
        lines += _operation(declared, "sketch.edit")
    for stage, title in STAGES.items():
        lines += [f"## {title}", ""]
        for name, declared in COMMANDS.items():
            if name.partition(".")[0] == stage:
                lines += _command(declared)
    return "\n".join(lines).rstrip() + "\n"
