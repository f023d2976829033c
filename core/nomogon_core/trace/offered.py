"""The tolerance that a picture allows: as fine as its edges are true, and no finer."""

from __future__ import annotations

import math

WOBBLES, LEAST_PX, LEAST_MM = 8.5, 1.0, 0.1
# Preferred numbers, series R10 (ISO 3).
PREFERRED = (1.0, 1.25, 1.6, 2.0, 2.5, 3.15, 4.0, 5.0, 6.3, 8.0, 10.0)


def offered_tolerance(noise_px: float, mm_per_px: float) -> tuple[float, str]:
    """(millimetres, why) of the tolerance to begin with.

    Finer than a pixel, or than several times the wobble of the picture's edges, curves follow the picture's faults;
    then corners
    of compressed pictures are lost in short curves.

    Args:
        noise_px: wobble of the edges in pixels; mm_per_px: scale.
    """
    pixel, wobble = LEAST_PX * mm_per_px, WOBBLES * noise_px * mm_per_px
    wanted = max(LEAST_MM, pixel, wobble)
    decade = 10.0 ** math.floor(math.log10(wanted) + 1e-9)
    offered = next(step for step in PREFERRED if step * decade >= wanted * 0.999) * decade
    if wanted == LEAST_MM:
        return offered, "the picture is fine enough for it"
    return (
        offered,
        "a pixel is that large here" if pixel >= wobble else "the edges wobble too much in the picture for less",
    )
