"""Flat outlines as SVG and DXF at 1:1 in millimetres."""

from __future__ import annotations

import io
import math
from typing import Any

import ezdxf
import numpy as np
from ezdxf import units as dxf_units

from nomogon_core.errors import InputError
from nomogon_core.geometry.curves import Arc, Circle, Ellipse, Line, bounds
from nomogon_core.geometry.paths import number, path_data

MARGIN_MM = 5.0
LINE_MM = 0.18


def _require(outlines):
    curves = [curve for outline in outlines for curve in outline]
    if not curves:
        raise InputError("There is no outline to write; trace or draw one first.")
    return curves


def svg(outlines: list[tuple[Any, ...]], *, title: str = "Outline") -> str:
    """SVG text of outlines at 1:1; a user unit is a millimetre.

    Args:
        outlines: lists of consecutive curves in millimetres, y up.

    Raises:
        InputError: there is nothing to write.
    """
    (left, low), (right, high) = bounds(_require(outlines))
    width, height = right - left + 2 * MARGIN_MM, high - low + 2 * MARGIN_MM
    paths = "\n".join(f'    <path d="{path_data(outline, closed=True)}"/>' for outline in outlines if outline)
    safe = title.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{number(width)}mm" height="{number(height)}mm" '
        f'viewBox="0 0 {number(width)} {number(height)}">\n  <title>{safe}</title>\n'
        f'  <g transform="matrix(1 0 0 -1 {number(MARGIN_MM - left)} {number(high + MARGIN_MM)})" '
        f'fill="none" stroke="#000" '
        f'stroke-width="{LINE_MM}">\n{paths}\n  </g>\n</svg>\n'
    )


def dxf(outlines: list[tuple[Any, ...]]) -> bytes:
    """DXF (R2010) bytes of outlines at 1:1 in millimetres: LINE, ARC, CIRCLE, ELLIPSE and cubic SPLINE entities.

    Args:
        outlines: lists of consecutive curves in millimetres.

    Raises:
        InputError: there is nothing to write.
    """
    _require(outlines)
    document = ezdxf.new("R2010", units=dxf_units.MM)
    document.layers.add("OUTLINE")
    space = document.modelspace()
    layer = {"layer": "OUTLINE"}
    for outline in outlines:
        for curve in outline:
            if isinstance(curve, Line):
                space.add_line(curve.start, curve.end, dxfattribs=layer)
            elif isinstance(curve, Circle):
                space.add_circle(curve.center, curve.radius, dxfattribs=layer)
            elif isinstance(curve, Ellipse):
                longer = int(np.argmax(curve.semi_axes))
                major = curve.at([longer * math.pi / 2])[0] - curve.center
                space.add_ellipse(
                    curve.center, (*major, 0.0), ratio=min(curve.semi_axes) / max(curve.semi_axes), dxfattribs=layer
                )
            elif isinstance(curve, Arc):
                first, last = math.degrees(curve.start_angle), math.degrees(curve.start_angle + curve.sweep)
                space.add_arc(curve.center, curve.radius, min(first, last), max(first, last), dxfattribs=layer)
            else:
                for control in curve.pieces():
                    spline = space.add_spline(dxfattribs=layer)
                    spline.set_open_uniform([(x, y, 0) for x, y in control], degree=3)
    stream = io.StringIO()
    document.write(stream)
    return stream.getvalue().encode("utf-8")
