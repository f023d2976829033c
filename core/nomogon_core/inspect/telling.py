"""A finding, and how findings are told: what of them is accepted, by which names, in which order, in a report."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import attrs

from nomogon_core.inspect.making import BY_KIND
from nomogon_core.solid.planes import PLAN

if TYPE_CHECKING:
    from collections.abc import Iterable

    from nomogon_core.inspect.making import Making
    from nomogon_core.solid.sheet import BuildSheet

RANK = {"mend": 0, "know": 1, "accepted": 2, "well": 3}


@attrs.frozen
class Finding:
    """One thing found.

    Attributes:
        key: stays while it is the same thing; body: id; severity: "mend", "know" or "well".
        title, number, sentence: in words; operations: ids of those that made its faces, which the words call {0}, {1} …
        place: (x, y, z) it is about, or None; faces: names of the faces to show.
        remedy: {"words", "command", "arguments"} or None.
    """

    key: str
    body: str
    severity: str
    title: str
    number: str
    sentence: str = ""
    operations: tuple[str, ...] = ()
    place: tuple[float, float, float] | None = None
    faces: tuple[str, ...] = ()
    remedy: dict[str, Any] | None = None


@attrs.frozen
class Told:
    """A finding as it is told.

    Attributes:
        finding: it; severity: its own, or "accepted"; title: with the body's name where there are several.
        sentence: with the operations by name, and what it was accepted at before its number changed.
        why: why it is accepted, else "".
    """

    finding: Finding
    severity: str
    title: str
    sentence: str
    why: str


def told(found: Iterable[Finding], making: Making, sheet: BuildSheet) -> list[Told]:
    """Findings with what is accepted of them, which holds while their number is what it was; what is to be mended
    first, then what is to be known, what is accepted, and what is well."""
    numbers, titles = sheet.numbers(), {step.name: step.title for step in sheet.operations}
    several, rows = len(sheet.bodies) > 1, []
    for one in found:
        names = [f"step {numbers[name]} {titles[name]}".strip() if name in numbers else "?" for name in one.operations]
        severity, sentence = one.severity, one.sentence.format(*names)
        why, number = making.accepted.get(one.key, ("", "")) if severity != "well" else ("", "")
        if why and number == one.number:
            severity = "accepted"
        elif why:
            sentence, why = f"{sentence} It was accepted at {number}: {why}.", ""
        title = f"{sheet.bodies[one.body]['name']}: {one.title}" if several else one.title
        rows.append(Told(one, severity, title, sentence, why))
    return sorted(rows, key=lambda row: RANK[row.severity])


def report(found: Iterable[Finding], making: Making, sheet: BuildSheet) -> list[str]:
    """Sentences on how a part is made, and on all that was found but what is well."""
    way = BY_KIND[making.way]
    numbers = ", ".join(f"{one.words} {making.numbers[one.name]:g} {one.unit}".strip() for one in way.settings)
    lines = [f"To be made by {way.title.lower()}: {numbers}."]
    if tuple(making.up) != PLAN.normal:
        lines.append("Files for printing lie as chosen for making, not as drawn.")
    rows = told(found, making, sheet)
    if not any(row.severity == "mend" for row in rows):
        lines.append("Nothing was found that is to be mended.")
    for row in rows:
        what = f"{row.title}, {row.finding.number}"
        if row.severity == "accepted":
            lines.append(f"Accepted: {what}: {row.why}.")
        elif row.severity != "well":
            lines.append(f"{'To mend' if row.severity == 'mend' else 'To know'}: {what}. {row.sentence}".rstrip())
    return lines
