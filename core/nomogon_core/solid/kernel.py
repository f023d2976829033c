"""Thin, checked calls into the geometry kernel; nothing outside this folder touches it.

After every call the result is looked at: not empty, valid, of a sensible volume; a wrong result of a
boolean is not always reported as one.
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from OCP.Bnd import Bnd_Box
from OCP.BRep import BRep_Builder, BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve, BRepAdaptor_Surface
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common, BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepBuilderAPI import (
    BRepBuilderAPI_GTransform,
    BRepBuilderAPI_MakeEdge,
    BRepBuilderAPI_MakeFace,
    BRepBuilderAPI_MakeSolid,
    BRepBuilderAPI_MakeVertex,
    BRepBuilderAPI_MakeWire,
    BRepBuilderAPI_Sewing,
    BRepBuilderAPI_Transform,
)
from OCP.BRepCheck import BRepCheck_Analyzer, BRepCheck_Shell, BRepCheck_Status
from OCP.BRepClass3d import BRepClass3d_SolidClassifier
from OCP.BRepExtrema import BRepExtrema_DistShapeShape
from OCP.BRepFilletAPI import BRepFilletAPI_MakeChamfer, BRepFilletAPI_MakeFillet
from OCP.BRepGProp import (
    BRepGProp,
    BRepGProp_Domain,
    BRepGProp_Face,
    BRepGProp_Vinert,
)
from OCP.BRepLib import BRepLib
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.BRepOffset import BRepOffset_Mode
from OCP.BRepOffsetAPI import (
    BRepOffsetAPI_DraftAngle,
    BRepOffsetAPI_MakeDraft,
    BRepOffsetAPI_MakeThickSolid,
    BRepOffsetAPI_ThruSections,
)
from OCP.BRepPrimAPI import (
    BRepPrimAPI_MakeCone,
    BRepPrimAPI_MakeCylinder,
    BRepPrimAPI_MakePrism,
    BRepPrimAPI_MakeRevol,
)
from OCP.BRepTools import BRepTools
from OCP.collections import (
    Array1_gp_Pnt,
    IndexedDataMap_TopoDS_Shape_List_TopoDS_Shape_TopTools_ShapeMapHasher,
    IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher,
    List_TopoDS_Shape,
)
from OCP.GCPnts import GCPnts_TangentialDeflection
from OCP.Geom import Geom_BezierCurve
from OCP.GeomAbs import GeomAbs_CurveType, GeomAbs_JoinType, GeomAbs_Shape, GeomAbs_SurfaceType
from OCP.gp import gp_Ax1, gp_Ax2, gp_Circ, gp_Dir, gp_Elips, gp_GTrsf, gp_Pln, gp_Pnt, gp_Quaternion, gp_Trsf, gp_Vec
from OCP.GProp import GProp_GProps
from OCP.ShapeAnalysis import ShapeAnalysis_FreeBounds
from OCP.ShapeCustom import ShapeCustom
from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain
from OCP.TopAbs import (
    TopAbs_COMPOUND,
    TopAbs_EDGE,
    TopAbs_FACE,
    TopAbs_REVERSED,
    TopAbs_ShapeEnum,
    TopAbs_SHELL,
    TopAbs_SOLID,
    TopAbs_State,
    TopAbs_VERTEX,
    TopAbs_WIRE,
)
from OCP.TopExp import TopExp
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS, TopoDS_Compound, TopoDS_Edge, TopoDS_Face, TopoDS_Shape, TopoDS_Vertex, TopoDS_Wire

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import (
    CLOSED,
    Arc,
    Circle,
    Ellipse,
    EllipticArc,
    Line,
    closed_area,
    end_directions,
    ends,
)
from nomogon_core.solid.facts import Facts
from nomogon_core.solid.flats import flat
from nomogon_core.solid.planes import PLAN, frame_of
from nomogon_core.solid.shapes import LastShapes, ShapeMap

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
PLAIN_CURVES = (
    GeomAbs_CurveType.GeomAbs_Line,
    GeomAbs_CurveType.GeomAbs_Circle,
    GeomAbs_CurveType.GeomAbs_Ellipse,
)
VOLUME_SLACK = 1e-6
SMOOTH_ANGLE = 0.02
TOUCHING_MM, SEWN_MM = 1e-6, 1e-4
LEAST_SEEN_MM, LEVEL, ROUGH_MM, FINE, AREA_STEP = 1e-6, 1e-9, 1e-6, 1e-8, 1e-3
CUSP = 1 - 1e-6
BOOLEANS = {"add": BRepAlgoAPI_Fuse, "cut": BRepAlgoAPI_Cut, "overlap": BRepAlgoAPI_Common}


class CuspError(OperationError):
    """Edges that leave a corner in one direction: the kernel would search for ever where they meet."""


def is_failure(problem: Any) -> Any:
    """Whether an exception was thrown by the kernel; its classes have no common base in this binding."""
    return type(problem).__module__.startswith("OCP.")


def parts_of(shape: TopoDS_Edge | TopoDS_Shape, kind: TopAbs_ShapeEnum) -> list[TopoDS_Shape]:
    """Sub-shapes of a kind, each once."""
    found = IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
    TopExp.MapShapes_s(shape, kind, found)
    return [found.FindKey(index) for index in range(1, found.Extent() + 1)]


def items(chain: List_TopoDS_Shape) -> list[TopoDS_Shape]:
    """Members of a kernel list; its own iterator takes 0.3 ms a list, so short ones are read from both ends, and a copy
    of a longer one is taken from its front."""
    size = chain.Size()
    if size == 0:
        return []
    if size < 3:
        return [chain.First()] if size == 1 else [chain.First(), chain.Last()]
    left, found = List_TopoDS_Shape(chain), []
    while left.Size():
        # What is handed out lies in the list and goes with it, so it is copied.
        found.append(left.First().Oriented(left.First().Orientation()))
        left.RemoveFirst()
    return found


def faces_of(shape: TopoDS_Shape) -> list[TopoDS_Face]:
    """Its faces, each once; kept of the shapes asked for last, so never change the list."""
    known = _FACES.get(shape)
    if known is not None and known[0] == shape.Orientation():
        return known[1]
    faces = [TopoDS.Face(face) for face in parts_of(shape, TopAbs_FACE)]
    return _FACES.keep(shape, (shape.Orientation(), faces), len(faces))[1]


_FACES = LastShapes(20_000)


def edges_of(shape: TopoDS_Shape) -> list[TopoDS_Edge]:
    return [TopoDS.Edge(edge) for edge in parts_of(shape, TopAbs_EDGE)]


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


def edges_of_curve(curve: Any, z: float) -> list[TopoDS_Edge]:
    """Kernel edges of one plane curve at height z, run the way the curve runs."""
    if isinstance(curve, Line):
        return [BRepBuilderAPI_MakeEdge(_point(curve.start, z), _point(curve.end, z)).Edge()]
    if isinstance(curve, Circle):
        return [BRepBuilderAPI_MakeEdge(gp_Circ(gp_Ax2(_point(curve.center, z), UP), curve.radius)).Edge()]
    if isinstance(curve, Ellipse):
        return [BRepBuilderAPI_MakeEdge(_ellipse(curve, z, UP)).Edge()]
    if isinstance(curve, EllipticArc):
        axis = UP if curve.sweep > 0 else gp_Dir(0, 0, -1)
        start, end = (_point(place, z) for place in ends(curve))
        return [BRepBuilderAPI_MakeEdge(_ellipse(curve.whole, z, axis), start, end).Edge()]
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


def _ellipse(curve, z, axis):
    turn = curve.angle if curve.semi_axes[0] >= curve.semi_axes[1] else curve.angle + math.pi / 2
    frame = gp_Ax2(_point(curve.center, z), axis, gp_Dir(math.cos(turn), math.sin(turn), 0))
    return gp_Elips(frame, max(curve.semi_axes), min(curve.semi_axes))


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
        for edge in edges_of_curve(curve, z):
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


def wire_in(named_curves: list[tuple[str, Any]], frame: Frame, height: float = 0.0) -> tuple[TopoDS_Wire, list[tuple]]:
    """A closed wire on a plane, so far above it, and the name of each of its edges.

    Raises:
        OperationError: the curves do not close.
    """
    wire, named = wire_of(named_curves, height)
    there = placed(wire, frame)
    return TopoDS.Wire(there), list(zip(map(TopoDS.Edge, parts_of(there, TopAbs_EDGE)), [name for _, name in named]))


@attrs.frozen
class Stepped:
    """A solid of areas raised to their own heights, its walls with the curves under them, and its tops by number."""

    solid: TopoDS_Shape
    walls: list
    tops: list


def area_of(loops: list[list[tuple[str, Any]]]) -> float:
    """Area of a region from its loops, the holes clockwise."""
    outer, *holes = (tuple(curve for _, curve in loop) for loop in loops)
    return abs(closed_area(outer)) - sum([abs(closed_area(hole)) for hole in holes])


def stepped(areas: list[tuple[list[list[tuple[str, Any]]], float]]) -> Stepped | None:
    """Areas that lie beside each other, raised to their own heights: one wall over each curve between the heights on
    both its sides, sewn to one solid without any boolean; None where it does not close.

    Args:
        areas: (loops, height above Plan); a curve between two areas has the same name in both.
    """
    sewing = BRepBuilderAPI_Sewing(SEWN_MM / 10)
    beside: dict[str, list[float]] = {}
    at_corner: dict[tuple[float, float], set[float]] = {}
    curves: dict[str, Any] = {}
    tops, walls = [], []
    for number, (loops, height) in enumerate(areas):
        for level in (height, 0.0):
            face, _ = face_of(loops, level)
            part = TopoDS.Face(face.Reversed()) if level == 0.0 else face
            sewing.Add(part)
            if level:
                tops.append((number, part))
        for name, curve in (pair for loop in loops for pair in loop):
            beside.setdefault(name, []).append(height)
            curves[name] = curve
            for place in ends(curve) or ():
                at_corner.setdefault(_near(place), set()).add(height)
    for name, heights in beside.items():
        low, high = (0.0, heights[0]) if len(heights) == 1 else (min(heights), max(heights))
        # Where other heights meet a corner of the wall, its upright edge has a vertex, and so the wall a band.
        met = {height for place in ends(curves[name]) or () for height in at_corner[_near(place)]}
        levels = [low, *sorted(height for height in met if low + LEVEL < height < high - LEVEL), high]
        for bottom, top in pairwise(levels):
            if top - bottom < LEVEL:
                continue
            for edge in edges_of_curve(curves[name], bottom):
                wall = TopoDS.Face(BRepPrimAPI_MakePrism(edge, gp_Vec(0, 0, top - bottom)).Shape())
                sewing.Add(wall)
                walls.append((wall, name))
    sewing.Perform()
    found = parts_of(sewing.SewedShape(), TopAbs_SHELL)
    if not found or sewing.NbFreeEdges():
        return None
    solids = [BRepBuilderAPI_MakeSolid(TopoDS.Shell(shell)).Solid() for shell in found]
    for solid in solids:
        BRepLib.OrientClosedSolid_s(solid)
    whole = solids[0] if len(solids) == 1 else compound_of(solids)
    named = [(sewn(sewing, wall), name) for wall, name in walls]
    return Stepped(whole, named, [(number, sewn(sewing, face)) for number, face in tops])


def sewn(sewing: BRepBuilderAPI_Sewing, face: TopoDS_Face) -> TopoDS_Face:
    """What a face became by sewing."""
    return TopoDS.Face(sewing.Modified(face)) if sewing.IsModified(face) else face


def _near(place):
    return round(place[0], 4), round(place[1], 4)


class Merged:
    """A shape whose faces that lie in one surface were made one; it knows what became of each."""

    def __init__(self, shape: TopoDS_Shape) -> None:
        self._unify = ShapeUpgrade_UnifySameDomain(shape, True, True, False)
        self._unify.Build()

    def Shape(self) -> TopoDS_Shape:  # noqa: N802  as the kernel's own makers say it
        return self._unify.Shape()

    def Modified(self, face: TopoDS_Shape) -> List_TopoDS_Shape:  # noqa: N802
        return self._unify.History().Modified(face)

    def IsDeleted(self, face: TopoDS_Shape) -> bool:  # noqa: N802
        return self._unify.History().IsRemoved(face)


def outward(shape: TopoDS_Shape) -> TopoDS_Shape:
    """A solid whose faces look outward."""
    return shape.Reversed() if volume_properties(shape).Mass() < 0 else shape


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
    """A shape built on Plan, where a frame puts it; in geometry of its own, since thick solids of a shape that is only
    shown elsewhere fail."""
    return shape if frame == PLAN else transformed(shape, _motion(frame))


def turning_up(up: Any) -> gp_Trsf:
    """The motion that turns a direction upright."""
    turn = gp_Trsf()
    turn.SetRotation(gp_Quaternion(gp_Vec(*map(float, up)), gp_Vec(0, 0, 1)))
    return turn


def lifting(height: float) -> gp_Trsf:
    """The motion straight up by a height."""
    lift = gp_Trsf()
    lift.SetTranslation(gp_Vec(0, 0, height))
    return lift


def matrix_of(motion: gp_Trsf) -> tuple[list[list[float]], list[float]]:
    """A motion as its linear map (3, 3) and its move (3,)."""
    rows = [[motion.Value(row, column) for column in (1, 2, 3, 4)] for row in (1, 2, 3)]
    return [row[:3] for row in rows], [row[3] for row in rows]


def seen_from(shape: TopoDS_Edge | TopoDS_Shape, frame: Frame) -> TopoDS_Shape:
    """A shape in the coordinates of a frame; the inverse of :func:`placed`."""
    return shape if frame == PLAN else shape.Moved(TopLoc_Location(_motion(frame).Inverted()))


def prism(face: TopoDS_Face, height: float) -> BRepPrimAPI_MakePrism:
    """The maker of a prism over a face; it also knows what became of each edge."""
    return BRepPrimAPI_MakePrism(face, gp_Vec(0, 0, height))


def cylinder(x: float, y: float, bottom: float, height: float, radius: float) -> BRepPrimAPI_MakeCylinder:
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, bottom), UP), radius, height)


def bored(start: tuple, way: tuple, length: float, radius: float, wanted: float) -> TopoDS_Shape:
    """The ring by which a round hole of one radius and one of another differ; what stands in the hole is not in it."""
    axes = gp_Ax2(gp_Pnt(*start), gp_Dir(*way))
    outer, inner = (BRepPrimAPI_MakeCylinder(axes, one, length).Shape() for one in sorted((radius, wanted))[::-1])
    return boolean("cut", outer, [inner]).Shape()


def boolean(
    kind: str, base: TopoDS_Shape, tools: list[TopoDS_Shape]
) -> BRepAlgoAPI_Fuse | BRepAlgoAPI_Cut | BRepAlgoAPI_Common:
    """A shape with others added, cut out, or what it has in common with them, with full history.

    Args:
        kind: one of :data:`BOOLEANS`.

    Raises:
        OperationError: the kernel gave no usable result.
    """
    operation = BOOLEANS[kind]()
    # A compound is given piece by piece: as one argument the kernel can lose one of its solids without a word.
    operation.SetArguments(shape_list(_pieces(base)))
    operation.SetTools(shape_list([piece for tool in tools for piece in _pieces(tool)]))
    operation.SetToFillHistory(True)
    operation.Build()
    if not operation.IsDone() or operation.Shape().IsNull():
        raise OperationError("The two shapes could not be put together; look for faces that almost touch.")
    operation.SimplifyResult()
    return operation


def _pieces(shape):
    return (solids_of(shape) if shape.ShapeType() == TopAbs_COMPOUND else []) or [shape]


def revolution(face: TopoDS_Face, point: tuple, way: tuple, angle: float) -> BRepPrimAPI_MakeRevol:
    """The maker of a face turned about an axis by an angle in radians; it also knows what became of each edge."""
    axis = gp_Ax1(gp_Pnt(*point), gp_Dir(*way))
    if angle >= 2 * math.pi - LEVEL:
        return BRepPrimAPI_MakeRevol(face, axis)
    return BRepPrimAPI_MakeRevol(face, axis, angle)


def through_sections(
    wires: list[TopoDS_Wire], *, straight: bool, last: tuple | None = None
) -> BRepOffsetAPI_ThruSections:
    """The maker of a solid through closed wires; it also knows the faces over the edges of each.

    Args:
        straight: ruled from one to the next; last: a point in space that it ends in.
    """
    maker = BRepOffsetAPI_ThruSections(True, straight, 1e-6)
    maker.CheckCompatibility(True)
    for wire in wires:
        maker.AddWire(wire)
    if last is not None:
        maker.AddVertex(vertex_at(last))
    maker.Build()
    return maker


def cone(x: float, y: float, bottom: float, height: float, low: float, high: float) -> BRepPrimAPI_MakeCone:
    """The maker of a cone's frustum upright on Plan, of two radii."""
    return BRepPrimAPI_MakeCone(gp_Ax2(gp_Pnt(x, y, bottom), UP), low, high, height)


def block(frame: Frame, reach: float, height: float) -> TopoDS_Shape:
    """A square block on a plane, so far to all sides of its origin and so high along its normal."""
    low, high = -reach, reach
    corners = [(low, low), (high, low), (high, high), (low, high)]
    loop = [(str(index), Line(corners[index], corners[(index + 1) % 4])) for index in range(4)]
    face, _ = face_of([loop], 0.0)
    return placed(prism(face, height).Shape(), frame)


def mirroring(frame: Frame) -> gp_Trsf:
    """The mirroring in a plane."""
    move = gp_Trsf()
    move.SetMirror(gp_Ax2(gp_Pnt(*frame.origin), gp_Dir(*frame.normal)))
    return move


def turning(point: tuple, way: tuple, angle: float) -> gp_Trsf:
    """A turn about an axis, radians."""
    move = gp_Trsf()
    move.SetRotation(gp_Ax1(gp_Pnt(*point), gp_Dir(*way)), angle)
    return move


def turning_onto(way: tuple, other: tuple, about: tuple) -> gp_Trsf:
    """The least turn about a point that brings a direction to another."""
    turn, there = gp_Trsf(), gp_Trsf()
    turn.SetRotation(gp_Quaternion(gp_Vec(*way), gp_Vec(*other)))
    there.SetTranslation(gp_Vec(*about))
    return there.Multiplied(turn).Multiplied(there.Inverted())


def shifting(way: tuple, distance: float) -> gp_Trsf:
    """A shift along a unit direction."""
    move = gp_Trsf()
    move.SetTranslation(gp_Vec(*(distance * value for value in way)))
    return move


def carrying(point: tuple, way: tuple, angle: float, to: tuple) -> gp_Trsf:
    """A turn about an axis through a point, radians, and then a shift of that point to another place."""
    move = shifting(tuple(np.subtract(to, point).tolist()), 1.0)
    return move.Multiplied(turning(point, way, angle))


def enlarging(point: tuple, factor: float) -> gp_Trsf:
    """A change of size about a point."""
    move = gp_Trsf()
    move.SetScale(gp_Pnt(*point), factor)
    return move


def transformed(shape: TopoDS_Shape, move: gp_Trsf) -> TopoDS_Shape:
    """A copy of a shape under a motion, mirroring or change of size; its faces come in the same order."""
    return BRepBuilderAPI_Transform(shape, move, True).Shape()


def stretched(shape: TopoDS_Shape, point: tuple, factors: tuple) -> TopoDS_Shape:
    """A copy of a shape stretched along x, y and z about a point; its faces come in the same order, as splines."""
    move = gp_GTrsf()
    for row, (factor, place) in enumerate(zip(factors, point), 1):
        move.SetValue(row, row, factor)
        move.SetValue(row, 4, place * (1 - factor))
    return BRepBuilderAPI_GTransform(shape, move, True).Shape()


def chamfer(
    shape: TopoDS_Shape, edges: list[TopoDS_Edge], first: float, second: float | None, angle: float | None
) -> BRepFilletAPI_MakeChamfer:
    """The maker of a chamfer; ``IsDone`` tells whether it worked.

    Args:
        first: distance from the edge, or that along the face that lies more level; second: that along the other;
            angle: in place of a second distance, radians from the first face.

    Raises:
        OperationError: the kernel refused the edges.
    """
    maker = BRepFilletAPI_MakeChamfer(shape)
    around = ShapeMap()
    for edge, faces in edges_with_faces(shape):
        around.put(edge, faces)
    for edge in edges:
        if maker.Contour(edge):
            continue
        level = max(around.get(edge, []), key=lambda face: abs(face_normal_z(face)), default=None)
        if second is None and angle is None:
            maker.Add(first, edge)
        elif angle is None:
            maker.Add(first, second, edge, level)
        else:
            maker.AddDA(first, angle, edge, level)
    return _cut_along(maker, "chamfer")


def _cut_along(maker, called):
    """Build a fillet or chamfer whose edges were added."""
    edges = [
        maker.Edge(contour, index)
        for contour in range(1, maker.NbContours() + 1)
        for index in range(1, maker.NbEdges(contour) + 1)
    ]
    place = _cusp(edges)
    if place is not None:
        x, y, z = (f"{value:.2f}" for value in place)
        raise CuspError(
            f"Two of these edges leave the corner at ({x}, {y}, {z}) mm in the same direction, so a {called} along "
            "both has no room there. Choose one of them alone, or move the parts of the body a little apart."
        )
    try:
        maker.Build()
    except Exception as problem:
        if not is_failure(problem):
            raise
        raise OperationError(f"The {called} could not be built: {type(problem).__name__}.") from None
    return maker


def _cusp(edges):
    """Where two of some edges leave a vertex in one direction; None where none do."""
    leaving = ShapeMap()
    for edge in edges:
        curve = BRepAdaptor_Curve(edge)
        for vertex, at, way in (
            (TopExp.FirstVertex_s(edge), curve.FirstParameter(), 1.0),
            (TopExp.LastVertex_s(edge), curve.LastParameter(), -1.0),
        ):
            place, along = gp_Pnt(), gp_Vec()
            curve.D1(at, place, along)
            if along.Magnitude() < TOUCHING_MM:
                continue
            unit = along.Multiplied(way / along.Magnitude())
            others = leaving.get(vertex, [])
            if any(unit.Dot(other) > CUSP for other in others):
                return place.Coord()
            leaving.put(vertex, [*others, unit])
    return None


def runs_around(loop: list[tuple[str, Any]]) -> bool:
    """Whether a loop runs counter-clockwise; a whole circle or ellipse always does."""
    return closed_area(tuple(curve for _, curve in loop)) > 0


def has_corner_of_arcs(loop: list[tuple[str, Any]]) -> bool:
    """Whether two arcs of a loop meet in a corner: the kernel can search for ever where the two cones over them
    meet."""
    curves = [curve for _, curve in loop]
    for before, after in zip(curves, [*curves[1:], curves[0]]):
        if isinstance(before, Arc) and isinstance(after, Arc) and len(curves) > 1:
            u, v = end_directions(before)[1], end_directions(after)[0]
            if abs(math.atan2(u[0] * v[1] - u[1] * v[0], float(u @ v))) > SMOOTH_ANGLE:
                return True
    return False


def leaning(shape: TopoDS_Shape, angle: float, neutral: float, way: float) -> BRepOffsetAPI_DraftAngle | None:
    """The maker of an upright prism with its flat and round sides leaning into the material by an angle, radians, away
    from a height at which they stay; None where a side is a spline, or the kernel cannot.

    Args:
        way: 1 where they lean inward going up, -1 going down.
    """
    sides = [face for face in faces_of(shape) if abs(face_normal_z(face)) < 0.5]
    if not all(BRepAdaptor_Surface(face).GetType() in EXACT_SURFACES for face in sides):
        return None
    maker = BRepOffsetAPI_DraftAngle(shape)
    for face in sides:
        maker.Add(face, gp_Dir(0, 0, way), angle, gp_Pln(gp_Pnt(0, 0, neutral), UP))
        if not maker.AddDone():
            return None
    maker.Build()
    return maker if maker.IsDone() else None


def drafted_loop(
    named_curves: list[tuple[str, Any]], neutral: float, far: float, angle: float
) -> tuple[TopoDS_Shape | None, list[tuple[TopoDS_Face, str]], list[TopoDS_Face]]:
    """A solid inside a loop whose sides lean inward by an angle, radians, from one height to another.

    Returns:
        The solid, its sides with the names of their curves, and its faces at both heights; no solid where the sides do
        not close.
    """
    wire, named = wire_of(named_curves, neutral)
    maker = BRepOffsetAPI_MakeDraft(wire, gp_Dir(0, 0, math.copysign(1.0, far - neutral)), abs(angle))
    maker.SetDraft(angle > 0)
    maker.Perform(abs(far - neutral) / math.cos(angle))
    if not maker.IsDone():
        return None, [], []
    free = ShapeAnalysis_FreeBounds(maker.Shape(), SEWN_MM, False, True).GetClosedWires()
    caps = [BRepBuilderAPI_MakeFace(TopoDS.Wire(found), True).Face() for found in parts_of(free, TopAbs_WIRE)]
    if len(caps) != 2:
        return None, [], []
    caps.sort(key=lambda cap: abs(tight_box(cap)[0][2] - neutral))
    sewing = BRepBuilderAPI_Sewing(SEWN_MM)
    for part in (maker.Shape(), *caps):
        sewing.Add(part)
    sewing.Perform()
    if sewing.SewedShape().ShapeType() != TopAbs_SHELL:
        return None, [], []
    solid = outward(BRepBuilderAPI_MakeSolid(TopoDS.Shell(sewing.SewedShape())).Solid())
    sides = [(sewn(sewing, side), name) for edge, name in named for side in items(maker.Generated(edge))]
    return solid, sides, [sewn(sewing, cap) for cap in caps]


def reach_of(shapes: list[TopoDS_Shape]) -> float:
    """A length that is farther than any of some shapes is from another."""
    low, high = tight_box(compound_of(shapes))
    return math.dist(low, high) + 1.0


def hollowed(shape: TopoDS_Shape, open_faces: list[TopoDS_Face], wall: float) -> BRepOffsetAPI_MakeThickSolid:
    """The maker of a shape with walls of a thickness inward, open at some faces."""
    maker = BRepOffsetAPI_MakeThickSolid()
    maker.MakeThickSolidByJoin(
        shape,
        shape_list(open_faces),
        -wall,
        1e-4,
        BRepOffset_Mode.BRepOffset_Skin,
        False,
        False,
        GeomAbs_JoinType.GeomAbs_Intersection,
    )
    return maker


def distance_between(shape: TopoDS_Shape, point: tuple) -> float:
    """How far a point is from the faces of a shape."""
    return BRepExtrema_DistShapeShape(vertex_at(point), shape).Value()


def faces_along(shape: TopoDS_Shape, edge: TopoDS_Edge) -> list[TopoDS_Face]:
    """The faces of a shape that the middle of an edge lies on."""
    curve = BRepAdaptor_Curve(edge)
    middle = curve.Value((curve.FirstParameter() + curve.LastParameter()) / 2).Coord()
    return [face for face in faces_of(shape) if distance_between(face, middle) < TOUCHING_MM]


@attrs.frozen
class Rim:
    """Where an opening of a body meets a flat face: the face, the edges around the opening as a wire, the area inside
    them as a face, and its frame, whose origin lies on the wire."""

    face: TopoDS_Face
    wire: TopoDS_Wire
    inside: TopoDS_Face
    frame: Frame


def opening_at(shape: TopoDS_Shape, edge: TopoDS_Edge) -> Rim | None:
    """The opening in a flat face of a shape that an edge runs around; None where there is none."""
    for face in faces_along(shape, edge):
        plane = plane_of(face)
        if plane is None:
            continue
        outer = BRepTools.OuterWire_s(face)
        for wire in map(TopoDS.Wire, parts_of(face, TopAbs_WIRE)):
            if wire.IsSame(outer) or not any(edge.IsSame(one) for one in parts_of(wire, TopAbs_EDGE)):
                continue
            point, normal = plane
            inside = BRepBuilderAPI_MakeFace(
                gp_Pln(gp_Pnt(*point), gp_Dir(*normal)), TopoDS.Wire(wire.Reversed()), True
            )
            if inside.IsDone() and BRepCheck_Analyzer(inside.Face()).IsValid():
                start = tuple(edge_points(edge, 1.0)[0].tolist())
                return Rim(face, wire, inside.Face(), attrs.evolve(frame_of(point, normal), origin=start))
    return None


def prism_along(face: TopoDS_Face, way: tuple) -> TopoDS_Shape:
    """The prism over a face along a vector, millimetres."""
    return BRepPrimAPI_MakePrism(face, gp_Vec(*way), True).Shape()


def solids_of(shape: TopoDS_Shape) -> list[TopoDS_Shape]:
    return parts_of(shape, TopAbs_SOLID)


def vertex_at(place: tuple[float, float, float]) -> TopoDS_Vertex:
    return BRepBuilderAPI_MakeVertex(gp_Pnt(*place)).Vertex()


def nearest_places(first: TopoDS_Shape, second: TopoDS_Shape) -> tuple[float, tuple]:
    """Shortest distance of two shapes, and the two places in space where it is."""
    found = BRepExtrema_DistShapeShape(first, second)
    return found.Value(), (found.PointOnShape1(1).Coord(), found.PointOnShape2(1).Coord())


def area_of_face(face: TopoDS_Face) -> float:
    """Area of a face; in ever finer steps where its surface or its edges are free, since a fixed number is not enough
    there; but not of an offset surface, on which these go astray."""
    found = GProp_GProps()
    kind = BRepAdaptor_Surface(face).GetType()
    edges = (_edge_kind(TopoDS.Edge(edge)) for edge in parts_of(face, TopAbs_EDGE))
    plain = kind in EXACT_SURFACES and all(one == "plain" for one in edges)
    if not plain and kind != GeomAbs_SurfaceType.GeomAbs_OffsetSurface:
        BRepGProp.SurfaceProperties_s(face, found, AREA_STEP)
        if math.isfinite(found.Mass()) and found.Mass() > 0:
            return found.Mass()
        found = GProp_GProps()
    BRepGProp.SurfaceProperties_s(face, found)
    return found.Mass()


def middle_of(face: TopoDS_Face) -> tuple[float, float, float]:
    """(x, y, z) in the middle of a face's parameters."""
    surface = BRepAdaptor_Surface(face)
    u = (surface.FirstUParameter() + surface.LastUParameter()) / 2
    v = (surface.FirstVParameter() + surface.LastVParameter()) / 2
    return surface.Value(u, v).Coord()


def length_of(edge: TopoDS_Edge) -> float:
    """Length of an edge along it."""
    found = GProp_GProps()
    BRepGProp.LinearProperties_s(edge, found)
    return found.Mass()


def _is_edge(shape):
    return shape.ShapeType() == TopAbs_EDGE


def _axis(shape):
    """The axis of a round edge, a cylinder or a cone; None for any other."""
    if shape.ShapeType() == TopAbs_VERTEX:
        return None
    if _is_edge(shape):
        curve = BRepAdaptor_Curve(TopoDS.Edge(shape))
        return curve.Circle().Axis() if curve.GetType() == GeomAbs_CurveType.GeomAbs_Circle else None
    surface = BRepAdaptor_Surface(TopoDS.Face(shape))
    if surface.GetType() == GeomAbs_SurfaceType.GeomAbs_Cylinder:
        return surface.Cylinder().Axis()
    return surface.Cone().Axis() if surface.GetType() == GeomAbs_SurfaceType.GeomAbs_Cone else None


def axis_through(shape: TopoDS_Shape) -> tuple[tuple, tuple] | None:
    """(point, direction) of the axis of a round edge or face; None for any other."""
    axis = _axis(shape)
    return axis and (axis.Location().Coord(), axis.Direction().Coord())


def radius_of(shape: TopoDS_Shape) -> float:
    """Radius of a round edge or a cylinder; 0 for any other."""
    if _is_edge(shape):
        curve = BRepAdaptor_Curve(TopoDS.Edge(shape))
        return curve.Circle().Radius() if curve.GetType() == GeomAbs_CurveType.GeomAbs_Circle else 0.0
    surface = BRepAdaptor_Surface(TopoDS.Face(shape))
    return surface.Cylinder().Radius() if surface.GetType() == GeomAbs_SurfaceType.GeomAbs_Cylinder else 0.0


def direction_of(shape: TopoDS_Shape) -> tuple | None:
    """Direction of a straight edge, normal of a flat face; None for any other."""
    if shape.ShapeType() == TopAbs_VERTEX:
        return None
    if _is_edge(shape):
        found = axis_of(TopoDS.Edge(shape))
        return found and found[1]
    plane = plane_of(TopoDS.Face(shape))
    return None if plane is None else tuple(plane[1])


def compound_of(shapes: list[TopoDS_Shape]) -> TopoDS_Shape:
    """Shapes as one, without joining them."""
    builder, whole = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(whole)
    for shape in shapes:
        builder.Add(whole, shape)
    return whole


def turning_axis(edge: TopoDS_Edge) -> tuple[tuple, tuple] | None:
    """(point, direction) of a straight edge, or of the axis of a round one; None for any other."""
    return axis_through(edge) or axis_of(edge)


def fillet(shape: TopoDS_Shape, edges: list[TopoDS_Edge], radius: float) -> BRepFilletAPI_MakeFillet:
    """The maker of a fillet; ``IsDone`` tells whether it worked.

    Raises:
        OperationError: the kernel refused the edges.
    """
    maker = BRepFilletAPI_MakeFillet(shape)
    for edge in edges:
        if maker.Contour(edge) == 0:
            maker.Add(radius, edge)
    return _cut_along(maker, "fillet")


def _exact(shape):
    return all(BRepAdaptor_Surface(face).GetType() in EXACT_SURFACES for face in faces_of(shape))


def _is_rational(face):
    """Whether a face is a spline with weights, as a circle becomes when it is stretched: pieces of it are no plain
    polynomials."""
    surface = BRepAdaptor_Surface(face)
    if surface.GetType() != GeomAbs_SurfaceType.GeomAbs_BSplineSurface:
        return False
    spline = surface.BSpline()
    return spline.IsURational() or spline.IsVRational()


def volume_properties(shape: TopoDS_Shape) -> GProp_GProps:
    """Volume properties; spline faces are integrated piece by piece, since the plain way can be percents off."""
    properties = GProp_GProps()
    if _exact(shape):
        BRepGProp.VolumeProperties_s(shape, properties)
    elif any(map(_is_rational, faces_of(shape))):
        BRepGProp.VolumeProperties_s(shape, properties, FINE, False)
    else:
        BRepGProp.VolumeProperties_s(
            ShapeCustom.ConvertToBSpline_s(shape, True, False, True, False), properties, 1e-5, True
        )
    return properties


def is_empty(shape: TopoDS_Shape) -> bool:
    return shape.IsNull() or not parts_of(shape, TopAbs_SOLID)


def _share_of(face):
    """(volume, moments x, y, z) that a face adds to its body, told about the origin."""
    surface, origin = BRepAdaptor_Surface(face), gp_Pnt(0, 0, 0)
    kind = surface.GetType()
    if kind == GeomAbs_SurfaceType.GeomAbs_OffsetSurface:
        kind = surface.BasisSurface().GetType()
    edges = {_edge_kind(TopoDS.Edge(edge)) for edge in parts_of(face, TopAbs_EDGE)}
    plain, weighted = kind in EXACT_SURFACES and edges <= {"plain"}, _is_rational(face) or "weighted" in edges
    if not plain and not weighted:
        face = TopoDS.Face(ShapeCustom.ConvertToBSpline_s(face, True, False, True, False))
    loaded, domain = BRepGProp_Face(True), BRepGProp_Domain(face)
    loaded.Load(face)
    # Splines with weights are no polynomials, so that they are told by ever finer steps.
    share = None if plain else BRepGProp_Vinert(loaded, domain, origin, origin, FINE if weighted else 1e-5)
    if share is None or not share.Mass():
        share = BRepGProp_Vinert(loaded, domain, origin, origin)
    return share.Mass(), *(share.Mass() * value for value in share.CentreOfMass().Coord())


def _edge_kind(edge):
    """Plain for a line, circle or ellipse; spline for one without weights; weighted for any other curve."""
    curve = BRepAdaptor_Curve(edge)
    kind = curve.GetType()
    if kind in PLAIN_CURVES:
        return "plain"
    if kind == GeomAbs_CurveType.GeomAbs_BezierCurve:
        return "weighted" if curve.Bezier().IsRational() else "spline"
    if kind == GeomAbs_CurveType.GeomAbs_BSplineCurve:
        return "weighted" if curve.BSpline().IsRational() else "spline"
    return "weighted"


@attrs.define
class Measured:
    """A face as it looks out of its body.

    Attributes:
        sums: area, its share of the volume, and of the moments about the origin x, y, z.
        box: low x, y, z, high negated; rough: whether that is only beyond the face, not at it.
        valid: whether the kernel finds no fault in it.
    """

    sums: np.ndarray
    box: np.ndarray
    rough: bool
    valid: bool


class Measures:
    """:class:`Measured` of faces: an operation leaves most faces of a body as they are. Bounded, and begun anew when
    full."""

    def __init__(self, most: int) -> None:
        self.kept = LastShapes(most)

    def of(self, face: TopoDS_Face) -> Measured:
        known = self.kept.get(face)
        if known is not None and known[0] == face.Orientation():
            return known[1]
        level = flat(face)
        surface = BRepAdaptor_Surface(face)
        rough = level is None and surface.GetType() not in RULED_SURFACES and not _is_rounding(surface)
        sums = level.sums if level else (area_of_face(face), *_share_of(face))
        box = level.box if level else _poles_box(face) if rough else tight_box(face)
        told = Measured(np.array(sums), _as_least(box), rough, bool(BRepCheck_Analyzer(face).IsValid()))
        return self.kept.keep(face, (face.Orientation(), told))[1]

    def boxes(self, faces: list[TopoDS_Face]) -> np.ndarray:
        """Boxes (n, 6) of faces, low x, y, z and high negated, exact where they make the box of all: a spline face is
        only searched, which takes long, where its poles reach beyond the other faces."""
        told = [self.of(face) for face in faces]
        exact = np.min([one.box for one in told if not one.rough] or [np.full(6, np.inf)], axis=0)
        for face, one in zip(faces, told):
            if one.rough and (one.box < exact - ROUGH_MM).any():
                one.box, one.rough = _as_least(tight_box(face)), False
                exact = np.minimum(exact, one.box)
        return np.array([one.box for one in told])


def _as_least(box):
    low, high = box
    return np.array([*low, *(-value for value in high)])


def _poles_box(face):
    """The box of the poles of a spline face, which lies within."""
    box = Bnd_Box()
    BRepBndLib.Add_s(face, box, False)
    return box.CornerMin().Coord(), box.CornerMax().Coord()


_MEASURES = Measures(4000)


def _closes(shape):
    """Whether each shell of a shape is closed, with all its faces looking out."""
    return all(
        check.Closed(False) == check.Orientation(False) == BRepCheck_Status.BRepCheck_NoError
        for check in (BRepCheck_Shell(TopoDS.Shell(shell)) for shell in parts_of(shape, TopAbs_SHELL))
    )


def facts_of(shape: TopoDS_Shape) -> Facts:
    """Facts of a body that is not empty."""
    faces = faces_of(shape)
    told = [_MEASURES.of(face) for face in faces]
    area, volume, *moments = np.sum([one.sums for one in told], axis=0).tolist()
    box = np.min(_MEASURES.boxes(faces), axis=0)
    return Facts(
        volume,
        area,
        (tuple(box[:3].tolist()), tuple((0.0 - box[3:]).tolist())),
        tuple(moment / volume for moment in moments) if volume else (0.0, 0.0, 0.0),
        len(parts_of(shape, TopAbs_SOLID)),
        all(one.valid for one in told) and _closes(shape),
    )


def extreme_faces(shape: TopoDS_Shape) -> list[tuple[list[TopoDS_Face], list[TopoDS_Face]]]:
    """The faces that reach lowest and highest along x, y and z, first those that run least along it."""
    faces = faces_of(shape)
    boxes = _MEASURES.boxes(faces)
    least, runs = boxes.min(axis=0), -(boxes[:, :3] + boxes[:, 3:])
    found = []
    for axis in range(3):
        order = np.argsort(runs[:, axis], kind="stable")
        sides = [[faces[i] for i in order if boxes[i, one] - least[one] < TOUCHING_MM] for one in (axis, axis + 3)]
        found.append((sides[0], sides[1]))
    return found


def tight_box(shape: TopoDS_Shape) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
    """((min x, y, z), (max x, y, z)), exact up to rounding.

    A flat, cylindrical, conical or extruded face is extreme on its edges; a torus or sphere may be so where its normal
    points along an axis. Only other curves and surfaces are left to the kernel's search, which is slow.
    """
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    others, outermost = Bnd_Box(), shape
    if shape.ShapeType() == TopAbs_FACE and plane_of(TopoDS.Face(shape)):
        outermost = BRepTools.OuterWire_s(TopoDS.Face(shape))
    for edge in parts_of(outermost, TopAbs_EDGE):
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


def three_places(edge: TopoDS_Edge) -> tuple[tuple[float, ...], ...]:
    """(x, y, z) at the beginning, the middle parameter and the end of an edge."""
    curve = BRepAdaptor_Curve(edge)
    first, last = curve.FirstParameter(), curve.LastParameter()
    return tuple(curve.Value(at).Coord() for at in (first, (first + last) / 2, last))


def edge_points(edge: TopoDS_Edge, chord: float = 0.05, angle: float = 0.2) -> np.ndarray:
    """Polyline (n, 3) along an edge."""
    curve = BRepAdaptor_Curve(edge)
    points = GCPnts_TangentialDeflection(curve, angle, chord)
    return np.array([(p.X(), p.Y(), p.Z()) for p in (points.Value(index) for index in range(1, points.NbPoints() + 1))])


MOST_MESHED_BYTES = 32 * 2**20
_MESHED = LastShapes(MOST_MESHED_BYTES)


def triangulate(
    shape: TopoDS_Shape, chord: float, angle: float = 0.25, *, again: bool = False
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Triangles of a shape within a chord tolerance.

    Args:
        again: faces that have triangles of these tolerances already, from a body that they were in before, keep them;
            for the eye alone, since what comes out then hangs on what was shown before.

    Returns:
        vertices (n, 3), triangles (m, 3) and, for each triangle, the index of its face in :func:`faces_of`.
    """
    faces, within = faces_of(shape), (chord, angle)
    known = [_MESHED.get(face) for face in faces]
    if not again or any(one and one[0] != within for one in known):
        BRepTools.Clean_s(shape)
        known = [None] * len(faces)
    BRepMesh_IncrementalMesh(shape, chord, False, angle, True)
    vertices, triangles, owners, offset = [], [], [], 0
    for number, (face, one) in enumerate(zip(faces, known)):
        there = one or _triangles_of(face, within)
        if there is None:
            continue
        _, points, corners = there
        if one is None:
            _MESHED.keep(face, there, points.nbytes + corners.nbytes)
        vertices.append(points)
        triangles.append((corners[:, ::-1] if face.Orientation() == TopAbs_REVERSED else corners) + offset)
        owners.append(np.full(len(corners), number))
        offset += len(points)
    if not vertices:
        raise OperationError("The body is empty, so there is nothing to show or export.")
    return np.vstack(vertices), np.vstack(triangles), np.concatenate(owners)


def _triangles_of(face, within):
    """The tolerances, vertices and triangles of a face that was meshed, as its surface runs."""
    place = TopLoc_Location()
    mesh = BRep_Tool.Triangulation_s(face, place)
    if mesh is None:
        return None
    points = np.array([mesh.Node(index).Coord() for index in range(1, mesh.NbNodes() + 1)])
    corners = np.array([mesh.Triangle(index).Get() for index in range(1, mesh.NbTriangles() + 1)]) - 1
    if not place.IsIdentity():
        turn = place.Transformation()
        matrix = np.array([[turn.Value(row, column) for column in range(1, 5)] for row in range(1, 4)])
        points = points @ matrix[:, :3].T + matrix[:, 3]
    return within, points, corners


def mesh_volume(vertices: np.ndarray, triangles: np.ndarray) -> float:
    """Volume inside a closed mesh (divergence theorem)."""
    a, b, c = (vertices[triangles[:, index]] for index in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)


def is_finite(facts: Facts) -> bool:
    return all(math.isfinite(value) for value in (facts.volume_mm3, facts.area_mm2, *facts.size))
