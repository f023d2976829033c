"""All edges of a flat face rounded where the kernel's own fillet fails: by sections, each the outline moved inward.

The rounding of an edge between a flat face and upright sides lies over the outline that moves along its normals
(:mod:`nomogon_core.geometry.fronts`): a place that has moved by d stands √(r² − (r − d)²) above where the rounding
begins. So every piece of the outline sweeps a quarter of a circle, a piece that is narrower than the radius ends in a
point on the way, and its neighbours go on together.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import attrs
import numpy as np
import shapely
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeSolid, BRepBuilderAPI_Sewing
from OCP.BRepTools import BRepTools
from OCP.collections import Array1_double, Array1_int, Array2_double, Array2_gp_Pnt
from OCP.Geom import Geom_BSplineSurface
from OCP.GeomAbs import GeomAbs_CurveType
from OCP.gp import gp_Pnt
from OCP.TopAbs import TopAbs_SHELL, TopAbs_WIRE
from OCP.TopoDS import TopoDS, TopoDS_Edge, TopoDS_Face, TopoDS_Shape
from scipy.integrate import simpson

from nomogon_core.geometry.fronts import MET_MM, PLACES, Loop, Stage, leads, most_into, rings_of
from nomogon_core.solid import kernel
from nomogon_core.solid.bores import outward_normal
from nomogon_core.solid.drafting import array, cap_inside, knots, poles_of
from nomogon_core.solid.planes import frame_of
from nomogon_core.solid.sectioning import curves_around

SEWN_MM, UPRIGHT, BELOW_MM, SAME_VOLUME = 2e-4, 1e-6, 1e-6, 1e-6
SLICES, AS_POLYGONS = 17, 1e-3


@attrs.frozen
class Rounded:
    """A shape whose edges were rounded.

    Attributes:
        sides: (face, the edge of the first shape that it rounds); kept: (face, what it was in the first shape).
    """

    shape: TopoDS_Shape = attrs.field(repr=False)
    sides: list[tuple[TopoDS_Face, TopoDS_Edge]] = attrs.field(repr=False)
    kept: list[tuple[TopoDS_Face, TopoDS_Face]] = attrs.field(repr=False)


def rounded(shape: TopoDS_Shape, edges: Sequence[TopoDS_Edge], radius: float) -> Rounded | None:
    """A shape with edges rounded that are all those of some flat faces; None where they are not, where sides do not
    stand upright on them for as long as the radius, or the sections cross."""
    faces = _bounded_by(shape, edges)
    if not faces:
        return None
    here, sides, kept = shape, [], [(face, face) for face in kernel.faces_of(shape)]
    for face in faces:
        now = next((one for one, was in kept if was.IsSame(face)), None)
        told = _rounded_face(here, now, radius) if now is not None else None
        if told is None:
            return None
        became = kernel.ShapeMap()
        for after, before in told.kept:
            became.put(before, [*became.get(before, []), after])
        sides = [(after, edge) for one, edge in sides for after in became.get(one, [])]
        kept = [(after, was) for one, was in kept for after in became.get(one, [])]
        here, sides = told.shape, [*sides, *told.sides]
    return Rounded(here, sides, kept)


def largest(
    shape: TopoDS_Shape, edges: Sequence[TopoDS_Edge], wanted: float
) -> tuple[float, tuple[float, float, float]] | None:
    """The radius, less than ``wanted``, at which the first of the sections of edges as :func:`rounded` would cross
    itself or fall apart, and the place in space where; None where none does, or they are not all edges of flat
    faces."""
    found = []
    for face in _upright_at(shape, edges):
        told = most_into(_loops(_seen(face)), wanted)
        if told is not None:
            found.append((told[0], _frame(face).in_space(told[1])))
    return min(found, default=None)


def _bounded_by(shape, edges):
    """The flat faces of which all edges are chosen, if each chosen edge bounds one of them."""
    chosen = kernel.ShapeMap()
    for edge in edges:
        chosen.put(edge, True)
    found, met = [], kernel.ShapeMap()
    for face in kernel.faces_of(shape):
        around = kernel.edges_of(face)
        if kernel.plane_of(face) and all(chosen.get(edge) for edge in around):
            found.append(face)
            for edge in around:
                met.put(edge, True)
    return found if all(met.get(edge) for edge in edges) else []


def _upright_at(shape, edges):
    """As :func:`_bounded_by`, if all sides stand upright on these faces."""
    found = _bounded_by(shape, edges)
    for face in found:
        if not _stand_upright(*_on_plan(shape, face)):
            return []
    return found


def _rounded_face(shape, face, radius):
    """As :func:`rounded`, of one flat face."""
    seen, top = _on_plan(shape, face)
    before, there = kernel.faces_of(shape), kernel.faces_of(seen)
    edges = kernel.edges_of(face)
    loops = _loops(top)
    if not _stand_upright(seen, top):
        return None
    stages = leads(loops, radius)
    if stages is None:
        return None
    wanted = _swept(shapely.Polygon(*rings_of(loops)), radius, "mitre")
    prism = kernel.prism(top, -radius)
    cut = kernel.boolean("cut", seen, [prism.Shape()])
    lower = cut.Shape()
    gone = kernel.volume_properties(seen).Mass() - kernel.volume_properties(lower).Mass()
    if abs(gone / kernel.volume_properties(prism.Shape()).Mass() - 1) > SAME_VOLUME:
        return None
    floors = kernel.ShapeMap()
    for floor in kernel.items(cut.Modified(prism.LastShape())) or [prism.LastShape()]:
        floors.put(floor, True)
    sewing, sides = BRepBuilderAPI_Sewing(SEWN_MM), []
    low = [one for one in kernel.faces_of(lower) if not floors.get(one)]
    for one in low:
        sewing.Add(one)
    for loop in stages:
        for stage in loop:
            for name, straight, near, far in stage.sides:
                sides.append((_side(near, far, stage, radius, straight=straight), edges[int(name)]))
                sewing.Add(sides[-1][0])
    cap = _cap(stages)
    sewing.Add(cap)
    sewing.Perform()
    if sewing.NbFreeEdges() or sewing.SewedShape().ShapeType() != TopAbs_SHELL:
        return None
    solid = kernel.outward(BRepBuilderAPI_MakeSolid(TopoDS.Shell(sewing.SewedShape())).Solid())
    told = kernel.volume_properties(solid).Mass() - kernel.volume_properties(lower).Mass()
    if abs(told - wanted) > AS_POLYGONS * gone:
        return None
    became = kernel.ShapeMap()
    for was, one in zip(before, there):
        for new in kernel.items(cut.Modified(one)) or [one]:
            became.put(new, was)
    kept = [(kernel.sewn(sewing, one), became.get(one)) for one in low if became.get(one) is not None]
    kept.append((kernel.sewn(sewing, cap), face))
    sides = [(kernel.sewn(sewing, one), edge) for one, edge in sides]
    made = kernel.placed(solid, _frame(face))
    moved = kernel.ShapeMap()
    for one, after in zip(kernel.faces_of(solid), kernel.faces_of(made)):
        moved.put(one, after)
    return Rounded(made, [(moved.get(one), edge) for one, edge in sides], [(moved.get(one), was) for one, was in kept])


def vanishes(shape: TopoDS_Shape, edges: Sequence[TopoDS_Edge], radius: float) -> bool:
    """Whether edges are all those of flat faces with upright sides, and a piece of their outline is too narrow for a
    radius: there the kernel's own fillet fails, or comes out wrong and is called valid."""
    if all(_is_wide(edge, radius) for edge in edges):
        return False
    for face in _bounded_by(shape, edges):
        stages = leads(_loops(_seen(face)), radius)
        if stages is None or any(len(loop) > 1 for loop in stages):
            return bool(_upright_at(shape, edges))
    return False


def _is_wide(edge, radius):
    """Whether a piece of an outline stays whatever its neighbours do, told cheaply."""
    run = BRepAdaptor_Curve(edge)
    if run.GetType() == GeomAbs_CurveType.GeomAbs_Line:
        return run.LastParameter() - run.FirstParameter() > 2 * radius
    return run.GetType() == GeomAbs_CurveType.GeomAbs_Circle and run.Circle().Radius() > 2 * radius


def likely_volume(shape: TopoDS_Shape, edges: Sequence[TopoDS_Edge], radius: float) -> tuple[float, float]:
    """Least and most cubic millimetres that a shape can have once edges are rounded that are all those of flat faces
    with upright sides, from polygons: around inside corners the sections may run on sharp, or round."""
    least = most = kernel.volume_properties(shape).Mass()
    for face in _upright_at(shape, edges):
        area = shapely.Polygon(*rings_of(_loops(_seen(face))))
        slack = AS_POLYGONS * area.area * radius
        sharp, around = (_swept(area, radius, join) - area.area * radius for join in ("mitre", "round"))
        least, most = least + min(sharp, around) - slack, most + max(sharp, around) + slack
    return least, most


def _swept(area, radius, join):
    """Cubic millimetres over an area that moves inward as an edge is rounded (Simpson 1743, over the angle)."""
    angles = np.linspace(0, math.pi / 2, SLICES)
    inner = [area.buffer(-radius * (1 - math.cos(at)), join_style=join, mitre_limit=100).area for at in angles]
    return float(simpson([one * radius * math.cos(at) for one, at in zip(inner, angles)], x=angles))


def _on_plan(shape, face):
    """(a shape as it is seen with one of its flat faces on Plan, that face there)."""
    seen = kernel.seen_from(shape, _frame(face))
    number = next(index for index, one in enumerate(kernel.faces_of(shape)) if one.IsSame(face))
    return seen, kernel.faces_of(seen)[number]


def _frame(face):
    return frame_of(*kernel.plane_of(face))


def _seen(face):
    """A flat face on Plan."""
    return kernel.faces_of(kernel.seen_from(face, _frame(face)))[0]


def _loops(face: TopoDS_Face) -> list[Loop]:
    """The outline of a flat face on Plan, then those of its holes, as curves by the numbers of their edges."""
    numbers = kernel.ShapeMap()
    for number, edge in enumerate(kernel.edges_of(face)):
        numbers.put(edge, str(number))
    outer = BRepTools.OuterWire_s(face)
    wires = [TopoDS.Wire(wire) for wire in kernel.parts_of(face, TopAbs_WIRE)]
    wires.sort(key=lambda wire: not wire.IsSame(outer))
    return [[(numbers.get(edge), curve) for edge, curve in curves_around(wire, face, simpler=False)] for wire in wires]


def _stand_upright(seen, top):
    """Whether all faces beside a flat one stand upright below it."""
    around = kernel.ShapeMap()
    for edge, faces in kernel.edges_with_faces(seen):
        around.put(edge, faces)
    for edge in kernel.edges_of(top):
        place = kernel.edge_points(edge)
        middle = gp_Pnt(*map(float, place[len(place) // 2]))
        for face in around.get(edge, []):
            if face.IsSame(top):
                continue
            if kernel.tight_box(face)[1][2] > BELOW_MM or abs(outward_normal(face, middle)[2]) > UPRIGHT:
                return False
    return True


def _cap(stages):
    """The flat face that is left of the top."""
    faces = [cap_inside([(far, straight) for _, straight, _, far in loop[-1].sides], 0.0) for loop in stages]
    maker = BRepBuilderAPI_MakeFace(faces[0])
    _, up = kernel.plane_of(faces[0])
    for hole in faces[1:]:
        wire = BRepTools.OuterWire_s(hole)
        alike = float(np.dot(kernel.plane_of(hole)[1], up)) > 0
        maker.Add(TopoDS.Wire(wire.Reversed()) if alike else wire)
    return maker.Face()


def _side(near: np.ndarray, far: np.ndarray, stage: Stage, radius: float, *, straight: bool) -> TopoDS_Face:
    """What one piece sweeps in one stage: an arc of a circle (rational and quadratic) over every place along it."""
    first, last = (math.acos(1 - min(abs(at) / radius, 1.0)) for at in (stage.near, stage.far))
    middle, weight = (first + last) / 2, math.cos((last - first) / 2)
    moved, risen = radius * (1 - math.cos(middle) / weight), radius * (math.sin(middle) / weight - 1)
    share = (moved - abs(stage.near)) / (abs(stage.far) - abs(stage.near))
    rows = (
        (near, radius * (math.sin(first) - 1), 1.0),
        (near + share * (far - near), risen, weight),
        (far, radius * (math.sin(last) - 1), 1.0),
    )
    count = 2 if straight else PLACES
    poles, weights = Array2_gp_Pnt(1, count, 1, 3), Array2_double(1, count, 1, 3)
    for column, (row, height, heavy) in enumerate(rows, 1):
        points = poles_of(row, height)
        for index, place in enumerate([points[0], points[-1]] if straight else points, 1):
            poles.SetValue(index, column, place)
            weights.SetValue(index, column, heavy)
    along = (array(Array1_double, (0.0, 1.0)), array(Array1_int, (2, 2))) if straight else knots()
    across = array(Array1_double, (0.0, 1.0)), array(Array1_int, (3, 3))
    surface = Geom_BSplineSurface(poles, weights, along[0], across[0], along[1], across[1], 1 if straight else 3, 2)
    return BRepBuilderAPI_MakeFace(surface, MET_MM).Face()
