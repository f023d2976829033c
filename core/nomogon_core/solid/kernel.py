"""Thin, checked calls into the geometry kernel; nothing outside this folder touches it.

After every call the result is looked at: not empty, valid, of a sensible volume; a wrong result of a
boolean is not always reported as one.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np
from OCP.Bnd import Bnd_Box
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve, BRepAdaptor_Surface
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepCheck import BRepCheck_Analyzer
from OCP.BRepClass3d import BRepClass3d_SolidClassifier
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepGProp import BRepGProp
from OCP.BRepLib import BRepLib
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakePrism
from OCP.BRepTools import BRepTools
from OCP.collections import (
    Array1_gp_Pnt,
    IndexedDataMap_TopoDS_Shape_List_TopoDS_Shape_TopTools_ShapeMapHasher,
    IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher,
    List_TopoDS_Shape,
)
from OCP.GCPnts import GCPnts_TangentialDeflection
from OCP.Geom import Geom_BezierCurve
from OCP.GeomAbs import GeomAbs_CurveType, GeomAbs_Shape, GeomAbs_SurfaceType
from OCP.gp import gp_Ax2, gp_Circ, gp_Dir, gp_Elips, gp_Pln, gp_Pnt, gp_Trsf, gp_Vec
from OCP.GProp import GProp_GProps
from OCP.ShapeCustom import ShapeCustom
from OCP.TopAbs import (
    TopAbs_EDGE,
    TopAbs_FACE,
    TopAbs_REVERSED,
    TopAbs_ShapeEnum,
    TopAbs_SOLID,
    TopAbs_State,
    TopAbs_VERTEX,
)
from OCP.TopExp import TopExp
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS, TopoDS_Edge, TopoDS_Face, TopoDS_Shape, TopoDS_Wire

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import CLOSED, Arc, Circle, Ellipse, Line, ends
from nomogon_core.solid.facts import Facts
from nomogon_core.solid.planes import PLAN

if TYPE_CHECKING:
    from nomogon_core.solid.planes import Frame

UP = gp_Dir(0, 0, 1)
EXACT_SURFACES = (
    GeomAbs_SurfaceType.GeomAbs_Plane,
    GeomAbs_SurfaceType.GeomAbs_Cylinder,
    GeomAbs_SurfaceType.GeomAbs_Cone,
    GeomAbs_SurfaceType.GeomAbs_Sphere,
    GeomAbs_SurfaceType.GeomAbs_Torus,
)
RULED_SURFACES = (*EXACT_SURFACES[:3], GeomAbs_SurfaceType.GeomAbs_SurfaceOfExtrusion)
VOLUME_SLACK = 1e-6
SMOOTH_ANGLE = 0.02
LEAST_SEEN_MM, LEVEL = 1e-6, 1e-9


def is_failure(problem: Any) -> Any:
    """Whether an exception was thrown by the kernel; its classes have no common base in this binding."""
    return type(problem).__module__.startswith("OCP.")


class ShapeMap:
    """Shapes to values by identity, as the kernel sees it."""

    def __init__(self) -> None:
        self.index = IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
        self.values = {}

    def put(self, shape: TopoDS_Edge | TopoDS_Face | TopoDS_Shape, value: Any) -> None:
        self.values[self.index.Add(shape)] = value

    def get(self, shape: TopoDS_Edge | TopoDS_Face | TopoDS_Shape, default: Any = None) -> Any:
        return self.values.get(self.index.FindIndex(shape), default)


def parts_of(shape: TopoDS_Edge | TopoDS_Shape, kind: TopAbs_ShapeEnum) -> list[TopoDS_Shape]:
    """Sub-shapes of a kind, each once."""
    found = IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
    TopExp.MapShapes_s(shape, kind, found)
    return [found.FindKey(index) for index in range(1, found.Extent() + 1)]


def items(chain: List_TopoDS_Shape) -> list[TopoDS_Shape]:
    """Members of a kernel list; its own iterator takes 0.3 ms a list, so short ones are read from both ends."""
    size = chain.Size()
    if size == 0:
        return []
    return [chain.First()] if size == 1 else [chain.First(), chain.Last()] if size == 2 else list(chain)


def faces_of(shape: TopoDS_Shape) -> list[TopoDS_Face]:
    return [TopoDS.Face(face) for face in parts_of(shape, TopAbs_FACE)]


def edges_with_faces(shape: TopoDS_Shape) -> list[tuple[TopoDS_Edge, list]]:
    """(edge, its faces) of every edge."""
    found = IndexedDataMap_TopoDS_Shape_List_TopoDS_Shape_TopTools_ShapeMapHasher()
    TopExp.MapShapesAndAncestors_s(shape, TopAbs_EDGE, TopAbs_FACE, found)
    return [
        (TopoDS.Edge(found.FindKey(index)), list(map(TopoDS.Face, items(found.FindFromIndex(index)))))
        for index in range(1, found.Extent() + 1)
    ]


def faces_at_vertices(shape: TopoDS_Shape) -> IndexedDataMap_TopoDS_Shape_List_TopoDS_Shape_TopTools_ShapeMapHasher:
    """The faces that meet in each vertex of a shape, for :func:`faces_at_ends`."""
    found = IndexedDataMap_TopoDS_Shape_List_TopoDS_Shape_TopTools_ShapeMapHasher()
    TopExp.MapShapesAndAncestors_s(shape, TopAbs_VERTEX, TopAbs_FACE, found)
    return found


def corners_with_faces(shape: Any) -> Any:
    """((x, y, z), faces that meet there) of every vertex of a shape."""
    found = faces_at_vertices(shape)
    return [
        (BRep_Tool.Pnt_s(TopoDS.Vertex(vertex)).Coord(), items(found.FindFromKey(vertex)))
        for vertex in vertices_of(shape)
    ]


def faces_at_ends(
    edge: TopoDS_Edge, found: IndexedDataMap_TopoDS_Shape_List_TopoDS_Shape_TopTools_ShapeMapHasher
) -> list[list[TopoDS_Shape]]:
    """The faces (one list a vertex) that meet at the ends of an edge."""
    return [items(found.FindFromKey(vertex)) for vertex in parts_of(edge, TopAbs_VERTEX)]


def vertices_of(shape: TopoDS_Shape) -> list[TopoDS_Shape]:
    return parts_of(shape, TopAbs_VERTEX)


def shape_list(shapes: list[TopoDS_Shape]) -> List_TopoDS_Shape:
    chain = List_TopoDS_Shape()
    for shape in shapes:
        chain.Append(shape)
    return chain


def _point(place, z=0.0):
    return gp_Pnt(float(place[0]), float(place[1]), float(z))


def _edges_of_curve(curve, z):
    """Kernel edges of one plane curve at height z, run the way the curve runs."""
    if isinstance(curve, Line):
        return [BRepBuilderAPI_MakeEdge(_point(curve.start, z), _point(curve.end, z)).Edge()]
    if isinstance(curve, Circle):
        return [BRepBuilderAPI_MakeEdge(gp_Circ(gp_Ax2(_point(curve.center, z), UP), curve.radius)).Edge()]
    if isinstance(curve, Ellipse):
        turn = curve.angle if curve.semi_axes[0] >= curve.semi_axes[1] else curve.angle + math.pi / 2
        frame = gp_Ax2(_point(curve.center, z), UP, gp_Dir(math.cos(turn), math.sin(turn), 0))
        return [BRepBuilderAPI_MakeEdge(gp_Elips(frame, max(curve.semi_axes), min(curve.semi_axes))).Edge()]
    if isinstance(curve, Arc):
        start, end = ends(curve)
        axis = UP if curve.sweep > 0 else gp_Dir(0, 0, -1)
        circle = gp_Circ(gp_Ax2(_point(curve.center, z), axis), curve.radius)
        return [BRepBuilderAPI_MakeEdge(circle, _point(start, z), _point(end, z)).Edge()]
    edges = []
    for control in curve.pieces():
        poles = Array1_gp_Pnt(1, 4)
        for index, place in enumerate(control):
            poles.SetValue(index + 1, _point(place, z))
        edges.append(BRepBuilderAPI_MakeEdge(Geom_BezierCurve(poles)).Edge())
    return edges


def wire_of(named_curves: list[tuple[str, Any]], z: float) -> tuple[TopoDS_Wire, list[tuple]]:
    """A closed wire, and the name of each of its edges.

    Args:
        named_curves: (name, curve) in order around the loop.

    Raises:
        OperationError: the curves do not close.
    """
    maker = BRepBuilderAPI_MakeWire()
    named = []
    for name, curve in named_curves:
        for edge in _edges_of_curve(curve, z):
            maker.Add(edge)
            if not maker.IsDone():
                raise OperationError(
                    "The outline does not close: two of its curves do not meet. Mend the gap in the sketch."
                )
            named.append((maker.Edge(), name))
    wire = maker.Wire()
    if not BRep_Tool.IsClosed_s(wire):
        raise OperationError(
            "The outline does not close: its first and last curve do not meet. Mend the gap in the sketch."
        )
    return wire, named


def face_of(loops: list[list[tuple]], z: float) -> tuple[TopoDS_Face, list[tuple]]:
    """A flat face from (name, curve) loops and its named edges; the outer loop first, the inner ones clockwise."""
    plane = gp_Pln(gp_Pnt(0, 0, z), UP)
    wire, named = wire_of(loops[0], z)
    maker = BRepBuilderAPI_MakeFace(plane, wire, True)
    for loop in loops[1:]:
        inner, more = wire_of(loop, z)
        clockwise = not isinstance(loop[0][1], CLOSED)
        maker.Add(inner if clockwise else TopoDS.Wire(inner.Reversed()))
        named += more
    if not maker.IsDone():
        raise OperationError("The region does not make a flat face; look for crossing curves in the sketch.")
    return maker.Face(), named


def _motion(frame):
    """The rigid motion that takes Plan onto a frame."""
    motion = gp_Trsf()
    ways = zip(frame.across, frame.up, frame.normal, frame.origin)
    motion.SetValues(*(value for row in ways for value in row))
    return motion


def placed(shape: TopoDS_Shape, frame: Frame) -> TopoDS_Shape:
    """A shape built on Plan, where a frame puts it."""
    return shape if frame == PLAN else shape.Moved(TopLoc_Location(_motion(frame)))


def seen_from(shape: TopoDS_Edge | TopoDS_Shape, frame: Frame) -> TopoDS_Shape:
    """A shape in the coordinates of a frame; the inverse of :func:`placed`."""
    return shape if frame == PLAN else shape.Moved(TopLoc_Location(_motion(frame).Inverted()))


def prism(face: TopoDS_Face, height: float) -> BRepPrimAPI_MakePrism:
    """The maker of a prism over a face; it also knows what became of each edge."""
    return BRepPrimAPI_MakePrism(face, gp_Vec(0, 0, height))


def cylinder(x: float, y: float, bottom: float, height: float, radius: float) -> BRepPrimAPI_MakeCylinder:
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, bottom), UP), radius, height)


def boolean(kind: str, base: TopoDS_Shape, tools: list[TopoDS_Shape]) -> BRepAlgoAPI_Cut | BRepAlgoAPI_Fuse:
    """Fuse or cut with full history.

    Raises:
        OperationError: the kernel gave no usable result.
    """
    operation = BRepAlgoAPI_Fuse() if kind == "add" else BRepAlgoAPI_Cut()
    operation.SetArguments(shape_list([base]))
    operation.SetTools(shape_list(tools))
    operation.SetToFillHistory(True)
    operation.Build()
    if not operation.IsDone() or operation.Shape().IsNull():
        raise OperationError("The two shapes could not be put together; look for faces that almost touch.")
    operation.SimplifyResult()
    return operation


def fillet(shape: TopoDS_Shape, edges: list[TopoDS_Edge], radius: float) -> BRepFilletAPI_MakeFillet:
    """The maker of a fillet; ``IsDone`` tells whether it worked.

    Raises:
        OperationError: the kernel refused the edges.
    """
    maker = BRepFilletAPI_MakeFillet(shape)
    for edge in edges:
        if maker.Contour(edge) == 0:
            maker.Add(radius, edge)
    try:
        maker.Build()
    except Exception as problem:
        if not is_failure(problem):
            raise
        raise OperationError(f"The fillet could not be built: {type(problem).__name__}.") from None
    return maker


def _exact(shape):
    return all(BRepAdaptor_Surface(face).GetType() in EXACT_SURFACES for face in faces_of(shape))


def volume_properties(shape: TopoDS_Shape) -> GProp_GProps:
    """Volume properties; spline faces are integrated piece by piece, since the plain way can be percents off."""
    properties = GProp_GProps()
    if _exact(shape):
        BRepGProp.VolumeProperties_s(shape, properties)
    else:
        BRepGProp.VolumeProperties_s(
            ShapeCustom.ConvertToBSpline_s(shape, True, False, True, False), properties, 1e-5, True
        )
    return properties


def is_empty(shape: TopoDS_Shape) -> bool:
    return shape.IsNull() or not parts_of(shape, TopAbs_SOLID)


def facts_of(shape: TopoDS_Shape) -> Facts:
    """Facts of a body that is not empty."""
    volume, surface = volume_properties(shape), GProp_GProps()
    BRepGProp.SurfaceProperties_s(shape, surface)
    return Facts(
        volume.Mass(),
        surface.Mass(),
        tight_box(shape),
        volume.CentreOfMass().Coord(),
        len(parts_of(shape, TopAbs_SOLID)),
        bool(BRepCheck_Analyzer(shape).IsValid()),
    )


def tight_box(shape: TopoDS_Shape) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
    """((min x, y, z), (max x, y, z)), exact up to rounding.

    A flat, cylindrical, conical or extruded face is extreme on its edges; a torus or sphere may be so where its normal
    points along an axis. Only other curves and surfaces are left to the kernel's search, which is slow.
    """
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    others = Bnd_Box()
    for edge in parts_of(shape, TopAbs_EDGE):
        points = _extreme_points(BRepAdaptor_Curve(TopoDS.Edge(edge)))
        if points is None:
            BRepBndLib.AddOptimal_s(edge, others, False, False)
        else:
            low, high = np.minimum(low, points.min(axis=0)), np.maximum(high, points.max(axis=0))
    for face in faces_of(shape):
        surface = BRepAdaptor_Surface(face)
        if surface.GetType() not in RULED_SURFACES and not _is_rounding(surface):
            BRepBndLib.AddOptimal_s(face, others, False, False)
    if not others.IsVoid():
        low = np.minimum(low, others.CornerMin().Coord())
        high = np.maximum(high, others.CornerMax().Coord())
    return tuple(low.tolist()), tuple(high.tolist())


def _extreme_points(curve):
    """Points (n, 3) among which a line, a circular arc or a cubic is extreme along every axis; None for any other
    curve."""
    first, last = curve.FirstParameter(), curve.LastParameter()
    at = [first, last]
    if curve.GetType() == GeomAbs_CurveType.GeomAbs_Circle:
        frame = curve.Circle().Position()
        for x, y in zip(frame.XDirection().Coord(), frame.YDirection().Coord()):
            angle = math.atan2(y, x)
            at += [angle + math.pi * k for k in range(-4, 9) if first < angle + math.pi * k < last]
    elif curve.GetType() == GeomAbs_CurveType.GeomAbs_BezierCurve and curve.Degree() == 3:
        bezier = curve.Bezier()
        poles = [bezier.Pole(index).Coord() for index in range(1, bezier.NbPoles() + 1)]
        at += [value for value in _turning_points(poles) if first < value < last]
    elif curve.GetType() != GeomAbs_CurveType.GeomAbs_Line:
        return None
    return np.array([curve.Value(value).Coord() for value in at])


def _turning_points(poles):
    """Parameters at which a cubic of four poles turns back along an axis: roots of its derivative."""
    if len(poles) != 4:
        return []
    found = []
    for one, two, three, four in zip(*poles):
        a, b, c = two - one, three - two, four - three
        square, half = a - 2 * b + c, b - a
        under = half * half - square * a
        if abs(square) < 1e-12 * max(abs(a), abs(b), abs(c), 1e-12):
            found += [-a / (2 * half)] if half else []
        elif under >= 0:
            found += [(-half + sign * math.sqrt(under)) / square for sign in (1, -1)]
    return found


def _is_rounding(surface):
    """Whether a torus patch is a quarter of a tube at most, with an upright axis, as a fillet leaves it: extreme on its
    edges."""
    if surface.GetType() != GeomAbs_SurfaceType.GeomAbs_Torus:
        return False
    quarters = 2 * surface.FirstVParameter() / math.pi, 2 * surface.LastVParameter() / math.pi
    within_one = math.floor(quarters[0] + 1e-6) >= math.ceil(quarters[1] - 1e-6) - 1
    return within_one and abs(surface.Torus().Axis().Direction().Z()) > 1 - 1e-12


def plane_of(face: TopoDS_Face) -> tuple[np.ndarray, np.ndarray] | None:
    """(point, outward unit normal) of a flat face; None for any other face."""
    surface = BRepAdaptor_Surface(face)
    if surface.GetType() != GeomAbs_SurfaceType.GeomAbs_Plane:
        return None
    axis = surface.Plane().Axis()
    normal = np.array(axis.Direction().Coord())
    return np.array(axis.Location().Coord()), -normal if face.Orientation() == TopAbs_REVERSED else normal


def face_normal_z(face: TopoDS_Face) -> float:
    """z of the outward normal of a flat face; 0 for any other face."""
    plane = plane_of(face)
    return float(plane[1][2]) if plane else 0.0


class SmoothEdges:
    """Which edges of a shape join their faces without a crease, so that a drawing leaves them thin."""

    def __init__(self, shape: TopoDS_Shape) -> None:
        BRepLib.EncodeRegularity_s(shape, SMOOTH_ANGLE)
        self.faces = ShapeMap()
        for edge, faces in edges_with_faces(shape):
            self.faces.put(edge, faces)

    def __contains__(self, edge):
        faces = self.faces.get(edge, ())
        if len(faces) == 1:
            return True
        return len(faces) == 2 and BRep_Tool.Continuity_s(edge, faces[0], faces[1]) != GeomAbs_Shape.GeomAbs_C0


def holds(shape: TopoDS_Shape, point: tuple[float, float, float]) -> bool:
    """Whether a point in space lies inside a shape."""
    return BRepClass3d_SolidClassifier(shape, gp_Pnt(*map(float, point)), 1e-7).State() == TopAbs_State.TopAbs_IN


def is_circular(edge: TopoDS_Edge) -> bool:
    """Whether an edge is a circle or part of one."""
    return BRepAdaptor_Curve(edge).GetType() == GeomAbs_CurveType.GeomAbs_Circle


def tangent_chain(shape: TopoDS_Shape, edge: TopoDS_Edge) -> list[TopoDS_Edge]:
    """The edges that run on smoothly from one, itself among them."""
    maker = BRepFilletAPI_MakeFillet(shape)
    maker.Add(1e-3, edge)
    contour = maker.Contour(edge)
    return [maker.Edge(contour, index) for index in range(1, maker.NbEdges(contour) + 1)]


def curve_in(edge: TopoDS_Edge, frame: Frame) -> Arc | Circle | Line | None:
    """The plane curve that an edge shows along the normal of a frame, in its coordinates: a line, or an arc or circle
    that lies level to it; None for any other, and for a line that is seen as a point."""
    curve = BRepAdaptor_Curve(TopoDS.Edge(seen_from(edge, frame)))
    first, last = (curve.Value(at).Coord() for at in (curve.FirstParameter(), curve.LastParameter()))
    if curve.GetType() == GeomAbs_CurveType.GeomAbs_Line:
        return Line(first[:2], last[:2]) if math.dist(first[:2], last[:2]) > LEAST_SEEN_MM else None
    if curve.GetType() != GeomAbs_CurveType.GeomAbs_Circle:
        return None
    circle = curve.Circle()
    upright = circle.Axis().Direction().Z()
    if abs(upright) < 1 - LEVEL:
        return None
    center, sweep = circle.Location().Coord()[:2], curve.LastParameter() - curve.FirstParameter()
    if sweep > 2 * math.pi - LEVEL:
        return Circle(center, circle.Radius())
    start = math.atan2(first[1] - center[1], first[0] - center[0])
    return Arc(center, circle.Radius(), start, math.copysign(sweep, upright))


def axis_of(edge: Any) -> Any:
    """(point, direction) of a straight edge; None for any other."""
    curve = BRepAdaptor_Curve(edge)
    if curve.GetType() != GeomAbs_CurveType.GeomAbs_Line:
        return None
    line = curve.Line()
    return line.Location().Coord(), line.Direction().Coord()


def edge_points(edge: TopoDS_Edge, chord: float = 0.05, angle: float = 0.2) -> np.ndarray:
    """Polyline (n, 3) along an edge."""
    curve = BRepAdaptor_Curve(edge)
    points = GCPnts_TangentialDeflection(curve, angle, chord)
    return np.array([(p.X(), p.Y(), p.Z()) for p in (points.Value(index) for index in range(1, points.NbPoints() + 1))])


def triangulate(shape: TopoDS_Shape, chord: float, angle: float = 0.25) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Triangles of a shape within a chord tolerance.

    Returns:
        vertices (n, 3), triangles (m, 3) and, for each triangle, the index of its face in :func:`faces_of`.
    """
    BRepTools.Clean_s(shape)
    BRepMesh_IncrementalMesh(shape, chord, False, angle, True)
    vertices, triangles, owners, offset = [], [], [], 0
    for number, face in enumerate(faces_of(shape)):
        place = TopLoc_Location()
        mesh = BRep_Tool.Triangulation_s(face, place)
        if mesh is None:
            continue
        points = np.array([mesh.Node(index).Coord() for index in range(1, mesh.NbNodes() + 1)])
        corners = np.array([mesh.Triangle(index).Get() for index in range(1, mesh.NbTriangles() + 1)]) - 1
        if not place.IsIdentity():
            turn = place.Transformation()
            matrix = np.array([[turn.Value(row, column) for column in range(1, 5)] for row in range(1, 4)])
            points = points @ matrix[:, :3].T + matrix[:, 3]
        if face.Orientation() == TopAbs_REVERSED:
            corners = corners[:, ::-1]
        vertices.append(points)
        triangles.append(corners + offset)
        owners.append(np.full(len(corners), number))
        offset += len(points)
    if not vertices:
        raise OperationError("The body is empty, so there is nothing to show or export.")
    return np.vstack(vertices), np.vstack(triangles), np.concatenate(owners)


def mesh_volume(vertices: np.ndarray, triangles: np.ndarray) -> float:
    """Volume inside a closed mesh (divergence theorem)."""
    a, b, c = (vertices[triangles[:, index]] for index in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)


def is_finite(facts: Facts) -> bool:
    return all(math.isfinite(value) for value in (facts.volume_mm3, facts.area_mm2, *facts.size))
