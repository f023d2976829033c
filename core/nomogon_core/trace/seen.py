"""A contour of which only some stretches are seen: these are fitted one by one, and straight sides carried on across
what is not seen.

Two sides that are seen on both sides of a gap meet where they cross; a side that goes on in line after a gap is one
side. Every other gap
stays open, since what lies in it would be a guess.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING

import attrs
import numpy as np

from nomogon_core.geometry.curves import Line, closed_area, reverse
from nomogon_core.trace.fit import FittedOutline, fit_open
from nomogon_core.trace.two_strokes import sure_runs

if TYPE_CHECKING:
    from nomogon_core.picture.contours import Contour

IN_LINE, IN_LINE_PX = math.radians(1.5), 1.5
CARRIED_SHARE, CARRIED_PX = 1.5, 6.0
# A side tells where it goes on if it is as long as this share of the gap.
LEAST_SIDE_SHARE = 0.5


@attrs.frozen
class SeenOutline:
    """A :class:`FittedOutline` of what is seen of a contour, and whether it closes."""

    fitted: FittedOutline
    closed: bool


def fit_seen(
    contour: Contour, to_mm: Callable, *, pixel: float, tolerance: float, tell: Callable
) -> list[SeenOutline] | None:
    """Curves of the stretches of a contour that are seen, or None where it is seen all around.

    Args:
        contour: with ``sure``; to_mm: maps (n, 2) pixels; pixel: its millimetres; tolerance: in mm; tell: called with
            the share that is done.

    Returns:
        a list of :class:`SeenOutline`, empty where nothing is seen.

    Raises:
        TraceError: as :func:`fit.fit_open`.
    """
    runs = sure_runs(contour)
    if runs is None:
        return None
    fitted = []
    for index, run in enumerate(runs):
        fitted.append(fit_open(to_mm(run), pixel=pixel, tolerance=tolerance, blur_px=contour.blur_px))
        tell((index + 1) / len(runs))
    return _carried_on(fitted, pixel)


def _carried_on(fitted, pixel):
    """Open outlines in order around a contour, joined where straight sides tell how they go on."""
    if not fitted:
        return []
    chains, closed = [fitted[0]], False
    for after in fitted[1:]:
        joined = _joined(chains[-1], after, pixel)
        chains[-1:] = [joined] if joined else [chains[-1], after]
    if len(chains) > 1:
        joined = _joined(chains[-1], chains[0], pixel)
        if joined:
            chains = [joined, *chains[1:-1]]
    elif len(chains[0].curves) > 2:
        chains[0], closed = _closed(chains[0], pixel)
    return [SeenOutline(chain, closed) for chain in chains]


def _joined(before, after, pixel):
    """Two open outlines as one, or None where nothing tells how the first goes on to the second."""
    met = _met(before.curves[-1], after.curves[0], pixel)
    if met is None:
        return None
    curves = (*before.curves[:-1], *met, *after.curves[1:])
    errors = (before.u95[-1], after.u95[0])
    u95 = (*before.u95[:-1], *(errors if len(met) == 2 else (max(errors),)), *after.u95[1:])
    squares = [outline.rms_deviation**2 * len(outline.comb) for outline in (before, after)]
    comb = np.vstack([before.comb, after.comb])
    return FittedOutline(
        curves, u95, max(before.max_deviation, after.max_deviation), math.sqrt(sum(squares) / len(comb)), comb
    )


def _closed(chain, pixel):
    """(outline, whether it closes): an open outline around all of a contour, its ends carried on to one another."""
    met = _met(chain.curves[-1], chain.curves[0], pixel)
    if met is None:
        return chain, False
    if len(met) == 2:
        curves, u95 = (met[1], *chain.curves[1:-1], met[0]), chain.u95
    else:
        curves, u95 = (met[0], *chain.curves[1:-1]), (max(chain.u95[0], chain.u95[-1]), *chain.u95[1:-1])
    if closed_area(curves) < 0:
        curves, u95 = tuple(reverse(curve) for curve in reversed(curves)), u95[::-1]
    return attrs.evolve(chain, curves=curves, u95=u95), True


def _met(first, second, pixel):
    """The two lines beside a gap carried on to where they cross, or the one line that they are; None where they do
    neither."""
    if not (isinstance(first, Line) and isinstance(second, Line)):
        return None
    end, start = np.array(first.end), np.array(second.start)
    ways = [np.subtract(line.end, line.start) for line in (first, second)]
    lengths = [math.hypot(*way) for way in ways]
    gap = math.dist(end, start)
    if min(lengths) < LEAST_SIDE_SHARE * gap:
        return None
    units = [way / size for way, size in zip(ways, lengths)]
    turn = units[0][0] * units[1][1] - units[0][1] * units[1][0]
    across = start - end
    if abs(turn) < math.sin(IN_LINE) and units[0] @ units[1] > 0:
        off = abs(units[0][0] * across[1] - units[0][1] * across[0])
        return (Line(first.start, second.end),) if off < IN_LINE_PX * pixel and units[0] @ across > 0 else None
    ahead = (across[0] * units[1][1] - across[1] * units[1][0]) / turn if turn else math.inf
    back = (across[0] * units[0][1] - across[1] * units[0][0]) / turn if turn else math.inf
    most = CARRIED_SHARE * gap + CARRIED_PX * pixel
    if not (-CARRIED_PX * pixel < ahead < most and -CARRIED_PX * pixel < -back < most):
        return None
    corner = tuple(end + ahead * units[0])
    return Line(first.start, corner), Line(corner, second.end)
