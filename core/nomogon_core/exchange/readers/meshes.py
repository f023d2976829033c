"""Meshes that somebody else made, from STL, OBJ, PLY and 3MF: welded, checked, and mended where that is safe."""

from __future__ import annotations

import io
from pathlib import Path
from typing import TYPE_CHECKING

import attrs
import lib3mf
import numpy as np
import trimesh

from nomogon_core.errors import InputError, OperationError
from nomogon_core.quantity.units import MM_PER_INCH
from nomogon_core.solid.crossings import crossings
from nomogon_core.solid.meshes import KEY, Mesh, combined, edge_keys, named_flats, neighbours, shells_of

if TYPE_CHECKING:
    from collections.abc import Callable

LARGEST_FILE, MOST_TRIANGLES, MOST_CHECKED = 128 * 2**20, 1_000_000, 400_000
WELD_SHARE, WELD_STEPS = 1e-6, 1_000_000
MM_OF = {
    lib3mf.ModelUnit.MicroMeter: 1e-3,
    lib3mf.ModelUnit.MilliMeter: 1.0,
    lib3mf.ModelUnit.CentiMeter: 10.0,
    lib3mf.ModelUnit.Inch: MM_PER_INCH,
    lib3mf.ModelUnit.Foot: 12 * MM_PER_INCH,
    lib3mf.ModelUnit.Meter: 1000.0,
}


@attrs.frozen
class Brought:
    """A mesh from a file, in its own unit.

    Attributes:
        says_unit: whether the file says its unit, so that the mesh is in millimetres.
    """

    mesh: Mesh = attrs.field(repr=False)
    says_unit: bool


def read_mesh(data: bytes, name: str) -> Brought:
    """The closed surface that a file holds.

    Raises:
        InputError: the file is none of these, is damaged or too large, or its surface is open or more than two
            triangles meet at an edge.
    """
    ending = Path(name).suffix.lower().lstrip(".")
    if ending not in READERS:
        raise InputError(f"{name} is no mesh that is read here; save it as STL, OBJ, PLY or 3MF and choose it again.")
    if len(data) > LARGEST_FILE:
        raise InputError(f"{name} is larger than {LARGEST_FILE // 2**20} MB; save it with fewer triangles.")
    try:
        vertices, triangles = READERS[ending](data)
    except InputError:
        raise
    except Exception as problem:
        raise InputError(f"{name} is damaged or not what its ending says: {str(problem)[:120]}.") from None
    if not len(triangles) or not np.isfinite(vertices).all():
        raise InputError(f"{name} holds no triangles, or places that are no numbers.")
    if len(triangles) > MOST_TRIANGLES:
        raise InputError(
            f"{name} has {len(triangles):,} triangles; {MOST_TRIANGLES:,} at most are taken. Save it coarser."
        )
    vertices, triangles, notes = _mended(vertices, triangles, name)
    vertices, triangles, told = _uncrossed(vertices, triangles)
    notes += told
    labels, names = named_flats(vertices, triangles)
    return Brought(Mesh(vertices, triangles, labels, names, "; ".join(notes)), ending == "3mf")


def _by_trimesh(ending: str) -> Callable[[bytes], tuple[np.ndarray, np.ndarray]]:
    def read(data):
        held = trimesh.load(io.BytesIO(data), file_type=ending, process=False, force="mesh", skip_materials=True)
        return np.asarray(held.vertices, float), np.asarray(held.faces, np.int64)

    return read


def _threemf(data):
    """All objects where the file builds them, in millimetres."""
    model = lib3mf.get_wrapper().CreateModel()
    reader = model.QueryReader("3mf")
    reader.ReadFromBuffer(data)
    scale, vertices, triangles, count = MM_OF[model.GetUnit()], [], [], 0
    items = model.GetBuildItems()
    while items.MoveNext():
        item = items.GetCurrent()
        for part, matrix in _parts(model, item.GetObjectResource(), _matrix(item.GetObjectTransform())):
            places = np.array([one.Coordinates for one in part.GetVertices()], float).reshape(-1, 3)
            corners = np.array([one.Indices for one in part.GetTriangleIndices()], np.int64).reshape(-1, 3)
            vertices.append((places @ matrix[:3] + matrix[3]) * scale)
            mirrored = np.linalg.det(matrix[:3]) < 0
            triangles.append((corners[:, ::-1] if mirrored else corners) + count)
            count += len(places)
            if count > 3 * MOST_TRIANGLES:
                raise ValueError("it holds too much")
    if not vertices:
        return np.zeros((0, 3)), np.zeros((0, 3), np.int64)
    return np.vstack(vertices), np.vstack(triangles)


def _matrix(transform):
    """(4, 3): rows of the linear map, then the move."""
    return np.array([list(row) for row in transform.Fields], float)


def _parts(model, held, matrix, depth=0):
    """Meshes of an object and of what it is put together from, each with where it lies."""
    if depth > 16:
        raise ValueError("its objects are nested too deeply")
    if held.IsMeshObject():
        yield model.GetMeshObjectByID(held.GetResourceID()), matrix
    if not held.IsComponentsObject():
        return
    whole = model.GetComponentsObjectByID(held.GetResourceID())
    for index in range(whole.GetComponentCount()):
        part = whole.GetComponent(index)
        own = _matrix(part.GetTransform())
        placed = np.vstack([own[:3] @ matrix[:3], own[3] @ matrix[:3] + matrix[3]])
        yield from _parts(model, part.GetObjectResource(), placed, depth + 1)


READERS = {"stl": _by_trimesh("stl"), "obj": _by_trimesh("obj"), "ply": _by_trimesh("ply"), "3mf": _threemf}


def _several(count, word):
    return f"{count} {word}{'s' if count != 1 else ''}"


def _mended(vertices, triangles, name):
    """Welded vertices, triangles that enclose something, and in words what was mended.

    Raises:
        InputError: what is wrong with the surface is more than can safely be mended.
    """
    notes = []
    size = float(np.ptp(vertices, axis=0).max())
    if not size:
        raise InputError(f"All that {name} holds lies in one place.")
    steps = np.round((vertices - vertices.min(axis=0)) / (WELD_SHARE * size)).astype(np.int64)
    keys = (steps[:, 0] * (WELD_STEPS + 1) + steps[:, 1]) * (WELD_STEPS + 1) + steps[:, 2]
    _, first, place = np.unique(keys, return_index=True, return_inverse=True)
    vertices, triangles = vertices[first], place.reshape(-1)[triangles]
    a, b, c = triangles.T
    triangles = triangles[(a != b) & (b != c) & (a != c)]
    if not len(triangles):
        raise InputError(f"All triangles of {name} are lines or points.")
    ordered = np.sort(triangles, axis=1)
    keys = (ordered[:, 0] * len(vertices) + ordered[:, 1]) * len(vertices) + ordered[:, 2]
    _, once = np.unique(keys, return_index=True)
    if len(once) < len(keys):
        notes.append(f"{_several(len(keys) - len(once), 'doubled triangle')} left out")
        triangles = triangles[np.sort(once)]
    surface = trimesh.Trimesh(vertices, triangles, process=False)
    if not _is_closed(triangles):
        before = len(surface.faces)
        trimesh.repair.fill_holes(surface)
        if len(surface.faces) > before:
            notes.append(f"{_several(len(surface.faces) - before, 'lost triangle')} put back")
    triangles = np.asarray(surface.faces, np.int64)
    _refuse_open(vertices, triangles, name)
    if not _is_turned_alike(triangles):
        trimesh.repair.fix_winding(surface)
        turned = int((np.asarray(surface.faces) != triangles).any(axis=1).sum())
        notes.append(f"{_several(turned, 'triangle')} turned round")
        triangles = np.asarray(surface.faces, np.int64)
    corners = vertices[triangles]
    if np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])).sum() < 0:
        notes.append("turned inside out as a whole")
        triangles = triangles[:, ::-1]
    used, place = np.unique(triangles, return_inverse=True)
    return vertices[used], place.reshape(-1, 3), notes


def _uncrossed(vertices, triangles):
    """A mesh whose separate shells do not run into each other, and in words what was done, or where it crosses itself.

    Only whole shells are joined; what crosses itself within one is told and left as it is.
    """
    if len(triangles) > MOST_CHECKED:
        return vertices, triangles, ["whether it runs through itself was not looked at, it has too many triangles"]
    pairs, places = crossings(vertices, triangles)
    if not len(pairs):
        return vertices, triangles, []
    shell = shells_of(triangles)
    corners = vertices[triangles]
    shares = np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2]))
    between = shell[pairs[:, 0]] != shell[pairs[:, 1]]
    if between.all() and (np.bincount(shell, shares) > 0).all():
        parts = [Mesh(vertices, triangles[shell == one], np.zeros((shell == one).sum(), np.int64), ("",))
                 for one in range(shell.max() + 1)]  # fmt: skip
        try:
            one = combined("add", parts[0], parts[1:], "It")
        except OperationError:
            pass
        else:
            return one.vertices, one.triangles, [f"{len(parts)} shells that ran into each other joined"]
    x, y, z = places[0]
    where = f"{_several(len(pairs), 'edge')}, the first at ({x:.2f}, {y:.2f}, {z:.2f})"
    told = f"it runs through itself at {where}, which was left: cuts there may come out wrong"
    return vertices, triangles, [told]


def _is_closed(triangles):
    return 2 * len(neighbours(triangles)[0]) == 3 * len(triangles)


def _is_turned_alike(triangles):
    """Whether each edge is run one way by one of its triangles and the other way by the other."""
    ways = np.sort(triangles.reshape(-1) * KEY + triangles[:, [1, 2, 0]].reshape(-1))
    return bool((ways[1:] != ways[:-1]).all())


def _refuse_open(vertices, triangles, name):
    if _is_closed(triangles):
        return
    told, count = np.unique(edge_keys(triangles), return_counts=True)
    bad, crowded = told[count != 2], bool((count > 2).any())
    x, y, z = vertices[list(divmod(int(bad[0]), KEY))].mean(axis=0)
    what = "has edges at which more than two triangles meet" if crowded else "is open"
    raise InputError(
        f"{name} {what}: {_several(len(bad), 'edge')}, the first at ({x:.2f}, {y:.2f}, {z:.2f}) in its own unit. "
        "Mend it where it was made, and choose it again."
    )
