"""Bodies of triangles: what somebody else made comes as a mesh and stays one; exact bodies are put into it as meshes.

Flat faces of a mesh have names that last, as a sketch can lie on them; everything round is one face.
"""

from __future__ import annotations

import io
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import with_area_left
from nomogon_core.solid import planes
from nomogon_core.solid.facts import Facts

if TYPE_CHECKING:
    from collections.abc import Sequence

    from nomogon_core.solid.planes import Frame

ROUND = "round"
COPLANAR, SMOOTH = np.cos(np.radians([0.05, 30.0]))
FLAT_SHARE, LEAST_FLAT, LEAST_FLAT_MM2 = 1e-5, 1e-3, 0.5
JOINED_DIGITS, KEY, LEAST_MITRE = 7, 2**31, 0.1


@attrs.frozen(eq=False)
class Mesh:
    """A closed surface of triangles.

    Attributes:
        vertices: (n, 3) millimetres; triangles: (m, 3) numbers of vertices, counter-clockwise from without.
        labels: (m,) number of the face that each triangle is of; names: of the faces, by that number.
        note: in words, what was mended when it came, or "".
    """

    vertices: np.ndarray
    triangles: np.ndarray
    labels: np.ndarray
    names: tuple
    note: str = ""

    @property
    def corners(self) -> np.ndarray:
        """(m, 3, 3) corners of the triangles."""
        return self.vertices[self.triangles]

    def moved(self, matrix: Any, offset: Any) -> Mesh:
        """It after a linear map (3, 3) that mirrors nothing, and a move (3,)."""
        return attrs.evolve(self, vertices=self.vertices @ np.asarray(matrix, float).T + np.asarray(offset, float))

    def flat_faces(self) -> dict[str, Frame]:
        """{face name: its :class:`planes.Frame`} of every flat face."""
        corners, found = self.corners, {}
        flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        within = FLAT_SHARE * float(np.ptp(self.vertices, axis=0).max())
        for label, name in enumerate(self.names):
            mine = self.labels == label
            normal = flat[mine].sum(axis=0)
            size = float(np.linalg.norm(normal))
            if not mine.any() or size < 1e-12:
                continue
            normal, places = normal / size, corners[mine].reshape(-1, 3)
            middle = places.mean(axis=0)
            if np.abs((places - middle) @ normal).max() <= within:
                found[name] = planes.frame_of(tuple(middle.tolist()), tuple(normal.tolist()))
        return found


def packed(mesh: Mesh) -> bytes:
    """Bytes of a mesh; the same mesh gives the same bytes."""
    stream = io.BytesIO()
    for part in (
        mesh.vertices.astype("<f8"),
        mesh.triangles.astype("<u4"),
        mesh.labels.astype("<u4"),
        np.array([*mesh.names, mesh.note], "<U400"),
    ):
        np.save(stream, part, allow_pickle=False)
    return stream.getvalue()


def unpacked(data: bytes) -> Mesh:
    """What :func:`packed` was given.

    Raises:
        OperationError: the bytes are none of a mesh.
    """
    stream = io.BytesIO(data)
    try:
        vertices, triangles, labels, words = (np.load(stream, allow_pickle=False) for _ in range(4))
        whole = vertices.shape[1:] == triangles.shape[1:] == (3,) and labels.shape == triangles.shape[:1]
        if not whole or triangles.max() >= len(vertices) or labels.max() >= len(words) - 1:
            raise ValueError("it does not hang together")
    except (ValueError, EOFError, OSError) as problem:
        raise OperationError(f"The mesh that was kept cannot be read: {problem}. Bring its file in again.") from None
    *names, note = words.tolist()
    return Mesh(vertices, triangles.astype(np.int64), labels.astype(np.int64), tuple(names), note)


def edge_keys(triangles: np.ndarray) -> np.ndarray:
    """(3 m,) one number for each edge of each triangle, the same for both triangles beside it."""
    begin, end = triangles.reshape(-1), triangles[:, [1, 2, 0]].reshape(-1)
    return np.minimum(begin, end) * KEY + np.maximum(begin, end)


def neighbours(triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((edges, 2) the triangles beside each edge, (edges, 2) the edge's vertices) of a closed surface; edges that do
    not have exactly two triangles are left out."""
    keys = edge_keys(triangles)
    order = np.argsort(keys)
    ordered, owner = keys[order], order // 3
    first = np.flatnonzero(np.r_[True, ordered[1:] != ordered[:-1]])
    two = first[np.diff(np.r_[first, len(ordered)]) == 2]
    return np.column_stack([owner[two], owner[two + 1]]), np.column_stack(np.divmod(ordered[two], KEY))


def normals_of(corners: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(m, 3) unit normals and (m,) areas of triangles (m, 3, 3); no normal where there is no area."""
    flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(flat, axis=1)
    return flat / np.maximum(size, 1e-300)[:, None], size / 2


def _groups(count, pairs):
    links = coo_matrix((np.ones(len(pairs), bool), pairs.T), shape=(count, count))
    return connected_components(links, directed=False)[1]


def named_flats(vertices: np.ndarray, triangles: np.ndarray) -> tuple[np.ndarray, tuple[str, ...]]:
    """Labels (m,) and names of the faces of a mesh: flat ones from the largest down, and everything else as one."""
    normals, areas = normals_of(vertices[triangles])
    pairs, _ = neighbours(triangles)
    level = (normals[pairs[:, 0]] * normals[pairs[:, 1]]).sum(axis=1) > COPLANAR
    group = _groups(len(triangles), pairs[level])
    size = np.bincount(group, areas)
    least = max(LEAST_FLAT * areas.sum(), LEAST_FLAT_MM2)
    corners, within = vertices[triangles], FLAT_SHARE * float(np.ptp(vertices, axis=0).max())
    labels, names = np.zeros(len(triangles), np.int64), [ROUND]
    for number in np.argsort(-size, kind="stable")[: int((size >= least).sum())]:
        mine = group == number
        normal = (normals[mine] * areas[mine, None]).sum(axis=0)
        places = corners[mine].reshape(-1, 3)
        if np.abs((places - places.mean(axis=0)) @ (normal / np.linalg.norm(normal))).max() <= within:
            labels[mine] = len(names)
            names.append(f"flat({len(names)})")
    return labels, tuple(names)


def shells_of(triangles: np.ndarray, pairs: np.ndarray | None = None) -> np.ndarray:
    """(m,) number of the shell that each triangle of a closed surface is in; ``pairs`` of neighbours, if they are
    known."""
    return _groups(len(triangles), neighbours(triangles)[0] if pairs is None else pairs)


def facts_of(mesh: Mesh) -> Facts:
    """What is known of a mesh; its volume by the divergence theorem."""
    corners = mesh.corners
    shares = np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])) / 6
    volume = float(shares.sum())
    center = (corners.sum(axis=1) / 4 * shares[:, None]).sum(axis=0) / (volume or 1.0)
    pairs, _ = neighbours(mesh.triangles)
    low, high = mesh.vertices.min(axis=0), mesh.vertices.max(axis=0)
    return Facts(
        volume,
        float(normals_of(corners)[1].sum()),
        (tuple(low.tolist()), tuple(high.tolist())),
        tuple(center.tolist()),
        _solids(mesh.triangles, pairs, shares),
        len(pairs) * 2 == len(mesh.triangles) * 3 and volume > 0,
    )


def _solids(triangles, pairs, shares):
    """How many separate solids there are: shells that enclose something, not hollows in them."""
    shell = shells_of(triangles, pairs)
    return int((np.bincount(shell, shares) > 0).sum())


def joined(vertices: np.ndarray, triangles: np.ndarray, labels: np.ndarray, names: tuple) -> Mesh:
    """A mesh of triangles (m, 3) whose faces do not share vertices yet: equal ones become one, and triangles that have
    become lines go."""
    there, place = np.unique(np.round(vertices, JOINED_DIGITS), axis=0, return_inverse=True)
    triangles = place.reshape(-1)[triangles]
    a, b, c = triangles.T
    kept = (a != b) & (b != c) & (a != c)
    return Mesh(there, triangles[kept], labels[kept], names)


def frustum(loops: Sequence[np.ndarray], height: float, lean: float) -> Mesh:
    """A solid between Plan and a height, whose outline is that of the loops at the top and grows downwards.

    Args:
        loops: (n, 2) points around the outline, then around each hole, none twice.
        lean: by how much each side moves outward on its way down, millimetres.
    """
    import manifold3d as manifold

    tops = [with_area_left(np.asarray(loop, float), inner=index > 0) for index, loop in enumerate(loops)]
    feet = [_grown(loop, lean) for loop in tops]
    count = sum(map(len, tops))
    sides, begin = [], 0
    for loop in tops:
        here = np.arange(begin, begin + len(loop))
        then = np.roll(here, -1)
        sides += [np.column_stack([here, here + count, then]), np.column_stack([then, here + count, then + count])]
        begin += len(loop)
    top = np.asarray(manifold.triangulate(tops), np.int64)
    bottom = np.asarray(manifold.triangulate(feet), np.int64)[:, ::-1] + count
    triangles = np.vstack([*sides, top, bottom])
    labels = np.repeat([0, 1, 2], [len(triangles) - len(top) - len(bottom), len(top), len(bottom)])
    places = [np.column_stack([np.vstack(level), np.full(count, z)]) for level, z in ((tops, height), (feet, 0.0))]
    return Mesh(np.vstack(places), triangles, labels, ("side", "top", "bottom"))


def _grown(loop, lean):
    """A loop with each side moved to its right, its corners mitred."""
    along = np.roll(loop, -1, axis=0) - loop
    along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-12)
    after = np.column_stack([along[:, 1], -along[:, 0]])
    before = np.roll(after, 1, axis=0)
    share = np.maximum(1 + (before * after).sum(axis=1, keepdims=True), LEAST_MITRE)
    return loop + lean * (before + after) / share


def combined(mode: str, mesh: Mesh, others: Sequence[Mesh], title: str) -> Mesh:
    """A mesh with others added, cut out, or only what it has in common with any of them (manifold3d); faces keep their
    names.

    Raises:
        OperationError: one of them is not closed, or nothing is left.
    """
    # The library takes its time to load, so it is loaded only where a mesh is changed.
    import manifold3d as manifold

    first, several = manifold.Manifold.reserve_ids(1 + len(others)), (mesh, *others)
    parts = [as_manifold(one, first + index) for index, one in enumerate(several)]
    for index, part in enumerate(parts):
        if part.status() != manifold.Error.NoError:
            one = "What is put into it" if index else title
            raise OperationError(f"{one} is not closed as a mesh ({part.status().name}); change its size by a hair.")
    tool = manifold.Manifold.batch_boolean(parts[1:], manifold.OpType.Add)
    op = {"add": manifold.OpType.Add, "cut": manifold.OpType.Subtract, "overlap": manifold.OpType.Intersect}[mode]
    told = manifold.Manifold.batch_boolean([parts[0], tool], op)
    if told.is_empty():
        raise OperationError(f"Nothing would be left of {title}.")
    made = told.to_mesh64()
    names = [name for one in several for name in one.names]
    shifts = np.cumsum([0, *(len(one.names) for one in several)])
    labels = np.asarray(made.face_id, np.int64)
    ends = np.asarray(made.run_index, np.int64) // 3
    for begin, end, origin in zip(ends, ends[1:], np.asarray(made.run_original_id, np.int64)):
        labels[begin:end] += shifts[origin - first]
    there, labels = np.unique(labels, return_inverse=True)
    vertices, triangles = np.asarray(made.vert_properties)[:, :3], np.asarray(made.tri_verts, np.int64)
    return Mesh(vertices, triangles, labels, tuple(names[label] for label in there), mesh.note)


def as_manifold(mesh: Mesh, number: int | None = None) -> Any:
    """A mesh as manifold3d takes it; with a number that it gives to what comes of its triangles."""
    import manifold3d as manifold

    number = manifold.Manifold.reserve_ids(1) if number is None else number
    return manifold.Manifold(
        manifold.Mesh64(
            # What the library itself gives is read-only, and it takes no such arrays.
            vert_properties=np.require(mesh.vertices, np.float64, ["C", "W"]),
            tri_verts=np.ascontiguousarray(mesh.triangles, np.uint64),
            run_index=np.array([0, 3 * len(mesh.triangles)], np.uint64),
            run_original_id=np.array([number], np.uint32),
            face_id=np.ascontiguousarray(mesh.labels, np.uint64),
        )
    )


@attrs.frozen
class Drawn:
    """A mesh as it is shown: vertices (n, 3) that are shared only where the surface is smooth, triangles (m, 3), and
    sharp edges (k, 2, 3)."""

    vertices: np.ndarray
    triangles: np.ndarray
    edges: np.ndarray


def drawn(mesh: Mesh) -> Drawn:
    """What a viewer needs of a mesh: it is smooth where neighbours lean to each other by less than 30°."""
    normals, _ = normals_of(mesh.corners)
    pairs, edges = neighbours(mesh.triangles)
    smooth = (normals[pairs[:, 0]] * normals[pairs[:, 1]]).sum(axis=1) > SMOOTH
    sheet = _groups(len(mesh.triangles), pairs[smooth])
    used, place = np.unique(mesh.triangles.reshape(-1) * KEY + np.repeat(sheet, 3), return_inverse=True)
    return Drawn(mesh.vertices[used // KEY], place.reshape(-1, 3), mesh.vertices[edges[~smooth]])
