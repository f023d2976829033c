"""How what an edit puts into a sketch lies, so that it can be taken hold of on the Board."""

from __future__ import annotations

import math
from collections.abc import Sequence

import attrs
import numpy as np

from nomogon_core.sketch.arrange import Placing
from nomogon_core.tuples import as_tuple


@attrs.frozen
class Lying:
    """How something lies in the sketch.

    Attributes:
        about: the place that it is put at, sized and turned about.
        corners: of its box as it lies, or () where it has none to be held by.
        turn: radians. mirrored: whether it shows its other side.
        blanks: {handle: name of the blank that it changes}; handles are move, size, turn and flip.
        size: what sizes it, millimetres.
        placing: its own coordinates to the sketch's; points: places of its own that can be picked.
    """

    about: tuple[float, float]
    corners: tuple = attrs.field(converter=as_tuple)
    turn: float
    mirrored: bool
    blanks: dict[str, str]
    size: float = 0.0
    placing: Placing | None = None
    points: Sequence[tuple[float, float]] = ()


def corners_of(low: Sequence[float], high: Sequence[float], placing: Placing) -> tuple[tuple[float, float], ...]:
    """Corners of an upright box as they lie, counter-clockwise from its lower left where nothing mirrors it."""
    (left, under), (right, over) = low, high
    return tuple(placing.of(place) for place in ((left, under), (right, under), (right, over), (left, over)))


def placed(
    about: tuple[float, float],
    to: tuple[float, float],
    scale: float = 1.0,
    turn: float = 0.0,
    *,
    mirrored: bool = False,
) -> Placing:
    """What puts a place at another, scaled and turned by radians about it, the mirroring in the upright first."""
    cos, sin = math.cos(turn), math.sin(turn)
    matrix = scale * np.array([[cos, -sin], [sin, cos]]) @ np.diag([-1.0 if mirrored else 1.0, 1.0])
    return Placing(matrix, np.asarray(to, float) - matrix @ np.asarray(about, float))
