"""What is part and what is ground, other than by tone: by colour or by edges; and which outlines are needless.

Each way ends in contours at sub-pixel places: by colour as the middle of a share 0..1 of part in each pixel, which is
linear in light, so that a pixel half covered has one half; by edges where the light changes most.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import attrs
import cv2
import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.spatial import cKDTree
from skimage.segmentation import watershed

from nomogon_core.errors import TraceError
from nomogon_core.picture.compiled_contours import plateau_levels, shift_to_level
from nomogon_core.picture.contours import EVEN_SHARE, Tones, find_contours, ground_light, outward_normals

if TYPE_CHECKING:
    from nomogon_core.picture.contours import Contour

OTHER_COLOURS = 6
SAMPLED_PIXELS = 20_000
SAMPLED_SIDE = 400
FLAT_SPAN = 0.02
LEAST_COLOUR_SHARE = 0.003
SAME_COLOUR = 0.06
EDGE_SMOOTHING_PX = 1.5
FLAT_GRADIENT = 0.12
EDGE_REACH_PX, LEVEL_STRETCH_PX = 3.0, 41
MOST_BASINS = 1500
LEAST_GRADIENT = 0.004
FRAME_SHARE, FRAME_INSIDE = 0.8, 0.85
DOUBLE_SHARE = 0.12
DOUBLE_SPREAD = 0.35
LEAST_RING_AREA, THIN_PX, DRAWN_SPREAD, SAME_WIDTH, LEAST_ALIKE = 0.2, 8.0, 0.1, 0.15, 3
SIDES_OF_LINES = ("auto", "both", "outer")

# Linear sRGB to cone responses, and their cube roots to lightness and two opponents (OKLab, Ottosson 2020).
_CONES = np.array(
    [
        [0.4122214708, 0.5363325363, 0.0514459929],
        [0.2119034982, 0.6806995451, 0.1073969566],
        [0.0883024619, 0.2817188376, 0.6299787005],
    ],
    np.float32,
)
_OPPONENTS = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ],
    np.float32,
)


def perceptual(colour: list[list[int]] | np.ndarray) -> np.ndarray:
    """OKLab coordinates of linear red, green, blue (…, 3), in which equal distances look about equally different."""
    return np.cbrt(np.maximum(np.asarray(colour, np.float32) @ _CONES.T, 0)) @ _OPPONENTS.T


def colour_at(colour: np.ndarray, x: float, y: float, reach: int = 2) -> np.ndarray:
    """Median linear colour (3,) around a place in pixels.

    Raises:
        TraceError: the place lies outside the picture.
    """
    height, width = colour.shape[:2]
    if not (0 <= x <= width - 1 and 0 <= y <= height - 1):
        raise TraceError(f"The colour at ({x:.0f}, {y:.0f}) lies outside the picture of {width} × {height} pixels.")
    column, row = int(round(x)), int(round(y))
    patch = colour[max(0, row - reach) : row + reach + 1, max(0, column - reach) : column + reach + 1]
    return np.median(patch.reshape(-1, 3), axis=0)


def _flat_pixels(colour):
    """Colours (n, 3) of pixels whose neighbours look alike: pixels on an edge are mixtures and no colours of their
    own."""
    share = min(1.0, SAMPLED_SIDE / max(colour.shape[:2]))
    small = cv2.resize(colour, None, fx=share, fy=share, interpolation=cv2.INTER_NEAREST) if share < 1 else colour
    seen = perceptual(cv2.blur(small, (3, 3)))
    span = np.linalg.norm(cv2.dilate(seen, np.ones((3, 3))) - cv2.erode(seen, np.ones((3, 3))), axis=2)
    return small[span <= max(FLAT_SPAN, 2 * float(np.median(span)))]


def _other_colours(colour, picked, reach):
    """The picture's main colours (k, 3), linear, that are none of the picked ones; ``reach`` is a distance in OKLab."""
    flat = _flat_pixels(colour)
    sample = flat[np.random.default_rng(1).integers(0, len(flat), SAMPLED_PIXELS)].astype(np.float32)
    seen = perceptual(sample)
    away = np.min(np.linalg.norm(seen[:, None] - perceptual(picked)[None], axis=2), axis=1)
    rest, members = seen[away > reach], sample[away > reach]
    if len(rest) < LEAST_COLOUR_SHARE * len(sample):
        raise TraceError(
            "Nearly the whole picture has the chosen colours, so there is no outline between them and the rest. Lower "
            "how far a colour reaches, or choose fewer."
        )
    cv2.setRNGSeed(1)
    _, label, centers = cv2.kmeans(
        rest,
        min(OTHER_COLOURS, len(rest)),
        None,
        (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 20, 1e-3),
        2,
        cv2.KMEANS_PP_CENTERS,
    )
    found = []
    for index in np.argsort(-np.bincount(label[:, 0], minlength=len(centers))):
        mine = label[:, 0] == index
        alike = any(np.linalg.norm(centers[index] - centers[other]) < reach for other, _ in found)
        if not alike and mine.sum() >= LEAST_COLOUR_SHARE * len(sample):
            found.append((index, np.median(members[mine], axis=0)))
    return np.array([value for _, value in found])


def share_of_colours(
    colour: np.ndarray, picked: Sequence[tuple[float, float, float]], reach: float = SAME_COLOUR
) -> np.ndarray:
    """Share 0..1 of the picked colours in each pixel.

    A pixel is compared with the nearest picked and the nearest other main colour of the picture, nearness being
    perceptual; its share is then where it lies between those two in linear light.

    Args:
        colour: linear (h, w, 3); picked: linear (k, 3); reach: how far a picked colour reaches, as a distance in OKLab.

    Returns:
        float32 (h, w).

    Raises:
        TraceError: no colour is picked, or nothing else is in the picture.
    """
    colours = np.asarray(picked, np.float32).reshape(-1, 3)
    if not len(picked):
        raise TraceError("No colour is chosen; click the part, and again for each further colour of it.")
    others = _other_colours(colour, picked, reach)
    flat = np.ascontiguousarray(colour.reshape(-1, 3), np.float32)
    seen = perceptual(flat)
    part = colours[cKDTree(perceptual(colours)).query(seen, workers=2)[1]]
    rest = others[cKDTree(perceptual(others)).query(seen, workers=2)[1]].astype(np.float32)
    way = part - rest
    share = np.einsum("ij,ij->i", flat - rest, way) / np.maximum(np.einsum("ij,ij->i", way, way), 1e-8)
    return np.clip(share, -0.2, 1.2).reshape(colour.shape[:2]).astype(np.float32)


def contours_by_colour(
    colour: np.ndarray,
    picked: tuple[tuple[float, float, float], ...],
    *,
    threshold: float = 0.5,
    reach: float = SAME_COLOUR,
    least_area_px: float = 60.0,
) -> tuple[Contour, ...]:
    """Contours around the picked colours.

    Raises:
        TraceError: as :func:`share_of_colours` and :func:`nomogon_core.picture.contours.find_contours`.
    """
    share = share_of_colours(colour, picked, reach)
    tones = Tones(0.0, 1.0, np.ones((2, 2), np.float32))
    return find_contours(share, threshold=threshold, least_area_px=least_area_px, tones=tones)


def contours_by_edge(light: np.ndarray, *, least_area_px: float = 60.0) -> tuple[Contour, ...]:
    """Contours of what is fenced off from the picture's border by edges, whatever its tone.

    Flat regions are the basins of the gradient's size (watershed, Vincent and Soille 1991); what the border's basin
    does not reach is part, except flat regions inside that are as bright as the ground: holes. Each contour is then
    moved to the middle of the light on both sides of it.

    Raises:
        TraceError: no edge fences anything off.
    """
    smooth = cv2.GaussianBlur(light, (0, 0), EDGE_SMOOTHING_PX)
    gradient = cv2.magnitude(
        cv2.Sobel(smooth, cv2.CV_32F, 1, 0, scale=1 / 8), cv2.Sobel(smooth, cv2.CV_32F, 0, 1, scale=1 / 8)
    )
    strong = float(np.quantile(gradient, 0.998))
    if strong < LEAST_GRADIENT:
        raise TraceError("There is no edge in the picture: it has one tone only, or nothing but slow shading.")
    flat = cv2.erode((gradient < FLAT_GRADIENT * strong).astype(np.uint8), np.ones((3, 3), np.uint8))
    count, labels, facts, _ = cv2.connectedComponentsWithStats(flat, connectivity=4)
    sizes = facts[:, cv2.CC_STAT_AREA]
    seeds = np.where((sizes >= max(9.0, 0.1 * least_area_px))[labels] & (flat > 0), labels, 0).astype(np.int32)
    if len(np.unique(seeds)) > MOST_BASINS:
        raise TraceError(
            "The picture is mostly texture or noise: it has edges everywhere. Find the outlines by tone or colour, or "
            "clean the picture up first."
        )
    basins = watershed(gradient, seeds)
    rim = np.concatenate([basins[0], basins[-1], basins[:, 0], basins[:, -1]])
    ground_labels = np.unique(rim)
    ground = np.isin(basins, ground_labels)
    over = light - ground_light(light, ground)
    scatter = float(np.median(np.abs(over[ground][::7])) / 0.6745)
    for label in np.unique(basins[~ground]):
        mine = basins == label
        if abs(float(np.median(over[mine]))) < max(3 * scatter, 0.02):
            ground |= mine
    if ground.all():
        raise TraceError(
            "No edge fences anything off from the picture's border. Take the picture with some ground all around the "
            "part, or find the outlines by tone."
        )
    mask = cv2.GaussianBlur((~ground).astype(np.float32), (0, 0), 1.0)
    tones = Tones(0.0, 1.0, np.ones((2, 2), np.float32))
    contours = find_contours(mask, least_area_px=least_area_px, tones=tones)
    even = cv2.GaussianBlur(light, (0, 0), 1.0)
    return tuple(
        contour if contour.touches_border else attrs.evolve(contour, points=_at_middle(even, contour.points))
        for contour in contours
    )


def _at_middle(light, points):
    """A contour moved to the middle between the light on its two sides."""
    normals = outward_normals(points)
    sides, spreads = plateau_levels(light, points, normals, EDGE_REACH_PX + 1, EDGE_REACH_PX + 4)
    counts = (spreads.max(axis=1) < EVEN_SHARE * np.median(np.abs(sides[:, 1] - sides[:, 0]))).astype(float)
    counts = counts if counts.any() else np.ones(len(points))
    window = min(LEVEL_STRETCH_PX, len(points))
    shares, levels = (uniform_filter1d(values, window, mode="wrap") for values in (counts, counts * sides.mean(axis=1)))
    known = shares > 0.5 / window
    return np.where(
        known[:, None], shift_to_level(light, points, normals, levels / np.maximum(shares, 1e-9), EDGE_REACH_PX), points
    )


def needless(
    contours: Sequence[Contour], size: tuple[int, int], sides: str = "auto", thin_px: float = THIN_PX
) -> dict[int, str]:
    """Which contours are no outline of a part, and why: index -> "frame" or "double".

    A frame is a line drawn along the picture's border, with both its sides. The inner side of a drawn line doubles its
    outer side; a ring or a
    frame of a part has an inner side too, which is its hole. A line drawn by hand is thin and changes its width, or is
    one of several as thin
    as one another; a designed ring keeps its width.

    Args:
        contours: as found, with parents; size: (width, height) of the picture.
        sides: "auto" for what is likely, "both" to keep every inner side, "outer" to leave them all out; thin_px:
            widest line by hand.
    """
    told = {}
    for index, inner in enumerate(contours):
        outer = contours[inner.parent] if inner.hole and inner.parent is not None else None
        if outer is None or inner.area_px < FRAME_INSIDE * outer.area_px:
            continue
        wide, high = np.ptp(outer.points, axis=0)
        if min(wide / size[0], high / size[1]) > FRAME_SHARE and outer.area_px > 0.9 * wide * high:
            told |= {index: "frame", inner.parent: "frame"}
    if sides == "both":
        return told
    rings = _rings(contours, told)
    widths = sorted(width for width, _ in rings.values())
    for index, (width, spread) in rings.items():
        alike = sum(abs(width - other) < SAME_WIDTH * width for other in widths)
        if sides == "outer" or (width <= thin_px and (spread > DRAWN_SPREAD or alike >= LEAST_ALIKE)):
            told[index] = "double"
    return told


def _rings(contours, but):
    """Of each hole that runs along the outline around it: (width between them, how much that changes as a share of it),
    in pixels."""
    trees, rings = {}, {}
    for index, contour in enumerate(contours):
        if not contour.hole or contour.parent is None or index in but:
            continue
        outer = contours[contour.parent]
        if contour.area_px < LEAST_RING_AREA * outer.area_px:
            continue
        if contour.parent not in trees:
            trees[contour.parent] = cKDTree(outer.points)
        away, _ = trees[contour.parent].query(contour.points[:: max(1, len(contour.points) // 300)])
        width = float(np.median(away))
        if (
            width < DOUBLE_SHARE * np.sqrt(outer.area_px)
            and float(np.ptp(np.quantile(away, [0.1, 0.9]))) < DOUBLE_SPREAD * width
        ):
            rings[index] = (width, float(np.ptp(np.quantile(away, [0.1, 0.9]))) / max(width, 1e-9))
    return rings
