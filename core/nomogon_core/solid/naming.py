"""Stable names of faces and edges: by what made them, carried through every operation's history.

A face is called ``operation.role`` or ``operation.role(sketch curve)``: ``op1.side(c4)``, ``op1.top``,
``op3.round``. An edge is called by the faces that meet in it; where one pair meets in several edges, these
are told apart by their place (``#2`` is the second in x, then y, then z).
"""

from nomogon_core.solid import kernel
from nomogon_core.solid.kernel import ShapeMap


def carried(before, names, operation, after):
    """Names of the faces of a result, from the names of the operation's arguments.

    Args:
        before: shapes that went in.
        names: ShapeMap of their faces' names.
        operation: knows ``Modified`` and ``IsDeleted``.
        after: the result.
    """
    live = ShapeMap()
    for face in kernel.faces_of(after):
        live.put(face, True)
    result = ShapeMap()
    for shape in before:
        for face in kernel.faces_of(shape):
            name = names.get(face)
            if name is None:
                continue
            changed = kernel.items(operation.Modified(face))
            for new in changed:
                if live.get(new):
                    result.put(new, name)
            if not changed and live.get(face):
                result.put(face, name)
    return result


def edge_names(shape, names):
    """(edge, name) of every edge that lies between two named faces."""
    found = {}
    for edge, faces in kernel.edges_with_faces(shape):
        pair = " | ".join(sorted({names.get(face, "?") for face in faces}))
        found.setdefault(pair, []).append(edge)
    named = []
    for pair, edges in found.items():
        if len(edges) > 1:
            edges = sorted(edges, key=_place_key)
        named += [(edge, pair if index == 0 else f"{pair} #{index + 1}") for index, edge in enumerate(edges)]
    return named


def _place_key(edge):
    points = kernel.edge_points(edge, chord=1.0)
    middle = points[len(points) // 2]
    return tuple(round(float(value), 4) for value in middle)
