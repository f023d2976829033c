"""Chains of curves at a distance from others.

Lines and arcs are offset exactly, cubics by the fewest cubics within a tolerance, cut where their radius of curvature
is the distance (Tiller & Hanson 1984 name the cusps there). Raw pieces and arcs about convex corners are cut where they
cross one another; of the parts those stay that are nowhere nearer to the chain than the distance.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import attrs
import numpy as np
import shapely

from nomogon_core.errors import SketchError
from nomogon_core.geometry.crossings import at, part, span
from nomogon_core.geometry.curves import (
    Arc,
    Circle,
    Ellipse,
    EllipticArc,
    Line,
    Spline,
    as_pieces,
    bezier,
    bezier_derivative,
    closed_area,
    ellipse_pieces,
    end_directions,
    ends,
    polar,
    reverse,
    sample,
)
from nomogon_core.trace.compiled_cubics import fit_cubic

TOLERANCE_SHARE, LEAST_TOLERANCE_MM = 2e-5, 1e-4
FITTED_PLACES, HALVINGS = 33, 7
CHORD_SHARE, NEARER_SHARE = 1e-5, 2e-4
CLOSED_UP_SHARE, TAIL_SHARE = 5e-4, 4e-3
NEWTON, SAME, APART = 12, 1e-9, 2e-7
ARC_STEP, CUBIC_STEPS = math.radians(3), 64
STROKE_CHORD, STROKE_SLACK = 0.002, 2e-3
SMOOTH_RAD, MITRE_RAD = 1e-4, math.radians(165)


@attrs.frozen
class Chain:
    """Curves one after another, and whether the last ends where the first begins."""

    curves: tuple
    closed: bool


def offset(chain: Sequence[Any], closed: bool, distance: float, *, sharp: bool = False) -> list[Chain]:
    """The chains to the right of a chain, as it runs, at a distance; to its left where that is negative.

    Args:
        chain: curves that follow one another, or one circle or ellipse.
        sharp: corners run on to a point instead of around the corner.
    """
    curves = [piece for curve in chain for piece in _as_run(curve)]
    size = float(np.ptp(np.vstack([sample(curve, 1e-2 * _reach(curve)) for curve in curves]), axis=0).max())
    tolerance = max(TOLERANCE_SHARE * size, LEAST_TOLERANCE_MM)
    raw = []
    for index, curve in enumerate(curves):
        raw += _raw(curve, distance, tolerance)
        if closed or index + 1 < len(curves):
            raw += _corner(curve, curves[(index + 1) % len(curves)], distance)
    if not raw:
        return []
    pieces = _cut_at_crossings(raw, size)
    kept = _far_enough(pieces, curves, abs(distance), size)
    if closed:
        kept = _without_tails(kept, TAIL_SHARE * size, 5e-6 * size)
    chains = _linked(kept, 1e-7 * size)
    if closed:
        chains = _closed_up(chains, CLOSED_UP_SHARE * size)
    return [_sharpened(one, curves, distance) for one in chains] if sharp else chains


def stroked(runs: Sequence[tuple[Sequence[Any], bool]], width: float) -> list[list[tuple]]:
    """The area that a round tip of a diameter covers as it goes along some runs, which may cross and meet.

    Args:
        runs: (curves one after another, whether they close).

    Returns:
        Each area as its outline counter-clockwise and its holes clockwise.

    Raises:
        SketchError: no outline was found, as where two lines lie upon one another.
    """
    half, raw, every, tips = width / 2, [], [], []
    told = [([piece for curve in curves for piece in _as_run(curve)], closed) for curves, closed in runs]
    size = float(np.ptp(np.vstack([sample(one, 1e-2 * _reach(one)) for run, _ in told for one in run]), axis=0).max())
    size = max(size, width)
    tolerance = max(TOLERANCE_SHARE * size, LEAST_TOLERANCE_MM)
    for curves, closed in told:
        every += curves
        for distance in (half, -half):
            side = []
            for index, curve in enumerate(curves):
                side += _raw(curve, distance, tolerance)
                if closed or index + 1 < len(curves):
                    side += _corner(curve, curves[(index + 1) % len(curves)], distance)
            raw += side if distance > 0 else [reverse(one) for one in side]
        if not closed:
            tips += [curves[-1], reverse(curves[0])]
    raw += [_cap(one, half) for one in _free_tips(tips, every, half)]
    kept = _far_enough(_cut_at_crossings(raw, size), every, half, size)
    kept = _without_tails(kept, TAIL_SHARE * size, 5e-6 * size)
    outlines = [one.curves for one in _closed_up(_linked(kept, 1e-7 * size), CLOSED_UP_SHARE * size)]
    return _areas(outlines, every, half)


def _free_tips(tips, curves, half):
    """The curves that end where no other goes on, so that a stroke has a round end there; of those that end in one
    point the first."""
    lines = shapely.linestrings
    whole = [lines(sample(curve, STROKE_CHORD * half / 10)) for curve in curves]
    close, kept = STROKE_CHORD * half, []
    for tip in tips:
        place = ends(tip)[1]
        beside = [
            curve
            for curve, line in zip(curves, whole)
            if shapely.distance(line, shapely.Point(place)) < close
            and min(math.dist(place, end) for end in ends(curve)) > close
        ]
        if not beside and not any(math.dist(place, ends(one)[1]) < close for one in kept):
            kept.append(tip)
    return kept


def _cap(curve, half):
    """The round end of a stroke where a curve ends."""
    x, y = end_directions(curve)[1]
    return Arc(ends(curve)[1], half, math.atan2(y, x) - math.pi / 2, math.pi)


def _areas(outlines, curves, half):
    """Outlines with the holes in them, held against a polygon around the same strokes."""
    outlines = [one for one in outlines if abs(closed_area(one)) > STROKE_SLACK * half**2]
    rings = [shapely.Polygon(np.vstack([sample(curve, STROKE_CHORD * half)[:-1] for curve in one])) for one in outlines]
    whole = shapely.MultiLineString([sample(curve, STROKE_CHORD * half) for curve in curves]).buffer(half, quad_segs=64)
    outer = [index for index, one in enumerate(outlines) if closed_area(one) > 0]
    areas = [[outlines[index]] for index in outer]
    for index, one in enumerate(outlines):
        if index not in outer:
            around = [at for at, own in enumerate(outer) if rings[own].contains(rings[index].representative_point())]
            if around:
                areas[min(around, key=lambda at: rings[outer[at]].area)].append(one)
    covered = sum(closed_area(loop) for area in areas for loop in area)
    if not outer or abs(covered / whole.area - 1) > STROKE_SLACK:
        raise SketchError("These lines do not give a clean outline; look for two that lie upon one another.")
    return areas


def _reach(curve):
    return max(float(np.ptp(sample(curve, 1.0), axis=0).max()), 1e-6)


def _as_run(curve):
    """A curve as pieces with ends: halves of a circle, cubics of an ellipse, pieces of a spline."""
    if isinstance(curve, Circle):
        return [Arc(curve.center, curve.radius, 0.0, math.pi), Arc(curve.center, curve.radius, math.pi, math.pi)]
    if isinstance(curve, Ellipse):
        return ellipse_pieces(curve, 0.0, 2 * math.pi)
    if isinstance(curve, EllipticArc):
        return as_pieces(curve)
    if isinstance(curve, Spline):
        return [Spline([tuple(point) for point in piece]) for piece in curve.pieces()]
    return [curve]


def _raw(curve, distance, tolerance):
    """A curve at a distance to its right, wherever that leads."""
    if isinstance(curve, Line):
        x, y = end_directions(curve)[0] * distance
        return [Line((curve.start[0] + y, curve.start[1] - x), (curve.end[0] + y, curve.end[1] - x))]
    if isinstance(curve, Arc):
        radius = curve.radius + math.copysign(distance, curve.sweep * distance)
        return [Arc(curve.center, radius, curve.start_angle, curve.sweep)] if radius > 1e-9 else []
    control = np.array(curve.points)
    stops = [0.0, *_cusps(control, distance), 1.0]
    return [piece for low, high in zip(stops, stops[1:]) for piece in _fitted(control, low, high, distance, tolerance)]


def _cusps(control, distance):
    """Parameters at which the radius of curvature is the distance."""
    t = np.linspace(0, 1, 401)
    first = bezier_derivative(control, t)
    second = np.gradient(first, t, axis=0, edge_order=2)
    cross = first[:, 0] * second[:, 1] - first[:, 1] * second[:, 0]
    told = 1 + distance * cross / np.maximum(np.hypot(*first.T) ** 3, 1e-300)
    change = np.flatnonzero(np.sign(told[:-1]) * np.sign(told[1:]) < 0)
    found = [float(t[i] + (t[1] - t[0]) * told[i] / (told[i] - told[i + 1])) for i in change]
    return [one for one in found if 1e-6 < one < 1 - 1e-6]


def _at_distance(control, t, distance):
    places, ways = bezier(control, t), bezier_derivative(control, t)
    return places + distance * np.column_stack([ways[:, 1], -ways[:, 0]]) / np.hypot(*ways.T)[:, None]


def _fitted(control, low, high, distance, tolerance, halvings=HALVINGS):
    """The fewest cubics along a cubic's offset between two parameters."""
    t = np.linspace(low + 1e-9, high - 1e-9, FITTED_PLACES)
    places = _at_distance(control, t, distance)
    if np.hypot(*np.ptp(places, axis=0)) < SAME:
        return []
    # Past a cusp the offset runs against the curve, so its directions are taken from where it goes.
    along, ways = np.sign(_sense(control, t[len(t) // 2], distance)), bezier_derivative(control, t[[0, -1]])
    out, back = along * ways[0] / math.hypot(*ways[0]), -along * ways[1] / math.hypot(*ways[1])
    found, worst, _ = fit_cubic(
        np.ascontiguousarray(places[1:-1]), places[0], places[-1], out, back, False, False, 8, math.inf
    )
    if worst > tolerance and halvings:
        middle = (low + high) / 2
        return [
            piece
            for one, other in ((low, middle), (middle, high))
            for piece in _fitted(control, one, other, distance, tolerance, halvings - 1)
        ]
    return [Spline([tuple(point) for point in found])]


def _sense(control, t, distance):
    step = 1e-5
    ways = bezier_derivative(control, np.array([t - step, t, t + step]))
    second = (ways[2] - ways[0]) / (2 * step)
    cross = ways[1, 0] * second[1] - ways[1, 1] * second[0]
    return 1 + distance * cross / max(math.hypot(*ways[1]) ** 3, 1e-300)


def _corner(before, after, distance):
    """The arc about the corner between two curves, if that side of it is the outer one."""
    u, v = end_directions(before)[1], end_directions(after)[0]
    turn = math.atan2(u[0] * v[1] - u[1] * v[0], float(u @ v))
    if abs(turn) < SMOOTH_RAD or turn * distance < 0:
        return []
    begin = math.atan2(u[1], u[0]) - math.copysign(math.pi / 2, distance)
    return [Arc(ends(before)[1], abs(distance), begin, turn)]


def _polyline(curve):
    """(parameters (n,), places (n, 2), how far the curve is from them) close enough for its crossings to be found."""
    if isinstance(curve, Line):
        return np.array([0.0, 1.0]), np.array([curve.start, curve.end]), 0.0
    if isinstance(curve, Arc):
        t = np.linspace(0, 1, max(4, math.ceil(abs(curve.sweep) / ARC_STEP)) + 1)
        angles = curve.start_angle + t * curve.sweep
        places = np.array(curve.center) + curve.radius * np.column_stack([np.cos(angles), np.sin(angles)])
        return t, places, curve.radius * (1 - math.cos(abs(curve.sweep) / (len(t) - 1) / 2))
    t = np.linspace(0, 1, 2 * CUBIC_STEPS + 1)
    places = bezier(np.array(curve.points), t)
    return t[::2], places[::2], float(np.hypot(*((places[:-2:2] + places[2::2]) / 2 - places[1::2]).T).max())


def _mover(curve):
    """Function of a parameter that gives a curve's place and derivative as plain numbers."""
    if isinstance(curve, Line):
        (x, y), (u, v) = curve.start, np.subtract(curve.end, curve.start).tolist()
        return lambda t: (x + t * u, y + t * v, u, v)
    if isinstance(curve, Arc):
        (x, y), radius, begin, sweep = curve.center, curve.radius, curve.start_angle, curve.sweep

        def on_arc(t):
            cos, sin = radius * math.cos(begin + t * sweep), radius * math.sin(begin + t * sweep)
            return x + cos, y + sin, -sweep * sin, sweep * cos

        return on_arc
    (a, b), (c, d), (e, f), (g, h) = curve.points

    def on_cubic(t):
        s = 1 - t
        i, j, k, m = s * s * s, 3 * s * s * t, 3 * s * t * t, t * t * t
        p, q, r = 3 * s * s, 6 * s * t, 3 * t * t
        return (
            i * a + j * c + k * e + m * g,
            i * b + j * d + k * f + m * h,
            p * (c - a) + q * (e - c) + r * (g - e),
            p * (d - b) + q * (f - d) + r * (h - f),
        )

    return on_cubic


def _cut_at_crossings(curves, size):
    """All curves cut where they cross one another or themselves."""
    told = [_polyline(curve) for curve in curves]
    counts = [len(t) - 1 for t, _, _ in told]
    owner, slack = np.repeat(np.arange(len(curves)), counts), np.repeat([2 * off for _, _, off in told], counts)
    begin, end = np.concatenate([t[:-1] for t, _, _ in told]), np.concatenate([t[1:] for t, _, _ in told])
    first, last = np.vstack([places[:-1] for _, places, _ in told]), np.vstack([places[1:] for _, places, _ in told])
    slack += 1e-7 * size
    boxes = shapely.box(*(np.minimum(first, last) - slack[:, None]).T, *(np.maximum(first, last) + slack[:, None]).T)
    a, b = shapely.STRtree(boxes).query(boxes)
    apart = (a < b) & ((owner[a] != owner[b]) | (np.abs(a - b) > 1))
    a, b = a[apart], b[apart]
    t, s, meet = _segments_cross(first[a], last[a], first[b], last[b], slack[a] + slack[b])
    movers, cuts = [_mover(curve) for curve in curves], [[] for _ in curves]
    found: dict[tuple, list] = {}
    for one, other, share, its in zip(a[meet].tolist(), b[meet].tolist(), t[meet].tolist(), s[meet].tolist()):
        i, j = int(owner[one]), int(owner[other])
        near = (begin[one] + share * (end[one] - begin[one]), begin[other] + its * (end[other] - begin[other]))
        known = found.setdefault((i, j), [])
        if any(abs(near[0] - x) + abs(near[1] - y) < 1e-6 for x, y in known):
            continue
        met = _crossing(movers[i], movers[j], *near, 1e-9 * size)
        if met is None or (i == j and abs(met[0] - met[1]) < 1e-6):
            continue
        if not any(abs(met[0] - x) + abs(met[1] - y) < 1e-8 for x, y in known):
            known.append(met)
            cuts[i].append(met[0])
            cuts[j].append(met[1])
    return [piece for curve, ts in zip(curves, cuts) for piece in _parts(curve, ts)]


def _segments_cross(a, b, c, d, slack):
    """Shares along segments ab and cd at which their lines cross, and whether that is on both, or near."""
    u, v, w = b - a, d - c, c - a
    cross = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    safe = np.where(np.abs(cross) > 1e-300, cross, 1e-300)
    t = (w[:, 0] * v[:, 1] - w[:, 1] * v[:, 0]) / safe
    s = (w[:, 0] * u[:, 1] - w[:, 1] * u[:, 0]) / safe
    long, wide = np.maximum(np.hypot(*u.T), 1e-12), np.maximum(np.hypot(*v.T), 1e-12)
    meet = (t > -slack / long) & (t < 1 + slack / long) & (s > -slack / wide) & (s < 1 + slack / wide)
    parallel = np.abs(cross) < 1e-9 * long * wide
    return np.clip(t, 0, 1), np.clip(s, 0, 1), meet & ~parallel


def _crossing(curve, other, t, s, close):
    """Parameters of a crossing of two movers by Newton's method, None where there is none on both."""
    for _ in range(NEWTON):
        (x, y, u, v), (p, q, m, n) = curve(t), other(s)
        cross = u * n - v * m
        if abs(cross) < 1e-10 * (abs(u) + abs(v)) * (abs(m) + abs(n)):
            return None
        dt, ds = ((p - x) * n - (q - y) * m) / cross, ((p - x) * v - (q - y) * u) / cross
        t, s = t + dt, s + ds
        if abs(t - 0.5) > 1.0 or abs(s - 0.5) > 1.0:
            return None
        if abs(dt) + abs(ds) < 1e-13:
            break
    if not (-SAME < t < 1 + SAME and -SAME < s < 1 + SAME) or math.dist(curve(t)[:2], other(s)[:2]) > close:
        return None
    return min(max(t, 0.0), 1.0), min(max(s, 0.0), 1.0)


def _parts(curve, ts):
    stops = [0.0]
    for t in sorted(ts):
        if t - stops[-1] > APART:
            stops.append(t)
    if span(curve) - stops[-1] > APART:
        stops.append(span(curve))
    else:
        stops[-1] = span(curve)
    return [curve] if len(stops) == 2 else [part(curve, low, high) for low, high in zip(stops, stops[1:])]


def _far_enough(pieces, curves, distance, size):
    """Pieces that are nowhere nearer to the chain than the distance, by three places in each."""
    chord = CHORD_SHARE * size
    chain = shapely.MultiLineString([sample(curve, chord) for curve in curves])
    shapely.prepare(chain)
    inner = np.array([0.13, 0.5, 0.87])
    places = np.array([[at(piece, t)[0] for t in inner] for piece in pieces]).reshape(-1, 2)
    away = shapely.distance(shapely.points(places), chain).reshape(-1, len(inner))
    near = distance * (1 - NEARER_SHARE) - 4 * chord
    return [piece for piece, far in zip(pieces, away.min(axis=1)) if far > near]


def _without_tails(pieces, short, reach):
    """Pieces without short ones that begin or end at nothing: what is past a crossing is nearer by next to nothing
    where curves meet at a small angle."""
    while True:
        tips = np.array([ends(piece) for piece in pieces]).reshape(-1, 2, 2)
        starts, lasts = tips[:, 0], tips[:, 1]
        loose = [
            index
            for index in range(len(pieces))
            if math.dist(*tips[index]) < short
            and (
                np.hypot(*(starts - lasts[index]).T).min() > reach or np.hypot(*(lasts - starts[index]).T).min() > reach
            )
        ]
        if not loose:
            return pieces
        pieces = [piece for index, piece in enumerate(pieces) if index not in set(loose)]
        if not pieces:
            return pieces


def _linked(pieces, reach):
    """Pieces joined end to start, as chains."""
    starts = np.array([ends(piece)[0] for piece in pieces]).reshape(-1, 2)
    tree = shapely.STRtree(shapely.points(starts)) if len(pieces) else None
    slack = max(50 * reach, 1e-6)
    following = []
    for piece in pieces:
        tip = ends(piece)[1]
        near = tree.query(shapely.box(tip[0] - slack, tip[1] - slack, tip[0] + slack, tip[1] + slack))
        following.append([int(one) for one in near])
    has_before = {other for after in following for other in after}
    used: set[int] = set()
    chains = []
    order = [index for index in range(len(pieces)) if index not in has_before] + list(range(len(pieces)))
    for first in order:
        if first in used:
            continue
        run = [first]
        used.add(first)
        while True:
            after = [other for other in following[run[-1]] if other not in used]
            if not after:
                break
            tip = end_directions(pieces[run[-1]])[1]
            chosen = max(after, key=lambda other: float(end_directions(pieces[other])[0] @ tip))
            run.append(chosen)
            used.add(chosen)
        chains.append(Chain(tuple(pieces[index] for index in run), run[0] in following[run[-1]]))
    return chains


def _closed_up(chains, reach):
    """Closed chains only: open ones that end where another begins, but for a bit too short to be told, go on there."""
    done, rest = [one for one in chains if one.closed], [one for one in chains if not one.closed]
    while rest:
        run = rest.pop(0)
        tip = ends(run.curves[-1])[1]
        away = [math.dist(tip, ends(one.curves[0])[0]) for one in (run, *rest)]
        nearest = int(np.argmin(away))
        if away[nearest] > reach:
            continue
        if nearest == 0:
            done.append(attrs.evolve(run, closed=True))
        else:
            after = rest.pop(nearest - 1)
            rest.insert(0, Chain(run.curves + after.curves, False))
    return done


def _sharpened(chain, curves, distance):
    """A chain whose whole arcs about corners have become points: both neighbours run on to where they meet."""
    corners = {}
    for before, after in zip(curves, [*curves[1:], curves[0]]):
        for arc in _corner(before, after, distance):
            corners[tuple(np.round(arc.center, 7))] = arc
    made: list[Any] = []
    for curve in chain.curves:
        arc = corners.get(tuple(np.round(curve.center, 7))) if isinstance(curve, Arc) else None
        whole = arc and abs(abs(curve.sweep) - abs(arc.sweep)) < 1e-6 and abs(curve.radius - abs(distance)) < 1e-9
        if not whole or abs(curve.sweep) > MITRE_RAD:
            made.append(curve)
            continue
        middle = curve.start_angle + curve.sweep / 2
        tip = polar(curve.center, curve.radius / math.cos(curve.sweep / 2), middle)
        start, end = ends(curve)
        made += [Line(start, tip), Line(tip, end)]
    return attrs.evolve(chain, curves=tuple(_merged(made, chain.closed)))


def _merged(curves, closed):
    """Lines that run on in the same direction made one."""
    made: list[Any] = []
    for curve in curves:
        if made and _run_on(made[-1], curve):
            made[-1] = Line(made[-1].start, curve.end)
        else:
            made.append(curve)
    if closed and len(made) > 2 and _run_on(made[-1], made[0]):
        made[0] = Line(made[-1].start, made[0].end)
        made.pop()
    return made


def _run_on(one, other):
    if not (isinstance(one, Line) and isinstance(other, Line)):
        return False
    u, v = end_directions(one)[0], end_directions(other)[0]
    return abs(u[0] * v[1] - u[1] * v[0]) < 1e-7 and float(u @ v) > 0


def backwards(chain: Sequence[Any]) -> list[Any]:
    """The same curves run the other way."""
    return [reverse(curve) for curve in reversed(chain)]
