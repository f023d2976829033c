"""Middle lines of drawn strokes: open or closed paths with their widths, joined through crossings.

The skeleton gives which stroke runs where; places come from the middle between both edges of the stroke, at
sub-pixel accuracy. A *branch* is a run of skeleton pixels between *knots*: line ends and junctions.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import attrs
import cv2
import numpy as np
from scipy.ndimage import binary_dilation, gaussian_filter1d
from skimage.morphology import skeletonize

from nomogon_core.errors import TraceError
from nomogon_core.picture.compiled_contours import stroke_middles
from nomogon_core.picture.contours import even_light

if TYPE_CHECKING:
    from nomogon_core.picture.contours import Tones

MOST_BRANCHES = 4000
SPUR_FACTOR = 1.0
MERGE_FACTOR = 2.4
STRAIGHT_ON = -0.8
SAME_WIDTH = 0.15
SMOOTHING_PX = 3.0
LEAST_PATH_PX = 6
LOOK_BACK_PX = 12
LEAST_GAP_PX, TANGENT_PX = 3.0, 14
LEAST_TURN = 0.57
BESIDE_SHARE = 0.75
# Two strokes that run into one at an acute angle close there: the tip lies where their middle lines cross.
TAIL_SHARE, TAIL_WIDTHS, TAIL_TURN, TAIL_LOOK_PX = 0.25, 3.0, math.cos(math.radians(60)), 16
FACING = 0.8
# Beside closed strokes, what is as small is a cross-hair, or a label where several stand in a row.
MARK_SHARE, ROW_SHARE = 0.3, 1.5
NEIGHBOURS = np.array([(-1, 0), (0, -1), (0, 1), (1, 0), (-1, -1), (-1, 1), (1, -1), (1, 1)])


@attrs.frozen
class Stroke:
    """The middle line of one stroke.

    Attributes:
        points: (n, 2) pixels, x right, y down; not repeated at the end of a closed one.
        width_px: median width.
        closed: whether it has no ends.
    """

    points: np.ndarray = attrs.field(eq=False, repr=False)
    width_px: float
    closed: bool


@attrs.frozen
class _Branch:
    """Skeleton pixels (n, 2) as (row, column) from one knot to another; -1 for none, as of a closed ring."""

    first: int
    last: int
    pixels: np.ndarray = attrs.field(eq=False, repr=False)


def centre_lines(
    light: np.ndarray,
    tones: Tones,
    *,
    threshold: float = 0.5,
    least_px: float = LEAST_PATH_PX,
    bridge_widths: float = 0.0,
) -> tuple[Stroke, ...]:
    """Strokes of a drawing.

    Args:
        light: linear luminance (h, w).
        tones: as of :func:`nomogon_core.picture.contours.find_tones`; the "part" is the ink.
        threshold: share of the way from ground to ink at which a stroke's edges are taken.
        least_px: shorter strokes are left out.
        bridge_widths: ends that face one another across a gap of so many stroke widths are one stroke.

    Raises:
        TraceError: no stroke, or too many to be a drawing.
    """
    even = even_light(light, tones)
    level = tones.level(threshold)
    mask = (even < level) if tones.part_is_dark else (even > level)
    skeleton = skeletonize(mask)
    if not skeleton.any():
        raise TraceError("No stroke was found at this threshold. Move the threshold, or find the outlines by tone.")
    half = cv2.distanceTransform(np.pad(mask, 1).astype(np.uint8), cv2.DIST_L2, 5)[1:-1, 1:-1]
    knots, branches = _graph(skeleton)
    if len(branches) > MOST_BRANCHES:
        raise TraceError(
            f"More than {MOST_BRANCHES} strokes were found, so the picture is mostly texture or noise at this "
            "threshold. Move the threshold, or clean the picture up first."
        )
    knots, branches = _pruned(knots, branches, half)
    strokes = []
    for pixels, closed in _joined(knots, branches, half):
        stroke = _refined(even, level, pixels, closed, half)
        if stroke is not None:
            strokes.append(stroke)
    strokes = _across_gaps(strokes, bridge_widths) if bridge_widths else strokes
    strokes = [stroke for stroke in strokes if len(stroke.points) >= max(least_px, LEAST_PATH_PX)]
    if not strokes:
        raise TraceError(
            "Every stroke is shorter than the smallest that is kept. Lower the speck size, or move the threshold."
        )
    return tuple(sorted(strokes, key=lambda stroke: -len(stroke.points)))


def marks_among(strokes: Sequence[Stroke]) -> set[int]:
    """Indices of the strokes that are labels and cross-hairs beside closed outlines.

    Args:
        strokes: :class:`Stroke` values of one drawing.
    """
    boxes = [(stroke.points.min(axis=0), stroke.points.max(axis=0)) for stroke in strokes]
    sizes = np.array([math.dist(*box) for box in boxes])
    closed = [size for size, stroke in zip(sizes, strokes) if stroke.closed]
    if not closed:
        return set()
    small = [index for index in range(len(strokes)) if sizes[index] < MARK_SHARE * max(closed)]

    def in_row(index):
        return any(
            other != index
            and np.maximum(boxes[other][0] - boxes[index][1], boxes[index][0] - boxes[other][1]).max()
            < ROW_SHARE * sizes[index]
            and 0.4 < sizes[other] / sizes[index] < 2.5
            and not (strokes[other].closed and sizes[other] > 2 * sizes[index])
            for other in small
        )

    return {index for index in small if not strokes[index].closed or in_row(index)}


def _graph(skeleton):
    """Knots as (row, column) and the branches between them.

    Every cluster of pixels with three neighbours or more counts as a junction; some are mere steps of the skeleton,
    where two branches run on into each other.
    """
    count = (
        cv2.filter2D(skeleton.astype(np.uint8), -1, np.ones((3, 3), np.uint8), borderType=cv2.BORDER_CONSTANT)
        - skeleton
    )
    junction = (skeleton & (count >= 3)).astype(np.uint8)
    number, labels, _, centers = cv2.connectedComponentsWithStats(junction, connectivity=8)
    knots = [tuple(center[::-1]) for center in centers[1:]]
    owner = {(int(row), int(column)): int(labels[row, column]) - 1 for row, column in np.argwhere(junction)}
    for row, column in np.argwhere(skeleton & (count == 1)):
        if (int(row), int(column)) not in owner:
            owner[int(row), int(column)] = len(knots)
            knots.append((float(row), float(column)))
    left = {(int(row), int(column)) for row, column in np.argwhere(skeleton)} - owner.keys()
    branches = []
    for start, knot in list(owner.items()):
        for step in _beside(start):
            if step in left:
                branches.append(_walk(start, step, knot, owner, left))
    while left:
        start = next(iter(left))
        left.discard(start)
        pixels, here = [start], start
        while (following := next((place for place in _beside(here) if place in left), None)) is not None:
            left.discard(following)
            pixels.append(following)
            here = following
        branches.append(_Branch(-1, -1, np.array(pixels, float)))
    return knots, branches


def _beside(place):
    """The eight neighbours of a pixel, those that share a side first."""
    return [(place[0] + int(dy), place[1] + int(dx)) for dy, dx in NEIGHBOURS]


def _walk(start, step, knot, owner, left):
    """The branch from a knot's pixel over its neighbour to the next knot."""
    pixels, before, here = [start, step], start, step
    left.discard(step)
    while True:
        ends = [
            place
            for place in _beside(here)
            if place in owner and place != before and (owner[place] != knot or len(pixels) > 3)
        ]
        if ends:
            pixels.append(ends[0])
            return _Branch(knot, owner[ends[0]], np.array(pixels, float))
        following = next((place for place in _beside(here) if place in left), None)
        if following is None:
            return _Branch(knot, -1, np.array(pixels, float))
        left.discard(following)
        pixels.append(following)
        before, here = here, following


def _half_at(half, place):
    return float(half[int(round(place[0])), int(round(place[1]))])


def _degrees(branches):
    degree = {}
    for branch in branches:
        for knot in (branch.first, branch.last):
            if knot >= 0:
                degree[knot] = degree.get(knot, 0) + 1
    return degree


def _pruned(knots, branches, half):
    """Without spurs shorter than the stroke is wide, and with junctions merged that lie within its width."""
    degree = _degrees(branches)
    kept = []
    for branch in branches:
        loose = [knot for knot in (branch.first, branch.last) if knot < 0 or degree[knot] == 1]
        other = [knot for knot in (branch.first, branch.last) if knot >= 0 and degree[knot] > 1]
        if len(loose) == 1 and other and len(branch.pixels) < _half_at(half, knots[other[0]]) * (1 + SPUR_FACTOR) + 3:
            continue
        kept.append(branch)
    into = list(range(len(knots)))

    def root(knot):
        while into[knot] != knot:
            knot = into[knot]
        return knot

    degree, longer = _degrees(kept), []
    for branch in kept:
        inner = (
            branch.first >= 0 and branch.last >= 0 and min(degree.get(branch.first, 0), degree.get(branch.last, 0)) > 1
        )
        if (
            inner
            and branch.first != branch.last
            and len(branch.pixels) < MERGE_FACTOR * _half_at(half, knots[branch.first])
        ):
            into[root(branch.first)] = root(branch.last)
        else:
            longer.append(branch)
    return knots, [
        attrs.evolve(
            branch,
            first=root(branch.first) if branch.first >= 0 else -1,
            last=root(branch.last) if branch.last >= 0 else -1,
        )
        for branch in longer
    ]


def _leaving(branch, at_start, half):
    """Direction (row, column) in which a branch leaves its knot, past the blob of the junction."""
    pixels = branch.pixels if at_start else branch.pixels[::-1]
    width = _half_at(half, pixels[len(pixels) // 2])
    near = min(int(width), len(pixels) // 3)
    far = min(near + int(2 * width) + 6, len(pixels) - 1)
    way = pixels[far] - pixels[near]
    return way / max(math.hypot(*way), 1e-9)


def _joined(knots, branches, half):
    """(pixels, closed) of the paths through junctions: two branches that run straight on are one stroke."""
    at = {}
    for index, branch in enumerate(branches):
        for start, knot in ((True, branch.first), (False, branch.last)):
            if knot >= 0:
                at.setdefault(knot, []).append((index, start))
    link = {}
    for tips in at.values():
        pairs = sorted(
            (
                (float(_leaving(branches[a[0]], a[1], half) @ _leaving(branches[b[0]], b[1], half)), a, b)
                for place, a in enumerate(tips)
                for b in tips[place + 1 :]
            ),
            key=lambda pair: pair[0],
        )
        for score, a, b in pairs:
            if a not in link and b not in link and (score < STRAIGHT_ON or len(tips) == 2):
                link[a], link[b] = b, a
    paths = []
    for row, closed in _rows(link, len(branches)):
        ring = branches[row[0][0]].first < 0 and branches[row[0][0]].last < 0
        paths.append(
            (
                np.vstack(
                    [branches[index].pixels if forwards else branches[index].pixels[::-1] for index, forwards in row]
                ),
                closed or ring,
            )
        )
    return paths


def _rows(link, count):
    """What links between ends (index, at its start) put together: rows of (index, run forwards), and whether each row
    closes."""
    seen = set()
    for begin in range(count):
        if begin in seen:
            continue
        index, start = begin, True
        while (index, start) in link:
            index, start = link[index, start][0], not link[index, start][1]
            if index == begin:
                break
        closed, row = (index, start) in link, []
        while index not in seen:
            seen.add(index)
            row.append((index, start))
            if (index, not start) not in link:
                break
            index, start = link[index, not start]
        yield row, closed


def _refined(even, level, pixels, closed, half, whole_ends=True):
    """A stroke at the middle between both its edges; where a junction hides one of them, its neighbours bridge the
    gap."""
    if len(pixels) < LEAST_PATH_PX:
        return None
    if not closed and (tail := _tail_of(pixels, half)):
        first, last = tail
        body = _refined(even, level, pixels[first:last], False, half, whole_ends=False)
        if body is not None and (tip := _tip(body, pixels[0] if first else pixels[-1])) is not None:
            return Stroke(_bridged(np.vstack([tip[None], body.points]), True), body.width_px, True)
    mode = "wrap" if closed else "nearest"
    rough = gaussian_filter1d(pixels[:, ::-1], SMOOTHING_PX, axis=0, mode=mode)
    if not closed:
        rough[0], rough[-1] = pixels[0, ::-1], pixels[-1, ::-1]
    run = np.gradient(gaussian_filter1d(rough, SMOOTHING_PX, axis=0, mode=mode), axis=0)
    normals = np.column_stack([-run[:, 1], run[:, 0]]) / np.maximum(np.hypot(run[:, 0], run[:, 1]), 1e-9)[:, None]
    reach = np.array([_half_at(half, place) for place in pixels])
    middles, widths = stroke_middles(
        even,
        np.ascontiguousarray(rough),
        np.ascontiguousarray(normals),
        2.0 * float(np.median(reach)) + 3,
        float(level),
    )
    seen = widths > 0
    if seen.sum() < LEAST_PATH_PX:
        return None
    width = float(np.median(widths[seen]))
    clear = seen & (np.abs(widths - width) < SAME_WIDTH * width + 0.6)
    # Next to where an edge bends away, the middle is pulled along with it.
    clear &= ~binary_dilation(~clear, iterations=max(1, int(BESIDE_SHARE * width)))
    if clear.sum() < LEAST_PATH_PX:
        return None
    points = _bridged(_with_corners(middles, clear, width), closed)
    if not closed and whole_ends:
        points = _with_ends(points, rough[0], rough[-1])
    return Stroke(points, width, closed)


def _tail_of(pixels, half):
    """(first, last) pixel of a path without its tail, if it comes back to itself behind one; None of any other path."""
    reach = max(4, int(TAIL_SHARE * len(pixels)))
    for tail in (True, False):
        path = pixels if tail else pixels[::-1]
        away = np.hypot(*(path[:reach] - path[-1]).T)
        nearest = int(away.argmin())
        if nearest > 0 and away[nearest] < MERGE_FACTOR * _half_at(half, path[nearest]) + 2:
            return (nearest, len(pixels)) if tail else (0, len(pixels) - nearest)
    return None


def _tip(body, skeleton_end):
    """Where both ends of an open stroke meet if carried straight on, or None where they do not meet near the end of the
    skeleton."""
    points = body.points
    look = min(TAIL_LOOK_PX, len(points) // 4)
    ways = [(points[0] - points[look]), (points[-1] - points[-1 - look])]
    ways = [way / max(math.hypot(*way), 1e-9) for way in ways]
    turn = ways[0][0] * ways[1][1] - ways[0][1] * ways[1][0]
    if float(ways[0] @ ways[1]) < TAIL_TURN or abs(turn) < 1e-3:
        return None
    across = points[-1] - points[0]
    ahead = (across[0] * ways[1][1] - across[1] * ways[1][0]) / turn
    tip = points[0] + ahead * ways[0]
    tail = math.dist(points[0], skeleton_end[::-1])
    return tip if ahead > 0 and abs(ahead - tail) < TAIL_WIDTHS * body.width_px + TAIL_SHARE * tail else None


def _across_gaps(strokes, widths):
    """Strokes of which those are one whose ends face one another across a gap of at most so many widths, the nearest
    first."""
    tips = []
    for index, stroke in enumerate(strokes):
        if not stroke.closed and len(stroke.points) > TANGENT_PX:
            tips += [
                (index, start, end, (end - back) / max(math.dist(end, back), 1e-9))
                for start, end, back in (
                    (True, stroke.points[0], stroke.points[TANGENT_PX]),
                    (False, stroke.points[-1], stroke.points[-1 - TANGENT_PX]),
                )
            ]
    pairs = []
    for place, (one, at_start, here, way) in enumerate(tips):
        for other, other_start, there, back in tips[place + 1 :]:
            gap = math.dist(here, there)
            straight = (there - here) / max(gap, 1e-9)
            near = gap < widths * (strokes[one].width_px + strokes[other].width_px) / 2
            long_enough = one != other or len(strokes[one].points) > 4 * gap
            ahead = gap < 2 or min(float(way @ straight), -float(back @ straight)) > FACING
            if near and long_enough and ahead and float(way @ back) < -FACING:
                pairs.append((gap, (one, at_start), (other, other_start)))
    link = {}
    for _, here, there in sorted(pairs):
        if here not in link and there not in link:
            link[here], link[there] = there, here
    return _linked(strokes, link)


def _linked(strokes, link):
    """Strokes put together along links between their ends, (index, at its start) -> the same of the next."""
    joined = []
    for row, links_close in _rows(link, len(strokes)):
        some = [strokes[index] for index, _ in row]
        width = float(np.average([stroke.width_px for stroke in some], weights=[len(stroke.points) for stroke in some]))
        points = np.vstack(
            [strokes[index].points if forwards else strokes[index].points[::-1] for index, forwards in row]
        )
        joined.append(
            Stroke(
                _bridged(points, links_close) if links_close or len(row) > 1 else points,
                width,
                links_close or some[0].closed,
            )
        )
    return joined


def _with_corners(middles, clear, width):
    """The clear middles, and a corner where the lines on both sides of a hidden stretch cross at an angle."""
    places = np.nonzero(clear)[0]
    parts, begin = [], 0
    for gap in np.nonzero(np.diff(places) > 1)[0]:
        before, after = (
            middles[places[max(0, gap - LOOK_BACK_PX) : gap + 1]],
            middles[places[gap + 1 : gap + 2 + LOOK_BACK_PX]],
        )
        if len(before) < LOOK_BACK_PX or len(after) < LOOK_BACK_PX:
            continue
        ways = [(side[-1] - side[0]) / max(math.dist(side[-1], side[0]), 1e-9) for side in (before, after)]
        if abs(ways[0][0] * ways[1][1] - ways[0][1] * ways[1][0]) < LEAST_TURN:
            continue
        along = np.linalg.solve(np.column_stack([ways[0], -ways[1]]), after[0] - before[-1])
        if -1 < along[0] < 2 * width and -2 * width < along[1] < 1:
            parts += [middles[places[begin : gap + 1]], (before[-1] + along[0] * ways[0])[None]]
            begin = gap + 1
    return np.vstack([*parts, middles[places[begin:]]])


def _bridged(points, closed):
    """A path whose hidden stretches are bridged smoothly (cubic Hermite), along the directions in which it comes and
    goes on."""
    count, parts = len(points), []
    for index in range(count if closed else count - 1):
        here, there = points[index], points[(index + 1) % count]
        parts.append(here[None])
        gap = math.dist(here, there)
        if gap < LEAST_GAP_PX:
            continue
        behind = points[index - TANGENT_PX] if closed or index >= TANGENT_PX else points[0]
        ahead = points[(index + 1 + TANGENT_PX) % count] if closed or index + 1 + TANGENT_PX < count else points[-1]
        ways = [np.subtract(b, a) / max(math.dist(a, b), 1e-9) for a, b in ((behind, here), (there, ahead))]
        if float(ways[0] @ (there - here)) < 0.7 * gap or float(ways[1] @ (there - here)) < 0.7 * gap:
            continue
        t = np.linspace(0, 1, int(gap) + 1)[1:-1, None]
        parts.append(
            (2 * t**3 - 3 * t**2 + 1) * here
            + (t**3 - 2 * t**2 + t) * gap * ways[0]
            + (3 * t**2 - 2 * t**3) * there
            + (t**3 - t**2) * gap * ways[1]
        )
    return np.vstack(parts if closed else [*parts, points[-1:]])


def _with_ends(points, first, last):
    """A path drawn out to where its skeleton ends: half a width before the end of the ink, or at the junction it came
    from."""
    ends = []
    for inner, along, knot in (
        (points[0], points[0] - points[min(8, len(points) - 1)], first),
        (points[-1], points[-1] - points[max(-9, -len(points))], last),
    ):
        way = along / max(math.hypot(*along), 1e-9)
        beyond = max(0.0, float((knot - inner) @ way))
        ends.append(inner + way * beyond if beyond > 1.0 else inner)
    parts = [points]
    if math.dist(ends[0], points[0]) > 1.0:
        parts.insert(0, ends[0][None])
    if math.dist(ends[1], points[-1]) > 1.0:
        parts.append(ends[1][None])
    return np.vstack(parts)
