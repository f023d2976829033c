"""Flat outlines of a part for Release: DXF and SVG at 1:1; needs no kernel."""

from nomogon_core.errors import OperationError
from nomogon_core.exchange.writers import drawing
from nomogon_core.sketch.regions import find_regions, loop_curves, match_region

DEFAULT_CHORD_MM = 0.05


def flat_outlines(sketch, operations):
    """Outlines of the first extruded regions; of the largest region when nothing is extruded.

    Raises:
        OperationError: the sketch has no closed region.
    """
    regions = find_regions(sketch)
    first = next(
        (operation for operation in operations if operation.kind == "extrude" and not operation.suppressed), None
    )
    wanted = [match_region(regions, name, sketch.curves) for name in first.regions] if first else list(regions[:1])
    loops = [loop for region in wanted if region for loop in region.loops()]
    if not loops:
        raise OperationError("The sketch has no closed region to release; mend its gaps first.")
    return [loop_curves(sketch, loop) for loop in loops]


def write_flat(kind, sketch, operations, title):
    """Bytes of a DXF or SVG file.

    Raises:
        OperationError: the sketch has no closed region.
    """
    outlines = flat_outlines(sketch, operations)
    return drawing.dxf(outlines) if kind == "dxf" else drawing.svg(outlines, title=title).encode()
