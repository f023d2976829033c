"""Area, share of the volume, moments and box of flat faces between lines and circular arcs, in closed form.

By Stokes' theorem (1854) the integrals over the face are sums over its edges, each taken by itself: with
``a = ½∮ r × dr`` and ``l = ½∮ |r|² dr`` the area is ``a·n``, and the integral of ``r`` over the face is
``(n·r) (a·n) n + l × n``.
"""

from __future__ import annotations

import math

import attrs
from OCP.BRepAdaptor import BRepAdaptor_Curve, BRepAdaptor_Surface
from OCP.GeomAbs import GeomAbs_CurveType, GeomAbs_SurfaceType
from OCP.TopAbs import TopAbs_EDGE, TopAbs_REVERSED
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS, TopoDS_Edge, TopoDS_Face

from nomogon_core.solid.shapes import LastShapes

LINE, CIRCLE = GeomAbs_CurveType.GeomAbs_Line, GeomAbs_CurveType.GeomAbs_Circle


@attrs.frozen
class Flat:
    """A flat face: (area, share of the volume, moments x, y, z of that share about the origin), and its box as (low x,
    y, z), (high x, y, z)."""

    sums: tuple
    box: tuple


def flat(face: TopoDS_Face) -> Flat | None:
    """What is told of a flat face between lines and circular arcs; None for any other."""
    surface = BRepAdaptor_Surface(face)
    if surface.GetType() != GeomAbs_SurfaceType.GeomAbs_Plane:
        return None
    axis = surface.Plane().Axis()
    sign = -1.0 if face.Orientation() == TopAbs_REVERSED else 1.0
    normal = [sign * value for value in axis.Direction().Coord()]
    around, along, low, high = [0.0] * 3, [0.0] * 3, [math.inf] * 3, [-math.inf] * 3
    explorer = TopExp_Explorer(face, TopAbs_EDGE)
    while explorer.More():
        edge = TopoDS.Edge(explorer.Current())
        told = _EDGES.get(edge)
        if told is None:
            told = _EDGES.keep(edge, _of_line_or_arc(edge) or ())
        if not told:
            return None
        area, run, least, most = told
        way = -1.0 if edge.Orientation() == TopAbs_REVERSED else 1.0
        for index in range(3):
            around[index] += way * area[index]
            along[index] += way * run[index]
            low[index] = min(low[index], least[index])
            high[index] = max(high[index], most[index])
        explorer.Next()
    area = _dot(around, normal)
    if area < 0:
        return None
    away = _dot(axis.Location().Coord(), normal)
    across = _cross(along, normal)
    share = away * area / 3
    moments = (away / 4 * (away * area * n + value) for n, value in zip(normal, across))
    return Flat((area, share, *moments), (tuple(low), tuple(high)))


_EDGES = LastShapes(20_000)
"""What is told of edges: most stay as they are when a face gets one more hole."""


def _of_line_or_arc(edge: TopoDS_Edge):
    """(½∫ r × dr, ½∫ |r|² dr, low, high) along an edge as its curve runs; None for another curve."""
    curve = BRepAdaptor_Curve(edge)
    kind = curve.GetType()
    begin, end = curve.FirstParameter(), curve.LastParameter()
    first, last = curve.Value(begin).Coord(), curve.Value(end).Coord()
    run = [b - a for a, b in zip(first, last)]
    least, most = list(map(min, first, last)), list(map(max, first, last))
    if kind == LINE:
        squares = (_dot(first, first) + _dot(first, last) + _dot(last, last)) / 6
        return [value / 2 for value in _cross(first, last)], [squares * value for value in run], least, most
    if kind != CIRCLE:
        return None
    circle = curve.Circle()
    frame, radius = circle.Position(), circle.Radius()
    center, x, y = circle.Location().Coord(), frame.XDirection().Coord(), frame.YDirection().Coord()
    for index in range(3):
        _widen(least, most, index, center[index], radius * x[index], radius * y[index], begin, end)
    turn, both = (end - begin) / 2, (math.sin(2 * end) - math.sin(2 * begin)) / 4
    cosines, sines, mixed = turn + both, turn - both, (math.sin(end) ** 2 - math.sin(begin) ** 2) / 2
    out_x, out_y = _dot(center, x), _dot(center, y)
    on_x, on_y = -out_x * mixed - out_y * sines, out_x * cosines + out_y * mixed
    half = (_dot(center, center) + radius**2) / 2
    along = [half * r + radius**2 * (on_x * a + on_y * b) for r, a, b in zip(run, x, y)]
    swept = zip(_cross(center, run), _cross(x, y))
    return [(one + 2 * radius**2 * turn * other) / 2 for one, other in swept], along, least, most


def _widen(least, most, index, center, on_x, on_y, begin, end):
    """Take in where an arc turns back along an axis."""
    reach = math.hypot(on_x, on_y)
    at = math.atan2(on_y, on_x)
    if (at - begin) % math.tau <= end - begin:
        most[index] = max(most[index], center + reach)
    if (at + math.pi - begin) % math.tau <= end - begin:
        least[index] = min(least[index], center - reach)


def _dot(one, other):
    return one[0] * other[0] + one[1] * other[1] + one[2] * other[2]


def _cross(one, other):
    return [
        one[1] * other[2] - one[2] * other[1],
        one[2] * other[0] - one[0] * other[2],
        one[0] * other[1] - one[1] * other[0],
    ]
