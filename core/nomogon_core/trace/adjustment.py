"""Joints, bulges and handles of a chain of pieces adjusted together, and the pieces that leave the contour mended."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.geometry.curves import Line, Spline, ends
from nomogon_core.trace import compiled_cubics, compiled_joint
from nomogon_core.trace.compiled_pieces import ARC, CUBIC, GAP, LINE
from nomogon_core.trace.distances import distances_to_run, points_along, signed_distance
from nomogon_core.trace.pieces import arc_of_bulge, as_cubic, bulge_of, primitive

if TYPE_CHECKING:
    from nomogon_core.geometry.curves import Arc
    from nomogon_core.trace.fit_settings import FitSettings

TIP_WINDOW_PX = 12
TIP_SHARE, CLEAR_SIDE_PX, CLEAR_SIDES, CLEAR_CUBICS = 0.04, 20, 4, 6
END_HOLD, FIXED = 0.01, 1e6
MINIMAX_POWERS, LEAST_SHARE = (3, 4, 6, 8, 8), 0.1
LEAST_HALF_PX, LEAST_BREAK = 10, 0.35


def adjusted(
    outline: Any,
    pieces: list[tuple[int, int, int, Any]],
    tolerance: float,
    settings: FitSettings,
) -> tuple[tuple[Arc | Line | Spline, ...], np.ndarray, tuple[list, Any]]:
    """Joint least squares over all pieces: curves, which of them leave the contour, and the pieces and state they came
    from."""
    if len(pieces) == 1:
        kind, first, last, control = pieces[0]
        if kind == CUBIC:
            return (Spline(control),), np.full(1, -1), (pieces, None)
        middle = (first + last) // 2
        pieces = [(kind, first, middle, None), (kind, middle, last, None)]
    for _ in range(settings.rebreaks if outline.clear else settings.free_rebreaks):
        state = _start_state(outline, pieces, settings)
        x = compiled_joint.adjust_jointly(
            state.x,
            state.kinds,
            state.columns,
            state.smooth,
            state.data,
            state.data_start,
            np.ones(len(state.data)),
            state.hold,
            settings.tangent_weight_px,
            4,
            settings.leash_px,
        )
        moved = _rebroken(outline, pieces, x[: 2 * len(pieces)].reshape(-1, 2), 3 * settings.leash_px)
        if moved is None:
            break
        pieces = moved
    x, state = _with_tips(outline, pieces, x, state, settings)
    curves, bad = _held(outline, pieces, x, state, tolerance, settings)
    for power in MINIMAX_POWERS if not outline.clear else ():
        if bad.max() < 0:
            break
        x = _evened(x, state, power, tolerance, settings)
        fairer, worse = _held(outline, pieces, x, state, tolerance, settings)
        if (worse >= 0).sum() <= (bad >= 0).sum():
            curves, bad = fairer, worse
    return curves, bad, (pieces, state)


def _with_tips(outline, pieces, x, state, settings):
    """Unknowns and state with the tips that ran away fixed where they may be at most, and the rest adjusted to that."""
    drawn_back = _tips_held(outline, pieces, x, state.smooth)
    ran_away = np.nonzero(drawn_back != x)[0]
    if not len(ran_away):
        return x, state
    hold = state.hold.copy()
    for place in ran_away:
        hold[place - place % 2 : place - place % 2 + 2] = FIXED
    state = attrs.evolve(state, x=np.where(hold >= FIXED, drawn_back, state.x), hold=hold)
    return compiled_joint.adjust_jointly(
        drawn_back,
        state.kinds,
        state.columns,
        state.smooth,
        state.data,
        state.data_start,
        np.ones(len(state.data)),
        hold,
        settings.tangent_weight_px * compiled_joint.STIFFENING**2,
        2,
        settings.leash_px,
    ), state


def _held(outline, pieces, x, state, tolerance, settings):
    """Curves of the adjusted unknowns with their tips drawn back, and where each leaves the contour."""
    x = np.where(state.hold >= FIXED, state.x, x)
    curves = _curves(_tips_held(outline, pieces, x, state.smooth), state)
    return curves, _leaving(outline, pieces, curves, state.smooth, tolerance, settings)


def _evened(x, state, power, tolerance, settings):
    """Unknowns for which the largest distances count for more: least p-th powers by reweighted least squares (Lawson
    1961, Rice and Usow 1968)."""
    away = compiled_joint.distances_along(x, state.kinds, state.columns, state.data, state.data_start)
    weights = np.maximum(away / tolerance, LEAST_SHARE) ** (power - 2)
    return compiled_joint.adjust_jointly(
        x,
        state.kinds,
        state.columns,
        state.smooth,
        state.data,
        state.data_start,
        weights / weights.mean(),
        state.hold,
        settings.tangent_weight_px * compiled_joint.STIFFENING**2,
        2,
        settings.leash_px,
    )


def _tips_held(outline, pieces, x, smooth):
    """Sharp joints that ran away from the contour, as lines do that meet at a small angle, are drawn back to near its
    tip."""
    count, x = len(outline.points), x.copy()
    for index in np.nonzero(~smooth)[0]:
        if GAP in (pieces[index][0], pieces[index - 1][0]):
            continue
        joint = x[2 * index : 2 * index + 2]
        near = outline.points[(pieces[index][1] + np.arange(-TIP_WINDOW_PX, TIP_WINDOW_PX + 1)) % count]
        away = np.hypot(*(near - joint).T)
        tip = near[away.argmin()]
        reach = _farthest_tip(outline, pieces, index)
        if away.min() > reach:
            x[2 * index : 2 * index + 2] = tip + (joint - tip) * (reach / away.min())
    return x


def _farthest_tip(outline, pieces, joint):
    """How far beyond the contour a corner may be: as far as the lens draws it back, where its sides are long and clear
    enough to look that far."""
    sides = (pieces[joint], pieces[joint - 1])
    shorter, recession = min(last - first for _, first, last, _ in sides), outline.recession(sides[0][1])
    clear_sides = CLEAR_CUBICS if any(kind == CUBIC for kind, *_ in sides) else CLEAR_SIDES
    if (outline.clear or (outline.drawn and outline.blur_px > 0)) and shorter >= max(
        CLEAR_SIDE_PX, clear_sides * recession
    ):
        return recession
    further = 0.0 if outline.rough else TIP_SHARE * max(0, shorter - CLEAR_SIDE_PX)
    return min(recession, outline.sure_tip_px + further)


def with_halves(
    outline: Any, pieces: list[tuple[int, int, int, Any]], tolerance: float, settings: FitSettings
) -> tuple[tuple[Arc | Line | Spline, ...], np.ndarray, tuple[list, Any]]:
    """The joint adjustment, in which pieces that leave the contour are halved; as :func:`adjusted`."""
    for _ in range(settings.halvings):
        curves, bad, (pieces, state) = adjusted(outline, pieces, tolerance, settings)
        halved = _halved(outline, pieces, bad)
        if all(one is other for one, other in zip(halved, pieces)) and len(halved) == len(pieces):
            return curves, bad, (pieces, state)
        pieces = halved
    return adjusted(outline, pieces, tolerance, settings)


def adjust(outline: Any, pieces: Any, tolerance: Any, settings: Any) -> Any:
    """The joint adjustment; pieces that leave the contour are halved, and in the end become lines through it."""
    curves, bad, (pieces, state) = with_halves(outline, pieces, tolerance, settings)
    if bad.max() >= 0:
        unmoved = _curves(state.x, state)
        bad_unmoved = _leaving(outline, pieces, unmoved, state.smooth, tolerance, settings)
        if (bad_unmoved >= 0).sum() < (bad >= 0).sum():
            curves, bad = unmoved, bad_unmoved
    return _replace_bad(outline, pieces, curves, bad, tolerance)


def _halved(outline, pieces, bad):
    """Pieces with each bad one that is long enough as two cubics, which meet where it left the contour the most."""
    result = []
    for piece, worst in zip(pieces, bad):
        kind, first, last, _ = piece
        if worst < 0 or (last - first < LEAST_HALF_PX and kind == LINE):
            result.append(piece)
            continue
        if last - first < LEAST_HALF_PX:
            result.append((LINE, first, last, None))
            continue
        if kind != CUBIC and not outline.drawn and not outline.clear:
            result.append(as_cubic(outline, first, last))
            continue
        breaks = np.array(
            [
                first,
                int(np.clip(worst, first + LEAST_BREAK * (last - first), last - LEAST_BREAK * (last - first))),
                last,
            ]
        )
        result += [as_cubic(outline, begin, end) for begin, end in zip(breaks[:-1], breaks[1:])]
    return result


def _rebroken(outline, pieces, joints, reach):
    """Pieces whose breaks follow their joints along the contour, but at tips that the lens closed; None when no break
    moves by two pixels."""
    count = len(outline.points)
    shifts = []
    for (_, first, last, _), before, joint in zip(pieces, [pieces[-1], *pieces[:-1]], joints):
        low, high = -min(reach, (before[2] - before[1]) // 3), min(reach, (last - first) // 3)
        offsets = np.arange(int(low), int(high) + 1)
        away = np.hypot(*(outline.points[(first + offsets) % count] - joint).T)
        shifts.append(
            0
            if GAP in (before[0], pieces[len(shifts)][0]) or outline.closed_by_lens(first)
            else int(offsets[away.argmin()])
        )
    if np.abs(shifts).max() < 2:
        return None
    return [
        (kind, first + shift, last + following, control)
        for (kind, first, last, control), shift, following in zip(pieces, shifts, [*shifts[1:], shifts[0]])
    ]


@attrs.frozen
class Anchors:
    """Where a run of pieces that is looked at alone begins and ends, as what its gap is put in with.

    Attributes:
        end, start: places of the run's end and of its start, which stay.
        leaving, arriving: directions in radians there that stay too, along the outline; None at a corner.
    """

    end: tuple
    leaving: float | None
    start: tuple
    arriving: float | None


@attrs.frozen
class _State:
    """Unknowns of the joint adjustment and what stays fixed in it."""

    x: np.ndarray
    kinds: np.ndarray
    columns: np.ndarray
    smooth: np.ndarray
    data: np.ndarray
    data_start: np.ndarray
    hold: np.ndarray


def _primitives(outline, pieces):
    """Line (normal, offset), circle (centre, radius) or control points of each piece."""
    found = []
    for kind, first, last, control in pieces:
        found.append(control if kind == CUBIC else None if kind == GAP else primitive(outline, kind, first, last))
    return found


def _direction(outline, piece, primitive, place, at_start):
    kind, first, last, _ = piece
    points, count = outline.points, len(outline.points)
    if kind == CUBIC:
        way = primitive[1] - primitive[0] if at_start else primitive[3] - primitive[2]
    elif kind == LINE:
        way = np.array([primitive[1], -primitive[0]])
        way = way * math.copysign(1.0, float(way @ (points[last % count] - points[first % count])))
    else:
        spoke = place - np.array(primitive[:2])
        way = np.array([-spoke[1], spoke[0]])
        reach = min(4, last - first)
        low = first if at_start else last - reach
        way = way * math.copysign(1.0, float(way @ (points[(low + reach) % count] - points[low % count])))
    return way / max(math.hypot(*way), 1e-12)


def _joint_place(before, after, primitive_before, primitive_after, start):
    """The point near ``start`` on both primitives, or nearest to both where they touch."""
    if after[0] == CUBIC:
        return primitive_after[0]
    if before[0] == CUBIC:
        return primitive_before[3]
    place = start.copy()
    for _ in range(12):
        values, slopes = [], []
        for piece, found in ((before, primitive_before), (after, primitive_after)):
            if piece[0] == LINE:
                values.append(found[0] * place[0] + found[1] * place[1] + found[2])
                slopes.append(found[:2])
            else:
                spoke = place - np.array(found[:2])
                size = math.hypot(*spoke) + 1e-12
                values.append(size - found[2])
                slopes.append(spoke / size)
        place = place - np.linalg.pinv(np.array(slopes), rcond=0.08) @ np.array(values)
    return place if math.dist(place, start) < 4 else start


def _touch(before, after, primitive_before, primitive_after, settings):
    """Whether a line and a circle, or two circles, are so near to touching that their joint was drawn smooth; two lines
    never are."""
    if before[0] == LINE and after[0] == LINE:
        return False
    shortest = min((last - first for kind, first, last, _ in (before, after) if kind == ARC))
    near = settings.touch_px * max(1.0, settings.unsure_arc_px / max(shortest, 1))
    if LINE in (before[0], after[0]):
        line, circle = (primitive_before, primitive_after) if before[0] == LINE else (primitive_after, primitive_before)
        return abs(abs(line[0] * circle[0] + line[1] * circle[1] + line[2]) - circle[2]) < near
    apart, radii = math.dist(primitive_before[:2], primitive_after[:2]), (primitive_before[2], primitive_after[2])
    return min(abs(apart - sum(radii)), abs(apart - abs(radii[0] - radii[1]))) < near


def _joints(outline, pieces, primitives, settings):
    """Where pieces meet to begin with (K x 2), and which joints are smooth (K)."""
    points, count = outline.points, len(outline.points)
    corners = set(outline.corners.tolist())
    joints, smooth = np.empty((len(pieces), 2)), np.zeros(len(pieces), bool)
    for index, piece in enumerate(pieces):
        before = pieces[index - 1]
        start = points[piece[1] % count]
        if GAP in (piece[0], before[0]):
            anchors = piece[3] if piece[0] == GAP else before[3]
            joints[index] = start if anchors is None else anchors.end if piece[0] == GAP else anchors.start
            smooth[index] = (
                anchors is not None and (anchors.leaving if piece[0] == GAP else anchors.arriving) is not None
            )
            continue
        first = _direction(outline, before, primitives[index - 1], start, False)
        second = _direction(outline, piece, primitives[index], start, True)
        kink = math.degrees(math.acos(float(np.clip(first @ second, -1, 1))))
        joints[index] = _joint_place(before, piece, primitives[index - 1], primitives[index], start)
        if outline.drawn and CUBIC not in (piece[0], before[0]):
            smooth[index] = kink < settings.most_kink_degrees and _touch(
                before, piece, primitives[index - 1], primitives[index], settings
            )
            continue
        bound = settings.free_smooth_degrees if CUBIC in (piece[0], before[0]) else settings.smooth_degrees
        smooth[index] = kink < bound and not (piece[1] % count in corners and kink > 8)
    return joints, smooth


def _own_unknowns(piece, primitive, start, end, points):
    """The unknowns of a piece beside its joints: an arc's bulge, a cubic's two handles, what holds a gap."""
    kind, first, last, anchors = piece
    if kind == ARC:
        return [bulge_of(points[np.arange(first, last + 1) % len(points)], primitive, start, end)]
    if kind == CUBIC:
        return np.concatenate([primitive[1] - primitive[0], primitive[2] - primitive[3]])
    if kind == GAP:
        return [0.0, 0.0] if anchors is None else [anchors.leaving or 0.0, anchors.arriving or 0.0]
    return []


def _start_state(outline, pieces, settings):
    number = len(pieces)
    primitives = _primitives(outline, pieces)
    joints, smooth = _joints(outline, pieces, primitives, settings)
    columns, extra, data, data_start, holds = [], [], [], [0], []
    at = 2 * number
    for index, piece in enumerate(pieces):
        kind, first, last, anchors = piece
        after = (index + 1) % number
        columns.append(at)
        extra.append(_own_unknowns(piece, primitives[index], joints[index], joints[after], outline.points))
        if kind == GAP:
            held = END_HOLD if anchors is None else FIXED
            holds += [(2 * joint + axis, held) for joint in (index, after) for axis in (0, 1)]
            holds += [(at, FIXED), (at + 1, FIXED)]
            data.append(np.empty((0, 2)))
        else:
            data.append(_counted_points(outline, first, last, smooth[index], smooth[after], settings))
        at += compiled_joint.EXTRAS[kind]
        data_start.append(data_start[-1] + len(data[-1]))
    x = np.concatenate([joints.ravel(), *[np.asarray(values, float) for values in extra]])
    hold = np.zeros(len(x))
    for place, weight in holds:
        hold[place] = weight
    return _State(
        x,
        np.array([piece[0] for piece in pieces]),
        np.array(columns),
        smooth,
        np.vstack(data),
        np.array(data_start),
        hold,
    )


def _counted_points(outline, first, last, smooth_start, smooth_end, settings):
    """Points of a piece that count in the adjustment: without the rounded-off pixels at sharp ends."""
    count = len(outline.points)
    head, tail = outline.skip(first), outline.skip(last)
    share = min(1.0, 0.5 * (last - first) / (head + tail))
    low = first + (0 if smooth_start else math.ceil(share * head))
    high = last - (0 if smooth_end else math.ceil(share * tail))
    if high - low < 2:
        low, high = first, last
    stride = max(1, (high - low) // 200)
    return outline.points[np.arange(low, high + 1, stride) % count]


def _curves(x, state):
    """Curves of the adjusted unknowns; smooth cubic ends are made exactly smooth."""
    number = len(state.kinds)
    x = x.copy()
    for index in range(number):
        if state.smooth[index]:
            _align_handles(x, state, (index - 1) % number, index)
    curves = []
    for index, kind in enumerate(state.kinds):
        start = x[2 * index : 2 * index + 2]
        following = (index + 1) % number
        end = x[2 * following : 2 * following + 2]
        extra = x[state.columns[index] :]
        if kind in (LINE, GAP):
            curves.append(Line(start, end))
        elif kind == CUBIC:
            curves.append(Spline([start, start + extra[:2], end + extra[2:4], end]))
        else:
            curves.append(arc_of_bulge(start, end, extra[0]))
    return tuple(curves)


def _align_handles(x, state, before, after):
    """Turn the handles of cubics at a smooth joint to one common direction."""
    if CUBIC not in (state.kinds[before], state.kinds[after]):
        return
    number = len(state.kinds)
    _, arriving = compiled_joint.end_angles(
        state.kinds[before], compiled_joint._joint_of(x, before, number), x[state.columns[before] :]
    )
    leaving, _ = compiled_joint.end_angles(
        state.kinds[after], compiled_joint._joint_of(x, after, number), x[state.columns[after] :]
    )
    if state.kinds[before] == CUBIC and state.kinds[after] == CUBIC:
        angle = arriving + math.remainder(leaving - arriving, 2 * math.pi) / 2
    else:
        angle = leaving if state.kinds[before] == CUBIC else arriving
    way = np.array([math.cos(angle), math.sin(angle)])
    if state.kinds[after] == CUBIC:
        column = state.columns[after]
        x[column : column + 2] = way * math.hypot(*x[column : column + 2])
    if state.kinds[before] == CUBIC:
        column = state.columns[before] + 2
        x[column : column + 2] = -way * math.hypot(*x[column : column + 2])


def _leaving(outline, pieces, curves, smooth, tolerance, settings):
    """Where each piece leaves the contour the most, -1 of those that stay; next to a corner, which the lens rounds off,
    it may be farther away."""
    count, number = len(outline.points), len(curves)
    leaving = np.full(number, -1)
    for index, (kind, first, last, _) in enumerate(pieces):
        if kind == GAP:
            continue
        places = np.arange(first, last + 1, max(1, (last - first) // 200))
        points = outline.points[places % count]
        near = {other for other in (index, (index - 1) % number, (index + 1) % number) if pieces[other][0] != GAP}
        away = np.min([np.abs(signed_distance(points, curves[other])) for other in near], axis=0)
        after = (index + 1) % number
        run = points_along(curves[index])
        along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(run, axis=0).T))])
        slack, own_slack = np.full(len(places), 0.03), np.full(len(run), 0.03)
        for joint, place, passed, gone in (
            (index, first, places - first, along),
            (after, last, last - places, along[-1] - along),
        ):
            if not smooth[joint]:
                tip = _farthest_tip(outline, pieces, joint)
                slack[passed <= outline.skip(place)] = tip
                own_slack[gone <= outline.skip(place) + tip] = tip
        if np.any(away > 1.02 * tolerance + slack) or (
            kind == CUBIC and compiled_cubics.folds(np.array(curves[index].points))
        ):
            leaving[index] = places[np.argmax(away - slack)]
            continue
        wide = outline.points[np.arange(first - 8, last + 9, max(1, (last - first) // 300)) % count]
        astray = distances_to_run(run, wide) - 1.02 * tolerance - own_slack
        if np.any(astray > 0):
            leaving[index] = int(first + (last - first) * along[astray.argmax()] / max(along[-1], 1e-9))
    return leaving


def _replace_bad(outline, pieces, curves, bad, tolerance):
    """The last resort: pieces that left the contour become lines through it (Ramer 1972, Douglas and Peucker 1973)."""
    if bad.max() < 0:
        return curves
    count, number = len(outline.points), len(pieces)
    result = []
    for index, (_, first, last, _) in enumerate(pieces):
        if bad[index] < 0:
            result.append(curves[index])
            continue
        points = outline.points[np.arange(first, last + 1) % count].copy()
        if bad[index - 1] < 0:
            points[0] = ends(curves[index])[0]
        if bad[(index + 1) % number] < 0:
            points[-1] = ends(curves[index])[1]
        kept = points[polyline(points, tolerance)]
        result += [Line(a, b) for a, b in zip(kept[:-1], kept[1:])]
    return tuple(result)


def polyline(points: np.ndarray, tolerance: float) -> list[int]:
    """Indices of the points (n, 2) that lines within the tolerance go through."""
    kept, open_ranges = {0, len(points) - 1}, [(0, len(points) - 1)]
    while open_ranges:
        first, last = open_ranges.pop()
        if last - first < 2:
            continue
        away = np.abs(signed_distance(points[first + 1 : last], Line(points[first], points[last])))
        worst = int(away.argmax())
        if away[worst] > tolerance:
            middle = first + 1 + worst
            kept.add(middle)
            open_ranges += [(first, middle), (middle, last)]
    return sorted(kept)
