"""What blur does to an outline, and how that is taken back: round edges read small, fillets large, tips are drawn back.

Blurred by a Gaussian of standard deviation σ, the middle level of an edge of curvature κ moves by σ²κ/2 toward the
centre of
curvature (to first order; Mendonça et al. and others for disc-shaped targets), smeared along the edge by σ itself. The
tip of a
corner is drawn back by σ times a number that depends on its angle alone.
"""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from scipy.ndimage import gaussian_filter1d
from scipy.special import erf, erfinv

from nomogon_core.picture.compiled_contours import plateau_levels, values_at

USUAL_BLUR_PX, LEAST_BLUR_PX, MOST_BLUR_PX = 1.3, 0.4, 4.0
PROBE_PX = 1.0
CLEAR_SHARE = 0.1
LEAST_RADIUS_SIGMAS = 1.5
# What no model of the lens tells: compression, sampling, the shape of the blur; as a radius that is off by this over
# itself (pixels squared).
LEFT_PX2 = 0.08
TURNS = np.radians(np.arange(2.0, 176.0, 2.0))
QUADRATURE = np.linspace(-6.0, 6.0, 601)


def edge_blur(
    light: np.ndarray, points: np.ndarray, normals: np.ndarray, near: float, far: float, contrast: float
) -> float | None:
    """Standard deviation in pixels of the blur across an edge, of the lens and of all smoothing since, or None where
    too little of it is clear.

    Read from how much of the step between the plateaus beside the edge lies within a pixel of it.

    Args:
        light: (h, w); points, normals: (n, 2) of the contour; near, far: between which distances the plateaus are, in
            pixels.
        contrast: the usual step.
    """
    levels, spreads = plateau_levels(light, points, normals, near, far)
    step = levels[:, 1] - levels[:, 0]
    within = values_at(light, points + PROBE_PX * normals) - values_at(light, points - PROBE_PX * normals)
    clear = (spreads.max(axis=1) < CLEAR_SHARE * contrast) & (np.abs(step) > 0.5 * contrast)
    if clear.sum() < 12:
        return None
    share = np.clip(np.median(within[clear] / step[clear]), 0.05, 0.995)
    return float(np.clip(PROBE_PX / math.sqrt(2) / erfinv(share), LEAST_BLUR_PX, MOST_BLUR_PX))


@lru_cache(maxsize=1)
def _recessions():
    """How far a tip is drawn back, in standard deviations of the blur, at each of TURNS."""
    weights = np.exp(-(QUADRATURE**2) / 2) / math.sqrt(2 * math.pi) * (QUADRATURE[1] - QUADRATURE[0])
    told = []
    for turn in TURNS:
        slope, low, high = math.tan((math.pi - turn) / 2), 0.0, 40.0
        for _ in range(50):
            middle = (low + high) / 2
            inside = np.where(-middle < QUADRATURE, erf(slope * np.maximum(QUADRATURE + middle, 0) / math.sqrt(2)), 0.0)
            low, high = (middle, high) if float(inside @ weights) < 0.5 else (low, middle)
        told.append(low)
    return np.array(told)


def tip_recession(turn: float, blur: float) -> float:
    """How far the middle level stands back from the tip of a sharp corner, in pixels.

    Args:
        turn: of the outline at the corner, in radians; blur: standard deviation in pixels.
    """
    return blur * float(np.interp(turn, TURNS, _recessions()))


def true_radius(read: float, blur: float) -> float:
    """Radius of a round edge that reads so large after a blur."""
    return (read + math.sqrt(read * read + 2 * blur * blur)) / 2


def radius_doubt(radius: float) -> float:
    """Standard deviation of what is left of the blur's effect on a radius, in pixels."""
    return LEFT_PX2 / max(radius, 0.3)


def curvature_of(points: np.ndarray, reach: float, *, closed: bool = True) -> np.ndarray:
    """Curvature (n,) of contour points (n, 2) a pixel apart, smoothed by a Gaussian of ``reach`` pixels; positive where
    it turns from x toward y."""
    mode = "wrap" if closed else "nearest"
    # Differences of the smoothed points: the second-order kernel of a sampled Gaussian does not sum to zero, so that
    # far points would count as bent.
    smooth = gaussian_filter1d(points, reach, axis=0, mode=mode)
    ahead, behind = np.roll(smooth, -1, axis=0), np.roll(smooth, 1, axis=0)
    if not closed:
        ahead[-1], behind[0] = 2 * smooth[-1] - smooth[-2], 2 * smooth[0] - smooth[1]
    speed, bend = (ahead - behind) / 2, ahead - 2 * smooth + behind
    return (speed[:, 0] * bend[:, 1] - speed[:, 1] * bend[:, 0]) / np.maximum((speed**2).sum(axis=1), 1e-6) ** 1.5


def drawn_out(points: np.ndarray, curvature: np.ndarray, blur: float, *, closed: bool = True) -> np.ndarray:
    """Contour points (n, 2), one a pixel, moved to where they would be without the blur.

    Args:
        curvature: (n,) of the outline, positive where it turns from x toward y, in 1/pixels.
        blur: standard deviation in pixels.
    """
    mode = "wrap" if closed else "nearest"
    most = 1 / (LEAST_RADIUS_SIGMAS * blur)
    smeared = gaussian_filter1d(np.clip(curvature, -most, most), blur, mode=mode)
    run = np.roll(points, -2, axis=0) - np.roll(points, 2, axis=0) if closed else np.gradient(points, axis=0)
    way = run / np.maximum(np.hypot(run[:, 0], run[:, 1]), 1e-9)[:, None]
    # The centre lies to the side that the outline turns to; the blur moved the points that way.
    return points - np.column_stack([-way[:, 1], way[:, 0]]) * (0.5 * blur**2 * smeared)[:, None]
