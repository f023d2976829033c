"""The nearest edge to a click, to a fraction of a pixel, in linear light."""

from __future__ import annotations

import attrs
import cv2
import numpy as np
from scipy import ndimage

from nomogon_core.errors import InputError

SEARCH_PX = 14.0
PROFILE_HALF_PX = 6.0
PROFILE_STEP_PX = 0.25
ALONG_PX = 4
SMOOTHING_PX = 1.0
BOW_REACH_PX = 4.0
LEAST_BEND = 3.0
LEAST_CONTRAST = 0.02
UNSURE_PICK_PX = 1.0
# Neighbouring samples share pixels, so the noise between rows tells too little of the noise of their mean: a factor of
# 1.5
# for white noise; with what JPEG compression correlates 2.3, as measured on shots other than the benchmark's.
SHARED_NOISE = 2.3
PICK_BIAS_PX = 0.02


@attrs.frozen
class EdgePick:
    """A point on an edge of the picture, or the click itself where there is none.

    Attributes:
        x, y: place in pixels.
        normal: unit direction across the edge, from dark to bright; None off an edge.
        sigma_px: standard deviation of the place across the edge.
        on_edge: whether an edge was found.
    """

    x: float
    y: float
    normal: tuple | None
    sigma_px: float
    on_edge: bool


def pick_edge(light: np.ndarray, x: float, y: float, *, search_px: float = SEARCH_PX) -> EdgePick:
    """Move a click to the nearest strong edge.

    The place is where the brightness, averaged along the edge, crosses the middle of both sides' levels.
    Its standard deviation is the noise of that average over its slope, together with
    the bias left by blur, compression and sampling.

    Args:
        light: linear luminance (h, w).
        x, y: the click, in pixels.
        search_px: how far an edge may be away.

    Raises:
        InputError: the click lies outside the picture.
    """
    height, width = light.shape
    if not (0 <= x <= width - 1 and 0 <= y <= height - 1):
        raise InputError(f"The pick at ({x:.0f}, {y:.0f}) lies outside the picture of {width} × {height} pixels.")
    found = _strongest_near(light, x, y, search_px)
    if found is None:
        return EdgePick(float(x), float(y), None, UNSURE_PICK_PX, False)
    place, normal = found
    return _refine(light, place, normal, (x, y), search_px)


def _strongest_near(light, x, y, search_px):
    """Pixel and unit normal of the best edge near a click: steep, and not far away."""
    reach = int(np.ceil(search_px)) + 3
    left, top = max(0, int(round(x)) - reach), max(0, int(round(y)) - reach)
    patch = light[top : int(round(y)) + reach + 1, left : int(round(x)) + reach + 1]
    smooth = cv2.GaussianBlur(patch, (0, 0), SMOOTHING_PX)
    across = cv2.Sobel(smooth, cv2.CV_32F, 1, 0, scale=1 / 8)
    down = cv2.Sobel(smooth, cv2.CV_32F, 0, 1, scale=1 / 8)
    steep = np.hypot(across, down)
    rows, columns = np.mgrid[0 : patch.shape[0], 0 : patch.shape[1]]
    distance = np.hypot(columns + left - x, rows + top - y)
    score = np.where(distance <= search_px, steep * np.exp(-((distance / search_px) ** 2) * 2), 0)
    row, column = np.unravel_index(int(np.argmax(score)), score.shape)
    if steep[row, column] < LEAST_CONTRAST / 4:
        return None
    normal = np.array([across[row, column], down[row, column]]) / steep[row, column]
    return np.array([column + left, row + top], float), normal


def _refine(light, start, normal, click, search_px):
    """Mid-level crossing on the profile through the point of the edge that faces the click."""
    along = np.array([-normal[1], normal[0]])
    start = start + along * float(np.dot(np.subtract(click, start), along))
    offsets = np.arange(-PROFILE_HALF_PX, PROFILE_HALF_PX + PROFILE_STEP_PX / 2, PROFILE_STEP_PX)
    beside = np.arange(-ALONG_PX, ALONG_PX + 1)
    places = start[None, None] + offsets[None, :, None] * normal + beside[:, None, None] * along
    rows = ndimage.map_coordinates(light, [places[..., 1], places[..., 0]], order=1, mode="nearest")
    profile = rows.mean(axis=0)
    crossing, contrast = _middle_crossing(profile, offsets)
    if crossing is None or contrast < LEAST_CONTRAST:
        return EdgePick(float(click[0]), float(click[1]), None, UNSURE_PICK_PX, False)
    place = start + crossing * normal
    slope = np.gradient(profile, PROFILE_STEP_PX)[np.argmin(np.abs(offsets - crossing))]
    noise = float(np.median(np.abs(np.diff(rows, axis=0)))) / 0.6745 / np.sqrt(2)
    spread = noise / max(abs(slope), 1e-6)
    blur = contrast / max(abs(slope), 1e-6) / np.sqrt(2 * np.pi)
    bow, doubt = _bow(rows, profile, offsets, crossing, beside, spread, blur)
    place = place - bow * normal
    sigma = float(np.hypot(SHARED_NOISE * doubt, PICK_BIAS_PX))
    if np.hypot(*(place - click)) > search_px + 1:
        return EdgePick(float(click[0]), float(click[1]), None, UNSURE_PICK_PX, False)
    return EdgePick(
        float(place[0]), float(place[1]), (float(normal[0]), float(normal[1])), min(sigma, UNSURE_PICK_PX), True
    )


def _bow(rows, profile, offsets, crossing, beside, spread, blur):
    """How far averaging along a curved edge has moved it, and the standard deviation of what is left.

    Each row's own crossing gives the edge's shape along itself; a parabola through these has its value in the
    middle. It is used only where its bend stands out from the noise, since it costs a factor of 1.5 in noise.
    Blur draws a curved edge toward its centre by half its variance over the radius; that is given back.
    """
    level = float(np.interp(crossing, offsets, profile))
    near = np.abs(offsets - crossing) <= BOW_REACH_PX
    places = np.full(len(rows), np.nan)
    for index, row in enumerate(rows[:, near] - level):
        turns = np.nonzero((row[:-1] < 0) & (row[1:] >= 0))[0]
        if len(turns):
            found = offsets[near][turns] + row[turns] / (row[turns] - row[turns + 1]) * PROFILE_STEP_PX
            places[index] = found[np.argmin(np.abs(found - crossing))]
    seen = np.isfinite(places)
    mean = spread / np.sqrt(len(beside))
    if seen.sum() < len(beside) - 2:
        return 0.0, mean
    terms = np.column_stack([np.ones(seen.sum()), beside[seen], beside[seen] ** 2])
    (middle, _, bend), *_ = np.linalg.lstsq(terms, places[seen], rcond=None)
    covariance = np.linalg.inv(terms.T @ terms)
    residual = float(np.std(places[seen] - terms @ np.linalg.lstsq(terms, places[seen], rcond=None)[0]))
    own = max(residual * np.sqrt(seen.sum() / max(seen.sum() - 3, 1)), 0.3 * spread)
    if abs(bend) < LEAST_BEND * own * np.sqrt(covariance[2, 2]):
        return 0.0, mean
    return float(crossing - middle + bend * blur**2), float(max(own, spread) * np.sqrt(covariance[0, 0]))


def _middle_crossing(profile, offsets):
    """Offset where a rising profile crosses the middle between its two plateaus, and their contrast."""
    rise = np.gradient(profile)
    center = int(np.argmax(np.where(np.abs(offsets) <= 3.0, rise, -np.inf)))
    peak = rise[center]
    if peak <= 0:
        return None, 0.0
    low, high = center, center
    while low > 0 and rise[low - 1] > 0.04 * peak:
        low -= 1
    while high < len(profile) - 1 and rise[high + 1] > 0.04 * peak:
        high += 1
    below = profile[max(0, low - 6) : low + 1].mean()
    above = profile[high : high + 7].mean()
    middle = (below + above) / 2
    crossings = np.nonzero((profile[:-1] < middle) & (profile[1:] >= middle))[0]
    if not len(crossings):
        return None, 0.0
    index = crossings[np.argmin(np.abs(crossings - center))]
    share = (middle - profile[index]) / (profile[index + 1] - profile[index])
    return float(offsets[index] + share * PROFILE_STEP_PX), float(above - below)
