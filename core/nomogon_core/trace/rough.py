"""The fewest cubics through a contour that is no drawing of lines and arcs and too rough to tell them: a grown or torn
edge.

A chain of cubics between dense places is the start, the best there is for the directions that the contour has there
(dynamic
programming); then neighbours become one, those first that lose least, wherever both sides can be adjusted to it within
the
tolerance. Runs are looked at alone, with their ends held in place and direction, so that the rest of the chain stays as
it is.
"""

from __future__ import annotations

import heapq
import itertools
import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.geometry.curves import Line, Spline, end_directions, ends
from nomogon_core.trace import compiled_cubics
from nomogon_core.trace.adjustment import Anchors, adjusted, polyline
from nomogon_core.trace.compiled_pieces import ARC, CUBIC, GAP, LINE
from nomogon_core.trace.described import is_corner
from nomogon_core.trace.distances import signed_distance
from nomogon_core.trace.pieces import chain_of_cubics, off_primitive, primitive

if TYPE_CHECKING:
    from nomogon_core.geometry.curves import Arc
    from nomogon_core.trace.fit_settings import FitSettings

SMOOTH = math.radians(0.3)
HOPELESS = 4.0
FIT_ROUNDS = 8
LEAST_CHAIN = 4
RUN_REBREAKS = 2
LONG_SHARE = 0.04


@attrs.frozen(eq=False)
class _Link:
    """A piece of the chain and the curve that it is now."""

    kind: int
    first: int
    last: int
    curve: Any

    def control(self) -> np.ndarray | None:
        return np.array(self.curve.points) if self.kind == CUBIC else None


def rough_curves(
    outline: Any,
    pieces: list[tuple[int, int, int, np.ndarray | None]],
    tolerance: float,
    settings: FitSettings,
    tell: Callable,
) -> tuple[Arc | Line | Spline, ...]:
    """Curves within the tolerance.

    Args:
        outline: described contour; pieces: recognised on it, of which long lines and arcs are kept where that can be.
        tell: called now and then with the share 0..1 that is done.
    """
    chain = _start(outline, pieces, tolerance, settings)
    chain = _few_joined(outline, _joined(outline, chain, tolerance, settings, tell), tolerance, settings)
    return _closed_up(tuple(link.curve for link in chain))


def _closed_up(curves):
    """The curves with each cubic beginning exactly where the one before ends: adjusting run after run leaves millionths
    of a pixel between them."""
    closed = list(curves)
    for index, curve in enumerate(closed):
        if isinstance(curve, Spline):
            before, after = closed[index - 1], closed[(index + 1) % len(closed)]
            end = curve.points[-1] if isinstance(after, Spline) else ends(after)[0]
            closed[index] = Spline([ends(before)[1], *curve.points[1:-1], end])
    return tuple(closed)


def _start(outline, pieces, tolerance, settings):
    """The chain to begin with, all of it within the tolerance."""
    long_ones = [
        _without_bent_ends(outline, piece, tolerance)
        for piece in pieces
        if piece[0] == GAP or (piece[0] in (LINE, ARC) and piece[2] - piece[1] >= settings.whole_px)
    ]
    begun = chain_of_cubics(outline, long_ones, tolerance, settings)
    while any(straying := [_strays(outline, piece, tolerance) for piece in begun]):
        gone = {piece[1] % len(outline.points) for piece, strays in zip(begun, straying) if strays}
        long_ones = [piece for piece in long_ones if piece[1] % len(outline.points) not in gone]
        begun = chain_of_cubics(outline, long_ones, tolerance, settings)
    chain = [
        link
        for index, piece in enumerate(begun)
        for link in _links(outline, piece, begun[index - 1], begun[(index + 1) % len(begun)], tolerance)
    ]
    return _smoothed(outline, chain, tolerance, settings)


def _smoothed(outline, chain, tolerance, settings):
    """The chain with the places where two lines or arcs that stay meet adjusted: they were put there one by one."""
    index = 0
    while index < len(chain) and len(chain) > LEAST_CHAIN:
        run = [chain[(index + step) % len(chain)] for step in range(-1, 3)]
        before, after = chain[index - 2], chain[(index + 3) % len(chain)]
        if (
            CUBIC not in (run[1].kind, run[2].kind)
            and GAP not in {link.kind for link in (before, *run, after)}
            and max(run[1].last - run[1].first, run[2].last - run[2].first) >= settings.whole_px
        ):
            done = _alone(outline, run, (before, after), len(outline.points), tolerance, settings)
            for step, link in enumerate(done or run):
                chain[(index - 1 + step) % len(chain)] = link
        index += 1
    return chain


def _without_bent_ends(outline, piece, tolerance):
    """A line or arc without what bends away at its ends, which are no corners, having been recognised without it."""
    kind, first, last, control = piece
    if kind == GAP:
        return piece
    places = np.arange(first, last + 1)
    off = off_primitive(kind, primitive(outline, kind, first, last), outline.points[places % len(outline.points)])
    near = np.nonzero(np.abs(off) <= tolerance)[0]
    low, high = (int(places[near[index]]) for index in (0, -1)) if len(near) else (first, last)
    count = len(outline.points)
    return (
        kind,
        first if first % count in outline.corners else low,
        last if last % count in outline.corners else high,
        control,
    )


def _strays(outline, piece, tolerance):
    """Whether a line or arc that stays leaves the contour, up to its ends, where it was recognised without them or
    moved to meet another."""
    kind, first, last, curve = piece
    if kind not in (LINE, ARC) or curve is None:
        return False
    places = np.arange(first, last + 1)
    slack = np.zeros(len(places))
    for place in (first, last):
        if place % len(outline.points) in outline.corners:
            slack[np.abs(places - place) <= outline.skip(place)] = outline.sure_tip_px
    return bool(
        np.any(np.abs(signed_distance(outline.points[places % len(outline.points)], curve)) > tolerance + slack)
    )


def _links(outline, piece, before, after, tolerance):
    """A cubic as a link; where none fits, the contour itself as lines (Ramer 1972, Douglas and Peucker 1973)."""
    kind, first, last, control = piece
    if kind == CUBIC:
        return [_Link(kind, first, last, Spline(control))]
    if control is not None:
        return [_Link(kind, first, last, control)]
    points = outline.points[np.arange(first, last + 1) % len(outline.points)].copy()
    if kind == GAP:
        return [_Link(kind, first, last, Line(points[0], points[-1]))]
    points[0] = _end(before, 1, points[0])
    points[-1] = _end(after, 0, points[-1])
    kept = polyline(points, tolerance)
    return [
        _Link(LINE, first + low, first + high, Line(points[low], points[high]))
        for low, high in zip(kept[:-1], kept[1:])
    ]


def _end(piece, which, place):
    """The start (0) or end (1) of a piece where it has a curve, else a place."""
    if piece[3] is None:
        return place
    return piece[3][3 * which] if piece[0] == CUBIC else ends(piece[3])[which]


def _joined(outline, chain, tolerance, settings, tell):
    """The chain with neighbours made one wherever the tolerance allows it, the least costly first."""
    count = len(outline.points)
    following = dict(zip(chain, [*chain[1:], chain[0]]))
    before = {after: link for link, after in following.items()}
    queue, order, passed = [], itertools.count(), itertools.count()

    def offer(one):
        other = following[one]
        if (
            one is other
            or _stays(outline, one, settings)
            or _stays(outline, other, settings)
            or is_corner(outline, other.first)
        ):
            return
        merged, worst = _as_one(outline, one, other)
        if worst <= HOPELESS * tolerance:
            heapq.heappush(queue, (worst, next(order), one, other, merged))

    for link in chain:
        offer(link)
    while queue and len(following) > LEAST_CHAIN:
        tell(1 - len(queue) / (len(queue) + next(passed) + 1))
        _, _, one, other, merged = heapq.heappop(queue)
        if following.get(one) is not other or other not in following:
            continue
        beside = [[link] if link.kind != GAP else [] for link in (before[one], following[other])]
        old = [*beside[0], one, other, *beside[1]]
        outer = before[old[0]], following[old[-1]]
        done = _alone(outline, [*beside[0], merged, *beside[1]], outer, count, tolerance, settings)
        if done is None:
            continue
        for gone in old:
            del following[gone], before[gone]
        row = [outer[0], *done, outer[1]]
        for link, after in zip(row[:-1], row[1:]):
            following[link], before[after] = after, link
        for link in row[:-1]:
            offer(link)
        offer(before[outer[0]])
    first = next(iter(following))
    result, link = [], first
    while True:
        result.append(link)
        link = following[link]
        if link is first:
            return result


def _stays(outline, link, settings):
    """Whether a link is a line so long, beside the whole outline too, that it was drawn as such, or the gap of an open
    path."""
    return link.kind == GAP or (
        link.kind == LINE and link.last - link.first >= max(settings.whole_px, LONG_SHARE * len(outline.points))
    )


def _few_joined(outline, chain, tolerance, settings):
    """As :func:`_joined` for a chain so short that all of it is adjusted at once."""
    shrunk = len(chain) <= LEAST_CHAIN + 1
    while shrunk and len(chain) > 1:
        shrunk = False
        tries = sorted(
            (
                (worst, index, merged)
                for index in range(len(chain))
                for merged, worst in [_as_one(outline, chain[index], chain[(index + 1) % len(chain)])]
                if worst <= HOPELESS * tolerance
                and not (
                    _stays(outline, chain[index], settings)
                    or _stays(outline, chain[(index + 1) % len(chain)], settings)
                )
                and not is_corner(outline, chain[(index + 1) % len(chain)].first)
            ),
            key=lambda item: item[0],
        )
        for _, index, merged in tries:
            rest = [chain[(index + 2 + step) % len(chain)] for step in range(len(chain) - 2)]
            curves, bad, (left, _) = adjusted(outline, _in_a_row([merged, *rest]), tolerance, settings)
            if bad.max() < 0 and len(curves) < len(chain):
                chain, shrunk = (
                    [_Link(kind, first, last, curve) for (kind, first, last, _), curve in zip(left, curves)],
                    True,
                )
                break
    return chain


def _in_a_row(links):
    """Links as pieces whose ranges go on from one to the next, past the contour's last point."""
    placed, at = [], links[0].first
    for link in links:
        placed.append((link.kind, at, at + link.last - link.first, link.control()))
        at += link.last - link.first
    return placed


def _as_one(outline, one, other):
    """One cubic over two links, with the ends and directions of theirs, and its largest distance from the contour."""
    first, last = one.first, one.first + (one.last - one.first) + (other.last - other.first)
    (start, _), (_, end) = ends(one.curve), ends(other.curve)
    out_way, in_way = end_directions(one.curve)[0], -end_directions(other.curve)[1]
    corner = (is_corner(outline, first), is_corner(outline, last))
    data = outline.points[np.arange(first, last + 1, max(1, (last - first) // 150)) % len(outline.points)]
    control, worst, _ = compiled_cubics.fit_cubic(
        data, np.array(start), np.array(end), out_way, in_way, *corner, FIT_ROUNDS, math.inf
    )
    return _Link(CUBIC, first, last, Spline(control)), math.inf if compiled_cubics.folds(control) else worst


def _alone(outline, run, outer, count, tolerance, settings):
    """Links of a run adjusted between its neighbours, which stay; None when it leaves the tolerance."""
    placed = _in_a_row(run)
    gap = (GAP, placed[-1][2], placed[0][1] + count, _anchors(run, outer))
    curves, bad, (left, _) = adjusted(
        outline, [*placed, gap], tolerance, attrs.evolve(settings, free_rebreaks=RUN_REBREAKS)
    )
    if bad.max() >= 0:
        return None
    return [_Link(kind, first, last, curve) for (kind, first, last, _), curve in zip(left[:-1], curves[:-1])]


def _anchors(run, outer):
    def kept(before, after):
        """Direction where two curves meet, if they do so smoothly."""
        arriving, leaving = end_directions(before)[1], end_directions(after)[0]
        if math.acos(float(np.clip(arriving @ leaving, -1, 1))) > SMOOTH:
            return None
        return math.atan2(arriving[1], arriving[0])

    first, last = run[0].curve, run[-1].curve
    arriving, leaving = kept(outer[0].curve, first), kept(last, outer[1].curve)
    return Anchors(ends(last)[1], leaving, ends(first)[0], arriving)
