"""Sizes of what is pointed at on the exact solid: of one face, edge or corner, and between two."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.errors import OperationError
from nomogon_core.solid import kernel, naming

if TYPE_CHECKING:
    from nomogon_core.solid.bodies import Body

PARALLEL = 1e-9


@attrs.frozen
class Measure:
    """One size.

    Attributes:
        word: what it is; value: millimetres, square millimetres or radians; kind: length, area or angle.
        between: the two places in space that a distance was taken between, or ().
    """

    word: str
    value: float
    kind: str = "length"
    between: tuple = ()


def measured(bodies: dict[str, Body], picks: list[dict[str, str]]) -> list[Measure]:
    """Sizes of one thing, or between two.

    Args:
        picks: ``{"body": id, "kind": "face", "edge" or "corner", "name": its name}``, one or two.

    Raises:
        OperationError: one is not there any more.
    """
    found = [_found(bodies, pick) for pick in picks]
    return _of_one(*found) if len(found) == 1 else _between(*found)


def read_off(bodies: dict[str, Body], kept: dict[str, Any]) -> float:
    """One size that was kept, as it is now, in millimetres, square millimetres or radians.

    Args:
        kept: ``{"picks", "word"}``, as :func:`measured` takes and tells them.

    Raises:
        OperationError: what it was taken from is not there any more, or has no such size.
    """
    for one in measured(bodies, kept["picks"]):
        if one.word == kept["word"]:
            return one.value
    raise OperationError(f"What was picked has no {kept['word']} any more; measure again.")


def _found(bodies, pick):
    """(kind, shape) of what was picked."""
    body, kind = bodies.get(pick["body"]), pick["kind"]
    shape = None
    if body is not None and kind == "face":
        shape = next((face for face in kernel.faces_of(body.shape) if body.names.get(face) == pick["name"]), None)
    elif body is not None and kind == "edge":
        shape = {name: edge for edge, name in naming.edge_names(body.shape, body.names)}.get(pick["name"])
    elif body is not None:
        place = {name: place for place, name in naming.corner_names(body.shape, body.names)}.get(pick["name"])
        shape = None if place is None else kernel.vertex_at(place)
    if shape is None:
        raise OperationError("What was picked is not there any more; pick it again.")
    return kind, shape


def _of_one(picked):
    kind, shape = picked
    if kind == "face":
        radius = kernel.radius_of(shape)
        return [Measure("area", kernel.area_of_face(shape), "area"), *_round(radius)]
    if kind == "edge":
        return [Measure("length", kernel.length_of(shape)), *_round(kernel.radius_of(shape))]
    return [
        Measure(axis, value) for axis, value in zip(("x", "y", "z"), kernel.tight_box(kernel.compound_of([shape]))[0])
    ]


def _round(radius):
    return [Measure("radius", radius), Measure("diameter", 2 * radius)] if radius else []


def _between(first, second):
    away, places = kernel.nearest_places(first[1], second[1])
    told = [Measure("shortest distance", away, between=places)]
    ways = [kernel.direction_of(shape) for _, shape in (first, second)]
    if all(way is not None for way in ways):
        cosine = min(1.0, abs(float(np.dot(ways[0], ways[1]))))
        # A face is told by its normal, an edge by its run: between the two the angle counts from the other side.
        angle = math.acos(cosine) if first[0] == second[0] else math.pi / 2 - math.acos(cosine)
        if angle > PARALLEL:
            told.append(Measure("angle", angle, "angle"))
    axes = [kernel.axis_through(shape) for _, shape in (first, second)]
    if all(axes):
        told.append(Measure("between axes", _apart(*axes)))
    return told


def _apart(first, second):
    """Shortest distance of two straight lines, each (point, unit direction)."""
    (p, u), (q, v) = ((np.array(point), np.array(way)) for point, way in (first, second))
    cross, away = np.cross(u, v), q - p
    size = float(np.linalg.norm(cross))
    if size < PARALLEL:
        return float(np.linalg.norm(away - u * np.dot(away, u)))
    return abs(float(np.dot(away, cross))) / size
