"""Where areas are narrowest: strokes of letters and marks, and the gaps between them.

Points all along the outlines are joined by their Gabriel graph (Gabriel and Sokal 1969): two of them are neighbours
where the circle on their chord holds no other, so that the chord lies across a stroke or a gap. It is across where it
runs square to both outlines, or out of a corner between the normals of its sides; towards a point it does not.
"""

from __future__ import annotations

from collections.abc import Sequence

import attrs
import numpy as np
import shapely
from scipy.spatial import Delaunay, KDTree

from nomogon_core.geometry.curves import with_area_left

MOST_POINTS, LEAST_STEP_MM, STEPS = 24_000, 0.004, 25
WIDTH_STEPS, APART, SQUARE = 2.0, 1.4, np.radians(8.0)
WINDOW_STEPS = 4


@attrs.frozen
class Neck:
    """A narrow place: how wide it is, where its middle is, and the two places on the outlines, millimetres."""

    width: float
    place: tuple[float, float]
    ends: tuple[tuple[float, float], tuple[float, float]]


@attrs.frozen
class _Dense:
    """Points all along some loops: places, the directions that the loops run in there, before and after it, how far
    along, half the step that each stands for, the number of the loop, and the lengths of the loops."""

    places: np.ndarray
    ways: np.ndarray
    before: np.ndarray
    after: np.ndarray
    along: np.ndarray
    halves: np.ndarray
    owner: np.ndarray
    lengths: np.ndarray


def narrowest(
    areas: Sequence[Sequence[np.ndarray]], least: float, most: float | None = None
) -> tuple[Neck | None, Neck | None]:
    """The narrowest stroke of some areas and the narrowest gap between and in them.

    Args:
        areas: loops (n, 2) of each area, closed without repeating the first point: its outline, then its holes.
        least: what the outlines have to be told finely enough for, millimetres; they are told in steps of a 25th of it,
            and what is narrower than two steps counts as a point. most: what is wider is not looked for; by default
            twice ``least``.

    Returns:
        Each None where nothing is narrow; points and sharp corners are not necks.
    """
    dense = _along(
        [with_area_left(np.asarray(loop, float), inner=index > 0) for area in areas for index, loop in enumerate(area)],
        least,
    )
    if len(dense.places) < 4:
        return None, None
    one, other = _neighbours(dense.places).T
    chord = dense.places[other] - dense.places[one]
    width = np.linalg.norm(chord, axis=1)
    apart = np.abs(dense.along[one] - dense.along[other])
    round_about = dense.lengths[dense.owner[one]] - apart
    apart = np.where(dense.owner[one] == dense.owner[other], np.minimum(apart, round_about), np.inf)
    step = least / STEPS
    wanted = (apart > APART * width) & (width > WIDTH_STEPS * step) & (width < (most or 2 * least))
    one, other, chord, width = one[wanted], other[wanted], chord[wanted], width[wanted]
    middles = (dense.places[one] + dense.places[other]) / 2
    whole = shapely.union_all([shapely.Polygon(loops[0], loops[1:]) for loops in areas])
    inside = shapely.contains_xy(whole, middles)
    side = np.where(inside, 1.0, -1.0)
    direction = chord / width[:, None]
    square = _is_square(dense, one, direction, side) & _is_square(dense, other, -direction, side)
    nearest, _ = KDTree(dense.places).query(middles)
    square &= nearest > width / 2 - step / 2
    told = []
    for mine in (np.flatnonzero(square & inside), np.flatnonzero(square & ~inside)):
        best = mine[np.argmin(width[mine])] if len(mine) else None
        told.append(None if best is None else _exact(dense, int(one[best]), int(other[best])))
    return told[0], told[1]


def _is_square(dense, index, direction, side):
    """Whether directions leave their outlines square, or out of a corner between the normals of its sides."""

    def normal(ways):
        return side[:, None] * np.column_stack([-ways[index, 1], ways[index, 0]])

    def cross(first, second):
        return -side * (first[:, 0] * second[:, 1] - first[:, 1] * second[:, 0])

    own = (normal(dense.ways) * direction).sum(axis=1) > np.cos(SQUARE)
    before, after = normal(dense.before), normal(dense.after)
    slack = -np.sin(SQUARE)
    opens = cross(before, after) > np.sin(SQUARE)
    return own | (opens & (cross(before, direction) > slack) & (cross(direction, after) > slack))


def _neighbours(points):
    """(n, 2) pairs of points that a triangulation joins, which hold all of the Gabriel graph."""
    corners = Delaunay(points).simplices
    return np.unique(np.sort(np.vstack([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]]), axis=1), axis=0)


def _along(loops, least):
    around = sum(float(np.linalg.norm(np.roll(loop, -1, axis=0) - loop, axis=1).sum()) for loop in loops)
    step = max(least / STEPS, around / MOST_POINTS, LEAST_STEP_MM)
    parts = [_of_loop(loop, step) for loop in loops]
    places, ways, along, halves = (np.concatenate([part[index] for part in parts]) for index in range(4))
    before = np.concatenate([np.roll(part[1], 1, axis=0) for part in parts])
    after = np.concatenate([np.roll(part[1], -1, axis=0) for part in parts])
    owner = np.repeat(np.arange(len(parts)), [len(part[0]) for part in parts])
    lengths = np.array([2 * part[3].sum() for part in parts])
    return _Dense(places, ways, before, after, along, halves, owner, lengths)


def _of_loop(loop, step):
    """Points along a loop no farther apart than a step, the direction that it runs in there, how far along, and half
    the step of each."""
    run = np.roll(loop, -1, axis=0) - loop
    sizes = np.linalg.norm(run, axis=1)
    kept = sizes > 1e-9
    loop, run, sizes = loop[kept], run[kept], sizes[kept]
    counts = np.maximum(np.ceil(sizes / step).astype(int), 1)
    which = np.repeat(np.arange(len(loop)), counts)
    share = (np.arange(counts.sum()) - np.repeat(np.cumsum(counts) - counts, counts) + 0.5) / counts[which]
    start = np.concatenate([[0.0], np.cumsum(sizes)[:-1]])
    places = loop[which] + share[:, None] * run[which]
    return places, (run / sizes[:, None])[which], start[which] + share * sizes[which], (sizes / counts)[which] / 2


def _exact(dense, one, other):
    """The shortest way between the outlines around two of their points."""
    way = shapely.shortest_line(*(shapely.LineString(_straight_on(dense, index)) for index in (one, other)))
    first, last = (tuple(map(float, place)) for place in way.coords)
    middle = ((first[0] + last[0]) / 2, (first[1] + last[1]) / 2)
    return Neck(float(way.length), middle, (first, last))


def _straight_on(dense, index):
    """The outline around a point, no farther than it goes straight on: up to the corner, where there is one."""
    begin = int(np.searchsorted(dense.owner, dense.owner[index]))
    count = int(np.searchsorted(dense.owner, dense.owner[index], side="right")) - begin
    places = []
    for way in (-1, 1):
        run, here = [], index
        for _ in range(WINDOW_STEPS):
            then = begin + (here - begin + way) % count
            if dense.ways[here] @ dense.ways[then] < np.cos(SQUARE):
                # Points lie in the middle of their steps.
                run.append(dense.places[here] + way * dense.halves[here] * dense.ways[here])
                break
            run.append(dense.places[then])
            here = then
        places.append(run)
    return np.array([*places[0][::-1], dense.places[index], *places[1]])
