"""A closed contour as the fewest lines, arcs, circles and cubics within a tolerance.

Pieces are recognised at the contour's own noise, since a generous tolerance would turn short arcs into
lines; only the free-form stretches are then simplified to the tolerance asked for. Breaks between pieces
are chosen all at once by dynamic programming over candidate places (in the spirit of Perez and Vidal 1994
and of Selinger 2003); joints, bulges and handles are adjusted together; every contour point is verified.
"""

import math

import attrs
import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.signal import savgol_filter

from nomogon_core.errors import TraceError
from nomogon_core.geometry import Arc, Circle, Line, Spline, bezier, closed_area, reverse
from nomogon_core.trace import compiled_fit as compiled
from nomogon_core.trace.compiled_fit import ARC, CUBIC, LINE

PIECE_COST = np.array([1.0, 1.3, 1.9])
MISFIT_COST = 0.15
WANDER_WINDOW_PX = 151
MOST_WANDER_PX = 0.25
STRAIGHT_SHARE = 0.05


@attrs.frozen
class FitSettings:
    """The fitter's tolerances, in pixels and degrees; one place for all of them.

    Attributes:
        least_detection_px: pieces are never recognised at a finer tolerance than this.
        noise_factor: recognition tolerance as a multiple of the contour's noise.
        corner_degrees: a turn over the corner window beyond which a place is a corner.
        corner_window_px: length of the lines whose directions are compared there.
        skip_px: rounded-off length next to a corner that does not count for recognition.
        slack_px: how much more those pixels may be off.
        smooth_degrees: a kink below which a joint is made smooth; free_smooth_degrees where a cubic ends.
        tangent_weight_px: weight of a smooth joint's kink in the first round, in pixels a radian.
        locked_px: recognised lines and arcs at least this long survive simplification.
        leash_px: how far a joint may move before the points are shared out anew between its pieces.
        rebreaks: how often that is done at most.
        candidates, cubic_candidates: how many places are tried around a contour.
    """

    least_detection_px: float = 0.25
    noise_factor: float = 4.0
    corner_degrees: float = 28.0
    corner_window_px: int = 6
    skip_px: float = 3.0
    slack_px: float = 1.3
    smooth_degrees: float = 14.0
    free_smooth_degrees: float = 24.0
    tangent_weight_px: float = 60.0
    locked_px: float = 20.0
    leash_px: float = 8.0
    rebreaks: int = 6
    candidates: int = 300
    cubic_candidates: int = 80


SETTINGS = FitSettings()


@attrs.frozen
class FittedOutline:
    """Curves of one closed outline, counter-clockwise (x toward y) for its enclosed area to be positive.

    Attributes:
        curves: in order, each beginning where the one before ends.
        u95: 95 % uncertainty of each curve's size or place from the contour's noise alone, in the unit of the points:
            of the radius for arcs and circles, of the place across for lines and splines.
        max_deviation, rms_deviation: of the contour from the curves.
    """

    curves: tuple
    u95: tuple
    max_deviation: float
    rms_deviation: float


@attrs.frozen
class _Outline:
    """A resampled contour with what is known of its corners."""

    points: np.ndarray
    arc_lengths: np.ndarray
    corners: np.ndarray
    corner_strength: np.ndarray
    before: np.ndarray
    before_center: np.ndarray
    after: np.ndarray
    after_center: np.ndarray


def fit_outline(points, *, pixel, tolerance, noise_px=0.0, settings=SETTINGS):
    """Fit a closed contour.

    Args:
        points: (n, 2) contour in any length unit.
        pixel: size of a pixel in that unit.
        tolerance: how far a curve may leave the contour, in that unit.
        noise_px: wobble known from other contours of the same picture, in pixels.

    Returns:
        :class:`FittedOutline` in the unit of the points.

    Raises:
        TraceError: the tolerance is not positive or the contour too short.
    """
    if not (math.isfinite(tolerance) and tolerance > 0):
        raise TraceError("The tolerance must be more than zero; 0.1 mm suits most parts.")
    scaled = np.ascontiguousarray(np.asarray(points, float) / pixel)
    shift = scaled.mean(axis=0)
    contour = _resample(scaled - shift)
    if len(contour) < 12:
        raise TraceError(f"An outline of {len(contour)} pixels around is too short to be fitted; raise the speck size.")
    noise = max(_noise(contour), noise_px)
    detection = min(max(settings.least_detection_px, settings.noise_factor * noise), max(tolerance / pixel, 0.1))
    circle = _as_circle(contour, detection)
    if circle is not None:
        curves = (circle,)
    else:
        outline = _describe(contour, settings)
        pieces = _best_pieces(outline, detection, settings)
        if tolerance / pixel > 1.5 * detection:
            pieces = _simplify(outline, pieces, tolerance / pixel, settings)
        curves = _adjust(outline, pieces, max(detection, _allowed(pieces, detection, tolerance / pixel)), settings)
    if closed_area(curves) < 0:
        curves = tuple(reverse(curve) for curve in reversed(curves))
    distances, owner = _distances(contour, curves)
    u95 = tuple(_uncertainty(curve, distances[owner == index]) * pixel for index, curve in enumerate(curves))
    back = tuple(_move(curve, shift, pixel) for curve in curves)
    return FittedOutline(back, u95, float(np.abs(distances).max()) * pixel, float(np.sqrt(np.mean(distances**2))) * pixel)


def _allowed(pieces, detection, tolerance):
    return tolerance if any(piece[0] == CUBIC for piece in pieces) else detection


def _resample(points, step=1.0):
    """The closed contour at even steps of about one pixel."""
    closed = np.vstack([points, points[:1]])
    runs = np.hypot(*np.diff(closed, axis=0).T)
    keep = np.concatenate([[True], runs > 1e-9])
    closed, along = closed[keep], np.concatenate([[0], np.cumsum(runs[runs > 1e-9])])
    count = max(12, int(round(along[-1] / step)))
    places = np.arange(count) * along[-1] / count
    return np.column_stack([np.interp(places, along, closed[:, 0]), np.interp(places, along, closed[:, 1])])


def contour_noise(points, pixel):
    """Standard deviation of a contour's wobble, in pixels.

    The fine wobble is the median departure from local parabolas. Texture beside an edge makes it wander more
    slowly; that is read off the contour's long straight stretches, where there are any.
    """
    return _noise(_resample(np.asarray(points, float) / pixel))


def _noise(contour):
    short = min(31, 2 * (len(contour) // 4) - 1)
    fine = float(np.median(_departure(contour, short, 2)) / 0.6745)
    if len(contour) < 3 * WANDER_WINDOW_PX:
        return fine
    away = np.sqrt(uniform_filter1d(_departure(contour, WANDER_WINDOW_PX, 1) ** 2, WANDER_WINDOW_PX, mode="wrap"))
    straight = away[away < MOST_WANDER_PX]
    return max(fine, float(np.median(straight))) if len(straight) > STRAIGHT_SHARE * len(contour) else fine


def _departure(contour, window, order):
    away = contour - savgol_filter(contour, window, order, axis=0, mode="wrap")
    return np.hypot(away[:, 0], away[:, 1])


def _as_circle(contour, tolerance):
    """The whole contour as a full circle, or None."""
    x, y, radius = compiled.circle_through(contour, 0, len(contour) - 1, 1)
    if radius <= 0:
        return None
    away = np.hypot(contour[:, 0] - x, contour[:, 1] - y) - radius
    area = 0.5 * abs(np.sum(contour[:, 0] * np.roll(contour[:, 1], -1) - contour[:, 1] * np.roll(contour[:, 0], -1)))
    round_enough = np.abs(away).max() <= max(1.4 * tolerance, 6 * away.std()) and np.abs(away).max() <= min(2.5 * tolerance, 0.25 * radius)
    if round_enough and abs(area - math.pi * radius**2) < 0.03 * area + 2:
        return Circle((x, y), radius)
    return None


def _describe(contour, settings):
    count = len(contour)
    runs = np.hypot(*(np.roll(contour, -1, axis=0) - contour).T)
    window = min(settings.corner_window_px, max(3, count // 8))
    before, before_center, after, after_center = compiled.one_sided_directions(contour, window, 2)
    near_before, _, near_after, _ = compiled.one_sided_directions(contour, max(3, window // 2), 2)
    wide, near = _turns(before, after), _turns(near_before, near_after)
    strength = np.minimum(np.abs(wide), 1.35 * np.abs(near))
    corners = []
    for index in np.argsort(-strength):
        if strength[index] < math.radians(settings.corner_degrees):
            break
        if all(min((index - other) % count, (other - index) % count) > 0.8 * window for other in corners):
            corners.append(int(index))
    return _Outline(contour, np.concatenate([[0], np.cumsum(runs)]), np.array(sorted(corners), int), strength,
                    before, before_center, after, after_center)


def _turns(before, after):
    return np.arctan2(before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0], (before * after).sum(axis=1))


def _with_corners(places, outline):
    """Candidate places with every corner among them and none right beside one."""
    count, corners = len(outline.points), outline.corners
    places = np.unique(np.concatenate([places % count, corners]))
    if len(corners):
        apart = np.abs(places[:, None] - corners[None])
        nearest = np.minimum(apart, count - apart).min(axis=1)
        places = places[(nearest == 0) | (nearest >= 2)]
    return places.astype(np.int64)


def _best_pieces(outline, tolerance, settings):
    """Pieces (kind, first, last, control points or None) around the contour: coarse places, then fine ones near the breaks."""
    count = len(outline.points)
    coarse = min(settings.candidates, count)
    cubic = min(settings.cubic_candidates, count)
    cubic_places = _with_corners(np.round(np.arange(cubic) * count / cubic).astype(int), outline)
    places = np.union1d(_with_corners(np.round(np.arange(coarse) * count / coarse).astype(int), outline), cubic_places)
    found = _solve(outline, places, cubic_places, tolerance, settings)
    if found is None:
        raise TraceError("An outline could not be fitted at this tolerance; use a larger one.")
    cost, pieces = found
    breaks = np.array([piece[1] % count for piece in pieces])
    half = max(1, math.ceil(count / coarse))
    stride = max(1, math.ceil(len(breaks) * (2 * half + 1) / 700))
    window = np.unique(np.concatenate([np.arange(-half, half + 1, stride), [0]]))
    fine_cubic = np.round(np.array([-0.66, -0.33, 0, 0.33, 0.66]) * count / cubic).astype(int)
    cubic_places = _with_corners((breaks[:, None] + fine_cubic).ravel(), outline)
    places = np.union1d(_with_corners((breaks[:, None] + window).ravel(), outline), cubic_places)
    refined = _solve(outline, places, cubic_places, tolerance, settings)
    if refined is not None and refined[0] <= cost + 1e-9:
        pieces = refined[1]
    return _merged(outline, pieces, tolerance, settings)


def _merged(outline, pieces, tolerance, settings):
    """Neighbours that one line or one arc covers become one; a short piece goes to the neighbours where they can meet.

    The chain had to begin somewhere, and candidate places are not everywhere; this mends both.
    """
    changed = True
    while changed and len(pieces) > 2:
        changed = False
        for index in range(len(pieces)):
            for span in (3, 2):
                joined = _join(outline, [pieces[(index + step) % len(pieces)] for step in range(span)], tolerance, settings) if len(pieces) > span else None
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
    if np.isin(inner, outline.corners).any():
        return None
    if len(run) == 2:
        kinds = {piece[0] for piece in run} - {CUBIC}
        return next(([(kind, first, last, None)] for kind in sorted(kinds) if _covers(outline, kind, first, last, tolerance, settings)), None)
    if run[1][2] - run[1][1] > 60 or CUBIC in (run[0][0], run[2][0]):
        return None
    begin = first + run[0][2] - run[0][1]
    for share in (0.5, 0.25, 0.75, 0.0, 1.0):
        middle = int(round(begin + share * (run[1][2] - run[1][1])))
        if _covers(outline, run[0][0], first, middle, tolerance, settings) and _covers(outline, run[2][0], middle, last, tolerance, settings):
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
    begin, steps, kinds, _ = compiled.line_and_arc_trials(outline.points, outline.arc_lengths, places[order], tolerance, settings.skip_px, settings.slack_px)
    start = int(np.nonzero(order == 0)[0][0])
    return bool(np.any((begin == start) & (steps == 1) & (kinds == kind)))


def _cubic_ends(outline, places):
    """Places and directions at which cubics begin and end: smoothed contour, or the crossing of both sides at a corner."""
    points, count = outline.points, len(outline.points)
    reach = min(3, max(2, count // 8))
    steps = np.arange(-reach, reach + 1)
    inverse = np.linalg.pinv(np.column_stack([np.ones(len(steps)), steps, steps**2]))
    local = np.einsum("ab,mbk->mak", inverse, points[(places[:, None] + steps) % count])
    nodes = local[:, 0].copy()
    ways = local[:, 1] / np.maximum(np.hypot(local[:, 1, 0], local[:, 1, 1]), 1e-12)[:, None]
    ways_in, ways_out = ways.copy(), ways.copy()
    corner = np.isin(places, outline.corners)
    for index in np.nonzero(corner)[0]:
        place = places[index]
        nodes[index] = _corner_point(outline, place)
        ways_in[index], ways_out[index] = outline.before[place], outline.after[place]
    return nodes, ways_in, ways_out, corner


def _corner_point(outline, place):
    """Where the lines through both sides of a corner cross, if that is near."""
    matrix = np.column_stack([outline.before[place], -outline.after[place]])
    if abs(np.linalg.det(matrix)) > 0.3:
        along = np.linalg.solve(matrix, outline.after_center[place] - outline.before_center[place])
        crossing = outline.before_center[place] + along[0] * outline.before[place]
        if math.dist(crossing, outline.points[place]) < 2.5:
            return crossing
    return outline.points[place]


def _solve(outline, places, cubic_places, tolerance, settings, *, straight=True):
    """Cheapest closed chain of pieces between candidate places: (cost, pieces) or None."""
    points, count = outline.points, len(places)
    begin, steps, kinds, squares = (np.zeros(0, int),) * 3 + (np.zeros(0),)
    if straight:
        begin, steps, kinds, squares = compiled.line_and_arc_trials(
            points, outline.arc_lengths, places, tolerance, settings.skip_px, settings.slack_px)
    nodes, ways_in, ways_out, corner = _cubic_ends(outline, cubic_places)
    c_begin, c_steps, c_squares, controls = compiled.cubic_trials(
        points, cubic_places, nodes, ways_in, ways_out, corner, tolerance, min(settings.skip_px, 1.5))
    at = np.searchsorted(places, cubic_places)
    ends = c_begin + c_steps
    c_steps = at[ends % len(at)] + np.where(ends >= len(at), count, 0) - at[c_begin] if len(c_begin) else c_steps
    c_begin = at[c_begin] if len(c_begin) else c_begin
    begin = np.concatenate([begin, c_begin]).astype(np.int64)
    steps = np.concatenate([steps, c_steps]).astype(np.int64)
    kinds = np.concatenate([kinds, np.full(len(c_begin), CUBIC)]).astype(np.int64)
    squares = np.concatenate([squares, c_squares])
    control_of = np.concatenate([np.full(len(begin) - len(c_begin), -1), np.arange(len(c_begin))])
    if not len(begin):
        return None
    order = np.argsort(begin, kind="stable")
    begin, steps, kinds, control_of = begin[order], steps[order], kinds[order], control_of[order]
    costs = PIECE_COST[kinds] + MISFIT_COST * squares[order] / tolerance**2
    first_trial = np.searchsorted(begin, np.arange(count + 1))
    best = _cheapest_around(outline, places, first_trial, steps, costs)
    if best is None:
        return None
    cost, chain = best
    pieces = []
    for trial in chain:
        first, end = int(begin[trial]), int(begin[trial] + steps[trial])
        last = int(places[end % count]) + (len(points) if end >= count else 0)
        control = controls[control_of[trial]] if control_of[trial] >= 0 else None
        pieces.append((int(kinds[trial]), int(places[first]), last, control))
    return cost, pieces


def _cheapest_around(outline, places, first_trial, steps, costs):
    """Try several starts of the closed chain: the strongest corner first, then breaks of the best chain so far."""
    count = len(places)
    start = 0
    if len(outline.corners):
        start = int(np.searchsorted(places, outline.corners[np.argmax(outline.corner_strength[outline.corners])]))
    begin = np.repeat(np.arange(count), np.diff(first_trial))
    best = None
    for attempt in range(5):
        cost, chain = compiled.cheapest_chain(count, first_trial, steps, costs, start)
        if math.isfinite(cost) and (best is None or cost < best[0] - 1e-9):
            best = (cost, chain)
        if best is None:
            start = (start + count // 3 + 1) % count
        elif attempt == 1:
            trial = best[1][0]
            start = int(begin[trial] + steps[trial] // 2) % count
        else:
            start = int(begin[best[1][(attempt * len(best[1]) // 3) % len(best[1])]])
    return best


def _simplify(outline, pieces, tolerance, settings):
    """Replace free-form stretches by the fewest cubics within the tolerance asked for; long lines and arcs stay."""
    locked = [kind != CUBIC and last - first >= settings.locked_px for kind, first, last, _ in pieces]
    if all(locked):
        return pieces
    if not any(locked):
        count = len(outline.points)
        cubic = min(settings.cubic_candidates, count)
        places = _with_corners(np.concatenate([np.round(np.arange(cubic) * count / cubic).astype(int),
                                               [piece[1] % count for piece in pieces]]), outline)
        found = _solve(outline, places, places, tolerance, settings, straight=False)
        return found[1] if found and len(found[1]) < len(pieces) else pieces
    turn = locked.index(True)
    pieces = pieces[turn:] + pieces[:turn]
    locked = locked[turn:] + locked[:turn]
    kept, stretch = [], []
    for piece, stays in zip(pieces, locked):
        if stays:
            kept += _fewest_cubics(outline, stretch, tolerance) + [piece]
            stretch = []
        else:
            stretch.append(piece)
    return kept + _fewest_cubics(outline, stretch, tolerance)


def _fewest_cubics(outline, stretch, tolerance):
    """A run of pieces as the fewest cubics; unchanged when that does not save any."""
    if len(stretch) < 2:
        return stretch
    count = len(outline.points)
    breaks = [stretch[0][1]]
    for piece in stretch:
        size = piece[2] - piece[1]
        breaks += [breaks[-1] + size // 2, breaks[-1] + size]
    breaks = np.array(breaks)
    nodes, ways_in, ways_out, corner = _cubic_ends(outline, breaks % count)
    cheapest = [(0.0, None, None)] + [(math.inf, None, None)] * (len(breaks) - 1)
    for i in range(len(breaks) - 1):
        for j in range(i + 1, len(breaks)):
            if corner[i + 1:j].any():
                break
            places = np.linspace(breaks[i], breaks[j], min(48, breaks[j] - breaks[i] + 1)).astype(int)
            control, worst, _ = compiled.fit_cubic(outline.points[places % count], nodes[i], nodes[j],
                                                   ways_out[i], -ways_in[j], False, False, 6)
            if worst <= tolerance and cheapest[i][0] + 1 < cheapest[j][0]:
                cheapest[j] = (cheapest[i][0] + 1, i, control)
    if cheapest[-1][0] >= len(stretch):
        return stretch
    found, place = [], len(breaks) - 1
    while place > 0:
        _, before, control = cheapest[place]
        found.append((CUBIC, int(breaks[before]), int(breaks[place]), control))
        place = before
    return found[::-1]


def _adjust(outline, pieces, tolerance, settings, sharp=frozenset()):
    """Joint least squares over all pieces, then the verification of every piece."""
    if len(pieces) == 1:
        kind, first, last, control = pieces[0]
        if kind == CUBIC:
            return (Spline(control),)
        middle = (first + last) // 2
        pieces = [(kind, first, middle, None), (kind, middle, last, None)]
    for _ in range(settings.rebreaks):
        state = _start_state(outline, pieces, settings, sharp)
        x = compiled.adjust_jointly(state.x, state.kinds, state.columns, state.smooth, state.data, state.data_start,
                                    settings.tangent_weight_px, 4, settings.leash_px)
        moved = _rebroken(outline, pieces, x[:2 * len(pieces)].reshape(-1, 2), 3 * settings.leash_px)
        if moved is None:
            break
        pieces = moved
    curves = _curves(x, state)
    worst = _worst_of_each(outline, pieces, curves)
    limit = _limits(state.smooth, tolerance, settings)
    bad = np.nonzero(worst > limit)[0]
    if len(bad) and state.smooth.any() and len(sharp) < len(pieces):
        more = set(sharp)
        for index in bad:
            for joint in (index, (index + 1) % len(pieces)):
                if state.smooth[joint]:
                    more.add(int(joint))
        if len(more) > len(sharp):
            return _adjust(outline, pieces, tolerance, settings, frozenset(more))
    if len(bad):
        before = _curves(state.x, state)
        if _worst_of_each(outline, pieces, before).max() < worst.max():
            curves, worst = before, _worst_of_each(outline, pieces, before)
    return _replace_bad(outline, pieces, curves, worst > limit, tolerance)


def _rebroken(outline, pieces, joints, reach):
    """Pieces whose breaks follow their joints along the contour; None when no break moves by two pixels."""
    count = len(outline.points)
    shifts = []
    for (_, first, last, _), before, joint in zip(pieces, [pieces[-1], *pieces[:-1]], joints):
        low, high = -min(reach, (before[2] - before[1]) // 3), min(reach, (last - first) // 3)
        offsets = np.arange(int(low), int(high) + 1)
        away = np.hypot(*(outline.points[(first + offsets) % count] - joint).T)
        shifts.append(int(offsets[away.argmin()]))
    if np.abs(shifts).max() < 2:
        return None
    return [(kind, first + shift, last + following, control)
            for (kind, first, last, control), shift, following in zip(pieces, shifts, [*shifts[1:], shifts[0]])]


@attrs.frozen
class _State:
    """Unknowns of the joint adjustment and what stays fixed in it."""

    x: np.ndarray
    kinds: np.ndarray
    columns: np.ndarray
    smooth: np.ndarray
    data: np.ndarray
    data_start: np.ndarray


def _primitives(outline, pieces, settings):
    """Line (normal, offset), circle (centre, radius) or control points of each piece."""
    found = []
    for kind, first, last, control in pieces:
        trim = int(settings.skip_px) if last - first > 5 * settings.skip_px else 0
        if kind == LINE:
            found.append(compiled.line_through(outline.points, first + trim, last - trim, 1))
        elif kind == ARC:
            found.append(compiled.circle_through(outline.points, first + trim, last - trim, 1))
        else:
            found.append(control)
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
        for piece, primitive in ((before, primitive_before), (after, primitive_after)):
            if piece[0] == LINE:
                values.append(primitive[0] * place[0] + primitive[1] * place[1] + primitive[2])
                slopes.append(primitive[:2])
            else:
                spoke = place - np.array(primitive[:2])
                size = math.hypot(*spoke) + 1e-12
                values.append(size - primitive[2])
                slopes.append(spoke / size)
        place = place - np.linalg.pinv(np.array(slopes), rcond=0.08) @ np.array(values)
    return place if math.dist(place, start) < 4 else start


def _start_state(outline, pieces, settings, sharp):
    points, count, number = outline.points, len(outline.points), len(pieces)
    primitives = _primitives(outline, pieces, settings)
    corners = set(outline.corners.tolist())
    joints = np.empty((number, 2))
    smooth = np.zeros(number, bool)
    for index, piece in enumerate(pieces):
        before = pieces[index - 1]
        start = points[piece[1] % count]
        first = _direction(outline, before, primitives[index - 1], start, False)
        second = _direction(outline, piece, primitives[index], start, True)
        kink = math.degrees(math.acos(float(np.clip(first @ second, -1, 1))))
        bound = settings.smooth_degrees if CUBIC not in (piece[0], before[0]) else settings.free_smooth_degrees
        smooth[index] = kink < bound and not (piece[1] % count in corners and kink > 8) and index not in sharp
        joints[index] = _joint_place(before, piece, primitives[index - 1], primitives[index], start)
    columns, extra, data, data_start = [], [], [], [0]
    at = 2 * number
    for index, (kind, first, last, _) in enumerate(pieces):
        columns.append(at)
        start, end = joints[index], joints[(index + 1) % number]
        if kind == ARC:
            extra.append([_bulge(points[np.arange(first, last + 1) % count], primitives[index], start, end)])
        elif kind == CUBIC:
            control = primitives[index]
            extra.append(np.concatenate([control[1] - control[0], control[2] - control[3]]))
        at += len(extra[-1]) if kind != LINE else 0
        data.append(_counted_points(outline, first, last, smooth[index], smooth[(index + 1) % number], settings))
        data_start.append(data_start[-1] + len(data[-1]))
    x = np.concatenate([joints.ravel(), *[np.asarray(values, float) for values in extra]])
    return _State(x, np.array([piece[0] for piece in pieces]), np.array(columns), smooth, np.vstack(data), np.array(data_start))


def _bulge(points, circle, start, end):
    """Tangent of a quarter of the sweep, from the way that the contour takes around the centre."""
    x, y, _ = circle
    angles = np.unwrap(np.arctan2(points[:, 1] - y, points[:, 0] - x))
    swept = angles[-1] - angles[0]
    between = math.atan2(end[1] - y, end[0] - x) - math.atan2(start[1] - y, start[0] - x)
    between += 2 * math.pi * round((swept - between) / (2 * math.pi))
    return math.tan(float(np.clip(between, -6.2, 6.2)) / 4)


def _counted_points(outline, first, last, smooth_start, smooth_end, settings):
    """Points of a piece that count in the adjustment: without the rounded-off pixels at sharp ends."""
    count = len(outline.points)
    skip = settings.skip_px if last - first > 4 * settings.skip_px else 0.25 * (last - first)
    low = first + (0 if smooth_start else math.ceil(skip))
    high = last - (0 if smooth_end else math.ceil(skip))
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
        start = x[2 * index:2 * index + 2]
        following = (index + 1) % number
        end = x[2 * following:2 * following + 2]
        extra = x[state.columns[index]:]
        if kind == LINE:
            curves.append(Line(start, end))
        elif kind == CUBIC:
            curves.append(Spline([start, start + extra[:2], end + extra[2:4], end]))
        else:
            center_x, center_y, radius = compiled._arc_from_bulge(*start, *end, extra[0])
            angle = math.atan2(start[1] - center_y, start[0] - center_x)
            curves.append(Arc((center_x, center_y), radius, angle, 4 * math.atan(extra[0])))
    return tuple(curves)


def _align_handles(x, state, before, after):
    """Turn the handles of cubics at a smooth joint to one common direction."""
    if CUBIC not in (state.kinds[before], state.kinds[after]):
        return
    number = len(state.kinds)
    _, arriving = compiled.end_angles(state.kinds[before], compiled._joint_of(x, before, number), x[state.columns[before]:])
    leaving, _ = compiled.end_angles(state.kinds[after], compiled._joint_of(x, after, number), x[state.columns[after]:])
    if state.kinds[before] == CUBIC and state.kinds[after] == CUBIC:
        angle = arriving + math.remainder(leaving - arriving, 2 * math.pi) / 2
    else:
        angle = leaving if state.kinds[before] == CUBIC else arriving
    way = np.array([math.cos(angle), math.sin(angle)])
    if state.kinds[after] == CUBIC:
        column = state.columns[after]
        x[column:column + 2] = way * math.hypot(*x[column:column + 2])
    if state.kinds[before] == CUBIC:
        column = state.columns[before] + 2
        x[column:column + 2] = -way * math.hypot(*x[column:column + 2])


def _signed_distance(points, curve):
    """Distances (n,) of points from a curve; unsigned beyond its ends, so that a neighbour can be nearer."""
    if isinstance(curve, Circle):
        return np.hypot(points[:, 0] - curve.center[0], points[:, 1] - curve.center[1]) - curve.radius
    if isinstance(curve, Line):
        start, run = np.array(curve.start), np.subtract(curve.end, curve.start)
        size = max(math.hypot(*run), 1e-12)
        along = np.clip((points - start) @ run / size**2, 0, 1)
        off = points - start - along[:, None] * run
        sign = np.sign(run[0] * off[:, 1] - run[1] * off[:, 0])
        return np.where(sign == 0, 1, sign) * np.hypot(off[:, 0], off[:, 1])
    if isinstance(curve, Arc):
        spoke = points - curve.center
        angle = (np.arctan2(spoke[:, 1], spoke[:, 0]) - curve.start_angle) * math.copysign(1, curve.sweep) % (2 * math.pi)
        radial = np.hypot(spoke[:, 0], spoke[:, 1]) - curve.radius
        first, last = (np.array(end) for end in ((curve.center[0] + curve.radius * math.cos(a), curve.center[1] + curve.radius * math.sin(a))
                                                 for a in (curve.start_angle, curve.start_angle + curve.sweep)))
        to_ends = np.minimum(np.hypot(*(points - first).T), np.hypot(*(points - last).T))
        return np.where(angle <= abs(curve.sweep), radial, to_ends)
    control = curve.pieces()[0]
    grid = np.linspace(0, 1, max(24, int(np.hypot(*np.diff(control, axis=0).T).sum() / 3)))
    t = grid[np.argmin(((bezier(control, grid)[None] - points[:, None]) ** 2).sum(axis=2), axis=1)]
    t = np.array([compiled._closer_parameter(control, x, y, s, 3) for (x, y), s in zip(points, t)])
    off = points - bezier(control, t)
    ahead = bezier(control, np.minimum(t + 1e-4, 1)) - bezier(control, np.maximum(t - 1e-4, 0))
    sign = np.sign(ahead[:, 0] * off[:, 1] - ahead[:, 1] * off[:, 0])
    return np.where(sign == 0, 1, sign) * np.hypot(off[:, 0], off[:, 1])


def _limits(smooth, tolerance, settings):
    """How far each piece's points may be off: more where it ends in a corner, which the lens rounds off."""
    return 1.05 * tolerance + np.where(smooth & np.roll(smooth, -1), 0.15, settings.slack_px)


def _worst_of_each(outline, pieces, curves):
    """Largest distance of each piece's points from it or its neighbours."""
    count, number = len(outline.points), len(curves)
    worst = np.zeros(number)
    for index, (_, first, last, _) in enumerate(pieces):
        points = outline.points[np.arange(first, last + 1, max(1, (last - first) // 200)) % count]
        near = {index, (index - 1) % number, (index + 1) % number}
        worst[index] = np.min([np.abs(_signed_distance(points, curves[other])) for other in near], axis=0).max()
        reach = np.vstack([outline.points[[first % count, last % count]].min(axis=0), outline.points[np.arange(first, last + 1) % count].max(axis=0)])
        if np.any(np.abs(np.asarray(_middle(curves[index]))) > 4 * np.abs(reach).max() + 100):
            worst[index] = np.inf
    return worst


def _middle(curve):
    if isinstance(curve, Arc):
        angle = curve.start_angle + curve.sweep / 2
        return curve.center[0] + curve.radius * math.cos(angle), curve.center[1] + curve.radius * math.sin(angle)
    if isinstance(curve, Spline):
        return bezier(curve.pieces()[0], [0.5])[0]
    return curve.end


def _replace_bad(outline, pieces, curves, bad, tolerance):
    """The last resort: pieces that left the contour become lines through it (Ramer 1972, Douglas and Peucker 1973)."""
    if not bad.any():
        return curves
    count = len(outline.points)
    result = []
    for index, (_, first, last, _) in enumerate(pieces):
        if not bad[index]:
            result.append(curves[index])
            continue
        points = outline.points[np.arange(first, last + 1) % count].copy()
        points[0] = _end_of(curves[index], 0)
        points[-1] = _end_of(curves[index], 1)
        result += [Line(a, b) for a, b in zip(*(lambda kept: (kept[:-1], kept[1:]))(_polyline(points, tolerance)))]
    return tuple(result)


def _end_of(curve, which):
    if isinstance(curve, Arc):
        angle = curve.start_angle + which * curve.sweep
        return curve.center[0] + curve.radius * math.cos(angle), curve.center[1] + curve.radius * math.sin(angle)
    if isinstance(curve, Spline):
        return curve.points[-1 if which else 0]
    return curve.end if which else curve.start


def _polyline(points, tolerance):
    kept, open_ranges = {0, len(points) - 1}, [(0, len(points) - 1)]
    while open_ranges:
        first, last = open_ranges.pop()
        if last - first < 2:
            continue
        away = np.abs(_signed_distance(points[first + 1:last], Line(points[first], points[last])))
        worst = int(away.argmax())
        if away[worst] > tolerance:
            middle = first + 1 + worst
            kept.add(middle)
            open_ranges += [(first, middle), (middle, last)]
    return points[sorted(kept)]


def _distances(contour, curves):
    """Signed distance of every contour point from the nearest curve, and which curve that is."""
    best = np.full(len(contour), np.inf)
    owner = np.zeros(len(contour), int)
    for index, curve in enumerate(curves):
        near = _in_box(contour, curve)
        if not near.any():
            continue
        away = _signed_distance(contour[near], curve)
        closer = np.abs(away) < np.abs(best[near])
        places = np.nonzero(near)[0][closer]
        best[places], owner[places] = away[closer], index
    lost = ~np.isfinite(best)
    for place in np.nonzero(lost)[0]:
        all_of_them = [_signed_distance(contour[place:place + 1], curve)[0] for curve in curves]
        owner[place] = int(np.argmin(np.abs(all_of_them)))
        best[place] = all_of_them[owner[place]]
    return best, owner


def _in_box(contour, curve, margin=6.0):
    if isinstance(curve, (Arc, Circle)):
        low, high = np.subtract(curve.center, curve.radius), np.add(curve.center, curve.radius)
    else:
        corners = np.array(curve.points if isinstance(curve, Spline) else (curve.start, curve.end))
        low, high = corners.min(axis=0), corners.max(axis=0)
    return ((contour >= low - margin) & (contour <= high + margin)).all(axis=1)


def _uncertainty(curve, residuals):
    """95 % uncertainty of a radius or of a place, from residuals whose neighbours are alike.

    The residuals' correlation length lowers their number (Bartlett 1946); the radius of an arc follows from
    the least-squares normal matrix (Chernov 2010).
    """
    count = len(residuals)
    if count < 4:
        return 1.0
    centered = residuals - residuals.mean()
    variance = max(float(np.mean(residuals**2)), 1e-8)
    power = max(float(centered @ centered), 1e-12)
    alike = [float(centered[:-lag] @ centered[lag:]) / power for lag in range(1, min(12, count // 2))]
    length = 1 + 2 * sum(value for value in alike if value > 0)
    effective = max(count / length, 1.0)
    if isinstance(curve, Circle):
        return 2 * math.sqrt(variance / effective)
    if isinstance(curve, Arc):
        angles = np.linspace(0, abs(curve.sweep), max(8, min(count, 200)))
        rows = np.column_stack([np.cos(angles), np.sin(angles), np.ones_like(angles)])
        spread = np.linalg.pinv(rows.T @ rows) * len(angles)
        return 2 * math.sqrt(variance / effective * max(spread[2, 2], 1.0))
    return 2 * math.sqrt(4 * variance / effective)


def _move(curve, shift, pixel):
    def place(point):
        return ((point[0] + shift[0]) * pixel, (point[1] + shift[1]) * pixel)
    if isinstance(curve, Line):
        return Line(place(curve.start), place(curve.end))
    if isinstance(curve, Spline):
        return Spline([place(point) for point in curve.points])
    if isinstance(curve, Circle):
        return Circle(place(curve.center), curve.radius * pixel)
    return Arc(place(curve.center), curve.radius * pixel, curve.start_angle, curve.sweep)
