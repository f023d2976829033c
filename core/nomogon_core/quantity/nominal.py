"""Sizes that parts are made to: whole and half millimetres, fractions of an inch, screw clearance holes."""

from __future__ import annotations

import math
from fractions import Fraction

import attrs
import numpy as np

from nomogon_core.quantity.named import CLEARANCE

INCH_MM = 25.4
CLEARANCE_HOLES = {screw: medium for screw, (_, medium, _) in CLEARANCE.items()}
# Steps of a family and how often sizes come from it, common practice: (millimetres, share).
METRIC = ((5.0, 0.3), (1.0, 0.45), (0.5, 0.25))
IMPERIAL = ((INCH_MM / 4, 0.35), (INCH_MM / 8, 0.3), (INCH_MM / 16, 0.25), (INCH_MM / 32, 0.1))
CLEARANCE_SHARE = 0.3
# How many of a part's sizes are standard ones is not known beforehand: the sizes themselves tell.
STANDARD_SHARES = (0.02, 0.2, 0.5, 0.8, 0.95)
SCALE_STEPS, REACH = 141, 3.5
SURE, PEAK, PEAK_FOOT = 0.9, 0.5, 0.05


@attrs.frozen
class Size:
    """A measured size.

    Attributes:
        value, sigma: millimetres; sigma without the part that all sizes of a picture have in common.
        is_hole: a round hole, which may be a clearance hole.
    """

    value: float
    sigma: float
    is_hole: bool = False


@attrs.frozen
class Nominal:
    """The size that one is probably meant to be.

    Attributes:
        value: millimetres; typed: as it would be typed; words: what it is, "" for a plain number.
        probability: that it is this one.
    """

    value: float
    typed: str
    words: str
    probability: float


def _near(value, reach, family):
    """Standard sizes of a family near a value, the coarsest step first: {size: share}."""
    found: dict[float, float] = {}
    for step, share in family:
        low, high = math.ceil((value - reach) / step), math.floor((value + reach) / step)
        for number in range(max(low, 1), high + 1):
            size = round(number * step, 9)
            if not any(abs(size - other) < 1e-6 for other in found):
                found[size] = share * step
    return found


def _candidates(size, family, reach):
    """{standard size: density weight} near a measured size."""
    told = _near(size.value, reach, family)
    if size.is_hole and family is METRIC:
        for hole in CLEARANCE_HOLES.values():
            if abs(hole - size.value) <= reach:
                told[hole] = told.get(hole, 0.0) + CLEARANCE_SHARE
    return told


def nominal(sizes: list[Size], scale_sigma: float) -> list[Nominal | None]:
    """The standard size of each measured one, where the evidence is enough.

    All share an unknown scale near 1, and how many of them are standard at all is unknown too; millimetres and inches
    are compared by how well all sizes agree with them together.

    Args:
        scale_sigma: relative standard uncertainty of the picture's scale.
    """
    if not sizes:
        return []
    scale = np.linspace(-REACH, REACH, SCALE_STEPS) * max(scale_sigma, 1e-6)
    prior = -0.5 * (scale / max(scale_sigma, 1e-6)) ** 2
    told = [_by_family(sizes, family, 1 + scale, prior) for family in (METRIC, IMPERIAL)]
    evidence = np.array([one[0] for one in told])
    best = int(evidence.argmax())
    family_sure = 1 / np.exp(evidence - evidence.max()).sum()
    return [
        attrs.evolve(one, probability=one.probability * family_sure)
        if one is not None and one.probability * family_sure > SURE
        else None
        for one in told[best][1]
    ]


def _by_family(sizes, family, scale, prior):
    """(log evidence, the best standard of each size or None) of a family."""
    shares = np.array(STANDARD_SHARES)[:, None]
    told, total = [], np.tile(prior, (len(shares), 1))
    for size in sizes:
        reach = 6 * size.sigma + size.value * (np.abs(scale - 1).max())
        found = _candidates(size, family, max(reach, 0.05))
        own = size.value / scale
        parts = {
            value: shares
            * weight
            * np.exp(-0.5 * ((own - value) / size.sigma) ** 2)
            / (size.sigma * math.sqrt(2 * math.pi))
            for value, weight in found.items()
        }
        whole = 1 - shares + sum(parts.values(), np.zeros_like(scale))
        total = total + np.log(whole)
        told.append((parts, whole))
    weights = np.exp(total - total.max())
    weights /= weights.sum()
    near_peak = _around_peak(weights.sum(axis=0))
    chosen = []
    for parts, whole in told:
        likely = {value: float((weights * part / whole).sum()) for value, part in parts.items()}
        best = max(likely, key=likely.__getitem__, default=None)
        sure = best is not None and likely[best] > SURE and near_peak > PEAK
        chosen.append(_named(best, likely[best], family) if sure else None)
    return float(np.log(np.exp(total - total.max()).sum()) + total.max()), chosen


def _around_peak(weights):
    """The share of the highest peak: of what hangs together around it above a twentieth of its height."""
    low = high = int(weights.argmax())
    while low > 0 and weights[low - 1] > PEAK_FOOT * weights.max():
        low -= 1
    while high + 1 < len(weights) and weights[high + 1] > PEAK_FOOT * weights.max():
        high += 1
    return weights[low : high + 1].sum()


def _named(value, probability, family):
    if family is METRIC:
        screw = next((name for name, hole in CLEARANCE_HOLES.items() if abs(hole - value) < 1e-9), "")
        return Nominal(value, f"{value:g} mm", f"clearance for {screw}" if screw else "", probability)
    part = Fraction(round(value / INCH_MM * 64), 64)
    whole, rest = divmod(part, 1)
    text = f"{whole} {rest}" if whole and rest else f"{whole or rest}"
    return Nominal(value, f"{text} in", "", probability)
