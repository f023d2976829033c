"""Areas laid around a face, raised or sunk to a constant depth, without a boolean: the face gets their outlines as
holes, and walls and caps are sewn in, which have the same outlines in the parameters of a parallel surface.

Where an outline leaves the face or runs over its seam, solids between the parallel surfaces stand in for it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import attrs
import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeSolid,
    BRepBuilderAPI_MakeVertex,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_Sewing,
)
from OCP.BRepClass import BRepClass_FaceClassifier
from OCP.BRepFill import BRepFill
from OCP.BRepLib import BRepLib
from OCP.collections import Array1_gp_Pnt2d, HArray1_gp_Pnt2d
from OCP.Geom2d import Geom2d_BezierCurve
from OCP.Geom2dAPI import Geom2dAPI_Interpolate
from OCP.Geom2dConvert import Geom2dConvert
from OCP.GeomAbs import GeomAbs_SurfaceType
from OCP.gp import gp_Pnt2d
from OCP.TopAbs import TopAbs_EDGE, TopAbs_FORWARD, TopAbs_SHELL, TopAbs_State
from OCP.TopoDS import TopoDS, TopoDS_Face, TopoDS_Shape

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import bezier, cubics_of
from nomogon_core.solid import kernel
from nomogon_core.solid.developing import Development
from nomogon_core.solid.kernel import faces_of, outward, parts_of

ON_A_CURVE, SEWN_MM, ON_AXIS, LEAST_GAP = 25, 1e-5, 1e-7, 0.02
TURNED = (
    GeomAbs_SurfaceType.GeomAbs_Cylinder,
    GeomAbs_SurfaceType.GeomAbs_Cone,
    GeomAbs_SurfaceType.GeomAbs_Sphere,
    GeomAbs_SurfaceType.GeomAbs_Torus,
    GeomAbs_SurfaceType.GeomAbs_SurfaceOfRevolution,
)
CHECKED = 9


@attrs.frozen
class Piece:
    """One curve of an outline in the parameters of a surface: its name, and how it runs there."""

    name: str
    run: Any = attrs.field(repr=False)


@attrs.frozen
class Laid:
    """An area laid out on a surface: loops of :class:`Piece`, the outer one first, and its number.

    Attributes:
        inside: places (n, 2) in the surface's parameters, all along its outlines.
    """

    loops: list
    number: int
    inside: np.ndarray = attrs.field(repr=False)


def laid(areas: list[list[list[tuple[str, Any]]]], development: Development) -> list[Laid]:
    """Areas, as loops of (name, curve), laid out on a face: the outer loops run counter-clockwise in its parameters,
    the inner ones clockwise."""
    found = []
    for number, area in enumerate(areas, 1):
        loops, seen = [], []
        for order, loop in enumerate(area):
            controls = [(name, control) for name, curve in loop for control in cubics_of(curve)]
            places = np.vstack([bezier(control, np.linspace(0, 1, CHECKED)[:-1]) for _, control in controls])
            around = development.parameters(places)
            if (_turns_left(around) > 0) != (order == 0):
                controls = [(name, control[::-1]) for name, control in controls[::-1]]
            loops.append([Piece(name, _run(control, development)) for name, control in controls])
            seen.append(around)
        found.append(Laid(loops, number, np.vstack(seen)))
    return found


def _turns_left(polygon):
    (x, y), (u, v) = polygon.T, np.roll(polygon, -1, axis=0).T
    return float((x * v - u * y).sum())


def _run(control, development):
    """A cubic of the sketch as a curve in the parameters of a surface."""
    if development.is_affine:
        poles = Array1_gp_Pnt2d(1, 4)
        for index, (u, v) in enumerate(development.parameters(control).tolist(), 1):
            poles.SetValue(index, gp_Pnt2d(u, v))
        return Geom2dConvert.CurveToBSplineCurve_s(Geom2d_BezierCurve(poles))
    places = development.parameters(bezier(control, np.linspace(0, 1, ON_A_CURVE)))
    points = HArray1_gp_Pnt2d(1, len(places))
    for index, (u, v) in enumerate(places.tolist(), 1):
        points.SetValue(index, gp_Pnt2d(u, v))
    maker = Geom2dAPI_Interpolate(points, False, 1e-9)
    maker.Perform()
    return maker.Curve()


def lies_within(face: TopoDS_Face, areas: Sequence[Laid]) -> bool:
    """Whether areas lie within a face, clear of its borders and its seam."""
    return all(
        BRepClass_FaceClassifier(face, gp_Pnt2d(u, v), 1e-6).State() == TopAbs_State.TopAbs_IN
        for area in areas
        for u, v in area.inside.tolist()
    )


def with_seam_away(body: TopoDS_Shape, face: TopoDS_Face, areas: Sequence[Laid]) -> TopoDS_Shape | None:
    """The same body, turned about the axis of a face so that its seam lies in the widest gap between areas; its faces
    stay in their order. None where the body is not the same when it is turned, or there is no gap."""
    about = _turned_about(face)
    if about is None:
        return None
    surface = BRepAdaptor_Surface(face)
    if surface.LastUParameter() - surface.FirstUParameter() < 2 * math.pi - ON_AXIS or not _is_turned(body, *about):
        return None
    at = np.sort(np.concatenate([area.inside[:, 0] for area in areas]) % (2 * math.pi))
    gaps = np.diff(np.append(at, at[0] + 2 * math.pi))
    widest = int(np.argmax(gaps))
    if gaps[widest] < LEAST_GAP:
        return None
    angle = at[widest] + gaps[widest] / 2 - surface.FirstUParameter()
    position = getattr(BRep_Tool.Surface_s(face), "Position", None)
    sense = -1.0 if position and not position().Direct() else 1.0
    return kernel.transformed(body, kernel.turning(about[0], about[1], sense * angle))


def _turned_about(face):
    """(point, direction) of the axis of a face that is turned about one; None for any other."""
    if BRepAdaptor_Surface(face).GetType() not in TURNED:
        return None
    axis = BRep_Tool.Surface_s(face).Axis()
    return axis.Location().Coord(), axis.Direction().Coord()


def _is_turned(body, point, way):
    """Whether a body is the same when it is turned about an axis: flat faces lie square to it, all other are turned
    about it, and edges run around it but for seams."""

    def on_axis(axis):
        return (
            axis is not None
            and np.linalg.norm(np.cross(axis[1], way)) < ON_AXIS
            and np.linalg.norm(np.cross(np.subtract(axis[0], point), way)) < ON_AXIS
        )

    for one in faces_of(body):
        flat = kernel.plane_of(one)
        if flat is not None and np.linalg.norm(np.cross(flat[1], way)) > ON_AXIS:
            return False
        if flat is None and not on_axis(_turned_about(one)):
            return False
        for edge in parts_of(one, TopAbs_EDGE):
            if not BRep_Tool.IsClosed_s(TopoDS.Edge(edge), one) and not on_axis(kernel.axis_through(edge)):
                return False
    return True


def _edges_on(surface, loop):
    """Edges of a loop on a surface, which share their vertices."""
    corners = [
        BRepBuilderAPI_MakeVertex(surface.Value(*piece.run.Value(piece.run.FirstParameter()).Coord())).Vertex()
        for piece in loop
    ]
    edges = []
    for index, piece in enumerate(loop):
        maker = BRepBuilderAPI_MakeEdge(piece.run, surface, corners[index], corners[(index + 1) % len(loop)])
        if not maker.IsDone():
            raise OperationError("A curve of these areas cannot be laid on that face; make it longer or leave it out.")
        BRepLib.BuildCurves3d_s(maker.Edge())
        edges.append(maker.Edge())
    return edges


def _wire(edges):
    maker = BRepBuilderAPI_MakeWire()
    for edge in edges:
        maker.Add(edge)
    return maker.Wire()


@attrs.frozen
class Grown:
    """A solid, and what its new faces are: (face, role, name of the curve or number of the area)."""

    solid: TopoDS_Shape
    named: list


def grafted(body: TopoDS_Shape, face: TopoDS_Face, development: Development, areas: list[Laid], rise: float) -> Grown:
    """A body whose face is raised, or sunk where ``rise`` is negative, within some areas that lie in it.

    Raises:
        OperationError: the result does not close.
    """
    far = development.parallel(rise)
    near = development.surface
    rest = BRepBuilderAPI_MakeFace(TopoDS.Face(face.Oriented(TopAbs_FORWARD)))
    added: list[tuple[Any, str, Any]] = []
    for area in areas:
        caps = []
        for order, loop in enumerate(area.loops):
            feet, tips = _edges_on(near, loop), _edges_on(far, loop)
            caps.append(_wire(tips))
            around = TopoDS.Wire(_wire(feet).Reversed())
            if order == 0:
                rest.Add(around)
            else:
                island = BRepBuilderAPI_MakeFace(near, around, True).Face()
                added.append((island, "island", f"{area.number}.{order}"))
            added += [(BRepFill.Face_s(foot, tip), "side", piece.name) for foot, tip, piece in zip(feet, tips, loop)]
        added.append((_capped(far, caps), "top" if rise > 0 else "floor", area.number))
    kept = [one for one in faces_of(body) if not one.IsSame(face)]
    rest_face = TopoDS.Face(rest.Face().Oriented(face.Orientation()))
    sewing, solid = sewn_solid([*kept, rest_face, *(one for one, _, _ in added)])
    named = [(_became(sewing, one), role, of) for one, role, of in added]
    carried = [(_became(sewing, one), "kept", one) for one in kept] + [(_became(sewing, rest_face), "kept", face)]
    return Grown(solid, named + carried)


def between(development: Development, area: Laid, low: float, high: float) -> Grown:
    """The solid over an area between two surfaces parallel to a face.

    Raises:
        OperationError: it does not close.
    """
    bottom, top = development.parallel(low), development.parallel(high)
    rows = [[_edges_on(surface, loop) for loop in area.loops] for surface in (bottom, top)]
    added: list[tuple[Any, str, Any]] = [
        (_capped(surface, [_wire(edges) for edges in row]), role, area.number)
        for surface, row, role in ((bottom, rows[0], "floor"), (top, rows[1], "top"))
    ]
    for loop, feet, tips in zip(area.loops, *rows):
        added += [(BRepFill.Face_s(foot, tip), "side", piece.name) for foot, tip, piece in zip(feet, tips, loop)]
    sewing, solid = sewn_solid([one for one, _, _ in added])
    return Grown(solid, [(_became(sewing, one), role, of) for one, role, of in added])


def _capped(surface, wires):
    maker = BRepBuilderAPI_MakeFace(surface, wires[0], True)
    for wire in wires[1:]:
        maker.Add(wire)
    return maker.Face()


def sewn_solid(faces: list[Any], tolerance: float = SEWN_MM) -> tuple[Any, TopoDS_Shape]:
    """The sewing of faces and the one solid that they close to.

    Raises:
        OperationError: they do not close.
    """
    sewing = BRepBuilderAPI_Sewing(tolerance)
    for face in faces:
        sewing.Add(face)
    sewing.Perform()
    shells = parts_of(sewing.SewedShape(), TopAbs_SHELL)
    if len(shells) != 1 or sewing.NbFreeEdges():
        raise OperationError(
            "These areas cannot be laid on that face: they do not close there. Look for areas that touch, or overlap "
            "the border of the face."
        )
    return sewing, outward(BRepBuilderAPI_MakeSolid(TopoDS.Shell(shells[0])).Solid())


def _became(sewing, face):
    return TopoDS.Face(sewing.Modified(face)) if sewing.IsModified(face) else face
