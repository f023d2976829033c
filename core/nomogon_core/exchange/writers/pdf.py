"""A dimensioned drawing as PDF: lines of ISO 128-2, title block of ISO 7200. The same part gives the same bytes."""

from __future__ import annotations

import io
import math
from functools import cache
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from fontTools.ttLib import TTFont as Face
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.pdfgen.canvas import Canvas

from nomogon_core.exchange.dimensioned import ARROW, BINDING, BLOCK, EDGE, LETTER
from nomogon_core.geometry.curves import Arc, Circle, Ellipse, EllipticArc, Line, Spline, as_pieces, ellipse_pieces
from nomogon_core.geometry.lettering import FOLDER, FONTS

if TYPE_CHECKING:
    from nomogon_core.exchange.dimensioned import Layout

FONT, WIDE, NARROW = "drawing", 0.5, 0.25
DASH = [12 * NARROW * mm, 3 * NARROW * mm]
# Long dashed dotted narrow line, 04.1 of ISO 128-2.
CHAIN = [24 * NARROW * mm, 3 * NARROW * mm, 0.5 * NARROW * mm, 3 * NARROW * mm]
BLOCK_WIDE, SMALL, NOTE = 180.0, 2.0, 2.5


@attrs.frozen
class TitleBlock:
    """What the title block says (ISO 7200); empty where it is not known.

    Attributes:
        title, number: of the part; version: of the job; date: of issue; by: who made it; material: in words.
    """

    title: str
    number: str = ""
    version: str = ""
    date: str = ""
    by: str = ""
    material: str = ""


@cache
def _font():
    """The shipped font, made plain for PDF; its capitals' height as a share of its size."""
    told = Face(FOLDER / FONTS["plain"])
    told.flavor = None
    plain = io.BytesIO()
    told.save(plain)
    plain.seek(0)
    pdfmetrics.registerFont(TTFont(FONT, plain))
    return told["OS/2"].sCapHeight / told["head"].unitsPerEm


def drawing_pdf(layout: Layout, block: TitleBlock) -> bytes:
    """PDF bytes of a laid-out sheet at its true size."""
    capital, stream = _font(), io.BytesIO()
    canvas = Canvas(stream, pagesize=tuple(side * mm for side in layout.size), invariant=1)
    canvas.setTitle(block.title)
    canvas.setLineCap(1)
    canvas.setLineJoin(1)
    for placed in layout.views:
        canvas.saveState()
        canvas.translate(placed.origin[0] * mm, placed.origin[1] * mm)
        for kind, width, dash in (("hidden", NARROW, DASH), ("smooth", NARROW, []), ("visible", WIDE, [])):
            canvas.setLineWidth(width * mm)
            canvas.setDash(dash)
            path = canvas.beginPath()
            for curve in getattr(placed.view, kind):
                _add(path, curve, layout.scale * mm)
            canvas.drawPath(path)
        canvas.restoreState()
        canvas.setLineWidth(NARROW * mm)
        canvas.setDash(CHAIN)
        for first, last in placed.axes:
            canvas.line(*(np.array((*first, *last)) * mm))
        for one in placed.dimensions:
            _dimension(canvas, one, capital)
    _notes(canvas, layout.notes, capital)
    _frame(canvas, layout, block, capital)
    canvas.save()
    return stream.getvalue()


def _add(path, curve, scale):
    if isinstance(curve, Line):
        path.moveTo(*(scale * np.array(curve.start)))
        path.lineTo(*(scale * np.array(curve.end)))
        return
    if isinstance(curve, (Arc, Circle)):
        first, sweep = (0.0, 2 * math.pi) if isinstance(curve, Circle) else (curve.start_angle, curve.sweep)
        box = np.array([np.subtract(curve.center, curve.radius), np.add(curve.center, curve.radius)]) * scale
        path.arc(*box.ravel(), math.degrees(first), math.degrees(sweep))
        return
    for piece in _cubics(curve):
        points = scale * np.array(piece.points)
        path.moveTo(*points[0])
        for index in range(1, len(points), 3):
            path.curveTo(*points[index : index + 3].ravel())


def _cubics(curve: Any) -> list[Spline]:
    if isinstance(curve, Ellipse):
        return ellipse_pieces(curve, 0.0, 2 * math.pi, 8)
    return as_pieces(curve) if isinstance(curve, EllipticArc) else [curve]


def _dimension(canvas, one, capital):
    canvas.setDash([])
    canvas.setLineWidth(NARROW * mm)
    for first, last in one.lines:
        canvas.line(*(np.array((*first, *last)) * mm))
    for tip, way in one.arrows:
        along, across = np.array(way), np.array([-way[1], way[0]])
        tip = np.array(tip)
        path = canvas.beginPath()
        path.moveTo(*(tip * mm))
        for side in (1, -1):
            path.lineTo(*((tip - ARROW * along + side * ARROW / 6 * across) * mm))
        path.close()
        canvas.drawPath(path, stroke=0, fill=1)
    canvas.saveState()
    canvas.translate(one.place[0] * mm, one.place[1] * mm)
    canvas.rotate(math.degrees(one.turn))
    canvas.setFont(FONT, LETTER * mm / capital * 0.86)
    canvas.drawCentredString(0, 0, one.text)
    canvas.restoreState()


def _notes(canvas, notes, capital):
    """Lines from the top of the room at the left of the title block."""
    canvas.setFont(FONT, NOTE * mm / capital)
    for number, text in enumerate(notes, 1):
        canvas.drawString((BINDING + 2) * mm, (EDGE + BLOCK - 4 - 1.8 * NOTE * number) * mm, text)


def _frame(canvas, layout, block, capital):
    """The frame of ISO 5457 and the title block of ISO 7200 in its lower right corner."""
    width, height = layout.size
    canvas.setDash([])
    canvas.setLineWidth(0.7 * mm)
    canvas.rect(BINDING * mm, EDGE * mm, (width - BINDING - EDGE) * mm, (height - 2 * EDGE) * mm)
    left, low, deep = width - EDGE - BLOCK_WIDE, EDGE, BLOCK - 4
    canvas.rect(left * mm, low * mm, BLOCK_WIDE * mm, deep * mm)
    canvas.setLineWidth(0.35 * mm)
    row = deep / 3
    cells = (
        (0, 2, 110, "Title", block.title, 1.5),
        (110, 2, 70, "Identification number", block.number, 1.2),
        (0, 1, 60, "Document type", "Part drawing", 1.0),
        (60, 1, 50, "Material", block.material, 1.0),
        (110, 1, 35, "Revision (version)", block.version, 1.0),
        (145, 1, 35, "Date of issue", block.date, 1.0),
        (0, 0, 60, "Created by", block.by, 1.0),
        (60, 0, 20, "Scale", layout.scale_words, 1.0),
        (80, 0, 30, "Sheet", f"1/1, {layout.sheet}", 1.0),
        (110, 0, 35, "Sizes", "mm, first angle", 1.0),
        (145, 0, 35, "Lines", "ISO 128-2", 1.0),
    )
    for x, number, wide, name, value, large in cells:
        canvas.rect((left + x) * mm, (low + number * row) * mm, wide * mm, row * mm)
        canvas.setFont(FONT, SMALL * mm / capital * 0.9)
        canvas.drawString((left + x + 1.2) * mm, (low + (number + 1) * row - SMALL - 1.0) * mm, name)
        size = min(large * LETTER * 0.8, 0.9 * wide * mm / max(canvas.stringWidth(value, FONT, mm / capital), 1e-6))
        canvas.setFont(FONT, size * mm / capital)
        canvas.drawString((left + x + 1.2) * mm, (low + number * row + 1.5) * mm, value)
