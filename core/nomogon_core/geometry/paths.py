"""Plane curves as SVG path data."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

from nomogon_core.geometry.curves import CLOSED, Arc, Circle, Ellipse, EllipticArc, Line, ends


def number(value: float) -> str:
    """A coordinate with six decimals at most and no needless zeros."""
    text = f"{value:.6f}".rstrip("0").rstrip(".")
    return "0" if text in ("-0", "") else text


def path_data(curves: Sequence[Any], *, closed: bool = False) -> str:
    """SVG path data of consecutive curves, y up; a full circle or ellipse becomes two half turns.

    What was written is kept, since most curves of a drawing are the same after an edit.
    """
    return _path_data(tuple(curves), closed)


@lru_cache(maxsize=32_768)
def _path_data(curves, closed):
    parts, at = [], None
    for curve in curves:
        if isinstance(curve, CLOSED):
            whole = Ellipse(curve.center, (curve.radius, curve.radius), 0.0) if isinstance(curve, Circle) else curve
            right, left = (" ".join(map(number, place)) for place in whole.at([0.0, math.pi]))
            arc = f"A{number(whole.semi_axes[0])} {number(whole.semi_axes[1])} {number(math.degrees(whole.angle))} 0 1"
            parts.append(f"M{right}{arc} {left}{arc} {right}Z")
            at = None
            continue
        start, end = ends(curve)
        if at is None or math.dist(at, start) > 1e-6:
            parts.append(f"M{number(start[0])} {number(start[1])}")
        if isinstance(curve, Line):
            parts.append(f"L{number(end[0])} {number(end[1])}")
        elif isinstance(curve, Arc):
            r = number(curve.radius)
            parts.append(
                f"A{r} {r} 0 {int(abs(curve.sweep) > math.pi)} {int(curve.sweep > 0)} {number(end[0])} {number(end[1])}"
            )
        elif isinstance(curve, EllipticArc):
            shape = f"{number(curve.whole.semi_axes[0])} {number(curve.whole.semi_axes[1])}"
            turn, long = number(math.degrees(curve.whole.angle)), int(abs(curve.sweep) > math.pi)
            parts.append(f"A{shape} {turn} {long} {int(curve.sweep > 0)} {number(end[0])} {number(end[1])}")
        else:
            for control in curve.pieces():
                parts.append("C" + " ".join(f"{number(x)} {number(y)}" for x, y in control[1:]))
        at = end
    if closed and at is not None:
        parts.append("Z")
    return "".join(parts)
