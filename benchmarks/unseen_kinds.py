"""Of the eight kinds of pictures that people bring: which of the wanted outlines are found at the first or second
try."""

import numpy as np
from scipy.spatial import cKDTree

from benchmarks.random_kinds import KINDS, MM_PER_PX
from examples.tilted import scale_from
from nomogon_core.errors import TraceError
from nomogon_core.geometry.curves import outline_points, sample
from nomogon_core.picture.decode import colours, decode, looks_drawn
from nomogon_core.reference.calibration import KnownLength
from nomogon_core.trace.described import resample
from nomogon_core.trace.outlines import COLOURED, trace

PICTURES = 4
NEAR_PX, NEAR_SHARE = 2.0, 0.97
# Of an outline that cannot be seen everywhere, so much has to be there, and so much of what is there has to be near.
SEEN_NEAR_PX, SEEN_SHARE, TRUE_SHARE = 3.0, 0.6, 0.95


def run(random):
    """{"kinds_found": percent}, and a line for each kind."""
    found = wanted = 0
    for kind in KINDS:
        told = [judge(kind(random)) for _ in range(PICTURES)]
        found, wanted = found + sum(np.mean(one) for one in told), wanted + len(told)
        print(f"   {kind.__name__}: {', '.join(f'{sum(one)}/{len(one)}' for one in told)} outlines found", flush=True)
    return {"kinds_found": 100 * found / wanted}


def judge(picture):
    """Of each wanted outline, whether it is found at one of the tries."""
    found = np.zeros(len(picture.wanted), bool)
    for settings in picture.tries:
        found |= _found(picture, settings)
        if found.all():
            break
    return found


def _found(picture, settings):
    drawn = looks_drawn(picture.data)
    light = decode(picture.data, drawn=drawn)
    fit = scale_from([KnownLength("given", (0, 0), (1000, 0), 1000 * MM_PER_PX)])
    colour = colours(picture.data, drawn=drawn) if settings.mode in COLOURED else None
    try:
        outlines = trace(light, fit, settings, colour=colour)
    except TraceError as problem:
        print(f"      {picture.kind}: {problem}")
        return np.zeros(len(picture.wanted), bool)
    if picture.partly:
        return np.array([_seen(wanted, outlines, fit) for wanted in picture.wanted])
    traced = [fit.to_px(outline_points(outline.curves, 0.3 * MM_PER_PX)) for outline in outlines if outline.closed]
    return np.array([any(_same(wanted, one) for one in traced) for wanted in picture.wanted])


def _same(wanted, traced):
    """Whether two closed outlines run near one another all around."""
    first, second = resample(wanted), resample(traced)
    return all(
        (cKDTree(one).query(other)[0] < NEAR_PX).mean() > NEAR_SHARE
        for one, other in ((first, second), (second, first))
    )


def _seen(wanted, outlines, fit):
    """Whether enough of an outline is traced, and what is traced near it is true."""
    places = np.vstack(
        [
            resample(fit.to_px(np.vstack([sample(curve, 0.3 * MM_PER_PX) for curve in outline.curves])), closed=False)
            for outline in outlines
        ]
    )
    true = resample(wanted)
    away = cKDTree(true).query(places)[0]
    own = away < 40.0
    if not own.any():
        return False
    return (cKDTree(places[own]).query(true)[0] < SEEN_NEAR_PX).mean() > SEEN_SHARE and (
        away[own] < SEEN_NEAR_PX
    ).mean() > TRUE_SHARE
