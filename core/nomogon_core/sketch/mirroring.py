"""Halves of a traced outline tied to each other in the sketch: points symmetric about the axis, radii equal."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from scipy.spatial import cKDTree

from nomogon_core.sketch import edit
from nomogon_core.sketch.model import OVAL, Constraint

if TYPE_CHECKING:
    from nomogon_core.sketch.model import Sketch

SAME_PLACE_MM = 1e-5


def _across(sketch, axis):
    """A function from places (n, 2) to their signed distances from a line, and one to their images."""
    start, end = (np.array(sketch.points[name]) for name in sketch.curves[axis].points)
    way = (end - start) / math.dist(start, end)
    normal = np.array([-way[1], way[0]])

    def off(places):
        return (np.asarray(places) - start) @ normal

    return off, lambda places: np.asarray(places) - 2 * off(places)[:, None] * normal


def images(
    sketch: Sketch, names: list[str], axis: str, within: float = SAME_PLACE_MM
) -> tuple[dict[str, str], list[str]]:
    """(point on the left -> its image on the right, points on the axis) of the points of some curves.

    Args:
        names: ids of curves that are mirror images of one another, or of themselves.
        axis: id of the line; within: millimetres by which images may be off.
    """
    points = list(dict.fromkeys(point for name in names for point in sketch.curves[name].points))
    places = np.array([sketch.points[point] for point in points])
    off, mirrored = _across(sketch, axis)
    away, nearest = cKDTree(places).query(mirrored(places))
    side = off(places)
    pairs = {
        points[index]: points[nearest[index]]
        for index in range(len(points))
        if side[index] > within and away[index] < within
    }
    return pairs, [points[index] for index in range(len(points)) if abs(side[index]) <= within]


def tied_halves(sketch: Sketch, names: list[str], axis: str) -> Sketch:
    """The sketch with the halves of some curves tied about a line, as far as they are not yet; nothing is solved."""
    for constraint in ties_of_halves(sketch, names, axis):
        sketch, _ = edit.add_constraint(sketch, constraint)
    return sketch


def ties_of_halves(sketch: Sketch, names: list[str], axis: str, within: float = SAME_PLACE_MM) -> list[Constraint]:
    """What ties the halves of some curves about a line, as far as it is not there yet; see :func:`images`.

    Ends and control points are made symmetric and round curves equal: an arc's centre follows from its ends and radius.
    """
    pairs, on_axis = images(sketch, names, axis, within)
    curves = {name: sketch.curves[name] for name in names}
    centers = {curve.points[0]: name for name, curve in curves.items() if curve.kind == "arc"}
    ovals = {curve.points[0]: name for name, curve in curves.items() if curve.kind in OVAL}
    of_ovals = {point for name in ovals.values() for point in curves[name].points[:3]}
    wanted = [
        Constraint("symmetric", (one, other, axis), source="traced")
        for one, other in pairs.items()
        if one not in centers and one not in of_ovals
    ]
    wanted += [
        Constraint("symmetric", (ovals[one], ovals[other], axis), source="traced")
        for one, other in pairs.items()
        if one in ovals
    ]
    wanted += [Constraint("on curve", (point, axis), source="traced") for point in on_axis if point not in centers]
    wanted += [Constraint("equal", pair, source="traced") for pair in _equal_rounds(curves, pairs, on_axis)]
    there = {(item.kind, frozenset(item.of)) for item in sketch.constraints.values()}
    return [constraint for constraint in wanted if (constraint.kind, frozenset(constraint.of)) not in there]


def _equal_rounds(curves, pairs, on_axis):
    """Circles whose centres are images of each other, and arcs whose ends are."""
    image = pairs | {right: left for left, right in pairs.items()} | {point: point for point in on_axis}
    places = {
        name: frozenset(curve.points if curve.kind == "circle" else curve.points[1:])
        for name, curve in curves.items()
        if curve.kind in ("arc", "circle")
    }
    named = {(curves[name].kind, own): name for name, own in places.items()}
    for name, own in places.items():
        other = named.get((curves[name].kind, frozenset(image.get(point, "") for point in own)))
        if other is not None and name < other:
            yield name, other


def joints_of_one_half(sketch: Sketch, joints: tuple[tuple[str, str], ...], axis: str) -> list[tuple[str, str]]:
    """Those of the joints (curve, curve) that are on the axis or to its left: the others follow by symmetry."""
    off, _ = _across(sketch, axis)

    def shared(before, after):
        return set(sketch.curves[before].end_points()) & set(sketch.curves[after].end_points())

    return [pair for pair in joints if any(off([sketch.points[point]])[0] >= -SAME_PLACE_MM for point in shared(*pair))]
