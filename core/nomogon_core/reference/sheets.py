"""Cards and sheets of known size by their four edges, never by corner pixels: cards have round corners, and a lens
rounds every corner off."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import attrs
import cv2
import numpy as np

from nomogon_core.errors import CalibrationError, TraceError
from nomogon_core.picture.blur import true_radius
from nomogon_core.picture.contours import contours_around
from nomogon_core.picture.edges import pick_edge
from nomogon_core.reference.bowed import follow_edge_between
from nomogon_core.reference.models import Rectangle
from nomogon_core.reference.quadrangles import find_quadrangles

if TYPE_CHECKING:
    from nomogon_core.reference.models import Edge

# ISO/IEC 7810 ID-1; ISO 216; ANSI/ASME Y14.1 size A.
SIZES_MM = {"card": (85.60, 53.98), "A4": (297.0, 210.0), "A5": (210.0, 148.0), "Letter": (279.4, 215.9)}
# ISO/IEC 7810 (memory) lets a card be off by 0.12 mm at most, taken as three standard deviations.
SIZE_U95_MM = {"card": 0.08, "A4": 1.0, "A5": 1.0, "Letter": 1.0}
CORNER_SIGMA_PX = 0.018
SEARCH_PX = 12.0
BOW_PX = 40.0
SAMPLES = 48
MOST_TRIED = 4


def _crossing(first, second):
    """Crossing of two lines given as (point, direction)."""
    (p, u), (q, v) = first, second
    matrix = np.column_stack([u, -v])
    if abs(np.linalg.det(matrix)) < 0.2:
        return None
    return p + np.linalg.solve(matrix, q - p)[0] * u


def _line_near(edge, corner):
    """(point, direction) of an edge next to a corner: there a bowed one is as good as straight."""
    places = np.array(edge.places)
    near = places[np.argsort(np.hypot(*(places - corner).T))[: max(6, len(places) // 5)]]
    center = near.mean(axis=0)
    return center, np.linalg.svd(near - center, full_matrices=False)[2][0]


def followed(light: np.ndarray, corners: np.ndarray) -> tuple[np.ndarray, tuple[Edge, ...]]:
    """(corners (4, 2), edges) of a thing with four straight sides, from rough corners in pixels in order around it.

    Args:
        light: linear luminance (h, w).

    Raises:
        CalibrationError: an edge cannot be seen between two of the corners.
    """
    corners = np.asarray(corners, float)
    edges = tuple(follow_edge_between(light, corners[index], corners[(index + 1) % 4]) for index in range(4))
    crossed = [
        _crossing(_line_near(edges[index - 1], corners[index]), _line_near(edges[index], corners[index]))
        for index in range(4)
    ]
    if any(corner is None for corner in crossed):
        raise CalibrationError(
            "Two neighbouring edges are nearly parallel, so they have no corner; give the corners in order around the "
            "thing."
        )
    return np.array(crossed), edges


def follow_straight(light: np.ndarray, start: np.ndarray, end: np.ndarray) -> list[list[float]]:
    """Places along an edge between two clicks that is straight in reality but may be bowed by the lens.

    Args:
        light: linear luminance (h, w).
        start, end: places near the edge, in pixels.

    Returns:
        list of [x, y], about one every fiftieth of the length.

    Raises:
        CalibrationError: too little of an edge was found there.
    """
    start, end = np.asarray(start, float), np.asarray(end, float)
    if math.dist(start, end) < 100:
        raise CalibrationError("The two clicks are too near each other to tell a bow; click far apart on one edge.")
    way = (end - start) / math.dist(start, end)
    normal = np.array([-way[1], way[0]])
    found, off = [], 0.0
    for share in np.linspace(0.0, 1.0, SAMPLES):
        reach = BOW_PX if len(found) < 2 else SEARCH_PX / 2
        place = start + share * (end - start) + off * normal
        if not (0 <= place[0] <= light.shape[1] - 1 and 0 <= place[1] <= light.shape[0] - 1):
            continue
        pick = pick_edge(light, *place, search_px=reach if share else SEARCH_PX)
        if pick.on_edge and pick.normal and abs(float(np.dot(pick.normal, way))) < 0.3:
            found.append([pick.x, pick.y])
            off = float((np.array(found[-1]) - start) @ normal)
    if len(found) < SAMPLES // 3:
        raise CalibrationError(
            "No clear edge runs between the two clicks; click on one long edge, near both of its ends."
        )
    return found


def arranged(corners: np.ndarray, width_mm: float, height_mm: float) -> np.ndarray:
    """The corners clockwise as seen, turned so that the first side is the width."""
    corners = np.asarray(corners, float)
    x, y = corners.T
    if float(np.sum(x * np.roll(y, -1) - y * np.roll(x, -1))) < 0:
        corners = corners[::-1]
    sides = np.hypot(*(np.roll(corners, -1, axis=0) - corners).T)
    seen = (sides[0] + sides[2]) / (sides[1] + sides[3])
    if abs(math.log(seen / (width_mm / height_mm))) > abs(math.log(seen / (height_mm / width_mm))):
        corners = np.roll(corners, -1, axis=0)
    return corners


def find_rectangle(light: np.ndarray, kind: str, near: Any = None) -> Rectangle:
    """A card or sheet in a picture.

    Args:
        light: linear luminance (h, w).
        kind: a key of SIZES_MM.
        near: a place on it, in pixels, if known.

    Returns:
        :class:`Rectangle` with its nominal size and its edges.

    Raises:
        CalibrationError: nothing of this shape stands out from the ground.
    """
    width, height = SIZES_MM[kind]
    problem, word = None, "card" if kind == "card" else f"{kind} sheet"
    for found in find_quadrangles(light, width / height, near)[:MOST_TRIED]:
        try:
            return rectangle_from_corners(
                light, kind.capitalize() if kind == "card" else kind, found.corners, (width, height), SIZE_U95_MM[kind]
            )
        except CalibrationError as refusal:
            problem = problem or refusal
    if problem is not None:
        raise problem
    place = " around that click" if near is not None else " in the picture"
    raise CalibrationError(
        f"No {word} was found{place}. All four edges must be in the picture and stand out from the ground for the "
        "most part; "
        "or give its four corners."
    )


def rectangle_from_corners(
    light: np.ndarray, name: str, corners: np.ndarray, size_mm: tuple[float, float], u95_mm: float
) -> Rectangle:
    """A rectangle of known size from rough corners.

    Raises:
        CalibrationError: see :func:`followed`.
    """
    corners, edges = followed(light, arranged(corners, *size_mm))
    return Rectangle(name, corners.tolist(), *size_mm, CORNER_SIGMA_PX, u95_mm, edges=edges)


@attrs.frozen
class Round:
    """A round edge as an ellipse: centre, half axes and the angle of the first, in pixels and radians."""

    center: tuple
    half_axes: tuple
    angle: float

    def diameters(self) -> list[tuple[tuple, tuple]]:
        """Two pairs of opposite places, along both axes."""
        way = np.array([math.cos(self.angle), math.sin(self.angle)])
        side = np.array([-way[1], way[0]])
        center = np.array(self.center)
        return [
            (tuple(center - axis * half), tuple(center + axis * half))
            for axis, half in zip((way, side), self.half_axes)
        ]


def find_round(light: np.ndarray, near: list[float] | np.ndarray) -> Round:
    """The smallest round edge around a place.

    Raises:
        CalibrationError: there is none.
    """
    try:
        contours = contours_around(light, near)
    except TraceError as problem:
        raise CalibrationError(f"No round edge was found: {problem}") from None
    found = []
    for contour in contours:
        (x, y), (first, second), degrees = cv2.fitEllipseAMS(contour.points.astype(np.float32))
        if abs(contour.area_px - math.pi * first * second / 4) < 0.02 * contour.area_px:
            half_axes = tuple(true_radius(axis / 2, contour.blur_px) for axis in (first, second))
            found.append((contour.area_px, Round((x, y), half_axes, math.radians(degrees))))
    if found:
        return min(found, key=lambda item: item[0])[1]
    raise CalibrationError(
        f"There is no round edge around ({near[0]:.0f}, {near[1]:.0f}); give a place inside the circle."
    )
