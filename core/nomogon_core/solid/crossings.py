"""Where the surface of a mesh runs through itself."""

from __future__ import annotations

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh

from nomogon_core.solid.meshes import neighbours, normals_of

STARTS, OFF, TOUCHES, NUDGE = 4, 1e-3, 1e-6, 1e-6


def crossings(vertices: np.ndarray, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Edges of a closed mesh that go through one of its triangles.

    Rays along the edges propose (single precision, by Embree: Wald et al. 2014); the signs of the volumes decide, in
    double precision. What only touches does not count.

    Args:
        vertices: (n, 3); triangles: (m, 3) numbers of vertices.

    Returns:
        (k, 2) a triangle beside each such edge and the triangle that it goes through, (k, 3) where.
    """
    middle, size = (vertices.min(axis=0) + vertices.max(axis=0)) / 2, float(np.ptp(vertices, axis=0).max())
    places = (vertices - middle) / size
    scene = rtcore_scene.EmbreeScene(robust=True)
    mesh = TriangleMesh(scene, places[triangles].astype(np.float32))
    beside, ends = neighbours(triangles)
    first, last = places[ends[:, 0]], places[ends[:, 1]]
    normals, _ = normals_of(places[triangles])
    # Rays run a little outside, since those within the triangles beside the edge may meet them anywhere.
    lift = NUDGE * (normals[beside[:, 0]] + normals[beside[:, 1]])
    open_rays, start = np.arange(len(ends)), np.full(len(ends), OFF)
    found = []
    for _ in range(STARTS):
        way = last[open_rays] - first[open_rays]
        origin = first[open_rays] + start[open_rays, None] * way + lift[open_rays]
        hit = scene.run(origin.astype(np.float32), way.astype(np.float32), query="INTERSECT").astype(np.int64)
        there = hit >= 0
        open_rays, hit = open_rays[there], hit[there]
        share = _share(places, triangles[hit], first[open_rays], last[open_rays])
        near = (triangles[hit][:, :, None] == ends[open_rays][:, None, :]).any(axis=(1, 2))
        crosses = ~near & np.isfinite(share)
        found.append((beside[open_rays[crosses], 0], hit[crosses], open_rays[crosses], share[crosses]))
        # A triangle at an end of the edge stands before others that it may go through.
        open_rays = open_rays[near]
        start[open_rays] += (1 - start[open_rays]) / STARTS
    del mesh
    owner, through, rays, share = (np.concatenate([one[index] for one in found]) for index in range(4))
    where = first[rays] + share[:, None] * (last[rays] - first[rays])
    return np.column_stack([owner, through]), where * size + middle


def _share(places, triangles, first, last):
    """At which share of each way from one place to another it goes through the inside of a triangle; nan where not."""
    a, b, c = (places[triangles[:, index]] for index in range(3))
    normal = np.cross(b - a, c - a)
    area = np.linalg.norm(normal, axis=1)
    below, above = (np.einsum("ij,ij->i", end - a, normal) / np.maximum(area, 1e-300) for end in (first, last))
    share = below / np.where(below - above == 0, np.nan, below - above)
    point = first + share[:, None] * (last - first)
    inside = np.ones(len(share), bool)
    for one, other in ((a, b), (b, c), (c, a)):
        inner = np.einsum("ij,ij->i", np.cross(other - one, point - one), normal) / np.maximum(area, 1e-300)
        inside &= inner > TOUCHES * np.linalg.norm(other - one, axis=1)
    apart = (np.abs(below) > TOUCHES) & (np.abs(above) > TOUCHES) & (below * above < 0)
    return np.where(inside & apart, share, np.nan)
