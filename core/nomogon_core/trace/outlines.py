"""A picture and its calibration to fitted outlines in millimetres: contours, choice, fit, uncertainty."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.errors import TraceError
from nomogon_core.geometry.curves import Arc, Circle, Ellipse, Line, closed_area, length, sample
from nomogon_core.geometry.records import primitive_record
from nomogon_core.picture.cleanup import clean, without_gaps
from nomogon_core.picture.contours import find_contours, tones_of
from nomogon_core.reference.calibration import COVERAGE_FACTOR
from nomogon_core.trace.centre_lines import centre_lines, marks_among
from nomogon_core.trace.described import contour_noise
from nomogon_core.trace.faint import faint_strokes
from nomogon_core.trace.finding import (
    SAME_COLOUR,
    SIDES_OF_LINES,
    THIN_PX,
    contours_by_colour,
    contours_by_edge,
    needless,
)
from nomogon_core.trace.fit import Shares, fit_open, fit_outline
from nomogon_core.trace.flat_colours import contours_by_flat_colours
from nomogon_core.trace.halves import SIDES, fit_halves
from nomogon_core.trace.offered import offered_tolerance
from nomogon_core.trace.seen import fit_seen
from nomogon_core.trace.symmetry import MirrorAxis
from nomogon_core.trace.things import is_thing, light_on_sheet, light_without_cards
from nomogon_core.trace.two_strokes import contours_by_strokes, sure_runs

if TYPE_CHECKING:
    from nomogon_core.picture.contours import Contour
    from nomogon_core.reference.calibration import Calibration
    from nomogon_core.trace.things import Thing

SMALLEST_TOLERANCE_MM, DEFAULT_TOLERANCE_MM = 0.001, 0.1
DEFAULT_SPECK_MM2 = 1.0
LARGEST_TOLERANCE_MM = 20.0
LARGEST_GAP_MM = 50.0
SCALE_PLACES = 50
LEAST_FAINT_PX = 30.0
# A pencil skips over the grain of the paper.
FAINT_BRIDGE_WIDTHS = 8.0
PARTS = ("auto", "dark", "bright")
LEVELLING = {"kind": "even", "reach_percent": 12}
MODES = ("tone", "colour", "flat", "edge", "strokes", "centre")
COLOURED = ("colour", "flat", "strokes")


@attrs.frozen
class TraceSettings:
    """How to trace.

    Attributes:
        threshold: share of the way from ground to part at which the edge is taken.
        tolerance_mm: how far a curve may leave the picture's edge.
        speck_mm2: smaller outlines are left out.
        keep: "all", "largest", or (x, y, area) of the wanted outlines: middle and area in pixels, as a preview gives
            them.
        border: keep outlines that run along the border of the picture.
        part: "dark" or "bright" against the ground, or "auto" for the more striking.
        mode: what tells part from ground, one of MODES; "flat" are all patches of flat colour and ink; "strokes" are
            two or more
            drawn by hand; "centre" follows the middle of drawn lines.
        flatten: level the ground's light everywhere before looking at tones.
        colours: linear (red, green, blue) of the part, for mode "colour"; reach: how far each reaches, as a distance in
            OKLab.
        gap_mm: gaps and cracks no wider than this are closed first, except in modes "colour" and "flat".
        sides: whether the inner sides of drawn lines are kept, one of :data:`finding.SIDES_OF_LINES`.
        part_strokes, ground_strokes: for mode "strokes", each a row of places (x, y) in pixels of the whole picture.
        halves: "" to fit both halves as they are, or which half of a symmetric part is kept and mirrored, one of
            :data:`halves.SIDES`.
    """

    threshold: float = 0.5
    tolerance_mm: float = DEFAULT_TOLERANCE_MM
    speck_mm2: float = DEFAULT_SPECK_MM2
    keep: Any = "all"
    border: bool = False
    part: str = "auto"
    mode: str = "tone"
    flatten: bool = False
    colours: tuple = ()
    reach: float = SAME_COLOUR
    halves: str = ""
    gap_mm: float = 0.0
    sides: str = "auto"
    part_strokes: tuple = ()
    ground_strokes: tuple = ()


@attrs.frozen
class TracedOutline:
    """One fitted outline in millimetres, y up, with 95 % uncertainties; those of radii include the scale's.

    Attributes:
        curves: in order, counter-clockwise for outer outlines and holes alike.
        u95_mm: of each curve: of the radius for arcs and circles, of the place across for others.
        hole: whether it bounds the part from inside.
        area_mm2: enclosed area, 0 of an open stroke.
        max_dev_mm, rms_dev_mm: of the picture's edge from the curves.
        closed: False for a stroke with two ends; stroke_mm: its width, None of an outline.
        axis: the mirror axis of an outline that was fitted by halves.
        comb: places along the curves where the edge was seen, and how far off it is there: rows (x, y, off),
            millimetres.
    """

    curves: tuple
    u95_mm: tuple
    hole: bool
    area_mm2: float
    max_dev_mm: float
    rms_dev_mm: float
    closed: bool = True
    stroke_mm: float | None = None
    comb: np.ndarray = attrs.field(factory=lambda: np.empty((0, 3)), eq=False, repr=False)
    axis: MirrorAxis | None = None


def check_settings(settings: TraceSettings) -> None:
    """Refuse settings that cannot give a trace.

    Raises:
        TraceError: threshold, tolerance or speck size out of range.
    """
    if not 0.02 <= settings.threshold <= 0.98:
        raise TraceError(
            f"The threshold must lie between 0.02 and 0.98 of the way from ground to part; {settings.threshold:g} came."
        )
    if not (
        math.isfinite(settings.tolerance_mm) and SMALLEST_TOLERANCE_MM <= settings.tolerance_mm <= LARGEST_TOLERANCE_MM
    ):
        raise TraceError(
            f"The tolerance must lie between {SMALLEST_TOLERANCE_MM} and {LARGEST_TOLERANCE_MM:g} mm; "
            f"{settings.tolerance_mm:g} mm came. 0.1 mm suits most parts."
        )
    if settings.part not in PARTS:
        raise TraceError(f"The part is {', '.join(PARTS)}; {settings.part!r} came.")
    if settings.mode not in MODES:
        raise TraceError(f"Outlines are found by {', '.join(MODES)}; {settings.mode!r} came.")
    if settings.sides not in SIDES_OF_LINES:
        raise TraceError(f"Of drawn lines {', '.join(SIDES_OF_LINES)} sides are kept; {settings.sides!r} came.")
    if not 0.005 <= settings.reach <= 0.5:
        raise TraceError(f"How far a colour reaches must lie between 0.005 and 0.5; {settings.reach:g} came.")
    if settings.halves and (settings.halves not in SIDES or settings.mode in ("centre", "strokes")):
        raise TraceError(
            f"The half that is kept is {', '.join(SIDES)}, of outlines seen all around and not of strokes; "
            f"{settings.halves!r} came."
        )
    if not (math.isfinite(settings.gap_mm) and 0 <= settings.gap_mm <= LARGEST_GAP_MM):
        raise TraceError(
            f"Gaps are closed up to a width between 0 and {LARGEST_GAP_MM:g} mm; {settings.gap_mm:g} mm came."
        )
    if not (math.isfinite(settings.speck_mm2) and settings.speck_mm2 >= 0):
        raise TraceError("The speck size must be zero or more square millimetres.")


def outlines_of(
    light: np.ndarray,
    settings: TraceSettings,
    mm_per_px: float,
    things: Sequence[Thing] = (),
    colour: Any = None,
) -> list[Contour]:
    """Contours that the settings leave: specks, known cards and sheets and, unless wanted, those along the border are
    out.

    Args:
        light: linear luminance (h, w).
        settings: :class:`TraceSettings`.
        mm_per_px: scale of this picture.
        things: :class:`Thing` values, cards and sheets whose outlines are not wanted.
        colour: linear (h, w, 3), for the modes of :data:`COLOURED`.

    Raises:
        TraceError: nothing is left, or the settings are out of range.
    """
    check_settings(settings)
    light = _closed(light, settings, mm_per_px)
    least = max(settings.speck_mm2 / mm_per_px**2, 30.0)
    if settings.mode == "colour":
        contours = contours_by_colour(
            colour, settings.colours, threshold=settings.threshold, reach=settings.reach, least_area_px=least
        )
    elif settings.mode == "flat":
        contours = contours_by_flat_colours(colour, reach=settings.reach, least_area_px=least)
    elif settings.mode == "edge":
        contours = contours_by_edge(light, least_area_px=least)
    elif settings.mode == "strokes":
        contours = contours_by_strokes(
            light, settings.part_strokes, settings.ground_strokes, colour=colour, least_area_px=least
        )
    else:
        level, tones = _tones_for(light, settings, things)
        contours = find_contours(level, threshold=settings.threshold, least_area_px=least, tones=tones)
    kept = [
        contour
        for contour in contours
        if (settings.border or not contour.touches_border) and not is_thing(contour, things)
    ]
    if not kept:
        raise TraceError(
            "Every outline runs along the border of the picture. Take the picture with some ground all around the part."
        )
    return kept


def _closed(light, settings, mm_per_px):
    """The picture with its gaps closed, if that is wanted."""
    return (
        without_gaps(light, settings.gap_mm, mm_per_px)
        if settings.gap_mm and settings.mode not in ("colour", "flat")
        else light
    )


def _tones_for(light, settings, things):
    """(light, tones) to look for contours by tone in."""
    on_sheet = light_on_sheet(light, things)
    light = light_without_cards(light, things) if on_sheet is None else on_sheet
    tones = tones_of(light, settings.part)
    if not settings.flatten:
        return light, tones
    level = clean(light, [LEVELLING])
    return level, tones_of(level, "dark" if tones.part_is_dark else "bright")


def trace(
    light: np.ndarray,
    calibration: Calibration,
    settings: TraceSettings,
    progress: Any = None,
    things: Sequence[Thing] = (),
    colour: np.ndarray | None = None,
) -> tuple[TracedOutline, ...]:
    """Outlines of a calibrated picture as the fewest curves.

    Args:
        light: linear luminance (h, w).
        calibration: of the picture.
        settings: :class:`TraceSettings`.
        progress: called now and then with the share 0..1 that is done.
        things: cards and sheets, as in :func:`outlines_of`.
        colour: linear (h, w, 3), for the modes of :data:`COLOURED`.

    Raises:
        TraceError: as :func:`outlines_of`, or ``keep`` means an outline that is not there.
    """
    if settings.mode == "centre":
        return _trace_strokes(light, calibration, settings, progress, things)
    contours = _chosen(outlines_of(light, settings, calibration.mm_per_px, things, colour), settings, light.shape[::-1])
    noise = common_noise(contours)
    if settings.halves:
        return _trace_halves(contours, calibration, settings, noise, progress)
    shares = Shares(progress, [len(contour.points) for contour in contours])
    traced = [
        outline
        for index, contour in enumerate(contours)
        for outline in _fitted(contour, calibration, settings, noise, shares.of(index))
    ]
    if not traced:
        raise TraceError(
            "No edge stands out from the texture anywhere around the part, so every curve would be a guess. "
            "Draw it by hand in Sketch, over the picture."
        )
    return tuple(traced)


def tolerance_for(
    light: np.ndarray,
    calibration: Calibration,
    settings: TraceSettings,
    things: Sequence[Thing] = (),
    colour: Any = None,
) -> tuple[float, str]:
    """(millimetres, why) of the tolerance that the outlines of a picture allow; see :func:`offered.offered_tolerance`.

    Args and errors as :func:`trace`.
    """
    if settings.mode == "centre":
        return offered_tolerance(0.0, calibration.mm_per_px)
    return offered_tolerance(
        common_noise(outlines_of(light, settings, calibration.mm_per_px, things, colour)), calibration.mm_per_px
    )


def common_noise(contours: list[Contour]) -> float:
    """Wobble in pixels that at least half of all edges have, by length: small holes show too little of it, and a ragged
    blot must not stand for the rest."""
    told = sorted((contour_noise(contour.points, 1.0), len(contour.points)) for contour in contours)
    passed = np.cumsum([length for _, length in told])
    return told[int(np.searchsorted(passed, passed[-1] / 2))][0]


def _trace_halves(contours, calibration, settings, noise, progress):
    """Outlines of a symmetric part, one half fitted and mirrored."""
    contours = sorted(contours, key=lambda contour: -contour.area_px)
    done = fit_halves(
        [calibration.to_mm(contour.points) for contour in contours],
        [contour.hole for contour in contours],
        settings.halves,
        pixel=calibration.mm_per_px,
        tolerance=settings.tolerance_mm,
        noise_px=noise,
        blur_px=contours[0].blur_px,
        tell=progress,
    )
    return tuple(
        attrs.evolve(_in_mm(fitted, calibration, hole), axis=done.axis) for fitted, hole in zip(done.fitted, done.holes)
    )


def _trace_strokes(light, calibration, settings, progress, things):
    """The middle lines of drawn strokes, open or closed."""
    check_settings(settings)
    strokes = _strokes_of(light, settings, calibration.mm_per_px, things)
    if isinstance(settings.keep, (list, tuple)):
        strokes = [
            strokes[index]
            for index in sorted(
                {_nearest([_as_kept(stroke) for stroke in strokes], wanted) for wanted in settings.keep}
            )
        ]
    outlines, shares = [], Shares(progress, [len(stroke.points) for stroke in strokes])
    for index, stroke in enumerate(strokes):
        fit = fit_outline if stroke.closed else fit_open
        fitted = fit(
            calibration.to_mm(stroke.points),
            pixel=calibration.mm_per_px,
            tolerance=settings.tolerance_mm,
            tell=shares.of(index),
        )
        outlines.append(_in_mm(fitted, calibration, False, stroke.closed, stroke.width_px * calibration.mm_per_px))
        shares.of(index)(1.0)
    return tuple(outlines)


def _strokes_of(light, settings, mm_per_px, things):
    """Middle lines of strokes by tone, or where that tells none, of whatever thin stroke stands out from real paper.

    Raises:
        TraceError: there are none by tone, for that reason, and no faint ones either.
    """
    least = math.sqrt(settings.speck_mm2) / mm_per_px
    try:
        level, tones = _tones_for(_closed(light, settings, mm_per_px), settings, things)
        return centre_lines(level, tones, threshold=settings.threshold, least_px=least)
    except TraceError as problem:
        try:
            return centre_lines(
                *faint_strokes(light),
                threshold=settings.threshold,
                least_px=max(least, LEAST_FAINT_PX),
                bridge_widths=FAINT_BRIDGE_WIDTHS,
            )
        except TraceError:
            raise problem from None


@attrs.frozen
class _Kept:
    """What a choice recognises a stroke by: its points, and their number in place of an area."""

    points: np.ndarray
    area_px: float


def _as_kept(stroke):
    return _Kept(stroke.points, float(len(stroke.points)) ** 2)


def _chosen(contours, settings, size):
    """The contours that the settings mean; by themselves without frames and doubled lines."""
    keep = settings.keep
    if keep in ("all", "largest") or isinstance(keep, int):
        left_out = needless(contours, size, settings.sides)
        contours = [contour for index, contour in enumerate(contours) if index not in left_out] or contours
        if keep == "all":
            return contours
        outer = [contour for contour in contours if not contour.hole][
            : 1 if keep == "largest" else max(1, keep)
        ] or contours[:1]
        return [
            contour
            for contour in contours
            if any(contour is one or (contour.hole and _inside(contour, one)) for one in outer)
        ]
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
        raise TraceError(
            "One of the chosen outlines is not there at full resolution; raise the speck size or choose again."
        )
    return best


def contour_preview(
    light: np.ndarray,
    settings: TraceSettings,
    mm_per_px: float,
    factor: float,
    things: Sequence[Thing] = (),
    colour: np.ndarray | None = None,
) -> list[dict[str, Any]]:
    """Contours of a reduced picture, as the Board draws them.

    Args:
        light: reduced picture.
        mm_per_px: of the reduced picture.
        factor: pixels of the full picture a pixel of the reduced one.
        things: cards and sheets, in full pixels.

    Returns:
        plain data: path data in full pixels, middle and area in full pixels, area in mm², hole, border, why it is
            needless,
        if so, and path data of the stretches that are seen, or None where all of it is.

    Raises:
        TraceError: as :func:`outlines_of`.
    """
    scaled = [thing.scaled(factor) for thing in things]
    settings = attrs.evolve(
        settings,
        border=True,
        part_strokes=_scaled(settings.part_strokes, factor),
        ground_strokes=_scaled(settings.ground_strokes, factor),
    )
    if settings.mode == "centre":
        strokes = _strokes_of(light, settings, mm_per_px, scaled)
        marks = marks_among(strokes)
        return [
            _drawn(stroke.points, factor, stroke.closed, (len(stroke.points) * factor) ** 2)
            | {
                "area_mm2": 0.0,
                "hole": False,
                "border": False,
                "needless": "mark" if index in marks else "",
                "width_mm": stroke.width_px * mm_per_px,
            }
            for index, stroke in enumerate(strokes)
        ]
    contours = outlines_of(light, settings, mm_per_px, scaled, colour)
    left_out = needless(contours, light.shape[::-1], settings.sides, THIN_PX / factor)
    preview = []
    for index, contour in enumerate(contours):
        runs = sure_runs(contour)
        preview.append(
            _drawn(contour.points, factor, True, contour.area_px * factor**2)
            | {
                "hole": contour.hole,
                "border": contour.touches_border,
                "area_mm2": contour.area_px * mm_per_px**2,
                "needless": left_out.get(index, ""),
                "seen": None if runs is None else "".join(_path(run, factor) for run in runs),
            }
        )
    return preview


def _scaled(strokes, factor):
    """Strokes of the whole picture in a reduced one."""
    return tuple(((np.asarray(stroke, float).reshape(-1, 2) + 0.5) / factor - 0.5).tolist() for stroke in strokes)


def _path(points, factor):
    """Path data in full pixels."""
    return "M" + "L".join(
        f"{x:.1f} {y:.1f}" for x, y in (points * factor + (factor - 1) / 2)[:: max(1, len(points) // 1500)]
    )


def _drawn(points, factor, closed, size):
    """Path data in full pixels, and the middle and size that a choice recognises it by."""
    path = _path(points, factor) + ("Z" if closed else "")
    points = points * factor + (factor - 1) / 2
    return {"d": path, "key": [*((points.min(axis=0) + points.max(axis=0)) / 2).tolist(), size]}


def _inside(inner, outer):
    low, high = outer.points.min(axis=0), outer.points.max(axis=0)
    return bool(((inner.points >= low) & (inner.points <= high)).all())


def _fitted(contour, calibration, settings, noise, tell):
    """The outlines of a contour: one, or of one that is seen in part only, those of the stretches that are."""
    pixel = calibration.mm_per_px_at(contour.points.mean(axis=0))
    seen = fit_seen(contour, calibration.to_mm, pixel=pixel, tolerance=settings.tolerance_mm, tell=tell)
    if seen is not None:
        return [_in_mm(one.fitted, calibration, contour.hole and one.closed, one.closed) for one in seen]
    fitted = fit_outline(
        calibration.to_mm(contour.points),
        pixel=pixel,
        tolerance=settings.tolerance_mm,
        noise_px=noise,
        blur_px=contour.blur_px,
        tell=tell,
    )
    tell(1.0)
    return [_in_mm(fitted, calibration, contour.hole)]


def _in_mm(fitted, calibration, hole, closed=True, stroke_mm=None):
    """A fitted outline with the scale's uncertainty in its radii's."""
    u95 = tuple(
        math.hypot(error, scale_u95(calibration, curve) * _size(curve))
        if isinstance(curve, (Arc, Circle, Ellipse))
        else error
        for curve, error in zip(fitted.curves, fitted.u95)
    )
    area = abs(closed_area(fitted.curves)) if closed else 0.0
    return TracedOutline(
        fitted.curves, u95, hole, area, fitted.max_deviation, fitted.rms_deviation, closed, stroke_mm, fitted.comb
    )


def scale_u95(calibration: Calibration, curve: Arc | Circle | Line) -> float:
    """95 % uncertainty of the scale where a curve lies, as a share of it; seen from afar its two directions have their
    own."""
    if calibration.is_linear:
        return COVERAGE_FACTOR * calibration.u_mm_per_px / calibration.mm_per_px
    points = sample(curve, max(_size(curve) / SCALE_PLACES, 1e-6))
    low, high = points.min(axis=0), points.max(axis=0)
    if isinstance(curve, Line):
        pairs = [(curve.start, curve.end)]
    else:
        middle, reach = (low + high) / 2, max(float(np.ptp(points, axis=0).max()) / 2, 1e-3)
        pairs = [(middle - (reach, 0), middle + (reach, 0)), (middle - (0, reach), middle + (0, reach))]
    told = [
        calibration.distance(start, end, 0.0) for start, end in (calibration.to_px(np.array(pair)) for pair in pairs)
    ]
    return float(np.mean([u95 / max(read, 1e-9) for read, u95 in told]))


def _size(curve):
    if isinstance(curve, Ellipse):
        return max(curve.semi_axes)
    return curve.radius if isinstance(curve, (Arc, Circle)) else length(curve)


def outline_record(outline: TracedOutline) -> dict[str, Any]:
    """Plain data of an outline for reports and for storing."""
    return {
        "closed": outline.closed,
        "hole": outline.hole,
        "area_mm2": outline.area_mm2,
        "stroke_mm": outline.stroke_mm,
        "max_dev_mm": outline.max_dev_mm,
        "rms_dev_mm": outline.rms_dev_mm,
        "comb": np.round(outline.comb, 5).tolist(),
        "axis": outline.axis
        and {
            "point": list(outline.axis.point),
            "angle": outline.axis.angle,
            "rms_mm": outline.axis.rms,
            "largest_mm": outline.axis.largest,
        },
        "primitives": [primitive_record(curve, u95) for curve, u95 in zip(outline.curves, outline.u95_mm)],
    }
