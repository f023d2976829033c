"""A closed contour as the fewest lines, arcs, circles, ellipses and cubics within a tolerance.

Pieces are recognised at the contour's own noise, since a generous tolerance would turn short arcs into
lines; only the free-form stretches are then simplified to the tolerance asked for. Breaks between pieces
are chosen all at once by dynamic programming over candidate places (in the spirit of Perez and Vidal 1994
and of Selinger 2003); joints, bulges and handles are adjusted together; every contour point is verified.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import attrs
import numpy as np

from nomogon_core.errors import TraceError
from nomogon_core.geometry.curves import Circle, Ellipse, Line, closed_area, moved, reverse
from nomogon_core.picture.blur import curvature_of, drawn_out, true_radius
from nomogon_core.trace.adjustment import adjust, with_halves
from nomogon_core.trace.described import SURE_TIP_PX, describe, resample, wobble
from nomogon_core.trace.distances import distances_of, uncertainty_of
from nomogon_core.trace.fit_settings import SETTINGS
from nomogon_core.trace.lines_arcs import UNKNOWNS, curvature_along, lines_and_arcs, recessions_of, with_small_fillets
from nomogon_core.trace.pieces import best_pieces, simplify
from nomogon_core.trace.rough import rough_curves
from nomogon_core.trace.whole import as_circle, as_ellipse

if TYPE_CHECKING:
    from nomogon_core.trace.fit_settings import FitSettings

MOST_TEETH = 400
# Lines and arcs that an outline was drawn with may become cubics only where they are shorter than this many tolerances.
KEPT_TOLERANCES = 4.0
LEAST_SMEAR_PX, CORNER_REACH_SIGMAS = 1.5, 2.5
# A contour that wobbles more is told better by free curves; one with as few smooth joints between arcs was drawn with
# lines and arcs,
# and so was one that free curves would not tell with fewer numbers.
MOST_DRAWN_NOISE_PX, FEW_BLENDS, DRAWN_UNKNOWNS = 0.3, 0.45, 1.1


@attrs.frozen
class FittedOutline:
    """Curves of one closed outline, counter-clockwise (x toward y) for its enclosed area to be positive.

    Attributes:
        curves: in order, each beginning where the one before ends.
        u95: 95 % uncertainty of each curve's size or place from the contour's noise alone, in the unit of the points:
            of the radius for arcs and circles, of the place across for lines and splines.
        max_deviation, rms_deviation: of the contour from the curves.
        comb: rows (x, y, off) of contour points, evenly chosen, and how far off they are, in the unit of the points.
    """

    curves: tuple
    u95: tuple
    max_deviation: float
    rms_deviation: float
    comb: np.ndarray = attrs.field(eq=False, repr=False)


def fit_outline(
    points: np.ndarray,
    *,
    pixel: float,
    tolerance: float,
    noise_px: float = 0.0,
    blur_px: float = 0.0,
    settings: FitSettings = SETTINGS,
    tell: Callable | None = None,
) -> FittedOutline:
    """Fit a closed contour.

    Args:
        points: (n, 2) contour in any length unit.
        pixel: size of a pixel in that unit.
        tolerance: how far a curve may leave the contour, in that unit.
        noise_px: wobble known from other contours of the same picture, in pixels.
        blur_px: standard deviation of the blur of the edge, in pixels, whose effect on round edges and corners is taken
            back; 0 of points that
            come from no picture.
        tell: called now and then with the share 0..1 that is done.

    Returns:
        :class:`FittedOutline` in the unit of the points.

    Raises:
        TraceError: the tolerance is not positive or the contour too short.
    """
    scaled, shift = _checked(points, pixel, tolerance)
    contour = resample(scaled - shift)
    if len(contour) < 12:
        raise TraceError(f"An outline of {len(contour)} pixels around is too short to be fitted; raise the speck size.")
    noise = max(wobble(contour), noise_px)
    detection = _detection(noise, tolerance / pixel, settings)
    whole = as_circle(contour, detection, tolerance / pixel) or as_ellipse(contour, detection, tolerance / pixel)
    if whole is not None:
        contour = _without_blur(contour, blur_px)
        curves = (_larger(whole, blur_px),)
    else:
        described = describe(contour, settings, blur_px=blur_px)
        curves, contour = _fitted_curves(described, detection, tolerance / pixel, noise, settings, tell or _untold)
    if closed_area(curves) < 0:
        curves = tuple(reverse(curve) for curve in reversed(curves))
    return _told(curves, contour, shift, pixel, blur_px)


def whole_of(
    points: np.ndarray,
    *,
    pixel: float,
    tolerance: float,
    noise_px: float = 0.0,
    blur_px: float = 0.0,
    settings: FitSettings = SETTINGS,
) -> Circle | Ellipse | None:
    """The circle or ellipse that a closed contour is, as :func:`fit_outline` would find it, or None."""
    scaled, shift = _checked(points, pixel, tolerance)
    contour = resample(scaled - shift)
    detection = _detection(max(wobble(contour), noise_px), tolerance / pixel, settings)
    whole = as_circle(contour, detection, tolerance / pixel) or as_ellipse(contour, detection, tolerance / pixel)
    return None if whole is None else _in_unit(_larger(whole, blur_px), shift, pixel)


def _larger(whole, blur):
    """A circle or ellipse that a blur made to read small."""
    if isinstance(whole, Circle):
        return Circle(whole.center, true_radius(whole.radius, blur))
    a, b = whole.semi_axes
    # Curvature at the ends of the axes is a/b² and b/a².
    return Ellipse(whole.center, (a + blur**2 * a / (2 * b * b), b + blur**2 * b / (2 * a * a)), whole.angle)


def _without_blur(contour, blur, corners=(), closed=True):
    """A contour moved to where it would be without the blur, but next to its corners."""
    if blur <= 0:
        return contour
    curvature, near = (
        curvature_of(contour, max(blur, LEAST_SMEAR_PX), closed=closed),
        math.ceil(CORNER_REACH_SIGMAS * blur),
    )
    for corner in corners:
        curvature[np.arange(corner - near, corner + near + 1) % len(contour)] = 0.0
    return drawn_out(contour, curvature, blur, closed=closed)


def held_against(curves: tuple[Any, ...], points: np.ndarray, pixel: float, blur_px: float = 0.0) -> FittedOutline:
    """Curves as the :class:`FittedOutline` of a closed contour (n, 2) that they were not necessarily fitted to."""
    scaled = np.asarray(points, float) / pixel
    return _told(
        tuple(_in_unit(curve, (0.0, 0.0), 1 / pixel) for curve in curves),
        _without_blur(resample(scaled), blur_px),
        (0.0, 0.0),
        pixel,
        blur_px,
    )


def fit_open(
    points: list[tuple[int, int]] | np.ndarray,
    *,
    pixel: float,
    tolerance: float,
    blur_px: float = 0.0,
    settings: FitSettings = SETTINGS,
    tell: Callable | None = None,
) -> FittedOutline:
    """Fit a path with two ends, as :func:`fit_outline` does a closed contour; its ends stay where they are.

    Raises:
        TraceError: the tolerance is not positive or the path too short.
    """
    scaled, shift = _checked(points, pixel, tolerance)
    path = resample(scaled - shift, closed=False)
    if len(path) < 4:
        raise TraceError(f"A line of {len(path)} pixels is too short to be fitted; raise the speck size.")
    if len(path) < 12:
        return _told((Line(path[0], path[-1]),), path, shift, pixel, blur_px)
    noise = wobble(path[2:-2], closed=False) if len(path) > 40 else 0.0
    detection = _detection(noise, tolerance / pixel, settings)
    described = describe(path, settings, is_open=True, blur_px=blur_px)
    curves, seen = _fitted_curves(described, detection, tolerance / pixel, noise, settings, tell or _untold)
    return _told(_without_gap(curves, path), seen, shift, pixel, blur_px)


class Shares:
    """What is told of the shares done of several outlines, as one share of all of them.

    Args:
        tell: called with the share 0..1 of all, or None; sizes: how much each is to do.
    """

    def __init__(self, tell: Any, sizes: list[int]) -> None:
        self.tell, self.sizes, self.done = tell, sizes, [0.0] * len(sizes)

    def of(self, index: int) -> Callable:
        """A function to be called with the share that is done of one."""

        def told(share):
            self.done[index] = max(self.done[index], share)
            if self.tell:
                self.tell(sum(size * done for size, done in zip(self.sizes, self.done)) / sum(self.sizes))

        return told


def _untold(share):
    """Where nobody asks how far it is."""


def _without_gap(curves, path):
    """The curves of an open path from its start to its end."""
    gap = min(
        (index for index, curve in enumerate(curves) if isinstance(curve, Line)),
        key=lambda index: math.dist(curves[index].start, path[-1]) + math.dist(curves[index].end, path[0]),
    )
    return curves[gap + 1 :] + curves[:gap]


def _checked(points, pixel, tolerance):
    """Points in pixels, and their middle.

    Raises:
        TraceError: the tolerance is not positive.
    """
    if not (math.isfinite(tolerance) and tolerance > 0):
        raise TraceError("The tolerance must be more than zero; 0.1 mm suits most parts.")
    scaled = np.ascontiguousarray(np.asarray(points, float) / pixel)
    return scaled, scaled.mean(axis=0)


def _detection(noise, tolerance, settings):
    return min(max(settings.least_detection_px, settings.noise_factor * noise), max(tolerance, 0.1))


def _told(curves, contour, shift, pixel, blur):
    """Curves in pixels as a :class:`FittedOutline` in the unit of the points."""
    distances, owner = distances_of(contour, curves)
    u95 = tuple(uncertainty_of(curve, distances[owner == index], blur) * pixel for index, curve in enumerate(curves))
    back = tuple(_in_unit(curve, shift, pixel) for curve in curves)
    teeth = np.linspace(0, len(contour) - 1, min(len(contour), MOST_TEETH)).astype(int)
    comb = np.column_stack([(contour[teeth] + shift) * pixel, distances[teeth] * pixel])
    return FittedOutline(
        back, u95, float(np.abs(distances).max()) * pixel, float(np.sqrt(np.mean(distances**2))) * pixel, comb
    )


def _is_clear(noise, settings):
    """Whether a contour wobbles so little that lines and arcs are told from it, and sides can be carried on past their
    corners."""
    return settings.noise_factor * noise <= settings.clear_detection * settings.least_detection_px


def _fitted_curves(outline, detection, tolerance, noise, settings, tell):
    """Curves of a described contour, and the contour without its blur that they were fitted to.

    A rough one that lines and arcs cannot make up is looked at anew, and its corners are taken as they stand in the
    picture.
    """
    clear = _is_clear(noise, settings)
    if clear:
        outline = attrs.evolve(outline, clear=True, recessions=np.maximum(outline.recessions, SURE_TIP_PX))
    chain = lines_and_arcs(outline, noise)
    if chain.noise_px < MOST_DRAWN_NOISE_PX and chain.blended <= FEW_BLENDS:
        return _drawn_curves(outline, chain, detection, tolerance, settings, tell)
    free = attrs.evolve(
        outline, points=_without_blur(outline.points, outline.blur_px, outline.corners, not outline.is_open)
    )
    pieces = best_pieces(free, detection, settings)
    if clear and chain.unknowns <= DRAWN_UNKNOWNS * sum(UNKNOWNS[kind] for kind, *_ in pieces):
        return _drawn_curves(outline, chain, detection, tolerance, settings, tell)
    if not clear:
        rough = attrs.evolve(
            free,
            rough=True,
            sure_tip_px=settings.free_tip_px,
            slacks=np.minimum(free.slacks, settings.free_tip_px),
            skips=np.minimum(free.skips, settings.free_skip_px),
        )
        return rough_curves(rough, pieces, tolerance, settings, tell), rough.points
    return _fewest(free, pieces, detection, tolerance, settings, tell), free.points


def _drawn_curves(outline, chain, detection, tolerance, settings, tell):
    """Curves of a contour that was drawn with lines and arcs, and that contour without its blur."""
    chain = with_small_fillets(outline, chain)
    points = outline.points
    if outline.blur_px > 0:
        points = drawn_out(points, curvature_along(outline, chain), outline.blur_px, closed=not outline.is_open)
    drawn = attrs.evolve(
        outline,
        points=points,
        drawn=True,
        least_kept_px=KEPT_TOLERANCES * tolerance,
        corners=chain.corners,
        recessions=recessions_of(outline, chain),
    )
    return _fewest(drawn, chain.pieces, detection, tolerance, settings, tell), points


def _fewest(outline, pieces, detection, tolerance, settings, tell):
    """Curves of the fewest pieces that stay within the tolerance after their joint adjustment."""
    best = None
    for index, stretch in enumerate(settings.stretches):
        tell((index + 1) / (len(settings.stretches) + 1))
        if stretch * tolerance > detection:
            simpler = simplify(outline, pieces, stretch * tolerance, settings)
            curves, bad, _ = with_halves(outline, simpler, tolerance, settings)
            if bad.max() < 0 and (best is None or len(curves) < len(best)):
                best = curves
    if best is None:
        return adjust(outline, pieces, max(detection, min(tolerance, 2 * detection)), settings)
    return best


def _in_unit(curve, shift, pixel):
    """A curve in pixels, without a shift, in the unit that a pixel is given in."""
    return moved(curve, lambda point: ((point[0] + shift[0]) * pixel, (point[1] + shift[1]) * pixel), scale=pixel)
