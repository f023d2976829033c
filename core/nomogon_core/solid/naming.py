"""Stable names of faces and edges: by what made them, carried through every operation's history.

A face is called ``operation.role`` or ``operation.role(what it came of)``: ``op1.side(c4)``, ``op1.top``,
``op3.round(op1.side(c4) & op1.top)`` for the round face of that edge. An edge is called by the faces that meet in it;
where
one pair meets in several edges, these are told apart by the other faces at their ends (``op1.side(c1) | op1.top @
op2.wall(c9)``),
and only where these are alike too by their place (``#2`` is the second in x, then y, then z).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.TopoDS import TopoDS_Edge, TopoDS_Shape

from nomogon_core.solid import kernel
from nomogon_core.solid.kernel import ShapeMap

BETWEEN = " | "
_OWN_EDGE = re.compile(r"\.round\(.*\)$")


def carried(
    before: list[TopoDS_Shape],
    names: ShapeMap,
    operation: BRepAlgoAPI_Cut | BRepAlgoAPI_Fuse | BRepFilletAPI_MakeFillet,
    after: TopoDS_Shape,
) -> ShapeMap:
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


def edge_names(shape: TopoDS_Shape, names: ShapeMap) -> list[tuple[TopoDS_Edge, str]]:
    """(edge, name) of every edge that lies between two named faces; kept with the names, so never change it."""
    known = names.told.get("edges")
    if known is None or known[0] is not shape:
        known = names.told["edges"] = shape, _edge_names(shape, names)
    return known[1]


def _edge_names(shape, names):
    found, told = _by_faces(shape, names), []
    at_ends = None
    for pair, edges in found.items():
        if len(edges) == 1:
            told.append((edges[0], pair))
            continue
        at_ends = at_ends or kernel.faces_at_vertices(shape)
        alike = {}
        for edge in edges:
            around = {names.get(face, "?") for faces in kernel.faces_at_ends(edge, at_ends) for face in faces} - set(
                pair.split(BETWEEN)
            )
            alike.setdefault(f"{pair} @ {', '.join(sorted(around))}" if around else pair, []).append(edge)
        for name, some in alike.items():
            told += _ranked(name, some)
    return told


def corner_names(shape: TopoDS_Shape, names: ShapeMap) -> list[tuple[tuple[float, ...], str]]:
    """((x, y, z), name) of every corner where three faces or more meet: called by these, and where corners are
    alike, by their place too."""
    found = {}
    for place, faces in kernel.corners_with_faces(shape):
        around = sorted({names.get(face, "?") for face in faces})
        if len(around) > 2:
            found.setdefault(BETWEEN.join(around), set()).add(tuple(round(value, 9) for value in place))
    return [
        (place, name if index == 0 else f"{name} #{index + 1}")
        for name, places in found.items()
        for index, place in enumerate(sorted(places))
    ]


def is_old(edges: Sequence[str]) -> bool:
    """Whether names of edges are as jobs stored them once: several of one pair of faces were told apart by place alone,
    and round faces had one name."""
    return any((" #" in edge and " @ " not in edge) or re.search(r"\.round(?!\()", edge) for edge in edges)


def old_edge_names(shape: TopoDS_Shape, names: ShapeMap) -> list[tuple[TopoDS_Edge, str]]:
    """(edge, name) as jobs stored them before round faces told their edge, and edges their ends."""
    plain = kernel.ShapeMap()
    for face in kernel.faces_of(shape):
        plain.put(face, _OWN_EDGE.sub(".round", names.get(face, "?")))
    return [one for pair, edges in _by_faces(shape, plain).items() for one in _ranked(pair, edges)]


def _by_faces(shape, names):
    """Edges by the names of the faces that meet in them."""
    found = {}
    for edge, faces in kernel.edges_with_faces(shape):
        found.setdefault(BETWEEN.join(sorted({names.get(face, "?") for face in faces})), []).append(edge)
    return found


def _ranked(name, edges):
    edges = sorted(edges, key=_place_key) if len(edges) > 1 else edges
    return [(edge, name if index == 0 else f"{name} #{index + 1}") for index, edge in enumerate(edges)]


def round_name(operation: str, edge: str, role: str = "round") -> str:
    """Name of the face that rounds, or cuts, an edge of that name."""
    return f"{operation}.{role}({edge.replace(BETWEEN, ' & ')})"


def _place_key(edge):
    points = kernel.edge_points(edge, chord=1.0)
    middle = points[len(points) // 2]
    return tuple(round(float(value), 4) for value in middle)
