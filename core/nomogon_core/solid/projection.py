"""Bodies as a drawing shows them from one side: visible, smooth and hidden edges as plane curves.

Hidden lines are taken away exactly by the kernel (Appel 1967), so that circles stay circles; what lies under a visible
line is not drawn again. Where many free faces would make that take minutes, the lines are those of facets.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
import shapely
from OCP.BRepAdaptor import BRepAdaptor_Curve, BRepAdaptor_Surface
from OCP.BRepLib import BRepLib
from OCP.BRepTools import BRepTools
from OCP.GeomAbs import GeomAbs_CurveType, GeomAbs_SurfaceType
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Vec
from OCP.HLRAlgo import HLRAlgo_Projector
from OCP.HLRBRep import (
    HLRBRep_Algo,
    HLRBRep_HLRToShape,
    HLRBRep_PolyAlgo,
    HLRBRep_PolyHLRToShape,
    HLRBRep_TypeOfResultingEdge,
)
from OCP.TopAbs import TopAbs_EDGE
from OCP.TopoDS import TopoDS, TopoDS_Shape

from nomogon_core.geometry.crossings import at, span
from nomogon_core.geometry.curves import Arc, Circle, Line, Spline, ends
from nomogon_core.solid.kernel import edge_points, edges_with_faces, faces_of, parts_of, triangulate

if TYPE_CHECKING:
    from collections.abc import Sequence

    from nomogon_core.solid.planes import Frame

SHARP = (HLRBRep_TypeOfResultingEdge.HLRBRep_Sharp, HLRBRep_TypeOfResultingEdge.HLRBRep_OutLine)
SMOOTH = (HLRBRep_TypeOfResultingEdge.HLRBRep_Rg1Line, HLRBRep_TypeOfResultingEdge.HLRBRep_RgNLine)
FIT_MM, MOST_PIECES, SAME_MM, LEAST_MM, SEAM_MM, LEAST_ROUND = 0.003, 128, 1e-4, 1e-3, 1e-3, 9
TURN = 2 * math.pi
# Taking hidden lines away exactly grows with the square of the pieces of free faces: 33 take 0.7 s, 128 take 19 s.
MOST_FREE_PIECES, FACET_MM, FACET_ANGLE = 40, 0.05, 0.25


@attrs.frozen
class Projected:
    """What is seen of bodies from one side, in millimetres across and up; nothing is told twice.

    Attributes:
        visible: edges and silhouettes; smooth: visible edges without a crease; hidden: edges and silhouettes behind.
    """

    visible: tuple = attrs.field(repr=False)
    smooth: tuple = attrs.field(repr=False)
    hidden: tuple = attrs.field(repr=False)

    @property
    def all(self) -> tuple[Any, ...]:
        return (*self.visible, *self.smooth, *self.hidden)


def projected(shapes: Sequence[TopoDS_Shape], frame: Frame) -> Projected:
    """Shapes as they are seen along the normal of a frame, from where it points; together they hide one another.

    Args:
        frame: the view: its ``across`` runs to the right, its ``normal`` to the eye.
    """
    axes = gp_Ax2(gp_Pnt(*frame.origin), gp_Dir(*frame.normal), gp_Dir(*frame.across))
    free = sum(_free_pieces(face) for shape in shapes for face in faces_of(shape))
    faceted = free > MOST_FREE_PIECES
    sharp, soft, behind = (_by_facets if faceted else _exactly)(shapes, HLRAlgo_Projector(axes))
    is_seam = (_lies_along_seams if faceted else _is_a_seam)(shapes, frame)
    visible = _united(sharp)
    smooth = _less(_united(curve for curve in soft if not is_seam(curve)), visible)
    hidden = _less(_united(behind), [*visible, *smooth])
    return Projected(*(tuple(_chained(curves) if faceted else curves) for curves in (visible, smooth, hidden)))


def _free_pieces(face):
    surface = BRepAdaptor_Surface(face)
    if surface.GetType() != GeomAbs_SurfaceType.GeomAbs_BSplineSurface:
        return 0
    return (surface.NbUKnots() - 1) * (surface.NbVKnots() - 1)


def _exactly(shapes, projector):
    """Visible, visible and smooth, and hidden curves, by the exact shapes."""
    algorithm = HLRBRep_Algo()
    for shape in shapes:
        algorithm.Add(shape)
    algorithm.Projector(projector)
    algorithm.Update()
    algorithm.Hide()
    told = HLRBRep_HLRToShape(algorithm)
    return [
        _curves(told.CompoundOfEdges(kind, seen, False) for kind in kinds)
        for kinds, seen in ((SHARP, True), (SMOOTH, True), (SHARP, False))
    ]


def _by_facets(shapes, projector):
    """The same as lines, by triangles."""
    algorithm = HLRBRep_PolyAlgo()
    for shape in shapes:
        if not BRepTools.Triangulation_s(shape, FACET_MM):
            triangulate(shape, FACET_MM, FACET_ANGLE)
        algorithm.Load(shape)
    algorithm.Projector(projector)
    algorithm.Update()
    told = HLRBRep_PolyHLRToShape()
    told.Update(algorithm)
    return [
        _curves(compounds)
        for compounds in (
            (told.VCompound(), told.OutLineVCompound()),
            (told.Rg1LineVCompound(), told.RgNLineVCompound()),
            (told.HCompound(), told.OutLineHCompound()),
        )
    ]


def _chained(lines):
    """Lines that follow one another as one curve of straight pieces, so that dashes run on along it."""
    ends = np.array([[line.start, line.end] for line in lines]).reshape(-1, 2, 2)
    merged = shapely.line_merge(shapely.set_precision(shapely.multilinestrings(ends), LEAST_MM, mode="pointwise"))
    found = []
    for places in map(shapely.get_coordinates, shapely.get_parts(merged)):
        steps = np.diff(places, axis=0)
        inner = places[:-1, None] + steps[:, None] * np.array([1, 2, 3])[:, None] / 3
        straight = Line(tuple(places[0]), tuple(places[-1]))
        found.append(Spline([tuple(p) for p in (places[0], *inner.reshape(-1, 2))]) if len(places) > 2 else straight)
    return found


def _seam_edges(shapes):
    """The edges in which a round face only meets itself."""
    for shape in shapes:
        for edge, faces in edges_with_faces(shape):
            if all(face.IsSame(faces[0]) for face in faces):
                yield edge


def _seen(frame, places):
    return np.array([frame.of_space(tuple(place))[:2] for place in places])


def _lies_along_seams(shapes, frame):
    """Tells whether a line of facets lies along a seam."""
    drawn = shapely.MultiLineString([_seen(frame, edge_points(edge)) for edge in _seam_edges(shapes)])
    shapely.prepare(drawn)

    def among(line):
        middle = shapely.points(np.mean([line.start, line.end], axis=0))
        return bool(shapely.dwithin(drawn, middle, 2 * FACET_MM))

    return among


def _is_a_seam(shapes, frame):
    """Tells whether a curve is a seam as it is seen, or a piece of one that is straight."""
    seams = []
    for edge in _seam_edges(shapes):
        places = _seen(frame, edge_points(edge))
        curve = BRepAdaptor_Curve(edge)
        middle = curve.Value((curve.FirstParameter() + curve.LastParameter()) / 2).Coord()
        seams.append(np.array([*sorted([tuple(places[0]), tuple(places[-1])]), *_seen(frame, [middle])]))
    return lambda curve: _is_among(curve, seams)


def _is_among(curve, seams):
    """Whether a curve is one of some edges as they are seen, or a piece of one that is straight."""
    if isinstance(curve, Circle) or not seams:
        return False
    tips = sorted(ends(curve))
    if isinstance(curve, Line):
        return any(max(_off_line(tip, *seam[:2]) for tip in tips) < SEAM_MM for seam in seams)
    marks = np.array([*tips, at(curve, span(curve) / 2)[0]])
    return any(np.abs(marks - seam).max() < SEAM_MM for seam in seams)


def _off_line(place, start, end):
    """How far a place is from a line between two others."""
    run, away = end - start, np.subtract(place, start)
    share = min(max(float(away @ run) / max(float(run @ run), 1e-300), 0.0), 1.0)
    return math.hypot(*(away - share * run))


def _curves(compounds):
    found = []
    for edges in compounds:
        if edges is None or edges.IsNull():
            continue
        BRepLib.BuildCurves3d_s(edges)
        for edge in parts_of(edges, TopAbs_EDGE):
            found += plane_curve(BRepAdaptor_Curve(TopoDS.Edge(edge)))
    return found


def plane_curve(curve: BRepAdaptor_Curve, *, simpler: bool = True) -> list[Line | Arc | Circle | Spline]:
    """The plane curve of an edge as it is seen along z, in a list; none where it is seen as a point. A line may run the
    other way.

    Args:
        simpler: a spline that is as good as a line or an arc is one; else it ends exactly where it does.
    """
    first, last = curve.FirstParameter(), curve.LastParameter()
    if curve.GetType() == GeomAbs_CurveType.GeomAbs_Circle:
        circle = curve.Circle()
        center, radius = circle.Location().Coord()[:2], circle.Radius()
        if last - first > TURN - 1e-9:
            return [Circle(center, radius)]
        start = curve.Value(first).Coord()
        angle = math.atan2(start[1] - center[1], start[0] - center[0])
        return [Arc(center, radius, angle, math.copysign(last - first, circle.Axis().Direction().Z()))]
    straight = curve.GetType() == GeomAbs_CurveType.GeomAbs_Line
    cubic = curve.GetType() == GeomAbs_CurveType.GeomAbs_BezierCurve and curve.Degree() <= 3
    pieces = 1 if straight or (cubic and not simpler) else 4
    while True:
        stops = np.linspace(first, last, 2 * pieces + 1)
        places, ways = _values(curve, stops)
        line = _straight(places) if straight or simpler else None
        if line is not None:
            return [line] if math.dist(line.start, line.end) > LEAST_MM else []
        arc = _round(places) if simpler else None
        if arc is not None:
            return [arc]
        arms = ways * (stops[2] - stops[0]) / 3
        control = np.stack(
            [places[:-2:2], places[:-2:2] + arms[:-2:2], places[2::2] - arms[2::2], places[2::2]], axis=1
        )
        middle = np.tensordot([1, 3, 3, 1], control, axes=(0, 1)) / 8
        if pieces >= MOST_PIECES or np.abs(middle - places[1::2]).max() < FIT_MM:
            return [Spline([tuple(control[0, 0]), *(tuple(place) for piece in control for place in piece[1:])])]
        pieces *= 2


def _values(curve, stops):
    """Places and derivatives (n, 2) at some parameters."""
    places, ways, place, way = [], [], gp_Pnt(), gp_Vec()
    for one in stops:
        curve.D1(float(one), place, way)
        places.append(place.Coord()[:2])
        ways.append(way.Coord()[:2])
    return np.array(places), np.array(ways)


def _straight(places):
    """The line over places that lie on one, however they run along it; None where they do not."""
    middle = places.mean(axis=0)
    _, _, axes = np.linalg.svd(places - middle, full_matrices=False)
    if np.abs((places - middle) @ axes[1]).max() > SAME_MM:
        return None
    along = (places - middle) @ axes[0]
    return Line(tuple(middle + along.min() * axes[0]), tuple(middle + along.max() * axes[0]))


def _round(places):
    """The arc through places that lie on one of less than a turn, as a silhouette that is told as a spline; None where
    they do not."""
    rows = np.column_stack([2 * places, np.ones(len(places))])
    x, y, rest = np.linalg.lstsq(rows, (places**2).sum(axis=1), rcond=None)[0]
    radius = math.sqrt(max(rest + x * x + y * y, 0.0))
    if len(places) < LEAST_ROUND or np.abs(np.hypot(*(places - (x, y)).T) - radius).max() > SAME_MM:
        return None
    angles = np.unwrap(np.arctan2(places[:, 1] - y, places[:, 0] - x))
    sweep = float(angles[-1] - angles[0])
    if abs(sweep) > TURN - 0.1 or np.abs(np.diff(angles)).sum() > abs(sweep) + 1e-6:
        return None
    return Arc((float(x), float(y)), radius, float(angles[0]), sweep)


class _Carriers:
    """Lines and circles that hold drawn pieces as intervals: along a line in millimetres, round a circle in radians."""

    def __init__(self):
        self.lines, self.rounds, self.others = [], [], []
        # Start and way of each line, in rows that are taken as they are needed.
        self.rows = np.empty((64, 4))

    def add(self, curve: Any) -> None:
        if isinstance(curve, Line):
            carrier, interval = self.on_line(curve)
            if carrier is None:
                run = np.subtract(curve.end, curve.start)
                way = run / np.hypot(*run)
                if len(self.lines) == len(self.rows):
                    self.rows = np.concatenate([self.rows, np.empty_like(self.rows)])
                self.rows[len(self.lines)] = *curve.start, *way
                self.lines.append((np.array(curve.start), way, [(0.0, float(np.hypot(*run)))]))
            else:
                carrier[2].append(interval)
        elif isinstance(curve, (Arc, Circle)):
            carrier, intervals = self.on_circle(curve), _turns(curve)
            if carrier is None:
                self.rounds.append((curve.center, curve.radius, intervals))
            else:
                carrier += intervals
        elif self.like(curve) is None:
            self.others.append(curve)

    def on_line(self, line: Line) -> tuple[Any, Any]:
        """((point, way, intervals) of the carrier, the line's own interval) or (None, None)."""
        rows = self.rows[: len(self.lines)]
        off = [np.abs((x - rows[:, 0]) * rows[:, 3] - (y - rows[:, 1]) * rows[:, 2]) for x, y in (line.start, line.end)]
        near = np.flatnonzero(np.maximum(*off) < SAME_MM)
        if not len(near):
            return None, None
        carrier = self.lines[near[0]]
        along = (np.array([line.start, line.end]) - carrier[0]) @ carrier[1]
        return carrier, tuple(sorted(along.tolist()))

    def on_circle(self, curve: Arc | Circle) -> Any:
        for center, radius, intervals in self.rounds:
            if math.dist(center, curve.center) < SAME_MM and abs(radius - curve.radius) < SAME_MM:
                return intervals
        return None

    def like(self, curve: Spline) -> Spline | None:
        """A spline that has the same ends and the same middle."""
        own = _marks(curve)
        return next((one for one in self.others if np.abs(_marks(one) - own).max() < 10 * FIT_MM), None)


def _marks(spline):
    """Ends in order and the place in the middle of a spline."""
    points = np.array(spline.points)
    pieces = (len(points) - 1) // 3
    control = points[3 * (pieces // 2) : 3 * (pieces // 2) + 4]
    middle = points[3 * (pieces // 2)] if pieces % 2 == 0 else np.array([1, 3, 3, 1]) @ control / 8
    return np.array([*sorted([tuple(points[0]), tuple(points[-1])]), tuple(middle)])


def _turns(curve):
    """Angles that an arc or circle covers, as intervals within one turn."""
    if isinstance(curve, Circle):
        return [(0.0, TURN)]
    start = curve.start_angle if curve.sweep > 0 else curve.start_angle + curve.sweep
    start %= TURN
    end = start + abs(curve.sweep)
    return [(start, end)] if end <= TURN else [(start, TURN), (0.0, end - TURN)]


def _merged(intervals, gap):
    """Intervals as few as they can be."""
    found: list[list[float]] = []
    for low, high in sorted(intervals):
        if found and low <= found[-1][1] + gap:
            found[-1][1] = max(found[-1][1], high)
        else:
            found.append([low, high])
    return found


def _without(intervals, taken, gap):
    """What of some intervals is in none of others."""
    left = []
    for low, high in _merged(intervals, gap):
        for first, last in _merged(taken, gap):
            if first <= low + gap:
                low = max(low, last)
            elif first < high:
                left.append((low, first))
                low = last
        if high - low > gap:
            left.append((low, high))
    return [(low, high) for low, high in left if high - low > gap]


def _drawn(carriers):
    """Curves of carriers, each as long as it can be."""
    curves: list[Any] = []
    for point, way, intervals in carriers.lines:
        curves += [
            Line(tuple(point + low * way), tuple(point + high * way))
            for low, high in _merged(intervals, SAME_MM)
            if high - low > LEAST_MM
        ]
    for center, radius, intervals in carriers.rounds:
        gap = SAME_MM / radius
        pieces = _merged(intervals, gap)
        if len(pieces) > 1 and pieces[0][0] < gap and pieces[-1][1] > TURN - gap:
            pieces[-1][1] += pieces.pop(0)[1]  # it goes on over where the turn begins
        for low, high in pieces:
            if high - low > TURN - gap:
                curves.append(Circle(center, radius))
            elif (high - low) * radius > LEAST_MM:
                curves.append(Arc(center, radius, low, high - low))
    return curves + carriers.others


def _united(curves):
    """Curves of which none lies on another."""
    carriers = _Carriers()
    for curve in curves:
        carriers.add(curve)
    return _drawn(carriers)


def _less(curves, others):
    """What of some curves lies on none of others."""
    taken, left = _Carriers(), _Carriers()
    for other in others:
        taken.add(other)
    for curve in curves:
        left.add(curve)
    for index, (point, way, intervals) in enumerate(left.lines):
        held = []
        for low, high in intervals:
            line = Line(tuple(point + low * way), tuple(point + high * way))
            there, own = taken.on_line(line)
            if there is None:
                held.append((low, high))
                continue
            # Told along the other carrier, which may run the other way.
            other_point, other_way, covered = there
            kept = _without([own], covered, SAME_MM)
            for first, last in kept:
                along = [float((other_point + one * other_way - point) @ way) for one in (first, last)]
                held.append((min(along), max(along)))
        left.lines[index] = (point, way, held)
    for index, (center, radius, intervals) in enumerate(left.rounds):
        there = taken.on_circle(Circle(center, radius))
        if there is not None:
            left.rounds[index] = (center, radius, _without(intervals, there, SAME_MM / radius))
    left.others = [curve for curve in left.others if taken.like(curve) is None]
    return _drawn(left)
