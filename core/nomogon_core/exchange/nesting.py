"""Copies of a flat part laid on a sheet: as lattices of one or two ways round, of which the one is taken that most go
into, and of these the one that needs the least of the sheet."""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from typing import Any

import attrs
import numpy as np
import shapely
from shapely import affinity

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import moved, outline_points

CHORD_MM, ROUGH_MM, STEPS, HALVINGS, MOST_ON_A_SHEET = 0.01, 0.02, 48, 24, 4000


@attrs.frozen
class Place:
    """Where a copy lies: turned about the origin by an angle, radians, then moved, millimetres."""

    turn: float
    x: float
    y: float

    def moved(self, points: np.ndarray) -> np.ndarray:
        """Points (n, 2) of the part as they lie on the sheet."""
        c, s = math.cos(self.turn), math.sin(self.turn)
        return points @ np.array([[c, s], [-s, c]]) + (self.x, self.y)


@attrs.frozen
class Nest:
    """Copies on a first sheet, how many go on one, how many sheets all copies need, and how much of the first is used
    (width, height)."""

    places: tuple[Place, ...]
    most: int
    sheets: int
    used: tuple[float, float]


def nested(outline: np.ndarray, copies: int, gap: float, sheet: tuple[float, float]) -> Nest:
    """Copies of a part whose outline runs through points (n, 2), no closer to each other and to the edge of the sheet
    than a gap.

    Raises:
        OperationError: not one goes on the sheet.
    """
    rough = shapely.Polygon(outline).buffer(0).simplify(ROUGH_MM).buffer(ROUGH_MM, quad_segs=2)
    box = rough.minimum_rotated_rectangle.exterior.coords
    slant = math.atan2(box[1][1] - box[0][1], box[1][0] - box[0][0])
    best = None
    for turn, partner in itertools.product((0.0, math.pi / 2, -slant, math.pi / 2 - slant), (0.0, math.pi)):
        places = _lattice(rough, turn, partner, gap, sheet)
        laid = places[:copies]
        if not laid:
            continue
        reach = [affinity.translate(affinity.rotate(rough, p.turn, origin=(0, 0), use_radians=True), p.x, p.y).bounds
                 for p in laid]  # fmt: skip
        used = max(one[2] for one in reach) + gap, max(one[3] for one in reach) + gap
        key = (-min(len(places), copies), used[1] * sheet[0] if len(laid) > 1 else used[0] * used[1], -len(places))
        if best is None or key < best[0]:
            best = key, Nest(tuple(laid), len(places), math.ceil(copies / len(places)), used)
    if best is None:
        low_x, low_y, high_x, high_y = rough.bounds
        raise OperationError(
            f"The part, {high_x - low_x:.1f} × {high_y - low_y:.1f} mm, does not go on a sheet of {sheet[0]:g} × "
            f"{sheet[1]:g} mm with {gap:g} mm around it. Type a larger sheet or a smaller gap."
        )
    return best[1]


def nest_of(areas: Sequence[Sequence[Sequence[Any]]], cutter: Mapping[str, float]) -> Nest:
    """The nest of a part of areas, of each the curves around it and around its holes; see :func:`nested`.

    Args:
        cutter: ``copies``, the ``gap`` between cuts, their width ``kerf``, ``sheet_x`` and ``sheet_y``, by name.
    """
    outlines = [outline_points(list(area[0]), CHORD_MM) for area in areas]
    if len(outlines) == 1:
        outline = outlines[0]
    else:
        outline = shapely.get_coordinates(shapely.MultiPoint(np.vstack(outlines)).convex_hull.exterior)[:-1]
    sheet = cutter["sheet_x"], cutter["sheet_y"]
    return nested(outline, int(cutter["copies"]), cutter["gap"] + cutter["kerf"], sheet)


def copied(outlines: Sequence[Sequence[Any]], nest: Nest) -> list[tuple[Any, ...]]:
    """Outlines, as curves, of all copies on the first sheet."""

    def lying(curve, place):
        return moved(curve, lambda at: place.moved(np.atleast_2d(at))[0], turn=place.turn)

    return [tuple(lying(curve, place) for curve in outline) for place in nest.places for outline in outlines]


def _lattice(rough, turn, partner, gap, sheet):
    """All places on a sheet of a lattice whose cell is the part, turned, and, where ``partner`` is not 0, the part
    turned further by that."""
    wide, high = sheet[0] - 2 * gap, sheet[1] - 2 * gap
    first = _at_origin(rough, turn)
    cell = [(first, turn, 0.0)]
    step = _slide(first[0], first[0], gap, (1, 0))
    if partner:
        second = _at_origin(rough, turn + partner)
        there = _slide(first[0], second[0], gap, (1, 0))
        cell.append((second, turn + partner, there))
        step = max(step, _slide(second[0], second[0], gap, (1, 0)), there + _slide(second[0], first[0], gap, (1, 0)))
    tall = max(one[0].bounds[3] for one, *_ in cell)
    row = shapely.union_all([affinity.translate(one[0], at + k * step) for one, _, at in cell for k in range(3)])
    best = []
    for shift in (0.0, step / 2):
        around = shapely.union_all([affinity.translate(row, shift + k * step) for k in (-2, 0, 2)])
        up = _slide(row, around, gap, (0, 1))
        places, bottom, number = [], 0.0, 0
        while bottom + tall <= high + 1e-9 and len(places) < MOST_ON_A_SHEET:
            places += _row(cell, step, (number % 2) * shift, bottom, wide, gap)
            bottom, number = bottom + up, number + 1
        best = max(best, places, key=len)
    return best


def _row(cell, step, begin, bottom, wide, gap):
    """Places of a row, from left to right."""
    found = []
    for k in range(MOST_ON_A_SHEET):
        for (shape, (x, y)), turn, at in cell:
            left = begin + k * step + at
            if left + shape.bounds[2] > wide + 1e-9:
                return found
            found.append(Place(turn, left + gap - x, bottom + gap - y))
    return found


def _at_origin(rough, turn):
    """The part turned, its box beginning at the origin, and the corner that the box had."""
    turned = affinity.rotate(rough, turn, origin=(0, 0), use_radians=True)
    x, y, *_ = turned.bounds
    return affinity.translate(turned, -x, -y), (x, y)


def _slide(still, other, gap, way):
    """How far another shape has to be moved along a way so that it stays clear of one from there on."""
    axis = 0 if way[0] else 1
    far = still.bounds[axis + 2] - other.bounds[axis] + gap
    low, high = 0.0, far

    def clear(at):
        return still.distance(affinity.translate(other, way[0] * at, way[1] * at)) >= gap

    for at in np.linspace(far, 0.0, STEPS):
        if not clear(at):
            low = float(at)
            break
        high = float(at)
    for _ in range(HALVINGS):
        middle = (low + high) / 2
        low, high = (low, middle) if clear(middle) else (middle, high)
    return high
