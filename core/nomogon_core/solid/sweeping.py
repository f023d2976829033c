"""Round bars along paths: exact tubes along flat curves, else along a spline through the path's places."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_TransitionMode,
)
from OCP.BRepOffsetAPI import BRepOffsetAPI_MakePipe, BRepOffsetAPI_MakePipeShell
from OCP.collections import Array1_gp_Pnt2d, HArray1_gp_Pnt
from OCP.GeomAPI import GeomAPI_Interpolate
from OCP.gp import gp_Ax2, gp_Circ, gp_Dir, gp_Pnt, gp_Pnt2d, gp_Vec
from OCP.Law import Law_Interpol
from OCP.TopoDS import TopoDS
from scipy.interpolate import PchipInterpolator

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import CLOSED, end_directions
from nomogon_core.solid import kernel

if TYPE_CHECKING:
    from OCP.TopoDS import TopoDS_Shape, TopoDS_Wire

    from nomogon_core.solid.paths import Path

LAW_PLACES = 41
SAME_VOLUME, WIDER_VOLUME = 2e-3, 3e-2


def spline_through(points: np.ndarray, *, closed: bool = False) -> Any:
    """The kernel's spline through places (n, 3).

    Raises:
        OperationError: places lie on each other.
    """
    array = HArray1_gp_Pnt(1, len(points))
    for index, place in enumerate(points.tolist(), 1):
        array.SetValue(index, gp_Pnt(*place))
    maker = GeomAPI_Interpolate(array, closed, 1e-7)
    maker.Perform()
    if not maker.IsDone():
        raise OperationError("No smooth curve goes along these curves; look for places that lie on each other.")
    return maker.Curve()


def _exact_wire(path):
    """The wire of a flat path, the place where it begins, and its direction there."""
    frame, curves = path.flat
    maker = BRepBuilderAPI_MakeWire()
    for curve in curves:
        for edge in kernel.edges_of_curve(curve, 0.0):
            maker.Add(edge)
    first = curves[0]
    if isinstance(first, CLOSED):
        way = (0.0, 1.0) if hasattr(first, "radius") else (-math.sin(first.angle), math.cos(first.angle))
    else:
        way = end_directions(first)[0]
    in_space = np.subtract(frame.in_space(tuple(way)), frame.origin)
    return TopoDS.Wire(kernel.placed(maker.Wire(), frame)), path.points[0], in_space


def _interpolated_wire(path):
    curve = spline_through(path.points[:-1] if path.closed else path.points, closed=path.closed)
    place, way = gp_Pnt(), gp_Vec()
    curve.D1(curve.FirstParameter(), place, way)
    wire = BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(curve).Edge()).Wire()
    return wire, np.array(place.Coord()), np.array(way.Coord())


def _circle(place, way, radius):
    circle = gp_Circ(gp_Ax2(gp_Pnt(*map(float, place)), gp_Dir(*map(float, way))), radius)
    return BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(circle).Edge()).Wire()


def bar(path: Path, radii: Sequence[tuple[float, float]]) -> TopoDS_Shape:
    """A solid round bar along a path.

    Args:
        radii: (share of the way 0..1, radius) ascending; one alone holds all along, several go over into each other
            without overshooting (Fritsch and Carlson 1980).

    Raises:
        OperationError: the kernel's result is not the bar.
    """
    even = len({round(radius, 9) for _, radius in radii}) == 1
    wire, place, way = _exact_wire(path) if path.flat and even else _interpolated_wire(path)
    first = radii[0][1]
    wanted = math.pi * first**2 * path.length
    if even:
        solid = _tube(wire, _circle(place, way, first), bool(path.kinks))
    else:
        shares = np.linspace(0, 1, LAW_PLACES)
        told = PchipInterpolator(*zip(*_with_ends(radii, path.closed)))(shares)
        solid = _changing(wire, _circle(place, way, first), shares, told / first)
        wanted = math.pi * path.length * float(np.trapezoid(told**2, shares))
    solid = kernel.outward(solid)
    volume = kernel.volume_properties(solid).Mass()
    slack = WIDER_VOLUME if path.kinks or not even else SAME_VOLUME
    if abs(volume / wanted - 1) > slack + (len(path.kinks) * 2 * first / path.length):
        raise OperationError("The bar folds over itself somewhere on its way; take a thinner one, or a smoother path.")
    return solid


def _with_ends(radii, closed):
    told = dict(radii)
    told.setdefault(0.0, radii[0][1])
    told.setdefault(1.0, told[0.0] if closed else radii[-1][1])
    return sorted(told.items())


def _tube(wire: TopoDS_Wire, profile: TopoDS_Wire, kinked: bool) -> Any:
    if not kinked:
        return BRepOffsetAPI_MakePipe(wire, BRepBuilderAPI_MakeFace(profile).Face()).Shape()
    maker = BRepOffsetAPI_MakePipeShell(wire)
    maker.SetMode(False)
    maker.SetTransitionMode(BRepBuilderAPI_TransitionMode.BRepBuilderAPI_RoundCorner)
    maker.Add(profile)
    return _closed(maker)


def _changing(wire: TopoDS_Wire, profile: TopoDS_Wire, shares: np.ndarray, factors: np.ndarray) -> Any:
    law, places = Law_Interpol(), Array1_gp_Pnt2d(1, len(shares))
    for index, (share, factor) in enumerate(zip(shares.tolist(), factors.tolist()), 1):
        places.SetValue(index, gp_Pnt2d(share, factor))
    law.Set(places, False)
    maker = BRepOffsetAPI_MakePipeShell(wire)
    maker.SetMode(False)
    maker.SetLaw(profile, law, False, False)
    return _closed(maker)


def _closed(maker):
    maker.Build()
    if not maker.IsDone() or not maker.MakeSolid():
        raise OperationError(
            "The kernel could not carry the bar along that path; make it smoother, or the bar thinner."
        )
    return maker.Shape()
