"""Cards and sheets of known size in a picture, as the trace takes them: beside the part, or under it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import attrs
import cv2
import numpy as np

from nomogon_core.picture.contours import REDUCED_SIDE, ground_light

if TYPE_CHECKING:
    from nomogon_core.picture.contours import Contour
    from nomogon_core.reference.models import Rectangle

LARGEST_CARD_MM = 120.0
INSET_PX, OUTSET_PX = 6.0, 10.0
LEAST_ON_SHEET, CONTRAST_SHARE = 0.001, 0.35
SAME_THING = 0.9


@attrs.frozen
class Thing:
    """A card or sheet whose own outline is not wanted.

    Attributes:
        corners: (4, 2) pixels; outline: (n, 2) pixels around it, along its edges as the lens shows them.
        may_be_ground: it is large enough for a part to lie on it.
    """

    corners: tuple
    outline: tuple
    may_be_ground: bool

    def scaled(self, factor: float) -> Thing:
        """The same in a copy of the picture of which a pixel is ``factor`` pixels."""
        corners, outline = (
            tuple(map(tuple, (np.array(places) / factor).tolist())) for places in (self.corners, self.outline)
        )
        return Thing(corners, outline, self.may_be_ground)


def thing_of(rectangle: Rectangle) -> Thing:
    """A rectangle of known size as a :class:`Thing`."""
    corners = np.array(rectangle.corners)
    runs = []
    for index, corner in enumerate(corners):
        edge = np.array(rectangle.edges[index].places) if rectangle.edges else np.empty((0, 2))
        runs += [corner[None], edge[np.argsort(np.hypot(*(edge - corner).T))]]
    outline = tuple(map(tuple, np.vstack(runs).tolist()))
    return Thing(
        tuple(map(tuple, corners.tolist())), outline, max(rectangle.width_mm, rectangle.height_mm) > LARGEST_CARD_MM
    )


def _mask(shape, outline, inset):
    """Pixels inside an outline, by some pixels less, or more where that is negative."""
    inside = np.zeros(shape, np.uint8)
    cv2.fillPoly(inside, [np.round(np.array(outline)).astype(np.int32)], 1)
    kernel = np.ones((2 * math.ceil(abs(inset)) + 1,) * 2, np.uint8)
    return (cv2.erode(inside, kernel, borderValue=0) if inset > 0 else cv2.dilate(inside, kernel)) > 0


def light_on_sheet(light: np.ndarray, things: Sequence[Thing]) -> np.ndarray | None:
    """The picture as if the sheet that the part lies on went on forever, or None where nothing lies on one.

    What is around the sheet has tones of its own, which are no business of the part's.

    Args:
        light: linear luminance (h, w); things: :class:`Thing` values.
    """
    for thing in things:
        if not thing.may_be_ground:
            continue
        scale = min(1.0, REDUCED_SIDE / max(light.shape))
        small = cv2.resize(light, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA)
        inside = _mask(small.shape, (np.array(thing.outline) + 0.5) * scale - 0.5, max(1.0, INSET_PX * scale))
        if inside.sum() < 100:
            continue
        paper = float(np.median(small[inside]))
        far = np.abs(small - paper) > CONTRAST_SHARE * max(paper, 0.2)
        if (far & inside).sum() < LEAST_ON_SHEET * inside.sum():
            continue
        surface = cv2.resize(ground_light(small, inside & ~far), light.shape[::-1], interpolation=cv2.INTER_LINEAR)
        return np.where(_mask(light.shape, thing.outline, INSET_PX), light, surface).astype(np.float32)
    return None


def light_without_cards(light: np.ndarray, things: Sequence[Thing]) -> np.ndarray:
    """The picture with the ground's light where cards lie, which are no part and whose contrast may be far larger than
    the part's.

    Args:
        light: linear luminance (h, w); things: :class:`Thing` values.
    """
    if not things:
        return light
    scale = min(1.0, REDUCED_SIDE / max(light.shape))
    small = cv2.resize(light, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA)
    covered, whole = np.zeros(small.shape, bool), np.zeros(light.shape, bool)
    for thing in things:
        covered |= _mask(small.shape, (np.array(thing.outline) + 0.5) * scale - 0.5, -max(2.0, OUTSET_PX * scale))
        whole |= _mask(light.shape, thing.outline, -OUTSET_PX)
    border = np.concatenate([small[:3].ravel(), small[-3:].ravel(), small[:, :3].ravel(), small[:, -3:].ravel()])
    ground = float(np.median(border))
    near = ~covered & (np.abs(small - ground) < CONTRAST_SHARE * max(ground, 0.1))
    if near.sum() < 0.05 * small.size:
        return light
    surface = cv2.resize(ground_light(small, near), light.shape[::-1], interpolation=cv2.INTER_LINEAR)
    return np.where(whole, surface, light).astype(np.float32)


def is_thing(contour: Contour, things: Sequence[Thing]) -> bool:
    """Whether a contour is the outline of a card or sheet itself."""
    for thing in things:
        around = np.asarray(thing.corners, np.float32)
        area = cv2.contourArea(around)
        inner, _ = cv2.intersectConvexConvex(around, cv2.convexHull(contour.points.astype(np.float32)))
        if inner > SAME_THING * max(area, contour.area_px):
            return True
    return False
