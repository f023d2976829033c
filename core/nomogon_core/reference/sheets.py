"""Cards and sheets of known size: their corners from the four edges, never from corner pixels.

Bank cards have round corners, and a lens rounds every corner off; so lines are fitted to the edges and crossed.
"""

import math

import attrs
import cv2
import numpy as np

from nomogon_core.errors import CalibrationError, TraceError
from nomogon_core.geometry import Arc, Line, end_directions, ends, length
from nomogon_core.reference.edges import pick_edge
from nomogon_core.reference.models import Rectangle
from nomogon_core.trace.contours import all_tones, find_contours
from nomogon_core.trace.fit import fit_outline

# ISO/IEC 7810 ID-1; ISO 216; ANSI/ASME Y14.1 size A.
SIZES_MM = {"card": (85.60, 53.98), "A4": (297.0, 210.0), "A5": (210.0, 148.0), "Letter": (279.4, 215.9)}
# ISO/IEC 7810 (memory) lets a card be off by 0.12 mm at most, taken as three standard deviations.
SIZE_U95_MM = {"card": 0.08, "A4": 1.0, "A5": 1.0, "Letter": 1.0}
CORNER_SIGMA_PX = 0.018
SEARCH_PX = 12.0
BOW_PX = 40.0
SAMPLES = 48
LEAST_AREA_SHARE = 0.003
STRAIGHT_SHARE = 0.75
ASPECT_SLACK = 0.3


def _crossing(first, second):
    """Crossing of two lines given as (point, direction)."""
    (p, u), (q, v) = first, second
    matrix = np.column_stack([u, -v])
    if abs(np.linalg.det(matrix)) < 0.2:
        return None
    return p + np.linalg.solve(matrix, q - p)[0] * u


def _robust_line(points):
    """(point, direction) of a line through points, outliers left out."""
    kept = np.ones(len(points), bool)
    for _ in range(5):
        center = points[kept].mean(axis=0)
        way, normal = np.linalg.svd(points[kept] - center, full_matrices=False)[2]
        away = (points - center) @ normal
        spread = 1.4826 * np.median(np.abs(away[kept])) + 1e-3
        kept = np.abs(away) < 3.5 * spread
    return center, way


def refine_corners(light, corners):
    """Corners of a rectangle from lines fitted to its four edges.

    Args:
        light: linear luminance (h, w).
        corners: (4, 2) rough corners in pixels, in order around it.

    Raises:
        CalibrationError: an edge cannot be seen between two of the corners.
    """
    corners = np.asarray(corners, float)
    lines = []
    for index in range(4):
        start, end = corners[index], corners[(index + 1) % 4]
        way = (end - start) / max(math.dist(start, end), 1e-9)
        picks = []
        for share in np.linspace(0.1, 0.9, SAMPLES):
            pick = pick_edge(light, *(start + share * (end - start)), search_px=SEARCH_PX)
            if pick.on_edge and abs(float(np.dot(pick.normal, way))) < 0.3:
                picks.append((pick.x, pick.y))
        if len(picks) < SAMPLES // 3:
            raise CalibrationError(f"No clear edge was found between corner {index + 1} and corner {(index + 1) % 4 + 1}; give corners on the thing's own edges.")
        lines.append(_robust_line(np.array(picks)))
    crossed = [_crossing(lines[index - 1], lines[index]) for index in range(4)]
    if any(corner is None for corner in crossed):
        raise CalibrationError("Two neighbouring edges are nearly parallel, so they have no corner; give the corners in order around the thing.")
    return np.array(crossed)


def follow_straight(light, start, end):
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
        if pick.on_edge and abs(float(np.dot(pick.normal, way))) < 0.3:
            found.append([pick.x, pick.y])
            off = float((np.array(found[-1]) - start) @ normal)
    if len(found) < SAMPLES // 3:
        raise CalibrationError("No clear edge runs between the two clicks; click on one long edge, near both of its ends.")
    return found


def arranged(corners, width_mm, height_mm):
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


def _four_sides(contour):
    """Corners (4, 2) and how much of the contour is straight, or None."""
    fitted = fit_outline(contour.points, pixel=1.0, tolerance=1.0, blur_px=contour.blur_px)
    straight = [curve for curve in fitted.curves if isinstance(curve, Line) or (isinstance(curve, Arc) and curve.radius > 4 * length(curve))]
    perimeter = sum(map(length, fitted.curves))
    groups = []
    for curve in straight:
        way = end_directions(curve).mean(axis=0)
        if groups and float(np.dot(end_directions(groups[-1][-1]).mean(axis=0), way)) > 0.99:
            groups[-1].append(curve)
        else:
            groups.append([curve])
    longest = sorted(range(len(groups)), key=lambda index: -sum(map(length, groups[index])))[:4]
    if len(longest) < 4:
        return None
    chosen = [groups[index] for index in sorted(longest)]
    share = sum(length(curve) for group in chosen for curve in group) / perimeter
    lines = [(np.mean([end for curve in group for end in ends(curve)], axis=0), np.subtract(ends(group[-1])[1], ends(group[0])[0])) for group in chosen]
    crossed = [_crossing((p, u / np.hypot(*u)), (q, v / np.hypot(*v))) for (p, u), (q, v) in zip([lines[-1], *lines[:-1]], lines)]
    return None if any(corner is None for corner in crossed) else (np.array(crossed), share)


def find_rectangle(light, kind, near=None):
    """A card or sheet in a picture.

    Args:
        light: linear luminance (h, w).
        kind: a key of SIZES_MM.
        near: a place on it, in pixels, if known.

    Returns:
        :class:`Rectangle` with its nominal size.

    Raises:
        CalibrationError: nothing of this shape stands out from the ground.
    """
    width, height = SIZES_MM[kind]
    best = None
    try:
        every = all_tones(light)
    except TraceError as problem:
        raise CalibrationError(f"No {kind} was found: {problem}") from None
    for tones in every:
        try:
            contours = find_contours(light, least_area_px=LEAST_AREA_SHARE * light.size, tones=tones)
        except TraceError:
            continue
        for contour in contours:
            if contour.hole or contour.touches_border or (near is not None and cv2.pointPolygonTest(contour.points.astype(np.float32), tuple(map(float, near)), False) < 0):
                continue
            found = _four_sides(contour)
            if found is None or found[1] < STRAIGHT_SHARE:
                continue
            corners = arranged(found[0], width, height)
            sides = np.hypot(*(np.roll(corners, -1, axis=0) - corners).T)
            off = abs(math.log((sides[0] + sides[2]) / (sides[1] + sides[3]) / (width / height)))
            if off < ASPECT_SLACK and (best is None or off - found[1] < best[0]):
                best = (off - found[1], corners)
    if best is None:
        raise CalibrationError(f"No {kind} was found in the picture. It must lie flat, wholly in the picture and stand out from the ground; or give its four corners.")
    return Rectangle(kind.capitalize() if kind == "card" else kind, refine_corners(light, best[1]).tolist(), width, height, CORNER_SIGMA_PX, SIZE_U95_MM[kind])


def rectangle_from_corners(light, name, corners, size_mm, u95_mm):
    """A rectangle of known size from rough corners.

    Raises:
        CalibrationError: see :func:`refine_corners`.
    """
    return Rectangle(name, refine_corners(light, arranged(corners, *size_mm)).tolist(), *size_mm, CORNER_SIGMA_PX, u95_mm)


@attrs.frozen
class Round:
    """A round edge as an ellipse: centre, half axes and the angle of the first, in pixels and radians."""

    center: tuple
    half_axes: tuple
    angle: float

    def diameters(self):
        """Two pairs of opposite places, along both axes."""
        way = np.array([math.cos(self.angle), math.sin(self.angle)])
        side = np.array([-way[1], way[0]])
        center = np.array(self.center)
        return [(tuple(center - axis * half), tuple(center + axis * half)) for axis, half in zip((way, side), self.half_axes)]


def find_round(light, near):
    """The smallest round edge around a place.

    Raises:
        CalibrationError: there is none.
    """
    try:
        every = all_tones(light)
    except TraceError as problem:
        raise CalibrationError(f"No round edge was found: {problem}") from None
    found = []
    for tones in every:
        try:
            contours = find_contours(light, tones=tones)
        except TraceError:
            continue
        for contour in contours:
            if cv2.pointPolygonTest(contour.points.astype(np.float32), tuple(map(float, near)), False) <= 0:
                continue
            (x, y), (first, second), degrees = cv2.fitEllipseAMS(contour.points.astype(np.float32))
            if abs(contour.area_px - math.pi * first * second / 4) < 0.02 * contour.area_px:
                found.append((contour.area_px, Round((x, y), (first / 2, second / 2), math.radians(degrees))))
    if found:
        return min(found, key=lambda item: item[0])[1]
    raise CalibrationError(f"There is no round edge around ({near[0]:.0f}, {near[1]:.0f}); give a place inside the circle.")
