"""Made-up parts for the trace benchmark, as exact outlines in millimetres, and letters of an open font."""

import io
import math

import numpy as np
from fontTools.pens.recordingPen import DecomposingRecordingPen
from fontTools.ttLib import TTFont
from PIL import ImageFont

from examples.render import hole, rounded_polygon, slot
from nomogon_core.geometry.curves import Arc, Line, Spline, closed_area, polar, reverse

QUARTER = math.pi / 2


def bracket():
    """Feeder bracket: an L with six rounded corners and four holes."""
    return (
        rounded_polygon([(0, 0), (110, 0), (110, 28), (42, 28), (42, 74), (0, 74)], [6, 9, 9, 14, 8, 5]),
        hole(14, 14, 8.5),
        hole(96, 14, 10),
        hole(14, 60, 8.5),
        hole(28, 42, 12),
    )


def slot_plate():
    """Adjusting plate: two slots, a hexagon and two holes."""
    hexagon = [polar((58, 38), 10.5, 0.2 + math.pi / 3 * k) for k in range(6)]
    return (
        rounded_polygon([(0, 0), (116, 0), (116, 76), (0, 76)], [5, 18, 5, 18]),
        slot((33, 17), 30, 5),
        slot((84, 59), 24, 4),
        rounded_polygon(hexagon, [0] * 6),
        hole(12, 26, 6),
        hole(102, 46, 6),
    )


def gear(teeth=12, tip=37.0, root=30.0):
    """Extractor pinion: straight flanks between arcs, a bore and four holes."""
    pitch, outline, center = 2 * math.pi / teeth, [], (58.0, 40.0)
    for k in range(teeth):
        start = k * pitch
        up, over, down = start + 0.18 * pitch, start + 0.5 * pitch, start + 0.68 * pitch
        outline += [
            Arc(center, root, start - 0.32 * pitch, 0.32 * pitch),
            Line(polar(center, root, start), polar(center, tip, up)),
            Arc(center, tip, up, over - up),
            Line(polar(center, tip, over), polar(center, root, down)),
        ]
    return (
        tuple(outline),
        hole(*center, 18),
        *(hole(*polar(center, 19.5, math.pi / 4 + k * QUARTER), 8) for k in range(4)),
    )


def _through(places):
    """A closed smooth chain of cubics through places (Catmull and Rom 1974)."""
    places = np.asarray(places, float)
    before, after, next_but_one = np.roll(places, 1, 0), np.roll(places, -1, 0), np.roll(places, -2, 0)
    return tuple(
        Spline([p, p + (after[k] - before[k]) / 6, after[k] - (next_but_one[k] - p) / 6, after[k]])
        for k, p in enumerate(places)
    )


def cam():
    """Extractor cam: free curves only, twenty cubics."""
    body = _through(
        [
            (5, 40),
            (12, 61),
            (32, 72),
            (54, 63),
            (77, 71),
            (102, 76),
            (114, 57),
            (109, 40),
            (113, 21),
            (97, 5),
            (75, 11),
            (54, 18),
            (32, 7),
            (12, 17),
        ]
    )
    window = _through([(40, 40), (54, 47), (71, 45), (79, 39), (69, 32), (53, 33)])
    return (body, window)


def leaf():
    """A leaf with a pointed tip at both ends and a smooth belly: two sharp corners between free curves."""
    return ((Spline([(4, 38), (24, 4), (70, 2), (112, 40)]), Spline([(112, 40), (82, 78), (32, 76), (4, 38)])),)


def _glyph_curves(commands, place):
    """Outlines of recorded pen commands, as lines and cubics."""
    outlines, curves, here, start = [], [], None, None
    for name, points in commands:
        points = [place(point) for point in points]
        if name == "moveTo":
            here = start = points[0]
        elif name == "lineTo":
            curves.append(Line(here, points[0]))
            here = points[0]
        elif name == "curveTo":
            curves.append(Spline([here, *points]))
            here = points[2]
        elif name == "qCurveTo":
            implied = [((a[0] + b[0]) / 2, (a[1] + b[1]) / 2) for a, b in zip(points[:-2], points[1:-1])] + [points[-1]]
            for handle, end in zip(points[:-1], implied):
                curves.append(
                    Spline(
                        [
                            here,
                            np.add(here, np.multiply(2 / 3, np.subtract(handle, here))),
                            np.add(end, np.multiply(2 / 3, np.subtract(handle, end))),
                            end,
                        ]
                    )
                )
                here = end
        else:
            if math.dist(here, start) > 1e-6:
                curves.append(Line(here, start))
            outlines.append(
                tuple(
                    curve
                    for curve in curves
                    if not (isinstance(curve, Line) and math.dist(curve.start, curve.end) < 1e-6)
                )
            )
            curves = []
    return outlines


def lettering(text="Bg5&S", height=44.0):
    """Letters of the font inside Pillow (Aileron, CC0), outer outlines counter-clockwise."""
    font = TTFont(io.BytesIO(ImageFont.load_default(10).font_bytes))
    glyphs, names, scale = font.getGlyphSet(), font.getBestCmap(), height / font["OS/2"].sCapHeight
    outlines, pen_at = [], 4.0
    for letter in text:
        pen = DecomposingRecordingPen(glyphs)
        glyphs[names[ord(letter)]].draw(pen)
        own = _glyph_curves(pen.value, lambda point, left=pen_at: (point[0] * scale + left, point[1] * scale + 16))
        sense = math.copysign(1, closed_area(max(own, key=lambda curves: abs(closed_area(curves)))))
        outlines += [curves if sense > 0 else tuple(reverse(curve) for curve in reversed(curves)) for curves in own]
        pen_at += glyphs[names[ord(letter)]].width * scale + 2
    return tuple(outlines)


LINES_AND_ARCS = {"bracket": bracket, "slot plate": slot_plate, "gear": gear}
FREE = {"cam": cam, "leaf": leaf, "lettering": lettering}
