"""Solids whose sides lean, ruled between an outline and what it comes to farther off: where the kernel fails.

Each piece of the outline is moved along its normals, and its ends to where the leaning sides beside a corner would meet
(mitred); the side over it is ruled between both.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import shapely
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
from OCP.TopAbs import TopAbs_EDGE, TopAbs_SOLID
from OCP.TopoDS import TopoDS, TopoDS_Face, TopoDS_Shape
from scipy.integrate import simpson
from shapely.ops import substring

from nomogon_core.geometry.curves import bezier, bezier_derivative, cubics_of
from nomogon_core.solid import kernel
from nomogon_core.solid.sweeping import spline_through

PLACES, SLICES, CLOSE, LEAST_MITRE, SAME_VOLUME, BISECTIONS = 33, 7, 1e-9, 0.01, 2e-3, 9


def ruled_loop(
    named_curves: list[tuple[str, Any]], neutral: float, far: float, angle: float
) -> tuple[TopoDS_Shape | None, list[tuple[TopoDS_Face, str]], list[TopoDS_Face]]:
    """As :func:`nomogon_core.solid.kernel.drafted_loop`: a solid inside a loop whose sides lean inward by an angle,
    radians, from one height to another; no solid where a side would vanish."""
    pieces = _pieces(named_curves)
    near, off, lost = _led_inward(named_curves, abs(far - neutral) * math.tan(angle))
    if lost is not None:
        return None, [], []
    maker = BRepOffsetAPI_ThruSections(True, True, 1e-6)
    maker.CheckCompatibility(False)
    wires = [_wire(rows, height) for rows, height in ((near, neutral), (off, far))]
    for wire in wires:
        maker.AddWire(wire)
    maker.Build()
    if not maker.IsDone() or maker.Shape().ShapeType() != TopAbs_SOLID:
        return None, [], []
    solid = kernel.outward(TopoDS.Solid(maker.Shape()))
    if abs(kernel.volume_properties(solid).Mass() / _volume(near, neutral, far, angle) - 1) > SAME_VOLUME:
        return None, [], []
    edges = kernel.parts_of(wires[0], TopAbs_EDGE)
    sides = [(TopoDS.Face(maker.GeneratedFace(edge)), name) for edge, (name, _) in zip(edges, pieces)]
    return solid, sides, [TopoDS.Face(maker.FirstShape()), TopoDS.Face(maker.LastShape())]


def most_inward(loop: list[tuple[str, Any]], wanted: float) -> tuple[float, tuple[float, float]] | None:
    """How far the sides over a loop can lean inward (negative: outward), at most as far as ``wanted``, before one of
    its pieces vanishes or turns around, and the place (x, y) of the first that does; None where all stay.

    Millimetres, by bisection: the place is of the last try that failed.
    """
    *_, lost = _led_inward(loop, wanted)
    if lost is None:
        return None
    low, high = 0.0, wanted
    for _ in range(BISECTIONS):
        middle = (low + high) / 2
        *_, here = _led_inward(loop, middle)
        if here is None:
            low = middle
        else:
            high, lost = middle, here
    return low, lost


def _pieces(loop):
    return [(name, np.asarray(control, float)) for name, curve in loop for control in cubics_of(curve)]


def _led_inward(loop, by):
    """Places along each piece of a loop, those that they come to, and where the first piece is that does not stay."""
    inward = by * (1.0 if kernel.runs_around(loop) else -1.0)
    shares, controls = np.linspace(0, 1, PLACES), [control for _, control in _pieces(loop)]
    near = [bezier(control, shares) for control in controls]
    ways = [bezier_derivative(control, shares) for control in controls]
    moved = [places + inward * _normals(way) for places, way in zip(near, ways)]
    joints = [_joint(index, near, ways, moved, inward) for index in range(len(near))]
    off = [_between(line, begin, end) for line, begin, end in zip(moved, joints, [*joints[1:], joints[0]])]
    for places, there in zip(near, off):
        if there is None or ((there[1:] - there[:-1]) * (places[1:] - places[:-1])).sum(axis=1).min() <= 0:
            return near, off, tuple(places[len(places) // 2].tolist())
    return near, off, None


def _volume(near, neutral, far, angle):
    """What the solid holds, from polygons moved inward by the mitre at several heights (Simpson 1743)."""
    outline = shapely.Polygon(np.vstack([places[:-1] for places in near]))
    depths = np.linspace(0, abs(far - neutral), SLICES)
    areas = [outline.buffer(-z * math.tan(angle), join_style="mitre", mitre_limit=100).area for z in depths]
    return max(float(simpson(areas, x=depths)), CLOSE)


def _joint(index, near, ways, moved, inward):
    """(x, y) where the beginning of a piece and the end of the one before come to: where both cross, or the mitre."""
    one, other = _normals(ways[index - 1][-1:])[0], _normals(ways[index][:1])[0]
    mitre = near[index][0] + inward * (one + other) / max(1 + float(one @ other), LEAST_MITRE)
    met = shapely.intersection(shapely.LineString(moved[index - 1]), shapely.LineString(moved[index]))
    places = [tuple(place) for part in shapely.get_parts(met) for place in shapely.get_coordinates(part)]
    return np.array(min(places, key=lambda place: math.dist(place, mitre))) if places else mitre


def _between(line, begin, end):
    """A moved piece between two places: cut off there where it goes past them, else running on straight."""
    whole, run = shapely.LineString(line), line[1:] - line[:-1]
    first, last = (float(whole.project(shapely.Point(place))) for place in (begin, end))
    if last - first < CLOSE:
        return None
    ahead, behind = float((begin - line[0]) @ run[0]) < 0, float((end - line[-1]) @ run[-1]) > 0
    cut = shapely.get_coordinates(substring(whole, 0.0 if ahead else first, whole.length if behind else last))
    parts = [*([begin[None]] if ahead else []), cut, *([end[None]] if behind else [])]
    points = np.vstack(parts)
    points[0], points[-1] = begin, end
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    wanted = np.linspace(0, along[-1], PLACES)
    return np.column_stack([np.interp(wanted, along, points[:, axis]) for axis in (0, 1)])


def _normals(ways):
    return np.column_stack([-ways[:, 1], ways[:, 0]]) / np.maximum(np.hypot(*ways.T), CLOSE)[:, None]


def _wire(rows, height):
    maker = BRepBuilderAPI_MakeWire()
    for places in rows:
        points = np.column_stack([places, np.full(len(places), height)])
        maker.Add(BRepBuilderAPI_MakeEdge(spline_through(points)).Edge())
    return maker.Wire()
