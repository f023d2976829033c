"""The blanks of the Build sheet's operations that are filled by pointing at the job.

* regions: ``{"sketch": id, "names": [...]}``; centres: ``{"sketch": id, "names": [ids of circles, arcs, points]}``;
* edges: ``{"body": id, "names": [...]}``, or ``{"body": id, "rule": {...}}`` (see :mod:`selection`);
* a body: its id.
"""

from __future__ import annotations

from typing import Any

import attrs

from nomogon_core.arguments import ID, NAMES, TEXT, Record
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
class Centres(Blank):
    """Circles, arcs or points of one sketch, of which each has a centre."""

    kind = "centres"
    FILLED = Regions.FILLED

    def check(self, value: dict[str, Any]) -> None:
        self.FILLED.check(value)

    def is_empty(self, value: Any) -> bool:
        return value is None or (isinstance(value, dict) and not value.get("names"))


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
    """A plane by its id, or a flat face ``{"body", "face"}``."""

    kind = "plane"


@attrs.frozen
class AxisBlank(Choice):
    """One of a plane's own axes, or a straight edge ``{"body", "edge"}``."""

    kind = "axis"


@attrs.frozen
class CornersBlank(Blank):
    """Three corners of the solid, or places in space."""

    kind = "corners"


@attrs.frozen
class WordsBlank(Blank):
    """Free words."""

    kind = "text"
