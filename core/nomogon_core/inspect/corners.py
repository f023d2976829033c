"""Inside corners that a cutter cannot reach, and sides without the draft that a mould needs."""

from __future__ import annotations

import math
from typing import Any

import attrs
import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Curve, BRepAdaptor_Surface
from OCP.GeomAbs import GeomAbs_SurfaceType
from OCP.gp import gp_Pnt, gp_Vec
from OCP.TopAbs import TopAbs_EDGE, TopAbs_REVERSED

from nomogon_core.inspect.meshed import Meshed
from nomogon_core.solid import kernel
from nomogon_core.solid.bores import is_hollow, outward_normal

OFF_UPRIGHT, LEAST_TURN = 0.02, math.radians(3.0)
LEAST_AREA_MM2 = 0.2


@attrs.frozen
class Inside:
    """An upright inside corner: its radius (0 for a sharp one), how tall it is, where, and the faces beside it."""

    radius: float
    height: float
    place: tuple[float, float, float]
    faces: tuple[str, ...]


def inside_corners(meshed: Meshed, up: Any, least_radius: float) -> list[Inside]:
    """Upright inside corners that are rounder than nothing by less than a radius, the tallest first."""
    up, found = np.asarray(up, float), []
    for edge, faces in kernel.edges_with_faces(meshed.body.shape):
        if len(faces) != 2:
            continue
        line = kernel.edge_points(edge, chord=0.1)
        run = line[-1] - line[0]
        size = float(np.linalg.norm(run))
        if size < 1e-6 or abs(float(run @ up)) < (1 - OFF_UPRIGHT) * size:
            continue
        if _is_inside(edge, faces):
            place = tuple(((line[0] + line[-1]) / 2).tolist())
            found.append(Inside(0.0, size, place, tuple(meshed.body.names.get(face) or "?" for face in faces)))
    for number, face in enumerate(meshed.faces):
        surface = BRepAdaptor_Surface(face)
        if surface.GetType() != GeomAbs_SurfaceType.GeomAbs_Cylinder:
            continue
        round_one = surface.Cylinder()
        if abs(float(np.dot(round_one.Axis().Direction().Coord(), up))) < 1 - OFF_UPRIGHT:
            continue
        radius, sweep = round_one.Radius(), surface.LastUParameter() - surface.FirstUParameter()
        if radius >= least_radius - 1e-9 or sweep > 2 * math.pi - 0.1 or not is_hollow(face, surface, round_one):
            continue
        mine = meshed.owner == number
        place = tuple(np.average(meshed.corners[mine].mean(axis=1), axis=0, weights=meshed.areas[mine]).tolist())
        heights = meshed.corners[mine] @ up
        found.append(Inside(radius, float(np.ptp(heights)), place, (meshed.name(number),)))
    return sorted(found, key=lambda one: (-one.height, one.radius))


def _is_inside(edge, faces):
    """Whether two faces meet in an edge around space, not around material: the way into the first one, its normal times
    the edge's run with the material to the left, goes out of the second."""
    own = next(one for one in kernel.parts_of(faces[0], TopAbs_EDGE) if one.IsSame(edge))
    curve = BRepAdaptor_Curve(edge)
    place, run = gp_Pnt(), gp_Vec()
    curve.D1((curve.FirstParameter() + curve.LastParameter()) / 2, place, run)
    along = np.array(run.Coord()) * (-1 if own.Orientation() == TopAbs_REVERSED else 1)
    first, second = (outward_normal(face, place) for face in faces)
    if math.acos(float(np.clip(first @ second, -1, 1))) < LEAST_TURN:
        return False
    return float(np.cross(first, along) @ second) > 0


@attrs.frozen
class Steep:
    """Sides with too little draft: square millimetres, degrees of the worst, where it is, the faces' names."""

    area: float
    least: float
    place: tuple[float, float, float]
    faces: tuple[str, ...]


def steep_sides(meshed: Meshed, up: Any, least_degrees: float) -> Steep | None:
    """Sides that lean from the pull by less than a draft; None where there are none."""
    lean = np.degrees(np.arcsin(np.clip(np.abs(meshed.normals @ np.asarray(up, float)), 0, 1)))
    steep = lean < least_degrees - 1e-6
    if meshed.areas[steep].sum() < LEAST_AREA_MM2:
        return None
    by_face = np.bincount(meshed.owner[steep], meshed.areas[steep], minlength=len(meshed.faces))
    face = int(by_face.argmax())
    mine = steep & (meshed.owner == face)
    place = tuple(np.average(meshed.corners[mine].mean(axis=1), axis=0, weights=meshed.areas[mine]).tolist())
    names = tuple(meshed.name(int(one)) for one in np.flatnonzero(by_face > LEAST_AREA_MM2))
    return Steep(float(meshed.areas[steep].sum()), float(lean[steep].min()), place, names)
