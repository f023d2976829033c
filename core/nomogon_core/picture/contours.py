"""Outlines of a picture by tone: closed sub-pixel contours at the middle level between part and ground."""

from __future__ import annotations

from collections.abc import Sequence

import attrs
import cv2
import numpy as np
from scipy.ndimage import uniform_filter1d

from nomogon_core.errors import TraceError
from nomogon_core.picture.blur import USUAL_BLUR_PX, edge_blur
from nomogon_core.picture.compiled_contours import boundary_loops, plateau_levels, shift_to_level

REDUCED_SIDE = 500
SURFACE_SAMPLES = 8000
SMOOTHING_PX, TWO_TONE_SMOOTHING_PX, TWO_TONE_MARGIN = 1.0, 0.5, 0.02
LEAST_CONTRAST = 0.015
LEAST_SEPARATION = 3.6
OTHER_CONTRAST = 0.04
OTHER_SHARE = 0.002
MOST_LOOPS = 5000
MANY_LOOPS, SPECK_AREA_PX = 400, 80.0
# A loop of less than this share of the largest is mottle where its slope, over so many pixels to each side, is less
# than this share of that one's.
MOTTLE_SHARE, FLAT_SLOPE, SLOPE_REACH_PX, MOST_PLACES = 0.02, 0.35, 1.5, 4000
# Texture beside an edge changes within some pixels, so that the plateaus are read near the edge and over a short
# stretch of it; how blurred
# the edge is, is read from farther off.
PLATEAU_NEAR_PX, PLATEAU_FAR_PX = 3.5, 5.0
BLUR_NEAR_PX, BLUR_FAR_PX = 4.0, 7.0
# A long stretch (pixels, and the least share of it that has plateaus) tells the level at tips and in narrow places,
# where no plateau is; where
# there is texture, a short one follows it.
LEVEL_WINDOWS_PX = ((41, 0.1), (9, 0.5))
# A part on a sheet on a darker table is first crossed far from the middle between sheet and part.
LEVEL_REACH_PX, FAR_SHIFT_PX = 3.5, 0.8
EVEN_SHARE, SAME_PLATEAU, TEXTURE_SHARE = 0.12, 0.2, 0.03
LEAST_LOOP_PX = 24.0
LONG_ENOUGH_PX = 300


@attrs.frozen
class Contour:
    """One closed contour.

    Attributes:
        points: (n, 2) pixels, x right, y down, n about the perimeter; not repeated at the end.
        area_px: enclosed square pixels, always positive.
        hole: whether the outside lies within.
        parent: index of the contour around this one, or None.
        touches_border: whether it runs along the border of the picture.
        blur_px: standard deviation of the blur across the edge, of the lens and of our own smoothing.
        sure: (n,) of each point whether an edge is seen there, or None where it is seen all around.
    """

    points: np.ndarray = attrs.field(eq=False, repr=False)
    area_px: float
    hole: bool
    parent: int | None
    touches_border: bool
    blur_px: float = USUAL_BLUR_PX
    sure: np.ndarray | None = attrs.field(default=None, eq=False, repr=False)


@attrs.frozen
class Tones:
    """The two levels that a picture is split into, after evening out the light.

    Attributes:
        ground: level of what lies along most of the border.
        part: level of the other.
        evening: reduced (h, w) factors that make the light even.
    """

    ground: float
    part: float
    evening: np.ndarray = attrs.field(eq=False, repr=False)

    def level(self, threshold: float) -> float:
        """Light at a share of the way from ground to part; 0.5 is where the edge is."""
        return self.ground + threshold * (self.part - self.ground)

    @property
    def part_is_dark(self) -> bool:
        return self.part < self.ground


def _otsu(values):
    """Level that splits values into two groups with the largest variance between them (Otsu, 1979)."""
    low, high = np.percentile(values, [0.1, 99.9])
    if high - low < 1e-6:
        return None
    scaled = np.clip((values - low) / (high - low) * 255, 0, 255).astype(np.uint8)
    split, _ = cv2.threshold(scaled, 0, 255, cv2.THRESH_BINARY + cv2.THRESH_OTSU)
    return low + (split + 0.5) / 255 * (high - low)


def ground_light(reduced: np.ndarray, ground: np.ndarray) -> np.ndarray:
    """Light of the ground over the whole picture: a quadratic surface through the ground's pixels."""
    height, width = reduced.shape
    inner = cv2.erode(ground.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    if inner.sum() < 50:
        return np.full_like(reduced, np.median(reduced[ground]))
    down, across = np.nonzero(inner)
    chosen = slice(None, None, max(1, len(down) // SURFACE_SAMPLES))
    down, across = down[chosen], across[chosen]
    values = reduced[down, across]
    keep = np.abs(values - np.median(values)) <= 4 * np.median(np.abs(values - np.median(values))) + 0.02
    weights, *_ = np.linalg.lstsq(
        _quadratic(across[keep] / width - 0.5, down[keep] / height - 0.5), values[keep], rcond=None
    )
    u, v = np.arange(width) / width - 0.5, (np.arange(height) / height - 0.5)[:, None]
    return (
        weights[0] + weights[1] * u + weights[2] * v + weights[3] * u * u + weights[4] * u * v + weights[5] * v * v
    ).astype(np.float32)


def _quadratic(u, v):
    return np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], axis=-1)


def find_tones(light: np.ndarray) -> Tones:
    """Split a picture into ground and part.

    Args:
        light: linear luminance (h, w).

    Raises:
        TraceError: the picture has one tone only.
    """
    scale = min(1.0, REDUCED_SIDE / max(light.shape))
    reduced = cv2.resize(light, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA) if scale < 1 else light.copy()
    split = _otsu(reduced)
    if split is None:
        raise TraceError(
            "The picture has one tone only, so there is no outline in it. Use a picture where the part stands out "
            "from its ground."
        )
    evening = np.ones_like(reduced)
    for _ in range(2):
        even = reduced * evening
        border = np.concatenate([even[:3].ravel(), even[-3:].ravel(), even[:, :3].ravel(), even[:, -3:].ravel()])
        bright_ground = np.mean(border > split) >= 0.5
        ground = (even > split) == bright_ground
        surface = ground_light(reduced, ground)
        middle = float(np.median(surface[ground]))
        evening = np.clip(middle / np.maximum(surface, 0.15 * middle + 1e-4), 0.25, 4).astype(np.float32)
        split = _otsu(reduced * evening) or split
    even = reduced * evening
    ground = (even > split) == bright_ground
    if ground.all() or not ground.any():
        raise TraceError(
            "The picture has one tone only, so there is no outline in it. Use a picture where the part stands out "
            "from its ground."
        )
    spread = float(np.hypot(even[ground].std(), even[~ground].std())) / np.sqrt(2)
    if abs(even[ground].mean() - even[~ground].mean()) < LEAST_SEPARATION * spread:
        raise TraceError(
            "The picture is mostly texture or noise: part and ground cannot be told apart. Use a plainer ground, or "
            "one that is much lighter or darker than the part."
        )
    tones = Tones(float(np.median(even[ground])), float(np.median(even[~ground])), evening)
    if abs(tones.part - tones.ground) < LEAST_CONTRAST:
        raise TraceError(
            "Part and ground are almost equally bright, so no outline can be told from noise. "
            "Take the picture on a ground that is much lighter or darker than the part."
        )
    return tones


def all_tones(light: np.ndarray) -> tuple[Tones, ...]:
    """Tones of what is darker and of what is brighter than the ground, the more striking first.

    Raises:
        TraceError: as :func:`find_tones`.
    """
    first = find_tones(light)
    height, width = first.evening.shape
    even = cv2.resize(light, (width, height), interpolation=cv2.INTER_AREA) * first.evening
    sense = 1 if first.part_is_dark else -1
    beyond = sense * (even - first.ground) > max(OTHER_CONTRAST, 0.25 * abs(first.part - first.ground))
    if beyond.mean() < OTHER_SHARE:
        return (first,)
    return (first, Tones(first.ground, float(np.median(even[beyond])), first.evening))


def tones_of(light: np.ndarray, part: str) -> Tones:
    """Tones of the part: "auto" the more striking one, or what is "dark" or "bright" against the ground.

    Raises:
        TraceError: nothing is darker or brighter than the ground.
    """
    if part == "auto":
        return find_tones(light)
    for tones in all_tones(light):
        if tones.part_is_dark == (part == "dark"):
            return tones
    raise TraceError(f"Nothing in the picture is {part}er than the ground; choose the other, or auto.")


def even_light(light: np.ndarray, tones: Tones) -> np.ndarray:
    """The picture with its light made even and its noise smoothed by one pixel, by half a pixel where it has two tones
    only (float32)."""
    height, width = light.shape
    factors = cv2.resize(tones.evening, (width, height), interpolation=cv2.INTER_LINEAR)
    return cv2.GaussianBlur(
        cv2.multiply(light, factors), (0, 0), TWO_TONE_SMOOTHING_PX if is_two_toned(light) else SMOOTHING_PX
    )


def is_two_toned(light: np.ndarray) -> bool:
    """Whether a picture has two values and nothing between, as a line scan or a stencil: its edges are steps from pixel
    to pixel."""
    low, high = float(light.min()), float(light.max())
    between = cv2.inRange(light, low + TWO_TONE_MARGIN * (high - low), high - TWO_TONE_MARGIN * (high - low))
    return not cv2.hasNonZero(between)


def outward_normals(points: np.ndarray, reach: int = 3) -> np.ndarray:
    """Unit normals (n, 2) of a closed contour, to the left of its run in a y-down picture."""
    run = np.roll(points, -reach, axis=0) - np.roll(points, reach, axis=0)
    size = np.hypot(run[:, 0], run[:, 1])
    size[size == 0] = 1
    return np.column_stack([run[:, 1], -run[:, 0]]) / size[:, None]


def _at_local_level(even, points, threshold, tones):
    """Move a contour to the level between the plateaus beside it, where these are clear.

    A plateau counts only where no other edge is near: where it is even, and nearer to its own side's tone than to the
    other's.
    """
    normals = outward_normals(points)
    levels, spreads = plateau_levels(even, points, normals, PLATEAU_NEAR_PX, PLATEAU_FAR_PX)
    contrast = abs(tones.ground - tones.part)
    own, other = np.array([tones.part, tones.ground]), np.array([tones.ground, tones.part])
    counts = (spreads < EVEN_SHARE * contrast) & (np.abs(levels - own) < np.abs(levels - other))
    level = np.full(len(points), tones.level(threshold))
    for window, least in LEVEL_WINDOWS_PX:
        window = min(window, len(points))
        shares = uniform_filter1d(counts.astype(float), window, axis=0, mode="wrap")
        means = uniform_filter1d(np.where(counts, levels, 0.0), window, axis=0, mode="wrap") / np.maximum(shares, 1e-9)
        part, ground = means.T
        clear = (shares.min(axis=1) > least) & (np.abs(ground - part) > 0.35 * contrast)
        level = np.where(clear, ground + threshold * (part - ground), level)
        off = np.abs(levels - means)
        if (
            not counts.any(axis=0).all()
            or max(np.median(off[counts[:, side], side]) for side in (0, 1)) < TEXTURE_SHARE * contrast
        ):
            break
        counts &= off < SAME_PLATEAU * contrast
    return shift_to_level(even, points, normals, level, LEVEL_REACH_PX)


def find_contours(
    light: np.ndarray, *, threshold: float = 0.5, least_area_px: float = 60.0, tones: Tones | None = None
) -> tuple[Contour, ...]:
    """All closed contours of a picture by tone, outer ones and holes.

    Light is evened out over the ground, smoothed by one pixel and crossed at ``threshold`` of the way from
    ground to part; then each contour is moved to the same share between the levels beside it.

    Args:
        light: linear luminance (h, w).
        threshold: 0 at the ground's level, 1 at the part's.
        least_area_px: smaller specks and holes are passed over.
        tones: result of :func:`find_tones` on the same picture, to save its time.

    Returns:
        Contours, largest first.

    Raises:
        TraceError: no outline, or so many that the picture is noise at this threshold.
    """
    tones = tones or find_tones(light)
    even = even_light(light, tones)
    points, starts, areas, borders, passed = boundary_loops(
        even, tones.level(threshold), tones.part_is_dark, float(least_area_px), MOST_LOOPS
    )
    if len(areas) >= MOST_LOOPS:
        raise TraceError(
            f"More than {MOST_LOOPS} outlines were found, so the picture is mostly texture or noise at this threshold. "
            "Move the threshold, raise the speck size, or use a plainer ground."
        )
    if len(areas) > MANY_LOOPS and float(np.median(np.abs(areas))) < SPECK_AREA_PX:
        raise TraceError(
            f"{len(areas)} outlines were found, most of them specks of a few pixels. Raise the speck size, or smooth "
            "the picture first."
        )
    order = np.argsort(-np.abs(areas))
    contours = []
    for index in order:
        loop = points[starts[index] : starts[index + 1]]
        if len(loop) < LEAST_LOOP_PX:
            continue
        if not borders[index]:
            loop, first = _at_local_level(even, loop, threshold, tones), loop
            if np.median(np.hypot(*(loop - first).T)) > FAR_SHIFT_PX:
                loop = _at_local_level(even, loop, threshold, tones)
        contours.append(Contour(loop, abs(float(areas[index])), bool(areas[index] < 0), None, bool(borders[index])))
    contours = _without_mottle(even, contours)
    if not contours:
        raise TraceError("No outline was found at this threshold. Move the threshold, or lower the speck size.")
    blurs = _blurs(even, contours, abs(tones.ground - tones.part))
    return tuple(
        attrs.evolve(contour, parent=parent, blur_px=blur)
        for contour, parent, blur in zip(contours, _parents(contours), blurs)
    )


def _without_mottle(even, contours):
    """Without small loops across which the light changes so slowly, against the largest, that they are the mottle of a
    surface and no edge."""
    if len(contours) < 2:
        return contours
    size = max(contour.area_px for contour in contours)
    small = [contour.area_px < MOTTLE_SHARE * size for contour in contours]
    if not any(small):
        return contours
    least = FLAT_SLOPE * max(_slope(even, contour) for contour, little in zip(contours, small) if not little)
    return [contour for contour, little in zip(contours, small) if not little or _slope(even, contour) > least]


def _slope(even, contour):
    """How fast the light changes across a loop, a pixel, at its median."""
    every = 1 + len(contour.points) // MOST_PLACES
    points, ways = contour.points[::every], SLOPE_REACH_PX * outward_normals(contour.points)[::every]
    inner, outer = (
        cv2.remap(even, (points + side * ways).astype(np.float32)[None], None, cv2.INTER_LINEAR)[0] for side in (-1, 1)
    )
    return float(np.median(np.abs(outer - inner)))


def _blurs(even, contours, contrast):
    """Blur of each contour: its own where it is long, else that of the whole picture."""
    own = [
        None
        if contour.touches_border
        else edge_blur(even, contour.points, outward_normals(contour.points), BLUR_NEAR_PX, BLUR_FAR_PX, contrast)
        for contour in contours
    ]
    known = sorted((blur, len(contour.points)) for blur, contour in zip(own, contours) if blur is not None)
    passed = np.cumsum([length for _, length in known])
    usual = known[int(np.searchsorted(passed, passed[-1] / 2))][0] if known else USUAL_BLUR_PX
    return [
        blur if blur is not None and len(contour.points) >= LONG_ENOUGH_PX else usual
        for blur, contour in zip(own, contours)
    ]


def contours_around(light: np.ndarray, place: Sequence[float] | np.ndarray) -> list[Contour]:
    """Contours of whatever is darker or brighter than the ground that go around a place in pixels.

    Raises:
        TraceError: the picture has one tone only, or part and ground cannot be told apart.
    """
    found = []
    for tones in all_tones(light):
        try:
            contours = find_contours(light, tones=tones)
        except TraceError:
            continue
        found += [
            contour
            for contour in contours
            if cv2.pointPolygonTest(contour.points.astype(np.float32), tuple(map(float, place)), False) > 0
        ]
    return found


def _parents(contours):
    """Of each contour, the largest first, the index of the smallest larger one of the other kind around it, or None."""
    if not contours:
        return []
    boxes = np.array([[*contour.points.min(axis=0), *contour.points.max(axis=0)] for contour in contours])
    holes, outlines = np.array([contour.hole for contour in contours]), [None] * len(contours)
    parents = []
    for place, inner in enumerate(contours):
        x, y = map(float, inner.points[0])
        around = (
            (boxes[:place, :2] <= (x, y)).all(axis=1)
            & (boxes[:place, 2:] >= (x, y)).all(axis=1)
            & (holes[:place] != inner.hole)
        )
        parent = None
        for candidate in np.nonzero(around)[0][::-1]:
            if outlines[candidate] is None:
                outlines[candidate] = contours[candidate].points.astype(np.float32)
            if cv2.pointPolygonTest(outlines[candidate], (x, y), False) > 0:
                parent = int(candidate)
                break
        parents.append(parent)
    return parents
