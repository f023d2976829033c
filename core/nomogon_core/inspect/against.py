"""The part held against the picture again: how far its outline leaves the edge that was seen there."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import attrs
import numpy as np
import shapely
import trimesh

from nomogon_core.inspect.telling import Finding
from nomogon_core.solid import meshes
from nomogon_core.solid.bodies import as_mesh

if TYPE_CHECKING:
    from collections.abc import Sequence

    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.planes import Frame

CHORD_MM, GRID_MM, UPRIGHT = 0.005, 1e-6, 1e-6
THROUGH_MM = 0.02
WORST, APART_SHARE, COVERED = 3, 0.05, 3.0


@attrs.frozen
class Against:
    """How a part lies to an edge in a picture.

    Attributes:
        off: (n,) millimetres from the part's outline to the places of the edge, more than 0 where these are outside.
        largest, rms: of them; worst: (x, y, off) of places that are not near each other, the worst first.
    """

    off: np.ndarray = attrs.field(repr=False)
    largest: float
    rms: float
    worst: tuple


@attrs.frozen
class Seen:
    """What is seen of bodies from above a plane: the area that they cover, and all edges, in its coordinates."""

    area: shapely.Geometry
    edges: shapely.Geometry


def seen(bodies: Sequence[Body], frame: Frame) -> Seen:
    """Silhouette and sharp edges of bodies along the normal of a frame; where its plane cuts through them, the section
    there, as a picture of a section shows no more."""
    parts = [body.mesh if body.mesh is not None else as_mesh(body.shape, body.names, CHORD_MM) for body in bodies]
    cuts = [_section(mesh, frame) for mesh in parts]
    told = [one for one in cuts if one is not None] or [_seen(mesh, frame) for mesh in parts]
    area = shapely.union_all([one.area for one in told])
    return Seen(area, shapely.union_all([shapely.boundary(area), *(one.edges for one in told)]))


def _section(mesh, frame):
    """What the plane of a frame cuts through; None where the mesh lies on one side of it."""
    away = (mesh.vertices - np.asarray(frame.origin)) @ np.asarray(frame.normal)
    if away.min() > -THROUGH_MM or away.max() < THROUGH_MM:
        return None
    surface = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    lines = trimesh.intersections.mesh_plane(surface, frame.normal, frame.origin)
    flat = (lines - np.asarray(frame.origin)) @ np.array([frame.across, frame.up]).T
    cells = shapely.get_parts(shapely.polygonize([shapely.union_all(shapely.linestrings(_on_grid(flat)))]))
    spots = shapely.get_coordinates(shapely.point_on_surface(cells)) @ np.array([frame.across, frame.up])
    within = surface.contains(spots + np.asarray(frame.origin)) if len(cells) else []
    return Seen(shapely.union_all(cells[np.asarray(within, bool)]), shapely.GeometryCollection())


def _on_grid(places):
    return np.round(places / GRID_MM) * GRID_MM


def _seen(mesh, frame):
    axes = np.array([frame.across, frame.up, frame.normal])
    places = (mesh.vertices - np.asarray(frame.origin)) @ axes.T
    flat = _on_grid(places[:, :2])
    front = meshes.normals_of(places[mesh.triangles])[0][:, 2] > UPRIGHT
    pairs, ends = meshes.neighbours(mesh.triangles)
    turning = front[pairs[:, 0]] != front[pairs[:, 1]]
    lines = shapely.linestrings(flat[ends[turning]])
    cells = shapely.get_parts(shapely.polygonize([shapely.union_all(lines[shapely.length(lines) > 0])]))
    shown = shapely.polygons(flat[mesh.triangles[front]])
    inside = shapely.STRtree(shown).query(shapely.point_on_surface(cells), predicate="intersects")[0]
    sharp = (meshes.drawn(mesh).edges - np.asarray(frame.origin)) @ axes.T
    return Seen(shapely.union_all(cells[np.unique(inside)]), shapely.multilinestrings(list(sharp[:, :, :2])))


def against(part: Seen, edge_mm: np.ndarray) -> Against:
    """How far places (n, 2) of an edge in a picture, in the plane's coordinates, are from a part."""
    points = shapely.points(edge_mm)
    shapely.prepare(part.area)
    outside = ~shapely.contains_properly(part.area, points)
    off = shapely.distance(points, part.edges) * np.where(outside, 1.0, -1.0)
    worst, reach = [], APART_SHARE * float(np.ptp(edge_mm, axis=0).max())
    for index in np.argsort(-np.abs(off)):
        if len(worst) == WORST:
            break
        if all(math.dist(edge_mm[index], place[:2]) > reach for place in worst):
            worst.append((*edge_mm[index].tolist(), float(off[index])))
    return Against(off, float(np.abs(off).max()), float(np.sqrt(np.mean(off**2))), tuple(worst))


def finding(key: str, picture: str, sketch: str, told: Against, frame: Frame, u95: float | None, body: str) -> Finding:
    """What is told of a part and a picture: well where it stays within what the picture itself is good for.

    Args:
        picture, sketch: what both are called.
        u95: 95 % uncertainty of the picture's lengths, None where its scale was set by hand.
    """
    x, y, off = told.worst[0]
    good = u95 is not None and told.rms <= u95 and told.largest <= COVERED * u95
    own = f"The picture itself is good to ±{u95:.3f} mm (95 %)." if u95 is not None else "Its scale was set by hand."
    side = "outside" if off > 0 else "within"
    return Finding(
        f"picture {key}",
        body,
        "well" if good else "know",
        f"Against {picture}",
        f"{told.largest:.3f} mm",
        f"Its edge lies up to {abs(off):.3f} mm {side} the part's outline, most at ({x:.1f}, {y:.1f}) of {sketch}; rms "
        f"{told.rms:.3f} mm. {own}",
        place=frame.in_space((x, y)),
    )
