"""Pictures of flat colours and ink, as cartoons and signs are: every patch of one colour and every ink line has an
outline of its own.

Patches are grown from the pixels that have one of the picture's main colours; each outline lies where a pixel is half
of its patch and half
of what is next to it, so that two patches side by side share their edge, which is then told once.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import attrs
import cv2
import numpy as np
from scipy.ndimage import distance_transform_edt
from scipy.spatial import cKDTree
from skimage.segmentation import watershed

from nomogon_core.errors import TraceError
from nomogon_core.picture.contours import Tones, find_contours
from nomogon_core.trace.finding import perceptual

if TYPE_CHECKING:
    from nomogon_core.picture.contours import Contour

MOST_COLOURS, SAMPLED_PIXELS, PALETTE_PIXELS = 10, 20_000, 1_500_000
MOST_PATCHES = 500
# Compression makes dark colours waver more than bright ones, as they are seen.
FLAT_SPAN, LEAST_SHARE = 0.08, 0.002
# A patch is wider than a seam of mixed pixels, whose colour may be that of another patch by chance.
LEAST_DEPTH_PX, NEAR_COLOUR = 1.5, 0.5
MIXED_PX, MARGIN_PX = 4.0, 8
SAME_AREA, SAME_PLACE_PX, SAME_SEAM_PX = 0.03, 2.5, 1.5
ONE_TONE = Tones(0.0, 1.0, np.ones((2, 2), np.float32))


def main_colours(colour: np.ndarray, reach: float) -> np.ndarray:
    """The main colours (k, 3) of a picture, linear, the most frequent first; ``reach`` is how far apart they are, in
    OKLab.

    Args:
        colour: linear (h, w, 3).
    """
    share = min(1.0, (PALETTE_PIXELS / (colour.shape[0] * colour.shape[1])) ** 0.5)
    small = cv2.resize(colour, None, fx=share, fy=share, interpolation=cv2.INTER_AREA) if share < 1 else colour
    seen = perceptual(small)
    span = np.linalg.norm(cv2.dilate(seen, np.ones((3, 3))) - cv2.erode(seen, np.ones((3, 3))), axis=2)
    flat = small[span <= max(FLAT_SPAN, 2 * float(np.median(span)))]
    sample = np.ascontiguousarray(flat[np.random.default_rng(1).integers(0, len(flat), SAMPLED_PIXELS)], np.float32)
    cv2.setRNGSeed(1)
    _, label, centers = cv2.kmeans(
        perceptual(sample),
        min(MOST_COLOURS, len(sample)),
        None,  # type: ignore[call-overload]
        (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 30, 1e-3),
        3,
        cv2.KMEANS_PP_CENTERS,
    )
    counts, groups = np.bincount(label[:, 0], minlength=len(centers)), []
    for index in np.argsort(-counts):
        near = next((group for group in groups if np.linalg.norm(centers[index] - centers[group[0]]) < reach), None)
        if near is None:
            groups.append([index])
        else:
            near.append(index)
    found = [np.isin(label[:, 0], group) for group in groups]
    return np.array([np.median(sample[mine], axis=0) for mine in found if mine.mean() >= LEAST_SHARE], np.float32)


def contours_by_flat_colours(colour: np.ndarray, *, reach: float, least_area_px: float = 60.0) -> tuple[Contour, ...]:
    """An outline around every patch of a flat colour, ink lines too; an edge of two patches stands once.

    Args:
        colour: linear (h, w, 3); reach: how far apart two colours are, in OKLab; least_area_px: smaller patches belong
            to their neighbours.

    Raises:
        TraceError: the picture has one colour, no patch stands free of the border, or so many that it is no picture of
        flat colours.
    """
    palette = main_colours(colour, reach)
    if len(palette) < 2:
        raise TraceError(
            "The picture has one flat colour only. Lower how far a colour reaches, or find the outlines by tone."
        )
    patches, of_patch = _patches(colour, palette, reach, least_area_px)
    contours = []
    rim = set(np.unique(np.concatenate([patches[0], patches[-1], patches[:, 0], patches[:, -1]])).tolist())
    boxes = _boxes(patches, len(of_patch))
    for patch in sorted(
        (patch for patch in range(1, len(of_patch)) if patch not in rim), key=lambda patch: -_area(boxes[patch])
    ):
        contours += [
            contour
            for contour in _around(colour, patches, patch, palette, of_patch, boxes[patch], least_area_px)
            if not contour.touches_border
        ]
    if not contours:
        raise TraceError(
            "No patch of a flat colour stands free of the picture's border. Lower how far a colour reaches, or find "
            "the outlines by tone."
        )
    return tuple(sorted(_once(contours), key=lambda contour: -contour.area_px))


def _patches(colour, palette, reach, least_area):
    """(patch of each pixel, from 1; which colour of the palette each patch has)."""
    seen = perceptual(colour)
    away, nearest = cKDTree(perceptual(palette)).query(seen.reshape(-1, 3), workers=2)
    nearest = np.where(away < NEAR_COLOUR * reach, nearest, -1).reshape(seen.shape[:2])
    seeds, of_patch = np.zeros(nearest.shape, np.int32), [-1]
    for index in range(len(palette)):
        mine = (nearest == index).astype(np.uint8)
        depth = cv2.distanceTransform(np.pad(mine, 1), cv2.DIST_L2, 3)[1:-1, 1:-1]
        count, labels, facts, _ = cv2.connectedComponentsWithStats(mine, connectivity=4)
        deep = np.zeros(count, bool)
        deep[np.unique(labels[depth >= LEAST_DEPTH_PX])] = True
        for label in np.nonzero(deep & (facts[:, cv2.CC_STAT_AREA] >= least_area))[0]:
            if label:
                seeds[labels == label] = len(of_patch)
                of_patch.append(index)
        if len(of_patch) > MOST_PATCHES:
            raise TraceError(
                f"More than {MOST_PATCHES} patches of flat colour were found, so this is no picture of flat colours. "
                "Raise the smallest outline, "
                "or find the outlines by tone or colour."
            )
    gradient = sum(
        cv2.magnitude(cv2.Sobel(channel, cv2.CV_32F, 1, 0), cv2.Sobel(channel, cv2.CV_32F, 0, 1))
        for channel in cv2.split(seen)
    )
    return _grown_together(np.array(of_patch)[watershed(gradient, seeds)], len(palette))


def _grown_together(colours, count):
    """Patches of a picture of colour numbers: neighbours of one colour are one patch."""
    patches, of_patch = np.zeros(colours.shape, np.int32), [-1]
    for index in range(count):
        number, labels = cv2.connectedComponents((colours == index).astype(np.uint8), connectivity=8)
        patches += np.where(labels > 0, labels + len(of_patch) - 1, 0).astype(np.int32)
        of_patch += [index] * (number - 1)
    return patches, of_patch


def _boxes(patches, count):
    """Of each patch (top, left, low, right), or None."""
    boxes = [None] * count
    for patch in range(1, count):
        rows, columns = np.nonzero((patches == patch).any(axis=1))[0], np.nonzero((patches == patch).any(axis=0))[0]
        if len(rows):
            boxes[patch] = (rows[0], columns[0], rows[-1] + 1, columns[-1] + 1)
    return boxes


def _area(box):
    return (box[2] - box[0]) * (box[3] - box[1]) if box else 0


def _around(colour, patches, patch, palette, of_patch, box, least_area):
    """Contours of one patch."""
    if box is None:
        return []
    top, left = max(0, box[0] - MARGIN_PX), max(0, box[1] - MARGIN_PX)
    window = (slice(top, box[2] + MARGIN_PX), slice(left, box[3] + MARGIN_PX))
    mine, others = patches[window] == patch, patches[window]
    outside, (rows, columns) = distance_transform_edt(mine, return_indices=True)
    inside = distance_transform_edt(~mine)
    other = palette[np.array(of_patch)[others[rows, columns]]]
    own = palette[of_patch[patch]]
    way = own - other
    share = np.einsum("ijk,ijk->ij", colour[window] - other, way) / np.maximum(np.einsum("ijk,ijk->ij", way, way), 1e-8)
    share = np.where(outside > MIXED_PX, 1.0, np.where(inside > MIXED_PX, 0.0, np.clip(share, -0.2, 1.2))).astype(
        np.float32
    )
    try:
        found = find_contours(share, least_area_px=least_area, tones=ONE_TONE)
    except TraceError:
        return []
    return [attrs.evolve(contour, points=contour.points + (left, top), hole=False, parent=None) for contour in found]


def _once(contours):
    """Contours without those that run where an earlier one does."""
    kept = []
    for contour in contours:
        low, high = contour.points.min(axis=0), contour.points.max(axis=0)
        if not any(_is_same(contour, low, high, other, *box) for other, box in kept):
            kept.append((contour, (low, high)))
    return [contour for contour, _ in kept]


def _is_same(contour, low, high, other, other_low, other_high):
    near = np.abs(low - other_low).max() < SAME_PLACE_PX and np.abs(high - other_high).max() < SAME_PLACE_PX
    if not near or abs(contour.area_px - other.area_px) > SAME_AREA * other.area_px + 2 * len(other.points):
        return False
    return float(np.median(cKDTree(other.points).query(contour.points[::5])[0])) < SAME_SEAM_PX
