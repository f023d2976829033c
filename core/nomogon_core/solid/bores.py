"""Round holes of a shape: cylinders that go all around space, whatever made them."""

from __future__ import annotations

import math

import attrs
import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepLProp import BRepLProp_SLProps
from OCP.GeomAbs import GeomAbs_SurfaceType
from OCP.GeomAPI import GeomAPI_ProjectPointOnSurf
from OCP.gp import gp_Cylinder, gp_Pnt
from OCP.TopAbs import TopAbs_REVERSED
from OCP.TopoDS import TopoDS_Face, TopoDS_Shape

from nomogon_core.solid import kernel

WHOLE_SHARE = 0.75
DIGITS = 6


@attrs.frozen
class Bore:
    """A round hole: its radius, the middle of one end, the unit vector to the other, and its length, millimetres."""

    radius: float
    start: tuple[float, float, float]
    way: tuple[float, float, float]
    length: float


def outward_normal(face: TopoDS_Face, point: gp_Pnt) -> np.ndarray:
    """Unit normal of a face, outward, at a place on it."""
    nearest = GeomAPI_ProjectPointOnSurf(point, BRep_Tool.Surface_s(face))
    told = BRepLProp_SLProps(BRepAdaptor_Surface(face), *nearest.LowerDistanceParameters(), 1, 1e-6)
    normal = np.array(told.Normal().Coord())
    return -normal if face.Orientation() == TopAbs_REVERSED else normal


def is_hollow(face: TopoDS_Face, surface: BRepAdaptor_Surface, round_one: gp_Cylinder) -> bool:
    """Whether a round face curves around space, not around material."""
    u = (surface.FirstUParameter() + surface.LastUParameter()) / 2
    v = (surface.FirstVParameter() + surface.LastVParameter()) / 2
    there = surface.Value(u, v)
    place = np.array(there.Coord())
    axis, way = np.array(round_one.Location().Coord()), np.array(round_one.Axis().Direction().Coord())
    out = place - axis - float((place - axis) @ way) * way
    return float(outward_normal(face, there) @ out) < 0


def bores_of(shape: TopoDS_Shape) -> list[Bore]:
    """The round holes of a shape, also those whose wall is of several faces."""
    walls: dict[tuple, list[tuple[float, float, float]]] = {}
    for face in kernel.faces_of(shape):
        surface = BRepAdaptor_Surface(face)
        is_round = surface.GetType() == GeomAbs_SurfaceType.GeomAbs_Cylinder
        line = kernel.axis_through(face) if is_round else None
        if line is None or not is_hollow(face, surface, surface.Cylinder()):
            continue
        axis, way = map(np.array, line)
        way = way * (1.0 if tuple(np.round(way, DIGITS)) > (0.0, 0.0, 0.0) else -1.0)
        foot = axis - float(axis @ way) * way
        ends = [
            float(np.array(surface.Value(surface.FirstUParameter(), v).Coord()) @ way)
            for v in (surface.FirstVParameter(), surface.LastVParameter())
        ]
        sweep = surface.LastUParameter() - surface.FirstUParameter()
        key = (round(surface.Cylinder().Radius(), DIGITS), *np.round(foot, 5) + 0.0, *np.round(way, DIGITS) + 0.0)
        walls.setdefault(tuple(map(float, key)), []).append((min(ends), max(ends), sweep))
    found = []
    for (radius, *rest), parts in walls.items():
        foot, way = np.array(rest[:3]), np.array(rest[3:])
        for low, high, sweep in _stretches(parts):
            if sweep > WHOLE_SHARE * 2 * math.pi * (high - low):
                start = tuple((foot + low * way).tolist())
                found.append(Bore(radius, start, tuple(way.tolist()), high - low))
    return found


def _stretches(parts):
    """(low, high, angle times length of the walls) of parts along one axis that hang together."""
    told = []
    for low, high, sweep in sorted(parts):
        if told and low < told[-1][1] - 1e-6:
            begin, end, area = told[-1]
            told[-1] = (begin, max(end, high), area + sweep * (high - low))
        else:
            told.append((low, high, sweep * (high - low)))
    return told
