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
from OCP.TopoDS import TopoDS, TopoDS_Shape

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
            loops = [_curves(wire, face) for wire in sorted(wires, key=lambda wire: not wire.IsSame(outer))]
            areas.append([_running(loop, around=index == 0) for index, loop in enumerate(loops)])
    return areas


def _curves(wire, face):
    """The curves of a wire, one after another."""
    found, walk = [], BRepTools_WireExplorer(wire, face)
    while walk.More():
        edge = walk.Current()
        if not BRep_Tool.Degenerated_s(edge):
            run = BRepAdaptor_Curve(edge)
            turned = walk.Orientation() == TopAbs_REVERSED
            begin = run.Value(run.LastParameter() if turned else run.FirstParameter()).Coord()[:2]
            for curve in plane_curve(run):
                tips = ends(curve)
                wrong = tips is not None and math.dist(tips[0], begin) > math.dist(tips[1], begin)
                found.append(reverse(curve) if wrong else curve)
        walk.Next()
    return tuple(found)


def _running(loop, *, around):
    """A loop counter-clockwise, or else clockwise; a whole circle or ellipse has no sense."""
    if len(loop) == 1 or (closed_area(loop) > 0) == around:
        return loop
    return tuple(reverse(curve) for curve in reversed(loop))
