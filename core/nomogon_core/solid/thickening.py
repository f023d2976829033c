"""Areas made wider or narrower all around: strokes that a machine can make, and fillings with a clearance."""

from __future__ import annotations

from collections import Counter
from typing import Any

import numpy as np
import shapely

from nomogon_core.errors import OperationError
from nomogon_core.geometry.curves import CLOSED, Circle, outline_points, sample
from nomogon_core.geometry.necks import Neck, narrowest
from nomogon_core.sentence import Clause, Length
from nomogon_core.sketch.offset import Chain, backwards, offset

Loops = list[list[tuple[str, Any]]]
CHORD_MM, SLACK_MM = 1e-4, 1e-4
STROKES = Clause(
    offer="thickened",
    parts=(
        ", strokes thickened to",
        Length(
            "strokes",
            asks="Type how wide the narrowest stroke is to be; its centre line stays.",
            empty="a width",
            usual="0.8 mm",
            usual_in="1/32 in",
        ),
    ),
)


def necks_of(areas: list[Loops], least: float, most: float | None = None) -> tuple[Neck | None, Neck | None]:
    """The narrowest stroke of some areas and the narrowest gap between them, see :func:`narrowest`."""
    return narrowest([[_points(loop) for loop in loops] for loops in areas], least, most)


def thickened(areas: list[Loops], least: float) -> list[Loops]:
    """Areas of which each whose strokes are too narrow has grown all around, so that its narrowest is ``least`` wide
    and all centre lines stay where they are; 0 leaves them.

    Raises:
        OperationError: a hole would close, or two of them would run together.
    """
    if not least:
        return areas
    grown = [_with_strokes(loops, least) for loops in areas]
    whole = [shapely.Polygon(*_rings(loops)) for loops in grown]
    for index, one in enumerate(whole):
        for earlier, other in enumerate(whole[:index]):
            same = all(grown[at] is areas[at] for at in (index, earlier))
            if not same and one.intersects(other):
                place = one.intersection(other).representative_point()
                raise OperationError(
                    f"With strokes {least:.2f} mm wide two areas would run together at ({place.x:.1f}, {place.y:.1f}) "
                    "of the sketch. Type less, or space them wider."
                )
    return grown


def _with_strokes(loops, least):
    stroke, _ = necks_of([loops], least)
    by = (least - stroke.width) / 2 if stroke else 0.0
    if by < SLACK_MM:
        return loops
    refused = f"Strokes {least:.2f} mm wide would close a hole of an area. Type less, or draw it larger."
    return [moved(loop, -by, inner=index > 0, refused=refused) for index, loop in enumerate(loops)]


def moved_out(loops: Loops, by: float) -> Loops:
    """An area whose outline is moved out by so much, or in where that is negative; its corners stay sharp, its curves
    keep their ids, and its holes stay.

    Raises:
        OperationError: it would fall apart, vanish or meet a hole.
    """
    if not by:
        return loops
    outline, *holes = loops
    curves = [curve for _, curve in outline]
    # A whole circle stays one, so that what was picked of it is found again.
    one = curves[0] if isinstance(curves[0], Circle) and curves[0].radius + by > 0 else None
    chains = [Chain((Circle(one.center, one.radius + by),), True)] if one else offset(curves, True, by, sharp=True)
    refused = f"The outline cannot be moved {'out' if by > 0 else 'in'} by {abs(by):.2f} mm"
    if len(chains) != 1:
        raise OperationError(f"{refused}: it would fall apart or vanish. Type less.")
    around = [shapely.LineString(sample(curve, CHORD_MM)) for curve in curves]
    told: list[tuple[str, Any]] = []
    used: Counter[str] = Counter()
    for curve in chains[0].curves:
        middle = shapely.LineString(sample(curve, CHORD_MM)).interpolate(0.5, normalized=True)
        name = outline[int(np.argmin(shapely.distance(middle, around)))][0]
        used[name] += 1
        told.append((name if used[name] == 1 else f"{name}.{used[name]}", curve))
    whole = shapely.Polygon(_points(told))
    if not all(whole.contains_properly(shapely.Polygon(_points(hole))) for hole in holes):
        raise OperationError(f"{refused}: it would run into a hole. Type less.")
    return [told, *holes]


def narrowed(loops: Loops, clearance: float) -> Loops:
    """An area that stays a clearance away from its outline.

    Raises:
        OperationError: it would fall apart or vanish.
    """
    refused = (
        f"An area is narrower than twice the clearance of {clearance:.2f} mm somewhere, so its filling would fall "
        "apart or vanish. Type less."
    )
    return [moved(loop, clearance, inner=index > 0, refused=refused) for index, loop in enumerate(loops)]


def moved(loop: list[tuple[str, Any]], distance: float, *, inner: bool, refused: str) -> list[tuple[str, Any]]:
    """A loop moved into its area, out of it where the distance is negative; the area lies to its left, but around a
    hole that is a whole circle or ellipse to the right.

    Raises:
        OperationError: ``refused``, where it does not stay one loop.
    """
    called, curves = "+".join(sorted({name for name, _ in loop})), [curve for _, curve in loop]
    whole = isinstance(curves[0], CLOSED)
    chains = offset(curves, True, distance if inner and whole else -distance)
    if len(chains) != 1:
        raise OperationError(refused)
    turned = backwards(chains[0].curves) if inner and whole else chains[0].curves
    return [(f"{called}.{index}", curve) for index, curve in enumerate(turned, 1)]


def _points(loop):
    return outline_points([curve for _, curve in loop], CHORD_MM)


def _rings(loops):
    outer, *holes = map(_points, loops)
    return outer, holes
