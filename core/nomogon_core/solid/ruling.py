"""Surfaces between two rails, and shells that are thickened from them."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace
from OCP.BRepFill import BRepFill
from OCP.Geom import Geom_OffsetSurface, Geom_Surface
from OCP.GeomAbs import GeomAbs_Shape
from OCP.GeomConvert import GeomConvert_ApproxSurface
from OCP.GeomFill import GeomFill, GeomFill_BSplineCurves, GeomFill_FillingStyle

from nomogon_core.errors import OperationError
from nomogon_core.solid import grafting, kernel
from nomogon_core.solid.sweeping import spline_through

if TYPE_CHECKING:
    from OCP.TopoDS import TopoDS_Shape

    from nomogon_core.solid.paths import Path

NEAR_MM, OFFSET_MM = 0.5, 1e-4
LEAST_SHARE, MOST_SHARE = 0.5, 1.6


def between_rails(first: Path, second: Path, ends: tuple[Path, Path] | None = None) -> Geom_Surface:
    """The surface between two rails: ruled, or with ``ends`` one that follows a line at either end too.

    Raises:
        OperationError: a rail closes or has a corner, or an end line does not reach both rails.
    """
    for path in (first, second, *(ends or ())):
        if path.closed:
            raise OperationError("A rail or an end line is open; choose curves with two ends.")
        if path.kinks:
            x, y, z = path.kinks[0]
            raise OperationError(
                f"There is a corner at ({x:.1f}, {y:.1f}, {z:.1f}); round it, so that the surface is smooth."
            )
    one, other = first.points, second.points
    straight = math.dist(one[0], other[0]) + math.dist(one[-1], other[-1])
    if straight > math.dist(one[0], other[-1]) + math.dist(one[-1], other[0]):
        other = other[::-1]
    if ends is None:
        return GeomFill.Surface_s(spline_through(one), spline_through(other))
    lines = [path.points for path in ends]
    if _reach(lines[0], one[0], other[0]) > _reach(lines[1], one[0], other[0]):
        lines.reverse()
    begin, finish = (_joined(line, *pair) for line, pair in zip(lines, ((one[0], other[0]), (one[-1], other[-1]))))
    curves = [spline_through(points) for points in (one, finish, other, begin)]
    return GeomFill_BSplineCurves(*curves, GeomFill_FillingStyle.GeomFill_StretchStyle).Surface()


def _reach(line, start, end):
    """How far a line's ends are from two places, whichever way round."""
    return min(
        math.dist(line[0], start) + math.dist(line[-1], end), math.dist(line[-1], start) + math.dist(line[0], end)
    )


def _joined(line, start, end):
    """An end line from one rail to the other, its ends moved onto theirs."""
    if math.dist(line[0], start) + math.dist(line[-1], end) > math.dist(line[-1], start) + math.dist(line[0], end):
        line = line[::-1]
    off = max(math.dist(line[0], start), math.dist(line[-1], end))
    if off > NEAR_MM:
        raise OperationError(
            f"An end line misses the end of a rail by {off:.2f} mm; let it begin and end on both rails."
        )
    along = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    share = (along / along[-1])[:, None]
    return line + (1 - share) * (np.asarray(start) - line[0]) + share * (np.asarray(end) - line[-1])


def thickened(surface: Geom_Surface, low: float, high: float) -> TopoDS_Shape:
    """The shell between two distances from a surface, along its normal.

    Raises:
        OperationError: it folds over itself.
    """
    sides = [surface if distance == 0 else _parallel(surface, distance) for distance in (low, high)]
    faces: list[Any] = [BRepBuilderAPI_MakeFace(side, 1e-6).Face() for side in sides]
    area = kernel.area_of_face(faces[0])
    borders = [_borders(side) for side in sides]
    faces += [BRepFill.Face_s(below, above) for below, above in zip(*borders)]
    try:
        _, solid = grafting.sewn_solid(faces, OFFSET_MM * 2)
    except OperationError:
        raise OperationError("The surface cannot be thickened that much; it folds over itself. Type less.") from None
    share = kernel.volume_properties(solid).Mass() / (area * (high - low))
    if not LEAST_SHARE < share < MOST_SHARE:
        raise OperationError("The surface folds over itself where it is thickened; type less, or bend it less.")
    return solid


def _parallel(surface, distance):
    maker = GeomConvert_ApproxSurface(
        Geom_OffsetSurface(surface, distance),
        OFFSET_MM,
        GeomAbs_Shape.GeomAbs_C1,
        GeomAbs_Shape.GeomAbs_C1,
        8,
        8,
        60,
        1,
    )
    if not maker.HasResult():
        raise OperationError("The surface cannot be thickened that much; type less.")
    return maker.Surface()


def _borders(surface):
    """The four edges around a surface, in order."""
    u0, u1, v0, v1 = surface.Bounds()
    curves = (surface.VIso(v0), surface.UIso(u1), surface.VIso(v1), surface.UIso(u0))
    return [BRepBuilderAPI_MakeEdge(curve).Edge() for curve in curves]
