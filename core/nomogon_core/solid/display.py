"""What a viewer needs of a body: shaded triangles and ink edges, in one block of bytes.

Layout: a four-byte little-endian length, that many bytes of JSON, then the arrays that the JSON lists, each
as {name, type, offset, count}. Vertices and normals are float32, indices uint32.
"""

from __future__ import annotations

import json
import struct
from typing import TYPE_CHECKING

import attrs
import numpy as np

from nomogon_core.solid import kernel, meshes, naming
from nomogon_core.solid.kernel import LastShapes

if TYPE_CHECKING:
    from nomogon_core.solid.bodies import Body

DISPLAY_CHORD_SHARE, COARSE, MOST_LINES = 0.0006, 4, 20_000
MESH_EDGE = "mesh"


def pack(bodies: dict[str, Body], *, coarse: bool = False) -> bytes:
    """Bytes of all bodies; see the module's layout. ``coarse`` ones are made sooner, for a first picture."""
    arrays, listing, offset = [], [], 0

    def put(values, kind):
        nonlocal offset
        data = np.ascontiguousarray(values, kind)
        entry = {"type": data.dtype.name, "offset": offset, "count": int(data.size)}
        arrays.append(data.tobytes())
        offset += data.nbytes
        return entry

    for body in bodies.values():
        one = _of_mesh(body.mesh) if body.mesh is not None else _of_shape(body, COARSE if coarse else 1)
        listing.append(
            {
                "name": body.name,
                "faces": one.faces,
                "edges": one.edges,
                "vertices": put(one.vertices, np.float32),
                "triangles": put(one.triangles, np.uint32),
                "owners": put(one.owners, np.uint32),
                "normals": put(_normals(one.vertices, one.triangles, one.vertices[one.triangles]), np.float32),
                "smooth": one.smooth,
                "corners": [name for _, name in one.corners],
                "corner_points": put([place for place, _ in one.corners], np.float32),
                "edge_points": put(np.vstack(one.lines) if one.lines else [], np.float32),
                "edge_starts": put(np.cumsum([0, *map(len, one.lines)]), np.uint32),
            }
        )
    head = json.dumps({"bodies": listing}).encode()
    head += b" " * (-(4 + len(head)) % 4)
    return struct.pack("<I", len(head)) + head + b"".join(arrays)


@attrs.frozen
class _Seen:
    """Triangles with the number of the face of each, names of faces, and edges: names, lines (n, 3), which are smooth;
    corners as (place, name)."""

    vertices: np.ndarray
    triangles: np.ndarray
    owners: np.ndarray
    faces: list
    edges: list
    lines: list
    smooth: list
    corners: list


def _of_shape(body, times):
    chord = times * max(DISPLAY_CHORD_SHARE * max(body.facts.size), 0.005)
    vertices, triangles, owners = kernel.triangulate(body.shape, chord, again=True)
    faces = [body.names.get(face, "?") for face in kernel.faces_of(body.shape)]
    seamless = kernel.SmoothEdges(body.shape)
    lines, names, smooth = [], [], []
    corners = naming.corner_names(body.shape, body.names)
    for edge, name in naming.edge_names(body.shape, body.names):
        if naming.BETWEEN not in name and edge in seamless:
            continue  # the seam of a round face, which no drawing shows
        smooth.append(edge in seamless)
        lines.append(_line_of(edge, chord))
        names.append(name)
    return _Seen(vertices, triangles, owners, faces, names, lines, smooth, corners)


_LINES = LastShapes(MOST_LINES)


def _line_of(edge, chord):
    """Places along an edge, kept from the last picture that it was in."""
    known = _LINES.get(edge)
    if known is None or known[0] != chord:
        known = _LINES.keep(edge, (chord, kernel.edge_points(edge, chord)))
    return known[1]


def _of_mesh(mesh):
    """Its sharp edges are drawn as one, which nothing can be done to."""
    seen = meshes.drawn(mesh)
    count = len(seen.edges)
    sharp = [MESH_EDGE] * count, list(seen.edges), [False] * count
    return _Seen(seen.vertices, seen.triangles, mesh.labels, list(mesh.names), *sharp, [])


def shaded(body: Body, chord: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Vertices (n, 3), triangles (m, 3) and a normal a vertex of a body, no farther from it than ``chord``
    millimetres; vertices are shared only where it is smooth."""
    if body.mesh is not None:
        seen = meshes.drawn(body.mesh)
        vertices, triangles = seen.vertices, seen.triangles
    else:
        vertices, triangles, _ = kernel.triangulate(body.shape, chord, angle=0.3)
    return vertices, triangles, _normals(vertices, triangles, vertices[triangles])


def _normals(vertices, triangles, corners):
    """One normal a vertex; vertices are not shared between faces, so edges of the part stay sharp."""
    flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals = np.zeros_like(vertices)
    for index in range(3):
        np.add.at(normals, triangles[:, index], flat)
    size = np.linalg.norm(normals, axis=1, keepdims=True)
    return normals / np.where(size > 0, size, 1)
