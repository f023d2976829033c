"""Text as closed outlines of lines and splines, in fonts that ship with the core.

The fonts' quadratic curves become cubic ones of exactly the same shape. Letters are set and kerned by HarfBuzz.
"""

from __future__ import annotations

import io
import math
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Any

import attrs
import numpy as np
import shapely
import uharfbuzz
from fontTools.ttLib import TTFont

from nomogon_core.geometry.curves import Line, Spline, end_directions, moved, outline_points
from nomogon_core.geometry.necks import narrowest

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
STROKE_SHARE, MOST_STROKE, STROKE_CHORD = 0.05, 0.6, 1e-4


@attrs.frozen
class Letter:
    """A letter of a line of text.

    Attributes:
        outlines: each a tuple of consecutive curves around it or a hole in it, millimetres, where they stand.
        middle: of its width along the baseline; stroke: width of its narrowest stroke, or None for one of points.
    """

    outlines: tuple = attrs.field(repr=False)
    middle: float
    stroke: float | None


@attrs.frozen
class Lettering:
    """A set line of text.

    Attributes:
        letters: in order; the baseline begins at (0, 0).
        width: of the line, from its first letter's origin to where the next letter would stand.
        missing: letters that the font does not have, which were left out.
    """

    letters: tuple[Letter, ...] = attrs.field(repr=False)
    width: float
    missing: str = ""

    @property
    def outlines(self) -> tuple:
        """The outlines of all letters."""
        return tuple(outline for one in self.letters for outline in one.outlines)

    @property
    def stroke(self) -> float | None:
        """Width of the narrowest stroke, millimetres, or None where there is none."""
        return min((one.stroke for one in self.letters if one.stroke is not None), default=None)

    def along(self, stop: Callable[[float], tuple[tuple[float, float], float]]) -> list[tuple]:
        """The outlines with each letter turned as a whole to where the middle of its width lies along a path.

        Args:
            stop: of a distance along the baseline, gives the place there and the direction, radians.
        """
        found = []
        for one in self.letters:
            place, angle = stop(one.middle)
            cos, sin = math.cos(angle), math.sin(angle)

            def there(point, place=place, middle=one.middle, cos=cos, sin=sin):
                x, y = point[0] - middle, point[1]
                return place[0] + cos * x - sin * y, place[1] + sin * x + cos * y

            found += [tuple(moved(curve, there) for curve in outline) for outline in one.outlines]
        return found


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
    letters, missing, at = [], "", np.zeros(2)
    for info, place in zip(buffer.glyph_infos or (), buffer.glyph_positions or ()):
        if info.codepoint == 0:
            missing += text[info.cluster]
            continue
        origin = at + scale * np.array([place.x_offset, place.y_offset])
        outlines = tuple(_as_curves(contour, origin, scale) for contour in _contours(face, info.codepoint))
        middle, stroke = float(at[0]) + scale * place.x_advance / 2, _stroke(font, info.codepoint)
        if outlines:
            letters.append(Letter(outlines, middle, stroke and stroke * cap_height))
        at = at + scale * np.array([place.x_advance, place.y_advance]) + [spacing, 0.0]
    return Lettering(tuple(letters), float(at[0]) - spacing if text else 0.0, missing)


@lru_cache(maxsize=2000)
def _stroke(font, glyph):
    """Width of the narrowest stroke of a glyph as a share of the height of capitals, or None."""
    face, capitals = _face(font)
    outlines = [_as_curves(contour, np.zeros(2), 1 / capitals) for contour in _contours(face, glyph)]
    areas = _areas([outline_points(outline, STROKE_CHORD) for outline in outlines])
    strokes = [narrowest([area], STROKE_SHARE, MOST_STROKE)[0] for area in areas]
    return min((one.width for one in strokes if one), default=None)


def _areas(loops):
    """Loops of a glyph, each outline with its holes: these run the other way than the largest."""
    around = [shapely.Polygon(loop) for loop in loops]
    ways = [one.exterior.is_ccw for one in around]
    outer = max(zip(around, ways), key=lambda entry: entry[0].area, default=(None, True))[1]
    areas = {at: [loop] for at, (loop, way) in enumerate(zip(loops, ways)) if way == outer}
    for loop, way in zip(loops, ways):
        owner = next((at for at in areas if way != outer and around[at].contains(shapely.Point(loop[0]))), None)
        if owner is not None:
            areas[owner].append(loop)
    return list(areas.values())


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
