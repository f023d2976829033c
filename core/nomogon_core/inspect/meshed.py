"""A body as triangles that know their faces, and rays through them."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from nomogon_core.solid import kernel
from nomogon_core.solid.bodies import as_mesh
from nomogon_core.solid.meshes import as_manifold

if TYPE_CHECKING:
    from nomogon_core.solid.bodies import Body

CHORD_MM = 0.02
MOST_PLACES = 120_000
OFF_MM = 2e-3


class Meshed:
    """A body as triangles.

    Attributes:
        body: the body; faces: its faces.
        corners: (n, 3, 3) corners of the triangles; owner: (n,) number of the face of each; normals: (n, 3) unit,
            outward; areas: (n,) square millimetres.
    """

    def __init__(self, body: Body) -> None:
        self.body = body
        self.faces = kernel.faces_of(body.shape)
        vertices, triangles, owner = kernel.triangulate(body.shape, CHORD_MM)
        corners = vertices[triangles]
        flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        sizes = np.linalg.norm(flat, axis=1)
        kept = sizes > 1e-12
        self.vertices = vertices
        self.corners, self.owner = corners[kept], owner[kept]
        self.normals, self.areas = flat[kept] / sizes[kept, None], sizes[kept] / 2

    def name(self, face: int) -> str:
        """The name of a face by its number."""
        return self.body.names.get(self.faces[face]) or "?"

    @cached_property
    def solid(self) -> Any:
        """The triangles as the solid of the mesh library."""
        return as_manifold(as_mesh(self.body.shape, self.body.names, CHORD_MM))

    @cached_property
    def _scene(self):
        scene = rtcore_scene.EmbreeScene(robust=True)
        self._mesh = TriangleMesh(scene, self.corners.astype(np.float32))
        return scene

    def places(self, apart: float) -> tuple[np.ndarray, np.ndarray]:
        """Places (n, 3) about so far apart all over the surface, and the triangle of each; a low-discrepancy sequence
        in every triangle (Roberts 2018)."""
        apart = max(apart, float(np.sqrt(self.areas.sum() / MOST_PLACES)))
        counts = np.clip(np.ceil(self.areas / apart**2).astype(int), 1, MOST_PLACES)
        triangle = np.repeat(np.arange(len(counts)), counts)
        number = np.arange(len(triangle)) - np.repeat(np.cumsum(counts) - counts, counts)
        u, v = (0.5 + 0.7548776662466927 * (number + 1)) % 1, (0.5 + 0.5698402909980532 * (number + 1)) % 1
        u, v = np.where(u + v > 1, 1 - u, u), np.where(u + v > 1, 1 - v, v)
        alone = counts[triangle] == 1
        u, v = np.where(alone, 1 / 3, u), np.where(alone, 1 / 3, v)
        first = self.corners[triangle, 0]
        along, aside = self.corners[triangle, 1] - first, self.corners[triangle, 2] - first
        return first + u[:, None] * along + v[:, None] * aside, triangle

    def first_hit(self, origins: np.ndarray, ways: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(triangle that a ray meets first or -1, how far that is) of rays (n, 3); the distance is to the triangle's
        plane, in double precision."""
        hit = self._scene.run(origins.astype(np.float32), ways.astype(np.float32), query="INTERSECT").astype(int)
        known = np.maximum(hit, 0)
        slope = np.einsum("ij,ij->i", ways, self.normals[known])
        away = np.einsum("ij,ij->i", self.corners[known, 0] - origins, self.normals[known])
        far = away / np.where(np.abs(slope) > 1e-12, slope, np.nan)
        return hit, np.where(hit >= 0, np.nan_to_num(far, nan=np.inf), np.inf)
