"""Choosing edges and faces of a body by name or by rule.

A rule is plain data and is evaluated anew at every rebuild: ``{"at": "top"}``, with an ``operation`` only those that
bound its faces, ``but`` without those that bound faces of other operations, ``between`` only those between two kinds of
face, ``chain`` all that run on smoothly from a named one.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from OCP.TopoDS import TopoDS_Edge, TopoDS_Face

from nomogon_core.errors import OperationError
from nomogon_core.solid import kernel, naming
from nomogon_core.solid.planes import operation_of

if TYPE_CHECKING:
    from nomogon_core.solid.bodies import Body

LEVEL = 1e-6


def chosen_edges(body: Body, names: Sequence[str] = (), rule: dict[str, Any] | None = None) -> list[TopoDS_Edge]:
    """Edges of a body by name and by rule.

    Raises:
        OperationError: a name is not found any more, or there is no such edge.
    """
    chosen = edges_by_rule(body, rule) if rule else []
    if names:
        called = naming.old_edge_names if naming.is_old(names) else naming.edge_names
        there = {name: edge for edge, name in called(body.shape, body.names)}
        lost = [name for name in names if name not in there]
        if lost:
            raise OperationError(
                f"{len(lost)} of the chosen edges {'is' if len(lost) == 1 else 'are'} not there any more "
                f"({lost[0]}); click the edges again."
            )
        chosen += [there[name] for name in names]
    if not chosen:
        raise OperationError("There is no such edge on the body; choose edges by clicking them.")
    return chosen


def edges_by_rule(body: Body, rule: dict[str, Any]) -> list[TopoDS_Edge]:
    """Edges of a body for which a rule holds."""
    named = {name: edge for edge, name in naming.edge_names(body.shape, body.names)}
    faces = kernel.ShapeMap()
    for edge, around in kernel.edges_with_faces(body.shape):
        faces.put(edge, around)
    chain = _chain(body, named.get(rule["chain"])) if rule.get("chain") else None
    bottom, top = body.heights()
    found = []
    for edge in named.values():
        around = faces.get(edge, [])
        makers = {operation_of(body.names.get(face, "?")) for face in around}
        if rule.get("operation") and rule["operation"] not in makers:
            continue
        if makers & set(rule.get("but", ())):
            continue
        if rule.get("between") and sorted(map(_kind_of, around)) != sorted(rule["between"]):
            continue
        if chain is not None and not any(edge.IsSame(other) for other in chain):
            continue
        if _is_at(edge, rule["at"], bottom, top):
            found.append(edge)
    return found


def _kind_of(face):
    return "flat" if kernel.plane_of(face) else "round"


def _is_at(edge, at, bottom, top):
    if at == "all":
        return True
    if at == "round":
        return kernel.is_circular(edge)
    first, middle, last = kernel.three_places(edge)
    if at == "upright":
        return abs(last[2] - first[2]) > LEVEL and math.dist(first[:2], last[:2]) < LEVEL
    height = top if at == "top" else bottom
    if max(abs(place[2] - height) for place in (first, middle, last)) >= LEVEL:
        return False
    return abs(kernel.edge_points(edge, chord=1.0)[:, 2] - height).max() < LEVEL


def _chain(body, edge):
    """The edges that run on smoothly from one.

    Raises:
        OperationError: the edge is not there any more.
    """
    if edge is None:
        raise OperationError("The edge that the chain begins with is not there any more; click another.")
    return kernel.tangent_chain(body.shape, edge)


def faces_by_rule(body: Body, rule: dict[str, str]) -> list[TopoDS_Face]:
    """Faces of a body for which a rule holds: top and bottom are level, side faces stand upright, round ones are not
    flat."""
    found = []
    for face in kernel.faces_of(body.shape):
        maker = operation_of(body.names.get(face, "?"))
        if rule.get("operation") and maker != rule["operation"] or maker in rule.get("but", ()):
            continue
        plane = kernel.plane_of(face)
        lean = plane[1][2] if plane else 0.0
        at = rule["at"]
        fits = {
            "all": True,
            "round": plane is None,
            "top": plane is not None and lean > 1 - LEVEL,
            "bottom": plane is not None and lean < LEVEL - 1,
            "upright": plane is not None and abs(lean) < LEVEL,
        }
        if fits[at]:
            found.append(face)
    return found
