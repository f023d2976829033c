"""Solids whose sides lean, ruled between an outline and what it comes to farther off."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakePolygon,
    BRepBuilderAPI_MakeSolid,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_Sewing,
)
from OCP.collections import Array1_double, Array1_gp_Pnt, Array1_int, Array2_gp_Pnt
from OCP.Geom import Geom_BSplineCurve, Geom_BSplineSurface
from OCP.gp import gp_Pnt
from OCP.TopAbs import TopAbs_SHELL
from OCP.TopoDS import TopoDS, TopoDS_Face, TopoDS_Shape
from scipy.interpolate import make_interp_spline

from nomogon_core.geometry.fronts import MET_MM, PLACES, Stage, stages_of, volume_inside
from nomogon_core.solid import kernel

SAME_VOLUME, SEWN_MM = 2e-3, 1e-5


def ruled_loop(
    loop: list[tuple[str, Any]], neutral: float, far: float, angle: float, stages: list[Stage] | None = None
) -> tuple[TopoDS_Shape | None, list[tuple[TopoDS_Face, str]], list[TopoDS_Face]]:
    """As :func:`nomogon_core.solid.kernel.drafted_loop`: a solid inside a loop whose sides lean inward by an angle,
    radians, from one height to another; no solid where they fold or cross.

    Args:
        stages: how they lean, where that is known.
    """
    if stages is None:
        stages, lost = stages_of(loop, abs(far - neutral) * math.tan(angle))
        if lost is not None:
            return None, [], []
    sewing, sides, whole = BRepBuilderAPI_Sewing(SEWN_MM), [], stages[-1].far
    for stage in stages:
        low, high = (neutral + (far - neutral) * at / whole for at in (stage.near, stage.far))
        for name, straight, near, there in stage.sides:
            sides.append((_side(near, there, low, high, straight=straight), name))
            sewing.Add(sides[-1][0])
    caps = [
        cap_inside([(near, straight) for _, straight, near, _ in stages[0].sides], neutral),
        cap_inside([(there, straight) for _, straight, _, there in stages[-1].sides], far),
    ]
    for cap in caps:
        sewing.Add(cap)
    sewing.Perform()
    if sewing.NbFreeEdges() or sewing.SewedShape().ShapeType() != TopAbs_SHELL:
        return None, [], []
    solid = kernel.outward(BRepBuilderAPI_MakeSolid(TopoDS.Shell(sewing.SewedShape())).Solid())
    if abs(kernel.volume_properties(solid).Mass() / volume_inside(loop, abs(far - neutral), angle) - 1) > SAME_VOLUME:
        return None, [], []
    return (
        solid,
        [(kernel.sewn(sewing, face), name) for face, name in sides],
        [kernel.sewn(sewing, cap) for cap in caps],
    )


def _side(near, far, low, high, *, straight):
    """A face between two rows of places (n, 2) at their heights."""
    if straight:
        corners = [(*near[0], low), (*near[-1], low), (*far[-1], high), (*far[0], high)]
        if math.dist(near[0], near[-1]) <= MET_MM:
            del corners[1]
        if math.dist(far[0], far[-1]) <= MET_MM:
            del corners[-1]
        maker = BRepBuilderAPI_MakePolygon()
        for corner in corners:
            maker.Add(gp_Pnt(*map(float, corner)))
        maker.Close()
        return BRepBuilderAPI_MakeFace(maker.Wire(), True).Face()
    poles, (places, times) = Array2_gp_Pnt(1, PLACES, 1, 2), knots()
    for column, (row, height) in enumerate(((near, low), (far, high)), 1):
        for index, place in enumerate(poles_of(row, height), 1):
            poles.SetValue(index, column, place)
    across = array(Array1_double, (0.0, 1.0)), array(Array1_int, (2, 2))
    surface = Geom_BSplineSurface(poles, places, across[0], times, across[1], 3, 1)
    return BRepBuilderAPI_MakeFace(surface, MET_MM).Face()


def cap_inside(rows: list[tuple[np.ndarray, bool]], height: float) -> TopoDS_Face:
    """The flat face inside rows of places (n, 2), of which some are straight and some are but one point."""
    maker = BRepBuilderAPI_MakeWire()
    for row, straight in rows:
        if np.ptp(row, axis=0).max() <= MET_MM:
            continue
        places, (stops, times) = poles_of(row, height), knots()
        if straight:
            maker.Add(BRepBuilderAPI_MakeEdge(places[0], places[-1]).Edge())
            continue
        poles = array(Array1_gp_Pnt, places)
        maker.Add(BRepBuilderAPI_MakeEdge(Geom_BSplineCurve(poles, stops, times, 3)).Edge())
    return BRepBuilderAPI_MakeFace(maker.Wire(), True).Face()


def poles_of(row: np.ndarray, height: float) -> list[gp_Pnt]:
    """Poles of the spline through places (n, 2) at even steps, at a height."""
    told = make_interp_spline(np.linspace(0, 1, PLACES), row).c
    return [gp_Pnt(float(x), float(y), height) for x, y in told]


def knots() -> tuple[Any, Any]:
    """Knots of that spline, and how often each stands there."""
    told, times = np.unique(make_interp_spline(np.linspace(0, 1, PLACES), np.zeros(PLACES)).t, return_counts=True)
    return array(Array1_double, told.tolist()), array(Array1_int, times.tolist())


def array(kind: Any, values: Any) -> Any:
    """Values as an array of the kernel."""
    made = kind(1, len(values))
    for index, value in enumerate(values, 1):
        made.SetValue(index, value)
    return made
