"""Exact sections of solids by a plane, as areas of that plane."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace
from OCP.BRepTools import BRepTools, BRepTools_WireExplorer
from OCP.gp import gp_Dir, gp_Pln, gp_Pnt
from OCP.TopAbs import TopAbs_REVERSED, TopAbs_WIRE
from OCP.TopoDS import TopoDS, TopoDS_Edge, TopoDS_Face, TopoDS_Shape, TopoDS_Wire

from nomogon_core.geometry.curves import closed_area, ends, reverse
from nomogon_core.solid import kernel
from nomogon_core.solid.planes import Frame
from nomogon_core.solid.projection import plane_curve


def section(shapes: Sequence[TopoDS_Shape], frame: Frame, height: float) -> list[list[tuple[Any, ...]]]:
    """What a plane cuts of some shapes: of each area the curves around it, counter-clockwise, then those around each of
    its holes, clockwise, in the coordinates of the frame; nothing where the plane passes them by.

    Args:
        frame: the plane is parallel to it; height: that far along its normal, millimetres.
    """
    areas = []
    for shape in shapes:
        seen = kernel.seen_from(shape, frame)
        reach = kernel.reach_of([seen]) + max(abs(value) for corner in kernel.tight_box(seen) for value in corner)
        plane = gp_Pln(gp_Pnt(0.0, 0.0, height), gp_Dir(0.0, 0.0, 1.0))
        sheet = BRepBuilderAPI_MakeFace(plane, -reach, reach, -reach, reach).Face()
        cut = kernel.boolean("overlap", seen, [sheet]).Shape()
        for face in kernel.faces_of(cut):
            outer = BRepTools.OuterWire_s(face)
            wires = [TopoDS.Wire(wire) for wire in kernel.parts_of(face, TopAbs_WIRE)]
            wires.sort(key=lambda wire: not wire.IsSame(outer))
            loops = [tuple(curve for _, curve in curves_around(wire, face)) for wire in wires]
            areas.append([_running(loop, around=index == 0) for index, loop in enumerate(loops)])
    return areas


def curves_around(wire: TopoDS_Wire, face: TopoDS_Face, *, simpler: bool = True) -> list[tuple[TopoDS_Edge, Any]]:
    """(edge, curve) along a wire of a face as it is seen along z, one after another; see
    :func:`nomogon_core.solid.projection.plane_curve`."""
    found, walk = [], BRepTools_WireExplorer(wire, face)
    while walk.More():
        edge = walk.Current()
        if not BRep_Tool.Degenerated_s(edge):
            run = BRepAdaptor_Curve(edge)
            turned = walk.Orientation() == TopAbs_REVERSED
            begin = run.Value(run.LastParameter() if turned else run.FirstParameter()).Coord()[:2]
            for curve in plane_curve(run, simpler=simpler):
                tips = ends(curve)
                wrong = tips is not None and math.dist(tips[0], begin) > math.dist(tips[1], begin)
                found.append((edge, reverse(curve) if wrong else curve))
        walk.Next()
    return found


def _running(loop, *, around):
    """A loop counter-clockwise, or else clockwise; a whole circle or ellipse has no sense."""
    if len(loop) == 1 or (closed_area(loop) > 0) == around:
        return loop
    return tuple(reverse(curve) for curve in reversed(loop))
