"""Thin strokes on real paper, fainter than its shadows and creases: long oriented filters against the picture's own
noise.

Grain is alike in all directions, so along a filter that is long in one it cancels (after Steger 1998, with oriented
second
derivatives); a crease has another shade on each of its sides, a stroke has not.
"""

from __future__ import annotations

import math

import cv2
import numpy as np

from nomogon_core.errors import TraceError
from nomogon_core.picture.contours import Tones

ORIENTATIONS, ALONG_PX, ACROSS_PX = 12, 9.0, 1.7
SHADE_SHARE, LEAST_LIGHT = 16, 1e-3
SURE_NOISES, LIKELY_NOISES = 9.0, 4.5
LEAST_STROKE_PX, REACH_PX = 30, 5
STEP_REACH_PX, MOST_STEP = 6, 0.5
# Too few places tell nothing about a step.
RUN_PX, RUN_WAYS, FEW_PX = 48, 4, 15
HALVED_PIXELS = 4_000_000
# Strokes down to this share of the usual depth count in full.
LOCAL_PX, LEAST_DEPTH, MOST_DEEPER = 12.0, 0.5, 3.0
LEAST_USUAL_PX, FAINTEST, LEAST_NOISE = 100.0, 0.97, 1e-3


def faint_strokes(light: np.ndarray) -> tuple[np.ndarray, Tones]:
    """(light, tones) in which only what looks like a thin dark stroke is left, against an even ground; for
    :func:`centre_lines.centre_lines`.

    Args:
        light: linear luminance (h, w).

    Raises:
        TraceError: nothing looks like strokes, or everything does.
    """
    shade = _without_shade(light)
    small = (
        cv2.resize(shade, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA) if light.size > HALVED_PIXELS else shade
    )
    answer, orientation = _answers(small)
    ridge = _ridge(answer, orientation)
    kept = _hysteresis(ridge, answer)
    kept = _without_creases(small, kept, orientation)
    depth = float(np.median(np.exp(small[kept]))) if kept.any() else 1.0
    if _usual_run(kept) < LEAST_USUAL_PX or depth > FAINTEST:
        raise TraceError("No thin strokes stand out from the paper. Draw them darker, or light the paper more evenly.")
    near = cv2.dilate(kept.astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * REACH_PX + 1,) * 2))
    beside = cv2.resize(near, light.shape[::-1], interpolation=cv2.INTER_NEAREST) > 0
    level = cv2.resize(_local_depth(small, kept), light.shape[::-1], interpolation=cv2.INTER_LINEAR)
    usual = math.log(depth)
    evened = np.clip(shade / np.minimum(level, LEAST_DEPTH * usual), -MOST_DEEPER, MOST_DEEPER) * usual
    even = np.where(beside, np.exp(evened), 1.0).astype(np.float32)
    return even, Tones(1.0, depth, np.ones((2, 2), np.float32))


def _local_depth(shade, kept):
    """How dark the strokes are near each place, as a logarithm: a hand presses here more and there less."""
    smooth = cv2.GaussianBlur(shade, (0, 0), 1.0)
    weight = cv2.GaussianBlur(kept.astype(np.float32), (0, 0), LOCAL_PX)
    return cv2.GaussianBlur(np.where(kept, smooth, 0.0).astype(np.float32), (0, 0), LOCAL_PX) / np.maximum(weight, 1e-6)


def _usual_run(kept):
    """Length in pixels of the runs that half of all kept places stand in, at least; specks and noise give short ones
    only."""
    _, labels = cv2.connectedComponents(cv2.dilate(kept.astype(np.uint8), np.ones((3, 3), np.uint8)), connectivity=8)
    lengths = np.sort(np.bincount(labels[kept])) if kept.any() else np.zeros(1)
    return float(lengths[int(np.searchsorted(np.cumsum(lengths), lengths.sum() / 2))])


def _without_shade(light):
    """Logarithm of the light over what it is in a wide neighbourhood: creases of light and vignetting go."""
    log = np.log(np.maximum(light, LEAST_LIGHT)).astype(np.float32)
    small = cv2.resize(log, None, fx=0.125, fy=0.125, interpolation=cv2.INTER_AREA)
    wide = cv2.GaussianBlur(small, (0, 0), max(2.0, max(small.shape) / SHADE_SHARE / 3))
    return log - cv2.resize(wide, log.shape[::-1], interpolation=cv2.INTER_LINEAR)


def _answers(shade):
    """Strongest answer of the oriented filters in standard deviations of the noise, and which orientation gave it."""
    reach = int(3 * ALONG_PX)
    y, x = np.mgrid[-reach : reach + 1, -reach : reach + 1].astype(np.float32)
    best, which, noise = np.full(shade.shape, -np.inf, np.float32), np.zeros(shade.shape, np.uint8), 0.0
    for index in range(ORIENTATIONS):
        angle = math.pi * index / ORIENTATIONS
        along, across = x * math.cos(angle) + y * math.sin(angle), y * math.cos(angle) - x * math.sin(angle)
        kernel = np.exp(-((along / ALONG_PX) ** 2) / 2 - (across / ACROSS_PX) ** 2 / 2) * (
            (across / ACROSS_PX) ** 2 - 1
        )
        kernel -= kernel.mean()
        answer = cv2.filter2D(shade, cv2.CV_32F, kernel / np.sqrt((kernel**2).sum()))
        noise += float(np.median(np.abs(answer[::7, ::7]))) / 0.6745 / ORIENTATIONS
        which[answer > best] = index
        best = np.maximum(best, answer)
    return best / max(noise, LEAST_NOISE), which


def _ridge(answer, orientation):
    """Places whose answer is the largest across the stroke."""
    ridge = np.zeros(answer.shape, bool)
    for index in range(ORIENTATIONS):
        angle = math.pi * index / ORIENTATIONS
        step = (int(round(math.cos(angle))), int(round(-math.sin(angle))))
        ridge |= (
            (orientation == index)
            & (answer >= np.roll(answer, step, (0, 1)))
            & (answer > np.roll(answer, (-step[0], -step[1]), (0, 1)))
        )
    return ridge


def _hysteresis(ridge, answer):
    """Runs of likely places that hold a sure one and are long enough (Canny 1986)."""
    likely = ridge & (answer > LIKELY_NOISES)
    _, labels, facts, _ = cv2.connectedComponentsWithStats(
        cv2.dilate(likely.astype(np.uint8), np.ones((3, 3), np.uint8)), connectivity=8
    )
    sure = np.zeros(len(facts), bool)
    sure[np.unique(labels[likely & (answer > SURE_NOISES)])] = True
    long = np.bincount(labels[likely], minlength=len(facts)) >= LEAST_STROKE_PX
    keep = sure & long
    keep[0] = False
    return likely & keep[labels]


def _without_creases(shade, kept, orientation):
    """The kept places of short runs that are darker than both sides alike; a crease has a step of shade across it, also
    where a stroke crosses it."""
    _, labels = cv2.connectedComponents(cv2.dilate(kept.astype(np.uint8), np.ones((3, 3), np.uint8)), connectivity=8)
    rows, columns = np.nonzero(kept)
    if not len(rows):
        return kept
    angles = math.pi * orientation[rows, columns] / ORIENTATIONS
    height, width = shade.shape
    smooth = cv2.GaussianBlur(shade, (0, 0), 1.5)

    def beside(reach):
        down, right = np.round(reach * np.cos(angles)).astype(int), np.round(-reach * np.sin(angles)).astype(int)
        return smooth[np.clip(rows + down, 0, height - 1), np.clip(columns + right, 0, width - 1)]

    first, second, middle = beside(STEP_REACH_PX), beside(-STEP_REACH_PX), smooth[rows, columns]
    runs = np.column_stack(
        [
            labels[rows, columns],
            rows // RUN_PX,
            columns // RUN_PX,
            orientation[rows, columns] * RUN_WAYS // ORIENTATIONS,
        ]
    )
    label = np.unique(runs, axis=0, return_inverse=True)[1].ravel()
    count = np.maximum(np.bincount(label), 1)
    step = np.abs(np.bincount(label, first - second) / count)
    depth = np.bincount(label, (first + second) / 2 - middle) / count
    good = (step < MOST_STEP * np.maximum(depth, 1e-6)) | (count < FEW_PX)
    result = np.zeros_like(kept)
    result[rows, columns] = good[label]
    return result
