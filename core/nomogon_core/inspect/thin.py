"""Thin walls and narrow gaps: rays propose pairs of faces, the exact distance of the faces decides."""

from __future__ import annotations

import attrs
import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepExtrema import BRepExtrema_DistShapeShape
from OCP.GeomAbs import GeomAbs_SurfaceType

from nomogon_core.inspect.meshed import OFF_MM, Meshed

APART_MM = 0.5
FACING, SQUARE = -0.7, 0.95
SLACK, MOST_PAIRS = 1.15, 40
TOUCHING_MM, TAPER = 1e-6, 0.1


@attrs.frozen
class Thin:
    """A place where a wall or a gap is thin.

    Attributes:
        size: millimetres; exact: whether it is that of the exact faces, not of a ray.
        place: in the middle of it; faces: names of both, the same twice for a pin or a bore.
        tapers: whether it runs out to an edge.
    """

    size: float
    exact: bool
    place: tuple[float, float, float]
    faces: tuple[str, str]
    tapers: bool


def thin_places(meshed: Meshed, least: float, *, gaps: bool = False) -> list[Thin]:
    """Places where a wall, or with ``gaps`` the space between two, is less than so many millimetres, the worst first.

    The exact distance of two faces counts only where it runs square to them and the rays saw about as much, since else
    it is that of their nearest corners.
    """
    inward = 1.0 if gaps else -1.0
    places, triangle = meshed.places(min(APART_MM, max(least / 2, 0.1)))
    ways = inward * meshed.normals[triangle]
    hit, far = meshed.first_hit(places + OFF_MM * ways, ways)
    far = far + OFF_MM
    facing = np.einsum("ij,ij->i", meshed.normals[triangle], meshed.normals[np.maximum(hit, 0)])
    kept = (hit >= 0) & (far < SLACK * least) & (facing < FACING)
    if not kept.any():
        return []
    one, other = meshed.owner[triangle[kept]], meshed.owner[hit[kept]]
    pair = np.minimum(one, other).astype(np.int64) * len(meshed.faces) + np.maximum(one, other)
    far, places, ways = far[kept], places[kept], ways[kept]
    order = np.lexsort((far, pair))
    first = np.concatenate([[True], np.diff(pair[order]) != 0])
    starts = order[first]
    found: list[Thin] = []
    by_size = np.argsort(far[starts])[:MOST_PAIRS]
    for start in starts[by_size].tolist():
        faces = divmod(int(pair[start]), len(meshed.faces))
        told = _measured(meshed, faces, float(far[start]), places[start], ways[start], least)
        if told.size < least - 1e-9 and not any(_same(told, one, least) for one in found):
            found.append(told)
    return sorted(found, key=lambda one: one.size)


def _same(told, one, least):
    """Whether two are one place: as thin, and near each other."""
    near = float(np.linalg.norm(np.subtract(told.place, one.place))) < 2 * least
    return near and abs(told.size - one.size) < 0.02 * least + 0.01


def _measured(meshed, faces, far, place, way, least):
    """What is thin between two faces, from the shortest ray that met it."""
    size, exact, tapers, middle = far, False, False, place + way * far / 2
    first, second = (meshed.faces[face] for face in faces)
    if faces[0] == faces[1]:
        surface = BRepAdaptor_Surface(first)
        if surface.GetType() == GeomAbs_SurfaceType.GeomAbs_Cylinder:
            size, exact = 2 * surface.Cylinder().Radius(), True
    else:
        nearest = BRepExtrema_DistShapeShape(first, second)
        apart = nearest.Value()
        tapers = apart < TOUCHING_MM and far < TAPER * least
        for index in range(1, nearest.NbSolution() + 1) if apart >= TOUCHING_MM else ():
            ends = (np.array(one(index).Coord()) for one in (nearest.PointOnShape1, nearest.PointOnShape2))
            a, b = ends
            if abs(float((b - a) @ way)) > SQUARE * apart and apart > far - TAPER * least - 0.05:
                size, exact = apart, True
                break
    names = tuple(sorted(meshed.name(face) for face in faces))
    return Thin(size, exact, tuple(middle.tolist()), (names[0], names[1]), tapers)
