"""What a viewer needs of a body: shaded triangles and ink edges, in one block of bytes.

Layout: a four-byte little-endian length, that many bytes of JSON, then the arrays that the JSON lists, each
as {name, type, offset, count}. Vertices and normals are float32, indices uint32.
"""

from __future__ import annotations

import json
import struct
from typing import TYPE_CHECKING

import numpy as np

from nomogon_core.solid import kernel, naming

if TYPE_CHECKING:
    from nomogon_core.solid.bodies import Body

DISPLAY_CHORD_SHARE = 0.0006


def pack(bodies: dict[str, Body]) -> bytes:
    """Bytes of all bodies; see the module's layout."""
    arrays, listing, offset = [], [], 0

    def put(values, kind):
        nonlocal offset
        data = np.ascontiguousarray(values, kind)
        entry = {"type": data.dtype.name, "offset": offset, "count": int(data.size)}
        arrays.append(data.tobytes())
        offset += data.nbytes
        return entry

    for body in bodies.values():
        chord = max(DISPLAY_CHORD_SHARE * max(body.facts.size), 0.005)
        vertices, triangles, owners = kernel.triangulate(body.shape, chord)
        corners = vertices[triangles]
        faces = [body.names.get(face, "?") for face in kernel.faces_of(body.shape)]
        seamless = kernel.SmoothEdges(body.shape)
        points, starts, names, smooth = [], [0], [], []
        corners_named = naming.corner_names(body.shape, body.names)
        for edge, name in naming.edge_names(body.shape, body.names):
            if naming.BETWEEN not in name and edge in seamless:
                continue  # the seam of a round face, which no drawing shows
            smooth.append(edge in seamless)
            line = kernel.edge_points(edge, chord)
            points.append(line)
            starts.append(starts[-1] + len(line))
            names.append(name)
        listing.append(
            {
                "name": body.name,
                "faces": faces,
                "edges": names,
                "vertices": put(vertices, np.float32),
                "triangles": put(triangles, np.uint32),
                "owners": put(owners, np.uint32),
                "normals": put(_normals(vertices, triangles, corners), np.float32),
                "smooth": smooth,
                "corners": [name for _, name in corners_named],
                "corner_points": put([place for place, _ in corners_named], np.float32),
                "edge_points": put(np.vstack(points), np.float32),
                "edge_starts": put(starts, np.uint32),
            }
        )
    head = json.dumps({"bodies": listing}).encode()
    head += b" " * (-(4 + len(head)) % 4)
    return struct.pack("<I", len(head)) + head + b"".join(arrays)


def _normals(vertices, triangles, corners):
    """One normal a vertex; vertices are not shared between faces, so edges of the part stay sharp."""
    flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals = np.zeros_like(vertices)
    for index in range(3):
        np.add.at(normals, triangles[:, index], flat)
    size = np.linalg.norm(normals, axis=1, keepdims=True)
    return normals / np.where(size > 0, size, 1)
