"""A resampled contour with what is known of its noise and of its corners."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import attrs
import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.signal import savgol_filter

from nomogon_core.picture.blur import tip_recession
from nomogon_core.trace import compiled_pieces

if TYPE_CHECKING:
    from nomogon_core.trace.fit_settings import FitSettings

END_SKIP_PX = 1.0
PLATEAU_PX = 5
ACUTE = math.radians(75.0)
WANDER_WINDOW_PX = 151
MOST_WANDER_PX = 0.25
STRAIGHT_SHARE = 0.05
RECESSION_SLACK = 1.25
SURE_TIP_PX = 1.3
CLOSED_BY_LENS, SIDES_ALIKE, CLOSED_TIP_PX = math.radians(110.0), math.radians(10.0), 1.8
WEAK_CORNER = math.radians(50.0)


@attrs.frozen
class _Outline:
    """A resampled contour with what is known of its corners; arrays are (n,) or (n, 2), one a point. An open one has
    its ends for corners.

    Attributes:
        drawn: it was recognised as lines and arcs, and those longer than least_kept_px stay; clear: it hardly wobbles.
        slacks: how far the contour may be from its sides carried on, within the skips.
        rough: it is neither drawn nor clear, and its corners are taken as they stand.
        sure_tip_px: how far beyond the contour a corner may be whatever its sides.
        blur_px: standard deviation of the blur of the edge.
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
    slacks: np.ndarray
    is_open: bool = False
    drawn: bool = False
    least_kept_px: float = 0.0
    clear: bool = False
    rough: bool = False
    sure_tip_px: float = SURE_TIP_PX
    blur_px: float = 0.0

    def recession(self, place: int) -> float:
        """How far in pixels the lens draws the tip back at a place, if that place is a corner."""
        return self.recessions[place % len(self.points)]

    def closed_by_lens(self, place: int) -> bool:
        """Whether a place is the tip of a corner so acute that the lens closed it."""
        return self.slacks[place % len(self.points)] > SURE_TIP_PX

    def skip(self, place: int) -> float:
        """Length in pixels on either side of a place that the lens rounds off if that place is a corner: more at an
        acute one."""
        return self.skips[place % len(self.points)]


def resample(points: np.ndarray, step: float = 1.0, closed: bool = True) -> np.ndarray:
    """The contour at even steps of about one pixel."""
    path = np.vstack([points, points[:1]]) if closed else points
    runs = np.hypot(*np.diff(path, axis=0).T)
    keep = np.concatenate([[True], runs > 1e-9])
    path, along = path[keep], np.concatenate([[0], np.cumsum(runs[runs > 1e-9])])
    count = max(12 if closed else 2, int(round(along[-1] / step)) + (0 if closed else 1))
    places = np.arange(count) * along[-1] / count if closed else np.linspace(0, along[-1], count)
    return np.column_stack([np.interp(places, along, path[:, 0]), np.interp(places, along, path[:, 1])])


def contour_noise(points: np.ndarray, pixel: float) -> float:
    """Standard deviation of a contour's wobble, in pixels.

    The fine wobble is the median departure from local parabolas. Texture beside an edge makes it wander more
    slowly; that is read off the contour's long straight stretches, where there are any.
    """
    return wobble(resample(np.asarray(points, float) / pixel))


def wobble(contour: np.ndarray, closed: bool = True) -> float:
    """The same of a contour (n, 2) in pixels that is resampled already."""
    short, mode = min(31, 2 * (len(contour) // 4) - 1), "wrap" if closed else "interp"
    fine = float(np.median(_departure(contour, short, 2, mode)) / 0.6745)
    if len(contour) < 3 * WANDER_WINDOW_PX:
        return fine
    away = np.sqrt(
        np.maximum(
            uniform_filter1d(
                _departure(contour, WANDER_WINDOW_PX, 1, mode) ** 2,
                WANDER_WINDOW_PX,
                mode="wrap" if closed else "nearest",
            ),
            0,
        )
    )
    straight = away[away < MOST_WANDER_PX]
    return max(fine, float(np.median(straight))) if len(straight) > STRAIGHT_SHARE * len(contour) else fine


def _departure(contour, window, order, mode):
    away = contour - savgol_filter(contour, window, order, axis=0, mode=mode)
    return np.hypot(away[:, 0], away[:, 1])


def describe(contour: np.ndarray, settings: FitSettings, is_open: bool = False, blur_px: float = 0.0) -> _Outline:
    """Corners of a resampled contour (n, 2) in pixels, and what the lens does to each: :class:`_Outline`.

    A corner is where the lines through the points before and after a place turn by more than ``corner_degrees``, the
    sharpest
    first, none within the rounded-off length of another.
    """
    runs = np.hypot(*(np.roll(contour, -1, axis=0) - contour).T)
    window = min(settings.corner_window_px, max(3, len(contour) // 8))
    sides = compiled_pieces.one_sided_directions(contour, window, 2)
    near_before, _, near_after, _ = compiled_pieces.one_sided_directions(contour, max(3, window // 2), 2)
    far_sides = compiled_pieces.one_sided_directions(contour, 2 * window, window)
    wide, near, far = _turns(sides[0], sides[2]), _turns(near_before, near_after), _turns(far_sides[0], far_sides[2])
    strength = np.minimum(np.abs(wide), 1.35 * np.abs(near))
    if is_open:
        strength[[0, -1]] = math.pi
        strength[1 : 2 * window], strength[-2 * window : -1] = 0.0, 0.0
    corners, skips, recessions, slacks = _corners(
        strength, np.abs(wide), np.abs(far), window, settings, is_open, blur_px
    )
    for index in np.flatnonzero(slacks == CLOSED_TIP_PX):
        for near_side, far_side in zip(sides, far_sides):
            near_side[index] = far_side[index]
    return _Outline(
        contour,
        np.concatenate([[0], np.cumsum(runs)]),
        np.array(sorted(corners), int),
        strength,
        *sides,
        skips,
        recessions,
        slacks,
        is_open,
        blur_px=blur_px,
    )


def _corners(strength, wide, far, window, settings, is_open, blur_px):
    """The places that are corners, and of every place how far it is skipped, stands back and may be off, in pixels.

    Args:
        strength, wide, far: how much each place turns, in radians, as a corner, by its sides and by those further off.
    """
    count = len(strength)
    corners = [0, count - 1] if is_open else []
    skips = np.full(count, settings.skip_px)
    recessions = np.full(count, settings.least_recession_px)
    slacks = np.full(count, SURE_TIP_PX)
    if is_open:
        skips[[0, -1]] = END_SKIP_PX
    # At a sharp corner the turn is the same over a few places; its smoothed size is largest in their middle.
    for index in np.argsort(-uniform_filter1d(strength, PLATEAU_PX, mode="wrap")):
        if strength[index] < math.radians(settings.corner_degrees) or index in corners:
            continue
        apart = np.abs(np.array(corners, int) - index)
        if any(
            gap <= max(0.8 * window, 2 * window if slacks[other] > SURE_TIP_PX else skips[other])
            for gap, other in zip(np.minimum(apart, count - apart), corners)
        ):
            continue
        corners.append(int(index))
        kink = max(wide[index], far[index]) if wide[index] > ACUTE else wide[index]
        slope = math.tan(max((math.pi - kink) / 2, 0.05))
        skips[index] = np.clip(settings.rounding_px / slope, settings.skip_px, settings.longest_skip_px)
        recession = RECESSION_SLACK * tip_recession(kink, blur_px) if blur_px > 0 else settings.recession_px / slope
        recessions[index] = np.clip(recession, settings.least_recession_px, settings.longest_skip_px)
        if wide[index] > CLOSED_BY_LENS and far[index] > wide[index] - SIDES_ALIKE:
            slacks[index] = CLOSED_TIP_PX
    return corners, skips, recessions, slacks


def _turns(before, after):
    return np.arctan2(before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0], (before * after).sum(axis=1))


def is_corner(outline: _Outline, place: int) -> bool:
    """Whether a place is a corner that stays one in an outline that is not clear, where a weak one may be noise."""
    place %= len(outline.points)
    return place in outline.corners and outline.corner_strength[place] > WEAK_CORNER
