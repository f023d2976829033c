"""Solid bodies as one binary glTF 2.0 file, to be looked at: metres, y up, colours and names."""

from __future__ import annotations

import json
import struct
from typing import TYPE_CHECKING, Any

import numpy as np

from nomogon_core.exchange.flat import require_chord
from nomogon_core.picture.decode import srgb_to_linear
from nomogon_core.solid.display import shaded

if TYPE_CHECKING:
    from nomogon_core.solid.bodies import Body

FLOAT, UNSIGNED = 5126, 5125
VERTICES, INDICES = 34962, 34963
METRE = 0.001
MAGIC, JSON_PART, BINARY_PART = 0x46546C67, 0x4E4F534A, 0x004E4942


def glb(bodies: dict[str, Body], chord: float) -> bytes:
    """GLB bytes with one named, coloured node a body, no farther from it than ``chord`` millimetres.

    Raises:
        OperationError: the chord tolerance is out of range.
    """
    require_chord(chord)
    buffer, views, accessors = bytearray(), [], []

    def put(values: np.ndarray, kind: int, target: int, shape: str, **more: Any) -> int:
        views.append({"buffer": 0, "byteOffset": len(buffer), "byteLength": values.nbytes, "target": target})
        buffer.extend(values.tobytes())
        count = len(values) if values.ndim > 1 else values.size
        accessors.append({"bufferView": len(views) - 1, "componentType": kind, "count": count, "type": shape} | more)
        return len(accessors) - 1

    made, materials = [], []
    for number, body in enumerate(bodies.values()):
        vertices, triangles, normals = shaded(body, chord)
        places = (vertices[:, [0, 2, 1]] * (METRE, METRE, -METRE)).astype("<f4")
        ways = (normals[:, [0, 2, 1]] * (1.0, 1.0, -1.0)).astype("<f4")
        reach = {"min": places.min(axis=0).tolist(), "max": places.max(axis=0).tolist()}
        attributes = {
            "POSITION": put(places, FLOAT, VERTICES, "VEC3", **reach),
            "NORMAL": put(ways, FLOAT, VERTICES, "VEC3"),
        }
        indices = put(triangles.astype("<u4").reshape(-1), UNSIGNED, INDICES, "SCALAR")
        made.append(
            {"name": body.title, "primitives": [{"attributes": attributes, "indices": indices, "material": number}]}
        )
        shares = [int(body.colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
        colour = [round(float(one), 6) for one in srgb_to_linear(np.array(shares))]
        look = {"baseColorFactor": [*colour, 1.0], "metallicFactor": 0.0, "roughnessFactor": 0.7}
        materials.append({"name": body.title, "pbrMetallicRoughness": look})
    head = {
        "asset": {"version": "2.0", "generator": "Nomogon"},
        "scene": 0,
        "scenes": [{"nodes": list(range(len(made)))}],
        "nodes": [{"name": one["name"], "mesh": number} for number, one in enumerate(made)],
        "meshes": made,
        "materials": materials,
        "accessors": accessors,
        "bufferViews": views,
        "buffers": [{"byteLength": len(buffer)}],
    }
    text = json.dumps(head, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    parts = struct.pack("<II", len(text), JSON_PART) + text + struct.pack("<II", len(buffer), BINARY_PART) + buffer
    return struct.pack("<III", MAGIC, 2, 12 + len(parts)) + bytes(parts)
