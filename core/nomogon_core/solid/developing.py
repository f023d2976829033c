"""Faces laid out flat: where a place of a sketch comes to lie on a face when the sketch is laid around it, with lengths
kept true along the surface.

A cylinder and a cone are developed exactly (Gauss: they bend without stretching). Any other face is laid out by arc
length along one line of its parameters through the place under the sketch's origin, and from there along the other; how
much that stretches is told.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING

import attrs
import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.Geom import (
    Geom_ConicalSurface,
    Geom_CylindricalSurface,
    Geom_OffsetSurface,
    Geom_SphericalSurface,
    Geom_Surface,
    Geom_ToroidalSurface,
)
from OCP.GeomAbs import GeomAbs_SurfaceType
from OCP.gp import gp_Dir, gp_Lin, gp_Pnt, gp_Vec
from OCP.IntCurvesFace import IntCurvesFace_Intersector
from OCP.TopAbs import TopAbs_REVERSED
from scipy.interpolate import CubicSpline, RectBivariateSpline

from nomogon_core.errors import OperationError

if TYPE_CHECKING:
    from OCP.TopoDS import TopoDS_Face

    from nomogon_core.solid.planes import Frame

SQUARE = 0.2  # a plane whose up and across both lean by more than this from an axis lies square to it
GRID, REACH = (161, 81), 1.6
TURN = 2 * math.pi
STRETCH_STEP_MM = 1e-3


@attrs.frozen
class Development:
    """A face laid out flat.

    Attributes:
        surface: that the face lies on.
        out: 1 where the surface's own normal points out of the material, -1 where it points in.
        parameters: function of places (n, 2) of the sketch, in millimetres, that gives the surface's (u, v) (n, 2).
        is_affine: whether these depend on the places linearly, so that cubics stay cubics.
    """

    surface: Geom_Surface
    out: int
    parameters: Callable[[np.ndarray], np.ndarray] = attrs.field(repr=False)
    is_affine: bool = False

    def parallel(self, distance: float) -> Geom_Surface:
        """The surface so far outside the material, with the same parameters."""
        if distance == 0.0:
            return self.surface
        if isinstance(self.surface, Geom_CylindricalSurface):
            radius = self.surface.Radius() + self._radial * distance
            if radius <= 0:
                raise OperationError(f"{-distance:.2f} mm is deeper than the axis of that face; type less.")
            return Geom_CylindricalSurface(self.surface.Position(), radius)
        if isinstance(self.surface, Geom_ConicalSurface):
            reach, angle, frame = self._radial * distance, self.surface.SemiAngle(), self.surface.Position()
            frame.Translate(gp_Vec(frame.Direction()).Multiplied(-reach * math.sin(angle)))
            return Geom_ConicalSurface(frame, angle, self.surface.RefRadius() + reach * math.cos(angle))
        if isinstance(self.surface, Geom_SphericalSurface):
            return Geom_SphericalSurface(self.surface.Position(), self.surface.Radius() + self._radial * distance)
        if isinstance(self.surface, Geom_ToroidalSurface):
            tube = self.surface.MinorRadius() + self._radial * distance
            return Geom_ToroidalSurface(self.surface.Position(), self.surface.MajorRadius(), tube)
        return Geom_OffsetSurface(self.surface, self.out * distance)

    @property
    def _radial(self) -> int:
        """1 where out of the material is away from the axis."""
        return self.out * (1 if self.surface.Position().Direct() else -1)

    def stretch(self, places: np.ndarray) -> float:
        """The largest share by which lengths at some places (n, 2) are longer or shorter on the face."""
        if isinstance(self.surface, (Geom_CylindricalSurface, Geom_ConicalSurface)):
            return 0.0
        places, worst = np.atleast_2d(np.asarray(places, float)), 0.0
        for place in places:
            here = self._in_space(place)
            ways = [(self._in_space(place + STRETCH_STEP_MM * step) - here) / STRETCH_STEP_MM for step in np.eye(2)]
            sizes = np.linalg.svd(np.array(ways), compute_uv=False)
            worst = max(worst, float(np.abs(sizes - 1).max()))
        return worst

    def _in_space(self, place):
        u, v = self.parameters(place[None])[0]
        return np.array(self.surface.Value(float(u), float(v)).Coord())


def development_of(
    face: TopoDS_Face, frame: Frame, places: np.ndarray, turn: float = 0.0, along: float = 0.0
) -> Development:
    """A face laid out for a sketch on a plane beside it, so that what lies over the line of the face that looks at the
    sketch comes to lie right under it.

    Args:
        frame: of the sketch's plane; places: (n, 2) of what is laid out, whose middle is held where the face has no
            axis; turn: radians by which it is turned around the face's axis, counter-clockwise
            about it; along: millimetres by which it is moved along the axis.

    Raises:
        OperationError: the face is flat, or not under the sketch.
    """
    surface, kind = BRep_Tool.Surface_s(face), BRepAdaptor_Surface(face).GetType()
    if hasattr(surface, "BasisSurface") and not isinstance(surface, Geom_OffsetSurface):
        surface = surface.BasisSurface()
    out = -1 if face.Orientation() == TopAbs_REVERSED else 1
    if kind == GeomAbs_SurfaceType.GeomAbs_Plane:
        raise OperationError("That face is flat: areas are raised on it or sunk into it with Extrude, Relief or Inlay.")
    if kind in (GeomAbs_SurfaceType.GeomAbs_Cylinder, GeomAbs_SurfaceType.GeomAbs_Cone):
        return _in_period(face, _around_axis(surface, out, frame, turn, along), places)
    return _in_period(face, _by_arc_length(face, surface, out, frame, places, turn, along), places)


def _in_period(face, development, places):
    """A development whose parameters around an axis are those that the face itself counts in."""
    if not development.surface.IsUPeriodic():
        return development
    period, there = development.surface.UPeriod(), development.parameters(places)[:, 0]
    first = BRepAdaptor_Surface(face).FirstUParameter()
    shift = np.array([-period * math.floor(((there.min() + there.max()) / 2 - first) / period), 0.0])
    parameters = development.parameters
    return attrs.evolve(development, parameters=lambda places: parameters(places) + shift)


def _around_axis(surface, out, frame, turn, along):
    """A cylinder or cone developed."""
    axes = surface.Position()
    origin, x, y, z = (
        np.array(one().Coord()) for one in (axes.Location, axes.XDirection, axes.YDirection, axes.Direction)
    )
    ways = np.array([frame.across, frame.up])
    lean = ways @ z
    square = float(np.hypot(*lean)) < SQUARE
    up = np.array([0.0, 1.0]) if square else lean / np.hypot(*lean)
    aside = np.array([up[1], -up[0]])
    radial = out * (1 if axes.Direct() else -1)
    # The line that looks at the sketch; seen from within, that is on the far side.
    facing = -ways[1] if square else np.array(frame.normal) - float(np.dot(frame.normal, z)) * z
    facing = radial * facing / np.linalg.norm(facing)
    start = math.atan2(float(facing @ y), float(facing @ x))
    tangent = -math.sin(start) * x + math.cos(start) * y
    sense = math.copysign(1.0, float(tangent @ (aside @ ways)))
    away = np.subtract(frame.origin, origin)
    shift = (float(away @ (aside @ ways)), 0.0 if square else float(away @ z))
    # A turn and a move are counted about and along the axis as it points up, or else to the back or to the right.
    upright = math.copysign(1.0, z[max(2, 1, 0, key=lambda index: abs(z[index]) + 1e-9 * index)])
    start += upright * (1.0 if axes.Direct() else -1.0) * turn
    along *= upright

    def flat(places):
        return np.column_stack([places @ aside + shift[0], places @ up])

    if isinstance(surface, Geom_CylindricalSurface):
        radius = surface.Radius()

        def parameters(places):
            across, upward = flat(places).T
            return np.column_stack([sense * across / radius + start, upward + shift[1] + along])

        return Development(surface, out, parameters, True)
    angle = surface.SemiAngle()
    lean, first = math.sin(angle), surface.RefRadius() / math.sin(angle)
    slant = first + (shift[1] + along) / math.cos(angle)
    side = math.copysign(1.0, slant)

    def on_cone(places):
        across, upward = flat(places).T
        run = side * (slant + upward)
        return np.column_stack(
            [sense * np.arctan2(across, run) / abs(lean) + start, side * np.hypot(across, run) - first]
        )

    return Development(surface, out, on_cone)


def _by_arc_length(face, surface, out, frame, places, turn, along):
    """Any other face, by arc length along its parameters from the place under the middle of what is laid out."""
    middle = (places.min(axis=0) + places.max(axis=0)) / 2
    u, v = _under(face, frame, middle, out)
    need = REACH * float(np.hypot(*(places - middle).T).max()) + abs(along)
    bounds = BRepAdaptor_Surface(face)
    low, high = (
        np.array([bounds.FirstUParameter(), bounds.FirstVParameter()]),
        np.array([bounds.LastUParameter(), bounds.LastVParameter()]),
    )
    round_u = surface.IsUPeriodic() and high[0] - low[0] > surface.UPeriod() - 1e-6
    if round_u:
        low[0], high[0] = u - surface.UPeriod() / 2, u + surface.UPeriod() / 2
    us = _within(lambda a: surface.Value(a, v), u, low[0], high[0], need, GRID[0])
    vs = _within(lambda b: surface.Value(u, b), v, low[1], high[1], need, GRID[1])
    net = np.array([[surface.Value(float(a), float(b)).Coord() for b in vs] for a in us])
    column = CubicSpline(us, net, axis=0)(u)
    lengths = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(column, axis=0), axis=1))])
    lengths -= float(CubicSpline(vs, lengths)(v))
    across = np.concatenate([np.zeros((1, len(vs))), np.cumsum(np.linalg.norm(np.diff(net, axis=0), axis=2), axis=0)])
    across -= CubicSpline(us, across)(u)[None]
    if (np.diff(across, axis=0) <= 0).any() or (np.diff(lengths) <= 0).any():
        raise OperationError("That face runs to a point, where nothing can be laid out; choose another.")
    reach = np.linspace(across.min(), across.max(), GRID[0])
    u_at = np.array([CubicSpline(across[:, index], us)(reach) for index in range(len(vs))]).T
    of_length, v_of = RectBivariateSpline(reach, vs, u_at), CubicSpline(lengths, vs)
    if turn and not round_u:
        raise OperationError("That face does not run around an axis, so that nothing can be turned around it.")
    place, by_u, by_v = gp_Pnt(), gp_Vec(), gp_Vec()
    surface.D1(u, v, place, by_u, by_v)
    ways = np.array([by_u.Coord(), by_v.Coord()])
    ways /= np.linalg.norm(ways, axis=1)[:, None]
    plane = ways @ np.array([frame.across, frame.up]).T
    # The nearest pair of directions square to each other, mirrored where the parameters run the other way round.
    left, _, right = np.linalg.svd(plane)
    turned = left @ right

    def parameters(places):
        first, second = turned @ (np.asarray(places, float) - middle).T
        there = v_of(second + along)
        return np.column_stack([of_length.ev(first, there) + turn, there])

    return Development(surface, out, parameters)


def _within(at, start, low, high, need, count):
    """Parameters (count,) between two, no farther from a first one than a length along the line that ``at`` gives."""
    wide = np.linspace(low, high, count)
    line = np.array([at(float(one)).Coord() for one in wide])
    along = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    along -= np.interp(start, wide, along)
    near = np.interp([-need, need], along, wide)
    return np.linspace(near[0], near[1], count)


def _under(face, frame, middle, out):
    """(u, v) of the place of a face that looks at a place of the sketch."""
    search = IntCurvesFace_Intersector(face, 1e-7)
    normal = gp_Dir(*frame.normal)
    search.Perform(gp_Lin(gp_Pnt(*frame.in_space(middle)), normal), -1e6, 1e6)
    best = None
    for index in range(1, search.NbPnt() + 1):
        u, v = search.UParameter(index), search.VParameter(index)
        place, by_u, by_v = gp_Pnt(), gp_Vec(), gp_Vec()
        BRepAdaptor_Surface(face).D1(u, v, place, by_u, by_v)
        looks = out * float(np.dot(by_u.Crossed(by_v).Coord(), frame.normal))
        if looks > 0 and (best is None or search.WParameter(index) > best[0]):
            best = search.WParameter(index), u, v
    if best is None:
        raise OperationError(
            "The face does not lie under the middle of these areas, looking at it; move them, or draw on a plane in "
            "front of the face."
        )
    return best[1:]
