"""Is a picture good enough? Each measure as a graduated scale with a pointer and, if short, what to do."""

from __future__ import annotations

import math
from typing import Any

import attrs
import cv2
import numpy as np
from scipy import ndimage

from nomogon_core.errors import TraceError
from nomogon_core.picture.contours import find_contours, find_tones, outward_normals

REDUCED_PIXELS = 1_000_000
PROFILES = 240
PROFILE_HALF_PX = 14.0
SATURATED = 0.97
OTHER_SHAPE_SHARE = 0.02


@attrs.frozen
class Measure:
    """One measure of a picture.

    Attributes:
        name: what is measured; shown: its value in words.
        share: where the pointer stands, 0 poor to 1 good; the limits of poor and good are at one and two thirds. None:
            not known.
        state: "good", "fair", "poor" or "unknown".
        remedy: what to do, "" when good.
    """

    name: str
    shown: str
    share: float | None
    state: str
    remedy: str = ""


def _measure(name, shown, value, poor, good, remedy):
    """A measure from a value and its limits; ``poor`` may lie above or below ``good``."""
    share = (1 + (value - poor) / (good - poor)) / 3
    state = "good" if share >= 2 / 3 else "fair" if share >= 1 / 3 else "poor"
    return Measure(name, shown, float(np.clip(share, 0.02, 0.98)), state, "" if state == "good" else remedy)


def _reduced(light):
    share = math.sqrt(REDUCED_PIXELS / light.size)
    if share >= 1:
        return light, 1.0
    return cv2.resize(light, None, fx=share, fy=share, interpolation=cv2.INTER_AREA), 1 / share


def _edge_width(light, contour, factor):
    """Median length in full pixels over which the light rises from 10 to 90 % across the outline."""
    points = contour.points * factor + (factor - 1) / 2
    normals = outward_normals(contour.points)
    chosen = np.linspace(0, len(points) - 1, min(PROFILES, len(points))).astype(int)
    offsets = np.arange(-PROFILE_HALF_PX, PROFILE_HALF_PX + 0.1, 0.25)
    places = points[chosen, None] + offsets[None, :, None] * normals[chosen, None]
    profiles = ndimage.map_coordinates(light, [places[..., 1], places[..., 0]], order=1, mode="nearest")
    low, high = profiles[:, :12].mean(axis=1), profiles[:, -12:].mean(axis=1)
    clear = np.abs(high - low) > 0.4 * np.median(np.abs(high - low))
    share = (profiles[clear] - low[clear, None]) / (high - low)[clear, None]
    middle = (
        len(offsets) // 2
        + np.argmin(np.abs(share[:, len(offsets) // 2 - 20 : len(offsets) // 2 + 21] - 0.5), axis=1)
        - 20
    )
    widths = []
    for row, at in zip(share, middle):
        before, after = np.nonzero(row[: at + 1] <= 0.1)[0], np.nonzero(row[at:] >= 0.9)[0]
        if len(before) and len(after):
            widths.append((at + after[0] - before[-1]) * 0.25)
    return float(np.median(widths)) if widths else 2 * PROFILE_HALF_PX


def assess(light: np.ndarray, fit: Any = None) -> tuple[Measure, ...]:
    """All measures of a picture.

    Args:
        light: linear luminance (h, w).
        fit: its calibration, or None.

    Returns:
        :class:`Measure` in a fixed order; just one, poor, where part and ground cannot be told apart.
    """
    small, factor = _reduced(light)
    try:
        tones = find_tones(small)
        contours = find_contours(small, tones=tones, least_area_px=200)
    except TraceError as problem:
        return (Measure("Part against ground", "not told apart", 0.02, "poor", str(problem)),)
    largest = next((contour for contour in contours if not contour.touches_border and not contour.hole), contours[0])
    return (
        _density(largest, factor, fit),
        _sharpness(_edge_width(light, largest, factor)),
        _contrast(tones),
        _glare(small, largest, tones),
        _evenness(tones),
        _tilt(fit, light.shape[::-1]),
        _border(contours),
        _shapes(contours),
    )


def _density(contour, factor, fit):
    if fit is not None:
        density = 1 / fit.mm_per_px
        return _measure(
            "Pixels per mm",
            f"{density:.1f}",
            math.log(density),
            math.log(3),
            math.log(8),
            "Go closer, or scan at a higher resolution: 8 px per mm allow ±0.02 mm.",
        )
    across = float(np.ptp(contour.points, axis=0).max()) * factor
    return _measure(
        "Pixels across the part",
        f"{across:.0f}",
        math.log(across),
        math.log(300),
        math.log(1000),
        "Go closer, so that the part fills the picture.",
    )


def _sharpness(width):
    return _measure(
        "Sharpness, edge width in px",
        f"{width:.1f}",
        -width,
        -8,
        -4,
        "Hold the camera still, focus on the part's upper edge, or clean the scanner's glass.",
    )


def _contrast(tones):
    contrast = abs(tones.part - tones.ground) / max(tones.part, tones.ground, 1e-6)
    return _measure(
        "Contrast of part to ground",
        f"{100 * contrast:.0f} %",
        contrast,
        0.25,
        0.6,
        "Lay the part on a ground that is much lighter or darker.",
    )


def _glare(small, contour, tones):
    inside = np.zeros(small.shape, np.uint8)
    cv2.fillPoly(inside, [np.round(contour.points).astype(np.int32)], 1)
    inside = cv2.erode(inside, np.ones((5, 5), np.uint8)) > 0
    factors = cv2.resize(tones.evening, small.shape[::-1])
    like_ground = np.abs(small * factors - tones.ground) < 0.5 * abs(tones.part - tones.ground)
    glare = (
        float(np.mean((small >= SATURATED)[inside] & ~like_ground[inside]))
        if inside.any() and tones.part_is_dark
        else float(np.mean(small >= SATURATED))
    )
    return _measure(
        "Glare, share of white-out",
        f"{100 * glare:.1f} %",
        -glare,
        -0.05,
        -0.01,
        "Use soft light from the side, or dull a shiny part with chalk or tape.",
    )


def _evenness(tones):
    even = float(tones.evening.min() / tones.evening.max())
    return _measure(
        "Evenness of light",
        f"{100 * even:.0f} %",
        even,
        0.35,
        0.65,
        "Light from two sides, or add the clean-up step “Even out the light”.",
    )


def _tilt(fit, size):
    if fit is None or fit.model not in ("camera", "perspective", "affine"):
        return Measure(
            "Tilt, change of scale",
            "not known",
            None,
            "unknown",
            "Lay a bank card or a sheet beside the part: its corners show the tilt and take it out.",
        )
    change = fit.scale_change(size)
    return _measure(
        "Tilt, change of scale",
        f"{100 * change:.1f} %",
        -change,
        -0.25,
        -0.08,
        "It is taken out, but heights above the plane are not: hold the camera straighter above the part.",
    )


def _border(contours):
    count = sum(contour.touches_border for contour in contours)
    return _measure(
        "Outlines at the border",
        str(count),
        -count,
        -0.9,
        -0.4,
        "Show some ground all around the part, or crop away what reaches the border.",
    )


def _shapes(contours):
    outer = [contour for contour in contours if not contour.hole and not contour.touches_border]
    count = sum(contour.area_px > OTHER_SHAPE_SHARE * outer[0].area_px for contour in outer) if outer else 0
    return _measure(
        "Separate shapes",
        str(count),
        -abs(count - 1.5),
        -4,
        -2,
        "Shapes that touch are traced as one: keep parts, card and shadows apart, and choose which outlines to keep.",
    )
