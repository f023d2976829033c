"""Flat outlines of a part for Release: DXF and SVG at 1:1; needs no kernel."""

from __future__ import annotations

import re
import unicodedata
from typing import TYPE_CHECKING

from nomogon_core.errors import OperationError
from nomogon_core.exchange.writers import drawing
from nomogon_core.sketch.regions import find_regions, loop_curves, match_region
from nomogon_core.solid.sheet import SketchStep

if TYPE_CHECKING:
    from nomogon_core.geometry.curves import Arc, Circle, Line
    from nomogon_core.solid.sheet import BuildSheet

DEFAULT_CHORD_MM = 0.05
FILES = ("step", "stl", "3mf", "dxf", "svg", "views")
ENDINGS = {"views": "-views.svg", "view": "-view.svg"}


def file_stem(title: str) -> str:
    """A plain file name for a title."""
    plain = unicodedata.normalize("NFKD", title).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9]+", "-", plain.lower()).strip("-")[:60] or "part"


def file_name(title: str, kind: str) -> str:
    """Name of a file of a kind for a title."""
    return file_stem(title) + ENDINGS.get(kind, f".{kind}")


def flat_outlines(sheet: BuildSheet) -> list[tuple[Arc | Circle | Line, ...]]:
    """Outlines of the first extruded regions; of the largest region of the first sketch when nothing is extruded.

    Raises:
        OperationError: the sketch has no closed region.
    """
    sketches = {step.name: step.sketch for step in sheet.steps if isinstance(step, SketchStep)}
    first = next((step for step in sheet.operations if step.kind == "extrude" and not step.suppressed), None)
    picked = first and first.blanks["regions"]
    sketch = sketches.get(picked["sketch"]) if picked else next(iter(sketches.values()))
    if sketch is None:
        raise OperationError("The sketch of the first operation is gone; choose its regions again.")
    regions = find_regions(sketch)
    wanted = [match_region(regions, name, sketch.curves) for name in picked["names"]] if picked else list(regions[:1])
    loops = [loop for region in wanted if region for loop in region.loops()]
    if not loops:
        raise OperationError("The sketch has no closed region to release; mend its gaps first.")
    return [loop_curves(sketch, loop) for loop in loops]


def write_flat(kind: str, sheet: BuildSheet, title: str) -> bytes:
    """Bytes of a DXF or SVG file.

    Raises:
        OperationError: the sketch has no closed region.
    """
    outlines = flat_outlines(sheet)
    return drawing.dxf(outlines) if kind == "dxf" else drawing.svg(outlines, title=title).encode()
