"""The blanks of an edit's sentence that are filled by pointing at the sketch.

* curves: ``[ids]`` of curves; a line: its id; a corner: the id of the point where two curves meet;
* a place: the id of a point, or ``[x, y]`` in millimetres;
* a place of a drawing of its own: ``[x, y]`` in the drawing's millimetres;
* a drawing: ``{"file": digest of its outlines, "group": one of its groups, or "" for all}``.
"""

from __future__ import annotations

from typing import Any

import attrs

from nomogon_core.arguments import ID, PLACE, SPOT, TEXT, Record, Rows
from nomogon_core.sentence import Blank

MOST_CHOSEN = 2000


@attrs.frozen
class Curves(Blank):
    """Curves, of which the kinds are told where not all will do."""

    kind = "curves"

    def check(self, value: list[str]) -> None:
        Rows(ID, 1, MOST_CHOSEN).check(value)

    def is_empty(self, value: Any) -> bool:
        return not value


@attrs.frozen
class LineBlank(Blank):
    """A straight line."""

    kind = "line"

    def check(self, value: str) -> None:
        ID.check(value)


@attrs.frozen
class Corner(Blank):
    """A point at which two curves meet."""

    kind = "corner"

    def check(self, value: str) -> None:
        ID.check(value)


@attrs.frozen
class Spot(Blank):
    """A place, or a point of the sketch."""

    kind = "spot"

    def check(self, value: Any) -> None:
        SPOT.check(value)


@attrs.frozen
class OwnSpot(Blank):
    """A place of the drawing that is put in, in its own coordinates."""

    kind = "own spot"

    def check(self, value: Any) -> None:
        PLACE.check(value)


@attrs.frozen
class DrawingBlank(Blank):
    """The outlines that were read from a file."""

    kind = "drawing"
    FILLED = Record({"file": ID, "group": TEXT}, required=("file", "group"))

    def check(self, value: dict[str, Any]) -> None:
        self.FILLED.check(value)
