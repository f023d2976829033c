"""Time of a tool along lines."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np


def seconds_along(lines: Sequence[np.ndarray], speed: float, acceleration: float, jerk: float) -> float:
    """Time along closed lines (n, 2): at full speed but for what each corner costs by how much it turns.

    Args:
        speed: mm/s; acceleration: mm/s²; jerk: mm/s by which the speed may change at once.
    """
    if not len(lines):
        return 0.0
    places, counts = np.vstack(lines), np.array([len(line) for line in lines])
    last = np.cumsum(counts) - 1
    after = np.arange(1, len(places) + 1)
    after[last] = last - counts + 1
    steps = places[after] - places
    lengths = np.hypot(*steps.T)
    ways = steps / np.maximum(lengths, 1e-12)[:, None]
    corner = np.minimum(speed, jerk / np.maximum(np.hypot(*(ways[after] - ways).T), 1e-9))
    return float(lengths.sum() / speed + ((speed - corner) ** 2 / (speed * acceleration)).sum())
