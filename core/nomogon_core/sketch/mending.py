"""What keeps a sketch from closing, put right: each kind of finding with its remedy.

* a gap: its two ends become one point;
* a curve without length, or one that lies on another: it goes;
* a loose end that pokes past a crossing: cut off there.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import attrs

from nomogon_core.errors import SketchError
from nomogon_core.quantity.units import format_length
from nomogon_core.sketch import edit
from nomogon_core.sketch.findings import find_findings
from nomogon_core.sketch.solve import solve
from nomogon_core.sketch.trim import trim

if TYPE_CHECKING:
    from nomogon_core.sketch.findings import Finding
    from nomogon_core.sketch.model import Sketch

MOST_PASSES = 4
REMEDIES = {"gap": "Join the ends", "no length": "Take it away", "double": "Take one away"}


@attrs.frozen
class Remedy:
    """How a finding can be put right.

    Attributes:
        words: as a button says it; size: millimetres by which it changes what is drawn.
    """

    words: str
    size: float


def remedy_of(finding: Finding) -> Remedy | None:
    """The remedy of a finding; None where it takes a person to decide."""
    if finding.code == "loose end":
        return Remedy(f"Cut off {format_length(finding.size)} mm", finding.size) if finding.size else None
    return Remedy(REMEDIES[finding.code], finding.size) if finding.code in REMEDIES else None


def mended(sketch: Sketch, finding: Finding) -> Sketch | None:
    """The sketch with one finding that has a remedy put right; None where the constraints do not allow it."""
    if finding.code == "gap":
        changed = edit.merge_points(sketch, *finding.of)
    elif finding.code == "loose end":
        (point,) = finding.of
        name = next(key for key, curve in sketch.curves.items() if point in curve.end_points())
        try:
            changed = trim(sketch, name, sketch.points[point]).sketch
        except SketchError:
            return None
    else:
        changed = edit.remove(sketch, [finding.of[-1]])
    solution = solve(changed)
    return solution.sketch if solution.solved else None


def mend_all(sketch: Sketch, below: float) -> tuple[Sketch, int]:
    """Every finding put right that has a remedy which changes no more than a size in millimetres, and how many."""
    count = 0
    for _ in range(MOST_PASSES):
        before = count
        for finding in find_findings(sketch):
            if not all(one in sketch.points or one in sketch.curves for one in finding.of):
                continue  # it went with another
            remedy = remedy_of(finding)
            changed = mended(sketch, finding) if remedy and remedy.size <= below else None
            if changed is not None:
                sketch, count = changed, count + 1
        if count == before:
            break
    return sketch, count
