"""The outermost edges of a part between two parallel jaws, as calipers take them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import attrs
import cv2
import numpy as np

from nomogon_core.errors import CalibrationError, TraceError
from nomogon_core.geometry.curves import outline_points
from nomogon_core.picture.contours import contours_around
from nomogon_core.trace.fit import fit_outline

if TYPE_CHECKING:
    from nomogon_core.geometry.curves import Arc, Circle, Line
    from nomogon_core.picture.contours import Contour
    from nomogon_core.reference.calibration import Calibration

WAYS = ("level", "upright", "closest")
FLUSH_PX, LEAST_FLUSH_PX = 0.3, 5.0
TOLERANCE_PX, CHORD_PX = 1.0, 0.002
SIGMA_PX = 0.04


@attrs.frozen
class Jaws:
    """Two contacts, opposite one another across the jaws, in pixels.

    Attributes:
        start, end: on the two jaws, on one line square to them.
        contacts: where the part touches each; sigma_px: standard deviation of each jaw's place.
    """

    start: tuple
    end: tuple
    contacts: tuple
    sigma_px: float

    @property
    def apart_px(self) -> float:
        return math.dist(self.start, self.end)


def part_around(light: np.ndarray, place: Sequence[float]) -> Contour:
    """The smallest outer contour around a place in pixels.

    Raises:
        CalibrationError: there is none.
    """
    try:
        found = [
            contour for contour in contours_around(light, place) if not contour.hole and not contour.touches_border
        ]
    except TraceError as problem:
        raise CalibrationError(f"No part was found there: {problem}") from None
    if not found:
        raise CalibrationError(
            "No outline goes around that place; click on the part itself, which must stand out from its ground."
        )
    return min(found, key=lambda contour: contour.area_px)


def between_jaws(contour: Contour, way: float | str) -> Jaws:
    """The jaws closed on a contour: on the curves fitted to it, since its own outermost point is the noisiest, and lies
    within a tip that the lens drew back.

    Args:
        contour: a :class:`nomogon_core.picture.contours.Contour`.
        way: "level" or "upright" for jaws that close along x or y, "closest" where the part is narrowest, or the
            direction in which they close, in radians.

    Raises:
        CalibrationError: no such way.
        TraceError: the contour is too short to be fitted.
    """
    check_way(way)
    curves = fit_outline(contour.points, pixel=1.0, tolerance=TOLERANCE_PX, blur_px=contour.blur_px).curves
    return jaws_on(outline_points(curves, CHORD_PX), way)


def check_way(way: float | str) -> None:
    """Refuse what is no way for jaws to close.

    Raises:
        CalibrationError: for that reason.
    """
    if way not in WAYS and not (isinstance(way, float) and math.isfinite(way)):
        raise CalibrationError(f"Jaws close {', '.join(WAYS)}, or in a direction in radians; {way!r} came.")


def way_in_picture(way: str, angle: float) -> float | str:
    """A way for jaws to close, level and upright being those of a picture that is turned by an angle in radians."""
    turn = {"level": 0.0, "upright": math.pi / 2}.get(way)
    return way if turn is None else turn - angle


def square_to(first: Sequence[float], second: Sequence[float]) -> float:
    """The direction in which jaws close of which one lies along an edge through two places in pixels, in radians."""
    return math.atan2(second[0] - first[0], first[1] - second[1])


def jaws_on(places: np.ndarray, way: Any) -> Jaws:
    """The jaws closed on places (n, 2) in pixels along the curves of an outline, dense enough to count as these;
    ``way`` as in :func:`between_jaws`."""
    ways = {"level": 0.0, "upright": math.pi / 2}
    angle = _narrowest(places) if way == "closest" else float(ways.get(way, way))
    across = np.array([math.cos(angle), math.sin(angle)])
    along = np.array([-across[1], across[0]])
    reach = places @ across
    first, last = (_touched(places, sense * reach) for sense in (-1, 1))
    middle = along * float((first + last) @ along) / 2
    start, end = (tuple((middle + far * across).tolist()) for far in (reach.min(), reach.max()))
    return Jaws(start, end, (tuple(first.tolist()), tuple(last.tolist())), SIGMA_PX)


def closed_again(
    outlines: list[tuple[Arc | Circle | Line, ...]], calibration: Calibration, place: list[float], way: float
) -> Jaws | None:
    """The jaws closed on what was traced around a place in the picture, or None where nothing was.

    Args:
        outlines: rows of curves in millimetres, each closed; calibration: of the picture; place: pixels; way: as in
            :func:`between_jaws`.
    """
    around = []
    for curves in outlines:
        places = calibration.to_px(outline_points(curves, CHORD_PX * calibration.mm_per_px))
        if cv2.pointPolygonTest(places.astype(np.float32), tuple(map(float, place)), False) > 0:
            around.append((cv2.contourArea(places.astype(np.float32)), places))
    return jaws_on(max(around, key=lambda pair: pair[0])[1], way) if around else None


def _touched(places, reach):
    """The middle of what touches a jaw."""
    touching = places[reach > reach.max() - FLUSH_PX]
    return (
        (touching.min(axis=0) + touching.max(axis=0)) / 2
        if np.ptp(touching, axis=0).max() > LEAST_FLUSH_PX
        else places[int(reach.argmax())]
    )


def _narrowest(points):
    """The direction square to which the hull is narrowest: one of its sides lies on a jaw (Freeman and Shapira
    1975)."""
    hull = cv2.convexHull(points.astype(np.float32))[:, 0].astype(float)
    sides = np.roll(hull, -1, axis=0) - hull
    sides = sides[np.hypot(*sides.T) > 1e-6]
    angles = np.arctan2(sides[:, 1], sides[:, 0]) + math.pi / 2
    reach = hull @ np.stack([np.cos(angles), np.sin(angles)])
    return float(angles[np.ptp(reach, axis=0).argmin()])
