"""Clean-up of a picture as a list of steps that never touch the original.

A step is plain data: ``kind``, ``on`` and the parameters of its kind. Steps work on linear luminance. Where
something is taken away, only its own pixels and a narrow rim change, so that edges elsewhere keep their
sub-pixel places. Places and radii are in pixels of the full picture; areas in square millimetres.
"""

from __future__ import annotations

import math
from typing import Any

import attrs
import cv2
import numpy as np

from nomogon_core.errors import PictureError, TraceError
from nomogon_core.picture.contours import find_tones

KINDS = {
    "crop": "Crop",
    "even": "Even out the light",
    "background": "Remove the background",
    "specks": "Drop specks",
    "holes": "Fill holes and cracks",
    "paint": "Paint and erase",
}
SIZED = ("background", "specks", "holes")
EVEN_SIDE = 240
EVEN_TREND = 0.02
RIM_PX = 3.0
FEATHER_PX = 2.0
MOST_STROKES = 400


@attrs.frozen
class Scale:
    """How a reduced copy relates to the full picture, and the full picture to millimetres.

    Attributes:
        factor: pixels of the full picture a pixel of the copy.
        mm_per_px: of the full picture, or None while it has no scale.
    """

    factor: float = 1.0
    mm_per_px: float | None = None

    def area_px(self, square_mm: float) -> float:
        """Square pixels of the copy."""
        return square_mm / ((self.mm_per_px or math.nan) * self.factor) ** 2

    def length_px(self, mm: float) -> float:
        return math.sqrt(self.area_px(mm * mm))


def _number(step, name, low, high):
    try:
        value = float(step[name])
    except (KeyError, TypeError, ValueError):
        raise PictureError(f"{KINDS[step['kind']]}: a number is missing for {name.replace('_', ' ')}.") from None
    if not (math.isfinite(value) and low <= value <= high):
        raise PictureError(
            f"{KINDS[step['kind']]}: {name.replace('_', ' ')} must lie between {low:g} and {high:g}; {value:g} came."
        )
    return value


def check_step(step: dict[str, Any]) -> None:
    """Refuse a step that cannot be carried out.

    Raises:
        PictureError: unknown kind, or a parameter missing or out of range.
    """
    kind = step.get("kind") if isinstance(step, dict) else None
    if kind not in KINDS:
        raise PictureError(f"There is no clean-up step {kind!r}.")
    if kind == "crop":
        left, top, right, bottom = (
            _number({"kind": kind, "box": value}, "box", -1, 1e5)
            for value in (list(step.get("box") or []) + [None] * 4)[:4]
        )
        if right - left < 16 or bottom - top < 16:
            raise PictureError("Crop: what is left must be at least 16 pixels wide and high; drag a larger box.")
    elif kind == "even":
        _number(step, "reach_percent", 2, 60)
    elif kind == "background":
        _number(step, "margin_mm", 0.1, 1000)
    elif kind == "specks":
        _number(step, "area_mm2", 0, 1e6)
    elif kind == "holes":
        _number(step, "area_mm2", 0, 1e6)
        _number(step, "crack_mm", 0, 100)
    else:
        _check_strokes(step.get("strokes"))


def _check_strokes(strokes):
    if not isinstance(strokes, list) or len(strokes) > MOST_STROKES:
        raise PictureError(f"Paint and erase: at most {MOST_STROKES} strokes; add a second step for more.")
    for stroke in strokes:
        try:
            places = np.array(stroke["points"], float)
        except (KeyError, TypeError, ValueError):
            places = np.empty(0)
        if (
            places.ndim != 2
            or places.shape[1:] != (2,)
            or not np.isfinite(places).all()
            or stroke.get("tone") not in ("part", "ground")
        ):
            raise PictureError("Paint and erase: a stroke was sent without places; draw it again.")
        _number({"kind": "paint", "radius": stroke.get("radius")}, "radius", 0.3, 2000)


def clean(
    light: np.ndarray, steps: list[dict[str, Any]], scale: Scale | None = None, progress: Any = None
) -> np.ndarray:
    """The picture after its clean-up steps.

    Args:
        light: linear luminance (h, w); stays as it is.
        steps: plain data, in order; those with ``on`` false are passed over, and so are those of SIZED while there is
            no scale.
        scale: :class:`Scale` of this copy.
        progress: called with a share 0..1 after each step.

    Raises:
        PictureError: as :func:`check_step`, or a step finds neither part nor ground.
    """
    scale = scale or Scale()
    steps = [step for step in steps if step.get("on", True) and (scale.mm_per_px or step.get("kind") not in SIZED)]
    for index, step in enumerate(steps):
        check_step(step)
        try:
            light = _ACTIONS[step["kind"]](light, step, scale)
        except TraceError as problem:
            raise PictureError(f"{KINDS[step['kind']]} cannot be done: {problem}") from None
        if progress:
            progress((index + 1) / len(steps))
    return light


def _border_level(light):
    return float(
        np.median(np.concatenate([light[:3].ravel(), light[-3:].ravel(), light[:, :3].ravel(), light[:, -3:].ravel()]))
    )


def _crop(light, step, scale):
    """Everything outside the box becomes as bright as the ground at its rim."""
    height, width = light.shape
    left, top, right, bottom = (value / scale.factor for value in step["box"])
    left, top = max(0, int(round(left))), max(0, int(round(top)))
    right, bottom = min(width, int(round(right))), min(height, int(round(bottom)))
    inner = light[top:bottom, left:right]
    if min(inner.shape) < 4:
        raise PictureError("Crop: the box lies outside the picture; drag it over the part.")
    result = np.full_like(light, _border_level(inner))
    result[top:bottom, left:right] = inner
    return result


def _even(light, step, scale):
    """Divide by the ground's own light: its trend times its blurred departure from it, which bridges the part
    (normalised convolution, Knutsson & Westin 1993)."""
    share = EVEN_SIDE / max(light.shape)
    small = cv2.resize(light, None, fx=share, fy=share, interpolation=cv2.INTER_AREA) if share < 1 else light.copy()
    tones = find_tones(small)
    even = small * cv2.resize(tones.evening, small.shape[::-1])
    ground = ((even > tones.level(0.3)) if tones.part_is_dark else (even < tones.level(0.3))).astype(np.uint8)
    weight = cv2.erode(ground, np.ones((5, 5), np.uint8)).astype(np.float32)
    sigma = max(1.0, step["reach_percent"] / 100 * max(small.shape) / 2)
    trend = tones.ground / np.maximum(cv2.resize(tones.evening, small.shape[::-1]), 1e-3)
    total = cv2.GaussianBlur(weight, (0, 0), sigma) + EVEN_TREND
    level = trend * (cv2.GaussianBlur(weight * small / trend, (0, 0), sigma) + EVEN_TREND) / total
    factors = (tones.ground / np.maximum(level, 0.02)).astype(np.float32)
    return cv2.multiply(light, cv2.resize(factors, light.shape[::-1], interpolation=cv2.INTER_LINEAR))


def _split(light):
    """(mask of the part, ground's level, part's level) with the light evened out."""
    tones = find_tones(light)
    factors = cv2.resize(tones.evening, light.shape[::-1], interpolation=cv2.INTER_LINEAR)
    even = cv2.GaussianBlur(light * factors, (0, 0), 1.0)
    mask = (even < tones.level(0.5)) if tones.part_is_dark else (even > tones.level(0.5))
    return mask.astype(np.uint8), tones.ground / factors, tones.part / factors


def _blend(light, weight, level):
    return light + weight * (level - light)


def _rim(mask, reach):
    """Weights 0..1 that are 1 on a mask and fade out ``reach`` pixels beyond it."""
    away = cv2.distanceTransform(1 - mask, cv2.DIST_L2, 3)
    return np.clip((reach + FEATHER_PX - away) / FEATHER_PX, 0, 1).astype(np.float32)


def _background(light, step, scale):
    mask, ground, _ = _split(light)
    count, labels, facts, _ = cv2.connectedComponentsWithStats(mask, connectivity=8)
    height, width = mask.shape
    inside = np.zeros(count, np.uint8)
    largest = facts[1:, cv2.CC_STAT_AREA].max(initial=0)
    for index in range(1, count):
        left, top, wide, high, area = facts[index]
        free = left > 0 and top > 0 and left + wide < width and top + high < height
        inside[index] = free and area >= 0.02 * largest
    if not inside.any():
        raise PictureError(
            "Remove the background: no part stands free of the picture's border. Crop the picture first."
        )
    return _blend(light, 1 - _rim(inside[labels], scale.length_px(step["margin_mm"])), ground)


def _small(mask, area_px):
    """Mask of the connected pieces under an area."""
    _, labels, facts, _ = cv2.connectedComponentsWithStats(mask, connectivity=8)
    small = facts[:, cv2.CC_STAT_AREA] < area_px
    small[0] = False
    return small.astype(np.uint8)[labels]


def _specks(light, step, scale):
    mask, ground, _ = _split(light)
    return _blend(light, _rim(_small(mask, scale.area_px(step["area_mm2"])), RIM_PX), ground)


def without_gaps(light: np.ndarray, gap_mm: float, mm_per_px: float) -> np.ndarray:
    """The picture with gaps and cracks in the part that are no wider than some millimetres filled; less than a pixel
    does nothing.

    Raises:
        TraceError: part and ground cannot be told apart.
    """
    return _holes(light, {"area_mm2": 0.0, "crack_mm": gap_mm}, Scale(1.0, mm_per_px))


def _holes(light, step, scale):
    mask, _, part = _split(light)
    filled = _small(1 - mask, scale.area_px(step["area_mm2"]))
    size = scale.length_px(step["crack_mm"])
    if size >= 1:
        kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (int(math.ceil(size)) | 1,) * 2)
        cracks = cv2.morphologyEx(mask, cv2.MORPH_CLOSE, kernel) & (1 - mask)
        # A closing also fills slivers in sharp inner corners; a crack is longer than it is wide.
        filled |= cracks & (1 - _small(cracks, 2.5 * size * size))
    weight = _rim(filled, RIM_PX)
    weight[(mask | filled) == 0] = 0
    return _blend(light, weight, part)


def _paint(light, step, scale):
    _, ground, part = _split(light)
    for stroke in step["strokes"]:
        cover = np.zeros(light.shape, np.uint8)
        places = np.round(np.array(stroke["points"], float) / scale.factor * 16).astype(np.int32)
        radius = max(stroke["radius"] / scale.factor, 0.5)
        if len(places) > 1:
            cv2.polylines(cover, [places.reshape(-1, 1, 2)], False, 255, max(1, int(round(2 * radius))), cv2.LINE_AA, 4)
        for end in (places[0], places[-1]):
            cv2.circle(cover, tuple(map(int, end)), int(round(radius * 16)), 255, -1, cv2.LINE_AA, 4)
        light = _blend(light, cover.astype(np.float32) / 255, part if stroke["tone"] == "part" else ground)
    return light


_ACTIONS = {
    "crop": _crop,
    "even": _even,
    "background": _background,
    "specks": _specks,
    "holes": _holes,
    "paint": _paint,
}
