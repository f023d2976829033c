"""Flat outlines as SVG and DXF at 1:1 in millimetres."""

from __future__ import annotations

import io
import math
from typing import Any

import attrs
import ezdxf
import numpy as np
from ezdxf import units as dxf_units

from nomogon_core.errors import InputError
from nomogon_core.geometry.curves import (
    CLOSED,
    Arc,
    Circle,
    Ellipse,
    EllipticArc,
    Line,
    bounds,
    ends,
    outline_points,
    reverse,
)
from nomogon_core.geometry.paths import number, path_data

MARGIN_MM, VIEW_GAP_MM, LETTER_MM, MEETING_MM = 5.0, 15.0, 3.5, 1e-3
LINE_MM = 0.18
# Line types 01.2, 01.1 and 02.1 of ISO 128-2, width 0.5 and 0.25; a dash is 12 widths long, a gap 3 (ISO 128-2, 6.2).
LINES = {
    "hidden": 'stroke-width="0.25" stroke-dasharray="3 0.75"',
    "smooth": 'stroke-width="0.25"',
    "visible": 'stroke-width="0.5"',
}


def _require(outlines):
    curves = [curve for outline in outlines for curve in outline]
    if not curves:
        raise InputError("There is no outline to write; trace or draw one first.")
    return curves


def _safe(text):
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").replace('"', "&quot;")


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
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{number(width)}mm" height="{number(height)}mm" '
        f'viewBox="0 0 {number(width)} {number(height)}">\n  <title>{_safe(title)}</title>\n'
        f'  <g transform="matrix(1 0 0 -1 {number(MARGIN_MM - left)} {number(high + MARGIN_MM)})" '
        f'fill="none" stroke="#000" '
        f'stroke-width="{LINE_MM}">\n{paths}\n  </g>\n</svg>\n'
    )


@attrs.frozen
class View:
    """One view of a drawing: its name, its curves by kind of line, and how far it is shifted on the sheet."""

    name: str
    visible: tuple = attrs.field(repr=False)
    smooth: tuple = attrs.field(repr=False)
    hidden: tuple = attrs.field(repr=False)
    shift: tuple[float, float] = (0.0, 0.0)

    def bounds(self) -> tuple[tuple[float, float], tuple[float, float]]:
        """((left, low), (right, high)) on the sheet."""
        corners = np.array(bounds([*self.visible, *self.smooth, *self.hidden])) + self.shift
        return tuple(corners[0].tolist()), tuple(corners[1].tolist())


def arranged(views: list[View], gap: float = VIEW_GAP_MM) -> list[View]:
    """Views as the first-angle method lays them (ISO 5456-2): the first in the middle, the second, seen from above,
    under it, the third, seen from the right, left of it; a fourth stands under the third."""
    (left, low), (right, high) = views[0].bounds()
    placed = [views[0]]
    for index, view in enumerate(views[1:], 1):
        (own_left, own_low), (own_right, own_high) = view.bounds()
        beside = left - gap - own_right if index > 1 else left - own_left
        under = low - gap - own_high if index != 2 else low - own_low
        placed.append(attrs.evolve(view, shift=(beside, under)))
    return placed


def _runs(curves):
    """Curves in runs, each from the end of the one before, so that dashes go on from one to the next."""
    left, runs = list(curves), []
    while left:
        run = [left.pop()]
        while not isinstance(run[-1], CLOSED):
            tip = ends(run[-1])[1]
            follows = [
                (one, way) for one in left if not isinstance(one, CLOSED) for way in (0, 1) if _meet(one, way, tip)
            ]
            if len(follows) != 1:
                break
            one, way = follows[0]
            left.remove(one)
            run.append(reverse(one) if way else one)
        runs.append(run)
    return runs


def _meet(curve, way, place):
    return math.dist(ends(curve)[way], place) < MEETING_MM


def views_svg(views: list[View], *, title: str) -> str:
    """SVG text of views at 1:1, in the lines of ISO 128-2: visible edges wide, smooth ones narrow, hidden ones narrow
    and dashed; a user unit is a millimetre.

    Raises:
        InputError: there is nothing to write.
    """
    _require([view.visible for view in views])
    corners = np.array([view.bounds() for view in views])
    (left, low), (right, high) = corners[:, 0].min(axis=0), corners[:, 1].max(axis=0)
    width, height = right - left + 2 * MARGIN_MM, high - low + 2 * MARGIN_MM + LETTER_MM
    groups, names = [], []
    for view, ((own_left, own_low), _) in zip(views, corners):
        shift = f'transform="translate({number(view.shift[0])} {number(view.shift[1])})"'
        lines = [
            f'      <path class="{kind}" {LINES[kind]} d="{path_data(run)}"/>'
            for kind in LINES
            for run in _runs(getattr(view, kind))
        ]
        groups.append(f'    <g id="{_safe(view.name)}" {shift}>\n' + "\n".join(lines) + "\n    </g>")
        place = f'x="{number(own_left - left + MARGIN_MM)}" y="{number(high - own_low + MARGIN_MM + LETTER_MM)}"'
        names.append(f'  <text {place} font-family="sans-serif" font-size="{LETTER_MM}">{_safe(view.name)}</text>')
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{number(width)}mm" height="{number(height)}mm" '
        f'viewBox="0 0 {number(width)} {number(height)}">\n  <title>{_safe(title)}</title>\n'
        f'  <g transform="matrix(1 0 0 -1 {number(MARGIN_MM - left)} {number(high + MARGIN_MM)})" fill="none" '
        f'stroke="#000" stroke-linecap="round" stroke-linejoin="round">\n' + "\n".join(groups) + "\n  </g>\n"
        f"{chr(10).join(names) if len(views) > 1 else ''}\n</svg>\n"
    )


def _add_ellipse(space, curve, layer):
    """An ellipse, or an arc of one; DXF counts the parameter from the longer axis, counter-clockwise."""
    whole = curve if isinstance(curve, Ellipse) else curve.whole
    turned = int(np.argmax(whole.semi_axes)) * math.pi / 2
    major, ratio = whole.at([turned])[0] - whole.center, min(whole.semi_axes) / max(whole.semi_axes)
    run = (0.0, 2 * math.pi)
    if isinstance(curve, EllipticArc):
        run = tuple(sorted((curve.first - turned, curve.first + curve.sweep - turned)))
    space.add_ellipse(whole.center, (*major, 0.0), ratio, *run, dxfattribs=layer)


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
            elif isinstance(curve, (Ellipse, EllipticArc)):
                _add_ellipse(space, curve, layer)
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


def dxf_lines(outlines: list[tuple[Any, ...]], chord: float) -> bytes:
    """DXF (R2000) bytes of outlines at 1:1 in millimetres for receivers that know straight lines only: one closed
    LWPOLYLINE each, no farther from the curves than ``chord`` millimetres.

    Raises:
        InputError: there is nothing to write.
    """
    _require(outlines)
    document = ezdxf.new("R2000", units=dxf_units.MM)
    document.layers.add("OUTLINE")
    for outline in filter(None, outlines):
        places = [tuple(place) for place in outline_points(outline, chord).tolist()]
        document.modelspace().add_lwpolyline(places, close=True, dxfattribs={"layer": "OUTLINE"})
    stream = io.StringIO()
    document.write(stream)
    return stream.getvalue().encode("utf-8")
