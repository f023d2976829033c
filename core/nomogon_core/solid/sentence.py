"""The blanks of the Build sheet's operations that are filled by pointing at the job.

* regions: ``{"sketch": id, "names": [...]}``; centres: ``{"sketch": id, "names": [ids of circles, arcs, points]}``, or
  all closed marks of a trace ``{"sketch": id, "names": [], "trace": id}``, as also all curves of one for a run;
* edges: ``{"body": id, "names": [...]}``, or ``{"body": id, "rule": {...}}`` (see :mod:`selection`);
* faces: ``{"body": id, "names": [...]}``; operations: ``{"operations": [ids]}``;
* sections: ``{"sections": [{"sketch": id, "name": region}]}``; a plane and an axis: see there;
* a body: its id; a mesh file: ``{"file": digest, "name": its name}``.
"""

from __future__ import annotations

from typing import Any

import attrs

from nomogon_core.arguments import ID, LONGEST_NAME, NAMES, TEXT, Either, Record, Rows, Text
from nomogon_core.arguments import Choice as OneOf
from nomogon_core.sentence import Blank, Choice

RULE = Record(
    {
        "at": OneOf(("top", "bottom", "upright", "round", "all")),
        "operation": ID,
        "but": NAMES,
        "between": NAMES,
        "chain": TEXT,
    },
    required=("at",),
)


@attrs.frozen
class Regions(Blank):
    """Closed regions of one sketch."""

    kind = "regions"
    FILLED = Record({"sketch": ID, "names": NAMES}, required=("sketch", "names"))

    def check(self, value: dict[str, Any]) -> None:
        self.FILLED.check(value)

    def is_empty(self, value: Any) -> bool:
        return value is None or (isinstance(value, dict) and not value.get("names"))


@attrs.frozen
class Traced(Regions):
    """Curves of one sketch, one by one or all of a trace."""

    FILLED = Record({"sketch": ID, "names": NAMES, "trace": ID}, required=("sketch", "names"))

    def is_empty(self, value: Any) -> bool:
        return super().is_empty(value) and not (isinstance(value, dict) and value.get("trace"))


@attrs.frozen
class Centres(Traced):
    """Circles, arcs or points of one sketch, of which each has a centre, or all closed marks of a trace."""

    kind = "centres"


@attrs.frozen
class Edges(Blank):
    """Edges of one body, one by one or by rule."""

    kind = "edges"
    FILLED = Record({"body": ID, "names": NAMES, "rule": RULE}, required=("body",))

    def check(self, value: dict[str, Any] | list[int]) -> None:
        self.FILLED.check(value)

    def is_empty(self, value: Any) -> bool:
        return value is None or (isinstance(value, dict) and not value.get("names") and not value.get("rule"))


@attrs.frozen
class BodyBlank(Blank):
    """A body; where the choice ``when`` is ``makes``, a new one is made."""

    when: str = ""
    makes: str = ""
    kind = "body"

    def check(self, value: str) -> None:
        ID.check(value)


@attrs.frozen
class PlaneBlank(Blank):
    """A plane by its id, or a flat face ``{"body", "face"}``; where it is ``of_face``, only that."""

    of_face: bool = False
    kind = "plane"
    FACE = Record({"body": ID, "face": Text(LONGEST_NAME)}, required=("body", "face"))
    FILLED = Either((ID, FACE))

    def check(self, value: Any) -> None:
        (self.FACE if self.of_face else self.FILLED).check(value)


@attrs.frozen
class AxisBlank(Choice):
    """One of some axes by name, a straight or round edge ``{"body", "edge"}``, or a line of a sketch
    ``{"sketch", "names": [its id]}``."""

    kind = "axis"
    PICKED = Either(
        (
            Record({"body": ID, "edge": Text(LONGEST_NAME)}, required=("body", "edge")),
            Record({"sketch": ID, "names": Rows(ID, 1, 1)}, required=("sketch", "names")),
        )
    )

    def check(self, value: Any) -> None:
        if isinstance(value, str):
            super().check(value)
        else:
            self.PICKED.check(value)


@attrs.frozen
class CornersBlank(Blank):
    """Three corners of the solid, or places in space."""

    kind = "corners"


@attrs.frozen
class Run(Traced):
    """Curves of one sketch that follow one another, or all of a trace."""

    kind = "run"


@attrs.frozen
class Faces(Blank):
    """Faces of one body."""

    kind = "faces"
    FILLED = Record({"body": ID, "names": NAMES}, required=("body", "names"))

    def check(self, value: dict[str, Any]) -> None:
        self.FILLED.check(value)

    def is_empty(self, value: Any) -> bool:
        return value is None or (isinstance(value, dict) and not value.get("names"))


@attrs.frozen
class Sections(Blank):
    """Regions of several sketches, in order."""

    kind = "sections"
    FILLED = Record({"sections": Rows(Record({"sketch": ID, "name": TEXT}, required=("sketch", "name")), 0, 60)})
    LEAST = 2

    def check(self, value: dict[str, Any]) -> None:
        self.FILLED.check(value)

    def is_empty(self, value: Any) -> bool:
        return value is None or (isinstance(value, dict) and len(value.get("sections", ())) < self.LEAST)


@attrs.frozen
class Operations(Blank):
    """Operations that stand before this one in the Build sheet."""

    kind = "operations"
    FILLED = Record({"operations": Rows(ID, 0, 100)}, required=("operations",))

    def check(self, value: dict[str, Any]) -> None:
        self.FILLED.check(value)

    def is_empty(self, value: Any) -> bool:
        return value is None or (isinstance(value, dict) and not value.get("operations"))


@attrs.frozen
class MeshFile(Blank):
    """A mesh file that was brought into the job."""

    kind = "mesh"
    FILLED = Record({"file": ID, "name": TEXT}, required=("file", "name"))

    def check(self, value: dict[str, Any]) -> None:
        self.FILLED.check(value)


def sketches_in(value: Any) -> list[str]:
    """Ids of the sketches that a filling picks from."""
    if not isinstance(value, dict):
        return []
    return [value["sketch"]] if "sketch" in value else [one["sketch"] for one in value.get("sections", ())]
