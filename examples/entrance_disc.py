"""An entrance disc as somebody else would send it: an STL file of many triangles, without a unit."""

import io

import manifold3d as manifold
import numpy as np
import trimesh

RADIUS_MM, HEIGHT_MM, RIM_MM, SEGMENTS = 40.0, 4.0, 6.0, 360


def _ring_sector(inner, outer, begin, end):
    angles = np.radians(np.linspace(begin, end, 60))
    ways = np.column_stack([np.cos(angles), np.sin(angles)])
    return manifold.CrossSection([np.vstack([outer * ways, inner * ways[::-1]])])


def entrance_disc() -> bytes:
    """STL bytes: a disc with a raised rim, an open gate, a grid of slots, a ring of vents and a hole for its screw."""
    disc = manifold.CrossSection.circle(RADIUS_MM, SEGMENTS)
    gate = _ring_sector(16, 31, 20, 70)
    slots = [_ring_sector(17, 30, at, at + 3.2) for at in np.arange(112, 158, 6)]
    vents = [
        manifold.CrossSection.circle(1.6, 48).translate((radius * np.cos(at), radius * np.sin(at)))
        for radius, count in ((18, 4), (23, 5), (28, 6))
        for at in np.radians(np.linspace(295, 335, count))
    ]
    flat = disc - manifold.CrossSection.batch_boolean(
        [gate, *slots, *vents, manifold.CrossSection.circle(2.1, 64)], manifold.OpType.Add
    )
    rim = disc - manifold.CrossSection.circle(RADIUS_MM - RIM_MM / 2, SEGMENTS)
    solid = flat.extrude(HEIGHT_MM) + rim.extrude(HEIGHT_MM + 1.5)
    mesh = solid.to_mesh64()
    surface = trimesh.Trimesh(np.asarray(mesh.vert_properties)[:, :3], np.asarray(mesh.tri_verts), process=False)
    stream = io.BytesIO()
    surface.export(stream, file_type="stl")
    return stream.getvalue()
