"""A part told from its ground by two strokes drawn by hand, one on each, where tone, colour and edges tell nothing by
themselves.

Brushed metal on stone of the same grey: the strokes show which texture, light and colour each side has (Fisher 1936,
one direction in the
space of features), a least cut gives the part roughly, and its contour is drawn to the edge by the dearest way along a
band around it. The
contour says of each place whether an edge is really seen there; the rest is a guess, which somebody has to follow by
hand.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import attrs
import cv2
import numpy as np
from scipy.ndimage import gaussian_filter1d

from nomogon_core.errors import TraceError
from nomogon_core.picture.compiled_contours import values_at
from nomogon_core.picture.contours import Tones, find_contours, outward_normals
from nomogon_core.trace.compiled_cut import dearest_way, least_cut
from nomogon_core.trace.described import resample
from nomogon_core.trace.finding import perceptual
from nomogon_core.trace.following import FOLLOWED_BLUR_PX

if TYPE_CHECKING:
    from nomogon_core.picture.contours import Contour

REDUCED_SIDE, LEAST_SIDE = 600, 40
LEAST_LIGHT = 1e-3
STROKE_WIDTH_PX, LEAST_STROKE_PIXELS = 5, 40
# Windows of the texture, in reduced pixels; steps steeper than most of the texture on the strokes are edges and no
# texture.
TEXTURE_PX, TEXTURE_QUANTILE = (1.0, 2.0), 0.9
SHIFTED_PX, EVEN_WINDOW_PX, SHIFTS = 5, 5, 8
MOST_AGAINST, GIVEN = 3.0, 30.0
BORDER_WEIGHT, LEAST_WEIGHT, ROUNDS = 30.0, 0.1, 500
# Rounds of the band, from coarse to fine: reach in pixels (the first in reduced ones), smoothing of its direction and
# along it in pixels.
FIRST_REACH = 7.5
BANDS = ((None, 12.0, 8.0), (12.0, 6.0, 3.0), (7.0, 4.0, 2.0))
BAND_STEP_PX, SLOPE_PX = 0.5, 2.0
MOST_CLEAR, PULL, BEND = 8.0, 4.0, 2.0
# How clear an edge stands out of what is beside it; edges shorter than the shortest run count as not seen, and as short
# gaps as seen.
JUDGED_REACH_PX, JUDGED_BESIDE_PX, JUDGED_ALONG_PX, SURE_CLEAR = 16.0, 5.0, 5.0, 4.0
EVEN_ALONG_PX, SHORTEST_RUN_PX, SHORTEST_GAP_PX = 8.0, 40, 12


def contours_by_strokes(
    light: np.ndarray,
    part: Sequence[Any],
    ground: Sequence[Any],
    *,
    colour: np.ndarray | None = None,
    least_area_px: float = 60.0,
) -> tuple[Contour, ...]:
    """Contours of what looks as the strokes on the part do, and not as those on the ground.

    Args:
        light: linear luminance (h, w).
        part, ground: strokes, each (n, 2) places in pixels.
        colour: linear (h, w, 3), or None.
        least_area_px: smaller parts and holes are passed over.

    Returns:
        :class:`Contour` values, largest first, whose ``sure`` says where the edge is seen.

    Raises:
        TraceError: a stroke is missing or lies outside the picture, both look alike, or nothing is fenced off.
    """
    if not part or not ground:
        raise TraceError(
            "Draw one stroke on the part and one on the ground around it; "
            + ("the part has none yet." if not part else "the ground has none yet.")
        )
    share, factor = _share_of_part(light, part, ground, colour)
    found = find_contours(
        share, least_area_px=max(30.0, least_area_px / factor**2), tones=Tones(0.0, 1.0, np.ones((2, 2), np.float32))
    )
    log = cv2.GaussianBlur(np.log(np.maximum(light, LEAST_LIGHT)).astype(np.float32), (0, 0), 1.0)
    return tuple(_on_edge(log, contour, factor) for contour in found)


def _share_of_part(light, part, ground, colour):
    """Share 0..1 of the part in each pixel of a reduced copy, and how many pixels one of these is."""
    factor = max(1.0, max(light.shape) / REDUCED_SIDE)
    if min(light.shape) / factor < LEAST_SIDE:
        raise TraceError("The picture is too small, or too narrow, to tell textures in; use a larger one.")
    small = _reduced(light, factor)
    on_part, on_ground = (
        _drawn(small.shape, strokes, factor, which) for strokes, which in ((part, "part"), (ground, "ground"))
    )
    if (on_part & on_ground).any():
        raise TraceError(
            "A stroke on the part crosses one on the ground. Take one of them away, and draw it where it touches its "
            "own side only."
        )
    score = _score(small, on_part, on_ground, None if colour is None else _reduced(colour, factor))
    against = np.clip(
        _likeness(score, score[on_ground]) - _likeness(score, score[on_part]), -MOST_AGAINST, MOST_AGAINST
    ).astype(np.float32)
    against[on_part], against[on_ground] = -GIVEN, GIVEN
    smooth = cv2.GaussianBlur(np.log(np.maximum(small, LEAST_LIGHT)), (0, 0), 0.8)
    across, down = np.diff(smooth, axis=1, append=smooth[:, -1:]), np.diff(smooth, axis=0, append=smooth[-1:])
    usual = np.mean(across**2) + np.mean(down**2) + 1e-12
    weights = [
        (BORDER_WEIGHT * (LEAST_WEIGHT + (1 - LEAST_WEIGHT) * np.exp(-(steps**2) / usual))).astype(np.float32)
        for steps in (across, down)
    ]
    return least_cut(against, *weights, ROUNDS), factor


def _reduced(picture, factor):
    return (
        cv2.resize(picture, None, fx=1 / factor, fy=1 / factor, interpolation=cv2.INTER_AREA) if factor > 1 else picture
    )


def _drawn(shape, strokes, factor, which):
    """Pixels under strokes.

    Raises:
        TraceError: nearly none.
    """
    mask = np.zeros(shape, np.uint8)
    for stroke in strokes:
        places = (np.asarray(stroke, float).reshape(-1, 2) + 0.5) / factor - 0.5
        if not (np.abs(places) < 1e5).all():
            raise TraceError(f"A stroke on the {which} lies outside the picture; draw it again.")
        cv2.polylines(mask, [np.round(places).astype(np.int32).reshape(-1, 1, 2)], False, 1, STROKE_WIDTH_PX)
    if np.count_nonzero(mask) < LEAST_STROKE_PIXELS:
        raise TraceError(f"The stroke on the {which} is too short to tell how the {which} looks; draw a longer one.")
    return mask > 0


def _score(small, on_part, on_ground, colour):
    """How much each pixel looks like the part, on a scale of its own: Fisher's direction through the features of the
    strokes."""
    features = _features(small, on_part | on_ground, colour)
    part, ground = features[on_part], features[on_ground]
    within = (np.cov(part.T) + np.cov(ground.T)) / 2 + 1e-4 * np.eye(features.shape[-1])
    score = features @ np.linalg.solve(within, part.mean(axis=0) - ground.mean(axis=0)).astype(np.float32)
    low, high = float(np.median(score[on_ground])), float(np.median(score[on_part]))
    apart = abs(high - low)
    return _from_evenest(np.clip(score, low - apart / 2, high + apart / 2))


def _features(small, drawn, colour):
    """Features (h, w, k): light, direction and strength of the texture in two windows, its finest grain, and hue where
    there is colour."""
    log = np.log(np.maximum(small, LEAST_LIGHT)).astype(np.float32)
    steps = np.stack([cv2.Sobel(log, cv2.CV_32F, 1, 0), cv2.Sobel(log, cv2.CV_32F, 0, 1)])
    steep = np.hypot(*steps)
    steps = steps * np.minimum(1, np.quantile(steep[drawn], TEXTURE_QUANTILE) / np.maximum(steep, 1e-9))
    features = [cv2.GaussianBlur(log, (0, 0), 1.0)]
    for window in TEXTURE_PX:
        level, upright, both = (
            cv2.GaussianBlur(product, (0, 0), window) for product in (steps[0] ** 2, steps[1] ** 2, steps[0] * steps[1])
        )
        strength = level + upright + 1e-6
        features += [(level - upright) / strength, 2 * both / strength, np.log(strength)]
    grain = log - cv2.GaussianBlur(log, (0, 0), 1.5)
    most = np.quantile(np.abs(grain[drawn]), TEXTURE_QUANTILE)
    features.append(np.log(cv2.GaussianBlur(np.clip(grain, -most, most) ** 2, (0, 0), TEXTURE_PX[0]) + 1e-6))
    if colour is not None:
        seen = cv2.GaussianBlur(perceptual(colour), (0, 0), 1.0)
        features += [seen[..., 1], seen[..., 2]]
    return np.stack(features, axis=-1).astype(np.float32)


def _from_evenest(score):
    """Each pixel's score from the evenest window near it, so that windows over an edge do not count (Kuwahara 1976)."""
    window = (EVEN_WINDOW_PX, EVEN_WINDOW_PX)
    mean = cv2.blur(score, window)
    spread = cv2.blur(score * score, window) - mean * mean
    least, chosen = np.full(score.shape, np.inf, np.float32), score.copy()
    for index in range(SHIFTS):
        angle = 2 * math.pi * index / SHIFTS
        move = np.float32([[1, 0, -round(SHIFTED_PX * math.cos(angle))], [0, 1, -round(SHIFTED_PX * math.sin(angle))]])
        there, spread_there = (
            cv2.warpAffine(values, move, score.shape[::-1], flags=cv2.INTER_NEAREST, borderMode=cv2.BORDER_REPLICATE)
            for values in (mean, spread)
        )
        better = spread_there < least
        chosen[better], least[better] = there[better], spread_there[better]
    return chosen


def _likeness(score, drawn):
    """Logarithm of how likely a score is on the side whose scores are given; heavy tails, since a stroke does not show
    everything."""
    middle = float(np.median(drawn))
    spread = max(1.4826 * float(np.median(np.abs(drawn - middle))), 1e-3)
    return -2 * np.log1p(((score - middle) / spread) ** 2 / 3) - math.log(spread)


def _on_edge(log, contour, factor):
    """A rough contour of the reduced picture drawn to the edge of the whole one, and where it is sure."""
    points = resample((contour.points + 0.5) * factor - 0.5)
    if contour.touches_border:
        return attrs.evolve(contour, points=points, area_px=contour.area_px * factor**2)
    for reach, smoothing, along in BANDS:
        points = resample(gaussian_filter1d(points, smoothing / 2, axis=0, mode="wrap"))
        reach = min(reach or FIRST_REACH * factor, max(4.0, len(points) / 12))
        normals, offsets, slopes = _band(log, points, reach, smoothing, along)
        noise = np.sqrt(gaussian_filter1d(np.median(slopes**2, axis=1), 30, mode="wrap")) / 0.6745
        clear = np.minimum(np.abs(slopes) / np.maximum(noise, 1e-9)[:, None], MOST_CLEAR)
        way = dearest_way((clear**2 - PULL * (offsets / reach) ** 2) / along, BEND)
        points = points + gaussian_filter1d(_at_top(clear, way, offsets), 1.5, mode="wrap")[:, None] * normals
    area = cv2.contourArea(points.astype(np.float32))
    return attrs.evolve(contour, points=points, area_px=float(area), blur_px=FOLLOWED_BLUR_PX, sure=_sure(log, points))


def _band(log, points, reach, smoothing, along):
    """Normals (n, 2) of a contour, offsets (m,) along them, and slopes (n, m) of the light there, averaged along the
    contour."""
    normals = outward_normals(gaussian_filter1d(points, smoothing, axis=0, mode="wrap"))
    steps, apart = math.ceil(reach / BAND_STEP_PX), round(SLOPE_PX / BAND_STEP_PX)
    places = np.arange(-steps - apart, steps + apart + 1) * BAND_STEP_PX
    values = values_at(
        log, np.ascontiguousarray((points[:, None] + places[None, :, None] * normals[:, None]).reshape(-1, 2))
    ).reshape(len(points), -1)
    return (
        normals,
        places[apart:-apart],
        gaussian_filter1d(values[:, 2 * apart :] - values[:, : -2 * apart], along, axis=0, mode="wrap"),
    )


def _at_top(clear, way, offsets):
    """Offsets of a way, at the top of the parabola through three neighbours."""
    rows, inner = np.arange(len(way)), np.clip(way, 1, clear.shape[1] - 2)
    before, here, after = (clear[rows, inner + step] for step in (-1, 0, 1))
    bow = before - 2 * here + after
    top = np.where(bow < -1e-9, 0.5 * (before - after) / np.where(bow < -1e-9, bow, 1.0), 0.0)
    return offsets[way] + np.where(inner == way, np.clip(top, -0.5, 0.5), 0.0) * BAND_STEP_PX


def _sure(log, points):
    """Of each place of a contour, whether an edge stands out there clearly from the texture beside it."""
    _, offsets, slopes = _band(
        log, points, min(JUDGED_REACH_PX, max(2 * JUDGED_BESIDE_PX, len(points) / 12)), 3.0, JUDGED_ALONG_PX
    )
    beside = slopes[:, np.abs(offsets) > JUDGED_BESIDE_PX] ** 2
    usual = np.mean(np.minimum(beside, 4 * np.median(beside, axis=1, keepdims=True)), axis=1)
    noise = np.sqrt(gaussian_filter1d(usual, 15, mode="wrap"))
    clear = gaussian_filter1d(
        np.abs(slopes[:, len(offsets) // 2]) / np.maximum(noise, 1e-9), EVEN_ALONG_PX, mode="wrap"
    )
    sure = _without_short(clear > SURE_CLEAR, False, SHORTEST_GAP_PX)
    return _without_short(sure, True, SHORTEST_RUN_PX)


def _without_short(flags, kind, shortest):
    """Flags of a closed row whose runs of one kind that are too short are turned over."""
    if flags.all() or not flags.any():
        return flags
    first = int(np.argmax(flags != np.roll(flags, 1)))
    turned = np.roll(flags, -first)
    edges = np.concatenate([[0], np.nonzero(np.diff(turned.astype(np.int8)))[0] + 1, [len(turned)]])
    for start, end in zip(edges, edges[1:]):
        if turned[start] == kind and end - start < shortest:
            turned[start:end] = not kind
    return np.roll(turned, first)


def sure_runs(contour: Contour) -> list[np.ndarray] | None:
    """The stretches (n, 2) of a contour where its edge is seen, in order; None where it is seen all around."""
    sure = contour.sure
    if sure is None or sure.all():
        return None
    if not sure.any():
        return []
    first = int(np.argmax(sure & ~np.roll(sure, 1)))
    flags, points = np.roll(sure, -first), np.roll(contour.points, -first, axis=0)
    edges = np.concatenate([[0], np.nonzero(np.diff(flags.astype(np.int8)))[0] + 1, [len(flags)]])
    return [points[start:end] for start, end in zip(edges, edges[1:]) if flags[start]]
