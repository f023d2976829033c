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
from nomogon_core.trace.compiled_fit import ARC, CUBIC, GAP, LINE

PIECE_COST = np.array([1.0, 1.3, 1.9, 0.0])
MOST_TEETH = 400
MISFIT_COST = 0.15
WANDER_WINDOW_PX = 151
MOST_WANDER_PX = 0.25
STRAIGHT_SHARE = 0.05
WIDEST_REACH_PX = 9
TIP_WINDOW_PX = 12
TIP_SHARE, CLEAR_SIDE_PX, CLEAR_SIDES = 0.04, 20, 4
LEAST_HALF_PX, LEAST_BREAK = 10, 0.35
SURE_TIP_PX = 1.3
SURE_WOBBLE_PX = 0.6
WEAK_CORNER = math.radians(50.0)
ACUTE = math.radians(75.0)
END_SKIP_PX = 1.0
PLATEAU_PX = 5
FALLBACK_COST = 5.0
FREE_COST = 2.3
BESIDE, LOCAL_SHARE = 2, 0.97


@attrs.frozen
class FitSettings:
    """The fitter's tolerances, in pixels and degrees; one place for all of them.

    Attributes:
        least_detection_px: pieces are never recognised at a finer tolerance than this.
        noise_factor: recognition tolerance as a multiple of the contour's noise.
        corner_degrees: a turn over the corner window beyond which a place is a corner.
        corner_window_px: length of the lines whose directions are compared there.
        skip_px: rounded-off length next to a corner that does not count for recognition; longest_skip_px next to an acute one.
        rounding_px: half the width below which the lens closes an acute corner.
        recession_px: how far the lens draws the tip of a right angle back at most, more at an acute one; least_recession_px at any joint.
        clear_detection: contours recognised at up to so many times least_detection_px are clear: their sides can be carried on past a corner.
        free_tip_px, free_skip_px: in the place of recession and skip_px on other free-form outlines, whose corners are taken as they stand.
        smooth_degrees: a kink below which a joint is made smooth; free_smooth_degrees where a cubic ends.
        tangent_weight_px: weight of a smooth joint's kink in the first round, in pixels a radian.
        feature_px, drawn_share: where lines and arcs of at least that length make up that share of the outline, they stay.
        whole_px: other lines and arcs longer than this go as a whole or stay.
        division_px: shorter ones may be broken up into parts about this long.
        stretches: shares of the tolerance that are tried one after the other, since the joint adjustment gains some of it back.
        leash_px: how far a joint may move before the points are shared out anew between its pieces.
        rebreaks: how often that is done at most, free_rebreaks on free-form outlines that are not clear; halvings: how often pieces that leave the contour are halved.
        candidates, cubic_candidates: how many places are tried around a contour.
    """

    least_detection_px: float = 0.25
    noise_factor: float = 4.0
    corner_degrees: float = 28.0
    corner_window_px: int = 6
    skip_px: float = 3.0
    rounding_px: float = 2.2
    longest_skip_px: float = 11.0
    recession_px: float = 1.6
    least_recession_px: float = 0.4
    free_tip_px: float = 0.5
    free_skip_px: float = 2.0
    clear_detection: float = 1.4
    smooth_degrees: float = 14.0
    free_smooth_degrees: float = 24.0
    tangent_weight_px: float = 60.0
    whole_px: float = 60.0
    feature_px: float = 20.0
    drawn_share: float = 0.9
    division_px: float = 6.0
    stretches: tuple = (1.6, 1.2, 0.9)
    leash_px: float = 8.0
    rebreaks: int = 6
    free_rebreaks: int = 3
    halvings: int = 8
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
        comb: rows (x, y, off) of contour points, evenly chosen, and how far off they are, in the unit of the points.
    """

    curves: tuple
    u95: tuple
    max_deviation: float
    rms_deviation: float
    comb: np.ndarray = attrs.field(eq=False, repr=False)


@attrs.frozen
class _Outline:
    """A resampled contour with what is known of its corners; arrays are (n,) or (n, 2), one a point. An open one has its ends for corners.

    Attributes:
        drawn: nearly all of it was recognised as lines and arcs; clear: it hardly wobbles.
        sure_tip_px: how far beyond the contour a corner may be whatever its sides.
    """

    points: np.ndarray
    arc_lengths: np.ndarray
    corners: np.ndarray
    corner_strength: np.ndarray
    before: np.ndarray
    before_center: np.ndarray
    after: np.ndarray
    after_center: np.ndarray
    skips: np.ndarray
    recessions: np.ndarray
    is_open: bool = False
    drawn: bool = False
    clear: bool = False
    sure_tip_px: float = SURE_TIP_PX

    def recession(self, place):
        """How far in pixels the lens draws the tip back at a place, if that place is a corner."""
        return self.recessions[place % len(self.points)]

    def skip(self, place):
        """Length in pixels on either side of a place that the lens rounds off if that place is a corner: more at an acute one."""
        return self.skips[place % len(self.points)]


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
    scaled, shift = _checked(points, pixel, tolerance)
    contour = _resample(scaled - shift)
    if len(contour) < 12:
        raise TraceError(f"An outline of {len(contour)} pixels around is too short to be fitted; raise the speck size.")
    noise = max(_noise(contour), noise_px)
    detection = _detection(noise, tolerance / pixel, settings)
    circle = _as_circle(contour, detection, tolerance / pixel)
    if circle is not None:
        curves = (circle,)
    else:
        curves = _fitted_curves(_describe(contour, settings), detection, tolerance / pixel, settings, clear=_is_clear(noise, settings))
    if closed_area(curves) < 0:
        curves = tuple(reverse(curve) for curve in reversed(curves))
    return _told(curves, contour, shift, pixel)


def circle_of(points, *, pixel, tolerance, noise_px=0.0, settings=SETTINGS):
    """The circle that a closed contour is, as :func:`fit_outline` would find it, or None."""
    scaled, shift = _checked(points, pixel, tolerance)
    contour = _resample(scaled - shift)
    detection = _detection(max(_noise(contour), noise_px), tolerance / pixel, settings)
    circle = _as_circle(contour, detection, tolerance / pixel)
    return None if circle is None else _move(circle, shift, pixel)


def held_against(curves, points, pixel):
    """Curves as the :class:`FittedOutline` of a closed contour (n, 2) that they were not necessarily fitted to."""
    scaled = np.asarray(points, float) / pixel
    return _told(tuple(_move(curve, (0.0, 0.0), 1 / pixel) for curve in curves), _resample(scaled), (0.0, 0.0), pixel)


def fit_open(points, *, pixel, tolerance, settings=SETTINGS):
    """Fit a path with two ends, as :func:`fit_outline` does a closed contour; its ends stay where they are.

    Raises:
        TraceError: the tolerance is not positive or the path too short.
    """
    scaled, shift = _checked(points, pixel, tolerance)
    path = _resample(scaled - shift, closed=False)
    if len(path) < 4:
        raise TraceError(f"A line of {len(path)} pixels is too short to be fitted; raise the speck size.")
    if len(path) < 12:
        return _told((Line(path[0], path[-1]),), path, shift, pixel)
    noise = _noise(path[2:-2]) if len(path) > 40 else 0.0
    detection = _detection(noise, tolerance / pixel, settings)
    curves = _without_gap(_fitted_curves(_describe(path, settings, is_open=True), detection, tolerance / pixel, settings, clear=_is_clear(noise, settings)), path)
    return _told(curves, path, shift, pixel)


def _without_gap(curves, path):
    """The curves of an open path from its start to its end."""
    gap = min((index for index, curve in enumerate(curves) if isinstance(curve, Line)),
              key=lambda index: math.dist(curves[index].start, path[-1]) + math.dist(curves[index].end, path[0]))
    return curves[gap + 1:] + curves[:gap]


def _checked(points, pixel, tolerance):
    """Points in pixels, and their middle.

    Raises:
        TraceError: the tolerance is not positive.
    """
    if not (math.isfinite(tolerance) and tolerance > 0):
        raise TraceError("The tolerance must be more than zero; 0.1 mm suits most parts.")
    scaled = np.ascontiguousarray(np.asarray(points, float) / pixel)
    return scaled, scaled.mean(axis=0)


def _detection(noise, tolerance, settings):
    return min(max(settings.least_detection_px, settings.noise_factor * noise), max(tolerance, 0.1))


def _told(curves, contour, shift, pixel):
    """Curves in pixels as a :class:`FittedOutline` in the unit of the points."""
    distances, owner = _distances(contour, curves)
    u95 = tuple(_uncertainty(curve, distances[owner == index]) * pixel for index, curve in enumerate(curves))
    back = tuple(_move(curve, shift, pixel) for curve in curves)
    teeth = np.linspace(0, len(contour) - 1, min(len(contour), MOST_TEETH)).astype(int)
    comb = np.column_stack([(contour[teeth] + shift) * pixel, distances[teeth] * pixel])
    return FittedOutline(back, u95, float(np.abs(distances).max()) * pixel, float(np.sqrt(np.mean(distances**2))) * pixel, comb)


def _is_clear(noise, settings):
    """Whether a contour wobbles so little that lines and arcs are told from it, and sides can be carried on past their corners."""
    return settings.noise_factor * noise <= settings.clear_detection * settings.least_detection_px


def _fitted_curves(outline, detection, tolerance, settings, *, clear):
    """Curves of a described contour. One that is not drawn with lines and arcs is looked at anew, and its corners are taken as they stand in the picture."""
    if clear:
        outline = attrs.evolve(outline, clear=True, recessions=np.maximum(outline.recessions, SURE_TIP_PX))
    pieces = _best_pieces(outline, detection, settings)
    straight = sum(last - first for kind, first, last, _ in pieces if kind in (LINE, ARC) and last - first >= settings.feature_px)
    if straight >= settings.drawn_share * len(outline.points):
        return _fewest(attrs.evolve(outline, drawn=True), pieces, detection, tolerance, settings)
    if not clear:
        outline = attrs.evolve(outline, sure_tip_px=settings.free_tip_px, skips=np.minimum(outline.skips, settings.free_skip_px))
        pieces = _best_pieces(outline, detection, settings)
    return _fewest(outline, pieces, detection, tolerance, settings)


def _fewest(outline, pieces, detection, tolerance, settings):
    """Curves of the fewest pieces that stay within the tolerance after their joint adjustment."""
    best = None
    for stretch in settings.stretches:
        if stretch * tolerance > detection:
            simpler = _simplify(outline, pieces, stretch * tolerance, settings)
            curves, bad, (left, _) = _with_halves(outline, simpler, tolerance, settings)
            if bad.max() < 0 and (best is None or len(curves) < len(best[0])):
                best = curves, left
    if best is None:
        return _adjust(outline, pieces, max(detection, min(tolerance, 2 * detection)), settings)
    fewer = _without_needless(outline, best[1], tolerance, settings)
    if len(fewer) < len(best[1]):
        curves, bad, _ = _with_halves(outline, fewer, tolerance, settings)
        if bad.max() < 0 and len(curves) < len(best[0]):
            return curves
    return best[0]


def _without_needless(outline, pieces, tolerance, settings):
    """Pieces of which two neighbours became one cubic wherever that still stays within the tolerance with what lies beside it adjusted."""
    if outline.drawn or outline.clear or len(pieces) < 2 * BESIDE + 3:
        return pieces
    count, index, stayed, refused = len(outline.points), 0, 0, set()
    while stayed < len(pieces) and len(pieces) >= 2 * BESIDE + 3:
        turned = _in_a_row(pieces[index:] + pieces[:index])
        pair = tuple(place % count for place in (turned[BESIDE][1], turned[BESIDE + 1][1], turned[BESIDE + 1][2]))
        merged = None if pair in refused else _pair_as_one(outline, turned, tolerance, settings)
        if merged is None:
            refused.add(pair)
            index, stayed = (index + 1) % len(pieces), stayed + 1
        else:
            pieces, index, stayed = merged, 0, 0
    return pieces


def _in_a_row(pieces):
    """Pieces whose ranges go on from one to the next, past the contour's last point."""
    placed, at = [], pieces[0][1]
    for kind, first, last, control in pieces:
        placed.append((kind, at, at + last - first, control))
        at += last - first
    return placed


def _pair_as_one(outline, pieces, tolerance, settings):
    """The pieces with those in the middle of the first few as one, or None."""
    count = len(outline.points)
    before, (one, other), after = pieces[:BESIDE], pieces[BESIDE:BESIDE + 2], pieces[BESIDE + 2:2 * BESIDE + 2]
    if GAP in {piece[0] for piece in pieces[:2 * BESIDE + 2]} or _is_corner(outline, other[1]):
        return None
    if one[0] != CUBIC and other[0] != CUBIC and min(one[2] - one[1], other[2] - other[1]) > settings.whole_px:
        return None
    merged = _as_cubic(outline, one[1], other[2])
    run = [*before, merged, *after]
    closing = (GAP, run[-1][2], run[0][1] + count, None)
    _, bad, (left, _) = _adjusted(outline, [*run, closing], LOCAL_SHARE * tolerance, attrs.evolve(settings, free_rebreaks=2))
    return None if bad.max() >= 0 else [*left[:-1], *pieces[2 * BESIDE + 2:]]


def _is_corner(outline, place):
    """Whether a place is a corner that stays one in an outline that is not clear, where a weak one may be noise."""
    place %= len(outline.points)
    return place in outline.corners and outline.corner_strength[place] > WEAK_CORNER


def _as_cubic(outline, first, last):
    """One cubic over a range of the contour, as a piece."""
    count = len(outline.points)
    nodes, ways_in, ways_out, corner = _cubic_ends(outline, np.array([first, last]) % count)
    control, _, _ = compiled.fit_cubic(outline.points[np.arange(first, last + 1) % count], nodes[0], nodes[1], ways_out[0], -ways_in[1],
                                       bool(corner[0]), bool(corner[1]), 6, math.inf)
    return (CUBIC, int(first), int(last), control)


def _resample(points, step=1.0, closed=True):
    """The contour at even steps of about one pixel."""
    whole, closed = closed, np.vstack([points, points[:1]]) if closed else points
    runs = np.hypot(*np.diff(closed, axis=0).T)
    keep = np.concatenate([[True], runs > 1e-9])
    closed, along = closed[keep], np.concatenate([[0], np.cumsum(runs[runs > 1e-9])])
    count = max(12 if whole else 2, int(round(along[-1] / step)) + (0 if whole else 1))
    places = np.arange(count) * along[-1] / count if whole else np.linspace(0, along[-1], count)
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
    away = np.sqrt(np.maximum(uniform_filter1d(_departure(contour, WANDER_WINDOW_PX, 1) ** 2, WANDER_WINDOW_PX, mode="wrap"), 0))
    straight = away[away < MOST_WANDER_PX]
    return max(fine, float(np.median(straight))) if len(straight) > STRAIGHT_SHARE * len(contour) else fine


def _departure(contour, window, order):
    away = contour - savgol_filter(contour, window, order, axis=0, mode="wrap")
    return np.hypot(away[:, 0], away[:, 1])


def _as_circle(contour, detection, tolerance):
    """The whole contour as a full circle, or None.

    Within the detection tolerance, or within the one asked for where the departure is wobble and no other shape.
    """
    x, y, radius = compiled.circle_through(contour, 0, len(contour) - 1, 1)
    if radius <= 0:
        return None
    away = np.hypot(contour[:, 0] - x, contour[:, 1] - y) - radius
    area = 0.5 * abs(np.sum(contour[:, 0] * np.roll(contour[:, 1], -1) - contour[:, 1] * np.roll(contour[:, 0], -1)))
    largest = np.abs(away).max()
    round_enough = largest <= max(1.4 * detection, 6 * away.std()) and largest <= min(2.5 * detection, 0.25 * radius, max(tolerance, SURE_WOBBLE_PX))
    shape = np.abs(uniform_filter1d(away, max(3, len(contour) // 10), mode="wrap")).max()
    wobbles = largest <= min(tolerance, 0.25 * radius) and shape <= max(detection, 0.5 * tolerance)
    if (round_enough or wobbles) and abs(area - math.pi * radius**2) < 0.03 * area + 2:
        return Circle((x, y), radius)
    return None


def _describe(contour, settings, is_open=False):
    count = len(contour)
    runs = np.hypot(*(np.roll(contour, -1, axis=0) - contour).T)
    window = min(settings.corner_window_px, max(3, count // 8))
    before, before_center, after, after_center = compiled.one_sided_directions(contour, window, 2)
    near_before, _, near_after, _ = compiled.one_sided_directions(contour, max(3, window // 2), 2)
    wide, near = _turns(before, after), _turns(near_before, near_after)
    strength = np.minimum(np.abs(wide), 1.35 * np.abs(near))
    far_before, _, far_after, _ = compiled.one_sided_directions(contour, 2 * window, window)
    far = np.abs(_turns(far_before, far_after))
    corners, skips, recessions = [], np.full(count, settings.skip_px), np.full(count, settings.least_recession_px)
    if is_open:
        corners, strength[[0, -1]] = [0, count - 1], math.pi
        skips[[0, -1]] = END_SKIP_PX
        strength[1:2 * window], strength[-2 * window:-1] = 0.0, 0.0
    # At a sharp corner the turn is the same over a few places; its smoothed size is largest in their middle.
    for index in np.argsort(-uniform_filter1d(strength, PLATEAU_PX, mode="wrap")):
        if strength[index] < math.radians(settings.corner_degrees):
            continue
        if index in corners:
            continue
        apart = np.abs(np.array(corners, int) - index)
        if all(gap > max(0.8 * window, skips[other]) for gap, other in zip(np.minimum(apart, count - apart), corners)):
            corners.append(int(index))
            kink = max(abs(wide[index]), far[index]) if abs(wide[index]) > ACUTE else abs(wide[index])
            slope = math.tan(max((math.pi - kink) / 2, 0.05))
            skips[index] = np.clip(settings.rounding_px / slope, settings.skip_px, settings.longest_skip_px)
            recessions[index] = np.clip(settings.recession_px / slope, settings.least_recession_px, settings.longest_skip_px)
    return _Outline(contour, np.concatenate([[0], np.cumsum(runs)]), np.array(sorted(corners), int), strength,
                    before, before_center, after, after_center, skips, recessions, is_open)


def _turns(before, after):
    return np.arctan2(before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0], (before * after).sum(axis=1))


def _with_corners(places, outline):
    """Candidate places with every corner among them and none right beside one."""
    count, corners = len(outline.points), outline.corners
    places = np.unique(np.concatenate([places % count, corners]))
    if len(corners):
        apart = np.abs(places[:, None] - corners[None])
        apart = np.minimum(apart, count - apart)
        places = places[(apart == 0).any(axis=1) | (apart >= np.maximum(2, 0.5 * outline.skips[corners])).all(axis=1)]
    return places.astype(np.int64)


def _best_pieces(outline, tolerance, settings):
    """Pieces (kind, first, last, control points or None) around the contour: coarse places, then fine ones near the breaks."""
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
    if np.isin(inner, outline.corners).any() or any(piece[0] == GAP for piece in run):
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
    begin, steps, kinds, _ = compiled.line_and_arc_trials(outline.points, outline.arc_lengths, places[order], tolerance, outline.skips[places[order]], outline.sure_tip_px)
    start = int(np.nonzero(order == 0)[0][0])
    return bool(np.any((begin == start) & (steps == 1) & (kinds == kind)))


def _cubic_ends(outline, places):
    """Places and directions at which cubics begin and end: smoothed contour, or the crossing of both sides at a corner."""
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
        inverse = np.linalg.pinv(np.stack([steps.astype(float)**power for power in range(order + 1)], axis=1))
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
    """Where the lines through both sides of a corner cross, if that is near."""
    matrix = np.column_stack([outline.before[place], -outline.after[place]])
    if abs(np.linalg.det(matrix)) > 0.3:
        along = np.linalg.solve(matrix, outline.after_center[place] - outline.before_center[place])
        crossing = outline.before_center[place] + along[0] * outline.before[place]
        if math.dist(crossing, outline.points[place]) < 2.5:
            return crossing
    return outline.points[place]


def _solve(outline, places, cubic_places, tolerance, settings):
    """Cheapest closed chain of pieces between candidate places: (cost, pieces).

    Where nothing fits between two neighbouring places, a costly line stands in; the verification breaks it up.
    """
    points, count = outline.points, len(places)
    begin, steps, kinds, squares = compiled.line_and_arc_trials(points, outline.arc_lengths, places, tolerance, outline.skips[places], outline.sure_tip_px)
    nodes, ways_in, ways_out, corner = _cubic_ends(outline, cubic_places)
    c_begin, c_steps, c_squares, controls = compiled.cubic_trials(
        points, cubic_places, nodes, ways_in, ways_out, corner, tolerance, outline.skips[cubic_places] - 0.5 * settings.skip_px)
    at = np.searchsorted(places, cubic_places)
    ends = c_begin + c_steps
    c_steps = at[ends % len(at)] + np.where(ends >= len(at), count, 0) - at[c_begin] if len(c_begin) else c_steps
    c_begin = at[c_begin] if len(c_begin) else c_begin
    trials = _Trials.of(begin, steps, kinds, PIECE_COST[kinds] + MISFIT_COST * squares / tolerance**2)
    trials = trials.and_more(c_begin, c_steps, np.full(len(c_begin), CUBIC), PIECE_COST[CUBIC] + MISFIT_COST * c_squares / tolerance**2, list(controls))
    trials = trials.and_more(np.arange(count), np.ones(count), np.full(count, LINE), np.full(count, FALLBACK_COST))
    return _chain(outline, places, trials.with_gap(len(places)) if outline.is_open else trials)


@attrs.frozen
class _Trials:
    """Pieces that could be taken: from which candidate place, how many places on, kind, cost, and control points or None."""

    begin: np.ndarray
    steps: np.ndarray
    kinds: np.ndarray
    costs: np.ndarray
    controls: list

    @classmethod
    def of(cls, begin, steps, kinds, costs, controls=None):
        return cls(*(np.asarray(values, np.int64) for values in (begin, steps, kinds)), np.asarray(costs, float), controls or [None] * len(begin))

    def with_gap(self, count):
        """Of an open path, whose ends are the first and the last place: nothing runs from its end to its start but the gap itself."""
        inside = self.begin + self.steps <= count - 1
        kept = _Trials(*(getattr(self, name)[inside] for name in ("begin", "steps", "kinds", "costs")), [control for control, stays in zip(self.controls, inside) if stays])
        return kept.and_more([count - 1], [1], [GAP], [0.0])

    def and_more(self, begin, steps, kinds, costs, controls=None):
        more = _Trials.of(begin, steps, kinds, costs, controls)
        return _Trials(*(np.concatenate([getattr(self, name), getattr(more, name)]) for name in ("begin", "steps", "kinds", "costs")), self.controls + more.controls)


def _chain(outline, places, trials, start=None):
    """(cost, pieces) of the cheapest closed chain of trials; ``start`` is a place that a chain surely goes through."""
    points, count = outline.points, len(places)
    order = np.argsort(trials.begin, kind="stable")
    begin, steps = trials.begin[order], trials.steps[order]
    cost, chain = _cheapest_around(outline, places, np.searchsorted(begin, np.arange(count + 1)), steps, trials.costs[order], start)
    pieces = []
    for trial in chain:
        first, end = int(begin[trial]), int(begin[trial] + steps[trial])
        last = int(places[end % count]) + (len(points) if end >= count else 0)
        pieces.append((int(trials.kinds[order[trial]]), int(places[first]), last, trials.controls[order[trial]]))
    return cost, pieces


def _cheapest_around(outline, places, first_trial, steps, costs, start):
    """Try several starts of the closed chain: a given one or the strongest corner, then breaks of the best chain so far."""
    count = len(places)
    if start is None:
        start = 0
        if len(outline.corners):
            start = int(np.searchsorted(places, outline.corners[np.argmax(outline.corner_strength[outline.corners])]))
    begin = np.repeat(np.arange(count), np.diff(first_trial))
    best = compiled.cheapest_chain(count, first_trial, steps, costs, start)
    for attempt in range(1, 5):
        first = best[1][0]
        start = int(begin[first] + steps[first] // 2) % count if attempt == 2 else int(begin[best[1][(attempt * len(best[1]) // 3) % len(best[1])]])
        cost, chain = compiled.cheapest_chain(count, first_trial, steps, costs, start)
        if cost < best[0] - 1e-9:
            best = (cost, chain)
    return best


def _simplify(outline, pieces, tolerance, settings):
    """Replace runs of pieces by cubics within the tolerance asked for, where that saves more than it blurs.

    A cubic costs a quarter more here than where pieces are recognised. Where nearly the whole outline
    was recognised as lines and arcs, these stay: it was drawn with them.
    """
    count = len(outline.points)
    places, locked = [], set()
    for kind, first, last, _ in pieces:
        stays = kind == GAP or (kind != CUBIC and last - first >= (settings.feature_px if outline.drawn else settings.whole_px))
        parts = 1 if stays else int(np.clip((last - first) / settings.division_px, 2, 6))
        places += np.round(first + (last - first) * np.arange(parts) / parts).astype(int).tolist()
        if stays and outline.drawn:
            locked.add(first % count)
    places = np.unique(np.array(places) % count)
    nodes, ways_in, ways_out, corner = _cubic_ends(outline, places)
    begin, steps, squares, controls = compiled.cubic_trials(outline.points, places, nodes, ways_in, ways_out, corner, tolerance, outline.skips[places] - 0.5 * settings.skip_px)
    stays = np.isin(places, list(locked))
    legal = _free_of(corner, begin + 1, begin + steps) & _free_of(stays, begin, begin + steps)
    trials = _Trials.of(begin[legal], steps[legal], np.full(legal.sum(), CUBIC), FREE_COST + MISFIT_COST * squares[legal] / tolerance**2, list(controls[legal]))
    at = [int(np.searchsorted(places, piece[1] % count)) for piece in pieces]
    reach = [(int(np.searchsorted(places, piece[2] % count)) - start) % len(places) or len(places) for piece, start in zip(pieces, at)]
    costs = [FREE_COST if piece[0] == CUBIC else PIECE_COST[piece[0]] for piece in pieces]
    longest = max(range(len(pieces)), key=lambda index: pieces[index][2] - pieces[index][1])
    trials = trials.and_more(at, reach, [piece[0] for piece in pieces], costs, [piece[3] for piece in pieces])
    found = _chain(outline, places, trials.with_gap(len(places)) if outline.is_open else trials, at[longest])[1]
    return found if len(found) < len(pieces) else pieces


def _free_of(marked, low, high):
    """Which cyclic ranges [low, high) of candidate places hold no marked one."""
    passed = np.concatenate([[0], np.cumsum(np.concatenate([marked, marked]))])
    return passed[high] - passed[low] == 0


def _adjusted(outline, pieces, tolerance, settings):
    """Joint least squares over all pieces: curves, which of them leave the contour, and the pieces and state they came from."""
    if len(pieces) == 1:
        kind, first, last, control = pieces[0]
        if kind == CUBIC:
            return (Spline(control),), np.full(1, -1), (pieces, None)
        middle = (first + last) // 2
        pieces = [(kind, first, middle, None), (kind, middle, last, None)]
    for _ in range(settings.rebreaks if outline.clear else settings.free_rebreaks):
        state = _start_state(outline, pieces, settings)
        x = compiled.adjust_jointly(state.x, state.kinds, state.columns, state.smooth, state.data, state.data_start,
                                    settings.tangent_weight_px, 4, settings.leash_px)
        moved = _rebroken(outline, pieces, x[:2 * len(pieces)].reshape(-1, 2), 3 * settings.leash_px)
        if moved is None:
            break
        pieces = moved
    x = _tips_held(outline, pieces, x, state.smooth)
    curves = _curves(x, state)
    return curves, _leaving(outline, pieces, curves, state.smooth, tolerance, settings), (pieces, state)


def _tips_held(outline, pieces, x, smooth):
    """Sharp joints that ran away from the contour, as lines do that meet at a small angle, are drawn back to near its tip."""
    count, x = len(outline.points), x.copy()
    for index in np.nonzero(~smooth)[0]:
        if GAP in (pieces[index][0], pieces[index - 1][0]):
            continue
        joint = x[2 * index:2 * index + 2]
        near = outline.points[(pieces[index][1] + np.arange(-TIP_WINDOW_PX, TIP_WINDOW_PX + 1)) % count]
        away = np.hypot(*(near - joint).T)
        tip = near[away.argmin()]
        reach = _farthest_tip(outline, pieces, index)
        if away.min() > reach:
            x[2 * index:2 * index + 2] = tip + (joint - tip) * (reach / away.min())
    return x


def _farthest_tip(outline, pieces, joint):
    """How far beyond the contour a corner may be: as far as the lens draws it back, where its sides are long and clear enough to look that far."""
    sides = (pieces[joint], pieces[joint - 1])
    shorter, recession = min(last - first for _, first, last, _ in sides), outline.recession(sides[0][1])
    if outline.clear and all(kind != CUBIC for kind, *_ in sides) and shorter >= max(CLEAR_SIDE_PX, CLEAR_SIDES * recession):
        return recession
    return min(recession, outline.sure_tip_px + TIP_SHARE * max(0, shorter - CLEAR_SIDE_PX))


def _with_halves(outline, pieces, tolerance, settings):
    """The joint adjustment, in which pieces that leave the contour are halved; as :func:`_adjusted`."""
    for _ in range(settings.halvings):
        curves, bad, (pieces, state) = _adjusted(outline, pieces, tolerance, settings)
        halved = _halved(outline, pieces, bad)
        if all(one is other for one, other in zip(halved, pieces)) and len(halved) == len(pieces):
            return curves, bad, (pieces, state)
        pieces = halved
    return _adjusted(outline, pieces, tolerance, settings)


def _adjust(outline, pieces, tolerance, settings):
    """The joint adjustment; pieces that leave the contour are halved, and in the end become lines through it."""
    curves, bad, (pieces, state) = _with_halves(outline, pieces, tolerance, settings)
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
            result.append(_as_cubic(outline, first, last))
            continue
        breaks = np.array([first, int(np.clip(worst, first + LEAST_BREAK * (last - first), last - LEAST_BREAK * (last - first))), last])
        result += [_as_cubic(outline, begin, end) for begin, end in zip(breaks[:-1], breaks[1:])]
    return result


def _rebroken(outline, pieces, joints, reach):
    """Pieces whose breaks follow their joints along the contour; None when no break moves by two pixels."""
    count = len(outline.points)
    shifts = []
    for (_, first, last, _), before, joint in zip(pieces, [pieces[-1], *pieces[:-1]], joints):
        low, high = -min(reach, (before[2] - before[1]) // 3), min(reach, (last - first) // 3)
        offsets = np.arange(int(low), int(high) + 1)
        away = np.hypot(*(outline.points[(first + offsets) % count] - joint).T)
        shifts.append(0 if GAP in (before[0], pieces[len(shifts)][0]) else int(offsets[away.argmin()]))
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
        low, high = (int(outline.skip(place)) for place in (first, last))
        trims = (low, high) if last - first > 2.5 * (low + high) else (0, 0)
        if kind == LINE:
            found.append(compiled.line_through(outline.points, first + trims[0], last - trims[1], 1))
        elif kind == ARC:
            found.append(compiled.circle_through(outline.points, first + trims[0], last - trims[1], 1))
        elif kind == GAP:
            found.append(None)
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


def _start_state(outline, pieces, settings):
    points, count, number = outline.points, len(outline.points), len(pieces)
    primitives = _primitives(outline, pieces, settings)
    corners = set(outline.corners.tolist())
    joints = np.empty((number, 2))
    smooth = np.zeros(number, bool)
    for index, piece in enumerate(pieces):
        before = pieces[index - 1]
        start = points[piece[1] % count]
        if GAP in (piece[0], before[0]):
            joints[index] = start
            continue
        first = _direction(outline, before, primitives[index - 1], start, False)
        second = _direction(outline, piece, primitives[index], start, True)
        kink = math.degrees(math.acos(float(np.clip(first @ second, -1, 1))))
        bound = settings.smooth_degrees if CUBIC not in (piece[0], before[0]) else settings.free_smooth_degrees
        smooth[index] = kink < bound and not (piece[1] % count in corners and kink > 8)
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
        at += len(extra[-1]) if kind in (ARC, CUBIC) else 0
        data.append(np.empty((0, 2)) if kind == GAP else _counted_points(outline, first, last, smooth[index], smooth[(index + 1) % number], settings))
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
        start = x[2 * index:2 * index + 2]
        following = (index + 1) % number
        end = x[2 * following:2 * following + 2]
        extra = x[state.columns[index]:]
        if kind in (LINE, GAP):
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
    steps = max(24, int(np.hypot(*np.diff(control, axis=0).T).sum() / 3))
    return compiled.cubic_distances(control, np.ascontiguousarray(points, float), steps)


def _leaving(outline, pieces, curves, smooth, tolerance, settings):
    """Where each piece leaves the contour the most, -1 of those that stay; next to a corner, which the lens rounds off, it may be farther away."""
    count, number = len(outline.points), len(curves)
    leaving = np.full(number, -1)
    for index, (kind, first, last, _) in enumerate(pieces):
        if kind == GAP:
            continue
        places = np.arange(first, last + 1, max(1, (last - first) // 200))
        points = outline.points[places % count]
        near = {other for other in (index, (index - 1) % number, (index + 1) % number) if pieces[other][0] != GAP}
        away = np.min([np.abs(_signed_distance(points, curves[other])) for other in near], axis=0)
        after = (index + 1) % number
        slack = np.full(len(places), 0.03)
        if not smooth[index]:
            slack[places - first <= outline.skip(first)] = _farthest_tip(outline, pieces, index)
        if not smooth[after]:
            slack[last - places <= outline.skip(last)] = _farthest_tip(outline, pieces, after)
        stride = max(1, (last - first) // 300)
        wide = outline.points[np.arange(first - 8, last + 9, stride) % count]
        run = _along(curves[index])
        astray = np.sqrt(((run[:, None] - wide[None]) ** 2).sum(axis=2).min(axis=1))
        if np.any(away > 1.02 * tolerance + slack):
            leaving[index] = places[np.argmax(away - slack)]
        elif np.any(astray > math.hypot(1.02 * tolerance + max([0.03, *(_farthest_tip(outline, pieces, joint) for joint in (index, after) if not smooth[joint])]), 0.55 * stride)):
            leaving[index] = (first + last) // 2
    return leaving


def _along(curve, count=24):
    """Points (count, 2) along a curve."""
    shares = np.linspace(0, 1, count)
    if isinstance(curve, Arc):
        angles = curve.start_angle + shares * curve.sweep
        return np.column_stack([curve.center[0] + curve.radius * np.cos(angles), curve.center[1] + curve.radius * np.sin(angles)])
    if isinstance(curve, Spline):
        return bezier(curve.pieces()[0], shares)
    return np.array(curve.start) + shares[:, None] * np.subtract(curve.end, curve.start)


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
            points[0] = _end_of(curves[index], 0)
        if bad[(index + 1) % number] < 0:
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


def distances_from(points, curves):
    """Signed distances (n,) of points (n, 2) from the nearest of several curves, in the points' unit."""
    return _distances(np.asarray(points, float), curves)[0]


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
