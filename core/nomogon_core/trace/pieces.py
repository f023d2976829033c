"""The cheapest chain of lines, arcs and cubics around a described contour.

A piece is (kind, first, last, control points or None): indices of the contour, where last may run past its end.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.geometry.curves import Arc, Line, end_directions
from nomogon_core.trace import compiled_cubics, compiled_joint, compiled_pieces
from nomogon_core.trace.compiled_pieces import CUBIC, GAP, LINE

if TYPE_CHECKING:
    from nomogon_core.trace.fit_settings import FitSettings

PIECE_COST = np.array([1.0, 1.3, 1.9, 0.0])
MISFIT_COST = 0.15
WIDEST_REACH_PX = 9
NEAR_CORNER_PX = 2.5
FALLBACK_COST = 5.0
FREE_COST = 2.3
STRAIGHT_BULGE = 1e-5


def best_pieces(outline: Any, tolerance: float, settings: FitSettings) -> list[tuple[int, int, int, Any]]:
    """Pieces (kind, first, last, control points or None) around the contour: coarse places, then fine ones near the
    breaks."""
    count = len(outline.points)
    coarse = min(settings.candidates, count)
    cubic = min(max(settings.cubic_candidates, count // 20), 4 * settings.cubic_candidates, count)
    cubic_places = _with_corners(np.round(np.arange(cubic) * count / cubic).astype(int), outline)
    places = np.union1d(_with_corners(np.round(np.arange(coarse) * count / coarse).astype(int), outline), cubic_places)
    cost, pieces = _solve(outline, places, cubic_places, tolerance, settings)
    breaks = np.array([piece[1] % count for piece in pieces])
    half = max(1, math.ceil(count / coarse))
    stride = max(1, math.ceil(len(breaks) * (2 * half + 1) / 700))
    window = np.unique(np.concatenate([np.arange(-half, half + 1, stride), [0]]))
    fine_cubic = np.round(np.array([-0.66, -0.33, 0, 0.33, 0.66]) * count / cubic).astype(int)
    cubic_places = _with_corners((breaks[:, None] + fine_cubic).ravel(), outline)
    places = np.union1d(_with_corners((breaks[:, None] + window).ravel(), outline), cubic_places)
    refined_cost, refined = _solve(outline, places, cubic_places, tolerance, settings)
    if refined_cost <= cost + 1e-9:
        pieces = refined
    return _merged(outline, pieces, tolerance, settings)


def _with_corners(places, outline):
    """Candidate places with every corner among them and none right beside one."""
    count, corners = len(outline.points), outline.corners
    places = np.unique(np.concatenate([places % count, corners]))
    if len(corners):
        apart = np.abs(places[:, None] - corners[None])
        apart = np.minimum(apart, count - apart)
        places = places[(apart == 0).any(axis=1) | (apart >= np.maximum(2, 0.5 * outline.skips[corners])).all(axis=1)]
    return places.astype(np.int64)


def _merged(outline, pieces, tolerance, settings):
    """Neighbours that one line or one arc covers become one; a short piece goes to the neighbours where they can meet.

    The chain had to begin somewhere, and candidate places are not everywhere; this mends both.
    """
    changed = True
    while changed and len(pieces) > 2:
        changed = False
        for index in range(len(pieces)):
            for span in (3, 2):
                joined = (
                    _join(outline, [pieces[(index + step) % len(pieces)] for step in range(span)], tolerance, settings)
                    if len(pieces) > span
                    else None
                )
                if joined is not None:
                    rest = [pieces[(index + span + step) % len(pieces)] for step in range(len(pieces) - span)]
                    pieces, changed = joined + rest, True
                    break
            if changed:
                break
    return pieces


def _join(outline, run, tolerance, settings):
    """A run of two or three pieces as one piece, or of three as two; None when that leaves the tolerance."""
    count = len(outline.points)
    first = run[0][1]
    last = first + sum(piece[2] - piece[1] for piece in run)
    inner = [(first + reach) % count for reach in np.cumsum([piece[2] - piece[1] for piece in run])[:-1]]
    if np.isin(inner, outline.corners).any() or any(piece[0] == GAP for piece in run):
        return None
    if len(run) == 2:
        kinds = {piece[0] for piece in run} - {CUBIC}
        return next(
            (
                [(kind, first, last, None)]
                for kind in sorted(kinds)
                if _covers(outline, kind, first, last, tolerance, settings)
            ),
            None,
        )
    if run[1][2] - run[1][1] > 60 or CUBIC in (run[0][0], run[2][0]):
        return None
    begin = first + run[0][2] - run[0][1]
    for share in (0.5, 0.25, 0.75, 0.0, 1.0):
        middle = int(round(begin + share * (run[1][2] - run[1][1])))
        if _covers(outline, run[0][0], first, middle, tolerance, settings) and _covers(
            outline, run[2][0], middle, last, tolerance, settings
        ):
            return [(run[0][0], first, middle, None), (run[2][0], middle, last, None)]
    return None


def _covers(outline, kind, first, last, tolerance, settings):
    """Whether one line or arc covers a range within the tolerance."""
    count = len(outline.points)
    if not 6 <= last - first < count:
        return False
    places = np.array([first % count, last % count], np.int64)
    if places[0] == places[1]:
        return False
    order = np.argsort(places)
    begin, steps, kinds, _ = compiled_pieces.line_and_arc_trials(
        outline.points,
        outline.arc_lengths,
        places[order],
        tolerance,
        outline.skips[places[order]],
        outline.slacks[places[order]],
    )
    start = int(np.nonzero(order == 0)[0][0])
    return bool(np.any((begin == start) & (steps == 1) & (kinds == kind)))


def as_cubic(outline: Any, first: int, last: int) -> tuple[int, int, int, np.ndarray]:
    """One cubic over a range of the contour, as a piece."""
    count = len(outline.points)
    nodes, ways_in, ways_out, corner = _cubic_ends(outline, np.array([first, last]) % count)
    control, _, _ = compiled_cubics.fit_cubic(
        outline.points[np.arange(first, last + 1) % count],
        nodes[0],
        nodes[1],
        ways_out[0],
        -ways_in[1],
        bool(corner[0]),
        bool(corner[1]),
        6,
        math.inf,
    )
    return (CUBIC, int(first), int(last), control)


def _cubic_ends(outline, places):
    """Places and directions at which cubics begin and end: smoothed contour, or the crossing of both sides at a
    corner."""
    points, count = outline.points, len(outline.points)
    reaches = np.full(len(places), min(WIDEST_REACH_PX, max(2, count // 16)))
    if len(outline.corners):
        apart = np.abs(places[:, None] - outline.corners[None])
        reaches = np.clip(np.minimum(apart, count - apart).min(axis=1) - 1, 2, reaches)
    nodes, ways = np.empty((len(places), 2)), np.empty((len(places), 2))
    for reach in np.unique(reaches):
        mine = reaches == reach
        steps = np.arange(-reach, reach + 1)
        order = 2 if reach < 5 else 3
        inverse = np.linalg.pinv(np.stack([steps.astype(float) ** power for power in range(order + 1)], axis=1))
        local = np.einsum("ab,mbk->mak", inverse, points[(places[mine, None] + steps) % count])
        nodes[mine] = local[:, 0]
        ways[mine] = local[:, 1] / np.maximum(np.hypot(local[:, 1, 0], local[:, 1, 1]), 1e-12)[:, None]
    ways_in, ways_out = ways.copy(), ways.copy()
    corner = np.isin(places, outline.corners)
    for index in np.nonzero(corner)[0]:
        place = places[index]
        if outline.is_open and place in (0, count - 1):
            nodes[index] = points[place]
            ways_in[index], ways_out[index] = outline.before[count - 1], outline.after[0]
            continue
        nodes[index] = _corner_point(outline, place)
        ways_in[index], ways_out[index] = outline.before[place], outline.after[place]
    return nodes, ways_in, ways_out, corner


def _corner_point(outline, place):
    """Where the lines through both sides of a corner cross, if that is as near as the lens can have drawn it back."""
    matrix = np.column_stack([outline.before[place], -outline.after[place]])
    if abs(np.linalg.det(matrix)) > 0.3:
        along = np.linalg.solve(matrix, outline.after_center[place] - outline.before_center[place])
        crossing = outline.before_center[place] + along[0] * outline.before[place]
        away = math.dist(crossing, outline.points[place])
        if away < NEAR_CORNER_PX:
            return crossing
        if outline.clear and outline.closed_by_lens(place) and away < 2 * outline.recession(place):
            return outline.points[place] + (crossing - outline.points[place]) * min(
                1.0, outline.recession(place) / away
            )
    return outline.points[place]


def _solve(outline, places, cubic_places, tolerance, settings):
    """Cheapest closed chain of pieces between candidate places: (cost, pieces).

    Where nothing fits between two neighbouring places, a costly line stands in; the verification breaks it up.
    """
    points, count = outline.points, len(places)
    begin, steps, kinds, squares = compiled_pieces.line_and_arc_trials(
        points, outline.arc_lengths, places, tolerance, outline.skips[places], outline.slacks[places]
    )
    nodes, ways_in, ways_out, corner = _cubic_ends(outline, cubic_places)
    c_begin, c_steps, c_squares, controls = compiled_cubics.cubic_trials(
        points,
        cubic_places,
        nodes,
        ways_in,
        ways_out,
        corner,
        tolerance,
        outline.skips[cubic_places] - 0.5 * settings.skip_px,
    )
    at = np.searchsorted(places, cubic_places)
    ends = c_begin + c_steps
    c_steps = at[ends % len(at)] + np.where(ends >= len(at), count, 0) - at[c_begin] if len(c_begin) else c_steps
    c_begin = at[c_begin] if len(c_begin) else c_begin
    trials = _Trials.of(begin, steps, kinds, PIECE_COST[kinds] + MISFIT_COST * squares / tolerance**2)
    trials = trials.and_more(
        c_begin,
        c_steps,
        np.full(len(c_begin), CUBIC),
        PIECE_COST[CUBIC] + MISFIT_COST * c_squares / tolerance**2,
        list(controls),
    )
    if outline.clear:
        trials = trials.chosen(_free_of(outline.closed_by_lens(places), trials.begin + 1, trials.begin + trials.steps))
    trials = trials.and_more(np.arange(count), np.ones(count), np.full(count, LINE), np.full(count, FALLBACK_COST))
    return _chain(outline, places, trials.with_gap(len(places)) if outline.is_open else trials)


@attrs.frozen
class _Trials:
    """Pieces that could be taken: from which candidate place, how many places on, kind, cost, and control points or
    None."""

    begin: np.ndarray
    steps: np.ndarray
    kinds: np.ndarray
    costs: np.ndarray
    controls: list

    @classmethod
    def of(
        cls,
        begin: list[int] | np.ndarray,
        steps: list[int] | np.ndarray,
        kinds: list[int] | np.ndarray,
        costs: list[float] | np.ndarray,
        controls: list[Arc | Line | np.ndarray | None] | None = None,
    ) -> _Trials:
        whole = [np.asarray(values, np.int64) for values in (begin, steps, kinds)]
        return cls(whole[0], whole[1], whole[2], np.asarray(costs, float), controls or [None] * len(begin))

    def with_gap(self, count: int) -> _Trials:
        """Of an open path, whose ends are the first and the last place: nothing runs from its end to its start but the
        gap itself."""
        return self.chosen(self.begin + self.steps <= count - 1).and_more([count - 1], [1], [GAP], [0.0])

    def chosen(self, which: np.ndarray) -> _Trials:
        """Those of a mask."""
        controls = [control for control, stays in zip(self.controls, which) if stays]
        return _Trials(self.begin[which], self.steps[which], self.kinds[which], self.costs[which], controls)

    def and_more(
        self,
        begin: list[int] | np.ndarray,
        steps: list[int] | np.ndarray,
        kinds: list[int] | np.ndarray,
        costs: list[float] | np.ndarray,
        controls: list[Arc | Line | np.ndarray | None] | None = None,
    ) -> _Trials:
        more = _Trials.of(begin, steps, kinds, costs, controls)
        return _Trials(
            np.concatenate([self.begin, more.begin]),
            np.concatenate([self.steps, more.steps]),
            np.concatenate([self.kinds, more.kinds]),
            np.concatenate([self.costs, more.costs]),
            self.controls + more.controls,
        )


def _chain(outline, places, trials, start=None):
    """(cost, pieces) of the cheapest closed chain of trials; ``start`` is a place that a chain surely goes through."""
    points, count = outline.points, len(places)
    order = np.argsort(trials.begin, kind="stable")
    begin, steps = trials.begin[order], trials.steps[order]
    cost, chain = _cheapest_around(
        outline, places, np.searchsorted(begin, np.arange(count + 1)), steps, trials.costs[order], start
    )
    pieces = []
    for trial in chain:
        first, end = int(begin[trial]), int(begin[trial] + steps[trial])
        last = int(places[end % count]) + (len(points) if end >= count else 0)
        pieces.append((int(trials.kinds[order[trial]]), int(places[first]), last, trials.controls[order[trial]]))
    return cost, pieces


def _cheapest_around(outline, places, first_trial, steps, costs, start):
    """Try several starts of the closed chain: a given one or the strongest corner, then breaks of the best chain so
    far."""
    count = len(places)
    if start is None:
        start = 0
        if len(outline.corners):
            start = int(np.searchsorted(places, outline.corners[np.argmax(outline.corner_strength[outline.corners])]))
    begin = np.repeat(np.arange(count), np.diff(first_trial))
    best = compiled_pieces.cheapest_chain(count, first_trial, steps, costs, start)
    for attempt in range(1, 5):
        first = best[1][0]
        start = (
            int(begin[first] + steps[first] // 2) % count
            if attempt == 2
            else int(begin[best[1][(attempt * len(best[1]) // 3) % len(best[1])]])
        )
        cost, chain = compiled_pieces.cheapest_chain(count, first_trial, steps, costs, start)
        if cost < best[0] - 1e-9:
            best = (cost, chain)
    return best


def simplify(
    outline: Any, pieces: list[tuple[int, int, int, Any]], tolerance: float, settings: FitSettings
) -> list[tuple[int, int, int, Any]]:
    """Replace runs of pieces by cubics within the tolerance asked for, where that saves more than it blurs.

    A cubic costs a quarter more here than where pieces are recognised. Where nearly the whole outline
    was recognised as lines and arcs, these stay: it was drawn with them.
    """
    count = len(outline.points)
    divided, locked = [], set()
    for kind, first, last, _ in pieces:
        stays = kind == GAP or (
            kind != CUBIC and last - first >= (outline.least_kept_px if outline.drawn else settings.whole_px)
        )
        parts = 1 if stays else int(np.clip((last - first) / settings.division_px, 2, 6))
        divided += np.round(first + (last - first) * np.arange(parts) / parts).astype(int).tolist()
        if stays and outline.drawn:
            locked.add(first % count)
    places = np.unique(np.array(divided) % count)
    nodes, ways_in, ways_out, corner = _cubic_ends(outline, places)
    begin, steps, squares, controls = compiled_cubics.cubic_trials(
        outline.points,
        places,
        nodes,
        ways_in,
        ways_out,
        corner,
        tolerance,
        outline.skips[places] - 0.5 * settings.skip_px,
    )
    stays = np.isin(places, list(locked))
    legal = _free_of(corner, begin + 1, begin + steps) & _free_of(stays, begin, begin + steps)
    trials = _Trials.of(
        begin[legal],
        steps[legal],
        np.full(legal.sum(), CUBIC),
        FREE_COST + MISFIT_COST * squares[legal] / tolerance**2,
        list(controls[legal]),
    )
    at = [int(np.searchsorted(places, piece[1] % count)) for piece in pieces]
    reach = [
        (int(np.searchsorted(places, piece[2] % count)) - start) % len(places) or len(places)
        for piece, start in zip(pieces, at)
    ]
    costs = [FREE_COST if piece[0] == CUBIC else PIECE_COST[piece[0]] for piece in pieces]
    longest = max(range(len(pieces)), key=lambda index: pieces[index][2] - pieces[index][1])
    trials = trials.and_more(at, reach, [piece[0] for piece in pieces], costs, [piece[3] for piece in pieces])
    found = _chain(outline, places, trials.with_gap(len(places)) if outline.is_open else trials, at[longest])[1]
    return found if len(found) < len(pieces) else pieces


def chain_of_cubics(
    outline: Any, long_ones: list[tuple[int, int, int, None]], tolerance: float, settings: FitSettings
) -> list[Any]:
    """Pieces of the fewest cubics between dense places, around some pieces that stay: these come with their curves in
    the place of control points.

    Where no cubic fits, a costly line stands in.
    """
    count = len(outline.points)
    number = max(8, round(count / settings.rough_spacing_px))
    places = _with_corners(np.round(np.arange(number) * count / number).astype(int), outline)
    for _, first, last, _ in long_ones:
        places = places[((places - first) % count == 0) | ((places - first) % count >= last - first)]
    places = np.union1d(places, np.array([place % count for piece in long_ones for place in piece[1:3]], int))
    nodes, ways_in, ways_out, corner = _cubic_ends(outline, places)
    curves = _between_cubics(outline, long_ones, places, nodes, ways_in, ways_out)
    begin, steps, squares, controls = compiled_cubics.cubic_trials(
        outline.points,
        places,
        nodes,
        ways_in,
        ways_out,
        corner,
        tolerance,
        outline.skips[places] - 0.5 * settings.skip_px,
    )
    at = np.searchsorted(places, np.array([piece[1] % count for piece in long_ones], int))
    taken = np.zeros(len(places), bool)
    taken[at] = True
    legal = _free_of(taken, begin, begin + steps)
    trials = _Trials.of(
        begin[legal],
        steps[legal],
        np.full(legal.sum(), CUBIC),
        1 + MISFIT_COST * squares[legal] / tolerance**2,
        list(controls[legal]),
    )
    free = np.nonzero(~taken)[0]
    trials = trials.and_more(free, np.ones(len(free)), np.full(len(free), LINE), np.full(len(free), FALLBACK_COST))
    reach = (np.searchsorted(places, [piece[2] % count for piece in long_ones]) - at) % len(places) if long_ones else []
    trials = trials.and_more(at, reach, [piece[0] for piece in long_ones], np.zeros(len(long_ones)), curves)
    return _chain(outline, places, trials, int(at[0]) if long_ones else None)[1]


def _between_cubics(outline, long_ones, places, nodes, ways_in, ways_out):
    """Curves of lines and arcs that stay, None of a gap; nodes at their ends are moved onto them, and cubics there
    follow their directions."""
    count, curves = len(outline.points), []
    found = [None if kind == GAP else primitive(outline, kind, first, last) for kind, first, last, _ in long_ones]
    ends_at = [np.searchsorted(places, (first % count, last % count)) for _, first, last, _ in long_ones]
    for (kind, *_), shape, pair in zip(long_ones, found, ends_at):
        for at in pair if kind != GAP else ():
            nodes[at] = _foot(kind, shape, nodes[at])
    for (kind, first, last, _), shape, pair in zip(long_ones, found, ends_at):
        curves.append(None if kind == GAP else _curve_between(outline, kind, shape, first, last, *nodes[pair]))
        if kind == GAP:
            continue
        leaving, arriving = end_directions(curves[-1])
        if not np.isin(places[pair[0]], outline.corners):
            ways_in[pair[0]] = leaving
        if not np.isin(places[pair[1]], outline.corners):
            ways_out[pair[1]] = arriving
    return curves


def primitive(outline: Any, kind: int, first: int, last: int) -> tuple[float, float, float]:
    """The line (normal and offset) or circle (centre and radius) through a range without what the lens rounds off at
    its ends."""
    low, high = (int(outline.skip(place)) for place in (first, last))
    trims = (low, high) if last - first > 2.5 * (low + high) else (0, 0)
    through = compiled_pieces.line_through if kind == LINE else compiled_pieces.circle_through
    return through(outline.points, first + trims[0], last - trims[1], 1)


def off_primitive(kind: int, found: tuple[float, float, float], points: np.ndarray) -> np.ndarray:
    """Signed distances (n,) of points from a line or circle."""
    if kind == LINE:
        return points @ np.array(found[:2]) + found[2]
    return np.hypot(points[:, 0] - found[0], points[:, 1] - found[1]) - found[2]


def _foot(kind, found, place):
    """The point of a line or circle nearest to a place."""
    if kind == LINE:
        normal = np.array(found[:2])
        return place - (normal @ place + found[2]) * normal
    spoke = place - np.array(found[:2])
    return np.array(found[:2]) + spoke * (found[2] / max(math.hypot(*spoke), 1e-12))


def _curve_between(outline, kind, found, first, last, start, end):
    """A line, or the arc that turns as far as the contour does around a circle's centre, between two places on it or
    near it."""
    if kind == LINE:
        return Line(start, end)
    points = outline.points[np.arange(first, last + 1) % len(outline.points)]
    return arc_of_bulge(start, end, bulge_of(points, found, start, end))


def bulge_of(points: np.ndarray, circle: tuple[float, float, float], start: np.ndarray, end: np.ndarray) -> float:
    """Tangent of a quarter of the sweep between two places, from the way that points (n, 2) take around a circle's
    centre."""
    x, y, _ = circle
    angles = np.unwrap(np.arctan2(points[:, 1] - y, points[:, 0] - x))
    between = math.atan2(end[1] - y, end[0] - x) - math.atan2(start[1] - y, start[0] - x)
    between += 2 * math.pi * round((angles[-1] - angles[0] - between) / (2 * math.pi))
    return math.tan(float(np.clip(between, -6.2, 6.2)) / 4)


def arc_of_bulge(start: np.ndarray, end: np.ndarray, bulge: float) -> Arc | Line:
    """The arc between two places whose sweep has a quarter with this tangent.

    The line where it is as good as straight, since so large a circle has no exact ends.
    """
    if abs(bulge) < STRAIGHT_BULGE:
        return Line(start, end)
    x, y, radius = compiled_joint._arc_from_bulge(start[0], start[1], end[0], end[1], bulge)
    return Arc((x, y), radius, math.atan2(start[1] - y, start[0] - x), 4 * math.atan(bulge))


def _free_of(marked, low, high):
    """Which cyclic ranges [low, high) of candidate places hold no marked one."""
    passed = np.concatenate([[0], np.cumsum(np.concatenate([marked, marked]))])
    return passed[high] - passed[low] == 0
