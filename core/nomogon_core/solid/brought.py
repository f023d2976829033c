"""Curves of a sketch that follow edges of the solid: construction that is put where the edge is, and held there."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import attrs
from OCP.TopoDS import TopoDS_Edge

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import Arc, Circle, Line, ends
from nomogon_core.sketch.dimensions import refreshed
from nomogon_core.sketch.solve import solve
from nomogon_core.solid import kernel, naming

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch
    from nomogon_core.solid.bodies import Body
    from nomogon_core.solid.planes import Frame

CANNOT = (
    "Only straight edges, and round ones that lie level to the sketch's plane, can be brought into it; choose another."
)


def edge_of(body: Body, name: str) -> TopoDS_Edge:
    """An edge of a body by its name.

    Raises:
        OperationError: it is not there any more.
    """
    for edge, called in naming.edge_names(body.shape, body.names):
        if called == name:
            return edge
    raise OperationError(f"The edge {name} is not there any more; bring in another.")


def shown_in(body: Body, name: str, frame: Frame) -> Arc | Circle | Line:
    """The plane curve of an edge in a frame.

    Raises:
        OperationError: the edge is gone, or shows as no line, arc or circle.
    """
    curve = kernel.curve_in(edge_of(body, name), frame)
    if curve is None:
        raise OperationError(CANNOT)
    return curve


def places_of(curve: Circle | Line) -> tuple[list[tuple], float]:
    """(points in the order that the sketch keeps them, radius) of a plane curve."""
    if isinstance(curve, Line):
        return [curve.start, curve.end], 0.0
    if isinstance(curve, Circle):
        return [curve.center], curve.radius
    start, end = ends(curve) if curve.sweep > 0 else ends(curve)[::-1]
    return [curve.center, start, end], curve.radius


def moved(sketch: Sketch, curves: dict[str, Any]) -> Sketch:
    """The sketch with some of its curves put elsewhere, and solved.

    Args:
        curves: {id: plane curve of the same kind}.

    Raises:
        OperationError: an edge has become of another kind, or the sketch cannot follow.
    """
    points, shapes = dict(sketch.points), dict(sketch.curves)
    for name, curve in curves.items():
        kind = {Line: "line", Arc: "arc", Circle: "circle"}[type(curve)]
        if shapes[name].kind != kind:
            raise OperationError(f"An edge that was {shapes[name].kind} is {kind} now; bring it in again.")
        places, radius = places_of(curve)
        for point, place in zip(shapes[name].points, places):
            points[point] = tuple(map(float, place))
        shapes[name] = attrs.evolve(shapes[name], radius=float(radius))
    if points == sketch.points and shapes == sketch.curves:
        return sketch
    solution = solve(attrs.evolve(sketch, points=points, curves=shapes))
    if not solution.solved:
        raise OperationError("It cannot follow the edges that were brought into it; loosen one of its dimensions.")
    return refreshed(solution.sketch)


def followed(sketch: Sketch, brought: dict[str, dict[str, str]], frame: Frame, bodies: dict[str, Body]) -> Sketch:
    """The sketch as it is once what was brought into it has followed the solid.

    Args:
        brought: {curve id: {"body", "edge"}}; bodies: by id, as they are at its step.

    Raises:
        OperationError: a body or edge is gone, or the sketch cannot follow.
    """
    curves = {}
    for name, source in brought.items():
        if name in sketch.curves:
            if source["body"] not in bodies:
                raise OperationError("A body of which an edge was brought in is not built before it.")
            curves[name] = shown_in(bodies[source["body"]], source["edge"], frame)
    return moved(sketch, curves)
