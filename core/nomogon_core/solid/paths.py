"""Paths in space that a bar follows: curves of a sketch, curves laid around a face, a helix, a flat spiral."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial import cKDTree

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import CLOSED, bezier, bezier_derivative, cubics_of, end_directions, ends
from nomogon_core.solid.planes import frame_of

if TYPE_CHECKING:
    from nomogon_core.solid.developing import Development
    from nomogon_core.solid.planes import Frame

A_CUBIC, A_TURN = 25, 48
KINK = math.radians(1.0)
FINE_MM, REACH_MM, UPRIGHT = 1e-7, 0.05, 1e-9


@attrs.frozen
class Path:
    """A path.

    Attributes:
        points: (n, 3) places along it, millimetres; bends: (n,) curvature there, 1/mm; along: (n,) length up to there.
        closed: whether it ends where it begins, which is then told once.
        kinks: places in space where it turns sharply.
        flat: (frame, curves one after another) where it lies in a plane and follows curves exactly, else None.
    """

    points: np.ndarray = attrs.field(repr=False)
    bends: np.ndarray = attrs.field(repr=False)
    along: np.ndarray = attrs.field(repr=False)
    closed: bool
    kinks: tuple = ()
    flat: tuple[Frame, list[Any]] | None = attrs.field(default=None, repr=False)

    @property
    def length(self) -> float:
        return float(self.along[-1])

    def tightest(self) -> tuple[float, tuple]:
        """(least radius of its bends, where that is)."""
        at = int(self.bends.argmax())
        return 1 / max(float(self.bends[at]), 1e-12), tuple(self.points[at].tolist())

    def nearest_to_itself(self) -> tuple[float, tuple]:
        """(how near parts of it come to each other that are far apart along it, where that is)."""
        least, where = math.inf, (0.0, 0.0, 0.0)
        reach = self.tightest()[0]
        tree = cKDTree(self.points)
        step = self.length / max(len(self.points) - 1, 1)
        near = max(4 * step, 0.5 * reach if reach < self.length else 0.0)
        for limit in (near, 4 * near, 16 * near):
            pairs = tree.query_pairs(limit, output_type="ndarray")
            apart = np.abs(self.along[pairs[:, 0]] - self.along[pairs[:, 1]])
            if self.closed:
                apart = np.minimum(apart, self.length - apart)
            far = np.linalg.norm(self.points[pairs[:, 0]] - self.points[pairs[:, 1]], axis=1)
            # Neighbours along a bend come as near as half a turn's chord.
            fits = apart > 0.6 * math.pi * np.maximum(far, step)
            if fits.any():
                best = int(np.where(fits, far, math.inf).argmin())
                least, where = float(far[best]), tuple(self.points[pairs[best, 0]].tolist())
                break
        return least, where


def along_curves(frame: Frame, curves: list[Any], closed: bool) -> Path:
    """A path along curves of a sketch that follow one another."""
    points, bends, kinks = [], [], []
    for before, after in zip(curves, [*curves[1:], curves[0]] if closed else curves[1:]):
        if isinstance(before, CLOSED) or isinstance(after, CLOSED):
            continue
        u, v = end_directions(before)[1], end_directions(after)[0]
        if abs(math.atan2(u[0] * v[1] - u[1] * v[0], float(u @ v))) > KINK:
            kinks.append(ends(after)[0])
    for curve in curves:
        for control in cubics_of(curve):
            t = np.linspace(0, 1, A_CUBIC)[:-1]
            points.append(bezier(control, t))
            bends.append(_bend(control, t))
    if not closed:
        points.append(bezier(cubics_of(curves[-1])[-1], np.array([1.0])))
        bends.append(bends[-1][-1:])
    flat = np.vstack(points)
    in_space = np.array([frame.in_space(place) for place in flat])
    kinked = tuple(frame.in_space(place) for place in kinks)
    return _path(in_space, closed, np.concatenate(bends), kinked, (frame, curves))


def _bend(control, t):
    first, second = bezier_derivative(control, t), _second(control, t)
    cross = np.abs(first[:, 0] * second[:, 1] - first[:, 1] * second[:, 0])
    return cross / np.maximum(np.hypot(*first.T), 1e-12) ** 3


def _second(control, t):
    t = np.asarray(t)[:, None]
    return 6 * ((1 - t) * (control[2] - 2 * control[1] + control[0]) + t * (control[3] - 2 * control[2] + control[1]))


def _path(points, closed, bends=None, kinks=(), flat=None):
    runs = np.linalg.norm(np.diff(points, axis=0), axis=1)
    keep = np.concatenate([[True], runs > FINE_MM])
    points = points[keep]
    bends = None if bends is None else bends[keep]
    along = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    if bends is None:
        spline = CubicSpline(along, points)
        first, second = spline(along, 1), spline(along, 2)
        bends = np.linalg.norm(np.cross(first, second), axis=1) / np.maximum(np.linalg.norm(first, axis=1), 1e-12) ** 3
    if closed:
        along = np.append(along, along[-1] + float(np.linalg.norm(points[0] - points[-1])))
        points, bends = np.vstack([points, points[:1]]), np.append(bends, bends[0])
    return Path(points, bends, along, closed, kinks, flat)


def lifted(path: Path, frame: Frame, heights: tuple[float, float, float]) -> Path:
    """A path lifted off its plane: by numbers at its beginning, in its middle and at its end, with a parabola through
    them over the way along it.

    Raises:
        OperationError: it closes, so that it has no beginning.
    """
    if path.closed:
        raise OperationError("A path that closes has no beginning and end to be lifted; choose an open one.")
    share = path.along / path.length
    begin, middle, end = heights
    height = begin + share * (4 * middle - 3 * begin - end) + share**2 * (2 * begin - 4 * middle + 2 * end)
    return _off_plane(path, path.points + height[:, None] * np.array(frame.normal))


def seen_as(path: Path, frame: Frame, view: Path, other: Frame) -> Path:
    """A path drawn in two views: its own gives where it runs, the other, in a plane upright on it, how high it lies
    there.

    Raises:
        OperationError: the planes do not stand upright on each other, the second view runs back along their common
            axis, or it does not reach as far as the first.
    """
    normal, axis = np.array(frame.normal), np.cross(frame.normal, other.normal)
    if np.linalg.norm(axis) < 1 - UPRIGHT:
        raise OperationError("The second view has to lie in a plane upright on that of the first; choose another.")
    axis /= np.linalg.norm(axis)
    at, heights = view.points @ axis, (view.points - np.array(frame.origin)) @ normal
    steps = np.diff(at)
    if not ((steps > 0).all() or (steps < 0).all()):
        raise OperationError(
            "The second view runs back or straight up somewhere; draw it so that it runs one way only."
        )
    if steps[0] < 0:
        at, heights = at[::-1], heights[::-1]
    wanted = path.points @ axis
    off = max(at[0] - wanted.min(), wanted.max() - at[-1])
    if off > REACH_MM:
        raise OperationError(f"The second view ends {off:.2f} mm before the first does; draw it as long as that.")
    height = CubicSpline(at, heights)(np.clip(wanted, at[0], at[-1]))
    return _off_plane(path, path.points + height[:, None] * normal)


def _off_plane(path, points):
    """A path whose points have moved; its corners with them."""
    if path.kinks:
        near = cKDTree(path.points).query(np.array(path.kinks))[1]
        return _path(points, path.closed, kinks=tuple(tuple(points[index].tolist()) for index in near))
    return _path(points, path.closed)


def around_face(development: Development, curves: list[Any], closed: bool, lift: float) -> Path:
    """A path along curves laid around a face, so far outside it."""
    surface, places = development.parallel(lift), []
    for curve in curves:
        places += [bezier(control, np.linspace(0, 1, A_CUBIC)[:-1]) for control in cubics_of(curve)]
    if not closed:
        places.append(cubics_of(curves[-1])[-1][3:])
    told = development.parameters(np.vstack(places))
    return _path(np.array([surface.Value(float(u), float(v)).Coord() for u, v in told]), closed)


def helix(point: Sequence[float], way: Sequence[float], radius: float, pitch: float, turns: float) -> Path:
    """A helix about an axis, which rises by a pitch each turn, counter-clockwise as it comes toward the eye.

    Raises:
        OperationError: it would have no size.
    """
    angle = np.linspace(0, 2 * math.pi * turns, max(8, math.ceil(A_TURN * turns)) + 1)
    x, y, z = _about(way)
    places = radius * (np.cos(angle)[:, None] * x + np.sin(angle)[:, None] * y)
    rise = pitch / (2 * math.pi)
    bends = np.full(len(angle), radius / (radius**2 + rise**2))
    return _path(np.asarray(point) + places + (rise * angle)[:, None] * z, False, bends)


def spiral(point: Sequence[float], way: Sequence[float], radius: float, pitch: float, turns: float) -> Path:
    """A flat spiral about an axis, which widens by a pitch each turn (Archimedes)."""
    angle = np.linspace(0, 2 * math.pi * turns, max(8, math.ceil(A_TURN * turns)) + 1)
    x, y, _ = _about(way)
    slope = pitch / (2 * math.pi)
    reach = radius + slope * angle
    bends = (reach**2 + 2 * slope**2) / (reach**2 + slope**2) ** 1.5
    places = reach[:, None] * (np.cos(angle)[:, None] * x + np.sin(angle)[:, None] * y)
    return _path(np.asarray(point) + places, False, bends)


def _about(way):
    """Three unit vectors square to each other, the last along an axis."""
    frame = frame_of((0, 0, 0), way)
    return tuple(np.array(one) for one in (frame.across, frame.up, frame.normal))


def least_turns(turns: float) -> None:
    """Refuse too many or too few turns.

    Raises:
        OperationError: no turn, or more than 200.
    """
    if not 0 < turns <= 200:
        raise OperationError(f"Between a part of a turn and 200 turns can be built; {turns:g} came.")
