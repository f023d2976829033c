"""Flat outlines of a part for Release: DXF and SVG at 1:1; needs no kernel."""

from __future__ import annotations

import re
import unicodedata
from typing import TYPE_CHECKING, Any

import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.exchange.nesting import copied, nest_of
from nomogon_core.exchange.writers import drawing
from nomogon_core.geometry.curves import Circle, closed_area, moved
from nomogon_core.inspect.making import Allowances, Making
from nomogon_core.sketch import offset
from nomogon_core.sketch.regions import find_regions, loop_curves, match_region
from nomogon_core.solid.sheet import SketchStep

if TYPE_CHECKING:
    from nomogon_core.solid.sheet import BuildSheet

DEFAULT_CHORD_MM, CHORD_RANGE_MM = 0.05, (0.001, 5.0)
FLAT = ("dxf", "lines", "svg", "sheet")
FILES = ("step", "stl", "3mf", "glb", "dxf", "lines", "svg", "sheet", "views", "pdf")
ENDINGS = {"sheet": "-sheet.dxf", "lines": "-lines.dxf", "views": "-views.svg", "view": "-view.svg"}


def require_chord(chord: float) -> None:
    """Raises: OperationError: a chord tolerance is out of range."""
    low, high = CHORD_RANGE_MM
    if not low <= chord <= high:
        raise OperationError(f"The chord tolerance must lie between {low} and {high} mm; {chord:g} came.")


def file_stem(title: str) -> str:
    """A plain file name for a title."""
    plain = unicodedata.normalize("NFKD", title).encode("ascii", "ignore").decode()
    return re.sub(r"[^a-z0-9]+", "-", plain.lower()).strip("-")[:60] or "part"


def file_name(title: str, kind: str) -> str:
    """Name of a file of a kind for a title."""
    return file_stem(title) + ENDINGS.get(kind, f".{kind}")


def flat_outlines(sheet: BuildSheet) -> list[list[tuple[Any, ...]]]:
    """Outlines of the first extruded regions, around each area and around the holes in it; of the largest region of the
    first sketch when nothing is extruded.

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
    areas = [[loop_curves(sketch, loop) for loop in region.loops()] for region in wanted if region]
    if not areas:
        raise OperationError(
            "The sketch has no closed region to release; mend its gaps first, or let flat files show a section."
        )
    return areas


def allowed_areas(areas: list[list[tuple[Any, ...]]], allowances: Allowances) -> list[list[tuple[Any, ...]]]:
    """Areas for cutting: round holes and outlines grown, all of it grown for shrinkage, and half a kerf off the
    material.

    Args:
        areas: of each the outline around it, counter-clockwise, and those around the holes in it.

    Raises:
        OperationError: an outline is too narrow for the kerf.
    """
    told, level = [], allowances.factors[0]
    for loops in areas:
        area = []
        for hole, curves in enumerate(loops):
            if hole and isinstance(curves[0], Circle) and allowances.grows(2 * curves[0].radius):
                curves = (Circle(curves[0].center, curves[0].radius + allowances.holes / 2),)
            if level != 1:
                curves = tuple(moved(curve, lambda place: np.multiply(level, place), scale=level) for curve in curves)
            off = allowances.kerf / 2 + (0.0 if hole else level * allowances.outer / 2)
            area.append(_off_the_cut(curves, off, inner=hole > 0) if off else curves)
        told.append(area)
    return told


def _off_the_cut(curves, distance, *, inner):
    if isinstance(curves[0], Circle):
        radius = curves[0].radius + (-distance if inner else distance)
        found = [offset.Chain((Circle(curves[0].center, radius),), True)] if radius > 0 else []
    else:
        run = list(curves) if closed_area(curves) > 0 else offset.backwards(curves)
        found = offset.offset(run, True, -distance if inner else distance)
    if len(found) != 1:
        raise OperationError(
            f"An outline is too narrow to be moved by {abs(distance):g} mm, so it would vanish or fall apart: type "
            "smaller allowances, or widen it in the sketch."
        )
    return found[0].curves


def write_flat(
    kind: str, areas: list[list[tuple[Any, ...]]], title: str, making: Making, chord: float = DEFAULT_CHORD_MM
) -> bytes:
    """Bytes of a DXF or SVG file of areas; of one of lines only no farther from the curves than ``chord`` millimetres;
    of a sheet with all copies nested.

    Raises:
        OperationError: they are too narrow for the kerf, or do not go on the sheet.
    """
    allowed = allowed_areas(areas, making.allowances)
    outlines = [loop for area in allowed for loop in area]
    if kind == "sheet":
        return drawing.dxf(copied(outlines, nest_of(allowed, making.cutter)))
    if kind == "lines":
        require_chord(chord)
        return drawing.dxf_lines(outlines, chord)
    return drawing.dxf(outlines) if kind == "dxf" else drawing.svg(outlines, title=title).encode()
