"""A picture and its calibration to fitted outlines in millimetres: contours, choice, fit, uncertainty."""

import math

import attrs
import numpy as np

from nomogon_core.errors import TraceError
from nomogon_core.geometry import Arc, Circle, Line, Spline, closed_area, ends, length
from nomogon_core.reference.calibration import COVERAGE_FACTOR
from nomogon_core.trace.contours import find_contours, tones_of
from nomogon_core.trace.fit import contour_noise, fit_outline

SMALLEST_TOLERANCE_MM = 0.001
DEFAULT_SPECK_MM2 = 1.0
LARGEST_TOLERANCE_MM = 20.0
PARTS = ("auto", "dark", "bright")


@attrs.frozen
class TraceSettings:
    """How to trace.

    Attributes:
        threshold: share of the way from ground to part at which the edge is taken.
        tolerance_mm: how far a curve may leave the picture's edge.
        speck_mm2: smaller outlines are left out.
        keep: "all", "largest", or (x, y, area) of the wanted outlines: middle and area in pixels, as a preview gives them.
        border: keep outlines that run along the border of the picture.
        part: "dark" or "bright" against the ground, or "auto" for the more striking.
    """

    threshold: float = 0.5
    tolerance_mm: float = 0.1
    speck_mm2: float = DEFAULT_SPECK_MM2
    keep: object = "all"
    border: bool = False
    part: str = "auto"


@attrs.frozen
class TracedOutline:
    """One fitted outline in millimetres, y up, with 95 % uncertainties that include the scale's.

    Attributes:
        curves: in order, counter-clockwise for outer outlines and holes alike.
        u95_mm: of each curve: of the radius for arcs and circles, of the place across for others.
        hole: whether it bounds the part from inside.
        area_mm2: enclosed area.
        max_dev_mm, rms_dev_mm: of the picture's edge from the curves.
    """

    curves: tuple
    u95_mm: tuple
    hole: bool
    area_mm2: float
    max_dev_mm: float
    rms_dev_mm: float


def check_settings(settings):
    """Refuse settings that cannot give a trace.

    Raises:
        TraceError: threshold, tolerance or speck size out of range.
    """
    if not 0.02 <= settings.threshold <= 0.98:
        raise TraceError(f"The threshold must lie between 0.02 and 0.98 of the way from ground to part; {settings.threshold:g} came.")
    if not (math.isfinite(settings.tolerance_mm) and SMALLEST_TOLERANCE_MM <= settings.tolerance_mm <= LARGEST_TOLERANCE_MM):
        raise TraceError(f"The tolerance must lie between {SMALLEST_TOLERANCE_MM} and {LARGEST_TOLERANCE_MM:g} mm; "
                         f"{settings.tolerance_mm:g} mm came. 0.1 mm suits most parts.")
    if settings.part not in PARTS:
        raise TraceError(f"The part is {', '.join(PARTS)}; {settings.part!r} came.")
    if not (math.isfinite(settings.speck_mm2) and settings.speck_mm2 >= 0):
        raise TraceError("The speck size must be zero or more square millimetres.")


def outlines_of(light, settings, mm_per_px):
    """Contours that the settings leave: specks and, unless wanted, those along the border are out.

    Raises:
        TraceError: nothing is left, or the settings are out of range.
    """
    check_settings(settings)
    least = max(settings.speck_mm2 / mm_per_px**2, 30.0)
    contours = find_contours(light, threshold=settings.threshold, least_area_px=least, tones=tones_of(light, settings.part))
    kept = [contour for contour in contours if settings.border or not contour.touches_border]
    if not kept:
        raise TraceError("Every outline runs along the border of the picture. Take the picture with some ground all around the part.")
    return kept


def trace(light, calibration, settings, progress=None):
    """Outlines of a calibrated picture as the fewest curves.

    Args:
        light: linear luminance (h, w).
        calibration: of the picture.
        settings: :class:`TraceSettings`.
        progress: called with a share 0..1 after each outline.

    Raises:
        TraceError: as :func:`outlines_of`, or ``keep`` means an outline that is not there.
    """
    contours = _chosen(outlines_of(light, settings, calibration.mm_per_px), settings.keep)
    total = sum(len(contour.points) for contour in contours)
    noise = max(contour_noise(contour.points, 1.0) for contour in contours)
    outlines, done = [], 0
    for contour in contours:
        outlines.append(_fitted(contour, calibration, settings, noise))
        done += len(contour.points)
        if progress:
            progress(done / total)
    return tuple(outlines)


def _chosen(contours, keep):
    if keep == "all":
        return contours
    if keep == "largest":
        outer = contours[0]
        return [outer] + [contour for contour in contours[1:] if contour.hole and _inside(contour, outer)]
    chosen = {_nearest(contours, wanted) for wanted in keep}
    if not chosen:
        raise TraceError("No outline is chosen; click at least one to keep it.")
    return [contours[index] for index in sorted(chosen)]


def _middle(contour):
    return (contour.points.min(axis=0) + contour.points.max(axis=0)) / 2


def _nearest(contours, wanted):
    """Index of the contour that best fits a middle and an area."""
    x, y, area = wanted
    size = math.sqrt(max(area, 1.0))

    def off(index):
        middle = _middle(contours[index])
        return math.hypot(middle[0] - x, middle[1] - y) / size + abs(contours[index].area_px - area) / max(area, 1.0)
    best = min(range(len(contours)), key=off)
    if off(best) > 0.5:
        raise TraceError("One of the chosen outlines is not there at full resolution; raise the speck size or choose again.")
    return best


def contour_preview(light, settings, mm_per_px, factor):
    """Contours of a reduced picture, as the Board draws them.

    Args:
        light: reduced picture.
        mm_per_px: of the reduced picture.
        factor: pixels of the full picture a pixel of the reduced one.

    Returns:
        plain data: path data in full pixels, middle and area in full pixels, area in mm², hole, border.

    Raises:
        TraceError: as :func:`outlines_of`.
    """
    preview = []
    for contour in outlines_of(light, attrs.evolve(settings, border=True), mm_per_px):
        points = contour.points * factor + (factor - 1) / 2
        step = max(1, len(points) // 1500)
        path = "M" + "L".join(f"{x:.1f} {y:.1f}" for x, y in points[::step]) + "Z"
        middle = (points.min(axis=0) + points.max(axis=0)) / 2
        preview.append({"d": path, "key": [*middle.tolist(), contour.area_px * factor**2], "hole": contour.hole,
                        "border": contour.touches_border, "area_mm2": contour.area_px * mm_per_px**2})
    return preview


def _inside(inner, outer):
    low, high = outer.points.min(axis=0), outer.points.max(axis=0)
    return bool(((inner.points >= low) & (inner.points <= high)).all())


def _fitted(contour, calibration, settings, noise):
    fitted = fit_outline(calibration.to_mm(contour.points), pixel=calibration.mm_per_px, tolerance=settings.tolerance_mm,
                         noise_px=noise)
    relative = calibration.u_mm_per_px / calibration.mm_per_px
    u95 = tuple(math.hypot(error, COVERAGE_FACTOR * relative * _size(curve)) for curve, error in zip(fitted.curves, fitted.u95))
    return TracedOutline(fitted.curves, u95, contour.hole, abs(closed_area(fitted.curves)), fitted.max_deviation, fitted.rms_deviation)


def _size(curve):
    return curve.radius if isinstance(curve, (Arc, Circle)) else length(curve)


def primitive_record(curve, u95_mm):
    """Plain data of a curve for reports: kind, points, center, radius, u95_mm."""
    record = {"kind": type(curve).__name__.lower(), "points": [], "center": None, "radius": None, "u95_mm": u95_mm}
    if isinstance(curve, Spline):
        record["points"] = [list(point) for point in curve.points]
    elif isinstance(curve, (Line, Arc)):
        record["points"] = [list(point) for point in ends(curve)]
    if isinstance(curve, (Arc, Circle)):
        record |= {"center": list(curve.center), "radius": curve.radius}
    if isinstance(curve, Arc):
        angle = curve.start_angle + curve.sweep / 2
        middle = [curve.center[0] + curve.radius * math.cos(angle), curve.center[1] + curve.radius * math.sin(angle)]
        record["points"].insert(1, middle)
    return record


def curve_of_record(record):
    """The curve of a record; the inverse of :func:`primitive_record`."""
    points = record["points"]
    if record["kind"] == "line":
        return Line(*points)
    if record["kind"] == "circle":
        return Circle(record["center"], record["radius"])
    if record["kind"] == "spline":
        return Spline(points)
    center, (start, middle, end) = np.array(record["center"]), np.array(points)
    first, between, last = (math.atan2(*(point - center)[::-1]) for point in (start, middle, end))
    sweep = (last - first) % (2 * math.pi)
    if (between - first) % (2 * math.pi) > sweep:
        sweep -= 2 * math.pi
    return Arc(record["center"], record["radius"], first, sweep)


def outline_record(outline):
    """Plain data of an outline for reports and for storing."""
    return {
        "closed": True, "hole": outline.hole, "area_mm2": outline.area_mm2,
        "max_dev_mm": outline.max_dev_mm, "rms_dev_mm": outline.rms_dev_mm,
        "primitives": [primitive_record(curve, u95) for curve, u95 in zip(outline.curves, outline.u95_mm)],
    }
