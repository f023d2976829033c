"""Where plane curves cross, as parameters: 0 at a curve's start, 1 at its end (at a spline's end, its number of
pieces)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from shapely.geometry import LineString

from nomogon_core.geometry.curves import (
    CLOSED,
    Arc,
    Circle,
    Ellipse,
    EllipticArc,
    Line,
    Spline,
    bezier,
    bezier_derivative,
    ends,
    sample,
)

CHORD_SHARE = 1e-5
LEAST_CHORD_MM = 1e-4
CLOSE_MM = 1e-7
TOUCHING_MM = 1e-5
ROUNDS = 20
SAME_PARAMETER = 1e-7
STILL = 1e-15


def span(curve: Any) -> float:
    """The parameter of a curve's end."""
    return float(len(curve.points) // 3) if isinstance(curve, Spline) else 1.0


def at(curve: Any, t: float) -> tuple[np.ndarray, np.ndarray]:
    """(place, derivative) at a parameter, each an array (2,)."""
    if isinstance(curve, Line):
        run = np.subtract(curve.end, curve.start)
        return np.array(curve.start) + t * run, run
    if isinstance(curve, Spline):
        pieces = curve.pieces()
        index = min(max(int(t), 0), len(pieces) - 1)
        local = np.array([t - index])
        return bezier(pieces[index], local)[0], bezier_derivative(pieces[index], local)[0]
    if isinstance(curve, (Ellipse, EllipticArc)):
        whole, start, turn = _oval(curve)
        place, quarter_on = whole.at([start + turn * t, start + turn * t + math.pi / 2])
        return place, turn * (quarter_on - np.array(whole.center))
    first, sweep = (curve.start_angle, curve.sweep) if isinstance(curve, Arc) else (0.0, 2 * math.pi)
    angle = first + t * sweep
    spoke = curve.radius * np.array([math.cos(angle), math.sin(angle)])
    return np.array(curve.center) + spoke, sweep * np.array([-spoke[1], spoke[0]])


def _oval(curve):
    """(the ellipse, eccentric angle of the start, sweep) of an ellipse or an arc of one."""
    return (curve.whole, curve.first, curve.sweep) if isinstance(curve, EllipticArc) else (curve, 0.0, 2 * math.pi)


def _places(curve, ts):
    """Places (n, 2) at parameters (n,)."""
    if isinstance(curve, Line):
        return np.array(curve.start) + ts[:, None] * np.subtract(curve.end, curve.start)
    if isinstance(curve, Spline):
        pieces = curve.pieces()
        index = np.clip(ts.astype(int), 0, len(pieces) - 1)
        u = (ts - index)[:, None]
        a, b, c, d = (pieces[index, number] for number in range(4))
        return (1 - u) ** 3 * a + 3 * (1 - u) ** 2 * u * b + 3 * (1 - u) * u * u * c + u**3 * d
    if isinstance(curve, (Ellipse, EllipticArc)):
        whole, start, turn = _oval(curve)
        return whole.at(start + turn * ts)
    first, sweep = (curve.start_angle, curve.sweep) if isinstance(curve, Arc) else (0.0, 2 * math.pi)
    angles = first + ts * sweep
    return np.array(curve.center) + curve.radius * np.column_stack([np.cos(angles), np.sin(angles)])


def nearest(curve: Any, place: Sequence[float]) -> float:
    """The parameter of the place on a curve nearest to another, within its ends."""
    top, wanted = span(curve), np.asarray(place, float)
    grid = np.linspace(0, top, 200 * int(math.ceil(top)) + 1)
    t = float(grid[np.hypot(*(_places(curve, grid) - wanted).T).argmin()])
    for _ in range(ROUNDS):
        here, way = at(curve, t)
        before, t = t, min(max(t + float((wanted - here) @ way) / max(float(way @ way), 1e-300), 0.0), top)
        if abs(t - before) < STILL * top:
            break
    return t


def _rough(curve):
    """A fine polyline of a curve."""
    line = sample(curve, LEAST_CHORD_MM)
    reach = float(np.ptp(line, axis=0).max())
    line = sample(curve, max(CHORD_SHARE * reach, LEAST_CHORD_MM))
    return np.vstack([line, line[:1]]) if isinstance(curve, CLOSED) else line


def crossings(curve: Any, other: Circle | Line | Spline) -> list[float]:
    """Parameters on a curve, ascending, where it meets another one: crosses it, or touches its end.

    Found on fine polylines, then made exact by Newton's method on both parameters; a touch without a crossing that is
    not at
    an end is passed over.
    """
    found = []
    met = LineString(_rough(curve)).intersection(LineString(_rough(other)))
    for part in getattr(met, "geoms", [met]):
        for place in part.coords if not part.is_empty else ():
            t = _made_exact(curve, other, nearest(curve, place), nearest(other, place))
            if t is not None:
                found.append(t)
    for place in ends(other) or ():
        t = nearest(curve, place)
        if math.dist(at(curve, t)[0], place) < TOUCHING_MM:
            found.append(t)
    if isinstance(curve, CLOSED):
        found = [0.0 if 1.0 - t < SAME_PARAMETER else t for t in found]
    apart = []
    for t in sorted(found):
        if not apart or t - apart[-1] > SAME_PARAMETER:
            apart.append(t)
    return apart


def _made_exact(curve, other, t, s):
    close = False
    for _ in range(ROUNDS):
        (here, way), (there, its_way) = at(curve, t), at(other, s)
        system = np.column_stack([way, -its_way])
        if abs(np.linalg.det(system)) < 1e-9 * np.hypot(*way) * np.hypot(*its_way):
            return None
        step = np.linalg.solve(system, there - here)
        t, s = t + step[0], s + step[1]
        t_on, s_on = _on_curve(curve, t), _on_curve(other, s)
        was_close, close = close, bool(np.hypot(*(at(curve, t_on)[0] - at(other, s_on)[0])) < CLOSE_MM)
        if close and was_close:  # one step more squares what is left of the error
            past = max(abs(t_on - t) * (not isinstance(curve, CLOSED)), abs(s_on - s) * (not isinstance(other, CLOSED)))
            return t_on if past < 1e-9 else None
    return None


def _on_curve(curve, t):
    """A parameter brought onto the curve: round a closed curve, else to the nearer end."""
    return t % 1.0 if isinstance(curve, CLOSED) else min(max(t, 0.0), span(curve))


def part(curve: Any, first: float, last: float) -> Arc | EllipticArc | Line | Spline:
    """The piece of a curve between two parameters; of a circle or an ellipse going on past its start where ``last`` is
    the smaller."""
    if isinstance(curve, Line):
        return Line(at(curve, first)[0], at(curve, last)[0])
    if isinstance(curve, (Arc, Circle)):
        start, sweep = (curve.start_angle, curve.sweep) if isinstance(curve, Arc) else (0.0, 2 * math.pi)
        share = last - first if last > first else last - first + 1
        return Arc(curve.center, curve.radius, start + first * sweep, share * sweep)
    if isinstance(curve, (Ellipse, EllipticArc)):
        whole, begin, turn = _oval(curve)
        share = last - first if last > first else last - first + 1
        return EllipticArc(whole, begin + first * turn, share * turn)
    pieces, points = curve.pieces(), None
    for index in range(int(first), min(int(math.ceil(last)), len(pieces))):
        low, high = max(first - index, 0.0), min(last - index, 1.0)
        if high - low < SAME_PARAMETER:
            continue
        control = _cut(pieces[index], low, high)
        points = control if points is None else np.vstack([points, control[1:]])
    return Spline(points)


def _cut(control, low, high):
    """A cubic between two parameters, by de Casteljau's division."""

    def halves(points, t):
        first, second, level = [points[0]], [points[-1]], np.asarray(points, float)
        while len(level) > 1:
            level = level[:-1] + t * (level[1:] - level[:-1])
            first.append(level[0])
            second.append(level[-1])
        return np.array(first), np.array(second[::-1])

    _, upper = halves(control, low) if low > 0 else (None, np.asarray(control, float))
    return halves(upper, (high - low) / (1 - low))[0] if high < 1 else upper
