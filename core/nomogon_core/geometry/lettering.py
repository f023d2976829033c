"""Text as closed outlines of lines and splines, in fonts that ship with the core.

The fonts' quadratic curves become cubic ones of exactly the same shape. Letters are set and kerned by HarfBuzz.
"""

from __future__ import annotations

import io
import math
from functools import lru_cache
from pathlib import Path
from typing import Any

import attrs
import numpy as np
import uharfbuzz
from fontTools.ttLib import TTFont

from nomogon_core.geometry.curves import Line, Spline, end_directions

FOLDER = Path(__file__).parent / "fonts"
# All under the SIL Open Font License; the licences lie beside them.
FONTS = {
    "plain": "archivo-medium.woff",
    "bold": "archivo-extra-bold.woff",
    "stencil": "allerta-stencil.woff",
    "serif": "libre-caslon-bold.woff",
}
SMOOTH_RAD = math.radians(2.0)
MOST_PIECES = 6


@attrs.frozen
class Lettering:
    """A set line of text.

    Attributes:
        outlines: each a tuple of consecutive curves around a letter or a hole in one, in millimetres; the baseline
            begins at (0, 0).
        width: of the line, from its first letter's origin to where the next letter would stand.
        missing: letters that the font does not have, which were left out.
    """

    outlines: tuple = attrs.field(repr=False)
    width: float
    missing: str = ""


@lru_cache(maxsize=len(FONTS))
def _face(font):
    """(HarfBuzz font, height of its capitals, units of the em)."""
    told = TTFont(FOLDER / FONTS[font])
    told.flavor = None
    plain = io.BytesIO()
    told.save(plain)
    return uharfbuzz.Font(uharfbuzz.Face(plain.getvalue())), told["OS/2"].sCapHeight


def letter(text: str, *, font: str, cap_height: float, spacing: float = 0.0) -> Lettering:
    """A line of text as outlines.

    Args:
        font: one of FONTS; cap_height: of its capitals, millimetres; spacing: millimetres more between letters.
    """
    face, capitals = _face(font)
    scale = cap_height / capitals
    buffer = uharfbuzz.Buffer()
    buffer.add_str(text)
    buffer.guess_segment_properties()
    uharfbuzz.shape(face, buffer, {"kern": True, "liga": spacing == 0.0})
    outlines, missing, at = [], "", np.zeros(2)
    for info, place in zip(buffer.glyph_infos or (), buffer.glyph_positions or ()):
        if info.codepoint == 0:
            missing += text[info.cluster]
            continue
        origin = at + scale * np.array([place.x_offset, place.y_offset])
        outlines += [_as_curves(contour, origin, scale) for contour in _contours(face, info.codepoint)]
        at = at + scale * np.array([place.x_advance, place.y_advance]) + [spacing, 0.0]
    return Lettering(tuple(outlines), float(at[0]) - spacing if text else 0.0, missing)


def _contours(face, glyph):
    """The closed contours of a glyph: segments as control points, in units of the font."""
    contours, now = [], []

    def move(x, y, _):
        now[:] = [(x, y)]
        contours.append([])

    def step(*places):
        contours[-1].append(((now[-1]), *places))
        now[:] = [places[-1]]

    functions = uharfbuzz.DrawFuncs()
    functions.set_move_to_func(move)
    functions.set_line_to_func(lambda x, y, _: step((x, y)))
    functions.set_quadratic_to_func(lambda a, b, x, y, _: step((a, b), (x, y)))
    functions.set_cubic_to_func(lambda a, b, c, d, x, y, _: step((a, b), (c, d), (x, y)))
    functions.set_close_path_func(lambda _: None)
    face.draw_glyph(glyph, functions, None)
    for contour in contours:
        if contour and contour[-1][-1] != contour[0][0]:
            contour.append((contour[-1][-1], contour[0][0]))
    return [[one for one in contour if one[0] != one[-1] or len(one) > 2] for contour in contours if contour]


def _as_curves(contour, origin, scale):
    """A contour as lines and splines, pieces that go on smoothly in one spline."""
    curves: list[Any] = []
    for segment in contour:
        points = origin + scale * np.array(segment, float)
        if len(points) == 2:
            line, before = Line(*points), curves[-1] if curves else None
            if isinstance(before, Line) and _turns_back(before, line):  # glyphs have such spurs of no width
                line = Line(curves.pop().start, line.end)
            curves.append(line)
            continue
        if len(points) == 3:  # a quadratic as the cubic that it is
            start, middle, end = points
            points = np.array([start, start + 2 / 3 * (middle - start), end + 2 / 3 * (middle - end), end])
        last = curves[-1] if curves else None
        if isinstance(last, Spline) and len(last.points) < 3 * MOST_PIECES and _goes_on(last, points):
            curves[-1] = Spline([*last.points, *points[1:]])
        else:
            curves.append(Spline(points))
    return tuple(_halved(curves[0]) if len(curves) == 1 else curves)


def _turns_back(line, following):
    (_, before), (after, _) = end_directions(line), end_directions(following)
    return float(before @ after) < -math.cos(SMOOTH_RAD)


def _goes_on(spline, points):
    (_, before), (after, _) = end_directions(spline), end_directions(Spline(points))
    return abs(math.atan2(before[0] * after[1] - before[1] * after[0], float(before @ after))) < SMOOTH_RAD


def _halved(spline):
    """A closed spline in two, since an outline has ends that differ."""
    middle = 3 * (len(spline.points) // 6)
    return [Spline(spline.points[: middle + 1]), Spline(spline.points[middle:])]
