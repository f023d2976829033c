"""Places along an edge that is straight in reality but may be bowed by the lens."""

from __future__ import annotations

import math

import cv2
import numpy as np

from nomogon_core.errors import CalibrationError
from nomogon_core.reference.models import Edge

REACH_PX = 30.0
NEAR_PX = 9.0
STEP_PX = 0.5
BLOCK_PX = 12
END_SHARE, END_PX = 0.05, 8.0
TRIALS, LEAST_IN_LINE, IN_LINE_PX = 200, 0.3, 1.5
MOST_BOW_SHARE = 0.3
PLATEAU_SAMPLES, PLATEAU_BLOCKS = 8, 11
LEAST_STEP = 0.02
LEAST_BLOCKS, MOST_BLOCKS = 8, 64
LEAST_SIGMA_PX = 0.008
OUTLIER_SIGMAS = 3.5
SMOOTH_ORDER, KEPT_ORDER = 3, 4


def follow_edge_between(
    light: np.ndarray,
    start: np.ndarray | tuple[float, float],
    end: np.ndarray | tuple[float, float],
    *,
    reach: float = REACH_PX,
) -> Edge:
    """Places along the edge between two corners, as an :class:`Edge`.

    First the edge is looked for within ``reach`` pixels, as a parabola that most of the steepest places lie on
    (Fischler and Bolles 1981);
    then profiles across it are averaged over blocks, and each is crossed at the middle between the plateaus on both
    sides, in linear light.

    Args:
        light: linear luminance (h, w).
        start, end: the corners in pixels, to within ``reach``.

    Raises:
        CalibrationError: no clear edge runs there.
    """
    start, end = np.asarray(start, float), np.asarray(end, float)
    size = math.dist(start, end)
    margin = max(END_SHARE * size, END_PX)
    if size - 2 * margin < LEAST_BLOCKS * BLOCK_PX / 2:
        raise CalibrationError(
            "The thing is too small in the picture for its edges to be followed; go closer, or use a larger one."
        )
    way = (end - start) / size
    normal = np.array([-way[1], way[0]])
    along = np.arange(margin, size - margin, 1.0)
    share = (along - along.mean()) / size
    reach = min(reach, 0.2 * size)
    curve = _rough(light, start, way, normal, along, share, reach)
    for order in (SMOOTH_ORDER, SMOOTH_ORDER, KEPT_ORDER):
        curve, found = _refined(light, start, way, normal, along, share, size, curve, order)
    places, normals, off = found
    sigma = max(float(off.std()) * math.sqrt(len(off) / max(len(off) - KEPT_ORDER - 1, 1)), LEAST_SIGMA_PX)
    return Edge(tuple(map(tuple, places.tolist())), tuple(map(tuple, normals.tolist())), sigma)


def _profiles(light, start, way, normal, along, curve, slope, offsets):
    """Light (n, m) across the curve at places along it, the places and the directions across."""
    off = np.polyval(curve, slope[0])
    lean = np.polyval(np.polyder(curve), slope[0]) / slope[1]
    across = normal - lean[:, None] * way
    across /= np.hypot(across[:, 0], across[:, 1])[:, None]
    middle = start + along[:, None] * way + off[:, None] * normal
    sampled = (middle[:, None] + offsets[None, :, None] * across[:, None]).astype(np.float32)
    return (
        cv2.remap(light, sampled[..., 0], sampled[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE),
        middle,
        across,
    )


def _rough(light, start, way, normal, along, share, reach):
    offsets = np.arange(-reach, reach + STEP_PX / 2, STEP_PX)
    light_across, _, _ = _profiles(light, start, way, normal, along, np.zeros(1), (share, 1.0), offsets)
    steep = np.gradient(cv2.GaussianBlur(light_across, (0, 0), sigmaX=3, sigmaY=4), axis=1)
    sense = math.copysign(1.0, steep.ravel()[np.abs(steep).argmax()])
    best, random = None, np.random.default_rng(0)
    for one in (sense, -sense):
        at, strength = offsets[(one * steep).argmax(axis=1)], np.maximum((one * steep).max(axis=1), 0)
        for _ in range(TRIALS):
            three = random.choice(len(along), 3, replace=False)
            if np.ptp(share[three]) < 0.2:
                continue
            curve = np.polyfit(share[three], at[three], 2)
            if abs(curve[0]) > 4 * MOST_BOW_SHARE * reach:
                continue
            inside = np.abs(np.polyval(curve, share) - at) < IN_LINE_PX
            score = float((inside * strength).sum())
            if best is None or score > best[0]:
                best = (score, inside, at)
    if best is None or best[1].mean() < LEAST_IN_LINE:
        raise CalibrationError(
            "No clear edge was found between two of the corners; the thing must lie flat and stand out from the "
            "ground all along."
        )
    return np.polyfit(share[best[1]], best[2][best[1]], SMOOTH_ORDER)


def _refined(light, start, way, normal, along, share, size, curve, order):
    """(curve, (places, normals, residuals)) after one round of crossings near a curve."""
    offsets = np.arange(-NEAR_PX, NEAR_PX + STEP_PX / 2, STEP_PX)
    profiles, middle, across = _profiles(light, start, way, normal, along, curve, (share, size), offsets)
    block = max(BLOCK_PX, math.ceil(len(along) / MOST_BLOCKS))
    count = len(along) // block

    def mean(values):
        return values[: count * block].reshape(count, block, -1).mean(axis=1)

    profile, middle, across = mean(profiles), mean(middle), mean(across)
    low, high = (
        _smooth(profile[:, part].mean(axis=1)) for part in (slice(None, PLATEAU_SAMPLES), slice(-PLATEAU_SAMPLES, None))
    )
    step = high - low
    rising = (profile - ((low + high) / 2)[:, None]) * np.sign(step)[:, None]
    crossing = (rising[:, :-1] < 0) & (rising[:, 1:] >= 0)
    away = np.where(crossing, np.abs(offsets[:-1]), np.inf)
    at, rows = away.argmin(axis=1), np.arange(count)
    clear = (away[rows, at] < NEAR_PX / 2) & (np.abs(step) > LEAST_STEP)
    off = offsets[at] + STEP_PX * -rising[rows, at] / np.maximum(rising[rows, at + 1] - rising[rows, at], 1e-9)
    seen = middle + off[:, None] * across
    level, shares = (seen - start) @ normal, ((seen - start) @ way - along.mean()) / size
    kept = clear.copy()
    for _ in range(4):
        if kept.sum() < LEAST_BLOCKS:
            raise CalibrationError(
                "No clear edge was found between two of the corners; the thing must lie flat and stand out from the "
                "ground all along."
            )
        curve = np.polyfit(shares[kept], level[kept], min(order, int(kept.sum()) - 2))
        residual = level - np.polyval(curve, shares)
        spread = 1.4826 * float(np.median(np.abs(residual[kept] - np.median(residual[kept])))) + 1e-3
        kept = clear & (np.abs(residual) < OUTLIER_SIGMAS * spread)
    return curve, (seen[kept], across[kept], residual[kept])


def _smooth(values):
    """A running mean over blocks along the edge."""
    half = min(PLATEAU_BLOCKS, len(values) - 1 + len(values) % 2) // 2
    padded = np.pad(values, half, mode="edge")
    return np.convolve(padded, np.ones(2 * half + 1) / (2 * half + 1), "valid")
